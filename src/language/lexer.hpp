// SPDX-License-Identifier: Apache-2.0
// Text to tokens. White space matters in two places (units, ends of statements), so each token remembers what stood before it.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/diagnostics.hpp"
#include "base/source.hpp"

namespace netloop {

enum class TokenKind { name, number, text, punctuation, end };

struct Token {
    TokenKind kind = TokenKind::end;
    std::string_view text;  ///< the characters as written; for a text token without its quotes
    Span span;
    double number = 0;
    bool space_before = false;
    bool line_before = false;  ///< the token is the first of its line
    std::string doc_before;    ///< `##` lines directly above
    std::string doc_after;     ///< `##` on the same line, behind

    bool is(std::string_view word) const { return (kind == TokenKind::punctuation || kind == TokenKind::name) && text == word; }
};

/// All tokens of a file, the last one of kind `end`. Characters that no token begins with are reported and left out.
std::vector<Token> tokenize(const SourceSet& sources, std::uint32_t file, Diagnostics& diagnostics);

}  // namespace netloop

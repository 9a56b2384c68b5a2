// SPDX-License-Identifier: Apache-2.0
// Tokens to syntax tree. One error does not hide the next: after an error, reading goes on at the end of the statement.
#pragma once

#include "base/diagnostics.hpp"
#include "language/syntax.hpp"

namespace netloop {

/// How deep expressions may be nested in each other.
inline constexpr int kDeepestExpression = 200;

/// Parses a whole file that `sources` holds. Always returns a tree; what could not be read is left out of it and reported.
SyntaxFile parse_file(const SourceSet& sources, std::uint32_t file, Diagnostics& diagnostics);

/// Parses a single expression, such as the value of `--set path=value`. Null after an error.
const Expr* parse_expression(const SourceSet& sources, std::uint32_t file, SyntaxArena& arena, Diagnostics& diagnostics);

/// A single value, or a component for a slot: `Kind(param = value)`. Both null after an error.
NamedValue parse_value(const SourceSet& sources, std::uint32_t file, SyntaxArena& arena, Diagnostics& diagnostics);

}  // namespace netloop

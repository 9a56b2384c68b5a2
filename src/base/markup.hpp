// SPDX-License-Identifier: Apache-2.0
// Text inside markup: HTML, XML, and graphviz' labels.
#pragma once

#include <string>
#include <string_view>

namespace netloop {

/// The text with `& < > "` written as entities; control characters that XML does not allow are left out. UTF-8 passes through.
std::string markup(std::string_view text);

/// Offset of the first byte that is not UTF-8 (or is NUL), or npos.
std::size_t first_bad_byte(std::string_view text);

}  // namespace netloop

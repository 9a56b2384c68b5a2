// Text inside markup: HTML, XML, and graphviz' labels.
#pragma once

#include <string>
#include <string_view>

namespace netloop {

/// The text with `& < > "` written as entities; control characters that XML does not allow are left out. UTF-8 passes through.
std::string markup(std::string_view text);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "runs/step_text.hpp"

#include <fmt/format.h>

namespace netloop {

std::string step_text(double seconds)
{
    if (!(seconds > 0)) return "-";
    return seconds < 1e-6   ? fmt::format("{:.3g} ns", seconds * 1e9)
           : seconds < 1e-3 ? fmt::format("{:.3g} us", seconds * 1e6)
           : seconds < 1    ? fmt::format("{:.3g} ms", seconds * 1e3)
                            : fmt::format("{:.3g} s", seconds);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The page's script and style, taken into the program when it is built (src/figures/report/).
#pragma once

namespace netloop {

extern const char* const kReportScript;
extern const char* const kReportStyle;

}  // namespace netloop

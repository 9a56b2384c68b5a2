// SPDX-License-Identifier: Apache-2.0
#pragma once

#include <string>

namespace netloop {

/// The length of a step, or another short time, s, with a unit that suits it: "418 us", "1 ms"; "-" for none.
std::string step_text(double seconds);

}  // namespace netloop

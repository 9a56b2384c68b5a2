// SPDX-License-Identifier: Apache-2.0
// Conditions over what was recorded: "leaf.angle > 5 deg and pump.on".
#pragma once

#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

/// Times (s) at which the condition becomes true, the rows' values joined by straight lines. It is written as in a model: paths of recorded quantities, numbers
/// with units, + - * /, comparisons, and, or, not. Reads what it needs of an opened recording. Throws RecordingError for what it cannot read, for quantities
/// that are not there and units that do not fit.
std::vector<double> times_of(Recording& recording, const std::string& condition);

}  // namespace netloop

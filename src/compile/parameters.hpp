// SPDX-License-Identifier: Apache-2.0
// The order in which parameters settle each other, and their values when nothing is changed.
#pragma once

#include <vector>

#include "base/diagnostics.hpp"
#include "model/flat_model.hpp"

namespace netloop {

/// Parameters so that each stands behind all that its value uses. Reports a circle and returns what could be ordered.
std::vector<ParameterId> order_parameters(const FlatModel& flat, Diagnostics* diagnostics);

std::vector<double> default_parameters(const FlatModel& flat);

}  // namespace netloop

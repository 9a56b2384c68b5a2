// SPDX-License-Identifier: Apache-2.0
// Eigenvalues of a point with their vectors, by parts and params.
#pragma once

#include "analyse/point.hpp"
#include "netloop/modes.hpp"

namespace netloop {

/// Throws NumericFailure where the ends of the spectrum of a large system do not settle.
Modes modes_at(Point& point, double time, const ModesRequest& request);

}  // namespace netloop

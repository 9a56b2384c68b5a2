// SPDX-License-Identifier: Apache-2.0
// The linear model of a large system: sparse matrices over all its unknowns.
#pragma once

#include "analyse/linearise.hpp"

namespace netloop {

/// As linearise(), with E z' = A z + B u, y = C z + D u in the place of states alone.
DescriptorModel describe_linear(Point& point, const std::vector<ActingInput>& inputs, const std::vector<SeenOutput>& outputs, bool cut);

/// What one member of z is, as a linear model tells it.
LinearModel::Signal told_member(Point& point, std::uint32_t member);

}  // namespace netloop

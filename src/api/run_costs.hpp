// SPDX-License-Identifier: Apache-2.0
// What bounded a run's steps, in the user's names.
#pragma once

#include "base/source.hpp"
#include "netloop/cost.hpp"

namespace netloop {

class Simulation;
Cost cost_of(const Simulation& simulation, const SourceSet& sources);

}  // namespace netloop

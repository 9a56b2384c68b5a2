// SPDX-License-Identifier: Apache-2.0
// Derivatives that a run in fixed steps has no use for, and somebody else's integrator has: of equations by params that inputs move, of outputs and conditions
// by all that they read.
#pragma once

#include <memory>
#include <utility>
#include <vector>

#include "exchange/fixed_plan.hpp"

namespace netloop {

struct LoweredSlopes {
    Program program, prologue;
    std::vector<std::pair<std::uint32_t, double>> literals;
    std::vector<FixedPlan::Slopes::Entry> params, rows, outputs, conditions;  ///< rows: by params alone; by states they stand in the Jacobian
    std::uint32_t next = 0;                                                   ///< the first place that nothing has taken
    std::shared_ptr<const Graph> graph;
};

/// On a copy of the model's graph, which stays as it is. Its results get places from `first` on. Needs of the plan: request, model, condition.
LoweredSlopes lower_slopes(const FixedPlan& plan, std::uint32_t first);

}  // namespace netloop

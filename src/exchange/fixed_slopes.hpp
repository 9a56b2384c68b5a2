// SPDX-License-Identifier: Apache-2.0
// Derivatives as somebody else's integrator wants them: of equations, outputs and conditions by all that they read, params that inputs move among it. At
// corners they are the mean of both sides, which those of the solver are not.
#pragma once

#include <memory>
#include <utility>
#include <vector>

#include "exchange/fixed_plan.hpp"

namespace netloop {

struct LoweredSlopes {
    Program program, prologue;
    std::vector<std::pair<std::uint32_t, double>> literals;
    std::vector<FixedPlan::Slopes::Entry> params, rows, outputs, conditions;  ///< rows: of equations, by states and params
    std::vector<FixedPlan::Slopes::Entry> matrix;                             ///< of equations, by what is no state
    std::uint32_t next = 0;                                                   ///< the first place that nothing has taken
    std::shared_ptr<const Graph> graph;
};

/// On a copy of the model's graph, which stays as it is. Its results get places from `first` on. Needs of the plan: request, model, is_state, condition.
LoweredSlopes lower_slopes(const FixedPlan& plan, std::uint32_t first);

}  // namespace netloop

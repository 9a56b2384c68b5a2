// SPDX-License-Identifier: Apache-2.0
#pragma once

#include "integrate/integrator.hpp"
#include "netloop/run.hpp"

namespace netloop {

/// What `options` ask of the integrator and the evaluator. Throws UsageError for an unknown name or a number that cannot be.
IntegratorSettings integrator_settings(const RunOptions& options, double tolerance_of_scenario);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The settled start of a run as a plan of fixed steps.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "api/run_data.hpp"
#include "exchange/fixed_plan.hpp"
#include "netloop/fixed_steps.hpp"

namespace netloop {

struct FixedStepStart {
    /// Starts a run with what `prepare` sets; its evaluation and its system go on to be used.
    FixedStepStart(const CompiledSystem& system, const std::function<void(Run&)>& prepare);

    /// A plan from that start. Throws UsageError for paths and methods that there are not, RunError.
    /// `unit`: with what somebody else's integrator asks for, FixedPlanRequest::rest and slopes.
    std::shared_ptr<const FixedPlan> plan(const FixedStepOptions& options, const std::vector<ParameterId>& inputs, const std::vector<std::uint32_t>& outputs,
                                          bool unit = false);
    Run::Data& data() { return *run.data_; }
    static Run::Data& data(Run& run) { return *run.data_; }
    const CompiledModel& model() const { return evaluation->model(); }

    Run run;
    State begun;  ///< before anything happens at the start
    std::vector<double> modes, memories;
    std::unique_ptr<Evaluation> evaluation;  ///< at that start
    std::vector<SampledJacobian> samples;    ///< along the run, taken when the first plan is made

private:
    void sample(double step);
    bool sampled_ = false;
};

/// The inputs that are exported: those asked for, else all of the system.
std::vector<std::string> exported_inputs(const CompiledSystem& system, const std::vector<std::string>& asked);
/// A C identifier: the one asked for, else made of the system's name. Throws UsageError.
std::string exported_name(const CompiledSystem& system, const std::string& asked);
FixedMethod fixed_method_named(const std::string& name);
std::vector<ParameterId> inputs_named(const CompiledSystemData& system, const std::vector<std::string>& paths);
/// Patterns such as pump.* replaced by what fits them. Throws UsageError for one that nothing fits.
std::vector<std::string> outputs_that_fit(const CompiledSystemData& system, const std::vector<std::string>& patterns);
std::vector<std::uint32_t> outputs_named(const CompiledSystemData& system, const CompiledModel& model, const std::vector<std::string>& paths);

}  // namespace netloop

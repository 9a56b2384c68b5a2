// SPDX-License-Identifier: Apache-2.0
// One instance of a foreign unit as a run needs it: values of SI in and out, one call for each thing that happens. In this process, or in one of its own.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "foreign/unit_calls.hpp"

namespace netloop {

/// Which variables take part, by index into ForeignDescription::variables; an array counts with all its elements.
struct UnitPlan {
    UnitKind kind = UnitKind::exchange;
    std::vector<std::size_t> params, inputs, discrete_inputs, outputs, discrete_outputs, states;
    std::size_t n_params = 0, n_inputs = 0, n_discrete_inputs = 0, n_outputs = 0, n_discrete_outputs = 0, n_states = 0, n_indicators = 0;

    UnitPlan() = default;
    UnitPlan(const ForeignDescription& d, UnitKind kind);
};

/// All throw UnitCallFailed; what set_up makes may throw UnitProblemFound. Not to be used by two threads at once.
class UnitInstance {
public:
    virtual ~UnitInstance() = default;
    /// Makes the instance anew, with these params, and leaves it in initialization mode.
    virtual void set_up(const std::vector<double>& params, double time, double tolerance) = 0;
    /// In initialization mode: the states and outputs that it begins with.
    virtual void start_values(const std::vector<double>& inputs, const std::vector<double>& discrete, std::vector<double>& x, std::vector<double>& y,
                              std::vector<double>& discrete_y) = 0;
    /// Ends initialization. Model exchange: the events of the start are settled, and `x` goes in and comes back; empty: the unit's own.
    virtual UnitHappened begin(double time, const std::vector<double>& inputs, const std::vector<double>& discrete, std::vector<double>& x,
                               std::vector<double>& y, std::vector<double>& discrete_y) = 0;
    // --- model exchange
    virtual void look(double time, const std::vector<double>& x, const std::vector<double>& inputs, std::vector<double>& rates, std::vector<double>& y,
                      std::vector<double>& z) = 0;
    /// Derivatives of rates and outputs by state `known`, or by input `known` - n_states, where the last look was. False: the unit has none.
    virtual bool column(std::size_t known, std::vector<double>& rates, std::vector<double>& y) = 0;
    virtual UnitHappened happen(double time, std::vector<double>& x, const std::vector<double>& inputs, const std::vector<double>& discrete,
                                std::vector<double>& discrete_y) = 0;
    virtual bool completed_step(bool& ended) = 0;
    // --- co-simulation; false: the unit came to its end
    virtual bool do_step(double time, double step, const std::vector<double>& inputs, const std::vector<double>& discrete, std::vector<double>& y,
                         std::vector<double>& discrete_y) = 0;
};

/// In this process. `folder`: where the unit lies unpacked; `name`: of the part, for its own messages.
std::unique_ptr<UnitInstance> make_direct_unit(std::shared_ptr<const ForeignDescription> d, const UnitPlan& plan, const std::string& folder,
                                               const std::string& name);

/// In a process of its own (unit_host.cpp): what it does to its memory, a crash and an endless loop are its own. Throws UnitProblemFound: the host cannot be
/// started. A call that takes longer than `patience` seconds ends the process and fails.
std::unique_ptr<UnitInstance> make_isolated_unit(UnitKind kind, const std::string& folder, const std::string& name, double patience);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Signals of time within a run: how long a step may be so that it passes over no more than one of their turns.
#pragma once

#include <vector>

#include "algebra/enclosure.hpp"
#include "solve/evaluation.hpp"

namespace netloop {

/// One known function of time and where it turns; searched ahead as the run goes on, each turn once.
class Turns {
public:
    Turns(const CompiledModel& model, NodeId root) : function_(model.form.reduced.system.graph(), root) {}

    /// After params, modes or memories may have changed; what was found is kept if they did not.
    void renew(const Evaluation& evaluation);
    /// The first turn after `time`, and the one after that; infinite where there is none up to `until`. Times of calls ascend.
    double first(double time, double until);
    double second(double time, double until);

private:
    void search(double time, double until);
    double next(double time, double until) const;
    TimeFunction function_;
    bool known_ = false, hopeless_ = false;
    double first_ = 0, second_ = 0, until_ = 0, apart_ = 0;
};

/// Those that the equations and the conditions of a system hold.
class Signals {
public:
    void renew(const Evaluation& evaluation);
    /// How far a step from `time` may reach: over one turn of each signal, at about half the distance between two. Without such a limit, a method that meets a
    /// signal at the same phase in each of its steps takes it for one that stands still.
    double limit(double time, double until);

private:
    const CompiledModel* of_ = nullptr;
    std::vector<Turns> turns_;
};

}  // namespace netloop

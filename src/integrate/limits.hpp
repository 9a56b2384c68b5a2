// SPDX-License-Identifier: Apache-2.0
// Declared ranges of what a run computes: kept, or the run ends where they are left.
#pragma once

#include <string>
#include <vector>

#include "solve/start.hpp"

namespace netloop {

class Limits {
public:
    /// A value may be off by so many tolerances of its size without being outside.
    static constexpr double kSlack = 10;

    Limits(Evaluation& evaluation, const SourceSet& sources, double tolerance) : e_(evaluation), sources_(sources), tolerance_(tolerance) {}
    /// Takes up the system at hand.
    void renew();
    /// Whether there is anything to look at after a step.
    bool any() const { return !ranged_.empty() || !e_.model().events.limits.of.empty(); }
    /// After a step: whether members of z, and what states settle, are within their ranges.
    bool hold(const State& s);
    /// A state at which they do not. Throws NumericFailure ("run-failed") with part, time, value and range.
    [[noreturn]] void leave(const State& s);
    /// At a row, where everything is solved and the evaluation stands: all of them.
    void at_row(const State& s);

private:
    bool outside(double value, double low, double high, double usual) const;
    std::string first_outside(const EventPrograms::Limits& limits);
    std::string first_member_outside(const State& s) const;
    std::string after_step(const State& s);

    Evaluation& e_;
    const SourceSet& sources_;
    double tolerance_;
    std::vector<std::uint32_t> ranged_;  ///< members of z that have a range
};

}  // namespace netloop

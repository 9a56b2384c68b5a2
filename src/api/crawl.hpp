// SPDX-License-Identifier: Apache-2.0
// Watches the pace of a run and says when it would not end soon, and what holds it.
#pragma once

#include <chrono>
#include <functional>
#include <map>
#include <string>

#include "integrate/simulate.hpp"

namespace netloop {

class CrawlWatch {
public:
    /// `tell` may be empty: then nothing is watched. `first`: s of computing after which the pace is judged, and again after ten times as much, and so on.
    CrawlWatch(Simulation& simulation, double stop, std::function<void(const std::string&)> tell, double first = 5);
    /// After each step, with the time reached. Costs a look at the clock; every 20 ms, or so rarely that it takes a hundredth of the run, also a look at what
    /// limits the step (of very many states it takes milliseconds to order them).
    void look(double time);

private:
    using Clock = std::chrono::steady_clock;

    std::string text(double time, double seconds, double rest) const;

    Simulation& simulation_;
    double stop_, from_;
    std::function<void(const std::string&)> tell_;
    Clock::time_point begun_, sample_at_;
    double next_;
    std::map<std::size_t, std::size_t> limits_;  ///< how often a member of z was the one that limited the step most when it was looked at
    std::size_t samples_ = 0;
    const CompiledModel* of_ = nullptr;  ///< the system that the members belong to
};

}  // namespace netloop

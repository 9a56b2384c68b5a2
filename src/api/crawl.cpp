// SPDX-License-Identifier: Apache-2.0
#include "api/crawl.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <vector>

#include "solve/explain.hpp"

namespace netloop {
namespace {

constexpr double kSlow = 600;  // s of computing that a run may still need without a word

std::string span_of_time(double seconds)
{
    constexpr double kHour = 3600, kDay = 24 * kHour, kYear = 365 * kDay;
    if (!(seconds < 100 * kYear)) return "more than a hundred years";
    if (seconds > 2 * kYear) return fmt::format("{:.0f} years", seconds / kYear);
    if (seconds > 2 * kDay) return fmt::format("{:.0f} days", seconds / kDay);
    return seconds > 2 * kHour ? fmt::format("{:.0f} hours", seconds / kHour) : fmt::format("{:.0f} minutes", seconds / 60);
}

}  // namespace

CrawlWatch::CrawlWatch(Simulation& simulation, double stop, std::function<void(const std::string&)> tell, double first)
    : simulation_(simulation), stop_(stop), from_(simulation.state().time), tell_(std::move(tell)), begun_(Clock::now()), sample_at_(begun_), next_(first)
{
}

void CrawlWatch::look(double time)
{
    if (!tell_) return;
    Clock::time_point now = Clock::now();
    if (now < sample_at_) return;
    if (of_ != &simulation_.evaluation().model()) {
        of_ = &simulation_.evaluation().model();
        limits_.clear();
        samples_ = 0;
    }
    std::vector<std::size_t> worst = simulation_.limiting();
    if (!worst.empty()) ++limits_[worst[0]], ++samples_;
    constexpr int kShare = 100;
    const Clock::time_point done = Clock::now();
    sample_at_ = done + std::max<Clock::duration>(std::chrono::milliseconds(20), kShare * (done - now));
    double seconds = std::chrono::duration<double>(now - begun_).count();
    if (seconds < next_) return;
    next_ *= 10;
    double rest = (stop_ - time) / std::max(time - from_, 1e-300) * seconds;
    if (rest > kSlow) tell_(text(time, seconds, rest));
}

std::string CrawlWatch::text(double time, double seconds, double rest) const
{
    std::string t = fmt::format("after {:.0f} s of computing the run stands at {:.6g} s of {:.6g} s; at this pace it needs {} more", seconds, time, stop_,
                                span_of_time(rest));
    std::vector<std::pair<std::size_t, std::size_t>> most(limits_.begin(), limits_.end());
    std::stable_sort(most.begin(), most.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
    // where nothing looks at the state it is not taken out of the integrator at every step
    State state = simulation_.state();
    simulation_.interpolate(time, state);
    const std::vector<double>& z = state.z;
    for (std::size_t k = 0; k < std::min<std::size_t>(most.size(), 3); ++k)
        t += fmt::format("\n      {} {:.0f} % of the time: {}", k == 0 ? "what limits" : "           ",
                         100.0 * static_cast<double>(most[k].second) / static_cast<double>(samples_), describe_z(*of_, most[k].first, z[most[k].first]));
    RunStatistics s = simulation_.statistics();
    if (2 * s.events > s.counts.steps) t += fmt::format("\n      {} events in {} steps: `run --events` lists them", s.events, s.counts.steps);
    return t;
}

}  // namespace netloop

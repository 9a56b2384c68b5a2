// SPDX-License-Identifier: Apache-2.0
// How runs of either side are judged: by the errors of a sample of states against a reference, and by their time at equal error.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <string>
#include <vector>

#include "problems.hpp"

namespace by_hand {

inline constexpr std::size_t kTimes = 5;

struct Sample {
    std::vector<std::size_t> states;
    std::vector<double> times, sizes;  ///< sizes: per state, what errors of it are measured by
};

struct Point {
    double tolerance = 0, error = 0, seconds = 0;
    std::size_t steps = 0;
    bool done = false;
    std::string how;
};

using Values = std::vector<std::vector<double>>;  // per time, per sampled state

inline double error_of(const Values& got, const Values& wanted, const Sample& sample)
{
    double worst = 0;
    for (std::size_t s = 0; s < wanted[0].size(); ++s) {
        double largest = sample.sizes[s], off = 0;
        for (std::size_t t = 0; t < wanted.size(); ++t) {
            largest = std::max(largest, std::abs(wanted[t][s]));
            off = std::max(off, std::abs(wanted[t][s] - got[t][s]));
        }
        worst = std::max(worst, off / largest);
    }
    return worst;
}

// What errors are told by: the sampled states at so many times of those that were recorded.
inline Values pick(const Result& r)
{
    Values v;
    for (std::size_t k = 1; k <= kTimes; ++k) v.push_back(r.states[k * r.states.size() / kTimes - 1]);
    return v;
}

// The faster of a few runs: what disturbs a run only makes it slower.
inline int repeats(double seconds)
{
    return seconds < 0.003 ? 25 : seconds < 0.02 ? 7 : seconds < 0.3 ? 3 : 1;
}

inline Point by_hand_at(const Problem& p, Settings settings, const Sample& sample, const Values* reference)
{
    Point point{settings.tolerance, 0, 1e300, 0, true, settings.adams ? "Adams" : settings.renew > 0 ? "renewed" : "default"};
    settings.keep = sample.states;
    int n = 1;
    for (int k = 0; k < n; ++k) {
        Result r = solve(p, settings, sample.times);
        if (!r.done) return {settings.tolerance, HUGE_VAL, HUGE_VAL, 0, false, point.how};
        point.seconds = std::min(point.seconds, r.seconds);
        point.steps = static_cast<std::size_t>(r.steps);
        if (k == 0) point.error = error_of(pick(r), *reference, sample), n = repeats(r.seconds);
    }
    return point;
}

// Time and tolerance at a wanted error, between the two runs whose errors are nearest.
inline Point at_error(std::vector<Point> points, double error)
{
    std::erase_if(points, [](const Point& p) { return !p.done || !(p.error > 0); });
    if (points.empty()) return {0, error, HUGE_VAL, 0, false, "none"};
    if (points.size() == 1) return points[0];
    std::sort(points.begin(), points.end(), [](const Point& a, const Point& b) { return a.error > b.error; });
    std::size_t k = 0;
    while (k + 2 < points.size() && points[k + 1].error > error) ++k;
    const Point &a = points[k], &b = points[k + 1];
    double share = std::clamp(std::log(error / a.error) / std::log(b.error / a.error), -0.5, 1.5);
    auto between = [share](double x, double y) { return std::exp(std::log(x) + share * (std::log(y) - std::log(x))); };
    return {between(a.tolerance, b.tolerance),
            error,
            between(a.seconds, b.seconds),
            static_cast<std::size_t>(between(static_cast<double>(a.steps), static_cast<double>(b.steps))),
            true,
            a.how};
}

inline std::string time_text(double seconds)
{
    if (!std::isfinite(seconds)) return "over 100 s";
    return seconds < 1e-3 ? fmt::format("{:.0f} us", 1e6 * seconds) : seconds < 1 ? fmt::format("{:.3g} ms", 1e3 * seconds) : fmt::format("{:.3g} s", seconds);
}

}  // namespace by_hand

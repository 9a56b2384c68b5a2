// SPDX-License-Identifier: Apache-2.0
// Net Loop beside programs written by hand, at equal achieved error. One argument: the most cells (default 100000).
//   bench/run
// Each machine is run at several tolerances by each side; errors are the largest over a sample of states and the output times, against a
// reference at a tight tolerance, relative to the largest value of that state or its usual size. The time of the hand-written program at the error that
// Net Loop achieves at its default tolerance is interpolated between its runs, in logarithms.
#include <fmt/format.h>
#include <sys/resource.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <netloop/netloop.hpp>

#include "../verified.hpp"
#include "problems.hpp"

namespace {

constexpr std::size_t kTimes = 5;

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

double error_of(const Values& got, const Values& wanted, const Sample& sample)
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

Values pick(const by_hand::Result& r, const Sample& sample)
{
    Values v;
    for (const auto& y : r.states) {
        v.emplace_back();
        for (std::size_t s : sample.states) v.back().push_back(y[s]);
    }
    return v;
}

// The faster of a few runs: what disturbs a run only makes it slower.
int repeats(double seconds)
{
    return seconds < 0.003 ? 25 : seconds < 0.02 ? 7 : seconds < 0.3 ? 3 : 1;
}

Point by_hand_at(const by_hand::Problem& p, by_hand::Settings settings, const Sample& sample, const Values* reference)
{
    Point point{settings.tolerance, 0, 1e300, 0, true, settings.adams ? "Adams" : settings.renew > 0 ? "renewed" : "default"};
    int n = 1;
    for (int k = 0; k < n; ++k) {
        by_hand::Result r = by_hand::solve(p, settings, sample.times);
        if (!r.done) return {settings.tolerance, HUGE_VAL, HUGE_VAL, 0, false, point.how};
        point.seconds = std::min(point.seconds, r.seconds);
        point.steps = static_cast<std::size_t>(r.steps);
        if (k == 0) point.error = error_of(pick(r, sample), *reference, sample), n = repeats(r.seconds);
    }
    return point;
}

Point net_loop_at(const netloop::CompiledSystem& system, const by_hand::Problem& p, double tolerance, const Sample& sample, const Values& reference)
{
    netloop::RunOptions options;
    options.stop = p.stop();
    options.output_every = p.stop() / static_cast<double>(kTimes);
    options.tolerance = tolerance;
    for (std::size_t s : sample.states) options.keep.push_back(p.path(s));
    // the plain evaluator takes its time: what is larger is the same with more cells
    constexpr std::size_t kMostVerified = 20000;
    if (system.n_equations() <= kMostVerified) netloop::run_verified(system, options);
    Point point{tolerance, 0, 1e300, 0, true, ""};
    int n = 1;
    for (int k = 0; k < n; ++k) {
        netloop::Run run(system);
        try {
            netloop::Recording recording = run.simulate(options);
            point.seconds = std::min(point.seconds, run.summary().wall_seconds);
            point.steps = run.summary().steps;
            point.how = run.summary().integrator.substr(0, run.summary().integrator.find(" (equations"));
            if (k > 0) continue;
            n = repeats(run.summary().wall_seconds);
            Values got(kTimes);
            for (std::size_t t = 0; t < kTimes; ++t)
                for (std::size_t s : sample.states) got[t].push_back(recording[p.path(s)].at(sample.times[t], recording.time()));
            point.error = error_of(got, reference, sample);
        } catch (const std::exception& e) {
            fmt::print(stderr, "{}\n", e.what());
            return {tolerance, HUGE_VAL, HUGE_VAL, 0, false, ""};
        }
    }
    return point;
}

// Time and tolerance at a wanted error, between the two runs whose errors are nearest.
Point at_error(std::vector<Point> points, double error)
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

std::string time_text(double seconds)
{
    if (!std::isfinite(seconds)) return "over 100 s";
    return seconds < 1e-3 ? fmt::format("{:.0f} us", 1e6 * seconds) : seconds < 1 ? fmt::format("{:.3g} ms", 1e3 * seconds) : fmt::format("{:.3g} s", seconds);
}

void compare(const std::string& name, std::size_t cells)
{
    std::unique_ptr<by_hand::Problem> p = by_hand::make_problem(name, cells);
    Sample sample;
    std::size_t n = p->n_states(), step = std::max<std::size_t>(1, std::min<std::size_t>(n, 60) / 20);
    for (std::size_t s = 0; s < n && sample.states.size() < 20; s += step)
        sample.states.push_back(s), sample.sizes.push_back(p->usual(s));  // near the end where something happens
    for (std::size_t k = 1; k <= kTimes; ++k) sample.times.push_back(p->stop() * static_cast<double>(k) / static_cast<double>(kTimes));
    by_hand::Result tight = by_hand::solve(*p, {1e-11, name == "pipe grid", 5, 1000}, sample.times);
    Values reference = pick(tight, sample);

    auto begin = std::chrono::steady_clock::now();
    netloop::Library library = netloop::Library::standard();
    library.load_text("machine.loop", p->model());
    netloop::CompiledSystem system = netloop::compile(library);
    double compiled = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();

    Point ours = net_loop_at(system, *p, 1e-6, sample, reference);
    std::vector<Point> plain, tuned, adams;
    for (double tolerance : cells < 100000 ? std::vector<double>{1e-4, 1e-5, 1e-6, 1e-7, 1e-8} : std::vector<double>{1e-6, 1e-8}) {
        // one that takes longer than anyone waits for at this tolerance does not get faster at a tighter one
        if (plain.empty() || plain.back().done) plain.push_back(by_hand_at(*p, {tolerance, false, 0}, sample, &reference));
        if (tuned.empty() || tuned.back().done) tuned.push_back(by_hand_at(*p, {tolerance, false, 5}, sample, &reference));
        if (name == "pipe grid") adams.push_back(by_hand_at(*p, {tolerance, true, 0}, sample, &reference));
    }
    Point usual = at_error(plain, ours.error), best = at_error(tuned, ours.error);
    if (Point a = at_error(adams, ours.error); !adams.empty() && a.seconds < best.seconds) best = a;
    if (usual.seconds < best.seconds) best = usual;
    fmt::print("| {} | {} | {} | {:.1e} | {}, {} steps ({}) | {}, {} steps at {:.0e} | {:.2f} | {} ({}) | {:.2f} |\n", name, cells, time_text(compiled),
               ours.error, time_text(ours.seconds), ours.steps, ours.how, time_text(usual.seconds), usual.steps, usual.tolerance, ours.seconds / usual.seconds,
               time_text(best.seconds), best.how, ours.seconds / best.seconds);
    std::fflush(stdout);
}

}  // namespace

int main(int argc, char** argv)
{
    std::size_t most = argc > 1 ? std::strtoul(argv[1], nullptr, 10) : 100000;
    std::string only = argc > 2 ? argv[2] : "";
    fmt::print("| machine | cells | compile | error at 1e-6 | Net Loop | by hand, same error | ratio | by hand, best tuned | ratio |\n");
    fmt::print("| --- | --- | --- | --- | --- | --- | --- | --- | --- |\n");
    if (only.empty() || only == by_hand::kBridge) compare(by_hand::kBridge, 1);
    for (const std::string& name : by_hand::kProblems)
        for (std::size_t cells = 10; cells <= most; cells *= 10)
            if (only.empty() || name == only) compare(name, cells);
    return 0;
}

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
#include "judging.hpp"

namespace {

using namespace by_hand;

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

void compare(const std::string& name, std::size_t cells)
{
    std::unique_ptr<by_hand::Problem> p = by_hand::make_problem(name, cells);
    Sample sample;
    std::size_t n = p->n_states(), step = std::max<std::size_t>(1, std::min<std::size_t>(n, 60) / 20);
    for (std::size_t s = 0; s < n && sample.states.size() < 20; s += step)
        sample.states.push_back(s), sample.sizes.push_back(p->usual(s));  // near the end where something happens
    for (std::size_t k = 1; k <= kTimes; ++k) sample.times.push_back(p->stop() * static_cast<double>(k) / static_cast<double>(kTimes));
    by_hand::Result tight = by_hand::solve(*p, {1e-11, name == "pipe grid", 5, 1000, sample.states}, sample.times);
    Values reference = pick(tight);

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

// SPDX-License-Identifier: Apache-2.0
// Eight threads on one compiled system whose equations change in kind while it runs, and on one library: a program of its own, so that it can be built under
// ThreadSanitizer in a few minutes (preset `threads`). Exit code 1 if any run differs from the same run alone.
#include <netloop/netloop.hpp>

#include <cstdio>
#include <string>
#include <thread>
#include <vector>

namespace nl = netloop;

namespace {

constexpr int kThreads = 8, kRounds = 3;

// A shaft that a brake locks and frees (two systems of equations), a chattering-free relay, a table of time, a clocked block, an `if` on a state.
constexpr const char* kModel = R"(
system Hoist {
    param load  : N*m = 4 N*m in 0 N*m .. 100 N*m
    param force : N*m = 9 N*m in 0 N*m .. 100 N*m
    var angle   : rad init 0 rad
    var speed   : rad/s init 0 rad/s
    var torque  : N*m
    memory held = false
    memory n init 0
    angle' = speed
    (0.5 kg*m^2) * speed' = (if speed > 1 rad/s then 0.7 * force else force) - load - torque
    if held { speed = 0 rad/s } else { torque = 0.1 N*m/(rad/s) * speed }
    when angle > 6 rad { held := true }
    when time > 2 s { held := false }
    every 0.1 s { n := n + 1 }
}
scenario lift of Hoist { stop at 3 s ; output every 20 ms ; measure top : rad/s = max(speed) }
)";

std::vector<double> result_of(nl::Run& run, double load)
{
    run.reset();
    run.set("load", nl::q(load, "N*m"));
    const nl::Recording& r = run.simulate();
    std::vector<double> all = r["angle"].values;
    all.push_back(run.summary().measures[0].value);
    all.push_back(static_cast<double>(run.summary().events));
    return all;
}

}  // namespace

int main()
{
    nl::Library library = nl::Library::standard();
    library.load_text("hoist.loop", kModel);
    nl::CompiledSystem alone_system = nl::compile(library), system = nl::compile(library);
    std::vector<std::vector<double>> alone(kThreads);
    for (int k = 0; k < kThreads; ++k) {
        nl::Run run(alone_system);
        alone[static_cast<std::size_t>(k)] = result_of(run, 3 + 0.25 * k);
    }
    std::vector<int> different(kThreads, 0);
    std::vector<std::thread> threads;
    for (int k = 0; k < kThreads; ++k)
        threads.emplace_back([&, k] {
            auto i = static_cast<std::size_t>(k);
            nl::Run run(system);
            for (int round = 0; round < kRounds; ++round) {
                different[i] += result_of(run, 3 + 0.25 * k) != alone[i];
                nl::CompiledSystem own = nl::compile(library, {.set = {{"force", std::to_string(9 + k) + " N*m"}}});
                nl::Run(own).simulate({.stop = 0.5});
                library.load_text("own" + std::to_string(k) + "_" + std::to_string(round) + ".loop", "const c" + std::to_string(k) + " = 3");
                (void)library.describe("mechanics.Mass");
            }
        });
    for (std::thread& t : threads) t.join();
    int wrong = 0;
    for (int d : different) wrong += d;
    std::printf("%d threads, %d runs each: %d differ from the run alone; %.0f events in a run\n", kThreads, kRounds, wrong, alone[0].back());
    return wrong == 0 && alone[0].back() >= 2 ? 0 : 1;
}

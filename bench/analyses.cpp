// SPDX-License-Identifier: Apache-2.0
// What explaining costs: linear models and modes at points, cost records within runs.
//     build/release/bench/netloop_analyses [folder of examples]
#include <fmt/format.h>
#include <netloop/netloop.hpp>

#include <algorithm>
#include <chrono>
#include <string>
#include <vector>

namespace nl = netloop;

namespace {

double seconds_since(std::chrono::steady_clock::time_point begun)
{
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
}

template <typename Work>
double seconds(Work work)
{
    auto begun = std::chrono::steady_clock::now();
    work();
    return seconds_since(begun);
}

}  // namespace

int main(int argc, char** argv)
{
    std::string examples = argc > 1 ? argv[1] : "examples";
    nl::Library library = nl::Library::standard();
    library.load_file(examples + "/bascule/whole/bridge.loop");
    nl::CompiledSystem system = nl::compile(library, {.scenario = "calm_day"});
    nl::Run run(system);
    run.step_to(30);
    nl::LinearRequest request{.inputs = {"leaf.mass"}, .outputs = {"leaf.angle", "pump.outlet.p"}};
    double first = seconds([&] { (void)run.linear(request); });
    std::vector<double> times;
    for (int k = 0; k < 200; ++k) times.push_back(seconds([&] { (void)run.linear(request); }));
    std::sort(times.begin(), times.end());
    fmt::print("whole bridge, {} states: linear model at a point {:.3f} ms the first time, {:.3f} ms then (median of 200)\n", system.n_states(), 1e3 * first,
               1e3 * times[100]);

    nl::Run over(system);
    double stepping = 0, looking = 0;
    for (int k = 0; k < 200; ++k) {
        stepping += seconds([&] { over.step_to(0.65 * k); });
        looking += seconds([&] { (void)over.modes({.sensitivities = false}); });
    }
    fmt::print("modes at 200 points over the run: {:.3f} s (and {:.3f} s for the run)\n", looking, stepping);
    nl::Run with(system);
    with.step_to(30);
    fmt::print("with what every param does to every mode: {:.3f} ms a point\n", 1e3 * seconds([&] { (void)with.modes(); }));

    nl::Library rods = nl::Library::standard();
    rods.load_text("rod.loop",
                   "system R { option n = 10000 ; param k : W/K = 3 W/K ; param c : J/K = 2 J/K ; var T[n] : K ; for i in 1 .. n { init T[i] = 300 K }\n"
                   "  for i in 2 .. n - 1 { c * T[i]' = k * (T[i - 1] - 2 * T[i] + T[i + 1]) } ; c * T[1]' = k * (300 K - 2 * T[1] + T[2]) ; c * T[n]' = k * "
                   "(T[n - 1] - 2 * T[n] + 300 K) }");
    nl::Run rod(nl::compile(rods, {.no_scenario = true}));
    rod.step_to(0);
    fmt::print("a rod of 10,000 cells, 10 modes of each end: {:.3f} s\n", seconds([&] { (void)rod.modes({.count = 10, .sensitivities = false}); }));
}

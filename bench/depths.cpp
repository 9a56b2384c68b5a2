// SPDX-License-Identifier: Apache-2.0
// What each depth of a liquid costs: the hydraulics of the bridge isothermal, thermal, with carried and with dynamic air; and the district
// network, compiled and run over a day.
//   build/release/bench/netloop_depths
#include <netloop/netloop.hpp>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <string>
#include <vector>

#include "verified.hpp"

namespace nl = netloop;

namespace {

double seconds_since(std::chrono::steady_clock::time_point begin)
{
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

struct Figures {
    double compile = 1e9, run = 1e9;
    std::size_t equations = 0, states = 0, iterates = 0, steps = 0;
};

Figures measure(const std::string& file, const std::string& scenario, const std::vector<std::pair<std::string, std::string>>& set, int repeats,
                const std::string& keep)
{
    Figures f;
    for (int i = 0; i < repeats; ++i) {
        auto begin = std::chrono::steady_clock::now();
        nl::Library library = nl::Library::standard();
        library.load_file(std::string(NETLOOP_SOURCE_DIR "/examples/") + file);
        nl::CompileRequest request;
        request.scenario = scenario;
        request.set = set;
        nl::CompiledSystem system = nl::compile(library, request);
        f.compile = std::min(f.compile, seconds_since(begin));
        f.equations = system.n_equations(), f.states = system.n_states(), f.iterates = system.n_iterates();
        nl::Run run(system);
        nl::RunOptions options;
        if (!keep.empty()) options.keep = {keep};
        if (i == 0) nl::run_verified(system, options);
        run.simulate(options);
        f.run = std::min(f.run, run.summary().wall_seconds);
        f.steps = run.summary().steps;
    }
    return f;
}

void line(const char* name, const Figures& f, const Figures& first)
{
    std::printf("%-28s %9zu %7zu %9zu %7zu %11.1f ms %9.1f ms %6.2f %9.2f us\n", name, f.equations, f.states, f.iterates, f.steps, 1e3 * f.compile, 1e3 * f.run,
                f.run / first.run, 1e6 * f.run / static_cast<double>(f.steps * (f.states + f.iterates)));
}

}  // namespace

int main()
{
    std::printf("%-28s %9s %7s %9s %7s %14s %12s %6s %12s\n", "", "equations", "states", "iterates", "steps", "compile", "run", "ratio", "per unknown");
    Figures first = measure("bascule/bridge.loop", "", {}, 5, "leaf.angle");
    line("bridge, isothermal", first, first);
    line("bridge, fixed air", measure("bascule/bridge.loop", "", {{"oil46.air", "fixed"}}, 5, "leaf.angle"), first);
    line("bridge, thermal", measure("bascule/bridge.loop", "", {{"oil46.thermal", "true"}}, 5, "leaf.angle"), first);
    line("bridge, thermal, carried air", measure("bascule/bridge.loop", "", {{"oil46.thermal", "true"}, {"oil46.air", "carried"}}, 5, "leaf.angle"), first);
    line("bridge, thermal, dynamic air", measure("bascule/bridge.loop", "", {{"oil46.thermal", "true"}, {"oil46.air", "dynamic"}}, 5, "leaf.angle"), first);
    Figures network = measure("canal/network.loop", "day", {}, 3, "");
    line("district network, a day", network, network);
    return 0;
}

// SPDX-License-Identifier: Apache-2.0
// What programs pay around their runs: setting, reading, many runs on one system, many compilations in one process. Times beside each other in one run.
//   build/release/bench/netloop_runs [COMPILATIONS]
#include <fmt/format.h>
#include <unistd.h>
#include <netloop/netloop.hpp>

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <cstdlib>
#include <fstream>
#include <string>
#include <thread>
#include <vector>

namespace nl = netloop;

namespace {

const std::string kBridge = NETLOOP_SOURCE_DIR "/examples/bascule/bridge.loop";

template <typename Work>
double seconds(Work work)
{
    auto begun = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
}

// The median of several.
template <typename Work>
double median_of(int rounds, Work work)
{
    std::vector<double> times;
    for (int k = 0; k < rounds; ++k) times.push_back(seconds(work));
    std::sort(times.begin(), times.end());
    return times[times.size() / 2];
}

std::string rod(int cells)
{
    return "system Rod { option n = " + std::to_string(cells) +
           " ; param c : J/K = 5 J/K in 0.01 J/K .. 1e6 J/K ; param g : W/K = 40 W/K in 0 W/K .. 1e6 W/K ; var T[n] : K init 290 K\n"
           "  c * T[1]' = 500 W - g * (T[1] - T[2])\n"
           "  for i in 2 .. n - 1 { c * T[i]' = g * (T[i-1] - 2 * T[i] + T[i+1]) }\n  c * T[n]' = g * (T[n-1] - T[n]) }\n";
}

void set_and_value()
{
    nl::Library library = nl::Library::standard();
    library.load_text("rod.loop", rod(20000));
    nl::CompiledSystem system = nl::compile(library);
    nl::ParamId c = system.param("c");
    nl::OutputId end = system.output("T[20000]");
    constexpr int kMany = 10000;
    nl::Run run(system);
    double by_handle = seconds([&] {
        for (int k = 0; k < kMany; ++k) run.set(c, 5 + 1e-4 * k);
    });
    double by_path = seconds([&] {
        for (int k = 0; k < kMany; ++k) run.set("c", nl::q(5 + 1e-4 * k, "J/K"));
    });
    fmt::print("rod of 20,000 cells, before the start: set by handle {:.2f} us (asked: below 20), by path {:.2f} us\n", 1e6 * by_handle / kMany,
               1e6 * by_path / kMany);
    run.step_to(0);
    double sum = 0, first = seconds([&] { sum += run.value(end); });
    double next = seconds([&] {
        for (int k = 0; k < kMany; ++k) sum += run.value(end);
    });
    double path = seconds([&] { sum += run.value("T[20000]"); });
    double under_way = median_of(21, [&] { run.set(c, 5.5); });
    fmt::print("  value by handle: the first at a point {:.0f} us, each further one {:.3f} us (asked: below 1); by path {:.0f} us; set under way {:.2f} ms{}\n",
               1e6 * first, 1e6 * next / kMany, 1e6 * path, 1e3 * under_way, sum > 0 ? "" : " (?)");
}

void many_runs()
{
    nl::Library library = nl::Library::standard();
    library.load_file(kBridge);
    nl::CompiledSystem system = nl::compile(library);
    nl::ParamId cracking = system.param("relief.cracking");
    constexpr int kRuns = 200;
    std::vector<double> peaks(kRuns), of_two(kRuns);
    std::atomic<double> integrating{0};
    auto work = [&](std::atomic<int>& next, std::vector<double>& to) {
        nl::Run run(system);
        for (int k = next++; k < kRuns; k = next++) {
            run.reset();
            run.set(cracking, (140 + 0.2 * k) * 1e5);
            to[static_cast<std::size_t>(k)] = run.simulate()["pump.outlet.p"].max();
            integrating.fetch_add(run.summary().wall_seconds);
        }
    };
    auto on = [&](int threads, std::vector<double>& to) {
        return seconds([&] {
            std::atomic<int> next{0};
            std::vector<std::thread> all;
            for (int t = 1; t < threads; ++t) all.emplace_back([&] { work(next, to); });
            work(next, to);
            for (std::thread& t : all) t.join();
        });
    };
    on(1, peaks);
    integrating = 0;
    double one = on(1, peaks), inside = integrating, two = on(2, of_two);
    fmt::print("bridge, {} runs with one param changed: {:.2f} s on one thread, {:.2f} s on two ({:.2f} times as fast; asked: 1.9); results {}\n", kRuns, one,
               two, one / two, peaks == of_two ? "the same to the bit" : "DIFFER");
    fmt::print("  the whole of a run takes {:.3f} times its integration (asked: 1.05)\n", one / inside);
}

double resident_mib()
{
    std::ifstream statm("/proc/self/statm");
    double all = 0, resident = 0;
    statm >> all >> resident;
    return resident * static_cast<double>(sysconf(_SC_PAGESIZE)) / (1 << 20);
}

void many_compilations(int n)
{
    nl::Library library = nl::Library::standard();
    library.load_text("small.loop",
                      "system Small { part m : mechanics.Mass(mass = 2 kg) ; part f : mechanics.ForceSource ; f.point -- m.point ; 3 N -> f.force }");
    auto once = [&](int k) {
        nl::SystemBuilder builder("Built", nl::Library(library));
        nl::Expression sum = 1.0;
        for (int i = 0; i < 20; ++i) sum = sum + 0.5;
        builder.part("m", "mechanics.Mass", {{"mass", nl::q(1 + k, "kg")}});
        (void)nl::compile(builder);
        (void)nl::compile(library, {.system = "Small", .set = {{"m.mass", std::to_string(k + 1) + " kg"}}});
    };
    for (int k = 0; k < n / 10; ++k) once(k);
    double before = resident_mib();
    double took = seconds([&] {
        for (int k = 0; k < n; ++k) once(k);
    });
    fmt::print("{} compilations of a text with a setting, and as many of a builder: {:.2f} ms each; memory {:.1f} MiB before, {:.1f} MiB behind\n", n,
               500 * took / n, before, resident_mib());
}

}  // namespace

int main(int argc, char** argv)
{
    set_and_value();
    many_runs();
    many_compilations(argc > 1 ? std::atoi(argv[1]) : 1000);
    return 0;
}

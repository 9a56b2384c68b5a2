// SPDX-License-Identifier: Apache-2.0
// What it costs to have a machine as a foreign unit: the bridge direct, as a unit by model exchange, and as one in a process of its own; and how the error of
// co-simulation falls with its step.
#include <fmt/format.h>
#include <netloop/netloop.hpp>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <vector>

namespace nl = netloop;
namespace fs = std::filesystem;

namespace {

constexpr double kStop = 30;

double seconds_of(nl::Run& run, double tolerance)
{
    nl::RunOptions o;
    o.stop = kStop;
    o.tolerance = tolerance;
    o.output_every = kStop / 100;
    auto begun = std::chrono::steady_clock::now();
    (void)run.simulate(o);
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
}

nl::CompiledSystem wrapped(const fs::path& folder, const std::string& kind, bool isolated)
{
    std::ofstream(folder / "wrapped.loop") << "use \"unit.fmu\" as Unit\nsystem Wrapped { part u : " << kind << " }\n";
    nl::Library library = nl::Library::standard();
    library.isolate_units(isolated);
    library.load_file((folder / "wrapped.loop").string());
    return nl::compile(library);
}

double median(std::vector<double> v)
{
    std::sort(v.begin(), v.end());
    return v[v.size() / 2];
}

}  // namespace

int main()
{
    fs::path folder = fs::temp_directory_path() / "netloop_bench_foreign";
    fs::remove_all(folder);
    fs::create_directories(folder);
    nl::Library library = nl::Library::standard();
    library.load_file(NETLOOP_SOURCE_DIR "/examples/bascule/bridge.loop");
    nl::CompiledSystem system = nl::compile(library);
    const std::vector<std::string> outputs{"leaf.angle", "motor.speed"};
    nl::ExportFmuRequest request;
    request.outputs = outputs;
    request.file = (folder / "unit.fmu").string();
    nl::export_fmu(system, request);
    nl::Run direct(system), unit(wrapped(folder, "Unit", false)), apart(wrapped(folder, "Unit", true));
    fmt::print(
        "| tolerance | direct | steps | as a unit | steps | ratio | in a process of its own | ratio |\n| --- | --- | --- | --- | --- | --- | --- | --- |\n");
    for (double tolerance : {1e-4, 1e-6}) {
        constexpr int kRounds = 7;
        std::vector<double> times[3];
        nl::Run* runs[3] = {&direct, &unit, &apart};
        for (int round = 0; round < kRounds; ++round)
            for (int k = 0; k < 3; ++k) times[k].push_back(seconds_of(*runs[k], tolerance));
        double base = median(times[0]);
        fmt::print("| {:g} | {:.1f} ms | {} | {:.1f} ms | {} | {:.2f} | {:.1f} ms | {:.2f} |\n", tolerance, 1e3 * base, direct.summary().steps,
                   1e3 * median(times[1]), unit.summary().steps, median(times[1]) / base, 1e3 * median(times[2]), median(times[2]) / base);
    }
    nl::RunOptions exact;
    exact.stop = kStop;
    exact.tolerance = 1e-9;
    exact.output_every = 0.1;
    nl::Recording reference = direct.simulate(exact);
    fmt::print("\n| step of co-simulation | largest error of the angle | times the one before |\n| --- | --- | --- |\n");
    double before = 0;
    for (double step : {4e-3, 2e-3, 1e-3, 5e-4}) {
        request.options.step = step;
        nl::export_fmu(system, request);
        nl::Run sampled(wrapped(folder, "SampledUnit", false));
        nl::Recording r = sampled.simulate(exact);
        const nl::Column *there = r.find("u.leaf_angle"), *here = reference.find("leaf.angle");
        double off = 0;
        for (double t = 0.5; t < kStop; t += 0.5) {
            auto at = [&](const nl::Recording& of, const nl::Column& c) {
                std::size_t k = 0;
                while (k + 1 < of.n_rows() && of.time().values[k] < t - 1e-9) ++k;
                return c.values[k];
            };
            off = std::max(off, std::abs(at(r, *there) - at(reference, *here)));
        }
        fmt::print("| {:g} ms | {:.2g} deg | {} |\n", 1e3 * step, off * 180 / 3.14159265358979, before > 0 ? fmt::format("{:.2f}", off / before) : "");
        before = off;
    }
    fs::remove_all(folder);
}

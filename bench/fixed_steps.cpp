// SPDX-License-Identifier: Apache-2.0
// A step of the whole bridge: in this process and as exported C at -O2, side by side; what both take of memory and code.
#include <fmt/format.h>
#include <netloop/netloop.hpp>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <vector>

namespace nl = netloop;
namespace fs = std::filesystem;

namespace {

double now()
{
    return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

double median(std::vector<double> v)
{
    std::sort(v.begin(), v.end());
    return v[v.size() / 2];
}

}  // namespace

int main()
{
    fs::path folder = fs::temp_directory_path() / "netloop_bench_fixed_steps";
    fs::remove_all(folder);
    for (const char* file : {"examples/bascule/bridge.loop", "examples/bascule/whole/bridge.loop"}) {
        nl::Library library = nl::Library::standard();
        library.load_file(std::string(NETLOOP_SOURCE_DIR "/") + file);
        nl::CompileRequest compile;
        if (std::string(file).find("whole") != std::string::npos) compile.scenario = "fixed_pump";
        nl::CompiledSystem system = nl::compile(library, compile);
        for (const char* method : {"linear-euler", "rosenbrock"}) {
            nl::ExportCRequest request;
            request.options.method = method;
            request.options.step = 1e-3;
            request.name = "machine";
            request.outputs = {"leaf.angle"};
            request.folder = (folder / method).string();
            fs::remove_all(request.folder);
            nl::ExportReport report = nl::export_c(system, request);
            std::string in = "cd " + request.folder + " && ";
            if (std::system((in + "gcc -O2 -std=c99 -ffp-contract=off main.c machine.c -o machine -lm").c_str()) != 0) return 1;
            constexpr int kSteps = 50000, kRounds = 7;
            std::vector<double> here, there;
            for (int round = 0; round < kRounds; ++round) {  // by turns, so that both meet the same machine
                nl::FixedStepRun run(system, request.options, {}, {"leaf.angle"});
                for (int k = 0; k < 200; ++k) run.step();
                double begin = now();
                for (int k = 0; k < kSteps; ++k)
                    if (run.step() != nl::FixedStepStatus::good) return 1;
                here.push_back((now() - begin) / kSteps);
                begin = now();
                if (std::system((in + fmt::format("./machine --stop {} --every 1000000 --out rows.csv", 1e-3 * kSteps)).c_str()) != 0) return 1;
                there.push_back((now() - begin) / kSteps);
            }
            nl::ExportCheck check = nl::check_export_c(system, request, 1);
            fmt::print("{:<36} {:<13} {:>6} operations  here {:6.2f} us  C {:6.2f} us  ratio {:4.2f}  state {} bytes, code {} bytes, {}\n", file, method,
                       report.step_operations, 1e6 * median(here), 1e6 * median(there), median(here) / median(there), report.state_bytes, check.code_bytes,
                       check.equal ? "equal" : "NOT EQUAL");
        }
    }
    fs::remove_all(folder);
}

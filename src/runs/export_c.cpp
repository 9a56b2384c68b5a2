// SPDX-License-Identifier: Apache-2.0
// A machine in fixed steps as a folder of C.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "exchange/c_project.hpp"
#include "files/other_program.hpp"
#include "files/output_file.hpp"
#include "runs/fixed_start.hpp"

namespace netloop {

namespace fs = std::filesystem;

namespace {

bool is_exported(const std::string& path)
{
    std::ifstream in(path);
    std::string line;
    for (int k = 0; k < 3 && std::getline(in, line); ++k)
        if (line.find(kExportedBy) != std::string::npos) return true;
    return false;
}

std::size_t size_of_code(const std::string& object)
{
    // text, data, bss and their sum, of which the first is the code with its tables
    OwnFolder folder;
    std::string out = (folder / "size").string();
    if (run_program("size", {object}, {.output = out}) != 0) return 0;
    std::ifstream in(out);
    std::string heading;
    std::getline(in, heading);
    std::size_t text = 0;
    in >> text;
    return text;
}

}  // namespace

std::vector<std::string> exported_inputs(const CompiledSystem& system, const std::vector<std::string>& asked)
{
    if (!asked.empty()) return asked;
    std::vector<std::string> all;
    for (const FlatParameter& p : system.data().model->form.flat().parameters)
        if (p.external) all.push_back(p.path);
    return all;
}

std::string exported_name(const CompiledSystem& system, const std::string& asked)
{
    if (asked.empty()) return c_identifier(system.name());
    bool good = std::isdigit(static_cast<unsigned char>(asked[0])) == 0 &&
                std::all_of(asked.begin(), asked.end(), [](unsigned char c) { return std::isalnum(c) != 0 || c == '_'; });
    if (!good) throw UsageError(fmt::format("'{}' is no name of C: letters, digits and _, and no digit first", asked));
    if (is_taken_in_c(asked)) throw UsageError(fmt::format("the name '{}' is used for something else in C: take a longer one", asked));
    return asked;
}

ExportReport export_c(const CompiledSystem& system, const ExportCRequest& request)
{
    if (request.outputs.empty()) throw UsageError("nothing is asked of the machine: name its outputs");
    if (request.folder.empty()) throw UsageError("where to is not said: name a folder");
    FixedStepStart start(system, request.prepare);
    std::shared_ptr<const FixedPlan> plan =
        start.plan(request.options, inputs_named(*start.data().system, exported_inputs(system, request.inputs)),
                   outputs_named(*start.data().system, start.model(), outputs_that_fit(*start.data().system, request.outputs)));
    CMachineOptions options;
    options.name = exported_name(system, request.name);
    options.single = request.single;
    std::string title = system.name() + (system.scenario().empty() ? "" : ", scenario " + system.scenario());
    CProject project;
    start.data().guarded([&] { project = write_c_project(*plan, options, title, system.stop().value_or(60)); });
    std::error_code error;
    fs::create_directories(request.folder, error);
    if (error || !fs::is_directory(request.folder))
        throw RecordingError(fmt::format("no folder '{}' can be made: {}", request.folder, error ? error.message() : "a file of this name is there"));
    ExportReport report;
    for (const auto& [name, text] : project.files) {
        std::string path = (fs::path(request.folder) / name).string();
        write_whole(path, text, {.what = "exported C", .replaces = is_exported, .inputs = start.data().system->files_read});
        report.files.push_back(path);
    }
    report.name = options.name;
    report.n_inputs = plan->request.inputs.size();
    report.n_outputs = plan->output.size();
    report.state_bytes = project.state_bytes;
    report.step_operations = plan->n_step_operations();
    report.moment_operations = plan->n_moment_operations();
    return report;
}

std::string ExportCheck::text() const
{
    if (!failed.empty()) return fmt::format("could not be checked with '{}': {}", compiler, failed);
    if (equal) return fmt::format("bit for bit equal to the run here over {} steps{}", steps, ended.empty() ? "" : "; " + ended);
    return fmt::format("differs from the run here over {} steps: '{}' by {:.2g} of its span", steps, worst, share);
}

ExportCheck check_export_c(const CompiledSystem& system, const ExportCRequest& request, double stop)
{
    constexpr std::size_t kRows = 2000;
    ExportCheck check;
    const char* chosen = std::getenv("CC");
    check.compiler = chosen != nullptr && *chosen != 0 ? chosen : "cc";
    std::string name = exported_name(system, request.name);
    OwnFolder folder;
    std::string said = (folder / "said").string(), program = (folder / "machine").string(), object = (folder / "machine.o").string(),
                rows = (folder / "rows.csv").string();
    fs::path from = fs::absolute(request.folder);
    for (const std::string& file : {name + ".c", name + ".h", std::string("main.c")})
        if (!is_exported((from / file).string())) throw RecordingError(fmt::format("'{}' does not hold '{}'", request.folder, file));
    std::vector<std::string> flags{"-O2", "-std=c99", "-ffp-contract=off"};
    auto with = [&](std::vector<std::string> more) {
        std::vector<std::string> all = flags;
        all.insert(all.end(), more.begin(), more.end());
        return all;
    };
    int code = run_program(check.compiler, with({"-c", "-o", object, (from / (name + ".c")).string()}), {.said = said});
    if (code == 0) code = run_program(check.compiler, with({"-o", program, (from / "main.c").string(), object, "-lm"}), {.said = said});
    if (code != 0) {
        check.failed = code == 127 ? "there is no such program" : first_words(said);
        return check;
    }
    check.code_bytes = size_of_code(object);
    auto n = static_cast<std::size_t>(std::floor(stop / request.options.step + 0.5));
    std::size_t every = std::max<std::size_t>(1, n / kRows);
    code = run_program(program, {"--exact", "--stop", fmt::format("{:.17g}", stop), "--every", fmt::format("{}", every), "--out", rows}, {.said = said});
    std::vector<std::string> outputs = outputs_that_fit(system.data(), request.outputs);
    FixedStepRun here(system, request.options, exported_inputs(system, request.inputs), outputs, request.prepare);
    std::ifstream in(rows);
    std::string line;
    std::getline(in, line);
    check.equal = true;
    std::vector<double> low(outputs.size(), HUGE_VAL), high(low.size(), -HUGE_VAL), off(low.size(), 0);
    bool first = true;
    while (std::getline(in, line)) {
        for (std::size_t k = 0; !first && k < every && here.steps() < n && here.step() == FixedStepStatus::good; ++k) {
        }
        first = false;
        const char* at = line.c_str();
        char* end = nullptr;
        std::strtod(at, &end);
        for (std::size_t k = 0; k < low.size() && *end == ','; ++k) {
            at = end + 1;
            double theirs = std::strtod(at, &end), ours = here.output(k);
            low[k] = std::min(low[k], ours), high[k] = std::max(high[k], ours);
            off[k] = std::max(off[k], std::abs(theirs - ours));
            if (!(theirs == ours) && !(std::isnan(theirs) && std::isnan(ours))) check.equal = false;
        }
    }
    check.steps = here.steps();
    if (first) {
        std::string why = first_words(said);
        check.failed = !why.empty() ? why : fmt::format("it wrote no rows, and ended with {}", code);
        check.equal = false;
    }
    if (here.steps() < n) check.ended = fmt::format("both ended at {:.6g} s: {}", here.time(), first_words(said));
    for (std::size_t k = 0; k < low.size(); ++k) {
        double span = std::max(high[k] - low[k], 1e-9 * std::max(std::abs(low[k]), std::abs(high[k])));
        double share = off[k] > 0 ? off[k] / span : 0;
        if (share > check.share) check.share = share, check.worst = outputs[k];
    }
    return check;
}

}  // namespace netloop

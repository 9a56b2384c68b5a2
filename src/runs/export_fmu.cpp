// SPDX-License-Identifier: Apache-2.0
// A machine as a unit of FMI: description, sources and binary in one archive.
#include <fmt/format.h>
#include <zip.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <fstream>
#include <iterator>

#include "exchange/c_project.hpp"
#include "exchange/fmi.hpp"
#include "files/other_program.hpp"
#include "files/output_file.hpp"
#include "runs/fixed_start.hpp"

namespace netloop {
namespace {

bool is_archive(const std::string& path)
{
    std::ifstream in(path, std::ios::binary);
    char head[2] = {};
    return in.read(head, 2) && head[0] == 'P' && head[1] == 'K';
}

// The same archive for the same contents: no times of today.
void write_archive(const std::string& path, const std::vector<std::pair<std::string, std::string>>& entries, const std::string& told)
{
    int failure = 0;
    zip_t* archive = zip_open(path.c_str(), ZIP_CREATE | ZIP_TRUNCATE, &failure);
    auto fail = [&](const std::string& why) { throw RecordingError(fmt::format("'{}' cannot be written: {}", told, why)); };
    if (archive == nullptr) {
        zip_error_t error;
        zip_error_init_with_code(&error, failure);
        std::string why = zip_error_strerror(&error);
        zip_error_fini(&error);
        fail(why);
    }
    constexpr zip_uint16_t kDate = (1 << 5) | 1;  // 1980-01-01, the first that an archive knows
    for (const auto& [name, text] : entries) {
        zip_source_t* source = zip_source_buffer(archive, text.data(), text.size(), 0);
        zip_int64_t index = source == nullptr ? -1 : zip_file_add(archive, name.c_str(), source, ZIP_FL_ENC_UTF_8);
        if (index < 0 || zip_file_set_dostime(archive, static_cast<zip_uint64_t>(index), 0, kDate, 0) != 0) {
            std::string why = zip_strerror(archive);
            zip_discard(archive);
            fail(why);
        }
    }
    if (zip_close(archive) != 0) {
        std::string why = zip_strerror(archive);
        zip_discard(archive);
        fail(why);
    }
}

}  // namespace

ExportFmuReport export_fmu(const CompiledSystem& system, const ExportFmuRequest& request)
{
    if (request.outputs.empty()) throw UsageError("nothing is asked of the unit: name its outputs");
    if (request.file.empty()) throw UsageError("where to is not said: name a file");
    if (request.version != 2 && request.version != 3) throw UsageError(fmt::format("FMI {}: units are written by 2 (2.0) or 3 (3.0)", request.version));
    FixedStepStart start(system, request.prepare);
    FixedStepOptions options = request.options;
    options.correct = true;
    const CompiledSystemData& data = *start.data().system;
    std::shared_ptr<const FixedPlan> plan = start.plan(options, inputs_named(data, exported_inputs(system, request.inputs)),
                                                       outputs_named(data, start.model(), outputs_that_fit(data, request.outputs)), true);
    ExportFmuReport report;
    report.file = request.file;
    report.name = exported_name(system, request.name);
    std::string title = system.name() + (system.scenario().empty() ? "" : ", scenario " + system.scenario());
    UnitDescription unit = describe_unit(*plan, report.name, system.name(), system.stop().value_or(60), data.tolerance.value_or(1e-6));
    unit.text = data.doc;
    report.model_exchange = unit.model_exchange;
    report.variables = unit.variables.size();
    report.states = static_cast<std::size_t>(std::count(plan->is_state.begin(), plan->is_state.end(), 1));
    report.indicators = unit.n_indicators;
    if (!unit.model_exchange) report.notes.push_back("co-simulation alone: the past that delays look at cannot be handed to somebody else's integrator");
    CMachine machine;
    start.data().guarded([&] { machine = write_c_machine(*plan, {.name = report.name, .single = false, .derivatives = true}); });
    const bool three = request.version == 3;
    const std::string functions = fmt::format("fmi{}_{}.c", request.version, report.name);
    std::string head = fmt::format("/* {} from {}. Not to be edited: export it again. */\n", kExportedBy, title);
    std::vector<std::pair<std::string, std::string>> sources{{report.name + ".h", head + machine.header},
                                                             {report.name + ".c", head + machine.source},
                                                             {functions, head + (three ? fmi3_source(unit, *plan) : fmi2_source(unit, *plan))}};
    const std::vector<std::string> compiled{report.name + ".c", functions};
    std::vector<std::pair<std::string, std::string>> entries{{"modelDescription.xml", three ? fmi3_description(unit) : fmi2_description(unit, compiled)}};
    if (three) entries.emplace_back("sources/buildDescription.xml", fmi3_build_description(unit, compiled));
    for (const auto& [name, text] : sources) entries.emplace_back("sources/" + name, text);

    OutputFile file(request.file, {.what = "a unit", .replaces = is_archive, .inputs = data.files_read, .by_name = true});
    OwnFolder folder;
    for (const auto& [name, text] : sources) write_whole((folder / name).string(), text, {.what = "a source"});
    const char* chosen = std::getenv("CC");
    std::string compiler = chosen != nullptr && *chosen != 0 ? chosen : "cc", said = (folder / "said").string(),
                object = (folder / (report.name + ".so")).string();
#if defined(__x86_64__) && defined(__linux__)
    int code = run_program(compiler,
                           {"-shared", "-fPIC", "-O2", "-std=c99", "-fvisibility=hidden", "-ffp-contract=off", "-o", object,
                            (folder / (report.name + ".c")).string(), (folder / functions).string(), "-lm"},
                           {.said = said});
    if (code == 0) {
        std::ifstream in(object, std::ios::binary);
        entries.emplace_back(fmt::format("binaries/{}/{}.so", three ? "x86_64-linux" : "linux64", report.name),
                             std::string(std::istreambuf_iterator<char>(in), {}));
        report.binary = true;
    } else {
        report.notes.push_back(fmt::format("it has sources alone: {}", code == 127 ? fmt::format("there is no '{}'", compiler) : first_words(said)));
    }
#else
    report.notes.push_back("it has sources alone: the standard names no folder for binaries of this machine");
#endif
    write_archive(file.unfinished(), entries, request.file);
    file.publish();
    return report;
}

}  // namespace netloop

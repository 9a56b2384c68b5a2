// SPDX-License-Identifier: Apache-2.0
// `test`: runs all scenarios of a folder and says which demands hold, for a person and as JUnit XML.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <memory>
#include <mutex>

#include "base/interrupt.hpp"
#include "commands.hpp"
#include "files/output_file.hpp"
#include "study/junit.hpp"
#include "study/threads.hpp"

namespace {

namespace fs = std::filesystem;

struct Options {
    std::vector<std::string> paths;
    std::string junit, only;
    unsigned jobs = 0;
    bool quiet = false, isolated = false;
};

struct Case {
    std::string file, scenario;
    double seconds = 0;
    std::string error;  ///< it does not compile, or ends early
    netloop::RunSummary summary;
    bool good() const { return error.empty() && summary.complete && summary.demands_hold(); }
};

std::vector<std::string> files_of(const std::vector<std::string>& paths)
{
    std::vector<std::string> files;
    for (const std::string& path : paths) {
        if (fs::is_directory(path)) {
            for (const auto& entry : fs::recursive_directory_iterator(path))
                if (entry.is_regular_file() && entry.path().extension() == ".loop") files.push_back(entry.path().string());
        } else if (fs::exists(path) && fs::path(path).extension() != ".loop") {
            throw netloop::UsageError(fmt::format("'{}' is no .loop file", path));
        } else if (fs::exists(path)) {
            files.push_back(path);
        } else {
            throw netloop::UsageError(fmt::format("'{}' does not exist: name a folder or a .loop file", path));
        }
    }
    std::sort(files.begin(), files.end());
    return files;
}

// The scenarios that a file itself holds; one that cannot be read is a case of its own, which fails.
std::vector<Case> cases_of(const std::string& file, bool isolated)
{
    std::vector<Case> cases;
    try {
        netloop::Library library = netloop::Library::standard();
        library.isolate_units(isolated);
        library.load_file(file);
        for (const auto& e : library.list())
            if (e.kind == "scenario" && fs::equivalent(e.file, file)) cases.push_back({file, e.name, 0, {}, {}});
    } catch (const netloop::ModelError& error) {
        cases.push_back({file, "", 0, error.what(), {}});
    }
    return cases;
}

void run_case(Case& c, bool isolated)
{
    auto begin = std::chrono::steady_clock::now();
    netloop::InterruptScope scope(&interrupted());  // in a thread of its own
    try {
        netloop::Library library = netloop::Library::standard();
        library.isolate_units(isolated);
        library.load_file(c.file);
        netloop::CompileRequest request;
        request.scenario = c.scenario;
        netloop::Run run(netloop::compile(library, request));
        netloop::RunOptions options;
        options.in_memory = false;
        options.interrupt = &interrupted();
        try {
            run.simulate(options);
        } catch (const netloop::RunError& error) {
            c.error = error.what();
        }
        c.summary = run.summary();
        if (c.error.empty() && !c.summary.complete) c.error = c.summary.reason;
    } catch (const std::exception& error) {
        c.error = error.what();
    }
    c.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
}

std::string lines_of(const Case& c)
{
    std::size_t n = c.summary.demands.size();
    std::string out = fmt::format("{}  {} {}  {:.1f} s  {}\n",
                                  !c.good() ? "FAILS "
                                  : n == 0  ? "ran   "
                                            : "holds ",
                                  c.file, c.scenario.empty() ? "(cannot be read)" : c.scenario, c.seconds,
                                  !c.error.empty() ? "did not come to its end"
                                  : n == 0         ? "no demands"
                                                   : fmt::format("{} demand{}", n, n == 1 ? "" : "s"));
    if (!c.error.empty()) out += fmt::format("        {}\n", c.error.substr(0, c.error.find('\n')));
    for (const netloop::DemandResult& d : c.summary.demands)
        if (!d.holds) out += "        not met: " + d.line() + "\n";
    return out;
}

void write_junit(const std::string& path, const std::vector<Case>& cases)
{
    std::vector<std::string> inputs;
    std::vector<netloop::JunitCase> told;
    for (const Case& c : cases) {
        inputs.push_back(c.file);
        netloop::JunitCase& t = told.emplace_back(netloop::JunitCase{c.file, c.scenario, c.seconds, c.error, {}, {}});
        if (!c.good())
            for (const netloop::DemandResult& d : c.summary.demands)
                if (!d.holds) t.failure += d.line() + "\n";
        for (const netloop::MeasureResult& m : c.summary.measures) t.output += m.line() + "\n";
    }
    netloop::write_whole(path, netloop::junit_text("netloop", told), {.what = "XML", .replaces = netloop::is_xml, .inputs = inputs});
}

int run_test(const Options& o)
{
    std::vector<Case> cases;
    for (const std::string& file : files_of(o.paths))
        for (Case& c : cases_of(file, o.isolated))
            if (o.only.empty() || c.scenario.find(o.only) != std::string::npos || c.file.find(o.only) != std::string::npos) cases.push_back(std::move(c));
    if (cases.empty()) throw netloop::UsageError("there is no scenario to run; a scenario begins: scenario name of System { stop at 10 s }");
    std::mutex printing;
    netloop::parallel_for(cases.size(), o.jobs, [&](std::size_t i) {
        if (cases[i].error.empty()) run_case(cases[i], o.isolated);
        if (o.quiet && cases[i].good()) return;
        std::lock_guard lock(printing);
        show("{}", lines_of(cases[i]));
    });
    if (!o.junit.empty()) write_junit(o.junit, cases);
    std::size_t good = static_cast<std::size_t>(std::count_if(cases.begin(), cases.end(), [](const Case&c) { return c.good(); })), demands = 0, held = 0;
    for (const Case& c : cases)
        for (const netloop::DemandResult& d : c.summary.demands) ++demands, held += d.holds ? 1 : 0;
    show("{} of {} scenarios good, {} of {} demands hold\n", good, cases.size(), held, demands);
    return good == cases.size() ? 0 : 1;
}

}  // namespace

Command add_test(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("test", "Run all scenarios of a project and say which demands hold");
    app->add_option("paths", o->paths, "folders, searched to their depths, or .loop files")->required();
    app->add_option("--only", o->only, "only scenarios with this in their name or file");
    app->add_option("--junit", o->junit, "write the results to this file as JUnit XML");
    app->add_option("--jobs", o->jobs, "how many at once (default: as many as the machine has processors)");
    app->add_flag("--isolated", o->isolated, "units of FMI run in processes of their own: a crash there is a message here");
    app->add_flag("--quiet", o->quiet, "print only what fails, and the sum");
    app->footer("Example:  netloop test examples/bascule --junit results.xml");
    return {app, [o] { return run_test(*o); }};
}

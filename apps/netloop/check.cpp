// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.hpp"

namespace {

struct Options {
    std::string file, scenario, show;
    std::vector<std::string> set;
    bool explain = false, strict = false, json = false;
};

int run_check(const Options& o)
{
    netloop::Library library = netloop::Library::standard();
    netloop::CompileRequest request;
    request.scenario = o.scenario;
    request.set = split_settings(o.set);
    request.strict = o.strict;
    try {
        library.load_file(o.file);
        if (!o.show.empty()) {
            show("{}", netloop::show_stage(library, request, o.show));
            return 0;
        }
        // a file of components only is checked definition by definition
        bool has_system = false;
        std::vector<std::string> scenarios;
        for (const auto& entry : library.list()) {
            has_system |= entry.kind == "system";
            if (entry.kind == "scenario") scenarios.push_back(entry.name);
        }
        if (!has_system && scenarios.empty()) {
            std::vector<netloop::Diagnostic> found = library.check(o.strict);
            bool bad = false;
            for (const auto& d : found) bad |= d.severity == netloop::Diagnostic::Severity::error;
            if (bad) throw netloop::ModelError("", found);
            if (o.json)
                show_json({{"ok", true}});
            else
                show("{}: the definitions are sound; there is no system to put together\n", o.file);
            return 0;
        }
        if (request.scenario.empty() && scenarios.size() > 1) request.scenario = scenarios[0];
        netloop::CompiledSystem system = netloop::compile(library, request);
        netloop::Run(system).check_params();
        // the studies of the file itself are planned, too
        nlohmann::json studies = nlohmann::json::array();
        std::string plans;
        for (const auto& entry : library.list()) {
            if (entry.kind != "study" || !std::filesystem::equivalent(entry.file, o.file)) continue;
            netloop::Study study(library, entry.name);
            studies.push_back({{"name", study.name()}, {"runs", study.n_runs()}, {"plan", study.plan()}});
            plans += fmt::format("study {}: {}\n", study.name(), study.plan());
        }
        if (o.json) {
            show_json({{"ok", true},
                       {"studies", studies},
                       {"system", system.name()},
                       {"scenario", system.scenario()},
                       {"equations", system.n_equations()},
                       {"states", system.n_states()},
                       {"iterates", system.n_iterates()},
                       {"messages", json_of(system.notes())}});
            return 0;
        }
        print_diagnostics(system.notes(), true);
        show("{}{}: sound: {} equations, {} states, {} iterates\n", system.name(), system.scenario().empty() ? "" : ", scenario " + system.scenario(),
             system.n_equations(), system.n_states(), system.n_iterates());
        show("{}", plans);
        if (o.explain) show("\n{}", system.explain());
        return 0;
    } catch (const netloop::ModelError& error) {
        if (!o.json) throw;
        show_json({{"ok", false}, {"messages", json_of(error.diagnostics())}});
        return 1;
    }
}

}  // namespace

Command add_check(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("check", "Check a model: text, units, structure");
    app->add_option("file", o->file, "the .loop file")->required();
    app->add_option("scenario", o->scenario, "the scenario to check with (default: the first)");
    app->add_option("--set", o->set, "a value for a param or option: path=value")->allow_extra_args(false);
    app->add_flag("--explain", o->explain, "print the compile record and the blocks of equations");
    app->add_option("--show", o->show, "print an inner form: flat, system, reduced, solver, program, source (C), or the name of a pass for the form behind it");
    app->add_flag("--strict", o->strict, "quantities without a unit are errors");
    app->add_flag("--json", o->json, "print the result for programs");
    app->footer("Example:  netloop check examples/bascule/bridge.loop --explain");
    return {app, [o] { return run_check(*o); }};
}

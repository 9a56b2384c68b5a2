// SPDX-License-Identifier: Apache-2.0
// `realtime`: whether a model is fit for steps of bounded work, and `export`: the same as C.
#include <fmt/format.h>
#include <unistd.h>

#include <memory>

#include "points.hpp"

namespace {

struct StepOptions {
    std::string step = "1ms", method = "linear-euler";
    int turns = 0;
    bool correct = false;

    netloop::FixedStepOptions made() const
    {
        netloop::FixedStepOptions o;
        o.method = method;
        o.step = seconds_from(step, "--step");
        o.turns = turns;
        o.correct = correct;
        return o;
    }
};

void add_step_options(CLI::App& app, StepOptions& o)
{
    app.add_option("--step", o.step, "length of a step, such as 1ms (the default)");
    app.add_option("--method", o.method, "linear-euler (the default), implicit-euler, rosenbrock; explicit: euler, rk4");
    app.add_option("--turns", o.turns, "turns of Newton's iteration in each solution, where other than the method's own")->check(CLI::Range(1, 100));
    app.add_flag("--correct", o.correct, "linear-euler and implicit-euler: solve what is no state anew behind an event");
}

struct Realtime {
    PointOptions point;
    StepOptions step;
    std::vector<std::string> methods;
    std::string stop;
    bool json = false, quiet = false;
};

int run_realtime(const Realtime& o)
{
    PointSource source(o.point, {});
    netloop::FixedStepRequest request;
    request.options = o.step.made();
    request.methods = o.methods;
    if (!o.stop.empty()) request.stop = seconds_from(o.stop, "--stop");
    if (!request.stop) request.stop = source.stop();
    request.prepare = [&](netloop::Run& run) { run = source.run(); };
    request.interrupt = &interrupted();
    bool shown = !o.json && !o.quiet && isatty(STDERR_FILENO) != 0;
    static constexpr const char* kClean = "\r\033[K";
    if (shown) request.progress = [](const std::string& what) { tell("{}  {} ...", kClean, what); };
    netloop::FixedStepReport report = netloop::fixed_step_report(source.system(), request);
    if (shown) tell("{}", kClean);
    if (o.json)
        show("{}\n", report.json());
    else
        show("{}", report.text());
    return report.fit() ? 0 : 1;
}

struct Export {
    PointOptions point;
    StepOptions step;
    std::string as = "c", out, name;
    std::vector<std::string> inputs, outputs;
    bool single = false, check = false;
};

int run_export(const Export& o)
{
    netloop::Library library = netloop::Library::standard();
    library.load_file(o.point.file);
    netloop::CompileRequest plain;
    plain.system = o.point.system;
    plain.scenario = o.point.scenario;
    plain.set = split_settings(o.point.set);
    netloop::CompileRequest request = plain;
    request.from_outside = o.inputs;
    netloop::CompiledSystem system = netloop::compile(library, request);
    // an input that was taken from a controller begins with what the controller gives at the start
    std::vector<std::pair<std::string, double>> begin;
    if (!o.inputs.empty()) {
        netloop::CompiledSystem whole = netloop::compile(library, plain);
        netloop::Run run(whole);
        for (const std::string& path : o.inputs) {
            try {
                (void)whole.input(path);
            } catch (const netloop::UsageError&) {
                begin.emplace_back(path, run.value(path));
            }
        }
    }
    auto prepare = [&](netloop::Run& run) {
        for (const auto& [path, si] : begin) run.set(system.input(path), si);
    };
    if (o.as != "c") {
        if (o.single || o.check) throw netloop::UsageError("--float and --check go with --as c");
        netloop::ExportFmuReport made = netloop::export_fmu(system, {.options = o.step.made(),
                                                                     .name = o.name,
                                                                     .inputs = o.inputs,
                                                                     .outputs = o.outputs,
                                                                     .file = o.out,
                                                                     .version = o.as == "fmi3" ? 3 : 2,
                                                                     .prepare = prepare});
        show("{}\n{}: {} variables, {} states, {} event indicators; {}co-simulation in steps of {}; {}\n", made.file, made.name, made.variables, made.states,
             made.indicators, made.model_exchange ? "model exchange and " : "", o.step.step, made.binary ? "sources and binary" : "sources");
        for (const std::string& note : made.notes) tell("note: {}\n", note);
        return 0;
    }
    netloop::ExportCRequest wanted;
    wanted.options = o.step.made();
    wanted.name = o.name;
    wanted.inputs = o.inputs;
    wanted.outputs = o.outputs;
    wanted.folder = o.out;
    wanted.single = o.single;
    wanted.prepare = prepare;
    netloop::ExportReport report = netloop::export_c(system, wanted);
    for (const std::string& file : report.files) show("{}\n", file);
    auto several = [](std::size_t n, const char* what) { return fmt::format("{} {}{}", n, what, n == 1 ? "" : "s"); };
    show("{}: {}, {}; about {} bytes a machine; {} operations a step, {} more at most at a moment\n", report.name, several(report.n_inputs, "input"),
         several(report.n_outputs, "output"), report.state_bytes, report.step_operations, report.moment_operations);
    if (!o.check) return 0;
    netloop::ExportCheck check = netloop::check_export_c(system, wanted, system.stop().value_or(1000 * wanted.options.step));
    show("{}\n", check.text());
    if (check.code_bytes > 0) show("code and tables: {} bytes at -O2\n", check.code_bytes);
    return check.failed.empty() && (check.equal || o.single) ? 0 : 1;
}

}  // namespace

Command add_realtime(CLI::App& program)
{
    auto o = std::make_shared<Realtime>();
    CLI::App* app =
        program.add_subcommand("realtime", "Fit for real time or not: fixed steps held against variable ones, largest stable step, times, what hinders");
    add_point_options(*app, o->point);
    add_step_options(*app, o->step);
    app->add_option("--compare", o->methods, "other methods to look at (default: all)");
    app->add_option("--stop", o->stop, "how far the runs go (default: the scenario's stop time)");
    app->add_flag("--json", o->json, "print all of it for programs");
    app->add_flag("--quiet", o->quiet, "no progress");
    app->footer("Example:  netloop realtime examples/bascule/bridge.loop --step 1ms");
    return {app, [o] { return run_realtime(*o); }};
}

Command add_export(CLI::App& program)
{
    auto o = std::make_shared<Export>();
    CLI::App* app = program.add_subcommand("export", "Write a machine as C that needs nothing of Net Loop, or as a unit of the open standard FMI");
    add_point_options(*app, o->point);
    app->add_option("--as", o->as, "c: C99 source (the default); fmi2, fmi3: a unit of the open standard FMI 2.0 or 3.0")
        ->check(CLI::IsMember({"c", "fmi2", "fmi3"}));
    add_step_options(*app, o->step);
    app->add_option("--input", o->inputs, "an input of the system, or of a part, which is then given from outside")->allow_extra_args(false);
    app->add_option("--output", o->outputs, "a quantity that is asked of the machine")->allow_extra_args(false)->required();
    app->add_option("--out", o->out, "the folder to write to; of a unit the file, NAME.fmu")->required();
    app->add_option("--name", o->name, "in front of all names in C (default: the system's name)");
    app->add_flag("--float", o->single, "numbers in single precision");
    app->add_flag("--check", o->check, "compile it with this machine's C compiler (CC, else cc), run it, and compare with the run here");
    app->footer("Example:  netloop export examples/bascule/bridge.loop --as c --step 1ms --output leaf.angle --out bridge_c --check");
    return {app, [o] { return run_export(*o); }};
}

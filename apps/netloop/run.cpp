// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>
#include <unistd.h>

#include <chrono>
#include <cmath>
#include <memory>
#include <optional>

#include "commands.hpp"

namespace {

struct Options {
    std::string file, scenario, system, out, stop, time_limit, output_every, integrator, evaluator, step, points;
    std::vector<std::string> set, keep;
    std::optional<double> tolerance;
    bool json = false, quiet = false, events = false, verify = false, isolated = false;
};

// On a terminal, after the first second: one line that is drawn over itself.
class ProgressBar {
public:
    explicit ProgressBar(double stop, bool wanted) : stop_(stop), wanted_(wanted && isatty(STDERR_FILENO) != 0) {}
    void operator()(double t)
    {
        if (!wanted_) return;
        auto now = std::chrono::steady_clock::now();
        std::chrono::duration<double> since = now - begin_, last = now - shown_;
        if (since.count() < 1 || last.count() < 0.1) return;
        shown_ = now;
        drawn_ = true;
        int n = static_cast<int>(40 * std::min(1.0, t / stop_));
        tell("\r  [{}{}] {:5.1f} %  {:.4g} s of {:.4g} s ", std::string(static_cast<std::size_t>(n), '='), std::string(static_cast<std::size_t>(40 - n), ' '),
             100 * t / stop_, t, stop_);
        std::fflush(stderr);
    }
    ~ProgressBar() { wipe(); }
    /// Makes room for a line of text.
    void wipe()
    {
        if (drawn_) tell("\r{}\r", std::string(78, ' '));
        drawn_ = false;
    }
    ProgressBar(const ProgressBar&) = delete;
    ProgressBar& operator=(const ProgressBar&) = delete;

private:
    double stop_;
    bool wanted_, drawn_ = false;
    std::chrono::steady_clock::time_point begin_ = std::chrono::steady_clock::now(), shown_ = begin_;
};

void print_summary(const netloop::RunSummary& s, const netloop::CompiledSystem& system, const Options& o)
{
    if (!o.json)
        for (const std::string& note : s.recording_notes) tell("note: {}\n", note);
    if (!o.json) {
        if (o.quiet) {  // what is not met is an error all the same
            for (const netloop::DemandResult& d : s.demands)
                if (!d.holds) tell("not met: {}\n", d.line());
            if (s.verification.done && !s.verification.holds) tell("{}", s.verification.text());
            return;
        }
        show("{}{}: {}", system.name(), system.scenario().empty() ? "" : ", scenario " + system.scenario(), s.text());
        if (!s.recorded.empty() && s.recorded != "-") show("  recorded  {}\n", s.recorded);
        if (o.events) show("\n{}", s.event_record.text());
        return;
    }
    show("{}\n", s.json(system.name(), system.scenario()));
}

// "50", or "1s" and "every 1 s": the time between them.
void take_points(const std::string& text, netloop::RunOptions& options)
{
    if (text.empty()) return;
    constexpr std::string_view kEvery = "every ";
    std::string rest = text.starts_with(kEvery) ? text.substr(kEvery.size()) : text;
    netloop::Quantity given = quantity_from(rest, "", "--points", "how many points, or the time between them,", "50");
    if (!given.unit.empty() || rest != text) {
        options.points_every = seconds_from(rest, "--points");
    } else {
        if (!(given.value >= 1) || given.value != std::floor(given.value) || given.value > 100000)
            throw netloop::UsageError(fmt::format("--points {}: a whole number from 1 to 100000 is expected, or the time between points, such as 1s", text));
        options.points = static_cast<std::size_t>(given.value);
    }
    if (options.out.empty()) throw netloop::UsageError("--points: points are kept in a recording: say which with --out");
}

int run_run(const Options& o)
{
    netloop::Library library = netloop::Library::standard();
    library.isolate_units(o.isolated);
    library.load_file(o.file);
    netloop::CompileRequest request;
    request.system = o.system;
    request.scenario = o.scenario;
    request.set = split_settings(o.set);
    request.rates = o.keep;
    netloop::CompiledSystem system = netloop::compile(library, request);
    if (!o.quiet && !o.json) {
        // what is unchecked is listed by `check`; a run is not the place to repeat it
        std::vector<netloop::Diagnostic> notes = system.notes();
        std::erase_if(notes, [](const netloop::Diagnostic& d) { return d.id == "unchecked-quantity"; });
        print_diagnostics(notes, true);
    }
    netloop::Run run(system);
    netloop::RunOptions options;
    if (!o.stop.empty()) options.stop = seconds_from(o.stop, "--stop");
    if (!o.output_every.empty()) options.output_every = seconds_from(o.output_every, "--output-every");
    if (!o.time_limit.empty()) options.time_limit = seconds_from(o.time_limit, "--time-limit");
    options.tolerance = o.tolerance;
    options.integrator = o.integrator;
    options.evaluator = o.evaluator;
    if (!o.step.empty()) options.step = seconds_from(o.step, "--step");
    options.out = o.out;
    take_points(o.points, options);
    if (o.out == "-") output_is_taken();
    options.keep = o.keep;
    options.in_memory = false;
    options.verify = o.verify;
    options.interrupt = &interrupted();
    double stop = options.stop ? *options.stop : system.stop().value_or(0);
    try {
        ProgressBar bar(stop, !o.quiet && stop > 0);
        options.progress = [&bar](double t) { bar(t); };
        if (!o.quiet)
            options.crawls = [&bar](const std::string& text) {
                bar.wipe();
                tell("note: {}\n", text);
            };
        run.simulate(options);
    } catch (const netloop::RunError&) {
        print_summary(run.summary(), system, o);
        throw;
    }
    print_summary(run.summary(), system, o);
    if (!run.summary().complete) return 1;
    const netloop::Verification& verified = run.summary().verification;
    if (verified.done && !verified.holds) return 1;
    return run.summary().demands_hold() ? 0 : 1;
}

}  // namespace

// The same table, out of a recording.
Command add_events(CLI::App& program)
{
    auto file = std::make_shared<std::string>();
    CLI::App* app = program.add_subcommand("events", "List the events of a recorded run, most frequent first");
    app->add_option("recording", *file, "the recording (.h5)")->required();
    app->footer("Example:  netloop run examples/bascule/bridge.loop --out bridge.h5; netloop events bridge.h5");
    return {app, [file] {
                netloop::Recording recording = open_recording(*file);
                bool csv = file->size() > 4 && file->substr(file->size() - 4) == ".csv";
                if (recording.events.kinds.empty() && csv)
                    throw netloop::UsageError(fmt::format("'{}' holds rows only: events are recorded in .h5 files", *file));
                show("{}", recording.events.text());
                return 0;
            }};
}

Command add_run(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("run", "Simulate a scenario and record it");
    app->add_option("file", o->file, "the .loop file")->required();
    app->add_option("scenario", o->scenario, "the scenario (needed if the file has several)");
    app->add_option("--system", o->system, "the system, if the file has several and no scenario is named");
    app->add_option("--out", o->out, "file to record to: .h5 or .csv; - writes rows (CSV) to standard output");
    app->add_option("--set", o->set, "a value for a param or option: path=value")->allow_extra_args(false);
    app->add_option("--stop", o->stop, "stop time, such as 60s or 2min");
    app->add_option("--time-limit", o->time_limit, "end the run after this much time of yours, such as 60s; what it has by then is recorded");
    app->add_option("--output-every", o->output_every, "time between rows, such as 10ms");
    app->add_option("--tolerance", o->tolerance, "relative tolerance (default 1e-6)");
    app->add_option("--integrator", o->integrator, "auto (the default), bdf, adams, sdirk; for comparison ida, cvode; with --step euler, rk4, implicit-euler");
    app->add_option("--evaluator", o->evaluator, "auto (the default), plain, grouped, machine: how equations are evaluated; the numbers are the same");
    app->add_option("--step", o->step, "length of a fixed step, such as 1ms");
    app->add_option("--keep", o->keep, "record only these: a path or a pattern such as pump.*")->allow_extra_args(false);
    app->add_option("--points", o->points,
                    "keep the whole run at so many points, or one every so often (1s): linear and modes then look at them without repeating the run");
    app->add_flag("--events", o->events,
                  "print what happened (conditions that turned, transitions taken, blocks run): how often, when, where, and the steps and time lost to it");
    app->add_flag("--verify", o->verify, "hold every row against the equations as written; exit code 1 if one does not fit");
    app->add_flag("--isolated", o->isolated, "units of FMI run in processes of their own: a crash there is a message here");
    app->add_flag("--json", o->json, "print the summary for programs");
    app->add_flag("--quiet", o->quiet, "print errors only");
    app->footer("Example:  netloop run examples/bascule/bridge.loop --out bridge.h5 --set relief.cracking=\"160 bar\"");
    return {app, [o] { return run_run(*o); }};
}

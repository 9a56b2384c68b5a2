// SPDX-License-Identifier: Apache-2.0
// `study` and `work`: many runs of one machine, here, or shared among machines by a store.
#include <fmt/format.h>
#include <unistd.h>

#include <chrono>
#include <cmath>
#include <filesystem>
#include <memory>
#include <thread>

#include "base/interrupt.hpp"
#include "commands.hpp"
#include "results.hpp"
#include "stores.hpp"

namespace {

struct Options {
    std::string file, name, store, limit, recordings, on, report;
    std::vector<std::string> set, sbatch;
    unsigned jobs = 0, workers = 2;
    bool resume = false, plan = false, json = false, quiet = false, only_register = false, isolated = false;
    std::string study;  ///< of `work`
};

// A line that is written over on a terminal, and now and then a line of its own elsewhere.
class Progress {
public:
    Progress(std::string what, bool wanted) : what_(std::move(what)), wanted_(wanted), terminal_(isatty(STDERR_FILENO) != 0) {}
    ~Progress() { wipe(); }
    Progress(const Progress&) = delete;
    Progress& operator=(const Progress&) = delete;
    void operator()(const netloop::StudyOptions::Progress& p)
    {
        constexpr double kFirst = 1, kEvery = 10;  // s
        double now = since(begun_);
        if (!wanted_ || now < kFirst || (!terminal_ && now - told_ < kEvery)) return;
        told_ = now;
        std::string line = fmt::format("{}: {} of {} runs{}, {} left", what_, p.done, p.all, p.failed > 0 ? fmt::format(", {} failed", p.failed) : "",
                                       duration_text(p.seconds_left));
        if (!terminal_) {
            tell("{}\n", line);
            return;
        }
        int n = static_cast<int>(30 * p.done / std::max<std::size_t>(1, p.all));
        tell("\r  [{}{}] {}   ", std::string(static_cast<std::size_t>(n), '='), std::string(static_cast<std::size_t>(30 - n), ' '), line);
        std::fflush(stderr);
        drawn_ = true;
    }
    void wipe()
    {
        if (drawn_) tell("\r{}\r", std::string(110, ' '));
        drawn_ = false;
    }

private:
    static double since(std::chrono::steady_clock::time_point t) { return std::chrono::duration<double>(std::chrono::steady_clock::now() - t).count(); }
    std::string what_;
    bool wanted_, terminal_, drawn_ = false;
    double told_ = 0;
    std::chrono::steady_clock::time_point begun_ = std::chrono::steady_clock::now();
};

netloop::StudyOptions options_of(const Options& o)
{
    netloop::StudyOptions options;
    options.jobs = o.jobs;
    if (!o.limit.empty()) options.limit = seconds_from(o.limit, "--limit");
    options.resume = o.resume;
    options.recordings = o.recordings;
    options.interrupt = &interrupted();
    options.only_register = o.only_register;
    return options;
}

void show_plan(const netloop::Study& study, const Options& o)
{
    show("study {} of {}: {}\n", study.name(), study.system(), study.plan());
    if (!study.text().empty()) show("{}\n", study.text());
    for (const netloop::StudyColumn& c : study.columns()) {
        const char* word = c.kind == netloop::StudyColumn::Kind::varied      ? "varies"
                           : c.kind == netloop::StudyColumn::Kind::uncertain ? "uncertain"
                           : c.kind == netloop::StudyColumn::Kind::measure   ? "collects"
                                                                             : "demands";
        show("  {:<10} {}{}{}\n", word, c.name, c.unit.empty() || c.unit == "1" || c.unit == "bool" ? "" : " [" + c.unit + "]",
             c.levels.empty() ? "" : fmt::format(": {}", fmt::join(c.levels, ", ")));
    }
    std::size_t n = study.n_runs();
    show("  {} machine{} to compile; the first run sets {}\n", study.n_structures(), study.n_structures() == 1 ? "" : "s", study.varied_text(0));
    // the first ones tell how long it takes: kept nowhere
    unsigned jobs = o.jobs > 0 ? o.jobs : std::max(1u, std::thread::hardware_concurrency());
    auto timed = netloop::time_of_runs(study, 3, &interrupted());
    if (timed.n > 0)
        show("  {} of the runs took {} each: about {} for all with {} thread{}\n", timed.n, duration_text(timed.seconds_each),
             duration_text(timed.seconds_each * static_cast<double>(n) / jobs), jobs, jobs == 1 ? "" : "s");
}

int finish(netloop::Store& store, const netloop::StudySummary& summary, const Options& o)
{
    for (const std::string& note : summary.notes) tell("note: {}\n", note);
    netloop::StudyRecord record = store.study(summary.id);
    if (o.json) {
        show_json({{"study", summary.id},
                   {"name", record.name},
                   {"store", store.where()},
                   {"all", summary.all},
                   {"done", summary.done},
                   {"failed", summary.failed},
                   {"here", summary.here},
                   {"complete", summary.complete},
                   {"wall_seconds", summary.wall_seconds},
                   {"run_seconds", summary.run_seconds},
                   {"jobs", summary.jobs}});
    } else {
        if (!o.quiet && summary.done > 0) show_best(store, record);
        show("study {} {}: {}\n", summary.id, record.name, summary.one_line());
        if (!o.quiet && summary.done > 0) show("  all of it: netloop results {} {}\n", store.where(), record.name);
        if (!summary.complete && !o.only_register)
            show("  go on with: netloop study {} {} --resume{}\n", o.file, record.name, o.store.empty() ? "" : " --store " + store.where());
        if (o.only_register) show("  to work on it, on any machine: netloop work --store {} --study {}\n", store.where(), summary.id);
    }
    if (!o.report.empty()) write_study_report(store, record, o.report);
    return summary.complete || o.only_register ? 0 : 1;
}

int run_study(const Options& o)
{
    netloop::Library library = netloop::Library::standard();
    library.isolate_units(o.isolated);
    library.load_file(o.file);
    netloop::Study study(library, o.name, split_settings(o.set));
    if (o.plan) {
        show_plan(study, o);
        return 0;
    }
    std::string where = !o.store.empty() ? o.store : store_beside(o.file);
    netloop::Store store = netloop::Store::open(where);
    netloop::StudyOptions options = options_of(o);
    Progress progress("study " + study.name(), !o.quiet && !o.json);
    options.progress = [&](const netloop::StudyOptions::Progress& p) { progress(p); };
    if (!o.quiet && !o.json) show("study {} of {}: {}\n", study.name(), study.system(), study.plan());
    netloop::StudySummary summary;
    if (o.on.empty()) {
        summary = netloop::run_study(study, store, options);
    } else {
        if (o.on != "slurm") throw netloop::UsageError(fmt::format("--on {}: studies run here, or on slurm", o.on));
        netloop::ClusterOptions cluster;
        cluster.workers = o.workers;
        cluster.store = where;
        cluster.program = std::filesystem::read_symlink("/proc/self/exe").string();
        cluster.submit_options = o.sbatch;
        summary = netloop::run_study_on_slurm(study, store, options, cluster);
    }
    progress.wipe();
    return finish(store, summary, o);
}

int run_work(const Options& o)
{
    if (o.store.empty()) throw netloop::UsageError("which store? Say --store postgresql://user@host/database, or set NETLOOP_STORE");
    netloop::Store store = netloop::Store::open_existing(o.store);
    netloop::StudyOptions options = options_of(o);
    Progress progress("work", !o.quiet);
    options.progress = [&](const netloop::StudyOptions::Progress& p) { progress(p); };
    auto done = netloop::work_on(store, o.study.empty() ? 0 : study_in(store, o.study).id, options);
    progress.wipe();
    bool complete = true;
    for (const netloop::StudySummary& s : done) {
        for (const std::string& note : s.notes) tell("note: {}\n", note);
        show("study {}: {}\n", s.id, s.one_line());
        complete &= s.complete;
    }
    if (done.empty()) show("nothing is left to do in {}\n", store.where());
    return complete ? 0 : 1;
}

}  // namespace

Command add_study(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    o->store = store_of_environment();
    CLI::App* app = program.add_subcommand("study", "Run a study: many variants of a machine, kept in a store");
    app->add_option("file", o->file, "the .loop file")->required();
    app->add_option("study", o->name, "the study (needed if the file has several)");
    app->add_option("--jobs", o->jobs, "threads (default: as many as the machine has processors)");
    app->add_option("--store", o->store, "where runs are kept: a file, or postgresql://user@host/database (default: FILE.studies.sqlite beside the model)");
    app->add_flag("--resume", o->resume, "go on with the last study of this name that is not complete");
    app->add_option("--limit", o->limit, "longest time of one run, such as 60s; one that needs more is told as such");
    app->add_flag("--plan", o->plan, "show what would be run, and about how long it takes; nothing is kept");
    app->add_option("--set", o->set, "a value put on the machine before the study varies it: path=value")->allow_extra_args(false);
    app->add_option("--recordings", o->recordings, "folder for recordings (default: beside the store), or 'database'");
    app->add_option("--on", o->on, "slurm: have a cluster do it; needs a PostgreSQL store");
    app->add_option("--workers", o->workers, "with --on: how many workers (default 2), each with --jobs threads")->check(CLI::Range(1u, 100000u));
    app->add_option("--sbatch", o->sbatch, "with --on slurm: an option for sbatch, such as --sbatch=--partition=long")->allow_extra_args(false);
    app->add_flag("--register", o->only_register, "put the study into the store for workers, and run nothing here");
    app->add_option("--report", o->report, "write a page with charts to this .html file when it is done");
    app->add_flag("--isolated", o->isolated, "units of FMI run in processes of their own: a crash there is a message here");
    app->add_flag("--json", o->json, "print the summary for programs");
    app->add_flag("--quiet", o->quiet, "print one line");
    app->footer(
        "Example:  netloop study examples/bascule/studies/drive.loop which_drive --plan\n          netloop study examples/bascule/studies/drive.loop "
        "which_drive");
    return {app, [o] { return run_study(*o); }};
}

Command add_work(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    o->store = store_of_environment();
    CLI::App* app = program.add_subcommand("work", "Take runs of studies from a shared store until none is left");
    app->add_option("--store", o->store, "the store: postgresql://user@host/database, or a file of this machine (default: NETLOOP_STORE)");
    app->add_option("--study", o->study, "only this one, by number or name");
    app->add_option("--jobs", o->jobs, "threads (default: as many as the machine has processors)");
    app->add_option("--limit", o->limit, "longest time of one run, such as 60s");
    app->add_option("--recordings", o->recordings, "folder for recordings, or 'database'");
    app->add_flag("--quiet", o->quiet, "print results only");
    app->footer(
        "Example:  netloop study drive.loop which_drive --store postgresql://team@host/studies --register\n          netloop work --store "
        "postgresql://team@host/studies");
    return {app, [o] { return run_work(*o); }};
}

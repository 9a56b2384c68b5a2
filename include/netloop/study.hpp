// SPDX-License-Identifier: Apache-2.0
// Studies: many runs of one machine, varied as a `study` of the language says, or as a program does.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "netloop/library.hpp"
#include "netloop/run.hpp"
#include "netloop/store.hpp"

namespace netloop {

struct StudyData;

/// A study of a loaded file, read, checked and planned: which things are varied, and which runs that makes. It never changes; copies are the same study.
///
///     nl::Library library = nl::Library::standard();
///     library.load_file("drive.loop");
///     nl::Study study(library, "which_drive");
///     nl::Store store = nl::Store::open("drive.studies.sqlite");
///     nl::StudySummary done = nl::run_study(study, store);
class Study {
public:
    /// `name`: empty for the only study of the loaded files. `set`: values as on the command line, put on the system before the study varies it. Compiles the
    /// first of the machines that the study needs. Throws ModelError with everything that is wrong in the study's text.
    explicit Study(const Library& library, const std::string& name = {}, const std::vector<std::pair<std::string, std::string>>& set = {});

    const std::string& name() const;
    const std::string& system() const;
    /// Its `##` text.
    const std::string& text() const;
    /// What is varied, then what is collected, in the order of the text.
    const std::vector<StudyColumn>& columns() const;
    std::size_t n_runs() const;
    /// Points of the plan that `where` leaves out.
    std::size_t n_left_out() const;
    /// Machines that have to be compiled: one for each choice of parts and options.
    std::size_t n_structures() const;
    /// "full grid of 3 x 7 x 3 (of them 12 left out by where): 51 runs".
    std::string plan() const;
    /// What run i sets, as columns() shows it: a number in SI, or the number of a level; NaN: as it is without the study. Throws UsageError for no such run.
    std::vector<double> varied(std::size_t run) const;
    /// The same as "pump=p90, wind.speed=10 m/s".
    std::string varied_text(std::size_t run) const;

    /// For this library's own folders.
    const StudyData& data() const { return *data_; }

private:
    std::shared_ptr<const StudyData> data_;
};

/// How a study is run.
struct StudyOptions {
    unsigned jobs = 0;                             ///< threads; 0: as many as the machine has processors
    std::optional<double> limit{};                 ///< s that one run may take; what needs longer is a result of its own
    bool resume = false;                           ///< go on with the last study of this name, texts and settings that the store has unfinished
    std::string recordings{};                      ///< folder for recordings; empty: beside the store. "database": into the store itself
    const std::atomic<bool>* interrupt = nullptr;  ///< set from elsewhere (Ctrl-C): what is done is kept
    /// Called a few times a second from the thread that calls run_study.
    struct Progress {
        std::size_t done = 0, failed = 0, all = 0;  ///< of the whole study, by whomever
        double seconds_left = 0;                    ///< NaN: not known yet
    };
    std::function<void(const Progress&)> progress{};
    bool only_register = false;  ///< put the study into the store for workers, and run nothing here
};

/// What became of it.
struct StudySummary {
    std::int64_t id = 0;                                  ///< of the study in the store
    std::size_t all = 0, done = 0, failed = 0, here = 0;  ///< runs; done: with a result, failed ones among them; here: by this call
    bool complete = false;                                ///< every run has a result
    double wall_seconds = 0, run_seconds = 0;             ///< of this call; of its runs, summed up over threads
    unsigned jobs = 0;
    std::vector<std::string> notes;  ///< what a user should know
    std::string one_line() const;
};

/// Runs what is not done yet and keeps it in the store. A run that fails is a result with its reason. Results do not depend on the number of threads, nor on
/// which machine did which run: each begins from the same start, and its numbers are those of its own point alone. Throws StoreError, ModelError, UsageError.
StudySummary run_study(const Study& study, Store& store, const StudyOptions& options = {});

/// The same for studies that others have put into a store (a PostgreSQL server, or an SQLite file of this machine), until nothing is left to do: what
/// `netloop work` does. `study`: 0 for all unfinished ones. Gives one summary for each study that was worked on.
std::vector<StudySummary> work_on(Store& store, std::int64_t study, const StudyOptions& options = {});

/// How long runs of a study take: of so many of them, spread over the plan, of which nothing is kept.
struct RunTimes {
    std::size_t n = 0;
    double seconds_each = 0;
};
RunTimes time_of_runs(const Study& study, std::size_t n, const std::atomic<bool>* interrupt = nullptr);

/// A cluster on which Slurm places workers.
struct ClusterOptions {
    unsigned workers = 2;                       ///< tasks of one job array; each takes StudyOptions::jobs threads
    std::string store{};                        ///< the store's address as workers see it; they get it by their environment (NETLOOP_STORE)
    std::string program = "netloop";            ///< as workers see it
    std::string folder{};                       ///< for what workers print, seen by all of them; empty: the present one
    std::vector<std::string> submit_options{};  ///< further ones for sbatch: "--partition=long"
};
/// Puts the study into its store (PostgreSQL), submits a job array of workers, follows it until the study is complete, and cancels it when it is interrupted.
/// Workers that end before that are told with what Slurm and they themselves said. Throws UsageError for a store that machines do not share, StoreError, and
/// Error ("slurm-failed") where sbatch refuses.
StudySummary run_study_on_slurm(const Study& study, Store& store, const StudyOptions& options, const ClusterOptions& cluster);

/// The entries of the catalogues of the loaded files, to be published. Throws UsageError for one with tables in files of their own, which a store does not
/// keep.
std::vector<StoredEntry> catalogue_entries(const Library& library);
/// Entries as a .loop text: a catalogue each.
std::string catalogue_text(const std::vector<StoredEntry>& entries);

/// The study as it was when it was put into the store: from the texts kept there, nothing is read from the disk. Throws StoreError, ModelError.
Study stored_study(Store& store, std::int64_t study);

/// One run of a study again, with a recording if `out` names a file.
struct RerunResult {
    StudyRow now, stored;
    bool same = false;    ///< every number is the same, to the last bit
    std::string version;  ///< of the program that made the stored one
    RunSummary summary;
};
RerunResult rerun(Store& store, std::int64_t study, std::int64_t run, const std::string& out = {});

// --- what follows from the runs of a study

/// The share of a result's variance that each thing varied has, of a study `for sobol`: alone (Saltelli et al. 2010, Comput. Phys. Commun. 181, table 2 b), and
/// with all that it has together with others (Jansen 1999). Limits hold 95 of 100 (percentiles of 500 resamplings of the base points).
struct VarianceIndex {
    std::string name;
    double first = 0, first_low = 0, first_high = 0, total = 0, total_low = 0, total_high = 0;
};
/// `values`: of n base points A, B, then A with coordinate j from B, k + 2 each, one after the other; base points with a value that is none are left out.
std::vector<VarianceIndex> variance_indices(std::span<const double> values, const std::vector<std::string>& names);

/// Elementary effects (Morris 1991, Technometrics 33; mean of sizes: Campolongo et al. 2007): the mean, the mean of sizes with its 95 % limits, the spread. Per
/// the whole way from the least level to the most.
struct ElementaryEffect {
    std::string name;
    double mean = 0, size = 0, size_low = 0, size_high = 0, spread = 0;
};
/// `values`: of trajectories of k + 1 points; `levels`: of each point and coordinate its place, 0 .. 1 from end to end (k of a point, one after the other).
std::vector<ElementaryEffect> elementary_effects(std::span<const double> values, std::span<const double> levels, const std::vector<std::string>& names);

/// How a result goes with one thing varied, all others being as they come: at each level, or in eight equal parts of a range, the mean and the 95 % limits of
/// it.
struct MainEffect {
    std::string name;
    std::vector<double> at, mean, low, high;  ///< at: level, or SI
    double swing = 0;                         ///< greatest less least of the means
};
std::vector<MainEffect> main_effects(const StudyRecord& study, const std::vector<StudyRow>& rows, std::size_t result);

/// Rows that no other row beats in both columns: numbers into `rows`, by rising a. `most_a`, `most_b`: more is better.
std::vector<std::size_t> best_front(const std::vector<StudyRow>& rows, std::size_t a, std::size_t b, bool most_a = false, bool most_b = false);

/// The indices or effects of a study that was taken for them, of one of its results. Empty: it was not, or runs are missing. Throws UsageError for no column.
std::vector<VarianceIndex> variance_indices(const StudyRecord& study, const std::vector<StudyRow>& rows, std::size_t result);
std::vector<ElementaryEffect> elementary_effects(const StudyRecord& study, const std::vector<StudyRow>& rows, std::size_t result);

/// Several runs of one compiled system that differ in params and inputs only: what a study does for each machine.
struct RunAllOptions {
    RunOptions run{};        ///< of each of them; `out` is not used
    unsigned jobs = 0;       ///< threads; 0: as many as the machine has processors
    bool warm_start = true;  ///< search each start from that of the system as it is
    const std::atomic<bool>* interrupt = nullptr;
};
/// What a sink is given: once for each case, by one thread at a time, in the order in which runs end.
struct CaseResult {
    std::size_t index = 0;
    std::string error;                    ///< why it has no end; empty: it came to it
    std::string id;                       ///< the slug of that
    const RunSummary* summary = nullptr;  ///< for the time of the call
};
/// `cases`: one after the other, params.size() values (SI) each. Throws UsageError where the sizes do not fit; what a sink throws ends it. Threads share
/// nothing but the compiled system.
void run_all(const CompiledSystem& system, std::span<const ParamId> params, std::span<const double> cases, const RunAllOptions& options,
             const std::function<void(const CaseResult&)>& sink);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Runs of a compiled system.
#pragma once

#include <atomic>
#include <functional>
#include <limits>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "netloop/cost.hpp"
#include "netloop/linear_model.hpp"
#include "netloop/modes.hpp"
#include "netloop/quantity.hpp"
#include "netloop/recording.hpp"
#include "netloop/system.hpp"
#include "netloop/verification.hpp"

namespace netloop {

/// How a run is made. What is not given here is taken from the scenario; a stop time must stand in one of the two.
struct RunOptions {
    std::optional<double> stop{};                  ///< s
    std::optional<double> output_every{};          ///< s; without it 500 rows over the run
    std::optional<double> tolerance{};             ///< relative; 1e-6 if the scenario says nothing
    std::string out{};                             ///< file to record to (.h5 or .csv); empty: in memory only
    bool in_memory = true;                         ///< false with `out`: rows go to the file only
    std::vector<std::string> keep{};               ///< paths and patterns (pump.*); empty: as the scenario says, else all but derivatives
    std::function<void(double)> progress{};        ///< called with the time reached
    const std::atomic<bool>* interrupt = nullptr;  ///< set from elsewhere (Ctrl-C): the run ends, the recording is kept
    /// How time is stepped through. Variable step: "auto" (the default: by what the system is and does, of the next three), "bdf" (backward
    /// differences, orders 1 to 5), "adams" (orders 1 to 12; for x' = f(time, x), not stiff), "sdirk" (one-step, order 4, L-stable); "ida" and
    /// "cvode" (SUNDIALS, for comparison). Fixed step, with `step`: "euler" and "rk4" (explicit, not stiff), "implicit-euler" (for
    /// stiff systems; each step is solved in a bounded count of turns, and divided, or refused with the quantity, where that does not do).
    std::string integrator{};
    std::optional<double> step{};  ///< s, for the fixed-step methods
    /// Seconds after which the run is ended as if it were interrupted: what it has is recorded, and the reason told. Looked at after each step.
    std::optional<double> time_limit{};
    /// Points that the recording keeps (Recording::points): so many, evenly over the run with both ends, or one each time of this length, s. They cost no
    /// steps.
    std::size_t points = 0;
    std::optional<double> points_every{};
    /// Called from the run's own thread, after 5 s, 50 s, 500 s ... of computing, if the run would need more than ten minutes yet at the pace it has: the text
    /// says how far it is, and which quantities and what events hold it most.
    std::function<void(const std::string&)> crawls{};
    /// How the equations are evaluated: "auto" (the default: interpreted at first, machine code as soon as it pays), "plain", "grouped" (two
    /// interpreters), "machine". All give the same numbers, bit for bit.
    std::string evaluator{};
    /// Holds the run against the model as written: see Verification, in the summary when the run is over. Costs less than the run does. Also
    /// turned on for all runs of a process by NETLOOP_VERIFY=1 in its environment: a run that does not hold then throws RunError
    /// ("not-verified") at its end.
    bool verify = false;
    /// For comparison: how IDA gets its Jacobian (anything but `exact` chooses IDA).
    enum class Jacobian { exact, one_column_at_a_time, grouped_columns } jacobian = Jacobian::exact;
};

/// What happened in a run.
struct RunSummary {
    bool complete = false;
    std::string reason = "nothing was run";
    double start = 0, stop = 0;  ///< s
    double wall_seconds = 0;
    std::string integrator;  ///< which one stepped through it; of "auto" all that did, with times and reasons
    /// Where wall_seconds went: kind of work and seconds, most first; "stepping" is what the integrator itself took.
    std::vector<std::pair<std::string, double>> shares;
    std::size_t steps = 0, residuals = 0, jacobians = 0, events = 0, rows = 0, error_failures = 0, convergence_failures = 0;
    std::vector<std::string> assumed;          ///< guesses that completed the start
    std::vector<std::string> held;             ///< what nothing settled at the start
    std::vector<std::string> agreed;           ///< inits more than needed that agree
    std::vector<std::string> left_open;        ///< inits that a steady start still needed
    std::vector<std::string> found;            ///< values of the params that the start had to find
    std::size_t state_changes = 0;             ///< how often the choice of states was changed
    std::size_t systems = 0;                   ///< systems of equations gone through, where they change in kind; 1: they did not
    EventRecord event_record;                  ///< what happened: conditions that turned, blocks that ran; `events` in all
    Cost cost;                                 ///< what the steps were limited by; empty with fixed steps
    double event_seconds = 0;                  ///< of wall_seconds, spent on locating and settling events
    std::size_t kept_histories = 0;            ///< events behind which integration went on without beginning anew
    std::vector<std::string> warnings;         ///< what `warn` in the model said
    std::string recorded;                      ///< the file that holds the rows; empty: none
    std::vector<std::string> recording_notes;  ///< what a user should know of it: another name than asked for, what stands beside it
    std::vector<MeasureResult> measures;       ///< of the scenario, in the order of its text
    std::vector<DemandResult> demands;
    bool demands_hold() const;  ///< all of them; true if there are none
    Verification verification;  ///< of a run that was to be verified
    /// "done: 60 s in 2.1 s, 1,200 steps ...".
    std::string one_line() const;
    /// As `netloop run` prints it.
    std::string text() const;
    /// All of it as one JSON object; docs/recordings.md says what each member is. `system` and `scenario`: names to tell.
    std::string json(const std::string& system, const std::string& scenario) const;
};

/// One run: values from outside, state, recording. Not for several threads at once; make one per thread, all of one CompiledSystem.
///
///     // whole runs
///     run.set("pump.speed", q(1450, "1/min")); Recording r = run.simulate();
///     // step by step
///     run.begin(options);
///     while (...) { run.set(command, 0.3); run.step_to(t); run.values(wanted, numbers); }
///     run.end();
///
/// Many in a row: reset() keeps what was set; search_from() begins the search for the next start where the last one ended.
///
/// Handles (CompiledSystem::param, input, output) are looked up once and cost nothing then; calls by path look through all paths each time.
class Run {
public:
    /// Nothing is computed yet. The system may go away before the run does.
    explicit Run(const CompiledSystem& system);
    ~Run();
    Run(Run&&) noexcept;
    Run& operator=(Run&&) noexcept;

    // --- values from outside
    /// A param by path; needs no compilation. Throws UsageError for an unknown path or a unit that does not fit, RunError ("out-of-range") for a value outside
    /// the param's own range: at once where that is given in numbers, else when the start is settled or by check_params(), as all that follows from it.
    /// Before the start nothing is computed. While a run is under way, params and what follows from them are settled and the equations solved for the
    /// states as they are; a value that is refused leaves the run as it was.
    void set(const std::string& path, const Quantity& value);
    /// The same in SI, without looking for a path. Before the start well below a microsecond.
    void set(ParamId param, double si);
    /// Several at once: all or none; one settling. `si` has as many numbers as `params`, else UsageError.
    void set(std::span<const ParamId> params, std::span<const double> si);
    /// Computes all params from those that were given, without starting. Throws ModelError for one outside its range or without a finite value.
    void check_params();
    /// An input of the system itself: `run.input("command") = 0.3`, or a Quantity. May change while the run goes on. A number without a unit is taken only
    /// where the input is declared in an SI unit (or is 0): UsageError names the unit otherwise.
    class Input {
    public:
        /// The input of this path of a run, which must outlive it; looked up when it is set.
        Input(Run& run, std::string path) : run_(run), path_(std::move(path)) {}
        Input& operator=(double si);
        Input& operator=(const Quantity& value);

    private:
        Run& run_;
        std::string path_;
    };
    /// The input of this path; looked up when it is set.
    Input input(const std::string& path) { return {*this, path}; }
    /// The same in SI by handle; several at once are one settling. An input holds its value until it is set again. While the run goes on, what jumps with it
    /// begins anew and all else keeps its history, as at an event.
    void set(InputId input, double si);
    void set(std::span<const InputId> inputs, std::span<const double> si);

    // --- a whole run
    /// From the start to the stop time. The result is recording(), without a copy: it holds until the run is simulated, begun or reset again, or is gone.
    /// Throws RunError; what was recorded until then is in recording() and in the file.
    const Recording& simulate(const RunOptions& options = {}) &;
    /// Of a run that nobody keeps: Run(system).simulate().
    Recording simulate(const RunOptions& options = {}) &&;

    // --- step by step
    /// Settles the start at 0 s and opens the recording, all as `options` say: method, tolerance, file, what is kept, rows, time limit, verification. Rows
    /// come at the interval of `options` or the scenario; where neither has one and there is no stop time either, at the end of each stretch. The stop time
    /// only settles where rows lie. Throws RunError, UsageError, RecordingError. A run that is under way is dropped.
    void begin(const RunOptions& options = {});
    /// Settles the start at 0 s with the method and the tolerance of `options`, and records nothing: for a run that is only looked at. Throws RunError,
    /// UsageError. A run that is under way is dropped.
    void start(const RunOptions& options);
    /// On to a time in s, not before time(). Without begin() or start() it starts by itself and records nothing. False: it was interrupted, its time was over,
    /// or the model said stop: summary().reason tells which. Throws RunError: the recording is closed then, and the run stands at its last good state.
    bool step_to(double time);
    /// Works out the scenario's measures and demands and closes the recording; the result is recording(), without a copy. Throws UsageError if nothing was
    /// begun, RecordingError.
    const Recording& end();
    /// s; 0 before the start.
    double time() const;

    // --- what it has now
    /// Present value (SI) of any quantity, param or let by path; begins the run if need be. Throws UsageError, and RunError of the start.
    double value(const std::string& path);
    /// The same by handle. All outputs are computed at the first call behind a step or a set; each further one is a look into memory.
    double value(OutputId output);
    void values(std::span<const OutputId> outputs, std::span<double> si);
    /// Before the start: what it follows from what was given.
    double value(ParamId param);
    /// The present point held against the model as written. Throws RunError if the start cannot be settled.
    Verification verify();

    // --- what follows for small changes, at the present point; begins the run if need be, and leaves it as it is
    /// A linear model. Throws UsageError for a path that there is not, or that cannot act; RunError where the equations do not settle all rates. Cost: the
    /// first one some ten evaluations of all equations, each further one a solution for each state, input and output; dense, at most `kMostStatesInTables`
    /// states.
    LinearModel linear(const LinearRequest& request);
    /// How many states there are at the present point: params that the start has found are none.
    std::size_t n_states();
    /// The same as sparse matrices, whatever its size. Cost: some ten evaluations of all equations, and one for each input and output.
    DescriptorModel descriptor_model(const LinearRequest& request);
    /// Its modes. Up to `kMostStatesInTables` states all of them, n^3; larger ones by the ends or the region that are asked for (Krylov subspaces, with a
    /// sparse elimination inside). Throws RunError.
    Modes modes(const ModesRequest& request = {});

    // --- points
    /// The run as it stands, whole; begins it if need be. Throws UsageError where a unit of FMI holds a part of it.
    RunPoint point();
    /// Stands at a point of a run of the same system, this one or another, in place of where it was; what was set is as it was there. Nothing is recorded and
    /// no measure goes on; an integrator begins anew, so that numbers differ within the tolerance. `options`: method and tolerance. Throws UsageError for a
    /// point that does not belong here, RunError where the equations cannot be met there.
    void go_on_from(const RunPoint& point, const RunOptions& options = {});

    // --- again
    /// Back to before the start. What was set stays; recording() and summary() are emptied.
    void reset();
    /// The next start is searched from where that of `other`, a run of the same system, was found (its start, not its present state), which is a solution or
    /// near one if little has changed; where several solutions are possible it is the one near by. Throws UsageError for another system or a run that was
    /// not started.
    void search_from(const Run& other);

    /// What happened, up to now or to the end.
    const RunSummary& summary() const;
    /// What is recorded in memory so far.
    const Recording& recording() const;

private:
    struct Data;
    friend struct PointOfRun;
    friend struct FixedStepStart;
    std::unique_ptr<Data> data_;
};

/// Holds a linear model against the model itself: two runs from the point, one of them with a small step of an input, at tolerance 1e-9. `to_point` brings a
/// new run there: run.begin(options); run.step_to(t). Throws what runs throw.
LinearCheck check_linear(const CompiledSystem& system, const std::function<void(Run&, const RunOptions&)>& to_point, const LinearRequest& request,
                         const LinearCheckOptions& options = {});

}  // namespace netloop

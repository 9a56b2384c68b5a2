// SPDX-License-Identifier: Apache-2.0
// What a run holds: values given from outside, the simulation, and the recording under way.
#pragma once

#include <chrono>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "api/crawl.hpp"
#include "api/internal.hpp"
#include "integrate/simulate.hpp"
#include "record/column_blocks.hpp"
#include "record/writer.hpp"
#include "solve/failure.hpp"
#include "verify/verify.hpp"

namespace netloop {

struct Sensitivities;

/// What is recorded of a run from its start on, and looked at on the way.
struct Recorder {
    RunOptions options;
    std::optional<double> every;          ///< s between rows; none: as `times` says, and behind them at the end of each stretch
    std::vector<double> times;            ///< of rows, ascending; all of them where a stop time is known
    std::size_t next = 0;                 ///< the first of `times` that is still to come
    std::vector<std::size_t> columns;     ///< number of the output in each column, the time's left out
    std::shared_ptr<const Program> kept;  ///< works out those alone; null: all outputs are worked out
    std::unique_ptr<RecordingWriter> writer;
    std::unique_ptr<Verifier> verifier;
    std::optional<ColumnBlocks> blocks;
    std::vector<double> row, outputs;   ///< room
    std::vector<double> point_times{};  ///< at which points are kept
    std::size_t next_point = 0;
    std::size_t n_between = 0;  ///< points that were verified or kept and are no rows
    std::chrono::steady_clock::time_point begun = std::chrono::steady_clock::now();

    /// The times of rows up to `target`, which are then no longer to come.
    std::vector<double> rows_up_to(double target);
};

struct Run::Data {
    std::shared_ptr<const CompiledSystemData> system;
    std::unique_ptr<Simulation> simulation;
    std::unique_ptr<Evaluation> before;        ///< before a start: computes params alone
    bool settled = false;                      ///< what `before` has is what was given last
    std::vector<std::optional<double>> given;  ///< per param, SI
    std::optional<State> search_from;
    RunSummary summary;
    Recording recording;
    std::optional<Recorder> recorder;
    double tolerance = 1e-6;
    bool own_steps = true;                         ///< variable ones, of our own methods: their polynomials are there to be looked at
    std::shared_ptr<Sensitivities> sensitivities;  ///< of the system that a linear model was made of last
    bool looked = false;                           ///< the evaluation stands at the present point, outputs computed

    explicit Data(std::shared_ptr<const CompiledSystemData> of) : system(std::move(of)), given(flat().parameters.size()) {}

    const CompiledModel& model() const { return *system->model; }
    const FlatModel& flat() const { return model().form.flat(); }
    bool started() const { return simulation != nullptr && simulation->started(); }

    // --- values from outside
    /// Several at once: one settling. Whatever is refused leaves the run as it was.
    void give(const std::vector<std::pair<ParameterId, double>>& values);
    double checked_si(ParameterId p, const Quantity& value) const;
    double param(ParameterId p);
    /// Throws RunError for the first param that has no sound value.
    void settle(Evaluation& evaluation);
    RunError problem_error(const Evaluation::ParameterProblem& problem) const;
    Evaluation& params_alone();
    void put_given(Evaluation& evaluation) const;
    std::vector<ParameterId> given_parameters() const;

    // --- start and steps
    void make_simulation(const RunOptions& options);
    void look_at_assumptions();
    void begin(const RunOptions& options, bool records);
    /// Up to `target`; false: interrupted, out of time, or the model said stop.
    bool advance(double target);
    /// Works out measures and closes the recording.
    void end();
    /// Closes it as it is; what was verified is the result.
    Verification close(bool complete, const std::string& reason);
    void start();
    /// Outputs of the present point, computed once.
    void look();
    Verification verify();
    template <typename Work>
    void guarded(Work work)
    {
        try {
            work();
        } catch (const NumericFailure& failure) {
            throw with_open_ports(failure);
        }
    }

    // --- what is told
    RunError with_open_ports(const NumericFailure& failure) const;
    RunOrigin origin() const;
    RecordingHead head(const std::vector<std::string>& keep, std::vector<std::size_t>& columns) const;
    /// `until`: the stop time, if there is one.
    void take_output_times(std::optional<double> until, Recorder& to) const;
    std::vector<double> recorded_state(std::vector<std::pair<std::uint32_t, double>>& memories) const;
    [[noreturn]] void fail_output(std::size_t i, const State& s, Evaluation& e) const;
    void check_conditions(const State& s, Evaluation& e);
    void summarize(double stop);
    /// Times at which points are kept, ascending; empty: none.
    std::vector<double> point_times(const RunOptions& options, std::optional<double> until) const;
    RunPoint point_at(const State& s);
    void go_on_from(const RunPoint& point, const RunOptions& options);
    std::unique_ptr<Verifier> make_verifier();
    Verifier::Inits demanded_inits() const
    {
        return !system->begin_from.empty() ? Verifier::Inits::none : flat().begin_steady ? Verifier::Inits::finds : Verifier::Inits::all;
    }
};

}  // namespace netloop

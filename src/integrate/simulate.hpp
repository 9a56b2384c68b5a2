// A run: start, steps, events, rows.
#pragma once

#include <atomic>
#include <functional>
#include <memory>

#include "integrate/integrator.hpp"

namespace netloop {

struct ConditionCount {
    std::size_t condition = 0;
    std::size_t count = 0;
};

struct RunStatistics {
    StepCounts counts;
    std::string story;  ///< which methods were taken and why, if the choice was left to the program
    std::size_t events = 0;
    std::size_t rows = 0;
    std::vector<std::size_t> events_of;  ///< per condition
    std::size_t state_changes = 0;       ///< how often the choice of states was changed
    double wall_seconds = 0;
    TimeShares shares;
};

class Simulation {
public:
    /// A row to record: the evaluation stands at the time of the state, outputs not yet computed.
    using RowSink = std::function<void(const State&, Evaluation&)>;

    Simulation(std::shared_ptr<const CompiledModel> model, const SourceSet& sources, IntegratorSettings settings);

    Evaluation& evaluation() { return evaluation_; }
    const StartReport& start_report() const { return report_; }
    const State& state() const { return state_; }
    bool started() const { return started_; }

    /// Settles the start at `time`; `known` as for solve_start. Throws NumericFailure.
    void start(double time, const std::vector<double>& known = {});
    /// Integrates to `target`; `outputs` are ascending times (not before now), each gets a row, and so do both sides of every event.
    /// Returns false if `interrupted` was set on the way. Throws NumericFailure; state() is then the last accepted one.
    bool advance(double target, const std::vector<double>& outputs, const RowSink& sink, const std::atomic<bool>* interrupted = nullptr,
                 const std::function<void(double)>& progress = {});
    /// After parameters or inputs have changed: values made consistent with the states as they are, integration begins anew.
    void reconcile();
    RunStatistics statistics() const;

private:
    void row(State& s, const RowSink& sink);
    void make_row(State& s, const RowSink& sink);
    /// `found`: which root functions crossed and which way; empty if a mode was found wrong.
    void event(const std::vector<int>& found, const RowSink& sink);
    double wanted_mode(std::size_t condition, double value);
    bool modes_disagree();
    Integrator::Stopped step(double limit);
    void renew_states();
    double next_knot(double after) const;
    [[noreturn]] void chattering();

    const SourceSet& sources_;
    Evaluation evaluation_;
    std::unique_ptr<Integrator> integrator_;
    ConsistentSolver consistent_;
    IntegratorSettings settings_;
    State state_;
    StartReport report_;
    bool started_ = false;
    std::vector<std::size_t> events_of_;
    std::vector<double> largest_;  ///< per condition: largest |value| seen, for telling a clear sign
    std::size_t events_ = 0, rows_ = 0;
    std::vector<double> values_;  ///< of conditions
    std::size_t steps_since_event_ = 0, burst_ = 0;
    double wall_seconds_ = 0, wall_ticks_ = 0;  ///< the same time by two clocks
};

}  // namespace netloop

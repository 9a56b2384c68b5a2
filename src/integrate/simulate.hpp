// SPDX-License-Identifier: Apache-2.0
// A run: start, steps, events, rows.
#pragma once

#include <atomic>
#include <functional>
#include <memory>

#include "events/events.hpp"
#include "integrate/integrator.hpp"
#include "integrate/limits.hpp"
#include "integrate/measuring.hpp"
#include "integrate/moments.hpp"
#include "integrate/step_costs.hpp"
#include "solve/signals.hpp"

namespace netloop {

struct RunStatistics {
    StepCounts counts;
    std::string story;  ///< which methods were taken and why, if the choice was left to the program
    std::size_t events = 0;
    std::size_t rows = 0;
    std::vector<std::uint32_t> slid;     ///< conditions along which the run has gone on
    std::vector<EventKind> event_kinds;  ///< those that came at all; `ticks` are seconds here
    std::size_t systems = 0;             ///< systems of equations gone through, where they change in kind
    double event_seconds = 0;            ///< spent on locating and settling events
    std::size_t kept_histories = 0;      ///< events behind which not all began anew
    std::string stopped_by;              ///< what a `stop` in the model said
    std::vector<std::string> warnings;   ///< what the model warned of
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
    /// The start as it was solved.
    const State& begun_with() const { return begun_with_; }
    const IntegratorSettings& settings() const { return settings_; }
    bool started() const { return started_; }
    /// What a `stop` in the model said; empty: it said nothing.
    const std::string& stopped_by() const { return events_.stop(); }

    /// Settles the start at `time`; `known` as for solve_start, `memories` as for Events::before_start. Throws NumericFailure.
    void start(double time, const std::vector<double>& known = {}, const std::vector<std::pair<std::uint32_t, double>>& memories = {});
    /// Integrates to `target`; `outputs` are ascending times (not before now), each gets a row, and so do both sides of every event.
    /// Returns false if `interrupted` was set on the way, or the model said stop. Throws NumericFailure; state() is then the last accepted one.
    bool advance(double target, const std::vector<double>& outputs, const RowSink& sink, const std::atomic<bool>* interrupted = nullptr,
                 const std::function<void(double)>& progress = {});
    /// After parameters or inputs have changed: values made consistent with the states as they are; what jumped begins anew, the rest keeps its history. Throws
    /// NumericFailure: the state is then as it was.
    void reconcile();
    /// The run at a state of the present step, whole. Throws NumericFailure where a foreign unit holds a part of it.
    Moment moment_at(const State& s);
    /// In the place of start(): stands at such a moment, with the params as they are given by then. False: it is none of this system. Throws NumericFailure.
    bool go_on_from(const Moment& moment);
    RunStatistics statistics() const;
    /// The members of z that limit the step most, worst first; for messages.
    std::vector<std::size_t> limiting() const { return integrator_->worst(); }
    /// What bounded the steps so far; empty with fixed steps.
    const StepCosts& costs() const { return costs_; }
    /// What happened so far; reasons of the costs point into it.
    const EventLog& event_log() const { return events_.log(); }
    /// The last step made, which the row at hand lies in: its length, and values within it. For what looks at a row from near by.
    double last_step() const { return integrator_->counts().last_step; }
    void interpolate(double time, State& s) { integrator_->interpolate(time, s); }
    /// Solves what is no state from the states; the evaluation then stands there. Throws NumericFailure.
    void solve_from_states(State& s);
    /// Called with the start as it was solved, before anything happens at it.
    std::function<void(const State&, Evaluation&)> on_start;
    /// Puts the results of all accumulators into their memories, for the measures to be worked out.
    void finish_measures();

private:
    void settle_start(double time, const std::vector<double>& known, const std::vector<std::pair<std::uint32_t, double>>& memories);
    bool go_on(double target, const std::vector<double>& outputs, const RowSink& sink, const std::atomic<bool>* interrupted,
               const std::function<void(double)>& progress);
    template <typename Do>
    void with_units(Do what);
    void row(State& s, const RowSink& sink);
    void make_row(State& s, const RowSink& sink);
    ConsistentSolver& looking();
    void row_within(double to, State& s, const RowSink& sink);
    /// Something happens at state_.time; `found`: which root functions crossed and which way, may be empty.
    void moment(const std::vector<int>& found, const RowSink& sink);
    void take_integrator();
    bool settled_within_limits(double from, bool goes_on);
    void find_jumps(const State& before);
    bool anything_jumped() const;
    void remember_for_delays(double from, double to);
    std::vector<double> delay_sources(State& s);
    void break_delays(const std::vector<double>& before);
    Integrator::Stopped step(double limit);
    void renew_states();
    double next_knot(double after) const;
    void count_step(double ticks);
    void count_cost(double from, StepCosts::Why at_limit, bool limited, bool event);
    void look_for_standstill(double target);
    void tell_units();

    const SourceSet& sources_;
    Evaluation evaluation_;
    std::map<const CompiledModel*, std::unique_ptr<Integrator>> integrators_;  ///< by system
    Integrator* integrator_ = nullptr;
    const CompiledModel* integrated_ = nullptr;  ///< the system that it belongs to
    ConsistentSolver consistent_;
    ConsistentSolver looking_;  ///< for what only looks (rows, measures): nothing of it may change the run
    const CompiledModel* looked_at_ = nullptr;
    IntegratorSettings settings_;
    State state_, begun_with_;
    StartReport report_;
    bool started_ = false;
    Events events_;
    Measuring measuring_;
    Signals signals_;
    std::size_t rows_ = 0, kept_histories_ = 0;
    Limits limits_;
    bool looks_at_solved_ = false;  ///< conditions read what the equations settle
    bool fragile_ = false;          ///< equations hold roots, logarithms or powers: they may have no value between two good states
    double begun_at_ = 0;           ///< time at which the last step began
    State row_, looked_, end_;      ///< room of rows
    std::vector<double> units_residual_;
    bool settled_ = false;  ///< the state at hand is consistent already
    std::vector<char> jumped_;
    MomentNames moment_names_;
    StepCosts costs_;
    std::size_t failures_ = 0;  ///< of convergence, at the last look
    std::size_t steps_looked_at_ = 0;
    double looked_from_ = 0;
    std::size_t steps_since_event_ = 0, burst_ = 0;
    double step_before_event_ = 0;  ///< > 0: steps are still shorter than they were
    double event_ticks_ = 0, burst_begin_ = 0;
    double wall_seconds_ = 0, wall_ticks_ = 0;  ///< the same time by two clocks
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "integrate/simulate.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <exception>

#include "foreign/unit_session.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {

Simulation::Simulation(std::shared_ptr<const CompiledModel> model, const SourceSet& sources, IntegratorSettings settings)
    : sources_(sources),
      evaluation_(std::move(model), settings.evaluator),
      consistent_(evaluation_),
      looking_(evaluation_),
      settings_(settings),
      events_(evaluation_, consistent_, sources_),
      measuring_(evaluation_, settings.tolerance),
      limits_(evaluation_, sources_, settings.tolerance),
      jumped_(evaluation_.model().n(), 0)
{
    events_.may_slide(!has_fixed_step(settings_.method));
    evaluation_.solve_rest = [this](double t, std::vector<double>& z, std::vector<double>& rates) {
        State s{t, std::move(z), std::move(rates)};
        bool solved = true;
        try {
            consistent_.solve(s, sources_);
        } catch (const NumericFailure&) {
            solved = false;
        }
        z = std::move(s.z);
        rates = std::move(s.rates);
        return solved;
    };
}

void Simulation::start(double time, const std::vector<double>& known, const std::vector<std::pair<std::uint32_t, double>>& memories)
{
    if (evaluation_.units() == nullptr) return settle_start(time, known, memories);
    evaluation_.units()->begin_anew();
    with_units([&] { settle_start(time, known, memories); });
}

// What a foreign unit failed at is the cause of whatever fails behind it.
template <typename Do>
void Simulation::with_units(Do what)
{
    UnitSessionScope units(evaluation_.units());
    try {
        what();
    } catch (const NumericFailure& failure) {
        std::string said = evaluation_.units()->failure();
        if (said.empty() || std::string(failure.what()).find(said.substr(said.find("unit"))) != std::string::npos) throw;
        throw NumericFailure(failure.id(), fmt::format("{}\n{}", said, failure.what()));
    }
}

void Simulation::settle_start(double time, const std::vector<double>& known, const std::vector<std::pair<std::uint32_t, double>>& memories)
{
    constexpr int kMostRounds = 20;
    events_.before_start(time, memories);
    std::exception_ptr first_failure;  // of the system that the model begins with: what its user knows
    for (int round = 0;; ++round) {
        report_ = {};
        try {
            state_ = solve_start(evaluation_, sources_, time, report_, known);
        } catch (const NumericFailure&) {
            // another system of the family may have a start where this one has none
            if (first_failure == nullptr) first_failure = std::current_exception();
            if (!events_.try_variant()) std::rethrow_exception(first_failure);
            continue;
        }
        bool again = events_.settle_memories(state_);
        again = events_.take_variant(state_) || again;
        if (!again) break;
        if (round > kMostRounds)
            throw NumericFailure("start-failed", "the starts of memories and of the equations depend on each other without settling",
                                 "let the memories begin with values that depend on params alone");
    }
    begun_with_ = state_;
    evaluation_.selection().set_rates(state_.z, state_.rates);
    if (on_start) on_start(state_, evaluation_);
    events_.begin(state_);
    renew_states();
    evaluation_.selection().set_rates(state_.z, state_.rates);
    take_integrator();
    measuring_.begin(state_);
    integrator_->restart(state_);
    started_ = true;
}

// An integrator belongs to a system; those of systems that were left are kept for when they come again.
void Simulation::take_integrator()
{
    const CompiledModel* model = &evaluation_.model();
    auto kept = integrators_.find(model);
    if (kept == integrators_.end()) kept = integrators_.emplace(model, make_integrator(evaluation_, sources_, settings_)).first;
    integrator_ = kept->second.get();
    integrated_ = model;
    jumped_.assign(model->n(), 0);
    const auto& conditions = model->form.conditions;
    looks_at_solved_ = std::any_of(conditions.begin(), conditions.end(), [](const Condition& c) { return c.reads_solved && !c.is_clocked(); });
    fragile_ = model->fragile;
    limits_.renew();
}

void Simulation::reconcile()
{
    const State before = state_;
    UnitSessionScope units(evaluation_.units());
    try {
        consistent_.solve(state_, sources_);
        events_.parameters_changed();
        events_.happen(state_, {});
    } catch (const NumericFailure&) {
        state_ = before;
        throw;
    }
    measuring_.jump(state_);
    bool other_system = integrated_ != &evaluation_.model();
    if (other_system) take_integrator();
    if (other_system || integrator_->counts().last_step <= 0) {
        integrator_->restart(state_);
        return;
    }
    find_jumps(before);
    kept_histories_ += integrator_->resume(state_, jumped_);  // even if nothing did: conditions may have moved
}

void Simulation::renew_states()
{
    if (evaluation_.model().form.choices.empty()) return;
    evaluation_.at(state_.time, state_.z.data(), state_.rates.data());
    if (evaluation_.choose_states() && integrator_ != nullptr) integrator_->states_changed();
}

void Simulation::row(State& s, const RowSink& sink)
{
    TimeShares& shares = evaluation_.shares;
    TimeShares before = shares;
    double taken = 0;
    {
        Stopwatch watch(taken);
        make_row(s, sink);
    }
    shares = before;  // what a row needs of equations and Jacobians is told as part of the rows
    shares.rows += taken;
}

// Between two good ends of a step its polynomial may dip to where an equation has no value (below a root's zero): the straight line between them does not.
void Simulation::row_within(double to, State& s, const RowSink& sink)
{
    State& first = looked_;
    first = s;
    try {
        looking().solve(first, sources_);
    } catch (const NumericFailure&) {
        // from what the step's end has for what is no state; that failing, on the straight line
        State& end = end_;
        end = s;
        integrator_->interpolate(to, end);
        first = s;
        for (std::size_t i = 0; i < first.z.size(); ++i)
            if (!evaluation_.is_state(i)) first.z[i] = end.z[i];
        first.rates = end.rates;
        bool solved = true;
        try {
            looking().solve(first, sources_);
        } catch (const NumericFailure&) {
            solved = false;
        }
        if (solved || !fragile_) {
            row(first, sink);
            return;
        }
        double share = to > begun_at_ ? (s.time - begun_at_) / (to - begun_at_) : 1, at = s.time;
        State& begun = first;
        integrator_->interpolate(begun_at_, begun);
        for (std::size_t i = 0; i < s.z.size(); ++i) {
            s.z[i] = (1 - share) * begun.z[i] + share * end.z[i];
            s.rates[i] = (1 - share) * begun.rates[i] + share * end.rates[i];
        }
        s.time = at;
        row(s, sink);
        return;
    }
    settled_ = true;
    row(first, sink);
    settled_ = false;
}

ConsistentSolver& Simulation::looking()
{
    if (looked_at_ != &evaluation_.model()) {
        looking_.renew();
        looked_at_ = &evaluation_.model();
    }
    return looking_;
}

void Simulation::make_row(State& s, const RowSink& sink)
{
    // the states are as the integrator has them; everything else is solved from them, so constraints hold in the row too
    // a row at an event is of the run's own state, which it settles; any other row only looks
    if (!settled_) (&s == &state_ ? consistent_ : looking()).solve(s, sources_);
    evaluation_.at(s.time, s.z.data(), s.rates.data());
    limits_.at_row(s);
    ++rows_;
    measuring_.row(s);
    if (sink) sink(s, evaluation_);
}

double Simulation::next_knot(double after) const
{
    const auto& knots = evaluation_.model().form.time_knots;
    auto it = std::upper_bound(knots.begin(), knots.end(), after + 1e-12 * std::max(1.0, std::abs(after)));
    return it == knots.end() ? HUGE_VAL : *it;
}

Integrator::Stopped Simulation::step(double limit)
{
    try {
        return integrator_->step(limit);
    } catch (const NumericFailure&) {
        integrator_->interpolate(state_.time, state_);
        throw;
    }
}

bool Simulation::advance(double target, const std::vector<double>& outputs, const RowSink& sink, const std::atomic<bool>* interrupted,
                         const std::function<void(double)>& progress)
{
    if (evaluation_.units() == nullptr) return go_on(target, outputs, sink, interrupted, progress);
    bool goes_on = true;
    with_units([&] { goes_on = go_on(target, outputs, sink, interrupted, progress); });
    return goes_on;
}

bool Simulation::go_on(double target, const std::vector<double>& outputs, const RowSink& sink, const std::atomic<bool>* interrupted,
                       const std::function<void(double)>& progress)
{
    struct Clock {
        double &seconds, &ticks_gone;
        std::chrono::steady_clock::time_point begin = std::chrono::steady_clock::now();
        std::uint64_t first = ticks();
        ~Clock()
        {
            seconds += std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
            ticks_gone += static_cast<double>(ticks() - first);
        }
    } clock{wall_seconds_, wall_ticks_};
    std::size_t next_output = 0;
    // rows up to a time; those at the time itself too, unless an event there gives its own
    auto rows_up_to = [&](double t, bool event) {
        double slack = event ? -same_moment(t) : 0;
        if (next_output < outputs.size() && outputs[next_output] <= t + slack) {
            State& s = row_;
            s = state_;
            while (next_output < outputs.size() && outputs[next_output] <= t + slack) {
                double at = outputs[next_output++];
                integrator_->interpolate(at, s);
                row_within(t, s, sink);
            }
        }
        while (event && next_output < outputs.size() && outputs[next_output] <= t + same_moment(t)) ++next_output;
    };
    // rows at the very beginning
    while (next_output < outputs.size() && outputs[next_output] <= state_.time) {
        row(state_, sink);
        ++next_output;
    }
    const SolverForm& first = evaluation_.first_model()->form;
    const bool costs_wanted = !has_fixed_step(settings_.method);
    const bool looks_at_state = !first.choices.empty() || !first.conditions.empty();
    Delays* delays = evaluation_.delays();
    events_.look_until(target, state_.time);
    signals_.renew(evaluation_);
    while (state_.time < target - same_moment(target)) {
        if (!events_.stop().empty()) return false;
        if (interrupted != nullptr && interrupted->load(std::memory_order_relaxed)) {
            integrator_->interpolate(state_.time, state_);
            return false;
        }
        double from = state_.time, knot = next_knot(from);
        Delays::Break delayed{HUGE_VAL, Delays::kSmoothest + 1};
        if (delays != nullptr) delayed = delays->next_break(from);
        knot = std::min(knot, delayed.time);
        double limit = std::min({target, knot, events_.next_time()});
        if (delays != nullptr) limit = std::min(limit, from + delays->shortest());
        if (!has_fixed_step(settings_.method)) limit = std::min(limit, signals_.limit(from, target));
        begun_at_ = from;
        const bool looks = costs_wanted && costs_.looks_at_equations();
        if (costs_wanted) integrator_->look_closely(looks);
        std::uint64_t begun = ticks();
        Integrator::Stopped stopped = step(limit);
        double taken = static_cast<double>(ticks() - begun);
        double t = integrator_->time();
        if (stopped == Integrator::Stopped::target) t = limit;
        if (delays != nullptr) remember_for_delays(from, t);
        if (!measuring_.none())
            measuring_.step(
                from, t, [&](double at, State& s) { integrator_->interpolate(at, s); }, [&](State& s) { looking().solve(s, sources_); });
        if (looks)
            if (Integrator::Stubborn s = integrator_->stubborn(); s.corrections > 1)
                costs_.corrections(s.other_length ? nullptr : integrated_, s.other_length ? 0 : static_cast<std::uint32_t>(s.residual), s.corrections);
        bool found = stopped == Integrator::Stopped::root;
        bool at_limit = stopped == Integrator::Stopped::target;
        bool clocked = at_limit && events_.due(limit);
        bool broken = at_limit && delayed.time <= limit;
        bool jump = broken && delayed.order == 0;
        // a slope that breaks makes the past useless; what is smoother than that is only not to be stepped over
        constexpr int kSmoothEnough = 2;
        bool corner = at_limit && !clocked && !jump && knot <= limit && (!broken || delayed.order <= kSmoothEnough || next_knot(from) <= limit);
        if (broken) delays->break_sources(t, delayed.order + 1);
        // where nothing looks at the state, it need not be taken out of the integrator's history at every step
        bool gives_rows = next_output < outputs.size() && outputs[next_output] <= t;
        if (looks_at_state || gives_rows || limits_.any() || stopped != Integrator::Stopped::stepped) integrator_->interpolate(t, state_);
        state_.time = t;
        if (limits_.any() && !limits_.hold(state_) && !settled_within_limits(from, stopped != Integrator::Stopped::root)) {
            // when: the rows up to there are recorded
            constexpr int kHalvings = 40;
            double within = from, outside = t;
            for (int k = 0; k < kHalvings; ++k) {
                State between = state_;
                between.time = 0.5 * (within + outside);
                integrator_->interpolate(between.time, between);
                (limits_.hold(between) ? within : outside) = between.time;
            }
            rows_up_to(within, false);
            integrator_->interpolate(outside, state_);
            state_.time = outside;
            limits_.leave(state_);
        }
        // a condition that stood at its zero when integration began anew may be on the side that its mode denies: no crossing is seen,
        // so the event is taken here, one step late
        auto disagree = [&] {
            if (!events_.modes().disagree(state_)) return false;
            // what is no state was solved to the tolerance alone: told apart closely where it seems to matter
            return !looks_at_solved_ || !evaluation_.solve_rest(t, state_.z, state_.rates) || events_.modes().disagree(state_);
        };
        bool late = !found && !clocked && looks_at_state && disagree();
        bool event = found || clocked || late || jump;
        rows_up_to(t, event);
        tell_units();
        ++steps_since_event_;
        bool behind_event = step_before_event_ > 0;
        count_step(taken);
        renew_states();
        if (corner) {  // of a table of time: nothing happens, but the past tells nothing of what follows
            consistent_.solve(state_, sources_);
            integrator_->restart(state_);
        }
        if (event) moment(found ? integrator_->crossings() : std::vector<int>{}, sink);
        if (costs_wanted) {
            using Why = StepCosts::Why;
            Why why = clocked ? Why::clock : broken ? Why::delay : corner ? Why::table : limit >= target ? Why::end : Why::signal;
            count_cost(from, event || behind_event ? (clocked ? Why::clock : Why::event) : why, at_limit || event, event || behind_event);
        }
        events_.look_for_pile_up(state_);
        look_for_standstill(target);
        if (progress) progress(state_.time);
    }
    rows_up_to(target, false);
    state_.time = std::max(state_.time, target);  // an event may have come that little before it
    consistent_.solve(state_, sources_);
    return events_.stop().empty();
}

// Foreign units that want to know which points the run has come to for good are told where it stands.
void Simulation::tell_units()
{
    if (evaluation_.units() == nullptr || !evaluation_.units()->wants_steps()) return;
    integrator_->interpolate(state_.time, state_);
    evaluation_.at(state_.time, state_.z.data(), state_.rates.data());
    units_residual_.resize(state_.z.size());
    evaluation_.residual(units_residual_.data());
    evaluation_.units()->step_ended();
}

// Very many steps that bring the run on by next to nothing will not bring it to its end.
void Simulation::look_for_standstill(double target)
{
    constexpr std::size_t kMany = 100000;
    constexpr double kNothing = 1e-9;  // of what is left
    if (++steps_looked_at_ < kMany) return;
    if (state_.time - looked_from_ < kNothing * (target - looked_from_)) {
        std::string text =
            fmt::format("at {:.9g} s the run does not get on: {} steps have brought it {:.3g} s further", state_.time, kMany, state_.time - looked_from_);
        std::vector<std::size_t> worst = integrator_->worst();
        integrator_->interpolate(state_.time, state_);
        for (std::size_t k = 0; k < worst.size() && k < 3; ++k)
            text += (k == 0 ? "\n      hardest to follow: " : ", ") + describe_z(evaluation_.model(), worst[k], state_.z[worst[k]]);
        throw NumericFailure("run-failed", text, "look at the equations of what is named: a limit that has no other side, a loop that holds itself");
    }
    steps_looked_at_ = 0;
    looked_from_ = state_.time;
}

// Steps that are shorter than before the last event are part of what it costs.
void Simulation::count_step(double taken)
{
    if (step_before_event_ <= 0) return;
    if (integrator_->counts().last_step >= 0.5 * step_before_event_) {
        step_before_event_ = 0;
        return;
    }
    events_.log().charge(1, taken);
}

// `limited`: it was bounded by what lies at its end, or by the event that it follows; else by its error.
void Simulation::count_cost(double from, StepCosts::Why at_limit, bool limited, bool event)
{
    using Why = StepCosts::Why;
    double to = integrated_ == &evaluation_.model() ? std::max(integrator_->time(), from) : state_.time;
    StepCosts::Reason reason;
    if (event && events_.log().last() != EventLog::kNone) {
        reason = {at_limit, nullptr, static_cast<std::uint32_t>(events_.log().last())};
    } else if (limited && !event) {
        reason = {at_limit, nullptr, 0};
    } else {
        if (!costs_.looks()) return costs_.step(from, to, nullptr);
        std::size_t failures = integrator_->counts().convergence_failures, state = integrator_->limiting();
        reason = {failures > failures_ ? Why::convergence : Why::accuracy, integrated_, static_cast<std::uint32_t>(state)};
        if (state == Integrator::kNone) reason.model = nullptr;
        failures_ = failures;
    }
    costs_.step(from, to, &reason);
}

// What has no history behind an event: members of z whose value or rate jumped by more than the error that a step may have.
// A step settles what is no state with the matrix at hand; where a slope is all but flat behind a corner, that may be far from what the equations say. Before a
// range is called left they are solved, and the integrator goes on from there.
bool Simulation::settled_within_limits(double from, bool goes_on)
{
    const State before = state_;
    auto solved = [&] { return evaluation_.solve_rest(state_.time, state_.z, state_.rates) && limits_.hold(state_); };
    if (!solved()) {
        // from where the step began, if what it ended with is no good guess
        State begin = before;
        integrator_->interpolate(from, begin);
        state_ = before;
        for (std::size_t i = 0; i < begin.z.size(); ++i)
            if (!evaluation_.is_state(i)) state_.z[i] = begin.z[i];
        if (!solved()) {
            state_ = before;
            return false;
        }
    }
    if (!goes_on) return true;
    find_jumps(before);
    if (anything_jumped()) integrator_->resume(state_, jumped_);
    return true;
}

void Simulation::find_jumps(const State& before)
{
    const auto& z = evaluation_.model().form.z;
    double h = integrator_->counts().last_step, share = 0.01 * settings_.tolerance;
    for (std::size_t i = 0; i < z.size(); ++i) {
        double scale = share * std::max(z[i].usual, std::abs(before.z[i]));
        bool state = evaluation_.is_state(i);
        double by = std::abs(state_.z[i] - before.z[i]);
        jumped_[i] = state ? by > 0 || std::abs(state_.rates[i] - before.rates[i]) * h > scale : by > scale;
    }
}

bool Simulation::anything_jumped() const
{
    return std::any_of(jumped_.begin(), jumped_.end(), [](char j) { return j != 0; });
}

void Simulation::moment(const std::vector<int>& found, const RowSink& sink)
{
    std::uint64_t begun = ticks();
    double rows = 0;
    auto recorded = [&] {
        std::uint64_t from = ticks();
        row(state_, sink);
        rows += static_cast<double>(ticks() - from);
    };
    recorded();  // before
    State before = state_;
    double last_step = step_before_event_ > 0 ? step_before_event_ : integrator_->counts().last_step;
    // from here on delayed values are those behind their jumps; the steps that follow come up to the next ones from before
    Delays* delays = evaluation_.delays();
    std::vector<double> sources;
    if (delays != nullptr) sources = delay_sources(state_);
    if (delays != nullptr) delays->look_behind_jumps(true);
    events_.happen(state_, found);
    if (delays != nullptr && (events_.touched() || events_.log().any())) break_delays(sources);
    settled_ = events_.settled();
    signals_.renew(evaluation_);
    measuring_.jump(state_);
    recorded();  // after
    settled_ = false;
    bool other_system = integrated_ != &evaluation_.model();
    if (other_system)
        take_integrator();
    else
        find_jumps(before);
    // events between which nothing but a step or two is made, many in a row and close together, are no course of events
    constexpr std::size_t kMostInARow = 500;
    bool crowded = steps_since_event_ <= 2 && !found.empty();
    burst_ = crowded ? burst_ + 1 : 0;
    if (burst_ == 0 || burst_ % kMostInARow == 0) {
        constexpr double kClose = 1e-5;  // of the time that has passed
        if (burst_ > 0 && state_.time - burst_begin_ < kClose * std::max(1e-3, std::abs(state_.time)))
            events_.chattering(state_.time, "conditions switch back and forth without end");
        burst_begin_ = state_.time;
    }
    bool nothing = !other_system && !events_.touched() && !anything_jumped() && events_.next_time() > integrator_->end_of_step();
    if (other_system) {
        integrator_->restart(state_);
        steps_since_event_ = 0;
        step_before_event_ = last_step;
    } else if (nothing && integrator_->carry_on()) {
        ++kept_histories_;
    } else {
        kept_histories_ += integrator_->resume(state_, jumped_);
        steps_since_event_ = 0;
        step_before_event_ = last_step;
    }
    if (delays != nullptr) delays->look_behind_jumps(false);
    double taken = static_cast<double>(ticks() - begun) - rows;
    event_ticks_ += taken;
    events_.log().charge(0, taken);
}

std::vector<double> Simulation::delay_sources(State& s)
{
    const auto& delays = evaluation_.model().events.delay_of;
    bool solved = std::any_of(delays.begin(), delays.end(), [](const auto& d) { return d.reads_solved; });
    if (solved) evaluation_.solve_rest(s.time, s.z, s.rates);
    evaluation_.at(s.time, s.z.data(), s.rates.data());
    evaluation_.work_out(evaluation_.model().events.delays);
    std::vector<double> values;
    for (const auto& d : delays) values.push_back(evaluation_.value_at(d.source));
    return values;
}

// Delayed values look back at what their sources were between the steps: the integrator's interpolant, told at as many points as it has coefficients.
void Simulation::remember_for_delays(double from, double to)
{
    if (!(to > from)) return;
    std::size_t n = evaluation_.delays()->size();
    std::vector<double> shares = Delays::points(std::clamp(integrator_->counts().last_order + 1, 4, 13));
    std::vector<std::vector<double>> values(n);
    State s = state_;
    for (double share : shares) {
        integrator_->interpolate(share == 1 ? to : from + share * (to - from), s);
        std::vector<double> at = delay_sources(s);
        for (std::size_t k = 0; k < n; ++k) values[k].push_back(at[k]);
    }
    for (std::size_t k = 0; k < n; ++k) evaluation_.delays()->add(k, from, to, std::move(values[k]));
}

// At an event sources jump, or their slopes do.
void Simulation::break_delays(const std::vector<double>& before)
{
    constexpr double kSame = 1e-12;
    std::vector<double> after = delay_sources(state_);
    for (std::size_t k = 0; k < after.size(); ++k) {
        bool jumps = k >= before.size() || std::abs(after[k] - before[k]) > kSame * std::max(std::abs(after[k]), std::abs(before[k]));
        evaluation_.delays()->break_source(k, state_.time, jumps ? 0 : 1);
    }
}

void Simulation::solve_from_states(State& s)
{
    looking().solve(s, sources_);
    evaluation_.at(s.time, s.z.data(), s.rates.data());
}

void Simulation::finish_measures()
{
    measuring_.finish(state_, [&](State& s) {
        try {
            looking().solve(s, sources_);
        } catch (const NumericFailure&) {
            s = state_;  // a run that failed: its last state counts as it is
        }
    });
}

RunStatistics Simulation::statistics() const
{
    RunStatistics s;
    if (integrator_ != nullptr) s.story = integrator_->story();
    for (const auto& [model, integrator] : integrators_) {
        StepCounts c = integrator->counts();
        s.counts.steps += c.steps, s.counts.residuals += c.residuals, s.counts.jacobians += c.jacobians;
        s.counts.error_failures += c.error_failures, s.counts.convergence_failures += c.convergence_failures;
    }
    s.systems = integrators_.size();
    s.slid = events_.slid();
    s.rows = rows_;
    double seconds = wall_ticks_ > 0 ? wall_seconds_ / wall_ticks_ : 0;
    for (const EventKind& kind : events_.log().kinds()) {
        if (kind.times.empty() || !kind.told) continue;
        s.events += kind.times.size();
        s.event_kinds.push_back(kind);
        s.event_kinds.back().ticks *= seconds;
    }
    s.event_seconds = event_ticks_ * seconds;
    s.kept_histories = kept_histories_;
    s.stopped_by = events_.stop();
    s.warnings = events_.warnings();
    if (evaluation_.units() != nullptr)
        for (std::string& w : evaluation_.units()->warnings()) s.warnings.push_back(std::move(w));
    s.shares = evaluation_.shares.scaled(wall_ticks_ > 0 ? wall_seconds_ / wall_ticks_ : 0);
    s.state_changes = evaluation_.selection().n_changes();
    s.wall_seconds = wall_seconds_;
    return s;
}

}  // namespace netloop

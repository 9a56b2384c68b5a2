#include "integrate/simulate.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>

#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {

Simulation::Simulation(std::shared_ptr<const CompiledModel> model, const SourceSet& sources, IntegratorSettings settings)
    : sources_(sources), evaluation_(std::move(model), settings.evaluator), consistent_(evaluation_), settings_(settings)
{
    std::size_t n = evaluation_.model().form.conditions.size();
    events_of_.assign(n, 0);
    largest_.assign(n, 0.0);
}

void Simulation::start(double time, const std::vector<double>& known)
{
    report_ = {};
    state_ = solve_start(evaluation_, sources_, time, report_, known);
    evaluation_.selection().set_rates(state_.z, state_.rates);
    integrator_ = make_integrator(evaluation_, sources_, settings_);
    integrator_->restart(state_);
    started_ = true;
}

void Simulation::reconcile()
{
    for (int round = 0; round < 50; ++round) {
        consistent_.solve(state_, sources_);
        if (settle_modes(evaluation_, state_) == 0) break;
    }
    integrator_->restart(state_);
}

void Simulation::renew_states()
{
    if (evaluation_.model().form.choices.empty()) return;
    evaluation_.at(state_.time, state_.z.data(), state_.rates.data());
    if (evaluation_.choose_states()) integrator_->states_changed();
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

void Simulation::make_row(State& s, const RowSink& sink)
{
    // the states are as the integrator has them; everything else is solved from them, so constraints hold in the row too
    consistent_.solve(s, sources_);
    evaluation_.at(s.time, s.z.data(), s.rates.data());
    ++rows_;
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
    auto rows_up_to = [&](double t) {
        if (next_output >= outputs.size() || outputs[next_output] > t) return;
        State s = state_;
        while (next_output < outputs.size() && outputs[next_output] <= t) {
            double at = outputs[next_output++];
            integrator_->interpolate(at, s);
            row(s, sink);
        }
    };
    // rows at the very beginning
    while (next_output < outputs.size() && outputs[next_output] <= state_.time) {
        row(state_, sink);
        ++next_output;
    }
    const SolverForm& form = evaluation_.model().form;
    const bool looks_at_state = !form.choices.empty() || !form.conditions.empty();
    while (state_.time < target) {
        if (interrupted != nullptr && interrupted->load(std::memory_order_relaxed)) {
            integrator_->interpolate(state_.time, state_);
            return false;
        }
        double limit = std::min(target, next_knot(state_.time));
        Integrator::Stopped stopped = step(limit);
        double t = integrator_->time();
        rows_up_to(t);
        // where nothing looks at the state, it need not be taken out of the integrator's history at every step
        if (looks_at_state || stopped != Integrator::Stopped::stepped)
            integrator_->interpolate(t, state_);
        else
            state_.time = t;
        renew_states();
        ++steps_since_event_;
        if (stopped == Integrator::Stopped::root) {
            event(integrator_->crossings(), sink);
        } else if (modes_disagree()) {
            // a condition that stood at its zero when integration began anew may leave it on the side that its mode denies: no
            // crossing is seen, so the event is taken here, one step late
            event({}, sink);
        } else if (stopped == Integrator::Stopped::target && limit < target) {
            state_.time = limit;
            consistent_.solve(state_, sources_);
            integrator_->restart(state_);
        } else if (stopped == Integrator::Stopped::target) {
            state_.time = target;
        }
        if (progress) progress(state_.time);
    }
    consistent_.solve(state_, sources_);
    return true;
}

// The mode that a condition's value asks for; near its zero, where the sign is not clear, the mode that it has.
double Simulation::wanted_mode(std::size_t i, double g)
{
    largest_[i] = std::max(largest_[i], std::abs(g));
    double mode = evaluation_.mode(i), unsure = 1e-9 * largest_[i];
    if (evaluation_.model().form.conditions[i].kind == Condition::Kind::whole) {
        double slack = 1e-9 * std::max(1.0, std::abs(mode));
        return g < mode - slack || g > mode + 1 + slack ? std::floor(g) : mode;
    }
    return mode != 0 && g > unsure ? 0 : mode == 0 && g < -unsure ? 1 : mode;
}

bool Simulation::modes_disagree()
{
    std::size_t n = evaluation_.model().form.conditions.size();
    if (n == 0) return false;
    evaluation_.at(state_.time, state_.z.data(), state_.rates.data());
    evaluation_.conditions(values_);
    bool differ = false;
    for (std::size_t i = 0; i < n; ++i) differ |= wanted_mode(i, values_[i]) != evaluation_.mode(i);
    return differ;
}

void Simulation::event(const std::vector<int>& found, const RowSink& sink)
{
    const auto& conditions = evaluation_.model().form.conditions;
    std::vector<int> crossings = found;
    if (crossings.empty()) crossings.assign(n_root_functions(evaluation_.model()), 0);
    row(state_, sink);  // before
    std::vector<char> fired(conditions.size(), 0);
    std::size_t root = 0;
    for (std::size_t i = 0; i < conditions.size(); ++i) {
        if (conditions[i].kind == Condition::Kind::whole) {
            int below = crossings[root++], above = crossings[root++];
            if (below == 0 && above == 0) continue;
            evaluation_.set_mode(i, evaluation_.mode(i) + (above != 0 ? 1 : -1));
            fired[i] = 1;
        } else if (int c = crossings[root++]; c != 0) {
            evaluation_.set_mode(i, c < 0 ? 1 : 0);
            fired[i] = 1;
        }
        if (fired[i]) ++events_of_[i];
    }
    ++events_;
    // other conditions may follow at the same moment, until nothing changes
    for (int round = 0;; ++round) {
        consistent_.solve(state_, sources_);
        evaluation_.at(state_.time, state_.z.data(), state_.rates.data());
        evaluation_.conditions(values_);
        bool changed = false;
        for (std::size_t i = 0; i < values_.size(); ++i) {
            double wanted = wanted_mode(i, values_[i]);
            if (wanted == evaluation_.mode(i)) continue;
            evaluation_.set_mode(i, wanted);
            ++events_of_[i];
            changed = true;
        }
        if (!changed) break;
        if (round > 50) chattering();
    }
    row(state_, sink);  // after
    // events between which nothing but a step or two is made, many in a row, are no course of events
    constexpr std::size_t kMostInARow = 500;
    burst_ = steps_since_event_ <= 2 ? burst_ + 1 : 0;
    steps_since_event_ = 0;
    if (burst_ > kMostInARow) chattering();
    integrator_->restart(state_);
}

void Simulation::chattering()
{
    const auto& conditions = evaluation_.model().form.conditions;
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < conditions.size(); ++i)
        if (events_of_[i] > 0) order.push_back(i);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return events_of_[a] > events_of_[b]; });
    std::string text = fmt::format("at {:.9g} s: conditions switch back and forth without end", state_.time);
    for (std::size_t k = 0; k < order.size() && k < 3; ++k) {
        const Condition& c = conditions[order[k]];
        std::string place = place_text(sources_, c.origin.span);
        text += fmt::format("\n      {}{} ({} times)", place.empty() ? "" : place + ": ", c.text, events_of_[order[k]]);
    }
    throw NumericFailure("chattering", text, "give the condition a hysteresis, or replace the jump by a smooth transition (smooth_step)");
}

RunStatistics Simulation::statistics() const
{
    RunStatistics s;
    if (integrator_ != nullptr) s.counts = integrator_->counts(), s.story = integrator_->story();
    s.events = events_;
    s.rows = rows_;
    s.events_of = events_of_;
    s.shares = evaluation_.shares.scaled(wall_ticks_ > 0 ? wall_seconds_ / wall_ticks_ : 0);
    s.state_changes = evaluation_.selection().n_changes();
    s.wall_seconds = wall_seconds_;
    return s;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Each function here has its twin in C (c_machine.cpp): the same operations in the same order.
#include "exchange/fixed_machine.hpp"

#include <cmath>

#include "events/modes.hpp"

namespace netloop {
namespace {

constexpr int kMostRounds = 8;         // of blocks that set each other off at one moment
constexpr int kMostStartTurns = 30;    // of Newton's iteration at a start
constexpr int kMostStartRounds = 20;   // of conditions that turn with it
constexpr double kStartClose = 1e-10;  // of an unknown, or of 1e-6 of its usual size

}  // namespace

std::vector<double> begin_memory(const FixedPlan& p)
{
    const MemoryLayout& layout = p.model->layout;
    std::vector<double> memory(p.size, 0.0), scratch;
    for (const auto& [place, value] : p.constants) memory[place] = value;
    auto put = [&](std::uint32_t first, const std::vector<double>& values) { std::copy(values.begin(), values.end(), memory.begin() + first); };
    put(layout.parameters, p.params);
    put(layout.modes, p.modes);
    put(layout.memories, p.memories);
    put(layout.z, p.z);
    put(layout.rates, p.rates);
    memory[layout.time] = p.start_time;
    execute(p.prologue, Evaluator::plain, memory, scratch);
    return memory;
}

FixedMachine::FixedMachine(std::shared_ptr<const FixedPlan> plan, Evaluator evaluator)
    : plan_(std::move(plan)),
      evaluator_(evaluator),
      memory_(begin_memory(*plan_)),
      given_(plan_->given),
      given_value_(plan_->params),
      was_(plan_->blocks.size(), 0)
{
}

void FixedMachine::give(ParameterId p, double si)
{
    given_[p] = 1;
    given_value_[p] = si;
    changed_ = changed_ || si != plan_->params[p];
}

void FixedMachine::settle_params()
{
    double* params = at(plan_->model->layout.parameters);
    for (const ParameterValues& v : plan_->parameters) {
        run(v.program);
        for (std::size_t k = 0; k < v.parameters.size(); ++k) {
            ParameterId p = v.parameters[k];
            params[p] = given_[p] != 0 ? given_value_[p] : memory_[v.program.results[k]];
        }
    }
    run(plan_->prologue);
}

void FixedMachine::set_input(std::size_t k, double si)
{
    ParameterId p = plan_->request.inputs[k];
    given_value_[p] = si;
    if (*at(plan_->model->layout.parameters + p) != si) dirty_ = true;
}

// Inputs hold from the beginning of a step on.
void FixedMachine::take_inputs()
{
    if (!dirty_) return;
    dirty_ = false;
    settle_params();
    if (plan_->correct) solve_rest();
}

double FixedMachine::slack() const
{
    return same_moment(time());
}

void FixedMachine::count_pivots(const FixedPlan::Solve& solve)
{
    for (std::size_t k = 0; k < solve.pivots.size(); ++k)
        if (!(std::fabs(memory_[solve.pivots[k]]) > FixedPlan::kLeastPivot * memory_[solve.sizes[k]])) ++bad_pivots_;
}

// Conditions by the sign of their values; those of time, a rounding later.
bool FixedMachine::turn_modes()
{
    if (plan_->condition.empty()) return false;
    double& time = memory_[plan_->model->layout.time];
    double now = time;
    time = now + slack();
    run(plan_->conditions);
    time = now;
    bool any = false;
    for (const FixedPlan::Condition& c : plan_->condition) {
        double value = memory_[c.value];
        double mode = c.kind == Condition::Kind::whole ? std::floor(value) : (c.kind == Condition::Kind::less ? value < 0 : value <= 0) ? 1.0 : 0.0;
        double& held = *at(plan_->model->layout.modes + c.number);
        if (held == mode) continue;
        held = mode;
        any = true;
        ++events_;
    }
    return any;
}

bool FixedMachine::search_start()
{
    const FixedPlan& p = *plan_;
    if (p.start.result.empty()) return false;
    std::size_t n = p.z.size();
    for (int round = 0; round < kMostStartRounds; ++round) {
        bool settled = false;
        for (int turn = 0; turn < kMostStartTurns && !settled; ++turn) {
            run(p.start.program);
            count_pivots(p.start);
            settled = true;
            for (std::size_t i = 0; i < p.start.result.size(); ++i) {
                double x = memory_[p.start.result[i]];
                bool is_z = i < n;
                std::size_t of = is_z ? i : p.start_rates[i - n];
                double& value = is_z ? *at(p.model->layout.z + static_cast<std::uint32_t>(of)) : *at(p.model->layout.rates + static_cast<std::uint32_t>(of));
                value -= x;
                double size = std::fabs(value);
                double least = 1e-6 * p.model->form.z[of].usual;
                if (!(std::fabs(x) <= kStartClose * (size > least ? size : least))) settled = false;
            }
        }
        if (!settled) return false;
        bool again = turn_modes();
        if (!p.start_of.empty()) {
            run(p.starts);
            for (const auto& [memory, place] : p.start_of) {
                double& held = *at(p.model->layout.memories + memory);
                double value = memory_[place];
                if (std::fabs(value - held) <= 1e-12 * std::fabs(held)) continue;
                held = value;
                again = true;
            }
        }
        if (!again) return true;
    }
    return false;
}

FixedMachine::Status FixedMachine::begin()
{
    const FixedPlan& p = *plan_;
    memory_ = begin_memory(p);
    std::fill(was_.begin(), was_.end(), 0);
    count_ = 0;
    bad_pivots_ = events_ = warnings_ = 0;
    said_.clear();
    status_ = Status::good;
    dirty_ = false;
    settle_params();
    if (changed_ && !search_start()) return status_ = Status::no_start;
    if (!p.delay.empty()) {
        run(p.delays);
        past_.assign(p.delay.size(), {});
        for (std::size_t k = 0; k < p.delay.size(); ++k) {
            past_[k].behind = memory_[p.delay[k].time];
            past_[k].values.assign(p.delay[k].room, memory_[p.delay[k].source]);
            if (!(past_[k].behind <= p.request.step * (static_cast<double>(p.delay[k].room) - 2))) return status_ = Status::delay_too_long;
        }
        n_past_ = 1;
    }
    run(p.periods);
    ticks_.assign(p.every.size(), {});
    for (std::size_t k = 0; k < p.every.size(); ++k) {
        Tick& t = ticks_[k];
        t.period = memory_[p.every[k].period];
        t.first = memory_[p.every[k].first];
        t.count = t.first >= p.start_time ? 0 : std::ceil((p.start_time - t.first) / t.period - 1e-9);
        t.next = t.first + t.count * t.period;
    }
    if (p.correct) solve_rest();
    events_ = 0;
    return status_ = moment(true);
}

// What is delayed, at a time up to one step behind the last value that was remembered.
void FixedMachine::set_time(double t)
{
    const FixedPlan& p = *plan_;
    memory_[p.model->layout.time] = t;
    for (std::size_t k = 0; k < p.delay.size(); ++k) {
        // in steps, counted from the start
        double back = (t - past_[k].behind - p.start_time) / p.request.step;
        auto room = static_cast<double>(p.delay[k].room);
        double oldest = n_past_ - room;
        if (back > n_past_ - 1) back = n_past_ - 1;
        if (back < oldest) back = oldest;
        if (back < 0) back = 0;
        double whole = std::floor(back), share = back - whole;
        double low = past_[k].values[static_cast<std::size_t>(std::fmod(whole, room))];
        double high = whole + 1 < n_past_ ? past_[k].values[static_cast<std::size_t>(std::fmod(whole + 1, room))] : low;
        *at(p.model->layout.memories + p.delay[k].memory) = low + share * (high - low);
    }
}

void FixedMachine::remember()
{
    const FixedPlan& p = *plan_;
    if (p.delay.empty()) return;
    run(p.delays);
    for (std::size_t k = 0; k < p.delay.size(); ++k)
        past_[k].values[static_cast<std::size_t>(std::fmod(n_past_, static_cast<double>(p.delay[k].room)))] = memory_[p.delay[k].source];
    n_past_ += 1;
}

void FixedMachine::solve_rest()
{
    const FixedPlan& p = *plan_;
    double *z = at(p.model->layout.z), *rates = at(p.model->layout.rates);
    for (int turn = 0; turn < p.turns; ++turn) {
        run(p.rest.program);
        count_pivots(p.rest);
        for (std::size_t i = 0; i < p.rest.result.size(); ++i) (p.is_state[i] != 0 ? rates[i] : z[i]) -= memory_[p.rest.result[i]];
    }
}

// The states: where they were, and on by h times the slope.
void FixedMachine::move(double h)
{
    double* z = at(plan_->model->layout.z);
    for (std::size_t i = 0; i < from_.size(); ++i)
        if (plan_->is_state[i] != 0) z[i] = from_[i] + h * slope_[i];
}

FixedMachine::Status FixedMachine::step()
{
    if (status_ != Status::good) return status_;
    take_inputs();
    const FixedPlan& p = *plan_;
    std::size_t n = p.z.size();
    double h = p.request.step, t = time();
    count_ += 1;
    double end = p.start_time + count_ * h;
    double *z = at(p.model->layout.z), *rates = at(p.model->layout.rates);
    switch (p.request.method) {
        case FixedMethod::euler:
            from_.assign(z, z + n);
            slope_.assign(rates, rates + n);
            move(h);
            set_time(end);
            solve_rest();
            break;
        case FixedMethod::rk4:
            from_.assign(z, z + n);
            slope_.assign(rates, rates + n);
            sum_ = slope_;
            for (int stage = 1; stage <= 3; ++stage) {
                double share = stage == 3 ? 1.0 : 0.5, weight = stage == 3 ? 1.0 : 2.0;
                move(share * h);
                set_time(stage == 3 ? end : t + 0.5 * h);
                solve_rest();
                slope_.assign(rates, rates + n);
                for (std::size_t i = 0; i < n; ++i) sum_[i] += weight * slope_[i];
            }
            slope_ = sum_;
            move(h / 6);
            solve_rest();
            break;
        case FixedMethod::rosenbrock: {
            double gamma = 1 - 1 / std::sqrt(2.0);
            from_.assign(z, z + n);
            slope_.assign(rates, rates + n);
            set_time(t + gamma * h);
            run(p.turn.program);
            count_pivots(p.turn);
            for (std::size_t i = 0; i < n; ++i) {
                double k = memory_[p.turn.result[i]];
                z[i] = from_[i] + k;
                rates[i] = slope_[i] + (k / h - slope_[i]) / gamma;
            }
            set_time(end);
            run(p.second.program);
            for (std::size_t i = 0; i < n; ++i) {
                double k = memory_[p.second.result[i]];
                z[i] = from_[i] + ((1 - gamma) * memory_[p.turn.result[i]] + gamma * k);
                rates[i] = k / h;
            }
            break;
        }
        default:
            set_time(end);
            for (std::size_t i = 0; i < n; ++i) rates[i] = 0;
            for (int turn = 0; turn < p.turns; ++turn) {
                run(p.turn.program);
                count_pivots(p.turn);
                for (std::size_t i = 0; i < n; ++i) {
                    double x = memory_[p.turn.result[i]];
                    z[i] -= x;
                    rates[i] -= x / h;
                }
            }
            break;
    }
    for (std::size_t i = 0; i < n; ++i)
        if (!std::isfinite(z[i])) {
            lost_ = i;
            return status_ = Status::not_finite;
        }
    status_ = moment(false);
    if (status_ == Status::good) remember();
    return status_;
}

// True if it set anything.
bool FixedMachine::run_block(std::uint32_t b)
{
    const FixedPlan& p = *plan_;
    const FixedPlan::Block& block = p.blocks[b];
    if (touched_ && block.reads_solved && p.correct) {
        solve_rest();
        touched_ = false;
    }
    run(block.program);
    ++events_;
    for (const FixedPlan::Block::Alert& a : block.alerts) {
        if (a.when != FixedPlan::kNone && memory_[a.when] == 0) continue;
        if (a.action == FlatAlert::Action::warn) {
            ++warnings_;
            continue;
        }
        bool fails = a.action == FlatAlert::Action::fail;
        if (status_ == Status::failed || (status_ == Status::stopped && !fails)) continue;
        status_ = fails ? Status::failed : Status::stopped;
        said_ = a.text;
    }
    bool any = false;
    for (const FixedPlan::Block::Setting& s : block.settings) {
        if (s.when != FixedPlan::kNone && memory_[s.when] == 0) continue;
        if (s.target != FixedPlan::kNone) {
            double missing = memory_[s.value] - memory_[s.target];
            if (missing == 0) continue;
            double *z = at(p.model->layout.z), size = 0;
            auto weight = [z](const FixedPlan::Block::Setting::Part& part) {
                double value = std::fabs(z[part.state]), larger = value > part.usual ? value : part.usual;
                return part.factor * (larger * larger);
            };
            for (const FixedPlan::Block::Setting::Part& part : s.parts) size += part.factor * weight(part);
            for (const FixedPlan::Block::Setting::Part& part : s.parts) z[part.state] += weight(part) / size * missing;
            any = touched_ = true;
            continue;
        }
        double& to = s.memory != FixedPlan::kNone ? *at(p.model->layout.memories + s.memory) : *at(p.model->layout.z + s.state);
        double value = s.memory != FixedPlan::kNone ? memory_[s.value] : s.sign * memory_[s.value];
        if (to == value) continue;
        to = value;
        any = touched_ = true;
    }
    return any;
}

FixedMachine::Status FixedMachine::moment(bool first)
{
    const FixedPlan& p = *plan_;
    double now = time();
    touched_ = false;
    entered_.assign(p.sequences.size(), 0);
    enter_.assign(p.sequences.size(), 0);
    if (!p.previous_of.empty()) {
        run(p.previous);
        for (const auto& [memory, place] : p.previous_of) *at(p.model->layout.memories + memory) = memory_[place];
    }
    if (!first) {
        touched_ = turn_modes();
    } else {
        // what holds at the start is no event
        if (!p.whens.empty()) run(p.guards);
        for (std::uint32_t b : p.whens) was_[b] = memory_[p.blocks[b].guard] != 0 ? 1 : 0;
        for (std::size_t s = 0; s < p.sequences.size(); ++s) entered_[s] = enter_[s] = 1;
        for (std::uint32_t b = 0; b < p.blocks.size(); ++b)
            if (p.blocks[b].kind == FlatBlock::Kind::start) run_block(b);
    }
    for (std::size_t k = 0; k < ticks_.size(); ++k) {
        Tick& t = ticks_[k];
        if (t.next > now + slack()) continue;
        run_block(p.every[k].block);
        // ticks that lie within one step are one
        t.count = std::floor((now + slack() - t.first) / t.period) + 1;
        t.next = t.first + t.count * t.period;
    }
    for (int round = 0;; ++round) {
        bool again = false;
        if (!p.guards.results.empty()) run(p.guards);
        if (!p.sequences.empty()) {
            for (std::size_t s = 0; s < p.sequences.size(); ++s) {
                if (entered_[s] != 0) continue;
                auto stage = static_cast<std::size_t>(*at(p.model->layout.memories + p.sequences[s].stage)) - 1;
                for (std::uint32_t b : p.sequences[s].transitions[stage]) {
                    if (memory_[p.blocks[b].guard] == 0) continue;
                    entered_[s] = enter_[s] = 1;
                    *at(p.model->layout.memories + p.sequences[s].stage) = p.blocks[b].target + 1.0;
                    *at(p.model->layout.memories + p.sequences[s].since) = now;
                    touched_ = again = true;
                    ++events_;
                    break;
                }
            }
            for (std::size_t s = 0; s < p.sequences.size(); ++s) {
                if (enter_[s] == 0) continue;
                enter_[s] = 0;
                for (std::uint32_t b : p.sequences[s].entries)
                    if (*at(p.model->layout.memories + p.sequences[s].stage) == p.blocks[b].stage + 1.0) again = run_block(b) || again;
            }
            if (again && !p.whens.empty()) run(p.guards);
        }
        std::size_t fired = 0;
        for (std::uint32_t b : p.whens) {
            char holds = memory_[p.blocks[b].guard] != 0 ? 1 : 0;
            if (holds != 0 && was_[b] == 0) was_[b] = 2, ++fired;
            if (holds == 0) was_[b] = 0;
        }
        if (fired > 0)
            for (std::uint32_t b : p.whens)
                if (was_[b] == 2) was_[b] = 1, again = run_block(b) || again;
        bool turned = turn_modes();
        touched_ = touched_ || turned;
        if (!again && !turned) break;
        if (round >= kMostRounds) return status_ = Status::unsettled_events;
    }
    if (touched_ && p.correct) solve_rest();
    return status_;
}

void FixedMachine::look()
{
    take_inputs();
    run(plan_->outputs);
}

}  // namespace netloop

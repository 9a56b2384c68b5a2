// SPDX-License-Identifier: Apache-2.0
#include "events/modes.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {

namespace {
constexpr double kUnsure = 1e-9;  ///< of the largest value seen: nearer to zero the sign is not relied on
}

ConditionModes::ConditionModes(Evaluation& evaluation)
    : e_(evaluation), largest_(evaluation.model().form.conditions.size(), 0.0), clocked_(evaluation.model().events.time_conditions.size()), next_turn_(HUGE_VAL)
{
}

bool ConditionModes::watched(std::size_t i) const
{
    return e_.watched()[i] != 0;
}

std::vector<double> ConditionModes::all() const
{
    std::vector<double> modes(size());
    for (std::size_t i = 0; i < modes.size(); ++i) modes[i] = e_.mode(i);
    return modes;
}

void ConditionModes::put_all(const std::vector<double>& modes)
{
    for (std::size_t i = 0; i < modes.size(); ++i) e_.set_mode(i, modes[i]);
}

bool ConditionModes::is_held_against(std::size_t i, const std::vector<double>& before, const State& s)
{
    if (is_clocked(i) || m().form.conditions[i].held || m().form.conditions[i].kind == Condition::Kind::whole || i >= before.size()) return false;
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.conditions(values_);
    return e_.mode(i) != 0 ? before[i] < 0 && values_[i] >= 0 : before[i] > 0 && values_[i] <= 0;
}

bool ConditionModes::chooses_equations(std::size_t i) const
{
    if (p().mode_in_equations[i] != 0) return true;
    const Graph& g = m().form.reduced.system.graph();
    NodeId mode = kNoNode;
    for (NodeId node : m().form.events.switches)
        for (NodeId id : g.reachable({node}))
            if (g[id].op == Op::mode && g[id].a == i) mode = id;
    return mode != kNoNode;
}

std::vector<std::uint32_t> ConditionModes::free_conditions() const
{
    const auto& conditions = m().form.conditions;
    std::vector<std::uint32_t> free;
    for (std::uint32_t i = 0; i < conditions.size(); ++i)
        if (!conditions[i].held && !conditions[i].is_clocked() && conditions[i].kind != Condition::Kind::whole && watched(i) && chooses_equations(i))
            free.push_back(i);
    return free;
}

void ConditionModes::put(std::size_t i, double mode, double time, EventLog* log)
{
    e_.set_mode(i, mode);
    if (p().mode_in_equations[i]) touched_ = true;
    if (log != nullptr && watched(i)) log->condition(i, time, p().told[i] != 0, p().guarded[i]);
}

void ConditionModes::renew_clock(double time)
{
    next_turn_ = HUGE_VAL;
    renew_curved(time);
    clocked_.resize(p().time_conditions.size());  // which conditions run with time alone may differ between systems
    if (clocked_.empty()) return;
    double now = e_.time();
    e_.set_time(0);
    e_.work_out(p().times);
    const auto& conditions = e_.model().form.conditions;
    for (std::size_t k = 0; k < clocked_.size(); ++k) {
        const auto& c = p().time_conditions[k];
        double at_zero = e_.value_at(c.value), slope = e_.value_at(c.slope);
        Clocked& to = clocked_[k];
        if (conditions[c.condition].kind == Condition::Kind::whole) {
            // between whole numbers; at one exactly it is already behind it
            double value = at_zero + slope * time, slack = std::abs(slope) * same_moment(time) + 1e-12 * std::abs(value);
            to.before = slope > 0 ? std::floor(value + slack) : std::ceil(value - slack) - 1;
            to.after = slope > 0 ? to.before + 1 : to.before - 1;
            to.turn = slope == 0 ? HUGE_VAL : ((slope > 0 ? to.after : to.before) - at_zero) / slope;
            if (slope == 0) to.before = to.after = std::floor(value);
        } else {
            bool strict = conditions[c.condition].kind == Condition::Kind::less;
            to.before = slope > 0 ? 1 : 0;
            to.after = 1 - to.before;
            to.turn = slope == 0 ? HUGE_VAL : -at_zero / slope;
            if (slope == 0 || !std::isfinite(to.turn)) to.before = to.after = (strict ? at_zero < 0 : at_zero <= 0) ? 1 : 0, to.turn = HUGE_VAL;
        }
        if (to.turn > time + same_moment(time) && watched(c.condition)) next_turn_ = std::min(next_turn_, to.turn);
    }
    e_.set_time(now);  // only now: a value may be the time itself
}

// Known functions of time: which side they are on right behind the time, and when they leave it next. No step can miss that.
void ConditionModes::renew_curved(double time)
{
    const auto& conditions = e_.model().form.conditions;
    if (curved_of_ != &e_.model()) {
        curved_of_ = &e_.model();
        curved_.clear();
        for (std::uint32_t i = 0; i < conditions.size(); ++i)
            if (conditions[i].of_time) curved_.push_back({i, TimeFunction(e_.model().form.reduced.system.graph(), conditions[i].value)});
    }
    for (Curved& c : curved_) {
        bool changed = c.value.renew([this](const Node& n) {
            return n.op == Op::parameter ? e_.parameter(n.a) : n.op == Op::mode ? e_.mode(n.a) : e_.memory(n.a);
        });
        bool known = !changed && time >= c.looked_from && time + same_moment(time) < c.turn && c.looked_to >= until_;
        if (!known) {
            const Condition& condition = conditions[c.condition];
            double behind = time + same_moment(time), value = c.value.at(behind);
            bool whole = condition.kind == Condition::Kind::whole;
            c.mode = whole ? std::floor(value) : (condition.kind == Condition::Kind::less ? value < 0 : value <= 0) ? 1 : 0;
            c.turn = std::min(c.value.next_crossing(behind, until_, whole ? c.mode : 0), whole ? c.value.next_crossing(behind, until_, c.mode + 1) : HUGE_VAL);
            c.looked_from = time;
            c.looked_to = until_;
        }
        if (c.turn > time + same_moment(time) && watched(c.condition)) next_turn_ = std::min(next_turn_, c.turn);
    }
}

bool ConditionModes::turn_by_clock(double time, EventLog* log)
{
    // a mode may stand in another condition of time (mod): a few rounds settle them
    constexpr int kRounds = 10;
    bool any = false, changed = true;
    for (int round = 0; round < kRounds && changed; ++round) {
        renew_clock(time);
        changed = false;
        for (std::size_t k = 0; k < clocked_.size(); ++k) {
            double mode = clocked_[k].turn <= time + same_moment(time) ? clocked_[k].after : clocked_[k].before;
            std::size_t i = p().time_conditions[k].condition;
            if (e_.mode(i) == mode) continue;
            put(i, mode, time, log);
            changed = any = true;
        }
        for (const Curved& c : curved_) {
            if (e_.mode(c.condition) == c.mode) continue;
            put(c.condition, c.mode, time, log);
            changed = any = true;
        }
    }
    return any;
}

bool ConditionModes::turn(const std::vector<int>& crossings, double time, EventLog& log)
{
    if (crossings.empty()) return false;
    const auto& conditions = e_.model().form.conditions;
    bool any = false;
    std::size_t root = 0;
    for (std::size_t i = 0; i < conditions.size(); ++i) {
        if (conditions[i].kind == Condition::Kind::whole) {
            int below = crossings[root++], above = crossings[root++];
            if (below == 0 && above == 0) continue;
            put(i, e_.mode(i) + (above != 0 ? 1 : -1), time, &log);
            any = true;
        } else if (int c = crossings[root++]; c != 0 && e_.mode(i) != (c < 0 ? 1 : 0)) {
            put(i, c < 0 ? 1 : 0, time, &log);
            any = true;
        }
    }
    return any;
}

// The mode that a condition's value asks for; near its zero, where the sign is not clear, the mode that it has.
double ConditionModes::wanted(std::size_t i, double g)
{
    largest_[i] = std::max(largest_[i], std::abs(g));
    double mode = e_.mode(i);
    const Condition& c = e_.model().form.conditions[i];
    if (c.held) return c.kind == Condition::Kind::whole ? std::floor(g) : (c.kind == Condition::Kind::less ? g < 0 : g <= 0) ? 1 : 0;
    if (c.kind == Condition::Kind::whole) {
        double slack = 1e-9 * std::max(1.0, std::abs(mode));
        return g < mode - slack || g > mode + 1 + slack ? std::floor(g) : mode;
    }
    if (!watched(i)) return (c.kind == Condition::Kind::less ? g < 0 : g <= 0) ? 1 : 0;  // what it was lies far back
    double unsure = kUnsure * largest_[i];
    return mode != 0 && g > unsure ? 0 : mode == 0 && g < -unsure ? 1 : mode;
}

std::size_t ConditionModes::settle(const State& s, EventLog& log)
{
    if (largest_.empty()) return 0;
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.conditions(values_);
    std::size_t changed = 0;
    for (std::size_t i = 0; i < values_.size(); ++i) {
        if (is_clocked(i)) continue;
        double mode = wanted(i, values_[i]);
        if (mode == e_.mode(i)) continue;
        put(i, mode, s.time, &log);
        changed += watched(i) ? 1 : 0;  // what nothing looks at may turn to and fro with rounding
    }
    return changed;
}

bool ConditionModes::disagree(const State& s, bool of_equations)
{
    if (largest_.size() == clocked_.size() + curved_.size()) return false;
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.conditions(values_);
    bool differ = false;
    for (std::size_t i = 0; i < values_.size(); ++i)
        if (!is_clocked(i) && watched(i) && (!of_equations || chooses_equations(i))) differ |= wanted(i, values_[i]) != e_.mode(i);
    return differ;
}

std::size_t ConditionModes::look_ahead(const State& s, EventLog& log, std::vector<char>& done, bool& driven_back)
{
    if (largest_.size() == clocked_.size() + curved_.size()) return 0;
    const auto& conditions = e_.model().form.conditions;
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.conditions(values_);
    bool near = false;
    const std::vector<char>& watched_now = e_.watched();
    for (std::size_t i = 0; i < values_.size(); ++i)
        near |= watched_now[i] != 0 && conditions[i].kind != Condition::Kind::whole && !conditions[i].held && !is_clocked(i) &&
                std::abs(values_[i]) <= kUnsure * largest_[i];
    if (!near) return 0;
    std::vector<double> here = values_;
    double ahead = 1e-7 * std::max(1e-3, std::abs(s.time));
    std::vector<double> z = s.z;
    for (std::size_t i = 0; i < z.size(); ++i) z[i] += ahead * s.rates[i];
    e_.at(s.time + ahead, z.data(), s.rates.data());
    e_.conditions(values_);
    e_.at(s.time, s.z.data(), s.rates.data());
    std::size_t changed = 0;
    for (std::size_t i = 0; i < here.size(); ++i) {
        if (conditions[i].kind == Condition::Kind::whole || conditions[i].held || is_clocked(i) || !watched(i)) continue;
        if (std::abs(here[i]) > kUnsure * largest_[i]) continue;
        double move = values_[i] - here[i];
        if (std::abs(move) < 1e-12 * largest_[i] || !std::isfinite(move)) continue;
        double mode = move < 0 ? 1 : 0;
        if (mode == e_.mode(i)) continue;
        if (done[i] != 0) {
            driven_back = true;
            driven_ = static_cast<std::uint32_t>(i);
            continue;
        }
        done[i] = 1;
        put(i, mode, s.time, &log);
        ++changed;
    }
    return changed;
}

}  // namespace netloop

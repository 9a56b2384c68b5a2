// SPDX-License-Identifier: Apache-2.0
// The modes of located conditions: what their values ask for, by sign or, where a value runs straight with time, by the clock.
#pragma once

#include <utility>

#include "algebra/enclosure.hpp"
#include "events/event_log.hpp"
#include "solve/start.hpp"

namespace netloop {

/// Times closer than this are one moment.
inline double same_moment(double t)
{
    return 1e-12 * (t < 0 ? -t : t) + 1e-14;
}

class ConditionModes {
public:
    explicit ConditionModes(Evaluation& evaluation);

    std::size_t size() const { return largest_.size(); }
    /// Works out anew when conditions of time turn next; after parameters, memories or modes have changed.
    void renew_clock(double time);
    /// Whether a mode that equations read was turned since this was asked for last.
    bool touched() { return std::exchange(touched_, false); }
    bool is_touched() const { return touched_; }
    /// The earliest time after now at which a condition of time turns; infinite if none does.
    double next_turn() const { return next_turn_; }
    /// How far ahead conditions of time are looked at; the run goes no farther without saying so.
    void look_until(double time) { until_ = time; }
    /// Turns what the clock turns at `time`; each is logged, unless `log` is null (before the start). True if any did.
    bool turn_by_clock(double time, EventLog* log);
    /// Turns what a root search has found. True if any did.
    bool turn(const std::vector<int>& crossings, double time, EventLog& log);
    /// Turns conditions whose values at `s` clearly ask for another mode; each is logged. How many.
    std::size_t settle(const State& s, EventLog& log);
    /// Whether any value at `s` clearly asks for another mode; of those that choose equations alone, if so asked.
    bool disagree(const State& s, bool of_equations = false);
    /// A condition at its zero that moves to the other side is turned now rather than a moment later; each once in a moment. One that is
    /// driven back from the side that it was turned to is told in `driven_back`: it can stay on neither.
    std::size_t look_ahead(const State& s, EventLog& log, std::vector<char>& done, bool& driven_back);
    /// The condition that was driven back last.
    std::uint32_t driven() const { return driven_; }
    /// The modes of all conditions; and all put back.
    std::vector<double> all() const;
    void put_all(const std::vector<double>& modes);
    /// Whether a comparison was on the side of its mode with the values `before`, is not at `s`, and keeps the mode all the same.
    bool is_held_against(std::size_t i, const std::vector<double>& before, const State& s);
    /// Comparisons that equations read and whose values follow from the solution: what is searched together where they turn together.
    std::vector<std::uint32_t> free_conditions() const;
    /// Whether equations read its mode, or it chooses the system of equations.
    bool chooses_equations(std::size_t i) const;
    /// A mode was turned, by something other than its own value.
    void log_turn(std::size_t i, double time, EventLog& log)
    {
        if (p().mode_in_equations[i]) touched_ = true;
        if (watched(i)) log.condition(i, time, p().told[i] != 0, p().guarded[i]);
    }
    /// Whether a condition is looked at in the stages that the sequences are in.
    bool watched(std::size_t i) const;

private:
    const CompiledModel& m() const { return e_.model(); }
    const EventPrograms& p() const { return e_.model().events; }
    double wanted(std::size_t i, double value);
    bool is_clocked(std::size_t i) const { return e_.model().form.conditions[i].is_clocked(); }
    void put(std::size_t i, double mode, double time, EventLog* log);

    Evaluation& e_;
    std::vector<double> values_, largest_;
    struct Clocked {
        double turn = 0;  ///< when
        double before = 0, after = 0;
    };
    std::vector<Clocked> clocked_;  ///< in the order of EventPrograms::time_conditions
    /// A condition that is a known function of time.
    struct Curved {
        std::uint32_t condition = 0;
        TimeFunction value;
        double mode = 0, turn = 0;              ///< right behind the time last looked at; the next turn after it
        double looked_from = 1, looked_to = 0;  ///< where the turn was searched
    };
    void renew_curved(double time);
    std::vector<Curved> curved_;
    const CompiledModel* curved_of_ = nullptr;
    double next_turn_ = 0, until_ = 0;
    std::uint32_t driven_ = 0;
    bool touched_ = false;
};

}  // namespace netloop

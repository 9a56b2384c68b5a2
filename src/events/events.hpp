// SPDX-License-Identifier: Apache-2.0
// Events: when something happens, and what then. At one moment: crossings, `when start`, `every`, transitions, `start` blocks of the
// stages entered, `when`; then conditions are looked at again until nothing changes.
#pragma once

#include <cmath>
#include <map>
#include <string>

#include "events/blocks.hpp"
#include "events/variant_change.hpp"

namespace netloop {

class Events {
public:
    /// A transition that holds as soon as its stage is entered is taken this much later, s.
    static constexpr double kResolution = 1e-7;

    Events(Evaluation& evaluation, ConsistentSolver& consistent, const SourceSet& sources);

    /// Before the start is solved: memories at what they begin with, as far as that is known; conditions of time by the clock.
    /// `recorded`: values of memories to go on from, as (memory, value); what is then the case at the start has happened already: no `when
    /// start` block runs, and no `start` block of the stages that the sequences are in.
    void before_start(double time, const std::vector<std::pair<std::uint32_t, double>>& recorded = {});
    /// After params were changed while the run goes on: periods, counted on from the last tick, and the times of delays.
    void parameters_changed();
    /// Memories whose start depends on what the start has settled; true if one changed, and the start is to be solved again.
    bool settle_memories(const State& s);
    /// The system of equations that modes and memories ask for; true if it is another one, and the start is to be solved again.
    bool take_variant(State& s);
    /// Where the system at hand has no start: takes up one that was not tried yet, by turning conditions that follow from the motion. False:
    /// there is none left.
    bool try_variant() { return variants_.try_another(); }
    /// What events have left behind, by names; and put back in a run that goes on from there, in the place of before_start() and begin().
    std::vector<std::pair<std::string, double>> left_behind() const;
    void put_back(double time, const std::map<std::string, double>& known);
    /// A system of the family, by its key and by what it goes along; null if there is none such.
    std::shared_ptr<const CompiledModel> system_of(const std::vector<char>& key, const std::vector<std::uint32_t>& slides)
    {
        return variants_.system_of(key, slides);
    }
    /// The start itself as a moment.
    void begin(State& s);
    /// The next time at which something is known to happen, after the present one.
    double next_time() const;
    /// Something happens at s.time: crossings found by the root search (may be empty), or a time that next_time() told. Throws
    /// NumericFailure when it comes to no end.
    void happen(State& s, const std::vector<int>& crossings);
    /// How far the run goes: conditions that are known functions of time are looked at up to there. Throws NumericFailure if an `every` would run more often
    /// until then than any run could.
    void look_until(double target, double now);
    /// Whether next_time() has come.
    bool due(double time) const { return next_time() <= time + same_moment(time); }
    /// Whether the last moment changed what the equations are or where the states stand: what was computed beyond it is void.
    bool touched() const { return touched_; }
    /// Whether the state is consistent with the equations as the last moment left it.
    bool settled() const { return settled_ && !blocks_.equations(); }

    ConditionModes& modes() { return modes_; }
    /// Whether the run may go along conditions that the motion drives back to from both sides.
    void may_slide(bool may) { may_slide_ = may; }
    /// Conditions along which the run has gone on so.
    const std::vector<std::uint32_t>& slid() const { return slid_; }
    const EventLog& log() const { return log_; }
    EventLog& log() { return log_; }
    const std::string& stop() const { return blocks_.stop(); }
    const std::vector<std::string>& warnings() const { return blocks_.warnings(); }
    /// Names the conditions that switched most of late. Throws NumericFailure.
    [[noreturn]] void chattering(double time, const std::string& what);
    /// Blocks whose moments come ever closer together pile up at one time, behind which nothing is known. Throws NumericFailure.
    void look_for_pile_up(State& s);

private:
    const CompiledModel& m() const { return e_.model(); }
    const EventPrograms& p() const { return e_.model().events; }
    bool goes_on(std::uint32_t memory) const;
    void check_period(std::size_t k, double period, double first) const;
    void check_delay(std::size_t k, double behind) const;
    void settle(State& s);
    /// Modes and the system that belongs to them.
    struct Turned {
        std::vector<double> modes;
        std::shared_ptr<const CompiledModel> model;
    };
    bool slide(State& s);
    bool turn_together(const State& begun, const Turned& before, State& s);
    void run_every(State& s);
    void run_transitions(State& s);
    void run_whens(State& s);
    void finish_pass(State& s);
    void guards(State& s);
    bool guard(std::uint32_t block) const { return e_.value_at(p().guard[block]) != 0; }

    Evaluation& e_;
    ConsistentSolver& consistent_;
    VariantChange variants_;
    const SourceSet& sources_;
    ConditionModes modes_;
    Blocks blocks_;
    EventLog log_;
    struct Tick {
        double period = 0, first = 0, next = 0;
        double count = 0;
    };
    std::vector<std::pair<std::uint32_t, double>> recorded_;
    std::vector<Tick> ticks_;                                           ///< in the order of EventPrograms::every
    std::map<std::vector<double>, std::vector<std::uint32_t>> worked_;  ///< from modes at which a search began: the conditions that it turned
    std::vector<double> was_;                                           ///< guards as they were last
    std::vector<std::vector<std::vector<std::uint32_t>>> transitions_;  ///< blocks per sequence and stage
    std::vector<std::uint32_t> whens_;                                  ///< blocks
    std::vector<std::vector<std::uint32_t>> entries_;                   ///< blocks per sequence
    std::vector<double> recheck_;                                       ///< per sequence: when transitions that held at entry are taken
    std::vector<char> entered_;                                         ///< per sequence: a stage was entered in this moment
    std::vector<std::uint32_t> to_enter_, fired_now_;
    std::vector<double> values_before_;       ///< of conditions, before the `when` blocks of a moment ran
    std::vector<std::vector<double>> fired_;  ///< per block: when it fired last, a few
    void expect_pile_up(std::uint32_t block);
    void look_for_rest(State& s);
    struct End {
        std::uint32_t block = 0;
        double time = 0, rest = 0, factor = 0;
    };
    std::vector<End> ends_;
    std::vector<double> first_fired_;
    std::vector<char> looked_ahead_;
    std::vector<std::uint32_t> slid_;
    bool may_slide_ = false;
    double slid_at_ = -HUGE_VAL;
    int slides_at_once_ = 0;
    bool touched_ = false, touched_late_ = false, turned_ = false, settled_ = false;
};

}  // namespace netloop

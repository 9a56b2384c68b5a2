// SPDX-License-Identifier: Apache-2.0
// Programs for what happens at moments, and what the run must know of who reads what.
#pragma once

#include <cstdint>
#include <vector>

#include "compile/solver_form.hpp"
#include "evaluate/lower.hpp"

namespace netloop {

struct EventPrograms {
    static constexpr std::uint32_t kNone = 0xffffffffu;

    /// Results: the conditions of `when` blocks and transitions, in the order of the blocks that have one.
    Program guards;
    std::vector<std::uint32_t> guard;  ///< per block: place of its condition, kNone

    /// What all blocks would set and say now.
    Program actions;
    struct Setting {
        std::uint32_t value = kNone, when = kNone;
        std::uint32_t target = kNone;  ///< place of the present value of what is set; kNone for a memory
        std::uint32_t state = kNone;   ///< the member of z that the target is, up to its sign; kNone: settled by the equations
        double sign = 1;
    };
    struct Block {
        std::vector<Setting> settings;
        std::vector<std::uint32_t> alerts;    ///< place of the condition, kNone: always
        std::vector<std::uint32_t> memories;  ///< read by it, ascending
        bool reads_solved = false;            ///< reads what the equations settle, not states and memories alone
        bool sets_equations = false;          ///< sets what equations read
    };
    std::vector<Block> blocks;
    /// With time at 0: value and slope of each condition that runs straight with time.
    Program times;
    struct TimeCondition {
        std::uint32_t condition = 0, value = 0, slope = 0;
    };
    std::vector<TimeCondition> time_conditions;
    /// Period and first time of each `every` block.
    Program periods;
    struct Every {
        std::uint32_t block = 0, period = 0, first = 0;
    };
    std::vector<Every> every;

    Program starts;                                                 ///< of memories
    std::vector<std::pair<std::uint32_t, std::uint32_t>> start_of;  ///< memory and place
    Program previous;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> previous_of;
    Program delays;
    struct Delay {
        std::uint32_t memory = 0, source = 0, time = 0;
        bool reads_solved = false;  ///< its source does
    };
    std::vector<Delay> delay_of;
    Program sampled;  ///< what accumulators look at
    struct Accumulator {
        std::uint32_t value = kNone, when = kNone, from_time = kNone, to_time = kNone;  ///< the windows from `windows`
        std::vector<std::uint32_t> margins;                                             ///< of the comparisons in `when`: left - right
        bool reads_solved = false;                                                      ///< reads what the equations settle, not states alone
    };
    std::vector<Accumulator> accumulators;
    Program windows;
    Program measured;  ///< once all accumulators have their results: measures, then demands
    struct Demand {
        std::uint32_t condition = kNone, left = kNone, right = kNone;
    };
    std::vector<std::uint32_t> measures;
    std::vector<Demand> demands;
    /// Limits that are no range of plain numbers on a member of z: of what states settle, which is looked at after each step, and of the rest.
    struct Limits {
        Program program;
        struct Limit {
            std::uint32_t limit = 0;  ///< of FlatEvents::limits
            std::uint32_t value = kNone, low = kNone, high = kNone;
            double usual = 1;
        };
        std::vector<Limit> of;
    };
    Limits limits, solved_limits;
    Program switches;  ///< results: the switches of the form

    std::vector<char> mode_in_equations, memory_in_equations;
    /// Per condition: the transitions that alone look at it, as (sequence, stage); empty: others do, too, and it is always watched.
    std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> only_in;
    /// Per condition: whether something other than the conditions of blocks looks at it; and the blocks whose conditions do.
    std::vector<char> told;
    std::vector<std::vector<std::uint32_t>> guarded;
    std::vector<char> idle;  ///< per condition: nothing looks at it in this system
};

void lower_events(const SolverForm& form, Graph& graph, Lowering& lowering, EventPrograms& events);

}  // namespace netloop

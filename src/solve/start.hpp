// SPDX-License-Identifier: Apache-2.0
// The start of a run, from inits and guesses.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "solve/consistent.hpp"

namespace netloop {

/// A row of the square system that a start was solved from.
struct TakenRow {
    enum class Kind {
        model,      ///< F[index] = 0
        condition,  ///< an init, guess or find: CompiledModel::start_rows[index]
        still,      ///< column `index` is 0: the rate of a state at a steady start
        recorded,   ///< column `index` keeps its value from a recording
        hold        ///< column `index` stays where the search begins
    } kind = Kind::model;
    std::uint32_t index = 0;
};

struct StartReport {
    std::vector<TakenRow> taken;         ///< as many as there are unknowns: z, then the rates of the states that are always states
    std::vector<std::string> assumed;    ///< guesses that completed the start
    std::vector<std::string> held;       ///< what nothing settled, held where the search began
    std::vector<std::string> agreed;     ///< inits more than needed that agree with the others
    std::vector<std::string> left_open;  ///< inits that a steady start still needed
    std::vector<std::string> found;      ///< values of what was to be found
};

/// Sets all modes by the present values of their conditions, those of time excepted; returns how many changed.
std::size_t settle_modes(Evaluation& evaluation, const State& s);

/// The start at `time`. `known`: a recorded state to begin from, per member of z, NaN where it says nothing; empty: none.
/// Throws NumericFailure when it cannot be settled or contradicts itself.
State solve_start(Evaluation& evaluation, const SourceSet& sources, double time, StartReport& report, const std::vector<double>& known = {});

}  // namespace netloop

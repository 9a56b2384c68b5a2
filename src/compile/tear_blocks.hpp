// SPDX-License-Identifier: Apache-2.0
// Which unknowns of a block are iterated, so that the rest follows step by step.
#pragma once

#include <cstdint>
#include <functional>
#include <vector>

namespace netloop {

/// A block as a bipartite graph: which of its unknowns stand in which of its equations.
struct TearingProblem {
    std::vector<std::vector<std::uint32_t>> unknowns_of;  ///< per equation
    /// Whether equation e may be solved for unknown u once all others in it are known.
    std::function<bool(std::uint32_t e, std::uint32_t u)> solvable;
    /// Unknowns that cost less as iterates than others (rates of states, which are no further members of z).
    std::vector<char> cheap;
    /// Unknowns that make poor iterates: flows that carry something. What they carry changes over from one side to the other within a very
    /// small flow, so a search that begins with a wrong flow is led astray; pressures and enthalpies as iterates give flows explicitly.
    std::vector<char> shunned;
};

struct Tearing {
    struct Step {
        std::uint32_t equation = 0, unknown = 0;
    };
    std::vector<Step> steps;  ///< in order
    std::vector<std::uint32_t> iterates, residuals;
};

/// How the next iterate is picked when no equation is left with one unknown that it can be solved for.
enum class TearingRule {
    most_used,     ///< the unknown in most of the equations left: Cellier and Kofman (2006), Continuous System Simulation, ch. 7
    shortest_rows  ///< the unknown most frequent in the shortest equations left: the tally of Hellerman and Rarick (1972), P4
};

/// By one rule. Near-linear in the entries of the block. No rule is the better one on all shipped models (docs/performance.md has
/// the figures), so each block is torn by both and the form with fewer iterates is kept.
Tearing tear(const TearingProblem& problem, TearingRule rule);

}  // namespace netloop

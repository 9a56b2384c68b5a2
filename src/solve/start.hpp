// SPDX-License-Identifier: Apache-2.0
// Consistent values: at the start from inits and guesses, and later with the states given.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "solve/evaluation.hpp"
#include "solve/newton.hpp"

namespace netloop {

struct State {
    double time = 0;
    std::vector<double> z, rates;
};

struct StartReport {
    std::vector<std::string> assumed;    ///< guesses that completed the start
    std::vector<std::string> held;       ///< what nothing settled, held where the search began
    std::vector<std::string> agreed;     ///< inits more than needed that agree with the others
    std::vector<std::string> left_open;  ///< inits that a steady start still needed
    std::vector<std::string> found;      ///< values of what was to be found
    int iterations = 0;
};

/// Solves for everything but the states, which are given: z' of the states, and the other members of z.
class ConsistentSolver {
public:
    explicit ConsistentSolver(Evaluation& evaluation);
    ConsistentSolver(const ConsistentSolver&) = delete;
    ConsistentSolver& operator=(const ConsistentSolver&) = delete;
    /// After the evaluation has taken up another system.
    void renew();
    /// Uses s.z and s.rates as first approximation. Throws NumericFailure (with sources for its text).
    void solve(State& s, const SourceSet& sources);

private:
    Evaluation& evaluation_;
    std::vector<std::size_t> entry_;  ///< entry of the full pattern for each of ours; filled while pattern_ is made
    SparsePattern pattern_;
    std::optional<SparseLU> lu_;
    std::size_t n_ = 0;
    NewtonProblem problem_;
    State* state_ = nullptr;  ///< the one under way
    bool factored_ = false, diagonal_ = false;
    std::vector<double> pivots_;  ///< of a diagonal matrix
    std::vector<double> by_z_, by_rate_, step_;
    std::vector<double> last_;  ///< unknowns of the last point that was solved

    void place(const std::vector<double>& at);
    bool with_old_matrix(std::vector<double>& x);
};

/// Sets all modes by the present values of their conditions, those of time excepted; returns how many changed.
std::size_t settle_modes(Evaluation& evaluation, const State& s);

/// The start at `time`. `known`: a recorded state to begin from, per member of z, NaN where it says nothing; empty: none.
/// Throws NumericFailure when it cannot be settled or contradicts itself.
State solve_start(Evaluation& evaluation, const SourceSet& sources, double time, StartReport& report, const std::vector<double>& known = {});

}  // namespace netloop

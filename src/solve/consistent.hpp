// SPDX-License-Identifier: Apache-2.0
// A state of a run, and the values that are consistent with its states.
#pragma once

#include <optional>
#include <vector>

#include "linear/sparse_lu.hpp"
#include "solve/evaluation.hpp"
#include "solve/newton.hpp"

namespace netloop {

struct State {
    double time = 0;
    std::vector<double> z, rates;
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
    bool explicit_ = false;   ///< the rates are told by one evaluation
    bool prepared_ = false;   ///< for solving: pattern, elimination, problem
    bool factored_ = false, diagonal_ = false;
    std::vector<double> pivots_;  ///< of a diagonal matrix
    std::vector<double> by_z_, by_rate_, step_, x_, begin_;
    std::vector<double> last_;  ///< unknowns of the last point that was solved

    void prepare();
    bool evaluate(State& s);
    void place(const std::vector<double>& at);
    bool with_old_matrix(std::vector<double>& x);
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The linear systems of steps: one sparsity pattern, many matrices that resemble each other. The form of elimination follows from the
// pattern; each form without own pivoting watches its pivots, and KLU steps in for a matrix that it does not do well.
#pragma once

#include <memory>
#include <string>

#include "linear/sparse_lu.hpp"

namespace netloop {

/// A way to eliminate with a fixed order of pivots.
class FixedElimination {
public:
    virtual ~FixedElimination() = default;
    /// False if a pivot proved too small against its column (rows scaled by their largest entry): solve() must not be called then.
    virtual bool factor(const double* values) = 0;
    virtual void solve(double* b) = 0;
    virtual const char* name() const = 0;
};

/// Dense, with exchanges of rows; for the smallest systems.
std::unique_ptr<FixedElimination> make_dense(const SparsePattern& pattern);

/// Gaussian elimination without exchanges on a matrix whose entries lie near the diagonal after renumbering (Cuthill and McKee, 1969,
/// Proc. 24th ACM Conf., 157-172). Null if they do not.
std::unique_ptr<FixedElimination> make_banded(const SparsePattern& pattern);

/// Elimination as a program: the fixed order of operations written out, once for all solvers that share a pattern, and run as machine code as soon as that
/// pays. Null if it would be long. `rows` and `columns`: which row and column come as the k-th pivot.
std::unique_ptr<FixedElimination> make_elimination_program(const SparsePattern& pattern, const std::vector<std::int64_t>& rows,
                                                           const std::vector<std::int64_t>& columns);

/// The largest multiplier that a fixed order may have, with rows scaled; as KLU's own threshold for keeping the diagonal.
inline constexpr double kLargestMultiplier = 1e3;

class LinearSolver {
public:
    enum class Form { fastest, dense, banded, program, klu };  ///< all but `fastest` are for comparison
    explicit LinearSolver(const SparsePattern& pattern, Form form = Form::fastest);

    /// Factors a square matrix of the pattern. False if a pivot is zero.
    bool factor(const std::vector<double>& values);
    /// Replaces `b` by the solution.
    void solve(double* b) { fixed_is_good_ ? fixed_->solve(b) : klu_.solve(b); }
    /// The next matrix will be so different that old pivots are not worth trying.
    void forget_pivots();
    /// See SparseLU::doubtful() and lost().
    bool doubtful() const { return !fixed_is_good_ && klu_.doubtful(); }
    std::size_t lost() const { return klu_.lost(); }
    /// Factorisations with a search for pivots: where a fixed order served they are none.
    std::size_t n_full() const { return klu_.n_full(); }
    /// Which form served last: "dense", "banded", "program" or "KLU".
    const char* form() const { return fixed_is_good_ ? fixed_->name() : "KLU"; }

private:
    SparsePattern pattern_;
    SparseLU klu_;
    Form form_;
    std::unique_ptr<FixedElimination> fixed_;
    bool fixed_is_good_ = false;
    bool depends_on_values_ = true;  ///< the order of the fixed form was taken from a matrix
    int n_given_up_ = 0, n_klu_ = 0;
};

}  // namespace netloop

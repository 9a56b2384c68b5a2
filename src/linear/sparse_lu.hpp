// SPDX-License-Identifier: Apache-2.0
// Sparse LU by KLU (SuiteSparse), pattern analysed once.
#pragma once

#include <klu.h>

#include <cstdint>
#include <vector>

#include "evaluate/sparse_pattern.hpp"

namespace netloop {

/// Analysed once for all that share the pattern.
EliminationSize foresee_elimination(const SparsePattern& pattern);

class SparseLU {
public:
    explicit SparseLU(SparsePattern pattern);
    ~SparseLU();
    SparseLU(const SparseLU&) = delete;
    SparseLU& operator=(const SparseLU&) = delete;

    /// Factors a square matrix of the pattern. False if a pivot is zero. Old pivots are kept as long as the elimination with them is stable.
    bool factor(const std::vector<double>& values);
    /// Whether a relative change of entries by a few roundings makes the matrix factored last singular, in whatever units its rows and columns are. What
    /// depends on such a matrix may still be solved well: unknowns that hardly matter at the moment (the heat of oil that stands) make one doubtful too.
    bool doubtful() const { return doubtful_; }
    /// After factor() said false: the column (unknown) at which the elimination found nothing left, or that moves most without changing any row. n if it is not
    /// known.
    std::size_t lost() const { return lost_; }
    /// Factorisations with a new search for pivots.
    std::size_t n_full() const { return n_full_; }
    /// Replaces `b` by the solution.
    void solve(std::vector<double>& b) { solve(b.data()); }
    void solve(double* b);
    /// The next matrix will be so different that old pivots are not worth trying.
    void forget_pivots();
    /// Which row and column came as the k-th pivot in the last factorisation. False if there is none.
    bool order(std::vector<std::int64_t>& rows, std::vector<std::int64_t>& columns) const;
    std::size_t n_entries() const { return pattern_.n_entries(); }

private:
    void scale_columns(const std::vector<double>& values);
    bool factor_again();
    void find_blocks();
    void take_sizes();
    bool is_regular();

    SparsePattern pattern_;
    std::vector<double> scaled_, row_size_, column_scale_;
    std::vector<double> size_, sums_, probe_, sign_;  // of is_regular()
    std::vector<char> between_;
    bool doubtful_ = false, analysed_ = false;
    double looked_at_ = 1;  ///< cheap estimate (least over largest pivot) of the last matrix that was found regular
    std::size_t lost_ = 0, n_full_ = 0;
    klu_l_common common_{};
    klu_l_symbolic* symbolic_ = nullptr;
    klu_l_numeric* numeric_ = nullptr;
};

}  // namespace netloop

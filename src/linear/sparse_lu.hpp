// SPDX-License-Identifier: Apache-2.0
// Sparse LU by KLU (SuiteSparse), pattern analysed once.
#pragma once

#include <klu.h>

#include <cstdint>
#include <vector>

#include "evaluate/compiled_model.hpp"

namespace netloop {

class SparseLU {
public:
    explicit SparseLU(SparsePattern pattern);
    ~SparseLU();
    SparseLU(const SparseLU&) = delete;
    SparseLU& operator=(const SparseLU&) = delete;

    /// Factors a square matrix of the pattern. False if it is singular to working precision.
    bool factor(const std::vector<double>& values);
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

    SparsePattern pattern_;
    std::vector<double> scaled_, row_size_, column_scale_;
    klu_l_common common_{};
    klu_l_symbolic* symbolic_ = nullptr;
    klu_l_numeric* numeric_ = nullptr;
};

}  // namespace netloop

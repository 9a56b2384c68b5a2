// SPDX-License-Identifier: Apache-2.0
#include "linear/sparse_lu.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {
static_assert(sizeof(SuiteSparse_long) == sizeof(std::int64_t));

namespace {
SuiteSparse_long* as_long(std::vector<std::int64_t>& v)
{
    return reinterpret_cast<SuiteSparse_long*>(v.data());
}
}  // namespace

SparseLU::SparseLU(SparsePattern pattern)
    : pattern_(std::move(pattern)), scaled_(pattern_.rows.size()), row_size_(pattern_.n_columns), column_scale_(pattern_.n_columns, 1.0)
{
    klu_l_defaults(&common_);
    common_.scale = 2;  // rows are scaled by their largest entry
    if (pattern_.n_columns > 0) symbolic_ = klu_l_analyze(pattern_.n_columns, as_long(pattern_.starts), as_long(pattern_.rows), &common_);
}

SparseLU::~SparseLU()
{
    if (numeric_ != nullptr) klu_l_free_numeric(&numeric_, &common_);
    if (symbolic_ != nullptr) klu_l_free_symbolic(&symbolic_, &common_);
}

void SparseLU::forget_pivots()
{
    if (numeric_ != nullptr) klu_l_free_numeric(&numeric_, &common_);
}

// Quantities come in SI: a pressure is 1e7, a share of air 1e-4, an enthalpy 1e5. KLU scales rows; without columns to match, the size of pivots would tell
// units, and neither a bad pivot nor a lost rank could be told from them. Powers of two: what is solved stays the same to the bit.
void SparseLU::scale_columns(const std::vector<double>& values)
{
    std::fill(row_size_.begin(), row_size_.end(), 0.0);
    for (std::size_t k = 0; k < values.size(); ++k) {
        double& size = row_size_[static_cast<std::size_t>(pattern_.rows[k])];
        size = std::max(size, std::abs(values[k]));
    }
    for (double& size : row_size_) size = size > 0 ? 1 / size : 0;
    for (std::size_t c = 0; c < pattern_.n_columns; ++c) {
        auto begin = static_cast<std::size_t>(pattern_.starts[c]), end = static_cast<std::size_t>(pattern_.starts[c + 1]);
        double largest = 0;
        for (std::size_t k = begin; k < end; ++k) largest = std::max(largest, std::abs(values[k]) * row_size_[static_cast<std::size_t>(pattern_.rows[k])]);
        int exponent = 0;
        std::frexp(largest, &exponent);
        column_scale_[c] = largest > 0 ? std::ldexp(1.0, std::clamp(-exponent, -1000, 1000)) : 1;
        for (std::size_t k = begin; k < end; ++k) scaled_[k] = values[k] * column_scale_[c];
    }
}

bool SparseLU::factor(const std::vector<double>& values)
{
    if (pattern_.n_columns == 0) return true;
    if (symbolic_ == nullptr) return false;
    for (double v : values)
        if (!std::isfinite(v)) return false;
    scale_columns(values);
    double* data = scaled_.data();
    if (numeric_ != nullptr) {
        // the old pivots may have become bad: look at the growth, and factor anew if it is large
        bool ok = klu_l_refactor(as_long(pattern_.starts), as_long(pattern_.rows), data, symbolic_, numeric_, &common_) != 0 && common_.status == KLU_OK;
        if (ok && klu_l_rcond(symbolic_, numeric_, &common_) != 0 && common_.rcond > 1e-8) return true;
        klu_l_free_numeric(&numeric_, &common_);
    }
    numeric_ = klu_l_factor(as_long(pattern_.starts), as_long(pattern_.rows), data, symbolic_, &common_);
    if (numeric_ == nullptr || common_.status == KLU_SINGULAR) {
        if (numeric_ != nullptr) klu_l_free_numeric(&numeric_, &common_);
        return false;
    }
    return klu_l_rcond(symbolic_, numeric_, &common_) != 0 && common_.rcond > 1e-17;
}

bool SparseLU::order(std::vector<std::int64_t>& rows, std::vector<std::int64_t>& columns) const
{
    if (symbolic_ == nullptr || numeric_ == nullptr) return false;
    rows.assign(numeric_->Pnum, numeric_->Pnum + pattern_.n_columns);
    columns.assign(symbolic_->Q, symbolic_->Q + pattern_.n_columns);
    return true;
}

void SparseLU::solve(double* b)
{
    if (pattern_.n_columns == 0) return;
    klu_l_solve(symbolic_, numeric_, pattern_.n_columns, 1, b, &common_);
    for (std::size_t c = 0; c < pattern_.n_columns; ++c) b[c] *= column_scale_[c];
}

}  // namespace netloop

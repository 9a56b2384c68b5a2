#include "linear/sparse_lu.hpp"

#include <cmath>

namespace netloop {
static_assert(sizeof(SuiteSparse_long) == sizeof(std::int64_t));

namespace {
SuiteSparse_long* as_long(std::vector<std::int64_t>& v)
{
    return reinterpret_cast<SuiteSparse_long*>(v.data());
}
}  // namespace

SparseLU::SparseLU(SparsePattern pattern) : pattern_(std::move(pattern))
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

bool SparseLU::factor(const std::vector<double>& values)
{
    if (pattern_.n_columns == 0) return true;
    if (symbolic_ == nullptr) return false;
    for (double v : values)
        if (!std::isfinite(v)) return false;
    auto* data = const_cast<double*>(values.data());
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
    return klu_l_rcond(symbolic_, numeric_, &common_) != 0 && common_.rcond > 1e-18;
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
    if (pattern_.n_columns > 0) klu_l_solve(symbolic_, numeric_, pattern_.n_columns, 1, b, &common_);
}

}  // namespace netloop

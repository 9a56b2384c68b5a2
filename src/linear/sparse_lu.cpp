// SPDX-License-Identifier: Apache-2.0
#include "linear/sparse_lu.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {
static_assert(sizeof(SuiteSparse_long) == sizeof(std::int64_t));

namespace {

constexpr double kClear = 1e-12;  ///< least over largest pivot from which there is no doubt, without a closer look

SuiteSparse_long* as_long(std::vector<std::int64_t>& v)
{
    return reinterpret_cast<SuiteSparse_long*>(v.data());
}
}  // namespace

namespace {

EliminationSize analysed_size(const SparsePattern& pattern)
{
    if (pattern.n_columns == 0) return {};
    klu_l_common common{};
    klu_l_defaults(&common);
    SparsePattern copy = pattern;
    klu_l_symbolic* symbolic = klu_l_analyze(copy.n_columns, as_long(copy.starts), as_long(copy.rows), &common);
    if (symbolic == nullptr) return {};
    // of blocks that are single entries, and where it was not estimated, the numbers are negative
    EliminationSize size{std::max(symbolic->lnz, 0.0) + std::max(symbolic->unz, 0.0), std::max(symbolic->est_flops, 0.0)};
    klu_l_free_symbolic(&symbolic, &common);
    auto least = static_cast<double>(pattern.n_entries());
    return {std::max(size.entries, least), std::max(size.operations, least)};
}

}  // namespace

EliminationSize foresee_elimination(const SparsePattern& pattern)
{
    if (pattern.shared == nullptr) return analysed_size(pattern);
    std::lock_guard guard(pattern.shared->lock);
    if (!pattern.shared->size) pattern.shared->size = analysed_size(pattern);
    return *pattern.shared->size;
}

SparseLU::SparseLU(SparsePattern pattern)
    : pattern_(std::move(pattern)), scaled_(pattern_.rows.size()), row_size_(pattern_.n_columns), column_scale_(pattern_.n_columns, 1.0)
{
    klu_l_defaults(&common_);
    common_.scale = 2;  // rows are scaled by their largest entry
}

SparseLU::~SparseLU()
{
    if (numeric_ != nullptr) klu_l_free_numeric(&numeric_, &common_);
    if (symbolic_ != nullptr) klu_l_free_symbolic(&symbolic_, &common_);
}

void SparseLU::forget_pivots()
{
    if (numeric_ != nullptr) klu_l_free_numeric(&numeric_, &common_);
    looked_at_ = 1;
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

// With the pivots of an earlier matrix. False if the elimination grows: then it is not stable for this one.
bool SparseLU::factor_again()
{
    constexpr double kGrowth = 1e-6;  // entries may grow to its inverse: a relative error of some 1e-10, which Newton's iteration does not feel
    bool ok = klu_l_refactor(as_long(pattern_.starts), as_long(pattern_.rows), scaled_.data(), symbolic_, numeric_, &common_) != 0 && common_.status == KLU_OK;
    ok = ok && klu_l_rgrowth(as_long(pattern_.starts), as_long(pattern_.rows), scaled_.data(), symbolic_, numeric_, &common_) != 0 && common_.rgrowth > kGrowth;
    // small pivots are no harm by themselves; far smaller ones than those that were looked at may be
    constexpr double kMuchSmaller = 1e-4;
    return ok && klu_l_rcond(symbolic_, numeric_, &common_) != 0 && common_.rcond > std::min(kClear, kMuchSmaller * looked_at_);
}

// The sizes of the unknowns that go best with the matrix: those for which rows and columns have entries of one size, as far as may be.
// Source: Curtis and Reid (1972), On the automatic scaling of matrices for Gaussian elimination, J. IMA 10, 118-124; here by means of rows and columns in turn.
void SparseLU::take_sizes()
{
    constexpr int kRounds = 12;
    auto n = pattern_.n_columns;
    std::vector<double> row(n), column(n, 0.0), count(n);
    std::vector<double> logs(scaled_.size());
    for (std::size_t k = 0; k < logs.size(); ++k) logs[k] = scaled_[k] == 0 || between_[k] != 0 ? std::nan("") : std::log2(std::abs(scaled_[k]));
    for (int round = 0; round < kRounds; ++round) {
        std::fill(row.begin(), row.end(), 0.0);
        std::fill(count.begin(), count.end(), 0.0);
        for (std::size_t c = 0; c < n; ++c)
            for (auto k = static_cast<std::size_t>(pattern_.starts[c]); k < static_cast<std::size_t>(pattern_.starts[c + 1]); ++k) {
                if (std::isnan(logs[k])) continue;
                row[static_cast<std::size_t>(pattern_.rows[k])] += logs[k] - column[c];
                ++count[static_cast<std::size_t>(pattern_.rows[k])];
            }
        for (std::size_t i = 0; i < n; ++i) row[i] /= std::max(count[i], 1.0);
        for (std::size_t c = 0; c < n; ++c) {
            double sum = 0, entries = 0;
            for (auto k = static_cast<std::size_t>(pattern_.starts[c]); k < static_cast<std::size_t>(pattern_.starts[c + 1]); ++k)
                if (!std::isnan(logs[k])) sum += logs[k] - row[static_cast<std::size_t>(pattern_.rows[k])], ++entries;
            column[c] = sum / std::max(entries, 1.0);
        }
    }
    size_.resize(n);
    for (std::size_t c = 0; c < n; ++c) size_[c] = std::exp2(-std::clamp(column[c], -900.0, 900.0));
}

// Which entries stand between diagonal blocks: a matrix is singular if one of its blocks is, whatever stands between them.
void SparseLU::find_blocks()
{
    auto n = pattern_.n_columns;
    std::vector<SuiteSparse_long> block_of_row(n), block_of_column(n);
    for (SuiteSparse_long b = 0; b < symbolic_->nblocks; ++b)
        for (SuiteSparse_long k = symbolic_->R[b]; k < symbolic_->R[b + 1]; ++k) {
            block_of_row[static_cast<std::size_t>(numeric_->Pnum[k])] = b;
            block_of_column[static_cast<std::size_t>(symbolic_->Q[k])] = b;
        }
    between_.assign(scaled_.size(), 0);
    for (std::size_t c = 0; c < n; ++c)
        for (auto k = static_cast<std::size_t>(pattern_.starts[c]); k < static_cast<std::size_t>(pattern_.starts[c + 1]); ++k)
            between_[k] = block_of_row[static_cast<std::size_t>(pattern_.rows[k])] != block_of_column[c] ? 1 : 0;
}

// Whether no matrix whose entries differ from these by a few roundings is singular. With A^-1 taken from the factors, |A^-1| |A| s is what such changes do to a
// solution of size s; its largest member against s is estimated without forming the inverse, by the method for the 1-norm of B^T where
// B = diag(1/s) A^-1 diag(|A| s). Rows may be in any units: |A^-1| |A| is the same.
// Source: Higham (1988), FORTRAN codes for estimating the one-norm, ACM TOMS 14, 381-396; Skeel (1979), J. ACM 26, 494-526.
bool SparseLU::is_regular()
{
    constexpr double kSingular = 1e15;
    constexpr int kMostRounds = 5;
    auto n = pattern_.n_columns;
    auto count = static_cast<SuiteSparse_long>(n);
    find_blocks();
    take_sizes();
    // the factors of the blocks alone: KLU keeps what stands between them apart
    double* between = static_cast<double*>(numeric_->Offx);
    std::vector<double> kept(between, between + numeric_->nzoff);
    std::fill_n(between, numeric_->nzoff, 0.0);
    struct Restore {
        const std::vector<double>& kept;
        double* to;
        ~Restore() { std::copy(kept.begin(), kept.end(), to); }
    } restore{kept, between};
    sums_.assign(n, 0);
    for (std::size_t c = 0; c < n; ++c)
        for (auto k = static_cast<std::size_t>(pattern_.starts[c]); k < static_cast<std::size_t>(pattern_.starts[c + 1]); ++k)
            if (between_[k] == 0) sums_[static_cast<std::size_t>(pattern_.rows[k])] += std::abs(scaled_[k]) * size_[c];
    probe_.assign(n, 1.0 / static_cast<double>(n));
    double estimate = 0;
    std::size_t last = n;
    for (int round = 0; round < kMostRounds; ++round) {
        // y = B^T x
        for (std::size_t i = 0; i < n; ++i) probe_[i] /= size_[i];
        klu_l_tsolve(symbolic_, numeric_, count, 1, probe_.data(), &common_);
        double sum = 0;
        for (std::size_t i = 0; i < n; ++i) sum += std::abs(probe_[i] *= sums_[i]);
        if (!std::isfinite(sum)) return false;
        bool grows = sum > estimate;
        estimate = std::max(estimate, sum);
        if (!grows) break;
        // z = B sign(y): where it is largest, the next x is one
        sign_.resize(n);
        for (std::size_t i = 0; i < n; ++i) sign_[i] = (probe_[i] < 0 ? -1 : 1) * sums_[i];
        klu_l_solve(symbolic_, numeric_, count, 1, sign_.data(), &common_);
        std::size_t largest = 0;
        for (std::size_t i = 0; i < n; ++i)
            if (std::abs(sign_[i] /= size_[i]) > std::abs(sign_[largest])) largest = i;
        lost_ = largest;
        if (largest == last || estimate > kSingular) break;
        last = largest;
        std::fill(probe_.begin(), probe_.end(), 0.0);
        probe_[largest] = 1;
    }
    return estimate <= kSingular;
}

bool SparseLU::factor(const std::vector<double>& values)
{
    lost_ = pattern_.n_columns;
    doubtful_ = false;
    if (pattern_.n_columns == 0) return true;
    // analysed when it is needed first: another form of elimination may do without
    if (!analysed_) symbolic_ = klu_l_analyze(pattern_.n_columns, as_long(pattern_.starts), as_long(pattern_.rows), &common_);
    analysed_ = true;
    if (symbolic_ == nullptr) return false;
    for (double v : values)
        if (!std::isfinite(v)) return false;
    scale_columns(values);
    if (numeric_ != nullptr) {
        if (factor_again()) return true;
        klu_l_free_numeric(&numeric_, &common_);
    }
    ++n_full_;
    numeric_ = klu_l_factor(as_long(pattern_.starts), as_long(pattern_.rows), scaled_.data(), symbolic_, &common_);
    if (numeric_ == nullptr || common_.status == KLU_SINGULAR) {
        if (common_.singular_col >= 0 && common_.singular_col < static_cast<SuiteSparse_long>(pattern_.n_columns))
            lost_ = static_cast<std::size_t>(common_.singular_col);
        if (numeric_ != nullptr) klu_l_free_numeric(&numeric_, &common_);
        return false;
    }
    if (klu_l_rcond(symbolic_, numeric_, &common_) == 0) return false;
    doubtful_ = common_.rcond < kClear && !is_regular();
    looked_at_ = common_.rcond;
    return true;
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

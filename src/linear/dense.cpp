// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <cmath>

#include "linear/linear_solver.hpp"

namespace netloop {
namespace {

// Gaussian elimination with the largest pivot of each column, rows scaled by their largest entry.
class Dense : public FixedElimination {
public:
    explicit Dense(const SparsePattern& p) : n_(p.n_columns), a_(n_ * n_), b_(n_), scale_(n_), inverse_(n_), row_(n_)
    {
        for (std::uint32_t c = 0; c < n_; ++c)
            for (auto k = p.starts[c]; k < p.starts[c + 1]; ++k)
                place_.push_back(static_cast<std::uint32_t>(static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)]) * n_ + c));
    }
    const char* name() const override { return "dense"; }

    bool factor(const double* values) override
    {
        std::fill(a_.begin(), a_.end(), 0.0);
        for (std::size_t k = 0; k < place_.size(); ++k) a_[place_[k]] = values[k];
        for (std::size_t r = 0; r < n_; ++r) {
            double largest = 0;
            for (std::size_t c = 0; c < n_; ++c) largest = std::max(largest, std::abs(a_[r * n_ + c]));
            if (!(largest > 0)) return false;
            scale_[r] = 1 / largest;
            row_[r] = r;
        }
        for (std::size_t k = 0; k < n_; ++k) {
            std::size_t best = k;
            double size = 0;
            for (std::size_t r = k; r < n_; ++r)
                if (double s = std::abs(a_[row_[r] * n_ + k]) * scale_[row_[r]]; s > size) size = s, best = r;
            if (!(size > 1e-14)) return false;  // mere rounding is left: KLU tells how singular it is
            std::swap(row_[k], row_[best]);
            const double* pivot = &a_[row_[k] * n_];
            inverse_[k] = 1 / pivot[k];
            for (std::size_t r = k + 1; r < n_; ++r) {
                double* line = &a_[row_[r] * n_];
                if (line[k] == 0) continue;
                double l = line[k] * inverse_[k];
                line[k] = l;
                for (std::size_t c = k + 1; c < n_; ++c) line[c] -= l * pivot[c];
            }
        }
        return true;
    }

    void solve(double* b) override
    {
        for (std::size_t k = 0; k < n_; ++k) {
            const double* line = &a_[row_[k] * n_];
            double sum = b[row_[k]];
            for (std::size_t c = 0; c < k; ++c) sum -= line[c] * b_[c];
            b_[k] = sum;
        }
        for (std::size_t k = n_; k-- > 0;) {
            const double* line = &a_[row_[k] * n_];
            double sum = b_[k];
            for (std::size_t c = k + 1; c < n_; ++c) sum -= line[c] * b[c];
            b[k] = sum * inverse_[k];
        }
    }

private:
    std::size_t n_;
    std::vector<std::uint32_t> place_;
    std::vector<double> a_, b_, scale_, inverse_;
    std::vector<std::size_t> row_;
};

}  // namespace

std::unique_ptr<FixedElimination> make_dense(const SparsePattern& pattern)
{
    return std::make_unique<Dense>(pattern);
}

}  // namespace netloop

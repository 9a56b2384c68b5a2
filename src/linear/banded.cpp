// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <cmath>
#include <queue>

#include "linear/linear_solver.hpp"

namespace netloop {
namespace {

constexpr std::int64_t kWidest = 8;  ///< entries on each side of the diagonal
constexpr std::int64_t kNarrow = 3;  ///< wider ones pay from kMany rows on: small systems are done faster by a program
constexpr std::size_t kMany = 200;

// The neighbours of each row, from the pattern and its transpose.
std::vector<std::vector<std::uint32_t>> neighbours(const SparsePattern& p)
{
    std::vector<std::vector<std::uint32_t>> list(p.n_columns);
    for (std::uint32_t c = 0; c < p.n_columns; ++c)
        for (auto k = p.starts[c]; k < p.starts[c + 1]; ++k) {
            auto r = static_cast<std::uint32_t>(p.rows[static_cast<std::size_t>(k)]);
            if (r == c) continue;
            list[r].push_back(c);
            list[c].push_back(r);
        }
    for (auto& l : list) {
        std::sort(l.begin(), l.end());
        l.erase(std::unique(l.begin(), l.end()), l.end());
    }
    return list;
}

// Breadth first from an end of each connected piece, neighbours with few neighbours first.
std::vector<std::uint32_t> renumber(const std::vector<std::vector<std::uint32_t>>& list)
{
    auto n = static_cast<std::uint32_t>(list.size());
    std::vector<std::uint32_t> order, level(n, 0);
    std::vector<char> done(n, 0);
    auto walk = [&](std::uint32_t from, std::vector<std::uint32_t>& out) {
        std::size_t first = out.size();
        out.push_back(from);
        done[from] = 1;
        for (std::size_t k = first; k < out.size(); ++k) {
            std::size_t begin = out.size();
            for (std::uint32_t next : list[out[k]])
                if (done[next] == 0) done[next] = 1, out.push_back(next);
            std::sort(out.begin() + static_cast<std::ptrdiff_t>(begin), out.end(),
                      [&](std::uint32_t a, std::uint32_t b) { return list[a].size() != list[b].size() ? list[a].size() < list[b].size() : a < b; });
        }
        return out.back();
    };
    for (std::uint32_t i = 0; i < n; ++i) {
        if (done[i] != 0) continue;
        std::vector<std::uint32_t> piece;
        std::uint32_t end = walk(i, piece);  // the last one met lies at an end of the piece
        for (std::uint32_t k : piece) done[k] = 0;
        walk(end, order);
    }
    return order;
}

class Banded : public FixedElimination {
public:
    Banded(const SparsePattern& p, const std::vector<std::uint32_t>& order, std::int64_t width)
        : n_(p.n_columns), b_(static_cast<std::size_t>(width)), order_(order), entries_(p.n_entries())
    {
        std::vector<std::uint32_t> number(n_);
        for (std::uint32_t k = 0; k < n_; ++k) number[order[k]] = k;
        plain_ = true;
        for (std::uint32_t k = 0; k < n_; ++k) plain_ &= order[k] == k;
        std::size_t row = 2 * b_ + 1;
        rows_.resize(entries_);
        place_.resize(entries_);
        for (std::uint32_t c = 0; c < n_; ++c)
            for (auto k = static_cast<std::size_t>(p.starts[c]); k < static_cast<std::size_t>(p.starts[c + 1]); ++k) {
                std::uint32_t r = number[static_cast<std::size_t>(p.rows[k])];
                rows_[k] = r;
                place_[k] = static_cast<std::uint32_t>(r * row + (number[c] + b_ - r));
            }
        a_.assign(n_ * row, 0.0);
        largest_.resize(n_);
        inverse_.resize(n_);
        x_.resize(n_);
    }
    const char* name() const override { return "banded"; }

    bool factor(const double* values) override
    {
        std::fill(a_.begin(), a_.end(), 0.0);
        std::fill(largest_.begin(), largest_.end(), 0.0);
        for (std::size_t k = 0; k < entries_; ++k) {
            a_[place_[k]] = values[k];
            double& most = largest_[rows_[k]];
            most = std::max(most, std::abs(values[k]));
        }
        switch (b_) {
            case 1:
                return eliminate<1>();
            case 2:
                return eliminate<2>();
            case 3:
                return eliminate<3>();
            default:
                return eliminate<0>();
        }
    }

    void solve(double* b) override
    {
        double* x = b;
        if (!plain_) {
            x = x_.data();
            for (std::size_t k = 0; k < n_; ++k) x[k] = b[order_[k]];
        }
        switch (b_) {
            case 1:
                substitute<1>(x);
                break;
            case 2:
                substitute<2>(x);
                break;
            case 3:
                substitute<3>(x);
                break;
            default:
                substitute<0>(x);
                break;
        }
        if (!plain_)
            for (std::size_t k = 0; k < n_; ++k) b[order_[k]] = x[k];
    }

private:
    // W: the width as a constant, 0: any. Row r has its diagonal at a_[r * (2 W + 1) + W].
    template <std::size_t W>
    bool eliminate()
    {
        const std::size_t b = W > 0 ? W : b_, row = 2 * b + 1;
        bool good = true;
        for (std::size_t k = 0; k < n_; ++k) {
            double* pivot = &a_[k * row + b];
            // against the largest entry that its row began with: what is left of it must not be mere rounding
            if (!(std::abs(*pivot) > 1e-14 * largest_[k])) return false;
            double inverse = 1 / *pivot;
            inverse_[k] = inverse;
            std::size_t last = std::min(k + b, n_ - 1);
            for (std::size_t r = k + 1; r <= last; ++r) {
                double* line = &a_[r * row + b - (r - k)];  // its entry in column k
                double l = *line * inverse;
                *line = l;
                good &= std::abs(l) * largest_[k] <= kLargestMultiplier * largest_[r];
                for (std::size_t j = 1; j <= b; ++j) line[j] -= l * pivot[j];
            }
            // divided once here, so that substitution, where each row waits for the one before, has one operation less to wait for
            for (std::size_t j = 1; j <= b; ++j) pivot[j] *= inverse;
        }
        return good;
    }

    template <std::size_t W>
    void substitute(double* x) const
    {
        const std::size_t b = W > 0 ? W : b_, row = 2 * b + 1;
        auto forward = [&](std::size_t k, std::size_t reach) {
            const double* line = &a_[k * row + b];
            double sum = x[k];
            for (std::size_t j = reach; j > 0; --j) sum -= *(line - j) * x[k - j];
            x[k] = sum;
        };
        auto backward = [&](std::size_t k, std::size_t reach) {
            const double* line = &a_[k * row + b];
            double sum = x[k] * inverse_[k];
            for (std::size_t j = reach; j > 0; --j) sum -= line[j] * x[k + j];
            x[k] = sum;
        };
        // near both ends the band is cut
        const std::size_t end = std::min(b, n_);
        for (std::size_t k = 0; k < end; ++k) forward(k, k);
        for (std::size_t k = end; k < n_; ++k) forward(k, b);
        for (std::size_t k = n_; k-- > n_ - end;) backward(k, n_ - 1 - k);
        for (std::size_t k = n_ - end; k-- > 0;) backward(k, b);
    }

    std::size_t n_, b_;
    std::vector<std::uint32_t> order_;
    std::size_t entries_;
    bool plain_ = false;
    std::vector<std::uint32_t> rows_, place_;  ///< per entry
    std::vector<double> a_, largest_, inverse_, x_;
};

}  // namespace

std::unique_ptr<FixedElimination> make_banded(const SparsePattern& pattern)
{
    std::size_t n = pattern.n_columns;
    if (pattern.n_entries() > n * (2 * kWidest + 1)) return nullptr;
    auto width_of = [&](const std::vector<std::uint32_t>& order) {
        std::vector<std::int64_t> number(n);
        for (std::size_t k = 0; k < n; ++k) number[order[k]] = static_cast<std::int64_t>(k);
        std::int64_t width = 1;
        for (std::uint32_t c = 0; c < n; ++c)
            for (auto k = pattern.starts[c]; k < pattern.starts[c + 1]; ++k)
                width = std::max(width, std::abs(number[static_cast<std::size_t>(pattern.rows[static_cast<std::size_t>(k)])] - number[c]));
        return width;
    };
    std::vector<std::uint32_t> order(n);
    for (std::uint32_t k = 0; k < n; ++k) order[k] = k;
    std::int64_t width = width_of(order);
    if (width > 1) {
        std::vector<std::uint32_t> other = renumber(neighbours(pattern));
        if (std::int64_t w = width_of(other); w < width) order = other, width = w;
    }
    if (width > kWidest || (width > kNarrow && n < kMany)) return nullptr;
    return std::make_unique<Banded>(pattern, order, width);
}

}  // namespace netloop

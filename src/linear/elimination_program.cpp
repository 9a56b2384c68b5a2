// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <array>
#include <cmath>
#include <map>

#include "evaluate/machine_code.hpp"
#include "linear/linear_solver.hpp"

namespace netloop {
namespace {

constexpr std::size_t kLongestProgram = 20000;  ///< operations; beyond, KLU's loops are as fast as code that no longer fits the caches

// The programs in the making: factorisation and substitution over one memory of places, each written once.
class EliminationWriter {
public:
    std::uint32_t place() { return next_++; }
    std::uint32_t size() const { return next_; }
    std::uint32_t operation(Kernel& to, Op op, std::uint32_t a, std::uint32_t b)
    {
        to.code.push_back({op, 0, place(), a, b, 0});
        return to.code.back().to;
    }

private:
    std::uint32_t next_ = 0;
};

class EliminationProgram : public FixedElimination {
public:
    static std::unique_ptr<FixedElimination> make(const SparsePattern& p, const std::vector<std::int64_t>& rows, const std::vector<std::int64_t>& columns)
    {
        std::unique_ptr<EliminationProgram> e(new EliminationProgram(p));
        if (!e->write(p, rows, columns)) return nullptr;
        return e;
    }
    const char* name() const override { return "program"; }

    bool factor(const double* values) override
    {
        double* m = memory_.data();
        std::copy(values, values + entries_, m + first_entry_);
        // rows are scaled for the watch only: the scale of row r lies with 1/scale beside it
        std::fill(largest_.begin(), largest_.end(), 0.0);
        for (std::size_t k = 0; k < entries_; ++k) {
            double& most = largest_[rows_[k]];
            most = std::max(most, std::abs(values[k]));
        }
        factor_->run(m, nullptr);
        bool good = true;
        for (const Multiplier& l : multipliers_) good &= std::abs(m[l.place]) * largest_[l.pivot_row] <= kLargestMultiplier * largest_[l.row];
        for (const auto& [place, row] : pivots_) good &= std::abs(m[place]) > 1e-14 * largest_[row];
        return good;
    }

    void solve(double* b) override
    {
        double* m = memory_.data();
        std::copy(b, b + n_, m + first_b_);
        solve_->run(m, nullptr);
        for (std::size_t k = 0; k < n_; ++k) b[k] = m[results_[k]];
    }

private:
    explicit EliminationProgram(const SparsePattern& p) : n_(p.n_columns), entries_(p.n_entries()), largest_(n_)
    {
        for (std::int64_t r : p.rows) rows_.push_back(static_cast<std::uint32_t>(r));
    }

    bool write(const SparsePattern& p, const std::vector<std::int64_t>& rows, const std::vector<std::int64_t>& columns)
    {
        EliminationWriter writer;
        first_entry_ = writer.size();
        for (std::size_t k = 0; k < entries_; ++k) writer.place();
        first_b_ = writer.size();
        for (std::size_t k = 0; k < n_; ++k) writer.place();
        one_ = writer.place();
        std::vector<std::uint32_t> row_number(n_), column_number(n_);
        for (std::uint32_t k = 0; k < n_; ++k) {
            row_number[static_cast<std::size_t>(rows[k])] = k;
            column_number[static_cast<std::size_t>(columns[k])] = k;
        }
        std::vector<std::map<std::uint32_t, std::uint32_t>> line(n_);  // per row in the new order: column -> place
        std::vector<std::vector<std::uint32_t>> below(n_);             // per column: rows that may have to be eliminated
        for (std::uint32_t c = 0; c < n_; ++c)
            for (auto k = static_cast<std::size_t>(p.starts[c]); k < static_cast<std::size_t>(p.starts[c + 1]); ++k) {
                std::uint32_t r = row_number[static_cast<std::size_t>(p.rows[k])], j = column_number[c];
                line[r][j] = first_entry_ + static_cast<std::uint32_t>(k);
                if (r > j) below[j].push_back(r);
            }
        Program factor, solve;
        factor.kernels.emplace_back();
        solve.kernels.emplace_back();
        Kernel &f = factor.kernels[0], &s = solve.kernels[0];
        std::vector<std::uint32_t> inverse(n_), b(n_);
        for (std::uint32_t k = 0; k < n_; ++k) b[k] = first_b_ + static_cast<std::uint32_t>(rows[k]);
        for (std::uint32_t k = 0; k < n_; ++k) {
            auto pivot = line[k].find(k);
            if (pivot == line[k].end()) return false;
            pivots_.emplace_back(pivot->second, static_cast<std::uint32_t>(rows[k]));
            factor.results.push_back(pivot->second);
            inverse[k] = writer.operation(f, Op::div, one_, pivot->second);
            factor.results.push_back(inverse[k]);
            std::sort(below[k].begin(), below[k].end());
            below[k].erase(std::unique(below[k].begin(), below[k].end()), below[k].end());
            for (std::uint32_t r : below[k]) {
                auto found = line[r].find(k);
                std::uint32_t l = writer.operation(f, Op::mul, found->second, inverse[k]);
                factor.results.push_back(l);
                multipliers_.push_back({l, static_cast<std::uint32_t>(rows[k]), static_cast<std::uint32_t>(rows[r])});
                for (auto u = std::next(pivot); u != line[k].end(); ++u) {
                    std::uint32_t product = writer.operation(f, Op::mul, l, u->second);
                    auto [at, is_new] = line[r].try_emplace(u->first, 0);
                    at->second = is_new ? negated(writer, f, product) : writer.operation(f, Op::sub, at->second, product);
                    if (is_new && u->first < r) below[u->first].push_back(r);
                }
                b[r] = writer.operation(s, Op::sub, b[r], writer.operation(s, Op::mul, l, b[k]));
                line[r].erase(k);
            }
            for (auto u = std::next(pivot); u != line[k].end(); ++u) factor.results.push_back(u->second);
            if (f.code.size() + s.code.size() > kLongestProgram) return false;
        }
        results_.resize(n_);
        for (std::uint32_t k = static_cast<std::uint32_t>(n_); k-- > 0;) {
            std::uint32_t sum = b[k];
            for (auto u = line[k].upper_bound(k); u != line[k].end(); ++u)
                sum = writer.operation(s, Op::sub, sum, writer.operation(s, Op::mul, u->second, b[u->first]));
            b[k] = writer.operation(s, Op::mul, sum, inverse[k]);
            results_[static_cast<std::size_t>(columns[k])] = b[k];
        }
        solve.results.assign(results_.begin(), results_.end());
        static const std::vector<TablePtr> kNoTables;
        static const std::vector<CallablePtr> kNoFunctions;
        factor_ = MachineCode::make(factor, {kNoTables, kNoFunctions});
        solve_ = MachineCode::make(solve, {kNoTables, kNoFunctions});
        memory_.assign(writer.size(), 0.0);
        memory_[one_] = 1;
        return factor_ != nullptr && solve_ != nullptr;
    }
    static std::uint32_t negated(EliminationWriter& writer, Kernel& to, std::uint32_t a) { return writer.operation(to, Op::neg, a, 0); }

    struct Multiplier {
        std::uint32_t place = 0, pivot_row = 0, row = 0;
    };
    std::size_t n_, entries_;
    std::vector<std::uint32_t> rows_, results_;
    std::uint32_t first_entry_ = 0, first_b_ = 0, one_ = 0;
    std::vector<Multiplier> multipliers_;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> pivots_;  ///< place and row
    std::vector<double> memory_, largest_;
    std::unique_ptr<MachineCode> factor_, solve_;
};

}  // namespace

std::unique_ptr<FixedElimination> make_elimination_program(const SparsePattern& pattern, const std::vector<std::int64_t>& rows,
                                                           const std::vector<std::int64_t>& columns)
{
    if (pattern.n_entries() > kLongestProgram / 2) return nullptr;
    return EliminationProgram::make(pattern, rows, columns);
}

}  // namespace netloop

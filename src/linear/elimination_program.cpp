// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <array>
#include <cmath>

#include "evaluate/machine_code.hpp"
#include "linear/elimination_writer.hpp"
#include "linear/linear_solver.hpp"

namespace netloop {
namespace {

constexpr std::size_t kLongestProgram = 20000;  ///< operations; beyond, KLU's loops are as fast as code that no longer fits the caches

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
        Program factor, solve;
        std::uint32_t next = 0;
        std::vector<std::uint32_t> entries(entries_), b(n_);
        first_entry_ = next;
        for (std::uint32_t& place : entries) place = next++;
        first_b_ = next;
        for (std::uint32_t& place : b) place = next++;
        one_ = next++;
        auto into = [&next](Program& program) {
            program.kernels.emplace_back();
            return [&next, &to = program.kernels[0]](Op op, std::uint32_t x, std::uint32_t y) {
                to.code.push_back({op, 0, next, x, y, 0});
                return next++;
            };
        };
        WrittenFactors factors;
        if (!write_factorisation(p, entries, rows, columns, one_, kLongestProgram, into(factor), factors)) return false;
        results_ = write_substitution(factors, b, into(solve));
        factor.results = factors.places();
        solve.results = results_;
        for (std::size_t k = 0; k < n_; ++k) pivots_.emplace_back(factors.pivots[k], static_cast<std::uint32_t>(rows[k]));
        for (const WrittenFactors::Multiplier& l : factors.multipliers)
            multipliers_.push_back({l.place, static_cast<std::uint32_t>(rows[l.pivot]), static_cast<std::uint32_t>(rows[l.row])});
        static const std::vector<TablePtr> kNoTables;
        static const std::vector<CallablePtr> kNoFunctions;
        factor_ = MachineCode::make(factor, {kNoTables, kNoFunctions});
        solve_ = MachineCode::make(solve, {kNoTables, kNoFunctions});
        memory_.assign(next, 0.0);
        memory_[one_] = 1;
        return factor_ != nullptr && solve_ != nullptr;
    }

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

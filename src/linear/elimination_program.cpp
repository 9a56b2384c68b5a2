// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <atomic>
#include <cmath>
#include <mutex>

#include "evaluate/machine_code.hpp"
#include "linear/elimination_writer.hpp"
#include "linear/linear_solver.hpp"

namespace netloop {
namespace {

constexpr std::size_t kLongestProgram = 20000;  ///< operations; beyond, KLU's loops are as fast as code that no longer fits the caches

// The operations of a factorisation, or of a substitution, over places of a memory. At first gone through one by one, as machine code once that pays: the
// numbers are the same to the bit.
class OperationList {
public:
    std::uint32_t add(Op op, std::uint32_t to, std::uint32_t a, std::uint32_t b)
    {
        program_.kernels[0].code.push_back({op, 0, to, a, b, 0});
        return to;
    }
    void finish(std::vector<std::uint32_t> results) { program_.results = std::move(results); }

    void run(double* m) const
    {
        constexpr std::size_t kPays = 60;
        if (n_runs_.fetch_add(1, std::memory_order_relaxed) >= kPays) {
            std::call_once(machine_once_, [this] {
                static const std::vector<TablePtr> kNoTables;
                static const std::vector<CallablePtr> kNoFunctions;
                try {
                    machine_ = MachineCode::make(program_, {kNoTables, kNoFunctions});
                } catch (const std::bad_alloc&) {
                }
            });
            if (machine_ != nullptr) {
                machine_->run(m, nullptr);
                return;
            }
        }
        for (const Instruction& i : program_.kernels[0].code) {
            double a = m[i.a], b = m[i.b];
            m[i.to] = i.op == Op::mul ? a * b : i.op == Op::sub ? a - b : i.op == Op::div ? a / b : -a;
        }
    }

private:
    Program program_{"", std::vector<Kernel>(1), {}, nullptr};
    mutable std::atomic<std::size_t> n_runs_ = 0;
    mutable std::once_flag machine_once_;
    mutable std::unique_ptr<MachineCode> machine_;
};

// An elimination in a given order, without numbers: shared by all solvers of a pattern.
struct WrittenElimination {
    struct Multiplier {
        std::uint32_t place = 0, pivot_row = 0, row = 0;
    };
    std::vector<std::int64_t> row_order, column_order;
    std::size_t n_places = 0;
    std::vector<std::uint32_t> rows, columns, results;  ///< row and column of each entry; place of each unknown
    std::uint32_t first_entry = 0, first_b = 0, one = 0;
    std::vector<Multiplier> multipliers;
    struct Pivot {
        std::uint32_t place = 0, row = 0, column = 0;
    };
    std::vector<Pivot> pivots;
    OperationList factor, solve;

    static std::shared_ptr<const WrittenElimination> make(const SparsePattern& p, const std::vector<std::int64_t>& row_order,
                                                          const std::vector<std::int64_t>& column_order)
    {
        auto e = std::make_shared<WrittenElimination>();
        e->row_order = row_order;
        e->column_order = column_order;
        for (std::int64_t r : p.rows) e->rows.push_back(static_cast<std::uint32_t>(r));
        for (std::uint32_t c = 0; c < p.n_columns; ++c) e->columns.insert(e->columns.end(), static_cast<std::size_t>(p.starts[c + 1] - p.starts[c]), c);
        std::uint32_t next = 0;
        std::vector<std::uint32_t> entries(p.n_entries()), b(p.n_columns);
        for (std::uint32_t& place : entries) place = next++;
        e->first_b = next;
        for (std::uint32_t& place : b) place = next++;
        e->one = next++;
        auto into = [&next](OperationList& list) { return [&next, &list](Op op, std::uint32_t x, std::uint32_t y) { return list.add(op, next++, x, y); }; };
        WrittenFactors factors;
        if (!write_factorisation(p, entries, row_order, column_order, e->one, kLongestProgram, into(e->factor), factors)) return nullptr;
        e->results = write_substitution(factors, b, into(e->solve));
        e->factor.finish(factors.places());
        e->solve.finish(e->results);
        for (std::size_t k = 0; k < p.n_columns; ++k)
            e->pivots.push_back({factors.pivots[k], static_cast<std::uint32_t>(row_order[k]), static_cast<std::uint32_t>(column_order[k])});
        for (const WrittenFactors::Multiplier& l : factors.multipliers)
            e->multipliers.push_back({l.place, static_cast<std::uint32_t>(row_order[l.pivot]), static_cast<std::uint32_t>(row_order[l.row])});
        e->n_places = next;
        return e;
    }
};

// The orders that runs of a system have asked for: mostly one.
struct WrittenEliminations : PatternKnowledge {
    std::vector<std::shared_ptr<const WrittenElimination>> made;
};

std::shared_ptr<const WrittenElimination> written(const SparsePattern& p, const std::vector<std::int64_t>& rows, const std::vector<std::int64_t>& columns)
{
    if (p.shared == nullptr) return WrittenElimination::make(p, rows, columns);
    constexpr std::size_t kMost = 8;
    std::lock_guard guard(p.shared->lock);
    if (p.shared->known == nullptr) p.shared->known = std::make_shared<WrittenEliminations>();
    auto& made = static_cast<WrittenEliminations&>(*p.shared->known).made;
    for (const auto& e : made)
        if (e->row_order == rows && e->column_order == columns) return e;
    auto e = WrittenElimination::make(p, rows, columns);
    if (e != nullptr && made.size() < kMost) made.push_back(e);
    return e;
}

class EliminationProgram : public FixedElimination {
public:
    EliminationProgram(std::shared_ptr<const WrittenElimination> elimination, std::size_t n)
        : w_(std::move(elimination)), memory_(w_->n_places, 0.0), scale_(n), largest_(n)
    {
        memory_[w_->one] = 1;
    }
    const char* name() const override { return "program"; }

    bool factor(const double* values) override
    {
        double* m = memory_.data();
        std::copy_n(values, w_->rows.size(), m + w_->first_entry);
        find_sizes(values);
        w_->factor.run(m);
        bool good = true;
        for (const WrittenElimination::Multiplier& l : w_->multipliers)
            good &= std::abs(m[l.place]) * largest_[l.pivot_row] <= kLargestMultiplier * largest_[l.row];
        for (const WrittenElimination::Pivot& p : w_->pivots) good &= std::abs(m[p.place]) * scale_[p.column] > 1e-14 * largest_[p.row];
        return good;
    }

    void solve(double* b) override
    {
        double* m = memory_.data();
        std::copy_n(b, largest_.size(), m + w_->first_b);
        w_->solve.run(m);
        for (std::size_t k = 0; k < largest_.size(); ++k) b[k] = m[w_->results[k]];
    }

private:
    // Rows and columns are scaled for the watch only: it is not to tell the units of quantities.
    void find_sizes(const double* values)
    {
        const std::uint32_t *row = w_->rows.data(), *column = w_->columns.data();
        std::size_t n = w_->rows.size();
        std::fill(largest_.begin(), largest_.end(), 0.0);
        for (std::size_t k = 0; k < n; ++k) largest_[row[k]] = std::max(largest_[row[k]], std::abs(values[k]));
        for (double& size : largest_) size = size > 0 ? 1 / size : 0;
        std::fill(scale_.begin(), scale_.end(), 0.0);
        for (std::size_t k = 0; k < n; ++k) scale_[column[k]] = std::max(scale_[column[k]], std::abs(values[k]) * largest_[row[k]]);
        for (double& size : scale_) size = size > 0 ? 1 / size : 1;
        std::fill(largest_.begin(), largest_.end(), 0.0);
        for (std::size_t k = 0; k < n; ++k) largest_[row[k]] = std::max(largest_[row[k]], std::abs(values[k]) * scale_[column[k]]);
    }

    std::shared_ptr<const WrittenElimination> w_;
    std::vector<double> memory_, scale_, largest_;
};

}  // namespace

std::unique_ptr<FixedElimination> make_elimination_program(const SparsePattern& pattern, const std::vector<std::int64_t>& rows,
                                                           const std::vector<std::int64_t>& columns)
{
    if (pattern.n_entries() > kLongestProgram / 2) return nullptr;
    std::shared_ptr<const WrittenElimination> elimination = written(pattern, rows, columns);
    if (elimination == nullptr) return nullptr;
    return std::make_unique<EliminationProgram>(std::move(elimination), pattern.n_columns);
}

}  // namespace netloop

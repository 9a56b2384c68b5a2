// SPDX-License-Identifier: Apache-2.0
#include "linear/elimination_writer.hpp"

#include <algorithm>
#include <map>

namespace netloop {

std::vector<std::uint32_t> WrittenFactors::places() const
{
    std::vector<std::uint32_t> all = pivots;
    all.insert(all.end(), inverse.begin(), inverse.end());
    for (const Multiplier& l : multipliers) all.push_back(l.place);
    for (const auto& row : behind)
        for (const auto& [number, place] : row) all.push_back(place);
    return all;
}

bool write_factorisation(const SparsePattern& p, const std::vector<std::uint32_t>& entries, const std::vector<std::int64_t>& rows,
                         const std::vector<std::int64_t>& columns, std::uint32_t one, std::size_t most, const EmitOperation& emit, WrittenFactors& made)
{
    std::uint32_t n = p.n_columns;
    made = {};
    made.rows = rows;
    made.columns = columns;
    std::vector<std::uint32_t> row_number(n), column_number(n);
    for (std::uint32_t k = 0; k < n; ++k) {
        row_number[static_cast<std::size_t>(rows[k])] = k;
        column_number[static_cast<std::size_t>(columns[k])] = k;
    }
    std::vector<std::map<std::uint32_t, std::uint32_t>> line(n);  // per row in the new order: column -> place
    std::vector<std::vector<std::uint32_t>> below(n);             // per column: rows that may have to be eliminated
    for (std::uint32_t c = 0; c < n; ++c)
        for (auto k = static_cast<std::size_t>(p.starts[c]); k < static_cast<std::size_t>(p.starts[c + 1]); ++k) {
            std::uint32_t r = row_number[static_cast<std::size_t>(p.rows[k])], j = column_number[c];
            line[r][j] = entries[k];
            if (r > j) below[j].push_back(r);
        }
    auto operation = [&](Op op, std::uint32_t a, std::uint32_t b) {
        ++made.n_operations;
        return emit(op, a, b);
    };
    for (std::uint32_t k = 0; k < n; ++k) {
        auto pivot = line[k].find(k);
        if (pivot == line[k].end()) return false;
        made.pivots.push_back(pivot->second);
        made.inverse.push_back(operation(Op::div, one, pivot->second));
        std::sort(below[k].begin(), below[k].end());
        below[k].erase(std::unique(below[k].begin(), below[k].end()), below[k].end());
        for (std::uint32_t r : below[k]) {
            auto found = line[r].find(k);
            std::uint32_t l = operation(Op::mul, found->second, made.inverse[k]);
            made.multipliers.push_back({k, r, l});
            for (auto u = std::next(pivot); u != line[k].end(); ++u) {
                std::uint32_t product = operation(Op::mul, l, u->second);
                auto [at, is_new] = line[r].try_emplace(u->first, 0);
                at->second = is_new ? operation(Op::neg, product, 0) : operation(Op::sub, at->second, product);
                if (is_new && u->first < r) below[u->first].push_back(r);
            }
            line[r].erase(k);
        }
        made.behind.emplace_back(std::next(pivot), line[k].end());
        if (made.n_operations + 2 * made.multipliers.size() > most) return false;
    }
    return true;
}

std::vector<std::uint32_t> write_substitution(const WrittenFactors& f, const std::vector<std::uint32_t>& right, const EmitOperation& emit)
{
    auto n = static_cast<std::uint32_t>(f.pivots.size());
    std::vector<std::uint32_t> b(n), x(n);
    for (std::uint32_t k = 0; k < n; ++k) b[k] = right[static_cast<std::size_t>(f.rows[k])];
    for (const WrittenFactors::Multiplier& l : f.multipliers) b[l.row] = emit(Op::sub, b[l.row], emit(Op::mul, l.place, b[l.pivot]));
    for (std::uint32_t k = n; k-- > 0;) {
        std::uint32_t sum = b[k];
        for (const auto& [number, place] : f.behind[k]) sum = emit(Op::sub, sum, emit(Op::mul, place, b[number]));
        b[k] = emit(Op::mul, sum, f.inverse[k]);
        x[static_cast<std::size_t>(f.columns[k])] = b[k];
    }
    return x;
}

}  // namespace netloop

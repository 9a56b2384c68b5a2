// SPDX-License-Identifier: Apache-2.0
#include "compile/choose_states.hpp"

#include <algorithm>
#include <cmath>
#include <map>
#include <tuple>

namespace netloop {
namespace {

class Choice {
public:
    Choice(Graph& graph, std::vector<ConstraintRow> rows, const std::vector<int>& wish, const std::function<double(NodeId)>& sample,
           const std::function<bool(NodeId)>& fixed, const std::function<bool(NodeId)>& never_zero)
        : g_(graph), rows_(std::move(rows)), wish_(wish), sample_(sample), fixed_(fixed), never_zero_(never_zero)
    {
        std::stable_sort(rows_.begin(), rows_.end(), [](const auto& a, const auto& b) { return a.differentiated > b.differentiated; });
        entries_.resize(rows_.size());
        for (std::size_t r = 0; r < rows_.size(); ++r)
            for (const auto& [c, node] : rows_[r].entries) {
                if (g_.is_constant(node, 0)) continue;
                entries_[r][c] = node;
                users_[c].push_back(r);
            }
        done_.assign(rows_.size(), 0);
    }

    ChosenStates run()
    {
        for (std::size_t begin = 0; begin < rows_.size();) {
            std::size_t end = begin;
            while (end < rows_.size() && rows_[end].differentiated == rows_[begin].differentiated) ++end;
            eliminate(begin, end);
            begin = end;
        }
        gather_open();
        return std::move(chosen_);
    }

private:
    // Pivots for the rows of one group; what has none is left, and its columns are not touched by less differentiated rows.
    void eliminate(std::size_t begin, std::size_t end)
    {
        bool progress = true;
        while (progress) {
            progress = false;
            for (std::size_t r = begin; r < end; ++r) {
                if (done_[r]) continue;
                const std::uint32_t* best = nullptr;
                std::tuple<int, std::size_t, int> best_rank;
                for (const auto& [c, node] : entries_[r]) {
                    if (contested_.count(c) || !safe(node)) continue;
                    std::tuple<int, std::size_t, int> rank{wish_[c] / 10, users_[c].size(), wish_[c]};
                    if (best == nullptr || rank < best_rank) best = &c, best_rank = rank;
                }
                if (best == nullptr) continue;
                pivot(r, *best);
                progress = true;
            }
        }
        for (std::size_t r = begin; r < end; ++r)
            if (!done_[r])
                for (const auto& [c, node] : entries_[r]) contested_[c] = 1;
    }

    bool safe(NodeId node)
    {
        if (never_zero_(node)) return true;
        if (!fixed_(node)) return false;
        double v = sample_(node);
        return std::isfinite(v) && std::abs(v) > 1e-12;
    }

    void pivot(std::size_t r, std::uint32_t c)
    {
        done_[r] = 1;
        chosen_.dependent.emplace_back(c, rows_[r].differentiated);
        NodeId by = entries_[r].at(c);
        for (std::size_t other : users_[c]) {
            if (done_[other]) continue;
            auto it = entries_[other].find(c);
            if (it == entries_[other].end()) continue;
            NodeId factor = g_.div(it->second, by);
            entries_[other].erase(it);
            for (const auto& [column, node] : entries_[r]) {
                if (column == c) continue;
                NodeId product = g_.mul(factor, node);
                auto [place, fresh] = entries_[other].try_emplace(column, kNoNode);
                place->second = fresh ? g_.neg(product) : g_.sub(place->second, product);
                if (fresh) users_[column].push_back(other);
                // what cancels does so for every value of the parameters, or at least for these
                if (fixed_(place->second) && std::abs(sample_(place->second)) < 1e-12) entries_[other].erase(place);
            }
        }
        users_.erase(c);
    }

    void gather_open()
    {
        std::vector<char> taken(rows_.size(), 0);
        for (std::size_t first = 0; first < rows_.size(); ++first) {
            if (done_[first] || taken[first]) continue;
            std::vector<std::size_t> members{first};
            std::map<std::uint32_t, char> columns;
            taken[first] = 1;
            for (std::size_t at = 0; at < members.size(); ++at)
                for (const auto& [c, node] : entries_[members[at]]) {
                    if (!columns.emplace(c, 1).second) continue;
                    for (std::size_t other : users_[c])
                        if (!done_[other] && !taken[other] && entries_[other].count(c)) taken[other] = 1, members.push_back(other);
                }
            std::sort(members.begin(), members.end());
            ChosenStates::Open set;
            for (const auto& [c, one] : columns) set.columns.push_back(c);
            for (std::size_t r : members) set.rows.push_back({rows_[r].equation, rows_[r].differentiated, {entries_[r].begin(), entries_[r].end()}});
            close(std::move(set));
        }
    }

    // A set is left to the run only if there is something to choose and the constraints are independent.
    void close(ChosenStates::Open set)
    {
        std::size_t n_rows = set.rows.size(), n = set.columns.size();
        std::map<std::uint32_t, std::size_t> place;
        for (std::size_t i = 0; i < n; ++i) place[set.columns[i]] = i;
        std::vector<std::vector<double>> a(n_rows, std::vector<double>(n, 0.0));
        for (std::size_t r = 0; r < n_rows; ++r)
            for (const auto& [c, node] : set.rows[r].entries) {
                double v = sample_(node);
                a[r][place[c]] = std::isfinite(v) ? v : 1.0;
            }
        std::vector<std::pair<std::uint32_t, std::uint32_t>> pivots;
        for (std::size_t r = 0; r < n_rows; ++r) {
            std::size_t best = n;
            double size = 0;
            for (std::size_t c = 0; c < n; ++c)
                if (std::abs(a[r][c]) > size) best = c, size = std::abs(a[r][c]);
            if (best == n || size < 1e-10) {
                chosen_.deficient = set.rows[r].equation;
                return;
            }
            pivots.emplace_back(set.columns[best], set.rows[r].differentiated);
            for (std::size_t k = r + 1; k < n_rows; ++k) {
                double f = a[k][best] / a[r][best];
                for (std::size_t c = 0; c < n; ++c) a[k][c] -= f * a[r][c];
                a[k][best] = 0;
            }
        }
        if (n == n_rows)
            chosen_.dependent.insert(chosen_.dependent.end(), pivots.begin(), pivots.end());
        else
            chosen_.open.push_back(std::move(set));
    }

    Graph& g_;
    std::vector<ConstraintRow> rows_;
    const std::vector<int>& wish_;
    const std::function<double(NodeId)>& sample_;
    const std::function<bool(NodeId)>& fixed_;
    const std::function<bool(NodeId)>& never_zero_;
    std::vector<std::map<std::uint32_t, NodeId>> entries_;
    std::map<std::uint32_t, std::vector<std::size_t>> users_;  ///< rows that have, or once had, the column
    std::map<std::uint32_t, char> contested_;
    std::vector<char> done_;
    ChosenStates chosen_;
};

}  // namespace

ChosenStates choose_states(Graph& graph, std::vector<ConstraintRow> rows, const std::vector<int>& wish, const std::function<double(NodeId)>& sample,
                           const std::function<bool(NodeId)>& fixed, const std::function<bool(NodeId)>& never_zero)
{
    return Choice(graph, std::move(rows), wish, sample, fixed, never_zero).run();
}

}  // namespace netloop

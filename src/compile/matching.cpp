// SPDX-License-Identifier: Apache-2.0
#include "compile/matching.hpp"

#include <algorithm>

namespace netloop {
namespace {

// Depth-first search for an augmenting path with a look-ahead for a free column; explicit stack.
template <typename Allowed>
bool search(const Adjacency& rows, Matching& m, std::uint32_t start, std::vector<std::uint32_t>& mark, std::uint32_t stamp, Allowed allowed)
{
    struct Frame {
        std::uint32_t row, next;
    };
    std::vector<Frame> path{{start, rows.starts[start]}};
    std::vector<std::uint32_t> via;
    while (!path.empty()) {
        Frame& top = path.back();
        if (top.next == rows.starts[top.row + 1]) {
            path.pop_back();
            if (!via.empty()) via.pop_back();
            continue;
        }
        std::uint32_t column = rows.targets[top.next++];
        if (mark[column] == stamp || !allowed(top.row, column)) continue;
        mark[column] = stamp;
        via.push_back(column);
        std::uint32_t next = m.row_of_column[column];
        if (next == kUnmatched) {
            for (std::size_t i = 0; i < path.size(); ++i) {
                m.column_of_row[path[i].row] = via[i];
                m.row_of_column[via[i]] = path[i].row;
            }
            ++m.size;
            return true;
        }
        path.push_back({next, rows.starts[next]});
    }
    return false;
}

}  // namespace

bool augment(const Adjacency& rows, Matching& m, std::uint32_t row, std::vector<std::uint32_t>& mark, std::uint32_t stamp)
{
    return search(rows, m, row, mark, stamp, [](std::uint32_t, std::uint32_t) { return true; });
}

Matching maximum_matching(const Adjacency& rows, std::uint32_t n_columns)
{
    Matching m;
    std::uint32_t n = rows.n_rows();
    m.column_of_row.assign(n, kUnmatched);
    m.row_of_column.assign(n_columns, kUnmatched);
    for (std::uint32_t r = 0; r < n; ++r) {  // a cheap first matching
        for (std::uint32_t k = rows.starts[r]; k < rows.starts[r + 1]; ++k) {
            std::uint32_t c = rows.targets[k];
            if (m.row_of_column[c] != kUnmatched) continue;
            m.row_of_column[c] = r;
            m.column_of_row[r] = c;
            ++m.size;
            break;
        }
    }
    std::vector<std::uint32_t> level(n), mark(n_columns, 0), queue;
    std::uint32_t stamp = 0;
    for (bool progress = true; progress;) {
        progress = false;
        // breadth-first levels from the free rows
        queue.clear();
        std::fill(level.begin(), level.end(), kUnmatched);
        for (std::uint32_t r = 0; r < n; ++r)
            if (m.column_of_row[r] == kUnmatched && rows.starts[r] != rows.starts[r + 1]) level[r] = 0, queue.push_back(r);
        for (std::size_t at = 0; at < queue.size(); ++at) {
            std::uint32_t r = queue[at];
            for (std::uint32_t k = rows.starts[r]; k < rows.starts[r + 1]; ++k) {
                std::uint32_t next = m.row_of_column[rows.targets[k]];
                if (next != kUnmatched && level[next] == kUnmatched) level[next] = level[r] + 1, queue.push_back(next);
            }
        }
        ++stamp;
        for (std::uint32_t r = 0; r < n; ++r) {
            if (m.column_of_row[r] != kUnmatched) continue;
            auto layered = [&](std::uint32_t row, std::uint32_t column) {
                std::uint32_t next = m.row_of_column[column];
                return next == kUnmatched || level[next] == level[row] + 1;
            };
            progress |= search(rows, m, r, mark, stamp, layered);
        }
    }
    return m;
}

AlternatingSet alternating_from_row(const Adjacency& rows, const Matching& m, std::uint32_t row)
{
    AlternatingSet set{{row}, {}};
    std::vector<char> seen_row(rows.n_rows(), 0), seen_column(m.row_of_column.size(), 0);
    seen_row[row] = 1;
    for (std::size_t at = 0; at < set.rows.size(); ++at) {
        std::uint32_t r = set.rows[at];
        for (std::uint32_t k = rows.starts[r]; k < rows.starts[r + 1]; ++k) {
            std::uint32_t c = rows.targets[k];
            if (seen_column[c]) continue;
            seen_column[c] = 1;
            set.columns.push_back(c);
            std::uint32_t next = m.row_of_column[c];
            if (next != kUnmatched && !seen_row[next]) seen_row[next] = 1, set.rows.push_back(next);
        }
    }
    return set;
}

AlternatingSet alternating_from_column(const Adjacency& rows, const Matching& m, std::uint32_t column)
{
    std::vector<std::vector<std::uint32_t>> rows_of(m.row_of_column.size());
    for (std::uint32_t r = 0; r < rows.n_rows(); ++r)
        for (std::uint32_t k = rows.starts[r]; k < rows.starts[r + 1]; ++k) rows_of[rows.targets[k]].push_back(r);
    AlternatingSet set{{}, {column}};
    std::vector<char> seen_row(rows.n_rows(), 0), seen_column(m.row_of_column.size(), 0);
    seen_column[column] = 1;
    for (std::size_t at = 0; at < set.columns.size(); ++at) {
        for (std::uint32_t r : rows_of[set.columns[at]]) {
            if (seen_row[r]) continue;
            seen_row[r] = 1;
            set.rows.push_back(r);
            std::uint32_t next = m.column_of_row[r];
            if (next != kUnmatched && !seen_column[next]) seen_column[next] = 1, set.columns.push_back(next);
        }
    }
    return set;
}

std::vector<std::vector<std::uint32_t>> strong_components(const Adjacency& needs)
{
    std::uint32_t n = needs.n_rows();
    std::vector<std::uint32_t> index(n, 0), low(n, 0), stack;
    std::vector<char> on_stack(n, 0);
    std::vector<std::vector<std::uint32_t>> components;
    struct Frame {
        std::uint32_t node, next;
    };
    std::uint32_t counter = 0;
    for (std::uint32_t root = 0; root < n; ++root) {
        if (index[root] != 0) continue;
        std::vector<Frame> path{{root, needs.starts[root]}};
        index[root] = low[root] = ++counter;
        stack.push_back(root);
        on_stack[root] = 1;
        while (!path.empty()) {
            Frame& top = path.back();
            if (top.next < needs.starts[top.node + 1]) {
                std::uint32_t to = needs.targets[top.next++];
                if (index[to] == 0) {
                    index[to] = low[to] = ++counter;
                    stack.push_back(to);
                    on_stack[to] = 1;
                    path.push_back({to, needs.starts[to]});
                } else if (on_stack[to]) {
                    low[top.node] = std::min(low[top.node], index[to]);
                }
                continue;
            }
            std::uint32_t node = top.node;
            path.pop_back();
            if (!path.empty()) low[path.back().node] = std::min(low[path.back().node], low[node]);
            if (low[node] != index[node]) continue;
            std::vector<std::uint32_t> component;
            for (std::uint32_t member = kUnmatched; member != node;) {
                member = stack.back();
                stack.pop_back();
                on_stack[member] = 0;
                component.push_back(member);
            }
            std::sort(component.begin(), component.end());
            components.push_back(std::move(component));
        }
    }
    return components;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Bipartite matching and strong components on plain index graphs; no C++ recursion.
#pragma once

#include <cstdint>
#include <vector>

namespace netloop {

inline constexpr std::uint32_t kUnmatched = 0xffffffffu;

/// Adjacency in compressed rows: the columns of row r are targets[starts[r] .. starts[r + 1]).
struct Adjacency {
    std::vector<std::uint32_t> starts{0};
    std::vector<std::uint32_t> targets;

    std::uint32_t n_rows() const { return static_cast<std::uint32_t>(starts.size() - 1); }
    void add_row(const std::vector<std::uint32_t>& columns)
    {
        targets.insert(targets.end(), columns.begin(), columns.end());
        starts.push_back(static_cast<std::uint32_t>(targets.size()));
    }
};

struct Matching {
    std::vector<std::uint32_t> column_of_row;
    std::vector<std::uint32_t> row_of_column;
    std::uint32_t size = 0;
};

/// Maximum matching (Hopcroft and Karp, 1973, SIAM J. Comput. 2, 225-231). O(edges * sqrt(nodes)).
Matching maximum_matching(const Adjacency& rows, std::uint32_t n_columns);

/// Tries to match one more row by an augmenting path; rows matched before stay matched. Source: Duff (1981), ACM TOMS 7, 315-330.
bool augment(const Adjacency& rows, Matching& matching, std::uint32_t row, std::vector<std::uint32_t>& mark, std::uint32_t stamp);

/// Rows and columns reachable from unmatched rows (`from_rows`) or columns by alternating paths: the over- or under-determined
/// part of Dulmage and Mendelsohn (1958, Canad. J. Math. 10, 517-534). With `only` not kUnmatched, from that single one.
struct AlternatingSet {
    std::vector<std::uint32_t> rows;
    std::vector<std::uint32_t> columns;
};
AlternatingSet alternating_from_row(const Adjacency& rows, const Matching& matching, std::uint32_t row);
AlternatingSet alternating_from_column(const Adjacency& rows, const Matching& matching, std::uint32_t column);

/// Strong components of a directed graph, each after all it depends on (edges point to what a node needs).
/// Source: Tarjan (1972), SIAM J. Comput. 1, 146-160.
std::vector<std::vector<std::uint32_t>> strong_components(const Adjacency& needs);

}  // namespace netloop

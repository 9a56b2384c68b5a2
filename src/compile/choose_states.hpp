// SPDX-License-Identifier: Apache-2.0
// Which quantities stay states among those tied together by constraints that were differentiated.
#pragma once

#include <functional>
#include <optional>
#include <utility>
#include <vector>

#include "algebra/graph.hpp"

namespace netloop {

/// A constraint that was differentiated, as a row of d(constraint)/d(candidate).
struct ConstraintRow {
    std::uint32_t equation = 0;
    std::uint32_t differentiated = 0;                       ///< how often, at least once
    std::vector<std::pair<std::uint32_t, NodeId>> entries;  ///< (column of the candidate, derivative), columns ascending
};

struct ChosenStates {
    /// Columns that can be solved for whatever happens: (column, how many of its derivatives are no states).
    std::vector<std::pair<std::uint32_t, std::uint32_t>> dependent;
    /// What is left: constraints whose coefficients change, each set with columns among which the run chooses.
    struct Open {
        std::vector<ConstraintRow> rows;     ///< most differentiated first; coefficients after elimination of `dependent`
        std::vector<std::uint32_t> columns;  ///< ascending
    };
    std::vector<Open> open;
    std::optional<std::uint32_t> deficient;  ///< an equation whose row says nothing new: no choice is regular
};

/// Eliminates by pivots that are never zero, least wanted columns first, sparse. A pivot of a row that was differentiated k times
/// makes k derivatives of its column dependent; rows are taken most differentiated first, so that the choice is regular on each
/// level of differentiation. Source: the dummy derivatives of Mattsson and Soederlind (1993), SIAM J. Sci. Comput. 14, 677-692,
/// with the choice within `open` left to the run.
/// `wish` per column: how much it is wanted as a state. `sample`: a value of an expression at a typical point, for a look at rank.
/// `fixed`: whether an expression stands still while a run goes on. `never_zero`: whether it provably has no zero.
ChosenStates choose_states(Graph& graph, std::vector<ConstraintRow> rows, const std::vector<int>& wish, const std::function<double(NodeId)>& sample,
                           const std::function<bool(NodeId)>& fixed, const std::function<bool(NodeId)>& never_zero);

}  // namespace netloop

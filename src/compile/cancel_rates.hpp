// SPDX-License-Identifier: Apache-2.0
// Constraints that hide in sums of equations.
#pragma once

#include <cstdint>
#include <functional>
#include <utility>
#include <vector>

#include "algebra/graph.hpp"

namespace netloop {

/// An equation of a block, linear in the block's highest derivatives.
struct LeadingRow {
    std::uint32_t equation = 0;
    std::uint32_t differentiated = 0;
    std::vector<std::pair<std::uint32_t, NodeId>> entries;  ///< (column, coefficient), columns ascending
};

/// Two currents C (u2 - u1)' and C (u1 - u2)' are independent to a count of who stands where, and yet their sum holds no rate:
/// a constraint that index reduction on counts does not see. Where rows with coefficients that stand still cancel exactly, one of
/// them is to be replaced by the sum. Source of the idea: Murota (1995), SIAM J. Matrix Anal. Appl. 16, 1047-1063 (combinatorial
/// relaxation), here for exact cancellation of equal coefficients only.
struct HiddenSum {
    std::uint32_t equation = 0;                           ///< to be replaced by
    std::vector<std::pair<std::uint32_t, NodeId>> terms;  ///< sum over (equation, factor), itself included with factor 1
    std::vector<std::uint32_t> columns;                   ///< whose coefficients cancel in it
};

/// `fixed`: whether a coefficient stands still while a run goes on. Gives up on what grows too large.
std::vector<HiddenSum> find_hidden_sums(Graph& graph, const std::vector<LeadingRow>& rows, const std::function<bool(NodeId)>& fixed);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Systems whose structure deceives: counted, the highest derivatives are settled; in numbers they are not.
#pragma once

#include <functional>
#include <utility>
#include <vector>

#include "compile/cancel_rates.hpp"

namespace netloop {

/// A sum of equations of a block, some of them differentiated, in which no highest derivative of the block is left: sum over (equation, times
/// differentiated, factor). It may stand in place of `equation`, whose factor is 1 and which is differentiated least of them.
struct NullSum {
    std::uint32_t equation = 0;
    struct Term {
        std::uint32_t equation = 0;
        std::uint32_t derivatives = 0;
        NodeId factor = kNoNode;
    };
    std::vector<Term> terms;
    std::vector<std::uint32_t> columns;  ///< whose coefficients cancel in it
};

/// Looks at the rank of a block's matrix of coefficients at scattered points (params, quantities and time, so that no value makes it singular by accident), and
/// expresses what is dependent by factors that stand still: numbers, or expressions of params. Two currents into one node from two resistors side by side are
/// such a block. `sample(leaf, point)`: the value of a leaf at one of the points, 0 .. 2. `fixed`: whether an expression stands still while a run goes on.
/// Cost: a dense factorisation of the block; blocks of more than `kLargestNullSum` equations are not looked at.
/// Source of the method: Murota (1995), SIAM J. Matrix Anal. Appl. 16, 1047-1063; the replacement by a combination of equations of different orders of
/// differentiation as in Tan, Nedialkov and Pryce (2017), SIAM J. Matrix Anal. Appl. 38, 1-28 (linear combination method).
inline constexpr std::size_t kLargestNullSum = 1500;
/// `sample` is asked for leaves only; functions whose values spread over many powers of ten, or may have none (exp, log, roots, tables), are taken as numbers
/// of their own.
bool is_deficient(Graph& graph, const std::vector<LeadingRow>& rows, const std::function<double(const Node& leaf, int point)>& sample);
std::vector<NullSum> find_null_sums(Graph& graph, const std::vector<LeadingRow>& rows, const std::function<double(const Node& leaf, int point)>& sample,
                                    const std::function<bool(NodeId)>& fixed);

}  // namespace netloop

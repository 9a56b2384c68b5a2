// SPDX-License-Identifier: Apache-2.0
// Exact derivatives on the graph: with respect to time (index reduction) and to the unknowns (Jacobian).
#pragma once

#include <span>
#include <string>
#include <utility>
#include <vector>

#include "algebra/graph.hpp"

namespace netloop {

/// At a singular point (sqrt, pow and log at 0) a derivative is taken this far inside the range, so that it stays finite.
inline constexpr double kSingularOffset = 1e-20;

/// What a slope is at a corner (|x| at 0, the smaller of two that are equal). A solver goes on quickly with that of one side. Whoever tells slopes takes the
/// mean of both: then what is put together of corners and has none itself, such as max(x, 0) - max(-x, 0), keeps its slope.
enum class AtCorner : std::uint8_t { one_side, mean };

/// d(op)/d(child k) of one node, as an expression of its children. `k` counts from 0.
NodeId partial(Graph& graph, NodeId id, int k, AtCorner at = AtCorner::one_side);

/// Total derivatives with respect to time. Parameters and modes are constant in time.
class TimeDerivative {
public:
    explicit TimeDerivative(Graph& graph) : graph_(graph) {}

    /// The derivative of `root`; quantity leaves go up one order. rate_of nodes are expanded on the way.
    NodeId operator()(NodeId root);
    /// A reason why the last derivative does not exist everywhere (a linear table), or empty.
    const std::string& trouble() const { return trouble_; }

private:
    Graph& graph_;
    std::vector<NodeId> done_;
    std::string trouble_;
};

/// Replaces every rate_of below the given expressions by the derivative it stands for; linear in the size of all together.
void expand_rates(Graph& graph, TimeDerivative& derivative, const std::vector<NodeId*>& roots);

/// Sparse gradients with respect to leaves: for each node the list of (leaf number, derivative), sorted by leaf number.
class Gradients {
public:
    using Entry = std::pair<std::uint32_t, NodeId>;
    /// `leaf_number` gives the number of a leaf to differentiate by, or kNoNode for one that is held constant.
    explicit Gradients(Graph& graph, std::function<std::uint32_t(const Node&)> leaf_number, AtCorner at = AtCorner::one_side)
        : graph_(graph), leaf_number_(std::move(leaf_number)), at_(at)
    {
    }

    /// Valid until the next call.
    std::span<const Entry> operator()(NodeId root);

private:
    Graph& graph_;
    std::function<std::uint32_t(const Node&)> leaf_number_;
    AtCorner at_;
    struct List {
        std::uint32_t first = 0, size = 0;
    };
    std::vector<std::uint32_t> slot_;  ///< per node: index into lists_ + 1, 0 if not yet known
    std::vector<List> lists_{List{}};  ///< the first is empty, for all that depends on nothing
    std::vector<Entry> entries_, sum_;
    std::vector<NodeId> stack_;
};

}  // namespace netloop

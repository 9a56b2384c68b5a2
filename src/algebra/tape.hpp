// SPDX-License-Identifier: Apache-2.0
// First and second derivatives of many expressions at one point, as numbers: by sweeps over the graph, without a program for each derivative. What explains a
// run (linear models, modes and what moves them) asks for other derivatives than the run itself, and for few of them.
#pragma once

#include <complex>
#include <functional>
#include <memory>
#include <span>
#include <utility>
#include <vector>

#include "algebra/graph.hpp"

namespace netloop {

/// Expressions in an order of evaluation, with room for one point. Derivatives follow the rules of algebra/differentiate.hpp, singular points included. Source
/// of the sweeps: Griewank and Walther (2008), Evaluating Derivatives, ch. 3 and 5. Not for several threads at once.
class Tape {
public:
    using Complex = std::complex<double>;

    /// `graph` may be shared by several tapes of one thread: derivatives of functions with loops are added to it.
    Tape(std::shared_ptr<Graph> graph, const std::vector<NodeId>& roots);

    /// Leaves that the expressions hold, but for constants.
    std::size_t n_leaves() const { return leaves_.size(); }
    /// What a sweep goes through.
    std::size_t n_steps() const { return steps_.size(); }
    const Node& leaf(std::size_t i) const { return (*graph_)[leaves_[i].node]; }

    /// Sets the point: `value` gives that of every leaf. What follows belongs to it. Cost: one evaluation, and the slopes of each operation.
    void at(const std::function<double(const Node&)>& value);
    /// Operations that stand at a corner there: |x| at 0, the smaller of two that are equal, up to rounding. Their slopes are the mean of both sides, right
    /// beside it those of its side.
    std::vector<NodeId> corners() const;
    /// Whether one of them gives a root two slopes: in x |x| it does not, at 0. One sweep back.
    bool has_corner(std::size_t root);
    double value(std::size_t root) const { return value_[roots_[root]]; }

    /// Derivatives of all roots along a direction, given by leaf. One sweep forward.
    void along(std::span<const Complex> direction, std::vector<Complex>& slopes);
    /// The gradient of the sum of `weight * root`, by leaf. One sweep back. Weights of 0 cost nothing but their own look.
    void gradient(std::span<const Complex> weights, std::vector<Complex>& by_leaf);
    /// The gradient of one root, as the leaves below it and their slopes. Cost: what stands below the root, looked up once.
    void gradient_of(std::size_t root, std::vector<std::pair<std::size_t, double>>& by_leaf);
    /// The gradient of the sum of `weight * derivative of root along direction`, by leaf: second derivatives. One sweep forward and one back.
    void gradient_along(std::span<const Complex> direction, std::span<const Complex> weights, std::vector<Complex>& by_leaf);

private:
    struct Step {
        NodeId node = kNoNode;
        std::uint32_t first = 0, count = 0;  ///< into children_ and slopes_
        std::uint32_t second = 0;            ///< into bends_: count * count
    };
    struct Leaf {
        NodeId node = kNoNode;
        std::uint32_t place = 0;
    };
    /// Fills in adjoint_ where something stands below the root, and there alone.
    const std::vector<std::uint32_t>& sweep_below(std::size_t root);
    bool is_corner(const Step& s) const;
    void slopes_of(const Step& s);
    void bends_of(const Step& s);
    double call(std::uint32_t callable, const Step& s);

    std::shared_ptr<Graph> graph_;
    std::vector<Step> steps_;
    std::vector<Leaf> leaves_;
    std::vector<std::uint32_t> children_, roots_;  ///< places
    std::vector<double> value_, slopes_, bends_;
    std::vector<Complex> tangent_, adjoint_, adjoint_tangent_;
    std::vector<std::vector<std::uint32_t>> below_;  ///< per root: steps below it, itself first; empty: not asked for yet
    std::vector<std::uint32_t> leaf_at_;             ///< per step: which leaf, or kNoNode
    std::vector<double> arguments_, scratch_;
    bool bent_ = false;  ///< bends_ belong to the point
};

}  // namespace netloop

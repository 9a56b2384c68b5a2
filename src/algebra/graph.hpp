// SPDX-License-Identifier: Apache-2.0
// The expression graph: hash-consed nodes in an arena with 32-bit ids. A child always has a smaller id than its parent,
// so ascending ids are a topological order and no walk over user-sized expressions needs recursion.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <string>
#include <unordered_map>
#include <vector>

#include "algebra/table.hpp"

namespace netloop {

using NodeId = std::uint32_t;
inline constexpr NodeId kNoNode = 0xffffffffu;

enum class Op : std::uint8_t {
    constant,  // a: index of the value
    time,
    quantity,   // a: quantity, b: order of derivative
    parameter,  // a: parameter
    mode,       // a: index of a located condition, held between events (0 or 1, or a whole number for floor)
    memory,     // a: index of a memory, held between events; b: 1 if its value runs with time (a delay)
    unknown,    // a: index into z (compiled systems only)
    rate,       // a: index into z' (compiled systems only)
    rate_of,    // a: expression; its time derivative, not yet expanded
    add,
    sub,
    mul,
    div,
    neg,
    pow,
    sqrt,
    exp,
    log,
    sin,
    cos,
    tan,
    asin,
    acos,
    atan,
    sinh,
    cosh,
    tanh,
    abs,
    sign,
    floor,
    ceil,
    atan2,
    min,
    max,
    less,
    less_equal,
    equal,  // 1 or 0; `flag` 1: located as an event, 0: evaluated in place
    logical_and,
    logical_or,
    logical_not,
    select,  // a ? b : c
    lookup,  // a: table, b, c: arguments (c kNoNode for 1-D); flag: order of derivative, 16*d1 + d2
    call,    // a: callable, b: its argument, or a chain of pairs of them
    pair,    // a: an argument, b: the last argument, or the pair of the next; has no value of its own
};

struct Node {
    Op op = Op::constant;
    std::uint8_t flag = 0;
    NodeId a = kNoNode;
    NodeId b = kNoNode;
    NodeId c = kNoNode;

    friend bool operator==(const Node&, const Node&) = default;
};

/// Operations whose field a is an index, not a child.
constexpr bool has_index(Op op)
{
    return op == Op::lookup || op == Op::call;
}
/// How many of a, b, c are child nodes, and where they begin: `lookup` keeps its table in a.
/// Both are asked for every node of every walk: no calls, no branches.
constexpr int n_children(Op op)
{
    if (op <= Op::rate) return 0;
    if (op == Op::select) return 3;
    constexpr std::uint64_t kOne =
        1ull << static_cast<int>(Op::rate_of) | 1ull << static_cast<int>(Op::neg) | 1ull << static_cast<int>(Op::sqrt) | 1ull << static_cast<int>(Op::exp) |
        1ull << static_cast<int>(Op::log) | 1ull << static_cast<int>(Op::sin) | 1ull << static_cast<int>(Op::cos) | 1ull << static_cast<int>(Op::tan) |
        1ull << static_cast<int>(Op::asin) | 1ull << static_cast<int>(Op::acos) | 1ull << static_cast<int>(Op::atan) | 1ull << static_cast<int>(Op::sinh) |
        1ull << static_cast<int>(Op::cosh) | 1ull << static_cast<int>(Op::tanh) | 1ull << static_cast<int>(Op::abs) | 1ull << static_cast<int>(Op::sign) |
        1ull << static_cast<int>(Op::floor) | 1ull << static_cast<int>(Op::ceil) | 1ull << static_cast<int>(Op::logical_not);
    return (kOne >> static_cast<int>(op) & 1) != 0 ? 1 : 2;
}
constexpr int first_child(Op op)
{
    return has_index(op) ? 1 : 0;
}
const char* op_name(Op op);
/// One behind the last field that may hold a child.
inline int end_of_children(Op op)
{
    return has_index(op) ? 3 : n_children(op);
}

class Graph {
public:
    Graph();

    std::size_t size() const { return nodes_.size(); }
    const Node& operator[](NodeId id) const { return nodes_[id]; }
    double value(NodeId id) const { return constants_[nodes_[id].a]; }
    bool is_constant(NodeId id) const { return nodes_[id].op == Op::constant; }
    bool is_constant(NodeId id, double v) const { return is_constant(id) && value(id) == v; }
    const std::vector<double>& constants() const { return constants_; }

    // Leaves and operations. Each simplifies what is always true (x*1, x+0, constants folded) and shares equal nodes.
    NodeId constant(double v);
    NodeId time();
    NodeId quantity(std::uint32_t index, std::uint32_t order = 0);
    NodeId leaf(Op op, std::uint32_t index, std::uint32_t b = kNoNode);
    NodeId add(NodeId a, NodeId b);
    NodeId sub(NodeId a, NodeId b);
    NodeId mul(NodeId a, NodeId b);
    NodeId div(NodeId a, NodeId b);
    NodeId neg(NodeId a);
    NodeId pow(NodeId a, NodeId b);
    NodeId unary(Op op, NodeId a, bool located = false);  ///< `located`: a jump (sign, floor, ceil) that is an event
    NodeId binary(Op op, NodeId a, NodeId b);
    NodeId compare(Op op, NodeId a, NodeId b, bool located);
    NodeId select(NodeId condition, NodeId yes, NodeId no);
    NodeId lookup(std::uint32_t table, NodeId x, NodeId y, int order_x = 0, int order_y = 0);
    NodeId call(std::uint32_t callable, const std::vector<NodeId>& arguments);
    NodeId rate_of(NodeId a);

    std::uint32_t add_table(TablePtr table);
    const Table& table(std::uint32_t index) const { return *tables_[index]; }
    const std::vector<TablePtr>& tables() const { return tables_; }

    std::uint32_t add_callable(CallablePtr callable);
    const Callable& callable(std::uint32_t index) const { return *callables_[index]; }
    const std::vector<CallablePtr>& callables() const { return callables_; }
    /// The derivative of a callable by one of its arguments; made once.
    std::uint32_t derivative_of(std::uint32_t callable, std::size_t argument);
    /// The arguments of a `call` node.
    std::vector<NodeId> arguments(NodeId call) const;

    /// The same operation over other children, simplified anew.
    NodeId rebuild(const Node& node, NodeId a, NodeId b, NodeId c);

    /// Ids of all nodes below `roots` (roots included), ascending, hence in an order of evaluation.
    std::vector<NodeId> reachable(const std::vector<NodeId>& roots) const;

    /// The expression as text; `leaf_name` names quantities, parameters, modes, unknowns and rates. Cut at about `limit` characters.
    std::string text(NodeId id, const std::function<std::string(const Node&)>& leaf_name, std::size_t limit = 400) const;

private:
    NodeId simple_power(NodeId a, double e);
    NodeId intern(const Node& node);
    void grow();

    std::vector<Node> nodes_;
    std::vector<double> constants_;
    std::vector<TablePtr> tables_;
    std::vector<CallablePtr> callables_;
    std::map<std::pair<std::uint32_t, std::size_t>, std::uint32_t> derivatives_;
    std::vector<NodeId> buckets_;                            ///< of all nodes but constants
    std::unordered_map<std::uint64_t, NodeId> constant_of_;  ///< by the bits of the value
};

/// Rewrites many expressions in one sweep, linear in the size of all together. `change` gets every node once its children
/// are rewritten, and returns what shall stand in its place (the id itself to keep it).
void rewrite(Graph& graph, const std::vector<NodeId*>& roots, const std::function<NodeId(NodeId id, const Node& node)>& change);

/// Replaces quantity leaves in expressions that come one by one; what was rewritten before is remembered, so the cost of all
/// together is linear. What a leaf becomes must not change once it was asked for.
class Substitution {
public:
    Substitution(Graph& graph, std::function<NodeId(const Node& leaf)> map) : graph_(graph), map_(std::move(map)) {}
    NodeId operator()(NodeId root);

private:
    Graph& graph_;
    std::function<NodeId(const Node&)> map_;
    std::vector<NodeId> done_;
    std::vector<NodeId> stack_;
};

/// Whether `leaf` stands below `root`.
bool contains(const Graph& graph, NodeId root, NodeId leaf);
/// `root` with `leaf` replaced; for single small expressions.
NodeId replace_leaf(Graph& graph, NodeId root, NodeId leaf, NodeId by);

/// Numbers for many expressions, for uses outside the hot path. `leaf` gives the value of every leaf but constants.
class NodeValues {
public:
    NodeValues(const Graph& graph, std::function<double(const Node&)> leaf) : graph_(graph), leaf_(std::move(leaf)) {}
    double operator()(NodeId root);

private:
    const Graph& graph_;
    std::function<double(const Node&)> leaf_;
    std::vector<double> value_;
    std::vector<char> known_;
    std::vector<NodeId> stack_;
};

/// Value of one operation on numbers. Also what the interpreter runs, so that folding and running agree bit for bit. What has no value stays without one:
/// comparisons, logic, min, max, sign and a choice by a condition that is not a number give not a number.
double evaluate_op(Op op, double a, double b, double c);
inline double select_value(double condition, double yes, double no)
{
    return condition != condition ? condition : condition != 0 ? yes : no;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "algebra/graph.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>
#include <unordered_map>
#include <utility>

#include "base/interrupt.hpp"

namespace netloop {

const char* op_name(Op op)
{
    static constexpr const char* kNames[] = {"constant", "time", "quantity",   "parameter", "mode", "memory", "unknown", "rate",   "rate_of", "add",   "sub",
                                             "mul",      "div",  "neg",        "pow",       "sqrt", "exp",    "log",     "sin",    "cos",     "tan",   "asin",
                                             "acos",     "atan", "sinh",       "cosh",      "tanh", "abs",    "sign",    "floor",  "ceil",    "atan2", "min",
                                             "max",      "less", "less_equal", "equal",     "and",  "or",     "not",     "select", "lookup",  "call",  "pair"};
    return kNames[static_cast<std::size_t>(op)];
}

double evaluate_op(Op op, double a, double b, double c)
{
    switch (op) {
        case Op::add:
            return a + b;
        case Op::sub:
            return a - b;
        case Op::mul:
            return a * b;
        case Op::div:
            return a / b;
        case Op::neg:
            return -a;
        case Op::pow:
            return std::pow(a, b);
        case Op::sqrt:
            return std::sqrt(a);
        case Op::exp:
            return std::exp(a);
        case Op::log:
            return std::log(a);
        case Op::sin:
            return std::sin(a);
        case Op::cos:
            return std::cos(a);
        case Op::tan:
            return std::tan(a);
        case Op::asin:
            return std::asin(a);
        case Op::acos:
            return std::acos(a);
        case Op::atan:
            return std::atan(a);
        case Op::sinh:
            return std::sinh(a);
        case Op::cosh:
            return std::cosh(a);
        case Op::tanh:
            return std::tanh(a);
        case Op::abs:
            return std::abs(a);
        case Op::sign:
            return a > 0 ? 1 : a < 0 ? -1 : a == 0 ? 0 : a;
        case Op::floor:
            return std::floor(a);
        case Op::ceil:
            return std::ceil(a);
        case Op::atan2:
            return std::atan2(a, b);
        case Op::min:
            return b < a || b != b ? b : a;
        case Op::max:
            return b > a || b != b ? b : a;
        case Op::less:
            return a < b ? 1 : a >= b ? 0 : a + b;
        case Op::less_equal:
            return a <= b ? 1 : a > b ? 0 : a + b;
        case Op::equal:
            return a == b ? 1 : a < b || a > b ? 0 : a + b;
        case Op::logical_and:
            return a != a || b != b ? a + b : a != 0 && b != 0 ? 1 : 0;
        case Op::logical_or:
            return a != a || b != b ? a + b : a != 0 || b != 0 ? 1 : 0;
        case Op::logical_not:
            return a != a ? a : a != 0 ? 0 : 1;
        case Op::select:
            return select_value(a, b, c);
        default:
            return std::numeric_limits<double>::quiet_NaN();
    }
}

Graph::Graph() : buckets_(1024, kNoNode) {}

namespace {
std::size_t hash_of(const Node& n)
{
    std::uint64_t h = (static_cast<std::uint64_t>(n.op) << 8 | n.flag) * 0x9e3779b97f4a7c15ull;
    for (std::uint64_t part : {n.a, n.b, n.c}) {
        h ^= part + 0x9e3779b97f4a7c15ull + (h << 6) + (h >> 2);
        h *= 0xff51afd7ed558ccdull;
        h ^= h >> 32;
    }
    return static_cast<std::size_t>(h);
}
}  // namespace

namespace {

// Where a node may stand in the table. The first slots lie near those of its neighbours in the text of the model, so that building a
// large model walks through memory instead of jumping about; what finds them all taken goes on from a well mixed place.
class Probe {
public:
    Probe(const Node& n, std::size_t mask) : node_(n), mask_(mask)
    {
        auto part = [](NodeId id) { return id == kNoNode ? std::size_t{0} : std::size_t{id}; };
        at_ = (part(n.a) * 5 + part(n.b) * 3 + part(n.c) * 7 + static_cast<std::size_t>(n.op) * 11 + n.flag) & mask;
    }
    std::size_t operator*() const { return at_; }
    void operator++()
    {
        constexpr int kNear = 3;
        ++steps_;
        if (steps_ < kNear) {
            at_ = (at_ + 1) & mask_;
            return;
        }
        // near places come in runs: from here on by steps of a length of its own, which leave a run at once
        if (steps_ == kNear) {
            std::size_t hash = hash_of(node_);
            at_ = hash & mask_;
            stride_ = (hash >> 32 | 1) & mask_;
            return;
        }
        at_ = (at_ + stride_) & mask_;
    }

private:
    const Node& node_;
    std::size_t mask_, at_ = 0, stride_ = 1;
    int steps_ = 0;
};

}  // namespace

void Graph::grow()
{
    std::vector<NodeId> bigger(buckets_.size() * 2, kNoNode);
    std::size_t mask = bigger.size() - 1;
    for (NodeId id = 0; id < nodes_.size(); ++id) {
        if (nodes_[id].op == Op::constant) continue;
        Probe at(nodes_[id], mask);
        while (bigger[*at] != kNoNode) ++at;
        bigger[*at] = id;
    }
    buckets_ = std::move(bigger);
}

NodeId Graph::intern(const Node& node)
{
    if (nodes_.size() * 2 > buckets_.size()) grow();
    constexpr std::size_t kBetweenLooks = 4096;
    if (nodes_.size() % kBetweenLooks == 0) look_at_interrupt();
    Probe at(node, buckets_.size() - 1);
    for (; buckets_[*at] != kNoNode; ++at)
        if (nodes_[buckets_[*at]] == node) return buckets_[*at];
    auto id = static_cast<NodeId>(nodes_.size());
    nodes_.push_back(node);
    buckets_[*at] = id;
    return id;
}

NodeId Graph::constant(double v)
{
    if (v == 0) v = 0;  // one zero
    auto [at, is_new] = constant_of_.try_emplace(std::bit_cast<std::uint64_t>(v), static_cast<NodeId>(nodes_.size()));
    if (!is_new) return at->second;
    nodes_.push_back({Op::constant, 0, static_cast<NodeId>(constants_.size()), kNoNode, kNoNode});
    constants_.push_back(v);
    return at->second;
}

NodeId Graph::time()
{
    return intern({Op::time, 0, kNoNode, kNoNode, kNoNode});
}
NodeId Graph::quantity(std::uint32_t index, std::uint32_t order)
{
    return intern({Op::quantity, 0, index, order, kNoNode});
}
NodeId Graph::leaf(Op op, std::uint32_t index, std::uint32_t b)
{
    return intern({op, 0, index, b, kNoNode});
}

NodeId Graph::add(NodeId a, NodeId b)
{
    if (is_constant(a, 0)) return b;
    if (is_constant(b, 0)) return a;
    if (is_constant(a) && is_constant(b)) return constant(value(a) + value(b));
    if (nodes_[b].op == Op::neg) return sub(a, nodes_[b].a);
    if (nodes_[a].op == Op::neg) return sub(b, nodes_[a].a);
    return intern({Op::add, 0, a, b, kNoNode});
}

NodeId Graph::sub(NodeId a, NodeId b)
{
    if (a == b) return constant(0);
    if (is_constant(b, 0)) return a;
    if (is_constant(a, 0)) return neg(b);
    if (is_constant(a) && is_constant(b)) return constant(value(a) - value(b));
    if (nodes_[b].op == Op::neg) return add(a, nodes_[b].a);
    return intern({Op::sub, 0, a, b, kNoNode});
}

NodeId Graph::mul(NodeId a, NodeId b)
{
    if (is_constant(b) && !is_constant(a)) std::swap(a, b);
    if (is_constant(a)) {
        if (value(a) == 0) return a;
        if (value(a) == 1) return b;
        if (value(a) == -1) return neg(b);
        if (is_constant(b)) return constant(value(a) * value(b));
    }
    if (nodes_[a].op == Op::neg && nodes_[b].op == Op::neg) return mul(nodes_[a].a, nodes_[b].a);
    if (nodes_[b].op == Op::neg && !is_constant(a)) return neg(mul(a, nodes_[b].a));
    if (nodes_[a].op == Op::neg) return neg(mul(nodes_[a].a, b));
    return intern({Op::mul, 0, a, b, kNoNode});
}

NodeId Graph::div(NodeId a, NodeId b)
{
    if (is_constant(b, 1)) return a;
    if (is_constant(b, -1)) return neg(a);
    if (is_constant(a, 0) && !is_constant(b, 0)) return a;
    if (is_constant(a) && is_constant(b)) return constant(value(a) / value(b));
    if (nodes_[a].op == Op::neg) return neg(div(nodes_[a].a, b));
    return intern({Op::div, 0, a, b, kNoNode});
}

NodeId Graph::neg(NodeId a)
{
    if (is_constant(a)) return constant(-value(a));
    if (nodes_[a].op == Op::neg) return nodes_[a].a;
    if (nodes_[a].op == Op::sub) return intern({Op::sub, 0, nodes_[a].b, nodes_[a].a, kNoNode});
    return intern({Op::neg, 0, a, kNoNode, kNoNode});
}

// a^e for a multiple of 1/4 above 0.
NodeId Graph::simple_power(NodeId a, double e)
{
    double whole = std::floor(e), rest = e - whole;
    NodeId power = kNoNode;
    auto times = [&](NodeId factor) { power = power == kNoNode ? factor : mul(factor, power); };
    if (rest == 0.25 || rest == 0.75) times(unary(Op::sqrt, unary(Op::sqrt, a)));
    if (rest >= 0.5) times(unary(Op::sqrt, a));
    NodeId square = a;  // a^1, a^2, a^4 ...
    for (auto n = static_cast<unsigned>(whole); n > 0; n /= 2) {
        if (n % 2 == 1) times(square);
        if (n > 1) square = mul(square, square);
    }
    return power;
}

NodeId Graph::pow(NodeId a, NodeId b)
{
    if (is_constant(b)) {
        double e = value(b);
        if (is_constant(a)) return constant(std::pow(value(a), e));
        if (e == 0) return constant(1);
        if (e == 1) return a;
        // whole, half and quarter powers by multiplication and roots: within a few roundings of pow, and a tenth of its time
        constexpr double kMost = 8;
        if (e == std::floor(4 * e) / 4 && std::abs(e) <= kMost) return e > 0 ? simple_power(a, e) : div(constant(1), simple_power(a, -e));
    }
    return intern({Op::pow, 0, a, b, kNoNode});
}

NodeId Graph::unary(Op op, NodeId a, bool located)
{
    if (op == Op::neg) return neg(a);
    if (is_constant(a)) return constant(evaluate_op(op, value(a), 0, 0));
    return intern({op, static_cast<std::uint8_t>(located ? 1 : 0), a, kNoNode, kNoNode});
}

NodeId Graph::binary(Op op, NodeId a, NodeId b)
{
    switch (op) {
        case Op::add:
            return add(a, b);
        case Op::sub:
            return sub(a, b);
        case Op::mul:
            return mul(a, b);
        case Op::div:
            return div(a, b);
        case Op::pow:
            return pow(a, b);
        default:
            break;
    }
    if (is_constant(a) && is_constant(b)) return constant(evaluate_op(op, value(a), value(b), 0));
    if ((op == Op::min || op == Op::max) && a == b) return a;
    if (op == Op::logical_and) {
        if (is_constant(a)) return value(a) != 0 ? b : a;
        if (is_constant(b)) return value(b) != 0 ? a : b;
    }
    if (op == Op::logical_or) {
        if (is_constant(a)) return value(a) != 0 ? a : b;
        if (is_constant(b)) return value(b) != 0 ? b : a;
    }
    return intern({op, 0, a, b, kNoNode});
}

NodeId Graph::compare(Op op, NodeId a, NodeId b, bool located)
{
    if (is_constant(a) && is_constant(b)) return constant(evaluate_op(op, value(a), value(b), 0));
    return intern({op, static_cast<std::uint8_t>(located ? 1 : 0), a, b, kNoNode});
}

NodeId Graph::select(NodeId condition, NodeId yes, NodeId no)
{
    if (is_constant(condition)) return value(condition) != 0 ? yes : no;
    if (yes == no) return yes;
    return intern({Op::select, 0, condition, yes, no});
}

NodeId Graph::lookup(std::uint32_t table, NodeId x, NodeId y, int order_x, int order_y)
{
    bool known = is_constant(x) && (y == kNoNode || is_constant(y));
    if (known) return constant((*tables_[table])(value(x), y == kNoNode ? 0 : value(y), order_x, order_y));
    return intern({Op::lookup, static_cast<std::uint8_t>(16 * order_x + order_y), table, x, y});
}

std::uint32_t Graph::add_callable(CallablePtr callable)
{
    callables_.push_back(std::move(callable));
    return static_cast<std::uint32_t>(callables_.size() - 1);
}

std::uint32_t Graph::derivative_of(std::uint32_t callable, std::size_t argument)
{
    if (auto it = derivatives_.find({callable, argument}); it != derivatives_.end()) return it->second;
    CallablePtr keep = callables_[callable];
    std::uint32_t made = add_callable(keep->derivative(*this, argument));
    derivatives_[{callable, argument}] = made;
    return made;
}

NodeId Graph::call(std::uint32_t callable, const std::vector<NodeId>& arguments)
{
    const Callable& f = *callables_[callable];
    bool constant_all = !f.has_state();
    for (NodeId argument : arguments) constant_all &= is_constant(argument);
    if (constant_all) {
        std::vector<double> at, scratch(f.n_scratch());
        for (NodeId argument : arguments) at.push_back(value(argument));
        return constant(f.evaluate(at.data(), scratch.data()));
    }
    NodeId chain = arguments.back();
    for (std::size_t k = arguments.size() - 1; k-- > 0;) chain = intern({Op::pair, 0, arguments[k], chain, kNoNode});
    return intern({Op::call, 0, callable, chain, kNoNode});
}

namespace {
template <typename Nodes>
void follow_chain(const Nodes& nodes, std::size_t n, NodeId chain, std::vector<NodeId>& list)
{
    for (; n > 1; --n) {
        list.push_back(nodes[chain].a);
        chain = nodes[chain].b;
    }
    list.push_back(chain);
}
}  // namespace

std::vector<NodeId> Graph::arguments(NodeId call) const
{
    std::vector<NodeId> list;
    follow_chain(nodes_, callables_[nodes_[call].a]->n_arguments(), nodes_[call].b, list);
    return list;
}

NodeId Graph::rate_of(NodeId a)
{
    if (is_constant(a)) return constant(0);
    if (nodes_[a].op == Op::quantity) return quantity(nodes_[a].a, nodes_[a].b + 1);
    return intern({Op::rate_of, 0, a, kNoNode, kNoNode});
}

std::uint32_t Graph::add_table(TablePtr table)
{
    tables_.push_back(std::move(table));
    return static_cast<std::uint32_t>(tables_.size() - 1);
}

NodeId Graph::rebuild(const Node& n, NodeId a, NodeId b, NodeId c)
{
    switch (n.op) {
        case Op::select:
            return select(a, b, c);
        case Op::lookup:
            return lookup(n.a, b, c, n.flag / 16, n.flag % 16);
        case Op::call: {
            std::vector<NodeId> list;
            std::size_t left = callables_[n.a]->n_arguments();
            for (NodeId chain = b; left > 0; --left) list.push_back(left > 1 ? nodes_[chain].a : chain), chain = left > 1 ? nodes_[chain].b : chain;
            return call(n.a, list);
        }
        case Op::pair:
            return intern({Op::pair, 0, a, b, kNoNode});
        case Op::rate_of:
            return rate_of(a);
        case Op::less:
        case Op::less_equal:
        case Op::equal:
            return compare(n.op, a, b, n.flag != 0);
        default:
            return n_children(n.op) == 1 ? unary(n.op, a, n.flag != 0) : binary(n.op, a, b);
    }
}

namespace {
template <typename Visit>
void for_each_child(const Node& n, Visit visit)
{
    switch (n_children(n.op)) {
        case 3:
            visit(n.a), visit(n.b), visit(n.c);
            break;
        case 2:
            if (has_index(n.op)) {
                visit(n.b);
                if (n.c != kNoNode) visit(n.c);
            } else {
                visit(n.a), visit(n.b);
            }
            break;
        case 1:
            visit(n.a);
            break;
        default:
            break;
    }
}
}  // namespace

namespace {

/// What became of nodes: a list for small expressions, which nearly all are, a table beyond.
class SmallMap {
public:
    NodeId* find(NodeId key)
    {
        if (!large_.empty()) {
            auto at = large_.find(key);
            return at == large_.end() ? nullptr : &at->second;
        }
        for (auto& [k, v] : small_)
            if (k == key) return &v;
        return nullptr;
    }
    void set(NodeId key, NodeId value)
    {
        constexpr std::size_t kSmall = 24;
        if (!large_.empty() || small_.size() == kSmall) {
            if (large_.empty()) large_.insert(small_.begin(), small_.end());
            large_[key] = value;
        } else {
            small_.emplace_back(key, value);
        }
    }

private:
    std::vector<std::pair<NodeId, NodeId>> small_;
    std::unordered_map<NodeId, NodeId> large_;
};

}  // namespace

std::vector<NodeId> Graph::reachable(const std::vector<NodeId>& roots) const
{
    look_at_interrupt();
    // small expressions in a large graph are common: they are walked without touching the whole arena
    constexpr std::size_t kSmall = 400;
    if (roots.size() < kSmall) {
        SmallMap found;
        std::vector<NodeId> stack, list;
        for (NodeId r : roots)
            if (r != kNoNode) stack.push_back(r);
        while (!stack.empty() && list.size() <= kSmall) {
            NodeId id = stack.back();
            stack.pop_back();
            if (found.find(id) != nullptr) continue;
            found.set(id, id);
            list.push_back(id);
            for_each_child(nodes_[id], [&](NodeId child) { stack.push_back(child); });
        }
        if (stack.empty()) {
            std::sort(list.begin(), list.end());
            return list;
        }
    }
    std::vector<char> seen(nodes_.size(), 0);
    NodeId top = 0;
    for (NodeId r : roots) {
        if (r == kNoNode) continue;
        seen[r] = 1;
        top = std::max(top, r);
    }
    std::vector<NodeId> order;
    for (NodeId id = top + 1; id-- > 0;) {
        if (nodes_.empty() || !seen[id]) continue;
        order.push_back(id);
        for_each_child(nodes_[id], [&](NodeId child) { seen[child] = 1; });
    }
    return {order.rbegin(), order.rend()};
}

namespace {
// The node over rewritten children, or itself if nothing below it changed.
template <typename Mapped>
NodeId over_children(Graph& graph, NodeId id, const Node& n, Mapped mapped)
{
    bool same = true;
    auto child = [&](int k, NodeId old) {
        bool present = k >= first_child(n.op) && k < end_of_children(n.op) && old != kNoNode;
        NodeId now = present ? mapped(old) : kNoNode;
        if (present && now != old) same = false;
        return now;
    };
    NodeId a = child(0, n.a), b = child(1, n.b), c = child(2, n.c);
    return same ? id : graph.rebuild(n, a, b, c);
}
}  // namespace

void rewrite(Graph& graph, const std::vector<NodeId*>& roots, const std::function<NodeId(NodeId id, const Node& node)>& change)
{
    std::vector<NodeId> ids;
    for (const NodeId* root : roots) ids.push_back(*root);
    std::vector<NodeId> order = graph.reachable(ids);
    std::vector<NodeId> becomes(graph.size(), kNoNode);
    for (NodeId id : order) {
        const Node n = graph[id];
        NodeId now = n_children(n.op) == 0 ? id : over_children(graph, id, n, [&](NodeId child) { return becomes[child]; });
        becomes[id] = change(now, Node(graph[now]));
    }
    for (NodeId* root : roots)
        if (*root != kNoNode) *root = becomes[*root];
}

NodeId Substitution::operator()(NodeId root)
{
    stack_.push_back(root);
    while (!stack_.empty()) {
        NodeId id = stack_.back();
        if (done_.size() <= id) done_.resize(std::max<std::size_t>(graph_.size(), id + 1), kNoNode);
        if (done_[id] != kNoNode) {
            stack_.pop_back();
            continue;
        }
        const Node n = graph_[id];
        bool ready = true;
        for_each_child(n, [&](NodeId child) {
            if (done_[child] == kNoNode) {
                stack_.push_back(child);
                ready = false;
            }
        });
        if (!ready) continue;
        stack_.pop_back();
        NodeId result = n.op == Op::quantity ? map_(n) : n_children(n.op) == 0 ? id : over_children(graph_, id, n, [&](NodeId child) { return done_[child]; });
        done_[id] = result;
    }
    return done_[root];
}

bool contains(const Graph& graph, NodeId root, NodeId leaf)
{
    std::vector<NodeId> stack{root};
    SmallMap seen;
    while (!stack.empty()) {
        NodeId id = stack.back();
        stack.pop_back();
        if (id == leaf) return true;
        // children are older than their parents: what is older than the leaf cannot hold it
        if (id < leaf || seen.find(id) != nullptr) continue;
        seen.set(id, id);
        for_each_child(graph[id], [&](NodeId child) { stack.push_back(child); });
    }
    return false;
}

NodeId replace_leaf(Graph& graph, NodeId root, NodeId leaf, NodeId by)
{
    SmallMap done;
    done.set(leaf, by);
    std::vector<NodeId> stack{root};
    while (!stack.empty()) {
        NodeId id = stack.back();
        if (id < leaf || done.find(id) != nullptr) {
            stack.pop_back();
            continue;
        }
        const Node n = graph[id];
        bool ready = true;
        for_each_child(n, [&](NodeId child) {
            if (child >= leaf && done.find(child) == nullptr) {
                stack.push_back(child);
                ready = false;
            }
        });
        if (!ready) continue;
        stack.pop_back();
        NodeId now = n_children(n.op) == 0 ? id : over_children(graph, id, n, [&](NodeId child) { return child < leaf ? child : *done.find(child); });
        done.set(id, now);
    }
    return root < leaf ? root : *done.find(root);
}

double NodeValues::operator()(NodeId root)
{
    if (value_.size() < graph_.size()) {
        value_.resize(graph_.size(), 0.0);
        known_.resize(graph_.size(), 0);
    }
    stack_.push_back(root);
    while (!stack_.empty()) {
        NodeId id = stack_.back();
        if (known_[id]) {
            stack_.pop_back();
            continue;
        }
        const Node& n = graph_[id];
        bool ready = true;
        for_each_child(n, [&](NodeId child) {
            if (!known_[child]) stack_.push_back(child), ready = false;
        });
        if (!ready) continue;
        stack_.pop_back();
        double v = 0;
        if (n.op == Op::constant)
            v = graph_.value(id);
        else if (n_children(n.op) == 0)
            v = leaf_(n);
        else if (n.op == Op::pair)
            v = 0;
        else if (n.op == Op::call) {
            const Callable& f = graph_.callable(n.a);
            std::vector<double> at, scratch(f.n_scratch());
            for (NodeId argument : graph_.arguments(id)) at.push_back(value_[argument]);
            v = f.evaluate(at.data(), scratch.data());
        } else if (n.op == Op::lookup)
            v = graph_.table(n.a)(value_[n.b], n.c == kNoNode ? 0 : value_[n.c], n.flag / 16, n.flag % 16);
        else
            v = evaluate_op(n.op, value_[n.a], n_children(n.op) > 1 ? value_[n.b] : 0, n_children(n.op) > 2 ? value_[n.c] : 0);
        value_[id] = v;
        known_[id] = 1;
    }
    return value_[root];
}

std::string Graph::text(NodeId id, const std::function<std::string(const Node&)>& leaf_name, std::size_t limit) const
{
    // Bounded by depth, so that recursion is safe and a long expression ends in an ellipsis.
    std::size_t left = limit;
    std::function<std::string(NodeId, int, int)> show = [&](NodeId at, int level, int depth) -> std::string {
        const Node& n = nodes_[at];
        if (depth > 40 || left == 0) return "...";
        auto take = [&](std::string s) {
            left -= std::min(left, s.size());
            return s;
        };
        auto infix = [&](const char* op, int own) {
            std::string s = show(n.a, own, depth + 1) + op + show(n.b, own + 1, depth + 1);
            return own < level ? "(" + s + ")" : s;
        };
        switch (n.op) {
            case Op::constant: {
                std::string s = take(fmt::format("{:.6g}", value(at)));
                return s[0] == '-' && level > 1 ? "(" + s + ")" : s;
            }
            case Op::time:
                return take("time");
            case Op::quantity:
            case Op::parameter:
            case Op::mode:
            case Op::memory:
            case Op::unknown:
            case Op::rate:
                return take(leaf_name(n));
            case Op::rate_of:
                return "(" + show(n.a, 0, depth + 1) + ")'";
            case Op::add:
                return infix(" + ", 1);
            case Op::sub:
                return infix(" - ", 1);
            case Op::mul:
                return infix("*", 2);
            case Op::div:
                return infix("/", 2);
            case Op::pow:
                return infix("^", 4);
            case Op::less:
                return infix(" < ", 0);
            case Op::less_equal:
                return infix(" <= ", 0);
            case Op::equal:
                return infix(" == ", 0);
            case Op::neg: {
                std::string s = "-" + show(n.a, 3, depth + 1);
                return level > 1 ? "(" + s + ")" : s;
            }
            case Op::select:
                return "(if " + show(n.a, 0, depth + 1) + " then " + show(n.b, 0, depth + 1) + " else " + show(n.c, 0, depth + 1) + ")";
            case Op::lookup: {
                std::string s = take(tables_[n.a]->name()) + (n.flag != 0 ? "'" : "") + "(" + show(n.b, 0, depth + 1);
                return s + (n.c != kNoNode ? ", " + show(n.c, 0, depth + 1) : "") + ")";
            }
            case Op::call: {
                std::string s = take(callables_[n.a]->name()) + "(";
                bool first = true;
                for (NodeId argument : arguments(at)) s += (std::exchange(first, false) ? "" : ", ") + show(argument, 0, depth + 1);
                return s + ")";
            }
            default: {
                std::string s = take(op_name(n.op)) + std::string("(") + show(n.a, 0, depth + 1);
                return s + (n_children(n.op) > 1 ? ", " + show(n.b, 0, depth + 1) : "") + ")";
            }
        }
    };
    return show(id, 0, 0);
}

}  // namespace netloop

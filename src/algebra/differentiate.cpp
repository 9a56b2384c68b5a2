// SPDX-License-Identifier: Apache-2.0
#include "algebra/differentiate.hpp"

#include <algorithm>
#include <array>

namespace netloop {
namespace {

// The children a derivative goes through; those of a call are its arguments.
class Children {
public:
    Children(const Graph& g, NodeId id)
    {
        const Node& n = g[id];
        if (n.op == Op::call) {
            many_ = g.arguments(id);
            count_ = static_cast<int>(many_.size());
        } else if (n.op == Op::lookup) {
            few_ = {n.b, n.c, kNoNode};
            count_ = n.c == kNoNode ? 1 : 2;
        } else {
            few_ = {n.a, n.b, n.c};
            count_ = n.op == Op::pair ? 0 : n_children(n.op);
        }
    }
    int count() const { return count_; }
    NodeId operator[](std::size_t k) const { return many_.empty() ? few_[k] : many_[k]; }

private:
    std::array<NodeId, 3> few_{};
    std::vector<NodeId> many_;
    int count_ = 0;
};

// |x| kept away from zero by kSingularOffset, with the sign of x >= 0 held
NodeId away_from_zero(Graph& g, NodeId x)
{
    return g.binary(Op::max, x, g.constant(kSingularOffset));
}

// The derivative of a condition, of sign, floor or ceil is zero between their jumps.
bool is_piecewise_constant(Op op)
{
    switch (op) {
        case Op::less:
        case Op::less_equal:
        case Op::equal:
        case Op::logical_and:
        case Op::logical_or:
        case Op::logical_not:
        case Op::sign:
        case Op::floor:
        case Op::ceil:
            return true;
        default:
            return false;
    }
}

}  // namespace

NodeId partial(Graph& g, NodeId id, int k, AtCorner at)
{
    const Node n = g[id];
    NodeId a = n.a, b = n.b;
    NodeId one = g.constant(1);
    if (is_piecewise_constant(n.op)) return g.constant(0);
    switch (n.op) {
        case Op::add:
            return one;
        case Op::sub:
            return k == 0 ? one : g.constant(-1);
        case Op::mul:
            return k == 0 ? b : a;
        case Op::div:
            return k == 0 ? g.div(one, b) : g.neg(g.div(id, b));
        case Op::neg:
            return g.constant(-1);
        case Op::pow:
            if (k == 0) {
                // x^(y-1) with x^y known only through pow itself: safe at x = 0 by the stated offset
                if (g.is_constant(b) && g.value(b) >= 1) return g.mul(b, g.pow(a, g.constant(g.value(b) - 1)));
                return g.mul(b, g.pow(g.select(g.compare(Op::less, g.unary(Op::abs, a), g.constant(kSingularOffset), false), g.constant(kSingularOffset), a),
                                      g.sub(b, one)));
            }
            return g.mul(id, g.unary(Op::log, away_from_zero(g, a)));
        case Op::sqrt:
            return g.div(g.constant(0.5), g.unary(Op::sqrt, away_from_zero(g, a)));
        case Op::exp:
            return id;
        case Op::log:
            return g.div(one, away_from_zero(g, a));
        case Op::sin:
            return g.unary(Op::cos, a);
        case Op::cos:
            return g.neg(g.unary(Op::sin, a));
        case Op::tan:
            return g.add(one, g.mul(id, id));
        case Op::asin:
            return g.div(one, g.unary(Op::sqrt, away_from_zero(g, g.sub(one, g.mul(a, a)))));
        case Op::acos:
            return g.neg(g.div(one, g.unary(Op::sqrt, away_from_zero(g, g.sub(one, g.mul(a, a))))));
        case Op::atan:
            return g.div(one, g.add(one, g.mul(a, a)));
        case Op::sinh:
            return g.unary(Op::cosh, a);
        case Op::cosh:
            return g.unary(Op::sinh, a);
        case Op::tanh:
            return g.sub(one, g.mul(id, id));
        case Op::abs:
            if (at == AtCorner::mean) return g.unary(Op::sign, a);
            return g.select(g.compare(Op::less, a, g.constant(0), false), g.constant(-1), one);
        case Op::atan2: {
            NodeId square = away_from_zero(g, g.add(g.mul(a, a), g.mul(b, b)));
            return k == 0 ? g.div(b, square) : g.neg(g.div(a, square));
        }
        case Op::min:
        case Op::max: {
            if (at == AtCorner::mean) {
                NodeId half = g.constant(0.5), larger = g.mul(half, g.unary(Op::sign, g.sub(a, b)));
                return (n.op == Op::max) == (k == 0) ? g.add(half, larger) : g.sub(half, larger);
            }
            NodeId second = n.op == Op::min ? g.compare(Op::less, b, a, false) : g.compare(Op::less, a, b, false);
            return k == 0 ? g.select(second, g.constant(0), one) : g.select(second, one, g.constant(0));
        }
        case Op::select:
            if (k == 0) return g.constant(0);
            return k == 1 ? g.select(a, one, g.constant(0)) : g.select(a, g.constant(0), one);
        case Op::lookup:
            return g.lookup(n.a, n.b, n.c, n.flag / 16 + (k == 0 ? 1 : 0), n.flag % 16 + (k == 1 ? 1 : 0));
        case Op::call: {
            std::vector<NodeId> arguments = g.arguments(id);
            return g.call(g.derivative_of(n.a, static_cast<std::size_t>(k)), arguments);
        }
        default:
            return g.constant(0);
    }
}

NodeId TimeDerivative::operator()(NodeId root)
{
    std::vector<NodeId> stack{root};
    auto known = [&](NodeId id) { return id < done_.size() && done_[id] != kNoNode; };
    while (!stack.empty()) {
        NodeId id = stack.back();
        if (known(id)) {
            stack.pop_back();
            continue;
        }
        const Node n = graph_[id];
        if (n.op == Op::rate_of) {  // ((e)')' needs the derivative of the expanded (e)'
            if (!known(n.a)) {
                stack.push_back(n.a);
                continue;
            }
            NodeId expanded = done_[n.a];
            if (!known(expanded)) {
                stack.push_back(expanded);
                continue;
            }
            NodeId second = done_[expanded];
            if (done_.size() < graph_.size()) done_.resize(graph_.size(), kNoNode);
            done_[id] = second;
            stack.pop_back();
            continue;
        }
        NodeId result = graph_.constant(0);
        if (n.op == Op::time) {
            result = graph_.constant(1);
        } else if (n.op == Op::memory && n.b == 1) {
            trouble_ = "it holds a delay, whose derivative is not known";
        } else if (n.op == Op::quantity) {
            result = graph_.quantity(n.a, n.b + 1);
        } else if (Children c(graph_, id); c.count() > 0 && !is_piecewise_constant(n.op)) {
            bool ready = true;
            int count = c.count();
            for (int k = n.op == Op::select ? 1 : 0; k < count; ++k)
                if (!known(c[static_cast<std::size_t>(k)])) stack.push_back(c[static_cast<std::size_t>(k)]), ready = false;
            if (!ready) continue;
            if (n.op == Op::select) {
                result = graph_.select(n.a, done_[n.b], done_[n.c]);
            } else {
                for (int k = 0; k < count; ++k) {
                    NodeId inner = done_[c[static_cast<std::size_t>(k)]];
                    if (graph_.is_constant(inner, 0)) continue;
                    if (n.op == Op::lookup && !graph_.table(n.a).smooth() && graph_[n.b].op != Op::time)
                        trouble_ = "table '" + graph_.table(n.a).name() + "' is linear: make it smooth";
                    if (n.op == Op::call && !graph_.callable(n.a).smooth()) trouble_ = "table '" + graph_.callable(n.a).name() + "' is linear: make it smooth";
                    result = graph_.add(result, graph_.mul(partial(graph_, id, k), inner));
                }
            }
        }
        if (done_.size() < graph_.size()) done_.resize(graph_.size(), kNoNode);
        done_[id] = result;
        stack.pop_back();
    }
    return done_[root];
}

void expand_rates(Graph& graph, TimeDerivative& derivative, const std::vector<NodeId*>& roots)
{
    // inner rates first: the argument of a rate_of is already free of rates when it is met
    rewrite(graph, roots, [&](NodeId id, const Node& n) { return n.op == Op::rate_of ? derivative(n.a) : id; });
}

namespace {

// Keeps the order of equal ones. Nearly all lists are short, and two sorted ones behind each other.
void sort_by_leaf(std::vector<Gradients::Entry>& list)
{
    constexpr std::size_t kShort = 24;
    auto before = [](const Gradients::Entry& x, const Gradients::Entry& y) { return x.first < y.first; };
    if (list.size() > kShort) {
        std::stable_sort(list.begin(), list.end(), before);
        return;
    }
    for (std::size_t i = 1; i < list.size(); ++i)
        for (std::size_t k = i; k > 0 && before(list[k], list[k - 1]); --k) std::swap(list[k], list[k - 1]);
}

}  // namespace

std::span<const Gradients::Entry> Gradients::operator()(NodeId root)
{
    auto known = [&](NodeId id) { return id < slot_.size() && slot_[id] != 0; };
    stack_.push_back(root);
    std::vector<Entry>& sum = sum_;
    while (!stack_.empty()) {
        NodeId id = stack_.back();
        if (known(id)) {
            stack_.pop_back();
            continue;
        }
        const Node n = graph_[id];
        Children c(graph_, id);
        int count = c.count();
        bool flat = is_piecewise_constant(n.op);
        bool ready = true;
        for (int k = 0; k < count && !flat; ++k)
            if (!known(c[static_cast<std::size_t>(k)])) stack_.push_back(c[static_cast<std::size_t>(k)]), ready = false;
        if (!ready) continue;
        sum.clear();
        if (count == 0) {
            if (n.op != Op::constant && n.op != Op::time && n.op != Op::pair) {
                std::uint32_t number = leaf_number_(n);
                if (number != kNoNode) sum.emplace_back(number, graph_.constant(1));
            }
        } else if (!flat) {
            for (int k = n.op == Op::select ? 1 : 0; k < count; ++k) {
                std::size_t slot = slot_[c[static_cast<std::size_t>(k)]] - 1;
                const List list = lists_[slot];
                if (list.size == 0) continue;
                NodeId factor = partial(graph_, id, k, at_);
                for (std::size_t i = list.first; i < list.first + list.size; ++i) {
                    auto [leaf, inner] = entries_[i];
                    // a select of derivatives reads better, and is cheaper, than a sum of two selects
                    NodeId term = n.op == Op::select ? (k == 1 ? graph_.select(n.a, inner, graph_.constant(0)) : graph_.select(n.a, graph_.constant(0), inner))
                                                     : graph_.mul(factor, inner);
                    sum.emplace_back(leaf, term);
                }
            }
            sort_by_leaf(sum);
            std::size_t kept = 0;
            for (std::size_t i = 0; i < sum.size(); ++i) {
                if (kept > 0 && sum[kept - 1].first == sum[i].first)
                    sum[kept - 1].second = graph_.add(sum[kept - 1].second, sum[i].second);
                else
                    sum[kept++] = sum[i];
            }
            sum.resize(kept);
            std::erase_if(sum, [&](const Entry& e) { return graph_.is_constant(e.second, 0); });
        }
        if (slot_.size() < graph_.size()) slot_.resize(graph_.size(), 0);
        slot_[id] = 1;
        if (!sum.empty()) {
            lists_.push_back({static_cast<std::uint32_t>(entries_.size()), static_cast<std::uint32_t>(sum.size())});
            entries_.insert(entries_.end(), sum.begin(), sum.end());
            slot_[id] = static_cast<std::uint32_t>(lists_.size());
        }
        stack_.pop_back();
    }
    const List list = lists_[slot_[root] - 1];
    return {entries_.data() + list.first, list.size};
}

}  // namespace netloop

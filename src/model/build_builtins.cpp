// SPDX-License-Identifier: Apache-2.0
// The functions known everywhere, as expressions: abs, min, delay, slope and their kin.
#include <cmath>
#include <map>

#include "algebra/differentiate.hpp"
#include "model/instantiator.hpp"

namespace netloop {
// slope(f, x): the partial derivative of f by x, everything else in f held.
Value Instantiator::slope_of(const Expr& e, const Value& f, const Value& x)
{
    if (f.is_array() || x.is_array() || graph_[x.node].op != Op::quantity)
        give_up(messages::bad_value, e.args[1]->span, "a slope is taken of one value, by an unknown", {}, {},
                "name the unknown itself: slope(lift(angle), angle)");
    for (NodeId below : graph_.reachable({f.node}))
        if (graph_[below].op == Op::rate_of) give_up(messages::bad_value, e.args[0]->span, "a slope of something with a derivative of an expression in it");
    const Node by = graph_[x.node];
    Gradients gradients(graph_, [&](const Node& leaf) { return leaf == by ? 0u : kNoNode; });
    auto found = gradients(f.node);
    return scalar(found.empty() ? graph_.constant(0) : found.front().second);
}

Value Instantiator::build_builtin(const Expr& e, const std::string& name, const Env& env)
{
    Graph& g = graph_;
    if (is_word_of_ports(name)) return build_carried(e, name, env);
    for (const char* later : {"final", "mean", "integral", "rms"})
        if (name == later) give_up(messages::unexpected_here, e.span, fmt::format("'{}', which belongs to a measure of a scenario,", name));
    if (name == "previous" && !env.in_block) give_up(messages::block_only, e.span, "previous()");
    if (name == "sum" || name == "product") {
        std::vector<NodeId> terms;
        if (e.args.size() == 1 && e.args[0]->kind == ExprKind::comprehension) {
            const Expr& loop = *e.args[0];
            double low = need_constant(*loop.args[1], env, "the range of a sum"), high = need_constant(*loop.args[2], env, "the range of a sum");
            if (high - low > 5e7) give_up(messages::bad_size, loop.span, name, fmt::format("{:g}", high - low), "50000000");
            for (int i = static_cast<int>(low); i <= static_cast<int>(high); ++i) {
                loop_indices_.push_back({loop.text, i, env.loops});
                Env inner = env;
                inner.loops = &loop_indices_.back();
                terms.push_back(build_scalar(*loop.args[0], inner));
            }
        } else {
            Value v = build(*e.args.at(0), env);
            terms = v.is_array() ? v.elements : std::vector<NodeId>{v.node};
        }
        NodeId total = g.constant(name == "sum" ? 0 : 1);
        for (NodeId t : terms) total = name == "sum" ? g.add(total, t) : g.mul(total, t);
        return scalar(total);
    }
    if (name == "untracked") {
        Env quiet = env;
        quiet.located = false;
        return scalar(build_scalar(*e.args[0], quiet), true);
    }
    std::vector<Value> a;
    Env inner = env;
    if (name == "previous") inner.now = nullptr;
    for (const Expr* x : e.args) a.push_back(build(*x, inner));
    for (std::size_t i = 0; i < a.size(); ++i)
        if (!a[i].is_array() && a[i].node == kNoNode) give_up(messages::bad_value, e.args[i]->span, "a word where a value is expected");
    static const std::map<std::string, Op> kUnary{{"abs", Op::abs},   {"sqrt", Op::sqrt}, {"exp", Op::exp},   {"log", Op::log},   {"sin", Op::sin},
                                                  {"cos", Op::cos},   {"tan", Op::tan},   {"asin", Op::asin}, {"acos", Op::acos}, {"atan", Op::atan},
                                                  {"sinh", Op::sinh}, {"cosh", Op::cosh}, {"tanh", Op::tanh}};
    if (auto it = kUnary.find(name); it != kUnary.end()) return map_unary(a[0], [&](NodeId n) { return g.unary(it->second, n); });
    // sign, floor and ceil jump: where jumps are located they become held modes, see compile/locate_conditions.cpp
    auto jump = [&](Op op, NodeId n) { return g.unary(op, n, env.located); };
    if (name == "previous") {
        Value v = map_unary(a[0], [&](NodeId n) { return previous_value(n); });
        v.boolean = a[0].boolean;
        return v;
    }
    if (name == "delay") {
        if (a[1].is_array()) give_up(messages::bad_value, e.args[1]->span, "one time is expected");
        return map_unary(a[0], [&](NodeId n) { return delayed_value(e, n, a[1].node, env); });
    }
    if (name == "slope") return slope_of(e, a[0], a[1]);
    if (name == "sign") return map_unary(a[0], [&](NodeId n) { return jump(Op::sign, n); });
    if (name == "floor") return map_unary(a[0], [&](NodeId n) { return jump(Op::floor, n); });
    if (name == "ceil") return map_unary(a[0], [&](NodeId n) { return jump(Op::ceil, n); });
    if (name == "log10") return map_unary(a[0], [&](NodeId n) { return g.div(g.unary(Op::log, n), g.constant(std::log(10.0))); });
    if (name == "atan2") return map_binary(a[0], a[1], e.span, [&](NodeId x, NodeId y) { return g.binary(Op::atan2, x, y); });
    if (name == "mod") return map_binary(a[0], a[1], e.span, [&](NodeId x, NodeId y) { return g.sub(x, g.mul(y, jump(Op::floor, g.div(x, y)))); });
    if (name == "min" || name == "max") {
        Value v = a[0];
        for (std::size_t i = 1; i < a.size(); ++i)
            v = map_binary(v, a[i], e.span, [&](NodeId x, NodeId y) { return g.binary(name == "min" ? Op::min : Op::max, x, y); });
        v.path.clear();
        return v;
    }
    if (a.size() == 3 && a[1].is_array() == false && a[2].is_array() == false) {
        if (name == "clamp") return map_unary(a[0], [&](NodeId n) { return g.binary(Op::max, a[1].node, g.binary(Op::min, n, a[2].node)); });
        if (name == "smooth_step")  // 3 s^2 - 2 s^3 with s held in 0 .. 1
            return map_unary(a[0], [&](NodeId n) {
                NodeId s = g.div(g.sub(n, a[1].node), g.sub(a[2].node, a[1].node));
                s = g.binary(Op::max, g.constant(0), g.binary(Op::min, s, g.constant(1)));
                return g.mul(g.mul(s, s), g.sub(g.constant(3), g.mul(g.constant(2), s)));
            });
    }
    if (name == "signed_sqrt")  // x / (x^2 + w^2)^(1/4): linear within about w, the root beyond
        return map_binary(a[0], a[1], e.span, [&](NodeId x, NodeId w) {
            NodeId square = g.add(g.mul(x, x), g.mul(w, w));
            return g.div(x, g.unary(Op::sqrt, g.unary(Op::sqrt, square)));
        });
    give_up(messages::unsupported, e.span, fmt::format("'{}' with these arguments", name));
}

}  // namespace netloop

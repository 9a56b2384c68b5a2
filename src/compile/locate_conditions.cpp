// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <map>

#include "algebra/differentiate.hpp"
#include "compile/passes.hpp"

namespace netloop {
namespace {

std::vector<NodeId*> all_roots(EquationSystem& s)
{
    std::vector<NodeId*> roots;
    for_each_expression(*s.flat, [&](NodeId& node, Role) { roots.push_back(&node); });
    for (SystemEquation& e : s.equations)
        if (e.residual != kNoNode) roots.push_back(&e.residual);
    return roots;
}

}  // namespace

EquationSystem begin_system(std::unique_ptr<FlatModel> flat, Diagnostics& diagnostics)
{
    EquationSystem s;
    s.written = std::make_shared<const WrittenModel>(as_written(*flat));
    s.flat = std::move(flat);
    for (std::uint32_t i = 0; i < s.flat->equations.size(); ++i) s.equations.push_back({kNoNode, i});
    TimeDerivative derivative(s.graph());
    std::vector<NodeId*> roots = all_roots(s);
    expand_rates(s.graph(), derivative, roots);
    if (!derivative.trouble().empty()) diagnostics.report(messages::not_differentiable, {}, derivative.trouble());
    s.resolutions.resize(s.flat->quantities.size());
    for (QuantityId q = 0; q < s.resolutions.size(); ++q) s.resolutions[q].representative = q;
    return s;
}

void locate_conditions(EquationSystem& s)
{
    Graph& g = s.graph();
    std::map<std::pair<int, NodeId>, std::uint32_t> known;
    auto mode_of = [&](Condition::Kind kind, NodeId value, std::string text) {
        auto [it, fresh] = known.emplace(std::make_pair(static_cast<int>(kind), value), static_cast<std::uint32_t>(s.conditions.size()));
        if (fresh) s.conditions.push_back({.kind = kind, .value = value, .text = std::move(text)});
        return g.leaf(Op::mode, it->second);
    };
    std::vector<NodeId*> roots = all_roots(s);
    rewrite(g, roots, [&](NodeId id, const Node& n) -> NodeId {
        if (n.flag == 0) return id;
        auto text = [&](NodeId a, const char* op, NodeId b) { return s.flat->comparison_text(a, op, b); };
        NodeId zero = g.constant(0);
        switch (n.op) {
            case Op::less:
                return mode_of(Condition::Kind::less, g.sub(n.a, n.b), text(n.a, " < ", n.b));
            case Op::less_equal:
                return mode_of(Condition::Kind::less_equal, g.sub(n.a, n.b), text(n.a, " <= ", n.b));
            case Op::sign: {
                NodeId positive = mode_of(Condition::Kind::less, g.neg(n.a), text(n.a, " > ", zero));
                NodeId negative = mode_of(Condition::Kind::less, n.a, text(n.a, " < ", zero));
                return g.select(positive, g.constant(1), g.select(negative, g.constant(-1), zero));
            }
            case Op::floor:
                return mode_of(Condition::Kind::whole, n.a, "floor(" + s.flat->node_text(n.a) + ")");
            case Op::ceil:
                return g.neg(mode_of(Condition::Kind::whole, g.neg(n.a), "ceil(" + s.flat->node_text(n.a) + ")"));
            default:
                return id;
        }
    });
    // where each condition stands: the first thing that reads its mode; every node is looked at once
    if (s.conditions.empty()) return;
    std::vector<char> seen(g.size(), 0);
    std::vector<NodeId> stack;
    auto place = [&](NodeId root, const Origin& origin) {
        if (root == kNoNode) return;
        stack.push_back(root);
        while (!stack.empty()) {
            NodeId id = stack.back();
            stack.pop_back();
            if (seen[id] != 0) continue;
            seen[id] = 1;
            const Node& n = g[id];
            if (n.op == Op::mode) s.conditions[n.a].origin = origin;
            for (int k = first_child(n.op); k < end_of_children(n.op); ++k)
                if (NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c; child != kNoNode) stack.push_back(child);
        }
    };
    for (const FlatBlock& b : s.flat->blocks) {
        // what is the whole condition of a block is told in its words
        if (b.condition != kNoNode && g[b.condition].op == Op::mode && seen[b.condition] == 0) s.conditions[g[b.condition].a].text = b.text;
        place(b.condition, b.origin);
    }
    for (const FlatEquation& e : s.flat->equations) place(e.left, e.origin), place(e.right, e.origin);
    for (const FlatView& v : s.flat->views) place(v.value, v.origin);
    for (const FlatBlock& b : s.flat->blocks)
        for (const FlatSetting& set : b.settings) place(set.value, b.origin), place(set.when, b.origin);
    // one that stands in another condition (the floor of a mod) stands where that one does
    for (std::size_t i = s.conditions.size(); i-- > 0;) place(s.conditions[i].value, Origin(s.conditions[i].origin));
}

std::vector<SameSurface> same_surface(const EquationSystem& s, std::uint32_t condition)
{
    const Graph& g = s.graph();
    NodeId mine = s.conditions[condition].value;
    auto opposite = [&](NodeId a, NodeId b) {
        const Node &x = g[a], &y = g[b];
        return (x.op == Op::neg && x.a == b) || (y.op == Op::neg && y.a == a) || (x.op == Op::sub && y.op == Op::sub && x.a == y.b && x.b == y.a);
    };
    std::vector<SameSurface> list;
    for (std::uint32_t k = 0; k < s.conditions.size(); ++k) {
        if (k == condition || s.conditions[k].kind == Condition::Kind::whole) continue;
        if (s.conditions[k].value == mine)
            list.push_back({k, true});
        else if (opposite(s.conditions[k].value, mine))
            list.push_back({k, false});
    }
    return list;
}

}  // namespace netloop

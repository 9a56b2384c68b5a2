// SPDX-License-Identifier: Apache-2.0
#include "compile/parameters.hpp"

#include <map>

#include "compile/matching.hpp"
#include "compile/passes.hpp"

namespace netloop {

std::vector<ParameterId> order_parameters(const FlatModel& flat, Diagnostics* diagnostics)
{
    Adjacency needs;
    for (const FlatParameter& p : flat.parameters) {
        std::vector<std::uint32_t> uses;
        for (NodeId root : {p.value, p.low, p.high}) {
            if (root == kNoNode || flat.graph.is_constant(root)) continue;
            std::vector<NodeId> stack{root};
            while (!stack.empty()) {
                NodeId id = stack.back();
                stack.pop_back();
                const Node& n = flat.graph[id];
                if (n.op == Op::parameter && root == p.value) uses.push_back(n.a);
                for (int k = first_child(n.op); k < end_of_children(n.op); ++k) {
                    NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c;
                    if (child != kNoNode) stack.push_back(child);
                }
            }
        }
        needs.add_row(uses);
    }
    std::vector<ParameterId> order;
    for (const auto& group : strong_components(needs)) {
        bool itself = false;
        for (std::uint32_t k = needs.starts[group[0]]; k < needs.starts[group[0] + 1]; ++k) itself |= needs.targets[k] == group[0];
        if ((group.size() > 1 || itself) && diagnostics != nullptr) {
            std::string chain;
            for (std::uint32_t p : group) chain += flat.parameters[p].path + " -> ";
            diagnostics->report(messages::circular_definition, flat.parameters[group[0]].origin.span, chain + flat.parameters[group[0]].path);
        }
        order.insert(order.end(), group.begin(), group.end());
    }
    return order;
}

std::vector<double> default_parameters(const FlatModel& flat)
{
    std::vector<double> values(flat.parameters.size(), 0.0);
    NodeValues evaluate(flat.graph, [&](const Node& n) { return n.op == Op::parameter ? values[n.a] : 0.0; });
    for (ParameterId p : order_parameters(flat, nullptr))
        if (flat.parameters[p].value != kNoNode) values[p] = evaluate(flat.parameters[p].value);
    return values;
}

// `find p so that a = b`: the param becomes a quantity with p' = 0, and a = b what the start has to meet.
void free_found_parameters(FlatModel& flat)
{
    if (flat.finds.empty()) return;
    Graph& g = flat.graph;
    std::vector<double> defaults = default_parameters(flat);
    NodeValues values(g, [&](const Node& n) { return n.op == Op::parameter ? defaults[n.a] : 0.0; });
    std::map<ParameterId, NodeId> instead;
    std::map<ParameterId, std::string> source;
    for (const FlatFind& f : flat.finds) {
        FlatParameter& p = flat.parameters[f.parameter];
        auto q = static_cast<QuantityId>(flat.quantities.size());
        FlatQuantity made;
        made.path = p.path;
        made.unit = p.unit;
        made.found = true;
        made.doc = p.doc;
        made.origin = p.origin;
        made.start = g.leaf(Op::parameter, f.parameter);  // the search begins at the value that the param is given
        if (p.low != kNoNode) made.low = values(p.low);
        if (p.high != kNoNode) made.high = values(p.high);
        flat.quantities.push_back(made);
        flat.equations.push_back({g.quantity(q, 1), g.constant(0), EquationKind::value, f.origin});
        instead[f.parameter] = g.quantity(q);
        source[f.parameter] = p.path;
    }
    // params that are computed from these
    auto replace = [&](const std::vector<NodeId*>& roots) {
        rewrite(g, roots, [&](NodeId id, const Node& n) {
            auto it = n.op == Op::parameter ? instead.find(n.a) : instead.end();
            return it == instead.end() ? id : it->second;
        });
    };
    for (ParameterId p : order_parameters(flat, nullptr)) {
        if (instead.count(p) || flat.parameters[p].value == kNoNode) continue;
        NodeId value = flat.parameters[p].value;
        for (NodeId id : g.reachable({value}))
            if (g[id].op == Op::parameter && instead.count(g[id].a)) source[p] = source[g[id].a];
        if (!source.count(p)) continue;
        replace({&value});
        instead[p] = value;
        FlatParameter& f = flat.parameters[p];
        f.follows = source[p];
        flat.views.push_back({f.path, value, f.unit, f.boolean, f.doc, f.origin});
    }
    std::vector<NodeId*> roots;
    for_each_expression(flat, [&](NodeId& node, Role) { roots.push_back(&node); });
    replace(roots);
    for (const FlatFind& f : flat.finds) {
        FlatInit init{f.left, f.right, f.origin, 0, {}};
        init.find = true;
        flat.inits.push_back(init);
    }
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// `find p so that a = b`: the param becomes a quantity with p' = 0, and a = b what the start has to meet.
#include <map>

#include "compile/parameters.hpp"
#include "compile/passes.hpp"

namespace netloop {

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
    std::vector<NodeId*> roots = flat.side_expressions();
    for (FlatEquation& e : flat.equations) roots.push_back(&e.left), roots.push_back(&e.right);
    for (FlatFind& f : flat.finds) roots.push_back(&f.left), roots.push_back(&f.right);
    for (NodeId& node : flat.switches) roots.push_back(&node);
    replace(roots);
    for (const FlatFind& f : flat.finds) {
        FlatInit init{f.left, f.right, f.origin, 0, {}};
        init.find = true;
        flat.inits.push_back(init);
    }
}

}  // namespace netloop

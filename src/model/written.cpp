// SPDX-License-Identifier: Apache-2.0
#include "model/written.hpp"

#include <algorithm>

namespace netloop {

WrittenModel as_written(const FlatModel& flat)
{
    WrittenModel w;
    const Graph& g = flat.graph;
    std::vector<NodeId> roots;
    for (const FlatEquation& e : flat.equations) {
        w.equations.push_back({e.left, e.right});
        roots.insert(roots.end(), {e.left, e.right});
    }
    for (const FlatView& v : flat.views) w.views.push_back(v.value), roots.push_back(v.value);
    w.inits = flat.inits;
    w.limits = flat.limits;
    for (const FlatLimit& l : w.limits) roots.insert(roots.end(), {l.value, l.low, l.high});
    for (const FlatInit& i : w.inits) roots.insert(roots.end(), {i.left, i.right});
    for (const FlatParameter& p : flat.parameters) w.parameters.push_back(p.value), roots.push_back(p.value);
    std::erase(roots, kNoNode);
    std::vector<NodeId> order = g.reachable(roots);
    w.needs.assign(order.empty() ? 0 : order.back() + 1, 0);
    std::vector<std::uint32_t> highest(flat.quantities.size(), 0);  ///< one more than the highest order needed
    for (auto at = order.rbegin(); at != order.rend(); ++at) {      // parents before children
        const Node& n = g[*at];
        std::uint32_t need = w.needs[*at];
        if (n.op == Op::quantity) highest[n.a] = std::max(highest[n.a], n.b + need + 1);
        for (int k = first_child(n.op); k < end_of_children(n.op); ++k) {
            NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c;
            if (child != kNoNode) w.needs[child] = std::max(w.needs[child], n.op == Op::rate_of ? need + 1 : need);
        }
    }
    w.first_leaf.push_back(0);
    for (QuantityId q = 0; q < highest.size(); ++q) {
        for (std::uint32_t k = 0; k < highest[q]; ++k) w.leaves.push_back({q, k});
        w.first_leaf.push_back(static_cast<std::uint32_t>(w.leaves.size()));
    }
    return w;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "compile/parameters.hpp"

#include "compile/matching.hpp"

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

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "exchange/fixed_slopes.hpp"

#include <algorithm>

#include "algebra/differentiate.hpp"
#include "compile/parameters.hpp"
#include "evaluate/lower.hpp"

namespace netloop {
namespace {

using Entry = FixedPlan::Slopes::Entry;

// The inputs and the params that follow from them.
std::vector<char> moved_by_inputs(const FixedPlan& plan, const std::vector<ParameterId>& order)
{
    const FlatModel& flat = plan.model->form.flat();
    std::vector<char> moved(flat.parameters.size(), 0);
    for (ParameterId p : plan.request.inputs) moved[p] = 1;
    for (ParameterId p : order) {
        if (moved[p] != 0 || flat.parameters[p].value == kNoNode) continue;
        for (NodeId id : flat.graph.reachable({flat.parameters[p].value}))
            if (flat.graph[id].op == Op::parameter && moved[flat.graph[id].a] != 0) moved[p] = 1;
    }
    return moved;
}

}  // namespace

LoweredSlopes lower_slopes(const FixedPlan& plan, std::uint32_t first)
{
    const CompiledModel& m = *plan.model;
    const FlatModel& flat = m.form.flat();
    const MemoryLayout& at = m.layout;
    LoweredSlopes made;
    auto graph = std::make_shared<Graph>(m.form.reduced.system.graph());
    const std::vector<ParameterId> order = order_parameters(flat, nullptr);
    const std::vector<char> moved = moved_by_inputs(plan, order);
    auto place_of_leaf = [&](const Node& leaf) -> std::uint32_t {
        if (leaf.op == Op::unknown) return at.z + leaf.a;
        if (leaf.op == Op::rate) return at.rates + leaf.a;
        return leaf.op == Op::parameter && moved[leaf.a] != 0 ? at.parameters + leaf.a : kNoNode;
    };
    Gradients by_all(*graph, place_of_leaf, AtCorner::mean);
    std::vector<NodeId> roots;
    // until all is lowered the place of an entry is the number of its root
    auto take = [&roots](std::vector<Entry>& list, std::uint32_t of, std::span<const Gradients::Entry> gradient) {
        for (const auto& [by, node] : gradient) {
            list.push_back({of, by, static_cast<std::uint32_t>(roots.size())});
            roots.push_back(node);
        }
    };
    for (ParameterId p : order)
        if (moved[p] != 0 && std::find(plan.request.inputs.begin(), plan.request.inputs.end(), p) == plan.request.inputs.end())
            take(made.params, p, by_all(flat.parameters[p].value));
    std::vector<Gradients::Entry> by_states, by_rest;
    for (std::uint32_t r = 0; r < m.form.residuals.size(); ++r) {
        if (m.form.residuals[r] == kNoNode) continue;
        by_states.clear(), by_rest.clear();
        for (const Gradients::Entry& e : by_all(m.form.residuals[r])) {
            const bool rate = e.first >= at.rates, member = e.first >= at.z;
            const bool state = member && plan.is_state[e.first - (rate ? at.rates : at.z)] != 0;
            if (rate && !state) continue;  // it stays as it is
            (!member || (state && !rate) ? by_states : by_rest).push_back(e);
        }
        take(made.rows, r, by_states);
        take(made.matrix, r, by_rest);
    }
    for (std::uint32_t k = 0; k < plan.request.outputs.size(); ++k) take(made.outputs, k, by_all(m.form.outputs[plan.request.outputs[k]].value));
    for (std::uint32_t k = 0; k < plan.condition.size(); ++k) take(made.conditions, k, by_all(m.form.conditions[plan.condition[k].number].value));

    Lowering lowering(*graph, static_cast<std::uint32_t>(flat.parameters.size()), static_cast<std::uint32_t>(m.form.conditions.size()),
                      static_cast<std::uint32_t>(m.form.events.memories.size()), static_cast<std::uint32_t>(m.n()));
    lowering.begin_behind(first);
    made.program = lowering.lower("slopes", roots);
    for (auto* list : {&made.params, &made.rows, &made.matrix, &made.outputs, &made.conditions})
        for (Entry& e : *list) e.place = made.program.results[e.place];
    made.prologue = lowering.prologue();
    made.literals = lowering.literals();
    made.next = lowering.layout().size;
    made.graph = std::move(graph);
    return made;
}

}  // namespace netloop

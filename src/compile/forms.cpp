// SPDX-License-Identifier: Apache-2.0
#include "compile/forms.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <stdexcept>
#include <vector>

namespace netloop {

EquationSystem clone(const EquationSystem& system)
{
    EquationSystem copy;
    copy.flat = std::make_unique<FlatModel>(*system.flat);
    copy.written = system.written;
    copy.equations = system.equations;
    copy.conditions = system.conditions;
    copy.resolutions = system.resolutions;
    copy.record = system.record;
    copy.may_assume = system.may_assume;
    copy.assumed = system.assumed;
    return copy;
}

std::vector<Variable> EquationSystem::variables(NodeId node) const
{
    std::vector<Variable> list;
    std::vector<NodeId> stack{node};
    std::vector<NodeId> seen;
    constexpr std::size_t kMostVisits = 1000;
    std::size_t visits = 0;
    // expressions are small; a sorted list of visited nodes keeps this linear enough without touching the whole arena
    while (!stack.empty()) {
        NodeId id = stack.back();
        stack.pop_back();
        const Node& n = graph()[id];
        if (n.op == Op::quantity) list.push_back({n.a, n.b});
        for (int k = first_child(n.op); k < end_of_children(n.op); ++k) {
            NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c;
            if (child == kNoNode || n_children(graph()[child].op) == 0) {
                if (child != kNoNode && graph()[child].op == Op::quantity) list.push_back({graph()[child].a, graph()[child].b});
                continue;
            }
            if (std::find(seen.begin(), seen.end(), child) != seen.end()) continue;
            if (seen.size() < 64) seen.push_back(child);
            stack.push_back(child);
        }
        if (++visits > kMostVisits) {  // large, or heavily shared: visit each node once instead
            list.clear();
            for (NodeId below : graph().reachable({node}))
                if (graph()[below].op == Op::quantity) list.push_back({graph()[below].a, graph()[below].b});
            break;
        }
    }
    auto less = [](Variable a, Variable b) { return a.quantity != b.quantity ? a.quantity < b.quantity : a.order < b.order; };
    std::sort(list.begin(), list.end(), less);
    list.erase(std::unique(list.begin(), list.end()), list.end());
    return list;
}

std::string text_of(const EquationSystem& system)
{
    std::string text;
    for (const SystemEquation& e : system.equations)  // as one side only once aliases are removed
        text += e.residual == kNoNode ? system.flat->equation_text(system.flat->equations[e.flat]) + "\n" : "0 = " + system.flat->node_text(e.residual) + "\n";
    return text;
}

std::string text_of(const ReducedSystem& r)
{
    std::string text;
    for (const Variable& v : r.states) text += "state " + r.system.name(v) + "\n";
    for (const StateChoice& choice : r.choices) {
        text += fmt::format("{} states among", choice.n_states());
        for (const auto& [quantity, highest] : choice.candidates)
            for (std::uint32_t k = 0; k < highest; ++k) text += " " + r.system.name({quantity, k});
        text += "\n";
    }
    for (const ReducedEquation& e : r.equations) {
        if (e.constraint) text += "  tied by 0 = " + r.system.flat->node_text(e.residual) + "\n";
        if (r.blocks.empty() && !e.constraint) text += "  0 = " + r.system.flat->node_text(e.residual) + "\n";
    }
    for (const SolveBlock& b : r.blocks) {
        text += fmt::format("block of {}\n", b.equations.size());
        for (const SolveBlock::Step& s : b.steps) text += "  " + r.system.name(r.unknowns[s.unknown]) + " := " + r.system.flat->node_text(s.value) + "\n";
        for (std::uint32_t u : b.iterates) text += "  iterate " + r.system.name(r.unknowns[u]) + "\n";
        for (std::uint32_t e : b.residuals) text += "  0 = " + r.system.flat->node_text(r.equations[e].residual) + "\n";
        if (b.steps.empty() && b.residuals.empty()) {  // not torn yet
            for (std::uint32_t u : b.unknowns) text += "  settles " + r.system.name(r.unknowns[u]) + "\n";
            for (std::uint32_t e : b.equations) text += "  by 0 = " + r.system.flat->node_text(r.equations[e].residual) + "\n";
        }
    }
    return text;
}

std::string fault_of(const FlatModel& flat)
{
    try {
        flat.verify();
    } catch (const std::logic_error& broken) {
        return broken.what();
    }
    return {};
}

std::string fault_of(const EquationSystem& s, bool aliases_removed)
{
    const FlatModel& flat = *s.flat;
    if (std::string fault = fault_of(flat); !fault.empty()) return fault;
    if (s.resolutions.size() != flat.quantities.size()) return "not as many resolutions as quantities";
    for (QuantityId q = 0; q < s.resolutions.size(); ++q) {
        const Resolution& r = s.resolutions[q];
        if (r.known != kNoNode ? r.known >= flat.graph.size() : r.representative >= flat.quantities.size())
            return fmt::format("'{}' has become what there is not", flat.quantities[q].path);
        if (r.known != kNoNode || !aliases_removed) continue;
        const Resolution& end = s.resolutions[r.representative];
        if (end.known != kNoNode || end.representative != r.representative || end.order != 0)
            return fmt::format("'{}' has become '{}', which has become another", flat.quantities[q].path, flat.quantities[r.representative].path);
    }
    std::vector<NodeId> roots;
    for (const Condition& c : s.conditions) {
        if (c.value >= flat.graph.size()) return fmt::format("the condition {} has no expression", c.text);
        roots.push_back(c.value);
    }
    for (const SystemEquation& e : s.equations) {
        if (e.flat >= flat.equations.size()) return "an equation comes from none of the flat model";
        if (!aliases_removed) continue;  // they are made by that pass
        if (e.residual >= flat.graph.size()) return "an equation has no expression";
        roots.push_back(e.residual);
        for (const Variable& v : s.variables(e.residual))
            if (s.resolutions[v.quantity].known != kNoNode || s.resolutions[v.quantity].representative != v.quantity)
                return fmt::format("an equation still holds '{}', which is another's alias", s.name(v));
    }
    for (NodeId id : flat.graph.reachable(roots))
        if (flat.graph[id].op == Op::mode && flat.graph[id].a >= s.conditions.size()) return "a mode belongs to no condition";
    return {};
}

namespace {

// Each of `n` once in the lists of the blocks, but for those that `left_out` says.
template <typename List, typename LeftOut>
bool each_once(const std::vector<SolveBlock>& blocks, std::size_t n, List list, LeftOut left_out)
{
    std::vector<int> times(n, 0);
    for (const SolveBlock& b : blocks)
        for (std::uint32_t i : list(b)) {
            if (i >= n) return false;
            ++times[i];
        }
    for (std::uint32_t i = 0; i < n; ++i)
        if (times[i] != (left_out(i) ? 0 : 1)) return false;
    return true;
}

std::string fault_of_steps(const ReducedSystem& r)
{
    UnknownIndex index(r);
    std::vector<char> settled(r.unknowns.size(), 0);
    for (const SolveBlock& b : r.blocks) {
        if (b.steps.size() + b.iterates.size() != b.unknowns.size()) return "a block does not settle as many unknowns as it has";
        if (b.residuals.size() != b.iterates.size()) return "a block has not as many residuals as iterates";
        for (std::uint32_t u : b.iterates) settled[u] = 1;
        for (const SolveBlock::Step& s : b.steps) {
            for (const Variable& v : r.system.variables(s.value)) {
                std::uint32_t u = index.of(v);
                if (u != kUnmatched && settled[u] == 0)
                    return fmt::format("'{}' is worked out from '{}', which is not settled yet", r.system.name(r.unknowns[s.unknown]), r.system.name(v));
            }
            settled[s.unknown] = 1;
        }
    }
    return {};
}

}  // namespace

std::string fault_of(const ReducedSystem& r)
{
    if (std::string fault = fault_of(r.system, true); !fault.empty()) return fault;
    std::size_t n_equations = 0;
    for (const ReducedEquation& e : r.equations) {
        if (e.residual >= r.system.graph().size()) return "an equation has no expression";
        if (e.flat >= r.system.flat->equations.size()) return "an equation comes from none of the flat model";
        n_equations += !e.constraint;
    }
    if (n_equations != r.unknowns.size()) return fmt::format("{} equations for {} unknowns", n_equations, r.unknowns.size());
    if (r.blocks.empty()) return {};
    bool whole =
        each_once(
            r.blocks, r.equations.size(), [](const SolveBlock& b) { return b.equations; }, [&](std::uint32_t e) { return r.equations[e].constraint; }) &&
        each_once(
            r.blocks, r.unknowns.size(), [](const SolveBlock& b) { return b.unknowns; }, [](std::uint32_t) { return false; });
    if (!whole) return "the blocks do not hold each equation and each unknown once";
    bool torn = false;
    for (const SolveBlock& b : r.blocks) torn |= !b.steps.empty() || !b.residuals.empty();
    return torn ? fault_of_steps(r) : "";
}

std::string fault_of(const SolverForm& form)
{
    const Graph& g = form.reduced.system.graph();
    if (form.residuals.size() != form.z.size()) return fmt::format("{} residuals for {} members of z", form.residuals.size(), form.z.size());
    if (form.residual_of.size() != form.residuals.size()) return "a residual does not say where it comes from";
    std::vector<NodeId> roots = form.residuals;
    for (const OutputColumn& o : form.outputs) roots.push_back(o.value);
    for (const Condition& c : form.conditions) roots.push_back(c.value);
    for (const StartEquation& s : form.start) roots.insert(roots.end(), {s.left, s.right});
    for (NodeId root : roots)
        if (root >= g.size()) return "an expression is missing";
    for (NodeId id : g.reachable(roots)) {
        const Node& n = g[id];
        if (n.op == Op::quantity) return fmt::format("'{}' has not been put into terms of z", form.reduced.system.name({n.a, n.b}));
        if ((n.op == Op::unknown || n.op == Op::rate) && n.a >= form.z.size()) return "a member of z that there is not";
        if (n.op == Op::mode && n.a >= form.conditions.size()) return "a mode belongs to no condition";
    }
    return {};
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "analyse/added_signals.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/diagnostics.hpp"
#include "netloop/error.hpp"

namespace netloop {
namespace {

ParameterId add_param(FlatModel& flat, const std::string& path, const Unit& unit)
{
    FlatParameter p;
    p.path = path;
    p.unit = unit;
    p.changed = true;
    p.value = flat.graph.constant(0);
    flat.parameters.push_back(p);
    return static_cast<ParameterId>(flat.parameters.size() - 1);
}

[[noreturn]] void fail_unknown(const FlatModel& flat, const std::string& path)
{
    std::vector<std::string> names;
    for (const FlatQuantity& q : flat.quantities)
        if (q.role == QuantityRole::input || q.role == QuantityRole::output) names.push_back(q.path);
    for (const FlatParameter& p : flat.parameters) names.push_back(p.path);
    std::string near = nearest_name(path, names);
    throw UsageError(fmt::format("the system has no signal and no param '{}'{}", path, near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
}

}  // namespace

void take_from_outside(FlatModel& flat, const std::string& path)
{
    auto param = std::find_if(flat.parameters.begin(), flat.parameters.end(), [&](const FlatParameter& p) { return p.path == path; });
    if (param != flat.parameters.end()) {
        if (param->external) return;
        throw UsageError(fmt::format("'{}' is a param: it can be set from outside as it is", path));
    }
    auto quantity = std::find_if(flat.quantities.begin(), flat.quantities.end(), [&](const FlatQuantity& q) { return q.path == path; });
    if (quantity == flat.quantities.end()) fail_unknown(flat, path);
    if (quantity->role != QuantityRole::input)
        throw UsageError(fmt::format("'{}' is no input of a part: only what signals go into can be given from outside", path));
    ParameterId p = add_param(flat, path, quantity->unit);
    flat.parameters[p].external = true;
    flat.parameters[p].boolean = quantity->boolean;
    flat.parameters[p].doc = quantity->doc;
    flat.parameters[p].origin = quantity->origin;
    NodeId signal = flat.graph.quantity(static_cast<QuantityId>(quantity - flat.quantities.begin()));
    for (FlatEquation& e : flat.equations) {
        if (e.left != signal || (e.kind != EquationKind::signal && e.kind != EquationKind::value && e.kind != EquationKind::unjoined)) continue;
        e.right = flat.graph.leaf(Op::parameter, p);
        return;
    }
    throw UsageError(fmt::format("nothing is joined to '{}'", path));
}

AddedSignal add_to_signal(FlatModel& flat, const std::string& path)
{
    Graph& g = flat.graph;
    AddedSignal added;
    added.path = path;
    Unit unit;
    auto quantity = std::find_if(flat.quantities.begin(), flat.quantities.end(), [&](const FlatQuantity& q) { return q.path == path; });
    auto param = std::find_if(flat.parameters.begin(), flat.parameters.end(), [&](const FlatParameter& p) { return p.path == path; });
    if (quantity != flat.quantities.end()) {
        if (quantity->role != QuantityRole::input && quantity->role != QuantityRole::output)
            throw UsageError(
                fmt::format("'{}' is neither an input nor an output of a part: a linear model acts on signals, inputs of the system and params", path),
                "let a part with an input act there, such as a source");
        added.of = quantity->role == QuantityRole::input ? AddedSignal::Of::input : AddedSignal::Of::output;
        added.index = static_cast<std::uint32_t>(quantity - flat.quantities.begin());
        unit = quantity->unit.difference();
    } else if (param != flat.parameters.end() && param->external) {
        added.of = AddedSignal::Of::system;
        added.index = static_cast<std::uint32_t>(param - flat.parameters.begin());
        unit = param->unit.difference();
    } else if (param != flat.parameters.end()) {
        throw UsageError(fmt::format("'{}' is a param: it needs no preparation to act in a linear model", path));
    } else {
        fail_unknown(flat, path);
    }
    added.value = add_param(flat, "added to " + path, unit);
    added.rate = add_param(flat, "rate added to " + path, unit.rate());
    added.bend = add_param(flat, "second rate added to " + path, unit.rate().rate());
    added.since = add_param(flat, "time of what is added to " + path, Unit{});
    auto leaf = [&](ParameterId p) { return g.leaf(Op::parameter, p); };
    NodeId away = g.sub(g.time(), leaf(added.since));
    NodeId more = g.add(leaf(added.value), g.mul(away, g.add(leaf(added.rate), g.mul(g.constant(0.5), g.mul(leaf(added.bend), away)))));
    if (added.of == AddedSignal::Of::system) {
        NodeId whole = g.add(leaf(added.index), more);
        std::vector<NodeId*> roots;
        for_each_expression(flat, [&](NodeId& node, Role) { roots.push_back(&node); });
        rewrite(g, roots, [&](NodeId id, const Node& n) { return n.op == Op::parameter && n.a == added.index ? whole : id; });
        return added;
    }
    NodeId signal = g.quantity(added.index);
    std::size_t readers = 0;
    for (FlatEquation& e : flat.equations) {
        if (added.of == AddedSignal::Of::input) {
            bool gives = e.left == signal && (e.kind == EquationKind::signal || e.kind == EquationKind::value || e.kind == EquationKind::unjoined);
            if (!gives) continue;
            e.right = g.add(e.right, more);
            ++readers;
        } else if (e.kind == EquationKind::signal && contains(g, e.right, signal)) {
            e.right = replace_leaf(g, e.right, signal, g.add(signal, more));
            ++readers;
        }
    }
    if (readers == 0)
        throw UsageError(added.of == AddedSignal::Of::input ? fmt::format("nothing is joined to '{}'", path)
                                                            : fmt::format("no signal line reads '{}': there is nothing to act on behind it", path));
    return added;
}

}  // namespace netloop

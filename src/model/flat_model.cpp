// SPDX-License-Identifier: Apache-2.0
#include "model/flat_model.hpp"

#include <fmt/format.h>

#include <stdexcept>

namespace netloop {

FlatModel::Limited FlatModel::limited(const FlatLimit& limit) const
{
    auto of = [](const auto& x) { return Limited{&x.path, &x.doc, &x.unit, &x.origin}; };
    return limit.of == FlatLimit::Of::quantity ? of(quantities[limit.index])
           : limit.of == FlatLimit::Of::view   ? of(views[limit.index])
                                               : of(memories[limit.index]);
}

std::string FlatModel::range_text(const FlatLimit& limit) const
{
    const Unit& unit = *limited(limit).unit;
    auto end = [&](NodeId node) {
        if (!graph.is_constant(node)) return node_text(node);
        return fmt::format("{:.6g}{}", unit.from_si(graph.value(node)), unit.text.empty() || unit.text == "1" ? "" : " " + unit.text);
    };
    return fmt::format("{} .. {}", end(limit.low), end(limit.high));
}

void FlatModel::verify() const
{
    auto check_node = [&](NodeId id, const char* what) {
        if (id >= graph.size()) throw std::logic_error(fmt::format("flat model: {} refers to a node that does not exist", what));
    };
    for (const FlatEquation& e : equations) check_node(e.left, "an equation"), check_node(e.right, "an equation");
    for (const FlatInit& i : inits) check_node(i.left, "an init"), check_node(i.right, "an init");
    for (const FlatGuess& g : guesses) check_node(g.target, "a guess"), check_node(g.value, "a guess");
    for (const FlatView& v : views) check_node(v.value, "a let");
    for (const FlatParameter& p : parameters) check_node(p.value, "a param");
    for (NodeId id = 0; id < graph.size(); ++id) {
        const Node& n = graph[id];
        bool bad = (n.op == Op::quantity && n.a >= quantities.size()) || (n.op == Op::parameter && n.a >= parameters.size()) ||
                   (n.op == Op::memory && n.a >= memories.size());
        if (bad) throw std::logic_error("flat model: a leaf refers to nothing");
    }
}

std::string FlatModel::node_text(NodeId id) const
{
    return graph.text(id, [&](const Node& n) -> std::string {
        if (n.op == Op::quantity) return quantities[n.a].path + std::string(n.b, '\'');
        if (n.op == Op::parameter) return parameters[n.a].path;
        if (n.op == Op::memory) return memories[n.a].path;
        return fmt::format("{}[{}]", op_name(n.op), n.a);
    });
}

const Unit* FlatModel::shown_unit(NodeId id) const
{
    const Node* n = &graph[id];
    bool behind = false;
    for (; n->op == Op::neg || n->op == Op::abs; n = &graph[n->a]) behind = true;
    const Unit* unit = nullptr;
    if (n->op == Op::quantity && n->b == 0) unit = &quantities[n->a].unit;
    if (n->op == Op::parameter) unit = &parameters[n->a].unit;
    if (n->op == Op::memory) unit = &memories[n->a].unit;
    if (unit != nullptr) return behind && unit->offset != 0 ? nullptr : unit;  // -20 degC is not the opposite of 20 degC
    static const Unit second = [] {
        Unit made;
        UnitProblem problem;
        parse_unit("s", made, problem);
        return made;
    }();
    return n->op == Op::time ? &second : nullptr;
}

std::string FlatModel::comparison_text(NodeId a, const char* op, NodeId b) const
{
    auto side = [&](NodeId id, NodeId other) {
        const Unit* unit = graph.is_constant(id) ? shown_unit(other) : nullptr;
        if (unit == nullptr || unit->text.empty() || unit->text == "1") return node_text(id);
        return fmt::format("{:.6g} {}", unit->from_si(graph.value(id)), unit->text);
    };
    return side(a, b) + op + side(b, a);
}

std::string FlatModel::text() const
{
    std::string out;
    for (const FlatParameter& p : parameters) out += fmt::format("param {} [{}] = {}\n", p.path, p.unit.text, node_text(p.value));
    for (const FlatQuantity& q : quantities) out += fmt::format("quantity {} [{}]\n", q.path, q.unit.text);
    for (const FlatView& v : views) out += fmt::format("let {} [{}] = {}\n", v.path, v.unit.text, node_text(v.value));
    for (const FlatEquation& e : equations) out += fmt::format("equation {}\n", equation_text(e));
    for (const FlatInit& i : inits) out += fmt::format("init {} = {}\n", node_text(i.left), node_text(i.right));
    for (const FlatFind& f : finds) out += fmt::format("find {} so that {} = {}\n", parameters[f.parameter].path, node_text(f.left), node_text(f.right));
    for (const FlatMemory& m : memories) out += fmt::format("memory {} [{}]{}\n", m.path, m.unit.text, m.start == kNoNode ? "" : " = " + node_text(m.start));
    for (const FlatBlock& b : blocks) {
        out += "block " + b.text + "\n";
        for (const FlatSetting& s : b.settings)
            out += fmt::format("  {} := {}{}\n", s.memory != FlatSetting::kNone ? memories[s.memory].path : node_text(s.target), node_text(s.value),
                               s.when == kNoNode ? "" : ", if " + node_text(s.when));
        for (const FlatAlert& a : b.alerts) out += fmt::format("  says \"{}\"{}\n", a.text, a.when == kNoNode ? "" : ", if " + node_text(a.when));
    }
    if (begin_steady) out += "begin steady\n";
    for (const FlatGuess& g : guesses) out += fmt::format("guess {} = {}\n", node_text(g.target), node_text(g.value));
    return out;
}

}  // namespace netloop

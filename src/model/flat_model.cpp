#include "model/flat_model.hpp"

#include <fmt/format.h>

#include <stdexcept>

namespace netloop {

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
        bool bad = (n.op == Op::quantity && n.a >= quantities.size()) || (n.op == Op::parameter && n.a >= parameters.size());
        if (bad) throw std::logic_error("flat model: a leaf refers to nothing");
    }
}

std::string FlatModel::node_text(NodeId id) const
{
    return graph.text(id, [&](const Node& n) -> std::string {
        if (n.op == Op::quantity) return quantities[n.a].path + std::string(n.b, '\'');
        if (n.op == Op::parameter) return parameters[n.a].path;
        return fmt::format("{}[{}]", op_name(n.op), n.a);
    });
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
    if (begin_steady) out += "begin steady\n";
    for (const FlatGuess& g : guesses) out += fmt::format("guess {} = {}\n", node_text(g.target), node_text(g.value));
    return out;
}

}  // namespace netloop

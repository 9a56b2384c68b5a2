// SPDX-License-Identifier: Apache-2.0
#include "solve/explain.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

namespace netloop {

std::string place_text(const SourceSet& sources, Span span)
{
    if (!span.known()) return {};
    return fmt::format("{}:{}", sources.path(span.file), sources.position(span).line);
}

std::string variable_name(const CompiledModel& model, Variable v)
{
    const auto& resolutions = model.form.reduced.system.resolutions;
    if (v.order > 0)
        for (QuantityId q = 0; q < resolutions.size(); ++q) {
            const Resolution& r = resolutions[q];
            if (r.known == kNoNode && r.representative == v.quantity && r.order == v.order && r.sign > 0) return model.form.flat().quantities[q].path;
        }
    return model.form.reduced.system.name(v);
}

std::string describe_z(const CompiledModel& model, std::size_t i, double value)
{
    Variable v = model.form.z[i].variable;
    std::string name = variable_name(model, v);
    const auto& quantities = model.form.flat().quantities;
    Unit unit = quantities[v.quantity].unit;
    if (v.order > 0)
        for (const FlatQuantity& q : quantities)
            if (q.path == name) return fmt::format("'{}' = {:.6g} {}", name, q.unit.from_si(value), q.unit.text);
    for (std::uint32_t k = 0; k < v.order; ++k) unit = unit.rate();
    return fmt::format("'{}' = {:.6g}{}", name, unit.from_si(value), unit.text.empty() || unit.text == "1" ? "" : " " + unit.text);
}

std::string describe_outside(const FlatModel& flat, const FlatLimit& limit, const SourceSet& sources, double value, double low, double high)
{
    FlatModel::Limited of = flat.limited(limit);
    std::string place = place_text(sources, flat.shown_place(*of.origin)), unit = of.unit->text.empty() || of.unit->text == "1" ? "" : " " + of.unit->text;
    auto end = [&](double si) { return std::isfinite(si) ? fmt::format("{:.6g}{}", of.unit->from_si(si), unit) : si < 0 ? "-inf" : "inf"; };
    return fmt::format("{}'{}' = {:.6g}{}, which must lie in {} .. {}{}", place.empty() ? "" : place + ": ", *of.path, of.unit->from_si(value), unit, end(low),
                       end(high), of.doc->empty() ? "" : " (" + *of.doc + ")");
}

std::string describe_outside(const CompiledModel& model, const SourceSet& sources, std::size_t i, double value)
{
    // of those that are one with it, the one that declares the range
    const FlatModel& flat = model.form.flat();
    const auto& resolutions = model.form.reduced.system.resolutions;
    Variable v = model.form.z[i].variable;
    for (const FlatLimit& limit : flat.limits) {
        if (limit.of != FlatLimit::Of::quantity) continue;
        const Resolution& r = resolutions[limit.index];
        if (r.known != kNoNode || r.representative != v.quantity || r.order != v.order) continue;
        const FlatQuantity& f = flat.quantities[limit.index];
        double own = r.sign * value;
        if (own < f.low || own > f.high) return describe_outside(flat, limit, sources, own, f.low, f.high);
    }
    return describe_z(model, i, value);
}

namespace {

std::string equation_text(const CompiledModel& model, const SourceSet& sources, std::uint32_t equation)
{
    const FlatModel& flat = model.form.flat();
    const ReducedEquation& e = model.form.reduced.equations[equation];
    const FlatEquation& f = flat.equations[e.flat];
    std::string place = place_text(sources, f.origin.span);
    std::string part = flat.instances[f.origin.instance];
    std::string text = flat.equation_text(f);
    if (text.size() > 120) text = text.substr(0, 117) + "...";
    return fmt::format("{}{}{}{}", place.empty() ? "" : place + ": ", part.empty() ? "" : "in '" + part + "': ", text,
                       e.differentiated > 0 ? fmt::format(" (differentiated {} times)", e.differentiated) : "");
}

// What is wrong with an operation whose operands are finite and whose result is not.
std::string fault_text(const FlatModel& flat, NodeId id, double a, double b)
{
    const Node& n = flat.graph[id];
    auto text = [&](NodeId operand) {
        std::string t = flat.node_text(operand);
        return t.size() > 60 ? t.substr(0, 57) + "..." : t;
    };
    switch (n.op) {
        case Op::div:
            if (b == 0) return fmt::format("division by zero: ({}) / ({}) is {:.6g} / 0", text(n.a), text(n.b), a);
            return fmt::format("overflow: ({}) / ({}) is {:.6g} / {:.6g}", text(n.a), text(n.b), a, b);
        case Op::sqrt:
            return fmt::format("root of a negative number: sqrt({}) is sqrt({:.6g})", text(n.a), a);
        case Op::log:
            return fmt::format("logarithm of {}: log({}) is log({:.6g})", a == 0 ? "zero" : "a negative number", text(n.a), a);
        case Op::pow:
            if (a < 0) return fmt::format("power of a negative number: ({})^({}) is ({:.6g})^{:.6g}", text(n.a), text(n.b), a, b);
            if (a == 0) return fmt::format("zero to a negative power: ({})^({}) is 0^{:.6g}", text(n.a), text(n.b), b);
            return fmt::format("overflow: ({})^({}) is {:.6g}^{:.6g}", text(n.a), text(n.b), a, b);
        case Op::asin:
        case Op::acos:
            return fmt::format("{} outside -1 .. 1: {}({}) is {}({:.6g})", op_name(n.op), op_name(n.op), text(n.a), op_name(n.op), a);
        case Op::exp:
        case Op::sinh:
        case Op::cosh:
            return fmt::format("overflow: {}({}) is {}({:.6g})", op_name(n.op), text(n.a), op_name(n.op), a);
        case Op::call:
            if (std::string said = flat.graph.callable(n.a).failure(); !said.empty()) return said;
            return fmt::format("{}({}, ...) gives no number{}", flat.graph.callable(n.a).name(), text(flat.graph.arguments(id)[0]),
                               flat.graph.callable(n.a).has_loops() ? "; loops of more than a million turns are given up" : "");
        case Op::lookup:
            return fmt::format("table outside its points: at ({}) = {:.6g}{}", text(n.b), a,
                               n.c == kNoNode ? "" : fmt::format(", ({}) = {:.6g}", text(n.c), b));
        default:
            return fmt::format("overflow: {} of {:.6g} and {:.6g}", op_name(n.op), a, b);
    }
}

}  // namespace

std::string describe_not_finite(const Evaluation& evaluation, const SourceSet& sources, double time, const double* z, const double* rates)
{
    const CompiledModel& model = evaluation.model();
    UnitSessionScope units(evaluation.units());
    const ReducedSystem& reduced = model.form.reduced;
    const Graph& g = reduced.system.graph();
    std::map<std::pair<std::uint32_t, std::uint32_t>, double> known;
    auto remember = [&](Variable v, double value) { known[{v.quantity, v.order}] = value; };
    for (std::size_t i = 0; i < model.n(); ++i) {
        const ZEntry& entry = model.form.z[i];
        remember(entry.variable, z[i]);
        if (entry.kind == ZEntry::Kind::state) known.emplace(std::pair{entry.variable.quantity, entry.variable.order + 1}, rates[i]);
    }
    NodeValues values(g, [&](const Node& n) {
        if (n.op == Op::time) return time;
        if (n.op == Op::parameter) return evaluation.parameter(n.a);
        if (n.op == Op::mode) return evaluation.mode(n.a);
        if (n.op == Op::memory) return evaluation.memory(n.a);
        auto it = known.find({n.a, n.b});
        return it == known.end() ? 0.0 : it->second;
    });
    auto operands = [&](const Node& n) {
        if (n.op == Op::call) return std::pair{0.0, 0.0};
        NodeId second = n.op == Op::lookup ? n.c : n_children(n.op) > 1 ? n.b : kNoNode;
        return std::pair{values(n.op == Op::lookup ? n.b : n.a), second == kNoNode ? 0.0 : values(second)};
    };
    // the first operation below `root` that makes something infinite of finite operands
    auto fault_node = [&](NodeId root) {
        if (std::isfinite(values(root))) return kNoNode;
        for (NodeId id : g.reachable({root})) {
            if (std::isfinite(values(id)) || n_children(g[id].op) == 0) continue;
            auto [a, b] = operands(g[id]);
            if (std::isfinite(a) && std::isfinite(b)) return id;
        }
        return root;
    };
    auto fault_at = [&](NodeId id) {
        auto [a, b] = operands(g[id]);
        return fault_text(*reduced.system.flat, id, a, b);
    };
    auto fault_in = [&](NodeId root, std::uint32_t equation) -> std::string {
        NodeId at = fault_node(root);
        return at == kNoNode ? std::string() : equation_text(model, sources, equation) + "\n        " + fault_at(at);
    };
    for (const SolveBlock& block : reduced.blocks) {
        for (const SolveBlock::Step& step : block.steps) {
            Variable v = reduced.unknowns[step.unknown];
            if (std::string fault = fault_in(step.value, step.equation); !fault.empty()) return fault;
            known.emplace(std::pair{v.quantity, v.order}, values(step.value));
        }
        for (std::uint32_t e : block.residuals)
            if (std::string fault = fault_in(reduced.equations[e].residual, e); !fault.empty()) return fault;
    }
    for (std::uint32_t e = 0; e < reduced.equations.size(); ++e)
        if (reduced.equations[e].constraint)
            if (std::string fault = fault_in(reduced.equations[e].residual, e); !fault.empty()) return fault;
    // what the compiler found to be a constant, and that constant to be none: told by the equation that says so
    const FlatModel& flat = *reduced.system.flat;
    for (const FlatEquation& e : flat.equations)
        for (NodeId side : {e.left, e.right}) {
            if (g[side].op != Op::quantity || g[side].b != 0) continue;
            NodeId constant = reduced.system.resolutions[g[side].a].known;
            if (constant == kNoNode || std::isfinite(values(constant))) continue;
            std::string place = place_text(sources, e.origin.span);
            NodeId at = fault_node(constant);
            bool folded = n_children(g[at].op) == 0;
            return fmt::format("{}{}\n        {}", place.empty() ? "" : place + ": ", flat.equation_text(e),
                               folded ? "its value is a division by zero or an overflow, whatever the other quantities are" : fault_at(at));
        }
    for (const FlatView& v : flat.views) {
        NodeId at = fault_node(v.value);
        if (at == kNoNode) continue;
        std::string place = place_text(sources, v.origin.span);
        return fmt::format("{}let {} = {}\n        {}", place.empty() ? "" : place + ": ", v.path, flat.node_text(v.value),
                           n_children(g[at].op) == 0 ? "its value is a division by zero or an overflow" : fault_at(at));
    }
    return {};
}

namespace {

}  // namespace

void NotFinitePoint::remember(const double* residuals, std::size_t n, double t, const double* z_values, const double* rate_values)
{
    for (std::size_t i = 0; i < n; ++i) {
        if (std::isfinite(residuals[i])) continue;
        known = true;
        residual = i;
        time = t;
        z.assign(z_values, z_values + n);
        rates.assign(rate_values, rate_values + n);
        return;
    }
}

std::string describe_failed_step(const Evaluation& evaluation, const SourceSet& sources, double time, const std::string& cause, const NotFinitePoint& point,
                                 const std::vector<std::size_t>& worst, const double* z, std::optional<std::size_t> lost)
{
    const CompiledModel& model = evaluation.model();
    std::string text = fmt::format("at {:.9g} s: {}", time, cause);
    // a trial point further on may have shown why: told if nothing was accepted since
    if (point.known && point.time >= time) {
        std::string fault = describe_not_finite(evaluation, sources, point.time, point.z.data(), point.rates.data());
        return text + fmt::format("\n      no finite value at {:.9g} s: {}\n      with {}", point.time,
                                  fault.empty() ? describe_residual(model, sources, point.residual) : fault, describe_operands(model, point.residual, point.z));
    }
    if (lost) return text + "\n      nothing settles " + describe_z(model, *lost, z[*lost]);
    for (std::size_t k = 0; k < worst.size() && k < 3; ++k) {
        text += (k == 0 ? "\n      it fails most at " : ", then ") + describe_z(model, worst[k], z[worst[k]]);
        if (std::string settled = k == 0 ? describe_rate_of(model, sources, worst[0]) : ""; !settled.empty()) text += " (" + settled + ")";
    }
    return text;
}

std::vector<std::string> describe_substituted(const CompiledModel& model, const SourceSet& sources, std::size_t i)
{
    constexpr std::size_t kMost = 4;
    std::vector<std::string> list;
    std::uint32_t equation = model.form.residual_of[i];
    if (equation == kNoNode) return list;
    for (const SolveBlock& b : model.form.reduced.blocks) {
        if (std::find(b.residuals.begin(), b.residuals.end(), equation) == b.residuals.end()) continue;
        for (std::size_t k = 0; k < b.steps.size() && k < kMost; ++k) list.push_back(equation_text(model, sources, b.steps[k].equation));
    }
    return list;
}

std::string describe_rate_of(const CompiledModel& model, const SourceSet& sources, std::size_t i)
{
    for (auto k = model.pattern.starts[i]; k < model.pattern.starts[i + 1]; ++k) {
        auto at = static_cast<std::size_t>(k);
        auto row = static_cast<std::size_t>(model.pattern.rows[at]);
        if (model.by_rate[at] != kNoNode && model.form.residual_of[row] != kNoNode) return describe_residual(model, sources, row);
    }
    return {};
}

std::optional<Dimension> dimension_of(const FlatModel& flat, NodeId id, int depth)
{
    const Graph& g = flat.graph;
    const Node& n = g[id];
    if (depth > 12) return std::nullopt;
    auto of = [&](NodeId child) { return dimension_of(flat, child, depth + 1); };
    switch (n.op) {
        case Op::quantity: {
            Dimension d = flat.quantities[n.a].unit.dimension;
            for (std::uint32_t k = 0; k < n.b; ++k) d = d / Dimension::base(2);
            return d;
        }
        case Op::parameter:
            return flat.parameters[n.a].unit.dimension;
        case Op::neg:
        case Op::abs:
            return of(n.a);
        case Op::add:
        case Op::sub:
        case Op::min:
        case Op::max: {
            auto a = of(n.a);
            return a ? a : of(n.b);
        }
        case Op::mul:
        case Op::div: {
            auto a = of(n.a), b = of(n.b);
            if (!a || !b) return std::nullopt;
            return n.op == Op::mul ? *a * *b : *a / *b;
        }
        default:
            return std::nullopt;
    }
}

std::string residual_unit(const CompiledModel& model, std::size_t i)
{
    std::uint32_t equation = model.form.residual_of[i];
    if (equation == kNoNode) return {};
    const ReducedEquation& e = model.form.reduced.equations[equation];
    const FlatEquation& f = model.form.flat().equations[e.flat];
    auto d = dimension_of(model.form.flat(), f.left);
    if (!d) d = dimension_of(model.form.flat(), f.right);
    if (!d) return {};
    for (std::uint32_t k = 0; k < e.differentiated; ++k) *d = *d / Dimension::base(2);
    return d->text();
}

std::string describe_residual(const CompiledModel& model, const SourceSet& sources, std::size_t i)
{
    std::uint32_t equation = model.form.residual_of[i];
    if (equation == kNoNode) {
        // x' = v between two states; told by what it settles
        const Graph& g = model.form.reduced.system.graph();
        const Node& n = g[model.form.residuals[i]];
        auto told = [&](NodeId id) {
            const Variable& v = model.form.z[g[id].a].variable;
            return fmt::format("the equation for '{}'", variable_name(model, {v.quantity, v.order + (g[id].op == Op::rate ? 1u : 0u)}));
        };
        auto settled = [&](NodeId id) { return g[id].op == Op::rate || g[id].op == Op::unknown; };
        for (NodeId child : {n.a, n.b})
            if (child != kNoNode && child < g.size() && settled(child)) return told(child);
        std::vector<NodeId> below = g.reachable({model.form.residuals[i]});
        for (const SolverChoice& choice : model.form.choices)
            if (std::find(choice.links.begin(), choice.links.end(), i) != choice.links.end())
                return fmt::format("the choice of states among those of '{}'", variable_name(model, model.form.z[choice.orders[0][0]].variable));
        for (Op wanted : {Op::rate, Op::unknown})
            for (NodeId id : below)
                if (g[id].op == wanted) return told(id);
        return "an assignment";
    }
    return equation_text(model, sources, equation);
}

std::string describe_operands(const CompiledModel& model, std::size_t residual, const std::vector<double>& z)
{
    const Graph& g = model.form.reduced.system.graph();
    std::string text;
    int n = 0;
    for (NodeId id : g.reachable({model.form.residuals[residual]})) {
        if (g[id].op != Op::unknown || n >= 6) continue;
        text += (n++ == 0 ? "" : ", ") + describe_z(model, g[id].a, z[g[id].a]);
    }
    return text;
}

}  // namespace netloop

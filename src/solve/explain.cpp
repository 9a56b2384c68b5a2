#include "solve/explain.hpp"

#include <fmt/format.h>

#include <algorithm>

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
    const Unit& unit = model.form.flat().quantities[v.quantity].unit;
    if (v.order > 0) {
        Dimension d = unit.dimension;
        for (std::uint32_t k = 0; k < v.order; ++k) d = d / Dimension::base(2);
        return fmt::format("'{}' = {:.6g} {}", name, value, d.text());
    }
    return fmt::format("'{}' = {:.6g} {}", name, unit.from_si(value), unit.text);
}

std::string describe_residual(const CompiledModel& model, const SourceSet& sources, std::size_t i)
{
    const FlatModel& flat = model.form.flat();
    std::uint32_t equation = model.form.residual_of[i];
    if (equation == kNoNode) {
        // an assignment: the residual is (rate or unknown) - value; told by what it settles
        const Graph& g = model.form.reduced.system.graph();
        const Node& n = g[model.form.residuals[i]];
        for (NodeId child : {n.a, n.b}) {
            if (child == kNoNode || child >= g.size()) continue;
            if (g[child].op == Op::rate)
                return fmt::format("the equation for '{}'",
                                   variable_name(model, {model.form.z[g[child].a].variable.quantity, model.form.z[g[child].a].variable.order + 1}));
            if (g[child].op == Op::unknown) return fmt::format("the equation for '{}'", variable_name(model, model.form.z[g[child].a].variable));
        }
        return "an assignment";
    }
    const ReducedEquation& e = model.form.reduced.equations[equation];
    const FlatEquation& f = flat.equations[e.flat];
    std::string place = place_text(sources, f.origin.span);
    std::string part = flat.instances[f.origin.instance];
    std::string text = flat.equation_text(f);
    if (text.size() > 120) text = text.substr(0, 117) + "...";
    return fmt::format("{}{}{}{}", place.empty() ? "" : place + ": ", part.empty() ? "" : "in '" + part + "': ", text,
                       e.differentiated > 0 ? fmt::format(" (differentiated {} times)", e.differentiated) : "");
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

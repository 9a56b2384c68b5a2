// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <pugixml.hpp>
#include <set>
#include <sstream>

#include "exchange/fmi.hpp"
#include "solve/explain.hpp"

namespace netloop {
namespace {

using Causality = UnitVariable::Causality;

// x'' as the standard writes it: der(x,2).
std::string standard_name(const std::string& path)
{
    std::size_t primes = 0;
    while (primes < path.size() && path[path.size() - 1 - primes] == '\'') ++primes;
    if (primes == 0) return path;
    std::string base = path.substr(0, path.size() - primes);
    return primes == 1 ? fmt::format("der({})", base) : fmt::format("der({},{})", base, primes);
}

std::string xml_number(double v)
{
    return fmt::format("{:.17g}", v);
}

std::string hash_text(const std::string& text)
{
    auto hash = [&](std::uint64_t h) {  // FNV-1a
        for (char c : text) h = (h ^ static_cast<unsigned char>(c)) * 1099511628211ull;
        return h;
    };
    std::uint64_t a = hash(14695981039346656037ull), b = hash(a ^ 0x9e3779b97f4a7c15ull);
    return fmt::format("{{{:08x}-{:04x}-{:04x}-{:04x}-{:012x}}}", a >> 32, (a >> 16) & 0xffff, a & 0xffff, b >> 48, b & 0xffffffffffffull);
}

// What a value depends on, if it reads states and inputs alone.
bool reads(const FixedPlan& plan, NodeId root, std::set<std::uint32_t>& states, std::set<std::uint32_t>& params)
{
    const Graph& g = plan.model->form.reduced.system.graph();
    for (NodeId id : g.reachable({root})) {
        const Node& n = g[id];
        if (n.op == Op::rate || n.op == Op::memory || n.op == Op::mode) return false;
        if (n.op == Op::unknown) {
            if (plan.is_state[n.a] == 0) return false;
            states.insert(n.a);
        }
        if (n.op == Op::parameter) params.insert(n.a);
    }
    return true;
}

// Angles are told as such, which the standard knows, although here they count as numbers: deg, rad/s, rpm, deg/s^2.
int angles(const Unit& unit)
{
    for (int k = 0; k < Dimension::kCount; ++k)
        if (k != 2 && !unit.dimension.exponent(k).is_zero()) return 0;
    std::size_t end = unit.text.find_first_not_of("abcdefghijklmnopqrstuvwxyz");
    std::string first = unit.text.substr(0, end);
    return first == "rad" || first == "deg" || first == "rev" || first == "rpm" ? 1 : 0;
}

std::string si_name(const Unit& unit)
{
    if (angles(unit) == 0) return si_unit(unit.dimension).text;
    int per = -unit.dimension.exponent(2).numerator();
    return per == 0 ? "rad" : per == 1 ? "rad/s" : fmt::format("rad/s^{}", per);
}

// A unit's name in XML: SI, with the display unit that the declaration gives.
void add_units(pugi::xml_node to, const std::vector<UnitVariable>& variables)
{
    std::map<std::string, std::map<std::string, const Unit*>> units;  // SI -> display
    for (const UnitVariable& v : variables) {
        if (v.boolean || (v.unit.dimension.dimensionless() && (v.unit.text == "1" || v.unit.text.empty()))) continue;
        units[si_name(v.unit)].emplace(v.unit.text, &v.unit);
    }
    if (units.empty()) return;
    pugi::xml_node list = to.append_child("UnitDefinitions");
    static const char* const kBase[] = {"m", "kg", "s", "A", "K", "mol", "cd"};
    for (const auto& [si, displays] : units) {
        pugi::xml_node unit = list.append_child("Unit");
        unit.append_attribute("name") = si.c_str();
        const Dimension& d = displays.begin()->second->dimension;
        bool whole = true;
        for (int k = 0; k < Dimension::kCount; ++k) whole &= d.exponent(k).denominator() == 1;
        if (whole) {
            pugi::xml_node base = unit.append_child("BaseUnit");
            for (const char* name : {"kg", "m", "s", "A", "K", "mol", "cd"})
                for (int k = 0; k < Dimension::kCount; ++k)
                    if (std::string(kBase[k]) == name && !d.exponent(k).is_zero()) base.append_attribute(name) = d.exponent(k).numerator();
            if (angles(*displays.begin()->second) != 0) base.append_attribute("rad") = 1;
        }
        for (const auto& [text, display] : displays) {
            if (text == si) continue;
            pugi::xml_node shown = unit.append_child("DisplayUnit");
            shown.append_attribute("name") = text.c_str();
            shown.append_attribute("factor") = xml_number(1 / display->scale).c_str();
            if (display->offset != 0) shown.append_attribute("offset") = xml_number(-display->offset / display->scale).c_str();
        }
    }
}

}  // namespace

std::vector<std::pair<const char*, const char*>> standard_roles(const UnitVariable& v)
{
    switch (v.causality) {
        case Causality::parameter:
            return {{"causality", "parameter"}, {"variability", "fixed"}, {"initial", "exact"}};
        case Causality::calculated:
            return {{"causality", "calculatedParameter"}, {"variability", "fixed"}, {"initial", "calculated"}};
        case Causality::input:
            return {{"causality", "input"}, {"variability", v.boolean ? "discrete" : "continuous"}};
        case Causality::output:
            return {{"causality", "output"}, {"variability", v.discrete ? "discrete" : "continuous"}, {"initial", "calculated"}};
        default:
            return {{"causality", "local"}, {"variability", "continuous"}, {"initial", "calculated"}};
    }
}

std::vector<std::pair<const char*, std::string>> standard_limits(const UnitVariable& v)
{
    std::vector<std::pair<const char*, std::string>> all;
    if (v.boolean) {
        if (v.has_start) all.emplace_back("start", v.start != 0 ? "true" : "false");
        return all;
    }
    std::string si = si_name(v.unit);
    bool plain = v.unit.dimension.dimensionless() && (v.unit.text == "1" || v.unit.text.empty());
    if (!plain) all.emplace_back("unit", si);
    if (!plain && v.unit.text != si) all.emplace_back("displayUnit", v.unit.text);
    if (std::isfinite(v.low)) all.emplace_back("min", xml_number(v.low));
    if (std::isfinite(v.high)) all.emplace_back("max", xml_number(v.high));
    if (v.has_start) all.emplace_back("start", xml_number(v.start));
    return all;
}

void add_standard_parts(pugi::xml_node& root, const UnitDescription& u)
{
    add_units(root, u.variables);
    pugi::xml_node categories = root.append_child("LogCategories");
    for (const auto& [name, text] :
         {std::pair{"logAll", "everything"}, std::pair{"logEvents", "events: what happened, and how many"},
          std::pair{"logStatusWarning", "what a user should know"}, std::pair{"logStatusError", "calls that are refused, values that are none"}}) {
        pugi::xml_node c = categories.append_child("Category");
        c.append_attribute("name") = name;
        c.append_attribute("description") = text;
    }
    pugi::xml_node experiment = root.append_child("DefaultExperiment");
    for (const auto& [name, value] : {std::pair{"startTime", 0.0}, {"stopTime", u.stop}, {"tolerance", u.tolerance}, {"stepSize", u.step}})
        experiment.append_attribute(name) = xml_number(value).c_str();
}

UnitDescription describe_unit(const FixedPlan& plan, const std::string& name, const std::string& title, double stop, double tolerance)
{
    const CompiledModel& m = *plan.model;
    const FlatModel& flat = m.form.flat();
    const Graph& g = flat.graph;
    UnitDescription u;
    u.name = name;
    u.title = title;
    u.step = plan.request.step;
    u.stop = stop;
    u.tolerance = tolerance;
    u.model_exchange = plan.delay.empty();
    std::set<std::string> taken;
    auto fresh = [&](std::string wanted) {
        while (!taken.insert(wanted).second) wanted += "_";
        return wanted;
    };
    std::map<std::uint32_t, std::size_t> input_number, state_number;
    for (bool input : {false, true})
        for (ParameterId p = 0; p < flat.parameters.size(); ++p) {
            const FlatParameter& f = flat.parameters[p];
            bool is_input = std::find(plan.request.inputs.begin(), plan.request.inputs.end(), p) != plan.request.inputs.end();
            if (is_input != input) continue;
            UnitVariable v;
            v.name = fresh(standard_name(f.path));
            v.text = f.doc;
            v.reference = p;
            v.boolean = f.boolean;
            v.unit = f.unit;
            v.start = plan.params[p];
            // one that follows from others has no start of its own: it would no longer follow
            bool alone = f.external || f.value == kNoNode || g.is_constant(f.value) || plan.given[p] != 0;
            v.has_start = alone;
            v.causality = input ? Causality::input : alone ? Causality::parameter : Causality::calculated;
            if (f.low != kNoNode && g.is_constant(f.low)) v.low = g.value(f.low);
            if (f.high != kNoNode && g.is_constant(f.high)) v.high = g.value(f.high);
            u.variables.push_back(v);
            if (input) input_number[p] = u.variables.size();
        }
    auto n_params = static_cast<std::uint32_t>(flat.parameters.size());
    auto n_outputs = static_cast<std::uint32_t>(plan.request.outputs.size());
    // an output that is a state is that state's variable
    for (std::uint32_t k = 0; k < n_outputs; ++k) {
        const OutputColumn& o = m.form.outputs[plan.request.outputs[k]];
        UnitVariable v;
        v.name = fresh(standard_name(o.path));
        v.text = o.doc;
        v.reference = n_params + k;
        v.boolean = o.boolean;
        v.discrete = o.boolean;
        v.unit = o.unit;
        v.causality = Causality::output;
        u.variables.push_back(v);
        u.outputs.push_back(u.variables.size());
        const Node& node = m.form.reduced.system.graph()[o.value];
        if (node.op == Op::unknown && plan.is_state[node.a] != 0 && o.path == m.form.z_name(node.a)) state_number[node.a] = u.variables.size();
    }
    std::uint32_t at = n_params + n_outputs;
    std::vector<std::uint32_t> states;
    for (std::uint32_t i = 0; i < m.n(); ++i)
        if (plan.is_state[i] != 0) states.push_back(i);
    auto unit_of = [&](std::uint32_t i, bool rate) {
        const Variable variable = m.form.z[i].variable;
        Unit unit = flat.quantities[variable.quantity].unit;
        for (std::uint32_t k = 0; k < variable.order + (rate ? 1 : 0); ++k) unit = unit.rate();
        return unit;
    };
    if (u.model_exchange)
        for (std::uint32_t k = 0; k < states.size(); ++k) {
            if (state_number.contains(states[k])) continue;
            UnitVariable v;
            v.name = fresh(standard_name(m.form.z_name(states[k])));
            v.text = flat.quantities[m.form.z[states[k]].variable.quantity].doc;
            v.reference = at + k;
            v.unit = unit_of(states[k], false);
            u.variables.push_back(v);
            state_number[states[k]] = u.variables.size();
        }
    auto numbers = [&](const std::set<std::uint32_t>& read, const std::set<std::uint32_t>& params) {
        std::vector<std::size_t> list;
        for (std::uint32_t i : read)
            if (auto found = state_number.find(i); found != state_number.end()) list.push_back(found->second);
        for (std::uint32_t p : params)
            if (auto found = input_number.find(p); found != input_number.end()) list.push_back(found->second);
        std::sort(list.begin(), list.end());
        return list;
    };
    for (std::uint32_t k = 0; u.model_exchange && k < n_outputs; ++k) {
        std::set<std::uint32_t> read, params;
        UnitVariable& v = u.variables[u.outputs[k] - 1];
        v.structure_known = reads(plan, m.form.outputs[plan.request.outputs[k]].value, read, params);
        if (v.structure_known) v.depends_on = numbers(read, params);
    }
    if (u.model_exchange) {
        at += static_cast<std::uint32_t>(states.size());
        // a residual that is a state's own rate less what states and inputs give
        std::map<std::uint32_t, std::pair<std::set<std::uint32_t>, std::set<std::uint32_t>>> known;
        const Graph& graph = m.form.reduced.system.graph();
        for (NodeId residual : m.form.residuals) {
            if (residual == kNoNode) continue;
            std::set<std::uint32_t> rates, read, params;
            bool plain = true;
            for (NodeId id : graph.reachable({residual})) {
                const Node& n = graph[id];
                if (n.op == Op::rate) rates.insert(n.a);
                if (n.op == Op::memory || n.op == Op::mode) plain = false;
                if (n.op == Op::unknown) plain = plain && plan.is_state[n.a] != 0, read.insert(n.a);
                if (n.op == Op::parameter) params.insert(n.a);
            }
            if (plain && rates.size() == 1) known[*rates.begin()] = {read, params};
        }
        for (std::uint32_t k = 0; k < states.size(); ++k) {
            // the rate of a position is a state itself
            std::string rate_name = standard_name(m.form.z_name(states[k]) + "'");
            auto same =
                std::find_if(u.variables.begin(), u.variables.end(), [&](const UnitVariable& other) { return other.name == rate_name && other.rate_of == 0; });
            if (same != u.variables.end()) {
                same->rate_of = state_number[states[k]];
                same->structure_known = true;  // it is what it is
                same->depends_on = {static_cast<std::size_t>(same - u.variables.begin()) + 1};
                u.rates.push_back(static_cast<std::size_t>(same - u.variables.begin()) + 1);
                continue;
            }
            UnitVariable v;
            v.name = fresh(standard_name(m.form.z_name(states[k]) + "'"));
            v.reference = at + k;
            v.unit = unit_of(states[k], true);
            v.rate_of = state_number[states[k]];
            if (auto found = known.find(states[k]); found != known.end())
                v.structure_known = true, v.depends_on = numbers(found->second.first, found->second.second);
            u.variables.push_back(v);
            u.rates.push_back(u.variables.size());
        }
        for (const FixedPlan::Condition& c : plan.condition) u.n_indicators += c.kind == Condition::Kind::whole ? 2 : 1;
    }
    u.first_free = n_params + n_outputs + 2 * static_cast<std::uint32_t>(states.size());
    u.guid.clear();
    u.guid = hash_text(fmi2_description(u, {}));
    return u;
}

std::string fmi2_description(const UnitDescription& u, const std::vector<std::string>& sources)
{
    pugi::xml_document document;
    pugi::xml_node declaration = document.append_child(pugi::node_declaration);
    declaration.append_attribute("version") = "1.0";
    declaration.append_attribute("encoding") = "UTF-8";
    pugi::xml_node root = document.append_child("fmiModelDescription");
    auto put = [](pugi::xml_node node, const char* name, const std::string& value) { node.append_attribute(name) = value.c_str(); };
    put(root, "fmiVersion", "2.0");
    put(root, "modelName", u.title);
    put(root, "guid", u.guid);
    if (!u.text.empty()) put(root, "description", u.text);
    put(root, "generationTool", "Net Loop");
    put(root, "variableNamingConvention", "structured");
    put(root, "numberOfEventIndicators", fmt::format("{}", u.n_indicators));
    auto add_sources = [&](pugi::xml_node to) {
        if (sources.empty()) return;
        pugi::xml_node list = to.append_child("SourceFiles");
        for (const std::string& s : sources) put(list.append_child("File"), "name", s);
    };
    if (u.model_exchange) {
        pugi::xml_node me = root.append_child("ModelExchange");
        put(me, "modelIdentifier", u.name);
        put(me, "canGetAndSetFMUstate", "true");
        put(me, "canSerializeFMUstate", "true");
        put(me, "completedIntegratorStepNotNeeded", "true");
        put(me, "providesDirectionalDerivative", "true");
        add_sources(me);
    }
    pugi::xml_node cs = root.append_child("CoSimulation");
    put(cs, "modelIdentifier", u.name);
    put(cs, "canHandleVariableCommunicationStepSize", "false");
    put(cs, "canGetAndSetFMUstate", "true");
    put(cs, "canSerializeFMUstate", "true");
    add_sources(cs);
    add_standard_parts(root, u);
    pugi::xml_node list = root.append_child("ModelVariables");
    for (const UnitVariable& v : u.variables) {
        pugi::xml_node node = list.append_child("ScalarVariable");
        put(node, "name", v.name);
        put(node, "valueReference", fmt::format("{}", v.reference));
        if (!v.text.empty()) put(node, "description", v.text);
        for (const auto& [attribute, value] : standard_roles(v)) put(node, attribute, value);
        pugi::xml_node type = node.append_child(v.boolean ? "Boolean" : "Real");
        for (const auto& [attribute, value] : standard_limits(v)) put(type, attribute, value);
        if (v.rate_of != 0) put(type, "derivative", fmt::format("{}", v.rate_of));
    }
    pugi::xml_node structure = root.append_child("ModelStructure");
    auto add = [&](const char* name, const std::vector<std::size_t>& numbers, bool dependencies) {
        if (numbers.empty()) return;
        pugi::xml_node group = structure.append_child(name);
        for (std::size_t k : numbers) {
            pugi::xml_node unknown = group.append_child("Unknown");
            put(unknown, "index", fmt::format("{}", k));
            const UnitVariable& v = u.variables[k - 1];
            if (dependencies && v.structure_known) put(unknown, "dependencies", fmt::format("{}", fmt::join(v.depends_on, " ")));
        }
    };
    add("Outputs", u.outputs, true);
    add("Derivatives", u.rates, true);
    std::vector<std::size_t> initial;
    for (std::size_t k = 0; k < u.variables.size(); ++k) {
        Causality c = u.variables[k].causality;
        if (c == Causality::output || c == Causality::local || c == Causality::calculated) initial.push_back(k + 1);
    }
    add("InitialUnknowns", initial, false);
    std::ostringstream out;
    document.save(out, "  ", pugi::format_default, pugi::encoding_utf8);
    return out.str();
}

}  // namespace netloop

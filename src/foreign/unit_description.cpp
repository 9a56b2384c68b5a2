// SPDX-License-Identifier: Apache-2.0
#include "foreign/unit_description.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cstring>
#include <map>
#include <pugixml.hpp>
#include <set>
#include <unordered_map>

namespace netloop {
namespace {

using Variable = ForeignVariable;
using Causality = Variable::Causality;
using Variability = Variable::Variability;

[[noreturn]] void refuse(const std::string& why)
{
    throw UnitProblemFound(why);
}

double number_of(const std::string& text, const std::string& of)
{
    std::size_t from = text.find_first_not_of(" \t\n\r"), to = text.find_last_not_of(" \t\n\r");
    if (from != std::string::npos) {
        const char *first = text.data() + from, *last = text.data() + to + 1;
        if (*first == '+' && last - first > 1) ++first;
        double v = 0;
        auto [end, error] = std::from_chars(first, last, v);
        if (error == std::errc() && end == last) return v;
        if (std::string_view(first, static_cast<std::size_t>(last - first)) == "true") return 1;
        if (std::string_view(first, static_cast<std::size_t>(last - first)) == "false") return 0;
    }
    refuse(fmt::format("{} of its description is no number: '{}'", of, text.substr(0, 60)));
}

double number_of(pugi::xml_attribute a, double otherwise)
{
    return a.empty() ? otherwise : number_of(a.value(), fmt::format("attribute '{}'", a.name()));
}

std::uint32_t reference_of(pugi::xml_attribute a)
{
    std::string_view text = a.value();
    std::uint32_t v = 0;
    auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), v);
    if (a.empty() || error != std::errc() || end != text.data() + text.size())
        refuse(fmt::format("a value reference of its description is no whole number: '{}'", text.substr(0, 40)));
    return v;
}

bool truth_of(pugi::xml_attribute a, bool otherwise)
{
    if (a.empty()) return otherwise;
    std::string_view v = a.value();
    if (v == "true" || v == "1") return true;
    if (v == "false" || v == "0") return false;
    refuse(fmt::format("attribute '{}' of its description is neither true nor false: '{}'", a.name(), v.substr(0, 40)));
}

template <typename E>
E one_of(pugi::xml_attribute a, std::initializer_list<std::pair<const char*, E>> words, E otherwise)
{
    if (a.empty()) return otherwise;
    for (const auto& [word, value] : words)
        if (std::strcmp(word, a.value()) == 0) return value;
    refuse(fmt::format("attribute '{}' of its description has the unknown word '{}'", a.name(), std::string_view(a.value()).substr(0, 40)));
}

// --- units of measure
struct Measure {
    Dimension dimension;
    double factor = 1, offset = 0;
    bool known = false;  ///< it says its base units
};

Dimension base_dimension(pugi::xml_node base)
{
    static const std::pair<const char*, const char*> kBase[] = {{"kg", "kg"}, {"m", "m"}, {"s", "s"}, {"A", "A"}, {"K", "K"}, {"mol", "mol"}, {"cd", "cd"}};
    std::string text;
    for (const auto& [attribute, unit] : kBase) {
        int e = base.attribute(attribute).as_int();
        if (e != 0) text += fmt::format("{}{}^{}", text.empty() ? "" : "*", unit, e);
    }
    Unit unit;
    UnitProblem problem;
    if (!text.empty() && !parse_unit(text, unit, problem)) refuse("a unit of its description has exponents that nobody uses");
    return unit.dimension;
}

// "N.m/rad", "m3/s", "kg/m2" as they are often written, in our words; empty if that is no unit
std::optional<Unit> read_unit(const std::string& text)
{
    Unit unit;
    UnitProblem problem;
    if (text.empty() || text.size() > 100) return std::nullopt;
    if (parse_unit(text, unit, problem)) return unit;
    std::string ours;
    for (std::size_t i = 0; i < text.size(); ++i) {
        char c = text[i];
        bool digit = c >= '0' && c <= '9', behind_letter = i > 0 && std::isalpha(static_cast<unsigned char>(text[i - 1])) != 0;
        bool minus = c == '-' && behind_letter && i + 1 < text.size() && text[i + 1] >= '0' && text[i + 1] <= '9';
        if ((digit && behind_letter) || minus) ours += '^';
        ours += c == '.' ? '*' : c;
    }
    if (parse_unit(ours, unit, problem)) return unit;
    return std::nullopt;
}

struct UnitList {
    std::map<std::string, Measure> measures;
    std::map<std::pair<std::string, std::string>, std::pair<double, double>> displays;  ///< unit, display unit: factor and offset

    explicit UnitList(pugi::xml_node list)
    {
        for (pugi::xml_node u : list.children("Unit")) {
            std::string name = u.attribute("name").value();
            Measure& m = measures[name];
            if (pugi::xml_node base = u.child("BaseUnit")) {
                m.dimension = base_dimension(base);
                m.factor = number_of(base.attribute("factor"), 1);
                m.offset = number_of(base.attribute("offset"), 0);
                m.known = true;
                if (m.factor == 0 || !std::isfinite(m.factor)) refuse(fmt::format("unit '{}' of its description has the factor {}", name, m.factor));
            }
            for (pugi::xml_node d : u.children("DisplayUnit"))
                displays[{name, d.attribute("name").value()}] = {number_of(d.attribute("factor"), 1), number_of(d.attribute("offset"), 0)};
        }
    }

    // What a variable in `name` is in SI, and how it is shown.
    void settle(const std::string& name, const std::string& display, Variable& v) const
    {
        if (name.empty()) return;
        auto found = measures.find(name);
        std::optional<Unit> read = read_unit(name);
        if (found == measures.end() || !found->second.known) {
            // it names a unit and does not say what that is: its name alone tells
            if (!read) {
                v.foreign_unit = name;
                return;
            }
            v.factor = read->scale;
            v.offset = read->offset;
            v.unit = *read;
        } else {
            const Measure& m = found->second;
            v.factor = m.factor;
            v.offset = m.offset;
            bool fits = read && read->dimension == m.dimension && std::abs(read->scale - m.factor) <= 1e-9 * std::abs(m.factor) &&
                        std::abs(read->offset - m.offset) <= 1e-9 * (1 + std::abs(m.offset));
            v.unit = fits ? *read : si_unit(m.dimension);
            if (!fits && m.factor != 1) v.foreign_unit = name;
        }
        std::optional<Unit> shown = read_unit(display);
        if (shown && shown->dimension == v.unit.dimension) v.unit = *shown;
    }
};

struct DeclaredType {
    std::string unit, display, text;
    double low = -HUGE_VAL, high = HUGE_VAL;
    std::optional<double> nominal;
    std::vector<std::string> items;
};

std::vector<std::string> items_of(pugi::xml_node type)
{
    std::vector<std::string> items;
    for (pugi::xml_node i : type.children("Item")) items.push_back(fmt::format("{} = {}", i.attribute("name").value(), i.attribute("value").value()));
    return items;
}

// `limits`: the element that holds units and limits.
DeclaredType declared_type(pugi::xml_node of, pugi::xml_node limits)
{
    DeclaredType type;
    type.text = of.attribute("description").value();
    type.unit = limits.attribute("unit").value();
    type.display = limits.attribute("displayUnit").value();
    type.low = number_of(limits.attribute("min"), -HUGE_VAL);
    type.high = number_of(limits.attribute("max"), HUGE_VAL);
    if (!limits.attribute("nominal").empty()) type.nominal = number_of(limits.attribute("nominal"), 1);
    type.items = items_of(limits);
    return type;
}

// Attributes of a type, or of a variable that has no such type: low, high, nominal and units.
void take_range(pugi::xml_node from, const UnitList& units, const DeclaredType* type, Variable& v)
{
    auto attribute = [&](const char* name, const std::string& otherwise) { return from.attribute(name).empty() ? otherwise : from.attribute(name).value(); };
    units.settle(attribute("unit", type != nullptr ? type->unit : ""), attribute("displayUnit", type != nullptr ? type->display : ""), v);
    double low = number_of(from.attribute("min"), type != nullptr ? type->low : -HUGE_VAL),
           high = number_of(from.attribute("max"), type != nullptr ? type->high : HUGE_VAL);
    double a = v.factor * low + v.offset, b = v.factor * high + v.offset;
    v.low = std::min(a, b), v.high = std::max(a, b);
    v.nominal = std::abs(v.factor) * number_of(from.attribute("nominal"), type != nullptr && type->nominal ? *type->nominal : 0);
    if (!(v.nominal > 0) || !std::isfinite(v.nominal)) v.nominal = 0;
    if (v.text.empty() && type != nullptr) v.text = type->text;
    if (v.items.empty() && type != nullptr) v.items = type->items;
}

void take_roles(pugi::xml_node from, Variable& v)
{
    v.name = from.attribute("name").value();
    v.text = from.attribute("description").value();
    v.reference = reference_of(from.attribute("valueReference"));
    v.causality = one_of<Causality>(from.attribute("causality"),
                                    {{"parameter", Causality::parameter},
                                     {"structuralParameter", Causality::structural},
                                     {"calculatedParameter", Causality::calculated},
                                     {"input", Causality::input},
                                     {"output", Causality::output},
                                     {"local", Causality::local},
                                     {"independent", Causality::independent}},
                                    Causality::local);
    bool fixed = v.causality == Causality::parameter || v.causality == Causality::calculated || v.causality == Causality::structural;
    v.variability = one_of<Variability>(from.attribute("variability"),
                                        {{"constant", Variability::constant},
                                         {"fixed", Variability::fixed},
                                         {"tunable", Variability::tunable},
                                         {"discrete", Variability::discrete},
                                         {"continuous", Variability::continuous}},
                                        fixed              ? Variability::fixed
                                        : is_float(v.type) ? Variability::continuous
                                                           : Variability::discrete);
    v.initial = one_of<Variable::Initial>(
        from.attribute("initial"), {{"exact", Variable::Initial::exact}, {"approx", Variable::Initial::approx}, {"calculated", Variable::Initial::calculated}},
        v.causality == Causality::parameter || v.variability == Variability::constant ? Variable::Initial::exact : Variable::Initial::calculated);
    if (v.name.empty()) refuse("a variable of its description has no name");
}

void take_start(const std::string& text, Variable& v)
{
    if (v.type == ForeignType::text || v.type == ForeignType::binary) {
        v.start_text = text;
        return;
    }
    std::size_t at = 0;
    while ((at = text.find_first_not_of(" \t\n\r", at)) != std::string::npos) {
        std::size_t end = std::min(text.find_first_of(" \t\n\r", at), text.size());
        double value = number_of(text.substr(at, end - at), fmt::format("the start of '{}'", v.name));
        if (!std::isfinite(value)) refuse(fmt::format("the start of '{}' is not finite", v.name));
        v.start.push_back(is_float(v.type) ? v.factor * value + v.offset : value);
        at = end;
    }
}

// --- FMI 2.0
void read_two(pugi::xml_node root, ForeignDescription& d)
{
    d.token = root.attribute("guid").value();
    d.n_indicators = static_cast<std::size_t>(number_of(root.attribute("numberOfEventIndicators"), 0));
    UnitList units(root.child("UnitDefinitions"));
    std::map<std::string, DeclaredType> types;
    for (pugi::xml_node t : root.child("TypeDefinitions").children("SimpleType")) {
        types[t.attribute("name").value()] = declared_type(t, t.first_child());
    }
    std::vector<std::pair<std::size_t, std::size_t>> rates;  // variable, and the number from 1 of its state
    for (pugi::xml_node s : root.child("ModelVariables").children("ScalarVariable")) {
        Variable v;
        pugi::xml_node kind = s.first_child();
        while (kind && kind.type() != pugi::node_element) kind = kind.next_sibling();
        std::string_view word = kind.name();
        if (word == "Real")
            v.type = ForeignType::float64;
        else if (word == "Integer")
            v.type = ForeignType::int32;
        else if (word == "Boolean")
            v.type = ForeignType::boolean;
        else if (word == "String")
            v.type = ForeignType::text;
        else if (word == "Enumeration")
            v.type = ForeignType::enumeration;
        else
            refuse(fmt::format("variable '{}' of its description has no type that FMI 2.0 knows", s.attribute("name").value()));
        take_roles(s, v);
        auto declared = types.find(kind.attribute("declaredType").value());
        take_range(kind, units, declared == types.end() ? nullptr : &declared->second, v);
        if (!kind.attribute("start").empty()) take_start(kind.attribute("start").value(), v);
        if (!kind.attribute("derivative").empty()) rates.emplace_back(d.variables.size(), reference_of(kind.attribute("derivative")));
        d.variables.push_back(std::move(v));
        if (d.variables.size() > kMostVariables) refuse(fmt::format("its description has more than {} variables", kMostVariables));
    }
    for (auto [rate, state] : rates) {
        if (state == 0 || state > d.variables.size())
            refuse(fmt::format("'{}' is the derivative of variable {}, and there are {}", d.variables[rate].name, state, d.variables.size()));
        d.variables[rate].derivative_of = state - 1;
    }
    auto list = [&](const char* name) {
        std::vector<std::size_t> found;
        for (pugi::xml_node u : root.child("ModelStructure").child(name).children("Unknown")) {
            std::size_t index = reference_of(u.attribute("index"));
            if (index == 0 || index > d.variables.size()) refuse(fmt::format("its structure names variable {}, and there are {}", index, d.variables.size()));
            found.push_back(index - 1);
        }
        return found;
    };
    d.outputs = list("Outputs");
    d.derivatives = list("Derivatives");
}

// --- FMI 3.0
void read_three(pugi::xml_node root, ForeignDescription& d)
{
    d.token = root.attribute("instantiationToken").value();
    UnitList units(root.child("UnitDefinitions"));
    std::map<std::string, DeclaredType> types;
    for (pugi::xml_node t : root.child("TypeDefinitions").children()) {
        types[t.attribute("name").value()] = declared_type(t, t);
    }
    static const std::map<std::string, ForeignType> kTypes{
        {"Float32", ForeignType::float32}, {"Float64", ForeignType::float64}, {"Int8", ForeignType::int8},
        {"UInt8", ForeignType::uint8},     {"Int16", ForeignType::int16},     {"UInt16", ForeignType::uint16},
        {"Int32", ForeignType::int32},     {"UInt32", ForeignType::uint32},   {"Int64", ForeignType::int64},
        {"UInt64", ForeignType::uint64},   {"Boolean", ForeignType::boolean}, {"String", ForeignType::text},
        {"Binary", ForeignType::binary},   {"Clock", ForeignType::clock},     {"Enumeration", ForeignType::enumeration}};
    std::unordered_map<std::uint32_t, std::size_t> by_reference;
    std::vector<std::pair<std::size_t, std::uint32_t>> rates;
    std::vector<std::pair<std::size_t, std::uint32_t>> sized_by;  // array, structural parameter that gives one of its sizes
    for (pugi::xml_node s : root.child("ModelVariables").children()) {
        if (s.type() != pugi::node_element) continue;
        auto type = kTypes.find(s.name());
        if (type == kTypes.end()) refuse(fmt::format("variable '{}' of its description has no type that FMI 3.0 knows", s.attribute("name").value()));
        Variable v;
        v.type = type->second;
        take_roles(s, v);
        auto declared = types.find(s.attribute("declaredType").value());
        take_range(s, units, declared == types.end() ? nullptr : &declared->second, v);
        for (pugi::xml_node n : s.children("Dimension")) {
            v.is_array = true;
            if (!n.attribute("start").empty())
                v.n_elements *= reference_of(n.attribute("start"));
            else
                sized_by.emplace_back(d.variables.size(), reference_of(n.attribute("valueReference")));
            if (v.n_elements > kMostVariables) refuse(fmt::format("array '{}' of its description has more than {} elements", v.name, kMostVariables));
        }
        if (v.type == ForeignType::text)
            take_start(s.child("Start").attribute("value").value(), v);
        else if (!s.attribute("start").empty())
            take_start(s.attribute("start").value(), v);
        if (!by_reference.emplace(v.reference, d.variables.size()).second)
            refuse(fmt::format("two variables of its description have the reference {}", v.reference));
        if (!s.attribute("derivative").empty()) rates.emplace_back(d.variables.size(), reference_of(s.attribute("derivative")));
        d.variables.push_back(std::move(v));
        if (d.variables.size() > kMostVariables) refuse(fmt::format("its description has more than {} variables", kMostVariables));
    }
    auto index_of = [&](std::uint32_t reference) {
        auto found = by_reference.find(reference);
        if (found == by_reference.end()) refuse(fmt::format("its description names the reference {}, which no variable has", reference));
        return found->second;
    };
    for (auto [array, reference] : sized_by) {
        const Variable& size = d.variables[index_of(reference)];
        if (size.start.size() != 1 || !(size.start[0] >= 0) || size.start[0] * static_cast<double>(d.variables[array].n_elements) > kMostVariables)
            refuse(fmt::format("the size '{}' of array '{}' is no count of its description", size.name, d.variables[array].name));
        d.variables[array].n_elements *= static_cast<std::size_t>(size.start[0]);
    }
    for (auto [rate, state] : rates) d.variables[rate].derivative_of = index_of(state);
    auto list = [&](const char* name) {
        std::vector<std::size_t> found;
        for (pugi::xml_node u : root.child("ModelStructure").children(name)) found.push_back(index_of(reference_of(u.attribute("valueReference"))));
        return found;
    };
    d.outputs = list("Output");
    d.derivatives = list("ContinuousStateDerivative");
    for (std::size_t i : list("EventIndicator")) d.n_indicators += d.variables[i].n_elements;
}

void take_interfaces(pugi::xml_node root, ForeignDescription& d)
{
    pugi::xml_node me = root.child("ModelExchange"), cs = root.child("CoSimulation");
    d.exchange_name = me.attribute("modelIdentifier").value();
    d.cosimulation_name = cs.attribute("modelIdentifier").value();
    for (const std::string& name : {d.exchange_name, d.cosimulation_name})
        if (name.find_first_of("/\\") != std::string::npos || name == ".." || name == ".") refuse("the name of its binary is a path");
    if (!d.is_exchange() && !d.is_cosimulation())
        refuse(root.child("ScheduledExecution") ? "it can only be executed by a scheduler of clocks, which is not supported"
                                                : "its description names neither model exchange nor co-simulation");
    for (pugi::xml_node kind : {me, cs}) {
        d.only_one_instance |= truth_of(kind.attribute("canBeInstantiatedOnlyOncePerProcess"), false);
        d.needs_tool |= truth_of(kind.attribute("needsExecutionTool"), false);
    }
    // 2.0 says what is not needed, 3.0 what is
    d.wants_completed_steps =
        d.version == 2 ? !truth_of(me.attribute("completedIntegratorStepNotNeeded"), false) : truth_of(me.attribute("needsCompletedIntegratorStep"), true);
    d.has_directional_exchange = truth_of(me.attribute(d.version == 2 ? "providesDirectionalDerivative" : "providesDirectionalDerivatives"), false);
    d.variable_steps = truth_of(cs.attribute("canHandleVariableCommunicationStepSize"), false);
    if (!cs.attribute("fixedInternalStepSize").empty()) d.step = number_of(cs.attribute("fixedInternalStepSize"), 0);
    pugi::xml_node e = root.child("DefaultExperiment");
    d.start = number_of(e.attribute("startTime"), 0);
    d.tolerance = number_of(e.attribute("tolerance"), 0);
    if (!e.attribute("stopTime").empty()) d.stop = number_of(e.attribute("stopTime"), 0);
    if (!e.attribute("stepSize").empty()) d.step = number_of(e.attribute("stepSize"), 0);
    if (d.step && !(*d.step > 0 && std::isfinite(*d.step))) d.step.reset();
}

// What the rest builds on.
void look_through(ForeignDescription& d)
{
    std::set<std::string> names;
    for (Variable& v : d.variables) {
        if (!names.insert(v.name).second) refuse(fmt::format("two variables of its description are called '{}'", v.name));
        if (v.is_array && v.start.size() == 1 && v.n_elements > 1) v.start.resize(v.n_elements, v.start[0]);
        if (!v.start.empty() && v.start.size() != v.n_elements)
            refuse(fmt::format("'{}' has {} elements and {} start values", v.name, v.n_elements, v.start.size()));
        bool shown = v.causality == Causality::parameter || v.causality == Causality::input || v.causality == Causality::output;
        if (shown && !is_number(v.type))
            d.left_out.push_back(fmt::format("{} '{}'", v.type == ForeignType::text ? "text" : v.type == ForeignType::clock ? "clock" : "bytes", v.name));
    }
    for (std::size_t rate : d.derivatives) {
        const Variable& v = d.variables[rate];
        if (!v.derivative_of) refuse(fmt::format("its structure has '{}' as the derivative of a state, and the variable does not say of which", v.name));
        if (!is_float(v.type) || !is_float(d.variables[*v.derivative_of].type)) refuse(fmt::format("state '{}' of its description is no real number", v.name));
        if (d.variables[*v.derivative_of].n_elements != v.n_elements)
            refuse(fmt::format("'{}' and its derivative have different sizes", d.variables[*v.derivative_of].name));
        d.states.push_back(*v.derivative_of);
    }
    if (d.n_indicators > kMostVariables) refuse(fmt::format("its description has more than {} event indicators", kMostVariables));
}

}  // namespace

ForeignDescription read_foreign_description(const std::string& xml)
{
    pugi::xml_document document;
    pugi::xml_parse_result parsed = document.load_buffer(xml.data(), xml.size());
    if (!parsed) refuse(fmt::format("its description is no XML: {} (at byte {})", parsed.description(), parsed.offset));
    pugi::xml_node root = document.child("fmiModelDescription");
    if (!root) refuse("its description is none of a unit of FMI");
    ForeignDescription d;
    std::string version = root.attribute("fmiVersion").value();
    d.version = version == "2.0" ? 2 : version.starts_with("3.") ? 3 : 0;
    if (d.version == 0) refuse(fmt::format("it is a unit of FMI '{}'; 2.0 and 3.0 are supported", version.substr(0, 20)));
    d.model_name = root.attribute("modelName").value();
    d.text = root.attribute("description").value();
    d.tool = root.attribute("generationTool").value();
    take_interfaces(root, d);
    if (d.version == 2)
        read_two(root, d);
    else
        read_three(root, d);
    look_through(d);
    return d;
}

}  // namespace netloop

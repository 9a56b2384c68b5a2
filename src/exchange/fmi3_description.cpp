// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <cmath>
#include <pugixml.hpp>
#include <sstream>

#include "exchange/fmi.hpp"

namespace netloop {
namespace {

using Causality = UnitVariable::Causality;

void put(pugi::xml_node node, const char* name, const std::string& value)
{
    node.append_attribute(name) = value.c_str();
}

std::string number(double v)
{
    return fmt::format("{:.17g}", v);
}

std::string written(const pugi::xml_document& document)
{
    std::ostringstream out;
    document.save(out, "  ", pugi::format_default, pugi::encoding_utf8);
    return out.str();
}

void declare(pugi::xml_document& document)
{
    pugi::xml_node declaration = document.append_child(pugi::node_declaration);
    declaration.append_attribute("version") = "1.0";
    declaration.append_attribute("encoding") = "UTF-8";
}

}  // namespace

std::string fmi3_description(const UnitDescription& u)
{
    pugi::xml_document document;
    declare(document);
    pugi::xml_node root = document.append_child("fmiModelDescription");
    put(root, "fmiVersion", "3.0");
    put(root, "modelName", u.title);
    put(root, "instantiationToken", u.guid);
    if (!u.text.empty()) put(root, "description", u.text);
    put(root, "generationTool", "Net Loop");
    put(root, "variableNamingConvention", "structured");
    if (u.model_exchange) {
        pugi::xml_node me = root.append_child("ModelExchange");
        put(me, "modelIdentifier", u.name);
        put(me, "canGetAndSetFMUState", "true");
        put(me, "canSerializeFMUState", "true");
        put(me, "providesDirectionalDerivatives", "true");
        put(me, "needsCompletedIntegratorStep", "false");
    }
    pugi::xml_node cs = root.append_child("CoSimulation");
    put(cs, "modelIdentifier", u.name);
    put(cs, "canGetAndSetFMUState", "true");
    put(cs, "canSerializeFMUState", "true");
    put(cs, "canHandleVariableCommunicationStepSize", "false");
    put(cs, "fixedInternalStepSize", number(u.step));
    add_standard_parts(root, u);
    pugi::xml_node list = root.append_child("ModelVariables");
    std::string free_name = "time";
    for (bool taken = true; taken;) {
        taken = false;
        for (const UnitVariable& v : u.variables) taken = taken || v.name == free_name;
        if (taken) free_name += "_";
    }
    auto independent = static_cast<std::uint32_t>(u.first_free + u.n_indicators);
    pugi::xml_node time = list.append_child("Float64");
    put(time, "name", free_name);
    put(time, "valueReference", fmt::format("{}", independent));
    put(time, "causality", "independent");
    put(time, "variability", "continuous");
    for (const UnitVariable& v : u.variables) {
        pugi::xml_node node = list.append_child(v.boolean ? "Boolean" : "Float64");
        put(node, "name", v.name);
        put(node, "valueReference", fmt::format("{}", v.reference));
        if (!v.text.empty()) put(node, "description", v.text);
        for (const auto& [attribute, value] : standard_roles(v)) put(node, attribute, value);
        for (const auto& [attribute, value] : standard_limits(v)) put(node, attribute, value);
        if (v.rate_of != 0) put(node, "derivative", fmt::format("{}", u.variables[v.rate_of - 1].reference));
    }
    for (std::size_t k = 0; k < u.n_indicators; ++k) {
        pugi::xml_node node = list.append_child("Float64");
        std::string name = fmt::format("event_indicator_{}", k + 1);
        for (const UnitVariable& v : u.variables)
            if (v.name == name) name += "_";
        put(node, "name", name);
        put(node, "valueReference", fmt::format("{}", u.first_free + k));
        put(node, "causality", "local");
        put(node, "variability", "continuous");
        put(node, "initial", "calculated");
    }

    pugi::xml_node structure = root.append_child("ModelStructure");
    auto add = [&](const char* name, std::size_t number, bool dependencies) {
        const UnitVariable& v = u.variables[number - 1];
        pugi::xml_node unknown = structure.append_child(name);
        put(unknown, "valueReference", fmt::format("{}", v.reference));
        if (!dependencies || !v.structure_known) return;
        std::string references;
        for (std::size_t d : v.depends_on) references += fmt::format("{}{}", references.empty() ? "" : " ", u.variables[d - 1].reference);
        put(unknown, "dependencies", references);
    };
    for (std::size_t k : u.outputs) add("Output", k, true);
    if (u.model_exchange)
        for (std::size_t k : u.rates) add("ContinuousStateDerivative", k, true);
    for (std::size_t k = 0; k < u.variables.size(); ++k) {
        Causality c = u.variables[k].causality;
        if (c == Causality::output || c == Causality::local || c == Causality::calculated) add("InitialUnknown", k + 1, false);
    }
    if (u.model_exchange)
        for (std::size_t k = 0; k < u.n_indicators; ++k) put(structure.append_child("EventIndicator"), "valueReference", fmt::format("{}", u.first_free + k));
    return written(document);
}

std::string fmi3_build_description(const UnitDescription& u, const std::vector<std::string>& sources)
{
    pugi::xml_document document;
    declare(document);
    pugi::xml_node root = document.append_child("fmiBuildDescription");
    put(root, "fmiVersion", "3.0");
    pugi::xml_node build = root.append_child("BuildConfiguration");
    put(build, "modelIdentifier", u.name);
    pugi::xml_node set = build.append_child("SourceFileSet");
    put(set, "language", "C99");
    for (const std::string& s : sources) put(set.append_child("SourceFile"), "name", s);
    put(build.append_child("Library"), "name", "m");
    return written(document);
}

}  // namespace netloop

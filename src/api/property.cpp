// SPDX-License-Identifier: Apache-2.0
#include "netloop/property.hpp"

#include <fmt/format.h>

#include <cmath>
#include <filesystem>

#include "api/internal.hpp"
#include "compile/parameters.hpp"
#include "netloop/error.hpp"

namespace netloop {

struct FluidProperty::Data {
    std::shared_ptr<LibrarySet> set;
    std::vector<Argument> arguments;
    std::string unit, text;
    std::unique_ptr<FlatModel> flat;
    std::vector<ParameterId> given;  ///< of each argument
    std::vector<double> parameters;
    NodeId value = kNoNode;
};

namespace {

// The fluid as a definition, and how a system names it.
struct FluidAsked {
    std::shared_ptr<LibrarySet> set;
    const Definition* kind = nullptr;  ///< with the functions
    std::string declaration;           ///< a statement that makes it, for a kind
    std::string name;                  ///< to call it by
};

FluidAsked look_up(const Library& library, const std::string& fluid)
{
    FluidAsked asked;
    asked.set = LibraryAccess::set(library);
    std::string name = fluid.substr(0, fluid.find('('));
    while (!name.empty() && name.back() == ' ') name.pop_back();
    const Definition* d = asked.set->find_by_text(name);
    if (d == nullptr && name.find('.') == std::string::npos) d = asked.set->find_by_text("fluids." + name);
    bool fluid_itself = d != nullptr && d->as<FluidUseDecl>() != nullptr;
    if (d == nullptr || (!fluid_itself && (d->as<FluidDecl>() == nullptr || d->as<FluidDecl>()->base))) {
        std::vector<std::string> names;
        for (const auto& e : library.list("fluids"))
            if (e.kind == "fluid") names.push_back(e.name);
        for (const auto& e : library.list())
            if (e.kind == "fluid") names.push_back(e.name);
        std::string near = nearest_name("fluids." + name, names);
        if (near.empty()) near = nearest_name(name, names);
        throw UsageError(fmt::format("'{}' is no fluid{}", fluid,
                                     near.empty() ? "; `netloop list fluids` shows those that are shipped" : fmt::format("; did you mean '{}'?", near)));
    }
    asked.kind = fluid_itself ? asked.set->find(*d->scope, d->as<FluidUseDecl>()->kind.kind) : d;
    asked.name = d->full_name;
    if (!fluid_itself || fluid.find('(') != std::string::npos) {
        if (fluid_itself)
            throw UsageError(fmt::format("'{}' is a fluid whose values are fixed; give values to its kind: {}(...)", d->full_name, asked.kind->full_name));
        asked.name = "asked";
        asked.declaration = "    fluid asked = " + d->full_name + (fluid.find('(') == std::string::npos ? "" : fluid.substr(fluid.find('('))) + "\n";
    }
    return asked;
}

Library library_with(const std::string& file)
{
    Library library = Library::standard();
    if (!file.empty()) library.load_file(file);
    return library;
}

}  // namespace

FluidProperty::FluidProperty(const std::string& fluid, const std::string& function, const std::string& file)
{
    Library library = library_with(file);
    FluidAsked asked = look_up(library, fluid);
    const ComponentInfo* info = asked.set->info(*asked.kind);
    const Member* member = info->find(function);
    const auto* f = member != nullptr ? member->statement->as<FunctionDecl>() : nullptr;
    if (f == nullptr || !f->body || f->results.size() != 1) {
        std::vector<std::string> names;
        for (const auto& e : list(fluid, file)) names.push_back(e.name);
        std::string near = nearest_name(function, names);
        throw UsageError(fmt::format("'{}' has no function '{}'{}", fluid, function,
                                     near.empty() ? fmt::format("; it has {}", fmt::join(names, ", ")) : fmt::format("; did you mean '{}'?", near)));
    }
    auto data = std::make_shared<Data>();
    data->set = asked.set;
    data->unit = f->results[0].unit ? f->results[0].unit->text : "1";
    data->text = function_text(*info, function);
    std::string text = file.empty() ? "" : fmt::format("use \"{}\"\n", std::filesystem::absolute(file).string()), call;
    text += "system PropertyAsked {\n" + asked.declaration;
    for (const FunctionArgument& a : f->arguments) {
        data->arguments.push_back({a.name, a.unit ? a.unit->text : "1"});
        const std::string& unit = data->arguments.back().unit;
        text += fmt::format("    param argument_{} : {} = 0 {}\n", a.name, unit, unit == "1" ? "" : unit);
        call += (call.empty() ? "argument_" : ", argument_") + a.name;
    }
    text += fmt::format("    let value = {}.{}({})\n}}\n", asked.name, function, call);
    library.load_text("property", text);
    LibraryWork work(*asked.set);
    auto plan = plan_scenario(*asked.set, "PropertyAsked", "", true);
    throw_errors(*asked.set);
    CompiledSystemData unused;
    data->flat = flatten_plan(*asked.set, *plan, unused, false);
    data->parameters = default_parameters(*data->flat);
    for (const Argument& a : data->arguments)
        for (ParameterId p = 0; p < data->flat->parameters.size(); ++p)
            if (data->flat->parameters[p].path == "argument_" + a.name) data->given.push_back(p);
    for (const FlatView& v : data->flat->views)
        if (v.path == "value") data->value = v.value;
    data_ = std::move(data);
}

const std::vector<FluidProperty::Argument>& FluidProperty::arguments() const
{
    return data_->arguments;
}

const std::string& FluidProperty::unit() const
{
    return data_->unit;
}

const std::string& FluidProperty::text() const
{
    return data_->text;
}

double FluidProperty::operator()(const std::vector<double>& values) const
{
    if (values.size() != data_->given.size()) throw UsageError(fmt::format("{} values are given for {} arguments", values.size(), data_->given.size()));
    std::vector<double> parameters = data_->parameters;
    for (std::size_t i = 0; i < values.size(); ++i) parameters[data_->given[i]] = values[i];
    NodeValues evaluate(data_->flat->graph, [&](const Node& n) { return n.op == Op::parameter ? parameters[n.a] : std::nan(""); });
    double value = evaluate(data_->value);
    return std::isfinite(value) ? value : std::nan("");
}

std::vector<Library::Entry> FluidProperty::list(const std::string& fluid, const std::string& file)
{
    Library library = library_with(file);
    FluidAsked asked = look_up(library, fluid);
    std::vector<Library::Entry> entries;
    const ComponentInfo* info = asked.set->info(*asked.kind);
    for (const std::string& name : info->member_names) {
        const Member& m = *info->find(name);
        const auto* f = m.statement->as<FunctionDecl>();
        if (f == nullptr || !f->body || f->results.size() != 1) continue;
        std::string arguments;
        for (const FunctionArgument& a : f->arguments) arguments += (arguments.empty() ? "" : ", ") + a.name;
        std::string doc = function_text(*info, name);
        for (char& c : doc)
            if (c == '\n') c = ' ';
        entries.push_back({name, fmt::format("({}) [{}]", arguments, f->results[0].unit ? f->results[0].unit->text : "1"), doc});
    }
    return entries;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Paths to handles, and what is said of a path that leads nowhere.
#include <fmt/format.h>

#include "api/internal.hpp"
#include "base/diagnostics.hpp"

namespace netloop {

ParameterId find_parameter(const CompiledSystemData& system, const std::string& path, bool external_only)
{
    const FlatModel& flat = system.model->form.flat();
    for (ParameterId p = 0; p < flat.parameters.size(); ++p) {
        const FlatParameter& f = flat.parameters[p];
        if (f.path != path) continue;
        if (external_only && !f.external) throw UsageError(fmt::format("'{}' is a param, not an input of the system: use set()", path));
        if (!f.follows.empty()) throw UsageError(fmt::format("'{}' follows from '{}', which the start has to find: it cannot be set", path, f.follows));
        return p;
    }
    if (output_named(system, path)) throw UsageError(fmt::format("'{}' is computed by the system: only params and inputs of the system can be set", path));
    std::vector<std::string> names;
    for (const FlatParameter& f : flat.parameters) names.push_back(f.path);
    std::string near = nearest_name(path, names);
    throw UsageError(fmt::format("the system has no param '{}'{}", path, near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
}

std::optional<OutputId> output_named(const CompiledSystemData& system, const std::string& path)
{
    const auto& outputs = system.model->form.outputs;
    for (std::uint32_t i = 0; i < outputs.size(); ++i)
        if (outputs[i].path == path) return OutputId{i};
    return std::nullopt;
}

UsageError unknown_output(const CompiledSystemData& system, const std::string& path)
{
    std::vector<std::string> names;
    for (const OutputColumn& o : system.model->form.outputs) names.push_back(o.path);
    std::string near = nearest_name(path, names);
    return UsageError(fmt::format("the system has no quantity '{}'{}", path, near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
}

ParamId CompiledSystem::param(const std::string& path) const
{
    return {find_parameter(*data_, path, false)};
}

InputId CompiledSystem::input(const std::string& path) const
{
    return {find_parameter(*data_, path, true)};
}

OutputId CompiledSystem::output(const std::string& path) const
{
    if (auto found = output_named(*data_, path)) return *found;
    throw unknown_output(*data_, path);
}

const std::string& CompiledSystem::unit(OutputId output) const
{
    const auto& outputs = data_->model->form.outputs;
    if (output.number >= outputs.size()) throw UsageError("a handle that belongs to no quantity of this system: output() gives them");
    return outputs[output.number].unit.text;
}

const std::string& CompiledSystem::unit(ParamId param) const
{
    const auto& parameters = data_->model->form.flat().parameters;
    if (param.number >= parameters.size()) throw UsageError("a handle that belongs to no param of this system: param() gives them");
    return parameters[param.number].unit.text;
}

const std::string& CompiledSystem::text_hash() const
{
    return data_->text_hash;
}

}  // namespace netloop

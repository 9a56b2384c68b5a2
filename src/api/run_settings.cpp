// SPDX-License-Identifier: Apache-2.0
// What a user asks of a run, checked and turned into what the solver takes.
#include "api/run_settings.hpp"

#include <fmt/format.h>

#include <cmath>
#include <map>

#include "netloop/error.hpp"

namespace netloop {
namespace {

using Method = IntegratorSettings::Method;

template <typename Value>
Value named(const std::map<std::string, Value>& values, const std::string& name, const char* what, const char* list)
{
    auto found = values.find(name);
    if (found == values.end()) throw UsageError(fmt::format("no {} is called '{}'; there are: {}", what, name, list));
    return found->second;
}

}  // namespace

IntegratorSettings integrator_settings(const RunOptions& options, double tolerance_of_scenario)
{
    static const std::map<std::string, Method> kMethods{{"auto", Method::automatic}, {"bdf", Method::bdf}, {"adams", Method::adams},
                                                        {"sdirk", Method::sdirk},    {"ida", Method::ida}, {"cvode", Method::cvode},
                                                        {"euler", Method::euler},    {"rk4", Method::rk4}, {"implicit-euler", Method::implicit_euler}};
    static const std::map<std::string, Evaluator> kEvaluators{{"", Evaluator::automatic},
                                                              {"auto", Evaluator::automatic},
                                                              {"plain", Evaluator::plain},
                                                              {"grouped", Evaluator::grouped},
                                                              {"machine", Evaluator::machine}};
    IntegratorSettings settings;
    settings.tolerance = options.tolerance.value_or(tolerance_of_scenario);
    if (!(settings.tolerance >= 1e-12 && settings.tolerance <= 1e-2))
        throw UsageError(fmt::format("a tolerance of {:g}: a relative tolerance lies between 1e-12 and 1e-2", settings.tolerance));
    settings.jacobian = static_cast<IntegratorSettings::Jacobian>(options.jacobian);
    settings.evaluator = named(kEvaluators, options.evaluator, "evaluator", "auto, plain, grouped, machine");
    std::string method = !options.integrator.empty() ? options.integrator : options.jacobian == RunOptions::Jacobian::exact ? "auto" : "ida";
    settings.method = named(kMethods, method, "integrator", "auto, bdf, adams, sdirk, ida, cvode (variable step), euler, rk4, implicit-euler (fixed step)");
    settings.name = method;
    bool fixed = has_fixed_step(settings.method);
    if (fixed && !options.step) throw UsageError(fmt::format("'{}' steps by a fixed length: give one, such as --step 1ms", method));
    if (!fixed && options.step) throw UsageError(fmt::format("'{}' chooses its steps itself; a step length belongs to euler, rk4 or implicit-euler", method));
    settings.step = options.step.value_or(0);
    if (fixed && !(settings.step > 0 && std::isfinite(settings.step))) throw UsageError(fmt::format("a step of {:g} s: it must be positive", settings.step));
    return settings;
}

}  // namespace netloop

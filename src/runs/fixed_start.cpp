// SPDX-License-Identifier: Apache-2.0
#include "runs/fixed_start.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <utility>

#include "exchange/fixed_machine.hpp"
#include "solve/explain.hpp"

namespace netloop {

FixedStepStart::FixedStepStart(const CompiledSystem& system, const std::function<void(Run&)>& prepare) : run(system)
{
    if (prepare) prepare(run);
    Run::Data& d = data();
    d.recorder.reset();
    d.simulation.reset();
    d.make_simulation({});
    d.simulation->on_start = [&](const State& s, Evaluation& e) {
        begun = s;
        for (std::size_t i = 0; i < e.model().form.conditions.size(); ++i) modes.push_back(e.mode(i));
        for (std::size_t i = 0; i < e.model().form.events.memories.size(); ++i) memories.push_back(e.memory(i));
        evaluation = std::make_unique<Evaluation>(e.shared_model(), Evaluator::plain);
    };
    d.guarded([&] { d.start(); });
    d.simulation->on_start = {};
    Evaluation& e = *evaluation;
    d.put_given(e);
    e.settle_parameters();
    for (std::size_t i = 0; i < modes.size(); ++i) e.set_mode(i, modes[i]);
    for (std::size_t i = 0; i < memories.size(); ++i) e.set_memory(i, memories[i]);
    if (Delays* delays = e.delays()) {  // what is delayed has been what it is at the start
        const auto& of = e.model().events.delay_of;
        for (std::size_t k = 0; k < of.size(); ++k) delays->begin(k, HUGE_VAL, memories[of[k].memory], begun.time);
    }
    e.at(begun.time, begun.z.data(), begun.rates.data());
    e.choose_states();
}

std::shared_ptr<const FixedPlan> FixedStepStart::plan(const FixedStepOptions& options, const std::vector<ParameterId>& inputs,
                                                      const std::vector<std::uint32_t>& outputs, bool unit)
{
    FixedPlanRequest request;
    request.rest = request.slopes = unit;
    request.method = fixed_method_named(options.method);
    request.step = options.step;
    request.turns = options.turns;
    request.correct = options.correct;
    request.inputs = inputs;
    request.outputs = outputs;
    std::shared_ptr<const FixedPlan> made;
    Run::Data& d = data();
    if (options.step > 0 && std::isfinite(options.step)) sample(options.step);
    d.guarded([&] { made = make_fixed_plan(*evaluation, begun, d.simulation->start_report().taken, request, d.system->sources, samples); });
    return made;
}

// Some points of the run, the first ones close behind the start: what switches there asks for other pivots than the start itself. How far it goes is counted in
// steps, not in time: the order of elimination, and with it the last bit of every number, is the same each time.
void FixedStepStart::sample(double step)
{
    constexpr std::size_t kPoints = 12, kMostSteps = 30000;
    if (std::exchange(sampled_, true)) return;
    Run::Data& d = data();
    double stop = d.system->stop.value_or(100 * step);
    std::size_t steps = 0;
    std::atomic<bool> over{false};
    auto look = [&](double) { over = ++steps > kMostSteps; };
    try {
        for (std::size_t k = 0; k < kPoints; ++k) {
            double t = k < 4 ? step * static_cast<double>(1u << (2 * k)) : stop * static_cast<double>(k - 3) / static_cast<double>(kPoints - 3);
            if (t <= d.simulation->state().time || t > stop) continue;
            bool goes_on = d.simulation->advance(t, {}, {}, &over, look);
            State s = d.simulation->state();
            Evaluation& e = d.simulation->evaluation();
            if (e.shared_model() != evaluation->shared_model()) break;
            e.at(s.time, s.z.data(), s.rates.data());
            SampledJacobian at;
            e.jacobian(at.by_z, at.by_rate);
            samples.push_back(std::move(at));
            if (!goes_on) break;
        }
    } catch (const NumericFailure&) {
        // the points until then will do
    }
}

FixedMethod fixed_method_named(const std::string& name)
{
    for (FixedMethod m : {FixedMethod::euler, FixedMethod::rk4, FixedMethod::linear_euler, FixedMethod::implicit_euler, FixedMethod::rosenbrock})
        if (name == method_name(m)) return m;
    throw UsageError(fmt::format("there is no method '{}' in fixed steps; there are: euler, rk4, linear-euler, implicit-euler, rosenbrock", name));
}

std::vector<ParameterId> inputs_named(const CompiledSystemData& system, const std::vector<std::string>& paths)
{
    std::vector<ParameterId> list;
    for (const std::string& path : paths) {
        ParameterId p = find_parameter(system, path, true);
        if (std::find(list.begin(), list.end(), p) != list.end()) throw UsageError(fmt::format("the input '{}' is named twice", path));
        list.push_back(p);
    }
    return list;
}

std::vector<std::string> outputs_that_fit(const CompiledSystemData& system, const std::vector<std::string>& patterns)
{
    std::vector<std::string> list;
    for (const std::string& pattern : patterns) {
        if (pattern.find('*') == std::string::npos) {
            list.push_back(pattern);
            continue;
        }
        std::size_t before = list.size();
        for (const OutputColumn& o : system.model->form.outputs)
            if (fits_pattern(pattern, o.path) && std::find(list.begin(), list.end(), o.path) == list.end()) list.push_back(o.path);
        if (list.size() == before) throw UsageError(fmt::format("no quantity fits '{}'", pattern));
    }
    return list;
}

std::vector<std::uint32_t> outputs_named(const CompiledSystemData& system, const CompiledModel& model, const std::vector<std::string>& paths)
{
    std::vector<std::uint32_t> list;
    for (const std::string& path : paths) {
        if (!output_named(system, path)) throw unknown_output(system, path);
        const auto& outputs = model.form.outputs;
        auto found = std::find_if(outputs.begin(), outputs.end(), [&](const OutputColumn& o) { return o.path == path; });
        if (found == outputs.end()) throw unknown_output(system, path);
        list.push_back(static_cast<std::uint32_t>(found - outputs.begin()));
    }
    return list;
}

std::string text_of(FixedStepStatus status)
{
    switch (status) {
        case FixedStepStatus::good:
            return "it goes on";
        case FixedStepStatus::stopped:
            return "the model said stop";
        case FixedStepStatus::failed:
            return "the model said fail";
        case FixedStepStatus::not_finite:
            return "a value is no longer finite";
        case FixedStepStatus::no_start:
            return "no start was found for these params";
        case FixedStepStatus::delay_too_long:
            return "a delay goes farther back than there is room for";
        default:
            return "blocks and conditions set each other off without end";
    }
}

struct FixedStepRun::Data {
    Data(const CompiledSystem& system, const FixedStepOptions& options, const std::vector<std::string>& inputs, const std::vector<std::string>& outputs,
         const std::function<void(Run&)>& prepare)
        : start(system, prepare), of(start.data().system), machine(start.plan(options, inputs_named(*of, inputs), outputs_named(*of, start.model(), outputs)))
    {
    }
    FixedStepStart start;
    std::shared_ptr<const CompiledSystemData> of;
    FixedMachine machine;
    bool looked = false;
};

FixedStepRun::FixedStepRun(const CompiledSystem& system, const FixedStepOptions& options, const std::vector<std::string>& inputs,
                           const std::vector<std::string>& outputs, const std::function<void(Run&)>& prepare)
    : data_(std::make_unique<Data>(system, options, inputs, outputs, prepare))
{
    begin();
}
FixedStepRun::~FixedStepRun() = default;
FixedStepRun::FixedStepRun(FixedStepRun&&) noexcept = default;

void FixedStepRun::set(const std::string& param, double si)
{
    data_->machine.give(find_parameter(*data_->of, param, false), si);
}

FixedStepStatus FixedStepRun::begin()
{
    data_->looked = false;
    return data_->machine.begin();
}

void FixedStepRun::set_input(std::size_t number, double si)
{
    if (number >= data_->machine.plan().request.inputs.size()) throw UsageError(fmt::format("there is no input of the number {}", number));
    data_->machine.set_input(number, si);
    data_->looked = false;
}

FixedStepStatus FixedStepRun::step()
{
    data_->looked = false;
    return data_->machine.step();
}

double FixedStepRun::time() const
{
    return data_->machine.time();
}

double FixedStepRun::output(std::size_t number)
{
    if (number >= data_->machine.plan().output.size()) throw UsageError(fmt::format("there is no output of the number {}", number));
    if (!data_->looked) data_->machine.look();
    data_->looked = true;
    return data_->machine.output(number);
}

std::size_t FixedStepRun::steps() const
{
    return data_->machine.n_steps();
}
std::size_t FixedStepRun::bad_pivots() const
{
    return data_->machine.bad_pivots();
}
std::size_t FixedStepRun::events() const
{
    return data_->machine.events();
}
std::size_t FixedStepRun::step_operations() const
{
    return data_->machine.plan().n_step_operations();
}
std::size_t FixedStepRun::moment_operations() const
{
    return data_->machine.plan().n_moment_operations();
}

std::string FixedStepRun::said() const
{
    const FixedMachine& m = data_->machine;
    if (!m.said().empty()) return m.said();
    for (std::size_t i = 0; i < m.plan().z.size(); ++i)
        if (!std::isfinite(m.z()[i])) return variable_name(*m.plan().model, m.plan().model->form.z[i].variable);
    return {};
}

}  // namespace netloop

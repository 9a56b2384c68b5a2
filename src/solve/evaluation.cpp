// SPDX-License-Identifier: Apache-2.0
#include "solve/evaluation.hpp"

#include <algorithm>
#include <cmath>
#include <map>

#include "foreign/unit_session.hpp"
#include "solve/vector_loops.hpp"

namespace netloop {

Evaluation::Evaluation(std::shared_ptr<const CompiledModel> model, Evaluator evaluator)
    : model_(std::move(model)), first_(model_), evaluator_(evaluator), memory_(model_->layout.size, 0.0), given_(model_->form.flat().parameters.size())
{
    selection_.emplace(*model_);
    residuals_ = Gathering(model_->residual.results);
    for (const auto& [place, value] : model_->literals) memory_[place] = value;
    for (const CallablePtr& f : model_->form.reduced.system.graph().callables())
        if (units_ == nullptr && f->has_state()) units_ = std::make_shared<UnitSession>();
    if (!model_->events.delay_of.empty()) delays_ = std::make_unique<Delays>(model_->events.delay_of.size());
}

void Evaluation::follow_delays(double t)
{
    for (std::size_t k = 0; k < model_->events.delay_of.size(); ++k)
        memory_[model_->layout.memories + model_->events.delay_of[k].memory] = delays_->value(k, t);
}

const std::vector<char>& Evaluation::watched()
{
    if (watched_version_ == memory_version_) return watched_;
    watched_version_ = memory_version_;
    const EventPrograms& events = model_->events;
    const auto& sequences = model_->form.events.sequences;
    watched_.resize(events.only_in.size());
    for (std::size_t i = 0; i < watched_.size(); ++i) {
        bool looked_at = events.idle[i] == 0 && events.only_in[i].empty();
        for (const auto& [sequence, stage] : events.only_in[i]) looked_at = looked_at || memory(sequences[sequence].stage) == stage + 1;
        watched_[i] = looked_at ? 1 : 0;
    }
    return watched_;
}

std::optional<Evaluation::ParameterProblem> Evaluation::settle_parameters()
{
    std::uint32_t first = model_->layout.parameters;
    for (const ParameterValues& v : model_->parameters) {
        run(v.program);
        for (std::size_t k = 0; k < v.parameters.size(); ++k) {
            ParameterId p = v.parameters[k];
            memory_[first + p] = given_[p] ? *given_[p] : memory_[v.program.results[k]];
        }
    }
    run(model_->prologue);
    run(model_->bounds.program);
    std::vector<double> low(given_.size(), -HUGE_VAL), high(given_.size(), HUGE_VAL);
    const ParameterBounds& bounds = model_->bounds;
    for (std::size_t k = 0; k < bounds.low.size(); ++k) low[bounds.low[k]] = memory_[bounds.program.results[k]];
    for (std::size_t k = 0; k < bounds.high.size(); ++k) high[bounds.high[k]] = memory_[bounds.program.results[bounds.low.size() + k]];
    std::optional<ParameterProblem> problem;
    for (const ParameterValues& v : model_->parameters)
        for (ParameterId parameter_id : v.parameters) {
            ParameterProblem p{parameter_id, parameter(parameter_id), low[parameter_id], high[parameter_id]};
            if (!p.is_none() && !problem) problem = p;
        }
    return problem;
}

void Evaluation::at(double t, const double* z, const double* rates)
{
    std::size_t n = model_->n();
    set_time(t);
    std::copy(z, z + n, memory_.begin() + model_->layout.z);
    if (rates != nullptr) std::copy(rates, rates + n, memory_.begin() + model_->layout.rates);
}

// With `sign` -1 of systems alone that choose no states.
bool Evaluation::residual(double sign, double* f)
{
    Stopwatch watch(shares.equations);
    run(model_->residual);
    bool finite = residuals_(sign, memory_.data(), f);
    selection_->residual(z(), rates(), f);
    return finite;
}

void Evaluation::jacobian(std::vector<double>& by_z, std::vector<double>& by_rate)
{
    Stopwatch watch(shares.jacobian);
    run(model_->jacobian);
    std::size_t n = model_->pattern.n_entries();
    by_z.resize(n);
    by_rate.resize(n);
    for (std::size_t k = 0; k < n; ++k) {
        by_z[k] = model_->by_z[k] == kNoNode ? 0 : memory_[model_->by_z[k]];
        by_rate[k] = model_->by_rate[k] == kNoNode ? 0 : memory_[model_->by_rate[k]];
    }
    selection_->jacobian(by_z, by_rate);
}

void Evaluation::jacobian(double cj, std::vector<double>& values)
{
    if (!model_->form.choices.empty()) {  // entries that the run fills in
        jacobian(by_z_, by_rate_);
        values.resize(by_z_.size());
        for (std::size_t k = 0; k < values.size(); ++k) values[k] = by_z_[k] + cj * by_rate_[k];
        return;
    }
    Stopwatch watch(shares.jacobian);
    run(model_->jacobian);
    const double* m = memory_.data();
    values.resize(model_->pattern.n_entries());
    const std::uint32_t *by_z = model_->by_z.data(), *by_rate = model_->by_rate.data();
    for (std::size_t k = 0; k < values.size(); ++k) {
        double v = by_z[k] == kNoNode ? 0 : m[by_z[k]];
        values[k] = by_rate[k] == kNoNode ? v : v + cj * m[by_rate[k]];
    }
}

void Evaluation::conditions()
{
    Stopwatch watch(shares.conditions);
    run(model_->conditions);
}

void Evaluation::conditions(std::vector<double>& values)
{
    conditions();
    values.resize(model_->conditions.results.size());
    for (std::size_t i = 0; i < values.size(); ++i) values[i] = memory_[model_->conditions.results[i]];
}

void Evaluation::outputs()
{
    run(model_->outputs);
}

bool Evaluation::outputs(double* to)
{
    outputs();
    if (output_of_first_.empty()) return gather(model_->output_place.size(), memory_.data(), model_->output_place.data(), to);
    bool finite = true;
    for (std::size_t i = 0; i < output_of_first_.size(); ++i) finite = std::isfinite(to[i] = output(i)) && finite;
    return finite;
}

bool Evaluation::outputs(const Program& kept, double* to)
{
    run(kept);
    return gather(kept.results.size(), memory_.data(), kept.results.data(), to);
}

double Evaluation::output(std::size_t i) const
{
    if (output_of_first_.empty()) return own_output(i);
    // a derivative that was a state in the first system, and is none here, is not computed
    return output_of_first_[i] == kNoNode ? 0 : own_output(output_of_first_[i]);
}

void Evaluation::change_model(std::shared_ptr<const CompiledModel> model)
{
    if (model == model_) return;
    std::vector<double> modes, memories;
    for (std::size_t i = 0; i < model_->form.conditions.size(); ++i) modes.push_back(mode(i));
    for (std::size_t i = 0; i < model_->form.events.memories.size(); ++i) memories.push_back(memory(i));
    double t = time();
    model_ = std::move(model);
    ++memory_version_;
    selection_.emplace(*model_);
    residuals_ = Gathering(model_->residual.results);
    memory_.assign(model_->layout.size, 0.0);
    for (const auto& [place, value] : model_->literals) memory_[place] = value;
    for (std::size_t i = 0; i < modes.size(); ++i) set_mode(i, modes[i]);
    for (std::size_t i = 0; i < memories.size(); ++i) set_memory(i, memories[i]);
    settle_parameters();
    set_time(t);
    output_of_first_.clear();
    if (model_ == first_) return;
    const auto &mine = model_->form.outputs, &firsts = first_->form.outputs;
    bool same = mine.size() == firsts.size();
    for (std::size_t i = 0; same && i < mine.size(); ++i) same = mine[i].path == firsts[i].path;
    if (same) return;
    std::map<std::string, std::uint32_t> by_path;
    for (std::uint32_t i = 0; i < mine.size(); ++i) by_path.emplace(mine[i].path, i);
    for (const OutputColumn& o : firsts) {
        auto it = by_path.find(o.path);
        output_of_first_.push_back(it == by_path.end() ? kNoNode : it->second);
    }
}

void Evaluation::written(double* to)
{
    run(model_->written);
    for (std::uint32_t place : model_->written_place) *to++ = place == kNoNode ? std::nan("") : memory_[place];
}

void Evaluation::start()
{
    run(model_->start);
}

bool Evaluation::choose_states()
{
    if (model_->form.choices.empty()) return false;
    run(model_->choices);
    coefficients_.resize(model_->choices.results.size());
    for (std::size_t i = 0; i < coefficients_.size(); ++i) coefficients_[i] = memory_[model_->choices.results[i]];
    return selection_->renew(coefficients_);
}

void Evaluation::search_start(std::vector<double>& z, std::vector<double>& rates)
{
    if (search_of_ == model_.get()) {
        z = search_z_;
        rates = search_rates_;
        return;
    }
    run(model_->search_start);
    auto take = [this](const std::vector<std::uint32_t>& places, std::vector<double>& to) {
        to.resize(places.size());
        for (std::size_t i = 0; i < to.size(); ++i) to[i] = places[i] == kNoNode ? 0 : memory_[places[i]];
    };
    take(model_->z_start, z);
    take(model_->rate_start, rates);
}

void Evaluation::begin_search_from(std::vector<double> z, std::vector<double> rates)
{
    search_z_ = std::move(z);
    search_rates_ = std::move(rates);
    search_of_ = model_.get();
}

}  // namespace netloop

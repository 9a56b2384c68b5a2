#include "solve/evaluation.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {

Evaluation::Evaluation(std::shared_ptr<const CompiledModel> model)
    : model_(std::move(model)), selection_(*model_), memory_(model_->layout.size, 0.0), given_(model_->form.flat().parameters.size())
{
    for (const auto& [place, value] : model_->literals) memory_[place] = value;
}

std::optional<Evaluation::ParameterProblem> Evaluation::settle_parameters()
{
    std::optional<ParameterProblem> problem;
    for (const ParameterStep& step : model_->parameters) {
        double& value = memory_[model_->layout.parameters + step.parameter];
        if (given_[step.parameter]) {
            value = *given_[step.parameter];
        } else {
            run(step.value);
            memory_[model_->layout.parameters + step.parameter] = memory_[step.value.results[0]];
        }
    }
    run(model_->prologue);
    for (const ParameterStep& step : model_->parameters) {
        ParameterProblem p{step.parameter, parameter(step.parameter), -HUGE_VAL, HUGE_VAL, false};
        auto bound = [&](const std::optional<Program>& program, double otherwise) {
            if (!program) return otherwise;
            run(*program);
            return memory_[program->results[0]];
        };
        p.low = bound(step.low, p.low);
        p.high = bound(step.high, p.high);
        p.not_finite = !std::isfinite(p.value);
        double slack = 1e-12 * std::abs(p.value);
        bool outside = p.value < p.low - slack || p.value > p.high + slack;
        if ((p.not_finite || outside) && !problem) problem = p;
    }
    return problem;
}

void Evaluation::at(double t, const double* z, const double* rates)
{
    std::size_t n = model_->n();
    memory_[model_->layout.time] = t;
    std::copy(z, z + n, memory_.begin() + model_->layout.z);
    if (rates != nullptr) std::copy(rates, rates + n, memory_.begin() + model_->layout.rates);
}

bool Evaluation::residual(double* f)
{
    ++n_residuals;
    run(model_->residual);
    std::size_t n = model_->residual.results.size();
    for (std::size_t i = 0; i < n; ++i) f[i] = memory_[model_->residual.results[i]];
    selection_.residual(memory_.data() + model_->layout.z, memory_.data() + model_->layout.rates, f);
    bool finite = true;
    for (std::size_t i = 0; i < n; ++i) finite &= std::isfinite(f[i]);
    return finite;
}

void Evaluation::jacobian(std::vector<double>& by_z, std::vector<double>& by_rate)
{
    ++n_jacobians;
    run(model_->jacobian);
    std::size_t n = model_->pattern.n_entries();
    by_z.resize(n);
    by_rate.resize(n);
    for (std::size_t k = 0; k < n; ++k) {
        by_z[k] = model_->by_z[k] == kNoNode ? 0 : memory_[model_->by_z[k]];
        by_rate[k] = model_->by_rate[k] == kNoNode ? 0 : memory_[model_->by_rate[k]];
    }
    selection_.jacobian(by_z, by_rate);
}

void Evaluation::conditions(std::vector<double>& values)
{
    run(model_->conditions);
    values.resize(model_->conditions.results.size());
    for (std::size_t i = 0; i < values.size(); ++i) values[i] = memory_[model_->conditions.results[i]];
}

void Evaluation::outputs()
{
    run(model_->outputs);
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
    return selection_.renew(coefficients_);
}

double Evaluation::search_start(std::size_t z)
{
    const auto& program = model_->z_start[z];
    if (!program) return 0;
    run(*program);
    return memory_[program->results[0]];
}

}  // namespace netloop

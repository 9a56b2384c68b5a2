// SPDX-License-Identifier: Apache-2.0
#include "solve/newton.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {

NewtonResult solve_newton(const NewtonProblem& p, SparseLU& lu, std::vector<double>& x)
{
    std::size_t n = x.size();
    NewtonResult result;
    std::vector<double> r(n), trial(n), step(n), next_step(n), values;
    auto size_of = [&](const std::vector<double>& d, const std::vector<double>& at) {
        double worst = 0;
        for (std::size_t i = 0; i < n; ++i) worst = std::max(worst, std::abs(d[i]) / std::max(p.scale[i], std::abs(at[i])));
        return worst;
    };
    auto finish = [&](NewtonResult::Outcome outcome) {
        result.outcome = outcome;
        result.residual = r;
        return result;
    };
    if (!p.residual(x, r)) return finish(NewtonResult::Outcome::not_finite);
    double previous = HUGE_VAL;
    for (result.iterations = 0; result.iterations < p.max_iterations; ++result.iterations) {
        p.jacobian(x, values);
        if (!lu.factor(values) || (p.strict && lu.doubtful())) return finish(NewtonResult::Outcome::singular);
        for (std::size_t i = 0; i < n; ++i) step[i] = -r[i];
        lu.solve(step);
        double length = size_of(step, x);
        result.step = length;
        if (!std::isfinite(length)) return finish(NewtonResult::Outcome::singular);
        bool at_rounding = length < 1e-7 && length > 0.3 * previous;
        previous = length;
        if (length <= p.tolerance || at_rounding) {
            std::vector<double> before = x;
            for (std::size_t i = 0; i < n; ++i) x[i] += step[i];
            if (!p.residual(x, r)) {
                x = before;
                p.residual(x, r);
            }
            return finish(NewtonResult::Outcome::converged);
        }
        double lambda = 1;
        for (std::size_t i = 0; i < p.longest.size(); ++i) lambda = std::min(lambda, p.longest[i] / std::max(p.longest[i], std::abs(step[i])));
        bool accepted = false;
        while (lambda > 1e-8) {
            for (std::size_t i = 0; i < n; ++i) trial[i] = x[i] + lambda * step[i];
            if (!p.low.empty())
                for (std::size_t i = 0; i < n; ++i) trial[i] = std::clamp(trial[i], std::min(p.low[i], x[i]), std::max(p.high[i], x[i]));
            if (p.residual(trial, r)) {
                for (std::size_t i = 0; i < n; ++i) next_step[i] = -r[i];
                lu.solve(next_step);
                if (size_of(next_step, x) <= (1 - lambda / 4) * length || size_of(next_step, x) <= p.tolerance) {
                    accepted = true;
                    break;
                }
            }
            lambda *= 0.5;
        }
        if (!accepted) {
            p.residual(x, r);
            return finish(NewtonResult::Outcome::stalled);
        }
        x = trial;
    }
    return finish(NewtonResult::Outcome::stalled);
}

}  // namespace netloop

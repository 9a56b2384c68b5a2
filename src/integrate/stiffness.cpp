// SPDX-License-Identifier: Apache-2.0
#include "integrate/stiffness.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "linear/sparse_lu.hpp"

namespace netloop {

double RateEstimate::operator()(Evaluation& e, const std::vector<double>& weight)
{
    const SparsePattern& p = e.model().pattern;
    std::size_t n = p.n_columns;
    e.jacobian(0, values_);
    x_.resize(n);
    y_.resize(n);
    for (std::size_t i = 0; i < n; ++i) x_[i] = 1 / weight[i];
    // two products after a few that turn the vector: their mean growth, so that back and forth between two kinds of states counts right
    constexpr int kTurns = 6;
    double growth = 0, sum = 0;
    for (int round = 0; round < kTurns; ++round) {
        std::fill(y_.begin(), y_.end(), 0.0);
        for (std::uint32_t c = 0; c < n; ++c)
            for (auto k = static_cast<std::size_t>(p.starts[c]); k < static_cast<std::size_t>(p.starts[c + 1]); ++k)
                y_[static_cast<std::size_t>(p.rows[k])] += std::abs(values_[k]) * x_[c];
        double size = 0;
        for (std::size_t i = 0; i < n; ++i) size += y_[i] * weight[i] * y_[i] * weight[i];
        size = std::sqrt(size);
        if (!(size > 0) || !std::isfinite(size)) return 0;
        if (round == 0) {
            double first = std::sqrt(static_cast<double>(n));
            sum = size / first;
        } else {
            sum = size;
        }
        if (round >= kTurns - 2) growth += std::log(sum);
        for (std::size_t i = 0; i < n; ++i) x_[i] = y_[i] / size;
    }
    return std::exp(growth / 2);
}

double adams_stability(int order)
{
    static constexpr std::array<double, 13> kLimit{1.9, 1.9, 1.7, 1.4, 1.2, 0.95, 0.75, 0.55, 0.4, 0.3, 0.2, 0.15, 0.1};
    return kLimit[static_cast<std::size_t>(std::clamp(order, 0, 12))];
}

double matrix_step_cost(const CompiledModel& m)
{
    // passes over the vectors, evaluations and matrices of a step as they mostly are; measured on the chains of bench/by_hand
    constexpr double kAdamsVectors = 80, kVectors = 45, kFixed = 400, kEvaluations = 1.2, kStepsOfMatrix = 15, kSolve = 4, kEntry = 10;
    auto n = static_cast<double>(m.n()), residual = static_cast<double>(m.residual.n_operations()), entries = static_cast<double>(m.pattern.n_entries());
    EliminationSize elimination = foresee_elimination(m.pattern);
    double adams = 2 * residual + kAdamsVectors * n + kFixed;
    double matrix = static_cast<double>(m.jacobian.n_operations()) + kEntry * entries + 2 * elimination.operations;
    double bdf = kEvaluations * (residual + kSolve * elimination.entries) + kVectors * n + matrix / kStepsOfMatrix + kFixed;
    return bdf / adams;
}

}  // namespace netloop

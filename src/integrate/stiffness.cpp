// SPDX-License-Identifier: Apache-2.0
#include "integrate/stiffness.hpp"

#include <algorithm>
#include <array>
#include <cmath>

namespace netloop {

bool is_explicit(const CompiledModel& m, const Evaluation& e)
{
    if (!m.form.choices.empty()) return false;
    std::vector<char> seen(m.n(), 0);
    for (std::uint32_t c = 0; c < m.n(); ++c) {
        if (m.form.z[c].kind != ZEntry::Kind::state) return false;
        for (auto k = static_cast<std::size_t>(m.pattern.starts[c]); k < static_cast<std::size_t>(m.pattern.starts[c + 1]); ++k) {
            if (m.by_rate[k] == kNoNode) continue;
            bool one = m.by_rate[k] >= m.layout.constants && e.value_at(m.by_rate[k]) == 1 &&
                       std::any_of(m.literals.begin(), m.literals.end(), [&](const auto& l) { return l.first == m.by_rate[k]; });
            if (m.pattern.rows[k] != static_cast<std::int64_t>(c) || !one) return false;
            seen[c] = 1;
        }
    }
    return m.n() > 0 && std::all_of(seen.begin(), seen.end(), [](char s) { return s != 0; });
}

bool explicit_rates(Evaluation& e, double t, double* f)
{
    std::size_t n = e.model().n();
    e.set_time(t);
    std::fill_n(e.rates(), n, 0.0);
    bool finite = e.residual(f);
    for (std::size_t i = 0; i < n; ++i) f[i] = -f[i];
    return finite;
}

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

}  // namespace netloop

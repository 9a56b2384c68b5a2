// SPDX-License-Identifier: Apache-2.0
#pragma once

#include "solve/start.hpp"

namespace netloop {

/// Between the ends of a step: the cubic through values and rates of the states; a straight line for what has no rates that are known.
template <typename IsState>
void hermite(const State& before, const State& now, double t, IsState is_state, std::vector<double>& z, std::vector<double>& rates)
{
    double h = now.time - before.time;
    if (!(h > 0)) {
        z = now.z;
        rates = now.rates;
        return;
    }
    double s = (t - before.time) / h;
    for (std::size_t i = 0; i < z.size(); ++i) {
        double d = (now.z[i] - before.z[i]) / h, m0 = before.rates[i], m1 = now.rates[i];
        if (!is_state(i)) m0 = m1 = d;
        double c2 = 3 * d - 2 * m0 - m1, c3 = m0 + m1 - 2 * d;
        z[i] = before.z[i] + s * h * (m0 + s * (c2 + s * c3));
        rates[i] = m0 + s * (2 * c2 + 3 * s * c3);
    }
}

}  // namespace netloop

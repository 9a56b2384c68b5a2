// SPDX-License-Identifier: Apache-2.0
#pragma once

#include "solve/start.hpp"

namespace netloop {

/// Between the ends of a step: the cubic through values and rates of the states; a straight line for what has no rates that are known. Member by member.
class Hermite {
public:
    Hermite(const State& before, const State& now, double t) : before_(before), now_(now), h_(now.time - before.time), s_(h_ > 0 ? (t - before.time) / h_ : 1)
    {
    }
    void operator()(std::size_t i, bool is_state, double& z, double& rate) const
    {
        if (!(h_ > 0)) {
            z = now_.z[i];
            rate = now_.rates[i];
            return;
        }
        double d = (now_.z[i] - before_.z[i]) / h_, m0 = before_.rates[i], m1 = now_.rates[i];
        if (!is_state) m0 = m1 = d;
        double c2 = 3 * d - 2 * m0 - m1, c3 = m0 + m1 - 2 * d;
        z = before_.z[i] + s_ * h_ * (m0 + s_ * (c2 + s_ * c3));
        rate = m0 + s_ * (2 * c2 + 3 * s_ * c3);
    }

private:
    const State &before_, &now_;
    double h_, s_;
};

}  // namespace netloop

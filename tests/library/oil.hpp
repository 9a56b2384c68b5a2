// SPDX-License-Identifier: Apache-2.0
// The default mineral oil and the law of orifices, as their texts state them: what the tests of the hydraulics library compare with.
#pragma once

#include <cmath>

namespace test {

/// At 40 degC.
inline double oil_density(double p)
{
    return 870 * (1 - 7e-4 * 25) * std::exp((p - 1e5) / 1.4e9);
}

inline double signed_sqrt(double x, double w)
{
    return x / std::pow(x * x + w * w, 0.25);
}

}  // namespace test

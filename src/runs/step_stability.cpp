// SPDX-License-Identifier: Apache-2.0
#include "runs/step_stability.hpp"

#include <cmath>

namespace netloop {

bool is_explicit(FixedMethod method)
{
    return method == FixedMethod::euler || method == FixedMethod::rk4;
}

double longest_damped_step(FixedMethod method, std::complex<double> eigenvalue)
{
    constexpr double kRounding = 1e-6;
    const double size = std::abs(eigenvalue);
    if (!is_explicit(method) || size == 0) return HUGE_VAL;
    if (method == FixedMethod::rk4 && std::abs(eigenvalue.real()) <= kRounding * size) return std::sqrt(8.0) / size;
    if (!(eigenvalue.real() < 0)) return HUGE_VAL;
    auto grows = [&](double h) {
        std::complex<double> q = h * eigenvalue;
        std::complex<double> r = method == FixedMethod::euler ? 1.0 + q : 1.0 + q * (1.0 + q / 2.0 * (1.0 + q / 3.0 * (1.0 + q / 4.0)));
        return std::abs(r) > 1;
    };
    // every region of stability ends before |h * eigenvalue| = 4; the first h that grows is looked for, then closed in
    constexpr int kParts = 400, kHalvings = 40;
    const double most = 4 / size;
    double low = 0, high = most;
    for (int k = 1; k <= kParts; ++k) {
        double h = most * k / kParts;
        if (grows(h)) {
            high = h;
            break;
        }
        low = h;
    }
    for (int k = 0; k < kHalvings; ++k) (grows((low + high) / 2) ? high : low) = (low + high) / 2;
    return low;
}

}  // namespace netloop

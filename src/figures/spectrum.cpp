// SPDX-License-Identifier: Apache-2.0
#include "figures/spectrum.hpp"

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <unsupported/Eigen/FFT>

namespace netloop {
namespace {

constexpr std::size_t kPadding = 4;  // zeros behind the signal: lines so close that none misses a peak by more than one in a hundred

}  // namespace

Stroke amplitude_spectrum(const std::vector<double>& x, const std::vector<double>& y)
{
    if (x.size() < 8 || !(x.back() > x.front())) throw RecordingError("a spectrum needs at least eight rows");
    std::vector<double> steps;
    for (std::size_t i = 1; i < x.size(); ++i)
        if (x[i] > x[i - 1]) steps.push_back(x[i] - x[i - 1]);
    std::nth_element(steps.begin(), steps.begin() + static_cast<long>(steps.size() / 2), steps.end());
    double wanted = std::max(steps[steps.size() / 2], (x.back() - x.front()) / static_cast<double>(1u << 22));
    auto n = static_cast<std::size_t>(std::lround((x.back() - x.front()) / wanted)) + 1;
    double step = (x.back() - x.front()) / static_cast<double>(n - 1);
    std::vector<double> even(kPadding * n, 0.0);
    double mean = 0;
    for (std::size_t i = 0, k = 0; i < n; ++i) {
        double t = x.front() + static_cast<double>(i) * step;
        while (k + 2 < x.size() && x[k + 1] < t) ++k;
        double width = x[k + 1] - x[k], share = width > 0 ? std::clamp((t - x[k]) / width, 0.0, 1.0) : 1;
        if (std::abs(x[k] - t) < 1e-6 * step) share = 0;  // a row as it is: a straight line would take from what is high
        if (std::abs(x[k + 1] - t) < 1e-6 * step) share = 1;
        even[i] = y[k] + share * (y[k + 1] - y[k]);
        mean += even[i] / static_cast<double>(n);
    }
    for (std::size_t i = 0; i < n; ++i)
        even[i] = (even[i] - mean) * 0.5 * (1 - std::cos(2 * std::numbers::pi * static_cast<double>(i) / static_cast<double>(n)));
    std::vector<std::complex<double>> lines;
    Eigen::FFT<double> transform;
    transform.fwd(lines, even);
    Stroke s;
    for (std::size_t k = 1; k < even.size() / 2; ++k) {
        s.x.push_back(static_cast<double>(k) / (static_cast<double>(even.size()) * step));
        s.y.push_back(std::abs(lines[k]) * 2 / static_cast<double>(n) / 0.5);  // one side of two; the window's mean is 0.5
    }
    return s;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <numbers>

#include "problem.hpp"

namespace published {

std::vector<std::string> numbered(const std::string& name, std::size_t n, bool array)
{
    std::vector<std::string> names;
    for (std::size_t i = 1; i <= n; ++i) names.push_back(array ? fmt::format("{}[{}]", name, i) : fmt::format("{}{}", name, i));
    return names;
}

namespace {
std::string size_text(const Problem& p, double size, const std::string& paths)
{
    std::string text = fmt::format("{:g}", size);
    return p.units ? text + " " + p.units(paths) : text;
}

}  // namespace

std::string scenario_of(const Problem& p)
{
    std::size_t begin = p.text.find("system ") + 7;
    std::string text = fmt::format("scenario measured of {} {{\n", p.text.substr(begin, p.text.find(' ', begin) - begin));
    std::map<double, std::string> by_size;
    for (std::size_t i = 0; i < std::min(p.n, p.n_sized); ++i) by_size[p.usual[i]] += (by_size[p.usual[i]].empty() ? "" : ", ") + p.paths[i];
    for (const auto& [size, paths] : by_size) text += fmt::format("    tolerance usual {} for {}\n", size_text(p, size, paths), paths);
    return text + "}\n";
}

// Prigogine and Lefever (1968) with diffusion along a line, as in Hairer and Wanner (1996), ch. IV.10: 500 points, two states each by turns.
Problem brusselator()
{
    constexpr std::size_t points = 500;
    constexpr double diffusion = 0.02 * (points + 1.0) * (points + 1.0);
    Problem p;
    p.name = "Brusselator";
    p.source = "Hairer and Wanner (1996)";
    p.n = 2 * points;
    p.stop = 10;
    auto rates = [](const auto* y, auto* f) {
        for (std::size_t i = 0; i < points; ++i) {
            const auto* at = y + 2 * i;
            bool first = i == 0, last = i + 1 == points;
            auto u = at[0], v = at[1], react = u * u * v;
            f[2 * i] = 1 + react - 4 * u + diffusion * ((first ? 1 : at[-2]) - 2 * u + (last ? 1 : at[2]));
            f[2 * i + 1] = 3 * u - react + diffusion * ((first ? 3 : at[-1]) - 2 * v + (last ? 3 : at[3]));
        }
    };
    p.rates = [rates](double, const double* y, double* f) { rates(y, f); };
    p.fine_rates = [rates](long double, const long double* y, long double* f) { rates(y, f); };
    p.band = 2;
    p.jacobian = [](double, const double* y, double* j) {
        std::fill(j, j + 5 * 2 * points, 0.0);
        for (std::size_t i = 0; i < points; ++i) {
            double u = y[2 * i], v = y[2 * i + 1];
            double *by_u = j + 5 * (2 * i), *by_v = by_u + 5;  // rows j - 2 .. j + 2
            by_u[2] = 2 * u * v - 4 - 2 * diffusion;
            by_u[3] = 3 - 2 * u * v;
            by_v[1] = u * u;
            by_v[2] = -u * u - 2 * diffusion;
            if (i > 0) by_u[0] = by_v[0] = diffusion;
            if (i + 1 < points) by_u[4] = by_v[4] = diffusion;
        }
    };
    p.usual.assign(p.n, 1);
    for (std::size_t i = 1; i <= points; ++i) {
        p.start.push_back(1 + std::sin(2 * std::numbers::pi * static_cast<double>(i) / (points + 1)));
        p.start.push_back(3);
        p.paths.push_back(fmt::format("u[{}]", i));
        p.paths.push_back(fmt::format("v[{}]", i));
    }
    p.n_sized = 0;
    p.text = R"(system Brusselator {
    option n = 500
    param alpha = 0.02
    param a = 1
    param b = 3
    let d = alpha * (n + 1)^2
    var u[n] usual 1
    var v[n] usual 1
    u[1]' = a + u[1]^2*v[1] - (b + 1)*u[1] + d*(1 - 2*u[1] + u[2])
    v[1]' = b*u[1] - u[1]^2*v[1] + d*(3 - 2*v[1] + v[2])
    for i in 2 .. n - 1 {
        u[i]' = a + u[i]^2*v[i] - (b + 1)*u[i] + d*(u[i-1] - 2*u[i] + u[i+1])
        v[i]' = b*u[i] - u[i]^2*v[i] + d*(v[i-1] - 2*v[i] + v[i+1])
    }
    u[n]' = a + u[n]^2*v[n] - (b + 1)*u[n] + d*(u[n-1] - 2*u[n] + 1)
    v[n]' = b*u[n] - u[n]^2*v[n] + d*(v[n-1] - 2*v[n] + 3)
    for i in 1 .. n {
        init u[i] = 1 + sin(2*pi * i / (n + 1))
        init v[i] = 3
    }
}
)";
    return p;
}

std::vector<Problem> all_problems()
{
    return {hires(),       pollution(), oregonator(), robertson(), akzo_nobel(), ring_modulator(), transistor_amplifier(),
            van_der_pol(), arenstorf(), pleiades(),   beam(),      brusselator()};
}

}  // namespace published

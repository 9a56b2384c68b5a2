// SPDX-License-Identifier: Apache-2.0
// A history written over another first point is the same polynomial.
#include "integrate/rebase.hpp"

#include <doctest/doctest.h>

#include <array>
#include <cmath>
#include <vector>

namespace {

// Modified divided differences of f over x, x - psi[0], ..., as the integrators hold them.
std::vector<double> differences(double (*f)(double), double x, const std::vector<double>& psi, int k)
{
    std::vector<double> at{x}, d;
    for (int j = 0; j < k; ++j) at.push_back(x - psi[static_cast<std::size_t>(j)]);
    std::vector<double> table;
    for (double t : at) table.push_back(f(t));
    double product = 1;
    for (std::size_t j = 0; j <= static_cast<std::size_t>(k); ++j) {
        d.push_back(table[0] * product);
        if (j < static_cast<std::size_t>(k)) product *= psi[j];
        for (std::size_t i = 0; i + j + 1 < at.size(); ++i) table[i] = (table[i] - table[i + 1]) / (at[i] - at[i + j + 1]);
    }
    return d;
}

double quartic(double t)
{
    return 3 - 2 * t + 0.5 * t * t * t - 0.25 * t * t * t * t;
}

}  // namespace

TEST_SUITE_BEGIN("integrate");

TEST_CASE("a polynomial history is moved to an event without changing")
{
    for (int k : {1, 2, 4}) {
        std::vector<double> psi{0.3, 0.55, 1.0, 1.2};
        auto f = k == 4 ? quartic : k == 2 ? +[](double t) { return 1 + t - 3 * t * t; } : +[](double t) { return 2 - 5 * t; };
        std::vector<double> phi = differences(f, 2.0, psi, k);
        std::array<double*, 5> pointers{};
        for (std::size_t j = 0; j < phi.size(); ++j) pointers[j] = &phi[j];
        const double back = 0.11;
        std::vector<double> moved = psi;
        netloop::rebase(1, pointers.data(), moved.data(), k, back);
        for (int j = 0; j < k; ++j) CHECK(moved[static_cast<std::size_t>(j)] == doctest::Approx(psi[static_cast<std::size_t>(j)] - back));
        std::vector<double> wanted = differences(f, 2.0 - back, moved, k);
        for (std::size_t j = 0; j < wanted.size(); ++j) CHECK(phi[j] == doctest::Approx(wanted[j]).epsilon(1e-12));
    }
}

TEST_CASE("states at equal distances become the history that steps of that length would have left")
{
    constexpr double h = 0.2;
    constexpr int order = 4;
    std::vector<netloop::State> past;
    for (int j = 0; j <= order; ++j) past.push_back({2.0 - j * h, {quartic(2.0 - j * h), 7.0}, {0, 0}});
    std::vector<std::vector<double>> phi(order + 1, std::vector<double>(2));
    std::array<double*, order + 1> pointers{};
    for (std::size_t j = 0; j <= order; ++j) pointers[j] = phi[j].data();
    netloop::backward_differences(
        2, past, order, [](const netloop::State& s) { return s.z.data(); }, pointers.data());
    std::vector<double> wanted = differences(quartic, 2.0, {h, 2 * h, 3 * h, 4 * h}, order);
    for (std::size_t j = 0; j <= order; ++j) {
        CHECK(phi[j][0] == doctest::Approx(wanted[j]).epsilon(1e-10));
        CHECK(phi[j][1] == (j == 0 ? 7.0 : 0.0));  // what stands still has no differences
    }
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Limits of explicit methods, against those that books give.
#include "runs/step_stability.hpp"

#include <doctest/doctest.h>

#include <cmath>

using netloop::FixedMethod;
using netloop::longest_damped_step;

TEST_SUITE_BEGIN("runs");

TEST_CASE("the longest damped step: the ends of the regions of stability on the real axis and beside the imaginary one")
{
    CHECK(longest_damped_step(FixedMethod::euler, -500.0) == doctest::Approx(2.0 / 500).epsilon(1e-9));
    CHECK(longest_damped_step(FixedMethod::rk4, -500.0) == doctest::Approx(2.785293563405282 / 500).epsilon(1e-9));
    // euler: |1 + h l|^2 = 1 at h = -2 Re l / |l|^2, which is 2 zeta / omega
    for (double zeta : {0.9, 0.3, 0.02}) {
        const double omega = 40;
        std::complex<double> l(-zeta * omega, omega * std::sqrt(1 - zeta * zeta));
        CHECK(longest_damped_step(FixedMethod::euler, l) == doctest::Approx(2 * zeta / omega).epsilon(1e-9));
    }
    // rk4: sqrt(8) on the imaginary axis
    for (double rounding : {-1e-12, 0.0, 1e-12})
        CHECK(longest_damped_step(FixedMethod::rk4, {rounding, 5}) == doctest::Approx(std::sqrt(8.0) / 5).epsilon(1e-12));
    CHECK(std::isinf(longest_damped_step(FixedMethod::euler, {0, 5})));
    CHECK(longest_damped_step(FixedMethod::rk4, {-1e-6, 100}) == doctest::Approx(std::sqrt(8.0) / 100).epsilon(1e-4));
}

TEST_CASE("no limit where nothing decays, and none of methods that are not explicit")
{
    for (FixedMethod m : {FixedMethod::euler, FixedMethod::rk4}) {
        CHECK(netloop::is_explicit(m));
        CHECK(std::isinf(longest_damped_step(m, 3.0)));
        CHECK(std::isinf(longest_damped_step(m, 0.0)));
        CHECK(std::isinf(longest_damped_step(m, {1, 5})));
    }
    for (FixedMethod m : {FixedMethod::linear_euler, FixedMethod::implicit_euler, FixedMethod::rosenbrock}) {
        CHECK_FALSE(netloop::is_explicit(m));
        CHECK(std::isinf(longest_damped_step(m, -1e9)));
    }
}

TEST_SUITE_END();

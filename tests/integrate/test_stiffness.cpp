// SPDX-License-Identifier: Apache-2.0
// What the choice of the method rests on.
#include <doctest/doctest.h>

#include <cmath>
#include <numbers>

#include "api/internal.hpp"
#include "integrate/stiffness.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

struct Point {
    explicit Point(const std::string& text) : system(test::compile(text)), evaluation(system.data().model)
    {
        evaluation.settle_parameters();
        const CompiledModel& m = evaluation.model();
        std::vector<double> z(m.n(), 0.5), rates(m.n(), 0.0);
        evaluation.at(0, z.data(), rates.data());
    }
    double largest_rate()
    {
        RateEstimate estimate;
        return estimate(evaluation, std::vector<double>(evaluation.model().n(), 1.0));
    }
    CompiledSystem system;
    Evaluation evaluation;
};

}  // namespace

TEST_SUITE_BEGIN("integrate");

TEST_CASE("a step with a matrix costs little more than one without in a chain, and much more where the matrix fills up")
{
    auto cost = [](const std::string& text) { return matrix_step_cost(*test::compile(text).data().model); };
    double chain = cost("system S { var x[400] init 1 ; x[1]' = -x[1] * 1 s^-1 ; for i in 2 .. 400 { x[i]' = (x[i-1] - x[i]) * 1 s^-1 } }");
    double grid = cost(
        "system S { const m = 20 ; var x[400] init 1\nfor i in 1 .. m { for j in 1 .. m { x[(i-1)*m+j]' = (x[mod((i-1)*m+j, 400) + 1] + x[mod((i-1)*m+j+m-1, "
        "400) + 1]"
        " + x[mod((i-1)*m+j+398, 400) + 1] + x[mod((i-1)*m+j+399-m, 400) + 1] - 4 * x[(i-1)*m+j]) * 1 s^-1 } } }");
    CHECK(chain > 0.3);
    CHECK(chain < 1.2);
    CHECK(grid > 3 * chain);
}

TEST_CASE("explicit is a system whose every equation gives one rate from states and time")
{
    auto is = [](const std::string& text) {
        Point p(text);
        return is_explicit(p.evaluation.model(), p.evaluation);
    };
    CHECK(is("system S { var x init 1 ; x' = -x * 1 s^-1 }"));
    CHECK(is("system S { var x init 1 ; var v init 0 ; x' = v * 1 s^-1 ; v' = -x * 1 s^-1 }"));
    CHECK(is("system S { param c = 2 in 1 .. 3 ; var x init 1 ; c * x' = -x * 1 s^-1 }"));  // divided by what cannot be zero
    // a rate that is read by another equation is put in its place
    CHECK(is("system S { var x init 1 ; var y init 1 ; x' = -x * y * 1 s^-1 ; y' = -2 * x' - y * 1 s^-1 }"));
    CHECK(is("system S { var x init 1 ; var y init 1 ; var z init 1 ; x' = -x * y * 1 s^-1 ; y' = -2 * x' ; z' = y' + x' - z * 1 s^-1 }"));
    CHECK_FALSE(is("system S { var x init 1 ; var w ; x' = -w * 1 s^-1 ; w^3 + w = x }"));
    CHECK_FALSE(is("system S { var x init 1 ; var y init 1 ; x' + x * y' = -x * 1 s^-1 ; y' - 0.1 * sin(x') = 0 }"));
    CHECK_FALSE(is("system S { let y = sin(time / 1 s) }"));  // nothing to integrate
}

TEST_CASE("the rates of an explicit system are its right-hand side, whatever rates stood there before")
{
    Point p("system S { var x init 1 ; var v init 0 ; x' = v * 1 s^-1 ; v' = (time / 1 s - 3 * x) * 1 s^-1 }");
    std::vector<double> z{0.25, 2}, rates{77, -5}, f(2);
    p.evaluation.at(0, z.data(), rates.data());
    CHECK(explicit_rates(p.evaluation, 4, f.data()));
    CHECK(f[0] == doctest::Approx(2));
    CHECK(f[1] == doctest::Approx(4 - 3 * 0.25));
}

TEST_CASE("the largest rate: exact for one state, an oscillator and a chain's limit; never far below the true one")
{
    CHECK(Point("system S { var x init 1 ; x' = -250 * x * 1 s^-1 }").largest_rate() == doctest::Approx(250).epsilon(1e-9));
    // states of very different sizes: the geometric mean of both directions is the frequency
    CHECK(Point("system S { var x init 1 ; var v init 0 ; x' = 1e-3 * v * 1 s^-1 ; v' = -4e5 * x * 1 s^-1 }").largest_rate() ==
          doctest::Approx(20).epsilon(1e-9));
    constexpr int kN = 60;
    double chain = Point("system S { option n = " + std::to_string(kN) +
                         " ; var x[n] init 1 ; x[1]' = (x[2] - 2*x[1]) * 10 s^-1 ; for i in 2 .. n - 1 { x[i]' = (x[i-1] - 2*x[i] + x[i+1]) * 10 s^-1 }\n"
                         "x[n]' = (x[n-1] - 2*x[n]) * 10 s^-1 }")
                       .largest_rate();
    double exact = 40 * std::pow(std::cos(std::numbers::pi / (2 * (kN + 1))), 2);  // of the second difference
    CHECK(chain > 0.95 * exact);
    CHECK(chain < 1.05 * exact);
}

TEST_CASE("stability shrinks with the order, and every order has some")
{
    for (int k = 1; k <= 12; ++k) {
        CHECK(adams_stability(k) > 0);
        CHECK(adams_stability(k) <= adams_stability(k - 1));
    }
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// The fused loops against the formulas written out one vector at a time.
#include <doctest/doctest.h>

#include <array>
#include <cmath>
#include <limits>
#include <map>
#include <random>

#include "api/internal.hpp"
#include "solve/vector_loops.hpp"
#include "support/support.hpp"

using namespace netloop;
using Vector = std::vector<double>;

namespace {

// Lengths around the block and the width of a vector register.
const std::array<std::size_t, 8> kLengths{1, 3, 4, 7, 511, 512, 513, 1500};

class Numbers {
public:
    Vector vector(std::size_t n)
    {
        Vector v(n);
        for (double& x : v) x = number_(random_);
        return v;
    }

private:
    std::mt19937 random_{11};
    std::uniform_real_distribution<double> number_{-2, 2};
};

void check_equal(const Vector& got, const Vector& wanted)
{
    REQUIRE(got.size() == wanted.size());
    for (std::size_t i = 0; i < got.size(); ++i) CHECK(got[i] == doctest::Approx(wanted[i]).epsilon(1e-14));
}

template <std::size_t N>
std::array<double*, N> data_of(std::array<Vector, N>& phi)
{
    std::array<double*, N> data;
    for (std::size_t j = 0; j < N; ++j) data[j] = phi[j].data();
    return data;
}

}  // namespace

TEST_SUITE_BEGIN("solve");

TEST_CASE("prediction of backward differences: values, slopes, differences scaled, corrections cleared")
{
    Numbers numbers;
    for (std::size_t n : kLengths) {
        std::array<Vector, 4> phi{numbers.vector(n), numbers.vector(n), numbers.vector(n), numbers.vector(n)}, before = phi;
        std::array<double*, 4> data = data_of(phi);
        double scale[] = {1, 1, 0.5, 0.25}, slope[] = {0, 10, 15, 20};
        Vector y(n, 7.0), yp(n, 7.0), e(n, 7.0);
        predict(n, {data.data(), 3}, scale, slope, y.data(), yp.data(), e.data());
        for (std::size_t i = 0; i < n; ++i) {
            double two = before[2][i] * 0.5, three = before[3][i] * 0.25;
            CHECK(y[i] == doctest::Approx(before[0][i] + before[1][i] + two + three).epsilon(1e-14));
            CHECK(yp[i] == doctest::Approx(10 * before[1][i] + 15 * two + 20 * three).epsilon(1e-14));
            CHECK(e[i] == 0);
            CHECK(phi[3][i] == three);
        }
    }
}

TEST_CASE("correction: what is subtracted from value, slope and error, and its size; what is no number is not hidden by the largest")
{
    Numbers numbers;
    for (std::size_t n : kLengths) {
        Vector delta = numbers.vector(n), w = numbers.vector(n), y = numbers.vector(n), yp = y, e = y, y0 = y;
        double size = correct(n, 0.5, 4, delta.data(), w.data(), y.data(), yp.data(), e.data()), wanted = 0;
        for (std::size_t i = 0; i < n; ++i) {
            double d = 0.5 * delta[i];
            wanted = std::max(wanted, std::abs(d * w[i]));
            CHECK(y[i] == y0[i] - d);
            CHECK(e[i] == y0[i] - d);
            CHECK(yp[i] == doctest::Approx(y0[i] - 4 * d).epsilon(1e-15));
        }
        CHECK(size == wanted);
        for (double bad : {std::numeric_limits<double>::quiet_NaN(), HUGE_VAL, -HUGE_VAL}) {
            Vector broken = delta;
            broken[n / 2] = bad;
            CHECK_FALSE(std::isfinite(correct(n, 0.5, 4, broken.data(), w.data(), y.data(), yp.data(), e.data())));
        }
    }
}

TEST_CASE("after a step: differences, usual sizes and weights")
{
    Numbers numbers;
    for (std::size_t n : kLengths) {
        std::array<Vector, 4> phi{numbers.vector(n), numbers.vector(n), numbers.vector(n), numbers.vector(n)}, wanted = phi;
        std::array<double*, 4> data = data_of(phi);
        Vector e = numbers.vector(n), usual(n, 1.0), w(n);
        advance(n, {data.data(), 2}, true, e.data(), 1e-3, usual.data(), w.data());
        for (std::size_t i = 0; i < n; ++i) {
            wanted[3][i] = e[i];
            wanted[2][i] += e[i];
            wanted[1][i] += wanted[2][i];
            wanted[0][i] += wanted[1][i];
            CHECK(usual[i] == doctest::Approx(std::max(1.0, std::abs(wanted[0][i]))).epsilon(1e-14));
            CHECK(w[i] == doctest::Approx(1 / (1e-3 * (std::abs(wanted[0][i]) + usual[i]))).epsilon(1e-13));
        }
        for (std::size_t j = 0; j < 4; ++j) check_equal(phi[j], wanted[j]);
    }
}

TEST_CASE("Adams: prediction raises the differences from above, the step adds the newest to all")
{
    Numbers numbers;
    for (std::size_t n : kLengths) {
        constexpr int kOrder = 3;
        std::array<Vector, 6> phi{Vector{}, numbers.vector(n), numbers.vector(n), numbers.vector(n), numbers.vector(n), numbers.vector(n)}, before = phi;
        std::array<double*, 6> data = data_of(phi);
        double scale[] = {1, 1, 1, 0.5}, g[] = {0, 1, 0.5, 0.4};
        Vector y = numbers.vector(n), p(n);
        adams_predict(n, data.data(), kOrder, 2, scale, g, 0.1, y.data(), p.data());
        std::array<Vector, 6> raised = before;
        for (std::size_t i = 0; i < n; ++i) {
            raised[3][i] *= 0.5;
            raised[5][i] = before[4][i];
            raised[4][i] = 0;
            CHECK(p[i] == doctest::Approx(y[i] + 0.1 * (raised[1][i] + 0.5 * raised[2][i] + 0.4 * raised[3][i])).epsilon(1e-13));
            for (std::size_t j = 3; j >= 1; --j) raised[j][i] += raised[j + 1][i];
        }
        for (std::size_t j = 1; j < 6; ++j) check_equal(phi[j], raised[j]);
        Vector f = numbers.vector(n), usual(n, 3.0), w(n);
        adams_advance(n, data.data(), kOrder, f.data(), y.data(), 1e-4, usual.data(), w.data());
        for (std::size_t i = 0; i < n; ++i) {
            double newest = f[i] - raised[1][i];
            CHECK(phi[4][i] == doctest::Approx(newest).epsilon(1e-14));
            CHECK(phi[5][i] == doctest::Approx(newest - raised[5][i]).epsilon(1e-13));
            for (std::size_t j = 1; j <= 3; ++j) CHECK(phi[j][i] == doctest::Approx(raised[j][i] + newest).epsilon(1e-13));
            CHECK(w[i] == doctest::Approx(1 / (1e-4 * (std::abs(y[i]) + 3))).epsilon(1e-13));
        }
    }
}

TEST_CASE("gathering tells what is not finite")
{
    Vector memory{1, 2, 3, std::numeric_limits<double>::quiet_NaN(), HUGE_VAL};
    std::vector<std::uint32_t> places{2, 0, 1, 2, 2, 1, 0};
    Vector to(places.size());
    CHECK(gather(places.size(), memory.data(), places.data(), to.data()));
    check_equal(to, {3, 1, 2, 3, 3, 2, 1});
    places[5] = 3;
    CHECK_FALSE(gather(places.size(), memory.data(), places.data(), to.data()));
    places[5] = 4;
    CHECK_FALSE(gather(places.size(), memory.data(), places.data(), to.data()));
}

TEST_CASE("places in stretches are copied, scattered ones picked, with a sign; what is not finite is told")
{
    Vector memory(100);
    for (std::size_t i = 0; i < memory.size(); ++i) memory[i] = 1 + static_cast<double>(i);
    std::vector<std::uint32_t> rows, scattered;
    for (std::uint32_t i = 0; i < 40; ++i) rows.push_back(i < 25 ? 50 + i : i - 25), scattered.push_back((37 * i) % 100);
    for (const auto& places : {rows, scattered}) {
        Gathering gathering(places);
        Vector to(places.size());
        for (double sign : {1.0, -1.0}) {
            CHECK(gathering(sign, memory.data(), to.data()));
            for (std::size_t i = 0; i < places.size(); ++i) CHECK(to[i] == sign * memory[places[i]]);
        }
        for (double bad : {std::numeric_limits<double>::quiet_NaN(), HUGE_VAL}) {
            Vector broken = memory;
            broken[places[33]] = bad;
            CHECK_FALSE(gathering(1, broken.data(), to.data()));
        }
    }
    CHECK(Gathering()(1, memory.data(), nullptr));  // nothing is finite
}

TEST_CASE("the error norm: root of the mean square within a part or a cell, the largest over them; what is no state does not count")
{
    // a part of two states, one of three, cells of an array with two states each, and an unknown that is none
    CompiledSystem system = test::compile(
        "component Two { var a init 1 ; var b init 1 ; a' = -b * 2 s^-1 ; b' = a * 3 s^-1 }\n"
        "component Three { var a init 1 ; var b init 1 ; var c init 1 ; a' = -b * 2 s^-1 ; b' = a * 3 s^-1 ; c' = -c * 1 s^-1 }\n"
        "system S { part two : Two ; part three : Three ; var u[600] init 1 ; var v[600] init 1 ; var w ; w^3 + w = two.a\n"
        "for i in 1 .. 600 { u[i]' = -v[i] * 2 s^-1 ; v[i]' = u[i] * 3 s^-1 } }");
    const CompiledModel& m = *system.data().model;
    PartNorm norm(m);
    std::map<std::string, std::size_t> at;
    for (std::size_t i = 0; i < m.n(); ++i) at[m.form.z_name(static_cast<std::uint32_t>(i))] = i;
    Vector w(m.n(), 2.0), a(m.n(), 0.0), zero(m.n(), 0.0);
    CHECK(norm(w.data(), a.data()) == 0);
    a[at.at("two.a")] = 3;
    CHECK(norm(w.data(), a.data()) == doctest::Approx(6 / std::sqrt(2.0)).epsilon(1e-14));
    a[at.at("three.c")] = 4;
    CHECK(norm(w.data(), a.data()) == doctest::Approx(8 / std::sqrt(3.0)).epsilon(1e-14));
    a[at.at("u[577]")] = 3;
    a[at.at("v[577]")] = 4;
    CHECK(norm(w.data(), a.data()) == doctest::Approx(10 / std::sqrt(2.0)).epsilon(1e-14));
    a[at.at("w")] = 1e9;
    CHECK(norm(w.data(), a.data()) == doctest::Approx(10 / std::sqrt(2.0)).epsilon(1e-14));
    CHECK(norm(w.data(), zero.data(), a.data()) == norm(w.data(), a.data()));
    CHECK(norm(w.data(), a.data(), a.data(), a.data()) == doctest::Approx(3 * norm(w.data(), a.data())).epsilon(1e-14));
    Vector b(m.n(), 0.25), c(m.n(), -0.5);
    std::array<double, 3> sums = norm.of_sums(w.data(), a.data(), b.data(), c.data());
    CHECK(sums[0] == norm(w.data(), a.data()));
    CHECK(sums[1] == norm(w.data(), a.data(), b.data()));
    CHECK(sums[2] == norm(w.data(), a.data(), b.data(), c.data()));
    a[at.at("u[1]")] = std::numeric_limits<double>::quiet_NaN();
    CHECK_FALSE(norm(w.data(), a.data()) <= 1);
}

TEST_SUITE_END();

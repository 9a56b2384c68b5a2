// SPDX-License-Identifier: Apache-2.0
// The first-hour models of examples/first/, each against a formula or an answer integrated here by other means.
#include <doctest/doctest.h>

#include <array>
#include <cmath>
#include <functional>

#include "support/support.hpp"

using namespace netloop;

namespace {

Recording run_file(const std::string& name, double tolerance = 0)
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/first/" + name + ".loop"));
    Run run(compile(library));
    RunOptions options;
    if (tolerance > 0) options.tolerance = tolerance;
    return run.simulate(options);
}

// The classical Runge-Kutta method with many small steps: an answer that shares nothing with the program under test.
template <std::size_t N>
std::array<double, N> integrate(std::array<double, N> y, double from, double to, int steps,
                                const std::function<std::array<double, N>(double, const std::array<double, N>&)>& f)
{
    double h = (to - from) / steps;
    for (int k = 0; k < steps; ++k) {
        double t = from + k * h;
        auto shifted = [&](const std::array<double, N>& d, double by) {
            std::array<double, N> r = y;
            for (std::size_t i = 0; i < N; ++i) r[i] += by * d[i];
            return r;
        };
        auto k1 = f(t, y), k2 = f(t + h / 2, shifted(k1, h / 2)), k3 = f(t + h / 2, shifted(k2, h / 2)), k4 = f(t + h, shifted(k3, h));
        for (std::size_t i = 0; i < N; ++i) y[i] += h / 6 * (k1[i] + 2 * k2[i] + 2 * k3[i] + k4[i]);
    }
    return y;
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("the pit: level by an ordinary equation in the level itself")
{
    // V = pi/3 h (3 r^2 + 3 r s h + s^2 h^2) has dV/dh = pi (r + s h)^2
    Recording r = run_file("pit", 1e-9);
    auto rate = [](double, const std::array<double, 1>& y) -> std::array<double, 1> {
        double h = std::max(y[0], 0.0), radius = 1 + 0.5 * h;
        return {-0.6 * 40e-4 * std::sqrt(2 * 9.80665 * h) / (M_PI * radius * radius)};
    };
    std::array<double, 1> h{2.0};
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        h = integrate<1>(h, r.time().values[i - 1], r.time().values[i], 200, rate);
        CHECK(r["level"].values[i] == doctest::Approx(h[0]).epsilon(1e-6).scale(1));
    }
    CHECK(r["level"].final() > 0);
    CHECK(r["level"].final() < 1.5);
    CHECK(r["volume"].first() == doctest::Approx(M_PI / 3 * 2 * (3 + 3 + 1)).epsilon(1e-9));
}

TEST_CASE("the heated mass, without and with loss")
{
    Recording r = run_file("heated_mass", 1e-9);
    double C = 2000, P = 500, w = 2 * M_PI / 120, g = 8;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        double insulated = 293.15 + P / C * (t + (1 - std::cos(w * t)) / w);
        // y' = P/C (1 + sin wt) - a y with a = g/C
        double a = g / C, b = P / C, d = a * a + w * w;
        double losing = 293.15 + b / a * (1 - std::exp(-a * t)) + b / d * (a * std::sin(w * t) - w * std::cos(w * t) + w * std::exp(-a * t));
        CHECK(r["insulated.T"].values[i] == doctest::Approx(insulated).epsilon(1e-7));
        CHECK(r["losing.T"].values[i] == doctest::Approx(losing).epsilon(1e-7));
    }
    CHECK(r["insulated.T"].unit == "degC");
}

TEST_CASE("the oscillator written with two primes")
{
    Recording r = run_file("oscillator");
    double w0 = M_PI, z = 0.1, a = z * w0, w = w0 * std::sqrt(1 - z * z), x0 = 10 * M_PI / 180;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        CHECK(r["swing"].values[i] == doctest::Approx(x0 * std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t))).epsilon(1e-5).scale(x0));
    }
}

TEST_CASE("a user function called with a constant and with time")
{
    Recording r = run_file("user_function", 1e-9);
    double k = 1.3 * 0.5 * 1.25 * 60;
    CHECK(r["steady"].final() == doctest::Approx(k * 144));
    CHECK(r["rising"].final() == doctest::Approx(k * 100));
    CHECK(r["rising"].first() == doctest::Approx(-k * 25));
    // integral of k (t - 10)^2 / 4 with the sign of t - 10
    CHECK(r["impulse"].final() == doctest::Approx(k / 4 * (-1000.0 / 3 + 8000.0 / 3)).epsilon(1e-7));
}

TEST_CASE("mass, spring and damper: equations and parts give the same curve, and the closed form")
{
    Recording r = run_file("mass_spring_damper");
    double a = 800 / 1000.0, w = std::sqrt(2e4 / 500 - a * a);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i], x = 0.2 * std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t));
        CHECK(r["x"].values[i] == doctest::Approx(x).epsilon(1e-6).scale(0.2));
        CHECK(std::abs(r["boat.x"].values[i] - r["x"].values[i]) < 1e-7);
    }
}

TEST_CASE("the R-L-C step")
{
    Recording r = run_file("rlc_step");
    double R = 10, L = 10e-3, C = 100e-6, U = 24, a = R / (2 * L), w = std::sqrt(1 / (L * C) - a * a);
    int after = 0;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i] - 1e-3;
        double u = t <= 0 ? 0 : U * (1 - std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t)));
        double current = t <= 0 ? 0 : U / (w * L) * std::exp(-a * t) * std::sin(w * t);
        CHECK(r["c.u"].values[i] == doctest::Approx(u).epsilon(1e-6).scale(U));
        CHECK(r["l.i"].values[i] == doctest::Approx(current).epsilon(1e-6).scale(1));
        after += t > 0 ? 1 : 0;
    }
    CHECK(after > 300);
}

TEST_CASE("a motor with winding temperature driving a load through a gear")
{
    Recording r = run_file("motor_winding");
    // states: current, arm speed, winding temperature; the rotor turns ten times as fast as the arm
    auto rate = [](double, const std::array<double, 3>& y) -> std::array<double, 3> {
        double R = 1 + 0.0039 * (y[2] - 20), w = 10 * y[1];
        double J = 0.05 + 100 * 1e-4;
        return {(24 - R * y[0] - 0.05 * w) / 2e-3, (10 * 0.05 * y[0] - 0.08 * y[1]) / J, (R * y[0] * y[0] - 0.8 * (y[2] - 20)) / 100};
    };
    std::array<double, 3> y{0, 0, 20};
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        y = integrate<3>(y, r.time().values[i - 1], r.time().values[i], 1500, rate);
        if (i % 20 != 1) continue;
        CHECK(r["motor.i"].values[i] == doctest::Approx(y[0]).epsilon(1e-5));
        CHECK(r["arm.speed"].values[i] == doctest::Approx(y[1]).epsilon(1e-5));
        CHECK(r["winding.T"].values[i] - 273.15 == doctest::Approx(y[2]).epsilon(1e-5));
    }
}

TEST_CASE("the bridge balances its energy: what the source gives is stored, lifted, or lost as heat")
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    Run run(compile(library));
    RunOptions options;
    options.tolerance = 1e-8;
    options.output_every = 0.002;
    options.stop = 30;
    Recording r = run.simulate(options);
    // from 5 s (pressures up, speeds steady) to 30 s (leaf at rest again): trapezoids over the recorded powers
    double given = 0, lost = 0, air_drag = 0;
    std::size_t from = 0, to = r.n_rows() - 1;
    while (r.time().values[from] < 5) ++from;
    for (std::size_t i = from; i < to; ++i) {
        double h = r.time().values[i + 1] - r.time().values[i];
        auto mean = [&](const std::string& name) { return 0.5 * (r[name].values[i] + r[name].values[i + 1]); };
        given += h * mean("supply.minus.i") * 440;
        lost += h * (mean("oil_loss") + mean("motor.loss"));
        air_drag += h * 150e3 * mean("leaf.speed") * mean("leaf.speed");
    }
    double angle0 = r["leaf.angle"].values[from], angle1 = r["leaf.angle"].values[to];
    double lifted = 9.80665 * (20e3 * 4 - 30e3 * 2.4) * (std::sin(angle1) - std::sin(angle0));
    // what the oil columns and rotating parts store differs little between the two moments
    CHECK(given == doctest::Approx(lost + air_drag + lifted).epsilon(0.01));
    CHECK(lifted > 5e4);
    // the heat that reached the oil warmed it: C dT = losses - what the wall gave off
    double warmed = 650e3 * (r["oil.T"].values[to] - r["oil.T"].values[from]);
    double wall = 0, oil = 0;
    for (std::size_t i = from; i < to; ++i) {
        double h = r.time().values[i + 1] - r.time().values[i];
        wall += h * 0.5 * (r["tank_wall.flow"].values[i] + r["tank_wall.flow"].values[i + 1]);
        oil += h * 0.5 * (r["oil_loss"].values[i] + r["oil_loss"].values[i + 1]);
    }
    CHECK(warmed == doctest::Approx(oil - wall).epsilon(1e-4));
}

TEST_SUITE_END();

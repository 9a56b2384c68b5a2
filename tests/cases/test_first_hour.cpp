// SPDX-License-Identifier: Apache-2.0
// The first-hour models of examples/first/, each against a formula or an answer integrated here by other means.
#include <doctest/doctest.h>

#include <array>
#include <cmath>
#include <functional>

#include "support/support.hpp"

using namespace netloop;

namespace {

Recording run_file(const std::string& name, double tolerance = 0, const std::string& scenario = "")
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/first/" + name + ".loop"));
    Run run(compile(library, {.system = "", .scenario = scenario}));
    RunOptions options;
    if (tolerance > 0) options.tolerance = tolerance;
    return run.simulate(options);
}

// electrics.Diode: saturation current, ideality, thermal voltage
constexpr double kSaturation = 1e-12, kIdeality = 1.5, kThermal = 25.85e-3;

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

TEST_CASE("the barge: a draught by the polynomial of its hull, and the moment at which it lies at its mark")
{
    Recording r = run_file("barge", 1e-9);
    auto displaced = [](double d) { return 999 * 5.2 * (24 * d + 1.6 * d * d); };
    double taken = displaced(1.4) - 38e3, ready = taken / 45e3 * 3600;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double gravel = std::min(45e3 / 3600 * r.time().values[i], taken), c = (38e3 + gravel) / (999 * 5.2);
        CHECK(r["gravel"].values[i] == doctest::Approx(gravel).epsilon(1e-8).scale(1e3));
        CHECK(r["draught"].values[i] == doctest::Approx((-24 + std::sqrt(24 * 24 + 4 * 1.6 * c)) / (2 * 1.6)).epsilon(1e-8));
    }
    REQUIRE(r.measures.size() == 2);
    CHECK(r.measures[0].value == doctest::Approx(ready).epsilon(1e-8));
    CHECK(r.measures[1].value == doctest::Approx(taken).epsilon(1e-8));
}

TEST_CASE("the culvert valve in frost, bare and lagged: a lag behind a ramp and what follows it")
{
    for (auto [scenario, losses] : {std::pair{"bare", 9.0}, {"lagged", 3.0}}) {
        CAPTURE(scenario);
        Recording r = run_file("culvert_valve", 1e-9, scenario);
        double capacity = 160e3, tape = 60, evening = 277.15, rate = 2.0 / 3600, tau = capacity / losses, rise = tape / losses, end = 7 * 3600.0;
        auto falling = [&](double t) { return evening + rise - rate * (t - tau) - (rise + rate * tau) * std::exp(-t / tau); };
        double coldest = 1e9;
        for (std::size_t i = 0; i < r.n_rows(); ++i) {
            double t = r.time().values[i], rest = evening - 14 + rise;
            double T = t <= end ? falling(t) : rest + (falling(end) - rest) * std::exp(-(t - end) / tau);
            CHECK(r["casing"].values[i] == doctest::Approx(T).epsilon(2e-7));
            if (t >= end) coldest = std::min(coldest, T);
        }
        CHECK(r.measures[0].value == doctest::Approx(coldest).epsilon(1e-7));
        CHECK((coldest > 273.15) == (losses < 5));
    }
}

TEST_CASE("the buoy, written with two primes: swing of its own and the wash that drives it")
{
    Recording r = run_file("buoy");
    double m = 430, d = 260, k = 999 * 9.80665 * 0.78, w = 2 * M_PI / 5, a = d / (2 * m), own = std::sqrt(k / m - a * a);
    // what stays: of the drive k wash sin(wt); what dies away meets the start at rest
    double real = k - m * w * w, imaginary = d * w, size = 0.25 * k / (real * real + imaginary * imaginary);
    auto stays = [&](double t) { return size * (real * std::sin(w * t) - imaginary * std::cos(w * t)); };
    double x0 = size * imaginary, v0 = -size * real * w;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        double dies = std::exp(-a * t) * (x0 * std::cos(own * t) + (v0 + a * x0) / own * std::sin(own * t));
        CHECK(r["heave"].values[i] == doctest::Approx(stays(t) + dies).epsilon(1e-5).scale(0.25));
    }
    CHECK(r["heave"].unit == "m");
}

TEST_CASE("the weir: a function called with a fixed head and with the rising level")
{
    Recording r = run_file("weir");
    auto over = [](double head) { return head < 0 ? 0 : 0.42 * 6 * std::sqrt(2 * 9.80665) * std::pow(head, 1.5); };
    CHECK(r["designed"].final() == doctest::Approx(over(0.3)));
    auto rate = [&](double, const std::array<double, 1>& y) -> std::array<double, 1> { return {(2.4 - over(y[0] - 3.2)) / 18000}; };
    std::array<double, 1> level{3.1};
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        level = integrate<1>(level, r.time().values[i - 1], r.time().values[i], 20, rate);
        CHECK(r["level"].values[i] == doctest::Approx(level[0]).epsilon(1e-7));
    }
    // it comes to rest where as much goes over as comes in
    CHECK(r["level"].final() - 3.2 == doctest::Approx(std::pow(2.4 / over(1), 2.0 / 3)).epsilon(1e-3));
}

TEST_CASE("the gate on its rope: the line and the parts give one way to a micrometre, and the closed form")
{
    Recording r = run_file("gate");
    double m = 850, k = 420e3, d = 6e3, v = 0.12, a = d / (2 * m), w = std::sqrt(k / m - a * a), start = -m * 9.80665 / k;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = std::max(r.time().values[i] - 0.5, 0.0);
        // behind a ramp v t it runs v d / k late; what dies away meets the start at rest
        double late = v * d / k, x = start + v * t - late + std::exp(-a * t) * (late * std::cos(w * t) + (a * late - v) / w * std::sin(w * t));
        CHECK(r["x"].values[i] == doctest::Approx(x).epsilon(1e-6).scale(0.4));
        CHECK(std::abs(r["gate.x"].values[i] - r["x"].values[i]) < 1e-6);
    }
}

TEST_CASE("the navigation light: a rectifier and its capacitor, integrated with the diodes' law solved at each step")
{
    Recording r = run_file("lamp");
    // two diodes, i = Is (exp(v / (n Vt)) - 1), their resistance and the winding carry the current while |e| is above the capacitor
    auto current = [](double drive) {
        if (drive <= 0) return 0.0;
        double low = 0, high = drive / 0.8;
        for (int k = 0; k < 60; ++k) {
            double i = 0.5 * (low + high), needed = 2 * kIdeality * kThermal * std::log1p(i / kSaturation) + i * (0.8 + 2 * 0.005);
            (needed < drive ? low : high) = i;
        }
        return 0.5 * (low + high);
    };
    auto rate = [&](double t, const std::array<double, 1>& u) -> std::array<double, 1> {
        return {(current(std::abs(24 * std::sqrt(2.0) * std::sin(2 * M_PI * 50 * t)) - u[0]) - u[0] / 18) / 4.7e-3};
    };
    std::array<double, 1> u{0};
    double low = 1e9, high = 0;
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        u = integrate<1>(u, r.time().values[i - 1], t, 20, rate);
        CHECK(r["store.u"].values[i] == doctest::Approx(u[0]).epsilon(1e-3).scale(1));
        if (t > 0.2) low = std::min(low, u[0]), high = std::max(high, u[0]);
    }
    CHECK(r.measures[0].value == doctest::Approx(low).epsilon(1e-3));
    CHECK(r.measures[1].value == doctest::Approx(high).epsilon(1e-3));
}

TEST_CASE("the capstan: mechanics, electrics and heat in one, integrated by hand, and where it comes to rest")
{
    Recording r = run_file("capstan");
    // states: current, speed of the drum, temperature of the grid; the machine turns thirty times as fast as the drum
    const double own = 0.7 * (1 + 0.0039 * (15 - 20));
    auto resistance = [&](double T) { return own + 6 * (1 + 0.0012 * (T - 20)); };
    auto rate = [&](double, const std::array<double, 3>& y) -> std::array<double, 3> {
        double R = resistance(y[2]), brake = R - own;
        return {(1.1 * 30 * y[1] - R * y[0]) / 15e-3, (520 - 30 * 1.1 * y[0]) / (9 + 900 * 0.05), (brake * y[0] * y[0] - 0.6 * 9 * (y[2] - 15)) / 4500};
    };
    std::array<double, 3> y{0, 0, 15};
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        y = integrate<3>(y, r.time().values[i - 1], r.time().values[i], 2500, rate);
        if (i % 20 != 1) continue;
        CHECK(-r["machine.i"].values[i] == doctest::Approx(y[0]).epsilon(1e-5));
        CHECK(r["drum.speed"].values[i] == doctest::Approx(y[1]).epsilon(1e-5));
        CHECK(r["grid.T"].values[i] - 273.15 == doctest::Approx(y[2]).epsilon(1e-5));
    }
    // the current follows from the pull alone; the speed from the resistance that is then warm
    CHECK(-r["machine.i"].final() == doctest::Approx(520 / (30 * 1.1)).epsilon(1e-4));
    CHECK(r["drum.speed"].final() == doctest::Approx(resistance(r["grid.T"].final() - 273.15) * 520 / std::pow(30 * 1.1, 2)).epsilon(1e-3));
}

TEST_CASE("the mixing valve three ways: lever, temperature or flow given")
{
    auto flow_at = [](double lever) { return (lever * 8 + (1 - lever) * 13) / 60e3; };
    auto mixed_at = [](double lever) { return 273.15 + (lever * 8 * 58 + (1 - lever) * 13 * 9) / (lever * 8 + (1 - lever) * 13); };
    Recording position = run_file("mixing_valve", 0, "by_position"), temperature = run_file("mixing_valve", 0, "by_temperature"),
              amount = run_file("mixing_valve", 0, "by_amount");
    CHECK(position["valve.mixed"].final() == doctest::Approx(mixed_at(0.6)));
    CHECK(position["valve.flow"].final() == doctest::Approx(flow_at(0.6)));
    // 38 degC: lever * 8 * (58 - 38) = (1 - lever) * 13 * (38 - 9)
    double lever = 13 * 29.0 / (8 * 20 + 13 * 29);
    CHECK(temperature["valve.lever"].final() == doctest::Approx(lever));
    CHECK(temperature["valve.flow"].final() == doctest::Approx(flow_at(lever)));
    CHECK(amount["valve.lever"].final() == doctest::Approx(0.6));  // (13 - 10) / (13 - 8)
    CHECK(amount["valve.mixed"].final() == doctest::Approx(mixed_at(0.6)));
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

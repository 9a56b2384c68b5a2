// SPDX-License-Identifier: Apache-2.0
// Signals, transfer functions and controllers against closed forms and integration by hand.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

constexpr double kPi = 3.14159265358979323846;

Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-9)
{
    return test::simulate_parts("control", body, stop, tolerance, every);
}

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("Pulse and Noise: shares of time, and the same series for the same seed")
{
    Recording r =
        run("part p : Pulse(period = 2 s, share = 0.25, from_time = 1 s, before = -1, after = 3)\n var sum : s init 0 s\n sum' = p.out\n part n, m : "
            "Noise(seed = 5, deviation = 2)\n part o : "
            "Noise(seed = 6, deviation = 1)\n var square : s init 0 s\n square' = n.out^2\n var mean : s init 0 s\n mean' = n.out",
            101, 0.5);
    CHECK(r["sum"].final() == doctest::Approx(-1 + 50 * (0.5 * 3 - 1.5)).epsilon(1e-6));
    CHECK(r["n.out"].final() == r["m.out"].final());
    CHECK(r["n.out"].final() != r["o.out"].final());
    CHECK(std::sqrt(r["square"].final() / 101) == doctest::Approx(2).epsilon(0.02));
    CHECK(r["mean"].final() / 101 == doctest::Approx(0).scale(2).epsilon(0.03));
    // Park and Miller: 1 becomes 16807, and after 10,000 steps 1043618065: here 833 values of twelve and four more
    double state = 1, value = 0;
    for (int k = 0; k < 10000; ++k) state = std::fmod(16807 * state, 2147483647.0);
    CHECK(state == 1043618065);
    double s = 5;
    for (int k = 0; k < 12; ++k) s = std::fmod(16807 * s, 2147483647.0), value += s / 2147483647.0;
    CHECK(r["n.out"].values[0] == doctest::Approx(2 * (value - 6)).epsilon(1e-12));
}

TEST_CASE("Lag, SecondOrderLag, HighPass, Rate: steps by their closed forms")
{
    Recording r =
        run("part l : Lag(time_constant = 0.5 s, gain = 3, signal = 1)\n part q : SecondOrderLag(frequency = 2 Hz, damping = 0.3, signal = 1)\n part h : "
            "HighPass(time_constant = 0.4 s)\n part d : "
            "Rate(time_constant = 0.1 s)\n time * 2 / (1 s) -> h.signal, d.signal\n init l.out = 0 ; init q.out = 0 ; init q.out' = 0 s^-1",
            2, 0.05);
    double w = 4 * kPi, z = 0.3, wd = w * std::sqrt(1 - z * z);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        CHECK(r["l.out"].values[i] == doctest::Approx(3 * (1 - std::exp(-t / 0.5))).scale(1).epsilon(1e-7));
        CHECK(r["q.out"].values[i] == doctest::Approx(1 - std::exp(-z * w * t) * (std::cos(wd * t) + z * w / wd * std::sin(wd * t))).scale(1).epsilon(1e-6));
        CHECK(r["h.out"].values[i] == doctest::Approx(2 * 0.4 * (1 - std::exp(-t / 0.4))).scale(1).epsilon(1e-7));
        CHECK(r["d.out"].values[i] == doctest::Approx(2 * (1 - std::exp(-t / 0.1))).scale(1).epsilon(1e-7));
    }
}

TEST_CASE("TransferFunction: a third order with a zero by its partial fractions, in milliseconds")
{
    // (1 + 0.5 s) / ((1 + s)(1 + 2 s)(1 + 4 s)) in ms, denominator 1 + 7 s + 14 s^2 + 8 s^3
    Recording r =
        run("part f : TransferFunction(order = 3, numerator = [1, 0.5, 0, 0], denominator = [1, 7, 14, 8], unit_time = 1 ms, signal = 1)\n for i in 1 .. 3 { "
            "init f.x[i] = 0 }",
            0.02, 1e-3);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i] * 1e3, y = 1;
        for (double T : {1.0, 2.0, 4.0}) {
            double s = -1 / T, rest = T;  // residue of G(s) / s at s = -1/T
            for (double other : {1.0, 2.0, 4.0})
                if (other != T) rest *= 1 + other * s;
            y += (1 + 0.5 * s) / (s * rest) * std::exp(s * t);
        }
        CHECK(r["f.out"].values[i] == doctest::Approx(y).scale(1).epsilon(1e-7));
    }
    // as many in the numerator as in the denominator: passes steps
    CHECK(run("part f : TransferFunction(order = 1, numerator = [0, 1], denominator = [1, 1], signal = 1)\n init f.x[1] = 0", 0.5)["f.out"].final() ==
          doctest::Approx(std::exp(-0.5)).epsilon(1e-7));
}

TEST_CASE("Integrator, RateLimit, Limit, DeadBand, DeadTime")
{
    Recording r =
        run("part i : Integrator(gain = 1 s^-1, low = -0.5, high = 1)\n part v : RateLimit(rise = 2 s^-1, fall = 0.5 s^-1, lag = 1 ms)\n part c : Limit(low = "
            "-0.2, high = "
            "0.7)\n part b : DeadBand(width = 0.4)\n part d : "
            "DeadTime(delay_time = 0.3 s)\n 2 * sin(2 * pi * time / (4 s)) -> i.signal, v.signal, c.signal, b.signal, d.signal",
            4, 0.01);
    double level = 0;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i], u = 2 * std::sin(2 * kPi * t / 4);
        CHECK(r["c.out"].values[i] == doctest::Approx(std::clamp(u, -0.2, 0.7)).scale(1).epsilon(1e-9));
        CHECK(r["b.out"].values[i] == doctest::Approx(std::abs(u) < 0.2 ? 0 : u - std::copysign(0.2, u)).scale(1).epsilon(1e-9));
        if (t > 0.31) CHECK(r["d.out"].values[i] == doctest::Approx(2 * std::sin(2 * kPi * (t - 0.3) / 4)).scale(1).epsilon(1e-4));
        level = r["i.out"].values[i];
        CHECK(level < 1 + 1e-6);
        CHECK(level > -0.5 - 1e-6);
        if (t < 0.1) CHECK(r["v.out"].values[i] == doctest::Approx(2 * t).scale(1).epsilon(5e-3));
    }
    // up to 1 at 2.55 rad, held until the signal turns at 2 s, down to -0.5 and held
    CHECK(level == doctest::Approx(-0.5).epsilon(1e-6));
}

TEST_CASE("Pid of a pressure: a PI loop with limits against integration by hand")
{
    // x' = (200 bar u - x) / 1 s, u = clamp(kp e + I), I' = ki e + (u - v) / Tt
    double x = 0, I = 0, h = 1e-5;
    for (int k = 0; k < 300000; ++k) {
        auto rate = [&](double xx, double II) {
            double e = 150 - xx, v = 0.03 * e + II, u = std::clamp(v, -1.0, 1.0);
            return std::pair{200 * u - xx, 0.05 * e + (u - v) / 0.5};
        };
        auto [a, b] = rate(x, I);
        auto [c, d] = rate(x + h / 2 * a, I + h / 2 * b);
        x += h * c;
        I += h * d;
    }
    Recording r = run(
        "var x : bar init 0 bar\n x' = (200 bar * p.out - x) / (1 s)\n part p : Pid(gain = 0.03 bar^-1, integral_gain = 0.05 bar^-1*s^-1, low = -1, high = 1, "
        "tracking_time = 0.5 s)\n 150 bar -> p.setpoint\n x -> "
        "p.measured\n init p.integral_share = 0",
        3);
    CHECK(r["x"].final() == doctest::Approx(x * 1e5).epsilon(1e-5));
    CHECK(r["p.integral_share"].final() == doctest::Approx(I).epsilon(1e-5));
}

TEST_CASE("a gain of another unit is refused: a loop on bar cannot be out by 1e5 unnoticed")
{
    auto system = [](const std::string& values) { return "use control\nsystem S { part p : Pid(" + values + ", low = 0, high = 1) }"; };
    using Errors = std::vector<std::string>;
    CHECK(test::messages_of(system("gain = 0.03, setpoint = 1 bar, measured = 1 bar")).find("write 0.03 bar^-1") != std::string::npos);
    CHECK(test::errors_of(system("gain = 0.03 A^-1, setpoint = 1 bar, measured = 1 bar")) == Errors{"unit-said-twice:2"});
    CHECK(test::errors_of(system("gain = 0.03 bar^-1, setpoint = 1 K, measured = 1 bar")) == Errors{"unit-said-twice:2", "unit-said-twice:2"});
    std::string text = test::messages_of(system("gain = 0 bar^-1, setpoint = 1 bar, measured = 1 K"));
    CHECK(text.find("the units of 'p' contradict each other: measured = 1 K is in [K], but setpoint = 1 bar in [bar]") != std::string::npos);
    // 1/Pa is the same quantity in another unit: accepted, and converted
    Recording r = run(
        "part p : Pid(gain = 1e-7 Pa^-1, integral_gain = 0 bar^-1*s^-1, low = -1, high = 1, setpoint = 10 bar, measured = 0 bar)\n init p.integral_share = 0",
        0.1);
    CHECK(r["p.proportional_share"].final() == doctest::Approx(0.1));
    CHECK(r["p.setpoint"].unit == "bar");
    CHECK(r["p.deviation"].unit == "bar");
}

TEST_CASE("one Pid for all quantities: its units follow from values and signals, shares by its gains")
{
    Recording r = run(
        "part t : Pid(gain = 50 kW/K, integral_gain = 0 kW/(K*s), derivative_gain = 2000 kW*s/K, low = 0 kW, high = 5000 kW)\n 293.15 K + time * 0.1 K/s "
        "-> t.measured\n 40 degC -> t.setpoint\n part w : Pid(gain = 0.001 rpm^-1, low = -1, high = 1, setpoint = 1500 rpm, measured = 1400 rpm)\n part a : "
        "Pid(gain = 0.02 V/deg, low = 0 V, high = 10 V, setpoint = 80 deg, measured = 70 deg)\n part q : Pid(gain = 0.05 min/L, low = -1, high = 1, setpoint = "
        "20 "
        "L/min, measured = 18 L/min)\n var force : N\n force = 2 N/V * a.out\n part again : Pid(gain = 3, low = -9 V, high = 9 V, setpoint = 2 V)\n a.out -> "
        "again.measured",
        1, 0, 1e-11);  // a share of 2e6 W s/K of a temperature of 300 K: errors of it count a million times
    CHECK(r["t.proportional_share"].final() == doctest::Approx(50e3 * 19.9).epsilon(1e-6));
    CHECK(r["t.derivative_share"].final() == doctest::Approx(-2e6 * 0.1).epsilon(1e-6));
    CHECK(r["t.out"].unit == "kW");
    CHECK(r["t.measured"].unit == "K");
    CHECK(r["t.deviation"].unit == "K");
    CHECK(r["w.proportional_share"].final() == doctest::Approx(0.1));
    CHECK(r["a.proportional_share"].final() == doctest::Approx(0.2));
    CHECK(r["a.out"].unit == "V");
    CHECK(r["q.proportional_share"].final() == doctest::Approx(0.1));
    CHECK(r["again.proportional_share"].final() == doctest::Approx(3 * (2 - r["a.out"].final())));
}

TEST_CASE("Skogestad's rule: a lag of 5 s with a dead time of 1 s, against the loop by the method of steps")
{
    // gain 2, tc = delay: gain = 5/(2*2), integral time = min(5, 8). The zero of the controller is the pole of the lag: what is left is an integrator of 1/2
    // per second and the dead time, y' = (1 - y(t - 1)) / 2 delayed by 1 s
    Recording r =
        run("part late : DeadTime(delay_time = 1 s)\n part plant : Lag(time_constant = 5 s, gain = 2)\n part p : Pid(gain = 1.25, integral_time = 5 s, low = "
            "-100, high = 100)\n"
            "part wanted : Step(at = 2 s, after = 1)\n wanted.out -> p.setpoint\n p.out -> late.signal\n late.out -> plant.signal\n plant.out -> p.measured\n"
            "init plant.out = 0 ; init p.integral_share = 0",
            7, 0.5);
    auto y = [](double t) {
        double a = std::max(t - 1, 0.0), b = std::max(t - 2, 0.0), c = std::max(t - 3, 0.0), d = std::max(t - 4, 0.0);
        return a / 2 - b * b / 8 + c * c * c / 48 - d * d * d * d / 384;
    };
    for (std::size_t i = 0; i < r.n_rows(); ++i) CHECK(r["plant.out"].values[i] == doctest::Approx(y(r.time().values[i] - 2)).scale(1).epsilon(2e-5));
    CHECK(y(4) == doctest::Approx(1.5 - 0.5 + 1.0 / 48));  // 2 % over, as the rule promises: well damped
}

TEST_CASE("units that each use settles: arrays, nesting, elimination, and what is wrong with them")
{
    using Errors = std::vector<std::string>;
    // both from products alone: stiffness of_x/of_y and of_x*of_y
    Recording r = test::simulate(
        "use control\n"
        "component Pair { unit of_x, of_y ; param ratio : of_x/of_y ; param area : of_x*of_y ; let x : of_x = sqrt(ratio * area) ; let y : of_y = sqrt(area / "
        "ratio) }\n"
        "component Outer { unit of_all ; input given : of_all ; part inner : Lag(time_constant = 1 s) ; given -> inner.signal }\n"
        "system S { part one : Pair(ratio = 4 N/mm, area = 1 J)\n part cell[i in 1 .. 2] : Lag(time_constant = i * 1 s, signal = 2 bar)\n part nest : Outer\n"
        "3 bar -> nest.given }",
        0.1);
    CHECK(r["one.x"].final() == doctest::Approx(std::sqrt(4000.0)));
    CHECK(r["one.x"].unit == "N");
    CHECK(r["one.y"].unit == "m");
    CHECK(r["cell[2].out"].unit == "bar");
    CHECK(r["nest.inner.out"].unit == "bar");
    CHECK(r["nest.inner.out"].final() == doctest::Approx(3e5));
    CHECK(test::errors_of("component A { param p : of_a = 0 of_a }\nsystem S { part a : A }") == Errors{"unknown-name:1", "unknown-name:1"});
    CHECK(test::errors_of("component A {\n unit of_a\n param p : of_a = 2 of_a\n}\nsystem S { part a : A }") == Errors{"bad-value:3"});
    CHECK(test::errors_of("component A {\n unit of_a\n param p : of_a = 0 of_a\n var x : m\n x = p\n}\nsystem S { part a : A }") == Errors{"unit-mismatch:5"});
    CHECK(test::errors_of("component A { unit length }\nsystem S { part a : A }") == Errors{"expected-token:1"});
    CHECK(test::errors_of("system S { var x : of_a }") == Errors{"bad-unit:1"});
    CHECK(test::errors_of("function f(x : of_a) -> 1 { return 1 }\nsystem S { var x init 1 ; x' = -x }") == Errors{"bad-unit:1"});
}

TEST_CASE("from manual to automatic without a bump, continuous and sampled")
{
    for (std::string kind : {"Pid(", "Pid(sampled = true, "}) {
        INFO(kind);
        Recording r = run("var x : 1 init 0\n x' = (2 * p.out - x) / (1 s)\n part p : " + kind +
                              "gain = 2, integral_time = 1 s, low = -1, high = 1)\n 1 -> p.setpoint\n x -> p.measured\n time > 5 s -> p.automatic\n 0.3 -> "
                              "p.manual\n init p.integral_share = 0",
                          30, 0.01);
        std::size_t before = 0;
        while (r.time().values[before] < 4.99) ++before;
        CHECK(r["p.out"].values[before] == doctest::Approx(0.3));
        CHECK(r["x"].values[before] == doctest::Approx(0.6).epsilon(0.01));
        double jump = 0;
        for (std::size_t i = before; r.time().values[i] < 5.05; ++i) jump = std::max(jump, std::abs(r["p.out"].values[i + 1] - r["p.out"].values[i]));
        CHECK(jump < 0.02);
        CHECK(r["x"].final() == doctest::Approx(1).epsilon(1e-3));
    }
}

TEST_SUITE_END();

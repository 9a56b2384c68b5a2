// SPDX-License-Identifier: Apache-2.0
// Motions that a condition drives back from both sides: they go along it, with the value between both sides that holds them there. Held against Filippov's
// solutions by hand.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("events");

namespace {

nl::Recording run_of(const std::string& text, double stop, double tolerance = 1e-8, const std::string& method = "")
{
    nl::Run run(test::compile(text));
    nl::RunOptions options;
    options.stop = stop;
    options.tolerance = tolerance;
    options.output_every = stop / 200;
    options.integrator = method;
    options.verify = true;
    nl::Recording r = run.simulate(options);
    CAPTURE(run.summary().verification.text());
    CHECK(run.summary().verification.holds);
    return r;
}

}  // namespace

TEST_CASE("x' = 1 below 0.5 and -1 above: x rises to 0.5 and stays, and the table of events tells")
{
    nl::Run run(test::compile("system S { var x : m init 0 m ; x' = if x > 0.5 m then -1 m/s else 1 m/s }"));
    nl::Recording r = run.simulate({.stop = 2, .output_every = 0.01, .verify = true});
    for (std::size_t k = 0; k < r.n_rows(); ++k) CHECK(r["x"].values[k] == doctest::Approx(std::min(r.time().values[k], 0.5)).epsilon(1e-6));
    CHECK(run.summary().verification.holds);
    CHECK(run.summary().event_record.text().find("the run goes on along it") != std::string::npos);
    CHECK(run.summary().events >= 1);
}

TEST_CASE("x' = -sign(x) + 0.4 sin: it rests at 0 with the value of the sign that holds it, by each method")
{
    // the sign takes the value 0.4 sin(3 t): never beyond 1, so it stays
    for (const char* method : {"", "bdf", "sdirk"}) {
        CAPTURE(method);
        nl::Recording r =
            run_of("system S { var x : 1 init 0.3 ; var pull : 1 ; pull = -sign(x) ; x' = (pull + 0.4 * sin(3 * time / (1 s))) / (1 s) }", 3, 1e-8, method);
        // before it arrives: x = 0.3 - t + 0.4 (1 - cos 3 t) / 3
        double arrives = 0;
        for (double low = 0, high = 1; high - low > 1e-13;) {
            arrives = 0.5 * (low + high);
            (0.3 - arrives + 0.4 * (1 - std::cos(3 * arrives)) / 3 > 0 ? low : high) = arrives;
        }
        for (std::size_t k = 0; k < r.n_rows(); ++k) {
            double t = r.time().values[k];
            CAPTURE(t);
            if (t < arrives - 1e-6) CHECK(r["x"].values[k] == doctest::Approx(0.3 - t + 0.4 * (1 - std::cos(3 * t)) / 3).epsilon(1e-6));
            if (t < arrives + 1e-4) continue;
            CHECK(std::abs(r["x"].values[k]) < 1e-6);
            CHECK(r["pull"].values[k] == doctest::Approx(-0.4 * std::sin(3 * t)).epsilon(1e-4).scale(1));
        }
    }
}

TEST_CASE("a block with dry friction by a sign: it sticks, is torn off, and sticks again")
{
    // m v' = F(t) - f sign(v): sticks while |F| < f. F = 15 N sin(2 pi t / 4 s), f = 10 N, m = 2 kg
    nl::Recording r = run_of(
        "system B { var v : m/s init 0.5 m/s ; var x : m init 0 m ; let push : N = 15 N * sin(2 * pi * time / (4 s)) ; x' = v ; (2 kg) * v' = push - (10 N) * "
        "sign(v) }",
        4, 1e-8);
    // by hand, a fine Runge-Kutta with sticking as a state of its own
    double x = 0, v = 0.5, t = 0;
    const double h = 1e-5;
    bool sticks = false;
    std::size_t row = 0;
    auto push = [](double at) { return 15 * std::sin(2 * 3.14159265358979323846 * at / 4); };
    for (; row < r.n_rows();) {
        while (row < r.n_rows() && r.time().values[row] <= t + 0.5 * h) {
            CAPTURE(t);
            CHECK(r["v"].values[row] == doctest::Approx(v).epsilon(1e-4).scale(1));
            CHECK(r["x"].values[row] == doctest::Approx(x).epsilon(1e-4).scale(1));
            ++row;
        }
        if (sticks && std::abs(push(t)) > 10) sticks = false;
        if (!sticks) {
            double direction = v != 0 ? (v > 0 ? 1 : -1) : (push(t) > 0 ? 1 : -1);
            double middle = (push(t + h / 2) - 10 * direction) / 2, next = v + h * middle;
            if (v != 0 && next * v < 0 && std::abs(push(t + h)) < 10) next = 0, sticks = true;
            x += h * 0.5 * (v + next);
            v = next;
        }
        t += h;
    }
}

TEST_CASE("two surfaces at once, and one that is left again")
{
    nl::Recording r =
        run_of("system T { var x : 1 init 0.2 ; var y : 1 init -0.1 ; x' = (if x > 0 then -1 else 1) / (1 s) ; y' = (if y > x then -2 else 1) / (1 s) }", 1);
    CHECK(std::abs(r["x"].final()) < 1e-6);
    CHECK(std::abs(r["y"].final()) < 1e-6);
    // x is held at 1 until the drift beyond it is stronger than what drives back: from t = 2 s on it goes up by (t - 2)
    nl::Recording left = run_of("system L { var x : 1 init 0 ; x' = (if x > 1 then time / (1 s) - 2 else 1) / (1 s) }", 4);
    for (std::size_t k = 0; k < left.n_rows(); ++k) {
        double t = left.time().values[k], want = t < 1 ? t : t < 2 ? 1 : 1 + 0.5 * (t - 2) * (t - 2);
        CAPTURE(t);
        CHECK(left["x"].values[k] == doctest::Approx(want).epsilon(2e-6));
    }
}

TEST_CASE("a relay that holds a speed at its limit: what a user writes first")
{
    // m v' = F - d v below the limit, no force above: the speed stays at the limit with the force d * limit
    nl::Recording r = run_of(
        "system R { param limit : m/s = 2 m/s ; var speed : m/s init 0 m/s ; var force : N ; force = if speed > limit then 0 N else 100 N ; (50 kg) * speed' = "
        "force - (10 N*s/m) * speed }",
        5);
    CHECK(r["speed"].final() == doctest::Approx(2).epsilon(1e-6));
    CHECK(r["force"].final() == doctest::Approx(20).epsilon(1e-4));
}

TEST_CASE("in a system whose equations change in kind, too")
{
    // a shaft that is locked and freed again; beside it a relay
    nl::Recording r = run_of(
        "system K { var a : rad/s init 1 rad/s ; var b : rad/s init 0 rad/s ; var hold : N*m ; let locked = time > 1 s and time < 2 s ; if locked { a = b } "
        "else { hold = 0 N*m }\n"
        "  (1 kg*m^2) * a' = -hold - (0.1 N*m*s/rad) * a ; (1 kg*m^2) * b' = hold ; var x : 1 init 0 ; x' = (if x > 0.5 then -1 else 1) / (1 s) }",
        3);
    CHECK(r["x"].final() == doctest::Approx(0.5).epsilon(1e-6));
    CHECK(r["x"].at(1.5, r.time()) == doctest::Approx(0.5).epsilon(1e-6));
    CHECK(r["a"].at(1.5, r.time()) == doctest::Approx(r["b"].at(1.5, r.time())).epsilon(1e-6));
}

TEST_CASE("with fixed steps nothing slides: it is told as chattering")
{
    nl::Run run(test::compile("system S { var x : m init 0 m ; x' = if x > 0.5 m then -1 m/s else 1 m/s }"));
    CHECK_THROWS_WITH_AS(run.simulate({.stop = 2, .integrator = "rk4", .step = 0.01}), doctest::Contains("drives back from both sides"), nl::RunError);
}

TEST_CASE("a memory that chooses the equations is followed when a block sets it, though no equation of the present system reads it")
{
    // by hand: 0.5 w' = 6 - 0.1 w from rest, w = 60 (1 - exp(-0.2 t)); locked from 1 s to 2 s, from rest again then
    for (const char* integrator : {"auto", "bdf", "sdirk"}) {
        INFO(integrator);
        netloop::Library library = netloop::Library::standard();
        library.load_text("brake.loop",
                          "system Brake { var speed : rad/s init 0 rad/s ; var torque : N*m ; memory held = false ; (0.5 kg*m^2) * speed' = 6 N*m - torque\n"
                          "  if held { speed = 0 rad/s } else { torque = 0.1 N*m/(rad/s) * speed }\n"
                          "  when time > 1 s { held := true } ; when time > 2 s { held := false } }\n"
                          "scenario on_and_off of Brake { stop at 3 s ; tolerance 1e-8 ; output every 10 ms }\n");
        netloop::Run run(netloop::compile(library));
        const netloop::Recording& r = run.simulate({.integrator = integrator, .verify = true});
        CHECK(run.summary().verification.holds);
        CHECK(run.summary().systems == 2);
        for (std::size_t i = 0; i < r.n_rows(); ++i) {
            double t = r.time().values[i], begun = t < 1.5 ? 0 : 2;
            if (std::abs(t - 1) < 1e-9 || std::abs(t - 2) < 1e-9) continue;  // both sides of an event
            bool held = t > 1 && t < 2;
            CHECK(r["speed"].values[i] == doctest::Approx(held ? 0 : 60 * (1 - std::exp(-0.2 * (t - begun)))).epsilon(1e-6));
            if (held) CHECK(r["torque"].values[i] == doctest::Approx(6));
        }
    }
}

TEST_SUITE_END();

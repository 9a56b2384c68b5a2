// SPDX-License-Identifier: Apache-2.0
// Steps of bounded work: each method against its recurrence written out by hand, its order, what happens at moments.
#include <doctest/doctest.h>

#include <cmath>
#include <cstdio>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("exchange");

namespace {

using Status = nl::FixedStepStatus;

nl::FixedStepRun machine(const std::string& text, const std::string& method, double step, const std::vector<std::string>& outputs,
                         const std::vector<std::string>& inputs = {}, int turns = 0)
{
    nl::FixedStepOptions options;
    options.method = method;
    options.step = step;
    options.turns = turns;
    return nl::FixedStepRun(test::compile(text), options, inputs, outputs);
}

double at_end(const std::string& text, const std::string& method, double step, double stop, const std::string& output)
{
    nl::FixedStepRun m = machine(text, method, step, {output});
    auto n = static_cast<int>(std::lround(stop / step));
    for (int k = 0; k < n; ++k) REQUIRE(m.step() == Status::good);
    return m.output(0);
}

const std::string kDecay = "system S { param a = 3 in 0 .. 1e9 ; var x init 1 ; x' = -a * x / (1 s) }\n";

}  // namespace

TEST_CASE("x' = -a x: a step multiplies by what each method's own function says")
{
    double q = -3 * 0.05;
    struct Case {
        const char* method;
        double factor;
    };
    double gamma = 1 - 1 / std::sqrt(2.0);
    // (Hairer and Wanner, 1996, Solving ODEs II, sec. IV.2 and IV.7)
    double second = (1 + (1 - 2 * gamma) * q) / ((1 - gamma * q) * (1 - gamma * q));
    for (const Case& c : {Case{"euler", 1 + q}, Case{"rk4", 1 + q + q * q / 2 + q * q * q / 6 + q * q * q * q / 24}, Case{"linear-euler", 1 / (1 - q)},
                          Case{"implicit-euler", 1 / (1 - q)}, Case{"rosenbrock", second}}) {
        CAPTURE(c.method);
        nl::FixedStepRun m = machine(kDecay, c.method, 0.05, {"x"});
        double x = 1;
        for (int k = 0; k < 20; ++k) {
            REQUIRE(m.step() == Status::good);
            x *= c.factor;
            CHECK(m.output(0) == doctest::Approx(x).epsilon(1e-13));
        }
        CHECK(m.time() == doctest::Approx(1.0));
        CHECK(m.steps() == 20);
    }
}

TEST_CASE("linear-euler takes one turn of Newton's iteration, implicit-euler as many as it is told")
{
    // x' = -x^2: one turn from x0 is x0 - (h x0^2) / (1 + 2 h x0); the implicit step solves h y^2 + y - x0 = 0
    const std::string text = "system S { var x init 2 ; x' = -x^2 / (1 s) }\n";
    double h = 0.1, x = 2;
    nl::FixedStepRun one = machine(text, "linear-euler", h, {"x"});
    REQUIRE(one.step() == Status::good);
    CHECK(one.output(0) == doctest::Approx(x - h * x * x / (1 + 2 * h * x)).epsilon(1e-14));
    nl::FixedStepRun many = machine(text, "implicit-euler", h, {"x"}, {}, 8);
    REQUIRE(many.step() == Status::good);
    CHECK(many.output(0) == doctest::Approx((-1 + std::sqrt(1 + 4 * h * x)) / (2 * h)).epsilon(1e-14));
    CHECK(many.step_operations() > 6 * one.step_operations());
}

TEST_CASE("orders: a pendulum with a solved-for force, an oil volume with a root, and a law that reads the time")
{
    // exact: x = cos t + sin(t)/2 ...: x' = -x + y^2, 0 = y - exp(-t) gives x = (1 - s) exp(-t)..., here simply held against a run at a tight tolerance
    const std::string text =
        "system S { var x init 1 ; var y ; var u init 0.5\n  x' = (-x + y^3 + sin(time / (1 s))) / (1 s) ; y + 0.3 * y^3 = x * cos(u) ; u' = y / (1 s) - u / "
        "(2 s) }\n";
    nl::Recording reference = test::simulate(text, 1.0, 1e-11);
    double exact = reference["x"].values.back(), exact_y = reference["y"].values.back();
    struct Case {
        const char* method;
        double order;
    };
    for (const Case& c : {Case{"euler", 1}, Case{"linear-euler", 1}, Case{"implicit-euler", 1}, Case{"rosenbrock", 2}, Case{"rk4", 4}}) {
        CAPTURE(c.method);
        for (const char* of : {"x", "y"}) {
            CAPTURE(of);
            double is = of[0] == 'x' ? exact : exact_y;
            double coarse = std::abs(at_end(text, c.method, 0.02, 1, of) - is), fine = std::abs(at_end(text, c.method, 0.01, 1, of) - is);
            double order = std::log2(coarse / fine);
            if (c.order == 4)  // two turns leave a little of y over
                CHECK(fine < 1e-9);
            else
                CHECK(order == doctest::Approx(c.order).epsilon(0.12));
        }
    }
}

TEST_CASE("rosenbrock keeps its order where rates stand in other equations, and damps what is stiff")
{
    // (1 + x^2) x' + y' = -x ; y' = x - y : the mass matrix turns with the state
    const std::string text = "system S { var x init 1 ; var y init 0 ; (1 + x^2) * x' + y' = -x / (1 s) ; y' + 0.2 * x' = (x - y) / (1 s) }\n";
    double exact = test::simulate(text, 1.0, 1e-11)["y"].values.back();
    double coarse = std::abs(at_end(text, "rosenbrock", 0.02, 1, "y") - exact), fine = std::abs(at_end(text, "rosenbrock", 0.01, 1, "y") - exact);
    CHECK(std::log2(coarse / fine) == doctest::Approx(2).epsilon(0.12));
    // a step of 1e6 time constants: x follows what it is driven to
    const std::string stiff = "system S { var x init 5 ; x' = (cos(time / (1 s)) - x) * 1e7 / (1 s) }\n";
    for (const char* method : {"linear-euler", "rosenbrock"}) CHECK(at_end(stiff, method, 0.1, 1, "x") == doctest::Approx(std::cos(1.0)).epsilon(1e-6));
}

TEST_CASE("a pendulum in x and y: the choice of states of the start is kept, and the force is solved for")
{
    const std::string text =
        "system S { param l : m = 1 m ; var x : m init 0.6 m ; var y : m ; var s : N/m ; init x' = 0 m/s\n"
        "  (1 kg) * x'' = -s * x ; (1 kg) * y'' = -s * y - 9.81 N ; x^2 + y^2 = l^2 ; guess y = -0.8 m }\n";
    nl::Recording reference = test::simulate(text, 0.5, 1e-10);
    nl::FixedStepRun m = machine(text, "rosenbrock", 1e-3, {"x", "y", "s"});
    for (int k = 0; k < 500; ++k) REQUIRE(m.step() == Status::good);
    CHECK(m.output(0) == doctest::Approx(reference["x"].values.back()).epsilon(1e-4));
    CHECK(m.output(2) == doctest::Approx(reference["s"].values.back()).epsilon(1e-4));
    CHECK(std::hypot(m.output(0), m.output(1)) == doctest::Approx(1).epsilon(1e-6));
    CHECK(m.bad_pivots() == 0);
}

TEST_CASE("what happens within a step happens at its end: a ball that bounces, counted by hand")
{
    const std::string text =
        "system S { var h : m init 1 m ; var v : m/s init 0 m/s ; memory hits = 0 ; h' = v ; v' = -9.81 m/s^2\n"
        "  when h < 0 m { v := -0.5 * v ; hits := hits + 1 } }\n";  // v is a state
    double dt = 0.01, h = 1, v = 0;
    int hits = 0;
    bool below = false;
    nl::FixedStepRun m = machine(text, "euler", dt, {"h", "v", "hits"});
    for (int k = 0; k < 120; ++k) {
        REQUIRE(m.step() == Status::good);
        h += dt * v;
        v -= dt * 9.81;
        bool now = h < 0;
        if (now && !below) v = -0.5 * v, ++hits;
        below = now;
        REQUIRE(m.output(0) == doctest::Approx(h).epsilon(1e-12));
        REQUIRE(m.output(1) == doctest::Approx(v).epsilon(1e-12));
    }
    CHECK(m.output(2) == hits);
    CHECK(hits >= 2);
}

TEST_CASE("a sum of states that is set moves the nearest states, in their usual sizes")
{
    // slip = a - 2 b = 1 is to be 0: with a in sizes of 3 and b in sizes of 1 the least sum of squares is at a - 9 / 13, b + 2 / 13
    const std::string text =
        "system S { param ratio = 2 in 1 .. 9 ; var a : rad/s usual 1 rad/s init 3 rad/s ; var b : rad/s usual 1 rad/s init 1 rad/s ; var slip : rad/s ; slip "
        "= a - ratio * b\n"
        "  a' = 0 rad/s^2 ; b' = 0 rad/s^2 ; when time > 0.05 s { slip := 0 rad/s } }\n";
    nl::FixedStepRun m = machine(text, "linear-euler", 0.02, {"a", "b", "slip"});
    for (int k = 0; k < 5; ++k) REQUIRE(m.step() == Status::good);
    CHECK(m.output(0) == doctest::Approx(3 - 9.0 / 13).epsilon(1e-14));
    CHECK(m.output(1) == doctest::Approx(1 + 2.0 / 13).epsilon(1e-14));
    // and as in a run in variable steps
    nl::Recording r = test::simulate(text, 0.1);
    CHECK(r["a"].values.back() == doctest::Approx(3 - 9.0 / 13).epsilon(1e-9));
}

TEST_CASE("a sampled controller, a sequence and a delay, by hand")
{
    const std::string text =
        "system S { var x init 0 ; memory u = 0 ; x' = (u - x) / (1 s) ; every 50 ms { u := 1 - 0.5 * x }\n"
        "  sequence phase { stage rising { }\n -> resting when x > 0.3\n stage resting { }\n -> rising after 0.2 s\n }\n"
        "  let late = delay(x, 35 ms) }\n";
    double dt = 0.01, x = 0, u = 0, since = 0;
    std::vector<double> past{0};
    bool resting = false;
    u = 1;  // the tick at the start
    nl::FixedStepRun m = machine(text, "linear-euler", dt, {"x", "late", "phase"});
    for (int k = 1; k <= 200; ++k) {
        REQUIRE(m.step() == Status::good);
        x = (x + dt * u) / (1 + dt);
        double late_at = k - 3.5, t = k * dt;
        int low = static_cast<int>(std::floor(late_at));
        double late =
            late_at <= 0 ? 0 : past[static_cast<std::size_t>(low)] + 0.5 * (past[static_cast<std::size_t>(low) + 1] - past[static_cast<std::size_t>(low)]);
        past.push_back(x);
        if (k % 5 == 0) u = 1 - 0.5 * x;
        bool over = x > 0.3, waited = t - since > 0.2 - 1e-9;
        if (!resting && over)
            resting = true, since = t;
        else if (resting && waited)
            resting = false, since = t;
        CAPTURE(k);
        REQUIRE(m.output(0) == doctest::Approx(x).epsilon(1e-12));
        REQUIRE(m.output(1) == doctest::Approx(late).epsilon(1e-9));
        REQUIRE(m.output(2) == (resting ? 2 : 1));
    }
    CHECK(m.events() > 40);
}

TEST_CASE("inputs hold from the next step on; params before the start move it")
{
    const std::string text = "system S { input push = 0 ; param k = 2 in 0.1 .. 10 ; var x ; init k * x = 6 ; x' = (push - x) / (1 s) }\n";
    nl::FixedStepRun m = machine(text, "linear-euler", 0.1, {"x"}, {"push"});
    CHECK(m.output(0) == doctest::Approx(3));
    m.set_input(0, 11);
    REQUIRE(m.step() == Status::good);
    CHECK(m.output(0) == doctest::Approx((3 + 0.1 * 11) / 1.1).epsilon(1e-14));
    m.set("k", 4);
    REQUIRE(m.begin() == Status::good);
    CHECK(m.output(0) == doctest::Approx(1.5).epsilon(1e-14));
    CHECK_THROWS_AS(m.set("kk", 1), nl::UsageError);
    CHECK_THROWS_AS(m.set_input(1, 1), nl::UsageError);
    CHECK_THROWS_AS(machine(text, "linear-euler", 0.1, {"x"}, {"pull"}), nl::UsageError);
    CHECK_THROWS_AS(machine(text, "bdf", 0.1, {"x"}), nl::UsageError);
    CHECK_THROWS_AS(machine(text, "euler", 0, {"x"}), nl::RunError);
}

TEST_CASE("how a machine ends is told: a value without end, stop, fail, blocks without end")
{
    nl::FixedStepRun runs_away = machine("system S { var x init 1 ; x' = x^3 / (1 s) }\n", "euler", 1, {"x"});
    Status s = Status::good;
    for (int k = 0; k < 20 && s == Status::good; ++k) s = runs_away.step();
    CHECK(s == Status::not_finite);
    CHECK(runs_away.said() == "x");
    nl::FixedStepRun stops = machine("system S { var x init 0 ; x' = 1 / (1 s) ; when x > 0.25 { stop \"far enough\" } }\n", "euler", 0.1, {"x"});
    s = Status::good;
    int steps = 0;
    for (; s == Status::good && steps < 20; ++steps) s = stops.step();
    CHECK(s == Status::stopped);
    CHECK(steps == 3);
    CHECK(stops.said() == "far enough");
    CHECK(stops.step() == Status::stopped);  // for good
    nl::FixedStepRun fails = machine("system S { var x init 0 ; x' = 1 / (1 s) ; when x > 0.25 { fail \"too far\" } }\n", "euler", 0.1, {"x"});
    for (s = Status::good, steps = 0; s == Status::good && steps < 20; ++steps) s = fails.step();
    CHECK(s == Status::failed);
}

TEST_CASE("what cannot go on in fixed steps is refused with its place")
{
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/switching/converter.loop"));
    nl::CompiledSystem system = nl::compile(library, {.scenario = "run_up"});
    bool refused = false;
    try {
        nl::FixedStepRun run(system, {}, {}, {});
    } catch (const nl::RunError& error) {
        refused = true;
        CHECK(error.id() == "fixed-step");
        CHECK(std::string(error.what()).find("change in kind") != std::string::npos);
    }
    CHECK(refused);
    // what is set must be a state: here y follows from x
    refused = false;
    try {
        machine("system S { var x init 1 ; var y ; x' = -x / (1 s) ; y = x + x^3 ; when x < 0.5 { y := 3 } }\n", "linear-euler", 0.01, {"x"});
    } catch (const nl::RunError& error) {
        refused = true;
        CHECK(std::string(error.what()).find("test.loop:1:") != std::string::npos);
        CHECK(std::string(error.what()).find("sets what is no state") != std::string::npos);
    }
    CHECK(refused);
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Runs at one moment, whole: kept, read back, gone on from. A run that goes on from a point comes to where the run that it was taken from comes.
#include <doctest/doctest.h>

#include <cmath>
#include <filesystem>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("api");

namespace {

nl::RunOptions exact()
{
    nl::RunOptions o;
    o.tolerance = 1e-9;
    o.in_memory = false;
    o.stop = 100;
    return o;
}

// All quantities of two runs, as shares of what they usually are.
double apart(nl::Run& a, nl::Run& b, const nl::CompiledSystem& system)
{
    double most = 0;
    for (const std::string& path : system.quantities()) {
        double x = a.value(path), y = b.value(path);
        CAPTURE(path);
        double off = std::abs(x - y) / std::max({1.0, std::abs(x), std::abs(y)});
        if (off > 1e-6) MESSAGE(path << ": " << x << " and " << y);
        most = std::max(most, off);
    }
    return most;
}

// From a point at each of these times on to `until`.
void check_going_on(const std::string& text, const std::vector<double>& times, double until, double tolerance = 1e-6)
{
    nl::CompiledSystem system = test::compile(text);
    nl::Run whole(system);
    whole.begin(exact());
    std::vector<nl::RunPoint> points;
    for (double t : times) {
        whole.step_to(t);
        points.push_back(whole.point());
        CHECK(points.back().time == t);
    }
    whole.step_to(until);
    for (const nl::RunPoint& p : points) {
        nl::Run on(system);
        on.go_on_from(p, exact());
        CHECK(on.time() == p.time);
        on.step_to(until);
        CAPTURE(p.time);
        CHECK(apart(whole, on, system) < tolerance);
    }
}

}  // namespace

TEST_CASE("a run goes on from a point: clocks, memories, stages, hysteresis and what was set")
{
    check_going_on(
        "system Clocked { param gain = 0.8 ; memory u init 0 ; memory n init 0 ; var x init 0 ; x' * (1 s) = u - x ; every 0.3 s { n := n + 1 ; u := gain * (1 "
        "- x) "
        "+ 0.1 * n } }",
        {0, 0.1, 0.3, 1.05, 2.9}, 4.5);
    check_going_on(
        "system Thermostat { var T : degC init 18 degC ; memory on : bool init true ; (600 s) * T' = if on then 40 degC - T else 5 degC - T\n"
        "  when T > 22 degC { on := false } ; when T < 19 degC { on := true } }",
        {50, 90, 200}, 400);
    check_going_on(
        "system Duty { var v init 0 ; v' * (1 s) = if duty is up then 1 else if duty is down then -2 else 0\n"
        "  sequence duty { stage up { } -> rest when v >= 1 ; stage rest { } -> down when duty.dwell > 0.4 s ; stage down { start { } } -> up when v <= 0 } }",
        {0.2, 1.2, 1.7, 3.0}, 5.3);
    nl::CompiledSystem system = test::compile("system Lag { param T : s = 2 s in 1 ms .. 100 s ; input u = 0 ; var x init 0 ; T * x' = u - x }");
    nl::Run run(system);
    run.set("T", nl::q(0.5, "s"));
    run.begin(exact());
    run.step_to(1);
    run.input("u") = 3.0;
    nl::RunPoint p = run.point();
    nl::Run on(system);
    on.go_on_from(p, exact());
    CHECK(on.value("T") == 0.5);
    on.step_to(2);
    CHECK(on.value("x") == doctest::Approx(3 * (1 - std::exp(-2.0))).epsilon(1e-7));
    // back in the run itself
    run.step_to(3);
    run.go_on_from(p, exact());
    CHECK(run.time() == 1);
    CHECK(run.value("x") == doctest::Approx(0).scale(1e-9));
}

TEST_CASE("a run goes on from a point: states that are chosen, systems that change in kind, delays, sliding")
{
    check_going_on(
        "system P { var x : m init 0.9 m ; var y : m guess -0.4 m ; var t : N ; (1 kg) * x'' = -t * x / (1 m) ; (1 kg) * y'' = -t * y / (1 m) - 9.81 N ; x^2 + "
        "y^2 = 1 m^2 ; init x' = 0 m/s }",
        {0.1, 0.5, 0.9, 1.4}, 2.2, 1e-5);
    check_going_on(
        "use electrics\nsystem Rectifier { part s : VoltageSource ; part g : Ground ; part d : Diode ; part l : Inductor(inductance = 50 mH) ; part r : "
        "Resistor(resistance = 10 ohm)\n 20 V * sin(2 * pi * time / (0.1 s)) -> s.voltage ; s.plus -- d.plus ; d.minus -- l.plus ; l.minus -- r.plus ; r.minus "
        "-- s.minus -- g.pin }",
        {0.01, 0.049, 0.07, 0.12}, 0.23, 1e-5);
    check_going_on("system Late { var x init 1 ; x' * (1 s) = -2 * delay(x, 0.7 s) }", {0.3, 0.7, 1.9}, 4);
    check_going_on("system Sliding { var x init 0.5 ; var y init 0 ; x' * (1 s) = (if x > 0 then -1 else 1) + 0.3 * sin(time / (1 s)) ; y' * (1 s) = x + 1 }",
                   {0.2, 1.5}, 3);
}

TEST_CASE("points of the shipped models: values at the point, and rates, are those of the run")
{
    for (const test::Shipped& shipped : test::shipped_models()) {
        CAPTURE(shipped.file);
        CAPTURE(shipped.scenario);
        nl::Library library = nl::Library::standard();
        library.load_file(test::source_path(shipped.file));
        nl::CompiledSystem system = nl::compile(library, {.scenario = shipped.scenario});
        if (!system.stop() || system.n_states() > 200) continue;
        nl::Run run(system), on(system);
        run.step_to(0.37 * *system.stop());
        nl::RunPoint p;
        try {
            p = run.point();
        } catch (const nl::UsageError&) {
            continue;  // units of FMI
        }
        on.go_on_from(p);
        CHECK(apart(run, on, system) < 1e-5);
    }
}

TEST_CASE("a recording keeps points: they cost no steps, come back from the file, and lie behind an event that comes at their time")
{
    const std::string text =
        "system Clocked { param gain = 0.8 ; memory u init 0 ; var x init 0 ; x' * (1 s) = u - x ; every 0.5 s { u := gain * (2 - x) } }\n"
        "scenario s of Clocked { stop at 3 s ; output every 0.1 s }";
    nl::Library library = nl::Library::standard();
    library.load_text("clocked.loop", text);
    nl::CompiledSystem system = nl::compile(library, {.scenario = "s"});
    nl::Run plain(system), kept(system);
    test::Scratch scratch;
    std::string file = scratch / "kept.h5";
    nl::Recording without = plain.simulate();
    nl::RunOptions options;
    options.out = file;
    options.points = 7;
    kept.simulate(options);
    CHECK(kept.summary().steps == plain.summary().steps);
    CHECK(kept.summary().rows == plain.summary().rows);
    nl::Recording r = nl::Recording::load(file);
    CHECK(r.n_rows() == without.n_rows());
    REQUIRE(r.points.size() == 7);
    for (std::size_t k = 0; k < 7; ++k) {
        CHECK(r.points[k].time == doctest::Approx(0.5 * static_cast<double>(k)));
        nl::Run on(system);
        on.go_on_from(r.points[k]);
        // behind the tick of this time
        CHECK(on.value("x") == doctest::Approx(without["x"].at(r.points[k].time, without.time())).epsilon(1e-9));
        CHECK(on.value("u") == doctest::Approx(without["u"].at(r.points[k].time, without.time())).epsilon(1e-9));
        on.step_to(3);
        CHECK(on.value("x") == doctest::Approx(without["x"].final()).epsilon(1e-5));
    }
    // written again they stay
    r.save(scratch / "again.h5");
    CHECK(nl::Recording::open(scratch / "again.h5").points.size() == 7);
    nl::RunOptions every;
    every.points_every = 0.8;
    nl::Run often(system);
    CHECK(often.simulate(every).points.size() == 4);
}

TEST_CASE("a run that is only looked at starts with the method and the tolerance that are asked for")
{
    nl::CompiledSystem system = test::compile("system A { var x init 1 ; var y init 0 ; x' * (1 s) = y ; y' * (1 s) = -x }");
    auto off = [&](double tolerance) {
        nl::Run run(system);
        nl::RunOptions options;
        options.tolerance = tolerance;
        run.start(options);
        CHECK(run.time() == 0);
        CHECK(run.value("x") == 1);
        CHECK(run.step_to(20));
        CHECK(run.recording().n_rows() == 0);
        return std::abs(run.value("x") - std::cos(20.0));
    };
    CHECK(off(1e-9) < 1e-6);
    CHECK(off(1e-3) > 1e-5);
    nl::RunOptions wrong;
    wrong.integrator = "none";
    CHECK_THROWS_AS(nl::Run(system).start(wrong), nl::UsageError);
}

TEST_CASE("points: what is asked for in vain is told")
{
    nl::CompiledSystem a = test::compile("system A { var x init 1 ; x' * (1 s) = -x }"), b = test::compile("system B { var y init 1 ; y' * (1 s) = -y }");
    nl::Run run(a), other(b);
    run.step_to(1);
    CHECK_THROWS_WITH_AS(other.go_on_from(run.point()), doctest::Contains("does not hold the whole state of 'B'"), nl::UsageError);
    CHECK_THROWS_WITH_AS(other.go_on_from({}), doctest::Contains("holds no run"), nl::UsageError);
    nl::RunOptions options;
    options.stop = 1;
    options.points = 3;
    options.points_every = 1;
    CHECK_THROWS_WITH_AS(run.simulate(options), doctest::Contains("one of the two"), nl::UsageError);
    options.points = 0;
    options.points_every = -1;
    CHECK_THROWS_WITH_AS(run.simulate(options), doctest::Contains("longer than 0 s"), nl::UsageError);
    test::Scratch scratch;
    options.points_every = 0.5;
    options.out = scratch / "rows.csv";
    CHECK_THROWS_WITH_AS(run.simulate(options), doctest::Contains("text holds no points"), nl::UsageError);
    CHECK_FALSE(std::filesystem::exists(scratch / "rows.csv"));
}

TEST_SUITE_END();

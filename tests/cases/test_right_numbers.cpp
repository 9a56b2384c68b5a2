// SPDX-License-Identifier: Apache-2.0
// Models that once gave wrong numbers without a word, and their near relatives, against answers made elsewhere.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

struct Ran {
    Recording rec;
    RunSummary summary;
    double measure(const std::string& name) const
    {
        for (const MeasureResult& m : summary.measures)
            if (m.name == name) return m.value;
        FAIL("no measure " << name);
        return 0;
    }
};

Ran run_of(const std::string& text, const RunOptions& options = {})
{
    Run run(test::compile(text));
    Ran r;
    r.rec = run.simulate(options);
    r.summary = run.summary();
    return r;
}

std::string failure_of(const std::string& text)
{
    try {
        run_of(text);
    } catch (const RunError& error) {
        return error.id() + ": " + error.what();
    }
    return "";
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("a second block of linear equations that holds unknowns of the first")
{
    Ran r =
        run_of("system S {\n var x, y, u, v : 1\n x + 2*y = 4\n 3*x - y = 5\n u + 2*v + x + y = 10\n 3*u - v = 5*x + 7*y\n}\nscenario s of S { stop at 1 s }");
    CHECK(r.rec["x"].final() == doctest::Approx(2).epsilon(1e-12));
    CHECK(r.rec["u"].final() == doctest::Approx(41.0 / 7).epsilon(1e-12));
    CHECK(r.rec["v"].final() == doctest::Approx(4.0 / 7).epsilon(1e-12));
    // three in a row, each of three unknowns that hold those before: solved by hand backwards, all are whole numbers
    r = run_of(R"(system S {
 var a, b, c, d, e, f : 1
 a + b + c = 6
 a - b + 2*c = 5
 2*a + b - c = 1
 d + e + f = 2*a + 4*b + c
 d - e + f = a + c
 d + 2*e - f = a + 5*b - 2*c
}
scenario s of S { stop at 1 s })");
    // a = 1, b = 2, c = 3; d + e + f = 13, d - e + f = 4, d + 2e - f = 5
    CHECK(r.rec["a"].final() == doctest::Approx(1).epsilon(1e-12));
    CHECK(r.rec["e"].final() == doctest::Approx(4.5).epsilon(1e-12));
    CHECK(r.rec["d"].final() == doctest::Approx(2.25).epsilon(1e-12));
    CHECK(r.rec["f"].final() == doctest::Approx(6.25).epsilon(1e-12));
}

TEST_CASE("two geared axes, the second driven by the first one's accelerations")
{
    const char* text = R"(system Axes {
    const J1 : kg*m^2 = 0.1 kg*m^2
    const J2 : kg*m^2 = 0.4 kg*m^2
    var w1, v1, w2, v2 : rad/s usual 0.01 rad/s init 0 rad/s
    var t1, t2 : N*m
    J1 * w1' = 1 N*m * sin(3 s^-1 * time) - t1
    J2 * v1' = t1 - 0.1 N*m*s * v1
    w1' - v1' = 0.2 * (w1' + v1') * cos(w1 * 0.1 s)
    J1 * w2' = J1 * (w1' + v1') - t2
    J2 * v2' = t2 - 0.1 N*m*s * v2
    w2' - v2' = 0.2 * (w2' + v2')
}
scenario s of Axes { stop at 0.1 s ; tolerance 1e-9 })";
    Ran r = run_of(text);
    CHECK(r.rec["w2"].final() == doctest::Approx(0.0182331).epsilon(1e-5));
    CHECK(r.rec["v2"].final() == doctest::Approx(0.0121554).epsilon(1e-5));
}

TEST_CASE("signals of time are not stepped over: heat of a mains voltage, whatever the stop, the tolerance and the method")
{
    for (double stop : {10.0, 20.0, 61.0})
        for (double tolerance : {1e-3, 1e-6, 1e-9})
            for (const char* method : {"auto", "bdf", "adams", "sdirk"}) {
                INFO(stop << " s, " << tolerance << ", " << method);
                RunOptions options;
                options.stop = stop;
                options.tolerance = tolerance;
                options.integrator = method;
                Ran r = run_of("system S {\n var E : J init 0 J\n E' = 2000 W * sin(2*pi * 50 Hz * time)^2\n}\n", options);
                CHECK(r.rec["E"].final() == doctest::Approx(1000 * stop).epsilon(std::min(0.08, 1000 * tolerance)));  // of some ten thousand steps
            }
    // one short pulse in a long quiet run
    Ran r = run_of("system S {\n var x : m init 0 m\n x' = 1 m/s * exp(-((time - 654.321 s) / (0.1 s))^2)\n}\nscenario s of S { stop at 1000 s }");
    CHECK(r.rec["x"].final() == doctest::Approx(0.1 * std::sqrt(M_PI)).epsilon(1e-5));
    // a phase that is a state
    r = run_of(
        "system S {\n var p : 1 init 0.5\n var E : J init 0 J\n p' = 0 s^-1\n E' = 2000 W * sin(2*pi * 50 Hz * time + p)^2\n}\nscenario s of S { stop at 20 s "
        "}");
    CHECK(r.rec["E"].final() == doctest::Approx(20000).epsilon(1e-4));
}

TEST_CASE("measures and conditions of signals of time while the states rest")
{
    Ran r = run_of(R"(system S {
 var x : 1 init 0
 x' = 0 s^-1
 let sun = max(sin(2*pi * time / (24 h)), 0)
 memory seen = 0
 var hours : h init 0 h
 hours' = if sun > 0.25 then 1 else 0
 when sun > 0.5 { seen := seen + 1 }
}
scenario week of S {
 stop at 168 h
 measure days = count(sun > 0.9)
 measure area : h = integral(sun)
 measure top = max(sun)
 measure at_top : h = time_of_max(sun)
 measure root = rms(sin(2*pi * time / (24 h)))
 measure half_up : h = first(time when sun > 0.5)
})");
    CHECK(r.measure("days") == 7);
    CHECK(r.measure("area") == doctest::Approx(168 * 3600 / M_PI).epsilon(1e-6));
    CHECK(r.measure("top") == doctest::Approx(1).epsilon(1e-9));
    CHECK(std::abs(std::remainder(r.measure("at_top") - 6 * 3600, 24 * 3600)) < 60);
    CHECK(r.measure("root") == doctest::Approx(std::sqrt(0.5)).epsilon(1e-6));
    CHECK(r.measure("half_up") == doctest::Approx(2 * 3600).epsilon(1e-9));
    CHECK(r.rec["seen"].final() == 7);
    CHECK(r.rec["hours"].final() == doctest::Approx(7 * 24 * 3600 * (M_PI - 2 * std::asin(0.25)) / (2 * M_PI)).epsilon(1e-6));
    CHECK(r.summary.steps < 300);
}

TEST_CASE("five hundred turns of a fast signal beside a slow state are five hundred")
{
    Ran r = run_of(R"(system S {
 var x : 1 init 0
 x' = 0.01 s^-1
 let u : V = 325 V * sin(2*pi * 50 Hz * time)
 memory n = 0
 when u > 0 V { n := n + 1 }
}
scenario s of S { stop at 10 s ; measure c = count(u > 0 V) ; measure v : V = rms(u) })");
    CHECK(r.rec["n"].final() == 500);
    CHECK(r.measure("c") == 500);
    CHECK(r.measure("v") == doctest::Approx(325 / std::sqrt(2.0)).epsilon(1e-6));
}

TEST_CASE("what equations settle is solved where measures and conditions look at it")
{
    Ran r = run_of(R"(system S {
 var E : J init 0 J
 var p : W
 p + 1e-9 W^-2 * p^3 / 1e9 = 2000 W * sin(2*pi * 50 Hz * time)^2
 E' = p
}
scenario s of S { stop at 1 s ; measure m : W = mean(p) ; measure c = count(p > 1900 W) ; measure top : W = max(p) })");
    CHECK(r.measure("m") == doctest::Approx(1000).epsilon(1e-5));
    CHECK(r.measure("c") == 100);
    CHECK(r.measure("top") == doctest::Approx(2000).epsilon(1e-6));
    // no extreme lies within what the rows show
    for (const char* name : {"p", "E"}) CHECK(r.rec[name].max() <= 2000 * (1 + 1e-6));
    CHECK(r.measure("top") >= r.rec["p"].max());
}

TEST_CASE("what has no value does not become a number, on whichever side it stands")
{
    for (const char* faulty :
         {"max(0, log(z))", "clamp(sqrt(z), 0, 1)", "if log(z) > 0 then 1 else 2", "sign(log(z))", "smooth_step(log(z), 0, 1)", "min(1, asin(z - 1))"}) {
        INFO(faulty);
        CHECK(failure_of(std::string("system S {\n param z : 1 = -1\n let a = ") + faulty + "\n}\nscenario s of S { stop at 1 s }").find("run-failed") == 0);
    }
    CHECK(failure_of("system S {\n param z : 1 = 0\n memory m = 1 / z\n}\nscenario s of S { stop at 1 s }").find("start-failed: test.loop:3: memory 'm'") == 0);
    // in a branch that is not taken it may stand
    CHECK(failure_of("system S {\n param z : 1 = -1\n let a = if z > 0 then (if log(z) > 0 then 1 else 2) else 3\n}\nscenario s of S { stop at 1 s }").empty());
}

TEST_CASE("declared ranges are kept or told: at the start, by a state on its way, by what follows from it")
{
    CHECK(failure_of("system S {\n var x : m init 5 m in 0 m .. 1 m\n x' = -x / (1 s)\n}\nscenario s of S { stop at 1 s }")
              .find("start-failed: test.loop:2: init x = 5 m cannot be met") == 0);
    std::string told = failure_of("system S {\n ## level of the tank\n var x : m init 0.5 m in 0 m .. 1 m\n x' = 0.1 m/s\n}\nscenario s of S { stop at 10 s }");
    CHECK(told.find("run-failed: at 5.") == 0);
    CHECK(told.find("'x' = 1.0") != std::string::npos);
    CHECK(told.find("which must lie in 0 m .. 1 m (level of the tank)") != std::string::npos);
    CHECK(
        failure_of("system S {\n var x : m init 0 m\n var k : m in 0 m .. 1 m\n x' = 0.5 m/s\n k = 3 * x\n}\nscenario s of S { stop at 1 s }").find("'k' = ") !=
        std::string::npos);
    CHECK(failure_of("system S {\n var x : m init 1 m in 0 m .. 1 m\n x' = -x / (1 s)\n}\nscenario s of S { stop at 30 s }").empty());
}

TEST_CASE("a plastic impact, and one that is all but plastic, are told, and do not fall through the floor")
{
    for (const char* speed : {"0 m/s", "-0.01 * h'", "-0.001 * h'"}) {
        INFO(speed);
        std::string told = failure_of(std::string("system S {\n var h : m init 1 m\n init h' = 0\n h'' = -9.81 m/s^2\n when h < 0 m and h' < 0 m/s { h' := ") +
                                      speed + " }\n}\nscenario s of S { stop at 3 s }");
        CHECK(told.find("pile-up") == 0);
    }
    // a condition that a block leaves alone may hold on
    CHECK(failure_of("system S {\n var h : m init 0 m\n memory n = 0\n h' = 1 m/s\n when h > 1 m { n := n + 1 }\n}\nscenario s of S { stop at 3 s }").empty());
}

TEST_CASE("constraints among sums without rates: parallel resistors between coils, a snubber, a law that is a let")
{
    const char* circuit = R"(
    part ground : Ground
    part source : AcSource(voltage = 5 V, frequency = 50 Hz)
    part l1, l2 : Inductor(inductance = 0.1 H)
    part load   : Resistor(resistance = 1 ohm)
    source.plus -- l1.plus
    l2.minus -- load.plus
    load.minus -- source.minus -- ground.pin
)";
    Recording two = test::simulate_parts(
        "electrics", std::string(circuit) + "part r1, r2 : Resistor(resistance = 10 ohm)\nl1.minus -- r1.plus -- r2.plus\nr1.minus -- r2.minus -- l2.plus\n",
        0.1);
    Recording one =
        test::simulate_parts("electrics", std::string(circuit) + "part r : Resistor(resistance = 5 ohm)\nl1.minus -- r.plus\nr.minus -- l2.plus\n", 0.1);
    for (std::size_t k = 0; k < two.n_rows(); ++k) CHECK(std::abs(two["l1.i"].values[k] - one["l1.i"].values[k]) < 1e-8);
    Recording snubber = test::simulate_parts(
        "electrics",
        std::string(circuit) +
            "part r : Resistor(resistance = 10 ohm)\npart c : Capacitor(capacitance = 1 uF)\nl1.minus -- r.plus -- c.plus\nr.minus -- c.minus -- l2.plus\n",
        0.1);
    // the source's 5 V are its effective value: (L1 + L2) i' = u - R i - v, C v' = i - v / R, by classical Runge-Kutta
    double i = 0, v = 0, t = 0, h = 1e-6;
    auto rate = [](double time, double x, double y) {
        return std::pair{(5 * std::sqrt(2.0) * std::sin(2 * M_PI * 50 * time) - 1 * x - y) / 0.2, (x - y / 10) / 1e-6};
    };
    for (int k = 0; k < 100000; ++k, t += h) {
        auto [a1, b1] = rate(t, i, v);
        auto [a2, b2] = rate(t + h / 2, i + h / 2 * a1, v + h / 2 * b1);
        auto [a3, b3] = rate(t + h / 2, i + h / 2 * a2, v + h / 2 * b2);
        auto [a4, b4] = rate(t + h, i + h * a3, v + h * b3);
        i += h / 6 * (a1 + 2 * a2 + 2 * a3 + a4);
        v += h / 6 * (b1 + 2 * b2 + 2 * b3 + b4);
    }
    CHECK(snubber["l1.i"].final() == doctest::Approx(i).epsilon(1e-5));
    CHECK(std::abs(snubber["l1.i"].final() - snubber["l2.i"].final()) < 1e-12);
    Recording law = test::simulate(
        "system S {\n var i1 : A init 10 mA\n var i2 : A\n var u1, u2 : V guess 0 V\n let q = 1e-6 A * (exp((u1 - u2) / 26 mV) - 1)\n"
        " 0.1 H * i1' = 5 V - u1 - 10 ohm * i1\n 0.1 H * i2' = u2 - 10 ohm * i2\n i1 = q\n i2 = q\n}\n",
        0.1);
    CHECK(std::abs(law["i1"].final() - law["i2"].final()) < 1e-12);
}

TEST_CASE("a double pendulum let go level, with all its positions and speeds given")
{
    Ran r = run_of(R"(system S {
 var x : m init 1 m
 var y : m init 0 m
 var u : m init 2 m
 var v : m init 0 m
 var p, q : N/m
 init x' = 0
 init y' = 0
 init u' = 0
 init v' = 0
 1 kg * x'' = -p * x + q * (u - x)
 1 kg * y'' = -p * y + q * (v - y) - 9.81 N
 1 kg * u'' = -q * (u - x)
 1 kg * v'' = -q * (v - y) - 9.81 N
 x^2 + y^2 = 1 m^2
 (u - x)^2 + (v - y)^2 = 1 m^2
 let energy = 0.5 kg * (x'^2 + y'^2 + u'^2 + v'^2) + 9.81 N * (y + v)
}
scenario s of S { stop at 1 s ; tolerance 1e-9 })");
    CHECK(r.summary.agreed.size() == 4);
    CHECK(std::abs(r.rec["energy"].final()) < 1e-6);
}

TEST_CASE("digits follow the tolerance where the run chooses the states: a pendulum that goes round")
{
    const char* text = R"(system S {
 var x : m guess 0 m
 var y : m guess -1 m
 var pull : N
 1 kg * x'' = -pull * x / (1 m)
 1 kg * y'' = -pull * y / (1 m) - 9.81 N
 x^2 + y^2 = 1 m^2
 init atan2(x, -y) = 0 rad
 init x' = 7 m/s
 let angle = atan2(x, -y)
})";
    // the angle by itself: a'' = -9.81 sin(a), by classical Runge-Kutta
    double a = 0, w = 7, h = 1e-4;
    for (int k = 0; k < 30000; ++k) {
        double k1 = w, l1 = -9.81 * std::sin(a), k2 = w + h / 2 * l1, l2 = -9.81 * std::sin(a + h / 2 * k1), k3 = w + h / 2 * l2,
               l3 = -9.81 * std::sin(a + h / 2 * k2), k4 = w + h * l3, l4 = -9.81 * std::sin(a + h * k3);
        a += h / 6 * (k1 + 2 * k2 + 2 * k3 + k4), w += h / 6 * (l1 + 2 * l2 + 2 * l3 + l4);
    }
    for (const char* method : {"bdf", "sdirk"})
        for (double tolerance : {1e-5, 1e-7, 1e-9}) {
            INFO(method << " " << tolerance);
            RunOptions options;
            options.stop = 3;
            options.tolerance = tolerance;
            options.integrator = method;
            Ran r = run_of(text, options);
            CHECK(std::abs(std::remainder(r.rec["angle"].final() - a, 2 * M_PI)) < 1000 * tolerance);
        }
}

TEST_CASE("delays: the digits follow the tolerance, and what is smooth gives no rows")
{
    // x' = -x(t - 1), x = 1 before 0: x(t) = sum over k of (-1)^k (t - (k - 1))^k / k!
    auto exact = [](double t) {
        double sum = 0, factorial = 1;
        for (int k = 0; k <= static_cast<int>(t) + 1; ++k) {
            if (k > 0) factorial *= k;
            sum += (k % 2 == 0 ? 1 : -1) * std::pow(t - (k - 1), k) / factorial;
        }
        return sum;
    };
    for (double tolerance : {1e-4, 1e-6, 1e-8, 1e-10}) {
        INFO(tolerance);
        RunOptions options;
        options.stop = 5.5;
        options.tolerance = tolerance;
        options.output_every = 5.5;
        Ran r = run_of("system S {\n var x : 1 init 1\n x' = -delay(x, 1 s) * 1 s^-1\n}\n", options);
        CHECK(std::abs(r.rec["x"].final() - exact(5.5)) < 20 * tolerance);
        CHECK(r.summary.rows == 2);
        CHECK(r.summary.events == 0);
    }
}

TEST_CASE("a far stop does not set the least step; a root that is all but zero does not end a run")
{
    RunOptions options;
    options.stop = 3.15e7;
    options.integrator = "bdf";
    CHECK(run_of("system S {\n var x : 1 init 1\n var y : 1 init 0\n x' = -1e6 s^-1 * (x - cos(1e-7 s^-1 * time))\n y' = 1e-7 s^-1 * x\n}\n", options)
              .summary.complete);
    for (double tolerance : {1e-3, 1e-4, 1e-6, 1e-8}) {
        RunOptions o;
        o.tolerance = tolerance;
        Ran r = run_of("system S {\n var y : 1 init 1\n y' = 1 s^-1 * (0.002 - sqrt(y))\n}\nscenario s of S { stop at 10 s ; output every 20 ms }", o);
        CHECK(std::abs(r.rec["y"].final() - 4e-6) < 1e-9);  // where it rests
    }
}

TEST_CASE("open ports: a machine whose heat ports are joined to nothing stays at its reference")
{
    Recording motor = test::simulate_parts(
        "electrics", "part g : Ground\npart s : VoltageSource(voltage = 24 V)\npart m : DcMachine\ns.plus -- m.plus\ns.minus -- m.minus -- g.pin\n", 20);
    CHECK(motor["m.winding.T"].final() == doctest::Approx(293.15));
    CHECK(motor["m.speed"].final() == doctest::Approx(24 / 0.5).epsilon(1e-6));  // no load: the back voltage is all of it
    CHECK(motor["m.winding.heat"].values[1] == doctest::Approx(-motor["m.loss"].values[1]));
    Recording pack = test::simulate_parts(
        "electrics", "part g : Ground\npart b : Battery(cells = 14)\npart r : Resistor\nb.plus -- r.plus\nb.minus -- r.minus -- g.pin\n", 0.3);
    CHECK(pack["b.surface.T"].final() == doctest::Approx(298.15));
    CHECK(pack["r.i"].final() > 50);
}

TEST_CASE("a switch closes onto a diode that conducts, and both turn in one instant")
{
    const char* text = R"(use electrics
component Line : TwoTerminal {
    var s : V guess -1 V
    u = if s > 0 V then 0 V else s
    i = if s > 0 V then s / (1 ohm) else 1e-8 S * s
}
component Gate : TwoTerminal {
    input closed : 1
    if closed > 0.5 { u = 0 V } else { i = 0 A }
}
system S {
    part source : VoltageSource(voltage = 24 V)
    part high   : Gate
    part low    : Line
    part coil   : Inductor(inductance = 100 uH)
    part load   : Resistor(resistance = 5 ohm)
    part ground : Ground
    memory on = 1
    every 50 us { on := 1 }
    every 50 us from 25 us { on := 0 }
    on -> high.closed
    source.plus -- high.plus
    high.minus -- low.minus -- coil.plus
    coil.minus -- load.plus
    source.minus -- low.plus -- load.minus -- ground.pin
    init coil.i = 0 A
}
scenario s of S { stop at 1 ms ; tolerance 1e-8 })";
    Ran r = run_of(text);
    // i' = (24 V - R i) / L while on, -R i / L while off, piece by piece
    double i = 0, decay = std::exp(-5 * 25e-6 / 100e-6);
    for (int k = 0; k < 20; ++k) i = 24.0 / 5 + (i - 24.0 / 5) * decay, i *= decay;
    CHECK(r.rec["coil.i"].final() == doctest::Approx(i).epsilon(1e-6));
}

TEST_CASE("a line of the user's own that is one too many is named first")
{
    std::string twice = test::messages_of(
        "use mechanics\nsystem S {\n part m : Mass(mass = 2 kg)\n part s : Spring(stiffness = 100 N/m)\n part w : Anchor\n w.point -- s.a\n s.b -- m.point\n"
        " init m.x = 0.1 m\n m.v = 1 m/s\n}\n");
    CHECK(twice.find("test.loop:9:2: error: too many equations") == 0);
    CHECK(twice.find("in the system: m.v = 1") != std::string::npos);
    // the port is open, so that nothing flows, and the line says it again
    std::string open = test::messages_of("use heat\nsystem S {\n part room : HeatMass(capacity = 1 MJ/K)\n room.surface.heat = 0 W\n}\n");
    CHECK(open.find("test.loop:4:2: error: too many equations") != std::string::npos);
    CHECK(open.find("no reference") == std::string::npos);
}

TEST_CASE("a let inside a loop is a name for one round of it; a named joint is recorded by what its ports share")
{
    RunOptions second;
    second.stop = 1;
    Ran r = run_of(
        "system S { var x[3] : 1 ; for i in 1 .. 3 { let w = 2 * pi * i / 3 ; let twice : 1 = 2 * w ; init x[i] = cos(w) ; x[i]' = sin(twice) * 1 s^-1 } }",
        second);
    for (int i = 1; i <= 3; ++i)
        CHECK(r.rec["x[" + std::to_string(i) + "]"].final() ==
              doctest::Approx(std::cos(2 * 3.14159265358979 * i / 3) + std::sin(4 * 3.14159265358979 * i / 3)).scale(1));
    Ran joint = run_of(
        "use electrics\nsystem S { part ground : Ground ; part source : VoltageSource(voltage = 5 V) ; part r1, r2 : Resistor(resistance = 10 ohm)\n"
        "source.plus -- r1.plus ; joint node = r1.minus -- r2.plus ; ground.pin -- source.minus -- r2.minus }",
        second);
    CHECK(joint.rec["node.v"].final() == doctest::Approx(2.5));
}

TEST_CASE("a run that fails in a part with an open port names the port")
{
    std::string open = failure_of(
        "use electrics\nsystem S { part d : PerfectDiode ; part r : Resistor(resistance = 1 ohm) ; part g : Ground\n d.minus -- r.plus ; r.minus -- g.pin }\n"
        "scenario s of S { stop at 1 s }");
    CHECK(open.find("port 'd.plus' is in no joint") != std::string::npos);
}

TEST_CASE("a run that a hundred thousand steps bring on by nothing ends with the quantity that is hardest to follow")
{
    std::string said = failure_of("system S { var x init 1 ; x' = 1e12 s^-1 * (sin(1e12 s^-1 * time) - x) }\nscenario s of S { stop at 1000 s }");
    CHECK(said.find("the run does not get on: 100000 steps") != std::string::npos);
    CHECK(said.find("hardest to follow: 'x' = ") != std::string::npos);
}

TEST_SUITE_END();

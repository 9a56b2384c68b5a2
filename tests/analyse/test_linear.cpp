// SPDX-License-Identifier: Apache-2.0
// Linear models against transfer functions derived by hand, and against differences of the compiled equations on every shipped model.
#include <doctest/doctest.h>

#include <cmath>
#include <numbers>

#include "analyse/point.hpp"
#include "api/internal.hpp"
#include "integrate/simulate.hpp"
#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("analyse");

namespace {

using Complex = std::complex<double>;

nl::CompiledSystem compile(const std::string& text, const std::vector<std::string>& linear_inputs = {})
{
    nl::Library library = nl::Library::standard();
    library.load_text("model.loop", text);
    return nl::compile(library, {.no_scenario = true, .linear_inputs = linear_inputs});
}

nl::LinearModel linear(const std::string& text, const nl::LinearRequest& request, double at = 0)
{
    std::vector<std::string> signals = request.inputs;
    signals.insert(signals.end(), request.open.begin(), request.open.end());
    nl::CompiledSystem system = compile(text, signals);
    nl::Run run(system);
    run.step_to(at);
    return run.linear(request);
}

// Held against a quotient of polynomials, highest power first, at frequencies over six decades.
void check_quotient(const nl::TransferFunction& f, const std::vector<double>& above, const std::vector<double>& below, double tolerance = 1e-9)
{
    auto value = [](const std::vector<double>& p, Complex s) {
        Complex v = 0;
        for (double c : p) v = v * s + c;
        return v;
    };
    CHECK(f.poles.size() == below.size() - 1);
    CHECK(f.zeros.size() == above.size() - 1);
    for (double w = 1e-3; w < 2e3; w *= 3) {
        Complex s(0, w), want = value(above, s) / value(below, s), have = f.at(s);
        CAPTURE(w);
        CHECK(std::abs(have - want) <= tolerance * std::abs(want));
    }
    CHECK(f.error < 1e-8);
}

const std::string kMassOnSpring =
    "system S { input force : N = 0 N ; param m : kg = 1 kg in 1 g .. 1 t ; param d : N*s/m = 1 N*s/m ; param c : N/m = 1 N/m ; var x : m init 0 m\n"
    "  m * x'' = force - d * x' - c * x ; init x' = 0 m/s }";

}  // namespace

TEST_CASE("a mass on a spring and a damper, all of them 1, prints 1 / (s^2 + s + 1)")
{
    nl::LinearModel m = linear(kMassOnSpring, {.inputs = {"force"}, .outputs = {"x"}});
    CHECK(m.transfer(0, 0).text() == "1 / (s^2 + s + 1)");
    CHECK(m.text().find("  1 / (s^2 + s + 1)\n") != std::string::npos);
    std::vector<nl::Root> poles = m.poles();
    REQUIRE(poles.size() == 2);
    CHECK(poles[0].frequency() == doctest::Approx(1 / (2 * std::numbers::pi)));
    CHECK(poles[0].damping() == doctest::Approx(0.5));
    CHECK(poles[0].time_constant() == doctest::Approx(2));
    // its step answer, from the books: 1 - exp(-t/2) (cos w t + sin w t / (2 w)), w = sqrt(3)/2
    std::vector<double> times{0, 0.3, 1, 2.5, 7}, y = m.step(0, 0, times);
    for (std::size_t k = 0; k < times.size(); ++k) {
        double t = times[k], w = std::sqrt(3) / 2;
        CHECK(y[k] == doctest::Approx(1 - std::exp(-t / 2) * (std::cos(w * t) + std::sin(w * t) / (2 * w))).epsilon(1e-10));
    }
    // the amplitude at 1 rad/s is 1, the phase -90 deg
    Complex at_one = m.response(0, 0, {1 / (2 * std::numbers::pi)})[0];
    CHECK(at_one.real() == doctest::Approx(0).scale(1e-12));
    CHECK(at_one.imag() == doctest::Approx(-1));
}

TEST_CASE("a param acts as an input: the slope of the rest by the stiffness")
{
    // at rest under 2 N: x = F / c; a small change of c moves it like -x / (m s^2 + d s + c)
    nl::CompiledSystem system = compile(kMassOnSpring);
    nl::Run run(system);
    run.input("force") = 2.0;
    run.set("c", nl::q(4, "N/m"));
    run.step_to(60);
    nl::LinearModel m = run.linear({.inputs = {"c"}, .outputs = {"x", "x'"}});
    check_quotient(m.transfer(0, 0), {-0.5}, {1, 1, 4}, 1e-8);
}

TEST_CASE("two inertias on an elastic shaft: collocated there are zeros, across the shaft there are none")
{
    const std::string text =
        "system D { input torque : N*m = 0 N*m ; param j1 : kg*m^2 = 2 kg*m^2 ; param j2 : kg*m^2 = 0.5 kg*m^2 ; param c : N*m/rad = 300 N*m/rad ; param d : "
        "N*m*s/rad = 0.4 "
        "N*m*s/rad\n  var a : rad init 0 rad ; var b : rad init 0 rad ; j1 * a'' = torque - c * (a - b) - d * (a' - b') ; j2 * b'' = c * (a - b) + d * (a' - "
        "b')\n"
        "  init a' = 0 rad/s ; init b' = 0 rad/s ; let speed_a : rad/s = a' ; let speed_b : rad/s = b' }";
    nl::LinearModel m = linear(text, {.inputs = {"torque"}, .outputs = {"speed_a", "speed_b", "a"}});
    const double j1 = 2, j2 = 0.5, c = 300, d = 0.4;
    std::vector<double> below{j1 * j2, (j1 + j2) * d, (j1 + j2) * c, 0};
    check_quotient(m.transfer(0, 0), {j2, d, c}, below);
    check_quotient(m.transfer(0, 1), {d, c}, below);
    below.push_back(0);
    check_quotient(m.transfer(0, 2), {j2, d, c}, below, 1e-6);
    // what the speed of a does not see, its angle, is left out and told
    CHECK(m.transfer(0, 0).cancelled.size() == 1);
    nl::TransferFunction f = m.transfer(0, 0);
    REQUIRE(f.zeros.size() == 2);
    CHECK(std::abs(f.zeros[0]) == doctest::Approx(std::sqrt(c / j2)));
}

TEST_CASE("a ladder of coil, resistor and capacitor, twice")
{
    const std::string text =
        "use electrics\nsystem L { input u : V = 0 V ; param c : F = 2 mF\n part s : VoltageSource ; u -> s.voltage ; part l1 : Inductor(inductance = 0.1 H) ; "
        "part r1 : "
        "Resistor(resistance = 3 ohm) ; part c1 : Capacitor(capacitance = c) ; part l2 : Inductor(inductance = 0.2 H) ; part r2 : Resistor(resistance = 5 ohm) "
        "; part c2 : "
        "Capacitor(capacitance = c) ; part g : Ground\n s.plus -- l1.plus ; l1.minus -- r1.plus ; r1.minus -- c1.plus -- l2.plus ; l2.minus -- r2.plus ; "
        "r2.minus -- c2.plus ; "
        "s.minus -- c1.minus -- c2.minus -- g.pin\n init c1.u = 0 V ; init c2.u = 0 V ; init l1.i = 0 A ; init l2.i = 0 A }";
    std::vector<std::string> errors = test::errors_of(text);
    if (!errors.empty()) MESSAGE(test::messages_of(text));
    REQUIRE(errors.empty());
    nl::LinearModel m = linear(text, {.inputs = {"u"}, .outputs = {"c2.u"}});
    // z1 = 0.1 s + 3, z2 = 0.2 s + 5, y = c s: 1 / ((1 + z1 y)(1 + z2 y) + z1 y)
    const double c = 2e-3;
    std::vector<double> a{0.1 * c, 3 * c, 1}, b{0.2 * c, 5 * c, 1}, below(5, 0.0);
    for (std::size_t i = 0; i < 3; ++i)
        for (std::size_t k = 0; k < 3; ++k) below[i + k] += a[i] * b[k];
    below[2] += 0.1 * c;
    below[3] += 3 * c;
    check_quotient(m.transfer(0, 0), {1}, below);
}

TEST_CASE("a direct-current machine of the library: two poles, no zero")
{
    const std::string text =
        "use electrics\nsystem M { input u : V = 0 V ; part s : VoltageSource ; u -> s.voltage ; part m : DcMachine(constant = 0.8 V*s/rad, resistance = 0.3 "
        "ohm, inductance = 6 mH, inertia = "
        "0.07 kg*m^2) ; part g : Ground ; s.plus -- m.plus ; s.minus -- m.minus -- g.pin\n init m.i = 0 A ; init m.speed = 0 rpm ; init m.shaft.angle = 0 rad "
        "}";
    nl::LinearModel m = linear(text, {.inputs = {"u"}, .outputs = {"m.speed", "m.i"}});
    // speed / u = k / (L J s^2 + R J s + k^2), i / u = J s / the same
    const double k = 0.8, r = 0.3, l = 6e-3, j = 0.07;
    check_quotient(m.transfer(0, 0), {k}, {l * j, r * j, k * k}, 1e-8);
    check_quotient(m.transfer(0, 1), {j, 0}, {l * j, r * j, k * k}, 1e-8);
    // the stiffness of a line through what follows from it: a param that others follow from
    nl::CompiledSystem chain =
        compile("system C { param d : mm = 20 mm ; param area : cm^2 = pi / 4 * d^2 ; var v : m/s init 1 m/s ; (3 kg) * v' = -(200 Pa) * area * v / (1 m/s) }");
    nl::Run run(chain);
    run.step_to(0);
    nl::LinearModel by = run.linear({.inputs = {"d"}, .outputs = {"v"}});
    CHECK(by.b(0, 0) == doctest::Approx(-200 * std::numbers::pi / 2 * 0.02 / 3).epsilon(1e-6));
}

TEST_CASE("a cylinder behind a symmetric valve: Merritt's third order")
{
    // Merritt (1967), Hydraulic Control Systems, ch. 6.3: x / spool = (Kq / A) / (s (s^2 / wh^2 + 2 dh / wh s + 1)) in mid stroke without leakage and friction
    const std::string text =
        "system C { input spool : mm = 0 mm ; param area : cm^2 = 20 cm^2 ; param mass : kg = 500 kg ; param bulk : bar = 14000 bar ; param volume : L = 1 L ; "
        "param kq : m^2/s = 2 m^2/s\n"
        "  param kc : m^3/(s*Pa) = 1e-12 m^3/(s*Pa) ; var x : m init 0 m ; var v : m/s init 0 m/s ; var pl : Pa init 0 Pa\n"
        "  x' = v ; mass * v' = area * pl ; volume / (4 * bulk) * pl' = kq * spool - kc * pl - area * v }";
    nl::LinearModel m = linear(text, {.inputs = {"spool"}, .outputs = {"x"}});
    const double area = 20e-4, mass = 500, bulk = 14000e5, volume = 1e-3, kq = 2, kc = 1e-12;
    double w2 = 4 * bulk * area * area / (volume * mass), damping = kc / area * std::sqrt(bulk * mass / volume);
    check_quotient(m.transfer(0, 0), {kq / area}, {1 / w2, 2 * damping / std::sqrt(w2), 1, 0}, 1e-8);
    // in display units the numbers are those per millimetre
    CHECK(m.displayed().transfer(0, 0).gain == doctest::Approx(m.transfer(0, 0).gain * 1e-3));
}

TEST_CASE("a pendulum in x and y, an index 3 constraint, has the poles of its angle's equation")
{
    // m l^2 a'' = -m g l sin a - friction l^2 a': around both rests a'' = -+ g / l a - friction / m a'
    auto text = [](const std::string& y) {
        return "system P { param l : m = 0.7 m ; param m : kg = 2 kg ; param r : kg/s = 0.3 kg/s ; const g : m/s^2 = 9.81 m/s^2 ; var x : m init 0 m ; var y : "
               "m guess " +
               y + " ; var pull : N/m\n  m * x'' = -pull * x - r * x' ; m * y'' = -pull * y - r * y' - m * g ; x^2 + y^2 = l^2 ; init x' = 0 m/s }";
    };
    for (bool up : {false, true}) {
        CAPTURE(up);
        nl::LinearModel m = linear(text(up ? "0.7 m" : "-0.7 m"), {});
        std::vector<nl::Root> poles = m.poles();
        REQUIRE(poles.size() == 2);
        double friction = 0.3 / 2, gravity = (up ? -1 : 1) * 9.81 / 0.7;
        Complex root = std::sqrt(Complex(friction * friction / 4 - gravity));
        for (Complex want : {-friction / 2 + root, -friction / 2 - root}) {
            double nearest = std::min(std::abs(poles[0].value - want), std::abs(poles[1].value - want));
            CHECK(nearest < 1e-9 * std::abs(want));
        }
    }
}

TEST_CASE("rates of an input that is given as a motion enter: its force is m s^2 + d s + c")
{
    const std::string text =
        "system I { input way : m = 0 m ; param m : kg = 3 kg ; param d : N*s/m = 4 N*s/m ; param c : N/m = 5 N/m ; var x : m ; var f : N ; x = way ; f = m * "
        "x'' + d * x' + c * x }";
    nl::LinearModel m = linear(text, {.inputs = {"way"}, .outputs = {"f"}});
    CHECK(m.transfer(0, 0).text() == "3 s^2 + 4 s + 5");
    REQUIRE(m.notes.size() == 1);
    CHECK(m.notes[0].find("rates of inputs enter") != std::string::npos);
    // a mass on a spring whose end is moved: the force at that end, with states of its own
    const std::string moved =
        "system J { input way : m = 0 m ; var x : m init 0 m ; var e : m ; var f : N ; e = way ; (2 kg) * x'' = (8 N/m) * (e - x) ; init x' = 0 m/s ; f = (8 "
        "N/m) * (e - x) + (0.5 kg) * e'' + (1 N*s/m) * e' }";
    // f / way = 8 s^2 / (s^2 + 4) + 0.5 s^2 + s
    nl::LinearModel j = linear(moved, {.inputs = {"way"}, .outputs = {"f"}});
    check_quotient(j.transfer(0, 0), {0.5, 1, 8 + 2, 4, 0}, {1, 0, 4}, 1e-8);
}

TEST_CASE("a signal is cut where it is read: the open loop, its margins, and what they say of the closed one")
{
    // a level with a PI controller, a lag of the valve between: L = gain (1 + 1 / (Ti s)) * 1 / (area s) * 1 / (T s + 1)
    const std::string text =
        "component Valve { input command : 1 ; output flow : m^3/s ; param full : m^3/s = 0.02 m^3/s ; param t : s = 2 s ; t * flow' = full * command - flow ; "
        "init flow = 0 m^3/s }\n"
        "component Tank { input inflow : m^3/s ; output level : m ; param area : m^2 = 0.5 m^2 ; area * level' = inflow ; init level = 1 m }\n"
        "component Pi { input wanted : m ; input found : m ; output out : 1 ; param gain : m^-1 = 4 m^-1 ; param ti : s = 15 s ; var i : 1 init 0 ; i' = gain "
        "* "
        "(wanted - found) / ti ; out = i + gain * "
        "(wanted - found) }\n"
        "system L { part ctl : Pi ; part valve : Valve ; part tank : Tank ; ctl.out -> valve.command ; valve.flow -> tank.inflow ; tank.level -> ctl.found ; 1 "
        "m "
        "-> ctl.wanted }";
    const double gain = 4 * 0.02 / 0.5;  // 1/s
    for (const char* where : {"ctl.out", "valve.command", "tank.level", "tank.inflow"}) {
        CAPTURE(where);
        nl::LinearModel m = linear(text, {.open = {where}});
        nl::TransferFunction f = m.transfer(0, 0);
        check_quotient(f, {-gain, -gain / 15}, {2, 1, 0, 0}, 1e-7);
        nl::Margins margins = m.margins(0, 0);
        CHECK(margins.stable);
        // |L| = 1 by bisection, by hand
        auto loop = [&](double w) { return gain * Complex(1, -1 / (15 * w)) / (Complex(0, w) * Complex(1, 2 * w)); };
        double low = 1e-3, high = 10;
        for (int k = 0; k < 100; ++k) (std::abs(loop(std::sqrt(low * high))) > 1 ? low : high) = std::sqrt(low * high);
        double phase = 180 + std::arg(loop(low)) * 180 / std::numbers::pi;
        CHECK(margins.phase == doctest::Approx(phase).epsilon(1e-6));
        CHECK(margins.phase_at == doctest::Approx(low / (2 * std::numbers::pi)).epsilon(1e-6));
        CHECK(margins.gain_at == 0);
    }
    // from the wanted level, whose source is cut, to the level: L / (1 + L)
    nl::LinearModel closed = linear(text, {.inputs = {"ctl.wanted"}, .outputs = {"tank.level", "source of ctl.wanted"}});
    check_quotient(closed.transfer(0, 0), {gain, gain / 15}, {2, 1, gain, gain / 15}, 1e-8);
    CHECK(closed.transfer(0, 1).text() == "0");
    // cut at the valve, the controller's output follows from the level alone
    nl::LinearModel at_valve = linear(text, {.inputs = {"valve.command"}, .outputs = {"tank.level"}});
    check_quotient(at_valve.transfer(0, 0), {0.02 / 0.5}, {2, 1, 0}, 1e-8);
    CHECK_THROWS_WITH_AS(compile(text, {"valve.t"}), doctest::Contains("'valve.t' is a param: it needs no preparation"), nl::UsageError);
    CHECK_THROWS_WITH_AS(compile(text, {"ctl.i"}), doctest::Contains("neither an input nor"), nl::UsageError);
    CHECK_THROWS_WITH_AS(compile(text, {"tank.levl"}), doctest::Contains("did you mean 'tank.level'?"), nl::UsageError);
    nl::CompiledSystem plain = compile(text);
    nl::Run run(plain);
    CHECK_THROWS_WITH_AS(run.linear({.inputs = {"valve.command"}}), doctest::Contains("was not compiled for it"), nl::UsageError);
    CHECK_THROWS_WITH_AS(run.linear({.inputs = {"valve.t"}, .outputs = {"tank.levl"}}), doctest::Contains("did you mean 'tank.level'?"), nl::UsageError);
    CHECK_THROWS_WITH_AS(run.linear({.inputs = {"valve.tt"}}), doctest::Contains("did you mean"), nl::UsageError);
}

TEST_CASE("a system compiled for linear inputs runs as it does without")
{
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    nl::CompileRequest request;
    nl::CompiledSystem plain = nl::compile(library, request);
    request.linear_inputs = {"valve.command"};
    nl::CompiledSystem acting = nl::compile(library, request);
    nl::Run a(plain), b(acting);
    a.step_to(3);
    b.step_to(3);
    CHECK(a.value("leaf.angle") == doctest::Approx(b.value("leaf.angle")).epsilon(1e-6));
}

TEST_CASE("a linear model is held against the model itself: it holds for small steps, and is told where it does not")
{
    const std::string text =
        "system N { input u : m^3/s = 0.3 m^3/s ; param k : m^2.5/s = 0.2 m^2.5/s ; param area : m^2 = 2 m^2 ; var h : m init 2.25 m ; area * h' = u - k * "
        "h^0.5 }";
    nl::CompiledSystem system = compile(text, {"u"});
    auto to_point = [](nl::Run& run, const nl::RunOptions& options) {
        run.begin(options);
        run.step_to(5);
    };
    nl::LinearRequest request{.inputs = {"u"}, .outputs = {"h"}};
    nl::LinearCheck check = nl::check_linear(system, to_point, request, {.size = 0.003});
    REQUIRE(check.outputs.size() == 1);
    CHECK(check.worst() < 0.01);
    CHECK(check.outputs[0].range > 0.01);
    CHECK(check.text().find("h differs by at most") != std::string::npos);
    nl::LinearCheck far = nl::check_linear(system, to_point, request, {.size = 0.3});
    CHECK(far.worst() > 0.1);
}

TEST_CASE("a point at a corner is told: a valve that is just closed")
{
    const std::string text = "system V { input spool : 1 = 0 ; var h : m init 1 m ; (2 m^2) * h' = (0.1 m^3/s) * max(spool, 0) - (0.01 m^2/s) * h }";
    nl::CompiledSystem system = compile(text, {"spool"});
    nl::Run run(system);
    nl::LinearModel at_rest = run.linear({.inputs = {"spool"}, .outputs = {"h"}});
    REQUIRE(at_rest.notes.size() == 1);
    CHECK(at_rest.notes[0].find("lies at a corner") != std::string::npos);
    CHECK(at_rest.notes[0].find("model.loop:1") != std::string::npos);
    CHECK(at_rest.b(0, 0) == doctest::Approx(0.025).epsilon(1e-12));  // the mean of nothing and of 0.05 1/s
    run.input("spool") = 0.3;
    CHECK(run.linear({.inputs = {"spool"}, .outputs = {"h"}}).notes.empty());
}

TEST_CASE("a valve in its middle, where one edge takes over from the other, has the gain of either")
{
    // h' = spool / 2 on both sides, so 1 / (2 s); what flows through one edge alone has half of that
    nl::CompiledSystem system = compile(
        "system V { input spool : 1 = 0 ; var h : m init 1 m ; var gone : m init 0 m ; (2 m) * h' = (1 m^2/s) * (max(spool, 0) - max(-spool, 0))\n"
        "  (2 m) * gone' = (1 m^2/s) * max(-spool, 0) ; let both = abs(spool) }",
        {"spool"});
    nl::Run run(system);
    nl::LinearModel m = run.linear({.inputs = {"spool"}, .outputs = {"h", "gone", "both"}});
    REQUIRE(m.states.size() == 2);
    double by_h = 0, by_gone = 0;
    for (std::size_t i = 0; i < 2; ++i) (m.states[i].name == "h" ? by_h : by_gone) = m.b(i, 0);
    CHECK(by_h == doctest::Approx(0.5).epsilon(1e-14));
    CHECK(by_gone == doctest::Approx(-0.25).epsilon(1e-14));
    CHECK(m.d(2, 0) == 0);
    CHECK(m.notes.size() == 1);
}

// --- every shipped model, at three times -------------------------------------------------------------------------------

namespace {

// Rates of the states, and then some outputs, with one state or param moved.
struct At {
    netloop::Evaluation& e;
    netloop::ConsistentSolver& consistent;
    const netloop::SourceSet& sources;
    const netloop::State& s;
    const std::vector<std::uint32_t>& states;
    std::vector<std::size_t> outputs;
    std::vector<netloop::ParameterId> params;

    std::vector<double> values(std::size_t column, double by)
    {
        netloop::State moved = s;
        bool state = column < states.size();
        netloop::ParameterId p = state ? 0 : params[column - states.size()];
        if (state) {
            moved.z[states[column]] += by;
        } else {
            e.give(p, e.parameter(p) + by);
            e.settle_parameters();
        }
        consistent.solve(moved, sources);
        consistent.solve(moved, sources);  // from there once more: to the last digits
        std::vector<double> list;
        for (std::uint32_t i : states) list.push_back(moved.rates[i]);
        e.at(moved.time, moved.z.data(), moved.rates.data());
        e.outputs();
        for (std::size_t o : outputs) list.push_back(e.own_output(o));
        if (!state) {
            e.take_back(p);
            e.settle_parameters();
        }
        return list;
    }
};

}  // namespace

TEST_CASE("A, B, C and D are those of differences on every shipped model at three times each")
{
    std::size_t looked = 0;
    for (const test::Shipped& shipped : test::shipped_models()) {
        CAPTURE(shipped.file);
        CAPTURE(shipped.scenario);
        nl::Library library = nl::Library::standard();
        library.load_file(test::source_path(shipped.file));
        nl::CompiledSystem system = nl::compile(library, {.scenario = shipped.scenario});
        const nl::CompiledSystemData& data = system.data();
        if (!data.begin_from.empty() || !data.stop) continue;
        netloop::Simulation simulation(data.model, data.sources, {});
        simulation.evaluation().settle_parameters();
        simulation.start(0);
        const double stop = std::min(*data.stop, 4.0);
        for (double share : {0.13, 0.41, 0.97}) {
            CAPTURE(share);
            simulation.advance(share * stop, {}, {});
            netloop::State s = simulation.state();
            simulation.solve_from_states(s);
            netloop::Evaluation& e = simulation.evaluation();
            netloop::Sensitivities sensitivities(e.shared_model());
            netloop::Point point(sensitivities, e, s);
            if (point.n() == 0 || point.n() > 120) continue;
            netloop::ConsistentSolver consistent(e);
            At at{e, consistent, data.sources, s, point.states(), {}, {}};
            const auto& form = point.model().form;
            const auto& z = form.z;
            constexpr std::size_t kOutputs = 12, kParams = 5;
            for (std::size_t o = 0; o < form.outputs.size(); o += 1 + form.outputs.size() / kOutputs)
                if (!form.outputs[o].boolean) at.outputs.push_back(o);
            const auto& params = form.flat().parameters;
            for (netloop::ParameterId p = 0; p < params.size(); p += 1 + static_cast<netloop::ParameterId>(params.size() / kParams))
                if (!params[p].boolean && params[p].follows.empty() && e.parameter(p) != 0 && std::isfinite(e.parameter(p))) at.params.push_back(p);
            // the whole of the linear model: states and outputs below each other, states and params beside each other
            auto n = static_cast<Eigen::Index>(point.n()), rows = n + static_cast<Eigen::Index>(at.outputs.size()),
                 columns = n + static_cast<Eigen::Index>(at.params.size());
            Eigen::MatrixXd whole(rows, columns);
            whole.topLeftCorner(n, n) = point.a();
            for (Eigen::Index o = n; o < rows; ++o) whole.row(o).head(n) = point.output_by_states(at.outputs[static_cast<std::size_t>(o - n)]);
            for (Eigen::Index k = n; k < columns; ++k) {
                netloop::ParameterId p = at.params[static_cast<std::size_t>(k - n)];
                std::vector<double> y = point.by_parameter(p);
                for (Eigen::Index i = 0; i < n; ++i) whole(i, k) = y[point.states()[static_cast<std::size_t>(i)]];
                for (Eigen::Index o = n; o < rows; ++o) whole(o, k) = point.output_by_parameter(at.outputs[static_cast<std::size_t>(o - n)], p);
            }
            for (std::size_t j = 0; j < static_cast<std::size_t>(columns); ++j) {
                bool state = j < point.n();
                double h =
                    1e-6 * (state ? std::max(std::abs(s.z[point.states()[j]]), z[point.states()[j]].usual) : std::abs(e.parameter(at.params[j - point.n()])));
                std::vector<double> up, down, up2, down2, here;
                try {
                    here = at.values(j, 0);
                    up = at.values(j, h), down = at.values(j, -h), up2 = at.values(j, h / 2), down2 = at.values(j, -h / 2);
                } catch (const std::exception&) {
                    continue;  // beyond a range
                }
                for (std::size_t i = 0; i < static_cast<std::size_t>(rows); ++i) {
                    double usual = i < point.n() ? z[point.states()[i]].usual : std::abs(here[i]);
                    double wide = (up[i] - down[i]) / (2 * h), narrow = (up2[i] - down2[i]) / h;
                    double rounding = (1e-9 * (std::abs(up[i]) + std::abs(here[i])) + 1e-11 * usual) / h;
                    // differences that do not settle tell nothing, nor do those over a corner, such as a valve that is just closed
                    double doubt = std::abs(wide - narrow), corner = std::abs(up2[i] + down2[i] - 2 * here[i]) / h;
                    if (corner > 1e-2 * std::abs(narrow) + rounding) continue;
                    if (doubt > 1e-3 * std::abs(narrow) + rounding) continue;
                    double have = whole(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j));
                    CAPTURE((i < point.n() ? point.name(point.states()[i]) : form.outputs[at.outputs[i - point.n()]].path));
                    CAPTURE((state ? point.name(point.states()[j]) : params[at.params[j - point.n()]].path));
                    CAPTURE(have);
                    CAPTURE(narrow);
                    if (std::abs(have - narrow) > 1e-4 * std::abs(narrow) + 3 * doubt + 3 * rounding) {
                        // oil that hardly moves turns within less than a pascal: a hundred times nearer
                        double near = h / 100;
                        double slope = (at.values(j, near)[i] - at.values(j, -near)[i]) / (2 * near);
                        CAPTURE(slope);
                        CHECK(std::abs(have - slope) <= 2e-3 * std::abs(slope));
                    }
                    ++looked;
                }
            }
        }
    }
    CHECK(looked > 10000);
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Small plants against answers made elsewhere: closed forms, published end values, a scalar equation solved here.
#include <doctest/doctest.h>

#include <cmath>
#include <numbers>

#include "../../bench/published/problem.hpp"
#include "support/support.hpp"

using netloop::Recording;

namespace {

constexpr double kPi = std::numbers::pi;

// The times at which a column crosses zero upwards, by linear interpolation.
std::vector<double> upward_crossings(const Recording& r, const std::string& name)
{
    const auto &t = r.time().values, &v = r[name].values;
    std::vector<double> at;
    for (std::size_t i = 1; i < v.size(); ++i)
        if (v[i - 1] < 0 && v[i] >= 0) at.push_back(t[i - 1] + (t[i] - t[i - 1]) * v[i - 1] / (v[i - 1] - v[i]));
    return at;
}

double bisect(double lo, double hi, auto f)
{
    for (int k = 0; k < 200; ++k) {
        double mid = 0.5 * (lo + hi);
        ((f(mid) > 0) == (f(hi) > 0) ? hi : lo) = mid;
    }
    return 0.5 * (lo + hi);
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("transistor amplifier of eight nodes: a singular mass matrix")
{
    // End values: Mazzia and Magherini (2008), Test Set for Initial Value Problem Solvers, release 2.4, problem "transistor amplifier"
    std::string text = published::transistor_amplifier().text;
    Recording r = test::simulate(text, 0.2, 1e-11, 0.05);
    const double end[] = {-0.5562145012262709e-2, 3.006522471903042, 2.849958788608128, 2.926422536206241,
                          2.704617865010554,      2.761837778393145, 4.770927631616772, 1.236995868091548};
    for (int k = 0; k < 8; ++k) CHECK(std::abs(r["y[" + std::to_string(k + 1) + "]"].final() - end[k]) < 2e-6);
}

TEST_CASE("bridge of four exponential diodes")
{
    std::string text = R"(
use electrics
component Diode : TwoTerminal {
    param saturation : A = 1e-9 A
    i = saturation * (exp(u / 0.04 V) - 1)
}
system Bridge {
    input volts : V = 5 V
    part source : VoltageSource
    part d1, d2, d3, d4 : Diode
    part load : Resistor(resistance = 100 ohm)
    part g : Ground
    volts -> source.voltage
    source.plus -- d1.plus -- d4.minus
    source.minus -- d2.plus -- d3.minus -- g.pin
    d1.minus -- d2.minus -- load.plus
    d3.plus -- d4.plus -- load.minus
}
)";
    netloop::Library library = netloop::Library::standard();
    library.load_text("bridge.loop", text);
    for (double volts : {5.0, -5.0, 0.3, 20.0}) {
        CAPTURE(volts);
        netloop::Run fresh(netloop::compile(library));
        fresh.input("volts") = volts;
        fresh.step_to(0);
        // By symmetry the four diode voltages are u (forward, twice) and w (backward, twice): |U| = 2 u + R I, w = u - |U|, I = i(u) - i(w)
        double size = std::abs(volts), is = 1e-9, vt = 0.04;
        auto current = [&](double u) { return is * std::expm1(u / vt); };
        double u = bisect(0, 1.2, [&](double x) { return 2 * x + 100 * (current(x) - current(x - size)) - size; });
        CHECK(fresh.value("load.i") == doctest::Approx(current(u) - current(u - size)).epsilon(1e-7));
        CHECK(fresh.value(volts > 0 ? "d1.u" : "d2.u") == doctest::Approx(u).epsilon(1e-7));
        CHECK(fresh.value(volts > 0 ? "d2.u" : "d1.u") == doctest::Approx(u - size).epsilon(1e-7));
    }
}

TEST_CASE("two orifices in series: pressures given or flow given, the same answer")
{
    auto model = [](const std::string& drive) {
        return R"(
use hydraulics, fluids
component Source { param m : kg/s = 0 kg/s ; port outlet : hydraulic(oil) ; outlet.m = -m }
system S {
    fluid oil = MineralOil()
    part tank : Tank(oil = oil, pressure = 1 bar)
    part first : Orifice(diameter = 2 mm)
    part second : Orifice(diameter = 3 mm)
    first.outlet -- second.inlet
    second.outlet -- tank.outlet
)" + drive + "}\n";
    };
    Recording by_pressure = test::simulate(model("part high : Tank(pressure = 101 bar)\n high.outlet -- first.inlet\n"), 1, 1e-9, 1);
    double m = by_pressure["first.inlet.m"].final();
    // turbulent: the pressure differences are as the fourth powers of the diameters, up to density
    double dp1 = by_pressure["first.dp"].final(), dp2 = by_pressure["second.dp"].final();
    CHECK(dp1 + dp2 == doctest::Approx(100e5));
    double rho1 = by_pressure["first.rho"].final(), rho2 = by_pressure["second.rho"].final();
    CHECK(dp1 * rho1 / (dp2 * rho2) == doctest::Approx(std::pow(3.0 / 2.0, 4)).epsilon(1e-4));
    CHECK(m == doctest::Approx(0.7 * kPi / 4 * 4e-6 * std::sqrt(2 * rho1 * dp1)).epsilon(1e-4));
    char flow[120];
    std::snprintf(flow, sizeof flow, "part pump : Source(m = %.17g kg/s)\n pump.outlet -- first.inlet\n", m);
    Recording by_flow = test::simulate(model(flow), 1, 1e-9, 1);
    CHECK(by_flow["first.inlet.p"].final() == doctest::Approx(101e5).epsilon(1e-8));
}

TEST_CASE("surge tank: the water between lake and shaft swings with the period of a rigid column")
{
    // T = 2 pi sqrt(L As / (g Ap)), amplitude v0 sqrt(L Ap / (g As)); frictionless (Thoma, 1910)
    Recording r = test::simulate(R"(
system Surge {
    param length : m = 500 m
    param pipe : m^2 = 3 m^2
    param shaft : m^2 = 20 m^2
    const g : m/s^2 = 9.81 m/s^2
    var v : m/s init 2 m/s
    var level : m init 0 m
    var top, bottom : Pa
    top = 0
    bottom = 1000 kg/m^3 * g * level
    1000 kg/m^3 * length * v' = top - bottom
    shaft * level' = pipe * v
}
)",
                                 600, 1e-9, 0.25);
    auto at = upward_crossings(r, "level");
    REQUIRE(at.size() >= 3);
    double period = 2 * kPi * std::sqrt(500.0 * 20 / (9.81 * 3));
    CHECK(at[2] - at[1] == doctest::Approx(period).epsilon(1e-5));
    CHECK(r["level"].max() == doctest::Approx(2 * std::sqrt(500.0 * 3 / (9.81 * 20))).epsilon(1e-4));
}

TEST_CASE("elastic pipe: a closed end rings at the frequency of the chain, which tends to a/4L")
{
    // A chain of n equal masses and springs, one end fixed: w = 2 sqrt(k/m) sin(pi / (2 (2n + 1))) (Rayleigh, Theory of Sound, art. 120)
    constexpr int n = 40;
    Recording r = test::simulate(R"(
system Pipe {
    option n = 40
    param length : m = 40 m
    param a : m/s = 1000 m/s
    const rho : kg/m^3 = 1000 kg/m^3
    const area : m^2 = 0.01 m^2
    let dx = length / n
    var p[n] : Pa
    var m[n] : kg/s
    # a reservoir at pressure 0 on the left, a closed end on the right
    dx / area * m[1]' = -p[1]
    for i in 2 .. n { dx / area * m[i]' = p[i-1] - p[i] }
    for i in 1 .. n-1 { dx * area / a^2 * p[i]' = m[i] - m[i+1] }
    dx * area / a^2 * p[n]' = m[n]
    for i in 1 .. n { init m[i] = 0 ; init p[i] = 1e5 Pa * sin((2*i - 1 + 1) * pi / (2 * (2*n + 1))) }
}
)",
                                 1, 1e-9, 0.0005);
    double w = 2 * (1000.0 / 1.0) * std::sin(kPi / (2 * (2 * n + 1)));  // sqrt(k/m) = a / dx
    auto at = upward_crossings(r, "p[40]");
    REQUIRE(at.size() >= 5);
    CHECK((at[4] - at[1]) / 3 == doctest::Approx(2 * kPi / w).epsilon(1e-4));
    CHECK(w / (2 * kPi) == doctest::Approx(1000.0 / (4 * 40)).epsilon(0.02));
}

TEST_CASE("counterflow heat exchanger: cells converge to the closed form of effectiveness")
{
    // eps = (1 - exp(-N (1 - C))) / (1 - C exp(-N (1 - C))) (Kays and London, 1984, Compact Heat Exchangers)
    auto outlet = [](int n) {
        std::string text = R"(
system Exchanger {
    option n = )" + std::to_string(n) +
                           R"(
    param U : W/K = 3000 W/K
    const hot : W/K = 1000 W/K
    const cold : W/K = 2000 W/K
    var h[n] : degC guess 50 degC
    var c[n] : degC guess 50 degC
    var q[n] : W
    for i in 1 .. n { q[i] = U / n * (h[i] - c[i]) }
    0 = hot * (90 degC - h[1]) - q[1]
    for i in 2 .. n { 0 = hot * (h[i-1] - h[i]) - q[i] }
    for i in 1 .. n-1 { 0 = cold * (c[i+1] - c[i]) + q[i] }
    0 = cold * (10 degC - c[n]) + q[n]
    let out = h[n]
}
)";
        return test::simulate(text, 1, 1e-6, 1)["out"].final();
    };
    double n_tu = 3, ratio = 0.5, e = std::exp(-n_tu * (1 - ratio)), effectiveness = (1 - e) / (1 - ratio * e);
    double exact = 363.15 - effectiveness * 80;
    double coarse = outlet(50), fine = outlet(100);
    CHECK(std::abs(fine - exact) < 0.6 * std::abs(coarse - exact));    // first order
    CHECK(2 * fine - coarse == doctest::Approx(exact).epsilon(1e-5));  // its error taken out
}

TEST_CASE("a loop of capacitors: two in parallel and one in series behave as one")
{
    Recording r = test::simulate(R"(
use electrics
system S {
    part source : VoltageSource(voltage = 10 V)
    part r : Resistor(resistance = 1 kohm)
    part a : Capacitor(capacitance = 1 uF)
    part b : Capacitor(capacitance = 2 uF)
    part c : Capacitor(capacitance = 3 uF)
    part g : Ground
    source.plus -- r.plus
    r.minus -- a.plus -- b.plus
    a.minus -- b.minus -- c.plus
    c.minus -- source.minus -- g.pin
    init a.u = 0 ; init c.u = 0
}
)",
                                 3e-3, 1e-9, 1e-4);
    // 1 uF and 2 uF side by side: 3 uF; in series with 3 uF: 1.5 uF
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double u = 10 * (1 - std::exp(-r.time().values[i] / 1.5e-3));
        CHECK(r["a.u"].values[i] == doctest::Approx(u / 2).scale(10).epsilon(1e-6));
        CHECK(r["b.i"].values[i] == doctest::Approx(2e-6 * 5 / 1.5e-3 * std::exp(-r.time().values[i] / 1.5e-3)).scale(0.01).epsilon(1e-5));
    }
}

TEST_CASE("incompressible pipes: three inertias on one junction share the flow")
{
    // m1 = m2 + m3 at all times; I1 m1' = p - pj, I2 m2' = pj, I3 m3' = pj
    Recording r = test::simulate(R"(
component Inertance {
    param inertia : 1/m
    var m : kg/s
    var a, b : Pa
    inertia * m' = a - b
}
system S {
    part one : Inertance(inertia = 1e3 m^-1)
    part two : Inertance(inertia = 2e3 m^-1)
    part three : Inertance(inertia = 4e3 m^-1)
    one.a = 5e5 Pa
    one.b = two.a
    one.b = three.a
    two.b = 0
    three.b = 0
    one.m = two.m + three.m
    init two.m = 0 ; init three.m = 1 kg/s
}
)",
                                 2, 1e-9, 0.5);
    double share = 1 / (1 / 2e3 + 1 / 4e3), pj = 5e5 * share / (1e3 + share);
    CHECK(r["one.b"].first() == doctest::Approx(pj));
    CHECK(r["two.m"].final() == doctest::Approx(2 * pj / 2e3));
    CHECK(r["three.m"].final() == doctest::Approx(1 + 2 * pj / 4e3));
    CHECK(r["one.m"].final() == doctest::Approx(r["two.m"].final() + r["three.m"].final()).epsilon(1e-12));
}

TEST_SUITE_END();

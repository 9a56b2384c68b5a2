// SPDX-License-Identifier: Apache-2.0
// Pipes, accumulators and valves of the hydraulics library against formulas.
#include <doctest/doctest.h>

#include <cmath>

#include "library/oil.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-7)
{
    return test::simulate("use mechanics, heat, hydraulics, fluids, control\nsystem S {\n" + body + "\n}\n", stop, tolerance, every);
}

constexpr double kPi = 3.14159265358979323846;

using test::oil_density;
using test::signed_sqrt;

// A part `x` between a tank of 101 bar and one of 1 bar, oil of 40 degC.
Recording between(const std::string& part, const std::string& more = "")
{
    return run("fluid oil = MineralOil\n part high : Tank(oil = oil, pressure = 101 bar)\n part low : Tank(pressure = 1 bar)\n part x : " + part +
                   "\n high.outlet -- x.inlet\n x.outlet -- low.outlet\n var clock init 0 ; clock' = 1 s^-1\n" + more,
               1);
}

}  // namespace

TEST_SUITE_BEGIN("library");

// --- pipes --------------------------------------------------------------------------------------------------------

TEST_CASE("pipe friction: laminar by Hagen and Poiseuille, turbulent by Colebrook's formula, odd and monotone")
{
    CompiledSystem s = test::compile(
        "system S { param q : m^3/s = 1e-3 m^3/s ; param k : m = 0 m ; let dp : Pa = hydraulics.pipe_friction(q, 870 kg/m^3, 0.04 Pa*s, 10 m, 20 mm, k) ; let "
        "water : Pa = "
        "hydraulics.pipe_friction(q, 1000 kg/m^3, 1e-3 Pa*s, 10 m, 20 mm, k) ; var clock init 0 ; clock' = 1 s^-1 }");
    Run r(s);
    r.step_to(0.1);
    double A = kPi / 4 * 4e-4;
    for (double q : {1e-7, 1e-5, 3e-4}) {
        r.set("q", netloop::q(q, "m^3/s"));
        CHECK(r.value("dp") == doctest::Approx(32 * 0.04 * 10 * (q / A) / 4e-4).epsilon(1e-3));
    }
    for (double rough : {0.0, 2e-5, 2e-4}) {
        for (double q : {2e-4, 2e-3, 2e-2}) {
            r.set("k", netloop::q(rough, "m"));
            r.set("q", netloop::q(q, "m^3/s"));
            double v = q / A, re = 1000 * v * 0.02 / 1e-3, f = 0.02;
            for (int i = 0; i < 60; ++i) f = std::pow(-2 * std::log10(rough / 0.02 / 3.7 + 2.51 / (re * std::sqrt(f))), -2);
            INFO(re << " " << rough);
            CHECK(r.value("water") == doctest::Approx(f * 10 / 0.02 * 500 * v * v).epsilon(0.035));
        }
    }
    double before = -1;
    r.set("k", netloop::q(2e-5, "m"));
    for (double q = 0; q < 2e-4; q += 2e-6) {
        r.set("q", netloop::q(q, "m^3/s"));
        double dp = r.value("water");
        CHECK(dp > before);
        before = dp;
        r.set("q", netloop::q(-q, "m^3/s"));
        CHECK(r.value("water") == doctest::Approx(-dp).epsilon(1e-12));
    }
}

TEST_CASE("water hammer: a closing valve gives rho c v, reflected with the period 4 L / c")
{
    // 20 m of pipe at 2 m/s; closed within a tenth of 2 L / c
    Recording r =
        run("fluid w = Water(temperature = 20 degC)\n part basin : Tank(oil = w, pressure = 30 bar)\n part line : Pipe(length = 20 m, diameter = 50 mm, n = "
            "60, roughness = 0 mm)\n "
            "part valve : ControlValve(kv = 2 m^3/h)\n part low : Tank(pressure = 1 bar)\n basin.outlet -- line.a ; line.b -- valve.inlet ; valve.outlet -- "
            "low.outlet\n let open : "
            "1 = smooth_step(time, 0 s, 0.6 s) - clamp((time - 1 s) / (2 ms), 0, 1)\n for i in 1 .. 61 { init line.section[i].p = 30 bar }\n open -> "
            "valve.opening\n let v : m/s = line.stretch[60].m / (line.stretch[60].rho * line.area)\n let "
            "end : bar = "
            "line.section[61].p",
            1.08, 2e-4, 1e-6);
    double v = 0, steady = 0, peak = 0, late = 0, fall = 0;
    double rho = 998.2, c = 1 / std::sqrt(rho * (1 / 2.15e9 + 1 / 2e10));
    CHECK(r["line.wave_speed"].final() == doctest::Approx(c).epsilon(2e-3));
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        if (t < 1) v = r["v"].values[i], steady = r["end"].values[i];
        if (t > 1.006 && t < 1 + 2 * 20 / c * 0.9) peak = std::max(peak, r["end"].values[i]), late = r["end"].values[i];
        if (t > 1.004 + 2 * 20 / c && fall == 0 && r["end"].values[i] < steady) fall = t;
    }
    CHECK(v > 1);
    CHECK(late - steady == doctest::Approx(rho * c * v).epsilon(0.02));
    CHECK(fall == doctest::Approx(1.001 + 2 * 20 / c).epsilon(2e-3));  // the relief comes back
    CHECK(peak < steady + 1.2 * rho * c * v);
}

TEST_CASE("mass oscillation between a basin and a surge shaft: period and height without friction")
{
    // T = 2 pi sqrt(L A_s / (g A)), first rise v0 sqrt(L A / (g A_s))
    Recording r =
        run("fluid w = Water(temperature = 12 degC)\n part basin : OpenTank(oil = w, content = 1e9 L, footprint = 1e5 m^2)\n part culvert : PipeStretch(length "
            "= 200 m, diameter = 1.5 m, "
            "roughness = 0 mm)\n part shaft : OpenTank(content = 200e3 L, footprint = 20 m^2)\n basin.outlet -- culvert.inlet ; culvert.outlet -- "
            "shaft.outlet\n init culvert.m = "
            "1000 kg/s\n",
            120, 0.2, 1e-7);
    double A = kPi / 4 * 1.5 * 1.5, period = 2 * kPi * std::sqrt(200 * 20 / (9.80665 * A)), rho = 999.5;
    double v0 = 1000 / (rho * A), rise = v0 * std::sqrt(200 * A / (9.80665 * 20));
    const Column& level = r["shaft.level"];
    CHECK(level.max() - level.first() == doctest::Approx(rise).epsilon(0.05));  // smooth walls still rub
    CHECK(level.max() - level.first() < rise);
    double up = 0, down = 0;
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        double a = r["culvert.m"].values[i - 1], b = r["culvert.m"].values[i], t = r.time().values[i - 1] + 0.2 * a / (a - b);
        if (a > 0 && b <= 0 && up == 0) up = t;
        if (a < 0 && b >= 0 && down == 0) down = t;
    }
    CHECK(up == doctest::Approx(period / 4).epsilon(0.02));
    CHECK(down == doctest::Approx(3 * period / 4).epsilon(0.02));
}

TEST_CASE("quiet pipe: the quadratic formula for its flow, with rise and fittings")
{
    Recording r =
        run("fluid w = Water(temperature = 20 degC)\n part high : Tank(oil = w, pressure = 4 bar)\n part low : Tank(pressure = 1 bar)\n part x : "
            "SteadyPipe(length = 300 m, diameter = 80 mm, "
            "friction_factor = 0.022, fittings = 6, rise = 12 m)\n high.outlet -- x.inlet\n x.outlet -- low.outlet\n var clock init 0 ; clock' = 1 s^-1",
            1);
    double rho = 998.21 * std::exp(1.5e5 / 2.15e9), eta = 2.414e-5 * std::pow(10, 247.8 / 153.15), v = r["x.v"].final();
    double lost = 32 * eta * 300 / (0.08 * 0.08) * v + (0.022 * 300 / 0.08 + 6) * rho / 2 * v * v + rho * 9.80665 * 12;
    CHECK(lost == doctest::Approx(3e5).epsilon(2e-4));
    CHECK(r["x.inlet.m"].final() == doctest::Approx(rho * v * kPi / 4 * 0.0064).epsilon(1e-4));
}

TEST_CASE("laminar and thermal: a pipe of sections warms its wall side; heat goes out to `wall`")
{
    Recording r =
        run("fluid oil = MineralOil(thermal = true)\n part feed : FlowSource(flow = 10 L/min, temperature = 60 degC)\n part line : Pipe(length = 8 m, diameter "
            "= 16 mm, n = 12, conductance = "
            "120 W/K)\n part low : Tank(oil = oil, pressure = 5 bar)\n part room : Surroundings(temperature = 10 degC)\n feed.outlet -- line.a ; line.b -- "
            "low.outlet ; line.wall -- "
            "room.surface ; for i in 1 .. 13 { init line.section[i].p = 5 bar }",
            45, 5, 1e-7);
    // steady: dT/dx = -k' (T - T_room) / (m c): exponential; twelve mixers are a little less effective
    double m = -r["feed.outlet.m"].final(), c = 1806 + 3.64 * 50, units = 120 / (m * c);
    double out = r["line.section[13].T"].final() - 273.15;
    CHECK(out == doctest::Approx(10 + 50 * std::exp(-units)).epsilon(0.02));
    CHECK(r["room.surface.heat"].final() == doctest::Approx(-r["line.wall.heat"].final()).epsilon(1e-9));
}

// --- accumulators -------------------------------------------------------------------------------------------------

TEST_CASE("accumulator: discharge by p V^n, and from the start of the liquid's end")
{
    for (double n : {1.0, 1.4}) {
        Recording r =
            run("fluid oil = MineralOil(stiffness = 1e11 Pa)\n part store : Accumulator(size = 10 L, precharge = 90 bar, exponent = " + std::to_string(n) +
                    ")\n part draw : FlowSource(oil = oil, flow = -30 L/min)\n store.inlet -- draw.outlet\n init store.p = 200 bar",
                6, 0.5);
        double V0 = 10e-3 * std::pow(90e5 / 200e5, 1 / n);
        for (std::size_t i = 0; i < r.n_rows(); ++i) {
            double taken = 0.5e-3 * r.time().values[i];
            CHECK(r["store.p"].values[i] == doctest::Approx(200e5 * std::pow(V0 / (V0 + taken), n)).epsilon(2e-3));
        }
    }
    // beyond its end the liquid is gone: pressure falls away, nothing goes negative
    Recording empty =
        run("fluid oil = MineralOil\n part store : Accumulator(size = 2 L, precharge = 90 bar)\n part draw : Orifice(diameter = 4 mm)\n part low : Tank(oil = "
            "oil, pressure = 1 bar)\n "
            "store.inlet -- draw.inlet ; draw.outlet -- low.outlet\n init store.p = 150 bar",
            30);
    CHECK(empty["store.p"].final() == doctest::Approx(1e5).epsilon(0.02));
    CHECK(empty["store.oil_volume"].final() < 0);
    CHECK(empty["store.oil_volume"].final() > -0.011 * 2e-3);
}

TEST_CASE("accumulator with heat exchange: fast changes are adiabatic, slow ones isothermal, and heat is lost in between")
{
    auto at = [](double flow, double stop, double every) {
        return run(
            "fluid oil = MineralOil\n part store : Accumulator(size = 10 L, precharge = 90 bar, heat_exchange = true, time_constant = 20 s)\n part draw : "
            "FlowSource(oil = oil, flow = " +
                std::to_string(flow) + " L/min)\n store.inlet -- draw.outlet\n init store.p = 150 bar ; init store.gas_temperature = 20 degC",
            stop, every);
    };
    double V0 = 10e-3 * 90.0 / 150.0;
    Recording fast = at(300, 0.3, 0.05);  // 1.5 L in 0.3 s
    CHECK(fast["store.p"].final() == doctest::Approx(150e5 * std::pow(V0 / (V0 - 1.5e-3), 1.4)).epsilon(0.01));
    CHECK(fast["store.gas_temperature"].final() == doctest::Approx(293.15 * std::pow(V0 / (V0 - 1.5e-3), 0.4)).epsilon(0.01));
    Recording slow = at(0.03, 3000, 500);  // the same in 50 min
    CHECK(slow["store.p"].final() == doctest::Approx(150e5 * V0 / (V0 - 1.5e-3)).epsilon(0.01));
    CHECK(slow["store.gas_temperature"].final() == doctest::Approx(293.15).epsilon(2e-3));
}

// --- valves -------------------------------------------------------------------------------------------------------

TEST_CASE("valves between two tanks: each by its formula")
{
    double rho = oil_density(51e5), dp = 100e5;
    auto flow = [&](const Recording& r) { return r["x.inlet.m"].final() / rho * 6e4; };  // L/min
    CHECK(flow(between("Leak(conductance = 0.02 L/min/bar)")) == doctest::Approx(2).epsilon(1e-6));
    CHECK(flow(between("Fitting(diameter = 20 mm, loss_coefficient = 40)")) ==
          doctest::Approx(kPi / 4 * 4e-4 * std::sqrt(2 * dp / (rho * 40)) * 6e4).epsilon(1e-6));
    CHECK(flow(between("ControlValve(kv = 2 m^3/h, opening = 0.5)")) == doctest::Approx(0.5 * 2 * std::sqrt(100 * 1000 / rho) / 60 * 1e3).epsilon(1e-6));
    CHECK(flow(between("ControlValve(kv = 2 m^3/h, opening = 0.5, law = equal_percentage)")) ==
          doctest::Approx((std::sqrt(50) - 1) / 49 * 2 * std::sqrt(100 * 1000 / rho) / 60 * 1e3).epsilon(1e-6));
    CHECK(flow(between("FlowControl(rated_flow = 40 L/min, setting = 0.25)")) == doctest::Approx(10 * (1 + 0.002 * 100 / 6)).epsilon(1e-6));
    CHECK(flow(between("FlowControl(rated_flow = 40 L/min, least = 400 bar)")) == doctest::Approx(40 * std::sqrt(100.0 / 400)).epsilon(1e-4));
    CHECK(flow(between("ReducingValve(setting = 50 bar, rated_flow = 30 L/min)")) ==
          doctest::Approx(30 * std::sqrt(100.0 / 5)).epsilon(1e-4));          // outlet at 1 bar: fully open
    double a = 5 * 46e-6 * oil_density(1e5) / 27e-3 * std::exp(2e-8 * 50e5);  // viscosity at the mean pressure, by Barus
    CHECK(flow(between("Filter(rated_flow = 100 L/min, rated_dp = 0.5 bar, housing_dp = 0.1 bar)")) ==
          doctest::Approx(100 * 2 * 1000 / (a + std::sqrt(a * a + 4 * 1000))).epsilon(1e-3));
    CHECK(flow(between("Valve22(rated_flow = 60 L/min, rated_dp = 100 bar, command = 0.5)", "init x.opening = 0.5")) == doctest::Approx(30).epsilon(1e-3));
}

TEST_CASE("reducing valve: holds its outlet pressure against a draw, and closes above it")
{
    Recording r =
        run("fluid oil = MineralOil\n part high : Tank(oil = oil, pressure = 150 bar)\n part x : ReducingValve(setting = 30 bar, band = 3 bar, rated_flow = 40 "
            "L/min, rated_dp = 5 bar)\n "
            "part v : Volume(volume = 0.2 L)\n part use : FlowSource(flow = -20 L/min)\n high.outlet -- x.inlet ; x.outlet -- v.a ; v.b -- use.outlet",
            5);
    double dp = 150e5 - r["v.p"].final(), opening = 20 / (40 * std::sqrt(dp / 5e5));
    CHECK(r["v.p"].final() == doctest::Approx(30e5 + 3e5 * (1 - opening)).epsilon(0.005));
}

TEST_CASE("dynamic relief valve: at rest the static law, moved a damped oscillation at its frequency")
{
    Recording r =
        run("fluid oil = MineralOil\n part feed : FlowSource(flow = 50 L/min)\n part v : Volume(volume = 1 L)\n part x : DynamicReliefValve(cracking = 100 "
            "bar, override = 10 bar, rated_flow = "
            "100 L/min, damping = 400 N*s/m)\n part low : Tank(oil = oil, pressure = 1 bar)\n feed.outlet -- v.a ; v.b -- x.inlet ; x.outlet -- "
            "low.outlet\n init v.p = 1 bar",
            3);
    double dp = r["v.p"].final() - 1e5, lift = (dp - 100e5) * 50e-6 / (10e5 * 50e-6 / 2e-3);
    CHECK(r["x.lift"].final() == doctest::Approx(lift).epsilon(1e-3));
    double rho = oil_density(0.5 * (r["v.p"].final() + 1e5));
    CHECK(r["x.inlet.m"].final() == doctest::Approx(rho * 100 / 6e4 * lift / 2e-3 * std::sqrt(dp / 100e5)).epsilon(1e-3));
    CHECK(r["v.p"].max() > r["v.p"].final() * 1.005);  // it overshoots before it settles
}

TEST_CASE("pilot check and counterbalance valve: shut without pilot, let down in proportion with it, free forward")
{
    auto back = [](const std::string& part, double pilot) {
        Recording r =
            run("fluid oil = MineralOil\n part load : Tank(oil = oil, pressure = 100 bar)\n part line : Tank(oil = oil, pressure = 5 bar)\n part steer : "
                "Tank(pressure = " +
                    std::to_string(pilot) + " bar)\n part x : " + part +
                    "\n line.outlet -- x.inlet ; x.outlet -- load.outlet ; x.pilot -- steer.outlet\n var clock init 0 ; clock' = 1 s^-1",
                1);
        return -r["x.inlet.m"].final() / oil_density(52.5e5) * 6e4;
    };
    CHECK(back("PilotCheckValve(ratio = 4, leakage = 0 L/min/bar)", 5) == doctest::Approx(0).scale(1));
    CHECK(back("PilotCheckValve(ratio = 4, rated_flow = 50 L/min, rise = 2 bar)", 60) == doctest::Approx(50 * std::sqrt(95.0 / 2)).epsilon(1e-3));
    // lift = (95 + 3 (p_pilot - 5) - 180) / 30
    CHECK(back("CounterbalanceValve(setting = 180 bar, ratio = 3, leakage = 0 L/min/bar)", 30) == doctest::Approx(0).scale(1));
    CHECK(back("CounterbalanceValve(setting = 180 bar, ratio = 3, band = 30 bar, rated_flow = 60 L/min, rated_dp = 10 bar)", 38) ==
          doctest::Approx((95 + 99 - 180) / 30.0 * 60 * signed_sqrt(95, 0.1) / std::sqrt(10)).epsilon(1e-3));
    CHECK(back("CounterbalanceValve(setting = 60 bar, ratio = 0, band = 30 bar, rated_flow = 60 L/min, rated_dp = 10 bar)", 5) ==
          doctest::Approx(60 * std::sqrt(95.0 / 10)).epsilon(1e-3));
}

TEST_CASE("directional valves: which ports are joined at each command and centre")
{
    // a and b end in tanks of 50 bar, supply at 100 bar, tank at 1 bar: flows tell what is joined
    auto flows = [](const std::string& valve, double command) {
        Recording r =
            run("fluid oil = MineralOil\n part s : Tank(oil = oil, pressure = 100 bar)\n part t : Tank(pressure = 1 bar)\n part a, b : Tank(pressure = 50 "
                "bar)\n part x : " +
                    valve + "\n s.outlet -- x.supply ; t.outlet -- x.tank ; a.outlet -- x.a ; b.outlet -- x.b\n (" + std::to_string(command) +
                    ") -> x.command\n init x.spool = 0",
                1.5);
        return std::array{r["x.supply.m"].final(), r["x.tank.m"].final(), r["x.a.m"].final(), r["x.b.m"].final()};
    };
    auto open = [](double m) { return std::abs(m) > 0.5 ? (m > 0 ? 1 : -1) : 0; };
    auto signs = [&](const std::string& valve, double command) {
        auto f = flows(valve, command);
        CHECK(f[0] + f[1] + f[2] + f[3] == doctest::Approx(0).scale(1));
        return std::array{open(f[0]), open(f[1]), open(f[2]), open(f[3])};
    };
    CHECK(signs("Valve43(centre = closed)", 0) == std::array{0, 0, 0, 0});
    CHECK(signs("Valve43(centre = closed)", 1) == std::array{1, -1, -1, 1});
    CHECK(signs("Valve43(centre = closed)", -1) == std::array{1, -1, 1, -1});
    CHECK(signs("Valve43(centre = floating)", 0) == std::array{0, -1, 1, 1});
    CHECK(signs("Valve43(centre = idling)", 0) == std::array{1, -1, 0, 0});
    auto all = signs("Valve43(centre = open)", 0);
    CHECK(all[0] == 1);
    CHECK(all[1] == -1);
    CHECK(signs("ServoValve(rated_flow = 100 L/min)", 1) == std::array{1, -1, -1, 1});
    CHECK(signs("ServoValve(rated_flow = 100 L/min)", -0.5) == std::array{1, -1, 1, -1});
    // servo: the spool answers a step as an oscillator of 90 Hz, damping 0.8
    Recording s =
        run("fluid oil = MineralOil\n part s : Tank(oil = oil, pressure = 100 bar)\n part t, a, b : Tank(pressure = 1 bar)\n part x : ServoValve(frequency = "
            "90 Hz, damping = 0.8, command = 0.5)\n "
            "s.outlet -- x.supply ; t.outlet -- x.tank ; a.outlet -- x.a ; b.outlet -- x.b\n init x.spool = 0 ; init x.spool_speed = 0 s^-1",
            0.01, 1e-3);
    double w = 2 * kPi * 90, d = 0.8, wd = w * std::sqrt(1 - d * d);
    for (std::size_t i = 0; i < s.n_rows(); ++i) {
        double t = s.time().values[i];
        CHECK(s["x.spool"].values[i] ==
              doctest::Approx(0.5 * (1 - std::exp(-d * w * t) * (std::cos(wd * t) + d * w / wd * std::sin(wd * t)))).epsilon(1e-4).scale(0.5));
    }
}

TEST_CASE("valve 3/2 and cushioned cylinder")
{
    auto user = [](double command) {
        return run("fluid oil = MineralOil\n part s : Tank(oil = oil, pressure = 100 bar)\n part t : Tank(pressure = 1 bar)\n part v : Volume(volume = 0.1 "
                   "L)\n part x : Valve32(command = " +
                       std::to_string(command) + ")\n s.outlet -- x.supply ; t.outlet -- x.tank ; v.a -- x.user\n init v.p = 20 bar",
                   4)["v.p"]
            .final();
    };
    CHECK(user(1) == doctest::Approx(100e5).epsilon(0.01));
    CHECK(user(0) == doctest::Approx(1e5).epsilon(0.01));
    // run out against its end: with cushions the speed there is that of the gap
    auto end_speed = [](const char* cushions) {
        Recording r = run(std::string("fluid oil = MineralOil\n part feed : FlowSource(flow = 30 L/min)\n part tank : Tank(oil = oil)\n part lift : "
                                      "Cylinder(bore = 63 mm, rod_diameter = 36 "
                                      "mm, stroke = 0.3 m, dead_volume = 0.05 L, cushion_gap = 0.8 mm, cushions = ") +
                              cushions +
                              ")\n part relief : ReliefValve(cracking = 120 bar)\n part load : Mass(mass = 200 kg)\n part stop : EndStop(high = 0.3 m, "
                              "stiffness = 2e7 N/m)\n part wall : Anchor\n feed.outlet -- relief.inlet -- lift.head\n relief.outlet -- lift.rod_side -- "
                              "tank.outlet\n lift.rod -- load.point -- stop.moving\n "
                              "init load.x = 0.15 m ; init load.v = 0 m/s ; init lift.head_p = 2 bar",
                          4, 0, 1e-6);
        double speed = 0;
        for (std::size_t i = 0; i < r.n_rows(); ++i)
            if (r["load.x"].values[i] > 0.2995 && speed == 0) speed = r["load.v"].values[i];
        return speed;
    };
    double free = end_speed("false"), cushioned = end_speed("true");
    CHECK(free == doctest::Approx(0.5e-3 / (kPi / 4 * 0.063 * 0.063)).epsilon(0.1));
    CHECK(cushioned < 0.4 * free);
    CHECK(cushioned > 0);
}

// --- pumps --------------------------------------------------------------------------------------------------------

TEST_CASE("variable, compensated and load-sensing pump, motor and centrifugal pump at rest points by their formulas")
{
    const std::string drive =
        "fluid oil = MineralOil\n part d : SpeedSource(speed = 1500 rpm)\n part low : Tank(oil = oil, pressure = 1 bar)\n d.shaft -- p.shaft ; low.outlet -- "
        "p.inlet\n";
    Recording v = run(drive +
                          "part p : VariablePump(displacement = 50 cm^3/rev, setting = 0.4, leakage = 0 L/min/bar)\n part t : Tank(pressure = 101 bar)\n "
                          "p.outlet -- t.outlet",
                      2);
    CHECK(v["p.q"].final() == doctest::Approx(0.4 * 50e-6 * 25).epsilon(1e-6));
    CHECK(v["p.shaft.torque"].final() == doctest::Approx(0.4 * 50e-6 / (2 * kPi) * 100e5 + 0.04 * 50e-6 / (2 * kPi) * 100e5 + 0.03 * 50 * kPi).epsilon(1e-5));
    Recording c = run(drive +
                          "part p : CompensatedPump(displacement = 50 cm^3/rev, limit = 150 bar, band = 6 bar)\n part x : Volume ; part o : Orifice(diameter = "
                          "3 mm)\n part t : Tank(pressure "
                          "= 1 bar)\n p.outlet -- x.a ; x.b -- o.inlet ; o.outlet -- t.outlet",
                      5);
    double dp = c["p.dp"].final(), share = (156e5 - dp) / 6e5;
    CHECK(c["p.share"].final() == doctest::Approx(share).epsilon(1e-3));
    CHECK(dp > 150e5);
    CHECK(c["p.q"].final() == doctest::Approx(share * 50e-6 * 25 - 0.04 / 6e4 * dp / 1e5).epsilon(1e-3));
    // load sensing: 18 bar above what is sensed, whatever the orifice
    Recording l = run(drive +
                          "part p : LoadSensingPump(displacement = 50 cm^3/rev, margin = 18 bar)\n part x : Volume ; part o : Orifice(diameter = 4 mm)\n part "
                          "t : Tank(pressure = 60 bar)\n p.outlet "
                          "-- x.a ; x.b -- o.inlet ; o.outlet -- t.outlet -- p.pilot\n init p.share = 0.2",
                      10);
    CHECK(l["x.p"].final() == doctest::Approx(78e5).epsilon(1e-4));
    Recording m =
        run("fluid oil = MineralOil\n part high : Tank(oil = oil, pressure = 101 bar)\n part low : Tank(pressure = 1 bar)\n part w : Motor(displacement = 100 "
            "cm^3/rev, leakage = 0 L/min/bar)\n part j : "
            "Inertia(inertia = 0.1 kg*m^2)\n part b : TorsionDamper(damping = 1 N*m*s/rad)\n part f : FixedShaft\n high.outlet -- w.inlet ; w.outlet -- "
            "low.outlet ; w.shaft -- j.shaft -- b.a ; b.b -- "
            "f.shaft\n init j.speed = 0 rpm",
            5);
    double torque = 100e-6 / (2 * kPi) * 100e5 * 0.95, speed = torque / 1.1;  // less 5 % friction, over brake and drag
    CHECK(m["w.speed"].final() == doctest::Approx(speed).epsilon(1e-4));
    CHECK(m["w.inlet.m"].final() / m["w.rho"].final() == doctest::Approx(100e-6 / (2 * kPi) * speed).epsilon(1e-4));
    // centrifugal: the rated point, and no flow
    const std::string water =
        "fluid w = Water(temperature = 20 degC)\n part d : SpeedSource(speed = 1450 rpm)\n part low : Tank(oil = w, pressure = 2 bar)\n part p : "
        "CentrifugalPump(rated_flow = 60 "
        "m^3/h, rated_head = 30 m)\n d.shaft -- p.shaft ; low.outlet -- p.inlet\n";
    Recording r = run(water + "part t : Tank(pressure = 4.9377 bar)\n p.outlet -- t.outlet\n var clock init 0 ; clock' = 1 s^-1", 1);
    CHECK(r["p.head"].final() == doctest::Approx(30).epsilon(1e-3));
    CHECK(r["p.q"].final() == doctest::Approx(60 / 3600.0).epsilon(1e-2));
    double hydraulic = 60 / 3600.0 * 998.2 * 9.80665 * 30;
    CHECK(r["p.shaft.torque"].final() * 1450 * 2 * kPi / 60 == doctest::Approx(hydraulic / 0.72).epsilon(0.01));
    Recording half = run(water + "part v : Volume(volume = 1 L)\n p.outlet -- v.a\n init v.p = 3 bar", 20);
    CHECK(half["p.head"].final() == doctest::Approx(37.5).epsilon(1e-3));
}

TEST_SUITE_END();

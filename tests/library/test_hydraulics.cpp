// SPDX-License-Identifier: Apache-2.0
// Liquids that carry heat and air, cavitation, pipes, accumulators: against formulas and balances.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-8)
{
    return test::simulate("use mechanics, heat, hydraulics, fluids, control\nsystem S {\n" + body + "\n}\n", stop, tolerance, every);
}

constexpr double kPi = 3.14159265358979323846;
const double kC0 = 1685 / std::sqrt(0.87), kC1 = 3.4 / std::sqrt(0.87);  // heat capacity of the oil at 0 degC and its slope (Cragoe)
constexpr double kZero = 273.15;

double oil_enthalpy(double p, double T)
{
    double d = T - kZero;
    return kC0 * d + 0.5 * kC1 * d * d + p / 870;
}

}  // namespace

TEST_SUITE_BEGIN("library");

// --- what travels with the flow -----------------------------------------------------------------------------------

TEST_CASE("a joint mixes what flows into it, by mass")
{
    // 20 L/min at 60 degC and 10 L/min at 20 degC meet and flow off
    Recording r =
        run("fluid oil = MineralOil(thermal = true)\n part a : FlowSource(flow = 20 L/min, temperature = 60 degC)\n part b : FlowSource(flow = 10 L/min, "
            "temperature = "
            "20 degC)\n part o : Orifice(diameter = 8 mm)\n part t : Tank(oil = oil, pressure = 2 bar)\n joint meeting = a.outlet -- b.outlet -- o.inlet\n "
            "o.outlet -- "
            "t.outlet\n let p = meeting.p\n let h = passing(meeting.h)\n let away : J/kg = passing(o.outlet.h)\n var clock init 0\n clock' = 1 s^-1",
            1);
    double p = r["p"].final(), ma = -r["a.outlet.m"].final(), mb = -r["b.outlet.m"].final();
    double mixed = (ma * oil_enthalpy(p, kZero + 60) + mb * oil_enthalpy(p, kZero + 20)) / (ma + mb);
    CHECK(r["h"].final() == doctest::Approx(mixed).epsilon(1e-9));
    CHECK(r["away"].final() == doctest::Approx(mixed).epsilon(1e-6));
    CHECK(r["o.inlet.h"].final() == doctest::Approx(mixed).epsilon(1e-6));  // what passes is recorded under the plain name
}

TEST_CASE("ports of composed components are taken apart: enthalpy goes through two levels, and is read from outside")
{
    Recording r = test::simulate(
        "use hydraulics, fluids\n"
        "component Inner { port a, b : hydraulic(oil) ; part one, two : Orifice(diameter = 4 mm) ; a -- one.inlet -- two.inlet ; b -- one.outlet -- two.outlet "
        "}\n"
        "component Outer { port a, b : hydraulic(oil) ; part first, second : Inner ; a -- first.a ; first.b -- second.a ; second.b -- b }\n"
        "system S { fluid oil = MineralOil(thermal = true) ; part high : Tank(oil = oil, pressure = 50 bar, temperature = 55 degC) ; part low : Tank(pressure "
        "= 1 bar)\n"
        "part way : Outer ; high.outlet -- way.a ; way.b -- low.outlet ; let h : J/kg = passing(way.b.h) ; let w : W = flow(way.a.h) ; let inside : J/kg = "
        "entering(way.second.a.h) ; var clock init 0 ; clock' = 1 s^-1 }",
        1);
    double h = oil_enthalpy(50e5, kZero + 55);
    CHECK(r["h"].final() == doctest::Approx(h).epsilon(1e-6));
    CHECK(r["inside"].final() == doctest::Approx(h).epsilon(1e-6));
    CHECK(r["w"].final() == doctest::Approx(h * r["way.a.m"].final()).epsilon(1e-6));
    CHECK(r["way.a.m"].final() > 0);
}

TEST_CASE("closed circuits keep mass, energy and air over many reversals")
{
    // two chambers that a piston fills and empties in turn through a choke; all in one closed circuit
    Recording r =
        run("fluid oil = MineralOil(thermal = true, air = dynamic, air_content = 8 %, release_time = 0.5 s, dissolving_time = 2 s)\n"
            "part a : Chamber(oil = oil)\n part b : Chamber\n part gap : Orifice(diameter = 3 mm)\n part still : Volume(volume = 0.3 L)\n\n"
            "let x : L = 0.1 L * sin(2 * pi * time / (2 s))\n 0.3 L + x -> a.volume ; 0.5 L - x -> b.volume\n a.outlet -- gap.inlet ; gap.outlet -- b.inlet\n"
            "b.outlet -- still.a\n init a.p = 30 bar ; init a.temperature = 60 degC ; init b.temperature = 30 degC ; init still.content.temperature = 40 "
            "degC\n"
            "let mass : kg = a.mass + b.mass + still.content.mass\n"
            "let energy : kJ = a.mass * oil.enthalpy(a.p, a.T) - a.p * a.volume + b.mass * oil.enthalpy(b.p, b.T) - b.p * b.volume + still.content.mass * "
            "oil.enthalpy(still.p, still.T) - still.p * 0.3 L\n"
            "let air : g = a.mass * a.air + b.mass * b.air + still.content.mass * still.content.air\n"
            "var work : kJ init 0 kJ\n work' = (b.p - a.p) * x'\n var turns init 0\n turns' = abs(gap.inlet.m) / (1 kg)\n",
            120, 0.5, 1e-8);
    CHECK(r["turns"].final() > 5);  // kg went to and fro
    CHECK(r["gap.inlet.m"].max() > 0.05);
    CHECK(r["gap.inlet.m"].min() < -0.05);
    CHECK(r["mass"].final() == doctest::Approx(r["mass"].first()).epsilon(1e-6));
    CHECK(r["air"].final() == doctest::Approx(r["air"].first()).epsilon(1e-5));
    CHECK(r["energy"].final() - r["energy"].first() == doctest::Approx(r["work"].final()).epsilon(1e-3));
    CHECK(r["work"].final() > 2000);  // J: the test looks at something
    CHECK(r["a.T"].final() > r["b.T"].first());
}

TEST_CASE("an isothermal circuit has neither enthalpy nor air; each depth has its own equations only")
{
    auto size = [](const std::string& options) {
        CompiledSystem s =
            test::compile("use hydraulics, fluids\nsystem S { fluid oil = MineralOil(" + options +
                          ") ; part t : Tank(oil = oil, pressure = 9 bar) ; part o : Orifice ; part v : Volume ; t.outlet -- o.inlet ; o.outlet -- "
                          "v.a ; init v.p = 1 bar }");
        auto names = s.quantities();
        bool carries =
            std::any_of(names.begin(), names.end(), [](const std::string& n) { return n.ends_with(".h") || n.find(".leaving") != std::string::npos; });
        return std::tuple(s.n_states(), s.n_equations(), carries);
    };
    auto [states, equations, carries] = size("");
    CHECK(states == 1);
    CHECK_FALSE(carries);
    auto [warm_states, warm_equations, warm] = size("thermal = true");
    CHECK(warm_states == 2);
    CHECK(warm);
    CHECK(std::get<0>(size("thermal = true, air = carried")) == 3);
    CHECK(std::get<0>(size("thermal = true, air = dynamic")) == 4);
    CHECK(std::get<0>(size("air = fixed")) == 1);
    CHECK(std::get<1>(size("air = fixed")) == equations);
    CHECK(warm_equations > equations);
}

TEST_CASE("parts in a branch on an option of the fluid exist only where it holds")
{
    const std::string component =
        "component Line { port a, b : hydraulic(oil) ; part gap : Orifice(diameter = 5 mm) ; a -- gap.inlet ; gap.outlet -- b\n"
        "if oil.thermal { part iron : HeatMass(capacity = 5 kJ/K) ; part skin : Convection(area = 1 m^2, coefficient = 20 W/(m^2*K)) ; part room : "
        "Surroundings(temperature = 20 degC) ; iron.surface -- skin.a ; skin.b -- room.surface } }\n";
    auto states = [&](const std::string& options) {
        return test::compile("use hydraulics, heat, fluids\n" + component + "system S { fluid oil = MineralOil(" + options +
                             ") ; part t : Tank(oil = oil, pressure = 9 bar) ; part l : Line ; part v : Volume ; t.outlet -- l.a ; l.b -- v.a }")
            .n_states();
    };
    CHECK(states("") == 1);
    CHECK(states("thermal = true") == 3);  // pressure and temperature of the volume, temperature of the iron
}

// --- heat ---------------------------------------------------------------------------------------------------------

TEST_CASE("throttling heats oil by dp / (rho c)")
{
    Recording r =
        run("fluid oil = MineralOil(thermal = true)\n part t : Tank(oil = oil, pressure = 201 bar, temperature = 40 degC)\n part choke : Orifice(diameter = 2 "
            "mm)\n part v : "
            "Volume(volume = 0.05 L)\n part wide : Orifice(diameter = 20 mm)\n part low : Tank(pressure = 1 bar)\n t.outlet -- choke.inlet ; choke.outlet -- "
            "v.a ; "
            "v.b -- wide.inlet ; wide.outlet -- low.outlet\n init v.content.temperature = 40 degC",
            5);
    double c = kC0 + kC1 * 45.9;  // mean of the rise
    CHECK(r["v.T"].final() - (kZero + 40) == doctest::Approx((201e5 - r["v.p"].final()) / (870 * c)).epsilon(1e-3));
}

TEST_CASE("pump and motor: their losses warm the oil, power in is power out")
{
    Recording r = run(
        "fluid oil = MineralOil(thermal = true)\n part drive : SpeedSource(speed = 1500 rpm)\n part pump : FixedPump(displacement = 40 cm^3/rev, thermal_mass "
        "= "
        "500 J/K, "
        "conductance = 1e-6 W/K)\n part load : Orifice(diameter = 4 mm)\n part low, back : Tank(oil = oil, temperature = 40 degC, pressure = 1 bar)\n "
        "drive.shaft -- "
        "pump.shaft\n low.outlet -- pump.inlet ; pump.outlet -- load.inlet ; load.outlet -- back.outlet\n init pump.temperature = 40 degC\n let out_h : J/kg = "
        "passing(load.outlet.h) ; let in_h : J/kg = passing(pump.inlet.h)",
        60);
    double power = r["pump.shaft.torque"].final() * 1500 * 2 * kPi / 60, m = r["pump.inlet.m"].final();
    CHECK(m * (r["out_h"].final() - r["in_h"].final()) == doctest::Approx(power).epsilon(1e-6));
    // through pump and throttle the oil warms by all the power: m c dT
    double rise = power / (m * (kC0 + kC1 * 45));
    FluidProperty T("fluids.oil", "temperature_at");
    CHECK(T({1e5, r["out_h"].final()}) - (kZero + 40) == doctest::Approx(rise).epsilon(5e-3));
}

TEST_CASE("a cooling circuit in balance: pump, throttle, tank, cooler by effectiveness and transfer units")
{
    Recording r =
        run("fluid oil = MineralOil(thermal = true, temperature = 50 degC)\n part drive : SpeedSource(speed = 1450 rpm)\n part pump : FixedPump(displacement = "
            "28 cm^3/rev, "
            "conductance = 1e-6 W/K)\n part choke : Orifice(diameter = 3 mm)\n part cooler : Cooler(conductance = 250 W/K)\n part sump : OpenTank(oil = oil, "
            "content = 30 L, "
            "conductance = 10 W/K)\n part room : Surroundings(temperature = 20 degC)\n drive.shaft -- pump.shaft\n sump.outlet -- pump.inlet ; pump.outlet -- "
            "choke.inlet ; "
            "choke.outlet -- cooler.inlet ; cooler.outlet -- sump.inlet\n sump.surface -- room.surface -- cooler.air",
            4 * 3600, 60);
    double power = r["pump.shaft.torque"].final() * 1450 * 2 * kPi / 60;
    double m = r["pump.inlet.m"].final(), hot = r["cooler.warm"].final(), sump = r["sump.T"].final();
    double cp = kC0 + kC1 * (r["cooler.core.T"].final() - kZero);
    double cooled = (1 - std::exp(-250 / (m * cp))) * m * cp * (hot - (kZero + 20));
    CHECK(r["cooler.heat"].final() == doctest::Approx(cooled).epsilon(1e-4));
    CHECK(cooled + 10 * (sump - (kZero + 20)) == doctest::Approx(power).epsilon(1e-3));  // all that the pump takes in goes out
    CHECK(hot > sump + 2);
    // on the way there the tank holds the difference: c T' = power - what goes out, at the tenth minute
    std::size_t k = 10;
    double stored = r["sump.mass"].values[k] * (kC0 + kC1 * (r["sump.T"].values[k] - kZero)), body = 5e3;
    double rate = (r["sump.T"].values[k + 1] - r["sump.T"].values[k - 1]) / 120, in = r["pump.shaft.torque"].values[k] * 1450 * 2 * kPi / 60;
    double away = r["cooler.heat"].values[k] - r["sump.surface.heat"].values[k];
    CHECK(std::abs(rate) > 1e-3);
    CHECK((stored + body) * rate == doctest::Approx(in - away).epsilon(0.05));
}

// --- air and vapour -----------------------------------------------------------------------------------------------

TEST_CASE("air travels with the oil: a front of aerated oil arrives behind volumes with the delay of a chain of mixers")
{
    // n mixers of equal residence time: the content after a step is 1 - e^-a (1 + a + a^2/2 ...), a = q t / V
    Recording r =
        run("fluid oil = MineralOil(air = carried, air_content = 0 %)\n part source : FlowSource(flow = 30 L/min, air_content = 4 %)\n part v1, v2, v3 : "
            "Volume(volume = 1 L)\n part "
            "t : Tank(oil = oil, pressure = 80 bar)\n source.outlet -- v1.a ; v1.b -- g1.inlet ; g1.outlet -- v2.a ; v2.b -- g2.inlet ; "
            "g2.outlet -- "
            "v3.a ; v3.b -- g3.inlet ; g3.outlet -- t.outlet\n part g1, g2, g3 : Orifice(diameter = 12 mm)\n init v1.content.air_fraction = 0 ; init "
            "v2.content.air_fraction = 0 ; "
            "init v3.content.air_fraction = 0",
            8, 0.5);
    double full = 0.04 * 1.2928 / (870 + 0.04 * 1.2928);
    for (std::size_t i = 2; i < r.n_rows(); ++i) {
        double a = 0.5 * r.time().values[i];  // 30 L/min is 0.5 L/s
        CHECK(r["v3.content.air"].values[i] / full == doctest::Approx(1 - std::exp(-a) * (1 + a + a * a / 2)).epsilon(0.01));
    }
}

TEST_CASE("undissolved air dissolves under pressure and comes out of solution with its time constants")
{
    const std::string body =
        "fluid oil = MineralOil(air = dynamic, air_content = 6 %, release_time = 0.5 s, dissolving_time = 4 s)\n part v : Chamber\n part t : Orifice(diameter "
        "= 0.001 mm)\n "
        "part low : Tank(oil = oil, pressure = 1 bar)\n v.outlet -- t.inlet ; t.outlet -- low.outlet\n";
    double share = 0.06 * 1.2928 / (870 + 0.06 * 1.2928);
    // held at high pressure: bubbles vanish with exp(-t / 4 s)
    Recording r = run(body + "1 L -> v.volume ; init v.p = 150 bar ; init v.bubble_fraction = 5e-5", 8, 1);
    for (std::size_t i = 0; i < r.n_rows(); ++i) CHECK(r["v.free"].values[i] == doctest::Approx(5e-5 * std::exp(-r.time().values[i] / 4)).epsilon(2e-3));
    CHECK(r["v.air"].final() == doctest::Approx(share).epsilon(1e-6));
    // drawn out to well below saturation: they come at lack / 0.5 s
    Recording d = run(
        body + "let wide : L = 1 L * (1 + 0.1 * smooth_step(time, 0 s, 0.1 s))\n wide -> v.volume ; init v.p = 5 bar ; init v.bubble_fraction = 0", 6, 0.02);
    CHECK(d["v.void"].final() == doctest::Approx(0.1 / 1.1).epsilon(0.01));
    CHECK(d["v.free"].final() > 0.4 * share);
    for (std::size_t i = 10; i + 1 < 100; i += 10) {
        double rate = (d["v.free"].values[i + 1] - d["v.free"].values[i - 1]) / (d.time().values[i + 1] - d.time().values[i - 1]);
        CHECK(rate == doctest::Approx(d["v.lack"].values[i] / 0.5).epsilon(0.01));
    }
    CHECK(std::abs(d["v.lack"].final()) < 1e-3 * share);
}

TEST_CASE("the oil tank: air rises out, level follows what it holds")
{
    Recording r =
        run("fluid oil = MineralOil(air = dynamic, air_content = 9 %)\n part sump : OpenTank(oil = oil, content = 50 L, footprint = 0.2 m^2, rise_time = 30 "
            "s)\n part feed : "
            "FlowSource(flow = 12 L/min, air_content = 9 %)\n feed.outlet -- sump.inlet\n init sump.free = 2e-5 ; init sump.air = 6e-5\n",
            60, 10);
    double rho = 870 * (1 - 7e-4 * 25);
    CHECK(r["sump.level"].first() == doctest::Approx(0.050 / 0.2).epsilon(1e-3));
    CHECK(r["sump.level"].final() == doctest::Approx(0.062 / 0.2).epsilon(1e-3));
    CHECK(r["sump.outlet.p"].final() == doctest::Approx(1.013e5 + rho * 9.80665 * r["sump.level"].final()).epsilon(1e-6));
    CHECK(r["sump.free"].final() < 0.2 * 2e-5);
}

TEST_CASE("a tank that runs dry ends the run as an error that says so")
{
    Run r(
        test::compile("use hydraulics, fluids\n system S { fluid oil = MineralOil ; part sump : OpenTank(oil = oil, content = 5 L) ; part draw : "
                      "FlowSource(flow = -10 L/min) ; sump.outlet -- draw.outlet }"));
    RunOptions options;
    options.stop = 60;
    try {
        r.simulate(options);
        FAIL("it holds 5 L, and 10 L are drawn");
    } catch (const RunError& error) {
        CHECK(std::string(error.what()).find("run dry") != std::string::npos);
    }
    CHECK(r.recording().time().final() == doctest::Approx(30).epsilon(0.01));
}

TEST_CASE("a chamber that is drawn out fills with vapour: pressure stays positive, the mass is kept, and it closes again")
{
    for (const char* air : {"none", "fixed"}) {
        INFO(air);
        Recording r = run(std::string("fluid oil = MineralOil(air = ") + air +
                              ", air_content = 0.5 %)\n part c : Chamber\n part t : Orifice(diameter = 0.001 mm)\n part low : Tank(oil = oil, pressure = 5 "
                              "bar)\n c.outlet -- "
                              "t.inlet ; t.outlet -- low.outlet\n 0.1 L + 0.05 L * sin(2 * pi * time / (1 s))^2 -> c.volume\n init c.p = 5 bar\n",
                          2, 0.01);
        CHECK(r["c.p"].min() > 0);
        CHECK(r["c.void"].max() == doctest::Approx(0.05 / 0.15).epsilon(0.02));
        CHECK(r["c.mass"].max() - r["c.mass"].min() < 2e-5 * r["c.mass"].max());
        CHECK(r["c.p"].final() == doctest::Approx(r["c.p"].first()).epsilon(0.05));
        if (air == std::string("none"))
            CHECK(r["c.p"].min() == doctest::Approx(3000 + 1e10 / (4 * 70e5)).epsilon(0.01));  // the vapour pressure, and its rounding
    }
}

TEST_CASE("a cylinder with dead volumes of a millilitre runs, and stays at the pressure that its load asks for")
{
    Recording r =
        run("fluid oil = MineralOil(air = fixed, air_content = 2 %)\n part feed : FlowSource(flow = 15 L/min)\n part valve : ProportionalValve(rated_flow = 40 "
            "L/min)\n part block : Volume(volume = 0.05 L)\n part relief : "
            "ReliefValve(cracking = 200 bar)\n part tank : Tank(oil = oil)\n part lift : Cylinder(bore = 50 mm, rod_diameter = 30 mm, stroke = 0.4 m, "
            "dead_volume = 1e-3 L, leakage "
            "= 1e-5 L/min/bar)\n part load : Mass(mass = 800 kg, slope = 90 deg)\n feed.outlet -- block.a -- relief.inlet -- valve.supply\n tank.outlet "
            "-- relief.outlet -- valve.tank\n valve.a "
            "-- lift.head ; valve.b -- lift.rod_side\n lift.rod -- load.point\n 0.8 * sin(2 * pi * time / (4 s)) -> valve.command\n init load.x = 0 m ; init "
            "load.v = 0 m/s ; init "
            "valve.spool = 0 ; init lift.head_p = 40 bar ; init lift.rod_side_p = 2 bar",
            1.9, 0, 1e-6);
    CHECK(r["load.x"].max() > 0.05);
    CHECK(r["lift.head_p"].min() > 0);
    double area = kPi / 4 * 0.05 * 0.05, ring = kPi / 4 * (0.05 * 0.05 - 0.03 * 0.03);
    std::size_t i = r.n_rows() / 2;  // in steady motion the pressures carry the weight
    double push = (r["lift.head_p"].values[i] - 1.013e5) * area - (r["lift.rod_side_p"].values[i] - 1.013e5) * ring;
    CHECK(push == doctest::Approx(800 * 9.80665).epsilon(0.05));
}

TEST_CASE("a pipe delays what it carries: a front of aerated oil arrives after length over speed")
{
    Recording r = run(
        "fluid oil = MineralOil(air = carried, air_content = 0 %)\n part source : FlowSource(flow = 30 L/min, air_content = 5 %)\n part line : Pipe(length = "
        "10 m, diameter = 20 mm, n = 40)\n part t : Tank(oil = oil, "
        "pressure = 60 bar)\n source.outlet -- line.a ; line.b -- t.outlet\n for i in 1 .. 41 { init line.section[i].p = 60 bar }\n let half : 1 = "
        "line.section[41].air / (0.05 * 1.2928 / (870 + 0.05 * 1.2928)) "
        "- 0.5",
        10, 0.05, 1e-6);
    double arrival = 0, speed = 0.5e-3 / (kPi / 4 * 4e-4);
    for (std::size_t i = 0; i < r.n_rows() && arrival == 0; ++i)
        if (r["half"].values[i] > 0) arrival = r.time().values[i];
    CHECK(arrival == doctest::Approx(10 / speed).epsilon(0.03));
    CHECK(r["line.stretch[3].void"].final() < 1e-3);  // under pressure it is dissolved
}

TEST_CASE("a reservoir sends oil whose pressure, temperature and air change with time")
{
    Recording r = run(
        "fluid oil = MineralOil(thermal = true, air = dynamic)\n part from : Reservoir(oil = oil, temperature = 50 degC)\n part way : Orifice(diameter = 4 "
        "mm)\n part to : Tank(pressure = 1 bar)\n from.outlet -- "
        "way.inlet ; way.outlet -- to.outlet\n 10 bar + 5 bar * sin(time / (1 s)) -> from.pressure\n 2 % + 1 % * time / (1 s) -> from.air_content\n 0.5 % * "
        "time / (1 s) -> from.bubbles\n let air : 1 = "
        "passing(way.outlet.air)\n let free : 1 = passing(way.outlet.free)\n var clock init 0 ; clock' = 1 s^-1",
        2, 0.5);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i], all = (0.02 + 0.01 * t) * 1.2928, bubbles = 0.005 * t * 1.2928;
        CHECK(r["way.inlet.p"].values[i] == doctest::Approx(10e5 + 5e5 * std::sin(t)).epsilon(1e-9));
        CHECK(r["air"].values[i] == doctest::Approx(all / (870 + all)).epsilon(1e-6));
        CHECK(r["free"].values[i] == doctest::Approx(bubbles / (870 + bubbles)).epsilon(1e-6).scale(1e-6));
    }
    // bubbles by volume at the mean pressure: what is readable at any passage
    double t = 2, p = 0.5 * (10e5 + 5e5 * std::sin(t) + 1e5), T = r["way.T"].final(), share = 0.01 * 1.2928 / (870 + 0.01 * 1.2928);
    double bubble = share * 287.05 * T / p, liquid = 1 / (870 * (1 - 7e-4 * (T - 288.15)) * std::exp((p - 1e5) / 1.4e9));
    CHECK(r["way.void"].final() == doctest::Approx(bubble / (bubble + liquid)).epsilon(2e-3));
}

TEST_CASE("single-acting cylinder: the plunger carries its load, and its oil spring gives the frequency")
{
    Recording r =
        run("fluid oil = MineralOil\n part jack : SingleActingCylinder(oil = oil, bore = 80 mm, stroke = 0.6 m, dead_volume = 0.2 L, damping = 0 N*s/m)\n part "
            "load : Mass(mass = 4000 kg, slope = 90 deg)\n part shut : "
            "FlowSource\n jack.head -- shut.outlet ; jack.rod -- load.point\n init load.x = 0.3 m ; init load.v = 1 mm/s ; init jack.p = 79.0498 bar",
            1, 5e-4, 1e-9);
    double A = kPi / 4 * 0.0064, V = 0.2e-3 + A * 0.3, period = 2 * kPi / std::sqrt(1.4e9 * A * A / V / 4000);
    double mean = 0.5 * (r["jack.p"].max() + r["jack.p"].min());
    CHECK((mean - 1.013e5) * A == doctest::Approx(4000 * 9.80665).epsilon(1e-3));
    std::vector<double> turns;
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        double a = r["load.v"].values[i - 1], b = r["load.v"].values[i];
        if (a > 0 && b <= 0) turns.push_back(r.time().values[i - 1] + 5e-4 * a / (a - b));
    }
    REQUIRE(turns.size() > 3);
    CHECK((turns.back() - turns.front()) / static_cast<double>(turns.size() - 1) == doctest::Approx(period).epsilon(5e-3));
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Gas circuits against textbook results.
#include <doctest/doctest.h>

#include <cmath>
#include <netloop/property.hpp>

#include "support/support.hpp"

using namespace netloop;

namespace {

// A monatomic gas: its heat capacity does not change with temperature, so the textbook's formulas hold exactly. kappa = 5/3, cp = 5/2 R.
const std::string kMonatomic = "fluid Monatomic : fluids.ideal_gas(argon = 1) { }\n";
constexpr double kR = 8.314462618 / 39.948e-3, kCp = 2.5 * kR, kKappa = 5.0 / 3;

Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-8)
{
    return test::simulate(kMonatomic + "use mechanics, heat, gases, fluids, control\nsystem S {\n" + body + "\n}\n", stop, tolerance, every);
}

constexpr double kPi = 3.14159265358979323846;

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("an evacuated tank fills to gamma times the temperature outside")
{
    // monatomic: exactly 5/3 T0; air: 1.4 T0, less by its rising heat capacity
    Recording r =
        run("fluid gas = Monatomic\n part sky : GasReservoir(medium = gas, pressure = 1 bar, temperature = 300 K)\n part way : Restriction(area = 20 mm^2)\n "
            "part tank : GasTank(volume = 5 L, "
            "conductance = 1e-9 W/K)\n sky.outlet -- way.inlet ; way.outlet -- tank.inlet\n init tank.p = 1e-4 bar ; init tank.T = 300 K",
            3);
    CHECK(r["tank.p"].final() == doctest::Approx(1e5).epsilon(1e-4));
    CHECK(r["tank.T"].final() == doctest::Approx(kKappa * 300).epsilon(1e-3));
    Recording air =
        run("fluid gas = DryAir\n part sky : GasReservoir(medium = gas, pressure = 1 bar, temperature = 293.15 K)\n part way : Restriction(area = 20 mm^2)\n "
            "part tank : GasTank(volume = 5 L, conductance "
            "= 1e-9 W/K)\n sky.outlet -- way.inlet ; way.outlet -- tank.inlet\n init tank.p = 1e-4 bar ; init tank.T = 293.15 K",
            3);
    // energy: u(T) = h(T0)
    FluidProperty u("fluids.air", "energy"), h("fluids.air", "enthalpy");
    CHECK(u({1e5, air["tank.T"].final()}) == doctest::Approx(h({1e5, 293.15})).epsilon(2e-3).scale(1e5));
    CHECK(air["tank.T"].final() == doctest::Approx(1.4 * 293.15).epsilon(0.01));
}

TEST_CASE("choked flow does not know the pressure behind; unchoked flow by Saint-Venant and Wantzel")
{
    auto flow = [](double behind) {
        return run("fluid gas = Monatomic\n part high : GasReservoir(medium = gas, pressure = 10 bar, temperature = 320 K)\n part way : Restriction(area = 3 "
                   "mm^2, coefficient = 0.9)\n part low : "
                   "GasReservoir(pressure = " +
                       std::to_string(behind) +
                       " bar, temperature = 280 K)\n high.outlet -- way.inlet ; way.outlet -- low.outlet\n var clock init 0 ; clock' = 1 s^-1",
                   1)["way.inlet.m"]
            .final();
    };
    double c = 0.9 * 3e-6, critical = std::pow(2 / (kKappa + 1), kKappa / (kKappa - 1));
    double choked = c * 10e5 * std::sqrt(kKappa / (kR * 320)) * std::pow(2 / (kKappa + 1), (kKappa + 1) / (2 * (kKappa - 1)));
    CHECK(flow(10 * critical * 0.99) == doctest::Approx(choked).epsilon(1e-6));
    CHECK(flow(10 * critical * 1.05) < choked * (1 - 5e-4));
    for (double behind : {0.5, 2.0, 4.8}) CHECK(flow(behind) == doctest::Approx(choked).epsilon(1e-5));
    for (double behind : {6.0, 8.0, 9.5}) {
        double x = behind / 10;
        double free = c * 10e5 * std::sqrt(2 * kKappa / (kKappa - 1) / (kR * 320) * (std::pow(x, 2 / kKappa) - std::pow(x, (kKappa + 1) / kKappa)));
        CHECK(flow(behind) == doctest::Approx(free).epsilon(1e-4));
    }
    // the other way: gas of 280 K from 20 bar
    CHECK(flow(40) == doctest::Approx(-choked * 4 * std::sqrt(320.0 / 280)).epsilon(1e-5));
    CHECK(flow(10) == doctest::Approx(0).scale(1e-6));
}

TEST_CASE("a tank that empties without heat stays on its isentrope; with good walls it is isothermal")
{
    auto empty = [](const std::string& walls) {
        return run("fluid gas = Monatomic\n part tank : GasTank(volume = 20 L, " + walls +
                       ")\n part way : Restriction(area = 5 mm^2)\n part sky : GasReservoir(medium = gas, pressure = 1 bar)\n part room : "
                       "Surroundings(temperature = 300 K)\n tank.outlet -- "
                       "way.inlet ; way.outlet -- sky.outlet ; tank.surface -- room.surface\n init tank.p = 20 bar ; init tank.T = 300 K",
                   10, 0.5);
    };
    Recording a = empty("conductance = 1e-9 W/K"), b = empty("conductance = 1e6 W/K");
    for (std::size_t i = 0; i < a.n_rows(); ++i) {
        CHECK(a["tank.T"].values[i] == doctest::Approx(300 * std::pow(a["tank.p"].values[i] / 20e5, 1 - 1 / kKappa)).epsilon(1e-5));
        CHECK(b["tank.T"].values[i] == doctest::Approx(300).epsilon(1e-3));
    }
    CHECK(a["tank.p"].final() < 12e5);
    CHECK(a["tank.p"].final() < b["tank.p"].final());
}

TEST_CASE("two tanks joined: mass and energy of the whole are kept through reversals")
{
    Recording r =
        run("fluid gas = DryAir\n part a : GasSpace(medium = gas, conductance = 1e-9 W/K) ; part b : GasSpace(conductance = 1e-9 W/K)\n part way : "
            "Restriction(area = 4 mm^2)\n a.outlet -- way.inlet ; "
            "way.outlet -- b.inlet\n 2 L + 1 L * sin(2 * pi * time / (1 s)) -> a.volume ; 3 L - 1 L * sin(2 * pi * time / (1 s)) -> b.volume\n init a.p = 2 "
            "bar ; init a.T = 300 K ; init b.p = 2 bar ; init "
            "b.T = 350 K\n let mass : kg = a.mass + b.mass\n let energy : J = a.mass * gas.energy(a.p, a.T) + b.mass * gas.energy(b.p, b.T)\n var work : J "
            "init 0 J\n work' = -a.p * a.volume' - b.p * "
            "b.volume'",
            20, 0.1);
    CHECK(r["mass"].final() == doctest::Approx(r["mass"].first()).epsilon(1e-6));
    CHECK(r["energy"].final() - r["energy"].first() == doctest::Approx(r["work"].final()).epsilon(1e-4).scale(100));
    CHECK(r["way.inlet.m"].max() > 1e-4);
    CHECK(r["way.inlet.m"].min() < -1e-4);
}

TEST_CASE("a gas spring: small oscillations of a piston at the adiabatic frequency")
{
    // k = kappa p (A1^2 / V1 + A2^2 / V2) about the middle of the stroke, both sides shut
    Recording r =
        run("fluid gas = Monatomic\n part ram : PneumaticCylinder(bore = 50 mm, rod_diameter = 2 mm, stroke = 0.2 m, dead_volume = 0.05 L, damping = 0 N*s/m, "
            "conductance = 1e-9 W/K)\n part m : Mass(mass = "
            "2 kg)\n part shut_a : GasFeed(medium = gas)\n part shut_b : GasFeed(medium = gas)\n ram.head -- shut_a.outlet ; ram.rod_side -- shut_b.outlet\n "
            "ram.rod -- m.point\n init m.x = 0.101 m ; init "
            "m.v = 0 m/s ; init ram.head_p = 5 bar ; init ram.rod_side_p = 5 bar ; init ram.head_space.T = 300 K ; init ram.rod_side_space.T = 300 K",
            1, 1e-3);
    double A1 = kPi / 4 * 25e-4, A2 = kPi / 4 * (25e-4 - 4e-6), V1 = 0.05e-3 + A1 * 0.1, V2 = 0.05e-3 + A2 * 0.1;
    double period = 2 * kPi / std::sqrt(kKappa * 5e5 * (A1 * A1 / V1 + A2 * A2 / V2) / 2);
    std::vector<double> turns;  // maxima, by the change of sign of the speed
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        double a = r["m.v"].values[i - 1], b = r["m.v"].values[i];
        if (a > 0 && b <= 0) turns.push_back(r.time().values[i - 1] + 1e-3 * a / (a - b));
    }
    REQUIRE(turns.size() > 5);
    CHECK((turns.back() - turns.front()) / static_cast<double>(turns.size() - 1) == doctest::Approx(period).epsilon(2e-3));
}

TEST_CASE("pneumatic cylinder and valve: a full stroke ends at the pressures of supply and exhaust")
{
    Recording r =
        run("fluid air = DryAir\n part supply : GasReservoir(medium = air, pressure = 7 bar, temperature = 20 degC)\n part sky : OpenAir(medium = air)\n part "
            "valve : PneumaticValve(area = 8 mm^2, command = "
            "1)\n part ram : PneumaticCylinder(bore = 40 mm, rod_diameter = 16 mm, stroke = 0.2 m)\n part load : Mass(mass = 10 kg)\n part stop : EndStop(low "
            "= 0 m, high = 0.2 m)\n supply.outlet -- "
            "valve.supply ; sky.outlet -- valve.exhaust ; valve.a -- ram.head ; valve.b -- ram.rod_side ; ram.rod -- load.point -- stop.moving\n init load.x = "
            "0 m ; init load.v = 0 m/s ; init ram.head_p = "
            "1.01325 bar ; init ram.rod_side_p = 1.01325 bar ; init valve.spool = 0",
            6, 0.01, 1e-6);
    CHECK(r["load.x"].final() == doctest::Approx(0.2).epsilon(0.01));
    CHECK(r["ram.head_p"].final() == doctest::Approx(7e5).epsilon(0.01));
    CHECK(r["ram.rod_side_p"].final() == doctest::Approx(1.01325e5).epsilon(0.01));
    CHECK(r["stop.push_high"].final() == doctest::Approx((7e5 - 1.01325e5) * kPi / 4 * 0.0016).epsilon(0.01));
}

TEST_CASE("the open air at an altitude, and a feed of given temperature, mix in a tank")
{
    Recording r =
        run("fluid air = DryAir\n part hill : OpenAir(medium = air, altitude = 2000 m)\n part feed : GasFeed(flow = 1 g/s, temperature = 80 degC)\n part tank "
            ": GasTank(volume = 1 L)\n part way : Restriction(area = 200 mm^2)\n "
            "feed.outlet -- tank.inlet ; tank.outlet -- way.inlet ; way.outlet -- hill.outlet\n init tank.T = 20 degC ; init tank.p = 0.9 bar",
            20);
    CHECK(r["hill.outlet.p"].final() == doctest::Approx(79495.2).epsilon(1e-4));  // ISO 2533 at 2 km
    CHECK(r["hill.T"].final() == doctest::Approx(275.154).epsilon(1e-5));
    CHECK(r["tank.p"].final() == doctest::Approx(79495.2).epsilon(1e-3));
    CHECK(r["tank.T"].final() == doctest::Approx(353.15).epsilon(1e-3));
}

TEST_CASE("gas pipe: steady loss by Colebrook, and a pressure wave at the speed of sound")
{
    Recording r =
        run("fluid air = DryAir\n part high : GasReservoir(medium = air, pressure = 6 bar, temperature = 20 degC)\n part line : GasPipe(length = 20 m, "
            "diameter = 25 mm, n = 20, conductance = 1000 W/K)\n part draw : "
            "GasFeed(flow = -0.05 kg/s)\n part room : Surroundings(temperature = 20 degC)\n high.outlet -- line.a ; line.b -- draw.outlet ; line.wall -- "
            "room.surface",
            10, 0, 1e-6);
    double rho = 5.9e5 / (287.05 * 293.15), A = kPi / 4 * 625e-6, v = 0.05 / (rho * A), re = rho * v * 0.025 / 1.82e-5, f = 0.02;
    for (int i = 0; i < 60; ++i) f = std::pow(-2 * std::log10(0.01 / 25 / 3.7 + 2.51 / (re * std::sqrt(f))), -2);
    CHECK(6e5 - r["line.section[21].p"].final() == doctest::Approx(f * 20 / 0.025 * rho / 2 * v * v).epsilon(0.04));
    Recording w =
        run("fluid air = DryAir\n part tank : GasTank(medium = air, volume = 1e4 L)\n part line : GasPipe(length = 34 m, diameter = 100 mm, n = 80, "
            "conductance = 1e-6 W/K)\n part kick : GasFeed(medium = air)\n "
            "kick.outlet -- line.a ; line.b -- tank.inlet\n 0.05 kg/s * smooth_step(time, 0.01 s, 0.012 s) -> kick.flow",
            0.12, 1e-3, 1e-6);
    // the front, half way along, arrives after 17 m / c
    double arrival = 0;
    double before = w["line.section[41].p"].first(), rise = 0.05 * 343 / (kPi / 4 * 0.01);
    for (std::size_t i = 0; i < w.n_rows(); ++i)
        if (arrival == 0 && w["line.section[41].p"].values[i] > before + 0.5 * rise) arrival = w.time().values[i];
    CHECK(arrival == doctest::Approx(0.011 + 17 / std::sqrt(1.4 * 287.05 * 288.15)).epsilon(0.03));
}

// --- turbomachinery -----------------------------------------------------------------------------------------------

namespace {

// Compressor, burner, turbine and a shaft that is held at its rated speed; the gas is monatomic on both sides.
const std::string kEngine =
    "fluid gas = Monatomic\n part sky : GasReservoir(medium = gas, pressure = 1 bar, temperature = 288.15 K)\n part c : Compressor(rated_flow = 1 kg/s, "
    "rated_ratio = 5, rated_pressure = 1 bar, "
    "rated_temperature = 288.15 K, efficiency = 100 %)\n part b : Burner(flue = gas, fuel = 1e-4 kg/s, heating_value = 150 MJ/kg, efficiency = 100 %, rated_dp "
    "= 1e-6 bar, transition = 1e-9 bar)\n part t : "
    "Turbine(rated_flow = 1 kg/s, rated_ratio = 5, rated_pressure = 5 bar, rated_temperature = 1100 K, efficiency = 100 %)\n part out : GasReservoir(pressure "
    "= 1 bar)\n part d : SpeedSource(speed = 30000 "
    "rpm)\n sky.outlet -- c.inlet ; c.outlet -- b.inlet ; b.outlet -- t.inlet ; t.outlet -- out.outlet ; d.shaft -- c.shaft -- t.shaft\n";

}  // namespace

TEST_CASE("the ideal gas turbine: efficiency 1 - r^(-(kappa - 1)/kappa), whatever the temperature")
{
    for (const char* fuel : {"3e-3", "5e-3"}) {
        std::string engine = kEngine;
        engine.replace(engine.find("fuel = 1e-4"), 11, std::string("fuel = ") + fuel);
        Recording r = run(engine + "let useful : W = t.power - c.power ; let heat : W = b.fuel * b.heating_value", 5);
        double ratio = r["c.ratio"].final();
        CHECK(ratio > 3);
        // fuel adds 0.3 to 0.5 % of mass; the formula is for none
        CHECK(r["useful"].final() / r["heat"].final() == doctest::Approx(1 - std::pow(ratio, -(1 - 1 / kKappa))).epsilon(0.012));
        CHECK(r["c.T_ideal"].final() == doctest::Approx(288.15 * std::pow(ratio, 1 - 1 / kKappa)).epsilon(1e-6));
        double T3 = r["b.T"].final();
        CHECK(r["t.T_ideal"].final() == doctest::Approx(T3 * std::pow(r["t.ratio"].final(), -(1 - 1 / kKappa))).epsilon(1e-6));
        CHECK(r["c.power"].final() == doctest::Approx(r["c.inlet.m"].final() * kCp * (r["c.T_ideal"].final() - 288.15)).epsilon(1e-6));
        // the burner's balance: m cp T2 + fuel H = (m + fuel) cp T3, enthalpy counted from 25 degC
        double m = r["c.inlet.m"].final(), q = r["heat"].final(), f = r["b.fuel"].final();
        CHECK((m + f) * kCp * (T3 - 298.15) == doctest::Approx(m * kCp * (r["c.T_ideal"].final() - 298.15) + q).epsilon(1e-4));
    }
}

TEST_CASE("a compressor with an efficiency, and with a map of one's own in place of the shipped one")
{
    Recording r = test::simulate(kMonatomic +
                                     "use gases, mechanics, fluids\n table own(n : 1) -> 1 { 0: 0, 1: 0.5, 2: 1 } linear, extend\n component Mine : Compressor "
                                     "{ function flow_share(n : 1, r : 1) -> 1 { return own(n) }\n function "
                                     "efficiency_at(n : 1, r : 1) -> 1 { return 0.9 } }\n system S { fluid gas = Monatomic ; part sky : GasReservoir(medium = "
                                     "gas, pressure = 1 bar, temperature = 300 K) ; part c : Mine(rated_flow = 2 "
                                     "kg/s, efficiency = 80 %, rated_pressure = 1 bar, rated_temperature = 300 K) ; part out : GasReservoir(pressure = 4 bar) "
                                     "; part d : SpeedSource(speed = 30000 rpm) ; sky.outlet -- c.inlet ; c.outlet -- "
                                     "out.outlet ; d.shaft -- c.shaft }",
                                 1, 1e-8);
    CHECK(r["c.inlet.m"].final() == doctest::Approx(1).epsilon(1e-6));
    double rise = kCp * 300 * (std::pow(4, 0.4) - 1) / (0.8 * 0.9);
    CHECK(r["c.power"].final() == doctest::Approx(rise).epsilon(1e-6));
    CHECK(r["c.shaft.torque"].final() == doctest::Approx(rise / (30000 * 2 * kPi / 60)).epsilon(1e-6));
}

TEST_CASE("the turbine's flow by Stodola's ellipse")
{
    auto flow = [](double behind) {
        return run("fluid gas = Monatomic\n part high : GasReservoir(medium = gas, pressure = 5 bar, temperature = 900 K)\n part t : Turbine(rated_flow = 3 "
                   "kg/s, rated_ratio = 5, rated_pressure = 5 bar, "
                   "rated_temperature = 900 K)\n part low : GasReservoir(pressure = " +
                       std::to_string(behind) +
                       " bar)\n part d : SpeedSource(speed = 9000 rpm)\n high.outlet -- t.inlet ; t.outlet -- low.outlet ; d.shaft -- t.shaft",
                   0.1)["t.inlet.m"]
            .final();
    };
    for (double behind : {1.0, 2.0, 4.0}) CHECK(flow(behind) == doctest::Approx(3 * std::sqrt((1 - std::pow(behind / 5, 2)) / (1 - 0.04))).epsilon(1e-4));
}

TEST_CASE("gas exchanger: effectiveness and number of transfer units in counterflow")
{
    for (double hot_flow : {0.5, 1.0, 2.0}) {
        Recording r =
            run("fluid gas = Monatomic\n part a : GasFeed(medium = gas, flow = 1 kg/s, temperature = 300 K)\n part b : GasFeed(medium = gas, flow = " +
                    std::to_string(hot_flow) +
                    " kg/s, temperature = 800 K)\n part x : GasExchanger(conductance = 1.2 kW/K)\n part sink_a : GasReservoir(medium = gas, pressure = 1 bar) "
                    "; part sink_b : GasReservoir(medium = "
                    "gas, pressure = 1 bar)\n a.outlet -- x.cold_inlet ; x.cold_outlet -- sink_a.outlet ; b.outlet -- x.hot_inlet ; x.hot_outlet -- "
                    "sink_b.outlet\n var clock init 0 ; clock' = 1 s^-1",
                1);
        double Cc = kCp, Ch = hot_flow * kCp, least = std::min(Cc, Ch), c = least / std::max(Cc, Ch), n = 1200 / least;
        double e = c > 0.999 ? n / (1 + n) : (1 - std::exp(-n * (1 - c))) / (1 - c * std::exp(-n * (1 - c)));
        CHECK(r["x.heat"].final() == doctest::Approx(e * least * 500).epsilon(1e-4));
    }
}

TEST_CASE("gas exchanger: each side has its own rated flow; the loss goes with the square of the mass flow")
{
    Recording r =
        run("fluid gas = Monatomic\n part a : GasFeed(medium = gas, flow = 1 kg/s, temperature = 300 K)\n part b : GasFeed(medium = gas, flow = 0.4 kg/s, "
            "temperature = 500 K)\n"
            "part x : GasExchanger(rated_flow_cold = 2 kg/s, rated_flow_hot = 0.5 kg/s, rated_dp = 0.08 bar)\n part sink_a : GasReservoir(medium = gas, "
            "pressure = 1 bar)\n"
            "part sink_b : GasReservoir(medium = gas, pressure = 1 bar)\n a.outlet -- x.cold_inlet ; x.cold_outlet -- sink_a.outlet ; b.outlet -- x.hot_inlet\n"
            "x.hot_outlet -- sink_b.outlet\n var clock init 0 ; clock' = 1 s^-1",
            1);
    CHECK(r["x.cold_inlet.p"].final() == doctest::Approx(1e5 + 8000 * 0.25).epsilon(1e-5));
    CHECK(r["x.hot_inlet.p"].final() == doctest::Approx(1e5 + 8000 * 0.64).epsilon(1e-5));
}

TEST_CASE("a burner whose gas was chosen for another ratio of air to fuel warns, and no other")
{
    // methane needs 17.24 times its mass of air: some 105 g/s burn 5 g/s with 23 % excess
    auto warned = [](const std::string& flue) {
        Library library = Library::standard();
        library.load_text(
            "burner.loop",
            "use gases, fluids\nsystem S { fluid air = DryAir ; fluid flue = " + flue +
                "\n part intake : GasFeed(medium = air, flow = 106 g/s, temperature = 20 degC) ; part burner : Burner(flue = flue, fuel = 5 g/s)\n"
                "part choke : Restriction(area = 20 cm^2) ; part sink : GasReservoir(pressure = 1 bar)\n"
                "intake.outlet -- burner.inlet ; burner.outlet -- choke.inlet ; choke.outlet -- sink.outlet }\n"
                "scenario s of S { stop at 5 s ; measure excess = final(burner.excess) ; measure ratio = final(burner.air_per_fuel) }\n");
        Run run(compile(library));
        run.simulate({});
        CHECK(run.summary().measures[0].value == doctest::Approx(106 / 5.0 / 17.24 - 1).epsilon(1e-6));
        CHECK(run.summary().measures[1].value == doctest::Approx(21.2).epsilon(1e-6));
        return run.summary().warnings.size();
    };
    CHECK(warned("CombustionGas(excess_air = 23 %)") == 0);
    CHECK(warned("CombustionGas(excess_air = 200 %)") >= 1);
    CHECK(warned("DryAir") >= 1);
}

TEST_SUITE_END();

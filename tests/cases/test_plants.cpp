// SPDX-License-Identifier: Apache-2.0
// Whole circuits of liquids and gases: the examples of canal, gas and hydraulics, against what can be said of them by hand.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

CompiledSystem example(const std::string& file, const std::string& scenario, std::vector<std::pair<std::string, std::string>> set = {})
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/" + file));
    CompileRequest request;
    request.scenario = scenario;
    request.set = std::move(set);
    return compile(library, request);
}

constexpr double kPi = 3.14159265358979323846, kG = 9.80665;

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("the lock: time of levelling by the sum of losses, overshoot by the culvert's inertia, the surge when the gate shuts")
{
    Recording r = Run(example("canal/lock.loop", "levelling")).simulate();
    // with the gate open H = zeta v^2 / 2g over culvert and gate, and A_chamber H' = -a v: sqrt(H) falls evenly
    double a = kPi / 4 * 1.6 * 1.6, rho = 999.5;
    double gate = 2 * 1e5 / rho / std::pow(52e3 / 3600 * std::sqrt(1000 / rho) / a, 2);  // loss coefficient of the gate in the culvert's bore
    double re = 2 * 1.6 / 1.24e-6, f = 0.02;
    for (int i = 0; i < 60; ++i) f = std::pow(-2 * std::log10(1.5e-3 / 1.6 / 3.7 + 2.51 / (re * std::sqrt(f))), -2);
    double zeta = 0.5 + f * 60 / 1.6 + gate, slope = a * std::sqrt(2 * kG / zeta) / (2 * 600.0);
    auto lift = [&](double t) { return r["lift"].at(t, r.time()); };
    for (double t : {100.0, 200.0, 300.0}) CHECK(std::sqrt(lift(t)) - std::sqrt(lift(t + 100)) == doctest::Approx(100 * slope).epsilon(0.03));
    CHECK(r["lift"].min() < -0.02);  // the moving water carries on beyond the level
    CHECK(r["lift"].min() > -0.08);
    double stored = r["chamber.mass"].final() + r["shaft.mass"].final() + r["upper.mass"].final();
    CHECK(stored == doctest::Approx(r["chamber.mass"].first() + r["shaft.mass"].first() + r["upper.mass"].first()).epsilon(1e-9));

    Recording s = Run(example("canal/lock.loop", "emergency")).simulate();
    double period = 2 * kPi * std::sqrt(60 * 5 / (kG * a));  // culvert of 60 m against a shaft of 5 m^2
    std::vector<double> turns;
    for (std::size_t i = 1; i < s.n_rows(); ++i) {
        double t = s.time().values[i], before = s["culvert.m"].values[i - 1], now = s["culvert.m"].values[i];
        if (t > 126 && before > 0 && now <= 0) turns.push_back(t);
    }
    REQUIRE(turns.size() > 5);
    CHECK((turns[5] - turns[0]) / 5 == doctest::Approx(period).epsilon(0.02));
    CHECK(s["shaft.level"].max() > s["upper.level"].first() + 2);
    CHECK(s["flow"].final() == doctest::Approx(0).scale(1e-3));
}

TEST_CASE("the air heat pump both ways: the power found for a temperature gives that temperature, and its books")
{
    Recording found = Run(example("gas/heat_pump.loop", "room_given")).simulate();
    CHECK(found["room"].final() == doctest::Approx(273.15 + 18).epsilon(1e-8));
    double drive = found["motor.torque"].final() * found["rotor.speed"].final();
    CHECK(drive > 2e3);
    CHECK(drive < 4e3);
    CompiledSystem given = example("gas/heat_pump.loop", "power_given");
    Run run(given);
    run.set("drive", q(drive, "W"));
    Recording back = run.simulate();
    CHECK(back["room"].final() == doctest::Approx(273.15 + 18).epsilon(1e-6));
    CHECK(back["rotor.speed"].final() == doctest::Approx(found["rotor.speed"].final()).epsilon(1e-6));
    // the books: the shaft carries what the motor gives; the room loses what it gets; the air takes away what came in and did not stay
    CHECK(back["compressor.power"].final() - back["turbine.power"].final() == doctest::Approx(drive).epsilon(1e-5));
    CHECK(back["heater.heat"].final() == doctest::Approx(210 * (18 + 4)).epsilon(1e-6));
    FluidProperty enthalpy("fluids.air", "enthalpy");
    double flow = back["compressor.inlet.m"].final();
    double came = enthalpy({1.013e5, 269.15}), went = came + (drive + back["recovery.heat"].final() - back["heater.heat"].final()) / flow;
    double behind = back["turbine.T_ideal"].final();  // without losses of the turbine it would be that cold
    double fall = (enthalpy({1.8e5, back["turbine.T_in"].final()}) - enthalpy({1.013e5, behind})) * 0.82;
    CHECK(enthalpy({1.8e5, back["turbine.T_in"].final()}) - fall == doctest::Approx(went).epsilon(1e-4));
    // isentropic: (p2/p1)^((k-1)/k), of dry air near 0 degC
    double ratio = back["compressor.ratio"].final();
    CHECK(back["compressor.T_ideal"].final() / back["compressor.T_in"].final() == doctest::Approx(std::pow(ratio, 0.2857)).epsilon(2e-3));
    CHECK(back["gain"].final() == doctest::Approx(back["heater.heat"].final() / drive).epsilon(1e-9));
    CHECK(back["gain"].final() > 1.4);
    CHECK(back["gain"].final() < 1 / (1 - std::pow(ratio, -0.2857)));  // of the cycle without losses
    Recording frost = Run(example("gas/heat_pump.loop", "frost")).simulate();
    CHECK(frost["room"].final() < frost["room"].max() + 1e-9);
    CHECK(std::abs(frost["heater.heat"].final() - 210 * (frost["room"].final() - (273.15 - 14))) < 20);
}

TEST_CASE("the power pack: two minutes of work, the heat's book, pressure pulses and tank temperature in one run")
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/hydraulics/power_pack.loop"));
    CompileRequest request;
    request.scenario = "cycle";
    RunOptions options;
    options.stop = 120;
    options.output_every = 0.05;
    Recording r = Run(compile(library, request)).simulate(options);
    CHECK(r["sledge.x"].max() > 0.59);
    CHECK(r["sledge.x"].min() < 0.01);
    CHECK(r["block.p"].max() > 120e5);
    CHECK(r["block.p"].max() < 140e5);
    // power into the circuit: pump shaft less work at the damper; out: cooler, tank wall, pump case; the rest is stored
    auto mean = [&](const std::string& name) {
        const auto &v = r[name].values, &t = r.time().values;
        double sum = 0;
        for (std::size_t i = 1; i < v.size(); ++i) sum += 0.5 * (v[i] + v[i - 1]) * (t[i] - t[i - 1]);
        return sum;
    };
    double in = 0, lost = mean("cooler.heat") - mean("tank.surface.heat") - mean("pump.case.heat");
    const auto& t = r.time().values;
    for (std::size_t i = 1; i < t.size(); ++i) {
        auto power = [&](std::size_t k) { return r["pump.shaft.torque"].values[k] * 1475 * 2 * kPi / 60 - 40e3 * std::pow(r["sledge.v"].values[k], 2); };
        in += 0.5 * (power(i) + power(i - 1)) * (t[i] - t[i - 1]);
    }
    double rise = r["tank_temperature"].final() - r["tank_temperature"].first();
    double warmed = r["tank.mass"].final() * (1806 + 3.64 * 26) * rise;
    CHECK(rise > 1);
    // tank and pump body, and a few litres elsewhere that are warmer than the tank
    double body = 5e3 * (r["pump.T"].final() - r["pump.T"].first());
    double small = 870 * 1e-3 * 1900 * (3 * (r["gathering.T"].final() - r["gathering.T"].first()) + (r["block.T"].final() - r["block.T"].first()));
    CHECK(in - lost == doctest::Approx(warmed + body + small).epsilon(0.06));
    CHECK(r["tank.level"].max() - r["tank.level"].min() < 0.02);
}

TEST_CASE("the district network: 2,008 pipes over a day; the water book closes, pressures follow the draw")
{
    CompiledSystem network = example("canal/network.loop", "day");
    CHECK(network.n_equations() > 11000);
    Recording r = Run(network).simulate();
    CHECK(r["stored"].final() - r["stored"].first() == doctest::Approx(r["pumped_so_far"].final() - r["drawn_so_far"].final()).epsilon(2e-3).scale(10));
    CHECK(r["drawn_so_far"].final() == doctest::Approx(1040 * 1.5e-3 / 60 * 86400 * 0.99).epsilon(0.02));  // mean draw of the table about 0.99
    CHECK(r["least"].min() > 4.9e5);
    CHECK(r["least"].at(19 * 3600, r.time()) < r["least"].at(4 * 3600, r.time()));
    // at the start the network rests: what the station gives goes to houses and towers
    double draw = r["drawn"].first(), towers = r["riser_a.q"].first() + r["riser_b.q"].first();
    CHECK(r["station.flow"].first() + towers == doctest::Approx(draw).epsilon(1e-5));
}

TEST_CASE("a small network against a balance by hand: three pipes in a triangle")
{
    Recording r = test::simulate(
        "use hydraulics, fluids\n system S { fluid w = Water(temperature = 12 degC) ; part source : Tank(oil = w, pressure = 5 bar) ; part ab, bc, ac : "
        "SteadyPipe(length = 100 m, diameter = 80 mm, friction_factor = "
        "0.02) ; part use_b : FlowSource(flow = -300 L/min) ; part use_c : FlowSource(flow = -600 L/min) ; source.outlet -- ab.inlet -- ac.inlet ; ab.outlet "
        "-- bc.inlet -- use_b.outlet ; ac.outlet -- bc.outlet -- "
        "use_c.outlet ; var clock init 0 ; clock' = 1 s^-1 }",
        1);
    double ab = r["ab.q"].final(), bc = r["bc.q"].final(), ac = r["ac.q"].final();
    CHECK(ab + ac == doctest::Approx(0.015).epsilon(1e-3));
    CHECK(ab - bc == doctest::Approx(0.005).epsilon(1e-3));
    auto loss = [&](double q) {
        double v = q / (kPi / 4 * 0.0064), eta = 2.414e-5 * std::pow(10, 247.8 / (285.15 - 140));
        return 32 * eta * 100 / 0.0064 * v + 0.02 * 100 / 0.08 * 999.5 / 2 * v * std::abs(v);
    };
    CHECK(loss(ab) + loss(bc) == doctest::Approx(loss(ac)).epsilon(2e-3));  // around the loop
}

TEST_SUITE_END();

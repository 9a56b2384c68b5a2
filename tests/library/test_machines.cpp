// SPDX-License-Identifier: Apache-2.0
// Engines, drives and loads against balances and formulas.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

constexpr double kPi = 3.14159265358979323846;
constexpr double kGravity = 9.80665;

Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-8)
{
    return test::simulate_parts("machines, heat, electrics, mechanics, control", body, stop, tolerance, every);
}

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("CombustionEngine: full load by its curve, drag without fuel, fuel by the Willans line")
{
    auto at = [](double throttle, double rpm) {
        return run("part e : CombustionEngine(largest_torque = 400 N*m, rated_speed = 2000 rpm, throttle = " + std::to_string(throttle) +
                       ")\n part d : SpeedSource\n " + std::to_string(rpm) + " rpm -> d.speed\n d.shaft -- e.shaft\n init d.angle = 0 rad",
                   3);
    };
    double w = 1300 * kPi / 30, drag = 400 * (0.08 + 0.07 * 0.65 * 0.65);
    Recording full = at(1, 1300);
    CHECK(full["e.torque"].final() == doctest::Approx(400).epsilon(1e-4));
    CHECK(full["e.fuel"].final() == doctest::Approx((400 + drag) * w / (0.45 * 42.8e6)).epsilon(1e-4));
    Recording closed = at(0, 1300);
    CHECK(closed["e.torque"].final() == doctest::Approx(-drag).epsilon(1e-4));
    CHECK(closed["e.fuel"].final() == doctest::Approx(0).scale(1e-6));
    CHECK(at(1, 100)["e.inner"].final() == doctest::Approx(0).scale(1).epsilon(1e-6));  // too slow to fire
    // best point: about 200 g/kWh, as such engines have
    double specific = full["e.fuel"].final() / full["e.power"].final() * 3.6e9;
    CHECK(specific == doctest::Approx(207).epsilon(0.05));
}

TEST_CASE("GovernedEngine: holds its speed against a load that comes on, without a lasting error")
{
    Recording r =
        run("part e : GovernedEngine(speed_wanted = 1500 rpm, largest_torque = 400 N*m)\n part load : TorqueSource\n part shed : Inertia(inertia = 2 kg*m^2)\n "
            "(if time < 10 s then 0 N*m else -200 "
            "N*m) -> load.torque\n e.shaft -- load.shaft -- shed.shaft\n init e.engine.speed = 1500 rpm ; init e.shaft.angle = 0 rad",
            40, 0.1);
    CHECK(r["e.speed"].final() == doctest::Approx(1500 * kPi / 30).epsilon(1e-3));
    CHECK(r["e.engine.torque"].final() == doctest::Approx(200).epsilon(2e-3));
    CHECK(r["e.speed"].min() < 1495 * kPi / 30);
    CHECK(r["e.speed"].min() > 1200 * kPi / 30);
}

TEST_CASE("ElectricDrive: torque within limits, losses by its map, charging while it brakes")
{
    auto at = [](double rpm, double torque) {
        return run("part b : VoltageSource(voltage = 400 V)\n part g : Ground\n part m : ElectricDrive\n part air : Surroundings\n part d : SpeedSource\n " +
                       std::to_string(rpm) + " rpm -> d.speed\n (" + std::to_string(torque) +
                       " N*m) -> m.torque\n b.plus -- m.plus ; b.minus -- m.minus -- g.pin ; m.case -- air.surface\n d.shaft -- m.shaft\n init d.angle = 0 rad",
                   0.5);
    };
    double corner = 50e3 / 150, w = 2000 * kPi / 30;
    double loss = 50e3 * (0.004 + 0.05 * 0.25 + 0.012 * std::pow(w / corner, 2));
    CHECK(at(2000, 75)["m.i"].final() * 400 == doctest::Approx(75 * w + loss).epsilon(1e-6));
    CHECK(at(2000, -75)["m.i"].final() * 400 == doctest::Approx(-75 * w + loss).epsilon(1e-6));
    CHECK(at(2000, 75)["air.surface.heat"].final() == doctest::Approx(loss).epsilon(1e-6));
    CHECK(at(2000, 500)["m.actual"].final() == doctest::Approx(150).epsilon(1e-6));
    CHECK(at(6000, 500)["m.actual"].final() == doctest::Approx(50e3 / (6000 * kPi / 30)).epsilon(1e-6));
}

TEST_CASE("an electric vehicle discharges its battery uphill and charges it downhill: the balance of energy")
{
    Recording r =
        run("part pack : Battery(cells = 100, capacity = 40 Ah, charge_at_start = 60 %)\n part drive : ElectricDrive\n part g : Ground\n part air : "
            "Surroundings\n part gear : Gear(ratio = 9)\n part car "
            ": RoadVehicle(mass = 1600 kg)\n part governor : Pid(gain = 0.02 rpm^-1, integral_time = 4 s, low = -1, high = 1)\n pack.plus -- drive.plus ; "
            "pack.minus -- drive.minus -- g.pin ; pack.surface -- "
            "drive.case -- air.surface\n drive.shaft -- gear.a ; gear.b -- car.axle\n 3000 rpm -> governor.setpoint ; drive.speed -> governor.measured\n "
            "governor.out * 150 N*m -> drive.torque\n (if time < "
            "120 s then 0.05 else -0.07) -> car.slope\n init car.speed = 0 km/h ; init car.way = 0 m ; init pack.pair_voltage = 0 V\n var drawn : J init 0 J\n "
            "drawn' = pack.open_voltage * drive.i\n var lost : J "
            "init 0 J\n lost' = pack.loss + drive.loss + (car.rolling_force + car.air_force) * car.speed\n var lifted : J init 0 J\n lifted' = car.slope_force "
            "* car.speed\n let moving : J = 1600 kg * car.speed^2 "
            "/ 2 + 0.05 kg*m^2 * drive.speed^2 / 2",
            240, 1, 1e-7);
    std::size_t half = 0;
    while (r.time().values[half] < 119) ++half;
    CHECK(r["pack.charge"].values[half] < 0.6);
    CHECK(r["pack.charge"].final() > r["pack.charge"].values[half] + 0.001);
    // the pair's capacitor keeps a little: below a thousandth of what flowed
    double sum = r["lost"].final() + r["lifted"].final() + r["moving"].final();
    CHECK(r["drawn"].final() == doctest::Approx(sum).epsilon(3e-3));
    CHECK(r["car.speed"].final() == doctest::Approx(3000 * kPi / 30 / 9 * 0.3).epsilon(1e-2));
}

TEST_CASE("RoadVehicle: terminal speed downhill, and coasting")
{
    // m g (s - r) cos = rho c A v^2 / 2
    Recording r = run("part car : RoadVehicle\n (-0.1) -> car.slope\n init car.speed = 100 km/h ; init car.way = 0 m", 2000, 100);
    double weight = 1500 * kGravity / std::sqrt(1.01);
    CHECK(r["car.speed"].final() == doctest::Approx(std::sqrt(weight * (0.1 - 0.012) * 2 / (1.2041 * 0.3 * 2.2))).epsilon(1e-5));
}

TEST_CASE("WinchLoad: the rope goes taut, the load leaves the ground and hangs by its weight")
{
    Recording r =
        run("part w : WinchLoad(load = 600 kg, rope_length = 8 m)\n part d : SpeedSource\n (if time < 1 s then 0 rpm else 20 rpm * clamp((time - 1 s) / (1 s), "
            "0, 1)) -> d.speed\n d.shaft -- w.shaft\n init "
            "d.angle = 0 rad ; init w.body.v = 0 m/s ; init w.body.x = 0 m",
            6, 0.05, 1e-7);
    CHECK(r["w.rope_force"].first() == doctest::Approx(0).scale(1).epsilon(1e-6));
    double drum = 20 * kPi / 30 * 0.2, way = drum * 0.5 + drum * 4, stretch = 600 * kGravity / (100e9 * kPi / 4 * 0.012 * 0.012 / 8);
    CHECK(r["w.height"].final() == doctest::Approx(way - stretch).epsilon(2e-3));
    CHECK(r["w.rope_force"].final() == doctest::Approx(600 * kGravity).epsilon(0.05));
}

TEST_CASE("FanLoad: a rotor runs down by the square law")
{
    // J w' = -k w^2: w = w0 / (1 + k w0 t / J)
    Recording r =
        run("part f : FanLoad(rated_torque = 20 N*m, rated_speed = 1450 rpm)\n part j : Inertia(inertia = 0.3 kg*m^2)\n f.shaft -- j.shaft\n init j.speed = "
            "1450 rpm ; init j.angle = 0 rad",
            3);
    double w0 = 1450 * kPi / 30, k = 20 / (w0 * w0);
    CHECK(r["j.speed"].final() == doctest::Approx(w0 / (1 + k * w0 * 3 / 0.3)).epsilon(1e-7));
}

TEST_SUITE_END();

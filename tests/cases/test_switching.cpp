// SPDX-License-Identifier: Apache-2.0
// Machines that switch, against answers made elsewhere: formulas, difference equations, balances.
#include <doctest/doctest.h>

#include <cmath>
#include <numbers>

#include "support/support.hpp"

using netloop::Recording;

namespace {

struct Ran {
    Recording recording;
    netloop::RunSummary summary;
};
Ran run(const std::string& text, double stop, double tolerance, double every = 0, const std::vector<std::pair<std::string, std::string>>& set = {})
{
    netloop::Run r(test::compile(text, set));
    netloop::RunOptions options;
    options.stop = stop;
    options.tolerance = tolerance;
    if (every > 0) options.output_every = every;
    Recording recording = r.simulate(options);
    return {recording, r.summary()};
}

// Times at which a recorded value jumps up or down.
std::vector<double> jumps(const Recording& r, const std::string& name, int direction)
{
    std::vector<double> times;
    const auto& v = r[name].values;
    for (std::size_t i = 1; i < v.size(); ++i)
        if (r.time().values[i] == r.time().values[i - 1] && (v[i] - v[i - 1]) * direction > 0) times.push_back(r.time().values[i]);
    return times;
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("a bouncing body: ten bounces by formula, then rest")
{
    // dropped from h: bounces at t0 = sqrt(2h/g), then after 2 e^k v0 / g each; it comes to rest at t0 (1 + e) / (1 - e)
    const double h = 1, g = 9.80665, e = 0.8, t0 = std::sqrt(2 * h / g), v0 = g * t0;
    Ran r =
        run("use mechanics\n system S { part body : Mass(mass = 2 kg, slope = 90 deg) ; part floor : RigidStop(low = 0 mm, restitution = 0.8)\n"
            "body.point -- floor.moving ; init body.x = 1 m ; init body.v = 0 m/s }",
            6, 1e-9, 0.05);
    std::vector<double> bounces = jumps(r.recording, "body.v", 1);
    REQUIRE(bounces.size() >= 10);
    double t = t0;
    for (int k = 0; k < 10; ++k) {
        INFO("bounce " << k + 1);
        CHECK(bounces[static_cast<std::size_t>(k)] == doctest::Approx(t).epsilon(1e-8));
        t += 2 * v0 * std::pow(e, k + 1) / g;
    }
    CHECK(r.recording["floor.resting"].final() == 1);
    CHECK(r.recording["body.v"].final() == 0);
    CHECK(std::abs(r.recording["body.x"].final()) < 1e-6);
    CHECK(r.recording["floor.moving.f"].final() == doctest::Approx(-2 * g).epsilon(1e-9));  // the body presses on it
    // slower than 1 mm/s it stays: no later than where the bounces would have piled up
    std::vector<double> rests = jumps(r.recording, "floor.resting", 1);
    REQUIRE(rests.size() == 1);
    CHECK(rests[0] < t0 * (1 + e) / (1 - e));
    CHECK(rests[0] > t0 * (1 + e) / (1 - e) - 0.002);
}

TEST_CASE("stick and slip: a block under a growing, then falling force")
{
    // m v' = F(t) - friction; sticks until F = breakaway; with no Stribeck share slides as under F(t) - coulomb
    Ran r =
        run("use mechanics\n system S { part body : Mass(mass = 10 kg) ; part ground : Anchor\n"
            "part rub : Friction(coulomb = 20 N, breakaway = 20 N) ; part push : ForceSource(force = 30 N * sin(time * pi / (2 s)))\n"
            "ground.point -- rub.a ; rub.b -- body.point -- push.point ; init body.x = 0 m ; init body.v = 0 m/s }",
            2.3, 1e-9, 0.01);
    const double w = std::numbers::pi / 2, t1 = std::asin(2.0 / 3) / w;
    auto speed = [&](double t) { return (30 / w * (std::cos(w * t1) - std::cos(w * t)) - 20 * (t - t1)) / 10; };
    double low = 1.4, high = 2.4;  // where it stands still again
    for (int k = 0; k < 60; ++k) (speed(0.5 * (low + high)) > 0 ? low : high) = 0.5 * (low + high);
    CHECK(r.recording["body.v"].at(0.3, r.recording.time()) == 0);
    CHECK(r.recording["rub.tension"].at(0.3, r.recording.time()) == doctest::Approx(30 * std::sin(w * 0.3)).epsilon(1e-9));
    for (double t : {0.6, 0.9, 1.2}) CHECK(r.recording["body.v"].at(t, r.recording.time()) == doctest::Approx(speed(t)).epsilon(2e-5));
    std::vector<double> stuck = jumps(r.recording, "rub.sticking", 1);
    REQUIRE(stuck.size() == 2);  // right behind the start, and when it stops
    CHECK(stuck[1] == doctest::Approx(low).epsilon(1e-5));
    // it holds without creeping until the end
    double x = r.recording["body.x"].at(low + 0.01, r.recording.time());
    CHECK(r.recording["body.x"].final() == x);
    CHECK(r.recording["body.v"].final() == 0);
}

TEST_CASE("a clutch brings two shafts to one speed: balance of momentum and energy")
{
    const std::string text =
        "use mechanics\n system S { part a : Inertia(inertia = 2 kg*m^2) ; part b : Inertia(inertia = 3 kg*m^2)\n"
        "part clutch : Clutch(capacity = 50 N*m, engagement = (if time < 1 s then 0 else if time < 6 s then 1 else 0.2)) ; a.shaft -- clutch.a ; clutch.b -- "
        "b.shaft\n"
        "part drive : TorqueSource(torque = (if time < 5 s then 0 N*m else 60 N*m)) ; drive.shaft -- a.shaft\n"
        "var lost : J init 0 J ; lost' = clutch.loss\n"
        "init a.angle = 0 ; init a.speed = 100 rad/s ; init b.angle = 0 ; init b.speed = 0 rad/s }";
    Ran r = run(text, 7, 1e-9, 0.05);
    auto at = [&](const std::string& name, double t) { return r.recording[name].at(t, r.recording.time()); };
    // slip falls at 50 (1/2 + 1/3) = 41.67 rad/s^2: locked 2.4 s after 1 s at the common speed 40 rad/s
    std::vector<double> locked = jumps(r.recording, "clutch.locked", 1);
    REQUIRE(locked.size() >= 1);
    CHECK(locked[0] == doctest::Approx(3.4).epsilon(1e-7));
    CHECK(at("a.speed", 4) == doctest::Approx(40).epsilon(1e-8));
    CHECK(std::abs(at("b.speed", 4) - at("a.speed", 4)) < 1e-13);  // of 40 rad/s: rounding, it does not creep
    CHECK(at("lost", 4) == doctest::Approx(0.5 * 2 * 1e4 - 0.5 * 5 * 1600).epsilon(1e-7));
    // locked it passes 3/5 of 60 N m = 36 N m; when only 10 N m can be passed it slips again
    CHECK(-at("clutch.twist_torque", 5.5) == doctest::Approx(36).epsilon(1e-8));
    CHECK(at("clutch.locked", 5.9) == 1);
    CHECK(at("clutch.locked", 6.1) == 0);
    CHECK(r.recording["a.speed"].final() == doctest::Approx(40 + 60.0 / 5 + 50.0 / 2).epsilon(1e-6));
    CHECK(r.recording["b.speed"].final() == doctest::Approx(40 + 60.0 / 5 + 10.0 / 3).epsilon(1e-6));
}

TEST_CASE("a clutch that closes at once, as an equation: momentum is kept, energy is lost, none is made")
{
    Ran r =
        run("system S { var w1 : rad/s init 100 rad/s ; var w2 : rad/s init -10 rad/s ; var torque : N*m\n"
            "2 kg*m^2 * w1' = -torque ; 3 kg*m^2 * w2' = torque\n"
            "if time >= 1 s and time < 2 s { w1 = w2 } else { torque = 0 N*m } }",
            3, 1e-9, 0.25);
    auto at = [&](const std::string& name, double t) { return r.recording[name].at(t, r.recording.time()); };
    CHECK(at("w1", 0.75) == doctest::Approx(100));
    CHECK(at("w1", 1.5) == doctest::Approx((2 * 100 - 3 * 10) / 5.0).epsilon(1e-12));
    CHECK(at("w2", 1.5) == at("w1", 1.5));
    CHECK(r.recording["w2"].final() == doctest::Approx(34).epsilon(1e-12));
}

TEST_CASE("a brake holds, slips and holds again; a freewheel drives one way only")
{
    SUBCASE("brake")
    {
        // 12 N m held; 18 N m against 1.2 * 10 breaks it loose; 5 N m less than 10 stops it again
        Ran r =
            run("use mechanics\n system S { part rotor : Inertia(inertia = 2 kg*m^2) ; part brake : Brake(capacity = 10 N*m, holding = 1.3)\n"
                "part drive : TorqueSource(torque = (if time < 1 s then 12 N*m else if time < 2 s then 18 N*m else 5 N*m))\n"
                "rotor.shaft -- brake.shaft -- drive.shaft ; init rotor.angle = 0 ; init rotor.speed = 0 rad/s }",
                5, 1e-9, 0.05);
        auto at = [&](double t) { return r.recording["rotor.speed"].at(t, r.recording.time()); };
        CHECK(at(0.95) == 0);
        CHECK(at(2) == doctest::Approx(4).epsilon(1e-6));
        CHECK(at(3) == doctest::Approx(4 - 2.5).epsilon(1e-6));
        CHECK(r.recording["rotor.speed"].final() == 0);
        std::vector<double> held = jumps(r.recording, "brake.locked", 1);
        CHECK(held.back() == doctest::Approx(2 + 4 / 2.5).epsilon(1e-6));
    }
    SUBCASE("freewheel")
    {
        Ran r =
            run("use mechanics\n system S { part a : Inertia(inertia = 1 kg*m^2) ; part b : Inertia(inertia = 2 kg*m^2) ; part wheel : Freewheel\n"
                "part drive : TorqueSource(torque = (if time < 1 s then 6 N*m else if time < 2 s then -2 N*m else 9 N*m))\n"
                "drive.shaft -- a.shaft -- wheel.a ; wheel.b -- b.shaft\n"
                "init a.angle = 0 ; init b.angle = 0 ; init a.speed = 0 rad/s ; init b.speed = 0 rad/s }",
                3, 1e-9, 0.05);
        auto at = [&](const std::string& name, double t) { return r.recording[name].at(t, r.recording.time()); };
        CHECK(at("b.speed", 0.95) == doctest::Approx(2 * 0.95).epsilon(1e-6));
        CHECK(at("b.speed", 1.95) == doctest::Approx(2).epsilon(1e-6));
        CHECK(at("a.speed", 1.95) == doctest::Approx(2 - 2 * 0.95).epsilon(1e-5));
        // a catches up from 0 at 9 rad/s^2 in 2/9 s, then both gain 3 rad/s^2
        CHECK(r.recording["b.speed"].final() == doctest::Approx(2 + 3 * (1 - 2.0 / 9)).epsilon(1e-6));
        CHECK(r.recording["a.speed"].final() == doctest::Approx(r.recording["b.speed"].final()).epsilon(1e-9));
    }
}

TEST_CASE("an elastic stop: the rebound of Hunt and Crossley, and what it holds at rest")
{
    // with little dissipation e = 1 - (2/3) * dissipation * speed (their eq. 21)
    const double speed = 0.5, dissipation = 0.06;
    Ran r =
        run("use mechanics\n system S { part body : Mass(mass = 3 kg) ; part stop : EndStop(high = 100 mm, stiffness = 1e6 N/m, dissipation = 0.06 s/m)\n"
            "body.point -- stop.moving ; init body.x = 0 m ; init body.v = 0.5 m/s }",
            0.5, 1e-9, 0.01);
    CHECK(r.recording["body.v"].final() == doctest::Approx(-speed * (1 - 2.0 / 3 * dissipation * speed)).epsilon(1e-3));
    // the deepest point without dissipation would be v sqrt(m / k)
    CHECK(r.recording["body.x"].max() < 0.1 + speed * std::sqrt(3 / 1e6));
    Ran pressed =
        run("use mechanics\n system S { part body : Mass(mass = 3 kg) ; part drag : Damper(damping = 200 N*s/m) ; part wall : Anchor\n"
            "part push : ForceSource(force = 50 N) ; part stop : EndStop(high = 10 mm, stiffness = 1e5 N/m)\n"
            "wall.point -- drag.a ; drag.b -- body.point -- stop.moving -- push.point ; init body.x = 0 m ; init body.v = 0 m/s }",
            2, 1e-9);
    CHECK(pressed.recording["body.x"].final() == doctest::Approx(0.01 + 50 / 1e5).epsilon(1e-6));
}

TEST_CASE("play between two shafts: the driven one stands until the gap is used up")
{
    Ran r =
        run("use mechanics\n system S { part motion : SpeedSource(speed = 0.1 rad/s) ; part play : Backlash(gap = 2 deg, stiffness = 1e6 N*m/rad)\n"
            "part load : Inertia(inertia = 0.1 kg*m^2) ; part drag : TorsionDamper(damping = 5 N*m*s/rad) ; part frame : FixedShaft\n"
            "motion.shaft -- play.b ; play.a -- load.shaft -- drag.b ; drag.a -- frame.shaft ; init motion.shaft.angle = 0 ; init load.angle = 0 ; init "
            "load.speed = 0 }",
            2, 1e-8, 0.01);
    const double meets = 1 * std::numbers::pi / 180 / 0.1;
    std::vector<double> contact = jumps(r.recording, "play.in_contact", 1);
    REQUIRE(contact.size() >= 1);
    CHECK(contact[0] == doctest::Approx(meets).epsilon(1e-7));
    CHECK(r.recording["load.angle"].at(meets * 0.99, r.recording.time()) == doctest::Approx(0).epsilon(1e-12));
    CHECK(r.recording["load.speed"].final() == doctest::Approx(0.1).epsilon(1e-3));
    CHECK(r.recording["play.twist_torque"].final() == doctest::Approx(5 * 0.1).epsilon(2e-2));
}

TEST_CASE("an ideal buck converter at 20 kHz: exact from switching to switching")
{
    // i' = (u - v) / L, v' = (i - v / R) / C with u = 24 V or 0 V: the exponential of the matrix, by its series
    const double L = 100e-6, C = 100e-6, R = 2, T = 50e-6, on = 0.4 * T;
    auto step = [&](double& i, double& v, double u, double h) {
        double steady = u, si = steady / R, x = i - si, y = v - steady, dx = x, dy = y;
        double sum_x = x, sum_y = y;
        for (int k = 1; k < 40; ++k) {
            double nx = -dy / L * h / k, ny = (dx - dy / R) / C * h / k;
            dx = nx, dy = ny, sum_x += dx, sum_y += dy;
        }
        i = si + sum_x, v = steady + sum_y;
    };
    const std::string text =
        "use electrics, control\n system S { part supply : VoltageSource(voltage = 24 V) ; part ground : Ground ; part transistor : PerfectSwitch ; part diode "
        ": "
        "PerfectDiode\n"
        "part choke : Inductor(inductance = 100 uH) ; part filter : Capacitor(capacitance = 100 uF) ; part load : Resistor(resistance = 2 ohm)\n"
        "part pwm : PulseWidth(period = 50 us, share = 0.4) ; pwm.on -> transistor.closed ; supply.plus -- transistor.plus\n"
        "transistor.minus -- diode.minus -- choke.plus ; choke.minus -- filter.plus -- load.plus\n"
        "supply.minus -- ground.pin -- diode.plus -- filter.minus -- load.minus ; init choke.i = 3.4 A ; init filter.u = 9.6 V }";
    Ran r = run(text, 0.002, 1e-9, 50e-6);
    double i = 3.4, v = 9.6;
    for (int k = 0; k < 40; ++k) {
        step(i, v, 24, on);
        step(i, v, 0, T - on);
        double t = (k + 1) * T;
        CHECK(r.recording["choke.i"].at(t, r.recording.time()) == doctest::Approx(i).epsilon(1e-6));
        CHECK(r.recording["filter.u"].at(t, r.recording.time()) == doctest::Approx(v).epsilon(1e-6));
        REQUIRE(i > 0);
    }
    CHECK(r.summary.event_record.kinds[0].times.size() == 81);  // and the one at the stop
    // lightly loaded the current ends in every period: the inductor is cut off, and the number of states changes
    Ran light = run(text, 0.02, 1e-7, 1e-3, {{"load.resistance", "400 ohm"}});
    CHECK(light.recording["choke.i"].min() > -1e-9);
    CHECK(light.recording["filter.u"].final() > 24 * 0.4 * 1.5);
}

TEST_CASE("a rectifier of four diodes: ideal and exponential ones agree but for their drops")
{
    auto text = [](const std::string& diode) {
        return "use electrics\n system S { part supply : VoltageSource(voltage = 12 V * sin(2*pi * 50 Hz * time)) ; part ground : Ground ; part line : "
               "Resistor(resistance = 0.5 ohm)\n"
               "part d1, d2, d3, d4 : " +
               diode +
               " ; part leak : Resistor(resistance = 1e6 ohm) ; part load : Resistor(resistance = 20 ohm)\n"
               "supply.plus -- line.plus ; line.minus -- d1.plus -- d3.minus ; supply.minus -- d2.plus -- d4.minus -- leak.plus\n"
               "d1.minus -- d2.minus -- load.plus ; leak.minus -- ground.pin -- d3.plus -- d4.plus -- load.minus }";
    };
    Ran ideal = run(text("PerfectDiode(drop = 0.6 V)"), 0.04, 1e-8, 1e-4);
    for (double t : {0.0023, 0.005, 0.0071, 0.0125, 0.015, 0.0267}) {
        double u = std::max(0.0, std::abs(12 * std::sin(2 * std::numbers::pi * 50 * t)) - 1.2) * 20 / 20.5;
        CHECK(ideal.recording["load.u"].at(t, ideal.recording.time()) == doctest::Approx(u).epsilon(2e-3));
    }
    CHECK(ideal.recording["load.u"].min() > -1e-9);
    // 0.5 A through 1e-12 A diodes of ideality 1: 0.025 V * ln(5e11) = 0.70 V
    Ran real = run(text("Diode(saturation = 1e-12 A, ideality = 1)"), 0.04, 1e-7, 1e-4);
    CHECK(real.recording["load.u"].at(0.005, real.recording.time()) ==
          doctest::Approx((12 - 2 * 0.02585 * std::log(0.525 / 1e-12)) * 20 / (20.5 + 0.02)).epsilon(2e-3));
    CHECK(real.recording["load.u"].min() > -1e-3);
}

TEST_CASE("the exponential diode follows Shockley's law")
{
    for (double u : {0.3, 0.5, 0.6}) {
        Ran r =
            run("use electrics\n system S { param u0 : V = 0.3 V ; part supply : VoltageSource(voltage = u0) ; part ground : Ground ; part d : "
                "Diode(saturation = 2e-12 A, ideality = 1.2)\n"
                "supply.plus -- d.plus ; supply.minus -- d.minus -- ground.pin }",
                1, 1e-8, 0, {{"u0", std::to_string(u) + " V"}});
        double i = r.recording["d.i"].final(), junction = u - 0.01 * i;
        CHECK(i == doctest::Approx(2e-12 * (std::exp(junction / (1.2 * 0.02585)) - 1) + 1e-9 * junction).epsilon(1e-5));
    }
}

TEST_CASE("heating with hysteresis over a day: the times between switchings by formula")
{
    // C T' = P on - G (T - T_out): exponential between the two limits
    const double C = 5e6, G = 150, P = 5000, out = 278.15, low = 292.15, high = 294.15, tau = C / G;
    Ran r =
        run("use control\n system S { var T : degC init 17 degC ; part room : Thermostat(set_temperature = 20 degC, band = 2 K) ; T -> room.measured\n"
            "param outside : degC = 5 degC ; 5 MJ/K * T' = (if room.heating then 5 kW else 0 W) - 150 W/K * (T - outside) }",
            86400, 1e-9, 600);
    double hot = out + P / G, first = tau * std::log((hot - 290.15) / (hot - high));
    double cooling = tau * std::log((high - out) / (low - out)), heating = tau * std::log((hot - low) / (hot - high));
    std::vector<double> off = jumps(r.recording, "room.heating", -1), on = jumps(r.recording, "room.heating", 1);
    REQUIRE(off.size() >= 3);
    CHECK(off.size() == 1 + static_cast<std::size_t>((86400 - first) / (cooling + heating)));
    for (std::size_t k = 0; k < off.size(); ++k) CHECK(off[k] == doctest::Approx(first + static_cast<double>(k) * (cooling + heating)).epsilon(1e-6));
    for (std::size_t k = 1; k < on.size(); ++k) CHECK(on[k] - off[k - 1] == doctest::Approx(cooling).epsilon(1e-6));
}

TEST_CASE("many rooms with thermostats: each switches when its formula says, as if it were alone")
{
    // so many conditions that those which cross are followed alone
    constexpr int kRooms = 24;
    Ran r =
        run("use control\n component Room { param C : J/K = 1 MJ/K in 1 J/K .. 1e12 J/K ; var T : degC init 17 degC ; part t : Thermostat(set_temperature = 20 "
            "degC, band = 2 K)\n"
            "T -> t.measured ; C * T' = (if t.heating then 5 kW else 0 W) - 150 W/K * (T - 5 degC) }\nsystem S { part room[i in 1 .. 24] : Room(C = (4 + 0.1 * "
            "i) * 1 MJ/K) }",
            43200, 1e-9, 600);
    for (int i = 1; i <= kRooms; ++i) {
        INFO("room " << i);
        const double C = (4 + 0.1 * i) * 1e6, G = 150, out = 278.15, low = 292.15, high = 294.15, tau = C / G, hot = out + 5000 / G;
        double first = tau * std::log((hot - 290.15) / (hot - high)), cooling = tau * std::log((high - out) / (low - out)),
               heating = tau * std::log((hot - low) / (hot - high));
        std::string heats = "room[" + std::to_string(i) + "].t.heating";
        std::vector<double> off = jumps(r.recording, heats, -1), on = jumps(r.recording, heats, 1);
        REQUIRE(off.size() == 1 + static_cast<std::size_t>((43200 - first) / (cooling + heating)));
        for (std::size_t k = 0; k < off.size(); ++k) CHECK(off[k] == doctest::Approx(first + static_cast<double>(k) * (cooling + heating)).epsilon(1e-6));
        for (std::size_t k = 1; k < on.size(); ++k) CHECK(on[k] - off[k - 1] == doctest::Approx(cooling).epsilon(1e-6));
    }
}

TEST_CASE("sampled parts against their difference equations: hold, quantiser, filter, PID")
{
    SUBCASE("hold, quantiser and filter")
    {
        Ran r =
            run("use control\n system S { let s = sin(3 * time / (1 s)) ; part hold : Hold(period = 0.1 s, signal = s) ; part rough : Quantiser(step = 0.25, "
                "signal = s)\n"
                "part smooth : SampledFilter(period = 0.1 s, time_constant = 0.3 s, signal = s) ; var x init 0 ; x' = hold.out / (1 s) }",
                2, 1e-9, 0.02);
        double value = 0, x = 0, keep = std::exp(-0.1 / 0.3);
        for (int k = 0; k < 20; ++k) {
            double s = std::sin(0.3 * k), t = 0.1 * k + 0.05;
            value = keep * value + (1 - keep) * s;
            CHECK(r.recording["hold.out"].at(t, r.recording.time()) == doctest::Approx(s).epsilon(1e-12));
            CHECK(r.recording["smooth.out"].at(t, r.recording.time()) == doctest::Approx(value).epsilon(1e-12));
            CHECK(r.recording["rough.out"].at(t + 0.0037, r.recording.time()) ==
                  doctest::Approx(0.25 * std::floor(r.recording["s"].at(t + 0.0037, r.recording.time()) / 0.25 + 0.5)));
            x += 0.1 * s;
        }
        CHECK(r.recording["x"].final() == doctest::Approx(x).epsilon(1e-9));
    }
    SUBCASE("PID on a lag, into its limit and out of it")
    {
        Ran r =
            run("use control\n component Lag { input u : 1 ; output y : 1 ; var x init 0 ; y = x ; 0.5 s * x' = 2 * u - x }\n"
                "system S { part pid : SampledPid(period = 50 ms, gain = 3, integral_time = 0.4 s, derivative_time = 0.1 s, filter_time = 20 ms, tracking_time "
                "= 0.2 s, low = 0, high = 1)\n"
                "part lag : Lag ; 1.5 -> pid.setpoint ; lag.y -> pid.measured ; pid.out -> lag.u }",
                3, 1e-10, 0.05);
        double y = 0, integral = 0, derivative = 0, last = 0, q = std::exp(-0.05 / 0.5);
        bool limited = false, free = false;
        for (int k = 0; k < 60; ++k) {
            derivative = (0.02 * derivative - 3 * 0.1 * (y - last)) / (0.02 + 0.05);
            last = y;
            double wanted = 3 * (1.5 - y) + integral + derivative, u = std::clamp(wanted, 0.0, 1.0);
            integral += 3 * 0.05 / 0.4 * (1.5 - y) + (u - wanted) * 0.25;
            limited |= u != wanted;
            free |= u == wanted;
            y = 2 * u + (y - 2 * u) * q;
            CHECK(r.recording["lag.y"].at((k + 1) * 0.05, r.recording.time()) == doctest::Approx(y).epsilon(1e-7));
        }
        CHECK(limited);
        CHECK(free);
        CHECK(y == doctest::Approx(1.5).epsilon(0.02));
    }
}

TEST_CASE("pulse width, relay and switch")
{
    Ran r =
        run("use control, electrics\n system S { part pwm : PulseWidth(period = 0.1 s, share = (if time < 0.55 s then 0.3 else 0.8)) ; var x init 0 ; x' = if "
            "pwm.on then 1 s^-1 else 0 s^-1\n"
            "part relay : Relay(lower = -0.5, upper = 0.5, measured = sin(2*pi * time / (1 s))) ; var y init 0 ; y' = relay.out / (1 s)\n"
            "part supply : VoltageSource(voltage = 10 V) ; part ground : Ground ; part s : Switch(closed_resistance = 1 ohm, open_resistance = 1 Mohm) ; part "
            "load : Resistor(resistance = 4 ohm)\n"
            "relay.on -> s.closed ; supply.plus -- s.plus ; s.minus -- load.plus ; load.minus -- supply.minus -- ground.pin }",
            1, 1e-9, 0.01);
    // the share is read as a period begins: 0.3 in six of them, 0.8 in four
    CHECK(r.recording["x"].final() == doctest::Approx(6 * 0.03 + 4 * 0.08).epsilon(1e-9));
    // on from 1/12 s (sin = 0.5) to 7/12 s (sin = -0.5)
    CHECK(r.recording["y"].final() == doctest::Approx(0.5).epsilon(1e-6));
    CHECK(r.recording["load.u"].at(0.3, r.recording.time()) == doctest::Approx(8).epsilon(1e-9));
    CHECK(r.recording["load.u"].at(0.8, r.recording.time()) == doctest::Approx(10 * 4 / (1e6 + 4)).epsilon(1e-9));
}

TEST_CASE("a cylinder reaches its end stop and stands there under pressure")
{
    // 20 L/min into the head: 5 cm^2 * 0.2 m are filled after 0.3 s; then the relief takes the flow, and the stop carries p A
    Ran r =
        run("use hydraulics, mechanics, fluids\n system S { fluid oil = MineralOil(grade = 46 cSt) ; part tank : Tank(oil = oil) ; part feed : FlowSource(flow "
            "= 20 L/min)\n"
            "part relief : ReliefValve(cracking = 100 bar, override = 5 bar, rated_flow = 40 L/min)\n"
            "part lift : Cylinder(bore = 25.2313 mm, rod_diameter = 10 mm, stroke = 0.25 m, dead_volume = 0.05 L, damping = 500 N*s/m, leakage = 0 L/min/bar)\n"
            "part load : Mass(mass = 20 kg) ; part stop : EndStop(low = 0 mm, high = 200 mm, stiffness = 2e7 N/m, dissipation = 5 s/m)\n"
            "feed.outlet -- lift.head -- relief.inlet ; tank.outlet -- relief.outlet -- lift.rod_side\n"
            "lift.rod -- load.point -- stop.moving ; init load.x = 0 m ; init load.v = 0 m/s ; init lift.head_p = 1.013 bar }",
            1, 1e-7, 0.005);
    const double area = std::numbers::pi / 4 * 0.0252313 * 0.0252313, rod_side = area - std::numbers::pi / 4 * 1e-4;
    std::vector<double> meets = jumps(r.recording, "stop.in_contact", 1);
    REQUIRE(meets.size() >= 1);
    CHECK(meets.back() == doctest::Approx(0.2 * area / (20e-3 / 60)).epsilon(0.02));
    double push = (r.recording["lift.head_p"].final() - 1.013e5) * area - (r.recording["lift.rod_side_p"].final() - 1.013e5) * rod_side;
    CHECK(r.recording["load.v"].final() == doctest::Approx(0).epsilon(1e-4));
    CHECK(r.recording["stop.moving.f"].final() == doctest::Approx(push).epsilon(1e-4));
    CHECK(r.recording["load.x"].final() == doctest::Approx(0.2 + push / 2e7).epsilon(1e-6));
    CHECK(r.recording["lift.head_p"].final() > 100e5);
}

TEST_CASE("a tight check valve lets a column of oil swing over once and holds it there")
{
    // two equal volumes and an inertance: the pressures change places in half a period; then nothing moves any more
    Ran r = run(
        "use hydraulics, fluids\n component Column : FlowPath { param inertance : m^-1 = 1e6 m^-1 ; inertance * inlet.m' = dp }\n"
        "system S { fluid oil = MineralOil(grade = 46 cSt) ; part a : Volume(volume = 10 L) ; part tank : Tank(oil = oil) ; part shut : CheckValve(cracking = "
        "900 bar, leakage = 0 L/min/bar) ; part b : Volume(volume = 10 L) ; part column : Column ; part valve : TightCheckValve(cracking = 0 bar)\n"
        "tank.outlet -- shut.inlet ; shut.outlet -- a.a -- column.inlet ; column.outlet -- valve.inlet ; valve.outlet -- b.a ; init a.p = 22 bar ; "
        "init b.p = 20 bar ; init column.inlet.m = 0 kg/s }",
        1, 1e-9, 0.001);
    CHECK(r.recording["a.p"].final() == doctest::Approx(20e5).epsilon(2e-3));
    CHECK(r.recording["b.p"].final() == doctest::Approx(22e5).epsilon(2e-3));
    CHECK(std::abs(r.recording["column.inlet.m"].final()) < 1e-12);
    CHECK(r.recording["valve.open"].final() == 0);
    CHECK(r.recording["column.inlet.m"].min() > -1e-9);
}

TEST_CASE("a thousand thermostats: none is missed, and an event costs no more per condition than with a few")
{
    auto text = [](int n) {
        return "use control\n component Room { param C : J/K = 1 MJ/K ; param outside : degC = 5 degC ; var T : degC init 20 degC ; part t : Thermostat ; T -> "
               "t.measured\n"
               "C * T' = (if t.heating then 3 kW else 0 W) - 100 W/K * (T - outside) }\n"
               "system S { option n = " +
               std::to_string(n) + " ; part room[i in 1 .. n] : Room(C = (1 + i / n) * 1 MJ/K) }";
    };
    netloop::Run r(test::compile(text(1000)));
    netloop::RunOptions options;
    options.stop = 3600;
    options.keep = {"room[1].T", "room[500].T", "room[1000].T"};
    r.simulate(options);
    const netloop::RunSummary& s = r.summary();
    std::size_t switchings = 0;
    for (const netloop::EventEntry& e : s.event_record.kinds) switchings += e.times.size();
    // each room alone: exponential pieces between 19.5 and 20.5 degC, beginning to cool at 20 degC
    std::size_t expected = 0;
    for (int i = 1; i <= 1000; ++i) {
        double tau = (1 + i / 1000.0) * 1e6 / 100, t = tau * std::log(15.0 / 14.5);
        double heat = tau * std::log((30 - 14.5) / (30 - 15.5)), cool = tau * std::log(15.5 / 14.5);
        for (bool on = true; t < 3600; on = !on) {
            ++expected;
            t += on ? heat : cool;
        }
    }
    // each switching is one condition that comes true; it turns false again a little later, or in a stage in which nobody looks
    // rooms that switch about the stop time may come on either side of it; none is lost on the way
    CHECK(switchings >= expected - 5);
    CHECK(switchings <= expected + 5);
    CHECK(s.steps < 3 * s.events);
}

TEST_CASE("the operated bridge: its cycle in order, the leaf seated and locked at the end, and the fault path")
{
    netloop::Library library = netloop::Library::standard();
    library.load_file(test::source_path("examples/bascule/operation.loop"));
    netloop::Run run_(netloop::compile(library, {.system = "", .scenario = "opening"}));
    Recording r = run_.simulate();
    const auto& stage = r["duty"].values;
    std::vector<double> order;
    for (double s : stage)
        if (order.empty() || order.back() != s) order.push_back(s);
    CHECK(order == std::vector<double>{1, 2, 3, 4, 5, 6, 7, 8, 9, 1});
    auto degrees = [&](double rad) { return rad * 180 / std::numbers::pi; };
    CHECK(degrees(r["leaf.angle"].max()) > 79.5);
    CHECK(degrees(r["leaf.angle"].max()) < 82.5);
    CHECK(std::abs(degrees(r["leaf.angle"].final())) < 0.05);
    CHECK(std::abs(r["leaf.speed"].final()) < 1e-15);  // a rounding of what the bolts demand
    CHECK(r["bolts.locked"].final() == 1);
    CHECK(r["barrier"].final() < 1e-6);
    // the leaf never moves with the barriers up
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        INFO(r.time().values[i]);
        if (r["barrier"].values[i] < 0.999) CHECK(std::abs(degrees(r["leaf.speed"].values[i])) < 0.02);
    }
    netloop::Run weak(netloop::compile(library, {.system = "", .scenario = "weak_relief"}));
    Recording w = weak.simulate();
    CHECK(w["duty"].final() == 10);
    REQUIRE(weak.summary().warnings.size() == 1);
    CHECK(weak.summary().warnings[0].find("the bridge has stopped") != std::string::npos);
    CHECK(degrees(w["leaf.angle"].max()) < 79);
    CHECK(w["barrier"].final() > 0.999);
}

TEST_CASE("a circuit with an ideal diode and no ground is told as what it is, not as a fault of the program")
{
    const std::string circuit =
        "use electrics, mechanics, heat\nsystem S {\n part battery : VoltageSource(voltage = 24 V) ; part contactor : Switch(closed = true) ; part motor : "
        "DcMachine(coefficient = 0 "
        "K^-1)\n part diode : PerfectDiode ; part winding : HeatMass ; part wheel : Inertia(inertia = 1 kg*m^2)\n battery.plus -- contactor.plus ; "
        "contactor.minus -- motor.plus -- "
        "diode.minus ; battery.minus -- motor.minus -- diode.plus\n motor.winding -- winding.surface ; motor.shaft -- wheel.shaft\n";
    try {
        test::simulate(circuit + "}\n", 0.1);
        FAIL("it ran");
    } catch (const netloop::RunError& e) {
        CHECK(e.id() == std::string("start-singular"));
        CHECK(e.hint().find("a circuit with no reference") != std::string::npos);
    }
    // with a ground the motor runs up: at the start the whole voltage drives the current through inductance and resistance
    netloop::Recording r =
        test::simulate(circuit + " part earth : Ground ; battery.minus -- earth.pin\n init motor.i = 0 A\n let rise : A/s = motor.i'\n}\n", 0.01);
    CHECK(r["rise"].first() == doctest::Approx(24 / 5e-3).epsilon(1e-6));
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Transmissions, ropes, cams and wheels against the formulas of textbooks.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-9)
{
    return test::simulate_parts("mechanics, machines, control", body, stop, tolerance, every);
}

constexpr double kPi = 3.14159265358979323846;

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("two inertias on a CompliantShaft swing at the frequency of the handbook")
{
    // omega^2 = c (1 / J1 + 1 / J2), c = G pi d^4 / (32 L)
    double c = 80e9 * kPi / 32 * std::pow(0.05, 4) / 2, J1 = 3, J2 = 1.5;
    double omega = std::sqrt(c * (1 / J1 + 1 / J2));
    Recording r =
        run("part j1 : Inertia(inertia = 3 kg*m^2)\n part j2 : Inertia(inertia = 1.5 kg*m^2)\n part s : CompliantShaft(diameter = 50 mm, length = 2 m)\n "
            "j1.shaft -- s.a "
            "; s.b -- j2.shaft\n init j1.angle = 0 rad ; init j2.angle = 1 mrad ; init j1.speed = 0 rad/s ; init j2.speed = 0 rad/s",
            1, 0.01);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i], twist = 1e-3 * std::cos(omega * t);
        CHECK(r["s.twist"].values[i] == doctest::Approx(twist).scale(1e-3).epsilon(2e-6));
        // tau = T 16 / (pi d^3)
        CHECK(r["s.stress"].values[i] == doctest::Approx(c * twist * 16 / (kPi * std::pow(0.05, 3))).scale(1e6).epsilon(2e-5));
    }
}

TEST_CASE("PlanetarySet: speeds and torques after Willis")
{
    // ring held: carrier = sun / (1 + ratio); torques sun : ring : carrier = 1 : ratio : -(1 + ratio)
    Recording r = run(
        "part p : PlanetarySet(ratio = 2.6)\n part f : FixedShaft\n part drive : TorqueSource(torque = 20 N*m)\n part j : Inertia(inertia = 0.5 kg*m^2)\n "
        "part js : Inertia(inertia = 0.02 kg*m^2)\n drive.shaft -- p.sun -- js.shaft\n f.shaft -- p.ring\n p.carrier -- j.shaft\n init j.angle = 0 rad ; init "
        "j.speed = 0 rad/s",
        1.5);
    double i = 3.6, acceleration = 20 * i / (0.5 + 0.02 * i * i);
    CHECK(r["j.speed"].final() == doctest::Approx(acceleration * 1.5).epsilon(1e-7));
    CHECK(r["js.speed"].final() == doctest::Approx(i * acceleration * 1.5).epsilon(1e-7));
    CHECK(r["p.carrier.torque"].final() == doctest::Approx(-0.5 * acceleration).epsilon(1e-7));
    CHECK(r["p.ring.torque"].final() / r["p.sun.torque"].final() == doctest::Approx(2.6).epsilon(1e-9));
    // the carrier held: the ring turns back
    Recording back =
        run("part p : PlanetarySet(ratio = 2.6)\n part f : FixedShaft\n part drive : SpeedSource\n 100 rpm -> drive.speed\n drive.shaft -- p.sun\n f.shaft -- "
            "p.carrier\n part j : Inertia\n p.ring -- j.shaft\n init drive.angle = 0 rad",
            1);
    CHECK(back["j.speed"].final() == doctest::Approx(-100 * kPi / 30 / 2.6).epsilon(1e-9));
}

TEST_CASE("Screw: lead, and torque with rubbing while it drives and while it is driven")
{
    auto torque = [](const std::string& speed) {
        Recording r = run(
            "part s : Screw(lead = 8 mm, efficiency = 0.4)\n part drive : SpeedSource\n " + speed +
                " -> drive.speed\n drive.shaft -- s.shaft\n part load : ForceSource\n (-500 N) -> load.force\n s.rod -- load.point\n init drive.angle = 0 rad",
            2);
        CHECK(std::abs(r["s.rod.x"].final()) == doctest::Approx(8e-3 * 2 * 60 / 60.0).epsilon(1e-8));
        return r["s.shaft.torque"].final();
    };
    double per_angle = 8e-3 / (2 * kPi);
    CHECK(torque("60 rpm") == doctest::Approx(500 * per_angle / 0.4).epsilon(1e-5));           // lifting
    CHECK(torque("(-60 rpm)") == doctest::Approx(500 * per_angle * (1 - 1.5)).epsilon(1e-5));  // lowering: it has to be driven down
}

TEST_CASE("Drum and Rope: a load that hangs swings with the rope's stiffness, and a slack rope pulls nothing")
{
    double k = 100e9 * kPi / 4 * 0.01 * 0.01 / 8, m = 400, g = 9.80665;
    Recording r =
        run("part d : Drum(radius = 0.25 m)\n part f : FixedShaft\n f.shaft -- d.shaft\n part rope : Rope(modulus = 100 GPa, length = 8 m, diameter = 10 mm, "
            "damping = 0 N*s/m)\n "
            "part m "
            ": Mass(mass = 400 kg, slope = 90 deg)\n d.rod -- rope.b\n rope.a -- m.point\n init m.v = 0 m/s ; init m.x = -8 m",
            0.5, 0.005);
    double w = std::sqrt(k / m);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        CHECK(r["m.x"].values[i] + 8 == doctest::Approx(-m * g / k * (1 - std::cos(w * t))).scale(m * g / k).epsilon(1e-5));
    }
    Recording thrown =
        run("part f : Anchor\n part rope : Rope(length = 2 m)\n part m : Mass(mass = 5 kg, slope = 90 deg)\n f.point -- rope.b\n rope.a -- m.point\n init m.v "
            "= 3 m/s ; init m.x "
            "= -1.5 m",
            0.3);
    CHECK(thrown["m.x"].final() == doctest::Approx(-1.5 + 3 * 0.3 - 0.5 * g * 0.09).epsilon(1e-7));
    CHECK(thrown["rope.tension"].final() == 0);
}

TEST_CASE("Belt: ratio at rest, stiffness of two strands, and one strand that goes slack")
{
    // a static torque T on a with b held: both strands work, creep = T / (r_a 2 k) until the trailing strand is slack at pull = pretension
    auto creep = [](double torque) {
        Recording r =
            run("part b : Belt(radius_a = 50 mm, radius_b = 150 mm, stiffness = 1e5 N/m, pretension = 200 N, damping = 1000 N*s/m)\n part f : FixedShaft\n "
                "b.b -- f.shaft\n part t : TorqueSource\n " +
                    std::to_string(torque) +
                    " N*m -> t.torque\n part j : Inertia(inertia = 0.01 kg*m^2)\n t.shaft -- j.shaft -- b.a\n init j.angle = 0 rad ; init j.speed = 0 rad/s",
                3);
        CHECK(r["b.b.torque"].final() == doctest::Approx(-3 * torque).epsilon(1e-6));
        return r["b.creep"].final();
    };
    CHECK(creep(10) == doctest::Approx(10 / 0.05 / 2e5).epsilon(1e-6));
    CHECK(creep(30) == doctest::Approx((30 / 0.05 - 200) / 1e5).epsilon(1e-6));  // one strand carries 600 N alone
}

TEST_CASE("Cam: lift, speed and virtual work; a profile from a table")
{
    Recording r = run(
        "part c : Cam(stroke = 20 mm)\n part drive : SpeedSource\n 300 rpm -> drive.speed\n drive.shaft -- c.shaft\n part m : Mass(mass = 3 kg)\n c.follower "
        "-- m.point\n init drive.angle = 0 rad",
        0.2, 0.004);
    double w = 300 * kPi / 30;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double a = w * r.time().values[i];
        CHECK(r["m.x"].values[i] == doctest::Approx(0.01 * (1 - std::cos(a))).scale(0.01).epsilon(1e-7));
        // force m x'', torque F dx/da
        CHECK(r["c.shaft.torque"].values[i] == doctest::Approx(3 * 0.01 * w * w * std::cos(a) * 0.01 * std::sin(a)).scale(0.1).epsilon(1e-6));
    }
    Recording table = test::simulate(
        "use mechanics\ntable profile(angle : rad) -> mm { 0: 0, 1: 4, 2: 10, 3: 13 } smooth, hold\ncomponent Own : mechanics.Cam { function lift(angle : rad, "
        "stroke : m) -> "
        "m { return profile(angle) } }\nsystem S { part c : Own\n part drive : SpeedSource\n 1 rad/s -> drive.speed\n drive.shaft -- c.shaft\n part f : "
        "ForceSource(force = -7 N)\n c.follower -- f.point\n init drive.angle = 0 rad }",
        2, 1e-9, 0.5);
    CHECK(table["c.follower.x"].values[2] == doctest::Approx(4e-3).epsilon(1e-9));
    // at a knot the monotone cubic has the harmonic mean of the slopes beside it
    CHECK(table["c.shaft.torque"].values[2] == doctest::Approx(7 * 2 / (1 / 4e-3 + 1 / 6e-3)).epsilon(0.05));
}

TEST_CASE("ShaftDrag: stops a rotor by its Coulomb torque, and holds it")
{
    Recording r =
        run("part b : ShaftDrag(coulomb = 4 N*m, breakaway = 1.5)\n part j : Inertia(inertia = 0.2 kg*m^2)\n part t : TorqueSource\n b.shaft -- j.shaft -- "
            "t.shaft\n (if time < 2 s then 0 N*m else 5.9 N*m) -> t.torque\n init j.angle = 0 rad ; init j.speed = 30 rad/s",
            3, 0.1);
    std::size_t half = 0;
    while (r.time().values[half] < 0.5 - 1e-9) ++half;
    CHECK(r["j.speed"].values[half] == doctest::Approx(30 - 4 / 0.2 * 0.5).epsilon(1e-6));
    CHECK(r["j.angle"].final() == doctest::Approx(30.0 * 30 * 0.2 / (2 * 4)).epsilon(1e-6));
    CHECK(r["j.speed"].final() == doctest::Approx(0).scale(1).epsilon(1e-9));
}

TEST_CASE("Wheel: traction by the slip law, its peak at the best slip, and rolling resistance")
{
    auto force = [](double slip) {
        double v = 20, omega = v * (1 + slip) / 0.3;
        Recording r =
            run("part w : Wheel(radius = 0.3 m, load = 5 kN, grip = 0.8, best_slip = 0.1, rolling = 0)\n part d : SpeedSource\n " + std::to_string(omega) +
                    " rad/s -> d.speed\n d.shaft -- w.shaft\n part m : MotionSource\n 20 m/s * time -> m.position\n m.point -- w.hub\n init d.angle = 0 rad",
                0.1);
        CHECK(r["w.shaft.torque"].final() == doctest::Approx(0.3 * r["w.force"].final()).epsilon(1e-9));
        return r["w.force"].final();
    };
    CHECK(force(0.1) == doctest::Approx(0.8 * 5000).epsilon(1e-4));
    CHECK(force(0.05) == doctest::Approx(0.8 * 5000 * 0.8).epsilon(1e-3));
    CHECK(force(-0.1) == doctest::Approx(-0.8 * 5000).epsilon(1e-4));
    // coasting down: a = -rolling g
    Recording r =
        run("part w : Wheel(load = 4 kN, rolling = 0.02)\n part j : Inertia(inertia = 1e-3 kg*m^2)\n w.shaft -- j.shaft\n part m : Mass(mass = 400 kg)\n w.hub "
            "-- m.point\n init m.x = 0 m ; init m.v = 10 m/s ; init j.speed = 33.333 rad/s ; init j.angle = 0 rad",
            5, 0, 1e-8);
    CHECK(r["m.v"].final() == doctest::Approx(10 - 0.02 * 4000 / 400 * 5).epsilon(1e-3));
}

TEST_CASE("Shift: two springs in line, their rest lengths made up by spacers, swing as one of both stiffnesses")
{
    // wall - spring (100 N/m) - 0.3 m - mass - 0.2 m - spring (60 N/m) - wall at 0.5 m: at rest at x = 0.3 m, omega^2 = 160 / 2
    Recording r = run(
        "part left : Anchor\n part right : Anchor(position = 0.5 m)\n part s1 : Spring(stiffness = 100 N/m)\n part s2 : Spring(stiffness = 60 N/m)\n part to : "
        "Shift(by = 0.3 m)\n part "
        "from : Shift(by = 0.2 m)\n part body : Mass(mass = 2 kg)\n left.point -- s1.a\n s1.b -- to.a\n to.b -- body.point -- from.a\n from.b -- s2.a\n "
        "s2.b -- right.point\n init "
        "body.x = 0.35 m\n init body.v = 0 m/s",
        2, 0.01);
    double omega = std::sqrt(160.0 / 2);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i], x = 0.3 + 0.05 * std::cos(omega * t);
        CHECK(r["body.x"].values[i] == doctest::Approx(x).epsilon(1e-6));
        CHECK(r["to.a.x"].values[i] == doctest::Approx(x - 0.3).scale(0.3).epsilon(1e-6));
        CHECK(r["from.b.x"].values[i] == doctest::Approx(x + 0.2).epsilon(1e-6));
        CHECK(r["to.b.f"].values[i] == doctest::Approx(-r["to.a.f"].values[i]).scale(1).epsilon(1e-9));
    }
}

TEST_SUITE_END();

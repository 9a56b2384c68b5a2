// SPDX-License-Identifier: Apache-2.0
// Every shipped component against a formula or an equation derived by hand.
#include <doctest/doctest.h>

#include <cmath>

#include "library/oil.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

// Recording of a system whose parts are given, with the shipped libraries in sight.
Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-9)
{
    return test::simulate_parts("mechanics, electrics, heat, hydraulics, fluids, control", body, stop, tolerance, every);
}

constexpr double kPi = 3.14159265358979323846;

using test::oil_density;
using test::signed_sqrt;

const std::string kBetween =
    "fluid oil = MineralOil\n part high : Tank(oil = oil, pressure = 101 bar)\n part low : Tank(pressure = 1 bar)\n high.outlet -- x.inlet\n x.outlet -- "
    "low.outlet\n";

}  // namespace

TEST_SUITE_BEGIN("library");

// --- mechanics ----------------------------------------------------------------------------------------------------

TEST_CASE("Mass: free fall along a slope")
{
    Recording r = run("part m : Mass(mass = 3 kg, slope = 30 deg)\n init m.x = 2 m ; init m.v = 1 m/s", 2);
    CHECK(r["m.x"].final() == doctest::Approx(2 + 1 * 2 - 0.5 * 9.80665 * 0.5 * 4).epsilon(1e-8));
}

TEST_CASE("Spring and Damper: damped oscillation by its closed form, from a stretched start")
{
    // m x'' + d x' + k (x - L) = 0
    double m = 2, d = 3, k = 50, L = 0.4, x0 = 0.7;
    Recording r =
        run("part m : Mass(mass = 2 kg)\n part s : Spring(stiffness = 50 N/m, free_length = 0.4 m)\n part d : Damper(damping = 3 N*s/m)\n part w : Anchor\n "
            "w.point -- s.a -- d.a\n s.b -- d.b -- m.point\n init m.x = 0.7 m ; init m.v = 0 m/s",
            3, 0.1);
    double a = d / (2 * m), w = std::sqrt(k / m - a * a);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        CHECK(r["m.x"].values[i] == doctest::Approx(L + (x0 - L) * std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t))).epsilon(1e-6));
    }
    double v = r["m.v"].values[5];
    CHECK(r["d.loss"].values[5] == doctest::Approx(d * v * v).epsilon(1e-6));
    CHECK(r["s.tension"].first() == doctest::Approx(k * (x0 - L)));
}

TEST_CASE("Inertia, TorsionSpring, TorsionDamper, FixedShaft")
{
    double J = 0.5, c = 20, d = 0.4;
    Recording r =
        run("part j : Inertia(inertia = 0.5 kg*m^2)\n part s : TorsionSpring(stiffness = 20 N*m/rad)\n part d : TorsionDamper(damping = 0.4 N*m*s/rad)\n part "
            "f : FixedShaft(position = 10 deg)\n f.shaft -- s.a -- d.a\n s.b -- d.b -- j.shaft\n init j.angle = 40 deg ; init j.speed = 0 rad/s",
            2, 0.1);
    double a = d / (2 * J), w = std::sqrt(c / J - a * a);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        CHECK(r["j.angle"].values[i] ==
              doctest::Approx(10 * kPi / 180 + 30 * kPi / 180 * std::exp(-a * t) * (std::cos(w * t) + a / w * std::sin(w * t))).epsilon(1e-6));
    }
}

TEST_CASE("Gear, RackAndPinion, TorqueSource, ForceSource: a hoist accelerates by its reduced mass")
{
    // a = (i T / r - F) / (m + (J_drum + i^2 J_motor) / r^2)
    double i = 5, T = 4, radius = 0.1, m = 10, F = 30, J_motor = 0.01, J_drum = 0.2;
    Recording r =
        run("part t : TorqueSource\n part motor : Inertia(inertia = 0.01 kg*m^2)\n part g : Gear(ratio = 5)\n part drum : Inertia(inertia = 0.2 kg*m^2)\n part "
            "rack : RackAndPinion(radius = 100 mm)\n part load : Mass(mass = 10 kg)\n part f : ForceSource\n 4 N*m -> t.torque\n (-30 N) -> f.force\n t.shaft "
            "-- motor.shaft -- g.a\n g.b -- drum.shaft -- rack.shaft\n rack.rod -- load.point -- f.point\n init load.x = 0 m ; init load.v = 0 m/s",
            2);
    double a = (i * T / radius - F) / (m + (J_drum + i * i * J_motor) / (radius * radius));
    CHECK(r["load.v"].final() == doctest::Approx(a * 2).epsilon(1e-8));
    CHECK(r["motor.speed"].final() == doctest::Approx(i * a * 2 / radius).epsilon(1e-8));
    // the torque that the gear takes from the motor side
    CHECK(r["g.a.torque"].final() == doctest::Approx(T - J_motor * i * a / radius).epsilon(1e-8));
}

TEST_CASE("Lever: position and torque by its geometry")
{
    Recording r =
        run("part d : SpeedSource\n part l : Lever(arm = 0.9 m, offset = -40 deg)\n part s : Spring(stiffness = 1000 N/m)\n part w : Anchor\n 10 rpm -> "
            "d.speed\n d.shaft -- l.shaft\n w.point -- s.a\n s.b -- l.rod\n init d.angle = 0 rad",
            1, 0.1);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double angle = 2 * kPi * 10 / 60 * r.time().values[i], offset = -40 * kPi / 180;
        double x = 0.9 * (std::sin(angle + offset) - std::sin(offset));
        CHECK(r["l.rod.x"].values[i] == doctest::Approx(x).epsilon(1e-8).scale(1));
        // the spring pulls the rod back with 1000 x: the drive holds it with 1000 x * arm * cos
        CHECK(r["l.shaft.torque"].values[i] == doctest::Approx(1000 * x * 0.9 * std::cos(angle + offset)).epsilon(1e-7).scale(10));
    }
}

// --- electrics ----------------------------------------------------------------------------------------------------

TEST_CASE("Resistor and Capacitor: charging by 1 - exp(-t/RC), the loss is half of what the source gives")
{
    Recording r =
        run("part u : VoltageSource(voltage = 12 V)\n part r : Resistor(resistance = 100 ohm)\n part c : Capacitor(capacitance = 100 uF)\n part g : Ground\n "
            "u.plus -- r.plus\n r.minus -- c.plus\n c.minus -- u.minus -- g.pin\n var heat : J init 0 J\n heat' = r.loss\n init c.u = 0 V",
            0.2, 0.005);
    for (std::size_t i = 0; i < r.n_rows(); ++i) CHECK(r["c.u"].values[i] == doctest::Approx(12 * (1 - std::exp(-r.time().values[i] / 0.01))).epsilon(1e-7));
    CHECK(r["heat"].final() == doctest::Approx(0.5 * 100e-6 * 144).epsilon(1e-6));
}

TEST_CASE("Inductor and CurrentSource")
{
    // a source of 2 A beside L and R in parallel: i_L = 2 (1 - exp(-R t / L))
    Recording r =
        run("part s : CurrentSource(current = 2 A)\n part l : Inductor(inductance = 50 mH)\n part r : Resistor(resistance = 10 ohm)\n part g : Ground\n s.plus "
            "-- l.plus -- r.plus\n s.minus -- l.minus -- r.minus -- g.pin\n init l.i = 0 A",
            0.03, 0.001);
    for (std::size_t i = 0; i < r.n_rows(); ++i)
        CHECK(r["l.i"].values[i] == doctest::Approx(2 * (1 - std::exp(-10 * r.time().values[i] / 0.05))).epsilon(1e-7));
}

TEST_CASE("WarmResistor: adiabatic warming by its own ordinary equation")
{
    // C T' = U^2 / (R (1 + a (T - T0))): with y = T - T0, y + a y^2 / 2 = U^2 t / (R C)
    Recording r =
        run("part u : VoltageSource(voltage = 10 V)\n part r : WarmResistor(resistance = 2 ohm, coefficient = 0.004 K^-1, reference = 20 degC)\n part m : "
            "HeatMass(capacity = 50 J/K)\n part g : Ground\n u.plus -- r.plus\n u.minus -- r.minus -- g.pin\n r.surface -- m.surface\n init m.T = 20 degC",
            100, 5);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double right = 100 * r.time().values[i] / (2 * 50), y = (-1 + std::sqrt(1 + 2 * 0.004 * right)) / 0.004;
        CHECK(r["m.T"].values[i] == doctest::Approx(293.15 + y).epsilon(1e-7));
    }
}

TEST_CASE("DcMachine: speed and current at rest of the transients, and the energy balance on the way")
{
    // steady: U = R i + k w, k i = d w
    double U = 24, R = 0.5, k = 0.1, d = 0.002;
    Recording r =
        run("part u : VoltageSource(voltage = 24 V)\n part m : DcMachine(constant = 0.1 V*s/rad, resistance = 0.5 ohm, inductance = 2 mH, inertia = 0.01 "
            "kg*m^2, coefficient = 0 K^-1)\n part f : FixedShaft\n part d : TorsionDamper(damping = 0.002 N*m*s/rad)\n part w : HeatMass(capacity = 100 J/K)\n "
            "part g : Ground\n u.plus -- m.plus\n u.minus -- m.minus -- g.pin\n m.shaft -- d.b\n d.a -- f.shaft\n m.winding -- w.surface\n init m.speed = 0 "
            "rpm ; init m.i = 0 A ; init w.T = 20 degC ; init m.shaft.angle = 0 rad\n var taken : J init 0 J\n taken' = -u.plus.i * u.u\n var dragged : J init "
            "0 J\n dragged' = d.loss",
            20, 0.5);
    double w = U / (R * d / k + k), i = d * w / k;
    CHECK(r["m.speed"].final() == doctest::Approx(w).epsilon(1e-7));
    CHECK(r["m.i"].final() == doctest::Approx(i).epsilon(1e-7));
    for (std::size_t n = 0; n < r.n_rows(); ++n) {
        double stored = 0.5 * 0.01 * std::pow(r["m.speed"].values[n], 2) + 0.5 * 2e-3 * std::pow(r["m.i"].values[n], 2) + 100 * (r["w.T"].values[n] - 293.15);
        CHECK(r["taken"].values[n] == doctest::Approx(stored + r["dragged"].values[n]).epsilon(1e-6).scale(1));
    }
}

// --- heat ---------------------------------------------------------------------------------------------------------

TEST_CASE("Conduction, Convection, HeatMass, Surroundings: cooling through two resistances in series")
{
    // conductances 50*2/0.02 = 5000 and 12*3 = 36 W/K in series
    Recording r =
        run("part m : HeatMass(capacity = 2 kJ/K)\n part wall : Conduction(area = 2 m^2, thickness = 20 mm, conductivity = 50 W/(m*K))\n part film : "
            "Convection(area = 3 m^2, coefficient = 12 W/(m^2*K))\n part air : Surroundings(temperature = 10 degC)\n m.surface -- wall.a\n wall.b -- film.a\n "
            "film.b -- air.surface\n init m.T = 90 degC",
            200, 10);
    double g = 1 / (1 / 5000.0 + 1 / 36.0);
    for (std::size_t i = 0; i < r.n_rows(); ++i)
        CHECK(r["m.T"].values[i] == doctest::Approx(283.15 + 80 * std::exp(-g * r.time().values[i] / 2000)).epsilon(1e-8));
    CHECK(r["wall.flow"].first() == doctest::Approx(g * 80));
}

TEST_CASE("HeatSource and TemperatureSource")
{
    Recording r =
        run("part s : HeatSource(power = 300 W)\n part m : HeatMass(capacity = 1 kJ/K)\n s.surface -- m.surface\n init m.T = 0 degC\n part t : "
            "TemperatureSource(temperature = 50 degC)\n part p : Conduction(area = 1 m^2, thickness = 1 m, conductivity = 2 W/(m*K))\n part a : "
            "Surroundings(temperature = 20 degC)\n t.surface -- p.a\n p.b -- a.surface",
            10);
    CHECK(r["m.T"].final() == doctest::Approx(273.15 + 3).epsilon(1e-9));
    CHECK(r["t.surface.heat"].final() == doctest::Approx(-60));
    CHECK(r["a.surface.heat"].final() == doctest::Approx(60));
}

// --- fluids -------------------------------------------------------------------------------------------------------

TEST_CASE("MineralOil: grade at 40 degC, the standard's law in between, density with temperature and pressure")
{
    Recording r =
        run("fluid oil = MineralOil(grade = 46 cSt, temperature = 40 degC)\n fluid hot = MineralOil(grade = 46 cSt, temperature = 100 degC)\n part a : "
            "Tank(oil = oil)\n part b : Tank(oil = hot)\n let nu40 = oil.viscosity(1 bar, 313.15 K) / oil.density(1 bar, 313.15 K)\n let nu100 = "
            "oil.viscosity(1 bar, 373.15 K) / oil.density(1 bar, 373.15 K)\n let rho = oil.density(201 bar, 288.15 K)\n var t init 0\n t' = 1",
            1);
    CHECK(r["nu40"].final() == doctest::Approx(46e-6).epsilon(1e-9));
    // handbooks give 6.5 to 7 cSt at 100 degC for a mineral oil of grade 46 and viscosity index 100
    CHECK(r["nu100"].final() > 6.0e-6);
    CHECK(r["nu100"].final() < 7.5e-6);
    CHECK(r["rho"].final() == doctest::Approx(870 * std::exp(200e5 / 1.4e9)).epsilon(1e-9));
}

TEST_CASE("Water: density and viscosity against tabulated values at 1 bar")
{
    // IAPWS: 20 degC 998.2 kg/m^3, 1.0016 mPa*s; 5 degC 999.97 kg/m^3, 1.518 mPa*s; 40 degC 992.2 kg/m^3, 0.6530 mPa*s
    Recording r =
        run("fluid w = Water\n part a : Tank(oil = w)\n let d5 = w.density(1 bar, 278.15 K)\n let d20 = w.density(1 bar, 293.15 K)\n let v5 = w.viscosity(1 "
            "bar, 278.15 K)\n let v20 = w.viscosity(1 bar, 293.15 K)\n let v40 = w.viscosity(1 bar, 313.15 K)\n var t init 0\n t' = 1",
            1);
    CHECK(r["d5"].final() == doctest::Approx(999.97).epsilon(1e-3));
    CHECK(r["d20"].final() == doctest::Approx(998.2).epsilon(1e-3));
    CHECK(r["v5"].final() == doctest::Approx(1.518e-3).epsilon(0.015));
    CHECK(r["v20"].final() == doctest::Approx(1.0016e-3).epsilon(0.01));
    CHECK(r["v40"].final() == doctest::Approx(0.6530e-3).epsilon(0.01));
}

// --- hydraulics ---------------------------------------------------------------------------------------------------

TEST_CASE("Orifice: the root law with its smooth transition, both ways")
{
    Recording r = run(kBetween +
                          "part x : Orifice(diameter = 2 mm, coefficient = 0.6)\n part y : Orifice(diameter = 2 mm, coefficient = 0.6)\n low.outlet -- "
                          "y.inlet\n y.outlet -- high.outlet\n var t init 0\n t' = 1",
                      1);
    double rho = oil_density(51e5), area = kPi / 4 * 4e-6;
    double m = rho * 0.6 * area * std::sqrt(2 / rho) * signed_sqrt(100e5, 0.1e5);
    CHECK(r["x.inlet.m"].final() == doctest::Approx(m).epsilon(1e-9));
    CHECK(r["y.inlet.m"].final() == doctest::Approx(-m).epsilon(1e-9));
    CHECK(r["x.loss"].final() == doctest::Approx(m / rho * 100e5).epsilon(1e-9));
    // beyond the transition it is the textbook's q = cd A sqrt(2 dp / rho) within 1e-6
    CHECK(m / rho == doctest::Approx(0.6 * area * std::sqrt(2 * 100e5 / rho)).epsilon(1e-6));
}

TEST_CASE("AdjustableOrifice: area by its opening, held between closed and open")
{
    for (auto [opening, share] : {std::pair{"0.25", 0.25}, {"1.7", 1.0}, {"-0.3", 0.0}}) {
        Recording r = run(kBetween + "part x : AdjustableOrifice(diameter = 4 mm, opening = " + opening + ")\n var t init 0\n t' = 1", 1);
        double rho = oil_density(51e5);
        CHECK(r["x.inlet.m"].final() == doctest::Approx(share * rho * 0.7 * kPi / 4 * 16e-6 * std::sqrt(2 / rho) * signed_sqrt(100e5, 0.1e5)).epsilon(1e-9));
    }
}

TEST_CASE("CheckValve and ReliefValve: closed below cracking, linear above, only leakage the other way")
{
    double rho = oil_density(51e5), lpm = 1e-3 / 60;
    Recording r =
        run(kBetween +
                "part x : ReliefValve(cracking = 80 bar, override = 10 bar, rated_flow = 50 L/min)\n part shut : ReliefValve(cracking = 120 bar)\n part back : "
                "CheckValve(cracking = 2 bar)\n part open : CheckValve(cracking = 2 bar, rise = 49 bar, rated_flow = 10 L/min)\n high.outlet -- shut.inlet -- "
                "open.inlet -- back.outlet\n low.outlet -- shut.outlet -- open.outlet -- back.inlet\n var t init 0\n t' = 1",
            1);
    CHECK(r["x.inlet.m"].final() == doctest::Approx(rho * lpm * (50 * 20 / 10.0 + 1e-5 * 100)).epsilon(1e-9));
    CHECK(r["shut.inlet.m"].final() == doctest::Approx(rho * lpm * 1e-3).epsilon(1e-9));
    CHECK(r["back.inlet.m"].final() == doctest::Approx(-rho * lpm * 1e-3).epsilon(1e-9));
    CHECK(r["open.inlet.m"].final() == doctest::Approx(rho * lpm * (10 * 98 / 49.0 + 1e-3)).epsilon(1e-9));
}

TEST_CASE("Volume and FlowSource: pressure by the compressibility, ln(rho) grows with the mass")
{
    // V rho = V rho0 + m t with rho = rho0 exp((p - p0) / K): the inflow itself grows with rho, so p rises at K q / V
    Recording r =
        run("fluid oil = MineralOil\n part s : FlowSource(flow = 6 L/min)\n part v : Volume(volume = 2 L)\n part t : Tank(oil = oil)\n part o : "
            "Orifice(diameter = 0.001 mm)\n s.outlet -- v.a -- o.inlet\n o.outlet -- t.outlet\n init v.p = 1 bar",
            2, 0.1);
    for (std::size_t i = 0; i < r.n_rows(); ++i) CHECK(r["v.p"].values[i] == doctest::Approx(1e5 + 1.4e9 * 1e-4 * r.time().values[i] / 2e-3).epsilon(1e-4));
}

TEST_CASE("FixedPump: flow, torque and loss")
{
    Recording r =
        run("fluid oil = MineralOil\n part d : SpeedSource(speed = 1500 rpm)\n part p : FixedPump(displacement = 20 cm^3/rev, leakage = 0.01 L/min/bar, drag = "
            "0.05 N*m*s/rad, friction = 0.03)\n part a : Tank(oil = oil, pressure = 1 bar)\n part b : Tank(pressure = 151 bar)\n d.shaft -- p.shaft\n a.outlet "
            "-- p.inlet\n p.outlet -- b.outlet\n init d.angle = 0 rad",
            1);
    double w = 1500 * 2 * kPi / 60, D = 20e-6 / (2 * kPi), dp = 150e5;
    double q = D * w - 0.01e-3 / 60 / 1e5 * dp, torque = D * dp * 1.03 + 0.05 * w;
    // the oil that it draws holds a trace of vapour by the law of the fluid: (w + sqrt(w^2 + (10 mbar)^2)) / 200 bar, w the vapour pressure less the filling
    // less 20 bar
    double filling = 1e5 - 0.25 * 1e10 / 1e5, lack = -filling - 20e5, vapour = 0.5 * (lack + std::sqrt(lack * lack + 1e6)) / 1e7;
    double m = oil_density(1e5) / (1 + vapour) * q;
    CHECK(r["p.inlet.m"].final() == doctest::Approx(m).epsilon(1e-9));
    CHECK(r["p.shaft.torque"].final() == doctest::Approx(torque).epsilon(1e-9));
    // what it gives to the oil, compression counted: the mass flow times dp over the density at the mean pressure
    CHECK(r["p.loss"].final() == doctest::Approx(torque * w - m / oil_density(76e5) * dp).epsilon(1e-9));
    CHECK(r["p.loss"].final() > 0);
}

TEST_CASE("a motor that its load drives draws its line empty, and no more than that")
{
    // nothing feeds the line: what the motor draws thins out with what is left, and the mass in it stays positive
    Recording r =
        run("fluid oil = MineralOil\n part d : SpeedSource(speed = 600 rpm)\n part m : Motor(displacement = 80 cm^3/rev, leakage = 0 L/min/bar)\n part line : "
            "Volume(volume = 0.1 "
            "L)\n part t : Tank(oil = oil)\n d.shaft -- m.shaft ; line.a -- m.inlet ; m.outlet -- t.outlet\n init line.p = 20 bar",
            1, 0.01);
    CHECK(r["line.content.mass"].min() > 0);
    CHECK(r["line.p"].min() > 0);
    CHECK(r["line.content.mass"].final() < 0.2 * r["line.content.mass"].first());
}

TEST_CASE("ProportionalValve: spool lag, overlap, and the edges that open for each direction")
{
    for (int sign : {1, -1}) {
        std::string command = sign > 0 ? "0.6" : "-0.6";
        Recording r = run("fluid oil = MineralOil\n part v : ProportionalValve(command = " + command +
                              ", rated_flow = 60 L/min, rated_dp = 5 bar, overlap = 0.1, time_constant = 50 ms, leakage = 0)\n part s : Tank(oil = oil, "
                              "pressure = 100 bar)\n part t : Tank(pressure = 1 bar)\n part a, b : Tank(pressure = 50 bar)\n s.outlet -- v.supply\n t.outlet "
                              "-- v.tank\n a.outlet -- v.a\n b.outlet -- v.b\n init v.spool = 0",
                          0.5, 0.01);
        for (std::size_t i = 0; i < r.n_rows(); ++i)
            CHECK(r["v.spool"].values[i] == doctest::Approx(sign * 0.6 * (1 - std::exp(-r.time().values[i] / 0.05))).epsilon(1e-6).scale(0.1));
        double opening = (std::abs(r["v.spool"].final()) - 0.1) / 0.9, rated = 60e-3 / 60 / std::sqrt(5e5);
        double in = oil_density(75e5) * rated * opening * signed_sqrt(50e5, 0.1e5), out = oil_density(25.5e5) * rated * opening * signed_sqrt(49e5, 0.1e5);
        CHECK(r["v.supply.m"].final() == doctest::Approx(in).epsilon(1e-6));
        CHECK(r["v.tank.m"].final() == doctest::Approx(-out).epsilon(1e-6));
        CHECK(r[sign > 0 ? "v.a.m" : "v.b.m"].final() == doctest::Approx(-in).epsilon(1e-6));
        CHECK(r[sign > 0 ? "v.b.m" : "v.a.m"].final() == doctest::Approx(out).epsilon(1e-6));
    }
}

TEST_CASE("Cylinder: force at rest, speed from the flow, and compliance of the oil column")
{
    // held at a fixed position with both chambers on tanks: the rod pushes with p_h A_h - p_r A_r against ambient
    Recording hold =
        run("fluid oil = MineralOil\n part a : Tank(oil = oil, pressure = 80 bar)\n part b : Tank(pressure = 30 bar)\n part c : Cylinder(bore = 100 mm, "
            "rod_diameter = 60 mm, stroke = 0.8 m)\n part w : Anchor(position = 0.3 m)\n a.outlet -- c.head\n b.outlet -- c.rod_side\n c.rod -- w.point\n var "
            "t init 0\n t' = 1",
            1);
    double Ah = kPi / 4 * 0.01, Ar = kPi / 4 * (0.01 - 0.0036);
    CHECK(hold["c.rod.f"].final() == doctest::Approx(-((80e5 - 1.013e5) * Ah - (30e5 - 1.013e5) * Ar)).epsilon(1e-9));
    double leak = oil_density(55e5) * 1e-4 * 1e-3 / 60 / 1e5 * 50e5;
    CHECK(hold["c.head.m"].final() == doctest::Approx(leak).epsilon(1e-6));
    // a flow into the head side of an unloaded cylinder moves it at q / A; the rod side empties to the tank
    Recording move =
        run("fluid oil = MineralOil\n part s : FlowSource(flow = 12 L/min)\n part b : Tank(oil = oil, pressure = 1.013 bar)\n part c : Cylinder(bore = 100 mm, "
            "rod_diameter = 60 mm, stroke = 0.8 m, leakage = 0 L/min/bar, damping = 2000 N*s/m)\n part m : Mass(mass = 50 kg)\n s.outlet -- c.head\n b.outlet "
            "-- c.rod_side\n c.rod -- m.point\n init m.x = 0.1 m ; init m.v = 0 m/s ; init c.head_p = 1.013 bar",
            2);
    double v = 12e-3 / 60 / Ah;
    CHECK(move["m.v"].final() == doctest::Approx(v).epsilon(2e-3));
    CHECK(move["c.head_p"].final() == doctest::Approx(1.013e5 + 2000 * v / Ah).epsilon(1e-2));
    CHECK(move["c.rod_side.m"].final() == doctest::Approx(-oil_density(1.013e5) * v * Ar).epsilon(3e-3));
}

TEST_CASE("Cylinder: natural frequency on its two oil columns")
{
    // c = K (A_h^2 / V_h + A_r^2 / V_r) for closed chambers
    Recording r =
        run("fluid oil = MineralOil\n part a, b : Volume(volume = 0.001 L)\n part t : Tank(oil = oil)\n part o : Orifice(diameter = 0.001 mm)\n part c : "
            "Cylinder(bore = 100 mm, rod_diameter = 60 mm, stroke = 0.8 m, dead_volume = 0.5 L, leakage = 0 L/min/bar, damping = 0 N*s/m)\n part m : Mass(mass "
            "= 500 kg)\n a.a -- c.head -- o.inlet\n o.outlet -- t.outlet\n part o2 : Orifice(diameter = 0.001 mm)\n b.a -- c.rod_side -- o2.inlet\n "
            "o2.outlet -- t.outlet\n c.rod -- m.point\n init m.x = 0.4 m ; init m.v = 1e-4 m/s ; init c.head_p = 50 bar ; init c.rod_side_p = 78 bar",
            0.2, 0.0002);
    double Ah = kPi / 4 * 0.01, Ar = kPi / 4 * (0.01 - 0.0036), K = 1.4e9;
    double Vh = 0.5e-3 + Ah * 0.4 + 1e-6, Vr = 0.5e-3 + Ar * 0.4 + 1e-6, c = K * (Ah * Ah / Vh + Ar * Ar / Vr);
    int crossings = 0;
    double first = 0, last = 0;
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        if (r["m.v"].values[i - 1] < 0 && r["m.v"].values[i] >= 0) {
            double a = r["m.v"].values[i - 1], b = r["m.v"].values[i];
            last = r.time().values[i - 1] + 0.0002 * (-a / (b - a));
            if (crossings++ == 0) first = last;
        }
    }
    REQUIRE(crossings > 3);
    double frequency = (crossings - 1) / (last - first);
    CHECK(frequency == doctest::Approx(std::sqrt(c / 500) / (2 * kPi)).epsilon(0.01));
}

// --- control ------------------------------------------------------------------------------------------------------

TEST_CASE("Step, Ramp, Sine")
{
    Recording r =
        run("part s : Step(at = 0.5 s, before = 1, after = 3)\n part p : Ramp(at = 0.2 s, lasting = 0.4 s, before = -1, after = 1)\n part w : Sine(frequency = "
            "2 Hz, amplitude = 3, offset = 1, phase = 90 deg, from_time = 0.25 s)\n var a init 0\n a' = s.out * 1 s^-1",
            1, 0.05);
    CHECK(r["a"].final() == doctest::Approx(0.5 * 1 + 0.5 * 3).epsilon(1e-8));
    CHECK(r["p.out"].at(0.1, r.time()) == doctest::Approx(-1));
    CHECK(r["p.out"].at(0.4, r.time()) == doctest::Approx(0).scale(1));
    CHECK(r["p.out"].final() == doctest::Approx(1));
    CHECK(r["w.out"].at(0.2, r.time()) == doctest::Approx(1));
    CHECK(r["w.out"].final() == doctest::Approx(1 + 3 * std::sin(2 * kPi * 2 * 0.75 + kPi / 2)).epsilon(1e-9));
}

TEST_CASE("playback of a CSV: a table of time with headings and units")
{
    test::Scratch scratch;
    test::write_file(scratch / "gust.csv", "t [s],other,gust [km/h]\r\n0,9,0\r\n1,9,36\r\n3,9,18\r\n");
    test::write_file(scratch / "grid.csv", ",0,10\n0,0,100\n2,20,140\n");
    test::write_file(scratch / "m.loop",
                     "table gust(t : s) -> m/s from \"gust.csv\" linear, hold\ntable grid(a : 1, b : 1) -> 1 from \"grid.csv\" linear, hold\nsystem S { let v "
                     "= gust(time) ; let g = grid(1, 5) ; var x : m init 0 m ; x' = v }\n");
    Library library = Library::standard();
    library.load_file(scratch / "m.loop");
    Recording r = Run(compile(library)).simulate({.stop = 3.0, .output_every = 0.5, .tolerance = 1e-9});
    CHECK(r["v"].at(1, r.time()) == doctest::Approx(10));
    CHECK(r["v"].at(2, r.time()) == doctest::Approx(7.5));
    CHECK(r["x"].final() == doctest::Approx(5 + 15).epsilon(1e-8));
    CHECK(r["g"].final() == doctest::Approx((0 + 100 + 20 + 140) / 4.0));
}

TEST_CASE("Pid: the shares by hand, and an integral that does not wind up at the limit")
{
    Recording r =
        run("part p : Pid(gain = 2, integral_time = 4 s, derivative_time = 0.5 s, filter_time = 0.1 s, setpoint = 1, low = -100, high = 100)\n 0.2 * time / 1 "
            "s -> p.measured\n init p.integral_share = 0",
            3, 0.1);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        CHECK(r["p.proportional_share"].values[i] == doctest::Approx(2 * (1 - 0.2 * t)).epsilon(1e-9).scale(1));
        CHECK(r["p.integral_share"].values[i] == doctest::Approx(2 * (t - 0.1 * t * t) / 4).epsilon(1e-7).scale(1));
        // a ramp through the filter: the derivative share settles at -gain * Td * slope
        CHECK(r["p.derivative_share"].values[i] == doctest::Approx(-2 * 0.5 * 0.2 * (1 - std::exp(-t / 0.1))).epsilon(1e-6).scale(0.1));
    }
    Recording limited = run(
        "part p : Pid(gain = 1, integral_time = 1 s, tracking_time = 0.5 s, setpoint = 1, measured = 0, low = -1, high = 0.5)\n init p.integral_share = 0", 20);
    CHECK(limited["p.out"].final() == doctest::Approx(0.5));
    // in balance: gain * e / Ti = (unlimited - out) / Tt
    CHECK(limited["p.unlimited"].final() == doctest::Approx(0.5 + 0.5 * 1.0).epsilon(1e-6));
}

TEST_CASE("every shipped component has a text, and an example that compiles where it stands")
{
    Library library = Library::standard();
    int checked = 0;
    for (const std::string& package : library.packages()) {
        for (const auto& entry : library.list(package)) {
            INFO(entry.name);
            CHECK_FALSE(entry.summary.empty());
            if (entry.kind != "component" && entry.kind != "fluid") continue;
            std::string text = library.describe(entry.name);
            std::size_t at = text.find("\nexample\n");
            REQUIRE(at != std::string::npos);
            std::string example = text.substr(at + 9);
            Library fresh = Library::standard();
            fresh.load_text("example.loop",
                            "use mechanics, electrics, heat, hydraulics, gases, fluids, control, machines\nsystem Example {\n" + example + "\n}\n");
            for (const auto& d : fresh.check(true)) {
                INFO(d.rendered);
                CHECK(d.severity != Diagnostic::Severity::error);
            }
            ++checked;
        }
    }
    CHECK(checked >= 150);
}

TEST_CASE("the shipped libraries are strict: every quantity has a unit")
{
    Library library = Library::standard();
    std::string text = "use mechanics, electrics, heat, hydraulics, gases, fluids, control, machines\nsystem All {\n";
    int n = 0;
    for (const std::string& package : library.packages())
        for (const auto& entry : library.list(package))
            if (entry.kind == "component") text += "    part p" + std::to_string(n++) + " : " + entry.name + "\n";
    text += "}\n";
    Library fresh = Library::standard();
    fresh.load_text("all.loop", text);
    try {
        compile(fresh, {.strict = true});
        FAIL("inputs without a source must be reported");
    } catch (const ModelError& error) {
        for (const auto& d : error.diagnostics()) {
            INFO(d.rendered);
            CHECK(d.id != "unchecked-strict");
            CHECK(d.id != "unit-mismatch");
        }
    }
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// What mobile machines are made of: load sensing, compensators, hoses, winches. Against formulas, and equations solved here by bisection.
#include <doctest/doctest.h>

#include <cmath>
#include <complex>
#include <functional>

#include "library/oil.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

constexpr double kTurn = 2 * 3.14159265358979323846, kBar = 1e5, kLitrePerMinute = 1e-3 / 60;

Recording mobile(const std::string& body, double stop, double every = 0)
{
    return test::simulate(
        "use machines, mechanics, heat, hydraulics, fluids\nsystem S {\n fluid oil = MineralOil()\n var clock init 0\n clock' = 1 s^-1\n" + body + "\n}\n",
        stop, 1e-9, every);
}

double at(const Recording& r, const std::string& name, double t)
{
    return r[name].at(t, r.time());
}

// Where a function that rises goes through zero.
double zero_of(const std::function<double(double)>& f, double low, double high)
{
    for (int k = 0; k < 200; ++k) (f(0.5 * (low + high)) < 0 ? low : high) = 0.5 * (low + high);
    return 0.5 * (low + high);
}

// Mass flow through an edge: `rated` L/min at `rated_dp` bar.
double edge(double rated, double rated_dp, double opening, double p1, double p2)
{
    return test::oil_density(0.5 * (p1 + p2)) * rated * kLitrePerMinute * opening * test::signed_sqrt(p1 - p2, 0.1 * kBar) / std::sqrt(rated_dp * kBar);
}

double clamped(double x)
{
    return std::min(std::max(x, 0.0), 1.0);
}

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("a pressure compensator makes the flow of an edge the same for every load, and lets nothing back")
{
    double first = 0;
    for (double load : {20.0, 80.0, 150.0}) {
        Recording r = mobile(
            "part high : Tank(oil = oil, pressure = 200 bar)\n part user : Tank(pressure = " + std::to_string(load) +
                " bar)\n part comp : PressureCompensator(margin = 7 bar)\n part gallery : Volume(volume = 0.1 L)\n part way : MeteringEdge(rated_flow = 60 "
                "L/min, rated_dp = 7 bar, opening = 0.5)\n high.outlet -- comp.inlet ; comp.outlet -- gallery.a ; gallery.b -- way.inlet ; "
                "way.outlet -- user.outlet -- comp.pilot\n init gallery.p = " +
                std::to_string(load) + " bar ; init comp.opening = 0.5",
            3);
        // at rest the two flows are one, with the opening that the gallery's pressure asks for
        double p = zero_of(
            [&](double gallery) {
                double opening = clamped((9 * kBar - (gallery - load * kBar)) / (2 * kBar));
                return edge(60, 7, 0.5, gallery, load * kBar) - edge(150, 5, 1e-4 + opening, 200 * kBar, gallery);
            },
            load * kBar, 200 * kBar);
        double m = edge(60, 7, 0.5, p, load * kBar);
        CHECK(r["gallery.p"].final() == doctest::Approx(p).epsilon(1e-6));
        CHECK(r["way.inlet.m"].final() == doctest::Approx(m).epsilon(1e-6));
        if (first == 0) first = r["way.q"].final();
        CHECK(r["way.q"].final() == doctest::Approx(first).epsilon(0.06));  // the load is 7.5 times as much
    }
    Recording back = mobile(
        "part low : Tank(oil = oil, pressure = 20 bar)\n part comp : PressureCompensator\n part held : Volume(volume = 1 L)\n low.outlet -- comp.inlet ; "
        "comp.outlet -- "
        "held.a -- comp.pilot\n init held.p = 90 bar ; init comp.opening = 1",
        10);
    CHECK(back["held.p"].final() == doctest::Approx(90 * kBar).epsilon(1e-9));
}

TEST_CASE("sharing compensators divide what a pump gives in the ratio of the edges, whatever the loads")
{
    Recording r = mobile(
        "part pump : FlowSource(flow = 60 L/min) ; part line : Volume(volume = 1 L)\n part light : Tank(oil = oil, pressure = 50 bar) ; part heavy : "
        "Tank(pressure = 150 "
        "bar)\n"
        "part e1 : MeteringEdge(rated_flow = 100 L/min, rated_dp = 10 bar, opening = 0.8) ; part e2 : MeteringEdge(rated_flow = 100 L/min, rated_dp = 10 bar, "
        "opening = 0.4)\n"
        "part c1, c2 : SharingCompensator(margin = 1 bar) ; part g1, g2 : Volume(volume = 0.1 L)\n"
        "pump.outlet -- line.a -- e1.inlet -- e2.inlet\n e1.outlet -- g1.a ; g1.b -- c1.inlet ; c1.outlet -- light.outlet\n"
        "e2.outlet -- g2.a ; g2.b -- c2.inlet ; c2.outlet -- heavy.outlet -- c1.pilot -- c2.pilot\n init line.p = 160 bar ; init g1.p = 152 bar ; "
        "init g2.p = 152 "
        "bar ; init c1.opening = 0 ; init c2.opening = 0",
        5);
    auto through = [](double line, double opening, double load, double& gallery) {
        gallery = zero_of(
            [&](double g) {
                double c = clamped((g - 151 * kBar) / (2 * kBar));
                return edge(150, 5, 1e-4 + c, std::max(g, load), load) - edge(100, 10, opening, line, g);
            },
            load, line);
        return edge(100, 10, opening, line, gallery);
    };
    double g1 = 0, g2 = 0;
    double line =
        zero_of([&](double p) { return through(p, 0.8, 50 * kBar, g1) + through(p, 0.4, 150 * kBar, g2) - 60 * kLitrePerMinute * test::oil_density(p); },
                151 * kBar, 200 * kBar);
    double m1 = through(line, 0.8, 50 * kBar, g1), m2 = through(line, 0.4, 150 * kBar, g2);
    CHECK(r["line.p"].final() == doctest::Approx(line).epsilon(1e-6));
    CHECK(r["e1.inlet.m"].final() == doctest::Approx(m1).epsilon(1e-5));
    CHECK(r["e2.inlet.m"].final() == doctest::Approx(m2).epsilon(1e-5));
    CHECK(m1 / m2 == doctest::Approx(2).epsilon(0.2));  // the springs' bands leave this much
}

TEST_CASE("a shuttle valve reports the higher of two pressures, and changes over where they cross")
{
    Recording r = mobile(
        "part left, right : Reservoir(oil = oil) ; part ball : ShuttleValve(band = 0.5 bar)\n 40 bar + 20 bar * time / (1 s) -> left.pressure ; 100 bar -> "
        "right.pressure\n"
        "left.outlet -- ball.a ; right.outlet -- ball.b\n part feeler : PressureCompensator ; part p1 : Tank(oil = oil) ; part v : Volume\n ball.outlet -- "
        "feeler.pilot ; "
        "p1.outlet -- feeler.inlet ; feeler.outlet -- v.a",
        6, 0.5);
    CHECK(at(r, "ball.p", 1) == doctest::Approx(100 * kBar).epsilon(1e-5));
    CHECK(at(r, "ball.p", 2.5) == doctest::Approx(100 * kBar).epsilon(1e-5));
    CHECK(at(r, "ball.p", 4) == doctest::Approx(120 * kBar).epsilon(1e-4));  // rises by 20 bar/s, and lags a little
    CHECK(at(r, "ball.p", 6) == doctest::Approx(160 * kBar).epsilon(1e-4));
    CHECK(at(r, "ball.share_a", 3) == doctest::Approx(0.5));
}

TEST_CASE("the edges of a directional valve have their own sizes")
{
    Recording r = mobile(
        "part high, low, side_a, side_b : Reservoir(oil = oil)\n 200 bar -> high.pressure ; 5 bar -> low.pressure ; 120 bar -> side_a.pressure ; 40 bar -> "
        "side_b.pressure\n"
        "part valve : DirectionalValve(flow_supply_a = 90 L/min, flow_supply_b = 70 L/min, flow_a_tank = 45 L/min, flow_b_tank = 160 L/min, rated_dp = 5 bar, "
        "overlap = 0.1)\n"
        "high.outlet -- valve.supply ; low.outlet -- valve.tank ; side_a.outlet -- valve.a ; side_b.outlet -- valve.b\n (if time < 1 s then 0.55 else -0.775) "
        "-> "
        "valve.command\n init valve.spool = 0",
        2, 0.25);
    auto flow = [](double rated, double opening, double p1, double p2) { return edge(rated, 5, opening + 1e-4, p1 * kBar, p2 * kBar); };
    CHECK(at(r, "valve.supply_a.inlet.m", 0.99) == doctest::Approx(flow(90, 0.5, 200, 120)).epsilon(1e-6));
    CHECK(at(r, "valve.b_tank.inlet.m", 0.99) == doctest::Approx(flow(160, 0.5, 40, 5)).epsilon(1e-6));
    CHECK(at(r, "valve.supply_b.inlet.m", 0.99) == doctest::Approx(flow(70, 0, 200, 40)).epsilon(1e-6));
    CHECK(r["valve.supply_b.inlet.m"].final() == doctest::Approx(flow(70, 0.75, 200, 40)).epsilon(1e-6));
    CHECK(r["valve.a_tank.inlet.m"].final() == doctest::Approx(flow(45, 0.75, 120, 5)).epsilon(1e-6));
    // after the command changed its sign the spool followed with 30 ms
    double t = 0.25, spool = -0.775 + (0.55 + 0.775) * std::exp(-t / 0.03);
    CHECK(at(r, "valve.spool", 1.25) == doctest::Approx(spool).epsilon(1e-6));
}

TEST_CASE("an open centre lets the pump idle, builds up pressure as it closes, and its check valve holds the load")
{
    Recording r = mobile(
        "part pump : FlowSource(flow = 100 L/min) ; part line : Volume(volume = 0.5 L) ; part tank : Tank(oil = oil, pressure = 1 bar) ; part onward : "
        "Tank(pressure = 1 bar)\n"
        "part user_a, user_b : Reservoir(oil = oil) ; 60 bar -> user_a.pressure ; 1 bar -> user_b.pressure\n"
        "part valve : OpenCentreValve(flow_supply_a = 100 L/min, flow_centre = 120 L/min, closed_at = 0.6, overlap = 0.05, leakage = 0)\n"
        "pump.outlet -- line.a -- valve.supply ; valve.tank -- tank.outlet ; valve.onward -- onward.outlet\n user_a.outlet -- valve.a ; user_b.outlet -- "
        "valve.b\n"
        "(if time < 1 s then 0 else if time < 2 s then 0.3 else 1) -> valve.command\n init valve.spool = 0 ; init line.p = 2 bar ; init valve.space.p = 30 bar",
        3, 0.25);
    auto at_line = [](double p) { return 100 * kLitrePerMinute * test::oil_density(p); };
    double idle = zero_of([&](double p) { return edge(120, 5, 1, p, kBar) - at_line(p); }, kBar, 100 * kBar);
    CHECK(at(r, "line.p", 0.99) == doctest::Approx(idle).epsilon(1e-4));
    double half = zero_of([&](double p) { return edge(120, 5, 0.5, p, kBar) - at_line(p); }, kBar, 100 * kBar);
    CHECK(at(r, "line.p", 1.99) == doctest::Approx(half).epsilon(1e-4));
    CHECK(half < 60 * kBar);
    CHECK(std::abs(at(r, "valve.supply_a.inlet.m", 1.99)) < 1e-4);  // nothing comes back from the load but through the closed check valve's gap
    double full = -r["valve.supply_a.outlet.m"].final();
    CHECK(full == doctest::Approx(at_line(r["line.p"].final())).epsilon(1e-5));
    CHECK(full == doctest::Approx(edge(100, 5, 1, r["valve.space.p"].final(), 60 * kBar)).epsilon(1e-6));
}

TEST_CASE("a load-sensing section gives the flow that its command asks for, and reports its load")
{
    for (double load : {30.0, 130.0}) {
        Recording r =
            mobile("part high, low, side_a, side_b : Reservoir(oil = oil)\n 180 bar -> high.pressure ; 3 bar -> low.pressure ; " + std::to_string(load) +
                       " bar -> side_a.pressure ; 10 bar -> side_b.pressure\n part section : LoadSensingSection(flow_a = 80 L/min, flow_b = 50 L/min, margin = "
                       "8 bar, overlap "
                       "= 0.05)\n high.outlet -- section.supply ; low.outlet -- section.tank ; side_a.outlet -- section.a ; side_b.outlet -- section.b\n part "
                       "feeler : "
                       "CounterbalanceValve ; part v1, v2 : Volume ; v1.a -- feeler.inlet ; feeler.outlet -- v2.a ; section.load -- feeler.pilot\n "
                       "(if time < 1 s "
                       "then 0.525 else 0) -> section.command\n init section.spool = 0 ; init section.tap.p = 3 bar ; init section.space.p = 3 bar ; init "
                       "section.compensator.opening = 1 ; init v1.p = 1 bar ; init v2.p = 1 bar",
                   2, 0.1);
        CHECK(at(r, "section.load_p", 0.95) == doctest::Approx(load * kBar).epsilon(2e-3));
        // half of the rated flow, but for what the compensator's band and the tap's leak to the tank change
        CHECK(at(r, "section.supply_a.q", 0.95) == doctest::Approx(40 * kLitrePerMinute).epsilon(0.08));
        double over = at(r, "section.space.p", 0.95) - load * kBar;
        CHECK(at(r, "section.supply_a.inlet.m", 0.95) == doctest::Approx(edge(80, 8, 0.5 + 1e-4, load * kBar + over, load * kBar)).epsilon(1e-5));
        CHECK(r["section.load_p"].final() == doctest::Approx(3 * kBar).epsilon(1e-2));  // in the middle: the tank's
    }
}

TEST_CASE("a hose's wall damps its first wave as stated, and the higher ones more")
{
    // one stretch between two half contents, closed at both ends: s^2 + 4 M(s) / (rho L^2) = 0 with 1/M = 1/K + 1/(E (1 + s tau))
    double length = 3, rho = test::oil_density(100 * kBar), K = 1.4e9, E = 6e8, M0 = 1 / (1 / K + 1 / E);
    double tau = 2 * 0.05 / (0.5 * kTurn / length * std::sqrt(M0 / 870)) * E / M0;
    std::complex<double> s(-1, 2 / length * std::sqrt(M0 / rho));
    auto f = [&](std::complex<double> x) { return x * x * (1.0 / K + 1.0 / (E * (1.0 + x * tau))) + 4.0 / (rho * length * length); };
    for (int k = 0; k < 50; ++k) s -= f(s) / ((f(s + 1e-3) - f(s - 1e-3)) / 2e-3);
    Recording r = mobile(
        "part hose : Hose(n = 1, length = 3 m, diameter = 60 mm, roughness = 0 mm) ; part end_a, end_b : CheckValve(leakage = 0 L/min/bar, cracking = 900 bar) "
        "; part t : Tank(oil = "
        "oil)\n hose.a -- end_a.inlet ; hose.b -- end_b.inlet ; t.outlet -- end_a.outlet -- end_b.outlet\n init hose.section[1].p = 102 bar ; init "
        "hose.section[2].p = 98 bar ; "
        "init hose.stretch[1].m = 0 kg/s ; init hose.growth[1] = 0.01665 ; init hose.growth[2] = 0.01633 \n let d : bar = hose.section[1].p - "
        "hose.section[2].p",
        0.06, 1e-5);
    // two zeros of d a period apart, and the peaks one period apart
    std::vector<double> zeros, peaks;
    double step = 1e-5;
    for (int k = 60; k < 5900; ++k) {
        double a = at(r, "d", (k - 1) * step), b = at(r, "d", k * step), c = at(r, "d", (k + 1) * step);
        if (a <= 0 && b > 0) zeros.push_back((k - 1 + a / (a - b)) * step);
        if (b > a && b >= c && b > 0) peaks.push_back(b);
    }
    REQUIRE(zeros.size() >= 3);
    REQUIRE(peaks.size() >= 3);
    CHECK(kTurn / (zeros[2] - zeros[1]) == doctest::Approx(s.imag()).epsilon(0.01));
    double decay = std::log(peaks[0] / peaks[2]) / (2 * kTurn / s.imag());
    CHECK(decay == doctest::Approx(-s.real()).epsilon(0.06));  // wall friction adds a little
    // the same, fine: close to the share that is asked for
    CHECK(-s.real() / std::abs(s) == doctest::Approx(0.05 * 2 / (0.5 * kTurn)).epsilon(0.05));
}

TEST_CASE("a swivel's channel: rated loss upwards, and its gap to the drain")
{
    Recording r = mobile(
        "part below, above, case : Reservoir(oil = oil) ; 150 bar -> below.pressure ; 148 bar -> above.pressure ; 1 bar -> case.pressure\n part channel : "
        "Swivel(rated_flow = 120 "
        "L/min, rated_dp = 2 bar, leakage = 1e-3 L/min/bar)\n below.outlet -- channel.lower ; above.outlet -- channel.upper ; case.outlet -- channel.drain",
        1);
    CHECK(r["channel.way.inlet.m"].final() == doctest::Approx(edge(120, 2, 1, 150 * kBar, 148 * kBar)).epsilon(1e-9));
    CHECK(r["channel.gap.q"].final() == doctest::Approx(149e-3 * kLitrePerMinute).epsilon(1e-9));
}

TEST_CASE("damped relief and counterbalance valves open with their lag")
{
    Recording r = mobile(
        "part high, low, pilot : Reservoir(oil = oil) ; (if time < 0.1 s then 100 bar else 190 bar) -> high.pressure ; 1 bar -> low.pressure ; (if time < 0.1 "
        "s then 1 bar else 31 "
        "bar) -> pilot.pressure\n part relief : ReliefValve(cracking = 160 bar, override = 15 bar, rated_flow = 200 L/min, damped = true, time_constant = 20 "
        "ms)\n part hold : "
        "CounterbalanceValve(setting = 180 bar, ratio = 3, band = 100 bar, damped = true, time_constant = 50 ms)\n high.outlet -- relief.inlet -- hold.outlet "
        "; relief.outlet -- "
        "low.outlet -- hold.inlet ; pilot.outlet -- hold.pilot\n init relief.lift = 0 bar ; init hold.lift = 0",
        0.2, 0.01);
    double t = 0.05, lift = 29 * kBar * (1 - std::exp(-t / 0.02));
    CHECK(at(r, "relief.lift", 0.15) == doctest::Approx(lift).epsilon(1e-6));
    double q = 200 * kLitrePerMinute * lift / (15 * kBar) * test::signed_sqrt(189 * kBar, 0.1 * kBar) / std::sqrt(160 * kBar) +
               1e-5 * kLitrePerMinute / kBar * 189 * kBar;
    CHECK(at(r, "relief.q", 0.15) == doctest::Approx(q).epsilon(1e-6));
    double opened = clamped((189.0 + 3 * 30 - 180) / 100) * (1 - std::exp(-t / 0.05));
    CHECK(at(r, "hold.lift", 0.15) == doctest::Approx(opened).epsilon(1e-6));
}

TEST_CASE("a torque limit turns a load-sensing pump back before the engine stalls")
{
    auto pump = [](const std::string& limit) {
        return mobile("part drive : SpeedSource(speed = 1500 rpm) ; part pump : LoadSensingPump(displacement = 60 cm^3/rev, margin = 20 bar, limit = 300 bar" +
                          limit +
                          ")\n part tank : Tank(oil = oil, pressure = 1 bar) ; part line : Volume(volume = 1 L) ; part way : Orifice(diameter = 5.5 mm) ; part "
                          "user : Tank(pressure = 150 "
                          "bar)\n drive.shaft -- pump.shaft ; tank.outlet -- pump.inlet ; pump.outlet -- line.a -- way.inlet ; way.outlet -- user.outlet "
                          "-- pump.pilot\n init line.p = "
                          "150 bar ; init pump.share = 0.5",
                      10);
    };
    Recording free = pump(""), held = pump(", torque_limited = true, torque_limit = 100 N*m");
    auto pressed = [](Recording& r) { return r["pump.present"].final() * r["pump.dp"].final(); };  // N*m
    CHECK(free["line.p"].final() == doctest::Approx(170 * kBar).epsilon(1e-6));
    CHECK(pressed(free) > 110);
    CHECK(pressed(held) == doctest::Approx(100).epsilon(1e-6));
    CHECK(held["line.p"].final() < 170 * kBar);
}

TEST_CASE("a cylinder's seals rub by preload and pressure, and its ends hold it")
{
    Recording r = mobile(
        "part high, low : Reservoir(oil = oil) ; 121 bar -> high.pressure ; 1 bar -> low.pressure\n part ram : Cylinder(bore = 80 mm, rod_diameter = 45 mm, "
        "stroke = 0.5 m, seals = "
        "true, stops = true, preload = 300 N, rubbing = 0.03, slow = 2 mm/s, damping = 1000 N*s/m, stop_stiffness = 2e7 N/m)\n part load : Mass(mass = 500 kg) "
        "; part drag : "
        "Damper(damping = 2e5 N*s/m) ; part wall : Anchor\n high.outlet -- ram.head ; low.outlet -- ram.rod_side ; ram.rod -- load.point -- drag.b ; drag.a -- "
        "wall.point\n init load.x = "
        "0.1 m ; init load.v = 0 m/s",
        10, 0.01);
    double area = kTurn / 8 * 0.08 * 0.08, ring = kTurn / 8 * (0.08 * 0.08 - 0.045 * 0.045);
    double push = (121 - 1.013) * kBar * area - (1 - 1.013) * kBar * ring, pressed = 300 + 0.03 * area * 120 * kBar;
    double v = zero_of([&](double x) { return 2.01e5 * x + pressed * x / std::sqrt(x * x + 4e-6) - push; }, 0, 10);
    CHECK(at(r, "load.v", 0.1) == doctest::Approx(v).epsilon(1e-5));
    CHECK(at(r, "ram.seal_friction", 0.1) == doctest::Approx(pressed * v / std::sqrt(v * v + 4e-6)).epsilon(1e-5));
    CHECK(r["ram.x"].final() == doctest::Approx(0.5 + push / 2e7).epsilon(1e-6));  // at the end, nothing moves and nothing rubs
}

TEST_CASE("a payload that changes: what is carried weighs and is accelerated")
{
    Recording r = mobile(
        "part wall : Foundation ; part hinge : Pivot ; part boom : Bar(length = 4 m, mass = 300 kg) ; part log : Payload ; part hold : TorqueSource\n "
        "wall.place -- hinge.a ; hinge.b "
        "-- boom.a ; boom.b -- log.point ; hinge.shaft -- hold.shaft\n (if time < 1 s then 100 kg else 250 kg) -> log.mass ; 12 kN*m -> hold.torque\n init "
        "boom.angle = 0 rad ; init "
        "hinge.shaft.angle' = 0 rad/s\n let gain : rad/s^2 = boom.angle''",
        1.5, 0.01);
    auto expected = [](double angle, double load) {
        double g = 9.80665, inertia = 300 * 16.0 / 3 + load * 16;
        return (12000 - (300 * g * 2 + load * g * 4) * std::cos(angle)) / inertia;
    };
    CHECK(at(r, "gain", 0.0) == doctest::Approx(expected(0, 100)).epsilon(1e-7));
    CHECK(at(r, "gain", 0.9) == doctest::Approx(expected(at(r, "boom.angle", 0.9), 100)).epsilon(1e-6));
    CHECK(at(r, "gain", 1.4) == doctest::Approx(expected(at(r, "boom.angle", 1.4), 250)).epsilon(1e-6));
}

TEST_CASE("a slewing body keeps its angular momentum as its reach changes, and rubs and leans by its texts")
{
    Recording r = mobile(
        "part upper : SlewingBody(friction = 0 N*m)\n 2e4 kg*m^2 + 1e4 kg*m^2 * smooth_step(time, 0 s, 2 s) -> upper.inertia ; 0 kg*m -> upper.overhang\n init "
        "upper.angle = 0 deg ; "
        "init upper.speed = 0.3 rad/s\n part leaning : SlewingBody(slope = 5 deg, friction = 400 N*m, damping = 100 N*m*s/rad)\n 1e4 kg*m^2 -> leaning.inertia "
        "; 3e3 kg*m -> "
        "leaning.overhang\n init leaning.angle = 30 deg ; init leaning.speed = 10 deg/s\n let gain : rad/s^2 = leaning.speed'",
        2);
    CHECK(r["upper.speed"].final() == doctest::Approx(0.2).epsilon(1e-8));
    double w = 10 * kTurn / 360, slow = 0.2 * kTurn / 360;
    double torque = -400 * w / std::sqrt(w * w + slow * slow) - 100 * w - 3e3 * 9.80665 * std::sin(5 * kTurn / 360) * std::sin(30 * kTurn / 360);
    CHECK(at(r, "gain", 0) == doctest::Approx(torque / 1e4).epsilon(1e-7));
}

TEST_CASE("a winch holds by its brake and lifts by torque over ratio and drum")
{
    Recording r = mobile(
        "part winch : Winch(ratio = 20, drum_radius = 200 mm, motor_inertia = 0.05 kg*m^2, drum_inertia = 4 kg*m^2, braking = 300 N*m) ; part motor : "
        "TorqueSource ; part load : "
        "Mass(mass = 2000 kg, slope = 90 deg)\n motor.shaft -- winch.shaft ; winch.rope -- load.point\n 250 N*m -> motor.torque ; (if time < 1 s then 0 else "
        "1) -> winch.release\n init "
        "load.x = 0 m ; init load.v = 0 m/s\n let gain : m/s^2 = load.v'",
        2, 0.1);
    CHECK(std::abs(at(r, "load.x", 0.95)) < 1e-9);
    double inertia = 0.05 + 4.0 / 400 + 2000 * 0.2 * 0.2 / 400, torque = 250 - 2000 * 9.80665 * 0.2 / 20;
    CHECK(r["gain"].final() == doctest::Approx(torque / inertia * 0.2 / 20).epsilon(1e-7));
    CHECK(r["load.v"].final() == doctest::Approx(torque / inertia * 0.2 / 20).epsilon(1e-6));
}

TEST_CASE("a thermostat's fan: idling cold, driven warm, and the cooler it blows through")
{
    Recording r = mobile(
        "part drive : SpeedSource(speed = 2000 rpm) ; part fan : ThermostatFan(opens = 45 degC, full = 15 K, lag = 5 s, coupling = 1 N*m*s/rad, idling = 0.05, "
        "rated_torque = 20 N*m, "
        "rated_speed = 2000 rpm, rated_conductance = 500 W/K, still = 0.05)\n drive.shaft -- fan.shaft\n (if time < 100 s then 30 degC else 54 degC) -> "
        "fan.temperature\n init fan.filling "
        "= 0 ; init fan.speed = 0 rpm",
        300, 1);
    double w = 2000 * kTurn / 60;
    auto speed = [&](double filling) { return zero_of([&](double x) { return 20 * x * x / (w * w) - (0.05 + 0.95 * filling) * (w - x); }, 0, w); };
    CHECK(at(r, "fan.speed", 99) == doctest::Approx(speed(0)).epsilon(1e-6));
    CHECK(r["fan.speed"].final() == doctest::Approx(speed(0.6)).epsilon(1e-6));
    CHECK(r["fan.conductance"].final() == doctest::Approx(500 * (0.05 + 0.95 * std::pow(speed(0.6) / w, 0.8))).epsilon(1e-6));
}

// SPDX-License-Identifier: Apache-2.0
// Planar mechanisms against motions derived by hand in independent coordinates, and against the balance of energy.
#include <doctest/doctest.h>

#include <array>
#include <cmath>
#include <functional>

#include "support/support.hpp"

using namespace netloop;

namespace {

constexpr double kPi = 3.14159265358979323846;
constexpr double kGravity = 9.80665;

Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-9)
{
    return test::simulate_parts("mechanics, hydraulics, fluids", body, stop, tolerance, every);
}

// Classical Runge-Kutta with a step that leaves its error far below what is compared.
template <std::size_t N>
std::array<double, N> integrate(std::array<double, N> y, double stop, int steps,
                                const std::function<std::array<double, N>(double, const std::array<double, N>&)>& f)
{
    double h = stop / steps;
    for (int s = 0; s < steps; ++s) {
        double t = s * h;
        auto at = [&](const std::array<double, N>& k, double w) {
            std::array<double, N> z = y;
            for (std::size_t i = 0; i < N; ++i) z[i] += w * k[i];
            return z;
        };
        auto k1 = f(t, y), k2 = f(t + h / 2, at(k1, h / 2)), k3 = f(t + h / 2, at(k2, h / 2)), k4 = f(t + h, at(k3, h));
        for (std::size_t i = 0; i < N; ++i) y[i] += h / 6 * (k1[i] + 2 * k2[i] + 2 * k3[i] + k4[i]);
    }
    return y;
}

// Angles of a chain of uniform bars from the right, with torques on the bars: M(q) q'' = Q, by Lagrange's equations.
// M_ij = L_i L_j c_ij cos(q_i - q_j), c_ii = m_i / 3 + masses beyond, c_ij = m_j / 2 + masses beyond j for j > i.
struct Chain {
    std::array<double, 3> length, mass;
    std::array<double, 6> rates(const std::array<double, 6>& y) const
    {
        double M[3][4];
        auto beyond = [&](int j) {
            double sum = 0;
            for (int k = j + 1; k < 3; ++k) sum += mass[static_cast<std::size_t>(k)];
            return sum;
        };
        for (int i = 0; i < 3; ++i) {
            double Li = length[static_cast<std::size_t>(i)], Q = 0;
            for (int j = 0; j < 3; ++j) {
                int outer = std::max(i, j);
                double c = (i == j ? mass[static_cast<std::size_t>(i)] / 3 : mass[static_cast<std::size_t>(outer)] / 2) + beyond(outer);
                double d = y[static_cast<std::size_t>(i)] - y[static_cast<std::size_t>(j)], Lj = length[static_cast<std::size_t>(j)],
                       w = y[static_cast<std::size_t>(3 + j)];
                M[i][j] = Li * Lj * c * std::cos(d);
                Q -= Li * Lj * c * std::sin(d) * w * w;
            }
            Q -= kGravity * Li * (mass[static_cast<std::size_t>(i)] / 2 + beyond(i)) * std::cos(y[static_cast<std::size_t>(i)]);
            M[i][3] = Q;
        }
        for (int p = 0; p < 3; ++p)
            for (int r = 0; r < 3; ++r) {
                if (r == p) continue;
                double f = M[r][p] / M[p][p];
                for (int c = 0; c < 4; ++c) M[r][c] -= f * M[p][c];
            }
        return {y[3], y[4], y[5], M[0][3] / M[0][0], M[1][3] / M[1][1], M[2][3] / M[2][2]};
    }
};

const std::string kThreeLinks =
    " part base : Foundation\n part p1, p2, p3 : Pivot\n part first : Bar(length = 2.8 m, mass = 270 kg)\n part middle : Bar(length = 1.9 m, mass = 150 kg)\n "
    "part "
    "tip : "
    "Bar(length = 0.85 m, mass = 70 kg)\n base.place -- p1.a ; p1.b -- first.a ; first.b -- p2.a ; p2.b -- middle.a ; middle.b -- p3.a ; p3.b -- tip.a\n let "
    "energy : J = "
    "first.energy + middle.energy + tip.energy\n init first.angle' = 0 rad/s ; init middle.angle' = 0 rad/s ; init tip.angle' = 0 rad/s\n";

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("three links fall as Lagrange's equations in their angles say")
{
    Chain chain{{2.8, 1.9, 0.85}, {270, 150, 70}};
    auto y = integrate<6>({0.7, -0.5, -1.2, 0, 0, 0}, 2, 40000, [&](double, const std::array<double, 6>& v) { return chain.rates(v); });
    Recording r = run(kThreeLinks + " init first.angle = 0.7 ; init middle.angle = -0.5 ; init tip.angle = -1.2", 2, 0, 1e-10);
    CHECK(r["first.body.angle"].final() == doctest::Approx(y[0]).epsilon(1e-6));
    CHECK(r["middle.body.angle"].final() == doctest::Approx(y[1]).epsilon(1e-6));
    CHECK(r["tip.body.angle"].final() == doctest::Approx(y[2]).epsilon(1e-6));
    // what the pin at the ground carries: weight and acceleration of the whole, here at the start, from the accelerations of Lagrange's equations
    auto d = chain.rates({0.7, -0.5, -1.2, 0, 0, 0});
    double ax = 0, ay = 0, fx = 0, fy = 0;
    for (std::size_t i = 0; i < 3; ++i) {
        double q = std::array{0.7, -0.5, -1.2}[i], L = chain.length[i], m = chain.mass[i];
        fx += m * (ax - L / 2 * std::sin(q) * d[3 + i]);
        fy += m * (ay + L / 2 * std::cos(q) * d[3 + i] + kGravity);
        ax -= L * std::sin(q) * d[3 + i];
        ay += L * std::cos(q) * d[3 + i];
    }
    CHECK(r["p1.force"].first() == doctest::Approx(std::hypot(fx, fy)).epsilon(1e-8));
}

TEST_CASE("an arm of three links on three closed cylinders keeps its energy over a minute")
{
    // friction and leakage off, all ways closed: what the oil takes in compression it gives back
    Recording r =
        run("fluid oil = MineralOil(air = none)\n" + kThreeLinks +
                " part foot1 : Foundation(x = 0.55 m, y = -0.45 m)\n part on1 : Offset(along = -0.25 m, across = -0.18 m)\n part foot2 : Offset(along = "
                "0.1 m, across = 0.28 m)\n part "
                "on2 : Offset(along = -1.2 m, across = 0.22 m)\n part foot3 : Offset(along = -0.35 m, across = 0.27 m)\n part on3 : Offset(along = "
                "-0.45 m, across = 0.22 m)\n"
                " part ram1 : Strut(retracted = 0.9 m)\n part ram2 : Strut(retracted = 1 m)\n part ram3 : Strut(retracted = 0.5 m)\n"
                " first.body.centre -- on1.a -- foot2.a ; middle.body.centre -- on2.a -- foot3.a ; "
                "tip.body.centre -- on3.a\n"
                " foot1.place -- ram1.a ; on1.b -- ram1.b ; foot2.b -- ram2.a ; on2.b -- ram2.b ; foot3.b -- ram3.a ; "
                "on3.b -- ram3.b\n"
                " part c1, c2, c3 : Cylinder(oil = oil, bore = 100 mm, rod_diameter = 60 mm, stroke = 1.2 m, dead_volume = 20 L, leakage = 0 "
                "L/min/bar, damping = 0 N*s/m)\n"
                " ram1.rod -- c1.rod ; ram2.rod -- c2.rod ; ram3.rod -- c3.rod\n"
                " var work : J init 0 J\n work' = c1.push * c1.x' + c2.push * c2.x' + c3.push * c3.x'\n let sum : J = energy - work\n"
                " init first.angle = 0.6 ; init middle.angle = -0.4 ; init tip.angle = -1\n init c1.rod_side_p = 20 bar ; init c2.rod_side_p = 20 "
                "bar ; init c3.rod_side_p = 20 "
                "bar ; init c1.head_p = 100 bar ; init c2.head_p = 20 bar ; init c3.head_p = 20 bar",
            60, 0.1, 1e-9);
    double first = r["sum"].first(), largest = 0, moved = 0;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        largest = std::max(largest, std::abs(r["sum"].values[i] - first));
        moved = std::max(moved, std::abs(r["first.body.angle"].values[i] - 0.6));
    }
    CHECK(moved > 0.005);
    CHECK(largest < 1e-6 * std::abs(first));
}

TEST_CASE("a slider-crank closes by itself and follows its formula")
{
    double a = 0.2, b = 0.7, w = 12;
    Recording r =
        run("part base : Foundation\n part p1, p2, p3 : Pivot\n part crank : Bar(length = 0.2 m, mass = 1 kg, gravity = 0 m/s^2)\n part rod : Bar(length = 0.7 "
            "m, mass = 2 "
            "kg, gravity = 0 m/s^2)\n part guide : Slider\n part piston : Body(mass = 3 kg, gravity = 0 m/s^2)\n part drive : SpeedSource\n 12 rad/s -> "
            "drive.speed\n "
            "base.place -- p1.a -- guide.a ; p1.b -- crank.a ; crank.b -- p2.a ; p2.b -- rod.a ; rod.b -- p3.a ; p3.b -- piston.centre -- guide.b\n "
            "drive.shaft -- p1.shaft\n "
            "init drive.angle = 0.3 rad\n guess rod.body.angle = -0.1 ; guess guide.travel = 0.9 m",
            1, 0.01, 1e-9);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double q = 0.3 + w * r.time().values[i], s = std::sqrt(b * b - a * a * std::sin(q) * std::sin(q));
        CHECK(r["guide.travel"].values[i] == doctest::Approx(a * std::cos(q) + s).epsilon(1e-6));
    }
    // the side force of the guide and the pull of the rod balance the piston's inertia: m x'' = F_rod_x, F_guide = -F_rod_y
    std::size_t i = 37;
    double q = 0.3 + w * r.time().values[i], e = 1e-4;
    auto x = [&](double t) { return a * std::cos(q + w * t) + std::sqrt(b * b - a * a * std::pow(std::sin(q + w * t), 2)); };
    double acceleration = (x(e) - 2 * x(0) + x(-e)) / (e * e);
    CHECK(r["p3.b.fx"].values[i] == doctest::Approx(-3 * acceleration).epsilon(1e-4));
    CHECK(r["guide.b.torque"].values[i] == doctest::Approx(0).scale(1).epsilon(1e-7));
}

TEST_CASE("a four-bar closes by itself: Freudenstein's equation holds through whole turns")
{
    double g = 2, a = 0.6, b = 1.9, c = 1.2;
    Recording r =
        run("part base : Foundation\n part far : Foundation(x = 2 m)\n part p1, p2, p3, p4 : Pivot\n part crank : Bar(length = 0.6 m, mass = 5 kg)\n part "
            "coupler : "
            "Bar(length = 1.9 m, mass = 4 kg)\n part rocker : Bar(length = 1.2 m, mass = 3 kg)\n base.place -- p1.a ; p1.b -- crank.a ; crank.b -- p2.a ; p2.b "
            "-- coupler.a ; "
            "coupler.b -- p3.a ; p3.b -- rocker.b ; rocker.a -- p4.a ; p4.b -- far.place\n init crank.angle = 60 deg ; init crank.angle' = 9 rad/s\n guess "
            "coupler.body.angle = "
            "25 deg ; guess rocker.body.angle = 100 deg\n let energy : J = crank.energy + coupler.energy + rocker.energy",
            4, 0.02, 1e-9);
    double K1 = g / a, K2 = g / c, K3 = (a * a - b * b + c * c + g * g) / (2 * a * c);
    double turned = 0;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double p = r["crank.body.angle"].values[i], s = r["rocker.body.angle"].values[i];
        CHECK(std::abs(K1 * std::cos(s) - K2 * std::cos(p) + K3 - std::cos(p - s)) < 1e-6);
        CHECK(r["energy"].values[i] == doctest::Approx(r["energy"].first()).epsilon(1e-6));
        turned = p - r["crank.body.angle"].values[0];
    }
    CHECK(std::abs(turned) > 2 * kPi);
}

TEST_CASE("what drives a Strut pushes its points apart, what drives a Slider moves it on, what drives a Pivot turns b against a")
{
    const std::string still = " init b.x' = 0 m/s ; init b.y' = 0 m/s ; init b.angle' = 0 rad/s\n";
    Recording strut =
        run("part f : Foundation\n part s : Strut(retracted = 0.5 m)\n part b : Body(mass = 2 kg, gravity = 0 m/s^2)\n part p : ForceSource(force = 10 N)\n "
            "f.place -- s.a ; s.b -- "
            "b.centre ; p.point -- s.rod\n init b.x = 0.6 m ; init b.y = 0.8 m ; init b.angle = 0 rad\n" +
                still,
            0.5);
    double way = 0.5 * 10 / 2 * 0.25;
    CHECK(strut["b.x"].final() == doctest::Approx(0.6 + 0.6 * way).epsilon(1e-8));
    CHECK(strut["b.y"].final() == doctest::Approx(0.8 + 0.8 * way).epsilon(1e-8));
    CHECK(strut["s.rod.x"].final() == doctest::Approx(0.5 + way).epsilon(1e-8));
    Recording slider =
        run("part f : Foundation(angle = 30 deg)\n part s : Slider\n part b : Body(mass = 2 kg)\n part p : ForceSource(force = 10 N)\n f.place -- s.a ; s.b -- "
            "b.centre ; p.point -- "
            "s.rod\n init s.travel = 0 m ; init s.travel' = 0 m/s",
            0.5);
    CHECK(slider["s.travel"].final() == doctest::Approx(0.5 * (10 / 2.0 - kGravity * 0.5) * 0.25).epsilon(1e-8));
    CHECK(slider["s.side_force"].final() == doctest::Approx(2 * kGravity * std::cos(kPi / 6)).epsilon(1e-8));
    Recording pivot =
        run("part f : Foundation\n part s : Pivot\n part b : Body(mass = 2 kg, inertia = 0.4 kg*m^2)\n part t : TorqueSource(torque = 3 N*m)\n f.place -- s.a "
            "; s.b -- b.centre ; "
            "t.shaft -- s.shaft\n init b.angle = 0 rad ; init b.angle' = 0 rad/s",
            0.5);
    CHECK(pivot["b.angle"].final() == doctest::Approx(0.5 * 3 / 0.4 * 0.25).epsilon(1e-8));
    CHECK(pivot["s.force"].final() == doctest::Approx(2 * kGravity).epsilon(1e-8));
}

TEST_CASE("SpringStrut: a body between two springs across its way swings as the exact law of their lengths says")
{
    // x'' = -2 k / m (1 - L0 / sqrt(x^2 + h^2)) x
    double k = 800, m = 4, L0 = 0.3, h = 0.5;
    auto y = integrate<2>({0.2, 0}, 1.5, 20000, [&](double, const std::array<double, 2>& v) {
        return std::array<double, 2>{v[1], -2 * k / m * (1 - L0 / std::sqrt(v[0] * v[0] + h * h)) * v[0]};
    });
    Recording r =
        run("part up : Foundation(y = 0.5 m)\n part down : Foundation(y = -0.5 m)\n part s1, s2 : SpringStrut(stiffness = 800 N/m, free_length = 0.3 m)\n part "
            "b : Body(mass = 4 "
            "kg, gravity = 0 m/s^2)\n up.place -- s1.a ; s1.b -- b.centre -- s2.b ; s2.a -- down.place\n init b.x = 0.2 m ; init b.y = 0 m ; init b.angle = 0 "
            "rad ; init b.x' = 0 "
            "m/s ; init b.y' = 0 m/s ; init b.angle' = 0 rad/s",
            1.5);
    CHECK(r["b.x"].final() == doctest::Approx(y[0]).epsilon(1e-6));
    CHECK(r["b.y"].final() == doctest::Approx(0).scale(0.1).epsilon(1e-6));
}

TEST_CASE("PointForce turns a body about its centre and, with the body, turns with it")
{
    Recording r =
        run("part b : Body(mass = 2 kg, inertia = 0.5 kg*m^2)\n part arm : Offset(along = 0.5 m)\n part f : PointForce(fx = 3 N, fy = 4 N)\n part g : "
            "PointForce(with_body = true, fy "
            "= 10 N)\n b.centre -- arm.a -- f.point\n arm.b -- g.point\n init b.x = 0 m ; init b.y = 0 m ; init b.angle = 0 rad ; init b.x' = "
            "0 m/s ; init b.y' = "
            "0 m/s ; init b.angle' = 0 rad/s",
            0.1);
    CHECK(r["b.angle"].final() == doctest::Approx(0.5 * 10 * 0.5 / 0.5 * 0.01).epsilon(1e-8));
    // x'' = (3 - 10 sin(5 t^2)) / 2
    double v = 0, x = 0;
    for (int i = 0; i < 100000; ++i) {
        double t = (i + 0.5) * 1e-6, acceleration = (3 - 10 * std::sin(5 * t * t)) / 2;
        v += acceleration * 1e-6;
        x += v * 1e-6;
    }
    CHECK(r["b.x"].final() == doctest::Approx(x).epsilon(1e-4));
}

TEST_CASE("GroundContact: a body rests at its weight over the stiffness, and slides by the law of friction")
{
    Recording r =
        run("part b : Body(mass = 50 kg, inertia = 2 kg*m^2)\n part left, right : GroundContact(stiffness = 2e5 N/m, friction = 0.4, dissipation = 5 s/m)\n "
            "part l : Offset(along = -0.5 m, across = -0.01 "
            "m)\n part r : Offset(along = 0.5 m, across = -0.01 m)\n b.centre -- l.a -- r.a ; l.b -- left.point ; r.b -- "
            "right.point\n init b.x = 0 m "
            "; init b.y = 0.01 m ; init b.angle = 0 rad ; init b.x' = 4 m/s ; init b.y' = 0 m/s ; init b.angle' = 0 rad/s",
            6, 0, 1e-7);
    CHECK(r["left.normal"].final() + r["right.normal"].final() == doctest::Approx(50 * kGravity).epsilon(1e-3));
    double way = 4.0 * 4 / (2 * 0.4 * kGravity);
    CHECK(r["b.x"].final() == doctest::Approx(way).epsilon(0.02));
    CHECK(std::abs(r["b.x'"].final()) < 1e-3);
}

TEST_SUITE_END();

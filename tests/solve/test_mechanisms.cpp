// SPDX-License-Identifier: Apache-2.0
// Closed linkages in the user's own coordinates against elliptic functions and hand-derived motion in one coordinate.
#include <doctest/doctest.h>

#include <array>
#include <cmath>
#include <numbers>

#include "support/support.hpp"

using netloop::Recording;

namespace {

constexpr double kG = 9.81;

netloop::Recording run_example(const std::string& file, double stop, double every)
{
    netloop::Library library = netloop::Library::standard();
    library.load_file(test::source_path("examples/mechanisms/" + file));
    netloop::Run run(netloop::compile(library));
    netloop::RunOptions options;
    options.stop = stop;
    options.output_every = every;
    options.tolerance = 1e-9;
    return run.simulate(options);
}

// Motion in one coordinate: theta'' = acceleration(theta, theta', others), others' = rate * theta'. Classical Runge-Kutta.
template <std::size_t N, typename Rates>
std::array<double, N> integrate(std::array<double, N> y, double from, double to, Rates rates)
{
    auto n = static_cast<int>(std::ceil((to - from) / 2e-5));
    double h = n > 0 ? (to - from) / n : 0;
    auto shifted = [](std::array<double, N> a, const std::array<double, N>& d, double by) {
        for (std::size_t i = 0; i < N; ++i) a[i] += by * d[i];
        return a;
    };
    for (int k = 0; k < n; ++k) {
        auto k1 = rates(y), k2 = rates(shifted(y, k1, h / 2)), k3 = rates(shifted(y, k2, h / 2)), k4 = rates(shifted(y, k3, h));
        for (std::size_t i = 0; i < N; ++i) y[i] += h / 6 * (k1[i] + 2 * k2[i] + 2 * k3[i] + k4[i]);
    }
    return y;
}

struct Solved {
    double x, y;
};
Solved solve2(double a, double b, double c, double d, double e, double f)  // [a b; c d] (x, y) = (e, f)
{
    double det = a * d - b * c;
    return {(e * d - b * f) / det, (a * f - e * c) / det};
}

}  // namespace

TEST_CASE("a pendulum in x and y goes over the top as the elliptic integral says, and its rod keeps its length")
{
    netloop::Recording r = run_example("pendulum.loop", 20, 0.01);
    const auto &t = r.time().values, &x = r["pendulum.x"].values, &y = r["pendulum.y"].values, &f = r["pendulum.rod_force"].values;
    // turning round: t = 2/w F(theta/2, k), k^2 = 4 g / (l w^2)
    double w = 7, k = std::sqrt(4 * kG / (w * w)), turns = 0, before = 0, worst = 0, length = 0, force = 0;
    for (std::size_t i = 0; i < t.size(); ++i) {
        double theta = std::atan2(x[i], -y[i]);
        while (theta + turns < before - 1) turns += 2 * std::numbers::pi;
        before = theta + turns;
        worst = std::max(worst, std::abs(2 / w * std::ellint_1(k, before / 2) - t[i]));
        length = std::max(length, std::abs(std::hypot(x[i], y[i]) - 1));
        double speed2 = w * w - 2 * kG * (1 - std::cos(theta));
        force = std::max(force, std::abs(f[i] - (speed2 + kG * std::cos(theta))));
    }
    CHECK(before > 12 * 2 * std::numbers::pi);  // many times over the top
    CHECK(worst < 2e-5);
    CHECK(length < 1e-10);
    CHECK(force < 2e-3);
}

TEST_CASE("a pendulum that swings has the period of the complete elliptic integral")
{
    std::string text = test::read_file(test::source_path("examples/mechanisms/pendulum.loop"));
    text = text.substr(0, text.find("system OverTheTop")) +
           "system S { part a : Pendulum(push = 0, length = 2 m)\n init a.x = 2 m * sin(2.5 rad)\n guess a.y = 1.5 m }\n";
    double k = std::sin(1.25), period = 4 * std::sqrt(2 / kG) * std::comp_ellint_1(k);
    netloop::Recording r = test::simulate(text, 3 * period, 1e-9, 3 * period);
    CHECK(r["a.x"].values.back() == doctest::Approx(2 * std::sin(2.5)).epsilon(1e-5));
    CHECK(r["a.y"].values.back() == doctest::Approx(-2 * std::cos(2.5)).epsilon(1e-5));
    CHECK(r["a.y"].values.front() == doctest::Approx(-2 * std::cos(2.5)).epsilon(1e-9));
}

TEST_CASE("a pendulum may start from any of its quantities: an acceleration, a force, a speed; and at rest")
{
    std::string text = R"(
component Free {
    const g : m/s^2 = 9.81 m/s^2
    var x : m guess 0.3 m
    var y : m guess -1 m
    var pull : N/m
    1 kg * x'' = -pull * x
    1 kg * y'' = -pull * y - 1 kg * g
    x^2 + y^2 = 1 m^2
    let ax = x''
}
)";
    auto start = [&](const std::string& system) { return test::simulate(text + system, 0.1, 1e-9, 0.1); };
    // x'' = -g sin cos at rest
    Recording by_acceleration = start("system S { part p : Free() ; init p.x'' = -3 m/s^2 ; init p.x' = 0 }");
    CHECK(by_acceleration["p.ax"].first() == doctest::Approx(-3));
    CHECK(kG * by_acceleration["p.x"].first() * -by_acceleration["p.y"].first() == doctest::Approx(3));
    // pull = v^2 + g cos
    Recording by_force = start("system S { part p : Free() ; init p.pull = 20 N/m ; init p.x = 0.1 m }");
    double cosine = std::sqrt(0.99), speed2 = std::pow(by_force["p.x'"].first(), 2) + std::pow(by_force["p.y'"].first(), 2);
    CHECK(by_force["p.pull"].first() == doctest::Approx(20));
    CHECK(speed2 == doctest::Approx(20 - kG * cosine));
    Recording by_speed = start("system S { part p : Free() ; init p.y' = -0.2 m/s ; init p.x = 0.1 m }");
    CHECK(by_speed["p.x'"].first() == doctest::Approx(-0.2 * cosine / 0.1));
    Recording rest = start("system S { part p : Free() }\nscenario s of S { begin steady ; stop at 0.1 s }");
    CHECK(rest["p.y"].first() == doctest::Approx(-1));
    CHECK(rest["p.pull"].final() == doctest::Approx(kG));
}

TEST_CASE("many pendulums in one model choose their states one by one")
{
    std::string text = test::read_file(test::source_path("examples/mechanisms/pendulum.loop"));
    text = text.substr(0, text.find("system OverTheTop")) + "system S { option n = 30\n part p[i in 1 .. n] : Pendulum(push = (5 + i / 10) * 1 m/s) }\n";
    netloop::Recording all = test::simulate(text, 5, 1e-8, 0.05);
    for (int i : {1, 13, 30}) {
        CAPTURE(i);
        std::string one = text.substr(0, text.find("system S")) + "system S { part q : Pendulum(push = " + std::to_string(5 + i / 10.0) + " m/s) }\n";
        netloop::Recording alone = test::simulate(one, 5, 1e-8, 0.05);
        std::string path = "p[" + std::to_string(i) + "]";
        for (std::size_t k = 0; k < all.time().values.size(); ++k) {
            CHECK(all[path + ".x"].values[k] == doctest::Approx(alone["q.x"].values[k]).scale(1).epsilon(2e-4));
            double x = all[path + ".x"].values[k], y = all[path + ".y"].values[k];
            CHECK(std::abs(std::hypot(x, y) - 1) < 1e-8);
        }
    }
}

TEST_CASE("slider-crank: motion and pin forces are those of the one-coordinate equation")
{
    netloop::Recording r = run_example("slider_crank.loop", 1, 0.05);
    constexpr double r1 = 0.2, l = 0.6, m1 = 2, j1 = 0.01, m2 = 1, j2 = 0.03, ms = 3, torque = 5;
    struct Kinematics {
        double c, s, cp, sp, p1, p2, x1, x2, y1, y2, s1, s2;  // names: d/dtheta is 1, second is 2
    };
    auto kinematics = [&](double theta) {
        Kinematics k{};
        k.c = std::cos(theta), k.s = std::sin(theta);
        k.sp = -r1 * k.s / l, k.cp = std::sqrt(1 - k.sp * k.sp);
        k.p1 = -r1 * k.c / (l * k.cp);
        k.p2 = (r1 * k.s + l * k.sp * k.p1 * k.p1) / (l * k.cp);
        double bend_x = k.cp * k.p1 * k.p1 + k.sp * k.p2;
        k.x1 = -r1 * k.s - l / 2 * k.sp * k.p1, k.x2 = -r1 * k.c - l / 2 * bend_x;
        k.y1 = -l / 2 * k.cp * k.p1, k.y2 = -l / 2 * (k.cp * k.p2 - k.sp * k.p1 * k.p1);
        k.s1 = -r1 * k.s - l * k.sp * k.p1, k.s2 = -r1 * k.c - l * bend_x;
        return k;
    };
    auto acceleration = [&](double theta, double w) {
        Kinematics k = kinematics(theta);
        double inertia = j1 + m1 * r1 * r1 / 4 + m2 * (k.x1 * k.x1 + k.y1 * k.y1) + j2 * k.p1 * k.p1 + ms * k.s1 * k.s1;
        double half_slope = m2 * (k.x1 * k.x2 + k.y1 * k.y2) + j2 * k.p1 * k.p2 + ms * k.s1 * k.s2;
        return (torque - m1 * kG * r1 / 2 * k.c - m2 * kG * k.y1 - half_slope * w * w) / inertia;
    };
    std::array<double, 2> y{0.5, 0};
    for (std::size_t i = 0; i < r.time().values.size(); ++i) {
        if (i > 0)
            y = integrate(y, r.time().values[i - 1], r.time().values[i], [&](const auto& v) { return std::array<double, 2>{v[1], acceleration(v[0], v[1])}; });
        CAPTURE(r.time().values[i]);
        double w = y[1], a = acceleration(y[0], w);
        Kinematics k = kinematics(y[0]);
        CHECK(r["crank.phi"].values[i] == doctest::Approx(y[0]).epsilon(1e-6));
        CHECK(r["slider"].values[i] == doctest::Approx(r1 * k.c + l * k.cp).epsilon(1e-6));
        double bx = -ms * (k.s1 * a + k.s2 * w * w), ax = m2 * (k.x1 * a + k.x2 * w * w) - bx;
        double lift = m2 * (k.y1 * a + k.y2 * w * w + kG), turn = j2 * (k.p1 * a + k.p2 * w * w);
        double ay = (lift - (2 * turn / l - k.sp * (ax - bx)) / k.cp) / 2;
        double size = 10 + w * w;  // forces grow with the square of the speed
        CHECK(std::abs(r["rod.bx"].values[i] - bx) < 2e-5 * size);
        CHECK(std::abs(r["rod.ax"].values[i] - ax) < 2e-5 * size);
        CHECK(std::abs(r["rod.ay"].values[i] - ay) < 2e-5 * size);
        CHECK(std::abs(r["guide"].values[i] - (lift - ay + ms * kG)) < 2e-5 * size);
    }
    CHECK(y[0] > 2 * std::numbers::pi);
}

TEST_CASE("four-bar linkage: motion and pin forces are those of the one-coordinate equation")
{
    netloop::Recording r = run_example("four_bar.loop", 2, 0.05);
    constexpr double r1 = 0.2, l = 0.7, q = 0.5, d = 0.7, m1 = 1, j1 = 0.004, m2 = 2, j2 = 0.1, m3 = 1.5, j3 = 0.05;
    struct Kinematics {
        double c, s, p1, p2, q1, q2, x1, x2, y1, y2;
    };
    auto kinematics = [&](double theta, double phi, double psi) {
        Kinematics k{};
        k.c = std::cos(theta), k.s = std::sin(theta);
        double cp = std::cos(phi), sp = std::sin(phi), cq = std::cos(psi), sq = std::sin(psi);
        auto [p1, q1] = solve2(-l * sp, q * sq, l * cp, -q * cq, r1 * k.s, -r1 * k.c);
        k.p1 = p1, k.q1 = q1;
        auto [p2, q2] =
            solve2(-l * sp, q * sq, l * cp, -q * cq, r1 * k.c + l * cp * p1 * p1 - q * cq * q1 * q1, r1 * k.s + l * sp * p1 * p1 - q * sq * q1 * q1);
        k.p2 = p2, k.q2 = q2;
        k.x1 = -r1 * k.s - l / 2 * sp * p1, k.x2 = -r1 * k.c - l / 2 * (cp * p1 * p1 + sp * p2);
        k.y1 = r1 * k.c + l / 2 * cp * p1, k.y2 = -r1 * k.s + l / 2 * (cp * p2 - sp * p1 * p1);
        return k;
    };
    constexpr double j3_pin = j3 + m3 * q * q / 4;
    auto acceleration = [&](const std::array<double, 4>& v) {
        Kinematics k = kinematics(v[0], v[2], v[3]);
        double inertia = j1 + m1 * r1 * r1 / 4 + m2 * (k.x1 * k.x1 + k.y1 * k.y1) + j2 * k.p1 * k.p1 + j3_pin * k.q1 * k.q1;
        double half_slope = m2 * (k.x1 * k.x2 + k.y1 * k.y2) + j2 * k.p1 * k.p2 + j3_pin * k.q1 * k.q2;
        double weight = kG * (m1 * r1 / 2 * k.c + m2 * k.y1 + m3 * q / 2 * std::cos(v[3]) * k.q1);
        return (4 - 0.1 * v[1] - weight - half_slope * v[1] * v[1]) / inertia;
    };
    // the loop closes at the start: intersection of two circles about the crank's head and the fixed pin
    double ax0 = r1 * std::cos(1.0), ay0 = r1 * std::sin(1.0), dx = d - ax0, dy = -ay0, far = std::hypot(dx, dy);
    double phi0 = std::atan2(dy, dx) + std::acos((l * l + far * far - q * q) / (2 * l * far));
    double psi0 = std::atan2(ay0 + l * std::sin(phi0), ax0 + l * std::cos(phi0) - d);
    std::array<double, 4> y{1, 0, phi0, psi0};
    for (std::size_t i = 0; i < r.time().values.size(); ++i) {
        if (i > 0)
            y = integrate(y, r.time().values[i - 1], r.time().values[i], [&](const std::array<double, 4>& v) {
                Kinematics k = kinematics(v[0], v[2], v[3]);
                return std::array<double, 4>{v[1], acceleration(v), k.p1 * v[1], k.q1 * v[1]};
            });
        CAPTURE(r.time().values[i]);
        double w = y[1], a = acceleration(y), sp = std::sin(y[2]), cp = std::cos(y[2]), sq = std::sin(y[3]), cq = std::cos(y[3]);
        Kinematics k = kinematics(y[0], y[2], y[3]);
        CHECK(r["crank.phi"].values[i] == doctest::Approx(y[0]).epsilon(1e-6));
        CHECK(r["coupler.phi"].values[i] == doctest::Approx(y[2]).scale(1).epsilon(1e-6));
        CHECK(r["rocker.phi"].values[i] == doctest::Approx(y[3]).scale(1).epsilon(1e-6));
        double mx = m2 * (k.x1 * a + k.x2 * w * w), my = m2 * (k.y1 * a + k.y2 * w * w + kG);
        auto [bx, by] = solve2(2 * sp, -2 * cp, -q * sq, q * cq, 2 * j2 * (k.p1 * a + k.p2 * w * w) / l - sp * mx + cp * my,
                               j3_pin * (k.q1 * a + k.q2 * w * w) + m3 * kG * q / 2 * cq);
        double size = 10 + w * w;
        CHECK(std::abs(r["rocker.bx"].values[i] - bx) < 2e-5 * size);
        CHECK(std::abs(r["rocker.by"].values[i] - by) < 2e-5 * size);
        CHECK(std::abs(r["coupler.ax"].values[i] - (mx + bx)) < 2e-5 * size);
        CHECK(std::abs(r["coupler.ay"].values[i] - (my + by)) < 2e-5 * size);
    }
    CHECK(y[0] > 4 * std::numbers::pi);
}

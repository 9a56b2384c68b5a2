// SPDX-License-Identifier: Apache-2.0
// One linear system of differential equations, written in many ways: the result must not depend on how it was written.
#include <doctest/doctest.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <random>

#include "support/support.hpp"

using namespace netloop;

namespace {

constexpr std::size_t kSize = 4;
using Matrix = std::array<std::array<double, kSize>, kSize>;

// x' = A x + b sin(t), stable by a dominant diagonal
struct KnownSystem {
    Matrix a{};
    std::array<double, kSize> b{}, start{};
    explicit KnownSystem(std::mt19937& random)
    {
        std::uniform_real_distribution<double> number(-1, 1);
        for (std::size_t i = 0; i < kSize; ++i) {
            for (std::size_t j = 0; j < kSize; ++j) a[i][j] = number(random);
            a[i][i] = -3 - number(random);
            b[i] = number(random);
            start[i] = number(random);
        }
    }
    // the classical Runge-Kutta method with small steps
    std::array<double, kSize> solve(double stop) const
    {
        auto rate = [&](double t, const std::array<double, kSize>& x) {
            std::array<double, kSize> r{};
            for (std::size_t i = 0; i < kSize; ++i) {
                r[i] = b[i] * std::sin(t);
                for (std::size_t j = 0; j < kSize; ++j) r[i] += a[i][j] * x[j];
            }
            return r;
        };
        auto moved = [](std::array<double, kSize> x, const std::array<double, kSize>& d, double h) {
            for (std::size_t i = 0; i < kSize; ++i) x[i] += h * d[i];
            return x;
        };
        std::array<double, kSize> x = start;
        int n = 4000;
        double h = stop / n;
        for (int k = 0; k < n; ++k) {
            double t = k * h;
            auto k1 = rate(t, x), k2 = rate(t + h / 2, moved(x, k1, h / 2)), k3 = rate(t + h / 2, moved(x, k2, h / 2)), k4 = rate(t + h, moved(x, k3, h));
            for (std::size_t i = 0; i < kSize; ++i) x[i] += h / 6 * (k1[i] + 2 * k2[i] + 2 * k3[i] + k4[i]);
        }
        return x;
    }
};

std::string number(double v)
{
    char text[40];
    std::snprintf(text, sizeof text, "(%.17g)", v);
    return text;
}

// Writes the system with helper unknowns, sides exchanged, factors multiplied through, equations added, and all of it shuffled.
std::string written(const KnownSystem& known, std::mt19937& random)
{
    std::vector<std::string> lines;
    auto chance = [&](int n) { return random() % static_cast<unsigned>(n) == 0; };
    std::string declarations;
    for (std::size_t i = 0; i < kSize; ++i) {
        std::string x = "x" + std::to_string(i);
        declarations += "    var " + x + " : 1 init " + number(known.start[i]) + "\n";
        std::string right = number(known.b[i]) + " * sin(time / 1 s)";
        for (std::size_t j = 0; j < kSize; ++j) {
            std::string term = number(known.a[i][j]) + " * x" + std::to_string(j);
            if (chance(2)) {  // the term as an unknown of its own, perhaps through an alias with a sign
                std::string h = "h" + std::to_string(i) + std::to_string(j);
                declarations += "    var " + h + " : 1\n";
                if (chance(2)) {
                    declarations += "    var m" + h + " : 1\n";
                    lines.push_back("m" + h + " + " + h + " = 0");
                    lines.push_back(chance(2) ? "(-m" + h + ") = " + term : term + " + m" + h + " = 0");
                } else {
                    lines.push_back(chance(2) ? h + " = " + term : "3 * " + h + " - 3 * " + term + " = 0");
                }
                right += " + " + h;
            } else {
                right += " + " + term;
            }
        }
        std::string left = x + "' * 1 s";
        if (chance(3)) {  // the rate as an unknown
            declarations += "    var r" + std::to_string(i) + " : 1\n";
            lines.push_back("r" + std::to_string(i) + " = " + left);
            left = "r" + std::to_string(i);
        }
        if (chance(3)) {  // an implicit relation with the same solution: y^3 + y is monotone
            declarations += "    var y" + std::to_string(i) + " : 1\n";
            std::string y = "y" + std::to_string(i);
            lines.push_back(y + "^3 + " + y + " = (" + right + ")^3 + " + right);
            right = y;
        }
        lines.push_back(chance(2) ? left + " = " + right : right + " - " + left + " = 0");
    }
    std::shuffle(lines.begin(), lines.end(), random);
    std::string text = "system S {\n" + declarations;
    for (const std::string& line : lines) text += "    " + line + "\n";
    return text + "}\n";
}

}  // namespace

TEST_SUITE_BEGIN("compile");

TEST_CASE("two hundred ways of writing a known system give its known solution")
{
    for (unsigned seed = 1; seed <= 400; ++seed) {
        std::mt19937 random(seed);
        KnownSystem known(random);
        std::string text = written(known, random);
        INFO("seed " << seed << "\n" << text);
        Recording r = test::simulate(text, 3, 1e-8);
        auto expected = known.solve(3);
        for (std::size_t i = 0; i < kSize; ++i) CHECK(r["x" + std::to_string(i)].final() == doctest::Approx(expected[i]).epsilon(1e-5).scale(0.1));
    }
}

TEST_CASE("rigidly coupled chains give the rigid solution, whichever end is written first")
{
    // n masses joined by gears of ratio 2: J_total at the first shaft = sum J / 4^k
    for (int n = 2; n <= 6; ++n) {
        for (bool backwards : {false, true}) {
            std::vector<std::string> lines;
            double total = 0;
            for (int k = 0; k < n; ++k) {
                std::string id = std::to_string(k);
                lines.push_back("part j" + id + " : mechanics.Inertia(inertia = 1 kg*m^2)");
                total += std::pow(0.25, k);
                if (k + 1 == n) continue;
                lines.push_back("part g" + id + " : mechanics.Gear(ratio = 2)");
                lines.push_back("j" + id + ".shaft -- g" + id + ".a");
                lines.push_back("g" + id + ".b -- j" + std::to_string(k + 1) + ".shaft");
            }
            lines.push_back("part t : mechanics.TorqueSource(torque = 3 N*m)");
            lines.push_back("t.shaft -- j0.shaft");
            std::string last = "j" + std::to_string(backwards ? n - 1 : 0);
            lines.push_back("init " + last + ".angle = 0 rad");
            lines.push_back("init " + last + ".speed = 0 rad/s");
            if (backwards) std::reverse(lines.begin(), lines.end());
            std::string text = "system S {\n";
            for (const std::string& line : lines) text += "    " + line + "\n";
            text += "}\n";
            INFO(text);
            CompiledSystem system = test::compile(text);
            CHECK(system.n_states() == 2);
            Recording r = Run(system).simulate({.stop = 2.0, .tolerance = 1e-9});
            CHECK(r["j0.speed"].final() == doctest::Approx(3 / total * 2).epsilon(1e-7));
            CHECK(r["j" + std::to_string(n - 1) + ".speed"].final() == doctest::Approx(3 / total * 2 / std::pow(2, n - 1)).epsilon(1e-7));
        }
    }
}

TEST_CASE("acausal use: the same parts with what is given and what is asked for exchanged")
{
    // two orifices in series: given both pressures the flow is found; given the flow one pressure is found
    const std::string parts =
        "use hydraulics, fluids\nsystem S {\n fluid oil = MineralOil\n part a : Orifice(diameter = 2 mm)\n part b : Orifice(diameter = 3 mm)\n part t : "
        "Tank(oil = oil, pressure = 1 bar)\n a.outlet -- b.inlet\n b.outlet -- t.outlet\n var n init 0\n n' = 1\n guess a.outlet.p = 20 bar\n";
    Recording by_pressure = test::simulate(parts + " part s : Tank(pressure = 100 bar)\n s.outlet -- a.inlet\n}\n", 0.1);
    double m = by_pressure["a.inlet.m"].final(), middle = by_pressure["a.outlet.p"].final();
    CHECK(m > 0);
    // by hand: dp splits as the inverse square of the areas, but for the small change of density
    double share = 1 / std::pow(4.0, 2) / (1 / std::pow(4.0, 2) + 1 / std::pow(9.0, 2));
    CHECK(100e5 - middle == doctest::Approx(99e5 * share).epsilon(0.01));
    char flow[64];
    std::snprintf(flow, sizeof flow, "%.17g", m);
    Recording by_flow =
        test::simulate("domain given { shared x : 1 ; zero_sum y : 1 }\ncomponent Feed { port outlet : hydraulics.hydraulic(oil) ; outlet.m = -1 * " +
                           std::string(flow) + " kg/s }\n" + parts + " part s : Feed\n s.outlet -- a.inlet\n guess a.inlet.p = 50 bar\n}\n",
                       0.1);
    CHECK(by_flow["a.inlet.p"].final() == doctest::Approx(100e5).epsilon(1e-6));
    CHECK(by_flow["a.outlet.p"].final() == doctest::Approx(middle).epsilon(1e-6));
}

TEST_SUITE_END();

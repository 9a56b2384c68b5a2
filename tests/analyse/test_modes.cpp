// SPDX-License-Identifier: Apache-2.0
// Modes against formulas, and what params do to them against differences.
#include <doctest/doctest.h>

#include <cmath>
#include <numbers>

#include "api/internal.hpp"
#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("analyse");

namespace {

using Complex = std::complex<double>;

// A rod of n cells, both ends held at a temperature: eigenvalues -4 k / c sin^2(i pi / (2 (n + 1))).
nl::CompiledSystem rod(std::size_t n)
{
    return test::compile("system R { option n = " + std::to_string(n) +
                         " ; param k : W/K = 3 W/K ; param c : J/K = 2 J/K ; var T[n] : K ; for i in 1 .. n { init T[i] = 300 K }\n"
                         "  for i in 2 .. n - 1 { c * T[i]' = k * (T[i - 1] - 2 * T[i] + T[i + 1]) } ; c * T[1]' = k * (300 K - 2 * T[1] + T[2]) ; c * T[n]' = "
                         "k * (T[n - 1] - 2 * T[n] + 300 K) }");
}

double rod_value(std::size_t i, std::size_t n)
{
    double s = std::sin(static_cast<double>(i) * std::numbers::pi / (2.0 * static_cast<double>(n + 1)));
    return -4 * 1.5 * s * s;
}

}  // namespace

TEST_CASE("two masses between springs: frequencies, shapes and shares by hand")
{
    // equal masses and springs: w1 = sqrt(c/m), moving together; w2 = sqrt(3 c/m), against each other
    const std::string text =
        "component Car { var x : m init 0 m ; param m : kg = 2 kg ; param pull : N = 0 N }\n"
        "system T { part a : Car ; part b : Car ; param c : N/m = 50 N/m in 1 N/m .. 1e6 N/m ; param m : kg = 2 kg in 1 g .. 1 t\n"
        "  m * a.x'' = -c * a.x - c * (a.x - b.x) ; m * b.x'' = -c * b.x - c * (b.x - a.x) ; init a.x' = 0 m/s ; init b.x' = 0 m/s }";
    nl::CompiledSystem system = test::compile(text);
    nl::Run run(system);
    nl::Modes modes = run.modes();
    CHECK(modes.n_states == 4);
    REQUIRE(modes.modes.size() == 2);
    CHECK(modes.modes[0].root.frequency() == doctest::Approx(std::sqrt(75.0) / (2 * std::numbers::pi)));
    CHECK(modes.modes[1].root.frequency() == doctest::Approx(5 / (2 * std::numbers::pi)));
    for (const nl::Mode& m : modes.modes) {
        double sum = 0, of_parts = 0;
        for (const auto& s : m.states) {
            sum += s.share;
            CHECK(s.share == doctest::Approx(0.25));
        }
        for (const auto& p : m.parts) of_parts += p.share;
        CHECK(sum == doctest::Approx(1));
        CHECK(of_parts == doctest::Approx(1));
        REQUIRE(m.parts.size() == 2);
        CHECK(m.parts[0].share == doctest::Approx(0.5));
        // both swing alike, in phase or against each other
        double phase[2] = {0, 0}, amplitude[2] = {0, 0};
        for (const auto& s : m.states)
            for (int k = 0; k < 2; ++k)
                if (s.name == (k == 0 ? "a.x" : "b.x")) phase[k] = s.phase, amplitude[k] = s.amplitude;
        CHECK(amplitude[0] == doctest::Approx(amplitude[1]));
        double apart = std::abs(std::remainder(phase[0] - phase[1], 360));
        CHECK(apart == doctest::Approx(&m == &modes.modes[0] ? 180 : 0).scale(1e-6));
        // frequency ~ sqrt(c / m): one percent more of c is half a percent more of it, of m half a percent less
        REQUIRE(m.params.size() >= 2);
        for (const auto& p : m.params) {
            if (p.name == "c") CHECK(p.frequency == doctest::Approx(0.5));
            if (p.name == "m") CHECK(p.frequency == doctest::Approx(-0.5));
        }
    }
    CHECK(modes.text().find("a 50 %, b 50 %") != std::string::npos);
}

TEST_CASE("shares, frequencies and what moves them do not depend on the units of the model")
{
    auto text = [](const std::string& way, const std::string& speed) {
        return "system U { param c : N/m = 40 N/m ; param d : N*s/m = 3 N*s/m ; param c2 : N/m = 900 N/m ; var x : " + way + " init 0 " + way +
               " ; var y : " + way + " init 0 " + way +
               " ; (2 kg) * x'' = -c * x - d * x' - c2 * (x - y) ; (0.1 kg) * y'' = c2 * (x - y) - d * y' ; init x' = 0 " + speed + " ; init y' = 0 " + speed +
               " }";
    };
    nl::Run in_metres(test::compile(text("m", "m/s"))), in_microns(test::compile(text("um", "um/s")));
    nl::Modes a = in_metres.modes(), b = in_microns.modes();
    REQUIRE(a.modes.size() == b.modes.size());
    for (std::size_t k = 0; k < a.modes.size(); ++k) {
        CHECK(std::abs(a.modes[k].root.value - b.modes[k].root.value) < 1e-9 * std::abs(a.modes[k].root.value));
        for (std::size_t i = 0; i < a.modes[k].states.size(); ++i)
            CHECK(a.modes[k].states[i].share == doctest::Approx(b.modes[k].states[i].share).epsilon(1e-9));
        for (std::size_t i = 0; i < a.modes[k].params.size(); ++i)
            CHECK(a.modes[k].params[i].frequency == doctest::Approx(b.modes[k].params[i].frequency).epsilon(1e-6).scale(1e-6));
    }
}

TEST_CASE("a rod of cells: all modes of a short one, both ends of the spectrum of one with ten thousand")
{
    {
        nl::Run run(rod(50));
        nl::Modes m = run.modes();
        REQUIRE(m.modes.size() == 50);
        for (std::size_t k = 0; k < 50; ++k) CHECK(m.modes[k].root.value.real() == doctest::Approx(rod_value(50 - k, 50)).epsilon(1e-9));
    }
    const std::size_t n = 10000;
    nl::Run run(rod(n));
    nl::Modes m = run.modes({.count = 10, .sensitivities = false});
    REQUIRE(m.modes.size() == 20);
    for (std::size_t k = 0; k < 10; ++k) {
        CHECK(m.modes[k].root.value.real() == doctest::Approx(rod_value(n - k, n)).epsilon(1e-8));
        CHECK(m.modes[19 - k].root.value.real() == doctest::Approx(rod_value(k + 1, n)).epsilon(1e-7));
    }
    double sum = 0;
    for (const auto& s : m.modes[0].states) sum += s.share;
    CHECK(sum == doctest::Approx(1));
}

TEST_CASE("modes of a region: those nearest to a time constant or to a frequency, in the midst of a large spectrum")
{
    const std::size_t n = 2000;
    {
        nl::Run run(rod(n));
        const std::size_t middle = 1234;
        const double at = 0.5 * (rod_value(middle, n) + rod_value(middle + 1, n));
        nl::Modes m = run.modes({.count = 4, .near = {{at, 0}}, .sensitivities = false});
        REQUIRE(m.modes.size() == 4);
        for (std::size_t k = 0; k < 4; ++k) CHECK(m.modes[k].root.value.real() == doctest::Approx(rod_value(middle + 2 - k, n)).epsilon(1e-8));
    }
    // a chain of masses between springs, lightly damped: w_i = 2 sqrt(c/m) sin(i pi / (2 (n + 1))), damping d / (2 sqrt(c m)) times twice that sine
    const std::size_t masses = 700;
    nl::Run run(
        test::compile("system C { option n = 700 ; param m : kg = 0.5 kg ; param c : N/m = 800 N/m ; param d : N*s/m = 0.02 N*s/m ; var x[n] : m\n"
                      "for i in 1 .. n { init x[i] = 0 m ; init x[i]' = 0 m/s }\n"
                      "for i in 2 .. n - 1 { m * x[i]'' = c * (x[i - 1] - 2 * x[i] + x[i + 1]) + d * (x[i - 1]' - 2 * x[i]' + x[i + 1]') }\n"
                      "m * x[1]'' = c * (x[2] - 2 * x[1]) + d * (x[2]' - 2 * x[1]') ; m * x[n]'' = c * (x[n - 1] - 2 * x[n]) + d * (x[n - 1]' - 2 * "
                      "x[n]') }"));
    auto value = [&](std::size_t i) {
        double sine = std::sin(static_cast<double>(i) * std::numbers::pi / (2.0 * (masses + 1))), w = 2 * std::sqrt(800 / 0.5) * sine;
        double half = 0.5 * 4 * 0.02 / 0.5 * sine * sine;  // m s^2 + 4 d sin^2 s + 4 c sin^2 = 0
        return Complex(-half, std::sqrt(w * w - half * half));
    };
    const std::size_t wanted = 300;
    nl::Modes m = run.modes({.count = 3, .near = Complex(0, 0.5 * std::abs(value(wanted)) + 0.5 * std::abs(value(wanted + 1)) + 0.01), .sensitivities = false});
    CHECK(m.n_states == 2 * masses);
    REQUIRE(m.modes.size() == 3);
    std::vector<Complex> want{value(wanted + 2), value(wanted + 1), value(wanted)};
    for (std::size_t k = 0; k < 3; ++k) {
        CHECK(std::abs(m.modes[k].root.value - want[k]) < 1e-7 * std::abs(want[k]));
        double sum = 0;
        for (const auto& s : m.modes[k].states) sum += s.share;
        CHECK(sum == doctest::Approx(1));
        // of each place sin^2(j i pi / (n + 1)) / (n + 1), and as much of its speed: by left and right vectors
        const std::size_t i = wanted + 2 - k;
        for (const auto& s : m.modes[k].states) {
            if (s.name != "x[7]" && s.name != "x[350]") continue;
            double shape = std::sin((s.name == "x[7]" ? 7.0 : 350.0) * static_cast<double>(i) * std::numbers::pi / (masses + 1));
            CHECK(s.share == doctest::Approx(shape * shape / (masses + 1)).epsilon(1e-3));
        }
    }
    // of a small system they are picked from all
    nl::Run small(rod(20));
    nl::Modes few = small.modes({.count = 2, .near = {{rod_value(7, 20) + 1e-6, 0}}});
    REQUIRE(few.modes.size() == 2);
    CHECK((few.modes[0].root.value.real() == doctest::Approx(rod_value(7, 20)) || few.modes[1].root.value.real() == doctest::Approx(rod_value(7, 20))));
}

TEST_CASE("what params do to eigenvalues is what differences say, on shipped models at three times each")
{
    // the states are held and everything else follows: a param is moved while the run stands, and the modes are looked at again
    std::size_t looked = 0;
    for (const test::Shipped& shipped : test::shipped_models()) {
        CAPTURE(shipped.file);
        CAPTURE(shipped.scenario);
        nl::Library library = nl::Library::standard();
        library.load_file(test::source_path(shipped.file));
        nl::CompiledSystem system = nl::compile(library, {.scenario = shipped.scenario});
        if (!system.data().begin_from.empty() || !system.stop() || system.n_states() > 40) continue;
        nl::Run run(system);
        const double stop = std::min(*system.stop(), 3.0);
        for (double share : {0.17, 0.44, 0.93}) {
            CAPTURE(share);
            run.step_to(share * stop);
            nl::Modes modes = run.modes();
            std::size_t tried = 0;
            for (std::size_t k = 0; k < modes.modes.size() && tried < 6; ++k) {
                const nl::Mode& m = modes.modes[k];
                // of values that are nearly the same the order is not settled
                bool alone = true;
                for (std::size_t j = 0; j < modes.modes.size(); ++j)
                    alone = alone && (j == k || std::abs(modes.modes[j].root.value - m.root.value) > 0.05 * std::abs(m.root.value));
                if (!alone || m.params.empty() || m.root.value == 0.0) continue;
                const nl::Mode::Param& p = m.params[0];
                if (p.value == 0) continue;
                auto value_with = [&](double shift) -> Complex {
                    run.set(system.param(p.name), p.value * (1 + shift));
                    nl::Modes moved = run.modes({.sensitivities = false});
                    Complex nearest = 1e300;
                    for (const nl::Mode& other : moved.modes)
                        if (std::abs(other.root.value - m.root.value) < std::abs(nearest - m.root.value)) nearest = other.root.value;
                    return nearest;
                };
                const double h = 1e-5;
                Complex up, down, up2, down2;
                bool moved = true;
                try {
                    up = value_with(h), down = value_with(-h), up2 = value_with(h / 2), down2 = value_with(-h / 2);
                } catch (const nl::Error&) {
                    moved = false;  // beyond its range, or it would turn something
                }
                run.set(system.param(p.name), p.value);
                if (!moved) continue;
                Complex wide = (up - down) / (2 * h * p.value), narrow = (up2 - down2) / (h * p.value);
                double doubt = std::abs(wide - narrow), size = std::abs(m.root.value / p.value);
                if (doubt > 1e-3 * std::abs(narrow) + 1e-6 * size) continue;
                CAPTURE(p.name);
                CAPTURE(k);
                CHECK(std::abs(p.slope - narrow) <= 1e-3 * std::abs(narrow) + 3 * doubt + 1e-6 * size);
                ++tried, ++looked;
            }
        }
    }
    CHECK(looked > 100);
}

TEST_CASE("a system without states has no modes, and one that rests is told so")
{
    nl::Run none(test::compile("system E { var x : m ; x = 2 m }"));
    CHECK(none.modes().modes.empty());
    CHECK(none.modes().text().find("no states") != std::string::npos);
    nl::Run rests(test::compile("system F { var x : m init 0 m ; var v : m/s init 1 m/s ; x' = v ; (1 kg) * v' = 0 N }"));
    CHECK(rests.modes().text().find("(rests)") != std::string::npos);
    CHECK(rests.modes().json().find("\"modes\"") != std::string::npos);
}

TEST_SUITE_END();

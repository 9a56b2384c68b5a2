// SPDX-License-Identifier: Apache-2.0
// Sparse linear models against formulas, and against the tables of the same point.
#include <doctest/doctest.h>

#include <cmath>
#include <complex>
#include <numbers>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("analyse");

namespace {

using Complex = std::complex<double>;

nl::CompiledSystem compile(const std::string& text, const std::vector<std::string>& linear_inputs = {})
{
    nl::Library library = nl::Library::standard();
    library.load_text("model.loop", text);
    return nl::compile(library, {.no_scenario = true, .linear_inputs = linear_inputs});
}

// Of all pairs, over six decades, in SI and in the units of the declarations.
void check_against_tables(const std::string& text, const nl::LinearRequest& request, double at = 0)
{
    std::vector<std::string> signals = request.inputs;
    signals.insert(signals.end(), request.open.begin(), request.open.end());
    std::erase(signals, "tank.area");  // a param acts without preparation
    nl::Run run(compile(text, signals));
    run.step_to(at);
    nl::LinearModel tables = run.linear(request);
    nl::DescriptorModel sparse = run.descriptor_model(request);
    CHECK(sparse.n_states == tables.states.size());
    CHECK(sparse.time == tables.time);
    REQUIRE(sparse.inputs.size() == tables.inputs.size());
    REQUIRE(sparse.outputs.size() == tables.outputs.size());
    std::vector<double> hertz;
    for (double f = 1.3e-4; f < 200; f *= 5) hertz.push_back(f);
    for (bool shown : {false, true}) {
        if (shown) tables = tables.displayed(), sparse = sparse.displayed();
        for (std::size_t i = 0; i < tables.inputs.size(); ++i)
            for (std::size_t o = 0; o < tables.outputs.size(); ++o) {
                CHECK(sparse.outputs[o].name == tables.outputs[o].name);
                CHECK(sparse.outputs[o].unit == tables.outputs[o].unit);
                std::vector<Complex> want = tables.response(i, o, hertz), have = sparse.response(i, o, hertz);
                for (std::size_t k = 0; k < hertz.size(); ++k) {
                    CAPTURE(hertz[k]);
                    CAPTURE(want[k].real());
                    CAPTURE(have[k].real());
                    CHECK(std::abs(have[k] - want[k]) <= 1e-9 * std::abs(want[k]) + 1e-12);  // what does not answer is 0 up to rounding
                }
            }
    }
}

}  // namespace

TEST_CASE("a mass on spring and damper: 1 / (m s^2 + d s + c), as sparse matrices")
{
    nl::Run run(
        compile("system S { input force : N = 0 N ; param m : kg = 3 kg ; param d : N*s/m = 2 N*s/m ; param c : N/m = 5 N/m ; var x : mm init 0 mm\n"
                "  m * x'' = force - d * x' - c * x ; init x' = 0 m/s }"));
    nl::DescriptorModel m = run.descriptor_model({.inputs = {"force"}, .outputs = {"x"}});
    CHECK(m.n_states == 2);
    CHECK(m.a.rows == m.unknowns.size());
    CHECK(m.e.columns == m.unknowns.size());
    for (double f : {0.0, 0.01, 0.2, 3.0}) {
        Complex s(0, 2 * std::numbers::pi * f), want = 1.0 / (3.0 * s * s + 2.0 * s + 5.0);
        CHECK(std::abs(m.response(0, 0, {f})[0] - want) < 1e-12 * std::abs(want));
        CHECK(std::abs(m.displayed().response(0, 0, {f})[0] - 1000.0 * want) < 1e-9 * std::abs(want));
    }
    CHECK(m.text().find("steady gain 0.2") != std::string::npos);
    CHECK_THROWS_WITH_AS(m.response(0, 1, {1}), doctest::Contains("no input 0 with output 1"), nl::UsageError);
}

TEST_CASE("the same as tables say: loops cut at inputs and at outputs, and left closed; rates of inputs; params; outputs that are rates")
{
    const std::string loop =
        "component Valve { input command : 1 ; output flow : m^3/s ; param full : m^3/s = 0.02 m^3/s ; param t : s = 2 s ; t * flow' = full * command - flow ; "
        "init flow = 0 m^3/s }\n"
        "component Tank { input inflow : m^3/s ; output level : cm ; param area : m^2 = 0.5 m^2 ; area * level' = inflow ; init level = 1 m }\n"
        "component Pi { input wanted : m ; input found : m ; output out : 1 ; param gain : m^-1 = 4 m^-1 ; param ti : s = 15 s ; var i : 1 init 0 ; i' = gain "
        "* "
        "(wanted - found) / ti ; out = gain * (wanted - found) + i }\n"
        "system Filling { input wanted : m = 1 m ; part valve : Valve ; part tank : Tank ; part ctl : Pi ; wanted -> ctl.wanted ; ctl.out -> valve.command ; "
        "valve.flow -> tank.inflow ; tank.level -> ctl.found ; let climb : cm/s = tank.level' }";
    check_against_tables(loop, {.inputs = {"wanted"}, .outputs = {"tank.level", "climb"}});
    check_against_tables(loop, {.open = {"ctl.out"}});
    check_against_tables(loop, {.open = {"valve.command"}});
    check_against_tables(loop, {.inputs = {"tank.area"}, .outputs = {"tank.level"}, .open = {"ctl.found"}});
    check_against_tables(loop, {.inputs = {"valve.command", "wanted"}, .outputs = {"tank.level", "source of valve.command"}}, 3);
    check_against_tables(loop, {.inputs = {"valve.command", "tank.inflow"}, .outputs = {"tank.level", "ctl.out"}, .cut = false});
    // a motion that is given: f = m s^2 + d s + c, with no rate of the input left outside
    check_against_tables(
        "system I { input way : m = 0 m ; param m : kg = 3 kg ; param d : N*s/m = 4 N*s/m ; param c : N/m = 5 N/m ; var x : m ; var f : kN ; x = way ; f = m * "
        "x'' + d * x' + c * x }",
        {.inputs = {"way"}, .outputs = {"f"}});
    // states that are chosen: a pendulum in x and y
    check_against_tables(
        "system P { input push : N = 0 N ; param l : m = 1 m ; var x : m init 0.6 m ; var y : m guess -0.8 m ; var t : N ; (1 kg) * x'' = -t * x / l + push ; "
        "(1 kg) * y'' = -t * y / l - 9.81 N ; x^2 + y^2 = l^2 ; init x' = 0 m/s }",
        {.inputs = {"push"}, .outputs = {"x", "y", "t"}}, 0.3);
}

TEST_CASE("the bascule bridge: its sparse model answers as its tables do")
{
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    nl::Run run(nl::compile(library, {.linear_inputs = {"valve.command", "pid.out"}}));
    run.step_to(12);
    for (const nl::LinearRequest& request :
         {nl::LinearRequest{.inputs = {"valve.command"}, .outputs = {"leaf.angle", "motor.speed"}}, nl::LinearRequest{.open = {"pid.out"}}}) {
        nl::LinearModel tables = run.linear(request);
        nl::DescriptorModel sparse = run.descriptor_model(request);
        for (std::size_t o = 0; o < tables.outputs.size(); ++o)
            for (double f : {0.01, 0.3, 5.0, 80.0}) {
                Complex want = tables.response(0, o, {f})[0], have = sparse.response(0, o, {f})[0];
                CAPTURE(f);
                CHECK(std::abs(have - want) <= 1e-7 * std::abs(want));
            }
    }
}

TEST_CASE("a rod of ten thousand cells: the temperature inside over that of its end, by formula")
{
    // c s T_i = k (T_{i-1} - 2 T_i + T_{i+1}), T_{n+1} held: T_j / T_0 = sinh((n + 1 - j) q) / sinh((n + 1) q), cosh q = 1 + c s / (2 k)
    const std::size_t n = 10000, j = 40;
    nl::Run run(
        compile("system R { option n = 10000 ; input end : K = 300 K ; param k : W/K = 3 W/K ; param c : J/K = 2 J/K ; var T[n] : K\n"
                "for i in 1 .. n { init T[i] = 300 K } ; for i in 2 .. n - 1 { c * T[i]' = k * (T[i - 1] - 2 * T[i] + T[i + 1]) }\n"
                "c * T[1]' = k * (end - 2 * T[1] + T[2]) ; c * T[n]' = k * (T[n - 1] - 2 * T[n] + 300 K) ; let inside : K = T[40] }"));
    CHECK_THROWS_WITH_AS(run.linear({.inputs = {"end"}, .outputs = {"inside"}}), doctest::Contains("tables are made of at most 600"), nl::UsageError);
    nl::DescriptorModel m = run.descriptor_model({.inputs = {"end"}, .outputs = {"inside"}});
    CHECK(m.n_states == n);
    CHECK(run.n_states() == n);
    CHECK(m.e.value.size() == n);
    CHECK(m.a.value.size() == 3 * n - 2);
    for (double f : {1e-4, 1e-3, 1e-2, 0.1}) {
        Complex s(0, 2 * std::numbers::pi * f), q = std::acosh(1.0 + 2.0 * s / 6.0);
        // both as exponentials, which do not leave the range of numbers
        double left = static_cast<double>(n + 1 - j), all = static_cast<double>(n + 1);
        Complex want = std::exp(-(all - left) * q) * (1.0 - std::exp(-2.0 * left * q)) / (1.0 - std::exp(-2.0 * all * q));
        Complex have = m.response(0, 0, {f})[0];
        CAPTURE(f);
        CHECK(std::abs(have - want) < 1e-9 * std::abs(want));
    }
    CHECK(m.response(0, 0, {0})[0].real() == doctest::Approx(1 - 40.0 / 10001.0).epsilon(1e-9));
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Declared ranges: of all kinds of quantities, with ends that depend on params, and where between two rows they are left.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using doctest::Approx;

namespace {

// "" if the run goes through; else its error.
std::string error_of(const std::string& text, double stop, const std::vector<std::pair<std::string, std::string>>& set = {})
{
    try {
        netloop::Run run(test::compile(text, set));
        netloop::RunOptions options;
        options.stop = stop;
        options.tolerance = 1e-8;
        run.simulate(options);
    } catch (const netloop::RunError& e) {
        return e.what();
    }
    return "";
}

// The time in "at 0.5 s a declared range is left".
double time_in(const std::string& error)
{
    REQUIRE(error.rfind("at ", 0) == 0);
    CHECK(error.find("a declared range is left") != std::string::npos);
    return std::stod(error.substr(3));
}

}  // namespace

TEST_SUITE_BEGIN("integrate");

TEST_CASE("a range whose end is a param is kept, by the value that the param has in this run")
{
    const std::string text =
        "component C { param most : m = 1 m in 0 m .. 9 m ; var x : m init 0 m in 0 m .. most ; x' = 2 m/s }\n"
        "system S { part c : C }";
    CHECK(time_in(error_of(text, 3)) == Approx(0.5).epsilon(1e-6));
    CHECK(error_of(text, 3).find("'c.x' = 1 m, which must lie in 0 m .. 1 m") != std::string::npos);
    CHECK(time_in(error_of(text, 3, {{"c.most", "4 m"}})) == Approx(2).epsilon(1e-6));
    CHECK(error_of(text, 0.49).empty());
}

TEST_CASE("what follows from states is looked at after each step, not at rows alone; the moment is found within the step")
{
    // long steps: the state decays slowly, and the let goes below 0 on the way; rows are seconds apart
    const std::string text = "system S { var x init 1 ; x' = -0.01 s^-1 * x ; let y = x - 0.9 in 0 .. 1e9 }";
    CHECK(time_in(error_of(text, 5000)) == Approx(-100 * std::log(0.9)).epsilon(1e-5));
}

TEST_CASE("inputs, lets, memories and members of arrays have ranges, and so have opposites of what is integrated")
{
    CHECK(time_in(error_of("component C { input u : L in 1 L .. 5 L ; let twice = 2 * u }\nsystem S { var v : L init 2 L ; v' = 1 L/s ; part c : C(u = v) }",
                           9)) == Approx(3).epsilon(1e-6));
    CHECK(time_in(error_of("system S { var v : L init 2 L ; v' = 1 L/s ; let half : L = v / 2 in 0 L .. 2 L ## of the vessel\n}", 9)) ==
          Approx(2).epsilon(1e-6));
    CHECK(error_of("system S { memory n = 0 in 0 .. 3 ; every 1 s { n := n + 1 } }", 9).find("at 3 s a declared range is left: ") == 0);
    CHECK(time_in(error_of("system S { var T[3] init 1 in 0 .. 2 ; for i in 1 .. 3 { T[i]' = 0.1 s^-1 * i } }", 9)) == Approx(10.0 / 3).epsilon(1e-6));
    CHECK(time_in(error_of("system S { var v init 0 ; v' = 1 s^-1 ; var w in -2 .. 9 ; w = -v }", 9)) == Approx(2).epsilon(1e-6));
    CHECK(time_in(error_of("domain line { shared level : m in 0 m .. 5 m ## of the water\n zero_sum q : m^3/s }\n"
                           "component C { port a : line ; a.level' = -1 m/s }\nsystem S { part c : C ; init c.a.level = 2 m }",
                           9)) == Approx(2).epsilon(1e-6));
}

TEST_CASE("a start beyond a range of what follows from states is told before anything is integrated, with the text of what has the range")
{
    std::string error = error_of(
        "use hydraulics, fluids, mechanics\nsystem S { fluid oil = MineralOil() ; part t : Tank(oil = oil) ; part c : Cylinder(stroke = 0.3 m)\n"
        "t.outlet -- c.head -- c.rod_side ; part m : Mass(mass = 5 kg) ; c.rod -- m.point ; init m.x = 0.6 m }",
        1);
    CHECK(error.find("at 0 s a declared range is left") == 0);
    CHECK(error.find("c.rod_side_chamber.volume") != std::string::npos);
    CHECK(error.find("an end stop keeps it") != std::string::npos);
}

TEST_CASE("an init that the range of the quantity rules out is told as such, in the user's unit")
{
    std::string error = error_of(
        "use hydraulics, fluids\nsystem S { fluid oil = MineralOil() ; part t : Tank(oil = oil) ; part o : Orifice ; part v : Volume\n"
        "t.outlet -- o.inlet ; o.outlet -- v.a ; init v.p = -5 bar }",
        1);
    CHECK(error.find("init v.p = -5 bar cannot be met") != std::string::npos);
    CHECK(error.find("which must lie in 0 bar .. ") != std::string::npos);
}

TEST_CASE("verification looks at ranges with ends that are expressions")
{
    netloop::Run run(test::compile("system S { param end = 3 in 0 .. 9 ; var x init 0 in 0 .. end ; x' = 1 s^-1 ; let y = x^2 in 0 .. end^2 }"));
    netloop::RunOptions options;
    options.stop = 2;
    options.verify = true;
    run.simulate(options);
    CHECK(run.summary().verification.ranges == 2);
}

TEST_CASE("what is forbidden is so from the start on; other `when` blocks wait for their condition to become true")
{
    CHECK(error_of("system S { var v init 1 ; v' = 0 s^-1 ; when v < 2 { fail \"dry\" } }", 1).find("at 0 s: dry") == 0);
    CHECK(error_of("system S { var v init 1 ; v' = 0 s^-1 ; memory n = 0 ; when v < 2 { n := 1 ; fail \"dry\" } }", 1).empty());
}

TEST_SUITE_END();

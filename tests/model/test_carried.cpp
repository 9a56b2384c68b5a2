// SPDX-License-Identifier: Apache-2.0
// Fluids and what travels with them, as the flat model states it and as a small domain of one's own shows it.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

// A domain of conveyors: what lies on them (a colour) travels with the stream; always, or where the stuff asks for its grain.
const std::string kConveyors =
    "base fluid stuff { option grainy = false ; param shade : 1 = 0.5 ; let double_shade : 1 = 2 * shade ; function weight(x : 1) -> kg/m^3 { return 1000 "
    "kg/m^3 * (1 + x) } }\n"
    "fluid Sand : stuff { }\n"
    "domain conveyor { fluid kind : stuff\n carried colour : 1 along m usual 0.1\n carried grain : mm along m usual 1 mm if kind.grainy\n shared level : m\n "
    "zero_sum m : kg/s small 1e-4 kg/s }\n"
    "component Source { param rate : kg/s = 1 kg/s ; param colour : 1 = 1 ; param grain : mm = 3 mm ; port out : conveyor(kind) ; out.m = -rate ; "
    "leaving(out.colour) = colour ; if kind.grainy { leaving(out.grain) = grain } }\n"
    "component Pit { port in_port : conveyor(kind) ; in_port.level = 0 m ; leaving(in_port.colour) = kind.shade ; if kind.grainy { leaving(in_port.grain) = 0 "
    "mm } let got : kg/s = flow(in_port.colour) ; let seen : 1 = "
    "passing(in_port.colour) }\n"
    "component Belt { port a, b : conveyor(kind) ; a.m + b.m = 0 ; a.level - b.level = a.m * 1 m*s/kg ; leaving(a.colour) = entering(b.colour) ; "
    "leaving(b.colour) = entering(a.colour) ; if kind.grainy { leaving(a.grain) = "
    "entering(b.grain) ; leaving(b.grain) = entering(a.grain) } }\n"
    "fluid quarry_sand = Sand(shade = 0.25)\n";

Recording run(const std::string& body)
{
    return test::simulate(kConveyors + "system S { " + body + " ; var clock init 0 ; clock' = 1 s^-1 }", 1);
}

}  // namespace

TEST_SUITE_BEGIN("model");

TEST_CASE("a domain of one's own carries what it says, with the small flow it states")
{
    Recording r =
        run("part a : Source(kind = quarry_sand, rate = 2 kg/s, colour = 1) ; part b : Source(rate = 1 kg/s, colour = 4) ; part p : Pit ; joint meeting = "
            "a.out -- b.out -- p.in_port ; let mixed : 1 = passing(meeting.colour)");
    CHECK(r["mixed"].final() == doctest::Approx((2 * 1 + 1 * 4) / 3.0).epsilon(1e-8));
    CHECK(r["p.got"].final() == doctest::Approx(6).epsilon(1e-8));
    CHECK(r["p.seen"].final() == doctest::Approx(2).epsilon(1e-8));
    // at no flow both directions count alike
    Recording still = run("part a : Source(kind = quarry_sand, rate = 0 kg/s, colour = 1) ; part p : Pit ; a.out -- p.in_port");
    CHECK(still["p.seen"].final() == doctest::Approx(0.5 * (1 + 0.25)).epsilon(1e-12));
    CHECK(still["p.got"].final() == doctest::Approx(0.5e-4 * (1 - 0.25)).epsilon(1e-9));
    // a flow of the small size: p(m) = (m + sqrt(m^2 + e^2)) / 2
    Recording slow = run("part a : Source(kind = quarry_sand, rate = 1e-4 kg/s, colour = 1) ; part p : Pit ; a.out -- p.in_port");
    double in = 0.5e-4 * (1 + std::sqrt(2)), out = 0.5e-4 * (std::sqrt(2) - 1);
    CHECK(slow["p.got"].final() == doctest::Approx(in - out * 0.25).epsilon(1e-9));
}

TEST_CASE("a fluid of a file serves all systems, is asked by name, and its params are no params of the model")
{
    CompiledSystem s = test::compile(kConveyors +
                                     "system S { part a : Source(kind = quarry_sand) ; part p : Pit ; a.out -- p.in_port ; let x : 1 = "
                                     "quarry_sand.double_shade ; let w : kg/m^3 = quarry_sand.weight(x) ; var clock init 0 ; clock' = 1 s^-1 }");
    for (const std::string& p : s.parameters()) CHECK(p.find("shade") == std::string::npos);
    Run r(s);
    r.step_to(0.5);
    CHECK(r.value("x") == doctest::Approx(0.5));
    CHECK(r.value("w") == doctest::Approx(1500));
}

TEST_CASE("what the fluid asks for exists, else not; composed parts hand it through")
{
    const std::string body =
        "part a : Source(grain = 5 mm) ; part line : Line ; part p : Pit ; a.out -- line.a ; line.b -- p.in_port ; part f : Source(kind = sand, rate = 1 kg/s, "
        "grain = 1 mm) ; f.out -- line.a ; var clock init 0 ; clock' = 1 s^-1 }";
    const std::string line =
        "component Line { port a, b : conveyor(kind) ; part one, two : Belt ; joint way = a -- one.a ; let on_the_way : 1 = passing(way.colour) ; one.b -- "
        "two.a ; two.b -- b }\n";
    CompiledSystem plain = test::compile(kConveyors + line + "system S { fluid sand = Sand ; " + body);
    auto has = [](const CompiledSystem& s, const std::string& name) {
        auto all = s.quantities();
        return std::find(all.begin(), all.end(), name) != all.end();
    };
    CHECK(has(plain, "line.one.a.colour"));
    CHECK_FALSE(has(plain, "line.one.a.grain"));
    CompiledSystem grainy = test::compile(kConveyors + line + "system S { fluid sand = Sand(grainy = true) ; let g : mm = passing(line.b.grain) ; " + body);
    CHECK(has(grainy, "line.one.a.grain"));
    Run r(grainy);
    r.step_to(0.5);
    CHECK(r.value("g") == doctest::Approx(3e-3).epsilon(1e-6));
    CHECK(r.value("line.two.b.grain") == doctest::Approx(3e-3).epsilon(1e-6));
    CHECK(r.value("p.in_port.m") == doctest::Approx(2));
    CHECK(r.value("line.on_the_way") == doctest::Approx(1).epsilon(1e-6));  // a joint with a name, through the port of its component
}

TEST_CASE("a port that nothing is joined to carries its own value and transports nothing")
{
    Recording r = run("part p : Pit(kind = quarry_sand)");
    CHECK(r["p.seen"].final() == doctest::Approx(0.25).epsilon(1e-12));
    CHECK(std::abs(r["p.got"].final()) < 1e-18);
}

TEST_CASE("two circuits with two fluids stay apart; a component may have a port in each")
{
    Recording r =
        run("fluid dark = Sand(shade = 0.9) ; part a : Source(kind = quarry_sand) ; part p : Pit ; a.out -- p.in_port ; part b : Source(kind = dark, rate = 0 "
            "kg/s, colour = 0) ; part q : Pit ; b.out -- q.in_port");
    CHECK(r["q.seen"].final() == doctest::Approx(0.45));
    CHECK(r["p.seen"].final() == doctest::Approx(1).epsilon(1e-8));
    CHECK(r["dark.double_shade"].final() == doctest::Approx(1.8));
    for (const char* wrong :
         {"part a : Source(kind = quarry_sand) ; part p : Pit(kind = dark) ; fluid dark = Sand ; a.out -- p.in_port",
          "part a : Source ; part p : Pit ; a.out -- p.in_port", "fluid w = fluids.Water ; part a : Source(kind = w) ; part p : Pit ; a.out -- p.in_port",
          "part a : Source(kind = nothing) ; part p : Pit ; a.out -- p.in_port"})
        CHECK_FALSE(test::errors_of(kConveyors + "system S { " + wrong + " ; var clock init 0 ; clock' = 1 s^-1 }").empty());
}

TEST_SUITE_END();

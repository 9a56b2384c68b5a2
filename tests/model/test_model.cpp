// SPDX-License-Identifier: Apache-2.0
// From definitions to the flat model: what a text becomes, told by the printed form.
#include <doctest/doctest.h>

#include "model/scenario.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

std::string flat(const std::string& text)
{
    Library library = Library::standard();
    library.load_text("test.loop", text);
    return show_stage(library, {}, "flat");
}

bool has(const std::string& text, const std::string& line)
{
    return text.find(line + "\n") != std::string::npos;
}

}  // namespace

TEST_SUITE_BEGIN("model");

TEST_CASE("joints: equal shared quantities, sums with an own port counted the other way inside")
{
    std::string f = flat(R"(
domain d { shared p : Pa ; zero_sum m : kg/s }
component Source { port a : d ; a.p = 3 Pa }
component Inner { port a, b : d ; a.m + b.m = 0 ; a.m = (a.p - b.p) * 1 s*m }
component Outer { port left : d ; port right : d ; part i : Inner ; part j : Inner
    left -- i.a -- j.a
    i.b -- j.b -- right }
system S { part s : Source ; part o : Outer ; part t : Source
    joint high = s.a -- o.left
    o.right -- t.a
    let read = high.p }
)");
    INFO(f);
    CHECK(has(f, "equation o.i.a.m - o.left.m + o.j.a.m = 0"));
    CHECK(has(f, "equation s.a.p = o.left.p"));
    CHECK(has(f, "equation s.a.m + o.left.m = 0"));
    CHECK(has(f, "equation o.right.m + t.a.m = 0"));
    CHECK(has(f, "let read [Pa] = s.a.p"));
}

TEST_CASE("joints that share a port are one joint; an unjoined port lets nothing flow")
{
    std::string f = flat(
        "domain d { shared p : Pa ; zero_sum m : kg/s }\ncomponent N { port a, b : d ; a.p = 1 Pa ; b.p = a.p + b.m * 1 Pa*s/kg }\nsystem S { part x, y, z : "
        "N\n x.a -- y.a\n y.a -- z.a\n}\n");
    INFO(f);
    CHECK(has(f, "equation x.a.m + y.a.m + z.a.m = 0"));
    CHECK(has(f, "equation x.b.m = 0"));
}

TEST_CASE("signals, defaults of inputs, values given to inputs")
{
    std::string f = flat(
        "component C { input u : 1 = 5 ; output y : 1 ; y = 2 * u }\nsystem S { part a, b : C ; part c : C(u = 7) ; 3 * a.y -> b.u ; var t init 0 ; t' = 1 "
        "}\n");
    CHECK(has(f, "equation b.u = 3*a.y"));
    CHECK(has(f, "equation a.u = 5"));
    CHECK(has(f, "equation c.u = 7"));
}

TEST_CASE("loops and arrays are unrolled, options choose branches, constants fold")
{
    std::string f = flat(
        "const g = 2\nsystem S { option n = 3 ; option wide = n > 2 ; var T[n] ; let all = sum(T[i] for i in 1 .. n)\n for i in 1 .. n - 1 { T[i]' = T[i+1] * "
        "g }\n if wide { T[n]' = 0 } else { T[n]' = 1 }\n}\n");
    INFO(f);
    CHECK(has(f, "equation T[1]' = 2*T[2]"));
    CHECK(has(f, "equation T[2]' = 2*T[3]"));
    CHECK(has(f, "equation T[3]' = 0"));
    CHECK(has(f, "let all [1] = T[1] + T[2] + T[3]"));
}

TEST_CASE("init and guess: the outermost statement for a path wins")
{
    std::string f = flat(
        "component C { var x init 1 ; var y guess 2 ; x' = 1 ; y' = 1 }\ncomponent D { part c : C ; init c.x = 3 }\nsystem S { part d : D ; guess d.c.y = 9 "
        "}\n");
    INFO(f);
    CHECK(has(f, "init d.c.x = 3"));
    CHECK_FALSE(has(f, "init d.c.x = 1"));
    CHECK(has(f, "guess d.c.y = 9"));
    CHECK_FALSE(has(f, "guess d.c.y = 2"));
}

TEST_CASE("fluids are found along the joints, with the parameters of the one that is given")
{
    std::string f = flat(
        "system S {\n fluid thick = fluids.MineralOil(stiffness = 2e9 Pa)\n part v : hydraulics.Volume\n part o : hydraulics.Orifice\n part t : "
        "hydraulics.Tank(oil = thick)\n v.a -- o.inlet\n o.outlet -- t.outlet\n init v.p = 9 bar\n}\n");
    CHECK(has(f, "param thick.stiffness [Pa] = 2e+09"));
    CHECK(f.find("/thick.stiffness)") != std::string::npos);
    // a circuit whose fluid does not ask for it has neither enthalpy nor air
    CHECK(f.find("quantity v.a.h") == std::string::npos);
}

TEST_CASE("values from outside win over those in the text, later ones over earlier ones")
{
    Library library = Library::standard();
    library.load_text("t.loop",
                      "component C { param k = 1 ; var x init k ; x' = 0 }\nsystem S { part c : C(k = 2) }\nscenario a of S { set c.k = 3 ; stop at 1 s }\n");
    CHECK(Run(compile(library, {.no_scenario = true})).simulate({.stop = 1.0})["c.x"].final() == 2);
    CHECK(Run(compile(library)).simulate()["c.x"].final() == 3);
    CHECK(Run(compile(library, {.set = {{"c.k", "4"}, {"c.k", "5"}}})).simulate()["c.x"].final() == 5);
}

TEST_CASE("deep nesting of parts and a hundred thousand cells are put together")
{
    std::string text = "component P0 { var x init 1 ; x' = -x }\n";
    for (int i = 1; i <= 60; ++i) text += "component P" + std::to_string(i) + " { part p : P" + std::to_string(i - 1) + " }\n";
    text += "system S { part p : P60 }\n";
    CHECK(test::compile(text).n_states() == 1);
    CHECK(test::compile("system S { option n = 20000 ; var T[n] init 1 ; for i in 1 .. n { T[i]' = -T[i] } }").n_states() == 20000);
}

TEST_CASE("every circle of definitions is refused, none overflows")
{
    for (const char* text :
         {"component A { part b : A }\nsystem S { part a : A }", "component A { part b : B }\ncomponent B { part a : A }\nsystem S { part a : A }",
          "const a = b\nconst b = a\nsystem S { var x init a ; x' = 1 }", "system S { let a = b ; let b = a ; var x init 1 ; x' = a }",
          "system S { param a = a ; var x init 1 ; x' = a }",
          "function f(x) -> 1 { return g(x) }\nfunction g(x) -> 1 { return f(x) }\nsystem S { var x init 1 ; x' = f(x) }",
          "system S { option n = m ; option m = n ; var x[n] }", "fluid F : F { }\nsystem S { fluid f = F ; var x init 1 ; x' = 1 }"}) {
        INFO(text);
        CHECK_FALSE(test::errors_of(text).empty());
    }
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Each pass on a small text: the form before it and the form behind it; and forms that are broken by hand are found to be.
#include <doctest/doctest.h>

#include <set>

#include "api/internal.hpp"
#include "compile/passes.hpp"
#include "compile/pipeline.hpp"
#include "support/support.hpp"

using namespace netloop;

TEST_SUITE_BEGIN("compile");

namespace {

// A text compiled up to a pass.
struct UpTo {
    Diagnostics diagnostics;
    Compilation c{.diagnostics = diagnostics};

    UpTo(const std::string& text, std::string_view pass)
    {
        Library library = Library::standard();
        library.load_text("test.loop", text);
        LibraryWork work(library.set());
        auto plan = plan_scenario(library.set(), "", "", true);
        REQUIRE(plan);
        CompiledSystemData data;
        c.flat = flatten_plan(library.set(), *plan, data, false);
        if (!pass.empty()) run_passes(c, passes().front().name, pass);
    }
};

std::string behind(const std::string& text, std::string_view pass)
{
    return UpTo(text, pass).c.text();
}

// Two masses on one rod, a force that depends on the side, a length that follows.
const std::string kCart =
    "system Cart { param m : kg = 2 kg ; var x : m init 0 m ; var y : m ; var v : m/s init 1 m/s ; var f : N ; x' = v ; y = -x ; m * v' = f\n"
    "  f = (if y < 0 m then 3 N else 0 N) - (5 N/m) * x }";

}  // namespace

TEST_CASE("the passes stand in one list, each with a name of its own and a line that says what it does")
{
    std::set<std::string_view> names;
    Compilation::Form last = Compilation::Form::flat;
    for (const Pass& p : passes()) {
        CHECK(names.insert(p.name).second);
        CHECK(p.line.size() > 20);
        CHECK(p.leaves >= last);
        last = p.leaves;
    }
    CHECK(last == Compilation::Form::solver);
    Diagnostics diagnostics;
    Compilation c{.diagnostics = diagnostics};
    CHECK_THROWS_AS(run_passes(c, "tear blocks", "begin"), std::logic_error);
    CHECK_THROWS_AS(run_passes(c, "begin", "no such pass"), std::logic_error);
}

TEST_CASE("settle params: what the start has to find becomes a quantity that stands still")
{
    const std::string text = "system S { param k : 1/s = 3 s^-1 ; param twice : 1/s = 2 * k ; var x init 1 ; x' = 1 s^-1 - twice * x }";
    UpTo before(text, ""), after(text, "settle params");
    CHECK(before.c.text() == after.c.text());  // nothing is to be found
    CHECK(after.c.record.back().result == "2 params");
    UpTo circle("system S { param a : 1 = b ; param b : 1 = a ; var x init 1 ; x' * (1 s) = a }", "");
    CHECK_THROWS_AS(run_passes(circle.c, "settle params", "settle params"), CompilationStopped);
    REQUIRE(circle.diagnostics.items().size() == 1);
    CHECK(circle.diagnostics.items()[0].id == "circular-definition");
}

TEST_CASE("begin: rates of expressions are expanded")
{
    UpTo made("system S { var x init 1 ; let square = x * x ; var y : 1/s ; y = square' ; x' = 1 s^-1 }", "begin");
    const EquationSystem& s = made.c.system;
    REQUIRE(s.flat->equations.size() == 2);
    CHECK(s.flat->equation_text(s.flat->equations[0]).find("x'") != std::string::npos);
    CHECK(s.equations.size() == 2);
}

TEST_CASE("locate conditions: comparisons become modes, equal ones the same")
{
    UpTo before(kCart, "begin"), after(kCart, "locate conditions");
    CHECK(before.c.system.conditions.empty());
    REQUIRE(after.c.system.conditions.size() == 1);
    CHECK(after.c.system.conditions[0].text == "y < 0 m");
    const FlatModel& flat = *after.c.system.flat;
    CHECK(flat.equation_text(flat.equations[3]) == "f = (if mode[0] then 3 else 0) - 5*x");
    CHECK(before.c.text() == "x' = v\ny = -x\nm*v' = f\nf = (if y < 0 then 3 else 0) - 5*x\n");
    UpTo twice("system S { var x init 1 ; var a ; a = (if x < 2 then 1 else 0) + (if x < 2 then 5 else 3) + (if x <= 2 then 1 else 0) ; x' = 1 s^-1 }",
               "locate conditions");
    CHECK(twice.c.system.conditions.size() == 2);
}

TEST_CASE("remove aliases: what is equal, opposite or a rate of another goes")
{
    CHECK(behind(kCart, "remove aliases") == "0 = m*x'' - f\n0 = f - ((if mode[0] then 3 else 0) - 5*x)\n");
    UpTo made(kCart, "remove aliases");
    const Resolution &y = made.c.system.resolutions[1], &v = made.c.system.resolutions[2];
    CHECK(y.representative == 0);
    CHECK(y.sign == -1);
    CHECK(v.representative == 0);
    CHECK(v.order == 1);
}

TEST_CASE("check structure: too many and too few are told, what fits passes")
{
    CHECK(behind(kCart, "check structure") == behind(kCart, "remove aliases"));
    UpTo few("system S { var x init 1 ; var y ; var z ; x' = y * 1 s^-1 ; y + z = x }", "remove aliases");
    CHECK_THROWS_AS(run_passes(few.c, "check structure", "check structure"), CompilationStopped);
}

TEST_CASE("reduce index: a hidden constraint is differentiated, states are chosen")
{
    CHECK(behind(kCart, "reduce index") == "state x\nstate x'\n  0 = m*x'' - f\n  0 = f - ((if mode[0] then 3 else 0) - 5*x)\n");
    // two masses with a factor between them: one state pair, the second's motion differentiated twice
    UpTo made("system S { var x : m init 0 m ; var y : m ; var f : N ; (1 kg) * x'' = f ; (2 kg) * y'' = 3 N - 2 * f ; y = 2 * x + (1 m) * sin(x / (1 m)) }",
              "reduce index");
    CHECK(made.c.reduced.n_states() == 2);
    CHECK(made.c.reduced.unknowns.size() + made.c.reduced.states.size() > 4);
    std::uint32_t most = 0;
    for (const ReducedEquation& e : made.c.reduced.equations) most = std::max(most, e.differentiated);
    CHECK(most == 2);
}

TEST_CASE("order blocks, tear blocks: what settles what, and how")
{
    CHECK(behind(kCart, "order blocks") ==
          "state x\nstate x'\nblock of 1\n  settles f\n  by 0 = f - ((if mode[0] then 3 else 0) - 5*x)\nblock of 1\n  settles x''\n  by 0 = m*x'' - f\n");
    CHECK(behind(kCart, "tear blocks") ==
          "state x\nstate x'\nblock of 1\n  f := (if mode[0] then 3 else 0) - 5*x\nblock of 1\n  iterate x''\n  0 = m*x'' - f\n");
}

TEST_CASE("make solver form: residuals in z and its rates")
{
    CHECK(behind(kCart, "make solver form") ==
          "state x usual 0.1\nstate x' usual 1\n0 = x' - x'\n0 = m*x'' - ((if mode[0] then 3 else 0) - 5*x)\nmode[0]: y < 0 m\n");
}

TEST_CASE("a form that is broken is found to be")
{
    CHECK(UpTo(kCart, "").c.fault().empty());
    UpTo flat(kCart, "");
    flat.c.flat->equations[0].left = 1u << 30;
    CHECK_FALSE(flat.c.fault().empty());

    UpTo mode(kCart, "remove aliases");
    CHECK(mode.c.fault().empty());
    mode.c.system.conditions.clear();
    CHECK(mode.c.fault() == "a mode belongs to no condition");

    UpTo alias(kCart, "remove aliases");
    alias.c.system.equations[0].residual = alias.c.system.graph().quantity(1, 0);
    CHECK(alias.c.fault() == "an equation still holds 'y', which is another's alias");

    UpTo count(kCart, "reduce index");
    count.c.reduced.unknowns.pop_back();
    CHECK(count.c.fault() == "2 equations for 1 unknowns");

    UpTo order(kCart, "tear blocks");
    std::swap(order.c.reduced.blocks[0].unknowns, order.c.reduced.blocks[1].unknowns);
    CHECK(order.c.fault().empty());  // each is still there once
    order.c.reduced.blocks[0].unknowns = order.c.reduced.blocks[1].unknowns;
    CHECK(order.c.fault() == "the blocks do not hold each equation and each unknown once");

    UpTo early("system S { var x init 1 ; var a ; var b ; a = x^2 ; b = a + x^3 ; x' * (1 s) = b }", "tear blocks");
    CHECK(early.c.fault().empty());
    std::swap(early.c.reduced.blocks[0], early.c.reduced.blocks[1]);
    CHECK(early.c.fault() == "'x'' is worked out from 'a', which is not settled yet");

    UpTo solver(kCart, "make solver form");
    CHECK(solver.c.fault().empty());
    solver.c.solver.residuals.pop_back();
    CHECK_FALSE(solver.c.fault().empty());
    UpTo leaf(kCart, "make solver form");
    leaf.c.solver.residuals[0] = leaf.c.solver.graph().quantity(1, 0);
    CHECK(leaf.c.fault() == "'y' has not been put into terms of z");
}

TEST_CASE("every form of every pass of a whole machine is sound, and can be shown")
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    for (const Pass& p : passes()) {
        CAPTURE(p.name);
        CHECK(show_stage(library, {.no_scenario = true}, std::string(p.name)).size() > 1000);
    }
    CHECK(show_stage(library, {.no_scenario = true}, "tear blocks") == show_stage(library, {.no_scenario = true}, "reduced"));
}

TEST_SUITE_END();

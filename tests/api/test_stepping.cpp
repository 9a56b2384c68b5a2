// SPDX-License-Identifier: Apache-2.0
// Runs as programs drive them: handles, many values at once, steps with all options, inputs that change all the time, starts taken over.
#include <doctest/doctest.h>

#include <array>
#include <cmath>
#include <fstream>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("api");

namespace {

// A lag of 0.5 s behind its input, and a sum of squares that a start must solve.
const std::string kLag =
    "system Lag { param T : s = 0.5 s in 1 ms .. 100 s ; param half : s = T / 2 in 0 s .. 1 s ; input u : m = 0 m ; var x : m init 0 m ; T * x' = u - x\n"
    "  let twice : mm = 2 * x ; var r : m ; r^3 + r * (1 m^2) = (10 m^2) * (1 m) + x * (1 m^2) ; guess r = 1 m }";

}  // namespace

TEST_CASE("handles name the same things as paths, and a wrong path is told with the nearest one")
{
    nl::CompiledSystem system = test::compile(kLag);
    nl::ParamId t = system.param("T");
    nl::InputId u = system.input("u");
    nl::OutputId x = system.output("x"), twice = system.output("twice");
    CHECK(system.unit(twice) == "mm");
    CHECK(system.unit(t) == "s");
    CHECK_THROWS_WITH_AS(system.output("twicce"), doctest::Contains("did you mean 'twice'?"), nl::UsageError);
    CHECK_THROWS_WITH_AS(system.input("T"), doctest::Contains("a param, not an input"), nl::UsageError);
    CHECK_THROWS_AS(system.param("x"), nl::UsageError);
    nl::Run run(system);
    run.set(t, 0.25);
    CHECK(run.value(t) == 0.25);
    CHECK(run.value(system.param("half")) == 0.125);
    run.set(u, 2);
    run.step_to(0.5);
    CHECK(run.value(x) == doctest::Approx(2 * (1 - std::exp(-2.0))).epsilon(1e-5));
    CHECK(run.value(x) == run.value("x"));
    std::array<nl::OutputId, 2> wanted{x, twice};
    std::array<double, 2> got{};
    run.values(wanted, got);
    CHECK(got[0] == run.value("x"));
    CHECK(got[1] == doctest::Approx(2 * got[0]));
    CHECK_THROWS_AS(run.values(wanted, std::span<double>(got).first(1)), nl::UsageError);
}

TEST_CASE("a handle that was never looked up, or is another system's, is refused")
{
    nl::CompiledSystem system = test::compile(kLag);
    nl::Run run(system);
    CHECK_THROWS_AS(run.set(nl::ParamId{}, 1), nl::UsageError);
    CHECK_THROWS_AS(run.set(nl::InputId{1000}, 1), nl::UsageError);
    CHECK_THROWS_AS(run.value(nl::ParamId{}), nl::UsageError);
    CHECK_THROWS_AS(run.value(nl::OutputId{}), nl::UsageError);
    CHECK_THROWS_AS(system.unit(nl::OutputId{1000}), nl::UsageError);
    CHECK_THROWS_AS(system.unit(nl::ParamId{}), nl::UsageError);
}

TEST_CASE("several values at once: all, or none")
{
    nl::CompiledSystem system = test::compile(kLag);
    std::array<nl::ParamId, 2> params{system.param("T"), system.param("half")};
    nl::Run run(system);
    run.set(params, std::array<double, 2>{0.1, 0.2});
    CHECK(run.value(params[0]) == 0.1);
    CHECK(run.value(params[1]) == 0.2);
    CHECK_THROWS_WITH_AS(run.set(params, std::array<double, 2>{0.3, 7}), doctest::Contains("outside its range 0 .. 1 s"), nl::RunError);
    CHECK(run.value(params[0]) == 0.1);
    CHECK_THROWS_AS(run.set(params, std::array<double, 1>{0.3}), nl::UsageError);
    // what only follows is looked at when it is asked for
    nl::Run late(system);
    late.set(params[0], 10);
    CHECK_THROWS_WITH_AS(late.value(params[0]), doctest::Contains("param 'half' is 5 s"), nl::RunError);
    CHECK_THROWS_AS(late.simulate({.stop = 1.0}), nl::RunError);
    late.set(params[0], 1);
    CHECK(late.simulate({.stop = 1.0}).complete);
}

TEST_CASE("a value refused while the run goes on leaves it as it was")
{
    nl::CompiledSystem system = test::compile(
        "system P { param p : s = 0.1 s in 0 s .. 10 s ; input u : 1 = 1 ; memory n init 0 ; every p { n := n + 1 } ; var x init 0 ; x' * (1 s) = u }");
    nl::Run run(system);
    run.step_to(0.55);
    double n = run.value("n"), x = run.value("x");
    CHECK(n == 6);
    CHECK_THROWS_AS(run.set("p", nl::q(0, "s")), nl::RunError);
    CHECK(run.value("p") == 0.1);
    CHECK(run.value("x") == x);
    run.step_to(1.05);
    CHECK(run.value("n") == 11);
    CHECK(run.value("x") == doctest::Approx(1.05));
}

TEST_CASE("step by step with a recording: the same rows, measures and file as in one piece")
{
    std::string text =
        kLag +
        "\nscenario stairs of Lag { stop at 1 s ; output every 50 ms ; set u = 1 m ; measure top : m = max(x) ; measure end : mm = final(twice)\n"
        "  require x < 2 m \"low\" }";
    test::Scratch scratch;
    nl::Library library = nl::Library::standard();
    library.load_text("lag.loop", text);
    nl::CompiledSystem system = nl::compile(library);
    nl::Run whole(system), pieces(system);
    nl::RunOptions options{.tolerance = 1e-8, .integrator = "bdf", .verify = true};
    nl::Recording a = whole.simulate(options);
    options.out = scratch / "pieces.h5";
    pieces.begin(options);
    CHECK(pieces.time() == 0);
    for (double t : {0.2, 0.33, 0.7, 1.0}) CHECK(pieces.step_to(t));
    nl::Recording b = pieces.end();
    REQUIRE(a.n_rows() == 21);
    REQUIRE(b.n_rows() == 21);
    for (std::size_t k = 0; k < a.n_rows(); ++k) {
        CHECK(a.time().values[k] == b.time().values[k]);
        CHECK(b["x"].values[k] == doctest::Approx(1 - std::exp(-2 * b.time().values[k])).epsilon(1e-6));
        CHECK(a["x"].values[k] == doctest::Approx(b["x"].values[k]).epsilon(1e-6));
    }
    REQUIRE(pieces.summary().measures.size() == 2);
    CHECK(pieces.summary().measures[0].value == doctest::Approx(1 - std::exp(-2.0)).epsilon(1e-6));
    CHECK(pieces.summary().demands_hold());
    CHECK(pieces.summary().complete);
    CHECK(pieces.summary().verification.done);
    CHECK(pieces.summary().verification.holds);
    CHECK(nl::Recording::load(scratch / "pieces.h5").n_rows() == 21);
    CHECK_THROWS_AS(pieces.end(), nl::UsageError);
}

TEST_CASE("without a stop time rows come at the interval, or at the end of each stretch")
{
    nl::CompiledSystem system = test::compile(kLag);
    nl::Run run(system);
    run.begin({.output_every = 0.1});
    run.step_to(0.25);
    run.step_to(0.5);
    CHECK(run.end().time().values == std::vector<double>{0, 0.1, 0.2, 0.30000000000000004, 0.4, 0.5});
    run.begin();
    run.step_to(0.25);
    run.step_to(0.5);
    CHECK(run.end().time().values == std::vector<double>{0, 0.25, 0.5});
}

TEST_CASE("an input that changes every 10 ms: the exact answer of a staircase, and histories that are kept")
{
    nl::CompiledSystem system = test::compile(
        "system Two { input u : 1 = 0 ; var x init 0 ; x' * (0.5 s) = u - x ; var a init 1 ; var b init 0 ; a' * (1 s) = b ; b' * (1 s) = -a\n"
        "  var c init 1 ; var d init 0 ; c' * (1 s) = 2 * d ; d' * (1 s) = -2 * c }");
    nl::InputId u = system.input("u");
    nl::OutputId x = system.output("x"), a = system.output("a");
    nl::Run run(system);
    run.begin({.tolerance = 1e-7, .in_memory = false, .integrator = "bdf"});
    double exact = 0, lag = std::exp(-0.01 / 0.5);
    for (int k = 0; k < 300; ++k) {
        double command = std::sin(0.05 * k);
        run.set(u, command);
        run.step_to(0.01 * (k + 1));
        exact = command + (exact - command) * lag;
        CHECK(run.value(x) == doctest::Approx(exact).epsilon(1e-5));
    }
    CHECK(run.value(a) == doctest::Approx(std::cos(3.0)).epsilon(1e-5));
    run.end();
    CHECK(run.summary().kept_histories > 250);
}

TEST_CASE("reset goes back to before the start, and keeps what was set")
{
    nl::CompiledSystem system = test::compile(kLag);
    nl::Run run(system), fresh(system);
    run.set("u", nl::q(3, "m"));
    run.step_to(2);
    run.reset();
    CHECK(run.time() == 0);
    CHECK(run.summary().steps == 0);
    run.step_to(1);
    fresh.set("u", nl::q(3, "m"));
    fresh.step_to(1);
    CHECK(run.value("x") == fresh.value("x"));
}

TEST_CASE("a start is searched from that of another run: of two solutions the one near by")
{
    nl::CompiledSystem system =
        test::compile("system Two { param begin : 1 = 1 ; param c : 1 = 4 ; var w : 1 ; w^2 = c ; guess w = begin ; var x init 0 ; x' * (1 s) = w }");
    nl::Run below(system), next(system), alone(system);
    below.set("begin", nl::q(-1, "1"));
    below.step_to(0.5);
    CHECK(below.value("w") == doctest::Approx(-2));
    CHECK_THROWS_AS(next.search_from(alone), nl::UsageError);
    next.set("begin", nl::q(-1, "1"));
    next.search_from(below);
    next.set("c", nl::q(9, "1"));
    next.step_to(0);
    CHECK(next.value("w") == doctest::Approx(-3));
    CHECK(next.value("x") == 0);  // its start, not its present state
    nl::Run stranger(test::compile("system Two { var x init 0 ; x' * (1 s) = 1 }"));
    CHECK_THROWS_AS(stranger.search_from(below), nl::UsageError);
}

TEST_CASE("all that is thrown is of one family, with an id")
{
    auto id_of = [](auto work) -> std::string {
        try {
            work();
        } catch (const nl::Error& error) {
            CHECK(std::string(error.what()).size() > 10);
            return error.id();
        }
        return "nothing";
    };
    CHECK(id_of([] { test::compile("system S { var x : m ; x = 1 m + 2 s }"); }) == "unit-mismatch");
    CHECK(id_of([] { nl::Recording::load("not_there.h5"); }) == "recording");
    CHECK(id_of([] { nl::Run(test::compile(kLag)).value("nothing"); }) == "usage");
    CHECK(id_of([] { nl::Run(test::compile(kLag)).set("T", nl::q(1, "h")); }) == "out-of-range");
    CHECK(id_of([] { nl::Run(test::compile("system S { var x init 1 ; x' = x^2 / (1 s) }")).simulate({.stop = 2.0}); }) == "run-failed");
}

TEST_SUITE_END();

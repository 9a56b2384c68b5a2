// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

RunSummary start_of(const std::string& text)
{
    Run run(test::compile(text));
    run.simulate({.stop = 1e-6});
    return run.summary();
}

std::string failure(const std::string& text, double stop = 1)
{
    try {
        Run run(test::compile(text));
        run.simulate({.stop = stop});
    } catch (const RunError& error) {
        return error.id() + ": " + error.what();
    }
    return "nothing failed";
}

}  // namespace

TEST_SUITE_BEGIN("solve");

// --- the start ----------------------------------------------------------------------------------------------------

TEST_CASE("an init stands on any quantity: a rate, a let, a sum, a pressure that holds a load")
{
    // m v' = p A - F with v' = 0: p = F / A
    Recording r = test::simulate(R"(
system S {
    var p : bar guess 10 bar
    var v : m/s init 0 m/s
    let push : N = p * 20 cm^2
    50 kg * v' = push - 3000 N
    p' = -1 bar/s
    init v' = 0 m/s^2
}
)",
                                 0.1);
    CHECK(r["p"].first() == doctest::Approx(3000 / 20e-4).epsilon(1e-9));
    Recording l = test::simulate("system S { var a init 1 ; var b ; let s = a + b ; a' = -a ; b' = -2*b ; init s = 5 }", 0.1);
    CHECK(l["b"].first() == doctest::Approx(4));
}

TEST_CASE("fewer inits than needed: guesses fill in, outermost first, and are listed")
{
    RunSummary s = start_of("component C { var x guess 3 ; var y guess 4 ; x' = -x ; y' = -y }\nsystem S { part c : C ; guess c.x = 7 ; init c.y = 1 }\n");
    REQUIRE(s.assumed.size() == 1);
    CHECK(s.assumed[0] == "c.x = 7");
    CHECK(s.held.empty());
    Recording r = test::simulate("component C { var x guess 3 ; x' = -x }\nsystem S { part c : C ; guess c.x = 7 }\n", 0.1);
    CHECK(r["c.x"].first() == 7);
}

TEST_CASE("what nothing settles is held where its search starts, with a warning")
{
    RunSummary s = start_of("system S { var T : K ; T' = 1 K/s }\n");
    REQUIRE(s.held.size() == 1);
    CHECK(s.held[0].find("'T' = 293.15 K") != std::string::npos);
}

TEST_CASE("an init further out replaces the one further in; a guess likewise")
{
    Recording r = test::simulate("component C { var x init 3 ; x' = -x }\nsystem S { part c : C ; init c.x = 8 }\n", 0.1);
    CHECK(r["c.x"].first() == 8);
    Library library = Library::standard();
    library.load_text("t.loop",
                      "component C { var x init 3 ; x' = -x }\nsystem S { part c : C ; init c.x = 8 }\nscenario a of S { init c.x = 9 ; stop at 1 s }\n");
    CHECK(Run(compile(library)).simulate()["c.x"].first() == 9);
}

TEST_CASE("more inits than needed: those that agree are listed, those that contradict are named")
{
    const std::string gear =
        "use mechanics\nsystem S {\n part a, b : Inertia\n part g : Gear(ratio = 2)\n a.shaft -- g.a\n g.b -- b.shaft\n init a.angle = 2 rad\n init a.speed = "
        "0 rad/s\n";
    RunSummary s = start_of(gear + " init b.angle = 1 rad\n}\n");
    REQUIRE(s.agreed.size() == 1);
    CHECK(s.agreed[0].find("b.angle") != std::string::npos);
    std::string text = failure(gear + " init b.angle = 1.5 rad\n}\n");
    CHECK(text.starts_with("start-contradiction: "));
    CHECK(text.find("test.loop:9: init b.angle = 1.5") != std::string::npos);
    CHECK(text.find("a.angle") != std::string::npos);
}

TEST_CASE("nonlinear start values are found from far away")
{
    // x + e^x = 100 and a cubic: one root each
    Recording r = test::simulate("system S { var t init 0 ; var x guess 0 ; var y guess 50 ; t' = 1 ; x + exp(x) = 100 ; y^3 + y = 10 }", 0.1);
    double x = r["x"].first(), y = r["y"].first();
    CHECK(x + std::exp(x) == doctest::Approx(100).epsilon(1e-10));
    CHECK(y == doctest::Approx(2.0).epsilon(1e-10));
}

TEST_CASE("a start that does not exist names the equation, its line and the values in units")
{
    std::string text = failure("system S {\n var p : bar guess 3 bar\n var s init 0\n s' = 1\n (p / 1 bar)^2 + 1 = s\n}\n");
    INFO(text);
    CHECK(text.starts_with("start-failed: "));
    CHECK(text.find("test.loop:5") != std::string::npos);
    CHECK(text.find("'p' = ") != std::string::npos);
    CHECK(text.find(" bar") != std::string::npos);
}

TEST_CASE("equations that are singular in numbers only are caught at the start and named")
{
    std::string text = failure("system S {\n param k : 1 = 1\n var x init 1\n var y\n var z\n x' = -x\n k*y + z = x\n y + z = 2*x\n}\n");
    INFO(text);
    CHECK(text.starts_with("start-singular: "));
    CHECK(text.find("test.loop:") != std::string::npos);
}

TEST_CASE("the start is consistent with conditions: the mode is that of the solution, not of the guess")
{
    Recording r = test::simulate("system S { var x guess -5 ; var s init 2 ; s' = 0 ; x = if x > 0 then s else s - 1 }", 0.01);
    CHECK(r["x"].first() == doctest::Approx(2));
}

// --- integration --------------------------------------------------------------------------------------------------

TEST_CASE("accuracy follows the tolerance on problems with known answers")
{
    struct Row {
        double tolerance, allowed;
    };
    for (const Row& row : {Row{1e-4, 1e-2}, Row{1e-6, 2e-4}, Row{1e-9, 1e-6}}) {
        Recording r = test::simulate("system S { var x init 1 ; var v init 0 ; x' = v ; v' = -25 * x }", 10, row.tolerance, 0.1);
        double worst = 0;
        for (std::size_t i = 0; i < r.n_rows(); ++i) worst = std::max(worst, std::abs(r["x"].values[i] - std::cos(5 * r.time().values[i])));
        INFO("tolerance " << row.tolerance << ": error " << worst);
        CHECK(worst < row.allowed);
    }
}

TEST_CASE("a stiff problem of three reactions: Robertson's published values at 40 s")
{
    // Hairer and Wanner, Solving Ordinary Differential Equations II, IV.1; values as in the SUNDIALS examples: y1(40) = 7.158e-1
    Recording r = test::simulate(
        "system S { var a init 1 usual 1 ; var b init 0 usual 1e-4 ; var c init 0 usual 1\n a' = -0.04*a + 1e4*b*c\n b' = 0.04*a - 1e4*b*c - 3e7*b^2\n a + b + "
        "c = 1 }",
        40, 1e-9);
    CHECK(r["a"].final() == doctest::Approx(0.71582706871).epsilon(1e-7));
    CHECK(r["b"].final() == doctest::Approx(9.1855347645e-6).epsilon(1e-6));
    CHECK(r["c"].final() == doctest::Approx(0.28416374574).epsilon(1e-7));
}

TEST_CASE("constraints hold in every recorded row, not only at steps")
{
    Recording r = test::simulate("system S { var x init 0.3 ; var y guess 0.9 ; x' = cos(3*time/1 s) ; x^2 + y^2 = 1 + exp(y) }", 2, 1e-4, 0.003);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double x = r["x"].values[i], y = r["y"].values[i];
        CHECK(std::abs(x * x + y * y - 1 - std::exp(y)) < 1e-9);
    }
}

TEST_CASE("a system of known signals alone can be run")
{
    Recording r = test::simulate("system S { let y = sin(2 * time / 1 s) ; var z ; z = 3 * y }", 2, 1e-6, 0.5);
    CHECK(r["z"].final() == doctest::Approx(3 * std::sin(4.0)));
    CHECK(r.n_rows() == 5);
}

// --- events -------------------------------------------------------------------------------------------------------

TEST_CASE("conditions are located: the crossing is a pair of rows at one time, exact to the tolerance")
{
    // x = 1 - t^2/2 crosses 0.5 at t = 1; then the slope changes
    Recording r = test::simulate("system S { var x init 1 ; var v init 0 ; v' = -1 ; x' = if x > 0.5 then v else -0.25 }", 2, 1e-10, 0.1);
    int pairs = 0;
    for (std::size_t i = 1; i < r.n_rows(); ++i) {
        if (r.time().values[i] != r.time().values[i - 1]) continue;
        ++pairs;
        if (pairs == 1) CHECK(r.time().values[i] == doctest::Approx(1.0).epsilon(1e-8));
    }
    CHECK(pairs >= 1);
}

TEST_CASE("events of sign, floor, ceil and mod")
{
    Recording r = test::simulate(
        "system S { var t : 1 init 0 ; t' = 1 s^-1 ; let s = sign(t - 1.5) ; let f = floor(t) ; let c = ceil(t) ; let m = mod(t, 2) ; var area init 0 ; area' "
        "= (s + f + m) * 1 s^-1 }",
        4.5, 1e-10, 0.05);
    CHECK(r["s"].first() == -1);
    CHECK(r["s"].final() == 1);
    CHECK(r["f"].final() == 4);
    CHECK(r["c"].final() == 5);
    CHECK(r["m"].final() == doctest::Approx(0.5));
    // integral of sign: -1.5 + 3; of floor: 0 + 1 + 2 + 3 + 4*0.5; of mod(t, 2): 2 + 2 + 0.125
    CHECK(r["area"].final() == doctest::Approx(1.5 + 8 + 4.125).epsilon(1e-7));
}

TEST_CASE("untracked conditions and conditions inside functions make no events")
{
    Run run(
        test::compile("function f(x) -> 1 { if x > 0.5 { return 1 } return 2 }\nsystem S { var x init 0 ; var y init 0 ; x' = f(x) ; y' = if untracked(x > "
                      "0.7) then 1 else 2 }\n"));
    run.simulate({.stop = 1.0});
    CHECK(run.summary().events == 0);
}

TEST_CASE("knots of a table of time are hit exactly")
{
    Recording r = test::simulate(
        "table u(t : s) -> 1 { 0: 0, 0.3: 0, 0.30001: 1, 0.5: 1, 0.50001: 0, 1: 0 } linear, hold\nsystem S { var x init 0 ; x' = 1000 * u(time) * 1 s^-1 }", 1,
        1e-8);
    CHECK(r["x"].final() == doctest::Approx(1000 * (0.2 - 1e-5 + 1e-5)).epsilon(1e-7));
}

TEST_CASE("an if of equations chooses between them, equation by equation")
{
    Recording r = test::simulate("system S {\n var x init 0\n var y init 0\n if x < 1 { x' = 1 ; y' = 2 } else { x' = 0.5 ; y' = x' }\n}\n", 3, 1e-9, 0.1);
    CHECK(r["x"].final() == doctest::Approx(2).epsilon(1e-7));
    CHECK(r["y"].final() == doctest::Approx(3).epsilon(1e-7));
}

TEST_CASE("a condition that switches itself back is found and named, not looped on")
{
    std::string text = failure("system S {\n var x init 1\n var y\n x' = 1\n y = if y > 1.5 then 0 else x\n}\n", 3);
    INFO(text);
    CHECK(text.starts_with("chattering: "));
    CHECK(text.find("test.loop:5") != std::string::npos);
    CHECK(text.find("1.5 < y") != std::string::npos);  // told as it was normalised
}

// --- failures -----------------------------------------------------------------------------------------------------

TEST_CASE("a run that cannot go on keeps what was recorded and names time, cause and quantity")
{
    Run run(test::compile("system S {\n var x init 1\n x' = x^2\n}\n"));  // grows beyond all bounds at 1 s
    std::string text;
    try {
        run.simulate({.stop = 2.0, .output_every = 0.1});
    } catch (const RunError& error) {
        text = error.id() + ": " + error.what();
    }
    INFO(text);
    CHECK(text.starts_with("run-failed: at "));
    CHECK(text.find("'x'") != std::string::npos);
    CHECK(run.recording().n_rows() >= 10);
    CHECK_FALSE(run.recording().complete);
    // the last time reached is where the solution ends, to a few tolerances
    CHECK(std::stod(run.summary().reason.substr(run.summary().reason.find("at ") + 3)) == doctest::Approx(1).epsilon(1e-5));
}

TEST_CASE("a root of a negative inside an equation is reported by its line with the values")
{
    std::string text = failure("system S {\n var x init 1\n var y init 0\n x' = -1\n y' = sqrt(x)\n}\n", 2);
    INFO(text);
    CHECK(text.starts_with("run-failed: "));
    CHECK(text.find("'x' = ") != std::string::npos);
}

TEST_CASE("a param out of its range or without a finite value stops before anything runs")
{
    CHECK(failure("system S { param k : m = 3 m in 1 m .. 2 m ; var x init 1 ; x' = 1 }").starts_with("out-of-range: "));
    CHECK(failure("system S { param a : m = 0 m ; param k : 1 = 1 m / a ; var x init k ; x' = 1 }").find("no finite value") != std::string::npos);
}

TEST_CASE("an interrupted run is kept and marked")
{
    std::atomic<bool> stop{false};
    Run run(test::compile("system S { var x init 1 ; x' = -x }"));
    RunOptions options;
    options.stop = 100;
    options.output_every = 0.01;
    options.interrupt = &stop;
    options.progress = [&](double t) {
        if (t > 1) stop = true;
    };
    Recording r = run.simulate(options);
    CHECK_FALSE(r.complete);
    CHECK(r.reason == "interrupted");
    CHECK(r.n_rows() > 50);
    CHECK(r.time().final() < 100);
}

TEST_CASE("the Jacobian by differences gives the same run as the exact one")
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    CompiledSystem system = compile(library);
    std::vector<double> ends;
    for (auto jacobian : {RunOptions::Jacobian::exact, RunOptions::Jacobian::one_column_at_a_time, RunOptions::Jacobian::grouped_columns}) {
        Run run(system);
        RunOptions options;
        options.stop = 12;
        options.tolerance = 1e-7;
        options.jacobian = jacobian;
        ends.push_back(run.simulate(options)["leaf.angle"].final());
    }
    CHECK(ends[1] == doctest::Approx(ends[0]).epsilon(1e-5));
    CHECK(ends[2] == doctest::Approx(ends[0]).epsilon(1e-5));
}

TEST_SUITE_END();

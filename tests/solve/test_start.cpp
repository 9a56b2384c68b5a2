// SPDX-License-Identifier: Apache-2.0
// The start: steady states, params to be found, recorded states to go on from, searches that need help, and failures told by equation.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>

#include "support/support.hpp"

namespace {

netloop::Run run_of(const std::string& text, const std::string& scenario = "")
{
    netloop::Library library = netloop::Library::standard();
    library.load_text("model.loop", text);
    return netloop::Run(netloop::compile(library, {.system = "", .scenario = scenario}));
}

// The failure of a run of one second that must fail.
netloop::RunError failure_of(const std::string& text, double stop = 1)
{
    netloop::Run run = run_of(text);
    netloop::RunOptions options;
    options.stop = stop;
    try {
        run.simulate(options);
    } catch (const netloop::RunError& e) {
        return e;
    }
    FAIL("the run did not fail");
    return netloop::RunError("", "", "");
}

bool mentions(const netloop::RunError& e, const std::string& text)
{
    INFO(e.what());
    INFO(text);
    bool found = std::string(e.what()).find(text) != std::string::npos;
    CHECK(found);
    return found;
}

const std::string kPlant = R"(
component Oven {
    param fuel : kg/s = 0.001 kg/s in 0 kg/s .. 0.1 kg/s
    param heat : J/kg = 38e6 J/kg
    param power : kW = fuel * heat             ## follows from fuel
    var T : degC init 20 degC
    500 J/K * T' = power - (0.12 kg/s + fuel) * 1050 J/(kg*K) * (T - 20 degC)
}
system Plant {
    part burner : Oven
    param inflow : m^3/s = 0.01 m^3/s
    var level : m init 1 m
    2 m^2 * level' = inflow - 0.005 m^2.5/s * sqrt(level)
    var angle : rad init 0.3 rad
    var speed : rad/s init 3 rad/s
    angle' = speed
    2 kg*m^2 * speed' = 10 N*m - 0.5 N*m*s * speed
}
scenario steady of Plant { begin steady ; stop at 1 s }
scenario nearly of Plant { begin steady except level ; stop at 1 s }
scenario found of Plant { begin steady ; find burner.fuel so that burner.T = 640 degC ; stop at 1 s }
scenario given of Plant { find inflow so that level' = 0.001 m/s ; stop at 1 s }
scenario too_hot of Plant { begin steady ; find burner.fuel so that burner.T = 40000 degC ; stop at 1 s }
)";

}  // namespace

TEST_SUITE_BEGIN("solve");

TEST_CASE("a steady start: every state stands still, a position that nothing depends on is exempt")
{
    netloop::Run run = run_of(kPlant, "steady");
    netloop::Recording r = run.simulate();
    CHECK(r["level"].first() == doctest::Approx(4));     // (inflow / k)^2
    CHECK(r["speed"].first() == doctest::Approx(20));    // 10 N*m / 0.5 N*m*s
    CHECK(r["angle"].first() == doctest::Approx(0.3));   // keeps its init
    CHECK(r["angle"].final() == doctest::Approx(20.3));  // and turns
    CHECK(r["burner.T"].first() == doctest::Approx(293.15 + 0.001 * 38e6 / (0.121 * 1050)));
    CHECK(r["burner.T"].final() == doctest::Approx(r["burner.T"].first()).epsilon(1e-9));
    REQUIRE(run.summary().left_open.size() == 1);
    CHECK(run.summary().left_open[0] == "angle = 0.3 rad");
}

TEST_CASE("a steady start but for one quantity, which keeps its init")
{
    netloop::Recording r = run_of(kPlant, "nearly").simulate();
    CHECK(r["level"].first() == doctest::Approx(1));
    CHECK(r["speed"].first() == doctest::Approx(20));
}

TEST_CASE("a param is found so that the start meets a demand; what follows from it follows")
{
    netloop::Run run = run_of(kPlant, "found");
    netloop::Recording r = run.simulate();
    double fuel = 0.12 * 1050 * 620 / (38e6 - 1050 * 620);
    CHECK(r["burner.fuel"].first() == doctest::Approx(fuel).epsilon(1e-9));
    CHECK(r["burner.fuel"].final() == doctest::Approx(fuel).epsilon(1e-9));
    CHECK(r["burner.power"].first() == doctest::Approx(fuel * 38e6).epsilon(1e-9));
    CHECK(run.value("burner.fuel") == doctest::Approx(fuel).epsilon(1e-9));
    REQUIRE(run.summary().found.size() == 1);
    CHECK(run.summary().found[0].find("'burner.fuel' = 0.00209162") == 0);
    CHECK_THROWS_AS(run.set("burner.power", netloop::q(3, "kW")), netloop::UsageError);
    // the value that the param is given is where the search begins
    run.set("burner.fuel", netloop::q(0.05, "kg/s"));
    CHECK(run.simulate()["burner.fuel"].first() == doctest::Approx(fuel).epsilon(1e-9));
}

TEST_CASE("a param is found without steadiness, from a demand on a rate")
{
    netloop::Recording r = run_of(kPlant, "given").simulate();
    CHECK(r["level"].first() == doctest::Approx(1));
    CHECK(r["inflow"].first() == doctest::Approx(0.002 + 0.005));
}

TEST_CASE("a param that can only be found outside its range is an error that names it")
{
    netloop::Run run = run_of(kPlant, "too_hot");
    try {
        run.simulate();
        FAIL("accepted");
    } catch (const netloop::RunError& e) {
        CHECK(e.id() == "start-failed");
        mentions(e, "burner.fuel");
    }
}

TEST_CASE("a steady chamber behind a closed valve keeps its init")
{
    netloop::Run run = run_of(R"(
system S {
    param opening : 1 = 0
    var p : bar init 30 bar
    var q : L/min
    q = opening * 1e-9 m^3/(s*Pa) * (100 bar - p)
    1e-11 m^3/Pa * p' = q
}
scenario s of S { begin steady ; stop at 1 s }
)");
    CHECK(run.simulate()["p"].first() == doctest::Approx(30e5));
    CHECK(run.summary().left_open.size() == 1);
    run.set("opening", netloop::q(1, "1"));
    CHECK(run.simulate()["p"].first() == doctest::Approx(100e5));
    CHECK(run.summary().left_open.empty());
}

TEST_CASE("a run goes on from a recorded state, rates that are states included")
{
    test::Scratch scratch;
    std::string model = R"(
system Swing {
    param m : kg = 2 kg
    var x : m init 0.1 m
    init x' = 0
    m * x'' = -50 N/m * x - 0.5 N*s/m * x'
}
)";
    for (const char* form : {"h5", "csv"}) {
        std::string file = scratch / (std::string("first.") + form);
        netloop::Run first = run_of(model);
        netloop::RunOptions options;
        options.stop = 3;
        options.output_every = 0.5;
        options.tolerance = 1e-9;
        options.out = file;
        netloop::Recording whole = first.simulate(options);
        netloop::Run second = run_of(model + "scenario s of Swing { begin from \"" + file + "\" at 1 s ; stop at 2 s }\n");
        netloop::RunOptions rest;
        rest.output_every = 0.5;
        rest.tolerance = 1e-9;
        netloop::Recording later = second.simulate(rest);
        CHECK(second.summary().held.empty());
        for (std::size_t i = 0; i < later.n_rows(); ++i) CHECK(later["x"].values[i] == doctest::Approx(whole["x"].values[i + 2]).scale(0.1).epsilon(1e-6));
        // without 'at': from its end
        netloop::Run third = run_of(model + "scenario s of Swing { begin from \"" + file + "\" ; stop at 2 s }\n");
        CHECK(third.simulate()["x"].first() == doctest::Approx(whole["x"].final()));
    }
    netloop::RunOptions only_x;
    only_x.stop = 1;
    only_x.out = scratch / "x.csv";
    only_x.keep = {"x"};
    run_of(model).simulate(only_x);
    auto begin_from = [&](const std::string& what) { run_of(model + "scenario s of Swing { begin from \"" + what + " ; stop at 2 s }\n").simulate(); };
    CHECK_THROWS_WITH_AS(begin_from(scratch / "x.csv\""), doctest::Contains("x' is missing"), netloop::RecordingError);
    CHECK_THROWS_WITH_AS(begin_from(scratch / "first.csv\" at 5 s"), doctest::Contains("no state at 5 s"), netloop::RecordingError);
    CHECK_THROWS_AS(begin_from(scratch / "nowhere.csv\""), netloop::RecordingError);
}

TEST_CASE("a guess places the search, wherever it stands")
{
    std::string model = "system S { var x ; x^3 - 6*x^2 + 11*x - 6 = 0 }\n";  // 1, 2, 3
    for (const auto& [guess, root] : {std::pair{"0.5", 1.0}, {"1.9", 2.0}, {"5", 3.0}})
        CHECK(run_of(model + "scenario s of S { guess x = " + guess + " ; stop at 1 s }\n").simulate()["x"].first() == doctest::Approx(root));
}

TEST_CASE("searches that plain Newton iteration loses are won block by block and by continuation")
{
    // Newton's method runs in a circle 0 -> 1 -> 0 from where this begins
    CHECK(run_of("system S { var x ; x^3 - 2*x + 2 = 0 }\nscenario s of S { stop at 1 s }\n").simulate()["x"].first() == doctest::Approx(-1.7692923542));
    // far out, where the slope is small
    CHECK(run_of("system S { var x guess 30 ; atan(x) = 0.5 }\nscenario s of S { stop at 1 s }\n").simulate()["x"].first() == doctest::Approx(std::tan(0.5)));
    // a declared range keeps the search where the equation has a value
    CHECK(run_of("system S { var x in 1e-9 .. 100 guess 50 ; log(x) = -3 }\nscenario s of S { stop at 1 s }\n").simulate()["x"].first() ==
          doctest::Approx(std::exp(-3)));
    // no value where the search begins
    CHECK(run_of("system S { var x ; 1/x = 4 }\nscenario s of S { stop at 1 s }\n").simulate()["x"].first() == doctest::Approx(0.25));
}

TEST_CASE("a start that has no solution names the block, its equations by line, values and what they are off by")
{
    netloop::RunError e = failure_of(R"(
component Pipe {
    var q : L/min
    var dp : bar
    dp = 20 bar + 3e12 Pa*s^2/m^6 * q * abs(q)
}
system S {
    part pipe : Pipe
    var other : m init 3 m
    other' = 0
    pipe.dp^2 = -1 bar^2
}
)");
    CHECK(e.id() == "start-failed");
    mentions(e, "model.loop:11: pipe.dp*pipe.dp = -1e+10");
    mentions(e, "block of 1, wanted: 'pipe.dp'");
    mentions(e, "off by");
}

TEST_CASE("what has no value in an equation is told by line, operation and operands")
{
    const std::vector<std::array<std::string, 3>> cases{
        {"y = 1 / (x - x)", "division by zero or an overflow, whatever the other quantities are", "model.loop:3"},
        {"let w = 3 / (x - x)", "let w", "division by zero or an overflow"},
        {"y = log(x - 2)", "logarithm of a negative number: log(x - 2) is log(-1)", "model.loop:3"},
        {"y = sqrt(x - 3)", "root of a negative number: sqrt(x - 3) is sqrt(-2)", "model.loop:3"},
        {"y = exp(1000*x)", "overflow: exp(1000*x) is exp(1000)", "model.loop:3"},
        {"y = asin(x + 1)", "asin outside -1 .. 1: asin(x + 1) is asin(2)", "model.loop:3"},
        {"y = 1 / (1 - x)", "division by zero: (1) / (1 - x) is 1 / 0", "model.loop:3"},
        {"y = (x - 2)^0.3", "power of a negative number: (x - 2)^(0.3) is (-1)^0.3", "model.loop:3"},
        {"y = (1 - x)^(-0.3)", "zero to a negative power: (1 - x)^(-0.3) is 0^-0.3", "model.loop:3"},
    };
    for (const auto& [equation, fault, place] : cases) {
        CAPTURE(equation);
        bool settles = equation.starts_with("y");
        netloop::RunError e =
            failure_of("system S {\n    var x init 1 ; x' = 0 ; " + std::string(settles ? "var y" : "let y = 1") + "\n    " + equation + "\n}\n");
        mentions(e, fault);
        mentions(e, place);
    }
}

TEST_CASE("an operation that loses its value on the way ends the run there, and what was recorded is kept")
{
    netloop::Run run = run_of(R"(
component Cell {
    var x init 1
    var y
    x' = -1 s^-1
    y = log(x)
}
system S { part cell : Cell }
)");
    netloop::RunOptions options;
    options.stop = 3;
    options.output_every = 0.3;
    try {
        run.simulate(options);
        FAIL("accepted");
    } catch (const netloop::RunError& e) {
        CHECK(e.id() == "run-failed");
        mentions(e, "model.loop:6: in 'cell': cell.y = log(cell.x)");
        mentions(e, "at 1");
    }
    CHECK_FALSE(run.recording().complete);
    CHECK(run.recording().n_rows() >= 4);
    CHECK(run.recording()["cell.y"].values.back() == doctest::Approx(std::log(0.1)).epsilon(1e-6));
}

TEST_CASE("a source into a closed relief valve: the search reaches the pressure at which it opens")
{
    // leakage alone would ask for some 10,000 bar, and the liquid's compressibility points the other way
    netloop::Recording r = test::simulate(
        "use hydraulics, fluids\n system S { fluid oil = MineralOil ; part feed : FlowSource(flow = 15 L/min) ; part relief : ReliefValve(cracking = 200 bar) "
        "; part tank : Tank(oil = oil) ; feed.outlet -- relief.inlet ; "
        "relief.outlet -- tank.outlet ; var clock init 0 ; clock' = 1 s^-1 }",
        1);
    double dp = r["relief.dp"].final() / 1e5, flow = 200 * (dp - 200) / 15 + 1e-5 * dp;
    CHECK(flow == doctest::Approx(15).epsilon(0.01));  // at the density of the mean pressure
    CHECK(dp > 201);
}

TEST_CASE("start values of a name that two branches declare are those of the branch that holds")
{
    for (const char* way : {"false", "true"}) {
        netloop::Recording r = test::simulate(std::string("component A { option way = false\n if way { var x : m guess 3 m in 0 m .. 5 m\n x' = 0 m/s } else { "
                                                          "var x : m guess 4 m\n x' = 1 m/s } }\nsystem S "
                                                          "{ part a : A(way = ") +
                                                  way + ") }",
                                              1);
        CHECK(r["a.x"].final() == doctest::Approx(std::string(way) == "true" ? 3 : 5));
    }
}

TEST_CASE("what the start assumed is told in the units of the model, with the values of expressions")
{
    netloop::CompiledSystem system = test::compile(
        "component Pot { param begin : degC = 18 degC\n var T : degC guess begin\n var stored : kJ guess 2.5 kJ\n var share : 1 guess 0.5\n var open : 1 guess "
        "1\n"
        " T' = 0 K/s ; stored' = 0 W ; share' = 0 s^-1\n open = share }\nsystem S { part pot : Pot\n part other : Pot(begin = 40 degC) }");
    netloop::Run run(system);
    run.simulate({.stop = 1});
    std::vector<std::string> told = run.summary().assumed;
    for (const char* expected : {"pot.T = pot.begin (18 degC)", "other.T = other.begin (40 degC)", "pot.stored = 2.5 kJ", "pot.share = 0.5"}) {
        INFO(expected);
        CHECK(std::find(told.begin(), told.end(), expected) != told.end());
    }
    CHECK(told.size() == 6);  // a guess that settles nothing is not told
}

TEST_CASE("a start that contradicts itself names the conditions that matter, in the user's units, and no others")
{
    netloop::RunError e = failure_of(
        "component Rod { param l : m = 1 m ; var x : mm guess 0.5 m ; var y : mm guess 0.7 m ; var a : deg guess 30 deg\n"
        "x^2 + y^2 = l^2 ; tan(a) = y / x ; a' = 0.1 rad/s }\n"
        "system S { part r : Rod ; part q : Rod ; init r.x = 300 mm ; init r.a = 30 deg ; init q.a = 40 deg }");
    CHECK(mentions(e, "init r.a = 30 deg: it would have to be 30 deg, but the other conditions give 72.54"));
    CHECK(mentions(e, "with it: "));
    CHECK(mentions(e, "init r.x = 300 mm"));
    CHECK(std::string(e.what()).find("q.a") == std::string::npos);
}

TEST_CASE("a loop of links that all lie level where the search begins closes close by, and what was found there is told")
{
    // two bars and the distance of their grounds are a triangle: the law of cosines
    netloop::Run run = run_of(
        "use mechanics\nsystem S { part g : Foundation ; part far : Foundation(x = 0.9 m)\n part p1, p2, p3 : Pivot ; part a : Bar(length = 0.58 m) ; part b : "
        "Bar(length = 0.6 m)\n"
        "g.place -- p1.a ; p1.b -- a.a ; a.b -- p2.a ; p2.b -- b.a ; b.b -- p3.a ; p3.b -- far.place }");
    netloop::RunOptions options;
    options.stop = 0.01;
    options.verify = true;
    run.simulate(options);
    double inner = (0.58 * 0.58 + 0.9 * 0.9 - 0.6 * 0.6) / (2 * 0.58 * 0.9), angle = run.recording()["a.body.angle"].values.front();
    CHECK(std::abs(std::cos(angle)) == doctest::Approx(inner).epsilon(1e-6));
    CHECK(std::abs(angle) < 10);
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <cmath>
#include <thread>

#include "support/support.hpp"

using namespace netloop;
using namespace netloop::literals;

TEST_SUITE_BEGIN("api");

TEST_CASE("quantities with units")
{
    CHECK((80_mm).si() == doctest::Approx(0.08));
    CHECK((210_bar).si() == doctest::Approx(21e6));
    CHECK((35_L_per_min).si() == doctest::Approx(35e-3 / 60));
    CHECK((20_degC).si() == doctest::Approx(293.15));
    CHECK(q(16, "cm^3/rev").si() == doctest::Approx(16e-6 / 6.283185307179586));
    CHECK(Quantity(3.5).si() == 3.5);
    CHECK_THROWS_AS(q(1, "furlong/fortnight").si(), UsageError);
}

TEST_CASE("a system built in code gives the same as the same system in a file")
{
    Library library = Library::standard();
    SystemBuilder b("Cooling", library);
    auto hot = b.part("hot", "heat.HeatMass", {{"capacity", q(2, "kJ/K")}});
    auto path = b.part("path", "heat.Convection", {{"area", q(3, "m^2")}, {"coefficient", q(12, "W/(m^2*K)")}});
    auto air = b.part("air", "heat.Surroundings", {{"temperature", 10_degC}});
    b.join({hot["surface"], path["a"]});
    b.join({path["b"], air["surface"]});
    b.init(hot["T"], Expression(90_degC));
    Run run(compile(b));
    Recording coded = run.simulate({.stop = 100.0, .output_every = 10.0, .tolerance = 1e-8});
    Recording filed = test::simulate(
        "use heat\nsystem Cooling {\n part hot : HeatMass(capacity = 2 kJ/K)\n part path : Convection(area = 3 m^2, coefficient = 12 W/(m^2*K))\n part air : "
        "Surroundings(temperature = 10 degC)\n hot.surface -- path.a\n path.b -- air.surface\n init hot.T = 90 degC\n}\n",
        100, 1e-8, 10);
    REQUIRE(coded.n_rows() == filed.n_rows());
    for (std::size_t i = 0; i < coded.n_rows(); ++i) CHECK(coded["hot.T"].values[i] == filed["hot.T"].values[i]);
    CHECK(coded["hot.T"].final() == doctest::Approx(283.15 + 80 * std::exp(-36.0 * 100 / 2000)).epsilon(1e-6));
}

TEST_CASE("a component built in code: params, ranges, lets, functions, choices, rates")
{
    Library library = Library::standard();
    ComponentBuilder c("Tankful", library);
    auto area = c.param("area", "m^2", q(2, "m^2"), q(0.1, "m^2"), q(10, "m^2"));
    auto inflow = c.input("inflow", "m^3/s");
    auto level = c.var("level", "m");
    auto full = c.output("full", "1");
    auto head = c.let("head", Expression(q(1000, "kg/m^3")) * Expression(q(9.81, "m/s^2")) * level);
    c.equation(area * rate(level) == inflow - call("sqrt", {level / Expression(q(1, "m"))}) * Expression(q(1e-3, "m^3/s")));
    c.equation(full == choose(less(level, Expression(q(1, "m"))), Expression(0.0), Expression(1.0)));
    c.init(level, Expression(q(0.5, "m")));
    c.define();
    SystemBuilder s("Basin", library);
    auto tank = s.part("tank", "Tankful");
    auto feed = s.input("feed", "m^3/s", q(2e-3, "m^3/s"));
    s.feed(feed, tank["inflow"]);
    Run run(compile(s));
    Recording r = run.simulate({.stop = 200000.0, .tolerance = 1e-8});
    CHECK(r["tank.level"].final() == doctest::Approx(4.0).epsilon(1e-4));  // sqrt(h) = 2
    CHECK(r["tank.head"].final() == doctest::Approx(9810 * 4.0).epsilon(1e-4));
    CHECK(r["tank.full"].first() == 0);
    CHECK(r["tank.full"].final() == 1);
    CHECK_THROWS_AS(run.set("tank.area", q(20, "m^2")), RunError);
    CHECK_THROWS_AS(c.define(), ModelError);  // the name is taken now
    CHECK(library.describe("Tankful").find("area * level'") == std::string::npos);
    CHECK(library.describe("Tankful").find("area*level'") != std::string::npos);
    (void)head;
}

TEST_CASE("unit errors of a built system are found like those of a file")
{
    Library library = Library::standard();
    SystemBuilder s("Wrong", library);
    s.part("m", "mechanics.Mass", {{"mass", q(3, "bar")}});
    try {
        compile(s);
        FAIL("a mass in bar must be refused");
    } catch (const ModelError& error) {
        REQUIRE_FALSE(error.diagnostics().empty());
        CHECK(error.diagnostics()[0].id == "unit-of-value");
    }
    CHECK_THROWS_AS(s.param("k", "nonsense", q(1, "m")), UsageError);
}

TEST_CASE("stepwise: inputs change between steps, values can be read, the past cannot be reached")
{
    Run run(test::compile("system S { input u : 1 = 0 ; var x init 1 ; x' = (u - x) * 2 s^-1 ; let twice = 2 * x }"));
    run.step_to(1);
    CHECK(run.value("x") == doctest::Approx(std::exp(-2.0)).epsilon(1e-4));
    run.input("u") = 3;
    run.step_to(10);
    CHECK(run.value("x") == doctest::Approx(3).epsilon(1e-4));
    CHECK(run.value("twice") == doctest::Approx(6).epsilon(1e-4));
    CHECK(run.value("u") == 3);
    CHECK(run.time() == 10);
    CHECK_THROWS_AS(run.step_to(5), UsageError);
    CHECK_THROWS_AS(run.value("y"), UsageError);
    CHECK_THROWS_AS((run.input("x") = 1), UsageError);
    CHECK_THROWS_AS((run.input("u") = std::nan("")), UsageError);
    CHECK_THROWS_AS((run.input("u") = q(1, "m")), UsageError);
}

TEST_CASE("a changed param needs no compilation, and one compiled system serves several threads")
{
    CompiledSystem system = test::compile("system S { param k : 1/s = 1 s^-1 in 0 s^-1 .. 10 s^-1 ; var x init 1 ; x' = -k*x }");
    std::vector<double> ends(4);
    std::vector<std::thread> threads;
    for (int i = 0; i < 4; ++i)
        threads.emplace_back([&, i] {
            Run run(system);
            run.set("k", q(i + 1, "1/s"));
            ends[static_cast<std::size_t>(i)] = run.simulate({.stop = 1.0, .tolerance = 1e-9})["x"].final();
        });
    for (std::thread& t : threads) t.join();
    for (int i = 0; i < 4; ++i) CHECK(ends[static_cast<std::size_t>(i)] == doctest::Approx(std::exp(-(i + 1.0))).epsilon(1e-6));
}

TEST_CASE("there is no silent stop time")
{
    Run run(test::compile("system S { var x init 1 ; x' = -x }"));
    try {
        run.simulate();
        FAIL("a run without a stop time must be refused");
    } catch (const UsageError& error) {
        CHECK(std::string(error.what()).find("--stop 60s") != std::string::npos);
        CHECK(std::string(error.what()).find("stop at 60 s") != std::string::npos);
    }
    CHECK_THROWS_AS(run.simulate({.stop = -1.0}), UsageError);
    CHECK_THROWS_AS(run.simulate({.stop = 1.0, .output_every = 0.0}), UsageError);
    CHECK_THROWS_AS(run.simulate({.stop = 1.0, .tolerance = 2.0}), UsageError);
    CHECK(run.summary().one_line().find("ended early") == 0);  // nothing ran
}

TEST_CASE("scenarios: settings, options, taking over, unknown names")
{
    Library library = Library::standard();
    library.load_text("t.loop", R"(
system S {
    option n = 2
    option law : {slow, fast} = slow
    param k : 1/s = 1 s^-1
    param twice : 1/s = 2 * k
    var T[n] init 1
    for i in 1 .. n { T[i]' = -(if law == fast then 10 else 1) * twice * T[i] }
}
scenario base of S { set k = 0.25 s^-1 ; stop at 1 s ; tolerance 1e-9 }
scenario many from base { set n = 5, law = fast }
)");
    Recording a = Run(compile(library, {.scenario = "base"})).simulate();
    CHECK(a["T[2]"].final() == doctest::Approx(std::exp(-0.5)).epsilon(1e-6));
    CHECK(a.find("T[3]") == nullptr);
    Recording b = Run(compile(library, {.scenario = "many"})).simulate();
    CHECK(b["T[5]"].final() == doctest::Approx(std::exp(-5.0)).epsilon(1e-6));
    Recording c = Run(compile(library, {.scenario = "base", .set = {{"k", "60 rev/min / (2*pi)"}}})).simulate();
    CHECK(c["T[1]"].final() == doctest::Approx(std::exp(-2.0)).epsilon(1e-6));
    CHECK_THROWS_AS(compile(library), ModelError);  // which of the two?
    CHECK_THROWS_AS(compile(library, {.scenario = "bas"}), ModelError);
    CHECK_THROWS_AS(compile(library, {.scenario = "base", .set = {{"q", "1"}}}), ModelError);
    CHECK_THROWS_AS(compile(library, {.scenario = "base", .set = {{"k", "1 m"}}}), ModelError);
    CHECK_THROWS_AS(compile(library, {.scenario = "base", .set = {{"k", "((("}}}), ModelError);
}

TEST_CASE("components that take over others, values for what is taken over, option-dependent parts, arrays of parts")
{
    Recording r = test::simulate(R"(
base component Decay { param rate : 1/s = 1 s^-1 ; var x init 1 ; x' = -rate * x }
component Fast : Decay(rate = 3 s^-1) { let half = x / 2 }
component Both : Fast { option extra = true ; if extra { part more : Fast(rate = 5 s^-1) } }
system S {
    part a : Fast
    part b : Fast(rate = 2 s^-1)
    part c : Both(more.rate = 4 s^-1)
    part d : Both(extra = false)
    part e[i in 1 .. 3] : Fast(rate = i * 1 s^-1)
}
)",
                                 1);
    auto ends = [&](const char* name, double rate) { CHECK(r[name].final() == doctest::Approx(std::exp(-rate)).epsilon(1e-6)); };
    ends("a.x", 3);
    ends("b.x", 2);
    ends("c.more.x", 4);
    ends("e[2].x", 2);
    CHECK(r["a.half"].final() == doctest::Approx(0.5 * std::exp(-3.0)).epsilon(1e-6));
    CHECK(r.find("d.more.x") == nullptr);
}

TEST_CASE("two parts of one name in both branches of an option: each branch sees its own")
{
    // a tank of 10 bar fills a vessel through the one pipe or the other; the ports of the two have different names
    for (const char* waves : {"true", "false"}) {
        CAPTURE(waves);
        netloop::CompiledSystem system = test::compile(R"(use mechanics
component Short { port from : mechanics.translational ; port to : mechanics.translational ; param k : N/m = 2 N/m
    from.f + to.f = 0 N ; from.f = k * (from.x - to.x) }
component Long : Short(k = 1 N/m) { port other : mechanics.translational optional ; other.x = from.x }
system S {
    option waves = false
    part wall : Anchor
    part m    : Mass(mass = 1 kg)
    if waves { part link : Long ; wall.point -- link.from ; link.to -- m.point ; part mark : Anchor }
    else { part link : Spring(stiffness = 3 N/m) ; wall.point -- link.a ; link.b -- m.point }
    init m.x = 1 m ; init m.v = 0 m/s
}
)",
                                                       {{"waves", waves}});
        Run run(system);
        run.step_to(1);
        CHECK(run.value("m.x") == doctest::Approx(std::cos(std::sqrt(waves[0] == 't' ? 1.0 : 3.0))).epsilon(1e-4));
    }
}

TEST_CASE("what is no path is refused where a program names it, and a recording of nothing has no time")
{
    for (const char* path : {"..", "x[", "x[]", "x[1", "x[a]", "x]1[", "a..b", "", "a b", "x[1]y", "x[99999999999]"}) {
        CAPTURE(path);
        CHECK_THROWS_WITH_AS(SystemBuilder("S", Library::standard()).ref(path), doctest::Contains("is no path"), UsageError);
    }
    CHECK_NOTHROW(SystemBuilder("S", Library::standard()).ref("cylinder.bar[3].T"));
    CHECK_THROWS_AS(Recording().time(), netloop::RecordingError);
}

TEST_CASE("projects of several files: a file used, a folder as a library, and a circle of files")
{
    test::Scratch scratch;
    test::shell("mkdir -p " + (scratch / "parts"));
    test::write_file(scratch / "parts/decay.loop", "component Decay { param rate : 1/s = faster ; var x init 1 ; x' = -rate * x }\n");
    test::write_file(scratch / "parts/numbers.loop", "const faster : 1/s = 7 s^-1\n");
    test::write_file(scratch / "more.loop", "component Growth { var x init 1 ; x' = x / 1 s }\n");
    test::write_file(
        scratch / "main.loop",
        "use \"more.loop\"\nuse \"parts/\" as own\nsystem S { part a : own.Decay ; part b : Growth }\nscenario s of S { stop at 1 s ; tolerance 1e-9 }\n");
    Library library = Library::standard();
    library.load_file(scratch / "main.loop");
    Recording r = Run(compile(library)).simulate();
    CHECK(r["a.x"].final() == doctest::Approx(std::exp(-7.0)).epsilon(1e-6));
    CHECK(r["b.x"].final() == doctest::Approx(std::exp(1.0)).epsilon(1e-6));
    test::write_file(scratch / "x.loop", "use \"y.loop\"\n");
    test::write_file(scratch / "y.loop", "use \"x.loop\"\n");
    try {
        Library::standard().load_file(scratch / "x.loop");
        FAIL("a circle of files must be reported");
    } catch (const ModelError& error) {
        CHECK(error.diagnostics()[0].id == "circular-use");
        CHECK(std::string(error.what()).find("x.loop -> y.loop -> x.loop") != std::string::npos);
    }
}

TEST_CASE("a file that failed to load is not used; the library goes on working")
{
    Library library = Library::standard();
    CHECK_THROWS_AS(library.load_text("bad.loop", "system Bad { let x = }\n"), ModelError);
    CHECK_THROWS_AS(compile(library), ModelError);
    library.load_text("good.loop", "system Good { var x init 1 ; x' = -x }\n");
    CHECK(compile(library).name() == "Good");
    CHECK_THROWS_AS(library.load_file("/no/such/file.loop"), ModelError);
    CHECK_THROWS_AS(library.describe("hydraulics.Nothing"), UsageError);
    CHECK_THROWS_AS(library.list("nothing"), UsageError);
}

TEST_CASE("functions: steps, branches, several results, fluid functions; tables of one and two arguments")
{
    Recording r = test::simulate(R"(
function roots(a, b, c) -> (lo, hi) {
    let s = sqrt(b^2 - 4*a*c)
    lo := (-b - s) / (2*a)
    hi := (-b + s) / (2*a)
}
function clip(x) -> 1 {
    let y = x
    if x < 0 { return -1 } else if x > 2 { y := 2 }
    y := y * 10
    return y
}
function total(n) -> 1 {
    let s = 0
    for i in 1 .. 4 { s := s + i * n }
    return s
}
table map(speed : rpm, throttle : 1) -> N*m {
        | 0  1
    800 | 0  100
   1600 | 20 140
} linear, hold
system S {
    let r = roots(1, -3, 2)
    let a = clip(-5)
    let b = clip(1.5)
    let c = clip(7)
    let d = total(3)
    let m = map(1200 rpm, 0.5)
    let hi = roots(1, -5, 6).hi
    var x init 0
    x' = r.hi - r.lo
}
)",
                                 1);
    CHECK(r["x"].final() == doctest::Approx(1));
    CHECK(r["a"].final() == -1);
    CHECK(r["b"].final() == 15);
    CHECK(r["c"].final() == 20);
    CHECK(r["d"].final() == 30);
    CHECK(r["m"].final() == doctest::Approx(65));
    CHECK(r["hi"].final() == doctest::Approx(3));
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Functions with loops of unknown length, tables of three arguments, slots.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

const std::string kFriction = R"(
function friction(re : 1, rough : 1) -> 1 {
    let f = 0.02
    let old = 1
    let n = 0
    while abs(f - old) > 1e-14 and n < 200 {
        old := f
        f := 1 / (2 * log10(rough/3.7 + 2.51/(re*sqrt(old))))^2
        n := n + 1
    }
    return f
}
)";

double colebrook(double re, double rough)
{
    double f = 0.02;
    for (int k = 0; k < 200; ++k) f = std::pow(2 * std::log10(rough / 3.7 + 2.51 / (re * std::sqrt(f))), -2);
    return f;
}

}  // namespace

TEST_SUITE_BEGIN("model");

TEST_CASE("a function with a while loop gives its value, and its derivative by the rule of implicit functions")
{
    Recording r =
        test::simulate(kFriction + "system S { var re init 1e4 ; re' = 1e4 s^-1 ; let f = friction(re, 1e-3) ; let df = f' ; let ddf = f'' }", 2, 1e-10, 0.5);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double re = 1e4 * (1 + r.time().values[i]), f = colebrook(re, 1e-3);
        CHECK(r["f"].values[i] == doctest::Approx(f).epsilon(1e-9));
        // 1/sqrt(f) = -2 log10(A), A = rough/3.7 + 2.51/(re sqrt f)
        auto slope = [](double x) {
            double g = colebrook(x, 1e-3), a = 1e-3 / 3.7 + 2.51 / (x * std::sqrt(g)), k = 2 / std::log(10.0) / a * 2.51;
            // -f'/(2 f^1.5) = k (1/(x^2 sqrt f) + f'/(2 x f^1.5))
            return -k / (x * x * std::sqrt(g)) / (1 / (2 * std::pow(g, 1.5)) + k / (2 * x * std::pow(g, 1.5)));
        };
        CHECK(r["df"].values[i] == doctest::Approx(1e4 * slope(re)).epsilon(1e-7));
        CHECK(r["ddf"].values[i] == doctest::Approx(1e8 * (slope(re + 1) - slope(re - 1)) / 2).epsilon(1e-5));
    }
}

TEST_CASE("a for loop whose length is an argument, several results, early return, params read inside")
{
    Recording r = test::simulate(R"(
function power_sum(x : 1, n : 1) -> (s, last) {
    let t = 1
    s := 0
    last := 0
    for i in 1 .. n { t := t * x ; s := s + t ; last := t }
}
function first_above(x : 1, limit : 1) -> 1 {
    let y = x
    for i in 1 .. 1000 {
        if y > limit { return i }
        y := 2*y
    }
    return 0
}
function digits(x : 1) -> 1 {
    let n = 0
    let rest = x
    while rest >= 1 {
        rest := rest / 10
        if n > 5 { return 99 }
        n := n + 1
    }
    return n
}
system S {
    param n = 5
    var x init 0.3 ; x' = -0.1 s^-1 * x
    let p = power_sum(x, n)
    let a = p.s
    let b = p.last
    let rate = a'
    let steps = first_above(x, 2)
    let d = digits(1234 * time / 1 s + 1)
    let many = digits(1e9 + x)
}
)",
                                 1, 1e-10, 1);
    for (std::size_t i : {std::size_t{0}, r.n_rows() - 1}) {
        double x = r["x"].values[i], s = 0, ds = 0;
        for (int k = 1; k <= 5; ++k) s += std::pow(x, k), ds += k * std::pow(x, k - 1);
        CHECK(r["a"].values[i] == doctest::Approx(s));
        CHECK(r["b"].values[i] == doctest::Approx(std::pow(x, 5)));
        CHECK(r["rate"].values[i] == doctest::Approx(-0.1 * x * ds));
        CHECK(r["steps"].values[i] == 4);
        CHECK(r["many"].values[i] == 99);
    }
    CHECK(r["d"].first() == 1);
    CHECK(r["d"].final() == 4);
}

TEST_CASE("a called function stands in implicit equations, in index reduction and in many instances")
{
    // square root by Heron's rule, called; x^2 + root(x) = 6 at x = ...
    const std::string root = R"(
function root(a : 1) -> 1 {
    let x = 1
    let before = 0
    while abs(x - before) > 1e-15 * x { before := x ; x := (x + a/x) / 2 }
    return x
}
)";
    Recording r = test::simulate(root + "system S { var x guess 1 ; x^2 + root(x) = 18 }", 1, 1e-6, 1);
    double x = r["x"].final();
    CHECK(x * x + std::sqrt(x) == doctest::Approx(18).epsilon(1e-9));
    // a mass on a curve y = root(1 + x^2): its acceleration follows by differentiating the called function twice
    Recording slide = test::simulate(root + R"(
system S {
    var x init 0.5 ; var y ; var n
    init x' = 0
    y = root(1 + x^2)
    x'' = -n * x / root(1 + x^2)
    y'' = n - 9.81
}
)",
                                     1, 1e-10, 0.25);
    for (std::size_t i = 0; i < slide.n_rows(); ++i) {
        double u = slide["x"].values[i], v = slide["x'"].values[i], y = std::sqrt(1 + u * u);
        CHECK(slide["y"].values[i] == doctest::Approx(y).epsilon(1e-10));
        double energy = 0.5 * (v * v + std::pow(u * v / y, 2)) + 9.81 * y;
        CHECK(energy == doctest::Approx(9.81 * std::sqrt(1.25)).epsilon(1e-7));
    }
    Recording many =
        test::simulate(root + "system S { option n = 20 ; var x[n] ; for i in 1 .. n { x[i]' = -root(x[i]) * 1 s^-1 ; init x[i] = i } }", 1, 1e-10, 1);
    for (int i = 1; i <= 20; ++i) CHECK(many["x[" + std::to_string(i) + "]"].final() == doctest::Approx(std::pow(std::sqrt(i) - 0.5, 2)).epsilon(1e-6));
}

TEST_CASE("a loop that does not end gives no number, and the run says where")
{
    try {
        test::simulate("function forever(x) -> 1 { let y = x ; while y > 0 { y := y + 1 } ; return y }\nsystem S { var x init 1 ; x' = -forever(x) * 1 s^-1 }",
                       1);
        FAIL("accepted");
    } catch (const RunError& e) {
        INFO(e.what());
        CHECK(std::string(e.what()).find("forever") != std::string::npos);
    }
}

TEST_CASE("tables of three arguments from a file: values at the points, multilinear between, exact slopes")
{
    test::Scratch scratch;
    std::string csv = "z [mm],x [m],y [1],v [bar]\n";  // columns by heading, in any order
    auto f = [](double x, double y, double z) { return 2 + 3 * x - y + 0.5 * z + x * y - 0.25 * y * z; };
    for (double z : {0.0, 1.0, 3.0})
        for (double x : {0.0, 2.0})
            for (double y : {-1.0, 0.0, 4.0})
                csv += std::to_string(z * 1000) + "," + std::to_string(x) + "," + std::to_string(y) + "," + std::to_string(f(x, y, z)) + "\n";
    test::write_file(scratch / "map.csv", csv);
    for (const char* kind : {"linear", "smooth"}) {
        CAPTURE(kind);
        test::write_file(scratch / "m.loop", std::string("table v(x : m, y : 1, z : m) -> bar from \"map.csv\" ") + kind + R"(, extend
system S {
    var x : m init 0.3 m ; x' = 0.5 m/s
    let y = 0.5 + time / 1 s
    let z = 1.2 m + 0.3 m/s * time
    let p : bar = v(x, y, z)
    let at_point : bar = v(2 m, 4, 1 m)
    let rate : bar/s = p'
}
)");
        Library library = Library::standard();
        library.load_file(scratch / "m.loop");
        if (std::string(kind) == "linear") {
            // its slope jumps at the points: told where a derivative is asked for
            CHECK_THROWS_AS(Run(compile(library)).simulate({.stop = 1, .output_every = 0.25}), ModelError);
            continue;
        }
        Recording r = Run(compile(library)).simulate({.stop = 1, .output_every = 0.25, .tolerance = 1e-10});
        CHECK(r["at_point"].first() == doctest::Approx(1e5 * f(2, 4, 1)).epsilon(1e-12));
        for (std::size_t i = 1; i + 1 < r.n_rows(); ++i) {
            double slope = (r["p"].values[i + 1] - r["p"].values[i - 1]) / 0.5;
            CHECK(r["rate"].values[i] == doctest::Approx(slope).scale(1e5).epsilon(0.05));
        }
    }
    test::write_file(
        scratch / "m.loop",
        "table v(x : m, y : 1, z : m) -> bar from \"map.csv\" linear, hold\nsystem S { let p : bar = v(1 m, 2, 2 m) ; let q : bar = v(9 m, 2, -5 m) }");
    Library library = Library::standard();
    library.load_file(scratch / "m.loop");
    Recording r = Run(compile(library)).simulate({.stop = 1});
    CHECK(r["p"].first() == doctest::Approx(1e5 * f(1, 2, 2)).epsilon(1e-12));  // f is linear in each argument
    CHECK(r["q"].first() == doctest::Approx(1e5 * f(2, 2, 0)).epsilon(1e-12));
    test::write_file(scratch / "map.csv", csv.substr(0, csv.rfind('\n', csv.size() - 2) + 1));  // one point left out
    CHECK_THROWS_WITH_AS(compile(library), doctest::Contains("the full grid of 2 x 3 x 3 has 18"), ModelError);
}

TEST_CASE("slots: the default, another component by a scenario, by the part that holds it, and from outside")
{
    const std::string text = R"(
base component Source { port shaft : mechanics.rotational ; param power : kW = 10 kW }
component Slow : Source { shaft.angle' = 10 rad/s }
component Fast : Source { param speed : rad/s = 20 rad/s ; shaft.angle' = speed }
component Other { port shaft : mechanics.rotational ; param power : kW = 1 kW ; shaft.angle' = 5 rad/s }
component Drive { slot source : Source = Slow(power = 4 kW) ; port out : mechanics.rotational ; source.shaft -- out }
system S {
    slot drive : Source = Slow(power = 4 kW)
    part load : mechanics.Inertia(inertia = 2 kg*m^2)
    drive.shaft -- load.shaft
    let shown = drive.power
    part inner : Drive(source = Fast(speed = 3 rad/s))
    part load2 : mechanics.Inertia
    inner.out -- load2.shaft
}
scenario plain of S { stop at 1 s }
scenario a of S { put drive = Fast(speed = 30 rad/s) ; set drive.speed = 31 rad/s ; stop at 1 s }
scenario b of S { put drive = Other() ; put inner.source = Slow() ; stop at 1 s }
)";
    auto speeds = [&](const std::string& scenario, const std::vector<std::pair<std::string, std::string>>& set = {}) {
        Library library = Library::standard();
        library.load_text("slots.loop", text);
        Recording r = Run(compile(library, {.system = "", .scenario = scenario, .set = set})).simulate();
        return std::array<double, 3>{r["load.speed"].final(), r["load2.speed"].final(), r["shown"].final()};
    };
    CHECK(speeds("plain") == std::array<double, 3>{10, 3, 4e3});
    CHECK(speeds("a") == std::array<double, 3>{31, 3, 10e3});
    CHECK(speeds("b") == std::array<double, 3>{5, 10, 1e3});
    CHECK(speeds("b", {{"drive", "Fast(speed = 7 rad/s)"}}) == std::array<double, 3>{7, 10, 10e3});
    CHECK(speeds("b", {{"drive", "Fast()"}, {"drive.speed", "8 rad/s"}}) == std::array<double, 3>{8, 10, 10e3});
    CHECK_THROWS_WITH_AS(speeds("b", {{"drive.speed", "8 rad/s"}}), doctest::Contains("'speed' is not known in 'Other'"), ModelError);
    CHECK_THROWS_WITH_AS(speeds("a", {{"drive.speed", "8 m"}}), doctest::Contains("[m]"), ModelError);
}

TEST_CASE("roots are differentiated exactly at small sizes too")
{
    // q runs from 1e-4 to 1e-8: its square is far below what counts as zero elsewhere
    netloop::Recording r = test::simulate(
        "system S { var q : m^3 init 1e-4 m^3 ; q' = -q * 9.210340372 s^-1 ; let size : m^3 = sqrt(q^2 + (1e-9 m^3)^2) ; let rate : m^3/s = size' ; let root : "
        "m^1.5 = sqrt(q) ; let its_rate : m^1.5/s = root' }",
        1, 1e-9, 0.1);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double q = r["q"].values[i], dq = -9.210340372 * q;
        CHECK(r["rate"].values[i] == doctest::Approx(q / std::sqrt(q * q + 1e-18) * dq).epsilon(1e-9));
        CHECK(r["its_rate"].values[i] == doctest::Approx(0.5 * dq / std::sqrt(q)).epsilon(1e-9));
    }
    CHECK(r["q"].final() == doctest::Approx(1e-8).epsilon(1e-5));
}

TEST_CASE("a declared start value that depends on other quantities is a condition of the start, whichever way equations are evaluated")
{
    for (const char* evaluator : {"plain", "grouped", "machine"}) {
        netloop::Run run(
            test::compile("component Part { param k = 3 ; var a init 2 ; var b init k * a ; a' = -a / (1 s) ; b' = 0 / (1 s) }\nsystem S { part p : Part }"));
        netloop::RunOptions options;
        options.stop = 1;
        options.evaluator = evaluator;
        CHECK(run.simulate(options)["p.b"].first() == doctest::Approx(6));
    }
}

TEST_CASE("slope: the partial derivative of a function, a table and a formula, and what it refuses")
{
    const std::string parts = "table bend(x : rad) -> m { 0: 0, 1: 2, 2: 3, 3: 3.5 } smooth, hold\nfunction square(x, y : m) -> m { return x^2 * y }\n";
    netloop::Recording r = test::simulate(parts +
                                              "system S { var x : rad\n x = time * 1 rad/s\n var y : m\n y = 3 m * sin(time / (1 s))\n let a : m = "
                                              "slope(square(x, y), x)\n let b : 1 = slope(square(x, y), y)\n let "
                                              "c : m = slope(bend(x) * cos(x), x)\n let bent : m = bend(x)\n let d : m/s = bent' }",
                                          1.5);
    double x = 1.5, y = 3 * std::sin(1.5);
    CHECK(r["a"].final() == doctest::Approx(2 * x * y).epsilon(1e-7));
    CHECK(r["b"].final() == doctest::Approx(x * x).epsilon(1e-7));
    CHECK(r["c"].final() == doctest::Approx(r["d"].final() * std::cos(x) - r["bent"].final() * std::sin(x)).epsilon(1e-7));
    CHECK(test::messages_of("system S { var x : 1\n x = time / (1 s)\n let a : 1 = slope(x^2, 2 * x) }").find("name the unknown itself") != std::string::npos);
    CHECK(test::messages_of("system S { var x : m\n x = time * 1 m/s\n let a : m = slope(x^2, x) + 1 s }").find("[s]") != std::string::npos);
}

TEST_CASE("a component's own function with several results: by a let, by name, with its params; a private let keeps them to itself")
{
    Recording r = test::simulate(
        "function both(a) -> (lo, hi) { lo := a - 100 ; hi := a + 100 }\n"
        "component Pair { param by = 2 ; input at = 3\n"
        "  function both(a) -> (lo, hi) { lo := a - by ; hi := a + by }\n"
        "  let r = both(at) ; let _hidden = both(at) ; let high = both(2 * at).hi ; let low = _hidden.lo }\n"
        "system S { part near : Pair ; part far : Pair(by = 10) ; 2 * time / (1 s) -> far.at ; let outside = both(1).lo }\n",
        2, 1e-9, 1);
    auto last = [&](const char* name) { return r[name].values.back(); };
    CHECK(last("near.r.lo") == 1);
    CHECK(last("near.r.hi") == 5);
    CHECK(last("near.high") == 8);
    CHECK(last("far.r.lo") == -6);
    CHECK(last("far.r.hi") == 14);
    CHECK(last("far.low") == -6);
    CHECK(last("outside") == -99);  // that of the file
    CHECK(r.find("near._hidden.lo") == nullptr);
    // what is no result of it is told
    CHECK(test::errors_of("component A { function f(a) -> (x, y) { x := a ; y := a } ; let q = f(1).z }\nsystem S { part a : A }\n") ==
          std::vector<std::string>{"unknown-name:1"});
}

TEST_SUITE_END();

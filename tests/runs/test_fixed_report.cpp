// SPDX-License-Identifier: Apache-2.0
// Fit for real time or not: largest steps against what theory says of them, accuracy against formulas, hindrances that are told.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("runs");

namespace {

nl::FixedStepReport report(const std::string& text, const std::string& method, double step, double stop, std::vector<std::string> methods = {})
{
    nl::FixedStepRequest request;
    request.options.method = method;
    request.options.step = step;
    request.stop = stop;
    request.methods = methods.empty() ? std::vector<std::string>{method} : methods;
    return nl::fixed_step_report(test::compile(text), request);
}

}  // namespace

TEST_CASE("the largest stable step of explicit methods is what the eigenvalues allow")
{
    // lambda = -200 1/s: Euler to 2 / 200 s, the method of order 4 to 2.785293563 / 200 s (Hairer and Wanner, 1996, sec. IV.2)
    const std::string text = "system S { var x init 1 ; var slow init 1 ; x' = -200 * (x - slow) / (1 s) ; slow' = -slow / (2 s) }\n";
    nl::FixedStepReport r = report(text, "euler", 1e-3, 4, {"euler", "rk4", "linear-euler"});
    REQUIRE(r.methods.size() == 3);
    CHECK(r.fit());
    CHECK(r.methods[0].by_modes == doctest::Approx(0.01).epsilon(1e-3));
    CHECK(r.methods[1].by_modes == doctest::Approx(2.785293563 / 200).epsilon(1e-3));
    // by runs: the growth has to show within the run, so a little beyond
    CHECK(r.methods[0].largest_stable == doctest::Approx(0.01).epsilon(0.08));
    CHECK(r.methods[1].largest_stable == doctest::Approx(0.0139).epsilon(0.08));
    CHECK(r.methods[2].largest_stable > 0.1);
    // an undamped one: no step of Euler's is stable there, and eigenvalues that do not decay are no bound
    nl::FixedStepReport swings = report("system S { var x init 1 ; var v init 0 ; x' = v / (1 s) ; v' = -(10000) * x / (1 s) }\n", "rk4", 1e-3, 2);
    CHECK(swings.fit());
    CHECK(swings.methods[0].largest_stable == doctest::Approx(2.828 / 100).epsilon(0.1));
}

TEST_CASE("a step is called stable only where it was tried as far as longer ones got")
{
    // from 5 s on 1e8 1/s: 28 ns at most, and a million of such steps end at 28 ms
    nl::FixedStepReport r =
        report("system S { var x init 2 ; var y init 1 ; y' = -y / (1 s) ; x' = if time > 5 s then 1e8 * (y - x) / (1 s) else -x / (1 s) }\n", "rk4", 1e-3, 6);
    REQUIRE(r.methods.size() == 1);
    CHECK_FALSE(r.fit());
    CHECK(r.methods[0].largest_stable == 0);
    CHECK(r.methods[0].none_found.find("fails at 5") != std::string::npos);
    CHECK(r.text().find("fails at 5") != std::string::npos);
}

TEST_CASE("accuracy: quantities and measures against formulas")
{
    // x = exp(-t): linear-euler gives (1 + h)^-n
    const std::string text =
        "system S { var x init 1 ; x' = -x / (1 s) }\nscenario s of S { stop at 2 s ; measure last = final(x) ; measure half = first(time when x < 0.5) }\n";
    nl::Library library = nl::Library::standard();
    library.load_text("s.loop", text);
    nl::FixedStepRequest request;
    request.options.step = 0.01;
    request.methods = {"linear-euler"};
    nl::FixedStepReport r = nl::fixed_step_report(nl::compile(library), request);
    REQUIRE(r.methods.size() == 1);
    double worst = 0;
    for (int k = 0; k <= 200; ++k) worst = std::max(worst, std::abs(std::pow(1.01, -k) - std::exp(-0.01 * k)));
    const auto& q = r.methods[0].quantities;
    auto x = std::find_if(q.begin(), q.end(), [](const auto& d) { return d.name == "x"; });
    REQUIRE(x != q.end());
    CHECK(x->largest == doctest::Approx(worst).epsilon(1e-4));
    CHECK(x->share == doctest::Approx(worst / (1 - std::exp(-2.0))).epsilon(1e-3));
    CHECK(x->at == doctest::Approx(1.0).epsilon(0.05));
    REQUIRE(r.methods[0].measures.size() == 2);
    CHECK(r.methods[0].measures[0].reference == doctest::Approx(std::exp(-2.0)).epsilon(1e-6));
    CHECK(r.methods[0].measures[0].found == doctest::Approx(std::pow(1.01, -200)).epsilon(1e-9));
    CHECK(r.methods[0].measures[1].reference == doctest::Approx(std::log(2.0)).epsilon(1e-5));
    CHECK(r.methods[0].measures[1].found == doctest::Approx(std::log(2.0) / std::log(1.01) * 0.01).epsilon(2e-3));
    CHECK(r.text().find("last") != std::string::npos);
    CHECK(nlohmann::json::parse(r.json())["methods"][0]["steps"] == 200);
    CHECK(r.methods[0].median > 0);
    CHECK(r.methods[0].longest >= r.methods[0].nearly_all);
}

TEST_CASE("what hinders is told: events within steps, periods that do not fit, delays, choices of states that change")
{
    nl::FixedStepReport r = report(
        "system S { var x init 0 ; memory u = 0 ; x' = (u - x) / (1 s) ; every 7 ms { u := 1 - x } ; let late = delay(x, 30 ms) ; when x > 0.2345 { u := 0 } "
        "}\n",
        "linear-euler", 5e-3, 1);
    std::string all;
    for (const std::string& h : r.hinders) all += h + "\n";
    CHECK(all.find("lie within steps") != std::string::npos);
    CHECK(all.find("every 7 ms") != std::string::npos);
    CHECK(all.find("no whole number of steps") != std::string::npos);
    CHECK(all.find("1 delay") != std::string::npos);
    // a pendulum that turns over: x and y are states by turns
    nl::FixedStepReport turns = report(
        "system S { var x : m init 0.1 m ; var y : m ; var s : N/m ; init x' = 8 m/s\n"
        "  (1 kg) * x'' = -s * x ; (1 kg) * y'' = -s * y - 9.81 N ; x^2 + y^2 = 1 m^2 ; guess y = -1 m }\n",
        "rosenbrock", 1e-3, 1.5);
    all.clear();
    for (const std::string& h : turns.hinders) all += h + "\n";
    CHECK(all.find("changed its choice of states") != std::string::npos);
    CHECK_FALSE(turns.fit());
}

TEST_CASE("a step that is too long is told with what runs away, and what to do instead")
{
    nl::FixedStepReport r = report("system S { var x init 1 ; x' = -5000 * x^3 / (1 s) }\n", "euler", 1e-2, 1, {"euler", "linear-euler"});
    CHECK_FALSE(r.fit());
    CHECK(r.methods[0].fails.find("x") != std::string::npos);
    CHECK(r.methods[1].holds);
    std::string next;
    for (const std::string& n : r.next) next += n + "\n";
    CHECK(next.find("linear-euler") != std::string::npos);
    CHECK_THROWS_AS(report("system S { var x init 1 ; x' = -x / (1 s) }\n", "bdf", 1e-2, 1), nl::UsageError);
    CHECK_THROWS_AS(report("system S { var x init 1 ; x' = -x / (1 s) }\n", "euler", 2, 1), nl::UsageError);
}

TEST_CASE("the whole bridge at 1 ms: measures within a thousandth, parts named")
{
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/bascule/whole/bridge.loop"));
    nl::FixedStepRequest request;
    request.options.step = 1e-3;
    request.methods = {"linear-euler"};
    request.tolerance = 1e-7;
    nl::FixedStepReport r = nl::fixed_step_report(nl::compile(library, {.scenario = "fixed_pump"}), request);
    REQUIRE(r.fit());
    REQUIRE(r.methods[0].measures.size() > 3);
    for (const char* name : {"lift_time", "cycle_time", "top_speed", "peak", "shock"}) {
        auto d = std::find_if(r.methods[0].measures.begin(), r.methods[0].measures.end(), [&](const auto& m) { return m.name == name; });
        REQUIRE(d != r.methods[0].measures.end());
        CHECK_MESSAGE(d->share < 3e-3, name);
    }
    CHECK(r.methods[0].bad_pivots == 0);
    CHECK(r.parts.size() > 10);
    CHECK(r.methods[0].largest_stable > 2e-3);
}

TEST_SUITE_END();

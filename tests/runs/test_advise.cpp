// SPDX-License-Identifier: Apache-2.0
// Advice: what is found, what it costs, what is refused. A tiny mass on a stiff spring that rings at each push makes a run slow, and nothing else needs it.
#include <doctest/doctest.h>

#include <cmath>
#include <map>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("runs");

namespace {

const std::string kRinging =
    "component Bob { param mass : kg = 1 g in 1e-6 kg .. 1 kg ; param spring : N/m = 1e6 N/m in 1 N/m .. 1e9 N/m ; param drag : N*s/m = 0.05 N*s/m ; input "
    "base : m ; input base_speed : m/s ; output "
    "force : N\n  var y : m init 0 m ; mass * y'' = -force ; force = spring * (y - base) + drag * (y' - base_speed) ; init y' = 0 m/s }\n"
    "system Ringing { param m : kg = 100 kg in 1 kg .. 1 t ; var x : m init 0 m ; part bob : Bob ; x -> bob.base ; x' -> bob.base_speed\n"
    "  let push : N = if sin(2 * pi * time / (1 s)) > 0 then 200 N else 0 N ; m * x'' = push - (1e4 N/m) * x - (300 N*s/m) * x' + bob.force ; init x' = 0 m/s "
    "}\n"
    "scenario shaken of Ringing { stop at 4 s ; output every 10 ms ; measure furthest = max(x) }\n";

nl::CompiledSystem ringing()
{
    nl::Library library = nl::Library::standard();
    library.load_text("ringing.loop", kRinging);
    return nl::compile(library, {.scenario = "shaken"});
}

}  // namespace

TEST_CASE("the part that rings is found, its change is measured and may be taken over")
{
    // one method, whose steps are held by the mode that rings: a change of it shows in every one of them
    nl::RunOptions adams;
    adams.integrator = "adams";
    nl::Advice advice = nl::advise(ringing(), {.runs = 16, .jobs = 2, .options = adams});

    CHECK(advice.runs <= 16);
    CHECK(advice.as_it_is.steps > 5000);
    REQUIRE(!advice.combined.changes.empty());
    CHECK(advice.combined.changes[0].param.starts_with("bob."));
    CHECK(advice.combined.steps < 0.5 * advice.as_it_is.steps);
    for (const nl::Advice::Trial& t : advice.trials) CHECK((t.changes.size() == 1 || t.round > 1));
    // what it costs is in proportion: the measure is kept within one percent
    bool told = false;
    for (const nl::Advice::Price& p : advice.combined.prices) {
        if (p.what != "furthest") continue;
        told = true;
        CHECK(p.share < 0.01);
    }
    CHECK(told);
    CHECK(advice.text().find("moves a mode of") != std::string::npos);
    CHECK(advice.json().find("\"speed_up\"") != std::string::npos);
    // the scenario to paste is one: it compiles, and makes as few steps
    REQUIRE(advice.scenario.starts_with("scenario fast from shaken {"));
    nl::Library library = nl::Library::standard();
    library.load_text("ringing.loop", kRinging + advice.scenario);
    nl::Run run(nl::compile(library, {.scenario = "fast"}));
    run.simulate(adams);
    CHECK(static_cast<double>(run.summary().steps) == doctest::Approx(advice.combined.steps).epsilon(0.02));
}

TEST_CASE("a difference is seen at rows that are sides of events, too, and what goes beyond its bound is refused")
{
    nl::Advice advice = nl::advise(ringing(), {.keep = {{"x", 1e-9}}, .runs = 6});
    REQUIRE(!advice.trials.empty());
    for (const nl::Advice::Trial& t : advice.trials) {
        CHECK(!t.refused.empty());
        CAPTURE(t.refused);
        CHECK((t.refused.find("differs by") != std::string::npos || t.refused.find("does not come to its end") != std::string::npos));
    }
    CHECK(advice.combined.changes.empty());
    CHECK(advice.scenario.empty());
    CHECK(advice.text().find("refused") != std::string::npos);
    // all rows of this one are at ticks
    nl::Library library = nl::Library::standard();
    library.load_text("ticks.loop",
                      "system Ticks { param T : s = 10 ms in 1 ms .. 1 s ; param tick : s = 1 ms in 0.1 ms .. 1 s ; memory held : 1 = 0 ; var x : 1 init 0 ; T "
                      "* x' = held - x\n"
                      "  every tick { held := sin(2 * pi * time / (0.1 s)) } }\nscenario ticking of Ticks { stop at 1 s ; output every 10 ms }\n");
    nl::Advice ticking = nl::advise(nl::compile(library, {.scenario = "ticking"}), {.runs = 5});
    bool found = false;
    for (const nl::Advice::Trial& t : ticking.trials) {
        if (t.changes[0].param != "tick") continue;
        found = true;
        CHECK(t.changes[0].reason.find("period of 'every tick'") != std::string::npos);
        REQUIRE(!t.prices.empty());
        CHECK(t.prices[0].share > 0.01);
    }
    CHECK(found);
}

TEST_CASE("longer fixed steps: what limits them is found one after the other, by the eigenvalues of two lags and a clock")
{
    nl::Library library = nl::Library::standard();
    library.load_text(
        "lags.loop",
        "system Lags { param quick : ms = 1 ms in 1e-3 ms .. 1 s ; param slow : ms = 4 ms in 1e-3 ms .. 1 s ; param tick : ms = 2 ms in 0.1 ms .. 1 s\n"
        "  memory held : 1 = 0 ; var x : 1 init 0 ; var y : 1 init 0 ; quick * x' = held - x ; slow * y' = x - y\n"
        "  every tick { held := 1 - held } }\nscenario ticking of Lags { stop at 0.2 s ; output every 1 ms }\n");
    nl::CompiledSystem lags = nl::compile(library, {.scenario = "ticking"});
    // 1 + q + q^2/2 + q^3/6 + q^4/24 is 1 again at -2.785293563405282
    constexpr double kRk4 = 2.785293563405282;
    nl::Advice advice = nl::advise(lags, {.runs = 20, .fixed_method = "rk4"});
    CHECK(advice.as_it_is.largest_step == doctest::Approx(2e-3).epsilon(1e-9));
    REQUIRE(advice.combined.changes.size() >= 2);
    CHECK(advice.combined.changes[0].param == "tick");
    CHECK(advice.trials[0].changes[0].reason.find("runs every 2 ms") != std::string::npos);
    // the clock taken, the quick lag is next: 3 and 10 times as slow
    double first = 0;
    for (const nl::Advice::Trial& t : advice.trials)
        if (t.round == 1 && t.changes.back().param == "tick") first = std::max(first, t.largest_step);
    CHECK(first == doctest::Approx(kRk4 * 1e-3).epsilon(1e-6));
    bool quick = false;
    for (const nl::Advice::Trial& t : advice.trials) {
        if (t.round != 2 || t.changes.back().param != "quick") continue;
        quick = true;
        CHECK(t.before == doctest::Approx(kRk4 / 2).epsilon(1e-6));
        CHECK(t.changes.front().param == "tick");
        CHECK(t.changes.back().reason.find("time constant of 1 ms") != std::string::npos);
        CHECK(t.speed_up > t.before);
    }
    CHECK(quick);
    CHECK(advice.confirmed.find("comes to its end") != std::string::npos);
    // the scenario to paste bears what it says
    CHECK(advice.scenario.find("For steps of") != std::string::npos);
    CHECK(advice.scenario.find("with rk4") != std::string::npos);
    CHECK(advice.text().find("with that taken") != std::string::npos);
    CHECK(advice.json().find("\"largest_step\"") != std::string::npos);
    CHECK(nl::advise(lags, {.runs = 2, .fixed_method = "euler"}).as_it_is.largest_step == doctest::Approx(2e-3).epsilon(1e-9));
    // by runs: an implicit method bears what its clock does
    nl::Advice implicit = nl::advise(lags, {.runs = 2, .fixed_method = "linear-euler"});
    CHECK(implicit.as_it_is.largest_step == doctest::Approx(2e-3).epsilon(1e-9));
    CHECK_THROWS_WITH_AS(nl::advise(lags, {.fixed_method = "rk5"}), doctest::Contains("rk5"), nl::UsageError);
}

TEST_CASE("parts of one kind that limit alike are changed together, and no param goes far where nothing is to be kept")
{
    auto advice_on = [](const std::string& measure) {
        nl::Library library = nl::Library::standard();
        library.load_text("two.loop",
                          "component Lag { param t : ms = 1 ms in 1e-3 ms .. 1 s ; input u : 1 ; var x : 1 init 0 ; t * x' = u - x }\n"
                          "system Two { part left, right : Lag ; let u = sin(time * 6 / (1 s)) ; u -> left.u ; u -> right.u }\n"
                          "scenario s of Two { stop at 1 s " +
                              measure + " }\n");
        return nl::advise(nl::compile(library, {.scenario = "s"}), {.fixed_method = "rk4"});
    };
    nl::Advice advice = advice_on("");
    REQUIRE(advice.combined.changes.size() == 2);
    CHECK(advice.trials[0].tried == 2);
    for (const nl::Advice::Change& c : advice.combined.changes) CHECK(c.to == doctest::Approx(10e-3).epsilon(1e-9));
    CHECK(advice.combined.largest_step == doctest::Approx(2.785293563405282e-2).epsilon(1e-6));
    CHECK(advice.text().find("left.t: 1 ms -> 10 ms, and right.t") != std::string::npos);
    // with a measure that does not mind the bound is the measure's
    nl::Advice free = advice_on("; measure end = final(time)");
    REQUIRE(free.combined.changes.size() == 2);
    CHECK(free.combined.changes[0].to > 50e-3);
    // what none of them moves is not told as a price
    for (const nl::Advice::Price& p : advice.combined.prices) CHECK(p.difference != 0);
}

TEST_CASE("without anything that limits it a step is as long as the run, and an undamped mode limits rk4")
{
    auto largest = [](const std::string& text) {
        nl::Library library = nl::Library::standard();
        library.load_text("one.loop", "system One { " + text + " }\nscenario s of One { stop at 3 s }\n");
        return nl::advise(nl::compile(library, {.scenario = "s"}), {.runs = 2, .fixed_method = "rk4"}).as_it_is.largest_step;
    };
    CHECK(largest("var x init 1 ; x' = 1 / (1 s)") == 3);
    CHECK(largest("var x init 1 ; var v init 0 ; x' = v / (1 s) ; v' = -100 * x / (1 s)") == doctest::Approx(std::sqrt(8.0) / 10).epsilon(1e-6));
}

TEST_CASE("the bridge that was put together in a hurry: two volumes, the seat, a small mass and a clock, in this order")
{
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/bascule/slow/bridge.loop"));
    nl::Advice advice = nl::advise(nl::compile(library, {.scenario = "seating"}), {.jobs = 2, .fixed_method = "rk4"});
    // the round in which each was first found to help
    std::map<std::string, std::size_t> helped;
    for (const nl::Advice::Trial& t : advice.trials)
        if (t.refused.empty() && t.speed_up > 1.02 * t.before) helped.try_emplace(t.changes.back().param, t.round);
    for (const char* param : {"chamber", "seat.stiffness", "safety.mass", "position.period"}) REQUIRE(helped.count(param) == 1);
    CHECK(helped["chamber"] == 1);
    CHECK(helped["chamber"] < helped["seat.stiffness"]);
    CHECK(helped["seat.stiffness"] < helped["safety.mass"]);
    CHECK(helped["safety.mass"] < helped["position.period"]);
    nl::Advice sound = nl::advise(nl::compile(library, {.scenario = "sound"}), {.runs = 2, .fixed_method = "rk4"});
    CHECK(advice.as_it_is.largest_step < 0.1 * sound.as_it_is.largest_step);
    CHECK(advice.combined.largest_step > 0.9 * sound.as_it_is.largest_step);
    for (const nl::Advice::Price& p : advice.combined.prices)
        if (p.what == "top" || p.what == "peak") CHECK(p.share < 0.01);
    CHECK(advice.confirmed.find("comes to its end") != std::string::npos);
}

TEST_CASE("what cannot be kept is told with the nearest name")
{
    CHECK_THROWS_WITH_AS(nl::advise(ringing(), {.keep = {{"furthes", 1}}, .runs = 2}), doctest::Contains("did you mean 'furthest'?"), nl::UsageError);
}

TEST_CASE("another component in the place of a part, fewer cells: tried, measured, taken, and told as lines to paste")
{
    // a valve whose spool rings at 500 Hz at each push, beside one without; a pipe of heat in twelve cells that nobody needs
    const std::string text =
        "## A valve with a spool that has mass.\n## Instead: StillValve, where the spool does not matter\n"
        "component RingingValve { param gain = 2 in 0 .. 10 ; param mass : g = 1 g in 1 g .. 2 g ; param spring : N/m = 1e4 N/m in 9e3 N/m .. 1.1e4 N/m\n"
        "  input u : 1 ; output y : 1 ; var x init 0 ; mass * x'' = spring * (u - x) - (0.06 N*s/m) * x' ; init x' = 0 s^-1 ; y = gain * x }\n"
        "## A valve without a mass.\n"
        "component StillValve { param gain = 1 in 0 .. 10 ; input u : 1 ; output y : 1 ; y = gain * u }\n"
        "component Rod { option n : int = 12 in 2 .. 100 ; input heat : 1 ; output mean : 1 ; var T[n] init 0 ; T[1]' * (1 s) = heat - n^2 * (T[1] - T[2])\n"
        "  for i in 2 .. n - 1 { T[i]' * (1 s) = n^2 * (T[i - 1] - 2 * T[i] + T[i + 1]) } ; T[n]' * (1 s) = n^2 * (T[n - 1] - T[n]) ; mean = T[1] }\n"
        "system Pushed { part valve : RingingValve(gain = 3) ; part rod : Rod ; var way init 0 ; let push = if sin(2 * pi * time / (0.5 s)) > 0 then 1 else 0\n"
        "  push -> valve.u ; push -> rod.heat ; way' * (1 s) = valve.y - way }\n"
        "scenario shaken of Pushed { stop at 3 s ; output every 10 ms ; measure furthest = max(way) }\n";
    nl::Library library = nl::Library::standard();
    library.load_text("pushed.loop", text);
    nl::Advice advice = nl::advise(library, {.scenario = "shaken"}, {.runs = 24, .jobs = 2});
    REQUIRE(!advice.combined.changes.empty());
    const nl::Advice::Change* part = nullptr;
    for (const nl::Advice::Change& c : advice.combined.changes)
        if (c.is_part) part = &c;
    REQUIRE(part != nullptr);
    CHECK(part->text() == "valve: RingingValve -> StillValve(gain = 3)");
    CHECK(part->reason.find("of the steps") != std::string::npos);
    CHECK(advice.combined.steps < 0.5 * advice.as_it_is.steps);
    CHECK(advice.scenario.find("    put valve = StillValve(gain = 3)\n") != std::string::npos);
    CHECK(advice.json().find("\"part\":") != std::string::npos);
    // what is measured is what the pasted scenario does
    nl::Library again = nl::Library::standard();
    again.load_text("fast.loop", text + advice.scenario);
    nl::Run run(nl::compile(again, {.scenario = "fast"}));
    nl::Recording r = run.simulate();
    CHECK(static_cast<double>(run.summary().steps) == doctest::Approx(advice.combined.steps).epsilon(0.02));
    // the spool follows within milliseconds: 3 / (1 + exp(-0.25 s)) of a push of half a period, in the long run
    CHECK(r.measures[0].value == doctest::Approx(3 * (1 - std::exp(-0.25)) / (1 - std::exp(-0.5)) * (1 - std::exp(-3.0))).epsilon(0.01));
    // without the library no part is exchanged
    nl::Advice params = nl::advise(nl::compile(again, {.scenario = "shaken"}), {.runs = 6});
    for (const nl::Advice::Trial& t : params.trials)
        for (const nl::Advice::Change& c : t.changes) CHECK_FALSE(c.is_structural());
}

TEST_SUITE_END();

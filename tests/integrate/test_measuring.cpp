// SPDX-License-Identifier: Apache-2.0
// Measures and demands of scenarios against closed forms: they are followed between the rows, and do not depend on them.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

RunSummary run(const std::string& text, double tolerance = 1e-9)
{
    Library library = Library::standard();
    library.load_text("measures.loop", text);
    Run r(compile(library));
    RunOptions options;
    options.tolerance = tolerance;
    options.output_every = 7.0;  // rows far apart: measures must not need them
    r.simulate(options);
    return r.summary();
}

double value(const RunSummary& s, const std::string& name)
{
    for (const MeasureResult& m : s.measures)
        if (m.name == name) return m.value;
    FAIL("no measure " << name);
    return 0;
}

const std::string kRinging =
    "use mechanics\nsystem S {\n part m : Mass(mass = 2 kg)\n part s : Spring(stiffness = 50 N/m)\n part d : Damper(damping = 1 N*s/m)\n part w : Anchor\n "
    "w.point -- s.a -- d.a\n s.b "
    "-- d.b -- m.point\n param limit : mm = 80 mm\n init m.x = 0.1 m ; init m.v = 0 m/s\n}\nscenario ring of S {\n stop at 10 s\n";

const double kDecay = 0.25, kOmega = std::sqrt(25 - kDecay * kDecay);

double swing(double t)
{
    return 0.1 * std::exp(-kDecay * t) * (std::cos(kOmega * t) + kDecay / kOmega * std::sin(kOmega * t));
}

}  // namespace

TEST_SUITE_BEGIN("integrate");

TEST_CASE("extremes, their times, means and integrals of a damped oscillation by its closed form")
{
    RunSummary s = run(kRinging +
                       " measure peak = max(m.x from 0.5 s)\n measure at = time_of_max(m.x from 0.5 s)\n measure low = min(m.x)\n measure at_low = "
                       "time_of_min(m.x)\n measure lost = "
                       "integral(d.loss)\n measure pull = rms(s.tension from 2 s to 4 s)\n measure average = mean(m.x from 0 s to 2.3 s)\n measure end = "
                       "final(m.x)\n measure inside = final(m.x from 0 "
                       "s to 3 s)\n}");
    double turn = std::acos(-1.0) / kOmega;
    CHECK(value(s, "peak") == doctest::Approx(swing(2 * turn)).epsilon(1e-8));
    CHECK(value(s, "at") == doctest::Approx(2 * turn).epsilon(1e-5));
    CHECK(value(s, "low") == doctest::Approx(swing(turn)).epsilon(1e-8));
    CHECK(value(s, "at_low") == doctest::Approx(turn).epsilon(1e-5));
    double square = 0, sum = 0;
    const int n = 200000;
    for (int k = 0; k < n; ++k) {
        square += std::pow(50 * swing(2 + 2 * (k + 0.5) / n), 2) / n;
        sum += swing(2.3 * (k + 0.5) / n) / n;
    }
    CHECK(value(s, "pull") == doctest::Approx(std::sqrt(square)).epsilon(1e-7));
    CHECK(value(s, "average") == doctest::Approx(sum).epsilon(1e-7));
    double v = -0.1 * std::exp(-kDecay * 10) * (kDecay * kDecay / kOmega + kOmega) * std::sin(kOmega * 10);
    CHECK(value(s, "lost") == doctest::Approx(0.25 - 25 * std::pow(swing(10), 2) - v * v).epsilon(1e-7));
    CHECK(value(s, "end") == doctest::Approx(swing(10)).epsilon(1e-7));
    CHECK(value(s, "inside") == doctest::Approx(swing(3)).epsilon(1e-7));
}

TEST_CASE("first, last and count find the moments; what never happens has no value and no demand on it holds")
{
    RunSummary s = run(kRinging +
                       " measure down = first(time when m.x < 0 m)\n measure fast = first(m.v when m.x < 0 m)\n measure settled = last(time when abs(m.x) > 30 "
                       "mm)\n measure crossings = count(m.x > 0 "
                       "m)\n measure never = first(time when m.x > 1 m)\n measure total = settled + down\n measure good = total < 100 s\n require never < 5 "
                       "s\n require peak_of > 0 m\n measure peak_of : mm = max(m.x)\n}");
    double down = (std::acos(-1.0) - std::atan(kOmega / kDecay)) / kOmega;
    CHECK(value(s, "down") == doctest::Approx(down).epsilon(1e-8));
    CHECK(value(s, "fast") == doctest::Approx(-0.1 * std::exp(-kDecay * down) * (kDecay * kDecay / kOmega + kOmega) * std::sin(kOmega * down)).epsilon(1e-7));
    // the last moment beyond 30 mm: by halving on the closed form
    double last = 0;
    for (int k = 0; k < 1000000; ++k)
        if (std::abs(swing(k * 1e-5)) > 0.03) last = k * 1e-5;
    CHECK(value(s, "settled") == doctest::Approx(last).epsilon(1e-5));
    int rises = 0;
    for (int k = 1; k < 100000; ++k) rises += swing((k - 1) * 1e-4) <= 0 && swing(k * 1e-4) > 0 ? 1 : 0;
    CHECK(value(s, "crossings") == rises);
    CHECK(std::isnan(value(s, "never")));
    CHECK(value(s, "total") == doctest::Approx(value(s, "settled") + value(s, "down")));
    REQUIRE(s.demands.size() == 2);
    CHECK_FALSE(s.demands[0].holds);
    CHECK(s.demands[1].holds);
    CHECK_FALSE(s.demands_hold());
    CHECK(s.text().find("1 of 2 hold") != std::string::npos);
    CHECK(s.text().find("not met: never < 5 s: no value against 5 s") != std::string::npos);
}

TEST_CASE("both sides of an event count, and memories between them")
{
    RunSummary s =
        run("system S { memory level : bar = 1 bar\n every 1 s from 0.5 s { level := level + 1 bar }\n var x : 1 init 0\n x' = level / (1 bar * 1 s)\n when x "
            "> 20 { x := 0 } }\nscenario a of S { stop at 8 s\n "
            "measure top = max(x)\n measure area = integral(level)\n measure steps = count(level > 3 bar)\n measure reset = first(time when x > 19.999)\n}");
    CHECK(value(s, "top") == doctest::Approx(20).epsilon(1e-6));
    CHECK(value(s, "area") == doctest::Approx(1e5 * (0.5 + 2 + 3 + 4 + 5 + 6 + 7 + 8 + 9 * 0.5)).epsilon(1e-9));
    CHECK(value(s, "steps") == 1);
    // x = 0.5 + 2 + 3 + 4 + 5 = 14.5 at 4.5 s, then 6 a second
    CHECK(value(s, "reset") == doctest::Approx(4.5 + (19.999 - 14.5) / 6).epsilon(1e-6));
}

TEST_CASE("a scenario that takes over another keeps, replaces and adds; the result does not depend on the rows")
{
    Library library = Library::standard();
    library.load_text("a.loop", kRinging +
                                    " measure peak = max(m.x from 0.5 s)\n require peak < limit\n}\nscenario tight from ring { set limit = 10 mm\n measure "
                                    "peak = max(m.x from 0.5 s) * 2\n require "
                                    "peak > 0 m\n}\n");
    Run r(compile(library, {.system = "", .scenario = "tight"}));
    r.simulate();
    CHECK(r.summary().measures.size() == 1);
    CHECK(r.summary().measures[0].value == doctest::Approx(2 * swing(2 * std::acos(-1.0) / kOmega)).epsilon(1e-4));
    REQUIRE(r.summary().demands.size() == 2);
    CHECK_FALSE(r.summary().demands[0].holds);
    CHECK(r.summary().demands[0].found.find("against 10 mm") != std::string::npos);
    CHECK(r.summary().demands[1].holds);
}

TEST_CASE("mistakes in measures are told at their place")
{
    auto errors = [](const std::string& items) { return test::messages_of(kRinging + items + "\n}"); };
    CHECK(errors(" measure a = first(m.x)").find("first(time when x > 2 m)") != std::string::npos);
    CHECK(errors(" measure a = max(m.x when m.x > 0 m)").find("no 'when'") != std::string::npos);
    CHECK(errors(" measure a : bar = max(m.x)").find("[bar]") != std::string::npos);
    CHECK(errors(" measure a = max(m.x from 2 m)").find("window") != std::string::npos);
    CHECK(errors(" measure a = max(m.x from m.v * 1 s^2/m)").find("must not change") != std::string::npos);
    CHECK(errors(" measure a = max(nothing)").find("nothing") != std::string::npos);
    CHECK(errors(" require max(m.x)").find("condition") != std::string::npos);
    CHECK(errors(" require max(m.x) < 3 s").find("[s]") != std::string::npos);
    CHECK(test::messages_of("system S { var x : s\n x = mean(time) }").find("measure") != std::string::npos);
}

TEST_CASE("measures, demands and where they come from stand in the recording, and on the command line")
{
    test::Scratch folder;
    test::write_file(folder / "ring.loop", kRinging +
                                               " measure peak : mm = max(m.x from 0.5 s)   ## the first swing back\n require peak < limit \"not too far\"\n "
                                               "figure \"Swing\" {\n m.x : mm\n m.v against m.x\n 2 * m.v\n }\n}\n");
    test::Outcome o = test::netloop("run " + (folder / "ring.loop") + " --out " + (folder / "ring.h5"));
    CHECK(o.code == 0);
    CHECK(o.out.find("measures  peak = 73.01") != std::string::npos);
    CHECK(o.out.find("(the first swing back)") != std::string::npos);
    CHECK(o.out.find("demands   1 of 1 hold") != std::string::npos);
    Recording r = Recording::load(folder / "ring.h5");
    REQUIRE(r.measures.size() == 1);
    CHECK(r.measures[0].line().rfind("peak = 73.01", 0) == 0);
    REQUIRE(r.demands.size() == 1);
    CHECK(r.demands[0].text == "not too far");
    REQUIRE(r.figures.size() == 1);
    REQUIRE(r.figures[0].panels.size() == 3);
    CHECK(r.figures[0].panels[0].curves[0].unit == "mm");
    CHECK(r.figures[0].panels[1].against.path == "m.x");
    CHECK(r.find(r.figures[0].panels[2].curves[0].path) != nullptr);
    CHECK(r.origin.text_hash.size() == 16);
    REQUIRE(r.origin.texts.size() == 1);
    CHECK(r.origin.texts[0].text.find("scenario ring") != std::string::npos);
    test::Outcome bad = test::netloop("run " + (folder / "ring.loop") + " --set limit=10mm --quiet --out " + (folder / "bad.h5"));
    CHECK(bad.code == 1);
    CHECK(bad.err.find("not met: peak < limit: 73.01") != std::string::npos);
    Recording changed = Recording::load(folder / "bad.h5");
    bool told = false;
    for (const ParameterValue& p : changed.origin.parameters) told |= p.path == "limit" && p.changed && std::abs(p.shown() - 10) < 1e-9;
    CHECK(told);
    CHECK(test::netloop("run " + (folder / "ring.loop") + " --json").out.find("\"holds\": true") != std::string::npos);
}

TEST_CASE("scenarios whose runs once ended, or never ended, for their tolerance alone")
{
    struct Row {
        const char* file;
        const char* scenario;
        double tolerance;
    };
    // a fitting whose pressure is solved loosely where it is curved; measures of what is zero but for rounding
    for (const Row& row : {Row{"examples/canal/lock.loop", "emergency", 1e-2}, Row{"examples/canal/lock.loop", "emergency", 5e-3},
                           Row{"examples/electrics/shuttle.loop", "round_trip", 1e-9}, Row{"examples/electrics/shuttle.loop", "round_trip", 1e-11}}) {
        INFO(std::string(row.file), " ", std::string(row.scenario), " ", row.tolerance);
        netloop::Library library = netloop::Library::standard();
        library.load_file(test::source_path(row.file));
        netloop::Run run(netloop::compile(library, {.scenario = row.scenario}));
        CHECK(run.simulate({.tolerance = row.tolerance}).complete);
        CHECK(run.summary().demands_hold());
    }
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Two recordings against each other: differences that are known because they were put in.
#include <doctest/doctest.h>

#include <cmath>
#include <netloop/compare.hpp>

#include "support/support.hpp"

using namespace netloop;

namespace {

// A sine of 10 bar and a step at `step`, in rows `every` apart.
Recording made(double every, double added, double step, double temperature = 300)
{
    Recording r;
    r.columns.resize(4);
    r.columns[0].name = "time";
    r.columns[0].unit = "s";
    r.columns[1].name = "p";
    r.columns[1].unit = "bar";
    r.columns[1].scale = 1e5;
    r.columns[2].name = "valve";
    r.columns[2].unit = "1";
    r.columns[3].name = "T";
    r.columns[3].unit = "degC";
    r.columns[3].offset = 273.15;
    auto row = [&](double t, double valve) {
        r.columns[0].values.push_back(t);
        r.columns[1].values.push_back(1e6 * std::sin(t) + (t > 4 ? added : 0));
        r.columns[2].values.push_back(valve);
        r.columns[3].values.push_back(temperature + t);
    };
    bool stepped = false;
    for (int k = 0; k * every <= 10 + 1e-12; ++k) {
        double t = k * every;
        if (!stepped && t >= step) row(step, 0), row(step, 1), stepped = true;
        if (t != step) row(t, t < step ? 0 : 1);
    }
    return r;
}

}  // namespace

TEST_SUITE_BEGIN("record");

TEST_CASE("a recording is the same as itself, and as itself in finer rows within what lines between rows miss")
{
    CHECK(compare(made(0.1, 0, 3), made(0.1, 0, 3), {.tolerance = 0}).same());
    Comparison finer = compare(made(0.01, 0, 3), made(0.005, 0, 3));
    CHECK(finer.same());
    // a chord misses a sine by h^2 / 8
    CHECK(finer.differences[0].largest == doctest::Approx(1e6 * 0.01 * 0.01 / 8).epsilon(0.05));
}

TEST_CASE("what differs, by how much, from when on")
{
    Comparison c = compare(made(0.01, 0, 3), made(0.01, 2e5, 3));
    CHECK_FALSE(c.same());
    CHECK(c.differences[0].name == "p");
    CHECK(c.differences[0].largest == doctest::Approx(2e5).epsilon(1e-6));
    CHECK(c.differences[0].first == doctest::Approx(4.01).epsilon(1e-6));
    CHECK(c.differences[0].final == doctest::Approx(2e5));
    CHECK(c.differences[0].share == doctest::Approx(0.1).epsilon(0.01));
    CHECK(c.differences[1].within());
    CHECK(c.text().find("1 differ by more than is allowed") != std::string::npos);
    CHECK(c.text().find("* p") != std::string::npos);
    // allowed by unit: any unit of the dimension
    CHECK(compare(made(0.01, 0, 3), made(0.01, 2e5, 3), {.by_unit = {{"kPa", 210}}}).same());
    CHECK_FALSE(compare(made(0.01, 0, 3), made(0.01, 2e5, 3), {.by_unit = {{"kPa", 190}}}).same());
    CHECK(compare(made(0.01, 0, 3), made(0.01, 2e5, 3), {.keep = {"val*"}}).same());
    // a temperature off by 0.5 K
    CHECK(compare(made(0.01, 0, 3), made(0.01, 0, 3, 300.5), {.by_unit = {{"K", 0.6}}}).same());
    Comparison warm = compare(made(0.01, 0, 3), made(0.01, 0, 3, 300.5));
    CHECK(warm.differences[0].largest == doctest::Approx(0.5));
    CHECK(warm.text().find("0.5 K") != std::string::npos);
}

TEST_CASE("an event at another moment differs, unless the shift is allowed")
{
    CHECK_FALSE(compare(made(0.01, 0, 3), made(0.01, 0, 3.004)).same());
    CHECK(compare(made(0.01, 0, 3), made(0.01, 0, 3.004), {.shift = 0.005}).same());
    CHECK_FALSE(compare(made(0.01, 0, 3), made(0.01, 0, 3.02), {.shift = 0.005}).same());
}

TEST_CASE("what cannot be compared is told")
{
    Recording late = made(0.1, 0, 3);
    for (double& t : late.columns[0].values) t += 100;
    CHECK_THROWS_WITH_AS(compare(made(0.1, 0, 3), late), "the recordings share no time: 0 s to 10 s against 100 s to 110 s", RecordingError);
    CHECK_THROWS_AS(compare(made(0.1, 0, 3), Recording{}), RecordingError);
    CHECK_THROWS_AS(compare(made(0.1, 0, 3), made(0.1, 0, 3), {.keep = {"nothing"}}), RecordingError);
    CHECK_THROWS_AS(compare(made(0.1, 0, 3), made(0.1, 0, 3), {.by_unit = {{"bra", 1}}}), UsageError);
    Recording more = made(0.1, 0, 3);
    more.columns.push_back(more.columns[1]);
    more.columns.back().name = "other";
    CHECK(compare(made(0.1, 0, 3), more).only_second == std::vector<std::string>{"other"});
    Recording broken = made(0.1, 0, 3);
    broken.columns[1].values[50] = std::nan("");
    CHECK_FALSE(compare(made(0.1, 0, 3), broken).same());
}

TEST_CASE("compare and test as commands: text, JSON, JUnit, exit codes")
{
    test::Scratch folder;
    const std::string model = "system S { param k : 1/s = 1 s^-1\n var x : m init 1 m\n x' = -k * x }\n";
    test::write_file(folder / "a.loop", model +
                                            "scenario good of S { stop at 2 s\n measure end = final(x)\n require end < 0.2 m \"it <decays> & stays\" "
                                            "}\nscenario bad from good { set k = 0.1 s^-1 }\n");
    test::write_file(folder / "b.loop", "system T { var x : m\n x = nothing }\nscenario broken of T { stop at 1 s }\n");
    CHECK(test::netloop("run " + (folder / "a.loop") + " good --out " + (folder / "1.h5") + " --quiet").code == 0);
    CHECK(test::netloop("run " + (folder / "a.loop") + " good --set \"k=1.01 s^-1\" --out " + (folder / "2.csv") + " --quiet").code == 0);
    test::Outcome differ = test::netloop("compare " + (folder / "1.h5") + " " + (folder / "2.csv"));
    CHECK(differ.code == 1);
    CHECK(differ.out.find("* x") != std::string::npos);
    CHECK(test::netloop("compare " + (folder / "1.h5") + " " + (folder / "2.csv") + " --allow 5mm").code == 0);
    CHECK(test::netloop("compare " + (folder / "1.h5") + " " + (folder / "1.h5") + " --json").out.find("\"same\": true") != std::string::npos);
    CHECK(test::netloop("compare " + (folder / "1.h5") + " " + (folder / "none.h5")).code == 1);
    CHECK(test::netloop("compare " + (folder / "1.h5") + " " + (folder / "1.h5") + " --allow 5xyz").code == 2);

    test::Outcome all = test::netloop("test " + folder.path() + " --jobs 2 --junit " + (folder / "r.xml"));
    CHECK(all.code == 1);
    CHECK(all.out.find("1 of 3 scenarios good, 1 of 2 demands hold") != std::string::npos);
    CHECK(all.out.find("not met: end < 0.2 m: 0.8187") != std::string::npos);
    CHECK(all.out.find("did not come to its end") != std::string::npos);
    std::string xml = test::read_file(folder / "r.xml");
    CHECK(xml.find("tests=\"3\" failures=\"1\" errors=\"1\"") != std::string::npos);
    CHECK(xml.find("it &lt;decays&gt; &amp; stays") != std::string::npos);
    CHECK(test::netloop("test " + folder.path() + " --only good").code == 0);
    CHECK(test::netloop("test " + (folder / "missing")).code == 2);
    CHECK(test::netloop("test " + (folder / "1.h5")).code == 2);
}

TEST_CASE("convert: to CSV and back, chosen quantities and units, evenly spaced rows")
{
    test::Scratch folder;
    test::write_file(folder / "a.loop",
                     "system S { var angle : deg init 30 deg\n angle' = 1 rad/s\n var T : degC init 20 degC\n T' = -1 K/s\n memory n = 0\n every 0.25 s { n := "
                     "n + 1 } }\nscenario a of S { stop at 1 s\n output every 100 ms\n measure end = final(angle) }\n");
    REQUIRE(test::netloop("run " + (folder / "a.loop") + " --out " + (folder / "a.h5") + " --quiet").code == 0);
    CHECK(test::netloop("convert " + (folder / "a.h5") + " " + (folder / "b.csv")).code == 0);
    CHECK(test::netloop("convert " + (folder / "b.csv") + " " + (folder / "c.h5")).code == 0);
    Recording a = Recording::load(folder / "a.h5"), c = Recording::load(folder / "c.h5");
    CHECK(c.n_rows() == a.n_rows());
    CHECK(compare(a, c, {.tolerance = 1e-12}).same());
    CHECK(test::netloop("convert " + (folder / "a.h5") + " " + (folder / "d.h5") + " angle:rad T:degF --every 50ms --from 0.2s --to 0.6s").code == 0);
    Recording d = Recording::load(folder / "d.h5");
    REQUIRE(d.columns.size() == 3);
    CHECK(d.n_rows() == 9);
    CHECK(d.time().first() == doctest::Approx(0.2));
    CHECK(d.columns[1].unit == "rad");
    CHECK(d["angle"].in("deg").final() == doctest::Approx(30 + 0.6 * 180 / std::acos(-1.0)).epsilon(1e-6));
    CHECK(d["T"].in("degC").final() == doctest::Approx(19.4).epsilon(1e-6));
    CHECK(d.measures.size() == 1);
    CHECK(test::netloop("convert " + (folder / "a.h5") + " " + (folder / "e.csv") + " T:degF").code == 0);
    CHECK(test::read_file(folder / "e.csv").find("T [degF]") != std::string::npos);
    CHECK(test::read_file(folder / "e.csv").find("0,68") != std::string::npos);
    CHECK(test::netloop("convert " + (folder / "a.h5") + " " + (folder / "f.csv") + " angel").err.find("angle") != std::string::npos);
    CHECK(test::netloop("convert " + (folder / "a.h5") + " " + (folder / "f.csv") + " angle:bar").code == 1);
    CHECK(test::netloop("convert " + (folder / "a.h5") + " " + (folder / "f.csv") + " --from 5s").code == 2);
    CHECK(test::netloop("convert " + (folder / "none.h5") + " " + (folder / "f.csv")).code == 1);
}

TEST_CASE("events are matched in time before values are compared; the shift is told, and one too far is a difference")
{
    auto with_event = [](double step) {
        Recording r = made(0.01, 0, step);
        r.events.kinds.push_back({"level > 2", "tank", "m.loop:3:5", {step}, 0, 0});
        r.events.steps = 100 * step;
        r.events.seconds = 0.5;
        return r;
    };
    Recording first = with_event(3), second = with_event(3.004);
    Comparison c = compare(first, second);
    CHECK(c.same());
    CHECK(c.events_paired == 1);
    REQUIRE(c.events.size() == 1);
    CHECK(c.events[0].apart == doctest::Approx(0.004));
    CHECK(c.events[0].at == 3);
    CHECK(c.text().find("tank: level > 2: 0.004 s apart at 3 s") != std::string::npos);
    CHECK_FALSE(compare(first, second, {.match_events = false}).same());
    // 30 ms of 10 s are more than a thousandth: the event differs, its quantity does not
    Comparison later = compare(first, with_event(3.03));
    CHECK_FALSE(later.same());
    CHECK_FALSE(later.events[0].within);
    for (const Difference& d : later.differences)
        if (d.name == "valve") CHECK(d.within());
    // what comes more often in one of both is told
    Recording twice = with_event(3);
    twice.events.kinds[0].times.push_back(7);
    Comparison more = compare(first, twice);
    CHECK_FALSE(more.same());
    CHECK(more.text().find("1 against 2 times") != std::string::npos);
    // pairs that cross: time does not run backwards
    Recording crossed = with_event(3), other = with_event(3);
    crossed.events.kinds.push_back({"a", "", "", {5}, 0, 0}), crossed.events.kinds.push_back({"b", "", "", {5.1}, 0, 0});
    other.events.kinds.push_back({"a", "", "", {5.15}, 0, 0}), other.events.kinds.push_back({"b", "", "", {5.05}, 0, 0});
    CHECK_NOTHROW(compare(crossed, other));
    CHECK(compare(crossed, other).events_paired == 3);
    for (const Difference& d : compare(crossed, other).differences) CHECK(d.within());
    // of chosen quantities only these decide
    CHECK(compare(first, twice, {.keep = {"valve"}}).same());
    CHECK_FALSE(compare(first, with_event(3.5), {.keep = {"valve"}}).same());
}

TEST_CASE("measures, params that differ, steps and times stand side by side")
{
    Recording first = made(0.01, 0, 3), second = made(0.01, 0, 3);
    first.measures = {{"peak", "max(p)", "", 2e7, "bar", 1e5, 0}, {"gone", "x", "", 1, "1", 1, 0}};
    second.measures = {{"peak", "max(p)", "", 2.1e7, "bar", 1e5, 0}};
    auto param = [](const char* path, double value) {
        ParameterValue p;
        p.path = path, p.value = value, p.unit = "mm", p.scale = 1e-3;
        return p;
    };
    first.origin.parameters = {param("bore", 0.08), param("stroke", 0.5)};
    second.origin.parameters = {param("bore", 0.1), param("stroke", 0.5)};
    first.events.steps = 500, second.events.steps = 400, first.events.seconds = 2, second.events.seconds = 1;
    Comparison c = compare(first, second);
    REQUIRE(c.measures.size() == 2);
    CHECK(c.measures[0].first == doctest::Approx(200));
    CHECK(c.measures[0].second == doctest::Approx(210));
    CHECK(std::isnan(c.measures[1].second));
    REQUIRE(c.params.size() == 1);
    CHECK(c.params[0].name == "bore");
    CHECK(c.params[0].second == doctest::Approx(100));
    REQUIRE(c.effort.size() == 3);
    CHECK(c.effort[0].second == 400);
    std::string text = c.text();
    for (const char* part : {"peak", "200 bar", "210 bar", "+5 %", "80 mm", "100 mm", "computing"}) CHECK(text.find(part) != std::string::npos);
}

TEST_SUITE_END();

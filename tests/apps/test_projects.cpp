// SPDX-License-Identifier: Apache-2.0
// A project as its owner keeps it in order: scenarios tested, results guarded, numbers taken elsewhere; all of it by the command line.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "support/support.hpp"

namespace fs = std::filesystem;
using nlohmann::json;

namespace {

bool has(const std::string& text, const std::string& part)
{
    return text.find(part) != std::string::npos;
}

const char* const kTub =
    "## A tub that drains.\nsystem Tub {\n param drain : s^-1 = 0.5 s^-1\n var level : m init 2 m\n let depth : mm = level\n level' = -drain * level\n when "
    "level < 0.01 m { fail "
    "\"run dry\" }\n}\n";

// good.loop: two scenarios that hold; sub/bad.loop: one that does not, one that fails, one without demands; broken.loop: none.
void write_project(const test::Scratch& s)
{
    fs::create_directories(s / "sub");
    test::write_file(s / "tub.loop", kTub);
    test::write_file(s / "good.loop",
                     "use \"tub.loop\"\nscenario slow of Tub {\n stop at 2 s\n measure half : s = first(time when level < 1 m) ## until half is gone\n require "
                     "half < 1.5 s\n require "
                     "level > 0.5 m \"some is left\"\n}\nscenario slower from slow { set drain = 0.48 s^-1 ; require half > 1 s }\n");
    test::write_file(s / "sub/bad.loop",
                     "use \"../tub.loop\"\nscenario quick of Tub {\n set drain = 2 s^-1\n stop at 1 s\n measure low : mm = min(level)\n require low > 0.5 m "
                     "\"it must <not> drain & go\"\n}\n"
                     "scenario dry of Tub { set drain = 9 s^-1 ; stop at 3 s ; require level > 0 m }\nscenario idle of Tub { stop at 1 s }\n");
    test::write_file(s / "broken.loop", "use \"tub.loop\"\nscenario nothing of Tub { stop at 3 m }\n");
}

}  // namespace

TEST_SUITE_BEGIN("apps");

TEST_CASE("test: every scenario of a folder, what holds, what does not and why, the sum, the exit code")
{
    test::Scratch s;
    write_project(s);
    test::Outcome o = test::netloop("test " + s.path() + " --jobs 1");
    INFO(o.out, o.err);
    CHECK(o.code == 1);
    auto line = [&](const std::string& scenario) {
        std::size_t at = o.out.find(" " + scenario + " ");
        std::size_t begin = o.out.rfind('\n', at) == std::string::npos ? 0 : o.out.rfind('\n', at) + 1;
        return o.out.substr(begin, o.out.find('\n', at) - begin);
    };
    CHECK(line("slow").starts_with("holds"));
    CHECK(has(line("slow"), "2 demands"));
    CHECK(line("slower").starts_with("holds"));
    CHECK(has(line("slower"), "3 demands"));
    CHECK(line("quick").starts_with("FAILS"));
    CHECK(line("dry").starts_with("FAILS"));
    CHECK(line("idle").starts_with("ran"));
    CHECK(has(line("idle"), "no demands"));
    CHECK(line("nothing").starts_with("FAILS"));
    CHECK(has(o.out, "broken.loop:2:35: error: 'stop at' is declared in [s], the value is in [m]"));
    CHECK(has(o.out, "not met: low > 0.5 m: 0.27067"));  // 2 exp(-2) m
    CHECK(has(o.out, "it must <not> drain & go"));
    CHECK(has(o.out, "bad.loop:6"));
    CHECK(has(o.out, "run dry"));
    CHECK(has(o.out, "3 of 6 scenarios good, 5 of "));

    CHECK(test::netloop("test " + (s / "good.loop")).code == 0);
    test::Outcome only = test::netloop("test " + s.path() + " --only slow");
    CHECK(only.code == 0);
    CHECK(has(only.out, "2 of 2 scenarios good, 5 of 5 demands hold"));
    test::Outcome quiet = test::netloop("test " + s.path() + " --quiet");
    CHECK_FALSE(has(quiet.out, "holds "));
    CHECK(has(quiet.out, "FAILS"));
    // as many at once as there are: the same sums
    CHECK(has(test::netloop("test " + s.path() + " --jobs 6").out, "3 of 6 scenarios good, 5 of "));
    CHECK(test::netloop("test " + (s / "nowhere")).code == 2);
    CHECK(test::netloop("test " + s.path() + " --only nobody").code == 2);
}

TEST_CASE("test --junit: XML that a parser takes, with a case a scenario, failures, errors and measures")
{
    test::Scratch s;
    write_project(s);
    test::netloop("test " + s.path() + " --junit " + (s / "results.xml"));
    test::write_file(s / "read.py",
                     "import json, sys, xml.etree.ElementTree as E\nr = E.parse(sys.argv[1]).getroot()\nprint(json.dumps({'suite': r.attrib, 'cases': "
                     "{c.get('name'): {'class': "
                     "c.get('classname'), 'time': float(c.get('time')), **{e.tag: [e.get('message'), e.text] for e in c}} for c in r}}))\n");
    test::Outcome o = test::shell("/usr/bin/python3 " + (s / "read.py") + " " + (s / "results.xml"));
    INFO(o.err);
    REQUIRE(o.code == 0);
    json read = json::parse(o.out), &cases = read["cases"];
    CHECK(read["suite"]["tests"] == "6");
    CHECK(read["suite"]["failures"] == "1");
    CHECK(read["suite"]["errors"] == "2");
    CHECK(cases.size() == 6);
    CHECK(cases["slow"].contains("failure") == false);
    for (auto [name, drain] : {std::pair{"slow", 0.5}, {"slower", 0.48}}) {
        std::string said = cases[name]["system-out"][1];
        REQUIRE(has(said, "half = "));
        CHECK(std::stod(said.substr(said.find("half = ") + 7)) == doctest::Approx(std::log(2) / drain).epsilon(2e-5));
    }
    CHECK(has(cases["quick"]["failure"][0], "low > 0.5 m"));
    CHECK(has(cases["quick"]["failure"][1], "it must <not> drain & go"));
    CHECK(has(cases["dry"]["error"][1], "run dry"));
    CHECK(has(cases["nothing"]["error"][1], "broken.loop:2"));
    CHECK(has(cases["quick"]["class"], "sub/bad.loop"));
    for (const auto& [name, c] : cases.items()) CHECK(c["time"].get<double>() >= 0);
}

TEST_CASE("measures are one number everywhere: in the summary, in --json, in the recording")
{
    test::Scratch s;
    write_project(s);
    std::string model = s / "good.loop";
    test::Outcome text = test::netloop("run " + model + " slow --out " + (s / "slow.h5"));
    REQUIRE(text.code == 0);
    json run = json::parse(test::netloop("run " + model + " slow --json").out);
    netloop::Recording r = netloop::Recording::open(s / "slow.h5");
    REQUIRE(r.measures.size() == 1);
    double half = std::log(2) / 0.5;
    CHECK(r.measures[0].value == doctest::Approx(half).epsilon(1e-6));
    CHECK(run["measures"]["half"]["value"].get<double>() == doctest::Approx(r.measures[0].value).epsilon(1e-12));
    CHECK(has(text.out, fmt::format("half = {:.6g} s   (until half is gone)", r.measures[0].value)));
    CHECK(run["demands"].size() == 2);
    CHECK(run["demands"][0]["holds"] == true);
    CHECK(r.demands[1].text == "some is left");
}

TEST_CASE("compare guards a model: the same within what is allowed, told apart when a param is changed, a pattern at a time, as JSON")
{
    test::Scratch s;
    write_project(s);
    auto run = [&](const std::string& set, const std::string& out) {
        REQUIRE(test::netloop("run " + (s / "good.loop") + " slow --quiet " + set + " --out " + (s / out)).code != 2);
    };
    run("", "reference.h5");
    run("--tolerance 1e-8", "finer.h5");
    run("--set drain='0.505 s^-1'", "changed.h5");
    run("--set drain='0.505 s^-1'", "changed.csv");
    auto compare = [&](const std::string& arguments) { return test::netloop("compare " + (s / "reference.h5") + " " + arguments); };
    CHECK(compare(s / "finer.h5").code == 0);
    CHECK(compare((s / "finer.h5") + " --tolerance 1e-9").code == 1);
    test::Outcome changed = compare(s / "changed.h5");
    CHECK(changed.code == 1);
    CHECK(has(changed.out, "* level"));
    // 2 (exp(-0.5 t) - exp(-0.505 t)) is largest at t = ln(0.505 / 0.5) / 0.005 s
    double at = std::log(1.01) / 0.005, most = 2 * (std::exp(-0.5 * at) - std::exp(-0.505 * at));
    CHECK(compare((s / "changed.h5") + fmt::format(" --allow {}m", 0.9 * most)).code == 1);
    CHECK(compare((s / "changed.h5") + fmt::format(" --allow {}mm", 1100 * most)).code == 0);
    CHECK(compare((s / "changed.csv") + fmt::format(" --allow {}mm", 1100 * most)).code == 0);
    json told = json::parse(compare((s / "changed.h5") + " --json").out);
    CHECK(told["same"] == false);
    json first = told["quantities"][0];
    CHECK(first["largest"].get<double>() == doctest::Approx(most * (first["unit"] == "mm" ? 1000 : 1)).epsilon(1e-3));
    CHECK(first["at"].get<double>() == doctest::Approx(at).epsilon(0.01));
    CHECK(first["within"] == false);
    CHECK(compare((s / "changed.h5") + " --quiet --allow 1m").out.empty());
    CHECK(compare((s / "changed.h5") + " --allow 1kg").code == 1);  // of no quantity: nothing more is allowed
}

TEST_CASE("numbers taken elsewhere: chosen, in units, evenly spaced, within a time; and back without loss")
{
    test::Scratch s;
    write_project(s);
    REQUIRE(test::netloop("run " + (s / "good.loop") + " slow --quiet --out " + (s / "r.h5")).code == 0);
    auto convert = [&](const std::string& arguments) { return test::netloop("convert " + (s / "r.h5") + " " + arguments); };
    REQUIRE(convert((s / "even.csv") + " depth:cm level --every 250ms --from 0.5s --to 1.5s").code == 0);
    netloop::Recording even = netloop::Recording::load(s / "even.csv");
    CHECK(even.n_rows() == 5);
    CHECK(even.columns[1].unit == "cm");
    for (std::size_t i = 0; i < 5; ++i) {
        double t = 0.5 + 0.25 * static_cast<double>(i);
        CHECK(even.time().values[i] == t);
        CHECK(even["level"].values[i] == doctest::Approx(2 * std::exp(-0.5 * t)).epsilon(2e-4));
        CHECK(even["depth"].values[i] == doctest::Approx(even["level"].values[i]).epsilon(1e-12));
    }
    CHECK(has(test::read_file(s / "even.csv"), "time [s],depth [cm],level [m]\r\n0.5,"));
    REQUIRE(convert((s / "tenth.csv") + " level --every 0.1s").code == 0);
    CHECK(has(test::read_file(s / "tenth.csv"), "\n0.3,"));  // and not 0.30000000000000004
    // all of it to CSV and back: the same numbers
    REQUIRE(convert(s / "all.csv").code == 0);
    REQUIRE(test::netloop("convert " + (s / "all.csv") + " " + (s / "back.h5")).code == 0);
    CHECK(test::netloop("compare " + (s / "r.h5") + " " + (s / "back.h5") + " --tolerance 1e-14").code == 0);
    CHECK(has(convert((s / "x.csv") + " levle").err, "did you mean 'level'?"));
    CHECK(has(convert((s / "x.csv") + " level:bar").err, "cannot be shown in [bar]"));
    CHECK(convert((s / "x.csv") + " level --every 0s").code == 2);
    CHECK(convert((s / "x.csv") + " level --from 3s").code == 2);
    CHECK_FALSE(fs::exists(s / "x.csv"));
}

TEST_SUITE_END();

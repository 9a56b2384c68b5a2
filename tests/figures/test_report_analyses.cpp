// SPDX-License-Identifier: Apache-2.0
// What a report tells of modes and of advice.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "figures/report_sections.hpp"
#include "support/support.hpp"

using namespace netloop;
using nlohmann::json;

TEST_SUITE_BEGIN("figures");

namespace {

bool has(const std::string& text, const std::string& part)
{
    return text.find(part) != std::string::npos;
}

ReportContent content()
{
    ReportContent page;
    page.runs.resize(1);
    page.runs[0].columns.resize(1);
    page.runs[0].columns[0].name = "time";
    page.runs[0].columns[0].values = {0, 1};
    page.names = {"calm"};
    return page;
}

Mode mode(std::complex<double> value, std::vector<Mode::Part> parts)
{
    Mode m;
    m.root.value = value;
    m.parts = std::move(parts);
    return m;
}

}  // namespace

TEST_CASE("modes of a page: pairs with frequency and damping, single ones with their time constant, the parts")
{
    ReportContent page = content();
    CHECK(modes_section(page).empty());
    Modes at;
    at.time = 1.5;
    at.n_states = 4;
    // |-3 + 4i| = 5 rad/s and damping 3/5
    at.modes = {mode({-3, 4}, {{"left.<rod>", 0.75}, {"oil", 0.25}}), mode({-4, 0}, {{"", 1}}), mode({2, 0}, {{"oil", 1}}), mode({0, 0}, {{"oil", 1}})};
    page.modes = {at};
    page.modes_picture = "<svg id=\"here\"></svg>";
    std::string section = modes_section(page);
    CHECK(has(section, "<svg id=\"here\">"));
    CHECK(has(section, "at 1 point."));
    CHECK(has(section, "At 1.5 s"));
    CHECK(has(section, "<td class=\"number\">0.7958 Hz</td><td class=\"number\">0.6</td><td class=\"number\">333 ms</td>"));
    CHECK(has(section, "left.&lt;rod&gt; 75 %"));
    CHECK(has(section, ">250 ms<"));
    CHECK(has(section, ">500 ms, growing<"));
    CHECK(has(section, ">none<"));
    CHECK(has(header_section(page), "#modes"));
    page.modes.clear();
    CHECK_FALSE(has(header_section(page), "#modes"));
}

TEST_CASE("advice of a page: what was tried last in each trial, its price or why it is refused, the scenario to paste")
{
    auto change = [](const char* param, double from, double to) {
        return json{{"param", param},
                    {"from", from},
                    {"to", to},
                    {"unit", "mL"},
                    {"reason", "moves a <mode>"},
                    {"text", fmt::format("{}: {} mL -> {} mL", param, from, to)}};
    };
    auto trial = [&](json changes, int tried, double speed_up, const char* refused) {
        return json{
            {"changes", changes},
            {"tried", tried},
            {"round", 2},
            {"speed_up", speed_up},
            {"refused", refused},
            {"steps", 100},
            {"prices",
             json::array({{{"what", "peak"}, {"difference", 0.25}, {"unit", "bar"}, {"share", 0.01}, {"at", nullptr}, {"text", "peak differs by 0.25 bar"}},
                          {{"what", "lost"}, {"difference", nullptr}, {"unit", "bar"}, {"share", nullptr}, {"at", 1}, {"text", "lost differs by nan"}},
                          {{"what", "dp"}, {"difference", 3}, {"unit", "1"}, {"share", 0.02}, {"at", 0.5}, {"text", "dp differs by 3 at 0.5 s"}}})}};
    };
    json advice{{"as_it_is", {{"steps", 4000}}},
                {"runs", 7},
                {"trials", {trial({change("taken", 1, 2), change("chamber", 100, 300)}, 1, 2.5, ""), trial({change("seat", 5, 15)}, 1, 3, "top < bound")}},
                {"combined", trial({change("taken", 1, 2), change("chamber", 100, 300)}, 1, 2.5, "")},
                {"scenario", "scenario fast from calm {\n}\n"}};
    ReportContent page = content();
    CHECK(advice_section(page).empty());
    page.advice = advice.dump();
    std::string section = advice_section(page);
    CHECK(has(section, "For a faster run. 7 runs were made; as it is it takes 4000 steps."));
    CHECK(has(
        section,
        "<td class=\"number\">2</td><td class=\"number\">2.50</td><td>chamber: 100 mL -&gt; 300 mL</td><td>moves a &lt;mode&gt;</td><td>peak differs by 0.25 "
        "bar; dp differs by 3 at 0.5 s</td>"));
    CHECK(has(section, "<span class=\"fails\">refused</span> top &lt; bound"));
    CHECK(has(section, "Together, 2.50 times"));
    CHECK(has(section, "taken: 1 mL -&gt; 2 mL; chamber: 100 mL -&gt; 300 mL"));
    CHECK(has(section, "<pre>scenario fast from calm {"));
    CHECK(has(header_section(page), "#advice"));
    advice["combined"] = nullptr;
    advice["method"] = "rk4";
    advice["as_it_is"]["largest_step"] = 9.97e-6;
    advice["confirmed"] = "9 us: it fails";
    page.advice = advice.dump();
    section = advice_section(page);
    CHECK(has(section, "longer fixed steps with rk4"));
    CHECK(has(section, "it bears steps of 9.97 us"));
    CHECK(has(section, "Nothing that was tried helps"));
    CHECK(has(section, "Steps of 9 us: it fails."));
    for (const char* wrong : {"{", "{}", "[1, 2]", "{\"trials\": 3, \"as_it_is\": {}, \"runs\": 1}"}) {
        page.advice = wrong;
        CHECK_THROWS_WITH_AS(advice_section(page), doctest::Contains("no advice"), UsageError);
    }
}

TEST_CASE("a report with modes of the recorded run and with its advice, by the command line")
{
    test::Scratch scratch;
    const std::string run = scratch / "run.h5", page = scratch / "page.html", advice = scratch / "advice.json";
    REQUIRE(test::netloop("run " + test::source_path("examples/bascule/bridge.loop") + " --stop 2s --out " + run + " --quiet").code == 0);
    test::Outcome told = test::netloop("modes " + run + " --over 4 --json");
    REQUIRE(told.code == 0);
    json points = json::parse(told.out)["points"];
    REQUIRE(points.size() == 4);
    test::write_file(advice, test::netloop("advise " + run + " --runs 2 --json").out);
    test::Outcome o = test::netloop("report " + run + " --modes 4 --advice " + advice + " --out " + page);
    REQUIRE_MESSAGE(o.code == 0, o.err);
    std::string text = test::read_file(page);
    CHECK(has(text, "<section id=\"modes\">"));
    CHECK(has(text, "<section id=\"advice\">"));
    CHECK(has(text, "at 4 points along the run"));
    // the fastest of the point that is told in detail
    std::size_t section = text.find("<section id=\"modes\">"), at = text.find("<h3>At ", section);
    REQUIRE(at != std::string::npos);
    double time = std::strtod(text.c_str() + at + 7, nullptr), fastest = 0, there = -1;
    for (const json& p : points) {
        double most = 0;
        for (const json& m : p["modes"]) most = std::max(most, m["frequency"].get<double>());
        fastest = std::max(fastest, most);
        if (std::abs(p["time"].get<double>() - time) < 1e-3) there = most;
    }
    CHECK(there == fastest);
    CHECK(test::netloop("report " + run + " --advice " + run + " --out " + page).err.find("no advice") != std::string::npos);
    CHECK(test::netloop("report " + run + " --advice " + (scratch / "none") + " --out " + page).err.find("cannot be read") != std::string::npos);
    // what failed has left the page as it was
    CHECK(test::read_file(page) == text);
}

TEST_SUITE_END();

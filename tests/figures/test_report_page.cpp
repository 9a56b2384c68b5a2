// SPDX-License-Identifier: Apache-2.0
// What a report's page says, section by section, and how its panels of one quantity against another are used.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "figures/report_sections.hpp"
#include "support/support.hpp"

using namespace netloop;
using nlohmann::json;

namespace {

bool has(const std::string& text, const std::string& part)
{
    return text.find(part) != std::string::npos;
}
std::size_t count(const std::string& text, const std::string& what)
{
    std::size_t n = 0;
    for (std::size_t at = text.find(what); at != std::string::npos; at = text.find(what, at + 1)) ++n;
    return n;
}

Recording recorded(const std::string& scenario, double lift, bool holds)
{
    Recording r;
    r.system = "Bridge";
    r.scenario = scenario;
    r.columns.resize(2);
    r.columns[0].name = "time";
    r.columns[0].unit = "s";
    r.columns[0].values = {0, 1, 2};
    r.columns[1].name = "p";
    r.columns[1].unit = "bar";
    r.columns[1].scale = 1e5;
    r.columns[1].values = {1e5, 2e5, 3e5};
    r.origin.doc = "Of <" + scenario + "> & more";
    r.origin.tolerance = 1e-6;
    r.origin.text_hash = "0123456789abcdef";
    r.origin.settings = {{"valve.kind", "fast<er>"}};
    r.origin.version = "1.2.3";
    r.measures = {{"lift", "first(time when up)", "until it is up", lift, "s"}, {"never", "first(time when p > 9 bar)", "", std::nan(""), "s"}};
    r.demands = {{"lift < 45 s", "the canal <waits>", "/home/me/bridge.loop:72:5", holds, "50 s against 45 s"}};
    r.origin.parameters = {{"pump.size", 2.5e-6, "cm^3/rev", 1e-6, 0, scenario == "storm", "displacement"},
                           {"oil.T", 293.15, "degC", 1, 273.15, false, "of the tank"},
                           {"valve.on", 1, "bool", 1, 0, false, ""}};
    r.events.kinds = {{"p > 2 bar", "valve", "/home/me/valve.loop:3:1", {1, 1.5}, 0, 0}};
    return r;
}

ReportContent content(std::vector<Recording> runs)
{
    static const Library library = Library::standard();
    ReportContent page;
    page.runs = std::move(runs);
    for (const Recording& r : page.runs) page.names.push_back(r.scenario);
    page.measures = page.runs[0].measures;
    page.title = "Title <&>";
    page.library = &library;
    return page;
}

}  // namespace

TEST_SUITE_BEGIN("figures");

TEST_CASE("a page of one run: measures with units, demands with what was found, places without the writer's folders")
{
    ReportContent page = content({recorded("calm", 34.25, true)});
    std::string head = header_section(page);
    CHECK(has(head, "Title &lt;&amp;&gt;"));
    CHECK(has(head, "Of &lt;calm&gt; &amp; more"));
    CHECK(has(head, "3 rows, 1 quantities, tolerance 1e-06, model text 0123456789abcdef"));
    CHECK(has(head, "set for this run: valve.kind = fast&lt;er&gt;"));
    CHECK_FALSE(has(head, "#variants"));
    CHECK_FALSE(has(head, "#motion-at"));
    std::string summary = summary_section(page);
    CHECK(has(summary, ">34.25 s<"));
    CHECK(has(summary, ">until it is up<"));
    CHECK(has(summary, ">- s<"));  // what never came has no number
    CHECK(has(summary, "class=\"holds\">holds"));
    CHECK(has(summary, "the canal &lt;waits&gt;"));
    CHECK(has(summary, ">bridge.loop:72:5<"));
    CHECK_FALSE(has(summary, "/home/me"));
    CHECK(variants_section(page).empty());
    CHECK(motion_section(page).empty());
    std::string events = events_section(page);
    CHECK(has(events, "data-event=\"0:0\""));
    CHECK(has(events, ">p &gt; 2 bar<"));
    CHECK(has(events, ">1.5 s<"));
    CHECK(has(events, ">valve.loop:3:1<"));
    CHECK(has(figures_section(page), "asks for no figure"));
    page.runs[0].complete = false;
    page.runs[0].reason = "the disk <broke>";
    CHECK(has(header_section(page), "is incomplete: the disk &lt;broke&gt;"));
    page.runs[0].measures.clear();
    page.runs[0].demands.clear();
    page.runs[0].events.kinds.clear();
    page.measures.clear();
    CHECK(has(summary_section(page), "asks for none"));
    CHECK(has(events_section(page), "None."));
}

TEST_CASE("a page of two runs: a column each, what does not hold, params that differ in front")
{
    ReportContent page = content({recorded("calm", 34.25, true), recorded("storm", 50, false)});
    page.runs[1].origin.parameters[1].value = 268.15;
    std::string summary = summary_section(page);
    CHECK(has(summary, ">34.25 s</td><td class=\"number\">50 s<"));
    CHECK(count(summary, "class=\"holds\"") == 1);
    CHECK(has(summary, "class=\"fails\">does not hold"));
    CHECK(has(summary, "Demands on storm"));
    std::string parameters = parameters_section(page);
    CHECK(count(parameters, "class=\"changed\"") == 2);
    CHECK(count(parameters, "class=\"kept\" hidden") == 1);
    CHECK(has(parameters, ">20 degC</td><td class=\"number\">-5 degC<"));
    CHECK(has(parameters, ">2.5 cm^3/rev<"));
    CHECK(has(parameters, ">true<"));
    CHECK(has(parameters, "all 3 parameters"));
    CHECK(has(parameters, "2 changed"));
    CHECK(parameters.find("pump.size") < parameters.find("valve.on"));
    std::string variants = variants_section(page);
    CHECK(has(variants, "id=\"bars\""));
    CHECK(has(variants, "id=\"radar\""));
    page.measures.clear();
    CHECK(has(variants_section(page), "measure nothing"));
    CHECK_FALSE(has(header_section(page), "from a different text"));
    page.runs[1].origin.text_hash = "fedcba9876543210";
    CHECK(has(model_section(page), "The model shown belongs to calm; storm was run from a different text (not shown)."));
}

TEST_CASE("assumptions: what the start assumed, and what each kind of part leaves out, once")
{
    ReportContent page = content({recorded("calm", 1, true)});
    CHECK(has(assumptions_section(page), "None that the model tells of"));
    page.runs[0].assumed = {"oil.T = 20 degC", "x < y"};
    page.runs[0].origin.parts = {{"", "Bridge", {}}, {"a", "mechanics.Rope", {}}, {"b", "mechanics.Rope", {}}, {"c", "no.such.Kind", {}}};
    std::string said = assumptions_section(page);
    CHECK(has(said, "<li>oil.T = 20 degC</li>"));
    CHECK(has(said, "<li>x &lt; y</li>"));
    CHECK(count(said, ">mechanics.Rope<") == 1);
    CHECK(has(said, "weight, and waves along it"));
    CHECK_FALSE(has(said, "no.such.Kind"));
    page.no_diagram = "dot <is missing>";
    page.runs[0].origin.texts = {{"bridge.loop", "system S {\n  x < y\n}\n"}};
    std::string model = model_section(page);
    CHECK(has(model, "No diagram: dot &lt;is missing&gt;"));
    CHECK(has(model, "<span class=\"no\">2</span>  x &lt; y\n"));
    page.diagram = "<svg></svg>";
    CHECK(has(model_section(page), "<div class=\"diagram\" id=\"diagram\"><svg></svg></div>"));
}

TEST_CASE("panels of one quantity against another in a browser: the time frame, read-outs, zoom, pan, units, runs off and on; what is not recorded is told")
{
    test::Scratch scratch;
    test::write_file(scratch / "m.loop",
                     "system S {\n param k : 1 = 1\n var x : m init 0 m\n var v : m/s init 1 m/s\n let far : mm = 2 * x\n x' = v\n v' = -k * x / (1 "
                     "s)^2\n}\nscenario a of S {\n "
                     "stop at 10 s\n output every 10 ms\n keep x, v\n figure \"Way and speed\" {\n  x\n  v against x\n  far against x\n }\n}\nscenario b from "
                     "a { set k = 2 }\n");
    for (const char* name : {"a", "b"}) {
        REQUIRE(test::netloop("run " + (scratch / "m.loop") + " " + name + " --quiet --out " + (scratch / "all.h5")).code == 0);
        CHECK(Recording::open(scratch / "all.h5").find("far") != nullptr);  // what a figure draws is kept
        REQUIRE(test::netloop("convert " + (scratch / "all.h5") + " " + (scratch / name) + ".h5 x v").code == 0);
    }
    test::Outcome made = test::netloop("report " + (scratch / "a.h5") + " " + (scratch / "b.h5") + " --out " + (scratch / "ab.html"));
    INFO(made.err);
    REQUIRE(made.code == 0);
    test::Outcome o = test::shell("/usr/bin/python3 " + test::source_path("tests/figures/in_browser.py") + " --pairs " + (scratch / "ab.html"));
    INFO(o.err);
    REQUIRE(o.code == 0);
    json said = json::parse(o.out);
    CHECK(said["console"].empty());
    CHECK(said["panels"] == 1);  // `far` was left out
    CHECK(said["missing"] == json::array({"not recorded: far"}));
    // a circle of run a: x and v within their amplitudes; both runs are there
    CHECK(said["curves"] == 2);
    CHECK(said["x_range"][0].get<double>() == doctest::Approx(-1).epsilon(0.1));
    CHECK(said["x_range"][1].get<double>() == doctest::Approx(1).epsilon(0.1));
    CHECK(said["points"].get<int>() > 100);
    CHECK(said["points"].get<int>() < 2 * 1003);
    // within a shorter time there are fewer of them
    CHECK(said["points_in_frame"].get<int>() < said["points"].get<int>() / 2);
    // the place at the cursor is what the formula says
    double t = std::stod(said["cursor"].get<std::string>().substr(3));
    std::string read = said["read_out"][0];  // "0.3 m/s at 0.9 m"
    CHECK(std::stod(read) == doctest::Approx(std::cos(t)).epsilon(2e-3).scale(1));
    CHECK(std::stod(read.substr(read.find(" at ") + 4)) == doctest::Approx(std::sin(t)).epsilon(2e-3).scale(1));
    CHECK(said["dots"] == 2);
    // drag, shift and drag, double click
    auto width = [](const json& range) { return range[1].get<double>() - range[0].get<double>(); };
    CHECK(width(said["zoomed"]) < 0.6 * width(said["x_range"]));
    CHECK(width(said["panned"]) == doctest::Approx(width(said["zoomed"])).epsilon(1e-6));
    CHECK(said["panned"][0].get<double>() < said["zoomed"][0].get<double>());
    CHECK(width(said["whole"]) == doctest::Approx(width(said["x_range"])).epsilon(0.02));
    // in mm; one run alone
    CHECK(width(said["in_mm"]) == doctest::Approx(1000 * width(said["whole"])).epsilon(1e-3));
    CHECK(said["one_run"] == 1);
}

TEST_SUITE_END();

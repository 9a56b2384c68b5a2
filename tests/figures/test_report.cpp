// SPDX-License-Identifier: Apache-2.0
// Reports: what is packed into them, and how they behave in a real browser (tests/figures/in_browser.py).
#include "figures/report.hpp"

#include <doctest/doctest.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "figures/pictures.hpp"
#include "figures/report_data.hpp"
#include "support/support.hpp"

using namespace netloop;
namespace fs = std::filesystem;
using nlohmann::json;

namespace {

// The largest distance of a row from the straight lines between the kept ones, each side of an event for itself.
double worst(const std::vector<double>& t, const std::vector<double>& v, const std::vector<std::uint32_t>& kept)
{
    double most = 0;
    for (std::size_t k = 1; k < kept.size(); ++k)
        for (std::size_t i = kept[k - 1]; i <= kept[k]; ++i) {
            double width = t[kept[k]] - t[kept[k - 1]];
            double share = width > 0 ? (t[i] - t[kept[k - 1]]) / width : i == kept[k] ? 1 : 0;
            most = std::max(most, std::abs(v[kept[k - 1]] + share * (v[kept[k]] - v[kept[k - 1]]) - v[i]));
        }
    return most;
}

json in_browser(const std::string& page, const std::string& words, const std::string& sequence = "")
{
    test::Outcome o = test::shell("/usr/bin/python3 " + test::source_path("tests/figures/in_browser.py") + " " + page + " " + words + " " + sequence);
    INFO(o.err);
    REQUIRE(o.code == 0);
    return json::parse(o.out);
}

std::pair<double, double> times_in(const std::string& text)  // "47.85 s to 75.6 s"
{
    std::size_t to = text.find(" s to ");
    REQUIRE(to != std::string::npos);
    return {std::stod(text), std::stod(text.substr(to + 6))};
}

}  // namespace

TEST_SUITE_BEGIN("figures");

TEST_CASE("thinned curves miss no row by more than the tolerance, and keep both sides of events")
{
    std::vector<double> t, v;
    for (int i = 0; i < 5000; ++i) {
        double at = 0.01 * i;
        t.push_back(at);
        v.push_back(std::sin(at) + (i > 2000 ? 3 : 0) + (i > 3000 && i < 3050 ? 0.2 * std::sin(40 * at) : 0));
        if (i == 2000) t.push_back(at), v.push_back(v.back() + 3);
    }
    std::size_t before = t.size();
    for (double tolerance : {0.0, 1e-6, 1e-3, 1e-2, 0.3}) {
        std::vector<std::uint32_t> kept = kept_rows(t, v, tolerance);
        INFO(tolerance);
        CHECK(worst(t, v, kept) <= tolerance + 1e-13);
        CHECK(kept.size() <= before);
        before = kept.size();
        CHECK(kept.front() == 0);
        CHECK(kept.back() == t.size() - 1);
        CHECK(std::find(kept.begin(), kept.end(), 2000) != kept.end());
        CHECK(std::find(kept.begin(), kept.end(), 2001) != kept.end());
    }
    CHECK(before < 40);
    std::vector<double> line(t.size());
    for (std::size_t i = 0; i < t.size(); ++i) line[i] = 4 - 0.25 * t[i];  // exact in binary where t is
    CHECK(kept_rows(t, line, 1e-12).size() == 2);
    v[100] = std::nan("");
    std::vector<std::uint32_t> kept = kept_rows(t, v, 0.01);
    CHECK(std::find(kept.begin(), kept.end(), 100) != kept.end());
    CHECK(std::find(kept.begin(), kept.end(), 99) != kept.end());
    CHECK(std::find(kept.begin(), kept.end(), 101) != kept.end());
    CHECK(kept_rows({}, {}, 0).empty());
}

TEST_CASE("pictures of parts: places, pairs of quantities and numbers, params; what cannot be drawn is told")
{
    netloop::Recording r = test::simulate(
        "## Picture: bar (0,0) (x,y)\n## Picture: level depth\n## Picture: cylinder (0,-1) (x,y)\n## Picture: wheel (x,y)\n## Picture: bar (x,y)\n## Picture: "
        "pivot "
        "(x,z)\nsystem S {\n param depth : m = 2 m\n var x : m init 1 m\n var y : m init 0 m\n x' = -y / (1 s)\n y' = x / (1 s)\n}\n",
        6.3, 1e-8);
    std::vector<std::string> left_out;
    std::vector<Shape> shapes = shapes_of(r, left_out);
    REQUIRE(shapes.size() == 3);
    CHECK(shapes[0].shape == "bar");
    CHECK(std::get<double>(shapes[0].points[0][1]) == 0);
    CHECK(std::get<std::string>(shapes[0].points[1][0]) == "x");
    CHECK(std::get<double>(shapes[1].points[0][0]) == 2);
    CHECK(shapes[2].shortest < 0.01);  // the point of the circle goes through (0, -1)
    REQUIRE(left_out.size() == 3);
    CHECK(left_out[0] == "S (wheel (x,y)): 'wheel' is no shape");
    CHECK(left_out[1] == "S (bar (x,y)): 'bar' needs 2 places");
    CHECK(left_out[2] == "S (pivot (x,z)): 'z' is not recorded");
}

TEST_CASE("a report of the bridge in a browser: zoom, read out, pick, units, slider, charts; nothing from outside, nothing on the console")
{
    test::Scratch scratch;
    std::string bridge = test::source_path("examples/bascule/whole/bridge.loop");
    for (const char* scenario : {"calm_day", "storm_lift"})
        REQUIRE(test::netloop("run " + bridge + " " + scenario + " --quiet --out " + (scratch / (std::string(scenario) + ".h5"))).code == 0);
    test::Outcome made = test::netloop("report " + (scratch / "calm_day.h5") + " " + (scratch / "storm_lift.h5") + " --out " + (scratch / "bridge.html"));
    INFO(made.err);
    REQUIRE(made.code == 0);
    CHECK(fs::file_size(scratch / "bridge.html") < 3000000);
    CHECK_FALSE(fs::exists(scratch / "bridge.html.unfinished"));
    json said = in_browser(scratch / "bridge.html", "tank.T", "keeper.duty");
    INFO(said.dump(1));
    CHECK(said["console"].empty());
    CHECK(said["outside"].empty());
    CHECK(said["title"] == "Bridge");
    CHECK(said["panels"] == 4);
    CHECK(said["whole"] == "0 s to 130 s");
    auto [from, to] = times_in(said["zoomed"]);
    CHECK(from > 35);
    CHECK(to < 90);
    CHECK(to - from == doctest::Approx(0.2 * 130).epsilon(0.15));  // of the panel's width, less its axis
    CHECK(said["zoomed_second"][0].get<double>() >= from);
    CHECK(said["zoomed_second"][1].get<double>() <= to);
    CHECK(times_in(said["panned"]).first == doctest::Approx(from + 0.4 * (to - from)).epsilon(1e-4));
    CHECK(said["back"] == "0 s to 130 s");
    auto [closer_from, closer_to] = times_in(said["closer"]);
    CHECK(closer_to - closer_from == doctest::Approx(65).epsilon(1e-4));

    // what is read out at the cursor is what was recorded
    Recording calm = Recording::load(scratch / "calm_day.h5"), storm = Recording::load(scratch / "storm_lift.h5");
    double at = std::stod(said["cursor"].get<std::string>().substr(3));
    CHECK(at > from);
    CHECK(at < to);
    auto read = [&](std::size_t k) { return std::stod(said["read_out"][k].get<std::string>()); };
    CHECK(read(0) == doctest::Approx(calm["leaf.angle"].in("deg").at(at, calm.time())).epsilon(2e-4));
    CHECK(read(1) == doctest::Approx(storm["leaf.angle"].in("deg").at(at, storm.time())).epsilon(2e-4));
    CHECK(read(4) == doctest::Approx(calm["lifting.head_p"].in("bar").at(at, calm.time())).epsilon(2e-4));

    // a sequence is read in the words of its stages
    std::vector<std::string> stages = calm.origin.stages_of("keeper.duty");
    REQUIRE(stages.size() > 5);
    CHECK(said["stages"].size() == stages.size());
    for (const std::string& name : stages) CHECK(std::count(said["stages"].begin(), said["stages"].end(), json(name)) == 1);
    double then = std::stod(said["stage_at"][0].get<std::string>().substr(3));
    CHECK(said["stage_at"][1] == stages.at(static_cast<std::size_t>(calm["keeper.duty"].at(then, calm.time())) - 1));

    CHECK(said["found"] == json::array({"tank.T"}));
    CHECK(said["picked"].size() == 2);
    CHECK(said["picked_unit"] == "[degC]");
    CHECK(said["other_unit"] == "[K]");
    CHECK(std::stod(said["other_value"].get<std::string>()) > 290);
    CHECK(said["removed"] == 0);
    CHECK(said["moved"] == true);
    CHECK(said["painted"] > 3000);
    double clock = std::stod(said["clock"].get<std::string>()), later = std::stod(said["clock_after_play"].get<std::string>());
    CHECK(clock == doctest::Approx(65).epsilon(0.2));
    CHECK(later > clock);
    CHECK(said["bars"].size() == 2);
    CHECK(said["bars"][0].get<double>() == doctest::Approx(calm.measures[1].shown()).epsilon(1e-6));
    CHECK(said["radar"] == true);
    CHECK(said["hidden_before"].get<int>() > 200);
    CHECK(said["hidden_after"] == 0);

    std::string page = test::read_file(scratch / "bridge.html");
    for (const char* part : {"the canal must not wait", "wind.speed", "<svg", "bridge.loop", "control.loop", "What the components leave out"}) {
        INFO(part);
        CHECK(page.find(part) != std::string::npos);
    }
    CHECK(page.find(scratch.path()) == std::string::npos);
}

TEST_CASE("a report of a single run, of a .csv, and what cannot be reported")
{
    test::Scratch scratch;
    test::write_file(scratch / "m.loop",
                     "## A <tank> & \"more\".\nsystem S { param k : s^-1 = 2 s^-1 ; var x init 1 ; x' = -k * x ; when x < 0.5 { } }\nscenario a of S { ## Of "
                     "</script> names.\n stop at 2 s ; set k = 3 s^-1 "
                     "; measure least = min(x) ; require least < 0.1 \"it falls\" ; figure \"Fall\" { x } }\n");
    test::Outcome run = test::netloop("run " + (scratch / "m.loop") + " --quiet --out " + (scratch / "m.h5"));
    INFO(run.err);
    REQUIRE(run.code == 0);
    REQUIRE(test::netloop("convert " + (scratch / "m.h5") + " " + (scratch / "m.csv")).code == 0);
    for (const char* name : {"m.h5", "m.csv"})
        CHECK(test::netloop("report " + (scratch / name) + " --out " + (scratch / (std::string(name) + ".html"))).code == 0);
    std::string page = test::read_file(scratch / "m.h5.html");
    CHECK(page.find("&lt;tank&gt; &amp; &quot;more&quot;") != std::string::npos);
    CHECK(page.find("1 changed by the scenario") != std::string::npos);
    CHECK(page.find("class=\"holds\">holds") != std::string::npos);
    CHECK(test::read_file(scratch / "m.csv.html").find("asks for no figure") != std::string::npos);
    // two runs from two texts: the page says whose model it shows
    std::string other = test::read_file(scratch / "m.loop");
    test::write_file(scratch / "n.loop", other.replace(other.find("init 1"), 6, "init 2"));
    REQUIRE(test::netloop("run " + (scratch / "n.loop") + " --quiet --out " + (scratch / "n.h5")).code == 0);
    REQUIRE(test::netloop("report " + (scratch / "m.h5") + " " + (scratch / "n.h5") + " --out " + (scratch / "both.html")).code == 0);
    CHECK(test::read_file(scratch / "both.html").find("The model shown belongs to m; n was run from a different text") != std::string::npos);
    CHECK(page.find("from a different text") == std::string::npos);
    auto wrong = [&](const std::string& what) { return test::netloop("report " + what); };
    CHECK(wrong((scratch / "m.h5") + " --out " + (scratch / "m.pdf")).err.find("written as .html") != std::string::npos);
    CHECK(wrong((scratch / "m.h5") + " --out " + (scratch / "no/m.html")).code == 1);
    CHECK(wrong((scratch / "none.h5") + " --out " + (scratch / "x.html")).code == 1);
    CHECK(wrong((scratch / "m.h5") + " --size 3 --out " + (scratch / "x.html")).code == 0);
    CHECK(wrong((scratch / "m.h5") + " --size 3kg --out " + (scratch / "y.html")).code == 2);
    test::Outcome bare = wrong((scratch / "m.h5") + " --scripts " + scratch.path() + " --out " + (scratch / "z.html"));
    CHECK(bare.code == 1);
    CHECK(bare.err.find("libjs-dygraphs") != std::string::npos);
    CHECK_FALSE(fs::exists(scratch / "z.html"));
}

TEST_CASE("the diagram of a model whose texts lie above the first one")
{
    test::Scratch scratch;
    fs::create_directories(scratch / "parts");
    fs::create_directories(scratch / "sites/north");
    test::write_file(scratch / "parts/pot.loop",
                     "## A pot. Left out: its lid.\ncomponent Pot { port surface : heat.thermal ; var T : degC init 20 degC ; T = surface.T ; 1 kJ/K * T' = "
                     "surface.heat }\n");
    test::write_file(scratch / "sites/north/plant.loop",
                     "use heat\nuse \"../../parts/pot.loop\"\nsystem Plant { part pot : Pot ; part fire : HeatSource ; 2 kW -> fire.power ; fire.surface -- "
                     "pot.surface }\nscenario boil of Plant { stop at 60 s }\n");
    REQUIRE(test::netloop("run " + (scratch / "sites/north/plant.loop") + " --quiet --out " + (scratch / "p.h5")).code == 0);
    REQUIRE(test::netloop("report " + (scratch / "p.h5") + " --out " + (scratch / "p.html")).code == 0);
    std::string page = test::read_file(scratch / "p.html");
    CHECK(page.find("<svg") != std::string::npos);
    CHECK(page.find("No diagram") == std::string::npos);
    CHECK(page.find("../../parts/pot.loop</summary>") != std::string::npos);
    CHECK(page.find(scratch.path()) == std::string::npos);
}

TEST_CASE("a report of 100,000 rows a curve: panels hold what can be seen, and no peak is lost")
{
    test::Scratch scratch;
    // noise that no thinning of the numbers takes out, and one row that stands out
    std::string csv = "time [s],p [bar],q [L/min]\n";
    std::uint32_t seed = 12345;
    auto noise = [&] { return static_cast<double>((seed = seed * 1664525u + 1013904223u) >> 8) / (1 << 24); };
    for (int i = 0; i < 100000; ++i) csv += fmt::format("{:.3f},{:.6f},{:.6f}\n", 0.001 * i, 100 + 10 * noise() + (i == 54321 ? 60 : 0), 5 * noise());
    test::write_file(scratch / "noise.csv", csv);
    test::Outcome made = test::netloop("report " + (scratch / "noise.csv") + " --out " + (scratch / "noise.html"));
    INFO(made.err);
    REQUIRE(made.code == 0);
    json said = in_browser(scratch / "noise.html", "bar");
    CHECK(said["console"].empty());
    json seen = said["picked_points"];  // of the panel that was chosen: points given to the graph, lowest and highest
    CHECK(seen[0] > 1000);
    CHECK(seen[0] < 6000);
    CHECK(seen[1].get<double>() == doctest::Approx(100).epsilon(1e-3));
    CHECK(seen[2].get<double>() > 160);
    json closer = said["picked_closer"];  // after a zoom to a tenth: other points, as many
    CHECK(closer[0] > 1000);
    CHECK(closer[0] < 6000);
}

TEST_SUITE_END();

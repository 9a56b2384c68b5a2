// SPDX-License-Identifier: Apache-2.0
// What a figure shows, as numbers.
#include "figures/curves.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <numbers>
#include <set>

#include "figures/condition.hpp"
#include "figures/outline.hpp"
#include "figures/page.hpp"
#include "figures/spectrum.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

Column column(const std::string& name, const std::string& unit, double scale, const std::vector<double>& shown)
{
    Column c;
    c.name = name;
    c.unit = unit;
    c.scale = scale;
    for (double v : shown) c.values.push_back(scale * v);
    return c;
}

// A pressure that swings with a period of 2 s, an angle that grows, a pump that runs from 3 s to 6 s, over 10 s in steps of `step`.
Recording swing(double step, double height = 20, double end = 10)
{
    std::vector<double> t, p, a, on;
    for (int i = 0; i * step <= end + 1e-9; ++i) {
        t.push_back(i * step);
        p.push_back(100 + height * std::sin(std::numbers::pi * t.back()));
        a.push_back(3 * t.back());
        on.push_back(t.back() >= 3 && t.back() < 6 ? 1 : 0);
    }
    Recording r;
    r.columns = {column("time", "s", 1, t), column("pump.p", "bar", 1e5, p), column("leaf.angle", "deg", std::numbers::pi / 180, a),
                 column("pump.on", "bool", 1, on), column("cell[2].p", "bar", 1e5, p)};
    return r;
}

PlotRequest want(std::vector<std::string> quantities)
{
    return {.quantities = std::move(quantities), .against = "", .title = "", .out = ""};
}

double highest(const Stroke& s)
{
    return *std::max_element(s.y.begin(), s.y.end());
}

}  // namespace

TEST_SUITE_BEGIN("figures");

TEST_CASE("a condition over a recording: when it becomes true, between rows by a straight line")
{
    Recording r = swing(0.01);
    std::vector<double> up = times_of(r, "pump.p > 110 bar");  // sin = 1/2 at a twelfth of the period
    REQUIRE(up.size() == 5);
    // a straight line over a step of 10 ms is off by at most h^2 / 8 times the curvature (99 bar/s^2), at a slope of 54 bar/s
    for (std::size_t k = 0; k < 5; ++k) CHECK(std::abs(up[k] - (2.0 * static_cast<double>(k) + 1.0 / 6)) < 2.4e-5);
    std::vector<double> angle = times_of(r, "leaf.angle >= 7.5 deg");
    REQUIRE(angle.size() == 1);
    CHECK(angle[0] == doctest::Approx(2.5).epsilon(1e-9));
    CHECK(times_of(r, "pump.on") == std::vector<double>{r.time().values[300]});
    CHECK(times_of(r, "not pump.on").size() == 1);
    CHECK(times_of(r, "pump.on and pump.p > 110 bar").size() == 1);  // from 4.17 s on
    CHECK(times_of(r, "pump.p > 119 bar or leaf.angle > 29 deg").size() == 6);
    CHECK(times_of(r, "pump.p - 2 * cell[2].p + 100 bar < 0 bar").size() == 5);
    CHECK(times_of(r, "time > 4 s")[0] == doctest::Approx(4).epsilon(1e-2));
    CHECK(times_of(r, "pump.p > 500 bar").empty());
    CHECK_THROWS_WITH(times_of(r, "pump.p > 5 deg"), "'pump.p > 5 deg', column 1: [bar] against [deg]");
    CHECK_THROWS_AS(times_of(r, "pump.p"), RecordingError);
    CHECK_THROWS_AS(times_of(r, "pump.p >"), RecordingError);
    CHECK_THROWS_AS(times_of(r, "max(pump.p, 3 bar) > 2 bar"), RecordingError);
    CHECK_THROWS_WITH(times_of(r, "pump.q > 1 bar"), "the recording has no quantity 'pump.q'; did you mean 'pump.p'?");
}

TEST_CASE("folding cuts whole cycles that all begin at 0")
{
    std::vector<Recording> r{swing(0.03)};
    PlotRequest request = want({"pump.p", "leaf.angle:rad"});
    request.fold = 2;
    PageContent page = find_content(r, {"r"}, request);
    REQUIRE(page.panels.size() == 1);
    CHECK(page.panels[0].x_label == "time within 2 s");
    const Curve& p = page.panels[0].curves[0];
    REQUIRE(p.strokes.size() == 5);
    for (const Stroke& s : p.strokes) {
        CHECK(s.x.front() == doctest::Approx(0));
        CHECK(s.y.front() == doctest::Approx(100).epsilon(2e-3));  // between two rows, by a straight line
        CHECK(s.x.back() == doctest::Approx(2).epsilon(0.01));
        CHECK(highest(s) == doctest::Approx(120).epsilon(1e-3));
    }
    CHECK(page.panels[0].curves[1].strokes[2].y.front() == doctest::Approx(12 * std::numbers::pi / 180).epsilon(1e-6));

    request.fold.reset();
    request.fold_at = "pump.p > 110 bar";
    request.from = 2;
    page = find_content(r, {"r"}, request);
    CHECK(page.panels[0].curves[0].strokes.size() == 4);  // the first cycle begins before 2 s
    CHECK(page.panels[0].curves[0].strokes[1].y.front() == doctest::Approx(110).epsilon(1e-4));

    request.against = "leaf.angle";
    page = find_content(r, {"r"}, request);
    CHECK(page.panels[0].curves[0].strokes[1].x.front() == doctest::Approx(3 * (4 + 1.0 / 6)).epsilon(1e-3));
    request.fold_at = "pump.p > 500 bar";
    CHECK_THROWS_WITH(find_content(r, {"r"}, request), "'pump.p > 500 bar' never becomes true: there is nothing to fold at");
    request.fold_at.clear();
    request.fold = 0;
    CHECK_THROWS_AS(find_content(r, {"r"}, request), UsageError);
}

TEST_CASE("the spectrum of a sine has its amplitude at its frequency")
{
    std::vector<double> t, y;
    for (int i = 0; i < 4001; ++i) {
        t.push_back(0.005 * i);
        y.push_back(7 + 3 * std::sin(2 * std::numbers::pi * 7 * t.back()) + 0.5 * std::cos(2 * std::numbers::pi * 31 * t.back()));
    }
    Stroke s = amplitude_spectrum(t, y);
    auto near = [&](double f) {  // the highest line within half a Hz
        double best = 0;
        for (std::size_t k = 0; k < s.x.size(); ++k)
            if (std::abs(s.x[k] - f) < 0.5) best = std::max(best, s.y[k]);
        return best;
    };
    CHECK(near(7) == doctest::Approx(3).epsilon(0.01));
    CHECK(near(31) == doctest::Approx(0.5).epsilon(0.02));
    CHECK(near(15) < 1e-3);
    CHECK(near(0.3) < 1e-3);  // the mean is no line
    CHECK(s.x.back() == doctest::Approx(100).epsilon(0.01));
    // rows at uneven times, two at one time
    std::vector<double> tu, yu;
    for (int i = 0; i < 4001; ++i) {
        tu.push_back(t[static_cast<std::size_t>(i)] + 0.001 * std::sin(i));
        yu.push_back(std::sin(2 * std::numbers::pi * 5 * tu.back()));
        if (i == 2000) tu.push_back(tu.back()), yu.push_back(yu.back());
    }
    s = amplitude_spectrum(tu, yu);
    CHECK(near(5) == doctest::Approx(1).epsilon(0.02));
    CHECK_THROWS_AS(amplitude_spectrum({0, 1, 2}, {1, 2, 3}), RecordingError);
}

TEST_CASE("a dense line keeps its first, lowest, highest and last point in every pixel")
{
    Stroke s;
    for (int i = 0; i < 100000; ++i) s.x.push_back(1e-4 * i), s.y.push_back(std::sin(0.3 * i) + (i == 54321 ? 9 : 0) - (i == 77777 ? 8 : 0));
    Stroke t = thinned(s, {0, 10, 1000});
    CHECK(t.x.size() <= 4000);
    CHECK(t.x.size() > 2000);
    CHECK(highest(t) == highest(s));
    CHECK(*std::min_element(t.y.begin(), t.y.end()) == *std::min_element(s.y.begin(), s.y.end()));
    CHECK(t.x.front() == s.x.front());
    CHECK(t.x.back() == s.x.back());
    CHECK(std::is_sorted(t.x.begin(), t.x.end()));
    Stroke few{{0, 1, 2}, {3, 4, 5}};
    CHECK(thinned(few, {0, 2, 1000}).y == few.y);
    s.y[500] = std::nan("");  // a gap stays
    t = thinned(s, {0, 10, 100});
    CHECK(std::count_if(t.y.begin(), t.y.end(), [](double v) { return std::isnan(v); }) >= 1);
}

TEST_CASE("where a curve swings faster than pixels show it is a band between its lowest and highest points, elsewhere a line")
{
    // 100 s at 1 kHz on 1,000 columns: slow to 40 s, 50 Hz of rising amplitude to 80 s, slow again
    Stroke s;
    for (int i = 0; i <= 100000; ++i) {
        double t = 1e-3 * i;
        s.x.push_back(t);
        s.y.push_back(t > 40 && t < 80 ? (t - 40) * std::sin(2 * std::numbers::pi * 50 * t + 0.3) : std::sin(0.3 * t));
    }
    s.y[61234] = 77;  // a single row
    Raster raster{0, 100, 1000, 0.1};
    Outline o = outline_of(s, raster);
    REQUIRE(o.bands.size() == 1);
    REQUIRE(o.lines.size() == 2);
    const Band& b = o.bands[0];
    CHECK(b.x.front() == doctest::Approx(40).epsilon(0.01));
    CHECK(b.x.back() == doctest::Approx(80).epsilon(0.005));
    CHECK(b.x.size() < 220);  // two columns each
    CHECK(*std::max_element(b.high.begin(), b.high.end()) == 77);
    for (std::size_t k = 4; k + 4 < b.x.size(); ++k) {
        double swing = b.x[k] - 40;
        CHECK(std::abs(b.low[k] + swing) < 0.13);  // half a block, by which the swing has grown, and what lies between rows
        if (std::abs(b.x[k] - 61.234) > 0.3) CHECK(std::abs(b.high[k] - swing) < 0.13);
    }
    // lines reach into the band, and hold what is outside
    CHECK(o.lines[0].x.front() == 0);
    CHECK(o.lines[0].x.back() >= b.x.front());
    CHECK(o.lines[1].x.front() <= b.x.back());
    CHECK(o.lines[1].x.back() == 100);

    // a swing below two pixels is a line, and so is all that may not be a band
    CHECK(outline_of(s, {0, 100, 1000, 60}).bands.empty());
    CHECK(outline_of(s, {0, 100, 1000, HUGE_VAL}).bands.empty());
    Stroke back = s;
    std::swap(back.x[10], back.x[20]);
    CHECK(outline_of(back, raster).bands.empty());
    Stroke burst = s;  // 0.5 s: five columns
    for (int i = 0; i <= 100000; ++i) burst.y[static_cast<std::size_t>(i)] = i > 50000 && i < 50500 ? 5 * (i % 2) : 0;
    CHECK(outline_of(burst, raster).bands.empty());
    // a gap cuts a band
    for (std::size_t i = 60000; i < 60500; ++i) s.y[i] = std::nan("");
    o = outline_of(s, raster);
    CHECK(o.bands.size() == 2);
    CHECK(o.bands[0].x.back() < 60.01);
    CHECK(o.bands[1].x.front() > 60.3);
}

TEST_CASE("a band is drawn as a veil between two lines")
{
    Recording r;
    std::vector<double> t, p, slow;
    for (int i = 0; i < 20000; ++i) t.push_back(1e-3 * i), p.push_back(100 + 20 * std::sin(1.9 * i)), slow.push_back(100 + std::sin(1e-3 * i));
    r.columns = {column("time", "s", 1, t), column("pump.p", "bar", 1e5, p), column("tank.p", "bar", 1e5, slow)};
    std::vector<Recording> all{r};
    PlotRequest request = want({"pump.p", "tank.p"});
    std::string script = page_script(find_content(all, {"r"}, request), request, "x.png");
    std::size_t veil = script.find("with filledcurves fs transparent");
    REQUIRE(veil != std::string::npos);
    CHECK(script.find("with filledcurves", veil + 1) == std::string::npos);  // the slow one is a line
    CHECK(script.size() < 250000);                                           // of 20,000 rows
}

TEST_CASE("patterns stand for all quantities they fit, with a unit for those that can be shown in it")
{
    std::vector<Recording> r{swing(0.05)};
    auto labels = [&](const std::vector<std::string>& quantities) {
        std::vector<std::string> found;
        for (const PanelContent& p : find_content(r, {"r"}, want(quantities)).panels)
            for (const Curve& c : p.curves) found.push_back(c.label);
        return found;
    };
    std::vector<std::string> pressures{"pump.p", "cell[2].p"};
    CHECK(labels({"*.p"}) == pressures);
    CHECK(labels({"*:bar"}) == pressures);
    CHECK(labels({"1:*:kPa"}) == pressures);
    CHECK(labels({"leaf.*", "/", "*:bar"}).size() == 3);
    CHECK_THROWS_WITH_AS(labels({"nothing.*"}), doctest::Contains("fits no recorded quantity"), RecordingError);
    CHECK_THROWS_WITH_AS(labels({"*:kg"}), doctest::Contains("fits no recorded quantity"), RecordingError);
    for (int k = 0; k < 30; ++k) {
        r[0].columns.push_back(r[0].columns[1]);
        r[0].columns.back().name = "more" + std::to_string(k);
    }
    CHECK_THROWS_WITH_AS(labels({"more*"}), doctest::Contains("narrow it"), RecordingError);
}

TEST_CASE("a sequence has an axis of its own that names its stages")
{
    Recording r = test::simulate(
        "system S { var x : m init 0 m ; x' = 1 m/s\n sequence duty { stage resting { } -> going_up when x > 2 m\n stage going_up { } -> going_down when x > 5 "
        "m\n stage "
        "going_down { } } }",
        8, 1e-8);
    CHECK(r.origin.stages_of("duty") == std::vector<std::string>{"resting", "going_up", "going_down"});
    CHECK(r.origin.stages_of("x").empty());
    std::vector<Recording> all{r};
    PageContent page = find_content(all, {"r"}, want({"x", "duty"}));
    REQUIRE(page.panels.size() == 1);
    CHECK(page.panels[0].units == std::vector<std::string>{"m", "stage of duty"});
    std::string script = page_script(page, want({"x", "duty"}), "x.svg");
    CHECK(script.find("set y2tics ('resting' 1, 'going_up' 2, 'going_down' 3)") != std::string::npos);
    CHECK(script.find("set y2range [0.5:3.5]") != std::string::npos);
    CHECK(script.find("'[stage]'") != std::string::npos);
    // as a number where a unit asks for it; no difference of stages
    CHECK(find_content(all, {"r"}, want({"duty:1"})).panels[0].units[0] == "1");
    std::vector<Recording> two{r, r};
    CHECK(find_content(two, {"a", "b"}, want({"duty"})).panels.size() == 1);
    // a long name has room
    for (SequenceEntry& s : all[0].origin.sequences) s.stages[1] = "a_stage_with_quite_a_long_name";
    std::string wide = page_script(find_content(all, {"r"}, want({"x", "duty"})), want({"x", "duty"}), "x.svg");
    auto right = [](const std::string& text) { return std::stod(text.substr(text.find("set rmargin at screen ") + 22)); };
    CHECK(right(wide) < right(script) - 0.08);
}

TEST_CASE("two runs: what the second has more than the first, at the times of both")
{
    std::vector<Recording> r{swing(0.1), swing(0.07, 30, 12)};
    PageContent page = find_content(r, {"calm", "storm"}, want({"pump.p"}));
    REQUIRE(page.panels.size() == 2);
    CHECK(page.panels[0].curves[1].label == "pump.p (storm)");
    const PanelContent& d = page.panels[1];
    CHECK(d.lower);
    REQUIRE(d.curves.size() == 1);
    CHECK(d.curves[0].label == "storm minus calm");
    const Stroke& s = d.curves[0].strokes[0];
    CHECK(s.x.back() == doctest::Approx(10));
    CHECK(s.x.size() > 220);
    for (std::size_t i = 0; i < s.x.size(); ++i) CHECK(std::abs(s.y[i] - 10 * std::sin(std::numbers::pi * s.x[i])) < 0.45);  // straight lines between rows
    PlotRequest alone = want({"pump.p"});
    alone.difference = false;
    CHECK(find_content(r, {"calm", "storm"}, alone).panels.size() == 1);
    alone.against = "leaf.angle";
    alone.difference = true;
    CHECK(find_content(r, {"calm", "storm"}, alone).panels.size() == 1);
}

TEST_CASE("events are lanes in the order in which they first come; what is sampled is left out")
{
    std::vector<Recording> r{swing(0.1)};
    r[0].events.kinds = {{"every 10 ms", "ctl", "a.loop:1:1", {0.1, 0.2}, 0, 0},
                         {"tank.level > 2.4", "", "a.loop:2:1", {5, 7}, 0, 0},
                         {"x < 1", "ctl", "a.loop:3:1", {2}, 0, 0}};
    PlotRequest request = want({"pump.p"});
    request.events = true;
    PageContent page = find_content(r, {"r"}, request);
    REQUIRE(page.lanes.size() == 2);
    CHECK(page.lanes[0].label == "ctl: x < 1");
    CHECK(page.lanes[1].times == std::vector<double>{5, 7});
    request.from = 8;
    CHECK_THROWS_AS(find_content(r, {"r"}, request), RecordingError);
    request.from.reset();
    request.against = "leaf.angle";
    CHECK_THROWS_AS(find_content(r, {"r"}, request), RecordingError);
}

TEST_CASE("the command's options draw, and wrong ones are told")
{
    test::Scratch folder;
    swing(0.01).save(folder / "a.h5");
    swing(0.01, 25).save(folder / "b.h5");
    auto plot = [&](const std::string& what) { return test::netloop("plot " + (folder / "a.h5") + " " + what + " --out " + (folder / "x.svg")); };
    auto svg = [&] { return test::read_file(folder / "x.svg"); };
    CHECK(plot("pump.p --fold 2s").code == 0);
    CHECK(svg().find("pump.p, 5 cycles") != std::string::npos);
    CHECK(plot("pump.p --fold-at \"pump.p > 110 bar\" --from 1s").code == 0);
    CHECK(svg().find("time since pump.p > 110 bar [s]") != std::string::npos);
    CHECK(plot("pump.p --spectrum --log xy").code == 0);
    CHECK(svg().find("frequency [Hz]") != std::string::npos);
    CHECK(plot("pump.p / leaf.angle / leaf.angle:rad / pump.on --columns 2 --range 0..20MPa").code == 0);
    CHECK(svg().find(">200<") != std::string::npos);  // 20 MPa on an axis in bar
    CHECK(plot("pump.p --with " + (folder / "b.h5")).code == 0);
    CHECK(svg().find("b minus a") != std::string::npos);
    CHECK(plot("pump.p --against time:min").code == 0);
    CHECK(svg().find("time [min]") != std::string::npos);
    CHECK(plot("pump.p --fold 2s --fold-at \"pump.on\"").code == 2);
    CHECK(plot("pump.p --spectrum --fold 2s").code == 2);
    CHECK(plot("pump.p --range 3bar").code == 2);
    CHECK(plot("pump.p --range 3..1bar").code == 2);
    CHECK(plot("pump.p --log z").code == 2);
    CHECK(plot("pump.p --fold 2m").code != 0);
    CHECK(plot("pump.p --from 20s").err.find("no row in the time asked for") != std::string::npos);
    CHECK(plot("pump.on --log y").code == 0);  // the rows above 0
    CHECK(plot("pump.p --events").err.find("no event") != std::string::npos);
}

TEST_CASE("a page: every panel, legend entry and axis has its place, and none lies upon another")
{
    std::vector<Recording> r{swing(0.05)};
    PlotRequest request = want({"pump.p", "cell[2].p", "/", "leaf.angle", "leaf.angle:rad", "/", "pump.on"});
    request.title = "Three panels";
    request.out = "x.svg";
    std::string script = page_script(find_content(r, {"r"}, request), request, "x.svg");
    // margins as shares of the page, from the bottom
    std::vector<double> tops, bottoms;
    for (auto [word, list] : {std::pair{"set tmargin at screen ", &tops}, {"set bmargin at screen ", &bottoms}})
        for (std::size_t at = script.find(word); at != std::string::npos; at = script.find(word, at + 1))
            list->push_back(std::stod(script.substr(at + std::string(word).size())));
    REQUIRE(tops.size() == 3);
    REQUIRE(bottoms.size() == 3);
    for (std::size_t k = 0; k < 3; ++k) {
        CHECK(tops[k] > bottoms[k] + 0.1);
        if (k > 0) CHECK(tops[k] < bottoms[k - 1] - 0.03);  // room for the legend between
    }
    CHECK(tops[0] < 0.95);
    CHECK(bottoms[2] > 0.04);
    auto count = [&](const std::string& text) {
        int n = 0;
        for (std::size_t at = script.find(text); at != std::string::npos; at = script.find(text, at + 1)) ++n;
        return n;
    };
    CHECK(count("'time [s]'") == 1);  // below the last one only
    CHECK(count("'cell[2].p'") == 1);
    CHECK(count("'leaf.angle (left)'") == 1);
    CHECK(count("'leaf.angle (right)'") == 1);
    CHECK(count("axes x1y2") == 1);
    // neighbours are told apart by colour and by dashes
    CHECK(count("dt solid lc rgb '#14508c'") >= 2);
    CHECK(count("dt (14,5) lc rgb '#eb831b'") >= 2);

    request.columns = 2;
    script = page_script(find_content(r, {"r"}, request), request, "x.svg");
    CHECK(count("'time [s]'") == 3);
    request.quantities = {"pump.p"};
    request.ranges = {{0, 30}};
    request.range_units = {"MPa"};
    script = page_script(find_content(r, {"r"}, request), request, "x.svg");
    CHECK(script.find("set yrange [0:300]") != std::string::npos);
}

TEST_CASE("in grey no two curves of a panel are alike: dashes by place, or by run and quantity")
{
    auto dashes = [](const std::string& script) {
        std::vector<std::string> found;
        for (std::size_t at = script.find("with lines lw"); at != std::string::npos; at = script.find("with lines lw", at + 1)) {
            std::size_t begin = script.find(" dt ", at) + 4;
            found.push_back(script.substr(begin, script.find(" lc", begin) - begin));
        }
        return found;
    };
    for (std::size_t runs : {1, 2, 3}) {
        std::vector<Recording> r(runs, swing(0.05));
        std::vector<std::string> names{"a", "b", "c"};
        PlotRequest request = want({"pump.p", "cell[2].p", "leaf.angle"});
        request.difference = false;
        std::vector<std::string> found = dashes(page_script(find_content(r, names, request), request, "x.svg"));
        REQUIRE(found.size() == 3 * runs);
        std::sort(found.begin(), found.end());
        INFO(runs, " runs");
        CHECK(std::unique(found.begin(), found.end()) == found.end());
    }
}

TEST_CASE("folded cycles fade towards the first; a gap in a curve stays one")
{
    std::vector<Recording> r{swing(0.05)};
    r[0].columns[1].values[7] = std::nan("");
    PlotRequest request = want({"pump.p"});
    request.fold = 2;
    std::string script = page_script(find_content(r, {"r"}, request), request, "x.svg");
    CHECK(script.find("lc rgb '#b9cbdd'") != std::string::npos);  // three tenths of #14508c on white
    CHECK(script.find("lc rgb '#14508c'") != std::string::npos);
    CHECK(script.find("\n\n") != std::string::npos);
}

TEST_CASE("folded cycles of several runs are drawn as the legend says, each run with its own dashes")
{
    std::vector<Recording> r{swing(0.05), swing(0.05, 10), swing(0.05, 5), swing(0.05, 2)};
    PlotRequest request = want({"pump.p"});
    request.fold = 2;
    std::string script = page_script(find_content(r, {"a", "b", "c", "d"}, request), request, "x.svg");
    auto dashes = [&](const std::string& mark) {
        std::vector<std::string> found;
        for (std::size_t at = script.find(mark); at != std::string::npos; at = script.find(mark, at + 1)) {
            std::size_t begin = script.find(" dt ", at) + 4;
            std::string dash = script.substr(begin, script.find(" lc", begin) - begin);
            if (found.empty() || found.back() != dash) found.push_back(dash);
        }
        return found;
    };
    std::vector<std::string> legend = dashes("nohead lw 2"), drawn = dashes("with lines lw");
    CHECK(legend.size() == 4);
    CHECK(drawn == legend);
}

TEST_CASE("twenty curves of a panel are told apart by colour and dashes together")
{
    Recording r = swing(0.5);
    std::vector<std::string> names;
    for (int k = 0; k < 20; ++k) {
        r.columns.push_back(r.columns[1]);
        r.columns.back().name = "q" + std::to_string(k);
        names.push_back(r.columns.back().name);
    }
    std::vector<Recording> runs{r};
    PlotRequest request = want(names);
    std::string script = page_script(find_content(runs, {"r"}, request), request, "x.svg");
    std::set<std::string> looks;
    for (std::size_t at = script.find("nohead lw 2"); at != std::string::npos; at = script.find("nohead lw 2", at + 1))
        looks.insert(script.substr(at, script.find('\n', at) - at));
    CHECK(looks.size() == 20);
}

TEST_CASE("a difference of temperatures is in K, of gauge pressures in bar")
{
    std::vector<Recording> r{swing(0.5), swing(0.5, 10)};
    for (Recording& one : r) one.columns[1].unit = "degC", one.columns[1].scale = 1, one.columns[1].offset = 273.15;
    PageContent page = find_content(r, {"a", "b"}, want({"pump.p"}));
    REQUIRE(page.panels.size() == 2);
    CHECK(page.panels[0].units[0] == "degC");
    CHECK(page.panels[1].units[0] == "K");
    CHECK(page.panels[1].curves[0].unit == "K");
}

TEST_SUITE_END();

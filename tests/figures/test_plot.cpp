// SPDX-License-Identifier: Apache-2.0
#include "figures/plot.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <cstdlib>
#include <filesystem>

#include "support/support.hpp"

using namespace netloop;
namespace fs = std::filesystem;

namespace {

Column column(const std::string& name, const std::string& unit, double scale, double (*f)(double))
{
    Column c;
    c.name = name;
    c.unit = unit;
    c.scale = scale;
    for (int i = 0; i <= 100; ++i) c.values.push_back(scale * f(0.1 * i));
    return c;
}

Recording sample()
{
    Recording r;
    r.columns = {column("time", "s", 1, [](double t) { return t; }), column("pump.p", "bar", 1e5, [](double t) { return 100 + 20 * std::sin(t); }),
                 column("leaf.angle", "deg", 3.14159265358979 / 180, [](double t) { return 8 * t; }),
                 column("a \"quoted\" _name^", "1", 1, [](double) { return 3.0; }), column("oil.T", "K", 1, [](double t) { return 300 + t; })};
    return r;
}

std::string drawn(const Recording& r, PlotRequest request)
{
    test::Scratch scratch;
    request.out = scratch / "x.svg";
    plot({r}, {"r"}, request);
    CHECK_FALSE(fs::exists(request.out + ".unfinished"));
    return test::read_file(request.out);
}

bool has(const std::string& text, const std::string& part)
{
    return text.find(part) != std::string::npos;
}

}  // namespace

TEST_SUITE_BEGIN("figures");

TEST_CASE("curves are labelled by path, axes by unit, the x axis by time")
{
    std::string svg = drawn(sample(), {.quantities = {"pump.p"}, .against = "", .title = "A title", .out = ""});
    CHECK(has(svg, "pump.p"));
    CHECK(has(svg, "[bar]"));
    CHECK(has(svg, "time [s]"));
    CHECK(has(svg, "A title"));
}

TEST_CASE("two units share a panel with an axis on each side, more units get a panel each")
{
    std::string two = drawn(sample(), {.quantities = {"pump.p", "leaf.angle"}, .against = "", .title = "", .out = ""});
    CHECK(has(two, "pump.p (left)"));
    CHECK(has(two, "leaf.angle (right)"));
    std::string three = drawn(sample(), {.quantities = {"pump.p", "leaf.angle", "oil.T"}, .against = "", .title = "", .out = ""});
    CHECK_FALSE(has(three, "(left)"));
    for (const char* unit : {"[bar]", "[deg]", "[K]"}) CHECK(has(three, unit));
}

TEST_CASE("names that mean something to the drawing program are shown as they are")
{
    std::string svg = drawn(sample(), {.quantities = {"a \"quoted\" _name^"}, .against = "leaf.angle", .title = "50 % `x` $y", .out = ""});
    CHECK(has(svg, "_name^"));
    CHECK(has(svg, "leaf.angle [deg]"));
    CHECK(has(svg, "[-]"));
}

TEST_CASE("two recordings in one figure, and one of them by its number")
{
    test::Scratch scratch;
    PlotRequest request{.quantities = {"pump.p", "2:oil.T"}, .against = "", .title = "", .out = scratch / "both.svg"};
    plot({sample(), sample()}, {"calm", "storm"}, request);
    std::string svg = test::read_file(request.out);
    CHECK(has(svg, "pump.p (calm)"));
    CHECK(has(svg, "pump.p (storm)"));
    CHECK(has(svg, "oil.T (storm)"));
    CHECK_FALSE(has(svg, "oil.T (calm)"));
    request.quantities = {"3:oil.T"};
    CHECK_THROWS_AS(plot({sample(), sample()}, {"calm", "storm"}, request), RecordingError);
}

TEST_CASE("a PNG has the size asked for")
{
    test::Scratch scratch;
    PlotRequest request{.quantities = {"pump.p"}, .against = "", .title = "", .out = scratch / "x.png", .width = 640, .height = 400};
    plot({sample()}, {"r"}, request);
    std::string png = test::read_file(request.out);
    REQUIRE(png.size() > 100);
    auto number = [&](std::size_t at) { return static_cast<unsigned char>(png[at + 2]) * 256 + static_cast<unsigned char>(png[at + 3]); };
    CHECK(number(16) == 640);
    CHECK(number(20) == 400);
}

TEST_CASE("what cannot be drawn is refused and leaves no file")
{
    test::Scratch scratch;
    auto refuse = [&](const std::vector<std::string>& quantities, const std::string& out) {
        PlotRequest request{.quantities = quantities, .against = "", .title = "", .out = out};
        CHECK_THROWS_AS(plot({sample()}, {"r"}, request), RecordingError);
        CHECK_FALSE(fs::exists(out));
    };
    refuse({"pump.q"}, scratch / "x.png");
    refuse({}, scratch / "x.png");
    refuse({"pump.p"}, scratch / "x.jpg");
    refuse({"pump.p"}, scratch / "no/folder/x.png");
    Recording empty = sample();
    for (Column& c : empty.columns) c.values.clear();
    PlotRequest request{.quantities = {"pump.p"}, .against = "", .title = "", .out = scratch / "y.png"};
    CHECK_THROWS_AS(plot({empty}, {"r"}, request), RecordingError);
}

TEST_CASE("a constant curve and one with gaps are drawn")
{
    Recording r = sample();
    r.columns[1].values.assign(101, 5e5);
    r.columns[2].values[50] = std::nan("");
    CHECK(has(drawn(r, {.quantities = {"pump.p", "leaf.angle"}, .against = "", .title = "", .out = ""}), "pump.p"));
}

TEST_CASE("a figure of a scenario draws the stages of a sequence")
{
    test::Scratch folder;
    test::write_file(folder / "m.loop",
                     "system S {\n var x : 1 init 0\n x' = 1 s^-1\n sequence duty {\n stage hauling { } -> resting after 1 s\n stage resting { } -> hauling "
                     "after 1 s\n }\n}\n"
                     "scenario a of S {\n stop at 5 s\n figure \"Stages\" {\n x\n duty\n }\n}\n");
    REQUIRE(test::netloop("run " + (folder / "m.loop") + " --out " + (folder / "m.h5") + " --quiet").code == 0);
    REQUIRE(test::netloop("plot " + (folder / "m.h5") + " --figure Stages --out " + (folder / "m.svg")).code == 0);
    std::string svg = test::read_file(folder / "m.svg");
    for (const char* part : {"hauling", "resting", "duty"}) CHECK(svg.find(part) != std::string::npos);
    CHECK(test::netloop("report " + (folder / "m.h5") + " --out " + (folder / "m.html")).code == 0);
}

TEST_CASE("units of one's own, panels, a scenario's figure, PDF; what is wrong is told")
{
    test::Scratch folder;
    test::write_file(folder / "m.loop",
                     "use mechanics\nsystem S {\n part m : Mass(mass = 2 kg)\n part s : Spring(stiffness = 50 N/m)\n part w : Anchor\n w.point -- s.a\n s.b -- "
                     "m.point\n init m.x = 0.1 m ; init m.v = 0 m/s\n}\nscenario a of S {\n stop "
                     "at 2 s\n figure \"Swing\" {\n m.x : mm\n s.tension\n m.v against m.x\n m.x * m.v\n }\n}\n");
    REQUIRE(test::netloop("run " + (folder / "m.loop") + " --out " + (folder / "m.h5") + " --quiet").code == 0);
    auto plot = [&](const std::string& what, const std::string& out) {
        return test::netloop("plot " + (folder / "m.h5") + " " + what + " --out " + (folder / out));
    };
    CHECK(plot("m.x:mm", "a.svg").code == 0);
    std::string svg = test::read_file(folder / "a.svg");
    CHECK(svg.find("[mm]") != std::string::npos);
    CHECK(svg.find("100") != std::string::npos);  // 0.1 m
    CHECK(plot("m.x m.v / s.tension", "b.svg").code == 0);
    CHECK(test::read_file(folder / "b.svg").find("m.v (right)") != std::string::npos);
    CHECK(plot("--figure Swing", "c.svg").code == 0);
    std::string figure = test::read_file(folder / "c.svg");
    for (const char* part : {"Swing", "[mm]", "s.tension", "m.x [m]", "m.x*m.v"}) {
        INFO(part);
        CHECK(figure.find(part) != std::string::npos);
    }
    CHECK(plot("m.x --against m.v", "d.pdf").code == 0);
    CHECK(test::read_file(folder / "d.pdf").substr(0, 5) == "%PDF-");
    CHECK(plot("m.x:bar", "e.svg").err.find("cannot be shown in [bar]") != std::string::npos);
    CHECK(plot("--figure Nothing", "e.svg").err.find("'Swing'") != std::string::npos);
    CHECK(plot("", "e.svg").err.find("--figure \"Swing\"") != std::string::npos);
    CHECK(plot("m.x m.v s.tension / m.x", "e.svg").err.find("room for two units") != std::string::npos);
    CHECK(plot("m.x", "e.gif").err.find(".pdf") != std::string::npos);
}

TEST_CASE("nothing in a title, a name or a file name is run or expanded")
{
    test::Scratch scratch;
    Recording r = sample();
    std::string bait = "`touch " + (scratch / "bait") + "` $(touch " + (scratch / "bait") + ") it's \"so\" \\n @x {y}_z <b> & 'c'";
    r.columns[1].name = bait;
    PlotRequest request{.quantities = {bait}, .against = "", .title = bait, .out = scratch / "it's `touch bait` \"here\".svg"};
    plot({r}, {"r"}, request);
    CHECK_FALSE(fs::exists(scratch / "bait"));
    CHECK_FALSE(fs::exists("bait"));
    std::string svg = test::read_file(request.out);
    CHECK(has(svg, "`touch "));
    CHECK(has(svg, "\\n @x {y}_z &lt;b"));
    test::Outcome diagram = test::netloop("draw hydraulics.Cylinder --out \"" + (scratch / "it's \\`touch bait\\`.svg") + "\"");
    INFO(diagram.err);
    CHECK(diagram.code == 0);
    CHECK_FALSE(fs::exists("bait"));
}

TEST_CASE("a program that draws and is not there, or fails, is told; nothing is left behind")
{
    test::Scratch scratch;
    test::write_file(scratch / "r.csv", "time [s],p [bar]\n0,1\n1,2\n2,3\n");
    std::string recording = scratch / "r.csv", out = scratch / "p.png";
    fs::create_directory(scratch / "bin");
    test::Outcome o = test::shell("PATH=" + (scratch / "bin") + " " + std::getenv("NETLOOP_PROGRAM") + " plot " + recording + " p --out " + out);
    CHECK(o.code == 1);
    CHECK(has(o.err, "'gnuplot' is not installed"));
    test::write_file(scratch / "bin/gnuplot", "#!/bin/sh\necho 'no such terminal' >&2\nexit 3\n");
    fs::permissions(scratch / "bin/gnuplot", fs::perms::owner_all);
    o = test::shell("PATH=" + (scratch / "bin") + ":$PATH " + std::getenv("NETLOOP_PROGRAM") + " plot " + recording + " p --out " + out);
    CHECK(o.code == 1);
    CHECK(has(o.err, "cannot be drawn: no such terminal"));
    CHECK_FALSE(fs::exists(out));
    CHECK_FALSE(fs::exists(out + ".unfinished"));
    for (auto [where, says] : {std::pair{scratch / "none/p.png", "there is no folder"}, {scratch.path() + "/bin.png/", "a figure is written as"}}) {
        o = test::netloop("plot " + recording + " p --out " + where);
        CHECK(o.code == 1);
        CHECK(has(o.err, says));
    }
    for (auto [wrong, says] : {std::pair{"--from 2s --to 1s", "there is no time between"},
                               {"--from 2bar", "a time is expected"},
                               {"--to 2parsec", "unknown unit 'parsec'"},
                               {"--fold 0s", "a period above 0 is expected"},
                               {"--range 0..2parsec", "unknown unit 'parsec'"}}) {
        INFO(wrong);
        o = test::netloop("plot " + recording + " p --out " + out + " " + wrong);
        CHECK(o.code == 2);
        CHECK(has(o.err, says));
    }
}

TEST_SUITE_END();

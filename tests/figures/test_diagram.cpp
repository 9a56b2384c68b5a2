// SPDX-License-Identifier: Apache-2.0
// Diagrams: what stands in the text stands in the picture.
#include <doctest/doctest.h>

#include <algorithm>

#include "figures/diagram.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

std::size_t count(const std::string& text, const std::string& what)
{
    std::size_t n = 0;
    for (std::size_t at = text.find(what); at != std::string::npos; at = text.find(what, at + 1)) ++n;
    return n;
}

const std::string kModel =
    "use mechanics, electrics, heat\ncomponent Drive { param size : V*s/rad = 0.5 V*s/rad\n port shaft : rotational\n part motor : DcMachine(constant = "
    "size)\n part supply : VoltageSource(voltage = 24 V)\n part g : "
    "Ground\n part air : Surroundings\n supply.plus -- motor.plus\n joint low = supply.minus -- motor.minus -- g.pin\n motor.winding -- air.surface\n "
    "motor.shaft -- shaft }\nsystem S {\n part drive : Drive(size = 0.3 "
    "V*s/rad)\n part disc[2] : Inertia\n part brake : TorqueSource\n drive.shaft -- disc[1].shaft -- disc[2].shaft -- brake.shaft\n -0.1 N*m*s/rad * "
    "disc[1].speed -> brake.torque\n}\n";

}  // namespace

TEST_SUITE_BEGIN("figures");

TEST_CASE("a system's parts, joints and signals; a part shown from inside")
{
    Library library = Library::standard();
    library.load_text("d.loop", [] {
        std::string text = kModel;
        std::size_t at = text.find("-0.1 N*m");
        return text.replace(at, 1, "(-1) * ");
    }());
    std::string text = diagram_text(library, {.name = "S"});
    CHECK(count(text, "<b>drive</b>") == 1);
    CHECK(text.find("size = 0.3 V*s/rad") != std::string::npos);
    CHECK(text.find("<b>disc[2]</b>") != std::string::npos);
    CHECK(count(text, "shape=point") == 1);                  // four ends meet in a point
    CHECK(count(text, "#80955c") == 5);                      // that point and its lines
    CHECK(text.find("arrowhead=vee") != std::string::npos);  // the signal
    CHECK(text.find("headlabel=\"torque\"") != std::string::npos);
    CHECK(text.find("cluster_") == std::string::npos);
    std::string opened = diagram_text(library, {.name = "S", .open = {"drive"}});
    CHECK(opened.find("subgraph \"cluster_drive\"") != std::string::npos);
    CHECK(opened.find("\"drive.motor\"") != std::string::npos);
    CHECK(opened.find("\"drive.shaft#port\"") != std::string::npos);
    CHECK(opened.find("low (el)") != std::string::npos);
    CHECK(opened.find("style=dotted") != std::string::npos);  // heat
    CHECK(diagram_text(library, {.name = "S", .open = {}, .out = "", .values = false}).find("size = 0.3") == std::string::npos);
    CHECK_THROWS_AS(diagram_text(library, {.name = "fluids.air"}), UsageError);
    CHECK_THROWS_AS(diagram_text(library, {.name = "Nothing"}), UsageError);
}

TEST_CASE("signals of opened parts begin and end at their inputs and outputs; a part that is not there is told")
{
    Library library = Library::standard();
    library.load_text(
        "d.loop",
        "use mechanics, control\ncomponent Keeper { input seen : rad/s ; output pull : N*m ; part lag : Lag(time_constant = 1 s)\n seen / (1 rad/s) -> "
        "lag.in\n "
        "pull = lag.out * 1 N*m }\ncomponent Box { part keeper : Keeper }\nsystem S {\n part disc : Inertia\n part drive : TorqueSource\n part box : Box\n "
        "disc.shaft -- drive.shaft\n part own : Keeper\n disc.speed -> own.seen\n own.pull -> drive.torque }\n");
    std::string closed = diagram_text(library, {.name = "S"});
    CHECK(closed.find("\"disc\" -> \"own\"") != std::string::npos);
    CHECK(closed.find("\"own\" -> \"drive\"") != std::string::npos);
    CHECK(closed.find("#signal") == std::string::npos);
    std::string opened = diagram_text(library, {.name = "S", .open = {"own"}});
    CHECK(opened.find("\"disc\" -> \"own.seen#signal\"") != std::string::npos);
    CHECK(opened.find("\"own.pull#signal\" -> \"drive\"") != std::string::npos);
    CHECK(opened.find("\"own.seen#signal\" -> \"own.lag\"") != std::string::npos);
    // what holds an opened part is opened with it
    std::string deep = diagram_text(library, {.name = "S", .open = {"box.keeper"}});
    CHECK(deep.find("subgraph \"cluster_box\"") != std::string::npos);
    CHECK(deep.find("subgraph \"cluster_box.keeper\"") != std::string::npos);
    CHECK(deep.find("\"box.keeper.lag\"") != std::string::npos);
    CHECK_THROWS_WITH_AS(diagram_text(library, {.name = "S", .open = {"owm"}}), doctest::Contains("did you mean 'own'?"), UsageError);
    CHECK_THROWS_WITH_AS(diagram_text(library, {.name = "S", .open = {"own.nothing"}}), doctest::Contains("no part 'own.nothing' to open"), UsageError);
}

TEST_CASE("draw as a command: pictures of every system shipped, and what is wrong")
{
    test::Scratch folder;
    for (const char* file :
         {"examples/bascule/whole/bridge.loop", "examples/hydraulics/power_pack.loop", "examples/gas/heat_pump.loop", "examples/mechanisms/gangway.loop"}) {
        INFO(file);
        test::Outcome o = test::netloop(std::string("draw ") + test::source_path(file) + " --out " + (folder / "d.svg"));
        CHECK(o.code == 0);
        CHECK(test::read_file(folder / "d.svg").find("</svg>") != std::string::npos);
    }
    CHECK(test::netloop("draw hydraulics.Cylinder --open seal --out " + (folder / "c.png")).code == 0);
    CHECK(test::read_file(folder / "c.png").substr(1, 3) == "PNG");
    CHECK(test::netloop("draw hydraulics.Cylinder --out " + (folder / "c.gif")).err.find(".svg") != std::string::npos);
    CHECK(test::netloop("draw hydraulics.Cylindre --out " + (folder / "c.svg")).err.find("Cylinder") != std::string::npos);
    CHECK(test::netloop("draw hydraulics.Cylinder --out " + (folder / "no/c.svg")).code == 1);
    CHECK(test::netloop("draw " + test::source_path("examples/bascule/whole/leaf.loop") + " --out " + (folder / "l.svg")).code == 2);
}

TEST_SUITE_END();

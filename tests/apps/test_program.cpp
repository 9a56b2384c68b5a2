// SPDX-License-Identifier: Apache-2.0
// The command line as a process, as a user calls it.
#include <doctest/doctest.h>

#include <cmath>
#include <csignal>
#include <cstdlib>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "support/support.hpp"

namespace fs = std::filesystem;

namespace {
const std::string kBridge = test::source_path("examples/bascule/bridge.loop");

bool has(const std::string& text, const std::string& part)
{
    return text.find(part) != std::string::npos;
}
}  // namespace

TEST_SUITE_BEGIN("apps");

TEST_CASE("the five commands of the first hour")
{
    test::Scratch scratch;
    test::Outcome check = test::netloop("check " + kBridge);
    CHECK(check.code == 0);
    CHECK(has(check.out, "sound"));
    test::Outcome run = test::netloop("run " + kBridge + " --out " + (scratch / "bridge.h5") + " --set relief.cracking=\"160 bar\"");
    INFO(run.err);
    CHECK(run.code == 0);
    CHECK(has(run.out, "times real time"));
    netloop::Recording r = netloop::Recording::load(scratch / "bridge.h5");
    CHECK(r.complete);
    CHECK(r["pump.outlet.p"].max() > 160e5);
    CHECK(r["leaf.angle"].in("deg").max() > 78);
    CHECK(r["leaf.angle"].in("deg").max() < 84);
    CHECK(std::abs(r["leaf.angle"].in("deg").final()) < 2);
    CHECK(r["oil.T"].final() > r["oil.T"].first() + 2);
    test::Outcome plot = test::netloop("plot " + (scratch / "bridge.h5") + " leaf.angle pump.outlet.p --out " + (scratch / "bridge.png"));
    INFO(plot.err);
    CHECK(plot.code == 0);
    CHECK(test::read_file(scratch / "bridge.png").substr(1, 3) == "PNG");
    test::Outcome svg = test::netloop("plot " + (scratch / "bridge.h5") + " valve.spool oil.T leaf.speed --against leaf.angle --from 5s --to 40s --out " +
                                      (scratch / "bridge.svg"));
    INFO(svg.err);
    CHECK(svg.code == 0);
    CHECK(has(test::read_file(scratch / "bridge.svg"), "leaf.angle [deg]"));
    test::Outcome list = test::netloop("list hydraulics");
    CHECK(list.code == 0);
    CHECK(has(list.out, "hydraulics.ReliefValve"));
    test::Outcome describe = test::netloop("describe hydraulics.ReliefValve");
    CHECK(describe.code == 0);
    for (const char* part : {"cracking", "[bar]", "160 bar", "1 bar .. 1000 bar", "inlet.m = rho", "example", "inlet.m + outlet.m = 0"}) {
        INFO(part);
        CHECK(has(describe.out, part));
    }
}

TEST_CASE("every command has a help text with an example")
{
    for (const char* command : {"check", "run", "list", "describe", "plot"}) {
        test::Outcome o = test::netloop(std::string(command) + " --help");
        INFO(command);
        CHECK(o.code == 0);
        CHECK(has(o.out, "Example:"));
    }
    CHECK(test::netloop("--help").code == 0);
    CHECK(test::netloop("--version").out == "0.5.0\n");
}

TEST_CASE("exit codes: 1 for the model or data, 2 for wrong usage")
{
    test::Scratch scratch;
    test::write_file(scratch / "bad.loop", "system S { var x : m ; x = 3 s }\n");
    test::write_file(scratch / "two.loop", "system S { var x init 1 ; x' = -x }\nscenario a of S { stop at 1 s }\nscenario b of S { stop at 2 s }\n");
    test::write_file(scratch / "none.loop", "system S { var x init 1 ; x' = -x }\n");
    test::write_file(scratch / "binary.loop", std::string("\x7f\x45LF\0\1\2", 7));
    test::write_file(scratch / "parts.loop", "component A { var x : m ; x = 3 m }\n");
    struct Row {
        std::string arguments;
        int code;
        const char* says;
    };
    const Row rows[] = {{"", 2, ""},
                        {"frobnicate", 2, ""},
                        {"run", 2, "file"},
                        {"check " + (scratch / "missing.loop"), 1, "looked for"},
                        {"check " + scratch.path(), 1, "folder"},
                        {"check " + (scratch / "bad.loop"), 1, "[unit-mismatch]"},
                        {"check " + (scratch / "binary.loop"), 1, "UTF-8"},
                        {"check " + (scratch / "parts.loop"), 0, ""},
                        {"run " + (scratch / "parts.loop"), 1, "no system"},
                        {"run " + (scratch / "two.loop"), 1, "a, b"},
                        {"run " + (scratch / "two.loop") + " c", 1, "scenario"},
                        {"run " + (scratch / "none.loop"), 2, "--stop 60s"},
                        {"run " + (scratch / "none.loop") + " --stop 1s", 0, ""},
                        {"run " + (scratch / "none.loop") + " --stop 1kg", 2, "a time is expected, not a quantity in [kg]"},
                        {"run " + (scratch / "none.loop") + " --stop abc", 2, "a time is expected"},
                        {"run " + (scratch / "none.loop") + " --stop 1s --out /no/such/folder/x.h5", 1, "there is no folder"},
                        {"run " + (scratch / "none.loop") + " --stop 1s --set x", 2, "path=value"},
                        {"run " + kBridge + " --set relief.crackin='160 bar'", 1, "did you mean 'cracking'?"},
                        {"run " + kBridge + " --set relief.cracking='160'", 1, "160 bar"},
                        {"run " + kBridge + " --set relief.cracking='5000 bar'", 1, "outside its range"},
                        {"list hydralics", 2, "did you mean 'hydraulics'?"},
                        {"describe hydraulics.ReliefValv", 2, "did you mean 'hydraulics.ReliefValve'?"},
                        {"describe ReliefValve", 2, "hydraulics.ReliefValve"},
                        {"plot " + (scratch / "nothing.h5") + " x --out " + (scratch / "x.png"), 1, "does not exist"},
                        {"plot " + (scratch / "bad.loop") + " x --out " + (scratch / "x.png"), 1, "no recording"}};
    for (const Row& row : rows) {
        test::Outcome o = test::netloop(row.arguments);
        INFO("netloop " << row.arguments << "\n" << o.err);
        CHECK(o.code == row.code);
        CHECK(has(o.err, row.says));
    }
}

TEST_CASE("a wrong quantity in a plot suggests the right one and leaves no file")
{
    test::Scratch scratch;
    REQUIRE(test::netloop("run " + test::source_path("examples/first/weir.loop") + " --out " + (scratch / "weir.csv")).code == 0);
    test::Outcome o = test::netloop("plot " + (scratch / "weir.csv") + " levle --out " + (scratch / "x.png"));
    CHECK(o.code == 1);
    CHECK(has(o.err, "did you mean 'level'?"));
    CHECK_FALSE(fs::exists(scratch / "x.png"));
    CHECK(test::netloop("plot " + (scratch / "weir.csv") + " level --out " + (scratch / "x.jpg")).code == 1);
    CHECK(test::netloop("plot " + (scratch / "weir.csv") + " --out " + (scratch / "x.png")).code == 2);
    CHECK(test::netloop("plot " + (scratch / "weir.csv") + " level --out " + (scratch / "x.png") + " --size 10x10").code == 2);
}

TEST_CASE("--json gives the same for programs")
{
    test::Scratch scratch;
    test::write_file(scratch / "bad.loop", "system S {\n var x : m\n x = 3 s\n}\n");
    auto bad = nlohmann::json::parse(test::netloop("check --json " + (scratch / "bad.loop")).out);
    CHECK(bad["ok"] == false);
    CHECK(bad["messages"][0]["id"] == "unit-mismatch");
    CHECK(bad["messages"][0]["line"] == 3);
    test::write_file(scratch / "light.loop", "use mechanics\nsystem S {\n part body : Mass(mass = -3 kg)\n init body.x = 0 m\n init body.v = 0 m/s\n}\n");
    test::Outcome light = test::netloop("check " + (scratch / "light.loop"));
    CHECK(light.code == 1);
    CHECK(has(light.err, "light.loop:3:26: error: 'body.mass' is -3 kg, outside its range 1e-09 kg .. 1e+09 kg"));
    auto told = nlohmann::json::parse(test::netloop("check --json " + (scratch / "light.loop")).out);
    CHECK(told["ok"] == false);
    CHECK(told["messages"][0]["id"] == "out-of-range");
    CHECK(told["messages"][0]["line"] == 3);
    CHECK(told["messages"][0]["column"] == 26);
    CHECK(has(told["messages"][0]["file"].get<std::string>(), "light.loop"));
    auto good = nlohmann::json::parse(test::netloop("check --json " + kBridge).out);
    CHECK(good["ok"] == true);
    CHECK(good["states"] == 13);
    auto run = nlohmann::json::parse(test::netloop("run --json " + kBridge + " --stop 3s").out);
    CHECK(run["complete"] == true);
    CHECK(run["steps"] > 10);
    CHECK(run["integrator"] == "bdf (equations are solved in each step)");
    double spent = 0;  // the shares are those of the whole
    for (const auto& [what, seconds] : run["spent_seconds"].items()) spent += seconds.get<double>();
    CHECK(spent == doctest::Approx(run["wall_seconds"].get<double>()).epsilon(1e-3));
    CHECK(nlohmann::json::parse(test::netloop("list --json mechanics").out).size() > 15);
}

TEST_CASE("an interrupt closes the recording and marks it incomplete")
{
    test::Scratch scratch;
    test::write_file(scratch / "long.loop", "system S { var x init 1 ; var v init 0 ; x' = v ; v' = -1e4 * x }\n");
    const char* program = std::getenv("NETLOOP_PROGRAM");
    test::Outcome o = test::shell("timeout --preserve-status -s INT 2 " + std::string(program != nullptr ? program : "netloop") + " run " +
                                  (scratch / "long.loop") + " --stop 1000000s --output-every 1s --out " + (scratch / "long.h5"));
    CHECK(o.code == 1);
    CHECK(has(o.out, "interrupted"));
    netloop::Recording r = netloop::Recording::load(scratch / "long.h5");
    CHECK_FALSE(r.complete);
    CHECK(r.n_rows() > 1);
    CHECK_FALSE(fs::exists(scratch / "long.h5.unfinished"));
}

TEST_CASE("the first-hour models and the C++ examples run as they are shipped")
{
    test::Scratch scratch;
    int run = 0;
    for (const test::Shipped& model : test::shipped_models()) {
        if (model.file.find("examples/first/") == std::string::npos) continue;
        INFO(model.file);
        ++run;
        test::Outcome o = test::netloop("run " + model.file + " " + model.scenario + " --out " + (scratch / "x.csv"));
        CHECK(o.code == 0);
        CHECK(o.err.empty());
    }
    CHECK(run >= 8);
    const char* folder = std::getenv("NETLOOP_EXAMPLES");
    if (folder == nullptr) return;
    test::Outcome drive = test::shell(std::string(folder) + "/example_drive_from_code");
    CHECK(drive.code == 0);
    CHECK(has(drive.out, "larger pump: peak"));
    test::Outcome custom = test::shell(std::string(folder) + "/example_custom_component");
    CHECK(custom.code == 0);
    // in balance: 200 (90 - T) / 70 = 4.8 T gives T = 33.55 degC
    CHECK(has(custom.out, "33.5"));
}

TEST_CASE("the first model of the README runs as it is printed there, and its mistakes are answered")
{
    std::string readme = test::read_file(test::source_path("README.md"));
    std::size_t begin = readme.find("use hydraulics, fluids"), end = readme.find("```", begin);
    REQUIRE(begin != std::string::npos);
    std::string text = readme.substr(begin, end - begin);
    test::Scratch scratch;
    test::write_file(scratch / "tank.loop", text);
    test::Outcome run = test::netloop("run " + (scratch / "tank.loop") + " --out " + (scratch / "tank.csv"));
    INFO(run.err);
    CHECK(run.code == 0);
    CHECK(run.err.empty());
    netloop::Recording r = netloop::Recording::load(scratch / "tank.csv");
    CHECK(r["vessel.p"].first() == doctest::Approx(1e5));
    // the mass that came in is the mass that the compressed water took up: V (rho2 - rho1) = V rho1 (exp(dp / K) - 1)
    double taken = 0.5 * (std::exp((r["vessel.p"].final() - 1e5) / 2.15e9) - 1);
    CHECK(r["filled"].final() == doctest::Approx(taken).epsilon(1e-3));
    struct Row {
        const char* from;
        const char* to;
        const char* says;
    };
    for (const Row& row : {Row{"diameter = 2 mm", "diameter = 2", "write 2 mm"}, Row{"-- choke.inlet ", "-- choke.inlt ", "did you mean 'inlet'?"},
                           Row{"oil = water, ", "", "give it to one part"}, Row{"stop at 3 s", "", "stop at 60 s"}}) {
        std::string changed = text;
        std::size_t at = changed.find(row.from);
        REQUIRE(at != std::string::npos);
        changed.replace(at, std::string(row.from).size(), row.to);
        test::write_file(scratch / "changed.loop", changed);
        test::Outcome o = test::netloop("run " + (scratch / "changed.loop"));
        INFO(o.err);
        CHECK(o.code != 0);
        CHECK(has(o.err, row.says));
    }
}

TEST_CASE("a run that is killed leaves its rows in the unfinished file")
{
    test::Scratch scratch;
    test::write_file(scratch / "long.loop", "system S { var x init 1 ; var v init 0 ; x' = v ; v' = -1e4 * x }\n");
    const char* program = std::getenv("NETLOOP_PROGRAM");
    test::Outcome o = test::shell("timeout -s KILL 4 " + std::string(program != nullptr ? program : "netloop") + " run " + (scratch / "long.loop") +
                                  " --stop 1000000s --output-every 1s --out " + (scratch / "long.h5"));
    CHECK(o.code != 0);
    CHECK_FALSE(fs::exists(scratch / "long.h5"));
    netloop::Recording r = netloop::Recording::load(scratch / "long.h5.unfinished");
    CHECK_FALSE(r.complete);
    CHECK(r.reason == "the run did not end");
    CHECK(r.n_rows() > 1);
}

TEST_CASE("another CMake project finds the installed package")
{
    const char* build = std::getenv("NETLOOP_BUILD");
    const char* sanitized = std::getenv("NETLOOP_SANITIZED");
    if (build == nullptr || (sanitized != nullptr && std::string(sanitized) == "ON")) return;  // a sanitized library needs the flags in the other project too
    test::Scratch scratch;
    test::Outcome install = test::shell("cmake --install " + std::string(build) + " --prefix " + (scratch / "installed"));
    INFO(install.err);
    REQUIRE(install.code == 0);
    test::write_file(scratch / "CMakeLists.txt",
                     "cmake_minimum_required(VERSION 3.25)\nproject(outside CXX)\nfind_package(netloop REQUIRED)\nadd_executable(outside "
                     "main.cpp)\ntarget_link_libraries(outside PRIVATE netloop::netloop)\n");
    test::write_file(scratch / "main.cpp",
                     "#include <netloop/netloop.hpp>\n#include <cstdio>\nint main() {\n    netloop::Library l = netloop::Library::standard();\n    "
                     "l.load_text(\"t\", \"system S { var x init 1 ; x' = -x }\");\n    std::printf(\"%.3f\\n\", "
                     "netloop::Run(netloop::compile(l)).simulate({.stop = 1.0})[\"x\"].final());\n}\n");
    test::Outcome made =
        test::shell("cd " + scratch.path() + " && cmake -S . -B out -DCMAKE_PREFIX_PATH=" + (scratch / "installed") + " && cmake --build out && out/outside");
    INFO(made.out << made.err);
    CHECK(made.code == 0);
    CHECK(has(made.out, "0.368"));
}

TEST_CASE("fixed steps, slots and rates from the command line; what does not fit is wrong usage")
{
    test::Scratch scratch;
    std::string pendulum = test::source_path("examples/mechanisms/pendulum.loop"), out = scratch / "p.csv";
    test::Outcome fixed =
        test::netloop("run " + pendulum + " --stop 1s --integrator implicit-euler --step 1ms --out " + out + " --keep \"pendulum.y\" --keep \"pendulum.y'\"");
    CHECK(fixed.code == 0);
    CHECK(fixed.out.find("method    implicit-euler\n") != std::string::npos);
    CHECK(fixed.out.find("steps     1000 (") != std::string::npos);
    CHECK(fixed.out.find("spent") != std::string::npos);
    CHECK(test::read_file(out).find("pendulum.y' [m/s]") != std::string::npos);
    CHECK(test::netloop("run " + pendulum + " --stop 1s --integrator rk4").code == 2);
    CHECK(test::netloop("run " + pendulum + " --stop 1s --step 1ms").code == 2);
    std::string first;
    for (const char* evaluator : {"plain", "grouped", "machine", "auto"}) {
        CHECK(test::netloop("run " + pendulum + " --stop 1s --evaluator " + evaluator + " --out " + out).code == 0);
        if (first.empty()) first = test::read_file(out);
        CHECK(test::read_file(out) == first);
    }
    CHECK(test::netloop("run " + pendulum + " --stop 1s --evaluator nothing").err.find("there are: auto, plain") != std::string::npos);
    CHECK(test::netloop("run " + pendulum + " --stop 1s --integrator nothing").err.find("there are: auto, bdf") != std::string::npos);
}

TEST_CASE("property: a table over a range, several columns, a figure; wrong questions are told what fits")
{
    test::Scratch folder;
    test::Outcome table = test::netloop("property air cp --p 1bar --T 250K..1500K --points 6");
    CHECK(table.code == 0);
    CHECK(table.out.find("cp [J/(kg*K)]") != std::string::npos);
    CHECK(table.out.find("1209.") != std::string::npos);  // at 1500 K
    test::Outcome two =
        test::netloop("property oil kinematic_viscosity --T=0degC..100degC --p 1bar,300bar --unit cSt --points 3 --plot " + (folder / "nu.png"));
    CHECK(two.code == 0);
    CHECK(two.out.find("p = 300 bar [cSt]") != std::string::npos);
    CHECK(test::read_file(folder / "nu.png").substr(1, 3) == "PNG");
    CHECK(test::shell("cd " + folder.path() + " && \"$NETLOOP_PROGRAM\" property air cp --T 250K..1500K --plot").code == 0);
    CHECK(test::read_file(folder / "cp_of_air.png").substr(1, 3) == "PNG");
    test::Outcome kind = test::netloop("property \"MineralOil(grade = 32 cSt)\" viscosity --T \"40 degC\"");
    CHECK(kind.out.find("0.02735") != std::string::npos);
    CHECK(test::netloop("property water").out.find("vapour_pressure") != std::string::npos);
    test::write_file(folder / "own.loop", "use fluids\nfluid thin = MineralOil(grade = 10 cSt)\n");
    CHECK(test::netloop("property thin viscosity --T=\"40 degC\" --file " + (folder / "own.loop")).code == 0);
    struct Wrong {
        const char *arguments, *says;
    };
    for (const Wrong& w :
         {Wrong{"property airr cp", "did you mean 'fluids.air'"}, Wrong{"property air c_p", "cp"}, Wrong{"property air cp --x 3", "--T [K]"},
          Wrong{"property air cp --T 3bar", "no unit of 'T'"}, Wrong{"property air cp --T warm", "a number with its unit"},
          Wrong{"property oil void_fraction", "give --share"}, Wrong{"property air cp --plot x.png", "needs a range"},
          Wrong{"property air cp --T 300K..400K --p 1bar..2bar --points 1", "--points"}, Wrong{"property air cp --T 300K --unit bar", "cannot be shown"}}) {
        test::Outcome o = test::netloop(w.arguments);
        INFO(w.arguments << ": " << o.err);
        CHECK(o.code != 0);
        CHECK(o.err.find(w.says) != std::string::npos);
    }
}

TEST_CASE("list --find looks for words in names and texts of all libraries")
{
    test::Outcome o = test::netloop("list --find \"pressure reduc\"");
    CHECK(o.code == 0);
    CHECK(o.out.find("hydraulics.ReducingValve") != std::string::npos);
    CHECK(o.out.find("electrics") == std::string::npos);
    CHECK(test::netloop("list --find Valve").out.find("gases.PneumaticValve") != std::string::npos);
    CHECK(test::netloop("list --find \"no such thing\"").code == 2);
}

TEST_SUITE_END();

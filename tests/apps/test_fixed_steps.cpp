// SPDX-License-Identifier: Apache-2.0
// realtime and export as a user calls them.
#include <doctest/doctest.h>

#include <filesystem>

#include "support/support.hpp"

namespace fs = std::filesystem;
using json = nlohmann::json;

TEST_SUITE_BEGIN("apps");

TEST_CASE("realtime: the table, JSON, exit codes, wrong use")
{
    std::string bridge = test::source_path("examples/bascule/bridge.loop");
    test::Outcome o = test::netloop("realtime " + bridge + " --step 1ms --stop 8s --compare linear-euler --compare rk4");
    CHECK(o.code == 0);
    CHECK(o.err.empty());
    for (const char* part : {"method          holds   largest step", "linear-euler    yes", "rk4", "Dearest parts", "netloop export FILE --as c --step 0.001s"})
        CHECK_MESSAGE(o.out.find(part) != std::string::npos, part);
    json told = json::parse(test::netloop("realtime " + bridge + " --step 1ms --stop 2s --compare linear-euler --json").out);
    CHECK(told["fit"] == true);
    CHECK(told["methods"][0]["steps"] == 2000);
    CHECK(told["methods"][0]["quantities"].size() > 100);
    // what does not hold ends with 1 and says what does
    test::Scratch scratch;
    test::write_file(scratch / "s.loop", "system S { var x init 1 ; x' = -5000 * x / (1 s) }\nscenario s of S { stop at 1 s }\n");
    o = test::netloop("realtime " + (scratch / "s.loop") + " --step 1ms --method euler");
    CHECK(o.code == 1);
    CHECK(o.out.find("take linear-euler") != std::string::npos);
    CHECK(test::netloop("realtime " + (scratch / "s.loop") + " --method bdf").code == 2);
    CHECK(test::netloop("realtime " + (scratch / "s.loop") + " --step 1bar").code == 2);
    o = test::netloop("realtime " + test::source_path("examples/switching/converter.loop") + " run_up");
    CHECK(o.code == 1);
    CHECK(o.out.find("change in kind") != std::string::npos);
}

TEST_CASE("export: C that is checked, a unit, inputs that are taken from a controller")
{
    test::Scratch scratch;
    std::string bridge = test::source_path("examples/bascule/bridge.loop");
    test::Outcome o = test::netloop("export " + bridge + " --as c --step 1ms --input valve.command --output 'leaf.*' --out " + (scratch / "leaf") + " --check");
    CHECK_MESSAGE(o.code == 0, o.out, o.err);
    CHECK(o.out.find("bit for bit equal to the run here") != std::string::npos);
    CHECK(o.out.find("1 input, ") != std::string::npos);
    std::string page = test::read_file(scratch / "leaf/README.md");
    CHECK(page.find("| input | valve.command |") != std::string::npos);
    CHECK(page.find("| output | leaf.angle | deg |") != std::string::npos);
    o = test::netloop("export " + bridge + " --as c --float --output leaf.angle --out " + (scratch / "single") + " --check");
    CHECK(o.code == 0);
    CHECK(o.out.find("differs from the run here") != std::string::npos);
    o = test::netloop("export " + bridge + " --as fmi2 --output leaf.angle --out " + (scratch / "bridge.fmu"));
    CHECK(o.code == 0);
    CHECK(o.out.find("13 states") != std::string::npos);
    CHECK(fs::file_size(scratch / "bridge.fmu") > 10000);
    // wrong use
    CHECK(test::netloop("export " + bridge + " --as c --output leaf.angel --out " + (scratch / "x")).err.find("leaf.angle") != std::string::npos);
    CHECK(test::netloop("export " + bridge + " --as c --output leaf.angle --input leaf.angle --out " + (scratch / "x")).code == 2);
    CHECK(test::netloop("export " + bridge + " --as c --out " + (scratch / "x")).code == 2);
    CHECK(test::netloop("export " + bridge + " --as pdf --output leaf.angle --out " + (scratch / "x")).code == 2);
    o = test::netloop("export " + test::source_path("examples/switching/converter.loop") + " run_up --output '*' --out " + (scratch / "x"));
    CHECK(o.code == 1);
    CHECK(o.err.find("[fixed-step]") != std::string::npos);
    CHECK_FALSE(fs::exists(scratch / "x"));
}

TEST_SUITE_END();

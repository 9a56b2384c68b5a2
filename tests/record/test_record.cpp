// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <cmath>
#include <cstdlib>
#include <filesystem>

#include "support/support.hpp"

using namespace netloop;
namespace fs = std::filesystem;

namespace {

Recording sample()
{
    Recording r;
    r.system = "S";
    r.scenario = "first";
    Column time;
    time.name = "time";
    time.unit = "s";
    Column p;
    p.name = "pump.outlet.p";
    p.unit = "bar";
    p.scale = 1e5;
    p.description = "pressure, \"absolute\"";
    p.origin = "bridge.loop:3";
    Column T;
    T.name = "oil.T";
    T.unit = "degC";
    T.offset = 273.15;
    for (int i = 0; i < 5; ++i) {
        time.values.push_back(0.1 * i);
        p.values.push_back(1e5 * (i + 1.0 / 3.0));
        T.values.push_back(293.15 + i);
    }
    r.columns = {time, p, T};
    return r;
}

}  // namespace

TEST_SUITE_BEGIN("record");

TEST_CASE("a recording is the same after a way through HDF5 or CSV, digit for digit in SI or display units")
{
    test::Scratch scratch;
    for (const char* name : {"a.h5", "a.csv"}) {
        Recording r = sample();
        r.save(scratch / name);
        Recording back = Recording::load(scratch / name);
        REQUIRE(back.columns.size() == 3);
        CHECK(back.n_rows() == 5);
        for (std::size_t c = 0; c < 3; ++c) {
            CHECK(back.columns[c].name == r.columns[c].name);
            CHECK(back.columns[c].unit == r.columns[c].unit);
            for (std::size_t i = 0; i < 5; ++i) CHECK(back.columns[c].values[i] == doctest::Approx(r.columns[c].values[i]).epsilon(1e-15));
        }
        CHECK_FALSE(fs::exists(scratch / (std::string(name) + ".unfinished")));
    }
    Recording h5 = Recording::load(scratch / "a.h5");
    CHECK(h5.system == "S");
    CHECK(h5.scenario == "first");
    CHECK(h5.complete);
    CHECK(h5["pump.outlet.p"].description == "pressure, \"absolute\"");
    CHECK(h5["pump.outlet.p"].origin == "bridge.loop:3");
}

TEST_CASE("CSV is RFC 4180: time [s] first, units in the headings, quotes doubled, lines end in CR LF")
{
    test::Scratch scratch;
    Recording r = sample();
    r.columns[1].name = "odd \"name\", this";
    r.save(scratch / "a.csv");
    std::string text = test::read_file(scratch / "a.csv");
    CHECK(text.starts_with("time [s],\"odd \"\"name\"\", this [bar]\",oil.T [degC]\r\n"));
    CHECK(text.find("\r\n0.1,1.333333333333333") != std::string::npos);
    CHECK(text.find("\r\n0,0.333333333333333") != std::string::npos);
    CHECK(Recording::load(scratch / "a.csv").find("odd \"name\", this") != nullptr);
}

TEST_CASE("columns answer in units")
{
    Recording r = sample();
    CHECK(r["pump.outlet.p"].max() == doctest::Approx(1e5 * 13 / 3));
    CHECK(r["pump.outlet.p"].in("bar").max() == doctest::Approx(13.0 / 3));
    CHECK(r["pump.outlet.p"].in("psi").min() == doctest::Approx(100000.0 / 3 / 6894.757293).epsilon(1e-8));
    CHECK(r["oil.T"].in("degC").final() == doctest::Approx(24));
    CHECK(r["oil.T"].in("K").first() == doctest::Approx(293.15));
    CHECK(r["oil.T"].at(0.05, r.time()) == doctest::Approx(293.65));
    CHECK(r["oil.T"].at(-1, r.time()) == doctest::Approx(293.15));
    CHECK(r["oil.T"].at(9, r.time()) == doctest::Approx(297.15));
    CHECK_THROWS_AS(r["oil.T"].in("bar"), RecordingError);
    CHECK_THROWS_AS(r["oil.T"].in("barr"), RecordingError);
    CHECK_THROWS_WITH(r["oil.t"], "the recording has no quantity 'oil.t'; did you mean 'oil.T'?");
    CHECK_THROWS_AS(Column{}.max(), RecordingError);
}

TEST_CASE("files that are no recordings are refused with what is wrong")
{
    test::Scratch scratch;
    test::write_file(scratch / "text.h5", "this is no HDF5");
    test::write_file(scratch / "empty.csv", "");
    test::write_file(scratch / "words.csv", "time [s],x [m]\r\n0,abc\r\n");
    test::write_file(scratch / "short.csv", "time [s],x [m]\r\n0\r\n");
    test::write_file(scratch / "unit.csv", "time [s],x [mm/parsek]\r\n0,1\r\n");
    test::write_file(scratch / "first.csv", "x [m],time [s]\r\n0,1\r\n");
    CHECK_THROWS_AS(Recording::load(scratch / "nothing.h5"), RecordingError);
    for (const char* name : {"text.h5", "empty.csv", "words.csv", "short.csv", "unit.csv", "first.csv"}) {
        INFO(name);
        CHECK_THROWS_AS(Recording::load(scratch / name), RecordingError);
    }
}

TEST_CASE("a file that cannot be written is an error before anything runs; an existing one is not harmed")
{
    test::Scratch scratch;
    CHECK_THROWS_AS(sample().save(scratch / "no/such/folder.h5"), RecordingError);
    CHECK_THROWS_AS(sample().save(scratch.path()), RecordingError);
    CHECK_THROWS_AS(sample().save(""), RecordingError);
    // a run that fails before its first row leaves an existing file as it was, and nothing beside it
    for (const char* name : {"kept.h5", "kept.csv"}) {
        sample().save(scratch / name);
        std::string before = test::read_file(scratch / name);
        Run run(test::compile("system S { var x guess 1 ; var s init 0 ; s' = 1 ; x^2 + 1 = s }"));
        CHECK_THROWS_AS(run.simulate({.stop = 1.0, .out = scratch / name}), RunError);
        CHECK(test::read_file(scratch / name) == before);
        CHECK_FALSE(fs::exists(scratch / (std::string(name) + ".unfinished")));
    }
}

TEST_CASE("a full disk is an error, not a crash")
{
    test::Scratch scratch;
    // a limit on the size of files stands in for a disk that fills up on the way
    test::Outcome o = test::shell("ulimit -f 8; trap '' XFSZ; " + std::string(std::getenv("NETLOOP_PROGRAM") ? std::getenv("NETLOOP_PROGRAM") : "netloop") +
                                  " run " + test::source_path("examples/bascule/bridge.loop") + " --out " + (scratch / "big.csv"));
    INFO(o.err);
    CHECK(o.code == 1);
    CHECK(o.err.find("larger than is allowed") != std::string::npos);
    CHECK_FALSE(fs::exists(scratch / "big.csv"));
}

TEST_CASE("aliases are stored once, and kept patterns choose the columns")
{
    test::Scratch scratch;
    Run run(
        test::compile("use electrics\nsystem S {\n part u : VoltageSource(voltage = 10 V)\n part r : Resistor(resistance = 5 ohm)\n part g : Ground\n u.plus "
                      "-- r.plus\n u.minus -- r.minus -- g.pin\n var x init 0\n x' = r.i / 1 C\n}\n"));
    Recording r = run.simulate({.stop = 1.0, .out = scratch / "all.h5", .keep = {"r.*", "u.plus.v", "x"}});
    CHECK(r.find("r.plus.v") != nullptr);
    CHECK(r.find("u.minus.v") == nullptr);
    CHECK(r["r.plus.v"].final() == doctest::Approx(10));
    CHECK(r["x"].final() == doctest::Approx(2));
    test::Outcome o = test::shell("h5dump -H -d /values " + (scratch / "all.h5"));
    std::size_t comma = o.out.find(", "), end = o.out.find(" )", comma);
    REQUIRE(comma != std::string::npos);
    CHECK(std::stoul(o.out.substr(comma + 2, end - comma - 2)) < r.columns.size());
    Recording back = Recording::load(scratch / "all.h5");
    CHECK(back["u.plus.v"].final() == doctest::Approx(10));
    CHECK_THROWS_AS(Run(test::compile("system S { var x init 0 ; x' = 1 }")).simulate({.stop = 1.0, .keep = {"y.*"}}), UsageError);
}

TEST_CASE("rows: start, stop, every interval and both sides of events; the scenario's points and times")
{
    Library library = Library::standard();
    library.load_text("t.loop",
                      "system S { var x init 1 ; x' = -x ; let v = x + 1 }\nscenario points of S { stop at 2 s ; output 11 points }\nscenario times of S { "
                      "stop at 2 s ; output at 0.5 s, 1.25 s ; keep v, x' }\nscenario plain of S { stop at 1 s }\n");
    Recording p = Run(compile(library, {.scenario = "points"})).simulate();
    CHECK(p.n_rows() == 11);
    CHECK(p.time().values[1] == doctest::Approx(0.2));
    Recording t = Run(compile(library, {.scenario = "times"})).simulate();
    CHECK(t.time().values == std::vector<double>{0, 0.5, 1.25, 2});
    CHECK(t.columns.size() == 3);
    CHECK(t["x'"].final() == doctest::Approx(-std::exp(-2.0)).epsilon(1e-4));
    CHECK(Run(compile(library, {.scenario = "plain"})).simulate().n_rows() == 501);
}

TEST_SUITE_END();

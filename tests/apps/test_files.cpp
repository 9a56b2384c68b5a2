// SPDX-License-Identifier: Apache-2.0
// Outputs, foreign input and bounds, as a user of the program meets them.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "support/support.hpp"

namespace fs = std::filesystem;

namespace {

bool has(const std::string& text, const std::string& part)
{
    return text.find(part) != std::string::npos;
}

std::string program()
{
    const char* path = std::getenv("NETLOOP_PROGRAM");
    return path != nullptr ? path : "netloop";
}

constexpr const char* kDecay = "system S {\n    var x : m init 1 m\n    x' = -x / (1 s)\n    when x < 0.5 m { warn \"half\" }\n}\n";

struct Timed {
    test::Outcome outcome;
    double seconds = 0;
};
Timed timed(const std::string& command)
{
    auto begun = std::chrono::steady_clock::now();
    Timed t{test::shell(command), 0};
    t.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
    return t;
}

}  // namespace

TEST_SUITE_BEGIN("apps");

TEST_CASE("no output takes the place of a model, an input, or what is not of its kind")
{
    test::Scratch scratch;
    test::write_file(scratch / "m.loop", kDecay);
    test::write_file(scratch / "notes.txt", "mine");
    std::string run = "run " + (scratch / "m.loop") + " --stop 1s --quiet --out ";
    for (const std::string& out : {scratch / "m.loop", scratch / "other.loop", scratch / "notes.txt"}) {
        test::Outcome o = test::netloop(run + out);
        CHECK(o.code == 1);
        CHECK(has(o.err, "cannot be written"));
    }
    CHECK(test::read_file(scratch / "m.loop") == kDecay);
    CHECK(test::read_file(scratch / "notes.txt") == "mine");
    // a table that looks like a recording is an input all the same
    test::write_file(scratch / "u.csv", "time [s],u [1]\n0,1\n1,2\n");
    test::write_file(scratch / "t.loop", "table u(s : s) -> 1 from \"u.csv\"\nsystem S {\n    var x : 1 init 0\n    x' = u(time) / (1 s)\n}\n");
    test::Outcome table = test::netloop("run " + (scratch / "t.loop") + " --stop 1s --quiet --out " + (scratch / "u.csv"));
    CHECK(table.code == 1);
    CHECK(has(table.err, "it is read here"));
    REQUIRE(test::netloop(run + (scratch / "a.h5")).code == 0);
    for (const std::string& command :
         {"convert " + (scratch / "a.h5") + " " + (scratch / "a.h5"), "plot " + (scratch / "a.h5") + " x --out " + (scratch / "n.png")}) {
        test::write_file(scratch / "n.png", "no picture");
        test::Outcome o = test::netloop(command);
        CHECK(o.code == 1);
        CHECK(has(o.err, "cannot be written"));
    }
    CHECK(test::read_file(scratch / "n.png") == "no picture");
    CHECK(netloop::Recording::load(scratch / "a.h5").n_rows() > 2);
}

TEST_CASE("rows go to standard output, to devices and to pipes")
{
    test::Scratch scratch;
    test::write_file(scratch / "m.loop", kDecay);
    std::string run = "run " + (scratch / "m.loop") + " --stop 1s --output-every 0.5s --out ";
    test::Outcome o = test::netloop(run + "-");
    CHECK(o.code == 0);
    CHECK(o.out.starts_with("time [s],x [m]\r\n0,1\r\n0.5,"));
    CHECK(has(o.err, "warning   "));  // the summary stands aside
    CHECK(test::netloop(run + "/dev/null").code == 0);
    CHECK(fs::is_character_file("/dev/null"));
    test::Outcome full = test::netloop(run + "/dev/full");
    CHECK(full.code == 1);
    CHECK(has(full.err, "'/dev/full' cannot be written: the disk is full"));
    test::Outcome piped = test::shell("mkfifo " + (scratch / "p.h5") + "; " + program() + " " + run + (scratch / "p.h5") + " & cat " + (scratch / "p.h5") +
                                      " > " + (scratch / "got.h5") + "; wait");
    CHECK(netloop::Recording::load(scratch / "got.h5")["x"].final() == doctest::Approx(std::exp(-1.0)).epsilon(1e-4));
    CHECK(fs::is_fifo(scratch / "p.h5"));
    test::Outcome picture = test::netloop("plot " + (scratch / "got.h5") + " x --out -");
    CHECK(picture.code == 0);
    CHECK(has(picture.out.substr(0, 500), "<svg"));
}

TEST_CASE("a run that does not come to its end takes no whole recording's place, and says where its rows are")
{
    test::Scratch scratch;
    test::write_file(scratch / "m.loop", kDecay);
    test::write_file(scratch / "dies.loop", "system S {\n    var x : m init 1 m\n    x' = -1 m/s\n    when x < 0.5 m { fail \"too low\" }\n}\n");
    for (const char* name : {"k.h5", "k.csv"}) {
        INFO(name);
        std::string out = scratch / name;
        REQUIRE(test::netloop("run " + (scratch / "m.loop") + " --stop 1s --quiet --out " + out).code == 0);
        std::string whole = test::read_file(out);
        test::Outcome o = test::netloop("run " + (scratch / "dies.loop") + " --stop 1s --out " + out);
        CHECK(o.code == 1);
        CHECK(has(o.err, "stays as it was"));
        CHECK(has(o.err, out + ".unfinished"));
        CHECK(test::read_file(out) == whole);
        // what it left is a recording for every command, and every command says that it is incomplete
        std::string left = out + ".unfinished";
        for (const std::string& command : {"plot " + left + " x --out " + (scratch / "p.svg"), "convert " + left + " " + (scratch / "c.csv"), "events " + left,
                                           "report " + left + " --out " + (scratch / "r.html"), "compare " + left + " " + left}) {
            test::Outcome told = test::netloop(command);
            INFO(command << "\n" << told.err);
            if (!command.starts_with("events") || std::string(name) == "k.h5") CHECK(has(told.err, "is incomplete"));
            if (command.starts_with("compare")) CHECK(told.code == 1);
        }
        CHECK(test::netloop("compare --shared-time " + left + " " + left).code == 0);
        // the next run names what was left, and leaves it
        test::Outcome next = test::netloop("run " + (scratch / "m.loop") + " --stop 1s --out " + out);
        CHECK(next.code == 0);
        CHECK(has(next.err, "of an earlier run that did not end"));
        CHECK(fs::exists(left));
    }
    // where nothing stands yet, .h5 says itself that it is incomplete; rows alone cannot
    CHECK(test::netloop("run " + (scratch / "dies.loop") + " --stop 1s --quiet --out " + (scratch / "new.h5")).code == 1);
    CHECK_FALSE(netloop::Recording::load(scratch / "new.h5").complete);
    CHECK(test::netloop("run " + (scratch / "dies.loop") + " --stop 1s --quiet --out " + (scratch / "new.csv")).code == 1);
    CHECK_FALSE(fs::exists(scratch / "new.csv"));
    CHECK_FALSE(netloop::Recording::load(scratch / "new.csv.unfinished").complete);
}

TEST_CASE("recordings of different length differ, unless the shared time is asked for")
{
    test::Scratch scratch;
    test::write_file(scratch / "m.loop", kDecay);
    for (const char* stop : {"1", "2"})
        REQUIRE(test::netloop(
                    fmt::format("run {} --stop {}s --output-every 0.1s --quiet --out {}", scratch / "m.loop", stop, scratch / (std::string(stop) + ".h5")))
                    .code == 0);
    test::Outcome o = test::netloop("compare " + (scratch / "1.h5") + " " + (scratch / "2.h5"));
    CHECK(o.code == 1);
    CHECK(has(o.out, "50 % of it is not compared"));
    CHECK(test::netloop("compare --shared-time " + (scratch / "1.h5") + " " + (scratch / "2.h5")).code == 0);
    nlohmann::json j = nlohmann::json::parse(test::netloop("compare --json " + (scratch / "1.h5") + " " + (scratch / "2.h5")).out);
    CHECK(j["same"] == false);
    CHECK(j["not_compared"].size() == 1);
}

TEST_CASE("closed and full outputs are told or survived, never a crash")
{
    test::Scratch scratch;
    test::write_file(scratch / "m.loop", kDecay);
    std::string check = program() + " check " + (scratch / "m.loop"), bad = program() + " check " + (scratch / "none.loop");
    CHECK(test::shell(bad + " 2>&-").code == 1);
    CHECK(test::shell(bad + " 2>/dev/full").code == 1);
    for (const char* command : {" check ", " run --stop 1s ", " run --stop 1s --json ", " describe hydraulics.ReliefValve #", " list hydraulics #"}) {
        INFO(command);
        std::string line = program() + std::string(command);
        if (line.ends_with('#'))
            line.pop_back();
        else
            line += scratch / "m.loop";
        CHECK(test::shell(line).code == 0);
        test::Outcome o = test::shell(line + " >/dev/full");
        CHECK(o.code == 1);
        CHECK(has(o.err, "standard output cannot be written"));
        CHECK(test::shell(line + " >&-").code == 1);
        CHECK(test::shell(line + " >&- 2>&- <&-").code == 1);
    }
    // a recording never gets the number of a closed stream
    CHECK(test::shell(program() + " run " + (scratch / "m.loop") + " --stop 1s --out " + (scratch / "c.csv") + " >&- 2>&- <&-").code == 1);
    CHECK(netloop::Recording::load(scratch / "c.csv").complete);
}

TEST_CASE("names that are no UTF-8 do not harm JSON or XML")
{
    test::Scratch scratch;
    std::string name = scratch / "f\xe4.loop";
    test::write_file(name, "system S { var x : m init 1 m\n x' = -1 m/s }\nscenario a of S { stop at 1 s ; require final(x) > 5 m \"high\" }\n");
    test::Outcome o = test::netloop("run --json " + name);
    CHECK_NOTHROW(nlohmann::json::parse(o.out));
    CHECK_NOTHROW(nlohmann::json::parse(test::netloop("check --json " + name).out));
    test::write_file(scratch / "g.loop", "system S { var x : \xed\xa0\x80 }\n");
    CHECK(has(test::netloop("check " + (scratch / "g.loop")).err, "[not-text]"));
    test::netloop("test " + name + " --junit " + (scratch / "j.xml"));
    CHECK(test::shell("python3 -c 'import sys, xml.dom.minidom as m; m.parse(sys.argv[1])' " + (scratch / "j.xml")).code == 0);
}

TEST_CASE("small texts that would take everything are told within seconds, with the place")
{
    test::Scratch scratch;
    std::string doubled = "function f0(x : 1) -> 1 { return x + 1 }\n", chain = "const c0 = 1\n", lets = "system S {\n    var x : 1 init 1\n    let a0 = x\n";
    for (int k = 1; k <= 30; ++k) doubled += fmt::format("function f{0}(x : 1) -> 1 {{ return f{1}(x) + f{1}(x + 1) + f{1}(x + 2) }}\n", k, k - 1);
    for (int k = 1; k < 3000; ++k)
        chain += fmt::format("const c{0} = 0.5*c{1} + 0.5*c{1}\n", k, k - 1), lets += fmt::format("    let a{0} = a{1} + 1\n", k, k - 1);
    struct Case {
        std::string text, says;
    };
    const std::string run_x = "system S {\n    var x : 1 init 1\n    x' = ";
    const Case cases[] = {
        {doubled + run_x + "-f30(x) / (1 s)\n}\n", "t.loop:34:11: error: a call of 'f30' makes more than 100000"},
        {chain + run_x + "-c2999 * x / (1 s)\n}\n", ""},
        {lets + "    x' = -a2999 / (1 s)\n}\n", ""},
        {run_x + "-x / (1 s)\n    memory n = 0\n    every 1e-300 s { n := n + 1 }\n}\n", "at least 1e-12 s"},
        {run_x + "-x / (1 s)\n    memory n = 0\n    every 1e-10 s { n := n + 1 }\n}\n", "at most 100 million times"},
        {"component C { param p : m ; var x : m init 0 m ; x' = p / (1 s) }\nsystem S { part c[30000] : C }\n", "29900 more errors"},
        {"const k = m\nconst m = k\n" + run_x + "-x^k / (1 s)\n}\n", "circular-definition"},
        {"function f(x : 1) -> 1 { return f(x) }\n" + run_x + "-f(x) / (1 s)\n}\n", "calls itself"},
    };
    for (const Case& c : cases) {
        INFO(c.text.substr(0, 300));
        test::write_file(scratch / "t.loop", c.text);
        Timed t = timed("timeout -k 1 60 " + program() + " run " + (scratch / "t.loop") + " --stop 1s --quiet");
        INFO(t.outcome.err.substr(0, 600));
        CHECK(t.outcome.code == (c.says.empty() ? 0 : 1));
        CHECK(has(t.outcome.err, c.says));
        CHECK(t.outcome.err.size() < 40000);
        CHECK(t.seconds < 30);  // a hang, not a speed
    }
}

TEST_CASE("Ctrl-C and SIGTERM end what a model made long, and a second one ends the program at once")
{
    test::Scratch scratch;
    test::write_file(
        scratch / "loops.loop",
        "function g(x : 1) -> 1 {\n    let s = 0\n    while s < 900000 { s := s + 1 }\n    return s*x\n}\nsystem S {\n    var x : 1 init 1\n    x' = "
        "-1e-12*g(g(g(x)))/(1 s)\n    var y[40] : 1 init 1\n    for i in 1 .. 40 { y[i]' = -g(y[i])/(1e9 s) }\n}\n");
    std::string run = program() + " run " + (scratch / "loops.loop") + " --stop 1000000s --quiet";
    for (const char* signal : {"INT", "TERM"}) {
        Timed t = timed(fmt::format("timeout -k 20 --preserve-status -s {} 1 {}", signal, run));
        CHECK(t.outcome.code == 1);
        CHECK(t.seconds < 15);
    }
    // while it is compiled
    test::write_file(scratch / "large.loop",
                     "system S {\n    option n = 2000000\n    var x[n] : 1 init 1\n    for i in 1 .. n { x[i]' = -x[i] * sin(time / (1 s)) / (1 s) }\n}\n");
    Timed compiled = timed("timeout -k 30 --preserve-status -s INT 1 " + program() + " check " + (scratch / "large.loop"));
    INFO(compiled.outcome.err);
    CHECK(compiled.outcome.code == 1);
    CHECK(has(compiled.outcome.err, "interrupted"));
    CHECK(compiled.seconds < 20);
    Timed twice = timed(run + " & p=$!; sleep 0.5; kill -INT $p; sleep 0.6; kill -INT $p; wait $p");
    CHECK(twice.outcome.code != 0);
    CHECK(twice.seconds < 15);
}

TEST_SUITE_END();

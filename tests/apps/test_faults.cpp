// SPDX-License-Identifier: Apache-2.0
// Disks that fill up, files that cannot be made, names that cannot be given, memory that gives out, and ends at any moment: at every place of a small run.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <cstdlib>
#include <filesystem>
#include <random>

#include "support/support.hpp"

namespace fs = std::filesystem;

namespace {

std::string program()
{
    const char* path = std::getenv("NETLOOP_PROGRAM");
    return path != nullptr ? path : "netloop";
}

bool sanitized()
{
    const char* set = std::getenv("NETLOOP_SANITIZED");
    return set != nullptr && std::string(set) == "ON";
}

constexpr const char* kModel =
    "system S {\n    var x : m init 1 m\n    x' = -x / (1 s)\n    when x < 0.5 m { warn \"half\" }\n}\nscenario a of S { stop at 1 s ; output every 0.1 s ; "
    "measure m = max(x) }\n";

// A recording of before, which must stand when a writer fails.
struct Bench {
    test::Scratch scratch;
    std::string library;
    Bench()
    {
        test::write_file(scratch / "m.loop", kModel);
        const char* build = std::getenv("NETLOOP_BUILD");
        library = std::string(build != nullptr ? build : "build/release") + "/tests/fuzz/libnetloop_fail_nth.so";
    }
    std::string failing(const std::string& call, int at, const std::string& after, int how_many = 0) const
    {
        std::string few = how_many > 0 ? fmt::format(" FAIL_FOR={}", how_many) : "";
        return fmt::format("FAIL_CALL={} FAIL_AT={} FAIL_AFTER={}{} LD_PRELOAD={} ", call, at, after, few, library);
    }
};

}  // namespace

TEST_SUITE_BEGIN("apps");

TEST_CASE("whichever write, file or rename fails, what stood there stands, and the reason is told")
{
    Bench b;
    if (!fs::exists(b.library) || sanitized()) return;  // a sanitized program brings its own allocator and calls
    std::string run = program() + " run " + (b.scratch / "m.loop") + " --quiet --out ";
    REQUIRE(test::shell(run + (b.scratch / "good.h5")).code == 0);
    struct Row {
        std::string command, name;
    };
    const Row rows[] = {{run, "x.h5"},
                        {run, "x.csv"},
                        {program() + " convert " + (b.scratch / "good.h5") + " ", "c.csv"},
                        {program() + " convert " + (b.scratch / "good.h5") + " ", "c.h5"},
                        {program() + " report " + (b.scratch / "good.h5") + " --out ", "r.html"},
                        {program() + " draw " + (b.scratch / "m.loop") + " --out ", "d.dot"},
                        {program() + " test " + (b.scratch / "m.loop") + " --junit ", "j.xml"}};
    for (const Row& row : rows) {
        std::string out = b.scratch / row.name;
        REQUIRE(test::shell(row.command + out).code == 0);
        std::string before = test::read_file(out);
        for (const char* call : {"write", "open", "rename", "fsync"}) {
            int failed = 0;
            for (int at = 1; at <= 60; ++at) {
                test::Outcome o = test::shell(b.failing(call, at, row.name) + row.command + out);
                INFO(std::string(call), " ", at, " of ", row.name, ": ", o.err);
                REQUIRE(o.code <= 1);  // told, or it was not reached
                CHECK(o.err.find("fault of netloop") == std::string::npos);
                CHECK(o.err.find("HDF5-DIAG") == std::string::npos);
                bool whole = o.code == 0;
                if (!whole) {
                    ++failed;
                    CHECK(o.err.find("error:") != std::string::npos);
                    bool stands = test::read_file(out) == before;
                    CHECK(stands);
                } else {
                    before = test::read_file(out);
                }
                for (const auto& entry : fs::directory_iterator(b.scratch.path())) {  // what is left is named in the message
                    std::string name = entry.path().filename().string();
                    if (name.find(".unfinished") == std::string::npos) continue;
                    CHECK(o.err.find(name) != std::string::npos);
                    fs::remove(entry.path());
                }
                if (whole) break;
            }
            if (std::string(call) != "open" || !row.name.ends_with(".h5")) CHECK(failed >= 1);
        }
        fs::remove(out);
    }
}

TEST_CASE("whichever allocation fails, the program ends with a message, and what stood there stands")
{
    Bench b;
    if (!fs::exists(b.library) || sanitized()) return;
    std::string out = b.scratch / "x.csv", run = program() + " run " + (b.scratch / "m.loop") + " --quiet --out ";
    REQUIRE(test::shell(run + out).code == 0);
    std::string before = test::read_file(out);
    const char* set = std::getenv("NETLOOP_FAULTS");
    int most = set != nullptr ? std::atoi(set) : 60, reached = 0;
    for (int k = 1; k <= most; ++k) {
        int at = k <= 20 ? k : 20 + (k - 20) * 97;  // the first ones, and then far into it
        test::Outcome o = test::shell(b.failing("alloc", at, "m.loop") + run + out);
        INFO("allocation " << at << ": " << o.err);
        CHECK(o.code <= 1);
        if (o.code == 0) break;
        ++reached;
        CHECK(test::read_file(out) == before);
    }
    CHECK(reached > 10);
}

TEST_CASE("a kill at any moment leaves the recording of before, and what is left beside it can be read")
{
    Bench b;
    std::string out = b.scratch / "k.h5";
    test::write_file(
        b.scratch / "long.loop",
        "system S { var x : 1 init 1 ; var v : 1 init 0 ; x' = v / (1 s) ; v' = -1e4 * x / (1 s) }\nscenario a of S { stop at 20 s ; output every 1 ms }\n");
    std::string run = program() + " run " + (b.scratch / "long.loop") + " --quiet --out ";
    const char* set = std::getenv("NETLOOP_KILLS");
    int n = set != nullptr ? std::atoi(set) : 12;
    std::mt19937 random(3);
    for (const char* name : {"k.h5", "k.csv"}) {
        out = b.scratch / name;
        REQUIRE(test::shell(program() + " run " + (b.scratch / "long.loop") + " --stop 1s --quiet --out " + out).code == 0);
        std::string before = test::read_file(out);
        for (int k = 0; k < n; ++k) {
            double at = std::uniform_real_distribution<double>(0, 2.2)(random);
            (void)test::shell(fmt::format("timeout -s KILL {:.3f} {}{}", at, run, out));
            INFO(name << ", killed at " << at);
            std::string now = test::read_file(out);
            if (now != before) {  // the run was at its end
                netloop::Recording whole = netloop::Recording::load(out);
                CHECK(whole.complete);
                CHECK(whole.time().final() == doctest::Approx(20));
                REQUIRE(test::shell(program() + " run " + (b.scratch / "long.loop") + " --stop 1s --quiet --out " + out).code == 0);
                before = test::read_file(out);
            }
            for (const auto& entry : fs::directory_iterator(b.scratch.path())) {
                std::string left = entry.path().string();
                if (left.find(".unfinished") == std::string::npos) continue;
                test::Outcome told = test::netloop("events " + left);
                CHECK(told.code <= 1);
                CHECK(told.err.find("fault of netloop") == std::string::npos);
                fs::remove(entry.path());
            }
        }
        fs::remove(out);
    }
}

TEST_CASE("two runs into one name at once leave a whole recording of one of them, and both say what they did")
{
    Bench b;
    for (const char* name : {"t.h5", "t.csv"}) {
        std::string out = b.scratch / name, command = program() + " run " + (b.scratch / "m.loop") + " --quiet --out " + out;
        test::Outcome o = test::shell("for i in 1 2 3 4 5 6; do " + command + " & done; wait");
        INFO(o.err);
        netloop::Recording r = netloop::Recording::load(out);
        CHECK(r.complete);
        CHECK(r.time().final() == doctest::Approx(1));
        CHECK(fs::exists(out));
        int left = 0;
        for (const auto& entry : fs::directory_iterator(b.scratch.path())) left += entry.path().string().find(".unfinished") != std::string::npos ? 1 : 0;
        CHECK(left == 0);
    }
}

TEST_SUITE_END();

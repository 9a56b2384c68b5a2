// SPDX-License-Identifier: Apache-2.0
// Bad input of any kind to any command: a clear error, the right exit code, nothing left behind, nothing crashes.
#include <doctest/doctest.h>

#include <cstdlib>
#include <filesystem>

#include "support/support.hpp"

namespace fs = std::filesystem;

namespace {

bool has(const std::string& text, const std::string& part)
{
    return text.find(part) != std::string::npos;
}

std::size_t files_in(const std::string& folder)
{
    std::size_t n = 0;
    for (const auto& e : fs::recursive_directory_iterator(folder)) n += e.is_regular_file() ? 1 : 0;
    return n;
}

const char* const kModel =
    "system Tub {\n param drain : s^-1 = 0.5 s^-1 in 0 s^-1 .. 10 s^-1\n var level : m init 2 m\n level' = -drain * level\n}\n"
    "scenario emptying of Tub {\n stop at 4 s\n output every 0.1 s\n measure half = first(time when level < 1 m)\n}\n";

// A folder with a model, recordings of it in both forms, and what is none.
class Bench {
public:
    Bench()
    {
        fs::create_directories(in("folder.h5"));
        fs::create_directories(in("folder.loop"));
        test::write_file(in("tub.loop"), kModel);
        test::write_file(in("empty"), "");
        test::write_file(in("noise"), std::string("\x89HDF\r\n\x1a\n\0\1\2\3\xff\xfe garbage", 22));
        REQUIRE(test::netloop("run " + in("tub.loop") + " --quiet --out " + in("good.h5")).code == 0);
        REQUIRE(test::netloop("convert " + in("good.h5") + " " + in("good.csv")).code == 0);
        std::string whole = test::read_file(in("good.h5"));
        test::write_file(in("cut.h5"), whole.substr(0, whole.size() / 2));
        std::string csv = test::read_file(in("good.csv"));
        test::write_file(in("cut.csv"), csv.substr(0, csv.size() - 7));
        std::size_t third = csv.find('\n', csv.find('\n', csv.find('\n') + 1) + 1);
        test::write_file(in("words.csv"), csv.substr(0, third) + "\n0.3,many\r\n" + csv.substr(third + 1));
        test::write_file(in("short.csv"), csv.substr(0, third) + "\n0.3\r\n" + csv.substr(third + 1));
        fs::create_directories(out(""));
    }
    std::string in(const std::string& name) const { return scratch_ / name; }
    std::string out(const std::string& name) const { return scratch_ / ("out/" + name); }

private:
    test::Scratch scratch_;
};

}  // namespace

TEST_SUITE_BEGIN("apps");

TEST_CASE("a recording that is none, or is damaged, is refused by every command that takes one")
{
    Bench b;
    const char* const files[] = {"none.h5", "none.csv", "folder.h5", "empty", "noise", "tub.loop", "cut.h5", "words.csv", "short.csv"};
    for (const char* file : files) {
        std::string path = b.in(file), good = b.in("good.h5");
        for (const std::string& command :
             {"plot " + path + " level --out " + b.out("p.png"), "plot " + good + " level --with " + path + " --out " + b.out("p.png"),
              "compare " + path + " " + good, "compare " + good + " " + path, "convert " + path + " " + b.out("c.csv"), "convert " + path + " " + b.out("c.h5"),
              "report " + path + " --out " + b.out("r.html"), "report " + good + " " + path + " --out " + b.out("r.html"), "events " + path}) {
            INFO("netloop ", command);
            test::Outcome o = test::netloop(command);
            INFO(o.err);
            CHECK(o.code == 1);
            CHECK(o.err.starts_with("error: "));
            CHECK(has(o.err, file));  // it says which file
            CHECK(o.err.find('\n') == o.err.size() - 1);
            CHECK(files_in(b.out("")) == 0);
        }
    }
}

TEST_CASE("a model that is none is refused by every command that takes one")
{
    Bench b;
    for (const char* file : {"none.loop", "folder.loop", "noise", "good.h5"})
        for (const std::string& command : {"check " + b.in(file), "run " + b.in(file) + " --stop 1s --out " + b.out("x.h5"), "check --json " + b.in(file),
                                           "draw " + b.in(file) + " --out " + b.out("d.svg")}) {
            INFO("netloop ", command);
            test::Outcome o = test::netloop(command);
            INFO(o.err);
            CHECK((o.code == 1 || (o.code == 2 && command.starts_with("draw"))));
            CHECK(has(o.err + o.out, "error"));
            CHECK(files_in(b.out("")) == 0);
        }
}

TEST_CASE("what cannot be written is told by every command that writes, and leaves what was there")
{
    Bench b;
    std::string good = b.in("good.h5");
    struct Row {
        std::string command, name;
    };
    const Row rows[] = {{"run " + b.in("tub.loop") + " --quiet --out ", "x.h5"},
                        {"run " + b.in("tub.loop") + " --quiet --out ", "x.csv"},
                        {"plot " + good + " level --out ", "x.png"},
                        {"plot " + good + " level --out ", "x.svg"},
                        {"convert " + good + " ", "x.csv"},
                        {"convert " + good + " ", "x.h5"},
                        {"report " + good + " --out ", "x.html"},
                        {"draw hydraulics.Cylinder --out ", "x.svg"},
                        {"draw hydraulics.Cylinder --out ", "x.dot"},
                        {"test " + b.in("tub.loop") + " --junit ", "x.xml"}};
    for (const Row& row : rows) {
        INFO("netloop ", row.command, "... ", row.name);
        test::Outcome missing = test::netloop(row.command + b.out("no/such/" + row.name));
        INFO(missing.err);
        CHECK(missing.code == 1);
        CHECK(has(missing.err, "there is no folder"));
        // a folder of that name
        fs::create_directories(b.out("taken/" + row.name));
        test::Outcome taken = test::netloop(row.command + b.out("taken/" + row.name));
        INFO(taken.err);
        CHECK(taken.code == 1);
        CHECK(has(taken.err, "it is a folder"));
        fs::remove_all(b.out("taken"));
        // a full disk, as far as /dev/full is one: no file can be made beside it
        test::Outcome full = test::netloop(row.command + "/dev/full/" + row.name);
        CHECK(full.code == 1);
        CHECK(files_in(b.out("")) == 0);
        // over a file that is of another kind: it stays
        test::write_file(b.out(row.name), "old");
        test::Outcome refused = test::netloop(row.command + b.out(row.name));
        INFO(refused.err);
        CHECK(refused.code == 1);
        CHECK(has(refused.err, "what stands there is not"));
        CHECK(test::read_file(b.out(row.name)) == "old");
        // over an empty one, and over what it wrote itself
        test::write_file(b.out(row.name), "");
        for (int k = 0; k < 2; ++k) {
            test::Outcome done = test::netloop(row.command + b.out(row.name));
            INFO(done.err);
            CHECK(done.code == 0);
            CHECK(test::read_file(b.out(row.name)).size() > 10);
        }
        CHECK(files_in(b.out("")) == 1);
        fs::remove(b.out(row.name));
    }
}

TEST_CASE("a CSV that was cut within a number or a row, or holds words, is told by line")
{
    Bench b;
    test::Outcome words = test::netloop("plot " + b.in("words.csv") + " level --out " + b.out("p.png"));
    CHECK(has(words.err, "line 4"));
    test::Outcome cut = test::netloop("compare " + b.in("short.csv") + " " + b.in("good.csv"));
    CHECK(has(cut.err, "line 4"));
    test::write_file(b.in("twice.csv"), "time [s],p [bar],p [bar]\n0,1,1\n");
    CHECK(test::netloop("convert " + b.in("twice.csv") + " " + b.out("x.h5")).code == 1);
    test::write_file(b.in("unit.csv"), "time [s],p [parsnip]\n0,1\n1,2\n");
    test::Outcome unit = test::netloop("convert " + b.in("unit.csv") + " " + b.out("x.h5"));
    CHECK(unit.code == 1);
    CHECK(has(unit.err, "parsnip"));
    test::write_file(b.in("back.csv"), "time [s],p [bar]\n0,1\n2,2\n1,3\n");
    test::Outcome back = test::netloop("plot " + b.in("back.csv") + " p --out " + b.out("x.png"));
    CHECK(back.code == 1);
    CHECK(has(back.err, "line 4"));
    for (const char* rows : {"time [s],p [bar]\n0,1\nnan,2\n", "time [s],p [bar]\n0,1\ninf,2\n", "time [bar],p [bar]\n0,1\n"}) {
        INFO(rows);
        test::write_file(b.in("time.csv"), rows);
        test::Outcome time = test::netloop("plot " + b.in("time.csv") + " p --out " + b.out("x.png"));
        CHECK(time.code == 1);
        CHECK(has(time.err, "the time is"));
    }
    CHECK(files_in(b.out("")) == 0);
}

TEST_CASE("values that are no numbers, impossible params and endless demands")
{
    Bench b;
    std::string tub = b.in("tub.loop");
    struct Row {
        std::string arguments;
        int code;
        const char* says;
    };
    const Row rows[] = {{" --set drain=nan", 1, "nan"},
                        {" --set drain='-1 s^-1'", 1, "outside its range"},
                        {" --set drain='1e400 s^-1'", 1, ""},
                        {" --set drain='3 m'", 1, "[m]"},
                        {" --set =3", 2, "path=value"},
                        {" --set level='3 m'", 1, "level"},
                        {" --stop -3s", 2, ""},
                        {" --stop 0s", 2, ""},
                        {" --stop infs", 2, "a time is expected"},
                        {" --tolerance -1", 2, ""},
                        {" --tolerance 0", 2, ""},
                        {" --tolerance x", 2, ""},
                        {" --output-every 1ns", 2, "100 million"},
                        {" --output-every 0s", 2, ""},
                        {" --integrator quick", 2, ""},
                        {" --integrator euler --step 0s", 2, ""},
                        {" --keep nothing.*", 2, "nothing fits"}};
    for (const Row& row : rows) {
        INFO("netloop run tub.loop", row.arguments);
        test::Outcome o = test::netloop("run " + tub + " --out " + b.out("x.h5") + row.arguments);
        INFO(o.err);
        CHECK(o.code == row.code);
        CHECK(has(o.err, row.says));
        CHECK_FALSE(o.err.empty());
        CHECK(files_in(b.out("")) == 0);
    }
}

TEST_CASE("without arguments, with unknown options and words, every command says how it is used")
{
    for (const char* command : {"check", "run", "plot", "compare", "convert", "report", "draw", "format", "test", "describe", "property", "events"}) {
        INFO("netloop ", command);
        test::Outcome help = test::netloop(std::string(command) + " --help");
        CHECK(help.code == 0);
        CHECK(has(help.out, "Example:"));
        CHECK(has(help.out, "Usage: netloop"));
        for (const char* wrong : {"", " --frobnicate", " a b c d e f --frobnicate 3"}) {
            test::Outcome o = test::netloop(command + std::string(wrong));
            INFO("arguments: ", wrong, "\n", o.err);
            CHECK(o.code == 2);
            CHECK_FALSE(o.err.empty());
            CHECK(o.out.empty());
        }
    }
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// The exported C: without a warning under two compilers, the same numbers bit for bit, nothing needed but the mathematical library.
#include <doctest/doctest.h>

#include <cmath>
#include <filesystem>

#include "support/support.hpp"

namespace fs = std::filesystem;
namespace nl = netloop;

TEST_SUITE_BEGIN("exchange");

namespace {

nl::ExportCRequest request(const std::string& folder, const std::string& method, double step)
{
    nl::ExportCRequest r;
    r.options.method = method;
    r.options.step = step;
    r.outputs = {"*"};
    r.folder = folder;
    return r;
}

const char* const kMethods[] = {"euler", "rk4", "linear-euler", "implicit-euler", "rosenbrock"};

// Tables of one and two arguments, smooth and not, with each way outside; functions with loops that call each other; a sequence, blocks, memories, a delay, a
// choice of states.
const std::string kEverything =
    "function root(a) -> 1 { let r = a ; let n = 0 ; while n < 40 { r := 0.5 * (r + a / r) ; n := n + 1 } ; return r }\n"
    "function twice(a) -> 1 { let k = 0 ; while k < a { k := k + 1 } ; if a > 2 { return root(a) + 0.1 * k } else { return 2 * a } }\n"
    "table lift(angle : 1) -> 1 { 0: 0, 1: 2, 2: 3, 4: 3.5 } smooth, extend\n"
    "table steps(angle : 1) -> 1 { 0: 0, 1: 2, 2: 3, 4: 3.5 } linear, hold\n"
    "table map(speed : 1, load : 1) -> 1 {\n | 0 0.5 1 2\n 0 | 0 1 2 5\n 1 | 1 2 3 7\n 3 | 2 5 6 8\n} smooth, extend\n"
    "table flat(speed : 1, load : 1) -> 1 {\n | 0 0.5 1 2\n 0 | 0 1 2 5\n 1 | 1 2 3 7\n 3 | 2 5 6 8\n} linear, hold\n"
    "system Everything {\n"
    "  var x init 0.5 ; var y init 1.5 ; var w ; memory u = 1 ; x' = (u * twice(y + 1) - x) / (1 s) ; y' = (x - y^3 / 4 + 0.1 * flat(x, y)) / (1 s)\n"
    "  w + 0.1 * map(w, x) = lift(y) + steps(x)\n"
    "  var both ; both = x + 2 * y ; when time > 0.5 s { both := 4 }\n  every 30 ms { u := 1 + 0.1 * sin(y) } ; let late = delay(x, 25 ms)\n}\n";

}  // namespace

TEST_CASE("every shipped form of model, every method: bit for bit what runs here")
{
    struct Case {
        const char *file, *scenario;
        double step, stop;
    };
    for (const Case& c :
         {Case{"bascule/bridge.loop", "", 1e-3, 2.0}, Case{"switching/mooring.loop", "drag", 1e-2, 8}, Case{"mechanisms/pendulum.loop", "", 1e-3, 0.25},
          Case{"electrics/shuttle.loop", "", 1e-2, 40}, Case{"first/gate.loop", "", 1e-2, 4}, Case{"heat/two_rooms.loop", "", 10, 9e4}}) {
        for (const char* method : kMethods) {
            bool is_explicit = std::string(method) == "euler" || std::string(method) == "rk4";
            if (is_explicit && std::string(c.file) == "heat/two_rooms.loop") continue;
            test::Scratch scratch;
            nl::Library library = nl::Library::standard();
            library.load_file(test::source_path(std::string("examples/") + c.file));
            nl::CompileRequest compile;
            compile.scenario = c.scenario;
            nl::CompiledSystem system = nl::compile(library, compile);
            double step = is_explicit ? c.step / 100 : c.step, stop = is_explicit ? c.stop / 100 : c.stop;
            nl::ExportCRequest r = request(scratch / "c", method, step);
            nl::ExportReport report = nl::export_c(system, r);
            CHECK_MESSAGE(
                test::shell("cd " + (scratch / "c") + " && gcc -std=c99 -Wall -Wextra -pedantic -Werror -fsyntax-only main.c " + report.name + ".c").code == 0,
                c.file, " ", method);
            nl::ExportCheck check = nl::check_export_c(system, r, stop);
            CAPTURE(c.file);
            CAPTURE(method);
            CHECK_MESSAGE(check.equal, check.text());
            CHECK(check.failed.empty());
            CHECK(static_cast<double>(check.steps) == doctest::Approx(stop / step).epsilon(0.01));
        }
    }
}

TEST_CASE("clang, freestanding, AddressSanitizer and UBSan; several machines side by side")
{
    test::Scratch scratch;
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    nl::CompiledSystem system = nl::compile(library);
    nl::ExportCRequest r = request(scratch / "c", "rosenbrock", 1e-3);
    r.outputs = {"leaf.angle", "motor.speed"};
    r.name = "leaf";
    nl::ExportReport report = nl::export_c(system, r);
    CHECK(report.files.size() == 6);
    std::string strict = " -std=c99 -Wall -Wextra -pedantic -Werror -ffp-contract=off ", in = "cd " + (scratch / "c") + " && ";
    CHECK(test::shell(in + "gcc -O1 -fno-pie -ffreestanding" + strict + "-c leaf.c -o free.o").code == 0);
    // nothing from outside but the mathematical library
    test::Outcome needs = test::shell(in + "nm -u free.o");
    for (const char* forbidden : {"malloc", "printf", "memcpy ", "stderr", "free\n"}) CHECK(needs.out.find(forbidden) == std::string::npos);
    // nothing that changes but the struct
    test::Outcome data = test::shell(in + "nm free.o | grep -E ' [bBdDcC] ' | wc -l");
    CHECK(std::stoi(data.out) == 0);
    // two machines, stepped by turns, do not know of each other
    test::write_file(scratch / "c/two.c",
                     "#include <stdio.h>\n#include \"leaf.h\"\nstatic leaf a, b, c;\nint main(void)\n{\n    int k;\n    leaf_init(&a);\n    leaf_init(&b);\n   "
                     " leaf_init(&c);\n"
                     "    leaf_begin(&a);\n    leaf_begin(&b);\n    leaf_begin(&c);\n    for (k = 0; k < 900; ++k) leaf_step(&c);\n"
                     "    for (k = 0; k < 900; ++k) leaf_step(&a), leaf_step(&b);\n    leaf_look(&a);\n    leaf_look(&b);\n    leaf_look(&c);\n"
                     "    return leaf_get(&a, 0) == leaf_get(&b, 0) && leaf_get(&a, 0) == leaf_get(&c, 0) && leaf_get(&a, 1) == leaf_get(&c, 1) ? 0 : 1;\n}\n");
    CHECK(test::shell(in + "gcc -O2" + strict + "two.c leaf.c -o two -lm && ./two").code == 0);
    CHECK(test::shell(in + "make CC=gcc leaf && ./leaf --exact --stop 3 --every 100 --out a.csv && ./leaf --list > list.txt").code == 0);
    if (test::shell("which clang").code == 0) {
        CHECK(
            test::shell(in + "clang -O2" + strict + "main.c leaf.c -o other -lm && ./other --exact --stop 3 --every 100 --out b.csv && cmp a.csv b.csv").code ==
            0);
        CHECK(test::shell(in + "clang -O1 -g -fsanitize=address,undefined -fno-sanitize-recover=all" + strict +
                          "main.c leaf.c -o san -lm && ./san --exact --stop 3 --every 100 --out s.csv && cmp a.csv s.csv")
                  .code == 0);
    }
    CHECK(test::shell(in + "gcc -O0 -m64" + strict + "main.c leaf.c -o slow -lm && ./slow --exact --stop 3 --every 100 --out c.csv && cmp a.csv c.csv").code ==
          0);
    std::string list = test::read_file(scratch / "c/list.txt");
    CHECK(list.find("leaf.angle") != std::string::npos);
    // the memory that is told is the memory that it takes
    test::write_file(scratch / "c/size.c",
                     "#include <stdio.h>\n#include \"leaf.h\"\nint main(void)\n{\n    printf(\"%lu\", (unsigned long)sizeof(leaf));\n    return 0;\n}\n");
    test::Outcome size = test::shell(in + "gcc size.c -o size && ./size");
    CHECK(std::stoul(size.out) == report.state_bytes);
}

TEST_CASE("params and inputs of the exported machine: the start is searched there, too, and rows of a file drive it")
{
    test::Scratch scratch;
    nl::CompiledSystem system = test::compile(
        "system Tank { input feed : L/min = 0 L/min ; param area : m^2 = 2 m^2 in 0.1 m^2 .. 10 m^2 ; var level : m ; init area * level = 3 m^3\n"
        "  area * level' = feed - (10 L/s) * sqrt(level / (1 m)) }\n");
    nl::ExportCRequest r = request(scratch / "c", "linear-euler", 0.5);
    r.outputs = {"level"};
    nl::export_c(system, r);
    test::write_file(scratch / "c/feed.csv", "time [s],feed [L/min]\n0,0\n10,600\n20,0\n");
    std::string in = "cd " + (scratch / "c") + " && make CC=gcc tank > /dev/null && ";
    REQUIRE(test::shell(in + "./tank --exact --stop 30 --in feed.csv --out rows.csv --set area=4").code == 0);
    nl::FixedStepOptions options = r.options;
    nl::FixedStepRun here(system, options, {"feed"}, {"level"});
    here.set("area", 4);
    REQUIRE(here.begin() == nl::FixedStepStatus::good);
    std::string rows = test::read_file(scratch / "c/rows.csv");
    std::size_t line = rows.find('\n') + 1;
    CHECK(here.output(0) == doctest::Approx(0.75).epsilon(1e-14));
    for (int k = 0; k <= 60; ++k) {
        double t = k * 0.5;
        char* end = nullptr;
        CHECK(std::strtod(&rows[line], &end) == t);
        CHECK(std::strtod(end + 1, &end) == here.output(0));
        line = rows.find('\n', line) + 1;
        here.set_input(0, t >= 10 && t < 20 ? 600 * (1e-3 / 60) : 0);
        if (k < 60) REQUIRE(here.step() == nl::FixedStepStatus::good);
    }
    // wrong use is told
    CHECK(test::shell(in + "./tank --set aria=4").code == 2);
    test::write_file(scratch / "c/feed.csv", "time [s],feed [bar]\n0,0\n");
    CHECK(test::shell(in + "./tank --in feed.csv").err.find("declared in [L/min]") != std::string::npos);
    test::write_file(scratch / "c/feed.csv", "time [s],food\n0,0\n");
    CHECK(test::shell(in + "./tank --in feed.csv").err.find("no input 'food'") != std::string::npos);
    // no start: area * level = 3 m^3 with the root of a negative level cannot be; a param far outside leads nowhere
    CHECK(test::shell(in + "./tank --set area=-4 --out none.csv").code == 1);
}

TEST_CASE("tables, functions with loops, delays and blocks have their twins in C")
{
    test::Scratch scratch;
    nl::CompiledSystem system = test::compile(kEverything);
    for (const char* method : kMethods) {
        nl::ExportCRequest r = request(scratch / method, method, 5e-3);
        nl::export_c(system, r);
        nl::ExportCheck check = nl::check_export_c(system, r, 5);
        CHECK_MESSAGE(check.equal, method, ": ", check.text());
        CHECK(check.steps == 1000);
    }
}

TEST_CASE("float: not equal, and by how much is told")
{
    test::Scratch scratch;
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/first/gate.loop"));
    nl::CompiledSystem system = nl::compile(library);
    nl::ExportCRequest r = request(scratch / "c", "linear-euler", 1e-2);
    r.single = true;
    nl::export_c(system, r);
    nl::ExportCheck check = nl::check_export_c(system, r, 2);
    CHECK(check.failed.empty());
    CHECK_FALSE(check.equal);
    CHECK(check.share > 1e-12);
    CHECK(check.share < 1e-3);
}

TEST_CASE("another processor: AArch64 gives the same bits")
{
    if (test::shell("which aarch64-linux-gnu-gcc qemu-aarch64").code != 0) {
        MESSAGE("skipped: gcc-aarch64-linux-gnu and qemu-user are not installed");
        return;
    }
    struct Case {
        const char *file, *method, *stop, *every;
    };
    for (const Case& c : {Case{"bascule/bridge.loop", "rosenbrock", "3", "10"}, Case{"mechanisms/gangway.loop", "linear-euler", "4", "10"},
                          Case{"gas/heat_pump.loop", "linear-euler", "40", "100"}}) {
        CAPTURE(c.file);
        test::Scratch scratch;
        nl::Library library = nl::Library::standard();
        library.load_file(test::source_path(std::string("examples/") + c.file));
        bool pump = std::string(c.file) == "gas/heat_pump.loop";
        nl::CompileRequest compile;
        if (pump) compile.scenario = "frost";
        nl::ExportCRequest r = request(scratch / "c", c.method, pump ? 1e-1 : 1e-3);
        r.name = "machine";
        nl::export_c(nl::compile(library, compile), r);
        std::string flags = " -O2 -std=c99 -ffp-contract=off main.c machine.c -lm ",
                    run = std::string(" --exact --stop ") + c.stop + " --every " + c.every + " --out ";
        REQUIRE(test::shell("cd " + (scratch / "c") + " && gcc" + flags + "-o native && aarch64-linux-gnu-gcc -static" + flags + "-o other").code == 0);
        CHECK(test::shell("cd " + (scratch / "c") + " && ./native" + run + "n.csv && qemu-aarch64 ./other" + run + "a.csv && cmp n.csv a.csv").code == 0);
    }
}

TEST_CASE("nothing that is not ours is written over")
{
    test::Scratch scratch;
    nl::CompiledSystem system = test::compile("system S { var x init 1 ; x' = -x / (1 s) }\n");
    nl::ExportCRequest r = request(scratch / "c", "euler", 0.1);
    fs::create_directories(scratch / "c");
    test::write_file(scratch / "c/main.c", "int main(void) { return 0; }\n");
    CHECK_THROWS_AS(nl::export_c(system, r), nl::RecordingError);
    CHECK(test::read_file(scratch / "c/main.c") == "int main(void) { return 0; }\n");
    fs::remove(scratch / "c/main.c");
    CHECK(nl::export_c(system, r).files.size() == 6);
    CHECK(nl::export_c(system, r).files.size() == 6);  // its own files are
    test::write_file(scratch / "plain", "a file");
    r.folder = scratch / "plain";
    CHECK_THROWS_AS(nl::export_c(system, r), nl::RecordingError);
    r.folder = scratch / "c";
    for (const char* name : {"9lives", "a-b", "a b"}) {
        r.name = name;
        CHECK_THROWS_AS(nl::export_c(system, r), nl::UsageError);
    }
}

TEST_SUITE_END();

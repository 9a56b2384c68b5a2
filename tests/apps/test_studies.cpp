// SPDX-License-Identifier: Apache-2.0
// The commands on studies as their users type them.
#include <doctest/doctest.h>

#include <filesystem>
#include <set>

#include "support/support.hpp"

namespace fs = std::filesystem;

TEST_SUITE_BEGIN("apps");

namespace {

const std::string kModel =
    "system Bob { param mass : kg = 2 kg in 0.01 kg .. 100 kg ; param drag : N*s/m = 0.5 N*s/m ; var x : m init 0.1 m ; mass * x'' = -(100 N/m) * x - drag * "
    "x' ; init x' = 0 m/s }\n"
    "scenario swing of Bob { stop at 2 s ; measure half : ms = first(time when x < 0 m) ; measure low : mm = min(x) ; measure end = final(x) ; require low < "
    "-60 mm \"so <b>deep</b>\" }\n"
    "study grid of Bob from swing { vary mass over 1 kg, 2 kg, 4 kg ; vary drag over 0 N*s/m .. 2 N*s/m in 4 }\n"
    "study shares of Bob from swing { vary mass as uniform(1 kg, 3 kg) ; vary drag as uniform(0 N*s/m, 2 N*s/m) ; take 16 for sobol ; keep recordings of best "
    "2 by low }\n"
    "study looks of Bob from swing { vary mass over 1 kg .. 3 kg ; vary drag over 0 N*s/m .. 2 N*s/m ; take 4 for morris }\n";

struct Made {
    test::Scratch scratch;
    Made() { test::write_file(scratch / "bob.loop", kModel); }
    test::Outcome run(const std::string& arguments) const
    {
        const char* program = std::getenv("NETLOOP_PROGRAM");
        return test::shell("cd " + scratch.path() + " && " + (program != nullptr ? program : "netloop") + " " + arguments);
    }
};

}  // namespace

TEST_CASE("study, results, rerun: a grid from the plan to its rows")
{
    Made made;
    test::Outcome o = made.run("study bob.loop grid --plan");
    CHECK(o.code == 0);
    CHECK(o.out.find("full grid of 3 x 4: 12 runs") != std::string::npos);
    CHECK(o.out.find("1 machine to compile; the first run sets mass=1 kg, drag=0 N*s/m") != std::string::npos);
    CHECK(o.out.find("of the runs took") != std::string::npos);
    CHECK(!fs::exists(made.scratch / "bob.studies.sqlite"));

    o = made.run("study bob.loop grid --jobs 2");
    CHECK(o.code == 0);
    CHECK(o.out.find("study 1 grid: done: 12 runs; 12 here in") != std::string::npos);
    nlohmann::json all = nlohmann::json::parse(made.run("results bob.loop grid --json --all").out);
    REQUIRE(all["rows"].size() == 12);
    for (const auto& row : all["rows"]) {
        // a damped swing from rest: its first zero by hand, at the angle pi/2 + asin(zeta) of its own frequency
        double mass = row["values"]["mass"], drag = row["values"]["drag"], w = std::sqrt(100 / mass), zeta = drag / (2 * mass * w);
        double zero = (3.14159265358979 / 2 + std::asin(zeta)) / (w * std::sqrt(1 - zeta * zeta));
        CHECK(row["values"]["half"].get<double>() == doctest::Approx(1e3 * zero).epsilon(1e-4));
        CHECK(row["status"] == "done");
    }
    o = made.run("results bob.loop grid --sort half --most --first 2 --where 'drag < 1 N*s/m'");
    CHECK(o.out.find("2 runs shown; 12 of 12 done") != std::string::npos);
    CHECK(o.out.find("\n    9 ") < o.out.find("\n    8 "));
    CHECK(made.run("results bob.loop grid --csv all.csv").code == 0);
    std::string csv = test::read_file(made.scratch / "all.csv");
    CHECK(csv.rfind("run,status,mass [kg],drag [N*s/m],half [ms],low [mm],end [m],so <b>deep</b>,seconds,steps,reason\n", 0) == 0);
    CHECK(std::count(csv.begin(), csv.end(), '\n') == 13);
    CHECK(made.run("results bob.loop grid --csv bob.loop").code == 1);  // a model is not written over
    CHECK(test::read_file(made.scratch / "bob.loop") == kModel);

    o = made.run("rerun bob.loop grid 7 --out seven.h5");
    CHECK(o.code == 0);
    CHECK(o.out.find("the same as stored, to the last bit") != std::string::npos);
    CHECK(fs::exists(made.scratch / "seven.h5"));
    // the texts are in the store: the file may be gone
    fs::remove(made.scratch / "bob.loop");
    CHECK(made.run("rerun bob.studies.sqlite 1 3").code == 0);
    o = made.run("store list bob.studies.sqlite --json");
    CHECK(nlohmann::json::parse(o.out)["studies"][0]["done"] == 12);
    CHECK(made.run("store check bob.studies.sqlite").out.find("sound") != std::string::npos);
    CHECK(made.run("store prune bob.studies.sqlite --study 1").code == 0);
    CHECK(made.run("store list bob.studies.sqlite").out.find("is empty") != std::string::npos);
}

TEST_CASE("charts of every kind, and the page of a study")
{
    Made made;
    CHECK(made.run("study bob.loop shares --quiet --report page.html").code == 0);
    CHECK(made.run("study bob.loop looks --quiet").code == 0);
    for (const char* kind : {"bars", "radar", "scatter", "histogram", "effects"}) {
        INFO(kind);
        test::Outcome o = made.run(std::string("results bob.loop shares --chart ") + kind + " --out " + kind + ".png");
        CHECK(o.code == 0);
        CHECK(o.err == "");
        CHECK(test::read_file(made.scratch / (std::string(kind) + ".png")).substr(1, 3) == "PNG");
    }
    CHECK(made.run("results bob.loop shares --chart scatter --of half,low --out s.svg").code == 0);
    CHECK(test::read_file(made.scratch / "s.svg").find("no run is less in both") != std::string::npos);
    CHECK(made.run("results bob.loop shares --chart pie").err.find("there are: bars, radar, scatter") != std::string::npos);
    CHECK(made.run("results bob.loop shares --chart bars --of halff").err.find("there are: mass, drag, half") != std::string::npos);
    CHECK(made.run("results bob.loop looks --report looks.html").code == 0);

    // what a browser makes of the pages: nothing goes wrong in them, and every view is filled
    if (test::shell("command -v chromium").code != 0) {
        MESSAGE("left out: chromium is not installed (Debian: chromium-driver)");
        return;
    }
    for (const char* page : {"page.html", "looks.html"}) {
        INFO(page);
        std::string seen =
            test::shell("timeout 60 chromium --headless --no-sandbox --disable-gpu --virtual-time-budget=3000 --dump-dom file://" + (made.scratch / page)).out;
        CHECK(seen.find("data-ready=\"yes\"") != std::string::npos);
        CHECK(seen.find("netloop rerun bob.studies.sqlite") != std::string::npos);
        CHECK(seen.find("effect of mass") != std::string::npos);
        CHECK(seen.find(std::string(page) == "page.html" ? "Sobol indices" : "Elementary effects") != std::string::npos);
        CHECK(seen.find("<b>deep</b>") == std::string::npos);  // a user's text is text
        CHECK(seen.find(">5 %: ") != std::string::npos);
        CHECK(seen.find("50 %: ") != std::string::npos);
    }
}

TEST_CASE("what is wrong with a command on studies is told")
{
    Made made;
    struct Case {
        const char *command, *says;
        int code;
    };
    const Case cases[] = {
        {"study bob.loop", "the file has several studies: grid, shares, looks", 1},
        {"study bob.loop gird", "did you mean 'grid'?", 1},
        {"study bob.loop grid --set mas=3kg", "mas", 1},
        {"study bob.loop grid --on moon --store x.sqlite", "studies run here, or on slurm", 2},
        {"study bob.loop grid --on slurm", "cannot share an SQLite file", 2},
        {"study bob.loop grid --resume", "no study 'grid' to go on with", 2},
        {"study bob.loop grid --store /nowhere/at/all/s.sqlite", "folder is not there", 1},
        {"study bob.loop grid --store bob.loop", "is no SQLite database", 1},
        {"results bob.loop", "there is no store", 1},
        {"work", "which store?", 2},
        {"rerun bob.loop grid 3", "there is no store", 1},
        {"store list nothing.sqlite", "there is no store", 1},
        {"store burn nothing.sqlite", "burn", 2},
    };
    for (const Case& c : cases) {
        INFO(c.command);
        fs::remove(made.scratch / "bob.studies.sqlite");
        test::Outcome o = made.run(c.command);
        CHECK_MESSAGE((o.out + o.err).find(c.says) != std::string::npos, o.err);
        CHECK(o.code == c.code);
    }
    CHECK(test::read_file(made.scratch / "bob.loop") == kModel);
}

TEST_CASE("catalogues go into a store and come out as a text that means the same")
{
    test::Scratch scratch;
    std::string parts = test::source_path("examples/bascule/studies/parts.loop"), program = std::getenv("NETLOOP_PROGRAM"),
                in = "cd " + scratch.path() + " && " + program;
    CHECK(test::shell(in + " store publish team.sqlite " + parts).out.find("pumps.c90  version 1") != std::string::npos);
    CHECK(test::shell(in + " store publish team.sqlite " + parts).out.find("pumps.c90  version 1") != std::string::npos);
    CHECK(test::shell(in + " store fetch team.sqlite fetched.loop").code == 0);
    std::string was = test::shell(in + " describe pumps.c90 --file " + parts).out, is = test::shell(in + " describe pumps.c90 --file fetched.loop").out;
    CHECK(was.find("0.04 L/min/bar") != std::string::npos);
    CHECK(was == is);
    test::write_file(scratch / "mine.loop", "# my own\n");
    CHECK(test::shell(in + " store fetch team.sqlite mine.loop").code == 1);
    CHECK(test::read_file(scratch / "mine.loop") == "# my own\n");
}

TEST_CASE("a recording of a study finds a kind again that stands in the study's own file")
{
    test::Scratch scratch;
    test::write_file(scratch / "machine.loop",
                     "component Source { output level : bar }\n"
                     "component Weak : Source { param size : bar = 1 bar ; level = size }\n"
                     "system Plant { slot source : Source = Weak() ; var x : bar init 0 bar ; x' * (1 s) = source.level - x }\n"
                     "scenario day of Plant { stop at 2 s ; output every 1 s ; measure last = final(x) }\n");
    test::write_file(scratch / "which.loop",
                     "use \"machine.loop\"\n"
                     "component Strong : Source { param size : bar = 3 bar ; level = 2 * size }\n"
                     "study which of Plant from day { vary source over Weak(), Strong(), Strong(size = 5 bar) ; keep recordings of all }\n");
    REQUIRE(test::netloop("study " + (scratch / "which.loop") + " --quiet").code == 0);
    const double sizes[] = {1, 3, 5}, gains[] = {1, 2, 2};
    for (int run = 0; run < 3; ++run) {
        const std::string recording = scratch / fmt::format("which.studies.recordings/which-1/{}.h5", run);
        nlohmann::json model = nlohmann::json::parse(test::netloop("linear " + recording + " --at 1s --input source.size --output x --json").out);
        CHECK(model["inputs"][0]["value"].get<double>() == doctest::Approx(1e5 * sizes[run]));
        CHECK(model["outputs"][0]["value"].get<double>() == doctest::Approx(1e5 * gains[run] * sizes[run] * (1 - std::exp(-1.0))).epsilon(1e-5));
        // x' = gain * size - x, with whatever state is chosen: the gain at rest
        CHECK(model["transfer"][0]["steady_gain"].get<double>() == doctest::Approx(gains[run]));
    }
    // where that file is not loaded nobody knows the kind
    CHECK(test::netloop("run " + (scratch / "machine.loop") + " --set 'source=Strong()'").err.find("Strong") != std::string::npos);
    CHECK(test::netloop("run " + (scratch / "which.loop") + " day --set 'source=Strong()' --json").code == 0);
}

TEST_SUITE_END();

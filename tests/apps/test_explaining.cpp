// SPDX-License-Identifier: Apache-2.0
// linear, modes, cost and advise as a user calls them.
#include <doctest/doctest.h>
#include <netloop/netloop.hpp>

#include <cmath>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "support/support.hpp"

namespace fs = std::filesystem;
using json = nlohmann::json;

TEST_SUITE_BEGIN("apps");

namespace {

const std::string kOscillator =
    "system S { input force : N = 0 N ; param m : kg = 1 kg in 1 g .. 1 t ; param d : N*s/m = 1 N*s/m ; param c : N/m = 1 N/m ; var x : mm init 0 mm\n"
    "  m * x'' = force - d * x' - c * x ; init x' = 0 m/s }\nscenario rest of S { stop at 20 s }\n";

std::string quoted(const std::string& text)
{
    return "'" + text + "'";
}

}  // namespace

TEST_CASE("linear: text, JSON, four forms of file, and a check against the model itself")
{
    test::Scratch scratch;
    std::string model = scratch / "s.loop";
    test::write_file(model, kOscillator);
    test::Outcome plain = test::netloop("linear " + model + " --input force --output x --si");
    CHECK(plain.code == 0);
    CHECK(plain.out.find("\n  1 / (s^2 + s + 1)\n") != std::string::npos);
    CHECK(plain.out.find("not held against the model itself") != std::string::npos);
    // in the units of the declarations x is in mm
    CHECK(test::netloop("linear " + model + " --input force --output x").out.find("\n  1000 / (s^2 + s + 1)\n") != std::string::npos);
    test::Outcome held = test::netloop("linear " + model + " --input force --output x --verify 0.1N");
    CHECK(held.code == 0);
    CHECK(held.out.find("held against the model itself") != std::string::npos);
    // stiff, with numbers of unlike units, over a long time, the loop opened at a signal
    test::Outcome opened = test::netloop("linear " + test::source_path("examples/bascule/bridge.loop") + " --at 12s --open pid.out --verify --until 1s");
    CHECK(opened.code == 0);
    CHECK(opened.out.find("phase margin") != std::string::npos);
    json told = json::parse(test::netloop("linear " + model + " --input force --output x --si --json").out);
    CHECK(told["poles"].size() == 2);
    for (std::size_t k = 0; k < 3; ++k) CHECK(told["transfer"][0]["denominator"][k].get<double>() == doctest::Approx(1));
    CHECK(told["a"].size() == 2);
    for (const char* form : {"json", "csv", "h5", "mat"}) {
        std::string file = scratch / (std::string("m.") + form);
        CHECK(test::netloop("linear " + model + " --input force --output x --si --out " + file).code == 0);
        CHECK(fs::file_size(file) > 50);
    }
    CHECK(json::parse(test::read_file(scratch / "m.json"))["c"][0].size() == 2);
    CHECK(test::read_file(scratch / "m.csv").find("A,x [m],x' [m/s]\n") != std::string::npos);
    // read back by others: eigenvalues of A, and the names
    test::Outcome octave = test::shell("octave-cli --norc --eval \"load('" + (scratch / "m.mat") +
                                       "'); printf('%.12g %.12g %s %s', sort(abs(eig(A))), states{1}, inputs{1});\" 2>/dev/null");
    CHECK(octave.out == "1 1 x force");
    test::write_file(scratch / "read.py",
                     "import h5py, scipy.io, numpy, sys\nf = h5py.File(sys.argv[1])\nm = scipy.io.loadmat(sys.argv[2])\n"
                     "print(numpy.allclose(f['A'][...], m['A']), numpy.allclose(f['B'][...], m['B']), f['states'][0].decode(), f['states_units'][0].decode(), "
                     "m['outputs'][0][0][0])\n");
    test::Outcome python = test::shell("/usr/bin/python3 " + (scratch / "read.py") + " " + (scratch / "m.h5") + " " + (scratch / "m.mat"));
    CHECK(python.out == "True True x m x\n");
    // a picture
    std::string picture = scratch / "m.png";
    CHECK(test::netloop("linear " + model + " --input force --output x --verify --draw " + picture).code == 0);
    CHECK(fs::file_size(picture) > 10000);
}

TEST_CASE("linear: what is wrong is told, and nothing is written")
{
    test::Scratch scratch;
    std::string model = scratch / "s.loop";
    test::write_file(model, kOscillator);
    struct Case {
        const char *arguments, *told;
    };
    for (const Case& c : {Case{"--input forc --output x", "did you mean 'force'?"}, Case{"--input force --output y", "no quantity 'y'"},
                          Case{"--output x", "name what acts with --input"}, Case{"--input force --output x --at 30s", "the scenario ends at 20 s"},
                          Case{"--input force --output x --out m.txt", ".json, .csv, .h5 or .mat"},
                          Case{"--input force --output x --at -1s", "a point at -1 s"}, Case{"--open force", "there is no loop to open"},
                          Case{"--input x --output x", "neither an input nor"}, Case{"--input force --output x --out s.loop", ".json, .csv, .h5 or .mat"}}) {
        CAPTURE(c.arguments);
        test::Outcome outcome = test::shell("cd " + scratch.path() + " && " + quoted(std::getenv("NETLOOP_PROGRAM")) + " linear s.loop " + c.arguments);
        CHECK(outcome.code != 0);
        CHECK(outcome.err.find(c.told) != std::string::npos);
        CHECK(!fs::exists(scratch / "m.txt"));
    }
    CHECK(test::read_file(model) == kOscillator);
    // not linear over so large a step
    std::string tank = scratch / "tank.loop";
    test::write_file(
        tank,
        "system N { input u : m^3/s = 0.3 m^3/s ; var h : m init 2.25 m ; (2 m^2) * h' = u - (0.2 m^2.5/s) * h^0.5 }\nscenario fill of N { stop at 100 s }\n");
    test::Outcome far = test::netloop("linear " + tank + " --input u --output h --verify 1m^3/s");
    CHECK(far.code == 1);
    CHECK(far.err.find("the linear model is off by") != std::string::npos);
}

TEST_CASE("cost and events stand in one table, and its times are those of all events")
{
    test::Scratch scratch;
    std::string model = scratch / "clocked.loop", recorded = scratch / "clocked.h5";
    std::ofstream(model) << "system S { var x init 0 ; memory u : 1 = 0 ; x' = (u - x) / (0.3 s) ; every 100 ms { u := 1 - u / 2 }\n"
                            "  when x > 0.5 { met := met + 1 } ; memory met : 1 = 0 ; memory too : 1 = 0\n  when x > 0.5 { too := too + 1 } }\n";
    REQUIRE(test::netloop("run " + model + " --stop 1s --out " + recorded).code == 0);
    test::Outcome cost = test::netloop("cost " + recorded);
    CHECK(cost.code == 0);
    std::istringstream lines(cost.out);
    std::size_t told = 0, sum = 0;
    for (std::string line; std::getline(lines, line);) {
        if (auto at = line.find(" events"); at != std::string::npos && told == 0) told = std::stoul(line.substr(line.rfind(' ', at - 1)));
        // steps, share (none for what bounded no step), times, time, why, what
        for (const char* what : {"every 100 ms", "x > 0.5"}) {
            auto at = line.find(what);
            if (at == std::string::npos || line.find("limited by") != std::string::npos) continue;
            std::string before = line.substr(0, line.rfind(" %", at));
            sum += std::stoul(before.substr(before.find_last_of(' ', before.find_last_not_of(' ', before.rfind(' ')))));
        }
    }
    CHECK(told == 13);  // the clock at 0, 0.1 ... 1 s, and the crossing, on which two blocks of one text look
    CHECK(sum == told);
    // two quantities of two parts on one line: their steps are one sum
    netloop::Cost by_line;
    by_line.steps = 100;
    by_line.limits = {{"a.x", "a", "rig.loop:7", "accuracy", 40},
                      {"tick", "", "rig.loop:9", "clock", 35},
                      {"b.x", "b", "rig.loop:7", "accuracy", 20},
                      {"c", "", "", "signal", 5}};
    std::string text = by_line.text();
    std::size_t at = text.find("by line of text\n");
    REQUIRE(at != std::string::npos);
    std::istringstream rows(text.substr(at));
    std::vector<std::string> told_lines;
    for (std::string line; std::getline(rows, line) && !(line.empty() && !told_lines.empty());) told_lines.push_back(line);
    REQUIRE(told_lines.size() == 4);
    CHECK(told_lines[1] == "         60  60.0 %  rig.loop:7");
    CHECK(told_lines[2] == "         35  35.0 %  rig.loop:9");
    CHECK(told_lines[3] == "          5   5.0 %  no line");
}

TEST_CASE("a recording holds its model: linear, modes and cost out of it are those of the run")
{
    test::Scratch scratch;
    std::string recorded = scratch / "bridge.h5", model = test::source_path("examples/bascule/bridge.loop");
    test::Outcome run = test::netloop("run " + model + " --set relief.cracking='135 bar' --out " + recorded);
    CHECK(run.code == 0);
    CHECK(run.out.find("  limited   ") != std::string::npos);
    json a = json::parse(test::netloop("linear " + recorded + " --at 12s --input valve.command --output leaf.angle --json").out);
    json b = json::parse(test::netloop("linear " + model + " --set relief.cracking='135 bar' --at 12s --input valve.command --output leaf.angle --json").out);
    REQUIRE(a["poles"].size() == b["poles"].size());
    CHECK(a["poles"].size() == 13);
    for (std::size_t k = 0; k < a["poles"].size(); ++k)
        CHECK(a["poles"][k]["value"][0].get<double>() == doctest::Approx(b["poles"][k]["value"][0].get<double>()).epsilon(1e-3).scale(1e-6));
    json modes = json::parse(test::netloop("modes " + recorded + " --at 12s,20s --json").out);
    CHECK(modes["points"].size() == 2);
    CHECK(modes["points"][0]["modes"].size() >= 11);
    std::string picture = scratch / "modes.svg";
    test::Outcome over = test::netloop("modes " + recorded + " --over 12 --at worst --draw " + picture);
    CHECK(over.code == 0);
    CHECK(over.out.find("modes at ") != std::string::npos);
    CHECK(fs::file_size(picture) > 5000);
    test::Outcome cost = test::netloop("cost " + recorded + " --draw " + (scratch / "cost.png"));
    CHECK(cost.code == 0);
    CHECK(cost.out.find("supply.plus.i") != std::string::npos);
    CHECK(fs::file_size(scratch / "cost.png") > 5000);
    CHECK(test::netloop("cost " + model).code != 0);
    // the report has it, too
    std::string page = scratch / "bridge.html";
    CHECK(test::netloop("report " + recorded + " --out " + page).code == 0);
    std::string html = test::read_file(page);
    CHECK(html.find("What limited the steps") != std::string::npos);
    CHECK(html.find("<td>supply.plus.i</td><td>supply</td>") != std::string::npos);
}

TEST_CASE("what limits steps adds up: every step of a run has its reason")
{
    netloop::Library library = netloop::Library::standard();
    library.load_file(test::source_path("examples/bascule/operation.loop"));
    netloop::Run run(netloop::compile(library, {.scenario = "opening"}));
    run.simulate();
    const netloop::Cost& cost = run.summary().cost;
    double limits = 0, stretches = 0, parts = 0;
    for (const auto& l : cost.limits) limits += l.steps;
    for (const auto& s : cost.stretches) stretches += s.steps;
    for (const auto& [part, steps] : cost.parts()) parts += steps;
    CHECK(stretches == cost.steps);
    CHECK(parts == doctest::Approx(limits));
    // those that the error test bounds are sampled
    CHECK(limits == doctest::Approx(cost.steps).epsilon(0.1));
    CHECK(cost.stretches.size() <= 512);
    for (std::size_t k = 1; k < cost.stretches.size(); ++k) CHECK(cost.stretches[k].from >= cost.stretches[k - 1].to * (1 - 1e-12));
    CHECK(cost.one_line().find("% of the steps by") != std::string::npos);
    // each reason is told once
    for (std::size_t k = 0; k < cost.limits.size(); ++k)
        for (std::size_t i = 0; i < k; ++i)
            CHECK((cost.limits[k].what != cost.limits[i].what || cost.limits[k].part != cost.limits[i].part || cost.limits[k].why == "convergence" ||
                   cost.limits[i].why == "convergence"));
    // with fixed steps nothing is limited
    netloop::Run fixed(netloop::compile(library, {.scenario = "opening"}));
    fixed.simulate({.stop = 0.1, .integrator = "implicit-euler", .step = 0.01});
    CHECK(fixed.summary().cost.steps == 0);
}

TEST_CASE("advise: a table, a scenario to paste, and what may be kept is read with its unit")
{
    test::Scratch scratch;
    std::string model = scratch / "ringing.loop";
    test::write_file(
        model,
        "component Bob { param mass : kg = 1 g in 1e-6 kg .. 1 kg ; param spring : N/m = 1e6 N/m ; input base : m ; output force : N\n  var y : m init 0 m ; "
        "mass * y'' = -force ; force = "
        "spring * (y - base) + (0.05 N*s/m) * y' ; init y' = 0 m/s }\nsystem R { var x : m init 0 m ; part bob : Bob ; x -> bob.base\n"
        "  (100 kg) * x'' = (if sin(6.2832 * time / (1 s)) > 0 then 200 N else 0 N) - (1e4 N/m) * x - (300 N*s/m) * x' + bob.force ; init x' = 0 m/s }\n"
        "scenario shaken of R { stop at 3 s ; output every 10 ms }\n");
    test::Outcome text = test::netloop("advise " + model + " --runs 8 --keep 'x within 2 mm' --quiet");
    CHECK(text.code == 0);
    CHECK(text.out.find("scenario fast from shaken {") != std::string::npos);
    CHECK(text.out.find("set bob.") != std::string::npos);
    json told = json::parse(test::netloop("advise " + model + " --runs 8 --keep 'x within 2 mm' --json").out);
    CHECK(told["trials"].size() >= 2);
    // by steps: what a clock says of a few milliseconds is the machine's mood
    double before = told["as_it_is"]["steps"], least = before;
    for (const json& t : told["trials"]) least = std::min(least, t["steps"].get<double>());
    CHECK(least < 0.7 * before);
    CHECK(told["combined"]["speed_up"].get<double>() > 0);
    CHECK(test::netloop("advise " + model + " --keep 'x 2 mm'").err.find("for example --keep") != std::string::npos);
    CHECK(test::netloop("advise " + model + " --keep 'z within 2 mm'").code != 0);
}

TEST_CASE("linear of a large system: sparse matrices that other programs read, modes of a region, a picture")
{
    test::Scratch scratch;
    std::string model = scratch / "rod.loop";
    test::write_file(model,
                     "system R { option n = 800 ; input end : degC = 20 degC ; param k : W/K = 3 W/K ; param c : J/K = 2 J/K ; var T[n] : degC\n"
                     "for i in 1 .. n { init T[i] = 20 degC } ; for i in 2 .. n - 1 { c * T[i]' = k * (T[i - 1] - 2 * T[i] + T[i + 1]) }\n"
                     "c * T[1]' = k * (end - 2 * T[1] + T[2]) ; c * T[n]' = k * (T[n - 1] - T[n]) ; let inside : degC = T[40] }\n");
    test::Outcome told = test::netloop("linear " + model + " --input end --output inside");
    CHECK(told.code == 0);
    CHECK(told.out.find("800 states") != std::string::npos);
    CHECK(told.out.find("E z' = A z + B u") != std::string::npos);
    CHECK(told.out.find("steady gain 1\n") != std::string::npos);
    for (const char* form : {"json", "csv", "h5", "mat"})
        CHECK(test::netloop("linear " + model + " --input end --output inside --out " + (scratch / (std::string("m.") + form))).code == 0);
    // eigenvalues by others: -4 k / c sin^2((2 i - 1) pi / (2 (2 n + 1)))
    test::Outcome octave = test::shell("octave-cli --norc --eval \"load('" + (scratch / "m.mat") +
                                       "'); l = sort(abs(eig(full(E) \\ full(A)))); w = 6*sin(pi/(2*(2*800+1)))^2; printf('%d %d %.6f %.6f %s', issparse(A), "
                                       "rows(A), l(1)/w, full(D - C*(A\\B)), unknowns{1});\" 2>/dev/null");
    CHECK(octave.out == "1 800 1.000000 1.000000 T[1]");
    test::write_file(
        scratch / "read.py",
        "import h5py, scipy.io, scipy.sparse, sys, json\nf = h5py.File(sys.argv[1])\nm = scipy.io.loadmat(sys.argv[2])\nj = json.load(open(sys.argv[3]))\n"
        "def of(n): g = f[n]; return scipy.sparse.csc_matrix((g['value'][...], (g['row'][...], g['column'][...])), (int(g.attrs['rows']), "
        "int(g.attrs['columns'])))\n"
        "for n in 'ABCDE': print(abs(of(n) - m[n]).max() == 0, len(j[n.lower()]['value']) == m[n].nnz, end=' ')\n"
        "print(f['unknowns'][39].decode(), f['outputs_units'][0].decode())\n");
    test::Outcome python =
        test::shell("/usr/bin/python3 " + (scratch / "read.py") + " " + (scratch / "m.h5") + " " + (scratch / "m.mat") + " " + (scratch / "m.json"));
    CHECK(python.out == "True True True True True True True True True True T[40] K\n");
    CHECK(test::read_file(scratch / "m.csv").find("\nmatrix,row,column,value\nE,0,0,") != std::string::npos);
    std::string picture = scratch / "answer.png";
    CHECK(test::netloop("linear " + model + " --input end --output inside --draw " + picture).code == 0);
    CHECK(fs::file_size(picture) > 10000);
    // a small one, asked for
    std::string small = scratch / "s.loop";
    test::write_file(small, kOscillator);
    test::Outcome sparse = test::netloop("linear " + small + " --input force --output x --sparse");
    CHECK(sparse.out.find("2 states") != std::string::npos);
    CHECK(sparse.out.find("steady gain 1000") != std::string::npos);
    CHECK(test::netloop("linear " + small + " --input force --output x --sparse --verify").err.find("--verify: a step is held against tables") !=
          std::string::npos);
    // of its eigenvalues, which lie between 0 and -6 1/s, two are next to -2 1/s
    json near = json::parse(test::netloop("modes " + model + " --near 0.5s --count 2 --json").out);
    REQUIRE(near["points"][0]["modes"].size() == 2);
    for (const json& m : near["points"][0]["modes"]) CHECK(m["value"][0].get<double>() == doctest::Approx(-2).epsilon(0.01));
    CHECK(test::netloop("modes " + model + " --near 5m").err.find("a frequency (50Hz) or a time constant (2ms) is expected") != std::string::npos);
    CHECK(test::netloop("modes " + model + " --near 5Hz --end fastest").code == 2);
}

TEST_CASE("a run that is repeated out of a recording has the tolerance that the recorded one had")
{
    test::Scratch scratch;
    // x' = mu (1 - x^2) ...: with a coarse tolerance the swing is early or late, and the slope -2 x y with it
    test::write_file(scratch / "swing.loop",
                     "system Swing { input u = 0 ; var x init 2 ; var y init 0 ; x' * (1 s) = y ; y' * (1 s) = 2 * (1 - x^2) * y - x + u }\n"
                     "scenario long of Swing { stop at 60 s ; output every 1 s }\n");
    const std::string out = scratch / "coarse.h5", text = scratch / "swing.loop";
    REQUIRE(test::netloop("run " + text + " long --quiet --tolerance 0.01 --out " + out).code == 0);
    netloop::Recording recording = netloop::Recording::load(out);
    double x = recording["x"].at(50, recording.time());
    auto slope = [&](const std::string& file) {
        json model = json::parse(test::netloop("linear " + file + " --at 50s --input u --output x --si --json").out);
        return model["a"][1][1].get<double>();
    };
    CHECK(slope(out) == doctest::Approx(2 * (1 - x * x)).epsilon(1e-3));  // rows lie within steps
    CHECK(std::abs(slope(text) - slope(out)) > 1);                        // the scenario's own tolerance gives another swing
}

TEST_CASE("a recording with points: linear and modes out of it without a run that is repeated")
{
    test::Scratch scratch;
    const std::string bridge = test::source_path("examples/bascule/bridge.loop"), with = scratch / "with.h5", without = scratch / "without.h5";
    CHECK(test::netloop("run " + bridge + " --quiet --points 'every 1 s' --out " + with).code == 0);
    CHECK(test::netloop("run " + bridge + " --quiet --out " + without).code == 0);
    CHECK(fs::file_size(with) < 1.2 * static_cast<double>(fs::file_size(without)));
    for (const std::string& ask : {std::string("modes "), std::string("linear --input valve.command --output leaf.angle ")}) {
        json a = json::parse(test::netloop(ask + with + " --at 12.3s --json").out), b = json::parse(test::netloop(ask + without + " --at 12.3s --json").out);
        const json &x = ask[0] == 'm' ? a["points"][0]["modes"] : a["poles"], &y = ask[0] == 'm' ? b["points"][0]["modes"] : b["poles"];
        REQUIRE(x.size() == y.size());
        double fastest = 0;
        for (const json& m : y) fastest = std::max(fastest, m["frequency"].get<double>());
        for (std::size_t k = 0; k < x.size(); ++k)
            CHECK(x[k]["frequency"].get<double>() == doctest::Approx(y[k]["frequency"].get<double>()).epsilon(1e-3).scale(1e-6 * fastest));
    }
    CHECK(test::netloop("modes " + with + " --over 30").code == 0);
    CHECK(test::netloop("run " + bridge + " --points 5").err.find("points are kept in a recording") != std::string::npos);
    CHECK(test::netloop("run " + bridge + " --points 2.5 --out " + (scratch / "x.h5")).err.find("a whole number") != std::string::npos);
    CHECK(test::netloop("run " + bridge + " --points some --out " + (scratch / "x.h5")).code == 2);
    CHECK_FALSE(fs::exists(scratch / "x.h5"));
}

TEST_CASE("cost names the equation that Newton's iteration had to do with, as it is written")
{
    test::Scratch scratch;
    std::string model = scratch / "s.loop";
    // a stiff linear part, which one correction settles, and one cubic
    test::write_file(model,
                     "component Easy { var x init 1 ; x' * (1 ms) = 3 - x }\ncomponent Cubic { input u : 1 ; var y guess 0 ; y + 50 * y^3 = u }\n"
                     "system S { part easy : Easy ; part cubic : Cubic ; var a init 0 ; a' * (0.1 s) = cos(time / (10 ms)) - cubic.y ; 4 * a -> cubic.u }\n"
                     "scenario s of S { stop at 1 s }\n");
    std::string recording = scratch / "s.h5";
    REQUIRE(test::netloop("run " + model + " --integrator bdf --out " + recording).code == 0);
    test::Outcome told = test::netloop("cost " + recording);
    CHECK(told.out.find("more than one correction") != std::string::npos);
    CHECK(told.out.find("corrections  y + 50 * y^3 = u, in cubic  (" + model + ":2)") != std::string::npos);
    CHECK(told.out.find("x' * (1 ms) = 3 - x,") == std::string::npos);  // what is straight is met by one correction
    // a long one is cut between characters, whatever they are
    std::string umlauts;
    for (int k = 0; k < 40; ++k) umlauts += "ä";
    for (const char* before : {"", "x"}) {
        test::write_file(model, "system S { var y guess 0 ; var a init 0 ; a' * (0.1 s) = cos(time / (10 ms)) - y\n  y + 50 * y^3 = # " + (before + umlauts) +
                                    "\n    4 * a }\nscenario s of S { stop at 1 s }\n");
        json summary = json::parse(test::netloop("run " + model + " --integrator bdf --json").out);
        CHECK(summary["iterated"][0]["text"].get<std::string>().ends_with("..."));
    }
}

TEST_SUITE_END();

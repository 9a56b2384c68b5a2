// SPDX-License-Identifier: Apache-2.0
// Exported units, run by a program in C that shares nothing with us (importer.c); descriptions against rules written down from the standard's text.
#include <doctest/doctest.h>

#include <cmath>
#include <filesystem>
#include <map>
#include <pugixml.hpp>
#include <set>
#include <sstream>

#include "support/support.hpp"

namespace fs = std::filesystem;
namespace nl = netloop;

TEST_SUITE_BEGIN("exchange");

namespace {

// A unit, exported and taken apart.
struct Unit {
    test::Scratch scratch;
    pugi::xml_document xml;
    nl::ExportFmuReport report;
    std::string library, guid;
    std::map<std::string, unsigned> references;
    std::size_t states = 0, indicators = 0;

    Unit(const nl::CompiledSystem& system, nl::ExportFmuRequest request, bool with_sanitizers = false)
    {
        request.file = scratch / "unit.fmu";
        report = nl::export_fmu(system, request);
        REQUIRE(test::shell("cd " + scratch.path() + " && unzip -q unit.fmu").code == 0);
        REQUIRE(xml.load_file((scratch / "modelDescription.xml").c_str()));
        guid = root().attribute("guid").value();
        library = scratch / ("binaries/linux64/" + report.name + ".so");
        for (pugi::xml_node v : root().child("ModelVariables")) references[v.attribute("name").value()] = v.attribute("valueReference").as_uint();
        for (pugi::xml_node unknown : root().child("ModelStructure").child("Derivatives")) (void)unknown, ++states;
        indicators = root().attribute("numberOfEventIndicators").as_uint();
        std::string flags = with_sanitizers ? " -g -O1 -fsanitize=address,undefined -fno-sanitize-recover=all " : " -O1 ";
        REQUIRE(
            test::shell("gcc -std=c99 -D_GNU_SOURCE" + flags + test::source_path("tests/exchange/importer.c") + " -o " + (scratch / "importer") + " -ldl -lm")
                .code == 0);
        CHECK(test::shell("cd " + (scratch / "sources") + " && gcc -std=c99 -Wall -Wextra -pedantic -Werror -fsyntax-only " + report.name + ".c fmi2_" +
                          report.name + ".c")
                  .code == 0);
        if (with_sanitizers) {
            library = scratch / "checked.so";
            REQUIRE(test::shell("cd " + (scratch / "sources") + " && gcc -shared -fPIC -std=c99 -ffp-contract=off" + flags + report.name + ".c fmi2_" +
                                report.name + ".c -o " + library + " -lm")
                        .code == 0);
        }
    }
    pugi::xml_node root() const { return xml.child("fmiModelDescription"); }
    test::Outcome run(const std::string& arguments) const { return test::shell((scratch / "importer") + " " + library + " '" + guid + "' " + arguments); }
    std::string of(const std::vector<std::string>& names) const
    {
        std::string list;
        for (const std::string& n : names) list += fmt::format(" {}", references.at(n));
        return list;
    }
    std::vector<std::vector<double>> rows(const std::string& arguments) const
    {
        test::Outcome o = run(arguments);
        CHECK_MESSAGE(o.code == 0, o.err);
        std::vector<std::vector<double>> all;
        std::istringstream lines(o.out);
        for (std::string line; std::getline(lines, line);) {
            std::istringstream words(line);
            std::vector<double> row;
            for (std::string word; words >> word;) row.push_back(std::strtod(word.c_str(), nullptr));
            all.push_back(row);
        }
        return all;
    }
};

nl::CompiledSystem shipped(const std::string& file, const std::string& scenario = "")
{
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/" + file));
    return nl::compile(library, {.scenario = scenario});
}

const std::string kBall =
    "system Ball { param bounce = 0.8 in 0 .. 1 ; param twice = 2 * bounce ; input wind : N = 0 N ; param mass : kg = 2 kg in 1 g .. 1 t\n"
    "  var h : m init 1 m ; var v : m/s init 0 m/s ; memory hits = 0 ; h' = v ; mass * v' = -mass * 9.81 m/s^2 + wind\n"
    "  when h < 0 m and v < 0 m/s { v := -bounce * v ; hits := hits + 1 } ; let low : bool = h < 0.2 m }\n";

// The rules of the standard that every description has to meet (FMI 2.0.4, sec. 2.2).
void check_description(const Unit& u)
{
    pugi::xml_node root = u.root();
    CHECK(std::string(root.attribute("fmiVersion").value()) == "2.0");
    static const char* const order[] = {"ModelExchange",     "CoSimulation",   "UnitDefinitions", "LogCategories",
                                        "DefaultExperiment", "ModelVariables", "ModelStructure"};
    std::size_t at = 0;
    for (pugi::xml_node child : root) {
        while (at < std::size(order) && std::string(child.name()) != order[at]) ++at;
        CHECK_MESSAGE(at < std::size(order), child.name());
    }
    std::set<std::string> names, units;
    std::map<std::string, std::set<std::string>> displays;
    for (pugi::xml_node unit : root.child("UnitDefinitions")) {
        CHECK(units.insert(unit.attribute("name").value()).second);
        for (pugi::xml_node d : unit.children("DisplayUnit")) CHECK(displays[unit.attribute("name").value()].insert(d.attribute("name").value()).second);
    }
    std::vector<pugi::xml_node> variables;
    std::map<unsigned, std::string> by_reference;
    for (pugi::xml_node v : root.child("ModelVariables")) {
        variables.push_back(v);
        std::string name = v.attribute("name").value(), causality = v.attribute("causality").value(), variability = v.attribute("variability").value(),
                    initial = v.attribute("initial").value();
        CHECK_MESSAGE(names.insert(name).second, name);
        pugi::xml_node type = v.first_child();
        bool real = std::string(type.name()) == "Real", start = !type.attribute("start").empty();
        CHECK((real || std::string(type.name()) == "Boolean"));
        // table of allowed combinations, and who has a start
        if (causality == "parameter") {
            CHECK(variability == "fixed");
            CHECK(initial == "exact");
            CHECK(start);
        } else if (causality == "calculatedParameter") {
            CHECK(variability == "fixed");
            CHECK(initial == "calculated");
            CHECK_FALSE(start);
        } else if (causality == "input") {
            CHECK(initial.empty());
            CHECK(start);
        } else {
            CHECK((causality == "output" || causality == "local"));
            CHECK(initial == "calculated");
            CHECK_FALSE(start);
        }
        if (!real) CHECK(variability != "continuous");
        if (!type.attribute("unit").empty()) CHECK(units.contains(type.attribute("unit").value()));
        if (!type.attribute("displayUnit").empty()) CHECK(displays[type.attribute("unit").value()].contains(type.attribute("displayUnit").value()));
        if (start && real && !type.attribute("min").empty()) CHECK(type.attribute("start").as_double() >= type.attribute("min").as_double());
        if (start && real && !type.attribute("max").empty()) CHECK(type.attribute("start").as_double() <= type.attribute("max").as_double());
    }
    auto numbers = [&](const char* group) {
        std::vector<unsigned> list;
        for (pugi::xml_node unknown : root.child("ModelStructure").child(group)) {
            unsigned index = unknown.attribute("index").as_uint();
            CHECK((index >= 1 && index <= variables.size()));
            CHECK(std::find(list.begin(), list.end(), index) == list.end());
            list.push_back(index);
            std::istringstream words(unknown.attribute("dependencies").value());
            for (unsigned d = 0; words >> d;) CHECK((d >= 1 && d <= variables.size()));
        }
        return list;
    };
    std::set<unsigned> outputs;
    for (unsigned k : numbers("Outputs")) outputs.insert(k);
    std::set<unsigned> initial;
    for (unsigned k : numbers("InitialUnknowns")) initial.insert(k);
    for (std::size_t k = 0; k < variables.size(); ++k) {
        bool is_output = std::string(variables[k].attribute("causality").value()) == "output";
        CHECK(outputs.contains(static_cast<unsigned>(k + 1)) == is_output);
        if (is_output) CHECK(initial.contains(static_cast<unsigned>(k + 1)));
    }
    std::set<unsigned> states;
    for (unsigned k : numbers("Derivatives")) {
        unsigned of = variables[k - 1].first_child().attribute("derivative").as_uint();
        CHECK((of >= 1 && of <= variables.size()));
        CHECK(std::string(variables[of - 1].attribute("variability").value()) == "continuous");
        CHECK_MESSAGE(states.insert(of).second, "each state once");
    }
}

}  // namespace

TEST_CASE("descriptions of shipped models and of one with everything meet the standard's rules")
{
    check_description(Unit(test::compile(kBall), {.outputs = {"h", "v", "hits", "low"}}));
    for (const char* file : {"bascule/bridge.loop", "mechanisms/pendulum.loop", "first/gate.loop", "electrics/shuttle.loop", "canal/lock.loop"}) {
        CAPTURE(file);
        nl::CompiledSystem system = shipped(file, std::string(file) == "canal/lock.loop" ? "levelling" : "");
        check_description(Unit(system, {.options = {.step = 1e-2}, .outputs = {system.quantities()[0], system.quantities()[1]}}));
    }
    // what depends on what: the speed on itself, its rate on the wind, neither on h
    Unit ball(test::compile(kBall), {.outputs = {"h", "v"}});
    std::map<std::string, std::string> depends;
    std::vector<std::string> names{""};
    for (pugi::xml_node v : ball.root().child("ModelVariables")) names.push_back(v.attribute("name").value());
    for (pugi::xml_node unknown : ball.root().child("ModelStructure").child("Derivatives")) {
        std::istringstream words(unknown.attribute("dependencies").value());
        std::string list;
        for (unsigned d = 0; words >> d;) list += names[d] + " ";
        depends[names[unknown.attribute("index").as_uint()]] = list;
    }
    CHECK(depends["der(h)"] == "der(h) ");
    CHECK(depends["der(h,2)"] == "wind ");
    pugi::xml_node twice = ball.root().child("ModelVariables").find_child_by_attribute("name", "twice");
    CHECK(std::string(twice.attribute("causality").value()) == "calculatedParameter");
}

TEST_CASE("the state machine of the standard, legal and illegal calls, under sanitizers and valgrind")
{
    nl::CompiledSystem system = test::compile(kBall);
    for (bool checked : {false, true}) {
        Unit u(system, {.options = {.step = 1e-3}, .outputs = {"h", "v"}}, checked);
        std::string call = fmt::format("rules 1e-3 {} {} {} {}", u.states, u.indicators, u.references.at("bounce"), u.references.at("h"));
        test::Outcome o = u.run(call);
        CHECK_MESSAGE(o.code == 0, o.out, o.err);
        CHECK(o.out == "all rules hold\n");
        if (checked || test::shell("which valgrind").code != 0) continue;
        o = test::shell("valgrind -q --error-exitcode=9 --leak-check=full " + (u.scratch / "importer") + " " + u.library + " '" + u.guid + "' " + call);
        CHECK_MESSAGE(o.code == 0, o.err);
    }
}

TEST_CASE("co-simulation: bit for bit the machine that runs here")
{
    struct Case {
        const char *file, *scenario;
        std::vector<std::string> outputs;
        double step, stop;
        const char* method;
    };
    for (const Case& c : {Case{"bascule/bridge.loop", "", {"leaf.angle", "motor.speed"}, 1e-3, 3, "linear-euler"},
                          Case{"bascule/bridge.loop", "", {"leaf.angle", "motor.speed"}, 1e-3, 1, "rosenbrock"},
                          Case{"switching/mooring.loop", "drag", {"line.pull"}, 1e-2, 20, "linear-euler"},
                          Case{"electrics/shuttle.loop", "", {"battery.charge"}, 1e-2, 20, "implicit-euler"},
                          Case{"first/gate.loop", "", {"gate.rod.s"}, 1e-2, 4, "rosenbrock"}}) {
        CAPTURE(c.file);
        nl::CompiledSystem system = shipped(c.file, c.scenario);
        std::vector<std::string> outputs;
        std::vector<std::string> all = system.quantities();
        for (const std::string& o : c.outputs) outputs.push_back(std::find(all.begin(), all.end(), o) != all.end() ? o : all[0]);
        nl::FixedStepOptions options{.method = c.method, .step = c.step, .correct = true};
        Unit u(system, {.options = options, .outputs = outputs});
        nl::FixedStepRun here(system, options, {}, outputs);
        auto rows = u.rows(fmt::format("cs {:.17g} {:.17g}{}", c.step, c.stop, u.of(outputs)));
        REQUIRE(rows.size() == static_cast<std::size_t>(std::lround(c.stop / c.step)) + 1);
        for (std::size_t k = 0; k < rows.size(); ++k) {
            for (std::size_t i = 0; i < outputs.size(); ++i) REQUIRE(rows[k][i + 1] == here.output(i));
            if (k + 1 < rows.size()) REQUIRE(here.step() == nl::FixedStepStatus::good);
        }
    }
}

TEST_CASE("model exchange: somebody else's integrator comes to the same, events included")
{
    // against formulas: bounces at sqrt(2 / g) (1 + 2 e + 2 e^2 ...)
    Unit ball(test::compile(kBall), {.options = {.step = 1e-3}, .outputs = {"h", "v", "hits"}});
    auto rows = ball.rows(fmt::format("me 0.01 1.7 {} {}{}", ball.states, ball.indicators, ball.of({"h", "v", "hits"})));
    double first = std::sqrt(2 / 9.81), second = first * (1 + 2 * 0.8), t = 1.7 - second, up = 0.64 * std::sqrt(2 * 9.81);
    CHECK(rows.back()[3] == 2);
    CHECK(rows.back()[1] == doctest::Approx(up * t - 9.81 / 2 * t * t).epsilon(1e-6));
    double before = 0;
    for (const auto& r : rows)
        if (r[3] == 0) before = r[0];
    CHECK(before < first + 1e-6);
    CHECK(before > first - 0.0101);
    // against our own run in variable steps: equations that are solved in each, a choice of states, samples
    struct Case {
        const char* file;
        std::vector<std::string> outputs;
        double step, stop;
        double within;
    };
    for (const Case& c : {Case{"bascule/bridge.loop", {"leaf.angle", "motor.speed", "block.content.p"}, 5e-4, 2, 1e-4},
                          Case{"electrics/shuttle.loop", {}, 1e-2, 20, 1e-3}, Case{"first/gate.loop", {}, 1e-2, 3, 1e-4}}) {
        CAPTURE(c.file);
        nl::CompiledSystem system = shipped(c.file);
        std::vector<std::string> outputs = c.outputs, all = system.quantities();
        if (outputs.empty()) outputs = {all[0], all[1], all[2]};
        Unit u(system, {.options = {.step = 1e-3}, .outputs = outputs});
        auto last = u.rows(fmt::format("me {:.17g} {:.17g} {} {}{}", c.step, c.stop, u.states, u.indicators, u.of(outputs))).back();
        nl::Run run(system);
        nl::RunOptions options;
        options.tolerance = 1e-9;
        options.stop = c.stop;
        run.begin(options);
        run.step_to(c.stop);
        for (std::size_t i = 0; i < outputs.size(); ++i) CHECK_MESSAGE(last[i + 1] == doctest::Approx(run.value(outputs[i])).epsilon(c.within), outputs[i]);
    }
}

TEST_CASE("model exchange: what is no state is solved, too, where its equation weighs a million millionth of what it did in the call before")
{
    // y + y^3 = s, times 1e12 up to 1 ms and times 1 from then on
    Unit u(test::compile("system Fading { var s init 0.5 ; var y ; s' = 0.1 / (1 s) ; (1 + 1e12 * max(1 - time / (1 ms), 0)) * (y + y^3 - s) = 0 }\n"),
           {.options = {.step = 1e-3}, .outputs = {"s", "y"}});
    for (const std::vector<double>& row : u.rows(fmt::format("me 1e-3 0.05 {} {}{}", u.states, u.indicators, u.of({"s", "y"})))) {
        CAPTURE(row[0]);
        double y = row[2];
        CHECK(std::abs(y + y * y * y - row[1]) < 1e-9);
        CHECK(row[1] == doctest::Approx(0.5 + 0.1 * row[0]).epsilon(1e-12));
    }
}

TEST_CASE("directional derivatives: by hand where a cubic is solved in each point, with a param that follows from an input")
{
    // a + a^3 = x + gain u, so a moves by 1 / (1 + 3 a^2) and gain / (1 + 3 a^2)
    Unit u(test::compile("system Cubic { input u = 0.3 ; param twice = 2 * u ; param gain = 1.5 ; var x init 0.4 ; var y init 0.2 ; var a\n"
                         "  let rest = a + a^3 - x - gain * u ; rest = 0 ; x' * (1 s) = -x * y + twice ; y' * (1 s) = a - y ; let o = a^2 * y + twice }\n"),
           {.options = {.step = 1e-3}, .outputs = {"a", "o", "x", "y"}});
    CHECK(u.root().child("ModelExchange").attribute("providesDirectionalDerivative").as_bool());
    CHECK_FALSE(u.root().child("CoSimulation").attribute("providesDirectionalDerivative").as_bool());
    const std::string rates = u.of({"der(x)", "der(y)"});
    auto rows = u.rows(fmt::format("me 0.01 0.5 {} {}{}{} by {} {}:0 {}:1", u.states, u.indicators, u.of({"a", "o", "x", "y"}), rates, u.references.at("u"),
                                   u.references.at("x"), u.references.at("y")));
    REQUIRE(rows.size() == 51 + 18);
    const std::vector<double>& end = rows[50];
    double a = end[1], x = end[3], y = end[4], by = 1 / (1 + 3 * a * a);
    CHECK(a + a * a * a == doctest::Approx(x + 1.5 * 0.3).epsilon(1e-12));
    const double expected[3][6] = {{1.5 * by, 2 * a * y * 1.5 * by + 2, 0, 0, 2, 1.5 * by},  // a, o, x, y and their rates by u
                                   {by, 2 * a * y * by, 1, 0, -y, by},
                                   {0, a * a, 0, 1, -x, -1}};
    for (std::size_t k = 0; k < 3; ++k)
        for (std::size_t i = 0; i < 6; ++i) {
            CAPTURE(k);
            CAPTURE(i);
            CHECK(std::abs(rows[51 + 6 * k + i][0] - expected[k][i]) < 1e-12);
        }
}

TEST_CASE("directional derivatives of shipped models are the slopes of what the unit gives")
{
    struct Case {
        const char *file, *scenario;
        double stop;
    };
    for (const Case& c : {Case{"bascule/bridge.loop", "", 1.5}, Case{"electrics/shuttle.loop", "", 3}, Case{"first/gate.loop", "", 1},
                          Case{"switching/mooring.loop", "drag", 2}}) {
        CAPTURE(c.file);
        nl::CompiledSystem system = shipped(c.file, c.scenario);
        std::vector<std::string> outputs, all = system.quantities();
        for (std::size_t k = 0; k < all.size() && outputs.size() < 12; k += std::max<std::size_t>(1, all.size() / 12)) outputs.push_back(all[k]);
        Unit u(system, {.options = {.step = 1e-3}, .outputs = outputs});
        std::string unknown, known;
        std::size_t n = 0, n_known = 0;
        std::vector<pugi::xml_node> variables;
        for (pugi::xml_node v : u.root().child("ModelVariables")) variables.push_back(v);
        auto reference = [&](pugi::xml_node v) { return std::string(v.attribute("valueReference").value()); };
        for (pugi::xml_node v : variables)
            if (std::string(v.attribute("causality").value()) == "output" && v.child("Real")) unknown += " " + reference(v), ++n;
        for (pugi::xml_node rate : u.root().child("ModelStructure").child("Derivatives")) {
            pugi::xml_node v = variables[rate.attribute("index").as_uint() - 1];
            known += fmt::format(" {}:{}", reference(variables[v.child("Real").attribute("derivative").as_uint() - 1]), n_known++);
            if (n < 60) unknown += " " + reference(v), ++n;
        }
        auto rows = u.rows(fmt::format("me 1e-3 {} {} {}{} by{}", c.stop, u.states, u.indicators, unknown, known));
        REQUIRE(rows.size() > n * n_known);
        std::size_t moving = 0;
        for (std::size_t k = rows.size() - n * n_known; k < rows.size(); ++k) {
            REQUIRE(rows[k].size() == 5);
            double said = rows[k][0], up = rows[k][1], here = rows[k][2], down = rows[k][3], h = rows[k][4], seen = (up - down) / (2 * h);
            // how far the slope turns between the sides, and the digits that a value has
            double turn = 0.1 * std::abs(up - 2 * here + down) / h, noise = 1e-10 * std::max({std::abs(up), std::abs(here), std::abs(down)}) / h;
            CHECK_MESSAGE(std::abs(said - seen) <= 1e-5 * (std::abs(said) + std::abs(seen)) + turn + noise, fmt::format("{}: {} and {}", k, said, seen));
            moving += std::abs(said) > 10 * noise ? 1 : 0;
        }
        CHECK(moving >= n_known);
    }
}

TEST_CASE("params before the start, a stop of the model, delays, what is not ours")
{
    nl::CompiledSystem system = test::compile("system S { var x init 0 ; x' = 1 / (1 s) ; when x > 0.25 { stop \"far enough @ REAL FN(x)\" } }\n");
    Unit u(system, {.options = {.step = 0.1}, .outputs = {"x"}});
    test::Outcome o = u.run("cs 0.1 5" + u.of({"x"}));
    CHECK(o.code == 0);
    CHECK(o.out.find("stopped 1\n") != std::string::npos);
    CHECK(o.err.find("far enough @ REAL FN(x)") != std::string::npos);
    nl::CompiledSystem delayed = test::compile("system S { var x init 1 ; x' = -delay(x, 0.1 s) / (1 s) }\n");
    Unit late(delayed, {.options = {.step = 0.01}, .outputs = {"x"}});
    CHECK_FALSE(late.report.model_exchange);
    CHECK(late.root().child("ModelExchange").empty());
    CHECK(late.rows("cs 0.01 1" + late.of({"x"})).size() == 101);
    CHECK(late.run("me 0.01 1 0 0").code == 1);
    test::Scratch scratch;
    test::write_file(scratch / "notes.fmu", "not an archive");
    CHECK_THROWS_AS(nl::export_fmu(system, {.outputs = {"x"}, .file = scratch / "notes.fmu"}), nl::RecordingError);
    CHECK(test::read_file(scratch / "notes.fmu") == "not an archive");
    CHECK_THROWS_AS(nl::export_fmu(system, {.outputs = {}, .file = scratch / "u.fmu"}), nl::UsageError);
    CHECK_THROWS_AS(nl::export_fmu(system, {.outputs = {"y"}, .file = scratch / "u.fmu"}), nl::UsageError);
    CHECK_FALSE(fs::exists(scratch / "u.fmu"));
    // the same bytes for the same model
    nl::export_fmu(system, {.outputs = {"x"}, .file = scratch / "a.fmu"});
    nl::export_fmu(system, {.outputs = {"x"}, .file = scratch / "b.fmu"});
    CHECK(test::read_file(scratch / "a.fmu") == test::read_file(scratch / "b.fmu"));
}

TEST_SUITE_END();

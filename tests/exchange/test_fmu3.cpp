// SPDX-License-Identifier: Apache-2.0
// Units of FMI 3.0, run by a program in C that shares nothing with us (importer3.c), beside those of 2.0.
#include <doctest/doctest.h>

#include <cmath>
#include <pugixml.hpp>
#include <set>
#include <sstream>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("exchange");

namespace {

struct Unit3 {
    test::Scratch scratch;
    pugi::xml_document xml;
    nl::ExportFmuReport report;
    std::string library;
    std::map<std::string, std::string> references;
    std::size_t states = 0, indicators = 0;

    Unit3(const nl::CompiledSystem& system, nl::ExportFmuRequest request, bool with_sanitizers = false)
    {
        request.file = scratch / "unit.fmu";
        request.version = 3;
        report = nl::export_fmu(system, request);
        REQUIRE(test::shell("cd " + scratch.path() + " && unzip -q unit.fmu").code == 0);
        REQUIRE(xml.load_file((scratch / "modelDescription.xml").c_str()));
        library = scratch / ("binaries/x86_64-linux/" + report.name + ".so");
        for (pugi::xml_node v : root().child("ModelVariables")) references[v.attribute("name").value()] = v.attribute("valueReference").value();
        for (pugi::xml_node rate : root().child("ModelStructure").children("ContinuousStateDerivative")) (void)rate, ++states;
        for (pugi::xml_node z : root().child("ModelStructure").children("EventIndicator")) (void)z, ++indicators;
        std::string flags = with_sanitizers ? " -g -O1 -fsanitize=address,undefined -fno-sanitize-recover=all " : " -O1 ";
        test::Outcome made = test::shell("gcc -std=c99 -D_GNU_SOURCE -Wall -Wextra" + flags + test::source_path("tests/exchange/importer3.c") + " -o " +
                                         (scratch / "importer") + " -ldl -lm");
        REQUIRE_MESSAGE(made.code == 0, made.err);
        test::Outcome strict = test::shell("cd " + (scratch / "sources") + " && gcc -std=c99 -Wall -Wextra -pedantic -Werror -fsyntax-only " + report.name +
                                           ".c fmi3_" + report.name + ".c");
        CHECK_MESSAGE(strict.code == 0, strict.err);
        if (with_sanitizers) {
            library = scratch / "checked.so";
            REQUIRE(test::shell("cd " + (scratch / "sources") + " && gcc -shared -fPIC -std=c99 -ffp-contract=off" + flags + report.name + ".c fmi3_" +
                                report.name + ".c -o " + library + " -lm")
                        .code == 0);
        }
    }
    pugi::xml_node root() const { return xml.child("fmiModelDescription"); }
    test::Outcome run(const std::string& arguments) const
    {
        return test::shell((scratch / "importer") + " " + library + " '" + root().attribute("instantiationToken").value() + "' " + arguments);
    }
    std::vector<double> last_row(const std::string& arguments) const
    {
        test::Outcome o = run(arguments);
        CHECK_MESSAGE(o.code == 0, (o.out.substr(0, 500) + o.err.substr(0, 500)));
        std::string row, line;
        std::istringstream lines(o.out);
        while (std::getline(lines, line)) row = line;
        std::istringstream words(row);
        std::vector<double> values;
        for (double v = 0; words >> v;) values.push_back(v);
        return values;
    }
};

nl::CompiledSystem bridge()
{
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    return nl::compile(library);
}

const std::string kBall3 =
    "system Ball { param bounce = 0.8 in 0 .. 1 ; param twice = 2 * bounce ; input wind : N = 0 N ; param mass : kg = 2 kg in 1 g .. 1 t\n"
    "  var h : m init 1 m ; var v : m/s init 0 m/s ; memory hits = 0 ; h' = v ; mass * v' = -mass * 9.81 m/s^2 + wind\n"
    "  when h < 0 m and v < 0 m/s { v := -bounce * v ; hits := hits + 1 } ; let low : bool = h < 0.2 m }\n";

}  // namespace

TEST_CASE("FMI 3.0: the description keeps the standard's rules")
{
    Unit3 u(test::compile(kBall3), {.outputs = {"h", "hits", "low"}});
    pugi::xml_node root = u.root();
    CHECK(std::string(root.attribute("fmiVersion").value()) == "3.0");
    static const char* const order[] = {"ModelExchange",     "CoSimulation",   "UnitDefinitions", "LogCategories",
                                        "DefaultExperiment", "ModelVariables", "ModelStructure"};
    std::size_t at = 0;
    for (pugi::xml_node child : root) {
        while (at < std::size(order) && std::string(child.name()) != order[at]) ++at;
        CHECK_MESSAGE(at < std::size(order), child.name());
    }
    std::set<std::string> names, references, units;
    int independent = 0;
    for (pugi::xml_node unit : root.child("UnitDefinitions")) units.insert(unit.attribute("name").value());
    for (pugi::xml_node v : root.child("ModelVariables")) {
        CHECK((std::string(v.name()) == "Float64" || std::string(v.name()) == "Boolean"));
        CHECK_MESSAGE(names.insert(v.attribute("name").value()).second, v.attribute("name").value());
        CHECK_MESSAGE(references.insert(v.attribute("valueReference").value()).second, v.attribute("name").value());
        std::string causality = v.attribute("causality").value(), initial = v.attribute("initial").value();
        independent += causality == "independent";
        bool start = !v.attribute("start").empty();
        CHECK_MESSAGE(start == (causality == "parameter" || causality == "input"), v.attribute("name").value());
        if (causality == "independent" || causality == "input") CHECK(initial.empty());
        if (!v.attribute("unit").empty()) CHECK(units.contains(v.attribute("unit").value()));
        if (std::string(v.name()) == "Boolean") CHECK(std::string(v.attribute("variability").value()) != "continuous");
    }
    CHECK(independent == 1);
    // references of the structure are there, and come in the order that the standard asks for
    static const char* const parts[] = {"Output", "ContinuousStateDerivative", "InitialUnknown", "EventIndicator"};
    at = 0;
    for (pugi::xml_node e : root.child("ModelStructure")) {
        while (at < std::size(parts) && std::string(e.name()) != parts[at]) ++at;
        CHECK_MESSAGE(at < std::size(parts), e.name());
        CHECK(references.contains(e.attribute("valueReference").value()));
    }
    CHECK(u.states == 2);
    pugi::xml_document build;
    REQUIRE(build.load_file((u.scratch / "sources/buildDescription.xml").c_str()));
    for (pugi::xml_node f : build.child("fmiBuildDescription").child("BuildConfiguration").child("SourceFileSet").children("SourceFile"))
        CHECK(test::shell("test -f " + (u.scratch / (std::string("sources/") + f.attribute("name").value()))).code == 0);
}

TEST_CASE("FMI 3.0: every function of the standard, legal and illegal calls, under sanitizers and valgrind")
{
    Unit3 u(test::compile(kBall3), {.outputs = {"h"}}, true);
    test::Outcome functions = u.run("functions");
    CHECK_MESSAGE(functions.code == 0, functions.out);
    test::Outcome rules = u.run(fmt::format("rules 0.001 {} {} {}", u.states, u.indicators, u.references.at("h")));
    CHECK_MESSAGE(rules.code == 0, (rules.out + rules.err));
    CHECK(rules.err.find("fmi2") == std::string::npos);
    // what sanitizers do not see: numbers that were never set, memory that nobody gives back
    if (test::shell("which valgrind").code != 0) return;
    Unit3 plain(test::compile(kBall3), {.outputs = {"h"}});
    test::Outcome watched = test::shell("valgrind -q --error-exitcode=9 --leak-check=full " + (plain.scratch / "importer") + " " + plain.library + " '" +
                                        plain.root().attribute("instantiationToken").value() + "' " +
                                        fmt::format("rules 0.001 {} {} {}", plain.states, plain.indicators, plain.references.at("h")));
    CHECK_MESSAGE(watched.code == 0, watched.err);
}

TEST_CASE("FMI 3.0: a ball that bounces by formula, and the bridge as by FMI 2.0")
{
    Unit3 ball(test::compile(kBall3), {.outputs = {"h", "hits"}});
    std::vector<double> end =
        ball.last_row(fmt::format("me 0.01 1 {} {} {} {}", ball.states, ball.indicators, ball.references.at("h"), ball.references.at("hits")));
    REQUIRE(end.size() == 3);
    double fall = std::sqrt(2 / 9.81), v = 0.8 * 9.81 * fall, since = 1 - fall;
    CHECK(end[1] == doctest::Approx(v * since - 9.81 * since * since / 2).epsilon(1e-9));
    CHECK(end[2] == 1);
    nl::CompiledSystem system = bridge();
    Unit3 unit(system, {.outputs = {"leaf.angle"}});
    std::vector<double> three = unit.last_row("cs 0.001 2 " + unit.references.at("leaf.angle"));
    // the machine here, in the same steps
    nl::FixedStepOptions options;
    options.correct = true;
    nl::FixedStepRun direct(system, options, {}, {"leaf.angle"});
    direct.begin();
    for (int k = 0; k < 2000; ++k) direct.step();
    CHECK(three[1] == direct.output(0));
}

TEST_CASE("FMI 3.0: directional derivatives of rates, outputs and event indicators, by hand")
{
    Unit3 u(test::compile("system Cubic { input u = 0.3 ; var x init 0.4 ; var a ; a + a^3 = x + u ; x' * (1 s) = u - a * x ; let o = a * x\n"
                          "  memory n = 0 ; when a * x > 5 { n := n + 1 } ; let whole = floor(3 * x + u) }\n"),
            {.outputs = {"a", "o", "whole"}}, true);
    REQUIRE(u.indicators == 3);
    auto reference = [&](const char* name) { return " " + u.references.at(name); };
    std::vector<double> all =
        u.last_row("slopes 1" + reference("der(x)") + reference("a") + reference("o") + reference("whole") + reference("event_indicator_1") +
                   reference("event_indicator_2") + reference("event_indicator_3") + " by" + reference("x") + reference("u"));
    REQUIRE(all.size() == 14);
    // a of a + a^3 = 0.7, by Cardano
    double root = std::sqrt(0.35 * 0.35 + 1.0 / 27), a = std::cbrt(0.35 + root) + std::cbrt(0.35 - root), by = 1 / (1 + 3 * a * a), x = 0.4;
    std::vector<double> expected{-a - x * by, by, a + x * by, 0, 1 - x * by, by, x * by, 0};
    for (std::size_t k = 0; k < 4; ++k) {
        CHECK(std::abs(all[k] - expected[k]) < 1e-12);
        CHECK(std::abs(all[7 + k] - expected[4 + k]) < 1e-12);
    }
    // indicators: a x - 5 up to its sign, and twice the distance to a whole number
    std::multiset<long> by_x, by_u;
    for (std::size_t k = 4; k < 7; ++k) by_x.insert(std::lround(1e9 * std::abs(all[k]))), by_u.insert(std::lround(1e9 * std::abs(all[7 + k])));
    CHECK(by_x == std::multiset<long>{std::lround(1e9 * (a + x * by)), 3'000'000'000, 3'000'000'000});
    CHECK(by_u == std::multiset<long>{std::lround(1e9 * x * by), 1'000'000'000, 1'000'000'000});
}

TEST_SUITE_END();

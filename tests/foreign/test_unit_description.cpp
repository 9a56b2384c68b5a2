// SPDX-License-Identifier: Apache-2.0
// What units say of themselves, and archives that mean harm.
#include <doctest/doctest.h>

#include <random>

#include "foreign/unit_archive.hpp"
#include "foreign/unit_component.hpp"
#include "foreign/unit_description.hpp"
#include "foreign/unit_frames.hpp"
#include "foreign/units.hpp"

namespace nl = netloop;
namespace fs = std::filesystem;

TEST_SUITE_BEGIN("foreign");

namespace {

nl::ForeignDescription of(const std::string& name, const std::function<void(std::string&)>& change = {})
{
    std::string xml = test::read_file(test::source_path("tests/foreign/units/" + name + ".xml"));
    if (change) change(xml);
    return nl::read_foreign_description(xml);
}

std::string refused(const std::string& name, const std::string& text, const std::string& by)
{
    try {
        (void)of(name, test::with(text, by));
    } catch (const nl::UnitProblemFound& problem) {
        return problem.what();
    }
    return "";
}

// An archive of members as they are told, by another program than the one that reads them.
std::string archive(const test::Scratch& scratch, const std::string& script)
{
    std::string file = scratch / "hostile.fmu";
    test::write_file(scratch / "make.py", "import zipfile, stat\nz = zipfile.ZipFile('" + file + "', 'w', zipfile.ZIP_DEFLATED)\n" + script + "\nz.close()\n");
    test::Outcome made = test::shell("python3 " + (scratch / "make.py"));
    REQUIRE_MESSAGE(made.code == 0, made.err);
    return file;
}

std::string refused_archive(const std::string& file)
{
    try {
        nl::UnitFolder folder(file);
    } catch (const nl::UnitProblemFound& problem) {
        return problem.what();
    }
    return "";
}

bool says(const std::string& text, const std::string& what)
{
    return text.find(what) != std::string::npos;
}

}  // namespace

TEST_CASE("a description of FMI 2.0")
{
    nl::ForeignDescription d = of("ball");
    CHECK(d.version == 2);
    CHECK(d.is_exchange());
    CHECK_FALSE(d.is_cosimulation());
    CHECK_FALSE(d.wants_completed_steps);
    CHECK(d.n_indicators == 2);
    CHECK(d.states == std::vector<std::size_t>{0, 1});
    CHECK(d.derivatives == std::vector<std::size_t>{2, 3});
    CHECK(d.outputs == std::vector<std::size_t>{0, 8, 9, 11});
    const nl::ForeignVariable& h = d.variables[0];
    CHECK(h.unit.text == "mm");
    CHECK(h.factor == 1);
    CHECK(h.start == std::vector<double>{1});
    CHECK(d.variables[4].low == 0);
    CHECK(d.variables[4].high == 1);
    CHECK(d.variables[3].unit.dimension == d.variables[5].unit.dimension);
    CHECK(d.left_out == std::vector<std::string>{"text 'file'"});
    // a unit of measure with a factor: SI = 1000 kg
    nl::ForeignDescription tonnes = of("ball", test::with("\"kg\" start=\"2\"", "\"t\" start=\"0.002\""));
    CHECK(tonnes.variables[7].start[0] == doctest::Approx(2).epsilon(1e-15));
    CHECK(of("controller").variables[5].items == std::vector<std::string>{"proportional = 1", "with_integral = 2"});
    CHECK(*of("controller").step == 0.02);
    CHECK(of("controller").variables[0].unit.text == "deg");
}

TEST_CASE("a description of FMI 3.0")
{
    nl::ForeignDescription d = of("kinds");
    CHECK(d.version == 3);
    CHECK(d.is_exchange());
    CHECK(d.is_cosimulation());
    REQUIRE(d.states.size() == 1);
    CHECK(d.variables[d.states[0]].n_elements == 2);
    CHECK(d.variables[d.states[0]].start == std::vector<double>{1, 2});
    CHECK(d.variables[4].factor == 1e5);
    CHECK(d.variables[4].unit.text == "bar");
    CHECK(d.variables[7].type == nl::ForeignType::int8);
    CHECK(d.variables[7].start[0] == -8);
    CHECK(d.left_out == std::vector<std::string>{"text 'text'"});
    // an array whose size is a structural parameter
    nl::ForeignDescription sized = of("kinds", [](std::string& xml) {
        test::with("<Float64 name=\"time\"",
                   "<UInt64 name=\"n\" valueReference=\"99\" causality=\"structuralParameter\" start=\"2\"/><Float64 name=\"time\"")(xml);
        test::with("start=\"0 0\"><Dimension start=\"2\"/>", "start=\"0 0\"><Dimension valueReference=\"99\"/>")(xml);
    });
    CHECK(sized.variables[5].n_elements == 2);
}

TEST_CASE("every unit of measure and every name comes out as our language has it")
{
    nl::ForeignUnit unit;
    unit.file = "odd.fmu";
    std::string variables, units;
    struct Odd {
        const char *name, *unit, *base;
    };
    const Odd odd[] = {{"a b", "1/Pa", "kg=\"-1\" m=\"1\" s=\"2\""},
                       {"9lives", "W/(m2.K)", "kg=\"1\" s=\"-3\" K=\"-1\""},
                       {"der(x)", "1/(kg.K)", "kg=\"-1\" K=\"-1\""},
                       {"if", "furlong", "m=\"1\" factor=\"201.168\""},
                       {"valve.in[2]", "degC", "K=\"1\" offset=\"273.15\""},
                       {"Time", "rad/s", "rad=\"1\" s=\"-1\""},
                       {"##", "%", "factor=\"0.01\""},
                       {"x_y", "N.m", "kg=\"1\" m=\"2\" s=\"-2\""},
                       {"x-y", "m3/s", "m=\"3\" s=\"-1\""},
                       {"\"q\"", "1", ""}};
    int k = 0;
    for (const Odd& o : odd) {
        units += fmt::format("<Unit name=\"{}\"><BaseUnit {}/></Unit>", o.unit, o.base);
        std::string name = o.name == std::string("\"q\"") ? "&quot;q&quot;" : o.name;
        for (const char* causality : {"parameter", "input", "output"})
            variables += fmt::format(
                "<ScalarVariable name=\"{}{}\" valueReference=\"{}\" causality=\"{}\" description=\"with &#10; a line &quot;and&quot; # signs\"><Real "
                "unit=\"{}\"{}/></ScalarVariable>",
                name, causality[0], ++k, causality, o.unit, causality[0] == 'o' ? "" : " start=\"2.5\" min=\"0\" max=\"7\"");
    }
    unit.description = std::make_shared<const nl::ForeignDescription>(
        nl::read_foreign_description("<fmiModelDescription fmiVersion=\"2.0\" guid=\"g\"><CoSimulation modelIdentifier=\"odd\"/><UnitDefinitions>" + units +
                                     "</UnitDefinitions><ModelVariables>" + variables + "</ModelVariables><ModelStructure/></fmiModelDescription>"));
    std::string text = nl::unit_text(unit, nl::UnitKind::cosimulation, "Odd");
    nl::Library library = nl::Library::standard();
    library.load_text("odd.fmu", text);
    std::string said;
    for (const nl::Diagnostic& d : library.check(true)) said += d.severity == nl::Diagnostic::Severity::error ? d.rendered : "";
    CHECK_MESSAGE(said.empty(), (said + text));
    // start values in SI: 2.5 furlongs, 2.5 degC
    auto start_of = [&](const std::string& name) {
        for (const nl::ForeignVariable& v : unit.description->variables)
            if (v.name == name) return v.start.at(0);
        return 0.0;
    };
    CHECK(start_of("ifp") == doctest::Approx(502.92));
    CHECK(start_of("valve.in[2]p") == doctest::Approx(275.65));
    CHECK(start_of("##p") == doctest::Approx(0.025));
    CHECK(text.find("param valve_in_2_p : degC = 2.5 degC in 0 degC .. 7 degC") != std::string::npos);
    CHECK(text.find("param a_bp : 1/Pa = 2.5 Pa^-1") != std::string::npos);
    CHECK(text.find("called 'der(x)p' there") != std::string::npos);
    // a unit with nothing but inputs, one of them a length that jumps
    unit.description = std::make_shared<const nl::ForeignDescription>(
        nl::read_foreign_description("<fmiModelDescription fmiVersion=\"2.0\" guid=\"g\"><ModelExchange modelIdentifier=\"odd\"/><UnitDefinitions><Unit "
                                     "name=\"m\"><BaseUnit m=\"1\"/></Unit></UnitDefinitions>"
                                     "<ModelVariables><ScalarVariable name=\"u\" valueReference=\"1\" causality=\"input\" variability=\"discrete\"><Real "
                                     "unit=\"m\" start=\"0\"/></ScalarVariable></ModelVariables>"
                                     "<ModelStructure/></fmiModelDescription>"));
    nl::Library bare = nl::Library::standard();
    bare.load_text("bare.fmu", nl::unit_text(unit, nl::UnitKind::exchange, "Bare"));
    for (const nl::Diagnostic& d : bare.check()) CHECK_MESSAGE(d.severity != nl::Diagnostic::Severity::error, d.rendered);
    // the same again is known by another name
    CHECK(text.find("param x_yp_2 :") != std::string::npos);
}

TEST_CASE("whatever is changed in a description, it is refused or becomes components that our language takes")
{
    std::mt19937 random(20261201);
    auto below = [&](std::size_t n) { return std::uniform_int_distribution<std::size_t>(0, n - 1)(random); };
    const std::vector<std::string> instead{
        "1e300",  "-0",        "nan",   "inf",      "1e-320",       "",      "0",      "&quot;", "&lt;",     "&#10;", "true", "input",
        "output", "parameter", "local", "discrete", "continuous",   "fixed", "der(x)", "1/s",    "degC",     "m^2",   "kg",   "if",
        "_set",   "time",      "x",     "step",     "extrapolated", "[",     "}",      "# {",    "\xc3\xa9", "2",     "-5",   "3\" min=\"4\" max=\"2"};
    std::vector<std::string> texts;
    for (const char* name : {"ball", "oscillator", "controller", "faulty", "kinds"})
        texts.push_back(test::read_file(test::source_path(std::string("tests/foreign/units/") + name + ".xml")));
    std::size_t n_taken = 0;
    for (int k = 0; k < 3000; ++k) {
        std::string xml = texts[below(texts.size())];
        for (std::size_t changes = 1 + below(4); changes > 0; --changes) {  // the value of an attribute becomes another, or that of another
            std::vector<std::size_t> quotes;
            for (std::size_t i = 0; i < xml.size(); ++i)
                if (xml[i] == '"') quotes.push_back(i);
            std::size_t at = 2 * below(quotes.size() / 2), from = 2 * below(quotes.size() / 2);
            std::string by = below(3) == 0 ? xml.substr(quotes[from] + 1, quotes[from + 1] - quotes[from] - 1) : instead[below(instead.size())];
            xml.replace(quotes[at] + 1, quotes[at + 1] - quotes[at] - 1, by);
        }
        nl::ForeignUnit unit;
        unit.file = "unit.fmu";
        try {
            unit.description = std::make_shared<const nl::ForeignDescription>(nl::read_foreign_description(xml));
        } catch (const nl::UnitProblemFound&) {
            continue;
        }
        for (nl::UnitKind kind : {nl::UnitKind::exchange, nl::UnitKind::cosimulation}) {
            if (!(kind == nl::UnitKind::exchange ? unit.description->is_exchange() : unit.description->is_cosimulation())) continue;
            ++n_taken;
            std::string text = nl::unit_text(unit, kind, "Unit"), said;
            try {
                nl::Library library = nl::Library::standard();
                library.load_text("unit.fmu", text);
                for (const nl::Diagnostic& d : library.check()) said += d.severity == nl::Diagnostic::Severity::error ? d.rendered : "";
            } catch (const nl::ModelError& error) {
                said = error.what();
            }
            CHECK_MESSAGE(said.empty(), said);
        }
    }
    CHECK(n_taken > 300);
}

TEST_CASE("descriptions that cannot be used say why")
{
    CHECK(says(refused("ball", "fmiVersion=\"2.0\"", "fmiVersion=\"1.0\""), "FMI '1.0'; 2.0 and 3.0"));
    CHECK(says(refused("ball", "derivative=\"1\"", "derivative=\"77\""), "derivative of variable 77"));
    CHECK(says(refused("ball", " derivative=\"1\"", ""), "does not say of which"));
    CHECK(says(refused("ball", "<Unknown index=\"3\"/>", "<Unknown index=\"0\"/>"), "names variable 0"));
    CHECK(says(refused("ball", "<Unknown index=\"3\"/>", "<Unknown index=\"x\"/>"), "no whole number: 'x'"));
    CHECK(says(refused("ball", "start=\"9.81\"", "start=\"nine\""), "the start of 'g' of its description is no number"));
    CHECK(says(refused("ball", "name=\"wind\"", "name=\"mass\""), "called 'mass'"));
    CHECK(says(refused("ball", "name=\"wind\"", "name=\"\""), "has no name"));
    CHECK(says(refused("ball", "causality=\"input\"", "causality=\"inlet\""), "unknown word 'inlet'"));
    CHECK(says(refused("ball", "<Integer/>", "<Complex/>"), "no type that FMI 2.0 knows"));
    CHECK(says(refused("ball", "factor=\"1000\"/></Unit>\n    <Unit name=\"kg\"", "factor=\"0\"/></Unit>\n    <Unit name=\"kg\""), "factor 0"));
    CHECK(says(refused("ball", "<ModelExchange modelIdentifier=\"ball\"", "<Other x=\"1\""), "neither model exchange nor co-simulation"));
    CHECK(says(refused("ball", "modelIdentifier=\"ball\"", "modelIdentifier=\"../../bin/ball\""), "is a path"));
    CHECK(says(refused("ball", "</fmiModelDescription>", ""), "no XML"));
    CHECK(says(refused("kinds", "valueReference=\"5\" causality", "valueReference=\"4\" causality"), "the reference 4"));
    CHECK(says(refused("kinds", "ContinuousStateDerivative valueReference=\"2\"", "ContinuousStateDerivative valueReference=\"55\""), "the reference 55"));
    CHECK(says(refused("kinds", "start=\"1 2\"", "start=\"1 2 3\""), "2 elements and 3 start values"));
    CHECK(says(refused("kinds", "<Dimension start=\"2\"/></Float64>", "<Dimension start=\"4000000000\"/></Float64>"), "more than 100000 elements"));
    CHECK_THROWS_AS((void)nl::read_foreign_description(""), nl::UnitProblemFound);
    CHECK_THROWS_AS((void)nl::read_foreign_description("<html/>"), nl::UnitProblemFound);
    // entities that grow when they are expanded: they are not
    std::string bomb =
        "<?xml version=\"1.0\"?><!DOCTYPE b [<!ENTITY a \"aaaaaaaaaa\"><!ENTITY b \"&a;&a;&a;\">]><fmiModelDescription fmiVersion=\"2.0\" modelName=\"&b;\"/>";
    CHECK_THROWS_AS((void)nl::read_foreign_description(bomb), nl::UnitProblemFound);
}

TEST_CASE("archives lead nowhere but into a folder of their own")
{
    test::Scratch scratch;
    const std::string description = "z.write('" + test::source_path("tests/foreign/units/ball.xml") + "', 'modelDescription.xml')\n";
    CHECK(says(refused_archive(scratch / "none.fmu"), "no such file"));
    CHECK(says(refused_archive(scratch.path()), "no regular file"));
    test::write_file(scratch / "text.fmu", "this is no archive");
    CHECK(says(refused_archive(scratch / "text.fmu"), "no archive"));
    CHECK(says(refused_archive(archive(scratch, "z.writestr('readme.txt', 'x')")), "no modelDescription.xml"));
    CHECK(says(refused_archive(archive(scratch, description + "z.writestr('resources/../../../outside.txt', 'x')")), "leads out of it"));
    CHECK(says(refused_archive(archive(scratch, description + "z.writestr('/tmp/outside.txt', 'x')")), "absolute path"));
    CHECK(says(refused_archive(archive(scratch, description + "z.writestr('resources\\\\..\\\\outside.txt', 'x')")), "back stroke"));
    CHECK(says(
        refused_archive(archive(
            scratch,
            description +
                "i = zipfile.ZipInfo('resources/link')\ni.create_system = 3\ni.external_attr = (stat.S_IFLNK | 0o777) << 16\nz.writestr(i, '/etc/passwd')")),
        "no plain file"));
    CHECK(says(refused_archive(archive(scratch, description + "for k in range(20001): z.writestr('resources/%d' % k, '')")), "more than 20000 files"));
    CHECK_FALSE(fs::exists(fs::path(scratch.path()).parent_path() / "outside.txt"));
    // a damaged member
    std::string file = archive(scratch, description);
    std::string bytes = test::read_file(file);
    bytes[bytes.size() / 4] = static_cast<char>(bytes[bytes.size() / 4] ^ 0x55);
    test::write_file(file, bytes);
    CHECK_FALSE(refused_archive(file).empty());
    // every cut of a good one is refused or read, and nothing else
    bytes = test::read_file(archive(scratch, description));
    for (std::size_t n = 0; n < bytes.size(); n += 97) {
        test::write_file(scratch / "cut.fmu", bytes.substr(0, n));
        CHECK_FALSE(refused_archive(scratch / "cut.fmu").empty());
    }
    // gone with its last user
    std::string where;
    {
        nl::UnitFolder folder(archive(scratch, description));
        where = folder.path();
        CHECK(fs::exists(where + "/modelDescription.xml"));
        CHECK((fs::status(where).permissions() & (fs::perms::group_all | fs::perms::others_all)) == fs::perms::none);
        CHECK_THROWS_AS((void)nl::unit_binary(folder.path(), 2, "ball"), nl::UnitProblemFound);
    }
    CHECK_FALSE(fs::exists(where));
}

TEST_CASE("frames between a run and the process of a unit")
{
    nl::UnitFrame a{7, {{1, -0.0, 1e300}, {}, {2.5}}, "text"}, b;
    REQUIRE(b.read(a.bytes()));
    CHECK(b.head == 7);
    CHECK(b.lists == a.lists);
    CHECK(b.text == "text");
    std::string bytes = a.bytes();
    for (std::size_t n = 0; n < bytes.size(); ++n) CHECK_FALSE(b.read(bytes.substr(0, n)));
    CHECK_FALSE(b.read(bytes + "x"));
    // counts that are far beyond what follows ask for no memory
    bytes[1] = bytes[2] = bytes[3] = bytes[4] = '\xff';
    CHECK_FALSE(b.read(bytes));
}
TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>
#include <tuple>

#include "netloop/error.hpp"
#include "netloop/units.hpp"
#include "support/support.hpp"
#include "units/unit.hpp"

using namespace netloop;

namespace {
Unit unit(const std::string& text)
{
    Unit u;
    UnitProblem problem;
    INFO("unit '" << text << "': " << problem.text);
    REQUIRE(parse_unit(text, u, problem));
    return u;
}
UnitProblem problem(const std::string& text)
{
    Unit u;
    UnitProblem p;
    INFO("unit '" << text << "'");
    REQUIRE_FALSE(parse_unit(text, u, p));
    return p;
}
}  // namespace

TEST_SUITE_BEGIN("units");

TEST_CASE("scale of units against values from standards and handbooks")
{
    struct Row {
        const char* text;
        double scale;
        const char* si;
    };
    const Row rows[] = {{"mm", 1e-3, "m"},
                        {"inch", 0.0254, "m"},
                        {"ft", 0.3048, "m"},
                        {"mile", 1609.344, "m"},
                        {"L", 1e-3, "m^3"},
                        {"gal", 3.785411784e-3, "m^3"},
                        {"gal/min", 3.785411784e-3 / 60, "m^3/s"},
                        {"gpm", 3.785411784e-3 / 60, "m^3/s"},
                        {"L/min", 1e-3 / 60, "m^3/s"},
                        {"min", 60, "s"},
                        {"h", 3600, "s"},
                        {"day", 86400, "s"},
                        {"kHz", 1e3, "Hz"},
                        {"deg", M_PI / 180, "1"},
                        {"rev", 2 * M_PI, "1"},
                        {"rpm", 2 * M_PI / 60, "Hz"},
                        {"cm^3/rev", 1e-6 / (2 * M_PI), "m^3"},
                        {"%", 0.01, "1"},
                        {"ppm", 1e-6, "1"},
                        {"g", 1e-3, "kg"},
                        {"t", 1e3, "kg"},
                        {"lb", 0.45359237, "kg"},
                        {"kN", 1e3, "N"},
                        {"lbf", 4.4482216152605, "N"},
                        {"bar", 1e5, "Pa"},
                        {"mbar", 100, "Pa"},
                        {"MPa", 1e6, "Pa"},
                        {"psi", 6894.757293168, "Pa"},
                        {"atm", 101325, "Pa"},
                        {"cP", 1e-3, "Pa*s"},
                        {"cSt", 1e-6, "m^2/s"},
                        {"P", 0.1, "Pa*s"},
                        {"kWh", 3.6e6, "J"},
                        {"Ah", 3600, "C"},
                        {"hp", 745.699871582, "W"},
                        {"PS", 735.49875, "W"},
                        {"kW", 1e3, "W"},
                        {"BTU", 1055.05585262, "J"},
                        {"kcal", 4186.8, "J"},
                        {"V", 1, "V"},
                        {"mohm", 1e-3, "ohm"},
                        {"uF", 1e-6, "F"},
                        {"mH", 1e-3, "H"},
                        {"mA", 1e-3, "A"},
                        {"J/(kg*K)", 1, "J/(kg*K)"},
                        {"W/(m^2*K)", 1, "W/(m^2*K)"},
                        {"N*m/rad", 1, "J"},
                        {"1/K", 1, "1/K"},
                        {"s^-1", 1, "Hz"},
                        {"m^2.5/s", 1, "m^2.5/s"},
                        {"Pa^0.5", 1, "Pa^0.5"},
                        {"bar^(1/2)", std::sqrt(1e5), "Pa^0.5"},
                        {"km/h", 1 / 3.6, "m/s"},
                        {"knot", 1852.0 / 3600, "m/s"}};
    for (const Row& row : rows) {
        Unit u = unit(row.text);
        INFO("unit '" << row.text << "' has scale " << u.scale);
        CHECK(u.scale == doctest::Approx(row.scale).epsilon(1e-10));
        CHECK(u.dimension == unit(row.si).dimension);
    }
}

TEST_CASE("units with an offset")
{
    CHECK(unit("degC").to_si(20) == doctest::Approx(293.15).epsilon(1e-14));
    CHECK(unit("degC").to_si(-20) == doctest::Approx(253.15).epsilon(1e-14));
    CHECK(unit("degF").to_si(212) == doctest::Approx(373.15).epsilon(1e-12));
    CHECK(unit("degF").to_si(-40) == doctest::Approx(unit("degC").to_si(-40)).epsilon(1e-12));
    CHECK(unit("barg").to_si(0) == doctest::Approx(101325));
    CHECK(unit("psig").to_si(0) == doctest::Approx(101325).epsilon(1e-9));
    CHECK(unit("degC").from_si(293.15) == doctest::Approx(20));
    CHECK(unit("degC").difference().text == "K");
    CHECK(unit("barg").difference().text == "bar");
    CHECK(unit("bar").difference().text == "bar");
    // inside a compound unit degC counts as K, a gauge pressure means nothing
    CHECK(unit("W/degC").scale == 1);
    CHECK(unit("W/degC").dimension == unit("W/K").dimension);
    CHECK_FALSE(unit("J/(kg*degC)").has_offset);
    CHECK(problem("barg/s").text.find("gauge") != std::string::npos);
    CHECK(problem("m*psig").text.find("gauge") != std::string::npos);
}

TEST_CASE("a conversion there and back gives the same number")
{
    for (const NamedUnit& row : named_units()) {
        const std::string& name = row.unit.text;
        Unit u = unit(name);
        INFO("unit '" << name << "'");
        CHECK(u.scale > 0);
        CHECK(u.from_si(u.to_si(12.5)) == doctest::Approx(12.5).epsilon(1e-12));
    }
}

TEST_CASE("every SI prefix on every unit that takes them: by the powers of ten of the SI brochure")
{
    const std::pair<const char*, double> prefixes[] = {{"q", 1e-30}, {"r", 1e-27}, {"y", 1e-24}, {"z", 1e-21}, {"a", 1e-18}, {"f", 1e-15},
                                                       {"p", 1e-12}, {"n", 1e-9},  {"u", 1e-6},  {"m", 1e-3},  {"c", 1e-2},  {"d", 1e-1},
                                                       {"da", 1e1},  {"h", 1e2},   {"k", 1e3},   {"M", 1e6},   {"G", 1e9},   {"T", 1e12},
                                                       {"P", 1e15},  {"E", 1e18},  {"Z", 1e21},  {"Y", 1e24},  {"R", 1e27},  {"Q", 1e30}};
    int made = 0;
    for (const NamedUnit& row : named_units()) {
        if (!row.prefixes) continue;
        for (auto [prefix, power] : prefixes) {
            std::string name = prefix + row.unit.text;
            INFO(name);
            bool own = std::any_of(named_units().begin(), named_units().end(), [&](const NamedUnit& other) { return other.unit.text == name; });
            if (own) continue;  // PS, cd, kg ... are names themselves
            CHECK(unit(name).scale == doctest::Approx(power * row.unit.scale).epsilon(1e-15));
            CHECK(unit(name).dimension == row.unit.dimension);
            ++made;
        }
    }
    CHECK(made > 700);
    for (const char* si :
         {"m", "g", "s", "A", "K", "mol", "cd", "Hz", "N", "Pa", "J", "W", "C", "V", "F", "ohm", "S", "Wb", "T", "H", "lm", "lx", "rad", "sr"}) {
        INFO(si);
        CHECK(std::any_of(named_units().begin(), named_units().end(), [&](const NamedUnit& row) { return row.unit.text == si && row.prefixes; }));
    }
    CHECK(unit("PS").scale == doctest::Approx(735.49875));
    CHECK(unit("min").scale == 60);
    CHECK(unit("kg").scale == 1);
    for (const char* none : {"kinch", "kdegC", "kmin", "k%", "kk", "mkm", "kbarg"}) {
        INFO(none);
        Unit made_of;
        UnitProblem why;
        CHECK_FALSE(parse_unit(none, made_of, why));
    }
}

TEST_CASE("the spellings that engineers type work, or are answered with the right one")
{
    for (const char* works :
         {"L/min", "m^3/h", "um", "nA", "TPa", "kohm", "%", "degC", "cSt", "rev/min", "hPa", "VA", "mbar", "kN/mm", "daN", "kWh", "gon", "1/s", "mT", "GW"}) {
        INFO(works);
        CHECK(unit(works).scale > 0);
    }
    const std::pair<const char*, const char*> answers[] = {
        {"m3/h", "m^3"}, {"kg/m3", "m^3"}, {"mm2", "mm^2"}, {"m/s2", "s^2"}, {"mNm", "mN*m"},  {"Ncm", "N*cm"}, {"Ws", "W*s"},
        {"mWs", "mW*s"}, {"Nms", "N*ms"},  {"l/min", "L"},  {"ml", "mL"},    {"KW", "kW"},     {"hz", "Hz"},    {"mpa", "mPa' or 'MPa"},
        {"d", "day"},    {"U/min", "rev"}, {"bara", "bar"}, {"psia", "psi"}, {"rps", "rev/s"}, {"cst", "cSt"},  {"at", "kgf/cm^2"}};
    for (auto [written, here] : answers) {
        INFO(written);
        CHECK(problem(written).hint == "did you mean '" + std::string(here) + "'?");
    }
    CHECK(problem("Nl/min").hint.find("mass flow") != std::string::npos);
    CHECK(problem("dB").hint.find("10^(x/20)") != std::string::npos);
    for (auto [text, mend] : {std::pair{"µm", "write u"}, {"kΩ", "write ohm"}, {"°C", "degC"}, {"m²", "write ^2"}, {"m³/h", "write ^3"}}) {
        INFO(text);
        CHECK(test::messages_of("system S {\n param x : " + std::string(text) + " = 0\n var y init 0 ; y' = 0 }").find(mend) != std::string::npos);
    }
}

TEST_CASE("what turns is shown in rad/s, what comes again in 1/s, and nothing in Hz that does not say so")
{
    Recording r = test::simulate(
        "system S { var angle : rad init 0 rad ; angle' = 2 rad/s ; var way : deg init 0 deg ; way' = 3 deg/s ; let w = angle' ; let a = angle'' ; let v = "
        "way' ; let f = 1 / (3 s)\n"
        "let n : Hz = f ; var x : 1 init 1 ; x' = -x / (2 s) ; let fall = x' }",
        1);
    for (auto [name, shown] : {std::pair{"w", "rad/s"}, {"a", "rad/s^2"}, {"v", "deg/s"}, {"f", "1/s"}, {"n", "Hz"}, {"fall", "1/s"}}) {
        INFO(name);
        CHECK(r[name].unit == shown);
    }
    CHECK(r["v"].in("deg/s").final() == doctest::Approx(3));
}

TEST_CASE("the table of units: all, of a quantity, of a dimension, and nothing")
{
    CHECK(units().size() == named_units().size());
    std::vector<UnitEntry> pressure = units("pressure");
    CHECK(std::any_of(pressure.begin(), pressure.end(),
                      [](const UnitEntry& u) { return u.name == "barg" && u.offset == doctest::Approx(101325) && u.si == "Pa"; }));
    CHECK(std::all_of(pressure.begin(), pressure.end(), [](const UnitEntry& u) { return u.quantity == "pressure"; }));
    std::vector<UnitEntry> torque = units("kN*m");
    REQUIRE(torque.size() > 3);
    CHECK(torque[0].name == "kN*m");
    CHECK(torque[0].scale == 1000);
    CHECK(std::any_of(torque.begin(), torque.end(), [](const UnitEntry& u) { return u.name == "kcal" || u.name == "Wh"; }));
    std::vector<UnitEntry> angle = units("deg");
    CHECK(std::none_of(angle.begin(), angle.end(), [](const UnitEntry& u) { return u.name == "%"; }));
    CHECK_THROWS_WITH_AS(units("Nm"), doctest::Contains("'N*m'"), UsageError);
    CHECK_THROWS_WITH_AS(units("warp"), doctest::Contains("no unit"), UsageError);
    CHECK(units_page() == test::read_file(test::source_path("docs/units.md")));
}

TEST_CASE("faulty units are refused with the faulty part and a suggestion")
{
    struct Row {
        const char* text;
        const char* hint;
    };
    const Row suggestions[] = {{"Nm", "N*m"},   {"l", "L"},     {"sec", "s"},   {"kNm", "kN*m"}, {"Bar", "bar"},
                               {"barr", "bar"}, {"RPM", "rpm"}, {"Ohm", "ohm"}, {"lpm", "L/min"}};
    for (const Row& row : suggestions) {
        INFO("unit '" << row.text << "'");
        CHECK(problem(row.text).hint == "did you mean '" + std::string(row.hint) + "'?");
    }
    UnitProblem p = problem("kg*foo/s");
    CHECK(p.text == "unknown unit 'foo'");
    CHECK(p.begin == 3);
    CHECK(p.end == 6);
    for (const char* text :
         {"", "m^", "m^^2", "m^x", "(m", "m)", "m**2", "m/", "*m", "m^1000", "m^0.123456", "((((((((((((((((((((((((((((((((((((m", "2", "m 2", "m^(1/0)"})
        problem(text);
    problem(std::string(300, 'm'));
}

TEST_CASE("dimensions are written as a trade writes them")
{
    for (const char* text : {"N", "Pa", "W", "J", "V", "ohm", "1", "m/s", "kg/m^3", "W/K"}) CHECK(unit(text).dimension.text() == text);
    CHECK(unit("bar*L").dimension.text() == "J");
    CHECK(unit("kg/(s*Pa)").dimension == unit("m*s").dimension);
    CHECK(unit("mol/(m^3*s)").dimension.text() == "mol/(m^3*s)");
    CHECK(unit("m^2.5/s").dimension.text() == "m^2.5/s");
    CHECK((unit("Pa").dimension / unit("Pa").dimension).dimensionless());
    CHECK(unit("m").dimension.power(Rational(1, 2)).power(2) == unit("m").dimension);
}

TEST_CASE("fractions")
{
    CHECK(Rational(2, 4) == Rational(1, 2));
    CHECK(Rational(1, -2) == Rational(-1, 2));
    CHECK(Rational(1, 3) + Rational(1, 6) == Rational(1, 2));
    CHECK(Rational::from(0.4) == Rational(2, 5));
    CHECK(Rational::from(1.0 / 3.0) == Rational(1, 3));
    CHECK_FALSE(Rational::from(0.1234567).has_value());
    CHECK_FALSE(Rational::from(std::nan("")).has_value());
}

TEST_CASE("the unit of a rate is that of the quantity, a second")
{
    for (auto [unit, rate, scale] : {std::tuple{"deg", "deg/s", 0.017453292519943295},
                                     {"m", "m/s", 1.0},
                                     {"m/s", "m/s^2", 1.0},
                                     {"mm/s^2", "mm/s^3", 1e-3},
                                     {"degC", "K/s", 1.0},
                                     {"bar", "bar/s", 1e5},
                                     {"L/min", "L/min/s", 1e-3 / 60},
                                     {"1", "1/s", 1.0},
                                     {"kg/m^3", "kg/m^3/s", 1.0},
                                     {"barg", "bar/s", 1e5}}) {
        INFO(unit);
        Unit of;
        UnitProblem problem;
        REQUIRE(parse_unit(unit, of, problem));
        Unit made = of.rate();
        CHECK(made.text == rate);
        CHECK(made.scale == doctest::Approx(scale).epsilon(1e-14));
        CHECK(made.dimension == of.dimension / Dimension::base(2));
        CHECK(made.offset == 0);
    }
}

TEST_SUITE_END();

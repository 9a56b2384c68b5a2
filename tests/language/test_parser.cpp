// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include "language/lexer.hpp"
#include "language/parser.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

struct Parsed {
    SourceSet sources;
    Diagnostics diagnostics;
    SyntaxFile file;
    explicit Parsed(const std::string& text)
    {
        std::uint32_t id = sources.add("test.loop", text);
        file = parse_file(sources, id, diagnostics);
    }
    std::string errors() const
    {
        std::string all;
        for (const auto& d : diagnostics.items()) all += render(d, sources);
        return all;
    }
};

// the value of `let x = TEXT`, written out again by the printer
std::string reprinted(const std::string& text)
{
    Parsed p("const x = " + text + "\n");
    INFO(p.errors());
    REQUIRE(p.file.statements.size() == 1);
    REQUIRE_FALSE(p.diagnostics.has_errors());
    return text_of(*p.file.statements[0]->as<QuantityDecl>()->value);
}

const ComponentDecl& component(const Parsed& p, std::size_t i = 0)
{
    REQUIRE(p.file.statements.size() > i);
    const auto* c = p.file.statements[i]->as<ComponentDecl>();
    REQUIRE(c != nullptr);
    return *c;
}

}  // namespace

TEST_SUITE_BEGIN("language");

TEST_CASE("precedence: tightest is ', then ^ to the right, sign, * /, + -, comparison, not, and, or, if")
{
    struct Row {
        const char* text;
        const char* bracketed;
    };
    const Row rows[] = {{"a + b * c", "a + b*c"},
                        {"(a + b) * c", "(a + b)*c"},
                        {"a^b^c", "a^b^c"},
                        {"(a^b)^c", "(a^b)^c"},
                        {"-a^2", "-a^2"},
                        {"(-a)^2", "(-a)^2"},
                        {"a^-1", "a^(-1)"},
                        {"a - b - c", "a - b - c"},
                        {"a - (b - c)", "a - (b - c)"},
                        {"a / b * c", "a/b*c"},
                        {"a / (b * c)", "a/(b*c)"},
                        {"x' * y''", "x'*y''"},
                        {"(x + y)'", "(x + y)'"},
                        {"not a < b and c or d", "not a < b and c or d"},
                        {"not (a and b)", "not (a and b)"},
                        {"if a < b then c else if d then e else f", "if a < b then c else if d then e else f"},
                        {"(if a then b else c) + 1", "(if a then b else c) + 1"},
                        {"f(a, -b) + g()", "f(a, -b) + g()"},
                        {"sum(T[i]^2 for i in 1 .. n)", "sum(T[i]^2 for i in 1 .. n)"},
                        {"a.b[2].c[i + 1]", "a.b[2].c[i + 1]"},
                        {"[1, 2, 3]", "[1, 2, 3]"},
                        {"duty is opening", "duty is opening"},
                        {"roots(a, b).lo", "roots(a, b).lo"},
                        {"max(x from 1 s to 2 s)", "max(x from 1 s to 2 s)"},
                        {"first(time when a > b)", "first(time when a > b)"}};
    for (const Row& row : rows) {
        INFO("'" << row.text << "'");
        CHECK(reprinted(row.text) == row.bracketed);
    }
}

TEST_CASE("a name right after a number is its unit, over * / ^ only where there is no space")
{
    CHECK(reprinted("3 mm^2") == "3 mm^2");
    CHECK(reprinted("2 m/s") == "2 m/s");
    CHECK(reprinted("2 m / t") == "(2 m)/t");  // a length divided by t
    CHECK(reprinted("(2 m)^2") == "(2 m)^2");
    CHECK(reprinted("x / (2 m) * y") == "x/(2 m)*y");
    CHECK(reprinted("2 * 3 mm") == "2*3 mm");
    Parsed p("const a = 2 m / t\nconst b = 2 m/s\nconst c = 16 cm^3/rev\nconst d = 4180 J/(kg*K)\nconst e = 30 %\nconst f = 5 s^-1\nconst g = -20 degC\n");
    INFO(p.errors());
    REQUIRE(p.file.statements.size() == 7);
    auto value = [&](std::size_t i) { return p.file.statements[i]->as<QuantityDecl>()->value; };
    CHECK(value(0)->kind == ExprKind::chain);
    CHECK(value(1)->kind == ExprKind::number);
    CHECK(value(2)->number == doctest::Approx(16e-6 / 6.283185307179586));
    CHECK(value(3)->number == 4180);
    CHECK(value(4)->number == doctest::Approx(0.3));
    CHECK(value(5)->number == 5);
    CHECK(value(6)->number == doctest::Approx(253.15));
    // a word that the grammar allows there is no unit; the inch is `inch`
    Parsed q("component A {\n var x guess 3 init 2\n var y : m init 2 m usual 3 m\n param z = 1 in 0 .. 2\n let w = if y > 2 m then 3 else 4\n}\n");
    INFO(q.errors());
    CHECK_FALSE(q.diagnostics.has_errors());
}

TEST_CASE("statements end at the end of their line, or go on where an operator stands")
{
    Parsed p(
        "component A {\n a = b +\n  c\n a = b\n  + c\n a = f(b,\n  c)\n a -- b\n  -- c\n x -> y,\n z\n d = if q then 1\n  else 2 # behind\n # comment "
        "between\n e = g # x\n  # comment does not break\n  * h ; i = j\n}\n");
    INFO(p.errors());
    CHECK_FALSE(p.diagnostics.has_errors());
    CHECK(component(p).body.size() == 8);
}

TEST_CASE("words that are not reserved are plain names where they are used as such")
{
    Parsed p("component A {\n input = 3\n stop.x = 2\n table(2) = x\n a.when = b.every\n sequence' = 1\n output -> a.b\n slot -- fluid\n port p : d\n}\n");
    INFO(p.errors());
    CHECK_FALSE(p.diagnostics.has_errors());
    CHECK(component(p).body.size() == 8);
}

TEST_CASE("all declarations of a component")
{
    Parsed p(R"(## Doc of A.
component A : Base, lib.Other(x = 3 mm, y.z = 2) {
    param  bore : mm = 80 mm in 10 mm .. 500 mm   ## piston diameter
    param  load : kg
    option leakage = false
    option law : {laminar, turbulent} = turbulent
    const  g : m/s^2 = 9.80665 m/s^2
    let    push : kN = area * p
    var    x : mm init 0 mm
    var    p : bar guess 20 bar
    var    q : L/min usual 10 L/min
    input  command : 1 = 0
    output force : kN
    memory count = 0
    var    T[n] : degC init 20 degC
    param  h[n] : m = [1 m, 2 m]
    input  on : bool = true
    memory k : int = 0
    port a, b : hydraulic(oil) needed
    part r1, r2 : Resistor(resistance = 3 ohm)
    part cell[i in 1 .. n] : Wall(start = profile(i / n))
    part w[n] : Wall
    slot drive : RotarySource = FixedSpeed(speed = 1450 rpm)
    fluid iso46 = MineralOil(grade = 46 cSt)
    joint supply = pump.outlet -- relief.inlet
    supply -- gauge.port
    a.y -> b.u, c.u
    init x' = 0
    guess p = 3 bar
    if leakage { q = 1 } else { q = 2 }
    for i in 1 .. n-1 { T[i]' = T[i+1] - T[i] ; x = 2 }
    when level > 2.4 m { pump_on := true }
    when start { count := 0 }
    every 10 ms { e := e + 1 ; drive := clamp(e, -1, 1) }
    every T from t0 { a := previous(b) }
    when p > 400 bar { stop "burst" }
    when p > 300 bar { warn "high" ; fail "too high" }
})");
    INFO(p.errors());
    REQUIRE_FALSE(p.diagnostics.has_errors());
    const ComponentDecl& c = component(p);
    CHECK(p.file.statements[0]->doc == "Doc of A.");
    REQUIRE(c.takes.size() == 2);
    CHECK(c.takes[1].values.size() == 2);
    const auto* bore = c.body[0]->as<QuantityDecl>();
    REQUIRE(bore != nullptr);
    CHECK(c.body[0]->doc == "piston diameter");
    CHECK(bore->unit->text == "mm");
    CHECK(bore->low->number == doctest::Approx(0.01));
    CHECK(c.body[3]->as<QuantityDecl>()->choices.size() == 2);
    auto count = [&](auto* tag) {
        int n = 0;
        for (const Statement* s : c.body) n += s->as<std::remove_pointer_t<decltype(tag)>>() != nullptr ? 1 : 0;
        return n;
    };
    CHECK(count(static_cast<PortDecl*>(nullptr)) == 2);
    CHECK(count(static_cast<PartDecl*>(nullptr)) == 4);
    CHECK(count(static_cast<SlotDecl*>(nullptr)) == 1);
    CHECK(count(static_cast<FluidUseDecl*>(nullptr)) == 1);
    CHECK(count(static_cast<JointDecl*>(nullptr)) == 2);
    CHECK(count(static_cast<WhenDecl*>(nullptr)) == 4);
    CHECK(count(static_cast<EveryDecl*>(nullptr)) == 2);
    CHECK(count(static_cast<ForDecl*>(nullptr)) == 1);
}

TEST_CASE("sequences, functions, tables, domains, fluids")
{
    Parsed p(R"(
domain hydraulic {
    fluid    oil : liquid                        ## what the circuit is filled with
    carried  h : J/kg along m if oil.thermal
    shared   p : Pa
    zero_sum m : kg/s
}
component S {
    sequence duty {
        param wait : s = 60 s
        stage closed   { }
            -> opening when open_button
        stage opening  { pump = 100 % ; valve = 1 }
            -> open    when leaf.angle > 82 deg
            -> fault   after 90 s
        stage open     { start { count := count + 1 } pump = 0 % }
            -> closed after wait
        otherwise      { pump = 0 % ; valve = 0 }
    }
}
function reynolds(v : m/s, d : m, nu : m^2/s) -> 1 { return abs(v) * d / nu }
function roots(a, b, c) -> (lo, hi) {
    let s = sqrt(b^2 - 4*a*c)
    lo := (-b - s) / (2*a)
    hi := (-b + s) / (2*a)
    if s > 0 { lo := 1 } else if s < -1 { hi := 2 }
    while s > 1 { s := s / 2 }
    for i in 1 .. 3 { s := s + i }
}
table crack(dp : bar) -> L/min { 0: 0, 180: 1, 190: 40, 200: 95 } smooth, hold
table torque(speed : rpm, throttle : 1) -> N*m {
         |  0    0.5    1
     800 |  0    60    110
    -40  |  0    90    160
} linear, hold
table losses(speed : rpm, torque : N*m) -> W from "maps/drive.csv" linear, extend
base fluid liquid {
    option thermal = false
    function density(p : Pa, T : K) -> kg/m^3
}
fluid MineralOil : liquid {
    param grade : cSt = 46 cSt
    function density(p : Pa, T : K) -> kg/m^3 { return 870 kg/m^3 }
}
)");
    INFO(p.errors());
    REQUIRE_FALSE(p.diagnostics.has_errors());
    REQUIRE(p.file.statements.size() == 9);
    const auto* domain = p.file.statements[0]->as<DomainDecl>();
    CHECK(domain->members.size() == 4);
    CHECK(domain->members[1].along == "m");
    CHECK(domain->members[0].doc == "what the circuit is filled with");
    const auto* sequence = component(p, 1).body[0]->as<SequenceDecl>();
    REQUIRE(sequence->stages.size() == 4);
    CHECK(sequence->stages[1].transitions.size() == 2);
    CHECK(sequence->stages[1].transitions[1].after != nullptr);
    CHECK(sequence->stages[2].on_entry.size() == 1);
    CHECK(sequence->stages[3].otherwise);
    CHECK(p.file.statements[3]->as<FunctionDecl>()->results.size() == 2);
    const auto* torque = p.file.statements[5]->as<TableDecl>();
    CHECK(torque->knots[0] == std::vector<double>{800, -40});
    CHECK(torque->knots[1] == std::vector<double>{0, 0.5, 1});
    CHECK(torque->values.size() == 6);
    CHECK(p.file.statements[6]->as<TableDecl>()->file == "maps/drive.csv");
    CHECK_FALSE(p.file.statements[7]->as<FluidDecl>()->body[1]->as<FunctionDecl>()->body.has_value());
}

TEST_CASE("scenarios with every item")
{
    Parsed p(R"(
use hydraulics, mechanics
use "parts/valves.loop"
use "parts/" as own
use hydraulics.Orifice
scenario storm_lift of LeafDrive {
    ## Full lift against a gust.
    set wind.speed = 18 m/s, duty.wait = 20 s
    put drive = Diesel(power = 45 kW)
    stop at 180 s
    output every 50 ms
    output 1201 points
    output at 0 s, 1 s, 2.5 s
    tolerance 1e-6
    begin steady except rotor.angle
    begin from "run.h5" at 20 s
    init leaf.angle = 2 deg ; guess cylinder.head.p = 40 bar
    find burner.fuel so that outlet.T = 640 degC
    keep pump.*, cylinder.x, cylinder.*.p, leaf.angle'
    measure lift_time = first(time when leaf.angle > 80 deg)
    measure peak      = max(pump.outlet.p from 5 s to 60 s)
    require peak < 210 bar         "the relief never lets the pump past 210 bar"
    require lift_time < 75 s
    figure "Lift" {
        leaf.angle : deg
        pump.outlet.p, cylinder.head.p : bar
        leaf.speed against leaf.angle
    }
}
scenario gust from storm_lift { set wind.speed = 25 m/s }
)");
    INFO(p.errors());
    REQUIRE_FALSE(p.diagnostics.has_errors());
    REQUIRE(p.file.statements.size() == 6);
    const auto* storm = p.file.statements[4]->as<ScenarioDecl>();
    REQUIRE(storm != nullptr);
    CHECK(p.file.statements[4]->doc == "Full lift against a gust.");
    CHECK(storm->items.size() == 18);
    CHECK(storm->items[12]->as<KeepItem>()->patterns == std::vector<std::string>{"pump.*", "cylinder.x", "cylinder.*.p", "leaf.angle'"});
    CHECK(storm->items[17]->as<FigureItem>()->panels.size() == 3);
    CHECK(p.file.statements[5]->as<ScenarioDecl>()->from == "storm_lift");
}

TEST_CASE("one error does not hide the next: each faulty statement is reported at its place")
{
    Parsed p(
        "component A {\n param = 3\n x = = 2\n var y : furlongg\n good = 1\n part : B\n z = (1 + 2\n also = 2\n}\ncomponent B { x = }\nsystm C { }\nconst k = "
        "3\n");
    std::vector<unsigned> lines;
    for (const auto& d : p.diagnostics.items()) lines.push_back(p.sources.position(d.span).line);
    INFO(p.errors());
    for (unsigned wanted : {2u, 3u, 4u, 6u, 10u, 11u}) CHECK(std::find(lines.begin(), lines.end(), wanted) != lines.end());
    // what is sound is still read
    CHECK(p.file.statements.size() >= 2);
    bool found = false;
    for (const Statement* s : p.file.statements)
        if (const auto* q = s->as<QuantityDecl>()) found |= q->name == "k";
    CHECK(found);
}

TEST_CASE("the second equals sign is told as what it is")
{
    Parsed p("component A {\n a = b\n -c = d\n}\n");
    REQUIRE(p.diagnostics.items().size() == 1);
    CHECK(p.diagnostics.items()[0].id == "second-equals");
    CHECK(p.diagnostics.items()[0].hint.find("brackets") != std::string::npos);
}

TEST_CASE("a literal with a unit as a divisor gets a warning")
{
    Parsed p("const a = 1/3 s\nconst b = pi/3 deg\nconst c = x/3 s\nconst d = 1/(3 s)\n");
    CHECK(p.diagnostics.items().size() == 2);
    CHECK_FALSE(p.diagnostics.has_errors());
}

TEST_CASE("hostile input is refused with a message and no harm")
{
    for (const std::string& text :
         {std::string("\0binary", 7), std::string("\xff\xfe\x00", 3), std::string("component A {"), std::string("}}}}}"), std::string("\"open"),
          std::string(100000, '('), "const a = " + std::string(5000, '-') + "1", "component A { " + std::string(3000, '{'),
          std::string("table t(x) -> 1 { 1: "), std::string("const a = 1e999"), std::string("const a = 3 m^99"), "const a = " + [] {
              std::string s;
              for (int i = 0; i < 2000; ++i) s += "if true then ";
              return s;
          }()}) {
        Parsed p(text);
        CHECK(p.diagnostics.has_errors());
    }
    std::string chain = "const a = 1";
    for (int i = 0; i < 20000; ++i) chain += " + 1";
    CHECK_FALSE(Parsed(chain + "\n").diagnostics.has_errors());
}

TEST_CASE("a file cut off anywhere is read without harm")
{
    std::string text = test::read_file(test::source_path("examples/bascule/machine.loop"));
    REQUIRE(text.size() > 3000);
    for (std::size_t n = 0; n < text.size(); n += 37) Parsed p(text.substr(0, n));
    CHECK_FALSE(Parsed(text).diagnostics.has_errors());
}

TEST_CASE("reserved words cannot be names")
{
    for (const char* word :
         {"component", "system", "part", "port",  "joint",    "param",  "option", "const", "let", "var", "memory", "init", "guess", "if",   "then", "else",
          "for",       "in",     "when", "every", "function", "return", "while",  "and",   "or",  "not", "is",     "true", "false", "time", "pi"}) {
        INFO(word);
        CHECK(is_reserved(word));
        CHECK(Parsed("component A { var " + std::string(word) + " : m }\n").diagnostics.has_errors());
    }
    for (const char* word : {"input", "output", "stage", "table", "fluid", "stop", "use", "base"}) CHECK_FALSE(is_reserved(word));
}

TEST_CASE("an unknown with an equals sign in its declaration is told what to write")
{
    CHECK(test::errors_of("system S {\n var x : m = 3 m\n}") == std::vector<std::string>{"expected-end:2"});
    CHECK(test::messages_of("component C {\n output y : 1 = 3\n}\nsystem S { part c : C }").find("let y = ...") != std::string::npos);
    // a bracket that begins a line begins a statement
    CHECK(test::messages_of("component C { input u : 1 = 0 }\nsystem S {\n part c : C\n (2 - 1) -> c.u\n}").empty());
}

TEST_CASE("a quantity that was taken for the end of a unit: the message says to leave a space")
{
    for (auto [text, sign] : {std::pair{"system S { var x : bar\n x = 5 bar*time/(1 s) }", "'*'"}, {"system S { var q ; q = 0 ; var x\n x = 5 m/q }", "'/'"}}) {
        INFO(text);
        CHECK(test::messages_of(text).find(std::string("is a quantity, leave a space on both sides of ") + sign) != std::string::npos);
    }
    std::string plain = test::messages_of("system S { var x : baar\n x = 0 }");  // no operator before it
    CHECK(plain.find("unknown unit 'baar'") != std::string::npos);
    CHECK(plain.find("leave a space") == std::string::npos);
}

TEST_SUITE_END();

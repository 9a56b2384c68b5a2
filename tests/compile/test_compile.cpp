// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <random>
#include <set>

#include "api/internal.hpp"
#include "compile/matching.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

Adjacency adjacency(const std::vector<std::vector<std::uint32_t>>& rows)
{
    Adjacency a;
    for (const auto& r : rows) a.add_row(r);
    return a;
}

// the size of the best matching, by trying everything (small graphs)
std::uint32_t best_matching(const std::vector<std::vector<std::uint32_t>>& rows, std::size_t at, std::set<std::uint32_t>& used)
{
    if (at == rows.size()) return 0;
    std::uint32_t best = best_matching(rows, at + 1, used);
    for (std::uint32_t c : rows[at]) {
        if (used.contains(c)) continue;
        used.insert(c);
        best = std::max(best, 1 + best_matching(rows, at + 1, used));
        used.erase(c);
    }
    return best;
}

const CompiledModel& model_of(const CompiledSystem& s)
{
    return *s.data().model;
}

}  // namespace

TEST_SUITE_BEGIN("compile");

TEST_CASE("the matching is as large as any")
{
    std::mt19937 random(7);
    for (int round = 0; round < 300; ++round) {
        std::vector<std::vector<std::uint32_t>> rows(1 + random() % 7);
        for (auto& r : rows)
            for (std::uint32_t c = 0; c < 7; ++c)
                if (random() % 3 == 0) r.push_back(c);
        Matching m = maximum_matching(adjacency(rows), 7);
        std::set<std::uint32_t> used;
        INFO("round " << round);
        CHECK(m.size == best_matching(rows, 0, used));
        for (std::uint32_t r = 0; r < rows.size(); ++r) {
            if (m.column_of_row[r] == kUnmatched) continue;
            CHECK(m.row_of_column[m.column_of_row[r]] == r);
            CHECK(std::find(rows[r].begin(), rows[r].end(), m.column_of_row[r]) != rows[r].end());
        }
    }
}

TEST_CASE("the over- and under-determined sets are the smallest ones")
{
    // rows 0 and 1 both want column 0; row 2 is apart
    Adjacency over = adjacency({{0}, {0}, {1, 2}});
    Matching m = maximum_matching(over, 3);
    std::uint32_t free = m.column_of_row[0] == kUnmatched ? 0 : 1;
    AlternatingSet set = alternating_from_row(over, m, free);
    CHECK(set.rows.size() == 2);
    CHECK(set.columns == std::vector<std::uint32_t>{0});
    std::uint32_t open = m.row_of_column[1] == kUnmatched ? 1 : 2;
    AlternatingSet under = alternating_from_column(over, m, open);
    CHECK(under.columns.size() == 2);
    CHECK(under.rows == std::vector<std::uint32_t>{2});
}

TEST_CASE("strong components come after what they need; long chains need no recursion")
{
    auto components = strong_components(adjacency({{1}, {2}, {0}, {0, 4}, {}}));
    REQUIRE(components.size() == 3);
    CHECK(components[0] == std::vector<std::uint32_t>{0, 1, 2});
    CHECK(components[1] == std::vector<std::uint32_t>{4});
    CHECK(components[2] == std::vector<std::uint32_t>{3});
    Adjacency chain;
    for (std::uint32_t i = 0; i < 300000; ++i) chain.add_row(i + 1 < 300000 ? std::vector<std::uint32_t>{i + 1} : std::vector<std::uint32_t>{});
    auto ordered = strong_components(chain);
    CHECK(ordered.size() == 300000);
    CHECK(ordered.front()[0] == 299999);
    Matching m = maximum_matching(chain, 300000);
    CHECK(m.size == 299999);
}

TEST_CASE("aliases of joints disappear: a chain of parts keeps its states only")
{
    CompiledSystem s = test::compile(R"(
system Rod {
    option n = 20
    part cell[n] : heat.HeatMass(capacity = 10 J/K)
    part path[n-1] : heat.Conduction
    for i in 1 .. n-1 { cell[i].surface -- path[i].a ; path[i].b -- cell[i+1].surface }
    for i in 1 .. n { init cell[i].T = 300 K }
}
)");
    CHECK(s.n_states() == 20);
    CHECK(s.n_iterates() == 0);
    CHECK(model_of(s).pattern.n_entries() <= 20 + 2 * 19);
    // equal cells are instances of one kernel
    bool kernel = false;
    for (const Kernel& k : model_of(s).residual.kernels) kernel |= k.n_instances >= 18;
    CHECK(kernel);
}

TEST_CASE("x' = v makes v the rate of x, so that a chain of them is one quantity")
{
    CompiledSystem s = test::compile("system S { var x : m init 1 m ; var v : m/s init 0 m/s ; var a : m/s^2 ; x' = v ; v' = a ; a = -x * 4 s^-2 }");
    CHECK(s.n_states() == 2);
    CHECK(s.n_iterates() == 0);
}

TEST_CASE("rigid joints, gears and racks: one set of states for all that moves together")
{
    CompiledSystem s = test::compile(R"(
use mechanics
system Train {
    part motor : Inertia
    part gear1, gear2 : Gear(ratio = 3)
    part middle, drum : Inertia
    part rack : RackAndPinion(radius = 100 mm)
    part load : Mass(mass = 20 kg)
    motor.shaft -- gear1.a
    gear1.b -- middle.shaft -- gear2.a
    gear2.b -- drum.shaft -- rack.shaft
    rack.rod -- load.point
    init load.x = 0 m
    init load.v = 0 m/s
}
)");
    CHECK(s.n_states() == 2);
}

TEST_CASE("a quantity with an init is preferred as a state")
{
    for (const char* kept : {"a", "b"}) {
        CompiledSystem s =
            test::compile(std::string("use mechanics\nsystem S {\n part a, b : Inertia\n part g : Gear(ratio = 2)\n a.shaft -- g.a\n g.b -- b.shaft\n init ") +
                          kept + ".angle = 0 rad\n init " + kept + ".speed = 1 rad/s\n}\n");
        const auto& states = model_of(s).form.reduced.states;
        REQUIRE(states.size() == 2);
        std::string path = model_of(s).form.flat().quantities[states[0].quantity].path;
        INFO(path);
        CHECK(path[0] == kept[0]);
    }
}

TEST_CASE("a capacitor loop and an inductor cut lose a state each")
{
    CompiledSystem loop = test::compile(R"(
use electrics
system S {
    part c1, c2 : Capacitor(capacitance = 1 uF)
    part r : Resistor(resistance = 1 ohm)
    part g : Ground
    c1.plus -- c2.plus -- r.plus
    c1.minus -- c2.minus -- r.minus -- g.pin
    init c1.u = 5 V
}
)");
    CHECK(loop.n_states() == 1);
    CompiledSystem cut = test::compile(R"(
use electrics
system S {
    part l1, l2 : Inductor(inductance = 1 mH)
    part r : Resistor(resistance = 1 ohm)
    part g : Ground
    l1.minus -- l2.plus
    l2.minus -- r.plus
    r.minus -- l1.plus -- g.pin
    init l1.i = 5 A
}
)");
    CHECK(cut.n_states() == 1);
}

TEST_CASE("a coefficient of params alone is divided by where it is not zero, and a run whose params make it zero is served by the other form")
{
    const std::string text =
        "system S { param k : 1 = 2 in -1 .. 5 ; param m : 1 = 2 in 1 .. 5 ; var x init 1 ; var y ; var z ; x' = -y - z ; k * y = x + 1 ; m * z = x }";
    CompiledSystem s = test::compile(text);
    CHECK(s.n_iterates() == 0);
    for (double k : {2.0, -1.0, 4.0}) {
        // x' = -(x + 1) / k - x / 2
        Run r(s);
        r.set("k", k);
        RunOptions options;
        options.stop = 1;
        options.tolerance = 1e-9;
        r.simulate(options);
        double rate = 1 / k + 0.5, rest = -1 / k / rate;
        CHECK(r.recording()["x"].final() == doctest::Approx(rest + (1 - rest) * std::exp(-rate)).epsilon(1e-7));
    }
    Run zero(s);
    zero.set("k", 0.0);
    RunOptions options;
    options.stop = 1;
    try {
        zero.simulate(options);
        FAIL("0 = x + 1 settles no y");
    } catch (const RunError& e) {
        CHECK(std::string(e.what()).find("k*y = x + 1") != std::string::npos);
        CHECK(std::string(e.what()).find("no finite value") == std::string::npos);
    }
}

TEST_CASE("a mass that is a param without a range is integrated without a matrix; made zero, its line is told")
{
    CompiledSystem s = test::compile("system S { param m : kg = 2 kg ; var x : m init 1 m ; init x' = 0 m/s ; m * x'' = -8 N/m * x }");
    Run r(s);
    RunOptions options;
    options.stop = 3;
    options.tolerance = 1e-10;
    r.simulate(options);
    CHECK(r.summary().integrator == "adams");
    CHECK(r.recording()["x"].final() == doctest::Approx(std::cos(6.0)).epsilon(1e-8));
    CHECK_THROWS_AS(r.set("m", q(0, "kg")), RunError);  // the run is under way
}

TEST_CASE("inner forms print, and an unknown stage is refused")
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/first/barge.loop"));
    CHECK(show_stage(library, {}, "flat").find("quantity draught [m]") != std::string::npos);
    CHECK(show_stage(library, {}, "system").find("0 = ") == 0);
    CHECK(show_stage(library, {}, "reduced").find("state") != std::string::npos);
    CHECK(show_stage(library, {}, "solver").find("usual") != std::string::npos);
    CHECK(show_stage(library, {}, "program").find("kernels") != std::string::npos);
    CHECK_THROWS_AS(show_stage(library, {}, "nothing"), UsageError);
}

TEST_CASE("the compile record names every pass, and blocks are shown with their lines")
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    std::string text = compile(library).explain();
    for (const char* pass :
         {"locate conditions", "remove aliases", "check structure", "reduce index", "order blocks", "tear blocks", "make solver form", "lower"}) {
        INFO(pass);
        CHECK(text.find(pass) != std::string::npos);
    }
    CHECK(text.find("machine.loop:") != std::string::npos);
    CHECK(text.find("linear") != std::string::npos);
}

TEST_SUITE_END();

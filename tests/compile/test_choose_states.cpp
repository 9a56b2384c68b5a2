// SPDX-License-Identifier: Apache-2.0
// Which quantities stay states: constraints with constant coefficients, changing ones, several levels, redundant ones.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>

#include "compile/cancel_rates.hpp"
#include "compile/choose_states.hpp"

using namespace netloop;

namespace {

// Quantity leaves stand for coefficients that change; their sample values are given by number.
struct Case {
    Graph g;
    std::vector<int> wish;
    NodeId changing(std::uint32_t i) { return g.quantity(i); }
    NodeId number(double v) { return g.constant(v); }

    ChosenStates choose(std::vector<ConstraintRow> rows)
    {
        std::uint32_t columns = 0;
        for (const ConstraintRow& r : rows)
            for (const auto& [c, node] : r.entries) columns = std::max(columns, c + 1);
        wish.resize(columns, 0);
        auto values = std::make_shared<NodeValues>(g, [](const Node& n) { return 0.3 + 0.37 * n.a; });
        return choose_states(
            g, std::move(rows), wish, [values](NodeId node) { return (*values)(node); },
            [this](NodeId node) {
                for (NodeId id : g.reachable({node}))
                    if (g[id].op == Op::quantity) return false;
                return true;
            },
            [](NodeId) { return false; });
    }
};

std::vector<std::uint32_t> columns_of(const ChosenStates& chosen)
{
    std::vector<std::uint32_t> list;
    for (const auto& [c, count] : chosen.dependent) list.push_back(c);
    std::sort(list.begin(), list.end());
    return list;
}

}  // namespace

TEST_SUITE_BEGIN("compile");

TEST_CASE("of quantities tied by constant coefficients the least wanted is dependent")
{
    Case c;
    c.wish = {1000, 0, 10};  // the first has an init, the third a guess
    ChosenStates chosen = c.choose({{0, 2, {{0, c.number(1)}, {1, c.number(-2)}, {2, c.number(3)}}}});
    REQUIRE(chosen.dependent.size() == 1);
    CHECK(chosen.dependent[0] == std::pair<std::uint32_t, std::uint32_t>{1, 2});
    CHECK(chosen.open.empty());
    CHECK_FALSE(chosen.deficient);
}

TEST_CASE("a chain of rigid joints leaves one state, a constraint that repeats others is told")
{
    Case c;
    std::vector<ConstraintRow> rows;
    for (std::uint32_t i = 0; i < 50; ++i) rows.push_back({i, 2, {{i, c.number(1)}, {i + 1, c.number(-1)}}});
    ChosenStates chosen = c.choose(rows);
    CHECK(columns_of(chosen).size() == 50);
    CHECK_FALSE(chosen.deficient);
    rows.push_back({50, 2, {{0, c.number(1)}, {50, c.number(-1)}}});  // closes the ring
    CHECK(c.choose(rows).deficient);
}

TEST_CASE("changing coefficients are left to the run, after what can be eliminated is")
{
    // x0 - f(p) = 0, x0 - x1 = 0, g(p, q) = 0 with coefficients that change: x0 and x1 follow, among p and q the run chooses
    Case c;
    ChosenStates chosen = c.choose({{0, 2, {{0, c.number(1)}, {2, c.changing(0)}}},
                                    {1, 2, {{0, c.number(1)}, {1, c.number(-1)}}},
                                    {2, 2, {{1, c.number(2)}, {2, c.changing(1)}, {3, c.changing(2)}}}});
    CHECK(columns_of(chosen) == std::vector<std::uint32_t>{0, 1});
    REQUIRE(chosen.open.size() == 1);
    CHECK(chosen.open[0].columns == std::vector<std::uint32_t>{2, 3});
    REQUIRE(chosen.open[0].rows.size() == 1);
    // the coefficient of p after elimination: x1 = x0 = -a p, so 2 x1 + b p has b - 2 a
    NodeValues values(c.g, [](const Node& n) { return 0.3 + 0.37 * n.a; });
    double a = 0.3, b = 0.67;
    CHECK(values(chosen.open[0].rows[0].entries[0].second) == doctest::Approx(b - 2 * a));
}

TEST_CASE("independent sets are separate, a set without a choice is settled, levels are nested")
{
    Case c;
    ChosenStates chosen = c.choose({{0, 2, {{0, c.changing(0)}, {1, c.changing(1)}}},
                                    {1, 2, {{2, c.changing(2)}, {3, c.changing(3)}}},
                                    {2, 1, {{4, c.changing(4)}}},
                                    {3, 1, {{2, c.changing(5)}, {3, c.changing(6)}, {5, c.changing(7)}}}});
    REQUIRE(chosen.open.size() == 2);
    CHECK(chosen.open[0].columns == std::vector<std::uint32_t>{0, 1});
    CHECK(chosen.open[1].columns == std::vector<std::uint32_t>{2, 3, 5});
    CHECK(chosen.open[1].rows[0].differentiated == 2);  // most differentiated first
    CHECK(chosen.open[1].rows[1].differentiated == 1);
    CHECK(chosen.dependent == std::vector<std::pair<std::uint32_t, std::uint32_t>>{{4, 1}});
}

TEST_CASE("hidden sums: found where numbers or equal params cancel, not where different params happen to be equal")
{
    Graph g;
    NodeId a = g.leaf(Op::parameter, 0), b = g.leaf(Op::parameter, 1);
    auto fixed = [&](NodeId node) { return g[node].op != Op::quantity; };
    auto sums = [&](const std::vector<LeadingRow>& rows) { return find_hidden_sums(g, rows, fixed); };
    std::vector<LeadingRow> equal{{4, 0, {{0, a}, {1, g.neg(a)}}}, {7, 0, {{0, g.neg(a)}, {1, a}}}};
    auto found = sums(equal);
    REQUIRE(found.size() == 1);
    CHECK(found[0].equation == 7);
    REQUIRE(found[0].terms.size() == 2);
    CHECK(g.value(found[0].terms[0].second) == doctest::Approx(g.value(found[0].terms[1].second)));
    CHECK(found[0].columns == std::vector<std::uint32_t>{0, 1});
    CHECK(sums({{0, 0, {{0, a}, {1, g.neg(a)}}}, {1, 0, {{0, g.neg(b)}, {1, b}}}}).empty());
    CHECK(sums({{0, 0, {{0, g.constant(1)}, {1, g.constant(2)}}}, {1, 0, {{0, g.constant(3)}, {1, g.constant(7)}}}}).empty());
    CHECK(sums({{0, 0, {{0, g.constant(1)}, {1, g.constant(2)}}}, {1, 1, {{0, g.constant(3)}, {1, g.constant(6)}}}}).empty());  // of different levels
    // of three rows the third is the sum of the others
    auto three = sums({{0, 0, {{0, g.constant(1)}, {1, g.constant(1)}}},
                       {1, 0, {{1, g.constant(1)}, {2, g.constant(-2)}}},
                       {2, 0, {{0, g.constant(1)}, {1, g.constant(2)}, {2, g.constant(-2)}}}});
    REQUIRE(three.size() == 1);
    CHECK(three[0].terms.size() == 3);
}

TEST_SUITE_END();

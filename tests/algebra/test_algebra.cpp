// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <cmath>
#include <functional>
#include <limits>
#include <random>

#include "algebra/differentiate.hpp"

using namespace netloop;

namespace {

// Random expressions over three quantities, kept where every function is smooth: arguments are shifted into their ranges.
struct RandomExpressions {
    Graph graph;
    std::mt19937 random;
    explicit RandomExpressions(unsigned seed) : random(seed) {}

    int pick(int n) { return std::uniform_int_distribution<int>(0, n - 1)(random); }
    NodeId positive(NodeId x) { return graph.add(graph.constant(1.5), graph.mul(x, x)); }
    NodeId unit(NodeId x) { return graph.mul(graph.constant(0.5), graph.unary(Op::tanh, x)); }
    NodeId make(int depth)
    {
        if (depth == 0) return pick(4) == 0 ? graph.constant(0.5 + pick(5)) : graph.quantity(static_cast<std::uint32_t>(pick(3)));
        NodeId a = make(depth - 1), b = make(depth - 1);
        switch (pick(20)) {
            case 0:
                return graph.add(a, b);
            case 1:
                return graph.sub(a, b);
            case 2:
                return graph.mul(unit(a), b);
            case 3:
                return graph.div(a, positive(b));
            case 4:
                return graph.neg(a);
            case 5:
                return graph.pow(positive(unit(a)), unit(b));
            case 6:
                return graph.unary(Op::sqrt, positive(a));
            case 7:
                return graph.unary(Op::exp, unit(a));
            case 8:
                return graph.unary(Op::log, positive(a));
            case 9:
                return graph.unary(Op::sin, a);
            case 10:
                return graph.unary(Op::cos, a);
            case 11:
                return graph.unary(Op::tan, unit(a));
            case 12:
                return graph.unary(Op::asin, unit(a));
            case 13:
                return graph.unary(Op::acos, unit(a));
            case 14:
                return graph.unary(Op::atan, a);
            case 15:
                return graph.unary(Op::sinh, unit(a));
            case 16:
                return graph.unary(Op::cosh, unit(a));
            case 17:
                return graph.binary(Op::atan2, positive(a), b);
            case 18:
                return graph.select(graph.compare(Op::less, a, b, false), a, b);
            default:
                return graph.pow(unit(a), graph.constant(1 + pick(4)));
        }
    }
    double value(NodeId id, const std::vector<double>& q)
    {
        NodeValues v(graph, [&](const Node& n) { return q[n.a + 3 * n.b]; });
        return v(id);
    }
};

}  // namespace

TEST_SUITE_BEGIN("algebra");

TEST_CASE("what is always true is simplified")
{
    Graph g;
    NodeId x = g.quantity(0), y = g.quantity(1), zero = g.constant(0), one = g.constant(1);
    CHECK(g.add(x, zero) == x);
    CHECK(g.mul(x, one) == x);
    CHECK(g.mul(x, zero) == zero);
    CHECK(g.sub(x, x) == zero);
    CHECK(g.neg(g.neg(x)) == x);
    CHECK(g.sub(zero, x) == g.neg(x));
    CHECK(g.add(x, g.neg(y)) == g.sub(x, y));
    CHECK(g.pow(x, g.constant(2)) == g.mul(x, x));
    CHECK(g.pow(x, g.constant(0.5)) == g.unary(Op::sqrt, x));
    CHECK(g.select(one, x, y) == x);
    CHECK(g.value(g.add(g.constant(2), g.constant(3))) == 5);
    CHECK(g.add(x, y) == g.add(x, y));  // shared
    CHECK(g.constant(0.0) == g.constant(-0.0));
    CHECK(g.constant(1.5) != g.constant(1.25));
}

TEST_CASE("exact gradients agree with central differences on random expressions")
{
    for (unsigned seed = 1; seed <= 200; ++seed) {
        RandomExpressions r(seed);
        NodeId root = r.make(4);
        Gradients gradients(r.graph, [](const Node& n) { return n.op == Op::quantity ? n.a : kNoNode; });
        std::span<const Gradients::Entry> entries = gradients(root);
        std::vector<double> q{0.3 + 0.001 * seed, -0.4, 0.7, 0, 0, 0};
        for (std::uint32_t k = 0; k < 3; ++k) {
            double exact = 0;
            for (const auto& [leaf, node] : entries)
                if (leaf == k) exact = r.value(node, q);
            double h = 1e-5;
            auto shifted = [&](double by) {
                std::vector<double> p = q;
                p[k] += by;
                return r.value(root, p);
            };
            double difference = (8 * (shifted(h) - shifted(-h)) - (shifted(2 * h) - shifted(-2 * h))) / (12 * h);
            INFO("seed " << seed << ", quantity " << k);
            CHECK(exact == doctest::Approx(difference).epsilon(1e-6).scale(1.0));
        }
    }
}

TEST_CASE("time derivatives agree with the gradient along the rates")
{
    for (unsigned seed = 1; seed <= 100; ++seed) {
        RandomExpressions r(1000 + seed);
        NodeId root = r.make(4);
        TimeDerivative derivative(r.graph);
        NodeId rate = derivative(root);
        Gradients gradients(r.graph, [](const Node& n) { return n.op == Op::quantity && n.b == 0 ? n.a : kNoNode; });
        std::span<const Gradients::Entry> entries = gradients(root);
        std::vector<double> q{0.2, -0.5, 0.9, 1.1, -0.7, 0.4};
        double expected = 0;
        for (const auto& [leaf, node] : entries) expected += r.value(node, q) * q[3 + leaf];
        INFO("seed " << seed);
        CHECK(r.value(rate, q) == doctest::Approx(expected).epsilon(1e-12).scale(1.0));
    }
}

TEST_CASE("derivatives stay finite where a root or a power is singular")
{
    Graph g;
    NodeId x = g.quantity(0);
    for (NodeId f : {g.unary(Op::sqrt, x), g.pow(x, g.constant(0.3)), g.unary(Op::log, x), g.unary(Op::abs, x), g.unary(Op::asin, g.add(x, g.constant(1)))}) {
        Gradients gradients(g, [](const Node& n) { return n.op == Op::quantity ? n.a : kNoNode; });
        NodeId derivative = gradients(f)[0].second;
        NodeValues v(g, [](const Node&) { return 0.0; });
        CHECK(std::isfinite(v(derivative)));
    }
}

TEST_CASE("(e)' is expanded, nested ones too")
{
    Graph g;
    TimeDerivative derivative(g);
    NodeId x = g.quantity(0);
    NodeId product = g.rate_of(g.mul(x, x));
    NodeId second = g.rate_of(g.rate_of(g.mul(x, x)));
    NodeId of_time = g.rate_of(g.unary(Op::sin, g.time()));
    std::vector<NodeId*> roots{&product, &second, &of_time};
    expand_rates(g, derivative, roots);
    NodeValues v(g, [](const Node& n) { return n.op == Op::time ? 0.5 : n.b == 0 ? 3.0 : n.b == 1 ? 5.0 : 7.0; });
    CHECK(v(product) == doctest::Approx(2 * 3 * 5));
    CHECK(v(second) == doctest::Approx(2 * 5 * 5 + 2 * 3 * 7));
    CHECK(v(of_time) == doctest::Approx(std::cos(0.5)));
}

TEST_CASE("substitution and rewriting keep the value")
{
    for (unsigned seed = 1; seed <= 50; ++seed) {
        RandomExpressions r(2000 + seed);
        NodeId root = r.make(5);
        std::vector<double> q{0.4, 0.6, -0.2, 0, 0, 0};
        NodeId by = r.graph.add(r.graph.quantity(1), r.graph.constant(0.25));
        std::vector<double> replaced = q;
        replaced[0] = q[1] + 0.25;
        double expected = r.value(root, replaced);
        Substitution substitution(r.graph, [&](const Node& n) { return n.a == 0 ? by : r.graph.quantity(n.a, n.b); });
        CHECK(r.value(substitution(root), q) == doctest::Approx(expected).epsilon(1e-12));
        CHECK(r.value(replace_leaf(r.graph, root, r.graph.quantity(0), by), q) == doctest::Approx(expected).epsilon(1e-12));
        NodeId copy = root;
        rewrite(r.graph, {&copy}, [&](NodeId id, const Node& n) { return n.op == Op::quantity && n.a == 0 ? by : id; });
        CHECK(r.value(copy, q) == doctest::Approx(expected).epsilon(1e-12));
        CHECK_FALSE(contains(r.graph, copy, r.graph.quantity(0)));
    }
}

TEST_CASE("a very long sum needs no deep recursion")
{
    Graph g;
    NodeId sum = g.constant(0);
    for (std::uint32_t i = 0; i < 200000; ++i) sum = g.add(sum, g.mul(g.constant(2), g.quantity(i % 1000)));
    TimeDerivative derivative(g);
    NodeValues v(g, [](const Node& n) { return n.b == 0 ? 1.0 : 3.0; });
    CHECK(v(sum) == 400000);
    CHECK(v(derivative(sum)) == 1200000);
    CHECK(g.text(sum, [](const Node&) { return "q"; }).size() < 2000);
}

TEST_CASE("linear tables: values between, at and outside the points")
{
    Table t("t", {0, 1, 3}, {}, {0, 10, 30}, false, Table::Outside::hold);
    CHECK(t(0.5, 0, 0, 0) == doctest::Approx(5));
    CHECK(t(2, 0, 0, 0) == doctest::Approx(20));
    CHECK(t(-1, 0, 0, 0) == 0);
    CHECK(t(9, 0, 0, 0) == 30);
    CHECK(t(9, 0, 1, 0) == 0);
    CHECK(t(2, 0, 1, 0) == doctest::Approx(10));
    Table e("e", {0, 1, 3}, {}, {0, 10, 30}, false, Table::Outside::extend);
    CHECK(e(5, 0, 0, 0) == doctest::Approx(50));
    CHECK(e(-1, 0, 0, 0) == doctest::Approx(-10));
    Table r("r", {0, 1}, {}, {0, 1}, false, Table::Outside::refuse);
    CHECK(std::isnan(r(1.5, 0, 0, 0)));
    CHECK(r(0.25, 0, 0, 0) == 0.25);
}

TEST_CASE("smooth tables go through their points, keep monotone data monotone, and have a continuous slope")
{
    std::vector<double> x{0, 1, 2, 4, 5}, y{0, 0, 3, 3.5, 9};
    Table t("t", x, {}, y, true, Table::Outside::extend);
    for (std::size_t i = 0; i < x.size(); ++i) CHECK(t(x[i], 0, 0, 0) == doctest::Approx(y[i]));
    double last = -1e-12;
    for (double at = 0; at <= 5; at += 0.01) {
        double v = t(at, 0, 0, 0);
        CHECK(v >= last - 1e-12);
        last = v;
        CHECK(t(at, 0, 1, 0) == doctest::Approx((t(at + 1e-6, 0, 0, 0) - t(at - 1e-6, 0, 0, 0)) / 2e-6).epsilon(1e-4).scale(1.0));
    }
    for (double knot : {1.0, 2.0, 4.0}) CHECK(t(knot - 1e-9, 0, 1, 0) == doctest::Approx(t(knot + 1e-9, 0, 1, 0)).epsilon(1e-6).scale(1.0));
    CHECK(t(6, 0, 0, 0) == doctest::Approx(9 + t(5, 0, 1, 0)));
}

TEST_CASE("tables of two arguments")
{
    // f = 2x + 3y + xy is bilinear: a linear table gives it exactly
    std::vector<double> x{0, 1, 2}, y{0, 2, 5}, v;
    for (double a : x)
        for (double b : y) v.push_back(2 * a + 3 * b + a * b);
    Table t("t", x, y, v, false, Table::Outside::extend);
    CHECK(t(0.7, 1.3, 0, 0) == doctest::Approx(2 * 0.7 + 3 * 1.3 + 0.7 * 1.3));
    CHECK(t(0.7, 1.3, 1, 0) == doctest::Approx(2 + 1.3));
    CHECK(t(0.7, 1.3, 0, 1) == doctest::Approx(3 + 0.7));
    CHECK(t(3, 6, 0, 0) == doctest::Approx(2 * 3 + 3 * 6 + 18));
    Table s("s", x, y, v, true, Table::Outside::hold);
    CHECK(s(1, 2, 0, 0) == doctest::Approx(2 + 6 + 2));
    for (double a : {0.3, 1.4})
        for (double b : {0.6, 3.1}) {
            CHECK(s(a, b, 1, 0) == doctest::Approx((s(a + 1e-5, b, 0, 0) - s(a - 1e-5, b, 0, 0)) / 2e-5).epsilon(1e-4));
            CHECK(s(a, b, 0, 1) == doctest::Approx((s(a, b + 1e-5, 0, 0) - s(a, b - 1e-5, 0, 0)) / 2e-5).epsilon(1e-3));
        }
}

TEST_CASE("points that make no table are refused")
{
    CHECK_THROWS_WITH(Table("t", {1}, {}, {1}, false, Table::Outside::hold), "at least two points are needed");
    CHECK_THROWS_WITH(Table("t", {1, 1}, {}, {1, 2}, false, Table::Outside::hold), "the arguments must be in ascending order, each once");
    CHECK_THROWS_WITH(Table("t", {1, 2}, {}, {1}, false, Table::Outside::hold), "the number of values does not fit the number of arguments");
    CHECK_THROWS(Table("t", {1, std::nan("")}, {}, {1, 2}, false, Table::Outside::hold));
    CHECK_THROWS(Table("t", {1, 2}, {}, {1, HUGE_VAL}, false, Table::Outside::hold));
}

TEST_CASE("whole, half and quarter powers are products and roots, as exact as pow to a few units in the last place")
{
    Graph g;
    NodeId x = g.quantity(0);
    std::mt19937 random(5);
    std::uniform_real_distribution<double> exponent_of_ten(-8, 8);
    for (int quarters = -36; quarters <= 36; ++quarters) {
        double e = 0.25 * quarters;
        NodeId power = g.pow(x, g.constant(e));
        bool simple = std::abs(e) <= 8;
        INFO("x^" << e);
        bool calls = false;
        for (NodeId id : g.reachable({power})) calls = calls || g[id].op == Op::pow;
        CHECK(calls == !simple);
        for (int k = 0; k < 50; ++k) {
            double at = std::pow(10, exponent_of_ten(random)), wanted = std::pow(at, e);
            NodeValues value(g, [&](const Node&) { return at; });
            CHECK(std::abs(value(power) / wanted - 1) <= 4 * std::numeric_limits<double>::epsilon());
        }
        NodeValues below(g, [](const Node&) { return -2.0; });
        if (e == std::floor(e))
            CHECK(below(power) == doctest::Approx(std::pow(-2.0, e)).epsilon(1e-15));
        else
            CHECK(std::isnan(below(power)));
        NodeValues zero(g, [](const Node&) { return 0.0; });
        CHECK(zero(power) == std::pow(0.0, e));
    }
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
#include "verify/plain_values.hpp"

#include <doctest/doctest.h>

#include <cmath>

using namespace netloop;

namespace {

// q0 = x(t) = 2 + t + 3 t^2 at t = 0, q1 = y(t) = 0.5 - t
LeafValues leaves()
{
    LeafValues l;
    l.quantity = [](QuantityId q, std::uint32_t order) {
        double v = q == 0 ? (order == 0 ? 2 : order == 1 ? 1 : order == 2 ? 6 : 0) : (order == 0 ? 0.5 : order == 1 ? -1 : 0);
        return Measured{v, std::abs(v)};
    };
    l.parameter = [](std::uint32_t) { return 4.0; };
    l.memory = [](std::uint32_t) { return 0.0; };
    l.time = 0;
    return l;
}

struct Made {
    Graph g;
    NodeId x = g.quantity(0), y = g.quantity(1);
    double value(NodeId root) { return evaluate(root).value; }
    Measured evaluate(NodeId root)
    {
        std::vector<std::uint32_t> needs(root + 1, 0);
        for (NodeId id = root + 1; id-- > 0;)
            for (int k = first_child(g[id].op); k < end_of_children(g[id].op); ++k)
                if (NodeId c = k == 0 ? g[id].a : k == 1 ? g[id].b : g[id].c; c != kNoNode)
                    needs[c] = std::max(needs[c], needs[id] + (g[id].op == Op::rate_of ? 1 : 0));
        PlainValues values(g, {root}, needs, 1e-6);
        values.at(leaves());
        return values(root);
    }
};

}  // namespace

TEST_SUITE_BEGIN("verify");

TEST_CASE("derivatives by time of every operation, against those worked out by hand")
{
    Made m;
    Graph& g = m.g;
    NodeId x = m.x, y = m.y;
    auto rate = [&](NodeId f) { return m.value(g.rate_of(f)); };
    auto second = [&](NodeId f) { return m.value(g.rate_of(g.rate_of(f))); };
    // x = 2, x' = 1, x'' = 6; y = 0.5, y' = -1, y'' = 0
    CHECK(rate(g.mul(x, y)) == doctest::Approx(1 * 0.5 + 2 * -1));
    CHECK(second(g.mul(x, y)) == doctest::Approx(6 * 0.5 + 2 * 1 * -1));
    CHECK(rate(g.div(x, y)) == doctest::Approx((1 * 0.5 + 2) / 0.25));
    CHECK(second(g.div(g.constant(1), x)) == doctest::Approx(2 * 1 / 8.0 - 6 / 4.0));
    CHECK(rate(g.pow(x, g.constant(3))) == doctest::Approx(3 * 4));
    CHECK(second(g.pow(x, g.constant(3))) == doctest::Approx(6 * 2 * 1 + 3 * 4 * 6));
    CHECK(rate(g.pow(x, y)) == doctest::Approx(std::sqrt(2.0) * (-1 * std::log(2.0) + 0.5 * 1 / 2)));
    auto of = [&](Op op) { return g.unary(op, y); };
    double v = 0.5;
    CHECK(rate(of(Op::sqrt)) == doctest::Approx(-1 / (2 * std::sqrt(v))));
    CHECK(second(of(Op::sqrt)) == doctest::Approx(-0.25 * std::pow(v, -1.5)));
    CHECK(rate(of(Op::exp)) == doctest::Approx(-std::exp(v)));
    CHECK(second(of(Op::log)) == doctest::Approx(-1 / (v * v)));
    CHECK(second(of(Op::sin)) == doctest::Approx(-std::sin(v)));
    CHECK(second(of(Op::cos)) == doctest::Approx(-std::cos(v)));
    CHECK(second(of(Op::tan)) == doctest::Approx(2 * std::tan(v) * (1 + std::tan(v) * std::tan(v))));
    CHECK(second(of(Op::asin)) == doctest::Approx(v / std::pow(1 - v * v, 1.5)));
    CHECK(second(of(Op::acos)) == doctest::Approx(-v / std::pow(1 - v * v, 1.5)));
    CHECK(second(of(Op::atan)) == doctest::Approx(-2 * v / std::pow(1 + v * v, 2)));
    CHECK(second(of(Op::sinh)) == doctest::Approx(std::sinh(v)));
    CHECK(second(of(Op::cosh)) == doctest::Approx(std::cosh(v)));
    CHECK(second(of(Op::tanh)) == doctest::Approx(-2 * std::tanh(v) * (1 - std::tanh(v) * std::tanh(v))));
    CHECK(rate(g.binary(Op::atan2, y, x)) == doctest::Approx((2 * -1 - 0.5 * 1) / (4 + 0.25)));
    CHECK(rate(g.binary(Op::min, x, y)) == -1);
    CHECK(rate(g.unary(Op::abs, g.neg(x))) == 1);
    CHECK(rate(g.mul(x, g.time())) == doctest::Approx(2));
}

TEST_CASE("what has no value stays without one, whichever side it stands on")
{
    Made m;
    Graph& g = m.g;
    NodeId none = g.unary(Op::log, g.neg(m.x));
    for (NodeId f : {g.binary(Op::max, g.constant(0), none), g.binary(Op::max, none, g.constant(0)), g.unary(Op::sign, none),
                     g.select(g.compare(Op::less, none, g.constant(0), false), m.x, m.y)})
        CHECK(std::isnan(m.value(f)));
}

TEST_CASE("a spread is what a value moves by if all it is made of moves by its size")
{
    Made m;
    Graph& g = m.g;
    CHECK(m.evaluate(g.mul(m.x, m.y)).spread == doctest::Approx(2));
    CHECK(m.evaluate(g.sub(m.x, m.y)).spread == doctest::Approx(2.5));
    CHECK(m.evaluate(g.pow(m.x, g.constant(2))).spread == doctest::Approx(8).epsilon(1e-5));
}

TEST_CASE("conditions at their zero may hold or not: both are gone through, and values are as before afterwards")
{
    Made m;
    Graph& g = m.g;
    NodeId at_zero = g.compare(Op::less, g.sub(m.x, g.constant(2)), g.constant(0), true);
    NodeId f = g.select(at_zero, g.constant(10), g.select(g.compare(Op::less, m.y, m.x, true), g.constant(20), g.constant(30)));
    PlainValues values(g, {f}, {}, 1e-6);
    values.at(leaves());
    CHECK(values(f).value == 20);
    std::vector<double> seen;
    CHECK_FALSE(values.with_turned_conditions({f}, leaves(), [&] {
        seen.push_back(values(f).value);
        return false;
    }));
    CHECK(seen == std::vector<double>{10});  // y < x is clear
    CHECK(values(f).value == 20);
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Derivatives by sweeps, against differences of the values, and against the derivatives that the compiler writes as expressions.
#include <doctest/doctest.h>

#include <cmath>
#include <memory>
#include <random>

#include "algebra/differentiate.hpp"
#include "algebra/tape.hpp"

using namespace netloop;

TEST_SUITE_BEGIN("algebra");

namespace {

using Complex = Tape::Complex;

double leaf_value(const std::vector<double>& at, const Node& n)
{
    return at[n.a];
}

// Expressions of all operations that have slopes, in 4 unknowns between 0.2 and 0.9.
std::vector<NodeId> all_operations(Graph& g)
{
    std::vector<NodeId> x;
    for (std::uint32_t i = 0; i < 4; ++i) x.push_back(g.leaf(Op::unknown, i));
    std::vector<NodeId> roots;
    for (Op op : {Op::sqrt, Op::exp, Op::log, Op::sin, Op::cos, Op::tan, Op::asin, Op::acos, Op::atan, Op::sinh, Op::cosh, Op::tanh, Op::abs, Op::neg})
        roots.push_back(g.unary(op, g.mul(x[0], x[1])));
    roots.push_back(g.add(g.mul(x[0], x[1]), g.div(x[2], x[3])));
    roots.push_back(g.sub(g.pow(x[0], x[1]), g.pow(x[2], g.constant(2.5))));
    roots.push_back(g.binary(Op::atan2, g.mul(x[0], x[1]), x[2]));
    roots.push_back(g.binary(Op::min, g.mul(x[0], x[0]), x[3]));
    roots.push_back(g.binary(Op::max, g.mul(x[0], x[0]), x[3]));
    roots.push_back(g.select(g.compare(Op::less, x[0], x[1], false), g.mul(x[2], x[3]), g.div(x[2], x[3])));
    std::uint32_t table = g.add_table(std::make_shared<Table>("t", std::vector<double>{0, 0.3, 0.5, 1}, std::vector<double>{0, 0.4, 1},
                                                              std::vector<double>{0, 1, 4, 2, 3, 3, 1, 4, 5, 0, 2, 9}, true, Table::Outside::hold));
    roots.push_back(g.lookup(table, g.mul(x[0], x[1]), x[2]));
    return roots;
}

}  // namespace

TEST_CASE("slopes along a direction, gradients and second derivatives agree with differences")
{
    auto g = std::make_shared<Graph>();
    std::vector<NodeId> roots = all_operations(*g);
    Tape tape(g, roots);
    std::mt19937 random(7);
    std::uniform_real_distribution<double> within(0.2, 0.9), any(-1, 1);
    for (int trial = 0; trial < 40; ++trial) {
        std::vector<double> at(4), way(4);
        for (double& v : at) v = within(random);
        for (double& v : way) v = any(random);
        // not across a corner
        if (std::abs(at[0] - at[1]) < 1e-3 || std::abs(at[0] * at[0] - at[3]) < 1e-3) continue;
        auto values_at = [&](double h) {
            std::vector<double> moved = at;
            for (std::size_t i = 0; i < 4; ++i) moved[i] += h * way[i];
            NodeValues values(*g, [&](const Node& n) { return leaf_value(moved, n); });
            std::vector<double> list;
            for (NodeId root : roots) list.push_back(values(root));
            return list;
        };
        tape.at([&](const Node& n) { return leaf_value(at, n); });
        std::vector<Complex> direction(tape.n_leaves()), slopes;
        for (std::size_t l = 0; l < direction.size(); ++l) direction[l] = way[tape.leaf(l).a];
        tape.along(direction, slopes);
        const double h = 1e-5;
        std::vector<double> up = values_at(h), down = values_at(-h), here = values_at(0);
        for (std::size_t r = 0; r < roots.size(); ++r) {
            CAPTURE(r);
            CHECK(tape.value(r) == here[r]);
            CHECK(slopes[r].real() == doctest::Approx((up[r] - down[r]) / (2 * h)).epsilon(1e-7).scale(1e-2));
        }
        // one root at a time: its gradient along the way is its slope; the gradient of the slope along the way is its bend
        for (std::size_t r = 0; r < roots.size(); ++r) {
            CAPTURE(r);
            std::vector<Complex> weights(roots.size()), by_leaf;
            weights[r] = Complex(0, 2);
            tape.gradient(weights, by_leaf);
            std::vector<std::pair<std::size_t, double>> alone;
            tape.gradient_of(r, alone);
            std::vector<double> scattered(tape.n_leaves(), 0.0);
            for (const auto& [l, slope] : alone) scattered[l] = slope;
            for (std::size_t l = 0; l < scattered.size(); ++l) CHECK(2 * scattered[l] == doctest::Approx(by_leaf[l].imag()).epsilon(1e-14));
            Complex sum = 0;
            for (std::size_t l = 0; l < by_leaf.size(); ++l) sum += by_leaf[l] * direction[l];
            CHECK(sum.imag() == doctest::Approx(2 * slopes[r].real()).epsilon(1e-12).scale(1e-12));
            tape.gradient_along(direction, weights, by_leaf);
            sum = 0;
            for (std::size_t l = 0; l < by_leaf.size(); ++l) sum += by_leaf[l] * direction[l];
            CHECK(sum.imag() == doctest::Approx(2 * (up[r] - 2 * here[r] + down[r]) / (h * h)).epsilon(1e-3).scale(1e-2));
        }
    }
}

TEST_CASE("corners: what has two slopes, and what has one in spite of an operation at its corner")
{
    auto g = std::make_shared<Graph>();
    NodeId x = g->leaf(Op::unknown, 0), y = g->leaf(Op::unknown, 1), size = g->unary(Op::abs, x);
    std::vector<NodeId> roots{g->mul(size, y), g->mul(size, x), g->binary(Op::max, x, y), g->mul(y, y)};
    Tape tape(g, roots);
    auto at = [&](double to_x, double to_y) { tape.at([=](const Node& n) { return n.a == 0 ? to_x : to_y; }); };
    at(0, 2);
    CHECK(tape.has_corner(0));
    CHECK_FALSE(tape.has_corner(1));
    CHECK_FALSE(tape.has_corner(2));
    CHECK_FALSE(tape.has_corner(3));
    at(2, 2);
    CHECK_FALSE(tape.has_corner(0));
    CHECK(tape.has_corner(2));
    at(0, 0);
    CHECK_FALSE(tape.has_corner(0));
}

TEST_CASE("at singular points slopes are those of the compiler's own derivatives")
{
    auto g = std::make_shared<Graph>();
    NodeId x = g->leaf(Op::unknown, 0);
    std::vector<NodeId> roots{g->unary(Op::sqrt, x), g->unary(Op::log, x), g->pow(x, g->constant(0.5)), g->pow(x, g->constant(1.5)),
                              g->unary(Op::asin, g->add(x, g->constant(1)))};
    std::vector<NodeId> derived;
    Gradients gradients(*g, [](const Node& n) { return n.op == Op::unknown ? n.a : kNoNode; });
    for (NodeId root : roots) derived.push_back(gradients(root).empty() ? g->constant(0) : gradients(root)[0].second);
    Tape tape(g, roots);
    tape.at([](const Node&) { return 0.0; });
    std::vector<Complex> slopes;
    tape.along(std::vector<Complex>(tape.n_leaves(), 1.0), slopes);
    NodeValues values(*g, [](const Node&) { return 0.0; });
    for (std::size_t r = 0; r < roots.size(); ++r) CHECK(slopes[r].real() == doctest::Approx(values(derived[r])).epsilon(1e-12));
}

TEST_CASE("at a corner a slope is the mean of both sides, and corners that make up for each other leave none")
{
    auto g = std::make_shared<Graph>();
    NodeId x = g->leaf(Op::unknown, 0), zero = g->constant(0), up = g->binary(Op::max, x, zero), down = g->binary(Op::max, g->neg(x), zero);
    // |x|, both parts of x, x put together of them, the same by min, and a clamp that x leaves at 0
    std::vector<NodeId> roots{g->unary(Op::abs, x),
                              up,
                              down,
                              g->sub(up, down),
                              g->sub(g->binary(Op::min, x, zero), g->binary(Op::min, g->neg(x), zero)),
                              g->binary(Op::min, up, g->constant(1))};
    Gradients gradients(
        *g, [](const Node&leaf) { return leaf.a; }, AtCorner::mean),
        of_one_side(*g, [](const Node&leaf) { return leaf.a; });
    // what a solver has: each operation on a side of its own
    NodeValues at_corner(*g, [](const Node&) { return 0.0; });
    const std::vector<double> sides{1, 1, -1, 2, 2, 1};
    for (std::size_t r = 0; r < roots.size(); ++r) {
        CAPTURE(r);
        CHECK(at_corner(of_one_side(roots[r])[0].second) == sides[r]);
    }
    std::vector<NodeId> written;
    for (NodeId root : roots) {
        auto list = gradients(root);
        REQUIRE(list.size() == 1);
        written.push_back(list[0].second);
    }
    Tape tape(g, roots);
    for (double at : {-0.25, 0.0, 0.25}) {
        CAPTURE(at);
        auto value = [&](NodeId root, double moved) { return NodeValues(*g, [&](const Node&) { return moved; })(root); };
        tape.at([&](const Node&) { return at; });
        std::vector<Complex> direction(tape.n_leaves(), 1.0), slopes;
        tape.along(direction, slopes);
        for (std::size_t r = 0; r < roots.size(); ++r) {
            CAPTURE(r);
            const double h = 0.0625, mean = (value(roots[r], at + h) - value(roots[r], at - h)) / (2 * h);
            CHECK(slopes[r].real() == mean);
            CHECK(value(written[r], at) == mean);
        }
    }
}

TEST_SUITE_END();

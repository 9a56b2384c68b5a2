// SPDX-License-Identifier: Apache-2.0
#include "algebra/enclosure.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <random>

using namespace netloop;

namespace {

// A random function of time, of a few operations.
NodeId random_function(Graph& g, std::mt19937& random, int depth)
{
    std::uniform_real_distribution<double> number(-2, 2);
    if (depth == 0)
        return std::uniform_int_distribution<>(0, 2)(random) == 0 ? g.constant(number(random))
                                                                  : g.add(g.mul(g.constant(number(random)), g.time()), g.constant(number(random)));
    auto sub = [&] { return random_function(g, random, depth - 1); };
    switch (std::uniform_int_distribution<>(0, 12)(random)) {
        case 0:
            return g.add(sub(), sub());
        case 1:
            return g.sub(sub(), sub());
        case 2:
            return g.mul(sub(), sub());
        case 3:
            return g.div(sub(), g.add(g.constant(3), g.unary(Op::sin, sub())));
        case 4:
            return g.unary(Op::sin, sub());
        case 5:
            return g.unary(Op::cos, sub());
        case 6:
            return g.unary(Op::tanh, sub());
        case 7:
            return g.binary(Op::max, sub(), sub());
        case 8:
            return g.binary(Op::min, sub(), sub());
        case 9:
            return g.unary(Op::abs, sub());
        case 10:
            return g.pow(sub(), g.constant(2));
        case 11:
            return g.unary(Op::atan, sub());
        default:
            return g.unary(Op::exp, g.unary(Op::sin, sub()));
    }
}

}  // namespace

TEST_SUITE_BEGIN("algebra");

TEST_CASE("values and slopes of five hundred random functions lie within their enclosures")
{
    for (unsigned seed = 1; seed <= 500; ++seed) {
        INFO("seed " << seed);
        std::mt19937 random(seed);
        Graph g;
        TimeFunction f(g, random_function(g, random, 4));
        double from = std::uniform_real_distribution<double>(-3, 3)(random), to = from + std::uniform_real_distribution<double>(0.01, 2)(random);
        Enclosed e = f.over(from, to);
        for (int k = 0; k < 40; ++k) {
            double t = from + (to - from) * k / 40.0, d = 1e-6;
            CHECK(f.at(t) >= e.value.low - 1e-12);
            CHECK(f.at(t) <= e.value.high + 1e-12);
            double slope = (f.at(t + d) - f.at(t)) / d, slack = 1e-4 * (1 + std::abs(slope));
            CHECK(slope >= e.slope.low - slack);
            CHECK(slope <= e.slope.high + slack);
        }
    }
}

TEST_CASE("turns and crossings of known functions are all found, and nothing else")
{
    Graph g;
    NodeId wave = g.unary(Op::sin, g.mul(g.constant(2 * M_PI), g.time()));
    TimeFunction f(g, wave);
    double t = 0;
    for (int k = 0; k < 200; ++k) {
        t = f.next_turn(t, 1e4);
        CHECK(t == doctest::Approx(0.25 + 0.5 * k).epsilon(1e-3));
    }
    t = 0;
    for (int k = 1; k < 100; ++k) {
        t = f.next_crossing(t, 1e4, 0);
        CHECK(t == doctest::Approx(0.5 * k).epsilon(1e-13));
    }
    CHECK(std::isinf(f.next_crossing(0, 1e6, 1.001)));  // never so high
    // a pulse of a tenth of a second within ten days
    NodeId away = g.div(g.sub(g.time(), g.constant(654321)), g.constant(0.1));
    TimeFunction pulse(g, g.unary(Op::exp, g.neg(g.mul(away, away))));
    CHECK(pulse.next_turn(0, 864000) == doctest::Approx(654321).epsilon(1e-9));
    CHECK(pulse.next_crossing(0, 864000, 0.5) == doctest::Approx(654321 - 0.1 * std::sqrt(std::log(2.0))).epsilon(1e-12));
    // straight
    CHECK(std::isinf(TimeFunction(g, g.mul(g.constant(3), g.time())).next_turn(0, 1e9)));
}

TEST_CASE("signals below an expression: the largest that run with time alone, and the time's part of a phase")
{
    Graph g;
    NodeId x = g.leaf(Op::unknown, 0), t = g.time();
    NodeId wave = g.unary(Op::sin, g.mul(g.constant(5), t)), ramp = g.mul(g.constant(2), t);
    CHECK(signals_below(g, {g.add(g.mul(x, wave), ramp)}) == std::vector<NodeId>{wave});
    CHECK(signals_below(g, {g.unary(Op::sin, g.add(ramp, x))}) == std::vector<NodeId>{g.unary(Op::sin, ramp)});
    CHECK(signals_below(g, {g.compare(Op::less, g.constant(0.5), wave, false)}) == std::vector<NodeId>{g.sub(g.constant(0.5), wave)});
    CHECK(signals_below(g, {g.add(x, ramp)}).empty());
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Derivatives of tables of two and three arguments and of called functions, against differences of values.
#include <doctest/doctest.h>

#include <cmath>

#include "algebra/differentiate.hpp"
#include "algebra/jet.hpp"
#include "algebra/procedure.hpp"

using namespace netloop;

namespace {

// Central difference of a function of one argument, of fourth order.
double slope(auto f, double x, double h)
{
    return (8 * (f(x + h) - f(x - h)) - (f(x + 2 * h) - f(x - 2 * h))) / (12 * h);
}

Table bent(bool smooth, Table::Outside outside)
{
    std::vector<double> x{0, 1, 2.5, 3}, y{-1, 0, 2, 5}, v;
    for (double a : x)
        for (double b : y) v.push_back(std::sin(a) * (2 + b) + 0.3 * b * b + a * a);
    return Table("bent", x, y, v, smooth, outside);
}

}  // namespace

TEST_SUITE_BEGIN("algebra");

TEST_CASE("series: products, quotients and nested ones have the derivatives of the rules")
{
    Jet<double> x(2.0);
    x.c[1] = 1;
    Jet<double> r = (x * x + Jet<double>(1)) / (x - Jet<double>(1));  // (x^2 + 1)/(x - 1) = x + 1 + 2/(x - 1)
    CHECK(r.c[0] == doctest::Approx(5));
    CHECK(r.c[1] == doctest::Approx(1 - 2));
    CHECK(2 * r.c[2] == doctest::Approx(4));
    CHECK(6 * r.c[3] == doctest::Approx(-12));
    Jet<Jet<double>> u(3.0), w(5.0);
    u.c[1] = Jet<double>(1.0);
    w.c[0].c[1] = 1;
    Jet<Jet<double>> product = u * u * w;
    CHECK(lead(product) == doctest::Approx(45));
    CHECK(product.c[1].c[0] == doctest::Approx(30));
    CHECK(product.c[1].c[1] == doctest::Approx(6));
    CHECK(product.c[2].c[1] == doctest::Approx(1));
}

TEST_CASE("a smooth table of two arguments: every mixed derivative is the difference of the one below")
{
    Table t = bent(true, Table::Outside::extend);
    for (double x : {0.3, 1.7, 2.8})
        for (double y : {-0.6, 0.9, 3.3}) {
            CAPTURE(x);
            CAPTURE(y);
            for (int dx = 0; dx < 2; ++dx)
                for (int dy = 0; dy < 2; ++dy) {
                    CAPTURE(dx);
                    CAPTURE(dy);
                    CHECK(t(x, y, dx + 1, dy) == doctest::Approx(slope([&](double a) { return t(a, y, dx, dy); }, x, 1e-3)).epsilon(1e-7));
                    CHECK(t(x, y, dx, dy + 1) == doctest::Approx(slope([&](double b) { return t(x, b, dx, dy); }, y, 1e-3)).epsilon(1e-7));
                }
        }
    // through its points, and straight on beyond them
    CHECK(t(1, 2, 0, 0) == doctest::Approx(std::sin(1) * 4 + 1.2 + 1));
    CHECK(t(5, 2, 0, 0) - t(4, 2, 0, 0) == doctest::Approx(t(3, 2, 1, 0)).epsilon(1e-9));
    CHECK(bent(true, Table::Outside::hold)(9, 2, 0, 0) == doctest::Approx(t(3, 2, 0, 0)));
    CHECK(bent(true, Table::Outside::hold)(9, 2, 1, 0) == 0);
    CHECK(std::isnan(bent(true, Table::Outside::refuse)(9, 2, 0, 0)));
}

TEST_CASE("a linear table of two arguments beyond its points, on both sides of both arguments")
{
    Table hold = bent(false, Table::Outside::hold), extend = bent(false, Table::Outside::extend);
    CHECK(hold(-4, 0, 0, 0) == doctest::Approx(hold(0, 0, 0, 0)));
    CHECK(hold(9, 9, 0, 0) == doctest::Approx(hold(3, 5, 0, 0)));
    CHECK(extend(4, 0, 0, 0) == doctest::Approx(extend(3, 0, 0, 0) + (extend(3, 0, 0, 0) - extend(2.5, 0, 0, 0)) / 0.5));
    CHECK(extend(-1, -2, 0, 0) == doctest::Approx(2 * extend(0, -2, 0, 0) - extend(1, -2, 0, 0)));
}

TEST_CASE("a table of three arguments: values at its points, mixed derivatives by differences")
{
    std::array<std::vector<double>, 3> knots{{{0, 1, 3}, {-2, 0, 1, 4}, {0, 0.5, 2}}};
    auto f = [](double x, double y, double z) { return std::exp(0.4 * x) * (y * y + 3) + z * z * (1 + 0.2 * x) - y * z; };
    std::vector<double> v;
    for (double x : knots[0])
        for (double y : knots[1])
            for (double z : knots[2]) v.push_back(f(x, y, z));
    Graph g;
    for (bool smooth : {false, true}) {
        CAPTURE(smooth);
        auto table = std::make_shared<Table3>("map", knots, v, smooth, Table::Outside::extend);
        auto value = [](const Callable& c, double x, double y, double z) {
            double at[] = {x, y, z};
            return c.evaluate(at, nullptr);
        };
        CHECK(value(*table, 1, 0, 2) == doctest::Approx(f(1, 0, 2)));
        CHECK(value(*table, 3, 4, 0.5) == doctest::Approx(f(3, 4, 0.5)));
        if (!smooth) {
            CHECK(value(*table, 0.5, 0, 0) == doctest::Approx((f(0, 0, 0) + f(1, 0, 0)) / 2));
            continue;
        }
        CallablePtr by_x = table->derivative(g, 0), by_y = table->derivative(g, 1), by_z = table->derivative(g, 2), by_xz = by_x->derivative(g, 2);
        double x = 1.4, y = 2.2, z = 0.8;
        CHECK(value(*by_x, x, y, z) == doctest::Approx(slope([&](double a) { return value(*table, a, y, z); }, x, 1e-3)).epsilon(1e-7));
        CHECK(value(*by_y, x, y, z) == doctest::Approx(slope([&](double a) { return value(*table, x, a, z); }, y, 1e-3)).epsilon(1e-7));
        CHECK(value(*by_z, x, y, z) == doctest::Approx(slope([&](double a) { return value(*table, x, y, a); }, z, 1e-3)).epsilon(1e-7));
        CHECK(value(*by_xz, x, y, z) == doctest::Approx(slope([&](double a) { return value(*by_z, a, y, z); }, x, 1e-3)).epsilon(1e-7));
    }
    CHECK_THROWS_AS(Table3("short", knots, {1, 2, 3}, true, Table::Outside::hold), std::invalid_argument);
}

TEST_CASE("a procedure: value, first and second derivative, folding of constants, rewriting of its arguments")
{
    // p(x, n) = x + x^2 + ... + x^n, by a loop; registers 0: x, 1: n, 2: term, 3: sum, 4: count
    Graph g;
    auto reg = [&](std::uint32_t r) { return g.leaf(Op::unknown, r); };
    using Kind = ProcedureStep::Kind;
    ProcedureText text;
    text.name = "powers";
    text.arguments = {0, 1};
    text.result = 3;
    text.n_registers = 5;
    text.steps.push_back({Kind::assign, 2, g.constant(1)});
    ProcedureStep loop{Kind::repeat, 0, g.compare(Op::less, reg(4), reg(1), false)};
    loop.then_steps.push_back({Kind::assign, 2, g.mul(reg(2), reg(0))});
    loop.then_steps.push_back({Kind::assign, 3, g.add(reg(3), reg(2))});
    loop.then_steps.push_back({Kind::assign, 4, g.add(reg(4), g.constant(1))});
    text.steps.push_back(loop);
    std::uint32_t p = g.add_callable(make_procedure(g, text));
    CHECK(g.is_constant(g.call(p, {g.constant(2), g.constant(3)}), 14));

    NodeId x = g.quantity(0), call = g.call(p, {x, g.constant(4)});
    CHECK(g.call(p, {x, g.constant(4)}) == call);  // shared like any other node
    CHECK(g.text(call, [](const Node&) { return std::string("x"); }) == "powers(x, 4)");
    Gradients gradients(g, [](const Node& n) { return n.op == Op::quantity ? n.a : kNoNode; });
    NodeId first = gradients(call)[0].second, second = gradients(first)[0].second;
    double at = 1.3;
    NodeValues values(g, [&](const Node&) { return at; });
    CHECK(values(call) == doctest::Approx(at + at * at + std::pow(at, 3) + std::pow(at, 4)));
    CHECK(values(first) == doctest::Approx(1 + 2 * at + 3 * at * at + 4 * std::pow(at, 3)));
    CHECK(values(second) == doctest::Approx(2 + 6 * at + 12 * at * at));

    Substitution twice(g, [&](const Node& n) { return g.mul(g.constant(2), g.quantity(n.a, n.b)); });
    NodeId doubled = twice(call);
    NodeValues fresh(g, [&](const Node&) { return at; });
    double d = 2 * at;
    CHECK(fresh(doubled) == doctest::Approx(d + d * d + std::pow(d, 3) + std::pow(d, 4)));
    TimeDerivative derivative(g);
    NodeId rate = derivative(call);
    NodeValues moving(g, [&](const Node& n) { return n.op == Op::quantity && n.b == 1 ? 0.5 : at; });
    CHECK(moving(rate) == doctest::Approx(0.5 * (1 + 2 * at + 3 * at * at + 4 * std::pow(at, 3))));
}

TEST_SUITE_END();

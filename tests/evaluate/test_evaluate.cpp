// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <cmath>
#include <filesystem>
#include <random>

#include "api/internal.hpp"
#include "evaluate/lower.hpp"
#include "integrate/simulate.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

// The bridge and the first lessons.
std::vector<test::Shipped> small_models()
{
    std::vector<test::Shipped> list = test::shipped_models();
    std::erase_if(list, [](const test::Shipped& m) { return m.file.find("examples/first/") == std::string::npos && !m.file.ends_with("bascule/bridge.loop"); });
    std::sort(list.begin(), list.end(), [](const test::Shipped& a, const test::Shipped& b) { return a.file < b.file; });
    return list;
}

}  // namespace

TEST_SUITE_BEGIN("evaluate");

TEST_CASE("a lowered program gives what the graph gives, single or as kernels over many instances")
{
    for (unsigned seed = 1; seed <= 60; ++seed) {
        std::mt19937 random(seed);
        Graph g;
        const std::uint32_t n = 40, n_parameters = 3;
        std::uint32_t table = g.add_table(
            std::make_shared<Table>("t", std::vector<double>{-3, 0, 2}, std::vector<double>{}, std::vector<double>{1, 2, -1}, true, Table::Outside::extend));
        // a shape made of random operations, repeated over the unknowns; every third seed all roots differ
        std::vector<NodeId> roots;
        auto expression = [&](std::uint32_t i, unsigned shape) {
            std::mt19937 r(shape);
            std::vector<NodeId> pool{g.leaf(Op::unknown, i), g.leaf(Op::unknown, (i + 1) % n),
                                     g.leaf(Op::rate, i),    g.leaf(Op::parameter, i % n_parameters),
                                     g.constant(0.5),        g.time(),
                                     g.leaf(Op::mode, 0)};
            for (int k = 0; k < 25; ++k) {
                NodeId a = pool[r() % pool.size()], b = pool[r() % pool.size()], c = pool[r() % pool.size()];
                switch (r() % 10) {
                    case 0:
                        pool.push_back(g.add(a, b));
                        break;
                    case 1:
                        pool.push_back(g.sub(a, b));
                        break;
                    case 2:
                        pool.push_back(g.mul(a, b));
                        break;
                    case 3:
                        pool.push_back(g.div(a, g.add(g.constant(2), g.mul(b, b))));
                        break;
                    case 4:
                        pool.push_back(g.unary(Op::sin, a));
                        break;
                    case 5:
                        pool.push_back(g.select(g.compare(Op::less, a, b, false), b, c));
                        break;
                    case 6:
                        pool.push_back(g.lookup(table, a, kNoNode));
                        break;
                    case 7:
                        pool.push_back(g.binary(Op::max, a, b));
                        break;
                    case 8:
                        pool.push_back(g.unary(Op::sqrt, g.unary(Op::abs, a)));
                        break;
                    default:
                        pool.push_back(g.unary(Op::tanh, a));
                        break;
                }
            }
            return pool.back();
        };
        for (std::uint32_t i = 0; i < n; ++i) roots.push_back(expression(i, seed % 3 == 0 ? seed * 1000 + i : seed));
        Lowering lowering(g, n_parameters, 1, 0, n);
        Program program = lowering.lower("test", roots);
        Program prologue = lowering.prologue();
        MemoryLayout layout = lowering.layout();
        std::vector<double> memory(layout.size, 0.0), registers;
        for (const auto& [place, value] : lowering.literals()) memory[place] = value;
        std::uniform_real_distribution<double> number(-2, 2);
        memory[layout.time] = 0.75;
        memory[layout.modes] = 1;
        for (std::uint32_t i = 0; i < n_parameters; ++i) memory[layout.parameters + i] = number(random);
        for (std::uint32_t i = 0; i < n; ++i) memory[layout.z + i] = number(random), memory[layout.rates + i] = number(random);
        for (Program* p : {&prologue, &program}) {
            prepare(*p, {g.tables(), g.callables()});
            execute(*p, Evaluator::plain, memory, registers);
        }
        NodeValues values(g, [&](const Node& leaf) {
            switch (leaf.op) {
                case Op::time:
                    return memory[layout.time];
                case Op::parameter:
                    return memory[layout.parameters + leaf.a];
                case Op::mode:
                    return memory[layout.modes + leaf.a];
                case Op::unknown:
                    return memory[layout.z + leaf.a];
                default:
                    return memory[layout.rates + leaf.a];
            }
        });
        bool kernel = false;
        for (const Kernel& k : program.kernels) kernel |= k.n_instances >= 8;
        INFO("seed " << seed);
        if (seed % 3 != 0 && program.n_operations() > 100) CHECK(kernel);
        for (std::uint32_t i = 0; i < n; ++i) {
            double wanted = values(roots[i]), got = memory[program.results[i]];
            CHECK((got == wanted || (std::isnan(got) && std::isnan(wanted))));  // bit for bit
        }
    }
}

TEST_CASE("the exact Jacobian of every shipped model agrees with differences")
{
    for (const test::Shipped& model : small_models()) {
        INFO(model.file);
        Library library = Library::standard();
        library.load_file(model.file);
        CompiledSystem system = compile(library, {.system = "", .scenario = model.scenario});
        Simulation simulation(system.data().model, system.data().sources, {});
        simulation.evaluation().settle_parameters();
        simulation.start(0);
        simulation.advance(0.3, {}, {});
        const CompiledModel& m = *system.data().model;
        Evaluation& e = simulation.evaluation();
        State s = simulation.state();
        auto n = m.n();
        std::vector<double> by_z, by_rate, f0(n), f1(n);
        e.at(s.time, s.z.data(), s.rates.data());
        e.jacobian(by_z, by_rate);
        for (std::uint32_t c = 0; c < n; ++c) {
            for (bool rate : {false, true}) {
                std::vector<double>& x = rate ? s.rates : s.z;
                double h = 1e-6 * std::max(m.form.z[c].usual, std::abs(x[c])), before = x[c];
                x[c] = before + h;
                e.at(s.time, s.z.data(), s.rates.data());
                e.residual(f1.data());
                x[c] = before - h;
                e.at(s.time, s.z.data(), s.rates.data());
                e.residual(f0.data());
                x[c] = before;
                std::vector<double> exact(n, 0.0);
                for (auto k = m.pattern.starts[c]; k < m.pattern.starts[c + 1]; ++k)
                    exact[static_cast<std::size_t>(m.pattern.rows[static_cast<std::size_t>(k)])] = (rate ? by_rate : by_z)[static_cast<std::size_t>(k)];
                for (std::size_t r = 0; r < n; ++r) {
                    double size = std::max({std::abs(f0[r]), std::abs(f1[r]), 1e-9}) / h * 1e-9;
                    INFO("residual " << r << ", column " << system.data().model->form.z_name(c) << (rate ? "'" : ""));
                    CHECK(exact[r] == doctest::Approx((f1[r] - f0[r]) / (2 * h)).epsilon(2e-4).scale(size * 1e4));
                }
            }
        }
    }
}

TEST_CASE("cells of a `for` and as many parts written one by one give the same programs")
{
    constexpr int kCells = 40;
    std::string cell =
        "use heat\ncomponent Cell { port left, right : thermal ; param c : J/K = 5 J/K in 0.1 J/K .. 1e9 J/K ; param g : W/K = 4 W/K in 0.1 W/K .. 1e9 W/K\n"
        "var T : K init 300 K ; left.T = T ; c * T' = left.heat + right.heat ; right.heat = g * (right.T - T) }\n";
    std::string by_for = cell + "system S { option n = " + std::to_string(kCells) + " ; part b[n] : Cell ; for i in 1 .. n - 1 { b[i].right -- b[i+1].left } }";
    std::string one_by_one = cell + "system S {\n";
    for (int i = 1; i <= kCells; ++i) one_by_one += "part b" + std::to_string(i) + " : Cell\n";
    for (int i = 1; i < kCells; ++i) one_by_one += "b" + std::to_string(i) + ".right -- b" + std::to_string(i + 1) + ".left\n";
    one_by_one += "}";
    CompiledSystem a = test::compile(by_for), b = test::compile(one_by_one);
    auto shape = [](const Program& p) {
        std::vector<std::pair<std::size_t, std::uint32_t>> list;
        for (const Kernel& k : p.kernels) list.emplace_back(k.code.size(), k.n_instances);
        return list;
    };
    const CompiledModel &x = *a.data().model, &y = *b.data().model;
    CHECK(x.residual.text() == y.residual.text());
    CHECK(x.jacobian.text() == y.jacobian.text());
    CHECK(shape(x.outputs) == shape(y.outputs));
    std::uint32_t most = 0;
    for (const Kernel& k : x.residual.kernels) most = std::max(most, k.n_instances);
    CHECK(most >= kCells - 2);
    CHECK(a.explain().find("residual") != std::string::npos);
}

TEST_CASE("parameters that depend on others follow them; a given value wins")
{
    CompiledSystem s =
        test::compile("system S { param a : m = 2 m in 1 m .. 10 m ; param b : m = 3 * a ; param c : m = b + a ; var x : m init 0 m ; x' = c / 1 s }");
    Run run(s);
    CHECK(run.value("c") == doctest::Approx(8));
    run.set("a", q(3, "m"));
    CHECK(run.value("c") == doctest::Approx(12));
    run.set("b", q(100, "cm"));
    CHECK(run.value("c") == doctest::Approx(4));
    CHECK_THROWS_AS(run.set("a", q(20, "m")), RunError);
    CHECK(run.value("a") == doctest::Approx(3));  // as it was
    CHECK_THROWS_AS(run.set("a", q(2, "s")), UsageError);
    CHECK_THROWS_AS(run.set("a", q(2, "mmm")), UsageError);
    CHECK_THROWS_AS(run.set("a", 2.0), UsageError);
    CHECK_THROWS_AS(run.set("d", q(2, "m")), UsageError);
    CHECK_THROWS_AS(run.set("x", q(2, "m")), UsageError);
    CHECK_THROWS_AS(run.set("a", q(std::nan(""), "m")), UsageError);
}

TEST_SUITE_END();

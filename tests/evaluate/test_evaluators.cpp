// SPDX-License-Identifier: Apache-2.0
// All forms of a program give the same numbers, bit for bit: plain and grouped interpreter, machine code in both encodings.
#include <dlfcn.h>
#include <doctest/doctest.h>

#include <bit>
#include <cmath>
#include <filesystem>
#include <random>
#include <thread>

#include "api/internal.hpp"
#include "evaluate/c_source.hpp"
#include "evaluate/lower.hpp"
#include "evaluate/machine_code.hpp"
#include "integrate/simulate.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

bool same(double a, double b)
{
    return std::bit_cast<std::uint64_t>(a) == std::bit_cast<std::uint64_t>(b) || (std::isnan(a) && std::isnan(b));
}

// x*y + x/2, as a function that programs call.
class Blend : public Callable {
public:
    const std::string& name() const override { return name_; }
    std::size_t n_arguments() const override { return 2; }
    std::size_t n_scratch() const override { return 1; }
    double evaluate(const double* a, double* scratch) const override
    {
        scratch[0] = a[0] * a[1];
        return scratch[0] + a[0] / 2;
    }
    std::shared_ptr<const Callable> derivative(Graph&, std::size_t) const override { return nullptr; }

private:
    std::string name_ = "blend";
};

constexpr std::uint32_t kUnknowns = 37, kParameters = 3;

// Random expressions over all operations. `same_shapes`: the roots are instances of a few shapes, so that kernels arise.
struct RandomProgram {
    RandomProgram(unsigned seed, bool same_shapes, int length) : random(seed), table(add_table()), function(g.add_callable(std::make_shared<Blend>()))
    {
        for (std::uint32_t i = 0; i < kUnknowns; ++i) {
            std::mt19937 shape(same_shapes ? seed * 7 + i % 2 : seed * 1000 + i);
            roots.push_back(expression(i, shape, length));
        }
        // some roots are read by others, so that results are inputs further up
        for (std::uint32_t i = 0; i + 1 < kUnknowns; i += 3) roots.push_back(g.mul(roots[i], g.unary(Op::cos, roots[i + 1])));
        Lowering lowering(g, kParameters, 1, 0, kUnknowns);
        program = lowering.lower("test", roots);
        prologue = lowering.prologue();
        layout = lowering.layout();
        memory.assign(layout.size, 0.0);
        for (const auto& [place, value] : lowering.literals()) memory[place] = value;
        std::uniform_real_distribution<double> number(-2, 2);
        memory[layout.time] = 0.75;
        memory[layout.modes] = 1;
        for (std::uint32_t i = 0; i < kParameters; ++i) memory[layout.parameters + i] = number(random);
        for (std::uint32_t i = 0; i < kUnknowns; ++i) memory[layout.z + i] = number(random), memory[layout.rates + i] = number(random);
        memory[layout.z + 3] = std::numeric_limits<double>::quiet_NaN();
        memory[layout.z + 4] = HUGE_VAL;
        memory[layout.z + 5] = -0.0;
        prepare(program, callables());
        prepare(prologue, callables());
    }
    Callables callables() const { return {g.tables(), g.callables()}; }

    std::uint32_t add_table()
    {
        return g.add_table(
            std::make_shared<Table>("t", std::vector<double>{-3, 0, 2}, std::vector<double>{}, std::vector<double>{1, 2, -1}, true, Table::Outside::extend));
    }

    NodeId expression(std::uint32_t i, std::mt19937& r, int length)
    {
        static const std::vector<Op> unary{Op::neg,  Op::sqrt, Op::exp,  Op::log,  Op::sin, Op::cos,  Op::tan,   Op::asin, Op::acos,
                                           Op::atan, Op::sinh, Op::cosh, Op::tanh, Op::abs, Op::sign, Op::floor, Op::ceil, Op::logical_not};
        static const std::vector<Op> binary{Op::add, Op::sub, Op::mul, Op::div, Op::pow, Op::atan2, Op::min, Op::max, Op::logical_and, Op::logical_or};
        std::vector<NodeId> pool{g.leaf(Op::unknown, i), g.leaf(Op::unknown, (i + 1) % kUnknowns),
                                 g.leaf(Op::rate, i),    g.leaf(Op::parameter, i % kParameters),
                                 g.constant(0.5),        g.time(),
                                 g.leaf(Op::mode, 0)};
        for (int k = 0; k < length; ++k) {
            auto pick = [&] { return pool[r() % 3 == 0 ? r() % pool.size() : pool.size() - 1 - r() % std::min<std::size_t>(pool.size(), 12)]; };
            NodeId a = pick(), b = pick(), c = pick();
            unsigned kind = r() % 16;
            if (kind < 8)
                pool.push_back(g.binary(binary[r() % 4], a, b));
            else if (kind < 10)
                pool.push_back(g.binary(binary[r() % binary.size()], a, b));
            else if (kind < 12)
                pool.push_back(g.unary(unary[r() % unary.size()], a));
            else if (kind == 12)
                pool.push_back(g.select(g.compare(r() % 2 == 0 ? Op::less : Op::less_equal, a, b, false), b, c));
            else if (kind == 13)
                pool.push_back(g.select(g.compare(Op::equal, a, b, false), a, c));
            else if (kind == 14)
                pool.push_back(g.lookup(table, a, kNoNode));
            else
                pool.push_back(g.call(function, {a, b}));
        }
        return g.add(pool.back(), g.sub(pool[pool.size() - 2], pool[pool.size() - 3]));
    }

    std::vector<double> results(const std::vector<double>& from) const
    {
        std::vector<double> out;
        for (std::uint32_t place : program.results) out.push_back(from[place]);
        return out;
    }

    std::mt19937 random;
    Graph g;
    std::uint32_t table, function;
    std::vector<NodeId> roots;
    Program program, prologue;
    MemoryLayout layout;
    std::vector<double> memory;
};

// A C file, compiled as the header of c_source.hpp asks for, and a function of it.
class Compiled {
public:
    Compiled(const std::string& source, const test::Scratch& folder, int number)
    {
        std::string c = folder / ("p" + std::to_string(number) + ".c"), library = folder / ("p" + std::to_string(number) + ".so");
        test::write_file(c, source);
        std::string command = "cc -std=c99 -Wall -Wextra -Werror -O1 -fno-math-errno -ffp-contract=off -shared -fPIC -o " + library + " " + c + " -lm";
        REQUIRE(std::system(command.c_str()) == 0);
        handle_ = dlopen(library.c_str(), RTLD_NOW);
        REQUIRE(handle_ != nullptr);
    }
    ~Compiled() { dlclose(handle_); }
    Compiled(const Compiled&) = delete;
    Compiled& operator=(const Compiled&) = delete;
    void run(const std::string& name, std::vector<double>& memory, const CServices& services) const
    {
        auto* f = reinterpret_cast<void (*)(double*, const CServices*)>(dlsym(handle_, name.c_str()));
        REQUIRE((f != nullptr));
        f(memory.data(), &services);
    }

private:
    void* handle_ = nullptr;
};

}  // namespace

TEST_SUITE_BEGIN("evaluate");

TEST_CASE("C source of random programs, compiled, gives the same bits")
{
    test::Scratch folder;
    std::string text = c_source_head();
    std::vector<std::unique_ptr<RandomProgram>> programs;
    for (unsigned seed = 201; seed <= 215; ++seed) {
        // the longest is cut into several functions
        programs.push_back(std::make_unique<RandomProgram>(seed, seed % 3 == 0, seed % 5 == 0 ? 150 : 25));
        programs.back()->program.name = "p" + std::to_string(seed);
        text += c_source(programs.back()->program);
    }
    CHECK(text.find("for (unsigned i = 0;") != std::string::npos);
    Compiled compiled(text, folder, 0);
    for (const auto& p : programs) {
        INFO(p->program.name);
        std::vector<double> scratch, plain = p->memory, other = p->memory;
        execute(p->prologue, Evaluator::plain, plain, scratch);
        execute(p->prologue, Evaluator::plain, other, scratch);
        execute(p->program, Evaluator::plain, plain, scratch);
        Callables callables = p->callables();
        compiled.run(p->program.name, other, c_services(callables));
        for (std::uint32_t place : p->program.results) CHECK(same(plain[place], other[place]));
    }
}

TEST_CASE("C source of every shipped model gives the same residuals and Jacobians, bit for bit")
{
    test::Scratch folder;
    int number = 0;
    for (const test::Shipped& shipped : test::shipped_models()) {
        INFO(shipped.file);
        Library library = Library::standard();
        library.load_file(shipped.file);
        CompiledSystem system = compile(library, {.system = "", .scenario = shipped.scenario});
        const CompiledModel& m = *system.data().model;
        Compiled compiled(c_source_head() + c_source(m.residual) + c_source(m.jacobian), folder, ++number);
        std::mt19937 random(7);
        std::uniform_real_distribution<double> number_of(0.1, 2);
        std::vector<double> memory(m.layout.size), scratch;
        for (double& v : memory) v = number_of(random);
        for (const auto& [place, value] : m.literals) memory[place] = value;
        std::vector<double> other = memory;
        execute(m.residual, Evaluator::plain, memory, scratch);
        execute(m.jacobian, Evaluator::plain, memory, scratch);
        Callables callables = m.callables();
        compiled.run("residual", other, c_services(callables));
        compiled.run("jacobian", other, c_services(callables));
        for (const Program* p : {&m.residual, &m.jacobian})
            for (std::uint32_t place : p->results) CHECK(same(memory[place], other[place]));
    }
    CHECK(number >= 10);
}

TEST_CASE("random programs: every evaluator gives the same bits")
{
    bool wide = false, straight = false;
    for (unsigned seed = 1; seed <= 150; ++seed) {
        RandomProgram p(seed, seed % 2 == 0, seed % 5 == 0 ? 120 : 30);
        INFO("seed " << seed);
        std::vector<double> scratch, plain = p.memory;
        execute(p.prologue, Evaluator::plain, plain, scratch);
        execute(p.program, Evaluator::plain, plain, scratch);
        std::vector<double> wanted = p.results(plain);
        for (const Kernel& k : p.program.kernels) (k.n_instances > 1 ? wide : straight) = true;
        auto check = [&](const char* which, const std::vector<double>& memory) {
            INFO(which);
            std::vector<double> got = p.results(memory);
            for (std::size_t i = 0; i < wanted.size(); ++i) {
                INFO("result " << i << ": " << got[i] << " instead of " << wanted[i]);
                CHECK(same(got[i], wanted[i]));
            }
        };
        for (Evaluator e : {Evaluator::grouped, Evaluator::machine, Evaluator::automatic}) {
            std::vector<double> memory = p.memory;
            execute(p.prologue, e, memory, scratch);
            execute(p.program, e, memory, scratch);
            check(e == Evaluator::grouped ? "grouped" : "machine", memory);
        }
        // what runs must really be machine code, and the encoding of older processors must agree too (it has no wide form)
        if (Emitter::wide_available()) CHECK(MachineCode::make(p.program, p.callables()) != nullptr);
        if (auto older = MachineCode::make(p.program, p.callables(), Emitter::Encoding::older)) {
            CHECK(seed % 2 == 1);
            std::vector<double> memory = p.memory;
            execute(p.prologue, Evaluator::plain, memory, scratch);
            older->run(memory.data(), scratch.data());
            check("older encoding", memory);
        }
    }
    CHECK(wide);
    CHECK(straight);
}

TEST_CASE("one program may run in several threads, each with its own memory")
{
    RandomProgram p(4, true, 60);
    std::vector<double> scratch, plain = p.memory;
    execute(p.prologue, Evaluator::plain, plain, scratch);
    execute(p.program, Evaluator::plain, plain, scratch);
    std::vector<std::vector<double>> memories(4, p.memory);
    std::vector<std::thread> threads;
    for (auto& memory : memories)
        threads.emplace_back([&p, &memory] {
            std::vector<double> own;
            for (int k = 0; k < 100; ++k) {
                execute(p.prologue, Evaluator::automatic, memory, own);
                execute(p.program, Evaluator::automatic, memory, own);
            }
        });
    for (std::thread& t : threads) t.join();
    for (const auto& memory : memories)
        for (std::size_t i = 0; i < p.program.results.size(); ++i) CHECK(same(p.results(memory)[i], p.results(plain)[i]));
}

TEST_CASE("every shipped model runs the same, bit for bit, whichever evaluator")
{
    for (const test::Shipped& shipped : test::shipped_models()) {
        INFO(shipped.file);
        Library library = Library::standard();
        library.load_file(shipped.file);
        CompiledSystem system = compile(library, {.system = "", .scenario = shipped.scenario});
        std::vector<State> ends;
        std::vector<std::size_t> steps;
        for (Evaluator e : {Evaluator::plain, Evaluator::grouped, Evaluator::machine}) {
            IntegratorSettings settings;
            settings.method = IntegratorSettings::Method::bdf;
            settings.evaluator = e;
            Simulation simulation(system.data().model, system.data().sources, settings);
            simulation.evaluation().settle_parameters();
            simulation.start(0);
            simulation.advance(2, {0.5, 1}, {});
            ends.push_back(simulation.state());
            steps.push_back(simulation.statistics().counts.steps);
        }
        for (std::size_t k = 1; k < ends.size(); ++k) {
            CHECK(steps[k] == steps[0]);
            for (std::size_t i = 0; i < ends[0].z.size(); ++i) CHECK(same(ends[k].z[i], ends[0].z[i]));
        }
    }
}

TEST_SUITE_END();

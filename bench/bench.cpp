// SPDX-License-Identifier: Apache-2.0
// What must be fast, measured side by side in one run, so that ratios hold on a noisy machine.
//   build/release/bench/netloop_bench
#include <benchmark/benchmark.h>
#include <netloop/netloop.hpp>

#include <cmath>
#include <string>

#include "linear/linear_solver.hpp"
#include "verified.hpp"

namespace nl = netloop;

namespace {

const std::string kBridge = NETLOOP_SOURCE_DIR "/examples/bascule/bridge.loop";

// Parse, check and compile the bridge, the libraries it uses parsed anew each time.
void compile_bridge(benchmark::State& state)
{
    for (auto _ : state) {
        nl::Library library = nl::Library::standard();
        library.load_file(kBridge);
        benchmark::DoNotOptimize(nl::compile(library));
    }
}
BENCHMARK(compile_bridge)->Unit(benchmark::kMillisecond);

void run_bridge(benchmark::State& state)
{
    nl::Library library = nl::Library::standard();
    library.load_file(kBridge);
    nl::CompiledSystem system = nl::compile(library);
    nl::run_verified(system);
    for (auto _ : state) {
        nl::Run run(system);
        benchmark::DoNotOptimize(run.simulate());
    }
}
BENCHMARK(run_bridge)->Unit(benchmark::kMillisecond);

// A conduction rod of n cells that radiates to its surroundings, heated at one end.
std::string rod(long cells)
{
    return "system Rod {\n    option n = " + std::to_string(cells) + R"(
    param conductance : W/K = 40 W/K in 0.01 W/K .. 1e6 W/K
    param capacity : J/K = 5 J/K in 0.01 J/K .. 1e6 J/K
    const radiation : W/K^4 = 2e-11 W/K^4
    const air : K = 290 K
    var T[n] : K init 290 K
    capacity * T[1]' = 500 W * sin(time / 3 s)^2 - conductance * (T[1] - T[2])
    for i in 2 .. n - 1 { capacity * T[i]' = conductance * (T[i-1] - 2*T[i] + T[i+1]) - radiation * (T[i]^4 - air^4) }
    capacity * T[n]' = conductance * (T[n-1] - T[n]) - radiation * (T[n]^4 - air^4)
}
)";
}

void integrate_rod(benchmark::State& state, nl::RunOptions::Jacobian jacobian)
{
    nl::Library library = nl::Library::standard();
    library.load_text("rod.loop", rod(state.range(0)));
    nl::CompiledSystem system = nl::compile(library);
    nl::RunOptions options;
    options.stop = 60;
    options.output_every = 10;
    options.keep = {"T[1]"};
    options.jacobian = jacobian;
    nl::run_verified(system, options);
    double seconds = 0;
    std::size_t runs = 0;
    for (auto _ : state) {
        nl::Run run(system);
        benchmark::DoNotOptimize(run.simulate(options));
        seconds += run.summary().wall_seconds;
        ++runs;
    }
    state.counters["integration_ms"] = 1e3 * seconds / static_cast<double>(runs);
}
BENCHMARK_CAPTURE(integrate_rod, exact, nl::RunOptions::Jacobian::exact)->Arg(1000)->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(integrate_rod, grouped_columns, nl::RunOptions::Jacobian::grouped_columns)->Arg(1000)->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(integrate_rod, one_column_at_a_time, nl::RunOptions::Jacobian::one_column_at_a_time)->Arg(1000)->Unit(benchmark::kMillisecond);

void compile_rod(benchmark::State& state)
{
    std::string text = rod(state.range(0));
    for (auto _ : state) {
        nl::Library library = nl::Library::standard();
        library.load_text("rod.loop", text);
        benchmark::DoNotOptimize(nl::compile(library));
    }
}
BENCHMARK(compile_rod)->Arg(1000)->Arg(10000)->Arg(100000)->Unit(benchmark::kMillisecond);

// Parts built by `for`: bodies of heat in a row, in a square and in a tree, with layers between them; about `equations` of them.
std::string bodies(const std::string& shape, long equations)
{
    std::string head = "use heat\nsystem S {\n";
    if (shape == "row" || shape == "tree") {
        std::string from = shape == "row" ? "i" : "floor((i+1)/2)";
        return head + "    option n = " + std::to_string(equations / 7) +
               "\n    part c[n] : HeatMass()\n    part k[n-1] : Conduction()\n    for i in 1 .. n-1 { c[" + from +
               "].surface -- k[i].a ; k[i].b -- c[i+1].surface }\n}\n";
    }
    auto side = static_cast<long>(std::sqrt(static_cast<double>(equations) / 11));
    return head + "    option n = " + std::to_string(side) + R"(
    part c[n*n] : HeatMass()
    part h[n*(n-1)] : Conduction()
    part v[n*(n-1)] : Conduction()
    for i in 1 .. n { for j in 1 .. n-1 { c[(i-1)*n+j].surface -- h[(i-1)*(n-1)+j].a ; h[(i-1)*(n-1)+j].b -- c[(i-1)*n+j+1].surface } }
    for i in 1 .. n-1 { for j in 1 .. n { c[(i-1)*n+j].surface -- v[(i-1)*n+j].a ; v[(i-1)*n+j].b -- c[i*n+j].surface } }
}
)";
}

void compile_bodies(benchmark::State& state, const std::string& shape)
{
    std::string text = bodies(shape, state.range(0));
    std::size_t equations = 0;
    for (auto _ : state) {
        nl::Library library = nl::Library::standard();
        library.load_text("bodies.loop", text);
        equations = nl::compile(library).n_equations();
    }
    state.counters["equations"] = static_cast<double>(equations);
}
BENCHMARK_CAPTURE(compile_bodies, row, "row")->RangeMultiplier(10)->Range(1000, 1000000)->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(compile_bodies, square, "square")->RangeMultiplier(10)->Range(1000, 1000000)->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(compile_bodies, tree, "tree")->RangeMultiplier(10)->Range(1000, 1000000)->Unit(benchmark::kMillisecond);

// Pendulums in x and y going over the top, each a little faster than the one before, 5 s.
void run_pendulums(benchmark::State& state)
{
    nl::Library library = nl::Library::standard();
    library.load_file(NETLOOP_SOURCE_DIR "/examples/mechanisms/pendulum.loop");
    library.load_text("many.loop", "use \"" NETLOOP_SOURCE_DIR "/examples/mechanisms/pendulum.loop\"\nsystem Many { option n = " +
                                       std::to_string(state.range(0)) + "\n part p[i in 1 .. n] : Pendulum(push = (7 + 0.5 * i / 1000) * 1 m/s) }\n");
    nl::CompiledSystem system = nl::compile(library, {.system = "Many", .scenario = "", .no_scenario = true});
    nl::RunOptions options;
    options.stop = 5;
    options.output_every = 0.1;
    options.keep = {"p[1].x"};
    nl::run_verified(system, options);
    for (auto _ : state) {
        nl::Run run(system);
        benchmark::DoNotOptimize(run.simulate(options));
    }
}
BENCHMARK(run_pendulums)->Arg(1)->Arg(10)->Arg(100)->Arg(1000)->Unit(benchmark::kMillisecond);

// The linear system of a chain of n cells with three neighbours, factored and solved once: which form is the fastest at which size.
void eliminate(benchmark::State& state, nl::LinearSolver::Form form)
{
    auto n = static_cast<std::uint32_t>(state.range(0));
    nl::SparsePattern pattern;
    pattern.n_columns = n;
    std::vector<double> values;
    for (std::uint32_t c = 0; c < n; ++c) {
        for (std::uint32_t r = c == 0 ? 0 : c - 1; r < std::min(n, c + 2); ++r) {
            pattern.rows.push_back(r);
            values.push_back(r == c ? 3.0 + 0.01 * c : -1.0);
        }
        pattern.starts.push_back(static_cast<std::int64_t>(pattern.rows.size()));
    }
    nl::LinearSolver solver(pattern, form);
    std::vector<double> b(n, 1.0);
    solver.factor(values);
    for (auto _ : state) {
        solver.factor(values);
        solver.solve(b.data());
        benchmark::DoNotOptimize(b.data());
        std::fill(b.begin(), b.end(), 1.0);
    }
    state.SetLabel(solver.form());
}
BENCHMARK_CAPTURE(eliminate, dense, nl::LinearSolver::Form::dense)->Arg(2)->Arg(4)->Arg(6)->Arg(8)->Arg(12)->Arg(20)->Arg(40);
BENCHMARK_CAPTURE(eliminate, program, nl::LinearSolver::Form::program)
    ->Arg(2)
    ->Arg(4)
    ->Arg(6)
    ->Arg(8)
    ->Arg(12)
    ->Arg(20)
    ->Arg(40)
    ->Arg(100)
    ->Arg(400)
    ->Arg(1000);
BENCHMARK_CAPTURE(eliminate, banded, nl::LinearSolver::Form::banded)->Arg(12)->Arg(40)->Arg(100)->Arg(400)->Arg(1000)->Arg(10000)->Arg(100000);
BENCHMARK_CAPTURE(eliminate, klu, nl::LinearSolver::Form::klu)
    ->Arg(2)
    ->Arg(4)
    ->Arg(8)
    ->Arg(12)
    ->Arg(40)
    ->Arg(100)
    ->Arg(400)
    ->Arg(1000)
    ->Arg(10000)
    ->Arg(100000);

}  // namespace

BENCHMARK_MAIN();

// SPDX-License-Identifier: Apache-2.0
// 20,000 equations, no two of a shape: nothing is gained by kernels over instances, and every operation is written out. Compile time, and
// one evaluation of all by each evaluator beside the same assignments as C, compiled with -O2.
#include <dlfcn.h>
#include <fmt/format.h>
#include <unistd.h>

#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <netloop/netloop.hpp>
#include <random>

#include "api/internal.hpp"
#include "evaluate/c_source.hpp"

namespace nl = netloop;

namespace {

// Each assignment is a random expression over states and earlier assignments; sizes stay moderate.
std::string model(int equations)
{
    constexpr int kStates = 10;
    std::mt19937 random(1);
    std::string text = fmt::format("system Various {{\n    var x[{}] init 0.5\n    var a[{}]\n", kStates, equations);
    for (int i = 1; i <= equations; ++i) {
        auto operand = [&]() -> std::string {
            unsigned kind = random() % 4;
            if (kind == 0 || i == 1) return fmt::format("x[{}]", 1 + random() % kStates);
            if (kind == 1) return fmt::format("{:.3f}", 0.5 + 0.001 * static_cast<double>(random() % 1000));
            return fmt::format("a[{}]", i - 1 - static_cast<int>(random() % static_cast<unsigned>(std::min(i - 1, 50))));
        };
        std::string e = operand();
        for (int k = 0; k < 6; ++k) {
            static const char* kForms[] = {"({0} + {1})",      "({1} - {0})", "({0} * {1})", "({0} / (1.5 + {1}^2))", "sqrt(1 + ({0} * {1})^2)",
                                           "({0} - {1} * {0})"};
            e = fmt::format(fmt::runtime(kForms[random() % 6]), e, operand());
        }
        text += fmt::format("    a[{}] = {} / (2 + abs({}))\n", i, e, operand());
    }
    for (int k = 0; k < kStates; ++k) {
        text += fmt::format("    x[{}]' = (-x[{}]", k + 1, k + 1);
        for (int i = k + 1; i <= equations; i += kStates) text += fmt::format(" + 1e-4 * a[{}]", i);
        text += ") * 1 s^-1\n";
    }
    return text + "}\n";
}

double seconds_of(int rounds, const std::function<void()>& work)
{
    work();
    double best = 1e300;
    for (int k = 0; k < 5; ++k) {
        auto begin = std::chrono::steady_clock::now();
        for (int r = 0; r < rounds; ++r) work();
        best = std::min(best, std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count() / rounds);
    }
    return best;
}

}  // namespace

int main(int argc, char** argv)
{
    int equations = argc > 1 ? std::atoi(argv[1]) : 20000;
    std::string text = model(equations);
    auto begin = std::chrono::steady_clock::now();
    nl::Library library = nl::Library::standard();
    library.load_text("various.loop", text);
    nl::CompiledSystem system = nl::compile(library);
    double compiled = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    const nl::CompiledModel& m = *system.data().model;

    std::vector<double> memory(m.layout.size, 0.5), scratch;
    for (const auto& [place, value] : m.literals) memory[place] = value;
    nl::execute(m.prologue, nl::Evaluator::plain, memory, scratch);
    std::filesystem::path folder = std::filesystem::temp_directory_path() / fmt::format("netloop_shapes_{}", getpid());
    std::filesystem::create_directory(folder);
    std::string c = (folder / "r.c").string(), so = (folder / "r.so").string();
    std::ofstream(c) << nl::c_source_head() << nl::c_source(m.residual);
    begin = std::chrono::steady_clock::now();
    std::string command = fmt::format("cc -std=c99 -O2 -ffp-contract=off -shared -fPIC -o {} {} -lm", so, c);
    void* handle = std::system(command.c_str()) == 0 ? dlopen(so.c_str(), RTLD_NOW) : nullptr;
    double by_cc = std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count();
    std::filesystem::remove_all(folder);
    if (handle == nullptr) {
        fmt::print(stderr, "the C compiler could not be used\n");
        return 1;
    }
    auto* compiled_c = reinterpret_cast<void (*)(double*, const nl::CServices*)>(dlsym(handle, "residual"));
    nl::Callables callables = m.callables();
    nl::CServices services = nl::c_services(callables);

    std::size_t operations = m.residual.n_operations();
    fmt::print("{} equations, no two of a shape: compiled in {:.2f} s (C compiler alone, -O2: {:.2f} s); {} operations in an evaluation\n", equations, compiled,
               by_cc, operations);
    double c_time = seconds_of(50, [&] { compiled_c(memory.data(), &services); });
    auto line = [&](const char* name, double seconds) {
        fmt::print("| {} | {:.0f} us | {:.2f} ns | {:.2f} |\n", name, 1e6 * seconds, 1e9 * seconds / static_cast<double>(operations), seconds / c_time);
    };
    fmt::print("| evaluator | one evaluation | an operation | times C |\n| --- | --- | --- | --- |\n");
    line("C, -O2", c_time);
    line("machine", seconds_of(50, [&] { nl::execute(m.residual, nl::Evaluator::machine, memory, scratch); }));
    line("grouped", seconds_of(50, [&] { nl::execute(m.residual, nl::Evaluator::grouped, memory, scratch); }));
    line("plain", seconds_of(50, [&] { nl::execute(m.residual, nl::Evaluator::plain, memory, scratch); }));
    return 0;
}

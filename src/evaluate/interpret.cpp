// The plain interpreter: scalar kernels operation by operation, kernels over many instances operation by operation over blocks
// of instances, so that the dispatch costs nothing there.
#include <algorithm>
#include <cmath>

#include "evaluate/program.hpp"

namespace netloop {
namespace {

constexpr std::uint32_t kBlock = 64;  ///< instances at a time: registers of a kernel stay in the first-level cache

// Arguments gathered by `from`, then the scratch of the function behind them; storage of a thread, since calls are rare and nest.
template <typename From>
double call(const Callable& f, const Kernel& kernel, const Instruction& i, From from)
{
    thread_local std::vector<double> store;
    if (store.size() < i.c + f.n_scratch()) store.resize(i.c + f.n_scratch());
    for (std::uint32_t k = 0; k < i.c; ++k) store[k] = from(kernel.arguments[i.b + k]);
    return f.evaluate(store.data(), store.data() + i.c);
}

double lookup(const Table& table, const Instruction& i, double x, double y)
{
    return table(x, y, i.flag / 16, i.flag % 16);
}

void run_scalar(const Kernel& kernel, const Callables& callables, double* m)
{
    for (const Instruction& i : kernel.code) {
        switch (i.op) {
            case Op::add:
                m[i.to] = m[i.a] + m[i.b];
                break;
            case Op::sub:
                m[i.to] = m[i.a] - m[i.b];
                break;
            case Op::mul:
                m[i.to] = m[i.a] * m[i.b];
                break;
            case Op::div:
                m[i.to] = m[i.a] / m[i.b];
                break;
            case Op::neg:
                m[i.to] = -m[i.a];
                break;
            case Op::select:
                m[i.to] = m[i.a] != 0 ? m[i.b] : m[i.c];
                break;
            case Op::lookup:
                m[i.to] = lookup(*callables.tables[i.a], i, m[i.b], i.c == kNoNode ? 0 : m[i.c]);
                break;
            case Op::call:
                m[i.to] = call(*callables.functions[i.a], kernel, i, [m](std::uint32_t place) { return m[place]; });
                break;
            case Op::constant:
                m[i.to] = m[i.a];
                break;  // a copy
            default:
                m[i.to] = evaluate_op(i.op, m[i.a], n_children(i.op) > 1 ? m[i.b] : 0, 0);
                break;
        }
    }
}

template <typename F>
void lanes(std::uint32_t n, double* to, const double* a, const double* b, F f)
{
    for (std::uint32_t k = 0; k < n; ++k) to[k] = f(a[k], b[k]);
}

void run_block(const Kernel& kernel, const Callables& callables, double* m, double* r, std::uint32_t first, std::uint32_t n)
{
    for (std::uint32_t k = 0; k < kernel.n_inputs; ++k) {
        const std::uint32_t* at = &kernel.inputs[static_cast<std::size_t>(k) * kernel.n_instances + first];
        for (std::uint32_t i = 0; i < n; ++i) r[k * kBlock + i] = m[at[i]];
    }
    for (const Instruction& i : kernel.code) {
        double* to = r + static_cast<std::size_t>(i.to) * kBlock;
        if (i.op == Op::call) {
            for (std::uint32_t k = 0; k < n; ++k)
                to[k] = call(*callables.functions[i.a], kernel, i, [r, k](std::uint32_t reg) { return r[static_cast<std::size_t>(reg) * kBlock + k]; });
            continue;
        }
        const double* a = i.op == Op::lookup ? nullptr : r + static_cast<std::size_t>(i.a) * kBlock;
        const double* b = n_children(i.op) > 1 ? r + static_cast<std::size_t>(i.b) * kBlock : a;
        const double* c = n_children(i.op) > 2 || (i.op == Op::lookup && i.c != kNoNode) ? r + static_cast<std::size_t>(i.c) * kBlock : nullptr;
        switch (i.op) {
            case Op::add:
                lanes(n, to, a, b, [](double x, double y) { return x + y; });
                break;
            case Op::sub:
                lanes(n, to, a, b, [](double x, double y) { return x - y; });
                break;
            case Op::mul:
                lanes(n, to, a, b, [](double x, double y) { return x * y; });
                break;
            case Op::div:
                lanes(n, to, a, b, [](double x, double y) { return x / y; });
                break;
            case Op::neg:
                lanes(n, to, a, a, [](double x, double) { return -x; });
                break;
            case Op::sqrt:
                lanes(n, to, a, a, [](double x, double) { return std::sqrt(x); });
                break;
            case Op::select:
                for (std::uint32_t k = 0; k < n; ++k) to[k] = a[k] != 0 ? b[k] : c[k];
                break;
            case Op::lookup:
                for (std::uint32_t k = 0; k < n; ++k) to[k] = lookup(*callables.tables[i.a], i, b[k], c == nullptr ? 0 : c[k]);
                break;
            case Op::constant:
                std::copy(a, a + n, to);
                break;
            default:
                for (std::uint32_t k = 0; k < n; ++k) to[k] = evaluate_op(i.op, a[k], b[k], 0);
                break;
        }
    }
    for (std::size_t k = 0; k < kernel.output_registers.size(); ++k) {
        const double* from = r + static_cast<std::size_t>(kernel.output_registers[k]) * kBlock;
        const std::uint32_t* at = &kernel.outputs[k * kernel.n_instances + first];
        for (std::uint32_t i = 0; i < n; ++i) m[at[i]] = from[i];
    }
}

}  // namespace

void execute(const Program& program, const Callables& callables, std::vector<double>& memory, std::vector<double>& registers)
{
    for (const Kernel& kernel : program.kernels) {
        if (kernel.n_instances == 1) {
            run_scalar(kernel, callables, memory.data());
            continue;
        }
        if (registers.size() < static_cast<std::size_t>(kernel.n_registers) * kBlock) registers.resize(static_cast<std::size_t>(kernel.n_registers) * kBlock);
        for (std::uint32_t first = 0; first < kernel.n_instances; first += kBlock)
            run_block(kernel, callables, memory.data(), registers.data(), first, std::min(kBlock, kernel.n_instances - first));
    }
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <array>
#include <cmath>
#include <unordered_map>

#include "evaluate/interpret.hpp"

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

void run_one(const Kernel& kernel, const Instruction& i, const Callables& callables, double* m)
{
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
            m[i.to] = select_value(m[i.a], m[i.b], m[i.c]);
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

void run_scalar(const Kernel& kernel, const Callables& callables, double* m)
{
    for (const Instruction& i : kernel.code) run_one(kernel, i, callables, m);
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
                for (std::uint32_t k = 0; k < n; ++k) to[k] = select_value(a[k], b[k], c[k]);
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

void interpret(const Kernel& kernel, const Callables& callables, double* memory, std::vector<double>& registers)
{
    if (kernel.n_instances == 1) {
        run_scalar(kernel, callables, memory);
        return;
    }
    if (registers.size() < static_cast<std::size_t>(kernel.n_registers) * kBlock) registers.resize(static_cast<std::size_t>(kernel.n_registers) * kBlock);
    for (std::uint32_t first = 0; first < kernel.n_instances; first += kBlock)
        run_block(kernel, callables, memory, registers.data(), first, std::min(kBlock, kernel.n_instances - first));
}

namespace {

template <typename F>
void run_of(const GroupedCode& code, std::size_t first, std::size_t end, double* m, F f)
{
    const std::uint32_t *to = code.to.data(), *a = code.a.data(), *b = code.b.data();
    for (std::size_t k = first; k < end; ++k) m[to[k]] = f(m[a[k]], m[b[k]]);
}

}  // namespace

void interpret(const GroupedCode& code, const Kernel& kernel, const Callables& callables, double* m)
{
    std::size_t first = 0;
    for (const GroupedCode::Stretch& stretch : code.stretches) {
        std::size_t end = first + stretch.n;
        switch (stretch.op) {
            case Op::add:
                run_of(code, first, end, m, [](double x, double y) { return x + y; });
                break;
            case Op::sub:
                run_of(code, first, end, m, [](double x, double y) { return x - y; });
                break;
            case Op::mul:
                run_of(code, first, end, m, [](double x, double y) { return x * y; });
                break;
            case Op::div:
                run_of(code, first, end, m, [](double x, double y) { return x / y; });
                break;
            case Op::neg:
                run_of(code, first, end, m, [](double x, double) { return -x; });
                break;
            case Op::sqrt:
                run_of(code, first, end, m, [](double x, double) { return std::sqrt(x); });
                break;
            case Op::select:
                for (std::size_t k = first; k < end; ++k) m[code.to[k]] = select_value(m[code.a[k]], m[code.b[k]], m[code.c[k]]);
                break;
            case Op::lookup:
            case Op::call:
                for (std::size_t k = first; k < end; ++k) run_one(kernel, kernel.code[code.c[k]], callables, m);
                break;
            case Op::constant:
                for (std::size_t k = first; k < end; ++k) m[code.to[k]] = m[code.a[k]];
                break;
            default:
                run_of(code, first, end, m, [op = stretch.op](double x, double y) { return evaluate_op(op, x, y, 0); });
                break;
        }
        first = end;
    }
}

GroupedCode group(const Kernel& kernel)
{
    // Of each operation the ready ones wait together; the operation with most of them goes next, and what it makes ready joins the rest.
    constexpr std::size_t kOps = static_cast<std::size_t>(Op::pair) + 1;
    auto n = static_cast<std::uint32_t>(kernel.code.size());
    std::unordered_map<std::uint32_t, std::uint32_t> maker;  // place -> instruction
    maker.reserve(n);
    std::vector<std::uint32_t> missing(n, 0), first_user(n + 1, 0), users;
    auto each_maker = [&](const Instruction& i, auto visit) {
        each_place_read(kernel, i, [&](std::uint32_t place) {
            if (auto found = maker.find(place); found != maker.end()) visit(found->second);
        });
    };
    for (std::uint32_t k = 0; k < n; ++k) {
        each_maker(kernel.code[k], [&](std::uint32_t from) { ++missing[k], ++first_user[from + 1]; });
        maker.emplace(kernel.code[k].to, k);
    }
    for (std::uint32_t k = 0; k < n; ++k) first_user[k + 1] += first_user[k];
    users.resize(first_user[n]);
    std::vector<std::uint32_t> free = first_user;
    for (std::uint32_t k = 0; k < n; ++k) each_maker(kernel.code[k], [&](std::uint32_t from) { users[free[from]++] = k; });

    std::array<std::vector<std::uint32_t>, kOps> ready;
    auto op_of = [&](std::uint32_t k) { return static_cast<std::size_t>(kernel.code[k].op); };
    for (std::uint32_t k = 0; k < n; ++k)
        if (missing[k] == 0) ready[op_of(k)].push_back(k);
    GroupedCode out;
    for (std::uint32_t done = 0; done < n;) {
        std::size_t most = 0;
        for (std::size_t op = 1; op < kOps; ++op)
            if (ready[op].size() > ready[most].size()) most = op;
        std::vector<std::uint32_t> now;
        now.swap(ready[most]);
        out.stretches.push_back({static_cast<Op>(most), static_cast<std::uint32_t>(now.size())});
        for (std::uint32_t k : now) {
            const Instruction& i = kernel.code[k];
            bool listed = has_index(i.op);
            out.to.push_back(i.to);
            out.a.push_back(listed ? 0 : i.a);
            out.b.push_back(n_children(i.op) > 1 && !listed ? i.b : out.a.back());
            out.c.push_back(listed ? k : i.c);
            for (std::uint32_t u = first_user[k]; u < first_user[k + 1]; ++u)
                if (--missing[users[u]] == 0) ready[op_of(users[u])].push_back(users[u]);
        }
        done += static_cast<std::uint32_t>(now.size());
    }
    return out;
}

}  // namespace netloop

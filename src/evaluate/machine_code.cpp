// SPDX-License-Identifier: Apache-2.0
// Registers are given by next use: the code is straight, so for every value it is known where it is read next, and when a register is
// wanted, the value whose next use is furthest goes (Belady, 1966, IBM Systems Journal 5, 78-101; for registers of straight code:
// Horwitz et al., 1966, JACM 13, 43-61). Every value has a home in memory of its own, never given to another, so a value that goes
// can always be read again.
#include "evaluate/machine_code.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "evaluate/interpret.hpp"

namespace netloop {
namespace {

using Spot = Emitter::Spot;
using Binary = Emitter::Binary;
using Kind = Emitter::Spot::Kind;

constexpr std::uint32_t kNever = 0xffffffffu;
constexpr std::uint32_t kLanes = 4;

double look_up(double x, double y, const void* table, std::uint32_t flag)
{
    return (*static_cast<const Table*>(table))(x, y, static_cast<int>(flag / 16), static_cast<int>(flag % 16));
}

void look_up_lanes(double* to, const double* a, const double* b, const void* table, std::uint32_t flag)
{
    for (std::uint32_t k = 0; k < kLanes; ++k) to[k] = look_up(a[k], b[k], table, flag);
}

void operation_lanes(double* to, const double* a, const double* b, const void*, std::uint32_t op)
{
    for (std::uint32_t k = 0; k < kLanes; ++k) to[k] = evaluate_op(static_cast<Op>(op), a[k], b[k], 0);
}

// The list: number of arguments, their places.
double call_in_memory(const void* what, double* memory, const std::uint32_t* list)
{
    const auto& f = *static_cast<const Callable*>(what);
    thread_local std::vector<double> store;
    if (store.size() < list[0] + f.n_scratch()) store.resize(list[0] + f.n_scratch());
    for (std::uint32_t k = 0; k < list[0]; ++k) store[k] = memory[list[1 + k]];
    return f.evaluate(store.data(), store.data() + list[0]);
}

// The list: place of the result, number of arguments, their places; all in the scratch, the lanes side by side.
double call_in_scratch(const void* what, double* scratch, const std::uint32_t* list)
{
    const auto& f = *static_cast<const Callable*>(what);
    thread_local std::vector<double> store;
    if (store.size() < list[1] + f.n_scratch()) store.resize(list[1] + f.n_scratch());
    for (std::uint32_t lane = 0; lane < kLanes; ++lane) {
        for (std::uint32_t k = 0; k < list[1]; ++k) store[k] = scratch[list[2 + k] + lane];
        scratch[list[0] + lane] = f.evaluate(store.data(), store.data() + list[1]);
    }
    return 0;
}

// The function of the mathematical library behind an operation; null if it is none of one argument.
using Function = double (*)(double);
Function function_of(Op op)
{
    switch (op) {
        case Op::exp:
            return std::exp;
        case Op::log:
            return std::log;
        case Op::sin:
            return std::sin;
        case Op::cos:
            return std::cos;
        case Op::tan:
            return std::tan;
        case Op::asin:
            return std::asin;
        case Op::acos:
            return std::acos;
        case Op::atan:
            return std::atan;
        case Op::sinh:
            return std::sinh;
        case Op::cosh:
            return std::cosh;
        case Op::tanh:
            return std::tanh;
        default:
            return nullptr;
    }
}

// Code of one kernel. Values are numbered densely; in a scalar kernel each belongs to a place in memory, in wide code to a register of
// the kernel.
class KernelCode {
public:
    KernelCode(Emitter& out, const Kernel& kernel, const Callables& callables, std::vector<std::vector<std::uint32_t>>& lists)
        : out_(out), kernel_(kernel), callables_(callables), lists_(lists), wide_(kernel.n_instances > 1)
    {
    }

    /// `value_of`: scratch over places, all kNever, left so; `is_read`: which places are read outside the kernel.
    void emit_scalar(std::vector<std::uint32_t>& value_of, const std::vector<char>& is_read)
    {
        std::vector<std::uint32_t> places;
        auto number = [&](std::uint32_t place) {
            if (value_of[place] == kNever) {
                value_of[place] = static_cast<std::uint32_t>(places.size());
                places.push_back(place);
            }
            return value_of[place];
        };
        code_ = kernel_.code;
        arguments_ = kernel_.arguments;
        for (Instruction& i : code_) {
            each_operand(i, [&](std::uint32_t& place) { place = number(place); });
            i.to = number(i.to);
        }
        values_.resize(places.size());
        for (std::uint32_t v = 0; v < places.size(); ++v) {
            values_[v].home = {Kind::memory, places[v]};
            values_[v].in_home = true;  // unless computed here
            values_[v].keep = is_read[places[v]] != 0;
            value_of[places[v]] = kNever;
        }
        for (const Instruction& i : code_) values_[i.to].in_home = false;
        emit();
    }

    void emit_wide()
    {
        std::uint32_t n = kernel_.n_instances;
        code_ = kernel_.code;
        arguments_ = kernel_.arguments;
        values_.resize(kernel_.n_registers);
        for (std::uint32_t v = 0; v < values_.size(); ++v) {
            values_[v].home = {Kind::scratch, v * kLanes};
            if (v < kernel_.n_inputs) values_[v].source = spot_of(&kernel_.inputs[static_cast<std::size_t>(v) * n], n), values_[v].has_source = true;
        }
        for (std::size_t k = 0; k < kernel_.output_registers.size(); ++k) {
            Value& v = values_[kernel_.output_registers[k]];
            v.output = spot_of(&kernel_.outputs[k * n], n);
            v.keep = true;
        }
        out_.begin_loop(n);
        emit();
        out_.end_loop();
    }

private:
    struct Value {
        Spot home, source, output;
        int reg = -1;
        std::uint32_t next = kNever;  ///< where it is read next
        bool in_home = false, has_source = false, keep = false;
    };

    // How the numbers of n instances lie, read from their list of places.
    Spot spot_of(const std::uint32_t* places, std::uint32_t n)
    {
        bool same = true, follow = true;
        for (std::uint32_t i = 1; i < n && (same || follow); ++i) {
            same &= places[i] == places[0];
            follow &= places[i] == places[0] + i;
        }
        if (same) return {Kind::same, places[0]};
        if (follow) return {Kind::instance, places[0]};
        lists_.emplace_back(places, places + n);
        return {Kind::listed, 0, lists_.back().data()};
    }

    template <typename Visit>
    void each_operand(Instruction& i, Visit visit)
    {
        if (i.op == Op::call) {
            for (std::uint32_t k = 0; k < i.c; ++k) visit(arguments_[i.b + k]);
            return;
        }
        if (i.op != Op::lookup) visit(i.a);
        if (n_children(i.op) > 1) visit(i.b);
        if (n_children(i.op) > 2 || (i.op == Op::lookup && i.c != kNoNode)) visit(i.c);
    }

    // Which operand is read where next: after_[k] for the k-th operand that is visited, in the order of the code.
    void find_uses()
    {
        std::vector<std::uint32_t> operands, at;
        for (std::uint32_t i = 0; i < code_.size(); ++i) each_operand(code_[i], [&](std::uint32_t& v) { operands.push_back(v), at.push_back(i); });
        after_.resize(operands.size());
        for (std::size_t k = operands.size(); k-- > 0;) {
            after_[k] = values_[operands[k]].next;
            values_[operands[k]].next = at[k];
        }
    }

    void emit()
    {
        holds_.fill(kNever);
        find_uses();
        std::size_t operand = 0;
        for (Instruction& i : code_) {
            operands_.clear();
            each_operand(i, [&](std::uint32_t& v) {
                operands_.push_back(v);
                values_[v].next = after_[operand++];
            });
            // an operand read twice by one instruction: the last visit tells where it is read after it
            if (i.op == Op::call)
                call_function(i);
            else if (i.op == Op::lookup)
                look_up_table(i);
            else if (function_of(i.op) != nullptr || i.op == Op::pow || i.op == Op::atan2)
                call_library(i);
            else
                compute(i);
        }
    }

    // --- registers

    void put(std::uint32_t v, int reg)
    {
        values_[v].reg = reg;
        holds_[static_cast<std::size_t>(reg)] = v;
    }
    void leave(std::uint32_t v)
    {
        int& reg = values_[v].reg;
        if (reg >= 0) holds_[static_cast<std::size_t>(reg)] = kNever;
        reg = -1;
    }
    void save(std::uint32_t v)
    {
        Value& value = values_[v];
        if (value.in_home) return;
        if (value.reg < 0) load(v, take());  // an input that has to lie in the scratch
        out_.store(value.home, value.reg);
        value.in_home = true;
    }
    bool is_operand_now(std::uint32_t v) const { return std::find(operands_.begin(), operands_.end(), v) != operands_.end(); }

    int take()
    {
        std::uint32_t furthest = kNever;
        for (int r = 0; r < Emitter::kRegisters; ++r) {
            std::uint32_t v = holds_[static_cast<std::size_t>(r)];
            if (v == kNever) return r;
            if (is_operand_now(v)) continue;
            if (furthest == kNever || values_[v].next > values_[furthest].next) furthest = v;
        }
        Value& value = values_[furthest];
        if (!value.in_home && !value.has_source && value.next != kNever) save(furthest);
        int r = value.reg;
        leave(furthest);
        return r;
    }
    void load(std::uint32_t v, int r)
    {
        out_.load(r, values_[v].in_home ? values_[v].home : values_[v].source);
        put(v, r);
    }
    int in_register(std::uint32_t v)
    {
        if (values_[v].reg < 0) load(v, take());
        return values_[v].reg;
    }
    // Read straight from memory if it is not in a register and not read again.
    bool from_memory(std::uint32_t v, Spot& spot) const
    {
        const Value& value = values_[v];
        if (value.reg >= 0 || value.next != kNever) return false;
        spot = value.in_home ? value.home : value.source;
        return spot.is_operand();
    }
    void release_dead()
    {
        for (std::uint32_t v : operands_)
            if (values_[v].next == kNever) leave(v);
    }
    // A register for the result, which may be that of an operand read for the last time.
    int result()
    {
        release_dead();
        return take();
    }
    /// One that is none of the operands', which are still needed when the result stands.
    int result_beside()
    {
        int r = take();
        release_dead();
        return r;
    }
    /// Not a number where a or b is none: all bits set are one.
    void keep_missing(int r, int a, int b)
    {
        out_.binary(Binary::unordered, Emitter::kTemp, a, b);
        out_.binary(Binary::bit_or, r, r, Emitter::kTemp);
    }
    void defined(std::uint32_t v, int r)
    {
        put(v, r);
        Value& value = values_[v];
        if (value.keep) {
            out_.store(wide_ ? value.output : value.home, r);
            if (!wide_) value.in_home = true;
        }
        if (value.next == kNever) leave(v);
    }

    // --- operations

    void two(Binary op, const Instruction& i, std::uint32_t a, std::uint32_t b)
    {
        bool commute = op == Binary::add || op == Binary::mul;
        if (commute && values_[a].reg < 0 && values_[b].reg >= 0) std::swap(a, b);
        int ra = in_register(a);
        Spot spot;
        if (a != b && from_memory(b, spot)) {
            int r = result();
            out_.binary(op, r, ra, spot);
            defined(i.to, r);
            return;
        }
        int rb = in_register(b);
        int r = result();
        out_.binary(op, r, ra, rb);
        defined(i.to, r);
    }
    void one(const Instruction& i, Binary op, Kind constant)
    {
        int ra = in_register(i.a), r = result();
        out_.binary(op, r, ra, Spot{constant});
        defined(i.to, r);
    }
    void truth(int r) { out_.binary(Binary::bit_and, r, r, Spot{Kind::one}); }

    void compute(const Instruction& i)
    {
        switch (i.op) {
            case Op::add:
                return two(Binary::add, i, i.a, i.b);
            case Op::sub:
                return two(Binary::sub, i, i.a, i.b);
            case Op::mul:
                return two(Binary::mul, i, i.a, i.b);
            case Op::div:
                return two(Binary::div, i, i.a, i.b);
            case Op::min:    // b < a ? b : a
            case Op::max: {  // b > a ? b : a; the processor gives a where one of them is not a number
                int ra = in_register(i.a), rb = in_register(i.b), r = result_beside();
                out_.binary(i.op == Op::min ? Binary::min : Binary::max, r, rb, ra);
                keep_missing(r, rb, rb);
                return defined(i.to, r);
            }
            case Op::neg:
                return one(i, Binary::bit_xor, Kind::sign);
            case Op::abs:
                return one(i, Binary::bit_and, Kind::all_but_sign);
            case Op::constant: {  // a copy
                int ra = in_register(i.a), r = result();
                out_.move(r, ra);
                return defined(i.to, r);
            }
            case Op::sqrt: {
                int ra = in_register(i.a), r = result();
                out_.sqrt(r, ra);
                return defined(i.to, r);
            }
            case Op::floor:
            case Op::ceil: {
                int ra = in_register(i.a), r = result();
                out_.round(r, ra, i.op == Op::ceil);
                return defined(i.to, r);
            }
            case Op::less:
            case Op::less_equal:
            case Op::equal: {
                int ra = in_register(i.a), rb = in_register(i.b), r = result_beside();
                out_.binary(i.op == Op::less ? Binary::less : i.op == Op::equal ? Binary::equal : Binary::less_equal, r, ra, rb);
                truth(r);
                keep_missing(r, ra, rb);
                return defined(i.to, r);
            }
            case Op::logical_and:
            case Op::logical_or: {
                int ra = in_register(i.a), rb = in_register(i.b), r = result_beside();
                out_.binary(Binary::not_equal, Emitter::kTemp, ra, Spot{Kind::zero});
                out_.binary(Binary::not_equal, r, rb, Spot{Kind::zero});
                out_.binary(i.op == Op::logical_and ? Binary::bit_and : Binary::bit_or, r, r, Emitter::kTemp);
                truth(r);
                keep_missing(r, ra, rb);
                return defined(i.to, r);
            }
            case Op::logical_not: {
                int ra = in_register(i.a), r = result_beside();
                out_.binary(Binary::equal, r, ra, Spot{Kind::zero});
                truth(r);
                keep_missing(r, ra, ra);
                return defined(i.to, r);
            }
            case Op::sign: {  // (0 < a) - (a < 0)
                int ra = in_register(i.a), r = result_beside();
                out_.binary(Binary::bit_xor, Emitter::kTemp, Emitter::kTemp, Emitter::kTemp);
                out_.binary(Binary::less, Emitter::kTemp, Emitter::kTemp, ra);
                truth(Emitter::kTemp);
                out_.binary(Binary::less, r, ra, Spot{Kind::zero});
                truth(r);
                out_.binary(Binary::sub, r, Emitter::kTemp, r);
                keep_missing(r, ra, ra);
                return defined(i.to, r);
            }
            default: {  // select
                int ra = in_register(i.a), rb = in_register(i.b), rc = in_register(i.c), r = result_beside();
                out_.binary(Binary::not_equal, Emitter::kTemp, ra, Spot{Kind::zero});
                out_.blend(r, Emitter::kTemp, rb, rc);
                keep_missing(r, ra, ra);
                return defined(i.to, r);
            }
        }
    }

    // --- calls: all registers are lost, so what is still needed goes home first

    void empty_registers()
    {
        for (int r = 0; r < Emitter::kRegisters; ++r) {
            std::uint32_t v = holds_[static_cast<std::size_t>(r)];
            if (v == kNever) continue;
            if (values_[v].next != kNever && !values_[v].has_source) save(v);
            leave(v);
        }
    }
    // The operands of a wide call, all in the scratch.
    void save_operands()
    {
        for (std::uint32_t v : operands_) save(v), leave(v);
    }
    std::uint32_t lane_place(std::uint32_t v) const { return values_[v].home.at; }
    void result_in_scratch(const Instruction& i)
    {
        Value& value = values_[i.to];
        value.in_home = true;
        if (!value.keep) return;
        out_.load(Emitter::kTemp, value.home);
        out_.store(value.output, Emitter::kTemp);
    }
    // a in register 0, b in register 1
    void place_arguments(std::uint32_t a, std::uint32_t b)
    {
        auto fetch = [&](int to, std::uint32_t v) { values_[v].reg >= 0 ? out_.move(to, values_[v].reg) : out_.load(to, values_[v].home); };
        for (std::uint32_t v : operands_)
            if (values_[v].next != kNever) save(v);
        if (b != kNoNode) fetch(Emitter::kTemp, b);
        // what else is in a register must go home before register 0 is overwritten
        for (int r = 0; r < Emitter::kRegisters; ++r) {
            std::uint32_t v = holds_[static_cast<std::size_t>(r)];
            if (v != kNever && values_[v].next != kNever) save(v);
        }
        fetch(0, a);
        if (b != kNoNode) out_.move(1, Emitter::kTemp);
        empty_registers();
    }

    void call_library(const Instruction& i)
    {
        bool pair = n_children(i.op) > 1;
        if (wide_) {
            save_operands();
            empty_registers();
            out_.call_lanes(operation_lanes, lane_place(i.to), lane_place(i.a), lane_place(pair ? i.b : i.a), nullptr, static_cast<std::uint32_t>(i.op));
            return result_in_scratch(i);
        }
        place_arguments(i.a, pair ? i.b : kNoNode);
        if (pair)
            out_.call(i.op == Op::pow ? static_cast<double (*)(double, double)>(std::pow) : static_cast<double (*)(double, double)>(std::atan2));
        else
            out_.call(function_of(i.op));
        defined(i.to, 0);
    }

    void look_up_table(const Instruction& i)
    {
        const Table* table = callables_.tables[i.a].get();
        std::uint32_t y = i.c == kNoNode ? i.b : i.c;  // a table of one argument does not look at the other
        if (wide_) {
            save_operands();
            empty_registers();
            out_.call_lanes(look_up_lanes, lane_place(i.to), lane_place(i.b), lane_place(y), table, i.flag);
            return result_in_scratch(i);
        }
        place_arguments(i.b, y);
        out_.call(look_up, table, i.flag);
        defined(i.to, 0);
    }

    void call_function(const Instruction& i)
    {
        std::vector<std::uint32_t> list;
        if (wide_) list.push_back(lane_place(i.to));
        list.push_back(i.c);
        save_operands();
        for (std::uint32_t k = 0; k < i.c; ++k) list.push_back(values_[arguments_[i.b + k]].home.at);
        empty_registers();
        lists_.push_back(std::move(list));
        out_.call_listed(wide_ ? call_in_scratch : call_in_memory, callables_.functions[i.a].get(), lists_.back().data());
        wide_ ? result_in_scratch(i) : defined(i.to, 0);
    }

    Emitter& out_;
    const Kernel& kernel_;
    const Callables& callables_;
    std::vector<std::vector<std::uint32_t>>& lists_;
    bool wide_;
    std::vector<Instruction> code_;
    std::vector<std::uint32_t> arguments_;
    std::vector<Value> values_;
    std::vector<std::uint32_t> after_, operands_;
    std::array<std::uint32_t, Emitter::kRegisters> holds_{};
};

// Places that are read by a kernel other than the one that computes them, or from outside.
std::vector<char> places_read(const Program& program, std::size_t n_places)
{
    std::vector<char> read(n_places, 0), made_here(n_places, 0);
    for (std::uint32_t place : program.results) read[place] = 1;
    for (const Kernel& k : program.kernels) {
        if (k.n_instances > 1) {
            for (std::uint32_t place : k.inputs) read[place] = 1;
            continue;
        }
        for (const Instruction& i : k.code) {
            each_place_read(k, i, [&](std::uint32_t place) {
                if (made_here[place] == 0) read[place] = 1;
            });
            made_here[i.to] = 1;
        }
        for (const Instruction& i : k.code) made_here[i.to] = 0;
    }
    return read;
}

std::size_t n_places_of(const Program& program)
{
    std::uint32_t most = 0;
    auto see = [&](std::uint32_t place) { most = std::max(most, place); };
    for (std::uint32_t place : program.results) see(place);
    for (const Kernel& k : program.kernels) {
        for (std::uint32_t place : k.inputs) see(place);
        for (std::uint32_t place : k.outputs) see(place);
        if (k.n_instances > 1) continue;
        for (const Instruction& i : k.code) {
            see(i.to);
            each_place_read(k, i, see);
        }
    }
    return most + 1;
}

}  // namespace

std::unique_ptr<MachineCode> MachineCode::make(const Program& program, const Callables& callables, Emitter::Encoding encoding)
{
    if (!Emitter::available()) return nullptr;
    constexpr std::size_t kFarthest = 0x7fffffff / sizeof(double);  // what an instruction can address
    std::size_t n_places = n_places_of(program);
    if (n_places >= kFarthest) return nullptr;
    std::unique_ptr<MachineCode> code(new MachineCode);
    Emitter out(encoding);
    std::vector<char> read = places_read(program, n_places);
    std::vector<std::uint32_t> value_of(n_places, kNever);
    for (const Kernel& k : program.kernels) {
        KernelCode kernel(out, k, callables, code->lists_);
        if (k.n_instances > 1) {
            if (!Emitter::wide_available() || encoding == Emitter::Encoding::older || k.n_instances < kLanes) return nullptr;
            code->scratch_size_ = std::max<std::size_t>(code->scratch_size_, std::size_t{k.n_registers} * kLanes);
            kernel.emit_wide();
        } else {
            kernel.emit_scalar(value_of, read);
        }
    }
    code->pages_ = out.finish();
    if (code->pages_ == nullptr) return nullptr;
    code->entry_ = reinterpret_cast<void (*)(double*, double*)>(reinterpret_cast<std::uintptr_t>(code->pages_->entry()));
    return code;
}

}  // namespace netloop

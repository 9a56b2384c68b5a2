// SPDX-License-Identifier: Apache-2.0
#include "evaluate/c_source.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>
#include <unordered_set>

#include "evaluate/interpret.hpp"

namespace netloop {
namespace {

constexpr std::size_t kLongest = 1000;  ///< operations of one C function

}  // namespace

std::string c_operation(Op op, const std::vector<std::string>& x, const std::string& suffix)
{
    switch (op) {
        case Op::add:
            return fmt::format("{} + {}", x[0], x[1]);
        case Op::sub:
            return fmt::format("{} - {}", x[0], x[1]);
        case Op::mul:
            return fmt::format("{} * {}", x[0], x[1]);
        case Op::div:
            return fmt::format("{} / {}", x[0], x[1]);
        case Op::neg:
            return fmt::format("-{}", x[0]);
        case Op::abs:
            return fmt::format("fabs{}({})", suffix, x[0]);
        case Op::sign:
            return fmt::format("({0} > 0 ? 1.0 : {0} < 0 ? -1.0 : {0} == 0 ? 0.0 : {0})", x[0]);
        case Op::min:
            return fmt::format("({1} < {0} || {1} != {1} ? {1} : {0})", x[0], x[1]);
        case Op::max:
            return fmt::format("({1} > {0} || {1} != {1} ? {1} : {0})", x[0], x[1]);
        case Op::less:
            return fmt::format("({0} < {1} ? 1.0 : {0} >= {1} ? 0.0 : {0} + {1})", x[0], x[1]);
        case Op::less_equal:
            return fmt::format("({0} <= {1} ? 1.0 : {0} > {1} ? 0.0 : {0} + {1})", x[0], x[1]);
        case Op::equal:
            return fmt::format("({0} == {1} ? 1.0 : {0} < {1} || {0} > {1} ? 0.0 : {0} + {1})", x[0], x[1]);
        case Op::logical_and:
            return fmt::format("({0} != {0} || {1} != {1} ? {0} + {1} : {0} != 0 && {1} != 0 ? 1.0 : 0.0)", x[0], x[1]);
        case Op::logical_or:
            return fmt::format("({0} != {0} || {1} != {1} ? {0} + {1} : {0} != 0 || {1} != 0 ? 1.0 : 0.0)", x[0], x[1]);
        case Op::logical_not:
            return fmt::format("({0} != {0} ? {0} : {0} != 0 ? 0.0 : 1.0)", x[0]);
        case Op::select:
            return fmt::format("({0} != {0} ? {0} : {0} != 0 ? {1} : {2})", x[0], x[1], x[2]);
        case Op::constant:
            return x[0];
        case Op::pow:
        case Op::atan2:
            return fmt::format("{}{}({}, {})", op == Op::pow ? "pow" : "atan2", suffix, x[0], x[1]);
        default:  // sqrt, exp ... are called in C what they are called here
            return fmt::format("{}{}({})", op_name(op), suffix, x[0]);
    }
}

namespace {

class Writer {
public:
    Writer(const Program& program, const CDialect& dialect) : program_(program), d_(dialect) {}

    std::string text()
    {
        note_readers();
        for (std::size_t k = 0; k < program_.kernels.size(); ++k) {
            if (program_.kernels[k].n_instances > 1)
                loop(k);
            else
                straight(k);
        }
        std::string out = functions_ + fmt::format("{}void {}{}({})\n{{\n", d_.linkage, d_.prefix, program_.name, d_.parameters);
        for (const std::string& f : names_) out += fmt::format("    {}({});\n", f, d_.arguments);
        return out + d_.unused + "}\n";
    }

    void mark(std::vector<char>& stored)
    {
        note_readers();
        std::uint32_t stretch = 0;
        for (const Kernel& k : program_.kernels) {
            if (k.n_instances > 1) {
                for (std::uint32_t place : k.inputs) stored[place] = 1;
                for (std::uint32_t place : k.outputs) stored[place] = 1;
                ++stretch;
                continue;
            }
            std::unordered_set<std::uint32_t> local;
            for (std::size_t i = 0; i < k.code.size(); ++i) {
                if (i > 0 && i % kLongest == 0) ++stretch, local.clear();
                each_place_read(k, k.code[i], [&](std::uint32_t place) {
                    if (!local.contains(place)) stored[place] = 1;
                });
                if (is_outside(k.code[i].to, stretch)) stored[k.code[i].to] = 1;
                local.insert(k.code[i].to);
            }
            ++stretch;
        }
        for (std::uint32_t place : program_.results) stored[place] = 1;
    }

private:
    // The last stretch of straight code (or loop) that reads a place; one that only its own stretch reads stays a local value.
    void note_readers()
    {
        constexpr std::uint32_t kOutside = 0xffffffffu;
        for (std::uint32_t place : program_.results) reader_[place] = kOutside;
        std::uint32_t stretch = 0;
        auto read = [&](std::uint32_t place) {
            auto [at, is_new] = reader_.try_emplace(place, stretch);
            if (!is_new && at->second != stretch) at->second = kOutside;
        };
        for (const Kernel& k : program_.kernels) {
            if (k.n_instances > 1) {
                for (std::uint32_t place : k.inputs) reader_[place] = kOutside;
                ++stretch;
                continue;
            }
            for (std::size_t i = 0; i < k.code.size(); ++i) {
                if (i > 0 && i % kLongest == 0) ++stretch;
                each_place_read(k, k.code[i], read);
            }
            ++stretch;
        }
    }

    bool is_outside(std::uint32_t place, std::uint32_t stretch) const
    {
        auto reader = reader_.find(place);
        return reader == reader_.end() || reader->second != stretch;
    }
    std::uint32_t index(std::uint32_t place) const { return d_.index ? d_.index(place) : place; }

    std::string operation(const Instruction& i, const std::vector<std::string>& x) const
    {
        if (i.op == Op::lookup) {
            if (d_.look_up) return d_.look_up(i.a, i.flag, x);
            return fmt::format("s->look_up(s->of, {}u, {}u, {}, {})", i.a, static_cast<unsigned>(i.flag), x[0], x.size() > 1 ? x[1] : "0.0");
        }
        if (i.op == Op::call) {
            if (d_.call) return d_.call(i.a, x);
            return fmt::format("s->call(s->of, {}u, {}u, (const double[]){{{}}})", i.a, x.size(), fmt::join(x, ", "));
        }
        return c_operation(i.op, x, d_.suffix);
    }

    void begin_function()
    {
        names_.push_back(fmt::format("{}{}_{}", d_.prefix, program_.name, names_.size() + 1));
        functions_ += fmt::format("static void {}({})\n{{\n", names_.back(), d_.parameters);
    }
    void end_function() { functions_ += d_.unused + "}\n"; }

    void straight(std::size_t kernel)
    {
        const Kernel& k = program_.kernels[kernel];
        std::unordered_map<std::uint32_t, char> local;
        for (std::size_t i = 0; i < k.code.size(); ++i) {
            if (i % kLongest == 0) {
                if (i > 0) end_function(), ++stretch_;
                begin_function();
                local.clear();
            }
            const Instruction& c = k.code[i];
            std::vector<std::string> x;
            each_place_read(k, c,
                            [&](std::uint32_t place) { x.push_back(local.contains(place) ? fmt::format("v{}", place) : fmt::format("m[{}]", index(place))); });
            functions_ += fmt::format("    const {} v{} = {};\n", d_.real, c.to, operation(c, x));
            if (is_outside(c.to, stretch_)) functions_ += fmt::format("    m[{}] = v{};\n", index(c.to), c.to);
            local[c.to] = 1;
        }
        end_function();
        ++stretch_;
    }

    // How the i-th instance reaches a place: as text, an index table being written if its places follow no rule.
    std::string place_text(const std::uint32_t* from, std::uint32_t n)
    {
        std::vector<std::uint32_t> places(from, from + n);
        for (std::uint32_t& place : places) place = index(place);
        bool same = true, row = true;
        for (std::uint32_t i = 1; i < n; ++i) same &= places[i] == places[0], row &= places[i] == places[0] + i;
        if (same) return fmt::format("m[{}]", places[0]);
        if (row) return fmt::format("m[{} + i]", places[0]);
        std::string name = fmt::format("{}{}_list_{}", d_.prefix, program_.name, ++n_lists_);
        functions_ += fmt::format("static const unsigned {}[{}] = {{", name, n);
        for (std::uint32_t i = 0; i < n; ++i) functions_ += fmt::format("{}{}", i == 0 ? "" : i % 16 == 0 ? ",\n    " : ", ", places[i]);
        functions_ += "};\n";
        return fmt::format("m[{}[i]]", name);
    }

    void loop(std::size_t kernel)
    {
        const Kernel& k = program_.kernels[kernel];
        std::size_t n = k.n_instances;
        std::vector<std::string> in, out;
        for (std::size_t i = 0; i < k.n_inputs; ++i) in.push_back(place_text(&k.inputs[i * n], k.n_instances));
        for (std::size_t i = 0; i < k.output_registers.size(); ++i) out.push_back(place_text(&k.outputs[i * n], k.n_instances));
        begin_function();
        functions_ += fmt::format("    for (unsigned i = 0; i < {}u; ++i) {{\n", k.n_instances);
        for (std::size_t i = 0; i < in.size(); ++i) functions_ += fmt::format("        const {} v{} = {};\n", d_.real, i, in[i]);
        for (const Instruction& c : k.code) {
            std::vector<std::string> x;
            each_place_read(k, c, [&](std::uint32_t reg) { x.push_back(fmt::format("v{}", reg)); });
            functions_ += fmt::format("        const {} v{} = {};\n", d_.real, c.to, operation(c, x));
        }
        for (std::size_t i = 0; i < out.size(); ++i) functions_ += fmt::format("        {} = v{};\n", out[i], k.output_registers[i]);
        functions_ += "    }\n";
        end_function();
        ++stretch_;
    }

    const Program& program_;
    const CDialect& d_;
    std::unordered_map<std::uint32_t, std::uint32_t> reader_;
    std::uint32_t stretch_ = 0;
    std::string functions_;
    std::vector<std::string> names_;
    int n_lists_ = 0;
};

double look_up(const void* of, unsigned table, unsigned order, double x, double y)
{
    return (*static_cast<const Callables*>(of)->tables[table])(x, y, static_cast<int>(order / 16), static_cast<int>(order % 16));
}

double call(const void* of, unsigned function, unsigned n, const double* arguments)
{
    const Callable& f = *static_cast<const Callables*>(of)->functions[function];
    std::vector<double> copy(arguments, arguments + n), scratch(f.n_scratch());
    return f.evaluate(copy.data(), scratch.data());
}

}  // namespace

std::string c_source_head()
{
    return R"(#include <math.h>

/* What the equations need besides arithmetic: values of tables (order: 16 times the order of the derivative by x, plus that by y) and
   functions that are called. */
struct netloop_services {
    double (*look_up)(const void* of, unsigned table, unsigned order, double x, double y);
    double (*call)(const void* of, unsigned function, unsigned n, const double* arguments);
    const void* of;
};

)";
}

std::string c_source(const Program& program, const CDialect& dialect)
{
    return Writer(program, dialect).text();
}

void mark_stored(const Program& program, std::vector<char>& stored)
{
    Writer(program, {}).mark(stored);
}

CServices c_services(const Callables& callables)
{
    return {look_up, call, &callables};
}

}  // namespace netloop

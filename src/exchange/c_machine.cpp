// SPDX-License-Identifier: Apache-2.0
// The twin of fixed_machine.cpp in C: the same operations in the same order.
#include "exchange/c_machine.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "evaluate/c_source.hpp"
#include "exchange/c_derivatives.hpp"
#include "exchange/c_tables.hpp"
#include "exchange/c_text.hpp"

namespace netloop {
namespace {

constexpr std::uint32_t kNoPlace = FixedPlan::kNone;

class MachineWriter : CText {
public:
    MachineWriter(const FixedPlan& plan, const CMachineOptions& options) : CText(options.name, options.single), p_(plan), m_(*plan.model), o_(options) {}

    CMachine write()
    {
        collect();
        lay_out();
        CMachine made;
        made.n_memory = n_memory_;
        made.header = header();
        made.source = source();
        return made;
    }

private:
    // --- what is written, and where it lies
    void collect()
    {
        for (const ParameterValues& v : p_.parameters) programs_.push_back(&v.program);
        programs_.push_back(&p_.prologue);
        for (const FixedPlan::Solve* s : {&p_.turn, &p_.second, &p_.rest, &p_.start})
            if (!s->result.empty()) programs_.push_back(&s->program);
        if (!p_.condition.empty()) programs_.push_back(&p_.conditions);
        if (!p_.guards.results.empty()) programs_.push_back(&p_.guards);
        for (const FixedPlan::Block& b : p_.blocks)
            if (runs(b)) programs_.push_back(&b.program);
        if (!p_.every.empty()) programs_.push_back(&p_.periods);
        if (!p_.previous_of.empty()) programs_.push_back(&p_.previous);
        if (!p_.start_of.empty()) programs_.push_back(&p_.starts);
        if (!p_.delay.empty()) programs_.push_back(&p_.delays);
        if (o_.derivatives && p_.request.slopes)
            for (const Program* program : {&p_.again.program, &p_.slopes.program, &p_.slopes.substitution}) programs_.push_back(program);
        programs_.push_back(&p_.outputs);
    }

    // Places that only one function uses are its own; the others close ranks behind what every program reads.
    void lay_out()
    {
        std::vector<char> stored(p_.size, 0);
        std::fill(stored.begin(), stored.begin() + m_.layout.constants, 1);
        for (const Program* program : programs_) mark_stored(*program, stored);
        if (o_.derivatives)
            for (std::uint32_t place : p_.slopes.side) stored[place] = 1;  // written by nothing but the functions around it
        index_.assign(p_.size, kNoPlace);
        for (std::uint32_t place = 0; place < p_.size; ++place)
            if (stored[place] != 0) index_[place] = n_memory_++;
        for (const auto& [place, value] : p_.constants)
            if (index_[place] != kNoPlace) constants_.emplace_back(index_[place], value);
        std::sort(constants_.begin(), constants_.end());
        const Callables tables = p_.callables();
        used_tables_.assign(tables.tables.size(), 0);
        used_functions_.assign(tables.functions.size(), 0);
        for (const Program* program : programs_)
            for (const Kernel& k : program->kernels)
                for (const Instruction& i : k.code) {
                    if (i.op == Op::lookup) used_tables_[i.a] = 1;
                    if (i.op == Op::call) used_functions_[i.a] = 1;
                }
        mark_used(tables, used_tables_, used_functions_);
    }
    // A transition sets its sequence alone.
    static bool runs(const FixedPlan::Block& b) { return b.kind != FlatBlock::Kind::transition; }

    std::vector<Column> params() const
    {
        std::vector<Column> list;
        const FlatModel& flat = m_.form.flat();
        for (std::size_t k = 0; k < flat.parameters.size(); ++k) {
            const FlatParameter& f = flat.parameters[k];
            list.push_back({f.path, f.boolean ? "" : f.unit.text, f.doc, f.unit.scale, f.unit.offset, p_.params[k]});
        }
        return list;
    }
    std::vector<Column> inputs() const
    {
        std::vector<Column> all = params(), list;
        for (ParameterId p : p_.request.inputs) list.push_back(all[p]);
        return list;
    }
    std::vector<Column> outputs() const
    {
        std::vector<Column> list;
        for (std::uint32_t k : p_.request.outputs) {
            const OutputColumn& o = m_.form.outputs[k];
            list.push_back({o.path, o.boolean ? "" : o.unit.text, o.doc, o.unit.scale, o.unit.offset, 0});
        }
        return list;
    }

    std::string header() const
    {
        std::string guard = o_.name + "_h";
        std::transform(guard.begin(), guard.end(), guard.begin(), [](char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c; });
        std::size_t n_ticks = std::max<std::size_t>(1, p_.every.size()), n_blocks = std::max<std::size_t>(1, p_.blocks.size());
        std::size_t past = 0;
        for (const FixedPlan::Delay& d : p_.delay) past += d.room;
        bool stages = p_.request.method == FixedMethod::euler || p_.request.method == FixedMethod::rk4 || p_.request.method == FixedMethod::rosenbrock;
        std::string out = fmt::format("#ifndef {}\n#define {}\n\n", guard, guard);
        out += fmt::format(
            "/* {}, in steps of {:g} s by the method {}. Several machines may run side by side; each is one struct, and nothing else is changed by\n"
            "   these functions. All numbers are SI. */\n",
            m_.form.flat().name, p_.request.step, method_name(p_.request.method));
        out += fmt::format("#define {}_N_PARAMS {}\n#define {}_N_INPUTS {}\n#define {}_N_OUTPUTS {}\n#define {}_N_STATES {}\n#define {}_STEP {}\n\n", o_.name,
                           m_.form.flat().parameters.size(), o_.name, p_.request.inputs.size(), o_.name, p_.request.outputs.size(), o_.name, m_.n(), o_.name,
                           c_number(p_.request.step));
        out += fill(R"(enum {
    @_GOOD = 0,
    @_STOPPED = 1,          /* the model said stop */
    @_FAILED = 2,           /* the model said fail */
    @_NOT_FINITE = 3,       /* a value is no longer finite: the step is too long, or an equation has no value there */
    @_NO_START = 4,         /* no start was found for these params in the turns that it has */
    @_DELAY_TOO_LONG = 5,   /* a delay goes farther back than there is room for; it was made with shorter ones */
    @_UNSETTLED_EVENTS = 6  /* blocks and conditions set each other off without end */
};

typedef struct {
    double count, n_past;
)");
        out += fill(fmt::format("    REAL m[{}]; /* what the equations read and give */\n", n_memory_));
        out += fill(fmt::format("    REAL given_value[{}];\n", std::max<std::size_t>(1, m_.form.flat().parameters.size())));
        if (stages) out += fill(fmt::format("    REAL from[{0}], slope[{0}], sum[{0}];\n", std::max<std::size_t>(1, m_.n())));
        if (past > 0) out += fill(fmt::format("    REAL past[{}];\n    double behind[{}];\n", past, p_.delay.size()));
        out += fmt::format("    double period[{0}], first[{0}], next[{0}], ticks[{0}];\n", n_ticks);
        out += fmt::format("    unsigned char given[{}];\n", std::max<std::size_t>(1, m_.form.flat().parameters.size()));
        out += fmt::format("    unsigned char was[{}];\n", n_blocks);
        if (o_.derivatives) out += "    unsigned char factored; /* an elimination of what is no state lies in m */\n";
        out += fill(R"(    unsigned char dirty, changed, touched;
    int status;
    const char* said;                            /* by stop or fail in the model */
    unsigned long bad_pivots, events, warnings;  /* counted, never looped on */
} @;

typedef struct {
    const char *name, *unit, *text;
    double scale, offset; /* value in the unit = (SI - offset) / scale */
    double value;         /* SI, as it was exported */
} @_column;
extern const @_column @_params[];
extern const @_column @_inputs[];
extern const @_column @_outputs[];

/* All params and inputs as they were exported. Before anything else. */
void @_init(@* s);
/* A param, by its number in @_params; before @_begin, which then searches for the start that belongs to it. */
void @_set(@* s, int param, REAL si);
/* Settles the start. Returns one of the codes above. */
int @_begin(@* s);
/* An input, by its number in @_inputs; holds from the next step on. */
void @_set_input(@* s, int input, REAL si);
/* One step of @_STEP seconds, and what happens at its end. The work is bounded. */
int @_step(@* s);
/* Computes the outputs; then @_get gives each. */
void @_look(@* s);
REAL @_get(const @* s, int output);
double @_time(const @* s);
/* The number of a column by its name, -1 if there is none. */
int @_find(const @_column* columns, int n, const char* name);
)");
        if (o_.derivatives) out += c_derivatives_header(*this, p_);
        return out + "\n#endif\n";
    }

    std::string source() const
    {
        std::string out = fmt::format("#include \"{}.h\"\n\n#include <math.h>\n\n", o_.name);
        out += columns("params", params()) + columns("inputs", inputs()) + columns("outputs", outputs()) + "\n";
        out += c_callables(p_.callables(), used_tables_, used_functions_, o_.name, real_, suffix_);
        CDialect dialect;
        dialect.prefix = o_.name + "_";
        dialect.real = real_;
        dialect.suffix = suffix_;
        dialect.parameters = real_ + "* m";
        dialect.arguments = "m";
        dialect.unused = "    (void)m;\n";
        dialect.linkage = "static ";
        dialect.index = [this](std::uint32_t place) { return at(place); };
        dialect.look_up = [this](std::uint32_t table, std::uint32_t order, const std::vector<std::string>& x) {
            return fmt::format("{}_table_value(&{}_table_{}, {}, {}, {}, {})", o_.name, o_.name, table, order / 16, order % 16, x[0],
                               x.size() > 1 ? x[1] : "0");
        };
        dialect.call = [this](std::uint32_t function, const std::vector<std::string>& x) {
            return fmt::format("{}_function_{}((const {}[]){{{}}})", o_.name, function, real_, x.empty() ? "0" : fmt::format("{}", fmt::join(x, ", ")));
        };
        for (const Program* program : programs_) out += c_source(*program, dialect) + "\n";
        out += places() + start() + events() + steps();
        if (o_.derivatives) out += c_derivatives(*this, p_);
        return out;
    }

    std::string places() const
    {
        const MemoryLayout& l = m_.layout;
        std::string out = fill(fmt::format("enum {{ @_T = {}, @_P = {}, @_MODE = {}, @_MEMORY = {}, @_Z = {}, @_W = {} }};\n", l.time, l.parameters, l.modes,
                                           l.memories, l.z, l.rates));
        std::vector<std::uint32_t> where;
        std::vector<double> what;
        for (const auto& [index, value] : constants_) where.push_back(index), what.push_back(value);
        out += list("unsigned", "constant_at", where) + list(real_.c_str(), "constant", what);
        out += list(real_.c_str(), "z_start", p_.z) + list(real_.c_str(), "w_start", p_.rates) + list(real_.c_str(), "mode_start", p_.modes) +
               list(real_.c_str(), "memory_start", p_.memories) + list("unsigned char", "given_start", p_.given);
        std::vector<unsigned> states(p_.is_state.begin(), p_.is_state.end());
        if (p_.solves_rest) out += list("unsigned char", "is_state", states);
        return out;
    }

    // Runs an elimination's watch over its pivots.
    std::string pivots(const FixedPlan::Solve& s, const char* name) const
    {
        return list("unsigned", fmt::format("{}_pivot", name), indices(s.pivots)) + list("unsigned", fmt::format("{}_size", name), indices(s.sizes)) +
               list("unsigned", fmt::format("{}_result", name), indices(s.result)) +
               fill(fmt::format(R"(static void @_{0}_solve(@* s)
{{
    int k;
    @_{0}(s->m);
    for (k = 0; k < {1}; ++k)
        if (!(fabsFN(s->m[@_{0}_pivot[k]]) > (REAL){2} * s->m[@_{0}_size[k]])) ++s->bad_pivots;
}}
)",
                                name, s.pivots.size(), c_number(o_.single ? 1e-7 : FixedPlan::kLeastPivot)));
    }

    std::string start() const
    {
        std::string out;
        if (p_.solves_rest) {
            out += pivots(p_.rest, "rest");
            out += fill(fmt::format(R"(static REAL* @_searched(@* s, int i)
{{
    return @_is_state[i] ? &s->m[@_W + i] : &s->m[@_Z + i];
}}

static void @_solve_rest(@* s)
{{
    int turn, i;
    for (turn = 0; turn < {}; ++turn) {{
        @_rest_solve(s);
        for (i = 0; i < {}; ++i) *@_searched(s, i) -= s->m[@_rest_result[i]];
    }}
}}
)",
                                    p_.turns, m_.n()));
        }
        out += fill("static void @_settle_params(@* s)\n{\n");
        for (std::size_t k = 0; k < p_.parameters.size(); ++k) {
            out += fill(fmt::format("    @_{}(s->m);\n", p_.parameters[k].program.name));
            out += settle_lists(k);
        }
        out += fill("    @_prologue(s->m);\n}\n");
        std::string lists;
        for (std::size_t k = 0; k < p_.parameters.size(); ++k) {
            lists += list("unsigned", fmt::format("param_of_{}", k + 1), p_.parameters[k].parameters);
            lists += list("unsigned", fmt::format("param_from_{}", k + 1), indices(p_.parameters[k].program.results));
        }
        std::string head = lists;
        return head + out + params_and_inputs();
    }
    std::string settle_lists(std::size_t k) const
    {
        if (p_.parameters[k].parameters.empty()) return {};
        return fill(fmt::format(R"(    {{
        int k;
        for (k = 0; k < {0}; ++k) {{
            const unsigned p = @_param_of_{1}[k];
            s->m[@_P + p] = s->given[p] ? s->given_value[p] : s->m[@_param_from_{1}[k]];
        }}
    }}
)",
                                p_.parameters[k].parameters.size(), k + 1));
    }

    std::string params_and_inputs() const
    {
        std::size_t n_params = m_.form.flat().parameters.size();
        std::string out = list("unsigned", "input_param", p_.request.inputs);
        out += fill(fmt::format(R"(void @_init(@* s)
{{
    int k;
    s->dirty = s->changed = s->touched = 0;
    s->status = @_GOOD;
    s->said = 0;
    s->count = s->n_past = 0;
    s->bad_pivots = s->events = s->warnings = 0;
    for (k = 0; k < {}; ++k) {{
        s->given[k] = @_given_start[k];
        s->given_value[k] = (REAL)@_params[k].value;
    }}
}}

void @_set(@* s, int param, REAL si)
{{
    if (param < 0 || param >= @_N_PARAMS) return;
    s->given[param] = 1;
    s->given_value[param] = si;
    if (si != (REAL)@_params[param].value) s->changed = 1;
}}

void @_set_input(@* s, int input, REAL si)
{{
    if (input < 0 || input >= @_N_INPUTS) return;
    s->given_value[@_input_param[input]] = si;
    if (s->m[@_P + @_input_param[input]] != si) s->dirty = 1;
}}

static void @_take_inputs(@* s)
{{
    if (!s->dirty) return;
    s->dirty = 0;
    @_settle_params(s);
{}}}

double @_time(const @* s)
{{
    return s->m[@_T];
}}

REAL @_get(const @* s, int output)
{{
    return output < 0 || output >= @_N_OUTPUTS ? (REAL)0 : s->m[@_output_at[output]];
}}

void @_look(@* s)
{{
    @_take_inputs(s);
    @_observe(s->m);
}}

int @_find(const @_column* columns, int n, const char* name)
{{
    int k, i;
    for (k = 0; k < n; ++k) {{
        for (i = 0; columns[k].name[i] != 0 && columns[k].name[i] == name[i]; ++i) {{
        }}
        if (columns[k].name[i] == 0 && name[i] == 0) return k;
    }}
    return -1;
}}
)",
                                n_params, p_.correct ? fill("    @_solve_rest(s);\n") : ""));
        return list("unsigned", "output_at", indices(p_.output)) + out;
    }

    // --- what happens at moments
    std::string events() const
    {
        std::string out = "\n";
        if (!p_.condition.empty() || !p_.every.empty())
            out += fill(R"(static double @_slack(const @* s)
{
    const double t = s->m[@_T];
    return 1e-12 * (t < 0 ? -t : t) + 1e-14;
}
)");
        std::vector<std::uint32_t> numbers, values;
        std::vector<unsigned> kinds;
        for (const FixedPlan::Condition& c : p_.condition)
            numbers.push_back(c.number), values.push_back(at(c.value)), kinds.push_back(static_cast<unsigned>(c.kind));
        if (p_.condition.empty()) {
            out += fill("static int @_turn_modes(@* s)\n{\n    (void)s;\n    return 0;\n}\n");
        } else {
            out += list("unsigned", "mode_of", numbers) + list("unsigned", "condition_at", values) + list("unsigned char", "condition_kind", kinds);
            out += fill(fmt::format(R"(static int @_turn_modes(@* s)
{{
    const REAL now = s->m[@_T];
    int k, any = 0;
    s->m[@_T] = (REAL)(now + @_slack(s));
    @_conditions(s->m);
    s->m[@_T] = now;
    for (k = 0; k < {}; ++k) {{
        const REAL value = s->m[@_condition_at[k]];
        const REAL mode = @_condition_kind[k] == {} ? floorFN(value) : (@_condition_kind[k] == {} ? value < 0 : value <= 0) ? (REAL)1 : (REAL)0;
        if (s->m[@_MODE + @_mode_of[k]] == mode) continue;
        s->m[@_MODE + @_mode_of[k]] = mode;
        any = 1;
        ++s->events;
    }}
    return any;
}}
)",
                                    p_.condition.size(), static_cast<int>(Condition::Kind::whole), static_cast<int>(Condition::Kind::less)));
        }
        for (std::size_t b = 0; b < p_.blocks.size(); ++b)
            if (runs(p_.blocks[b])) out += block(b);
        if (!p_.whens.empty() || !p_.every.empty()) {
            out += fill("static int @_run_block(@* s, int block)\n{\n    switch (block) {\n");
            for (std::size_t b = 0; b < p_.blocks.size(); ++b)
                if (p_.blocks[b].kind == FlatBlock::Kind::when || p_.blocks[b].kind == FlatBlock::Kind::every)
                    out += fill(fmt::format("        case {0}:\n            return @_run_{0}(s);\n", b));
            out += "        default:\n            return 0;\n    }\n}\n";
        }
        out += past();
        return out + moment() + begin();
    }

    std::string block(std::size_t b) const
    {
        const FixedPlan::Block& block = p_.blocks[b];
        std::string out = fill(fmt::format("static int @_run_{}(@* s)\n{{\n    REAL* m = s->m;\n    int any = 0;\n", b));
        if (block.reads_solved && p_.correct) out += fill("    if (s->touched) {\n        @_solve_rest(s);\n        s->touched = 0;\n    }\n");
        out += fill(fmt::format("    @_{}(m);\n    ++s->events;\n", block.program.name));
        for (const FixedPlan::Block::Alert& a : block.alerts) {
            std::string when = a.when == kNoPlace ? "1" : fmt::format("m[{}] != 0", at(a.when));
            if (a.action == FlatAlert::Action::warn)
                out += fmt::format("    if ({}) ++s->warnings;\n", when);
            else if (a.action == FlatAlert::Action::fail)
                out += fill(fmt::format("    if (({}) && s->status != @_FAILED) s->status = @_FAILED, s->said = ", when)) + c_string(a.text) + ";\n";
            else
                out += fill(fmt::format("    if (({}) && s->status != @_FAILED && s->status != @_STOPPED) s->status = @_STOPPED, s->said = ", when)) +
                       c_string(a.text) + ";\n";
        }
        for (const FixedPlan::Block::Setting& s : block.settings) {
            std::string when = s.when == kNoPlace ? "1" : fmt::format("m[{}] != 0", at(s.when));
            if (s.target != kNoPlace) {
                out += fill(fmt::format("    if (({}) && m[{}] != m[{}]) {{\n        const REAL missing = m[{}] - m[{}];\n", when, at(s.value), at(s.target),
                                        at(s.value), at(s.target)));
                out += fill(fmt::format("        REAL size = 0, weight[{}];\n", s.parts.size()));
                for (std::size_t k = 0; k < s.parts.size(); ++k)
                    out +=
                        fill(fmt::format("        weight[{0}] = fabsFN(m[@_Z + {1}]) > (REAL){2} ? fabsFN(m[@_Z + {1}]) : (REAL){2};\n        weight[{0}] = "
                                         "(REAL){3} * (weight[{0}] * "
                                         "weight[{0}]);\n        size += (REAL){3} * weight[{0}];\n",
                                         k, s.parts[k].state, c_number(s.parts[k].usual), c_number(s.parts[k].factor)));
                for (std::size_t k = 0; k < s.parts.size(); ++k)
                    out += fill(fmt::format("        m[@_Z + {}] += weight[{}] / size * missing;\n", s.parts[k].state, k));
                out += "        any = 1, s->touched = 1;\n    }\n";
                continue;
            }
            std::string to = s.memory != kNoPlace ? fill(fmt::format("m[@_MEMORY + {}]", s.memory)) : fill(fmt::format("m[@_Z + {}]", s.state));
            std::string value = s.memory != kNoPlace || s.sign > 0 ? fmt::format("m[{}]", at(s.value)) : fmt::format("-m[{}]", at(s.value));
            out += fmt::format("    if (({}) && {} != {}) {} = {}, any = 1, s->touched = 1;\n", when, to, value, to, value);
        }
        return out + "    return any;\n}\n";
    }

    std::string past() const
    {
        if (p_.delay.empty()) return fill("static void @_set_time(@* s, double t)\n{\n    s->m[@_T] = (REAL)t;\n}\n");
        std::vector<std::uint32_t> memory, source, time, room, first;
        std::uint32_t sum = 0;
        for (const FixedPlan::Delay& d : p_.delay) {
            memory.push_back(d.memory), source.push_back(at(d.source)), time.push_back(at(d.time)), room.push_back(d.room), first.push_back(sum);
            sum += d.room;
        }
        return list("unsigned", "delay_memory", memory) + list("unsigned", "delay_source", source) + list("unsigned", "delay_time", time) +
               list("unsigned", "delay_room", room) + list("unsigned", "delay_first", first) +
               fill(fmt::format(R"(static void @_set_time(@* s, double t)
{{
    int k;
    s->m[@_T] = (REAL)t;
    for (k = 0; k < {0}; ++k) {{
        const REAL* past = s->past + @_delay_first[k];
        const double room = @_delay_room[k], oldest = s->n_past - room;
        double back = (t - s->behind[k] - {1}) / @_STEP, whole, share;
        REAL low, high;
        if (back > s->n_past - 1) back = s->n_past - 1;
        if (back < oldest) back = oldest;
        if (back < 0) back = 0;
        whole = floor(back);
        share = back - whole;
        low = past[(unsigned)fmod(whole, room)];
        high = whole + 1 < s->n_past ? past[(unsigned)fmod(whole + 1, room)] : low;
        s->m[@_MEMORY + @_delay_memory[k]] = (REAL)(low + share * (high - low));
    }}
}}

static void @_remember(@* s)
{{
    int k;
    @_delays(s->m);
    for (k = 0; k < {0}; ++k) s->past[@_delay_first[k] + (unsigned)fmod(s->n_past, @_delay_room[k])] = s->m[@_delay_source[k]];
    s->n_past += 1;
}}
)",
                                p_.delay.size(), c_number(p_.start_time)));
    }

    std::string moment() const
    {
        bool has_guards = !p_.guards.results.empty();
        std::string out;
        std::vector<std::uint32_t> whens, guard;
        for (std::uint32_t b : p_.whens) whens.push_back(b), guard.push_back(at(p_.blocks[b].guard));
        if (!whens.empty()) out += list("unsigned", "when_block", whens) + list("unsigned", "when_guard", guard);
        if (!p_.every.empty()) {
            std::vector<std::uint32_t> block;
            for (const FixedPlan::Every& e : p_.every) block.push_back(e.block);
            out += list("unsigned", "every_block", block);
        }
        std::size_t n_sequences = p_.sequences.size();
        out += fill("static int @_moment(@* s, int first)\n{\n    REAL* m = s->m;\n    const double now = m[@_T];\n    int round;\n");
        if (n_sequences > 0) out += fmt::format("    unsigned char entered[{0}], enter[{0}];\n", n_sequences);
        if (!p_.every.empty() || !whens.empty() || n_sequences > 0) out += "    int k;\n";
        out += "    (void)now;\n    s->touched = 0;\n";
        if (n_sequences > 0) out += fmt::format("    for (k = 0; k < {}; ++k) entered[k] = enter[k] = 0;\n", n_sequences);
        if (!p_.previous_of.empty()) {
            out += fill("    @_previous(m);\n");
            for (const auto& [memory, place] : p_.previous_of) out += fill(fmt::format("    m[@_MEMORY + {}] = m[{}];\n", memory, at(place)));
        }
        out += fill("    if (!first) {\n        s->touched = (unsigned char)@_turn_modes(s);\n    } else {\n");
        if (!whens.empty()) {
            out += fill("        @_guards(m);\n");
            out += fill(fmt::format("        for (k = 0; k < {}; ++k) s->was[@_when_block[k]] = m[@_when_guard[k]] != 0;\n", whens.size()));
        }
        if (n_sequences > 0) out += fmt::format("        for (k = 0; k < {}; ++k) entered[k] = enter[k] = 1;\n", n_sequences);
        for (std::size_t b = 0; b < p_.blocks.size(); ++b)
            if (p_.blocks[b].kind == FlatBlock::Kind::start) out += fill(fmt::format("        @_run_{}(s);\n", b));
        out += "    }\n";
        if (!p_.every.empty())
            out += fill(fmt::format(R"(    for (k = 0; k < {}; ++k) {{
        if (s->next[k] > now + @_slack(s)) continue;
        @_run_block(s, (int)@_every_block[k]);
        s->ticks[k] = floor((now + @_slack(s) - s->first[k]) / s->period[k]) + 1;
        s->next[k] = s->first[k] + s->ticks[k] * s->period[k];
    }}
)",
                                    p_.every.size()));
        out += "    for (round = 0;; ++round) {\n        int again = 0, turned;\n";
        if (has_guards) out += fill("        @_guards(m);\n");
        for (std::size_t q = 0; q < n_sequences; ++q) {
            const FixedPlan::Sequence& sequence = p_.sequences[q];
            out += fill(fmt::format("        if (!entered[{}]) {{\n            switch ((int)m[@_MEMORY + {}] - 1) {{\n", q, sequence.stage));
            for (std::size_t stage = 0; stage < sequence.transitions.size(); ++stage) {
                if (sequence.transitions[stage].empty()) continue;
                out += fmt::format("                case {}:\n", stage);
                bool first = true;
                for (std::uint32_t b : sequence.transitions[stage]) {
                    out +=
                        fill(fmt::format("                    {}if (m[{}] != 0) entered[{}] = enter[{}] = 1, m[@_MEMORY + {}] = {}, m[@_MEMORY + {}] = "
                                         "(REAL)now, s->touched = 1, again = 1, ++s->events;\n",
                                         first ? "" : "else ", at(p_.blocks[b].guard), q, q, sequence.stage, p_.blocks[b].target + 1, sequence.since));
                    first = false;
                }
                out += "                    break;\n";
            }
            out += "                default:\n                    break;\n            }\n        }\n";
        }
        for (std::size_t q = 0; q < n_sequences; ++q) {
            out += fmt::format("        if (enter[{}]) {{\n            enter[{}] = 0;\n", q, q);
            for (std::uint32_t b : p_.sequences[q].entries)
                out +=
                    fill(fmt::format("            if (m[@_MEMORY + {}] == {} && @_run_{}(s)) again = 1;\n", p_.sequences[q].stage, p_.blocks[b].stage + 1, b));
            out += "        }\n";
        }
        if (n_sequences > 0 && !whens.empty()) out += fill("        if (again) @_guards(m);\n");
        if (!whens.empty())
            out += fill(fmt::format(R"(        for (k = 0; k < {0}; ++k) {{
            unsigned char* was = &s->was[@_when_block[k]];
            if (m[@_when_guard[k]] == 0)
                *was = 0;
            else if (*was == 0)
                *was = 2;
        }}
        for (k = 0; k < {0}; ++k)
            if (s->was[@_when_block[k]] == 2) {{
                s->was[@_when_block[k]] = 1;
                if (@_run_block(s, (int)@_when_block[k])) again = 1;
            }}
)",
                                    whens.size()));
        out += fill(
            "        turned = @_turn_modes(s);\n        if (turned) s->touched = 1;\n        if (!again && !turned) break;\n        if (round >= 8) return "
            "s->status = @_UNSETTLED_EVENTS;\n    }\n");
        if (p_.correct) out += fill("    if (s->touched) @_solve_rest(s);\n");
        return out + "    return s->status;\n}\n";
    }

    std::string begin() const
    {
        std::string out;
        if (!p_.start.result.empty()) {
            std::vector<std::uint32_t> value, usual_of;
            std::vector<double> usual;
            for (std::size_t i = 0; i < p_.start.result.size(); ++i) {
                std::size_t of = i < m_.n() ? i : p_.start_rates[i - m_.n()];
                value.push_back((i < m_.n() ? m_.layout.z : m_.layout.rates) + static_cast<std::uint32_t>(of));
                usual.push_back(1e-6 * m_.form.z[of].usual);
            }
            out += pivots(p_.start, "start") + list("unsigned", "start_at", value) + list(real_.c_str(), "start_usual", usual);
            std::string memories;
            for (const auto& [memory, place] : p_.start_of)
                memories +=
                    fill(fmt::format("        if (!(fabsFN(s->m[{1}] - s->m[@_MEMORY + {0}]) <= {2} * fabsFN(s->m[@_MEMORY + {0}]))) s->m[@_MEMORY + {0}] = "
                                     "s->m[{1}], again = 1;\n",
                                     memory, at(place), o_.single ? "1e-6f" : "1e-12"));
            if (!memories.empty()) memories = fill("        @_starts(s->m);\n") + memories;
            out += fill(fmt::format(R"(static int @_search_start(@* s)
{{
    int round, turn, i, settled;
    for (round = 0; round < 20; ++round) {{
        int again;
        settled = 0;
        for (turn = 0; turn < 30 && !settled; ++turn) {{
            @_start_solve(s);
            settled = 1;
            for (i = 0; i < {0}; ++i) {{
                const REAL x = s->m[@_start_result[i]];
                REAL* value = &s->m[@_start_at[i]];
                REAL size;
                *value -= x;
                size = fabsFN(*value);
                if (!(fabsFN(x) <= {1} * (size > @_start_usual[i] ? size : @_start_usual[i]))) settled = 0;
            }}
        }}
        if (!settled) return 0;
        again = @_turn_modes(s);
{2}        if (!again) return 1;
    }}
    return 0;
}}
)",
                                    p_.start.result.size(), o_.single ? "1e-5f" : "1e-10", memories));
        }
        out += fill("int @_begin(@* s)\n{\n    int k;\n");
        out += fill(fmt::format(R"(    for (k = 0; k < {0}; ++k) s->m[k] = 0;
    for (k = 0; k < {1}; ++k) s->m[@_constant_at[k]] = @_constant[k];
    for (k = 0; k < {2}; ++k) s->m[@_Z + k] = @_z_start[k], s->m[@_W + k] = @_w_start[k];
    for (k = 0; k < {3}; ++k) s->m[@_MODE + k] = @_mode_start[k];
    for (k = 0; k < {4}; ++k) s->m[@_MEMORY + k] = @_memory_start[k];
    for (k = 0; k < {6}; ++k) s->m[@_P + k] = (REAL)@_params[k].value;
    s->m[@_T] = (REAL){5};
    @_prologue(s->m);
    s->count = 0;
    s->bad_pivots = s->events = s->warnings = 0;
    s->said = 0;
    s->status = @_GOOD;
    s->dirty = 0;
    for (k = 0; k < {7}; ++k) s->was[k] = 0;
    @_settle_params(s);
)",
                                n_memory_, constants_.size(), m_.n(), p_.modes.size(), p_.memories.size(), c_number(p_.start_time), p_.params.size(),
                                std::max<std::size_t>(1, p_.blocks.size())));
        out += p_.start.result.empty() ? fill("    if (s->changed) return s->status = @_NO_START;\n")
                                       : fill("    if (s->changed && !@_search_start(s)) return s->status = @_NO_START;\n");
        if (!p_.delay.empty())
            out += fill(fmt::format(R"(    @_delays(s->m);
    for (k = 0; k < {}; ++k) {{
        unsigned i;
        s->behind[k] = s->m[@_delay_time[k]];
        for (i = 0; i < @_delay_room[k]; ++i) s->past[@_delay_first[k] + i] = s->m[@_delay_source[k]];
        if (!(s->behind[k] <= @_STEP * (@_delay_room[k] - 2.0))) return s->status = @_DELAY_TOO_LONG;
    }}
    s->n_past = 1;
)",
                                    p_.delay.size()));
        if (!p_.every.empty()) {
            out += fill("    @_periods(s->m);\n");
            for (std::size_t k = 0; k < p_.every.size(); ++k)
                out += fmt::format("    s->period[{0}] = s->m[{1}];\n    s->first[{0}] = s->m[{2}];\n", k, at(p_.every[k].period), at(p_.every[k].first));
            out += fmt::format(R"(    for (k = 0; k < {0}; ++k) {{
        s->ticks[k] = s->first[k] >= {1} ? 0 : ceil(({1} - s->first[k]) / s->period[k] - 1e-9);
        s->next[k] = s->first[k] + s->ticks[k] * s->period[k];
    }}
)",
                               p_.every.size(), c_number(p_.start_time));
        }
        if (o_.derivatives) out += "    s->factored = 0;\n";
        if (p_.correct) out += fill("    @_solve_rest(s);\n");
        return out + fill("    s->events = 0;\n    return @_moment(s, 1);\n}\n");
    }

    // --- steps
    std::string steps() const
    {
        std::size_t n = m_.n();
        std::string out;
        if (!p_.turn.result.empty()) out += pivots(p_.turn, "turn");
        if (!p_.second.result.empty()) out += list("unsigned", "second_result", indices(p_.second.result));
        std::string body;
        std::string keep = fmt::format("    for (i = 0; i < {}; ++i) s->from[i] = z[i], s->slope[i] = w[i];\n", n);
        auto move = [&](const std::string& h) {
            return fill(fmt::format("for (i = 0; i < {}; ++i)\n            if (@_is_state[i]) z[i] = s->from[i] + {} * s->slope[i];\n", n, h));
        };
        switch (p_.request.method) {
            case FixedMethod::euler:
                body = keep + "    " + move("h") + fill("    @_set_time(s, end);\n    @_solve_rest(s);\n");
                break;
            case FixedMethod::rk4:
                body =
                    keep + fmt::format("    for (i = 0; i < {}; ++i) s->sum[i] = s->slope[i];\n", n) +
                    fill(
                        "    for (stage = 1; stage <= 3; ++stage) {\n        const REAL share = stage == 3 ? (REAL)1 : (REAL)0.5, weight = stage == 3 ? "
                        "(REAL)1 : (REAL)2;\n"
                        "        const REAL part = share * h;\n        ") +
                    move("part") + fill("        @_set_time(s, stage == 3 ? end : t + 0.5 * @_STEP);\n        @_solve_rest(s);\n") +
                    fmt::format(
                        "        for (i = 0; i < {}; ++i) s->slope[i] = w[i];\n        for (i = 0; i < {}; ++i) s->sum[i] += weight * s->slope[i];\n    }}\n",
                        n, n) +
                    fmt::format("    for (i = 0; i < {}; ++i) s->slope[i] = s->sum[i];\n    ", n) + move("(h / 6)") + fill("    @_solve_rest(s);\n");
                break;
            case FixedMethod::rosenbrock:
                body = keep + fill(fmt::format(R"(    @_set_time(s, t + gamma * @_STEP);
    @_turn_solve(s);
    for (i = 0; i < {0}; ++i) {{
        const REAL k = s->m[@_turn_result[i]];
        z[i] = s->from[i] + k;
        w[i] = s->slope[i] + (k / h - s->slope[i]) / (REAL)gamma;
    }}
    @_set_time(s, end);
    @_second_stage(s->m);
    for (i = 0; i < {0}; ++i) {{
        const REAL k = s->m[@_second_result[i]];
        z[i] = s->from[i] + ((REAL)(1 - gamma) * s->m[@_turn_result[i]] + (REAL)gamma * k);
        w[i] = k / h;
    }}
)",
                                               n));
                break;
            default:
                if (p_.turn.result.empty()) {  // nothing is solved for
                    body = fill("    @_set_time(s, end);\n");
                    break;
                }
                body = fill(fmt::format(R"(    @_set_time(s, end);
    for (i = 0; i < {0}; ++i) w[i] = 0;
    for (turn = 0; turn < {1}; ++turn) {{
        @_turn_solve(s);
        for (i = 0; i < {0}; ++i) {{
            const REAL x = s->m[@_turn_result[i]];
            z[i] -= x;
            w[i] -= x / h;
        }}
    }}
)",
                                        n, p_.turns));
                break;
        }
        FixedMethod method = p_.request.method;
        bool implicit = (method == FixedMethod::linear_euler || method == FixedMethod::implicit_euler) && !p_.turn.result.empty();
        out += fill(
            fmt::format("int @_step(@* s)\n{{\n    const REAL h = (REAL)@_STEP;\n    REAL *z = s->m + @_Z, *w = s->m + @_W;\n    double end;\n    int i{}{};\n",
                        method == FixedMethod::rk4 ? ", stage" : "", implicit ? ", turn" : ""));
        if (method == FixedMethod::rk4 || method == FixedMethod::rosenbrock) out += "    double t;\n";
        if (method == FixedMethod::rosenbrock) out += fmt::format("    const double gamma = {};\n", c_number(1 - 1 / std::sqrt(2.0)));
        out += fill("    if (s->status != @_GOOD) return s->status;\n    @_take_inputs(s);\n");
        if (method == FixedMethod::rk4 || method == FixedMethod::rosenbrock) out += fill("    t = s->m[@_T];\n");
        out += fill(fmt::format("    s->count += 1;\n    end = {} + s->count * @_STEP;\n", c_number(p_.start_time)));
        out += body;
        out +=
            fill(fmt::format("    for (i = 0; i < {}; ++i)\n        if (!(fabsFN(z[i]) <= {})) return s->status = @_NOT_FINITE;\n    (void)h;\n    (void)w;\n",
                             n, o_.single ? "3.4028234e38f" : "1.7976931348623157e308"));
        out += fill("    @_moment(s, 0);\n");
        if (!p_.delay.empty()) out += fill("    if (s->status == @_GOOD) @_remember(s);\n");
        return out + "    return s->status;\n}\n";
    }

    const FixedPlan& p_;
    const CompiledModel& m_;
    CMachineOptions o_;
    std::vector<const Program*> programs_;
    std::uint32_t n_memory_ = 0;
    std::vector<std::pair<std::uint32_t, double>> constants_;
    std::vector<char> used_tables_, used_functions_;
};

}  // namespace

CMachine write_c_machine(const FixedPlan& plan, const CMachineOptions& options)
{
    return MachineWriter(plan, options).write();
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "exchange/c_tables.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "algebra/procedure.hpp"
#include "evaluate/c_source.hpp"
#include "exchange/c_text.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

// The twin of algebra/table.cpp: the same operations in the same order. @ stands for the machine's name, REAL for its numbers, FN for the suffix of functions.
constexpr const char* kAlong = R"(typedef struct {
    int nx, ny, smooth, outside; /* outside: 0 hold, 1 extend, 2 no value */
    const REAL *x, *y, *values, *slopes;
} @_table;

static int @_interval(const REAL* x, int n, REAL at)
{
    int low = 1, high = n - 1; /* the first of x[1] .. x[n - 2] that lies above, as if x[n - 1] did */
    while (low < high) {
        int middle = low + (high - low) / 2;
        if (at < x[middle])
            high = middle;
        else
            low = middle + 1;
    }
    return low - 1;
}

static REAL @_cubic(REAL h, REAL s, REAL v0, REAL v1, REAL m0, REAL m1, int order)
{
    const REAL d = (v1 - v0) / h;
    const REAL c2 = (3 * d - 2 * m0 - m1) / h, c3 = (m0 + m1 - 2 * d) / (h * h);
    switch (order) {
        case 0:
            return v0 + s * (m0 + s * (c2 + s * c3));
        case 1:
            return m0 + s * (2 * c2 + 3 * s * c3);
        case 2:
            return 2 * c2 + 6 * s * c3;
        case 3:
            return 6 * c3;
        default:
            return 0;
    }
}

static REAL @_along(const REAL* knots, int n, const REAL* v, const REAL* slopes, int beyond, REAL at, int order)
{
    const REAL lo = knots[0], hi = knots[n - 1];
    const int outside = at < lo || at > hi, last = n - 1;
    int i;
    REAL h;
    if (outside && beyond == 2) return (REAL)NAN;
    if (outside && beyond == 0) return order > 0 ? 0 : at < lo ? v[0] : v[last];
    i = @_interval(knots, n, at);
    h = knots[i + 1] - knots[i];
    if (slopes == 0) return order == 0 ? v[i] + (v[i + 1] - v[i]) * ((at - knots[i]) / h) : order == 1 ? (v[i + 1] - v[i]) / h : 0;
    if (outside) {
        const REAL edge = at < lo ? lo : hi, m = slopes[at < lo ? 0 : last], ve = v[at < lo ? 0 : last];
        return order == 0 ? ve + m * (at - edge) : order == 1 ? m : 0;
    }
    return @_cubic(h, at - knots[i], v[i], v[i + 1], slopes[i], slopes[i + 1], order);
}

static REAL @_table_value(const @_table* t, int dx, int dy, REAL x, REAL y);
)";

constexpr const char* kOne = R"(static REAL @_table_value(const @_table* t, int dx, int dy, REAL x, REAL y)
{
    (void)dy;
    if (x != x || y != y) return (REAL)NAN;
    return @_along(t->x, t->nx, t->values, t->smooth ? t->slopes : 0, t->outside, x, dx);
}
)";

constexpr const char* kTwo = R"(/* Fritsch and Butland (1984): slopes of a monotone cubic. */
static REAL @_end_slope(REAL h0, REAL h1, REAL s0, REAL s1)
{
    const REAL s = ((2 * h0 + h1) * s0 - h0 * s1) / (h0 + h1);
    if (s * s0 <= 0) return 0;
    if (s0 * s1 <= 0 && fabsFN(s) > 3 * fabsFN(s0)) return 3 * s0;
    return s;
}

static void @_monotone_slopes(const REAL* x, int n, const REAL* v, REAL* slope)
{
    int i;
    for (i = 1; i + 1 < n; ++i) {
        const REAL left = (v[i] - v[i - 1]) / (x[i] - x[i - 1]), right = (v[i + 1] - v[i]) / (x[i + 1] - x[i]);
        const REAL h_left = x[i] - x[i - 1], h_right = x[i + 1] - x[i];
        if (left * right <= 0) {
            slope[i] = 0;
        } else {
            const REAL w_left = 2 * h_right + h_left, w_right = h_right + 2 * h_left;
            slope[i] = (w_left + w_right) / (w_left / left + w_right / right);
        }
    }
    if (n == 2) {
        slope[0] = slope[1] = (v[1] - v[0]) / (x[1] - x[0]);
    } else {
        slope[0] = @_end_slope(x[1] - x[0], x[2] - x[1], (v[1] - v[0]) / (x[1] - x[0]), (v[2] - v[1]) / (x[2] - x[1]));
        slope[n - 1] = @_end_slope(x[n - 1] - x[n - 2], x[n - 2] - x[n - 3], (v[n - 1] - v[n - 2]) / (x[n - 1] - x[n - 2]), (v[n - 2] - v[n - 3]) / (x[n - 2] - x[n - 3]));
    }
}

/* Truncated series in y, for slopes along x that depend on y themselves. */
typedef struct {
    REAL c[4];
} @_series;
static @_series @_of(REAL a)
{
    @_series r = {{0, 0, 0, 0}};
    r.c[0] = a;
    return r;
}
static @_series @_plus(@_series a, @_series b)
{
    int k;
    for (k = 0; k < 4; ++k) a.c[k] = a.c[k] + b.c[k];
    return a;
}
static @_series @_minus(@_series a, @_series b)
{
    int k;
    for (k = 0; k < 4; ++k) a.c[k] = a.c[k] - b.c[k];
    return a;
}
static @_series @_times(@_series a, @_series b)
{
    @_series r = {{0, 0, 0, 0}};
    int i, j;
    for (i = 0; i < 4; ++i)
        for (j = 0; i + j < 4; ++j) r.c[i + j] = r.c[i + j] + a.c[i] * b.c[j];
    return r;
}
static @_series @_over(@_series a, @_series b)
{
    @_series r = {{0, 0, 0, 0}};
    int j, k;
    for (k = 0; k < 4; ++k) {
        REAL sum = a.c[k];
        for (j = 0; j < k; ++j) sum = sum - r.c[j] * b.c[k - j];
        r.c[k] = sum / b.c[0];
    }
    return r;
}
static @_series @_series_end(REAL h0, REAL h1, @_series s0, @_series s1)
{
    const @_series s = @_over(@_minus(@_times(@_of(2 * h0 + h1), s0), @_times(@_of(h0), s1)), @_of(h0 + h1));
    if (s.c[0] * s0.c[0] <= 0) return @_of(0);
    if (s0.c[0] * s1.c[0] <= 0 && fabsFN(s.c[0]) > 3 * fabsFN(s0.c[0])) return @_times(@_of(3), s0);
    return s;
}
static @_series @_secant(const REAL* x, const @_series* v, int i)
{
    return @_over(@_minus(v[i + 1], v[i]), @_of(x[i + 1] - x[i]));
}
static void @_series_slopes(const REAL* x, int n, const @_series* v, @_series* slope)
{
    int i;
    for (i = 1; i + 1 < n; ++i) {
        const @_series left = @_secant(x, v, i - 1), right = @_secant(x, v, i);
        const REAL h_left = x[i] - x[i - 1], h_right = x[i + 1] - x[i];
        if (left.c[0] * right.c[0] <= 0) {
            slope[i] = @_of(0);
        } else {
            const REAL w_left = 2 * h_right + h_left, w_right = h_right + 2 * h_left;
            slope[i] = @_over(@_of(w_left + w_right), @_plus(@_over(@_of(w_left), left), @_over(@_of(w_right), right)));
        }
    }
    if (n == 2) {
        slope[0] = slope[1] = @_secant(x, v, 0);
    } else {
        slope[0] = @_series_end(x[1] - x[0], x[2] - x[1], @_secant(x, v, 0), @_secant(x, v, 1));
        slope[n - 1] = @_series_end(x[n - 1] - x[n - 2], x[n - 2] - x[n - 3], @_secant(x, v, n - 2), @_secant(x, v, n - 3));
    }
}
static @_series @_series_cubic(REAL h, REAL s, @_series v0, @_series v1, @_series m0, @_series m1, int order)
{
    const @_series d = @_over(@_minus(v1, v0), @_of(h));
    const @_series c2 = @_over(@_minus(@_minus(@_times(@_of(3), d), @_times(@_of(2), m0)), m1), @_of(h));
    const @_series c3 = @_over(@_minus(@_plus(m0, m1), @_times(@_of(2), d)), @_of(h * h)), at = @_of(s);
    switch (order) {
        case 0:
            return @_plus(v0, @_times(at, @_plus(m0, @_times(at, @_plus(c2, @_times(at, c3))))));
        case 1:
            return @_plus(m0, @_times(at, @_plus(@_times(@_of(2), c2), @_times(@_times(@_of(3), at), c3))));
        case 2:
            return @_plus(@_times(@_of(2), c2), @_times(@_times(@_of(6), at), c3));
        case 3:
            return @_times(@_of(6), c3);
        default:
            return @_of(0);
    }
}
static @_series @_series_along(const REAL* knots, int n, const @_series* v, const @_series* slopes, int beyond, REAL at, int order)
{
    const REAL lo = knots[0], hi = knots[n - 1];
    const int outside = at < lo || at > hi, last = n - 1;
    int i;
    if (outside && beyond == 2) return @_of((REAL)NAN);
    if (outside && beyond == 0) return order > 0 ? @_of(0) : at < lo ? v[0] : v[last];
    i = @_interval(knots, n, at);
    if (outside) {
        const REAL edge = at < lo ? lo : hi;
        const @_series m = slopes[at < lo ? 0 : last], ve = v[at < lo ? 0 : last];
        return order == 0 ? @_plus(ve, @_times(m, @_of(at - edge))) : order == 1 ? m : @_of(0);
    }
    return @_series_cubic(knots[i + 1] - knots[i], at - knots[i], v[i], v[i + 1], slopes[i], slopes[i + 1], order);
}

static REAL @_row(const @_table* t, int k, REAL y, int order)
{
    return @_along(t->y, t->ny, t->values + k * t->ny, t->smooth ? t->slopes + k * t->ny : 0, t->outside, y, order);
}

static REAL @_table_value(const @_table* t, int dx, int dy, REAL x, REAL y)
{
    static const REAL factorial[4] = {1, 1, 2, 6};
    int k, order;
    if (x != x || y != y) return (REAL)NAN;
    if (t->ny == 0) return @_along(t->x, t->nx, t->values, t->smooth ? t->slopes : 0, t->outside, x, dx);
    if (dx > 3 || dy > 3) return 0;
    if (!t->smooth) {
        REAL row[@_MOST_KNOTS];
        const int i = @_interval(t->x, t->nx, x);
        for (k = 0; k < t->nx; ++k) row[k] = 0;
        row[i] = @_row(t, i, y, dy);
        row[i + 1] = @_row(t, i + 1, y, dy);
        row[0] = @_row(t, 0, y, dy);
        row[t->nx - 1] = @_row(t, t->nx - 1, y, dy);
        return @_along(t->x, t->nx, row, 0, t->outside, x, dx);
    }
    if (dy == 0) {
        REAL column[@_MOST_KNOTS], slopes[@_MOST_KNOTS];
        for (k = 0; k < t->nx; ++k) column[k] = @_row(t, k, y, 0);
        @_monotone_slopes(t->x, t->nx, column, slopes);
        return @_along(t->x, t->nx, column, slopes, t->outside, x, dx);
    } else {
        @_series column[@_MOST_KNOTS], slopes[@_MOST_KNOTS];
        for (k = 0; k < t->nx; ++k) {
            column[k] = @_of(0);
            for (order = 0; order <= dy; ++order) column[k].c[order] = @_row(t, k, y, order) / factorial[order];
        }
        @_series_slopes(t->x, t->nx, column, slopes);
        return @_series_along(t->x, t->nx, column, slopes, t->outside, x, dx).c[dy] * factorial[dy];
    }
}
)";

std::string number_list(const std::string& name, const std::string& real, const std::vector<double>& values)
{
    std::string out = fmt::format("static const {} {}[{}] = {{", real, name, values.size());
    for (std::size_t i = 0; i < values.size(); ++i) out += fmt::format("{}{:.17g}", i == 0 ? "" : i % 8 == 0 ? ",\n    " : ", ", values[i]);
    return out + "};\n";
}

template <typename T, typename Pointer>
std::size_t number_of(const std::vector<T>& list, Pointer wanted)
{
    for (std::size_t k = 0; k < list.size(); ++k)
        if (list[k].get() == wanted) return k;
    return list.size();
}

std::string procedure(const ProcedureCode& code, const Callables& callables, std::size_t number, const std::string& name, const std::string& real,
                      const std::string& suffix)
{
    using Step = ProcedureCode::Step;
    std::set<std::uint32_t> targets;
    bool loops = false;
    for (std::size_t at = 0; at < code.steps.size(); ++at)
        if (const Step& s = code.steps[at]; s.kind == Step::Kind::jump || s.kind == Step::Kind::jump_if_zero)
            targets.insert(s.to), loops |= s.kind == Step::Kind::jump;
    std::string out = fmt::format("static {} {}_function_{}(const {}* a)\n{{\n    {} r[{}];\n    int i;\n", real, name, number, real, real, code.n_registers);
    if (loops) out += "    unsigned long turns = 0;\n";
    out += fmt::format("    for (i = 0; i < {}; ++i) r[i] = 0;\n", code.n_registers);
    for (std::size_t k = 0; k < code.arguments.size(); ++k) out += fmt::format("    r[{}] = a[{}];\n", code.arguments[k], k);
    if (code.arguments.empty()) out += "    (void)a;\n";
    for (std::size_t at = 0; at < code.steps.size(); ++at) {
        const Step& s = code.steps[at];
        if (targets.contains(static_cast<std::uint32_t>(at))) out += fmt::format("l{}:\n", at);
        auto r = [](std::uint32_t k) { return fmt::format("r[{}]", k); };
        switch (s.kind) {
            case Step::Kind::compute:
                out += fmt::format("    r[{}] = {};\n", s.to,
                                   s.op == Op::select && s.a == s.b && s.b == s.c ? r(s.a) : c_operation(s.op, {r(s.a), r(s.b), r(s.c)}, suffix));
                break;
            case Step::Kind::constant:
                out += fmt::format("    r[{}] = {:.17g};\n", s.to, s.number);
                break;
            case Step::Kind::table: {
                std::size_t table = number_of(callables.tables, s.tabled);
                out += fmt::format("    r[{}] = {}_table_value(&{}_table_{}, {}, {}, r[{}], {});\n", s.to, name, name, table, s.flag / 16, s.flag % 16, s.a,
                                   s.b == kNoNode ? "0" : r(s.b));
                break;
            }
            case Step::Kind::call: {
                std::string list;
                for (std::uint32_t k = 0; k < s.b; ++k) list += (k == 0 ? "" : ", ") + r(code.lists[s.a + k]);
                out += fmt::format("    {{\n        {} l[{}];\n", real, std::max(1u, s.b));
                for (std::uint32_t k = 0; k < s.b; ++k) out += fmt::format("        l[{}] = r[{}];\n", k, code.lists[s.a + k]);
                out += fmt::format("        r[{}] = {}_function_{}(l);\n    }}\n", s.to, name, number_of(callables.functions, s.called));
                break;
            }
            case Step::Kind::jump:
                out += fmt::format("    if (++turns > {}ul) return ({})NAN;\n    goto l{};\n", kMostTurns, real, s.to);
                break;
            case Step::Kind::jump_if_zero:
                out += fmt::format("    if (r[{0}] != r[{0}]) return r[{0}];\n    if (r[{0}] == 0) goto l{1};\n", s.a, s.to);
                break;
        }
    }
    if (targets.contains(static_cast<std::uint32_t>(code.steps.size()))) out += fmt::format("l{}:\n", code.steps.size());
    return out + fmt::format("    return r[{}];\n}}\n", code.result);
}

}  // namespace

void mark_used(const Callables& callables, std::vector<char>& used_tables, std::vector<char>& used_functions)
{
    bool again = true;
    while (again) {
        again = false;
        for (std::size_t f = 0; f < callables.functions.size(); ++f) {
            if (used_functions[f] == 0 || callables.functions[f]->code() == nullptr) continue;
            for (const ProcedureCode::Step& s : callables.functions[f]->code()->steps) {
                if (s.kind == ProcedureCode::Step::Kind::table) used_tables[number_of(callables.tables, s.tabled)] = 1;
                if (s.kind != ProcedureCode::Step::Kind::call) continue;
                char& used = used_functions[number_of(callables.functions, s.called)];
                again |= used == 0;
                used = 1;
            }
        }
    }
}

std::string c_callables(const Callables& callables, const std::vector<char>& used_tables, const std::vector<char>& used_functions, const std::string& name,
                        const std::string& real, const std::string& suffix)
{
    std::string out, tables;
    std::size_t most = 0;
    for (std::size_t k = 0; k < callables.tables.size(); ++k) {
        if (used_tables[k] == 0) continue;
        const Table& t = *callables.tables[k];
        std::string base = fmt::format("{}_table_{}", name, k);
        tables += number_list(base + "_x", real, t.knots(0));
        bool two = t.n_arguments() == 2;
        if (two) tables += number_list(base + "_y", real, t.knots(1)), most = std::max(most, t.knots(0).size());
        tables += number_list(base + "_v", real, t.values());
        if (t.smooth()) tables += number_list(base + "_s", real, t.slopes());
        tables +=
            fmt::format("static const {}_table {} = {{{}, {}, {}, {}, {}_x, {}, {}_v, {}}};\n", name, base, t.knots(0).size(), two ? t.knots(1).size() : 0,
                        t.smooth() ? 1 : 0, static_cast<int>(t.outside()), base, two ? base + "_y" : "0", base, t.smooth() ? base + "_s" : "0");
    }
    if (!tables.empty()) {
        out += with_names(kAlong, name, real, suffix);
        if (most > 0) out += fmt::format("#define {}_MOST_KNOTS {}\n", name, most);
        out += with_names(most > 0 ? kTwo : kOne, name, real, suffix);
        out += tables;
    }
    std::string functions;
    for (std::size_t k = 0; k < callables.functions.size(); ++k) {
        if (used_functions[k] == 0) continue;
        const ProcedureCode* code = callables.functions[k]->code();
        if (code == nullptr)
            throw NumericFailure("fixed-step", fmt::format("'{}', a table of three arguments, has no C form yet", callables.functions[k]->name()),
                                 "use tables of one or two arguments in what is exported");
        out += fmt::format("static {} {}_function_{}(const {}* a);\n", real, name, k, real);
        functions += procedure(*code, callables, k, name, real, suffix);
    }
    return out + functions;
}

}  // namespace netloop

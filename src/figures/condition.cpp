// SPDX-License-Identifier: Apache-2.0
#include "figures/condition.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "language/parser.hpp"

namespace netloop {
namespace {

struct Values {
    std::vector<double> rows;  ///< of a condition: above 0 where it holds; its distance from turning, infinite where it just jumps
    Dimension dimension;
    bool condition = false;
    std::string unit{};  ///< as written or recorded, for messages; empty: what the dimension says
};

class Evaluator {
public:
    Evaluator(Recording& recording, const std::string& text) : recording_(recording), text_(text) {}

    Values evaluate(const Expr& e)
    {
        switch (e.kind) {
            case ExprKind::number:
                return {std::vector<double>(n(), e.number), e.unit == nullptr ? Dimension{} : e.unit->dimension, false, e.unit == nullptr ? "" : e.unit->text};
            case ExprKind::truth:
                return {std::vector<double>(n(), e.number > 0 ? HUGE_VAL : -HUGE_VAL), {}, true};
            case ExprKind::time:
                return column("time");
            case ExprKind::path:
                return column(text_of(e.path));
            case ExprKind::negate: {
                Values v = evaluate(*e.args[0]);
                for (double& x : v.rows) x = -x;
                return v;
            }
            case ExprKind::logical_not: {
                Values v = condition(*e.args[0]);
                for (double& x : v.rows) x = x == 0 ? 1e-300 : -x;
                return v;
            }
            case ExprKind::compare:
                return compare(e);
            case ExprKind::chain:
                return chain(e);
            default:
                fail(e, "only recorded quantities, numbers with units, + - * /, comparisons, and, or, not can stand here");
        }
    }

    Values condition(const Expr& e)
    {
        Values v = evaluate(e);
        if (!v.condition) fail(e, "a condition is expected, such as leaf.angle > 5 deg");
        return v;
    }

private:
    std::size_t n() const { return recording_.n_rows(); }

    [[noreturn]] void fail(const Expr& e, const std::string& why) const
    {
        throw RecordingError(fmt::format("'{}', column {}: {}", text_, e.span.begin + 1, why));
    }

    Values column(const std::string& name)
    {
        recording_.fetch({name});
        const Column& c = recording_[name];
        if (c.unit == "bool") {
            Values v{c.values, {}, true};
            for (double& x : v.rows) x = x > 0.5 ? HUGE_VAL : -HUGE_VAL;
            return v;
        }
        Unit unit;
        UnitProblem problem;
        if (!c.unit.empty() && !parse_unit(c.unit, unit, problem)) throw RecordingError(problem.text);
        return {c.values, unit.dimension, false, c.unit};
    }

    void same_unit(const Expr& e, const Values& a, const Values& b, const Expr& of_b)
    {
        bool zero = of_b.kind == ExprKind::number && of_b.number == 0;
        if (!(a.dimension == b.dimension) && !zero) {
            auto shown = [](const Values& v) { return v.unit.empty() ? v.dimension.text() : v.unit; };
            fail(e, fmt::format("[{}] against [{}]", shown(a), shown(b)));
        }
    }

    Values compare(const Expr& e)
    {
        Values a = evaluate(*e.args[0]), b = evaluate(*e.args[1]);
        if (a.condition || b.condition) fail(e, "a condition cannot be compared");
        same_unit(e, a, b, *e.args[1]);
        bool less = e.text[0] == '<';
        if (!less && e.text[0] != '>') fail(e, "compare by <, <=, > or >=");
        for (std::size_t i = 0; i < n(); ++i) a.rows[i] = less ? b.rows[i] - a.rows[i] : a.rows[i] - b.rows[i];
        if (e.text.size() == 2)  // equal counts as true
            for (double& x : a.rows)
                if (x == 0) x = 1e-300;
        return {std::move(a.rows), {}, true};
    }

    Values chain(const Expr& e)
    {
        char first = e.text[0];
        bool logic = first == '&' || first == '|';
        Values v = logic ? condition(*e.args[0]) : evaluate(*e.args[0]);
        for (std::size_t k = 1; k < e.args.size(); ++k) {
            Values w = logic ? condition(*e.args[k]) : evaluate(*e.args[k]);
            char op = e.text[k - 1];
            if (!logic && (v.condition || w.condition)) fail(e, "a condition is no number");
            if (op == '+' || op == '-') same_unit(e, v, w, *e.args[k]);
            if (op == '*' || op == '/') v.unit.clear();
            if (op == '*') v.dimension = v.dimension * w.dimension;
            if (op == '/') v.dimension = v.dimension / w.dimension;
            for (std::size_t i = 0; i < n(); ++i) {
                double &a = v.rows[i], b = w.rows[i];
                switch (op) {
                    case '&':
                        a = std::min(a, b);
                        break;
                    case '|':
                        a = std::max(a, b);
                        break;
                    case '+':
                        a += b;
                        break;
                    case '-':
                        a -= b;
                        break;
                    case '*':
                        a *= b;
                        break;
                    default:
                        a /= b;
                }
            }
        }
        return v;
    }

    Recording& recording_;
    const std::string& text_;
};

}  // namespace

std::vector<double> times_of(Recording& recording, const std::string& text)
{
    SourceSet sources;
    std::uint32_t file = sources.add("condition", text);
    Diagnostics diagnostics;
    SyntaxArena arena;
    const Expr* e = parse_expression(sources, file, arena, diagnostics);
    if (e == nullptr || diagnostics.has_errors()) throw RecordingError(fmt::format("'{}' is no condition; write one such as leaf.angle > 5 deg", text));
    Values v = Evaluator(recording, text).condition(*e);
    const std::vector<double>& t = recording.time().values;
    std::vector<double> times;
    for (std::size_t i = 1; i < v.rows.size(); ++i) {
        if (!(v.rows[i] > 0) || v.rows[i - 1] > 0) continue;
        double share = v.rows[i - 1] / (v.rows[i - 1] - v.rows[i]);
        times.push_back(t[i - 1] + (std::isfinite(share) ? share : 1) * (t[i] - t[i - 1]));
    }
    return times;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Expressions as LaTeX.
#include <fmt/format.h>

#include "api/page.hpp"

namespace netloop {
namespace {

// A name as it is written, not taken apart: \mathit{rated\_flow}; single letters stay letters.
std::string name_of(const std::string& text)
{
    std::string escaped;
    for (char c : text) escaped += c == '_' ? "\\_" : std::string(1, c);
    return text.size() == 1 ? escaped : "\\mathit{" + escaped + "}";
}

std::string path_of(const Path& path)
{
    std::string text, index;
    for (const PathStep& step : path) {
        text += (text.empty() ? "" : ".") + step.name;
        for (const Expr* e : step.indices) index += (index.empty() ? "" : ",") + latex_of(*e);
    }
    return name_of(text) + (index.empty() ? "" : "_{" + index + "}");
}

std::string unit_of(const std::string& unit)
{
    std::string text;
    for (char c : unit) text += c == '*' ? "\\,\\!" : c == '%' ? "\\%" : std::string(1, c);
    return unit == "1" ? "" : "\\ \\mathrm{" + text + "}";
}

bool is_sum(const Expr& e)
{
    return (e.kind == ExprKind::chain && (e.text[0] == '+' || e.text[0] == '-')) || e.kind == ExprKind::negate;
}
bool is_logic(const Expr& e)
{
    return e.kind == ExprKind::compare || e.kind == ExprKind::choice || (e.kind == ExprKind::chain && (e.text[0] == '&' || e.text[0] == '|'));
}
std::string bracketed(const Expr& e, bool needed)
{
    std::string text = latex_of(e);
    return needed ? "\\left(" + text + "\\right)" : text;
}

std::string product(const Expr& e)
{
    std::string above, below;
    std::size_t n_below = 0;
    for (std::size_t i = 0; i < e.args.size(); ++i)
        if (i > 0 && e.text[i - 1] == '/') ++n_below;
    std::size_t n_above = e.args.size() - n_below;
    for (std::size_t i = 0; i < e.args.size(); ++i) {
        bool under = i > 0 && e.text[i - 1] == '/';
        const Expr& factor = *e.args[i];
        bool alone = under ? n_below == 1 : n_below > 0 && n_above == 1;
        std::string text = bracketed(factor, !alone && (is_sum(factor) || is_logic(factor)));
        std::string& side = under ? below : above;
        side += (side.empty() ? "" : "\\, ") + text;
    }
    return below.empty() ? above : "\\frac{" + above + "}{" + below + "}";
}

std::string call(const Expr& e)
{
    std::string name = text_of(e.path), arguments;
    for (const Expr* a : e.args) arguments += (arguments.empty() ? "" : ", ") + latex_of(*a);
    if (name == "sqrt" && e.args.size() == 1) return "\\sqrt{" + arguments + "}";
    if (name == "abs" && e.args.size() == 1) return "\\left|" + arguments + "\\right|";
    if (name == "exp" && e.args.size() == 1) return "e^{" + arguments + "}";
    if (name == "sum" && e.args.size() == 1 && e.args[0]->kind == ExprKind::comprehension) {
        const Expr& c = *e.args[0];
        return fmt::format("\\sum_{{{}={}}}^{{{}}} {}", name_of(c.text), latex_of(*c.args[1]), latex_of(*c.args[2]), bracketed(*c.args[0], is_sum(*c.args[0])));
    }
    for (const char* known : {"sin", "cos", "tan", "sinh", "cosh", "tanh", "min", "max", "log"})
        if (name == known) return std::string("\\") + (name == "log" ? "ln" : known) + "\\left(" + arguments + "\\right)";
    std::string escaped;
    for (char c : name) escaped += c == '_' ? "\\_" : std::string(1, c);
    return "\\operatorname{" + escaped + "}\\left(" + arguments + "\\right)";
}

}  // namespace

std::string latex_of(const Expr& e)
{
    switch (e.kind) {
        case ExprKind::number:
            if (e.text == "pi") return "\\pi";
            if (e.unit) return fmt::format("{:.12g}{}", e.unit->from_si(e.number), unit_of(e.unit->text));
            return fmt::format("{:.12g}", e.number);
        case ExprKind::truth:
            return e.number != 0 ? "\\text{true}" : "\\text{false}";
        case ExprKind::text:
            return "\\text{" + e.text + "}";
        case ExprKind::time:
            return "t";
        case ExprKind::path:
            return e.args.empty() ? path_of(e.path) : latex_of(*e.args[0]) + "." + name_of(e.path.back().name);
        case ExprKind::derivative: {
            const Expr& of = *e.args[0];
            if (of.kind == ExprKind::path && e.order <= 2) return (e.order == 1 ? "\\dot{" : "\\ddot{") + latex_of(of) + "}";
            return fmt::format("\\frac{{d{}}}{{dt{}}}{}", e.order > 1 ? fmt::format("^{}", e.order) : "", e.order > 1 ? fmt::format("^{}", e.order) : "",
                               bracketed(of, of.kind != ExprKind::path));
        }
        case ExprKind::chain: {
            char first = e.text[0];
            if (first == '*' || first == '/') return product(e);
            std::string text = latex_of(*e.args[0]);
            for (std::size_t i = 1; i < e.args.size(); ++i) {
                char op = e.text[i - 1];
                text += op == '|' ? "\\ \\text{or}\\ " : op == '&' ? "\\ \\text{and}\\ " : std::string(" ") + op + " ";
                text += bracketed(*e.args[i], (op == '-' && is_sum(*e.args[i])) || e.args[i]->kind == ExprKind::choice);
            }
            return text;
        }
        case ExprKind::negate:
            return "-" + bracketed(*e.args[0], is_sum(*e.args[0]) || is_logic(*e.args[0]));
        case ExprKind::power: {
            bool plain = e.args[0]->kind == ExprKind::path || (e.args[0]->kind == ExprKind::number && !e.args[0]->unit);
            return bracketed(*e.args[0], !plain) + "^{" + latex_of(*e.args[1]) + "}";
        }
        case ExprKind::compare: {
            std::string op = e.text == "<="   ? "\\le"
                             : e.text == ">=" ? "\\ge"
                             : e.text == "!=" ? "\\ne"
                             : e.text == "==" ? "="
                             : e.text == "<"  ? "\\lt"
                                              : "\\gt";
            return latex_of(*e.args[0]) + " " + op + " " + latex_of(*e.args[1]);
        }
        case ExprKind::is_stage:
            return path_of(e.path) + "\\ \\text{is}\\ " + name_of(e.text);
        case ExprKind::logical_not:
            return "\\text{not}\\ " + bracketed(*e.args[0], is_logic(*e.args[0]));
        case ExprKind::choice: {
            std::string text = "\\begin{cases} ";
            const Expr* at = &e;
            while (at->kind == ExprKind::choice) {
                text += latex_of(*at->args[1]) + " & \\text{if } " + latex_of(*at->args[0]) + " \\\\ ";
                at = at->args[2];
            }
            return text + latex_of(*at) + " & \\text{else} \\end{cases}";
        }
        case ExprKind::call:
            return call(e);
        default:
            return "\\texttt{" + text_of(e) + "}";
    }
}

}  // namespace netloop

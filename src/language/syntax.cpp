// SPDX-License-Identifier: Apache-2.0
#include "language/syntax.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace netloop {

bool is_reserved(std::string_view name)
{
    static constexpr std::array<std::string_view, 30> kReserved{"component", "system", "part",  "port", "joint", "param", "option", "const", "let",   "var",
                                                                "memory",    "init",   "guess", "if",   "then",  "else",  "for",    "in",    "when",  "every",
                                                                "function",  "return", "while", "and",  "or",    "not",   "is",     "true",  "false", "time"};
    return name == "pi" || std::find(kReserved.begin(), kReserved.end(), name) != kReserved.end();
}

std::string text_of(const Path& path)
{
    std::string text;
    for (const PathStep& step : path) {
        if (!text.empty()) text += '.';
        text += step.name;
        for (const Expr* index : step.indices) text += "[" + text_of(*index) + "]";
    }
    return text;
}

bool always_returns(const Block& block)
{
    if (block.empty()) return false;
    const Statement* last = block.back();
    if (last->as<ReturnDecl>() != nullptr) return true;
    const auto* branch = last->as<IfDecl>();
    return branch != nullptr && always_returns(branch->then_block) && always_returns(branch->else_block);
}

namespace {

int strength(const Expr& e)
{
    switch (e.kind) {
        case ExprKind::choice:
            return 0;
        case ExprKind::chain:
            return e.text[0] == '|' ? 1 : e.text[0] == '&' ? 2 : e.text[0] == '+' || e.text[0] == '-' ? 5 : 6;
        case ExprKind::logical_not:
            return 3;
        case ExprKind::compare:
        case ExprKind::is_stage:
            return 4;
        case ExprKind::negate:
            return 7;
        case ExprKind::power:
            return 8;
        case ExprKind::number:
            return e.number < 0 ? 7 : 10;
        default:
            return 10;
    }
}

std::string wrapped(const Expr& e, int least)
{
    std::string text = text_of(e);
    return strength(e) < least ? "(" + text + ")" : text;
}

// What follows a number with a unit, or divides by it, would be read as part of the unit.
std::string with_unit_apart(const Expr& e, int least, bool apart)
{
    bool unit = e.kind == ExprKind::number && e.unit && e.unit->text != "1" && !e.unit->text.empty() && e.text != "pi";
    return unit && apart ? "(" + text_of(e) + ")" : wrapped(e, least);
}

std::string joined(const std::vector<const Expr*>& list)
{
    std::string text;
    for (const Expr* e : list) text += (text.empty() ? "" : ", ") + text_of(*e);
    return text;
}

}  // namespace

// Depth is bounded by the parser (and by the builder), so recursion is safe here.
std::string text_of(const Expr& e)
{
    switch (e.kind) {
        case ExprKind::number:
            if (e.text == "pi") return "pi";
            if (e.unit) return fmt::format("{:.12g} {}", e.unit->from_si(e.number), e.unit->text);
            return fmt::format("{:.12g}", e.number);
        case ExprKind::truth:
            return e.number != 0 ? "true" : "false";
        case ExprKind::text:
            return fmt::format("\"{}\"", e.text);
        case ExprKind::time:
            return "time";
        case ExprKind::path:
            return e.args.empty() ? text_of(e.path) : text_of(*e.args[0]) + "." + e.path.back().name;
        case ExprKind::derivative:
            return wrapped(*e.args[0], 10) + std::string(static_cast<std::size_t>(e.order), '\'');
        case ExprKind::chain: {
            int level = strength(e);
            std::string text = with_unit_apart(*e.args[0], level, level == 6);
            for (std::size_t i = 1; i < e.args.size(); ++i) {
                char op = e.text[i - 1];
                text += op == '|' ? " or " : op == '&' ? " and " : level == 6 ? std::string(1, op) : fmt::format(" {} ", op);
                text += with_unit_apart(*e.args[i], level + 1, level == 6 && (op == '/' || i + 1 < e.args.size()));
            }
            return text;
        }
        case ExprKind::negate:
            return "-" + wrapped(*e.args[0], 7);
        case ExprKind::power:
            return with_unit_apart(*e.args[0], 9, true) + "^" + wrapped(*e.args[1], 8);
        case ExprKind::compare:
            return wrapped(*e.args[0], 5) + " " + e.text + " " + wrapped(*e.args[1], 5);
        case ExprKind::is_stage:
            return text_of(e.path) + " is " + e.text;
        case ExprKind::logical_not:
            return "not " + wrapped(*e.args[0], 3);
        case ExprKind::choice:
            return fmt::format("if {} then {} else {}", text_of(*e.args[0]), text_of(*e.args[1]), text_of(*e.args[2]));
        case ExprKind::call:
            return text_of(e.path) + "(" + joined(e.args) + ")";
        case ExprKind::comprehension:
            return fmt::format("{} for {} in {} .. {}", text_of(*e.args[0]), e.text, text_of(*e.args[1]), text_of(*e.args[2]));
        case ExprKind::window:
            return text_of(*e.args[0]) + " from " + text_of(*e.args[1]) + (e.args.size() > 2 ? " to " + text_of(*e.args[2]) : "");
        case ExprKind::at_moment:
            return text_of(*e.args[0]) + " when " + text_of(*e.args[1]);
        case ExprKind::array:
            return "[" + joined(e.args) + "]";
    }
    return {};
}

}  // namespace netloop

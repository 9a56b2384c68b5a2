// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <array>

#include "language/parser_core.hpp"

namespace netloop {
namespace {

// Words that the grammar allows right after a number, where a name would otherwise be read as its unit.
constexpr std::array<std::string_view, 32> kNotUnits{"to",      "from",   "points", "usual", "guess",  "init",   "in",    "else",  "then",    "and", "or",
                                                     "not",     "is",     "when",   "if",    "for",    "every",  "after", "at",    "as",      "so",  "except",
                                                     "against", "linear", "smooth", "hold",  "extend", "refuse", "of",    "start", "passing", "on"};

}  // namespace

// --- cursor -------------------------------------------------------------------------------------------------------

bool Parser::accept(std::string_view word)
{
    if (!is(word)) return false;
    if (word == "(" || word == "[") ++open_brackets_;
    if (word == ")" || word == "]") open_brackets_ = std::max(0, open_brackets_ - 1);
    take();
    return true;
}

void Parser::abandon(const Message& message, Span span, std::string_view a, std::string_view b, std::string hint)
{
    diagnostics_.report(message, span, a, b).mend(std::move(hint));
    throw StatementAbandoned{};
}

namespace {
std::string shown(const Token& token)
{
    if (token.kind == TokenKind::end) return "the end of the file";
    return fmt::format("'{}'", token.text.substr(0, 40));
}
}  // namespace

void Parser::expect(std::string_view word, std::string_view after)
{
    if (accept(word)) return;
    abandon(messages::expected_token, now().span, fmt::format("'{}' {}", word, after), shown(now()));
}

std::string Parser::name(std::string_view what, Span* span)
{
    if (!is_name()) abandon(messages::expected_token, now().span, fmt::format("the name of {}", what), shown(now()));
    if (is_reserved(now().text)) abandon(messages::reserved_word, now().span, now().text, what);
    if (span != nullptr) *span = now().span;
    return std::string(take().text);
}

void Parser::enter()
{
    if (++depth_ > kDeepestExpression) {
        --depth_;
        diagnostics_.report(messages::nested_too_deeply, now().span, kDeepestExpression);
        at_ = tokens_.size() - 1;  // nothing behind such a place can be read sensibly
        throw StatementAbandoned{};
    }
}

bool Parser::line_goes_on() const
{
    static constexpr std::array<std::string_view, 23> kOperators{"--", "->", "+",   "-",  "*",  "/",    "^",    "=", "==", "!=", "<", ">",
                                                                 "<=", ">=", "and", "or", "is", "else", "then", ",", ":=", "..", ":"};
    auto in = [](const Token& token) { return std::any_of(kOperators.begin(), kOperators.end(), [&](std::string_view word) { return token.is(word); }); };
    return open_brackets_ > 0 || in(now()) || (at_ > 0 && (in(last()) || last().is("not")));
}

bool Parser::at_statement_end() const
{
    if (now().kind == TokenKind::end || is(";") || is("}")) return true;
    return now().line_before && !line_goes_on();
}

void Parser::end_statement(std::string_view what)
{
    if (accept(";") || at_statement_end()) return;
    if (is("=") && what == "the equation")
        abandon(messages::second_equals, now().span, {}, {}, "an equation that begins with a minus is written with brackets: (-a) = b");
    std::string hint;
    for (const Token* t = &now(); t > &tokens_[0] && hint.empty() && !t->is(";") && !t->is("{"); --t)
        if (t->is("-") && t->line_before) hint = "a line that begins with a minus goes on with the line above it: put it in brackets";
    abandon(messages::expected_end, now().span, what, shown(now()), hint);
}

// Leaves the cursor behind the end of the present statement; braces opened on the way are passed over whole.
void Parser::skip_statement()
{
    open_brackets_ = 0;
    int braces = 0;
    bool first = true;
    while (now().kind != TokenKind::end) {
        if (braces == 0 && !first && (now().line_before && !line_goes_on())) return;
        if (braces == 0 && is("}")) return;
        if (is("{")) ++braces;
        if (is("}")) --braces;
        bool ends = braces == 0 && is(";");
        take();
        first = false;
        if (ends) return;
    }
}

// --- units --------------------------------------------------------------------------------------------------------

bool Parser::unit_follows() const
{
    if (is("%")) return !now().line_before;
    if (!is_name() || now().line_before) return false;
    return std::find(kNotUnits.begin(), kNotUnits.end(), now().text) == kNotUnits.end();
}

// A unit is the longest run of factors with no space around `*`, `/` and `^`.
Span Parser::unit_tokens()
{
    Span begin = now().span;
    auto closed = [](const Token& token) { return !token.space_before; };
    for (;;) {
        if (is("(")) {
            int depth = 0;
            do {
                if (is("(")) ++depth;
                if (is(")")) --depth;
                if (now().kind == TokenKind::end || is("}") || is(";") || is("{")) abandon(messages::expected_token, now().span, "')' in a unit", shown(now()));
                take();
            } while (depth > 0);
        } else if (is_name() || is("%") || now().kind == TokenKind::number) {
            take();
        } else {
            abandon(messages::expected_token, now().span, "a unit", shown(now()));
        }
        while (is("^") && closed(now())) {
            take();
            if (is("-")) take();
            if (is("(")) continue;
            if (now().kind == TokenKind::number)
                take();
            else
                abandon(messages::expected_token, now().span, "an exponent", shown(now()));
        }
        bool goes_on = (is("*") || is("/")) && closed(now()) && closed(ahead()) && (ahead().kind == TokenKind::name || ahead().is("(") || ahead().is("%"));
        if (!goes_on) return from(begin);
        take();
    }
}

Unit Parser::unit_at(Span span)
{
    Unit unit;
    UnitProblem problem;
    if (parse_unit(sources_.text(span), unit, problem, open_units_)) return unit;
    Span faulty = span;
    faulty.begin = span.begin + static_cast<std::uint32_t>(problem.begin);
    faulty.end = span.begin + static_cast<std::uint32_t>(std::max(problem.end, problem.begin + 1));
    std::string hint = problem.hint;
    if (hint.empty() && is_open_unit(sources_.text(faulty))) hint = "a unit that each use settles belongs to a component: unit of_measured";
    if (problem.begin > 0) {  // `5 bar*p`: the unit went on where a quantity was meant
        char sign = sources_.text(span)[problem.begin - 1];
        if (sign == '*' || sign == '/')
            hint += fmt::format("{}if '{}' is a quantity, leave a space on both sides of '{}'", hint.empty() ? "" : " ", sources_.text(faulty), sign);
    }
    diagnostics_.report(messages::bad_unit, faulty, problem.text).mend(hint);
    unit.text = "?";
    return unit;
}

/// What stands behind the `:` of a declaration.
std::optional<Unit> Parser::declared_unit()
{
    Unit unit = unit_at(unit_tokens());
    if (unit.text == "?") return std::nullopt;
    return unit;
}

// --- expressions --------------------------------------------------------------------------------------------------

const Expr* Parser::expression()
{
    Nested nested(*this);
    return or_expression();
}

const Expr* Parser::chain(const Expr* (Parser::*operand)(), std::initializer_list<std::pair<std::string_view, char>> operators)
{
    const Expr* first = (this->*operand)();
    Expr* made = nullptr;
    for (;;) {
        auto found = std::find_if(operators.begin(), operators.end(), [&](const auto& o) { return is(o.first); });
        if (found == operators.end()) break;
        take();
        if (made == nullptr) {
            made = arena_.expr(ExprKind::chain, first->span);
            made->args.push_back(first);
        }
        made->text += found->second;
        made->args.push_back((this->*operand)());
    }
    if (made == nullptr) return first;
    made->span = from(first->span);
    return made;
}

const Expr* Parser::or_expression()
{
    if (is("if")) {
        Expr* e = arena_.expr(ExprKind::choice, now().span);
        take();
        e->args.push_back(expression());
        expect("then", "in an if expression");
        e->args.push_back(expression());
        expect("else", "in an if expression");
        e->args.push_back(expression());
        e->span = from(e->span);
        return e;
    }
    return chain(&Parser::and_expression, {{"or", '|'}});
}

const Expr* Parser::and_expression()
{
    return chain(&Parser::not_expression, {{"and", '&'}});
}

const Expr* Parser::not_expression()
{
    if (!is("not")) return comparison();
    Nested nested(*this);
    Expr* e = arena_.expr(ExprKind::logical_not, now().span);
    take();
    e->args.push_back(not_expression());
    e->span = from(e->span);
    return e;
}

const Expr* Parser::comparison()
{
    const Expr* left = sum();
    for (std::string_view op : {"<=", ">=", "==", "!=", "<", ">"}) {
        if (!is(op)) continue;
        take();
        Expr* e = arena_.expr(ExprKind::compare, left->span);
        e->text = op;
        e->args = {left, sum()};
        e->span = from(left->span);
        return e;
    }
    if (is("is") && left->kind == ExprKind::path) {
        take();
        Expr* e = arena_.expr(ExprKind::is_stage, left->span);
        e->path = left->path;
        e->text = name("a stage");
        e->span = from(left->span);
        return e;
    }
    return left;
}

const Expr* Parser::sum()
{
    return chain(&Parser::term, {{"+", '+'}, {"-", '-'}});
}

const Expr* Parser::term()
{
    const Expr* product = chain(&Parser::signed_power, {{"*", '*'}, {"/", '/'}});
    if (product->kind != ExprKind::chain || product->bracketed) return product;
    // `1/3 s` reads as 1/(3 s): legal, but seldom what was meant
    for (std::size_t i = 1; i < product->args.size(); ++i) {
        const Expr& divisor = *product->args[i];
        const Expr& dividend = *product->args[i - 1];
        bool plain = dividend.kind == ExprKind::number && !dividend.unit && !dividend.bracketed;
        if (product->text[i - 1] == '/' && divisor.kind == ExprKind::number && divisor.unit && !divisor.bracketed && plain)
            diagnostics_.report(messages::literal_divisor, divisor.span, sources_.text(divisor.span))
                .mend(fmt::format("write ({}) {} or put the unit in brackets", sources_.text(cover(dividend.span, divisor.span)), "* unit"));
    }
    return product;
}

const Expr* Parser::signed_power()
{
    if (is("-") && ahead().kind == TokenKind::number && !ahead().space_before) {
        // the sign of a literal belongs to it where its unit has an offset: -20 degC is 253.15 K
        std::size_t mark = at_;
        Span begin = now().span;
        take();
        const Expr* literal = number_literal(true);
        if (literal->unit && literal->unit->has_offset) {
            const_cast<Expr*>(literal)->span = cover(begin, literal->span);
            return literal;
        }
        at_ = mark;
    }
    if (is("-") || is("+")) {
        Nested nested(*this);
        bool minus = is("-");
        Span begin = now().span;
        take();
        const Expr* operand = signed_power();
        if (!minus) return operand;
        Expr* e = arena_.expr(ExprKind::negate, begin);
        e->args.push_back(operand);
        e->span = from(begin);
        return e;
    }
    return power();
}

const Expr* Parser::power()
{
    const Expr* base = postfix();
    if (!is("^")) return base;
    Nested nested(*this);
    take();
    Expr* e = arena_.expr(ExprKind::power, base->span);
    e->args = {base, signed_power()};  // to the right: a^b^c is a^(b^c), and a^-1 is allowed
    e->span = from(base->span);
    return e;
}

const Expr* Parser::postfix()
{
    const Expr* operand = primary();
    if (!is("'")) return operand;
    Expr* e = arena_.expr(ExprKind::derivative, operand->span);
    e->args.push_back(operand);
    while (accept("'")) ++e->order;
    e->span = from(operand->span);
    return e;
}

const Expr* Parser::number_literal(bool negative)
{
    const Token& token = take();
    Expr* e = arena_.expr(ExprKind::number, token.span);
    double value = negative ? -token.number : token.number;
    e->number = value;
    if (unit_follows()) {
        Unit unit = unit_at(unit_tokens());
        e->number = unit.to_si(value);
        e->unit = std::make_shared<const Unit>(std::move(unit));
    }
    e->span = from(e->span);
    return e;
}

const Expr* Parser::primary()
{
    Span begin = now().span;
    if (now().kind == TokenKind::number) return number_literal(false);
    if (now().kind == TokenKind::text) {
        Expr* e = arena_.expr(ExprKind::text, begin);
        e->text = std::string(take().text);
        return e;
    }
    if (is("if")) return or_expression();
    if (accept("(")) {
        Nested nested(*this);
        const Expr* inner = expression();
        expect(")", "to close the bracket");
        const_cast<Expr*>(inner)->bracketed = true;
        return inner;
    }
    if (accept("[")) {
        Nested nested(*this);
        Expr* e = arena_.expr(ExprKind::array, begin);
        while (!is("]")) {
            e->args.push_back(expression());
            if (!accept(",")) break;
        }
        expect("]", "to close the array");
        e->span = from(begin);
        return e;
    }
    if (is("true") || is("false")) {
        Expr* e = arena_.expr(ExprKind::truth, begin);
        e->number = is("true") ? 1 : 0;
        take();
        return e;
    }
    if (is("time")) {
        take();
        return arena_.expr(ExprKind::time, begin);
    }
    if (is("pi")) {
        take();
        Expr* e = arena_.expr(ExprKind::number, begin);
        e->number = 3.14159265358979323846;
        e->text = "pi";
        return e;
    }
    if (is_name() && (!is_reserved(now().text))) return path_or_call();
    abandon(messages::expected_token, now().span, "an expression", shown(now()));
}

std::vector<const Expr*> Parser::indices()
{
    std::vector<const Expr*> list;
    while (is("[") && !(now().line_before && open_brackets_ == 0)) {
        accept("[");
        do list.push_back(expression());
        while (accept(","));
        expect("]", "behind the index");
    }
    return list;
}

Path Parser::path(std::string_view what)
{
    Path result;
    do {
        PathStep step;
        step.span = now().span;
        if (result.empty()) {
            step.name = name(what);
        } else {
            if (!is_name()) abandon(messages::expected_token, now().span, "a name after '.'", shown(now()));
            step.name = std::string(take().text);  // after a dot any word is a plain name
        }
        step.indices = indices();
        step.span = from(step.span);
        result.push_back(std::move(step));
    } while (is(".") && (take(), true));
    return result;
}

const Expr* Parser::path_or_call()
{
    Expr* e = arena_.expr(ExprKind::path, now().span);
    e->path = path("a quantity");
    e->span = from(e->span);
    if (is("(") && !now().line_before) return call(e);
    return e;
}

const Expr* Parser::call(Expr* e)
{
    Nested nested(*this);
    e->kind = ExprKind::call;
    accept("(");
    while (!is(")")) {
        const Expr* argument = expression();
        if (is("for")) {
            Expr* loop = arena_.expr(ExprKind::comprehension, argument->span);
            take();
            loop->text = name("the index");
            expect("in", "behind the index");
            loop->args = {argument, expression()};
            expect("..", "in the range");
            loop->args.push_back(expression());
            loop->span = from(argument->span);
            argument = loop;
        } else if (is("from")) {
            Expr* window = arena_.expr(ExprKind::window, argument->span);
            take();
            window->args = {argument, expression()};
            if (accept("to")) window->args.push_back(expression());
            window->span = from(argument->span);
            argument = window;
        } else if (is("when")) {
            Expr* moment = arena_.expr(ExprKind::at_moment, argument->span);
            take();
            moment->args = {argument, expression()};
            moment->span = from(argument->span);
            argument = moment;
        }
        e->args.push_back(argument);
        if (!accept(",")) break;
    }
    expect(")", "behind the arguments");
    e->span = from(e->span);
    if (is(".")) {  // `roots(a, b, c).lo`
        Expr* member = arena_.expr(ExprKind::path, e->span);
        PathStep step;
        step.name = "()";
        member->path.push_back(step);
        member->args.push_back(e);
        take();
        Path rest = path("a result");
        member->path.insert(member->path.end(), rest.begin(), rest.end());
        member->span = from(e->span);
        return member;
    }
    return e;
}

const Expr* Parser::only_expression()
{
    try {
        const Expr* e = expression();
        if (now().kind != TokenKind::end) abandon(messages::expected_end, now().span, "the expression", shown(now()));
        return e;
    } catch (const StatementAbandoned&) {
        return nullptr;
    }
}

}  // namespace netloop

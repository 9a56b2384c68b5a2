// SPDX-License-Identifier: Apache-2.0
#include <algorithm>

#include "language/parser_core.hpp"

namespace netloop {

// A word that is not reserved begins a statement of its own only if it is not used as a plain name there.
bool Parser::keyword_here(std::string_view word) const
{
    if (!is(word)) return false;
    for (std::string_view mark : {".", "'", "[", "(", "=", ":=", "--", "->", ","})
        if (ahead().is(mark)) return false;
    return true;
}

Block Parser::block(const Statement* (Parser::*statement)(), std::string_view what)
{
    expect("{", fmt::format("to open {}", what));
    Nested nested(*this);
    int outer_brackets = open_brackets_;
    open_brackets_ = 0;
    Block result;
    while (!is("}") && now().kind != TokenKind::end) {
        if (accept(";")) continue;
        std::size_t before = at_;
        try {
            const Statement* s = (this->*statement)();
            if (s != nullptr) result.push_back(s);
            result.insert(result.end(), extra_.begin(), extra_.end());
            extra_.clear();
        } catch (const StatementAbandoned&) {
            extra_.clear();
            if (now().kind == TokenKind::end) throw;
            open_brackets_ = 0;
            bool already_behind = at_ > before && now().line_before && !line_goes_on();
            if (!already_behind) skip_statement();
            if (at_ == before) take();
        }
    }
    open_brackets_ = outer_brackets;
    expect("}", fmt::format("to close {}", what));
    return result;
}

// --- quantities ---------------------------------------------------------------------------------------------------

void Parser::quantity_type(QuantityDecl& q)
{
    if (accept("bool")) {
        q.type = ValueType::boolean;
    } else if (accept("int")) {
        q.type = ValueType::integer;
    } else if (accept("{")) {
        q.type = ValueType::choice;
        do q.choices.push_back(name("a choice"));
        while (accept(","));
        expect("}", "behind the choices");
    } else {
        q.unit = declared_unit();
    }
}

QuantityDecl Parser::quantity(QuantityKind kind)
{
    QuantityDecl q;
    q.kind = kind;
    q.name = name("the quantity", &q.name_span);
    q.sizes = indices();
    if (accept(":")) quantity_type(q);
    if (is("=") && (kind == QuantityKind::var || kind == QuantityKind::output))
        abandon(
            messages::expected_end, now().span, "the declaration", "'='",
            fmt::format("settle it by an equation on a line of its own, {} = ..., or name an expression: let {} = ...; its value at the start is said by init",
                        q.name, q.name));
    if (accept("=")) q.value = expression();
    if (q.value == nullptr && (kind == QuantityKind::let || kind == QuantityKind::constant))
        abandon(messages::expected_token, q.name_span, fmt::format("'=' and what it is behind '{}'", q.name), "nothing");
    for (;;) {
        if (at_statement_end()) return q;  // `init` and `guess` at the beginning of a line are statements of their own
        auto once = [&](const Expr*& place) {
            if (place != nullptr) abandon(messages::said_twice, now().span, now().text);
            take();
            place = expression();
        };
        if (is("in")) {
            once(q.low);
            expect("..", "in the range");
            q.high = expression();
        } else if (is("init")) {
            once(q.init);
        } else if (is("guess")) {
            once(q.guess);
        } else if (is("usual")) {
            once(q.usual);
        } else {
            return q;
        }
    }
}

const Statement* Parser::declaration_list(QuantityKind kind)
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    std::vector<QuantityDecl> list;
    // `var a, b : bar guess 1 bar`: the names share all that follows
    std::vector<std::pair<std::string, Span>> names;
    while (ahead().is(",") && is_name()) {
        Span span;
        std::string more = name("the quantity", &span);
        names.emplace_back(more, span);
        accept(",");
    }
    QuantityDecl shared = quantity(kind);
    for (auto& [other, span] : names) {
        QuantityDecl q = shared;
        q.name = other;
        q.name_span = span;
        list.push_back(q);
    }
    list.push_back(std::move(shared));
    return finish_list(begin, doc, std::move(list), "the declaration");
}

// --- ports, parts, joints -----------------------------------------------------------------------------------------

// `unit of_measured, of_output`
const Statement* Parser::open_units()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    std::vector<OpenUnitDecl> list;
    do {
        OpenUnitDecl unit;
        unit.name = name("the unit", &unit.name_span);
        if (!is_open_unit(unit.name))
            abandon(messages::expected_token, unit.name_span, "a name that begins with of_", fmt::format("'{}'", unit.name), "unit of_measured");
        list.push_back(std::move(unit));
    } while (accept(","));
    return finish_list(begin, doc, std::move(list), "the unit");
}

const Statement* Parser::port_declaration()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    std::vector<PortDecl> list;
    do {
        PortDecl port;
        port.name = name("the port", &port.name_span);
        port.sizes = indices();
        list.push_back(std::move(port));
    } while (accept(","));
    expect(":", "before the domain of the port");
    Path domain = path("the domain");
    std::vector<std::string> fluids;
    if (accept("(")) {
        do fluids.push_back(name("the fluid"));
        while (accept(","));
        expect(")", "behind the fluid");
    }
    bool needed = accept("needed"), optional = !needed && accept("optional");
    PortDecl open;
    if (!needed && accept("open")) {
        open.open_name = name("the quantity of the domain", &open.open_span);
        expect("=", "behind the name of the quantity");
        open.open_value = expression();
    }
    for (PortDecl& port : list) {
        port.domain = domain;
        port.fluids = fluids;
        port.needed = needed;
        port.optional = optional;
        port.open_name = open.open_name;
        port.open_span = open.open_span;
        port.open_value = open.open_value;
    }
    return finish_list(begin, doc, std::move(list), "the port");
}

std::vector<NamedValue> Parser::named_values()
{
    std::vector<NamedValue> values;
    while (!is(")")) {
        NamedValue v;
        v.span = now().span;
        v.path = path("a param");
        expect("=", "behind the name of a param");
        value_or_kind(v);
        v.span = from(v.span);
        values.push_back(std::move(v));
        if (!accept(",")) break;
    }
    return values;
}

bool Parser::looks_like_kind() const
{
    std::size_t k = 0;
    if (!is_name()) return false;
    while (ahead(k).kind == TokenKind::name && ahead(k + 1).is(".") && ahead(k + 2).kind == TokenKind::name) k += 2;
    const std::string_view last_name = ahead(k).text;
    if (!ahead(k + 1).is("(")) return false;
    if (ahead(k + 2).is(")")) return !last_name.empty() && last_name[0] >= 'A' && last_name[0] <= 'Z';
    k += 2;
    while (ahead(k).kind == TokenKind::name && ahead(k + 1).is(".")) k += 2;
    return ahead(k).kind == TokenKind::name && (ahead(k + 1).is("=") || (ahead(k + 1).is("[") && ahead(k + 3).is("]") && ahead(k + 4).is("=")));
}

void Parser::value_or_kind(NamedValue& v)
{
    if (looks_like_kind())
        v.put = std::make_shared<const KindUse>(kind_use("the component"));
    else
        v.value = expression();
}

KindUse Parser::kind_use(std::string_view what)
{
    KindUse use;
    use.span = now().span;
    use.kind = path(what);
    // a bracket on the next line begins a statement of its own: (a - b) -> c
    if (!now().line_before && accept("(")) {
        use.values = named_values();
        expect(")", "behind the values");
    }
    use.span = from(use.span);
    return use;
}

const Statement* Parser::part_declaration()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    std::vector<PartDecl> list;
    do {
        PartDecl part;
        part.name = name("the part", &part.name_span);
        if (accept("[")) {
            if (is_name() && ahead().is("in")) {
                part.index = name("the index");
                take();
                part.low = expression();
                expect("..", "in the range");
            }
            part.size = expression();
            expect("]", "behind the number of parts");
        }
        list.push_back(std::move(part));
    } while (accept(","));
    expect(":", "before the component of the part");
    KindUse kind = kind_use("the component");
    for (PartDecl& part : list) part.kind = kind;
    return finish_list(begin, doc, std::move(list), "the part");
}

const Statement* Parser::slot_declaration()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    SlotDecl slot;
    slot.name = name("the slot", &slot.name_span);
    expect(":", "before the kind of the slot");
    slot.base = path("the component");
    expect("=", "before the component in the slot");
    slot.kind = kind_use("the component");
    return finish(begin, doc, std::move(slot), "the slot");
}

const Statement* Parser::fluid_use()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    FluidUseDecl fluid;
    fluid.name = name("the fluid", &fluid.name_span);
    expect("=", "behind the name of the fluid");
    fluid.kind = kind_use("the fluid");
    return finish(begin, doc, std::move(fluid), "the fluid");
}

const Statement* Parser::joint_declaration()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    JointDecl joint;
    joint.name = name("the joint", &joint.name_span);
    expect("=", "behind the name of the joint");
    do joint.ports.push_back(postfix());
    while (accept("--"));
    return finish(begin, doc, std::move(joint), "the joint");
}

// --- equations ----------------------------------------------------------------------------------------------------

const Statement* Parser::init_statement()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    EquationDecl equation;
    equation.init = true;
    equation.left = expression();
    expect("=", "in the equation after 'init'");
    equation.right = expression();
    return finish(begin, doc, equation, "the equation");
}

const Statement* Parser::guess_statement()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    GuessDecl guess;
    guess.target = expression();
    expect("=", "behind what is guessed");
    guess.value = expression();
    return finish(begin, doc, guess, "the guess");
}

const Statement* Parser::equation_like(bool assignments)
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    const Expr* first = expression();
    if (is("=")) {
        take();
        EquationDecl equation;
        equation.left = first;
        equation.right = expression();
        return finish(begin, doc, equation, "the equation");
    }
    if (is(":=")) {
        take();
        AssignDecl assign;
        assign.target = first;
        assign.value = expression();
        if (!assignments) abandon(messages::assignment_outside, begin, {}, {}, "write an equation with '=', or put it in a when, every or stage block");
        return finish(begin, doc, assign, "the assignment");
    }
    if (is("--")) {
        JointDecl joint;
        joint.ports.push_back(first);
        while (accept("--")) joint.ports.push_back(postfix());
        return finish(begin, doc, std::move(joint), "the joint");
    }
    if (accept("->")) {
        SignalDecl signal;
        signal.source = first;
        do signal.targets.push_back(postfix());
        while (accept(","));
        return finish(begin, doc, std::move(signal), "the signal");
    }
    if (is_name() && !now().line_before && first->kind == ExprKind::path) abandon(messages::unknown_statement, begin, sources_.text(begin));
    abandon(messages::expected_token, now().span, "'=', '--' or '->' here", fmt::format("'{}'", now().text.substr(0, 40)));
}

const Statement* Parser::if_statement(const Statement* (Parser::*inner)())
{
    Nested nested(*this);
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    IfDecl branch;
    branch.condition = expression();
    if (is("then")) abandon(messages::expected_token, now().span, "'{' (an `if` with `then` is an expression: put it in brackets)", "'then'");
    branch.then_block = block(inner, "the branch");
    if (accept("else")) {
        if (is("if"))
            branch.else_block.push_back(if_statement(inner));
        else
            branch.else_block = block(inner, "the branch");
    }
    Statement* s = arena_.statement(from(begin));
    s->doc = doc;
    s->node = std::move(branch);
    return s;
}

const Statement* Parser::for_statement(const Statement* (Parser::*inner)())
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    ForDecl loop;
    loop.index = name("the index", &loop.index_span);
    expect("in", "behind the index");
    loop.low = expression();
    expect("..", "in the range");
    loop.high = expression();
    loop.body = block(inner, "the loop");
    return finish(begin, doc, std::move(loop), "the loop");
}

const Statement* Parser::when_statement()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    WhenDecl when;
    if (is("start") && ahead().is("{"))
        take();
    else
        when.condition = expression();
    when.body = block(&Parser::action_statement, "the block");
    return finish(begin, doc, std::move(when), "the block");
}

const Statement* Parser::every_statement()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    EveryDecl every;
    every.period = expression();
    if (accept("from")) every.from = expression();
    every.body = block(&Parser::action_statement, "the block");
    return finish(begin, doc, std::move(every), "the block");
}

// What may stand in a when, every or start block, and in a function.
const Statement* Parser::action_statement()
{
    if (is("if")) return if_statement(&Parser::action_statement);
    if (is("for")) return for_statement(&Parser::action_statement);
    if (is("let")) return declaration_list(QuantityKind::let);
    Span begin = now().span;
    std::string doc = now().doc_before;
    if (accept("while")) {
        WhileDecl loop;
        loop.condition = expression();
        loop.body = block(&Parser::action_statement, "the loop");
        return finish(begin, doc, std::move(loop), "the loop");
    }
    if (accept("return")) {
        ReturnDecl result;
        if (!at_statement_end()) result.value = expression();
        return finish(begin, doc, result, "the statement");
    }
    for (std::string_view action : {"stop", "warn", "fail"}) {
        if (!is(action) || ahead().kind != TokenKind::text) continue;
        take();
        AlertDecl alert{std::string(action), std::string(take().text)};
        return finish(begin, doc, std::move(alert), "the statement");
    }
    return equation_like(true);
}

const Statement* Parser::component_statement()
{
    struct Kind {
        std::string_view word;
        QuantityKind kind;
    };
    static constexpr Kind kKinds[] = {{"param", QuantityKind::param}, {"const", QuantityKind::constant}, {"let", QuantityKind::let},
                                      {"var", QuantityKind::var},     {"option", QuantityKind::option},  {"memory", QuantityKind::memory}};
    for (const Kind& k : kKinds)
        if (is(k.word)) return declaration_list(k.kind);
    if (keyword_here("input")) return declaration_list(QuantityKind::input);
    if (keyword_here("output")) return declaration_list(QuantityKind::output);
    if (is("port")) return port_declaration();
    if (is("part")) return part_declaration();
    if (is("joint")) return joint_declaration();
    if (is("init")) return init_statement();
    if (is("guess")) return guess_statement();
    if (is("for")) return for_statement(&Parser::component_statement);
    if (is("when")) return when_statement();
    if (is("every")) return every_statement();
    if (is("function")) return function_definition();
    if (open_units_ && is("unit") && ahead().kind == TokenKind::name) return open_units();
    if (keyword_here("slot")) return slot_declaration();
    if (keyword_here("fluid")) return fluid_use();
    if (keyword_here("sequence")) return sequence_definition();
    if (keyword_here("table")) return table_definition();
    if (is("if")) {
        // `if` begins either a branch of equations or an equation whose left side is an if expression in brackets
        return if_statement(&Parser::component_statement);
    }
    return equation_like(false);
}

}  // namespace netloop

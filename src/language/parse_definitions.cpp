// SPDX-License-Identifier: Apache-2.0
#include <cmath>

#include "base/markup.hpp"
#include "language/parser_core.hpp"

namespace netloop {

const Statement* Parser::use_declaration()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    UseDecl use;
    if (now().kind == TokenKind::text) {
        use.file = std::string(take().text);
        if (accept("as")) use.as = name("the library");
    } else {
        do use.names.push_back(path("a library"));
        while (accept(","));
    }
    return finish(begin, doc, std::move(use), "the statement");
}

std::vector<KindUse> Parser::takes()
{
    std::vector<KindUse> list;
    if (!accept(":")) return list;
    do list.push_back(kind_use("what is taken over"));
    while (accept(","));
    return list;
}

const Statement* Parser::component_definition()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    ComponentDecl component;
    component.base = accept("base");
    component.system = is("system");
    take();
    component.name = name(component.system ? "the system" : "the component", &component.name_span);
    component.takes = takes();
    OpenUnits open(*this, !component.system);
    component.body = block(&Parser::component_statement, fmt::format("'{}'", component.name));
    return finish(begin, doc, std::move(component), "the definition");
}

const Statement* Parser::domain_definition()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    DomainDecl domain;
    domain.name = name("the domain", &domain.name_span);
    expect("{", "to open the domain");
    while (!is("}") && now().kind != TokenKind::end) {
        if (accept(";")) continue;
        DomainMember member;
        member.doc = now().doc_before;
        if (accept("fluid"))
            member.kind = DomainMember::Kind::fluid;
        else if (accept("carried"))
            member.kind = DomainMember::Kind::carried;
        else if (accept("shared"))
            member.kind = DomainMember::Kind::shared;
        else if (accept("zero_sum"))
            member.kind = DomainMember::Kind::zero_sum;
        else
            abandon(messages::expected_token, now().span, "'shared', 'zero_sum', 'carried' or 'fluid'", fmt::format("'{}'", now().text));
        member.name = name("the quantity", &member.span);
        expect(":", "before the unit");
        if (member.kind == DomainMember::Kind::fluid)
            member.fluid_kind = path("the kind of fluid");
        else
            member.unit = declared_unit();
        if (member.kind == DomainMember::Kind::carried) {
            expect("along", "behind a carried quantity");
            member.along = name("the flow");
            if (accept("usual")) member.usual = expression();
            if (accept("if")) member.condition = expression();
        }
        if (member.kind == DomainMember::Kind::zero_sum && accept("small")) member.small = expression();
        if (member.kind == DomainMember::Kind::shared && accept("in")) {
            member.low = expression();
            expect("..", "in the range");
            member.high = expression();
        }
        if (member.doc.empty()) member.doc = last().doc_after;
        end_statement("the quantity");
        domain.members.push_back(std::move(member));
    }
    expect("}", "to close the domain");
    return finish(begin, doc, std::move(domain), "the domain");
}

std::vector<FunctionArgument> Parser::arguments()
{
    std::vector<FunctionArgument> list;
    expect("(", "before the arguments");
    while (!is(")")) {
        FunctionArgument argument;
        argument.name = name("the argument", &argument.span);
        if (accept(":")) argument.unit = declared_unit();
        list.push_back(std::move(argument));
        if (!accept(",")) break;
    }
    expect(")", "behind the arguments");
    return list;
}

const Statement* Parser::function_definition()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    FunctionDecl function;
    OpenUnits open(*this, false);  // a function's units are its own
    function.name = name("the function", &function.name_span);
    function.arguments = arguments();
    expect("->", "before the result");
    if (is("(")) {
        function.results = arguments();
    } else {
        FunctionArgument result;
        result.span = now().span;
        result.unit = declared_unit();
        function.results.push_back(std::move(result));
    }
    if (is("{")) function.body = block(&Parser::action_statement, fmt::format("'{}'", function.name));
    return finish(begin, doc, std::move(function), "the function");
}

// --- tables -------------------------------------------------------------------------------------------------------

double Parser::table_number()
{
    double sign = accept("-") ? -1 : 1;
    accept("+");
    if (now().kind != TokenKind::number) abandon(messages::expected_token, now().span, "a number of the table", fmt::format("'{}'", now().text));
    return sign * take().number;
}

void Parser::table_points(TableDecl& table)
{
    expect("{", "to open the table");
    if (is("|")) {
        take();
        std::vector<double> columns, rows;
        while (!now().line_before && !is("}") && !is(";")) columns.push_back(table_number());
        while (!is("}") && now().kind != TokenKind::end) {
            if (accept(";")) continue;
            rows.push_back(table_number());
            expect("|", "behind the first number of a row");
            std::size_t n = 0;
            Span row = last().span;
            while (!now().line_before && !is("}") && !is(";")) {
                table.values.push_back(table_number());
                ++n;
            }
            if (n != columns.size()) abandon(messages::table_shape, row, std::to_string(n), std::to_string(columns.size()));
        }
        table.knots = {rows, columns};
    } else {
        table.knots.resize(1);
        while (!is("}") && now().kind != TokenKind::end) {
            if (accept(",") || accept(";")) continue;
            table.knots[0].push_back(table_number());
            expect(":", "between argument and value");
            table.values.push_back(table_number());
        }
    }
    expect("}", "to close the table");
}

const Statement* Parser::table_definition()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    TableDecl table;
    table.name = name("the table", &table.name_span);
    table.arguments = arguments();
    expect("->", "before the unit of the table");
    table.unit = declared_unit();
    if (is("from")) {
        take();
        table.file_span = now().span;
        if (now().kind != TokenKind::text) abandon(messages::expected_token, now().span, "a file name in quotes", fmt::format("'{}'", now().text));
        table.file = std::string(take().text);
    } else {
        table_points(table);
    }
    while (!at_statement_end()) {
        accept(",");
        if (accept("smooth"))
            table.smooth = true;
        else if (accept("linear"))
            table.smooth = false;
        else if (accept("hold"))
            table.outside = TableDecl::Outside::hold;
        else if (accept("extend"))
            table.outside = TableDecl::Outside::extend;
        else if (accept("refuse"))
            table.outside = TableDecl::Outside::refuse;
        else
            abandon(messages::expected_token, now().span, "'linear' or 'smooth', and 'hold', 'extend' or 'refuse'", fmt::format("'{}'", now().text));
    }
    return finish(begin, doc, std::move(table), "the table");
}

// --- fluids -------------------------------------------------------------------------------------------------------

const Statement* Parser::fluid_statement()
{
    if (is("param")) return declaration_list(QuantityKind::param);
    if (is("option")) return declaration_list(QuantityKind::option);
    if (is("const")) return declaration_list(QuantityKind::constant);
    if (is("let")) return declaration_list(QuantityKind::let);
    if (is("function")) return function_definition();
    if (keyword_here("table")) return table_definition();
    abandon(messages::expected_token, now().span, "a param, option, const, let, table or function of the fluid", fmt::format("'{}'", now().text));
}

const Statement* Parser::fluid_definition(bool base)
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    if (base) take();
    take();
    FluidDecl fluid;
    fluid.base = base;
    fluid.name = name("the fluid", &fluid.name_span);
    fluid.takes = takes();
    fluid.body = block(&Parser::fluid_statement, fmt::format("'{}'", fluid.name));
    return finish(begin, doc, std::move(fluid), "the fluid");
}

// --- sequences ----------------------------------------------------------------------------------------------------

Stage Parser::stage(bool otherwise)
{
    Stage s;
    s.otherwise = otherwise;
    s.span = now().span;
    take();
    s.name = otherwise ? "otherwise" : name("the stage");
    expect("{", "to open the stage");
    while (!is("}") && now().kind != TokenKind::end) {
        if (accept(";")) continue;
        if (is("start") && ahead().is("{")) {
            take();
            Block entry = block(&Parser::action_statement, "the start block");
            s.on_entry.insert(s.on_entry.end(), entry.begin(), entry.end());
            continue;
        }
        NamedValue setting;
        setting.span = now().span;
        setting.path = path("a signal of the sequence");
        expect("=", "behind the signal");
        setting.value = expression();
        setting.span = from(setting.span);
        end_statement("the signal");
        s.settings.push_back(std::move(setting));
    }
    expect("}", "to close the stage");
    while (is("->")) {
        take();
        StageTransition t;
        t.target = name("a stage", &t.span);
        if (accept("when"))
            t.when = expression();
        else if (accept("after"))
            t.after = expression();
        else
            abandon(messages::expected_token, now().span, "'when' or 'after'", fmt::format("'{}'", now().text));
        t.span = from(t.span);
        s.transitions.push_back(std::move(t));
    }
    end_statement("the stage");
    s.span = from(s.span);
    return s;
}

const Statement* Parser::sequence_definition()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    SequenceDecl sequence;
    sequence.name = name("the sequence", &sequence.name_span);
    expect("{", "to open the sequence");
    Nested nested(*this);
    while (!is("}") && now().kind != TokenKind::end) {
        if (accept(";")) continue;
        if (is("stage"))
            sequence.stages.push_back(stage(false));
        else if (is("otherwise"))
            sequence.stages.push_back(stage(true));
        else if (is("param"))
            sequence.declarations.push_back(declaration_list(QuantityKind::param));
        else if (is("let"))
            sequence.declarations.push_back(declaration_list(QuantityKind::let));
        else
            abandon(messages::expected_token, now().span, "'stage', 'otherwise' or 'param'", fmt::format("'{}'", now().text));
        sequence.declarations.insert(sequence.declarations.end(), extra_.begin(), extra_.end());
        extra_.clear();
    }
    expect("}", "to close the sequence");
    return finish(begin, doc, std::move(sequence), "the sequence");
}

// --- the file -----------------------------------------------------------------------------------------------------

const Statement* Parser::top_statement()
{
    if (is("component") || is("system")) return component_definition();
    if (is("base") && ahead().is("fluid")) return fluid_definition(true);
    if (is("base")) {
        if (ahead().is("component")) return component_definition();
        abandon(messages::expected_token, ahead().span, "'component' or 'fluid' behind 'base'", fmt::format("'{}'", ahead().text));
    }
    if (is("domain")) return domain_definition();
    if (is("function")) return function_definition();
    if (is("table")) return table_definition();
    if (is("fluid")) return ahead(2).is("=") ? fluid_use() : fluid_definition(false);
    if (is("use")) return use_declaration();
    if (is("const")) return declaration_list(QuantityKind::constant);
    if (is("scenario")) return scenario_definition();
    if (is("catalogue")) return catalogue_definition();
    if (is("study")) return study_definition();
    abandon(messages::expected_token, now().span, "a definition (component, system, domain, function, table, fluid, scenario, catalogue, study, const or use)",
            now().kind == TokenKind::end ? "the end of the file" : fmt::format("'{}'", now().text.substr(0, 40)));
}

Block Parser::file()
{
    Block result;
    while (now().kind != TokenKind::end) {
        if (accept(";")) continue;
        std::size_t before = at_;
        try {
            result.push_back(top_statement());
            result.insert(result.end(), extra_.begin(), extra_.end());
            extra_.clear();
        } catch (const StatementAbandoned&) {
            extra_.clear();
            skip_statement();
            if (at_ == before || is("}")) take();
        }
    }
    return result;
}

SyntaxFile parse_file(const SourceSet& sources, std::uint32_t file, Diagnostics& diagnostics)
{
    SyntaxFile result;
    result.file = file;
    result.arena = std::make_shared<SyntaxArena>();
    std::string_view text = sources.text(file);
    if (std::size_t bad = first_bad_byte(text); bad != std::string_view::npos) {
        auto at = static_cast<std::uint32_t>(bad);
        diagnostics.report(messages::not_text, Span{file, at, at + 1}, bad).mend("save the file as UTF-8 text");
        return result;
    }
    Parser parser(sources, tokenize(sources, file, diagnostics), *result.arena, diagnostics);
    result.statements = parser.file();
    return result;
}

const Expr* parse_expression(const SourceSet& sources, std::uint32_t file, SyntaxArena& arena, Diagnostics& diagnostics)
{
    if (first_bad_byte(sources.text(file)) != std::string_view::npos) {
        diagnostics.report(messages::not_text, Span{file, 0, 1}, 0);
        return nullptr;
    }
    Parser parser(sources, tokenize(sources, file, diagnostics), arena, diagnostics);
    return parser.only_expression();
}

NamedValue Parser::only_value()
{
    NamedValue v;
    try {
        value_or_kind(v);
        if (now().kind != TokenKind::end) abandon(messages::expected_end, now().span, "the value", fmt::format("'{}'", now().text));
    } catch (const StatementAbandoned&) {
        return {};
    }
    return v;
}

NamedValue parse_value(const SourceSet& sources, std::uint32_t file, SyntaxArena& arena, Diagnostics& diagnostics)
{
    if (first_bad_byte(sources.text(file)) != std::string_view::npos) {
        diagnostics.report(messages::not_text, Span{file, 0, 1}, 0);
        return {};
    }
    Parser parser(sources, tokenize(sources, file, diagnostics), arena, diagnostics);
    return parser.only_value();
}

}  // namespace netloop

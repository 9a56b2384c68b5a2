// SPDX-License-Identifier: Apache-2.0
#include "language/parser_core.hpp"

namespace netloop {

const Statement* Parser::scenario_definition()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    ScenarioDecl scenario;
    scenario.name = name("the scenario", &scenario.name_span);
    if (accept("of"))
        scenario.of = path("the system");
    else if (accept("from"))
        scenario.from = name("a scenario");
    else
        abandon(messages::expected_token, now().span, "'of SYSTEM' or 'from SCENARIO'", fmt::format("'{}'", now().text));
    if (is("{") && doc.empty()) doc = ahead().doc_before;
    scenario.items = block(&Parser::scenario_item, fmt::format("'{}'", scenario.name));
    return finish(begin, doc, std::move(scenario), "the scenario");
}

const Statement* Parser::output_item()
{
    Span begin = now().span;
    take();
    OutputItem output;
    if (accept("every")) {
        output.every = expression();
    } else if (accept("at")) {
        do output.at.push_back(expression());
        while (accept(","));
    } else {
        output.points = expression();
        expect("points", "behind the number of points (or: output every 50 ms)");
    }
    return finish(begin, {}, std::move(output), "the output");
}

const Statement* Parser::begin_item()
{
    Span begin = now().span;
    take();
    BeginItem item;
    if (accept("steady")) {
        item.steady = true;
        if (accept("except")) {
            do item.except.push_back(expression());
            while (accept(","));
        }
    } else {
        expect("from", "or 'steady' behind 'begin'");
        if (now().kind != TokenKind::text) abandon(messages::expected_token, now().span, "a file name in quotes", fmt::format("'{}'", now().text));
        item.file = std::string(take().text);
        if (accept("at")) item.at = expression();
    }
    return finish(begin, {}, std::move(item), "the statement");
}

// "leaf.angle, pump.*", to the end of the statement.
std::vector<std::string> Parser::patterns(const char* behind)
{
    std::vector<std::string> list(1);
    while (now().kind != TokenKind::end && !is(";") && !is("}") && !(now().line_before && !last().is(","))) {
        if (is(","))
            list.emplace_back();
        else
            list.back() += now().text;
        take();
    }
    for (const std::string& p : list)
        if (p.empty()) abandon(messages::expected_token, now().span, fmt::format("a path or pattern behind '{}'", behind), "nothing");
    return list;
}

const Statement* Parser::tolerance_item()
{
    Span begin = now().span;
    take();
    ToleranceItem tolerance;
    if (!is("usual") && !is("for")) tolerance.value = expression();
    if (accept("usual")) tolerance.usual = expression();
    if (accept("for"))
        tolerance.patterns = patterns("for");
    else if (tolerance.usual != nullptr)
        abandon(messages::expected_token, now().span, "'for' and the quantities that have this usual size", fmt::format("'{}'", now().text));
    return finish(begin, {}, std::move(tolerance), "the tolerance");
}

const Statement* Parser::keep_item()
{
    Statement* s = arena_.statement(now().span);
    take();
    KeepItem keep{patterns("keep")};
    s->node = std::move(keep);
    s->span = from(s->span);
    return s;
}

const Statement* Parser::figure_item()
{
    Span begin = now().span;
    take();
    FigureItem figure;
    if (now().kind == TokenKind::text) figure.title = std::string(take().text);
    expect("{", "to open the figure");
    while (!is("}") && now().kind != TokenKind::end) {
        if (accept(";")) continue;
        FigurePanel panel;
        do panel.curves.push_back(expression());
        while (accept(","));
        if (accept("against")) panel.against = expression();
        if (accept(":")) panel.unit = declared_unit();
        end_statement("the panel");
        figure.panels.push_back(std::move(panel));
    }
    expect("}", "to close the figure");
    return finish(begin, {}, std::move(figure), "the figure");
}

const Statement* Parser::scenario_item()
{
    Span begin = now().span;
    if (is("init")) return init_statement();
    if (is("guess")) return guess_statement();
    if (is("output")) return output_item();
    if (is("begin")) return begin_item();
    if (is("keep")) return keep_item();
    if (is("figure")) return figure_item();
    if (accept("set")) {
        SetItem set;
        do {
            NamedValue v;
            v.span = now().span;
            v.path = path("a param");
            expect("=", "behind the name of a param");
            value_or_kind(v);
            v.span = from(v.span);
            set.values.push_back(std::move(v));
        } while (accept(","));
        return finish(begin, {}, std::move(set), "the setting");
    }
    if (accept("put")) {
        std::vector<PutItem> puts;
        do {
            puts.emplace_back();
            puts.back().slot = path("a slot");
            expect("=", "behind the slot");
            puts.back().kind = kind_use("the component");
        } while (accept(","));
        const Statement* first = finish(begin, {}, std::move(puts.front()), "the statement");
        for (std::size_t k = 1; k < puts.size(); ++k) {
            Statement* more = arena_.statement(first->span);
            more->node = std::move(puts[k]);
            extra_.push_back(more);
        }
        return first;
    }
    if (accept("stop")) {
        expect("at", "behind 'stop'");
        return finish(begin, {}, StopItem{expression()}, "the stop time");
    }
    if (is("tolerance")) return tolerance_item();
    if (accept("measure")) {
        MeasureItem measure;
        measure.name = name("the measure");
        if (accept(":")) measure.unit = declared_unit();
        expect("=", "behind the name of the measure");
        measure.value = expression();
        return finish(begin, {}, std::move(measure), "the measure");
    }
    if (accept("require")) {
        RequireItem require;
        require.condition = expression();
        if (now().kind == TokenKind::text) require.text = std::string(take().text);
        return finish(begin, {}, std::move(require), "the demand");
    }
    if (accept("find")) {
        FindItem find;
        find.unknown = path("a param");
        expect("so", "(so that) behind what is to be found");
        expect("that", "behind 'so'");
        find.left = expression();
        expect("=", "in the equation");
        find.right = expression();
        return finish(begin, {}, std::move(find), "the statement");
    }
    abandon(messages::expected_token, now().span, "set, put, stop at, output, tolerance, begin, init, guess, find, keep, measure, require or figure",
            fmt::format("'{}'", now().text.substr(0, 40)));
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Catalogues of parts, and studies: what is varied, how much of it is run, what is collected.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>

#include "language/parser_core.hpp"

namespace netloop {

const Statement* Parser::catalogue_definition()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    CatalogueDecl catalogue;
    catalogue.name = name("the catalogue", &catalogue.name_span);
    expect(":", "before the slot's kind: catalogue pumps : RotaryMachine { ... }");
    catalogue.base = path("the kind that all entries fit");
    if (is("{") && doc.empty()) doc = ahead().doc_before;
    expect("{", "to open the catalogue");
    Nested nested(*this);
    while (!is("}") && now().kind != TokenKind::end) {
        if (accept(";")) continue;
        if (is("from") && ahead().kind == TokenKind::text) {
            CatalogueFile file;
            take();
            file.span = now().span;
            file.file = std::string(take().text);
            expect("as", "behind the file: from \"pumps.csv\" as FixedPump");
            file.kind = kind_use("the kind of all entries of the file");
            end_statement("the entries");
            catalogue.files.push_back(std::move(file));
        } else {
            catalogue.entries.push_back(catalogue_entry());
        }
    }
    expect("}", "to close the catalogue");
    return finish(begin, doc, std::move(catalogue), "the catalogue");
}

const Statement* Parser::catalogue_entry()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    ComponentDecl entry;
    entry.entry = true;
    entry.name = name("the entry", &entry.name_span);
    if (now().kind == TokenKind::text) doc = std::string(take().text) + (doc.empty() ? "" : ". " + doc);
    expect("=", "behind the name of the entry");
    KindUse kind = kind_use("the component");
    // a text is the file of a table
    for (NamedValue& v : kind.values)
        if (v.value != nullptr && v.value->kind == ExprKind::text) entry.tables.push_back({text_of(v.path), v.value->text, v.span});
    std::erase_if(kind.values, [](const NamedValue& v) { return v.value != nullptr && v.value->kind == ExprKind::text; });
    entry.takes.push_back(std::move(kind));
    return finish(begin, doc, std::move(entry), "the entry");
}

const Statement* Parser::study_definition()
{
    Span begin = now().span;
    std::string doc = now().doc_before;
    take();
    StudyDecl study;
    study.name = name("the study", &study.name_span);
    expect("of", "behind the name of the study: study NAME of SYSTEM { ... }");
    study.of = path("the system");
    if (accept("from")) study.from = name("a scenario", &study.from_span);
    if (is("{") && doc.empty()) doc = ahead().doc_before;
    expect("{", "to open the study");
    Nested nested(*this);
    while (!is("}") && now().kind != TokenKind::end) {
        if (accept(";")) continue;
        try {
            study_item(study);
        } catch (const StatementAbandoned&) {
            skip_statement();
        }
    }
    expect("}", "to close the study");
    return finish(begin, doc, std::move(study), "the study");
}

double Parser::whole_number(std::string_view what)
{
    if (now().kind != TokenKind::number || now().number < 1 || now().number > 1e9 || now().number != std::floor(now().number))
        abandon(messages::expected_token, now().span, fmt::format("{}, a whole number from 1 to 1e9", what), fmt::format("'{}'", now().text));
    return take().number;
}

VaryItem Parser::vary_item()
{
    VaryItem item;
    item.span = now().span;
    take();
    if (is("scenario") && ahead().is("over")) {
        take();
        item.scenario = true;
    } else {
        item.path = path("a param, an option or a slot");
        while (accept(",")) item.also.push_back(path("what has the same value"));
    }
    const bool over = accept("over");
    if (over && now().kind == TokenKind::text) {
        item.file = std::string(take().text);
    } else if (over) {
        do {
            NamedValue v;
            v.span = now().span;
            value_or_kind(v);
            v.span = from(v.span);
            item.levels.push_back(std::move(v));
        } while (accept(","));
        if (item.levels.size() == 1 && item.levels[0].value != nullptr && accept("..")) {
            item.low = item.levels[0].value;
            item.high = expression();
            item.levels.clear();
            item.kind = accept("in") ? VaryItem::Kind::grid : VaryItem::Kind::range;
            if (item.kind == VaryItem::Kind::grid) item.count = expression();
            if (accept("on")) {
                expect("log", "behind 'on'");
                item.on_log = true;
            }
        }
    } else if (accept("as")) {
        item.kind = VaryItem::Kind::distribution;
        if (accept("drawn")) {
            expect("from", "behind 'drawn'");
            if (now().kind != TokenKind::text) abandon(messages::expected_token, now().span, "a file name in quotes", fmt::format("'{}'", now().text));
            item.file = std::string(take().text);
        } else {
            struct Known {
                std::string_view name;
                std::size_t n;
                std::string_view form;
            };
            static constexpr std::array<Known, 4> kKnown{{{"normal", 2, "normal(mean, standard deviation)"},
                                                          {"uniform", 2, "uniform(least, most)"},
                                                          {"triangular", 3, "triangular(least, likeliest, most)"},
                                                          {"lognormal", 2, "lognormal(median, standard deviation of the logarithm)"}}};
            const auto* known = std::find_if(kKnown.begin(), kKnown.end(), [&](const Known& k) { return is(k.name); });
            if (known == kKnown.end())
                abandon(messages::expected_token, now().span, "normal(...), uniform(...), triangular(...), lognormal(...) or drawn from \"file.csv\"",
                        fmt::format("'{}'", now().text));
            Span at = now().span;
            item.distribution = std::string(take().text);
            expect("(", "behind the distribution");
            do item.arguments.push_back(expression());
            while (accept(","));
            expect(")", "behind its values");
            if (item.arguments.size() != known->n) {
                diagnostics_.report(messages::wrong_argument_count, from(at), item.distribution, known->n, item.arguments.size())
                    .mend(std::string(known->form));
                throw StatementAbandoned{};
            }
        }
        if (accept("limited")) {
            expect("to", "behind 'limited'");
            item.least = expression();
            expect("..", "between the limits");
            item.most = expression();
        }
    } else {
        abandon(messages::expected_token, now().span, "'over' and values, or 'as' and a distribution", fmt::format("'{}'", now().text));
    }
    item.span = from(item.span);
    return item;
}

TakeItem Parser::take_item()
{
    TakeItem item;
    item.span = now().span;
    take();
    if (accept("all")) {
        if (accept("with")) {
            item.draws = whole_number("how many draws of what is uncertain");
            expect("draws", "behind their number");
        }
    } else if (accept("row")) {
        expect("by", "as in 'row by row'");
        expect("row", "as in 'row by row'");
        item.kind = TakeItem::Kind::rows;
    } else {
        item.count = whole_number("'all', 'row by row', or how many runs");
        item.kind = TakeItem::Kind::sobol;
        if (is("at") && item.count == 1) {
            take();
            expect("a", "as in '1 at a time'");
            expect("time", "as in '1 at a time'");
            item.kind = TakeItem::Kind::one_at_a_time;
        } else if (accept("by")) {
            item.kind = accept("sobol")   ? TakeItem::Kind::sobol
                        : accept("latin") ? TakeItem::Kind::latin
                        : accept("random")
                            ? TakeItem::Kind::random
                            : (abandon(messages::expected_token, now().span, "sobol, latin or random", fmt::format("'{}'", now().text)), item.kind);
        } else if (accept("for")) {
            item.kind = accept("sobol")    ? TakeItem::Kind::for_sobol
                        : accept("morris") ? TakeItem::Kind::for_morris
                                           : (abandon(messages::expected_token, now().span, "sobol or morris", fmt::format("'{}'", now().text)), item.kind);
        }
    }
    item.span = from(item.span);
    return item;
}

KeepRecordings Parser::keep_recordings()
{
    KeepRecordings keep;
    take();
    expect("recordings", "behind 'keep'");
    expect("of", "behind 'recordings'");
    if (accept("none")) {
        keep.kind = KeepRecordings::Kind::none;
    } else if (accept("all")) {
        keep.kind = KeepRecordings::Kind::all;
    } else if (accept("best")) {
        keep.kind = KeepRecordings::Kind::best;
        keep.count = whole_number("how many");
        if (accept("by")) {
            keep.most = accept("most");
            if (!keep.most) accept("least");
            keep.by.name = name("what they are told by", &keep.by.span);
        }
    } else {
        expect("those", "or 'none', 'all' or 'best 10' behind 'of'");
        expect("that", "as in 'those that fail'");
        expect("fail", "as in 'those that fail'");
        keep.kind = KeepRecordings::Kind::failing;
    }
    return keep;
}

void Parser::study_item(StudyDecl& study)
{
    Span begin = now().span;
    auto once = [&](bool said, const char* what) {
        if (said) diagnostics_.report(messages::said_twice, begin, what, fmt::format(" in study '{}'", study.name));
    };
    if (is("set") || is("put")) {
        study.settings.push_back(scenario_item());
        study.settings.insert(study.settings.end(), extra_.begin(), extra_.end());
        extra_.clear();
        return;
    }
    if (is("vary")) {
        study.varies.push_back(vary_item());
    } else if (is("take")) {
        once(study.take.has_value(), "take");
        study.take = take_item();
    } else if (accept("where")) {
        study.where.push_back(expression());
    } else if (accept("collect")) {
        do {
            NamedSpan& n = study.collect.emplace_back();
            n.name = name("a measure", &n.span);
        } while (accept(","));
    } else if (is("keep")) {
        once(study.keep.has_value(), "keep");
        study.keep = keep_recordings();
    } else if (accept("correlate")) {
        CorrelateItem c;
        c.a = path("what is uncertain");
        expect("with", "behind the first");
        c.b = path("what else is uncertain");
        expect("at", "before the rank correlation: correlate a with b at 0.6");
        c.rank = expression();
        c.span = from(begin);
        study.correlations.push_back(std::move(c));
    } else if (accept("seed")) {
        once(study.seed.has_value(), "seed");
        study.seed = whole_number("the seed");
    } else {
        abandon(messages::expected_token, now().span, "vary, take, where, collect, keep, correlate, seed, set or put",
                fmt::format("'{}'", now().text.substr(0, 40)));
    }
    end_statement("the line of the study");
}

}  // namespace netloop

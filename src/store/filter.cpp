// SPDX-License-Identifier: Apache-2.0
#include "store/filter.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "language/parser.hpp"

namespace netloop {
namespace {
constexpr int kRun = -1, kSeconds = -2, kStepsColumn = -3, kFailed = -4;
constexpr std::size_t kBehindColumns = 4;
}  // namespace

int column_of(const StudyRecord& study, const std::string& name)
{
    std::vector<std::string> names{"run", "seconds", "steps", "failed"};
    for (std::size_t c = 0; c < study.columns.size(); ++c) {
        if (study.columns[c].name == name) return static_cast<int>(c);
        names.push_back(study.columns[c].name);
    }
    if (name == "run") return kRun;
    if (name == "seconds") return kSeconds;
    if (name == "steps") return kStepsColumn;
    if (name == "failed") return kFailed;
    std::string near = nearest_name(name, names);
    throw UsageError(fmt::format("study '{}' has no column '{}'; {}", study.name, name,
                                 near.empty() ? fmt::format("there are: {}", fmt::join(names, ", ")) : fmt::format("did you mean '{}'?", near)));
}

// A term with what is known of it. `zero`: a bare 0, which fits any unit. `truth`: it holds or not.
struct RowFilter::Typed {
    int at = -1;
    Dimension dimension;
    bool zero = false, truth = false;
    int levels = -1;  ///< the column whose level it is
};

RowFilter::RowFilter(const std::string& text, const StudyRecord& study) : text_(text), study_(study)
{
    Diagnostics diagnostics;
    std::uint32_t file = sources_.add("--where", text);
    const Expr* e = parse_expression(sources_, file, arena_, diagnostics);
    if (diagnostics.has_errors() || e == nullptr)
        throw UsageError(diagnostics.items().empty() ? "the condition cannot be read" : render(diagnostics.items()[0], sources_));
    Typed all = term(*e);
    if (!all.truth) refuse(*e, fmt::format("'{}' is no condition", text_), "compare something: peak < 210 bar");
}

RowFilter::~RowFilter() = default;

void RowFilter::refuse(const Expr& e, const std::string& what, const std::string& mend) const
{
    SourceDiagnostic d{"bad-value", Severity::error, e.span, what, {}, mend};
    throw UsageError(render(d, sources_));
}

int RowFilter::add(Term t)
{
    terms_.push_back(t);
    return static_cast<int>(terms_.size()) - 1;
}

RowFilter::Typed RowFilter::column(const Path& path)
{
    int c = column_of(study_, text_of(path));
    Typed out;
    // what is no column of the study stands behind them
    Term t{Term::Op::column, 0, c >= 0 ? static_cast<std::size_t>(c) : study_.columns.size() + static_cast<std::size_t>(-c - 1), -1, -1};
    out.at = add(t);
    if (c == kFailed) out.truth = true;
    if (c == kSeconds) out.dimension = Dimension::base(2);
    if (c < 0) return out;
    const StudyColumn& of = study_.columns[static_cast<std::size_t>(c)];
    if (!of.levels.empty()) out.levels = c;
    if (of.kind == StudyColumn::Kind::demand || of.unit == "bool") {
        out.truth = true;
        return out;
    }
    Unit unit;
    UnitProblem problem;
    if (!of.unit.empty() && parse_unit(of.unit, unit, problem)) out.dimension = unit.dimension;
    return out;
}

RowFilter::Typed RowFilter::checked_level(const Typed& column, const Expr& word)
{
    const auto& levels = study_.columns[static_cast<std::size_t>(column.levels)].levels;
    std::string name = word.kind == ExprKind::text ? word.text : netloop::text_of(word);
    auto it = std::find(levels.begin(), levels.end(), name);
    if (it == levels.end())
        refuse(word, fmt::format("'{}' is no value of '{}'", name, study_.columns[static_cast<std::size_t>(column.levels)].name),
               fmt::format("there are: {}", fmt::join(levels, ", ")));
    Typed out = column;
    out.at = add({Term::Op::number, static_cast<double>(it - levels.begin()), 0, -1, -1});
    return out;
}

RowFilter::Typed RowFilter::compared(const Expr& e)
{
    static constexpr std::pair<const char*, Term::Op> kSigns[] = {{"<", Term::Op::less},      {"<=", Term::Op::at_most}, {">", Term::Op::greater},
                                                                  {">=", Term::Op::at_least}, {"==", Term::Op::equal},   {"!=", Term::Op::unequal}};
    Typed a = term(*e.args[0]), b;
    if (a.levels >= 0)
        b = checked_level(a, *e.args[1]);
    else
        b = term(*e.args[1]);
    if (!a.zero && !b.zero && !(a.dimension == b.dimension))
        refuse(e, fmt::format("'{}' and '{}' have different units", netloop::text_of(*e.args[0]), netloop::text_of(*e.args[1])),
               "write the number with its unit: peak < 210 bar");
    const auto* sign = std::find_if(std::begin(kSigns), std::end(kSigns), [&](const auto& s) { return e.text == s.first; });
    Typed out;
    out.truth = true;
    out.at = add({sign->second, 0, 0, a.at, b.at});
    return out;
}

RowFilter::Typed RowFilter::chained(const Expr& e)
{
    Typed out = term(*e.args[0]);
    for (std::size_t k = 1; k < e.args.size(); ++k) {
        Typed next = term(*e.args[k]);
        char sign = e.text[k - 1];
        bool logic = sign == '&' || sign == '|';
        if (out.truth != logic || next.truth != logic || out.levels >= 0 || next.levels >= 0)
            refuse(e, fmt::format("'{}' joins {}", netloop::text_of(e), logic ? "what is no condition" : "what are no numbers"));
        if ((sign == '+' || sign == '-') && !(out.dimension == next.dimension)) refuse(e, fmt::format("'{}' adds different units", netloop::text_of(e)));
        Term::Op op = sign == '&'   ? Term::Op::both
                      : sign == '|' ? Term::Op::either
                      : sign == '+' ? Term::Op::add
                      : sign == '-' ? Term::Op::subtract
                      : sign == '*' ? Term::Op::multiply
                                    : Term::Op::divide;
        if (op == Term::Op::multiply) out.dimension = out.dimension * next.dimension;
        if (op == Term::Op::divide) out.dimension = out.dimension / next.dimension;
        out.zero = false;
        out.at = add({op, 0, 0, out.at, next.at});
    }
    return out;
}

RowFilter::Typed RowFilter::term(const Expr& e)
{
    Typed out;
    switch (e.kind) {
        case ExprKind::number:
            out.at = add({Term::Op::number, e.number, 0, -1, -1});
            out.zero = e.number == 0 && e.unit == nullptr;
            if (e.unit != nullptr) out.dimension = e.unit->dimension;
            return out;
        case ExprKind::truth:
            out.truth = true;
            out.at = add({Term::Op::number, e.number, 0, -1, -1});
            return out;
        case ExprKind::path:
            return column(e.path);
        case ExprKind::is_stage: {
            Typed a = column(e.path);
            if (a.levels < 0) refuse(e, fmt::format("'{}' has numbers, not words", netloop::text_of(e.path)), "compare it with '<', '>' or '=='");
            Expr word;
            word.kind = ExprKind::text;
            word.text = e.text;
            word.span = e.span;
            out.truth = true;
            int level = checked_level(a, word).at;
            out.at = add({Term::Op::equal, 0, 0, a.at, level});
            return out;
        }
        case ExprKind::negate:
            out = term(*e.args[0]);
            if (out.truth || out.levels >= 0) refuse(e, "a minus stands before a number");
            out.at = add({Term::Op::negate, 0, 0, out.at, -1});
            return out;
        case ExprKind::logical_not:
            out = term(*e.args[0]);
            if (!out.truth) refuse(e, "'not' stands before a condition");
            out.at = add({Term::Op::no, 0, 0, out.at, -1});
            return out;
        case ExprKind::compare:
            return compared(e);
        case ExprKind::chain:
            return chained(e);
        default:
            refuse(e, fmt::format("'{}' cannot stand in a condition on rows", netloop::text_of(e)),
                   "columns, numbers with units, + - * /, comparisons, and, or, not");
    }
}

bool RowFilter::holds(const StudyRow& row) const
{
    std::vector<double>& v = values_;
    v.resize(terms_.size());
    auto column = [&](std::size_t c) {
        std::size_t n = study_.columns.size();
        if (c < n) return row.values[c];
        double behind[kBehindColumns] = {static_cast<double>(row.run), row.seconds, static_cast<double>(row.steps), row.status == "done" ? 0.0 : 1.0};
        return behind[c - n];
    };
    for (std::size_t i = 0; i < terms_.size(); ++i) {
        const Term& t = terms_[i];
        double a = t.a >= 0 ? v[static_cast<std::size_t>(t.a)] : 0, b = t.b >= 0 ? v[static_cast<std::size_t>(t.b)] : 0;
        switch (t.op) {
            case Term::Op::number:
                v[i] = t.number;
                break;
            case Term::Op::column:
                v[i] = column(t.column);
                break;
            case Term::Op::add:
                v[i] = a + b;
                break;
            case Term::Op::subtract:
                v[i] = a - b;
                break;
            case Term::Op::multiply:
                v[i] = a * b;
                break;
            case Term::Op::divide:
                v[i] = a / b;
                break;
            case Term::Op::negate:
                v[i] = -a;
                break;
            case Term::Op::less:
                v[i] = a < b ? 1 : 0;
                break;
            case Term::Op::at_most:
                v[i] = a <= b ? 1 : 0;
                break;
            case Term::Op::greater:
                v[i] = a > b ? 1 : 0;
                break;
            case Term::Op::at_least:
                v[i] = a >= b ? 1 : 0;
                break;
            case Term::Op::equal:
                v[i] = a == b ? 1 : 0;
                break;
            case Term::Op::unequal:
                v[i] = a != b && !std::isnan(a) && !std::isnan(b) ? 1 : 0;
                break;
            case Term::Op::both:
                v[i] = a == 1 && b == 1 ? 1 : 0;
                break;
            case Term::Op::either:
                v[i] = a == 1 || b == 1 ? 1 : 0;
                break;
            case Term::Op::no:
                v[i] = a == 0 ? 1 : 0;
                break;
        }
    }
    return v.back() == 1;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Units that a component leaves open (`unit of_measured`): what they are in one use of it. Dimensions of products are sums of exponents, so that every value
// given to a part and every signal from or to it is a linear equation for the open ones; they are solved by elimination.
#include <algorithm>

#include "model/check_units.hpp"

namespace netloop {

/// A place where a part's component says a unit that holds open ones, and the outside says what it is.
struct UnitChecker::UnitUse {
    Dimension declared;
    Type outside;
    Span span;
    std::string text;  ///< "gain = 2 bar/V"
};

namespace {

// The written unit with each open name replaced by what it is: "of_output/of_measured" as "V/bar".
std::optional<Unit> replaced(const Unit& unit, const SettledUnits& units, const Dimension& dimension)
{
    if (auto it = units.find(unit.text); it != units.end()) return it->second;
    constexpr std::string_view kTimesOne = "1*";  // as in every compound unit a zero of its own does not count: K for degC
    if (unit.text.starts_with(kTimesOne))
        if (auto it = units.find(unit.text.substr(kTimesOne.size())); it != units.end()) return it->second.difference();
    std::string text;
    for (std::size_t i = 0; i < unit.text.size();) {
        std::size_t end = i;
        auto letter = [](char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; };
        while (end < unit.text.size() && letter(unit.text[end])) ++end;
        std::string word = unit.text.substr(i, std::max<std::size_t>(end - i, 1));
        i += word.size();
        auto it = units.find(word);
        if (it == units.end()) {
            text += word;
            continue;
        }
        std::string is = it->second.difference().text;
        bool compound = is.find_first_of("*/^") != std::string::npos;
        text += compound ? "(" + is + ")" : is;
    }
    // factors of plain numbers are left out
    constexpr std::string_view kOne = "1";
    auto alone = [&](std::size_t at) { return at >= text.size() || text[at] == '*' || text[at] == '/' || text[at] == ')'; };
    for (std::size_t at = text.find(kOne, 1); at != std::string::npos; at = text.find(kOne, at + 1))
        if ((text[at - 1] == '*' || text[at - 1] == '/') && alone(at + 1)) text.erase(at - 1, 2), at -= 1;
    if (text.starts_with("1*")) text.erase(0, 2);
    Unit made;
    UnitProblem problem;
    if (parse_unit(text, made, problem, true) && made.dimension == dimension) return made;
    return std::nullopt;
}

// A bare 0 fits any unit; another bare number says that an open unit is none, but nothing of a product of open units.
bool says_something(const Type& declared, const Type& outside)
{
    return outside.known && !outside.zero && (!outside.bare || (declared.unit && declared.dimension == Dimension::open(declared.unit->text)));
}

std::string shown(const Type& type)
{
    return type.unit ? type.unit->text : type.dimension.text();
}

}  // namespace

Type settled(const Type& type, const SettledUnits& units)
{
    if (!type.known || !type.dimension.is_open()) return type;
    Type made = type;
    made.dimension = type.dimension.settled_part();
    for (const auto& [name, exponent] : type.dimension.open_names()) {
        auto it = units.find(name);
        if (it == units.end()) return Type::unknown();
        made.dimension = made.dimension * it->second.dimension.power(exponent);
    }
    if (type.unit) made.unit = replaced(*type.unit, units, made.dimension).value_or(si_unit(made.dimension));
    return made;
}

void UnitChecker::check_open_names(const Dimension& dimension, Span span, const Context& context)
{
    for (const auto& [name, exponent] : dimension.open_names()) {
        const Member* m = context.info != nullptr ? context.info->find(name) : nullptr;
        if (m != nullptr && m->statement->as<OpenUnitDecl>() != nullptr) continue;
        std::string where = context.info != nullptr ? fmt::format("'{}'", context.info->definition->full_name) : "this file";
        set_.diagnostics.report(messages::unknown_name, span, name, where).mend(fmt::format("declare it: unit {}", name));
    }
}

// One end of a signal: where it is a member of the part, the other end tells its unit.
void UnitChecker::use_of(const Expr& end, const Expr& other, const std::string& part, const ComponentInfo& kind, Context& context, std::vector<UnitUse>& uses)
{
    if (end.kind != ExprKind::path || end.path.size() != 2 || end.path[0].name != part) return;
    const Member* m = kind.find(end.path[1].name);
    const auto* q = m != nullptr ? m->statement->as<QuantityDecl>() : nullptr;
    if (q == nullptr) return;
    Type declared = declared_type(*q, &kind, *m->scope);
    if (!declared.known || !declared.dimension.is_open()) return;
    Type outside = type_of(other, context);
    if (says_something(declared, outside)) uses.push_back({declared.dimension, outside, other.span, fmt::format("{} on '{}'", brief(other), brief(end))});
}

void UnitChecker::uses_in(const Statement& s, const FileScope& scope, const std::string& part, const ComponentInfo& kind, Context& context,
                          std::vector<UnitUse>& uses)
{
    if (const auto* signal = s.as<SignalDecl>()) {
        context.scope = &scope;
        for (const Expr* target : signal->targets) {
            use_of(*target, *signal->source, part, kind, context, uses);
            use_of(*signal->source, *target, part, kind, context, uses);
        }
    } else if (const auto* branch = s.as<IfDecl>()) {
        for (const Block* block : {&branch->then_block, &branch->else_block})
            for (const Statement* inner : *block) uses_in(*inner, scope, part, kind, context, uses);
    } else if (const auto* loop = s.as<ForDecl>()) {
        auto before = context.locals;
        context.locals[loop->index] = Type::of(Dimension{});
        for (const Statement* inner : loop->body) uses_in(*inner, scope, part, kind, context, uses);
        context.locals = std::move(before);
    }
}

const SettledUnits& UnitChecker::settled_units(const ComponentInfo& info, const std::string& part, const KindUse& use, const FileScope& scope,
                                               const std::string& index)
{
    auto [it, fresh] = units_of_parts_.try_emplace({&info, &use});
    if (!fresh) return it->second;  // while they are being solved for: none is known yet
    const Definition* d = set_.find(scope, use.kind, true);
    const ComponentInfo* kind = d != nullptr && d->as<ComponentDecl>() != nullptr ? set_.info(*d) : nullptr;
    std::vector<std::string> names;
    if (kind != nullptr)
        for (const std::string& name : kind->member_names)
            if (kind->find(name)->statement->as<OpenUnitDecl>() != nullptr) names.push_back(name);
    if (names.empty()) return it->second;
    std::vector<UnitUse> uses;
    auto value = [&](const NamedValue& v, Context& where) {
        const Member* m = v.path.size() == 1 && v.value != nullptr ? kind->find(v.path[0].name) : nullptr;
        const auto* q = m != nullptr ? m->statement->as<QuantityDecl>() : nullptr;
        if (q == nullptr) return;
        Type declared = declared_type(*q, kind, *m->scope);
        if (!declared.known || !declared.dimension.is_open()) return;
        Type given = type_of(*v.value, where);
        if (says_something(declared, given)) uses.push_back({declared.dimension, given, v.value->span, fmt::format("{} = {}", q->name, brief(*v.value))});
    };
    Context context{&info, &scope, {}};
    if (!index.empty()) context.locals[index] = Type::of(Dimension{});
    for (const NamedValue& v : use.values) value(v, context);
    context.locals.clear();
    for (const auto& [v, from] : kind->values) {  // what the component itself gives to what it takes over
        Context own{kind, from, {}};
        value(v, own);
    }
    for (const BodyItem& item : info.items) uses_in(*item.statement, *item.scope, part, *kind, context, uses);
    return units_of_parts_[{&info, &use}] = solve_units(names, part, uses);
}

// Elimination with rational exponents; each row says: a product of powers of open units is this dimension.
SettledUnits UnitChecker::solve_units(const std::vector<std::string>& names, const std::string& part, const std::vector<UnitUse>& uses)
{
    struct Row {
        std::map<std::string, Rational> open;
        Dimension is;
        const UnitUse* from = nullptr;
    };
    std::map<std::string, Row> rows;  // by the open unit that each settles
    auto add = [](Row& to, const Row& row, Rational times) {
        for (const auto& [name, e] : row.open) {
            Rational sum = to.open[name] + e * times;
            if (sum.is_zero())
                to.open.erase(name);
            else
                to.open[name] = sum;
        }
        to.is = to.is * row.is.power(times);
    };
    std::set<std::string> contradict;
    for (const UnitUse& use : uses) {
        Row row{{use.declared.open_names().begin(), use.declared.open_names().end()}, use.outside.dimension / use.declared.settled_part(), &use};
        const std::map<std::string, Rational> said = row.open;
        const UnitUse* other = nullptr;
        for (const auto& [name, e] : said) {
            auto it = rows.find(name);
            if (it == rows.end()) continue;
            if (auto now = row.open.find(name); now != row.open.end()) add(row, it->second, now->second * Rational(-1));
            other = it->second.from;
        }
        if (!row.open.empty()) {
            auto [name, e] = *row.open.begin();
            Row own;
            own.from = &use;
            add(own, row, Rational(e.denominator(), e.numerator()));
            for (auto& [settles, before] : rows)
                if (auto in = before.open.find(name); in != before.open.end()) add(before, own, in->second * Rational(-1));
            rows[name] = std::move(own);
        } else if (!row.is.dimensionless() && other != nullptr) {
            for (const UnitUse& before : uses)  // one that says the very same thing otherwise tells more than one of several that follow from each other
                if (&before < &use && before.declared == use.declared && !(before.outside.dimension == use.outside.dimension)) other = &before;
            set_.diagnostics.report(messages::unit_said_twice, use.span, part, use.text, shown(use.outside), other->text, shown(other->outside))
                .note(other->span, "settled here")
                .mend("the units that a part's component leaves open follow from the values and signals that it is given: they must agree");
            for (const auto& [name, e] : said) contradict.insert(name);
        }
    }
    SettledUnits units;
    for (const std::string& name : names) {
        if (contradict.contains(name)) continue;
        auto row = rows.find(name);
        units[name] = row != rows.end() ? si_unit(row->second.is) : Unit{};
        for (const UnitUse& use : uses) {
            bool alone = use.declared == Dimension::open(name);
            if (!alone || !use.outside.unit) continue;
            units[name] = *use.outside.unit;
            break;
        }
    }
    return units;
}

}  // namespace netloop

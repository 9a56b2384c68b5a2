// SPDX-License-Identifier: Apache-2.0
#include "model/check_units.hpp"

#include <algorithm>
#include <array>
#include <cmath>

#include "base/deep_stack.hpp"
#include "base/interrupt.hpp"
#include "model/measures.hpp"

namespace netloop {
namespace {

constexpr std::array<Builtin, 38> kBuiltins{
    {{"abs", 1, 1},      {"sign", 1, 1},    {"min", 2, 99},     {"max", 2, 99},    {"sqrt", 1, 1},        {"exp", 1, 1},         {"log", 1, 1},
     {"log10", 1, 1},    {"sin", 1, 1},     {"cos", 1, 1},      {"tan", 1, 1},     {"asin", 1, 1},        {"acos", 1, 1},        {"atan", 1, 1},
     {"atan2", 2, 2},    {"sinh", 1, 1},    {"cosh", 1, 1},     {"tanh", 1, 1},    {"floor", 1, 1},       {"ceil", 1, 1},        {"mod", 2, 2},
     {"sum", 1, 1},      {"product", 1, 1}, {"clamp", 3, 3},    {"delay", 2, 2},   {"signed_sqrt", 2, 2}, {"smooth_step", 3, 3}, {"untracked", 1, 1},
     {"previous", 1, 1}, {"leaving", 1, 1}, {"entering", 1, 1}, {"passing", 1, 1}, {"flow", 1, 1},        {"final", 1, 1},       {"mean", 1, 1},
     {"integral", 1, 1}, {"rms", 1, 1},     {"slope", 2, 2}}};

Dimension second()
{
    return Dimension::base(2);
}

std::string shown_unit(const Type& t)
{
    if (t.unit && t.unit->dimension == t.dimension) return t.unit->text;
    return t.dimension.text();
}

// A unit as it may stand behind a number: 1/(bar*s) as bar^-1*s^-1.
std::string literal_unit(const std::string& unit)
{
    if (unit.rfind("1/", 0) != 0) return unit;
    std::string below = unit.substr(2);
    if (below.front() == '(' && below.back() == ')') below = below.substr(1, below.size() - 2);
    if (below.find_first_of("/^()") != std::string::npos) return unit;  // a rare one: as it is declared
    std::string text;
    for (std::size_t at = 0; at <= below.size();) {
        std::size_t end = std::min(below.find('*', at), below.size());
        text += (text.empty() ? "" : "*") + below.substr(at, end - at) + "^-1";
        at = end + 1;
    }
    return text;
}

bool plain_number(const Unit& unit)
{
    return unit.dimension.dimensionless() && unit.scale == 1;
}

}  // namespace

static bool is_of_angle(const Unit& unit)
{
    for (const char* angle : {"rad", "deg", "rev"})
        if (unit.text == angle || unit.text.starts_with(std::string(angle) + "/")) return true;
    return false;
}

Unit display_unit(const Type& type)
{
    if (type.unit && type.unit->dimension == type.dimension) return *type.unit;
    return si_unit(type.known ? type.dimension : Dimension{});
}

const Builtin* find_builtin(const std::string& name)
{
    for (const Builtin& b : kBuiltins)
        if (name == b.name) return &b;
    return nullptr;
}

bool is_word_of_ports(const std::string& name)
{
    return name == "leaving" || name == "entering" || name == "passing" || name == "flow";
}

std::vector<std::string> builtin_names()
{
    std::vector<std::string> names;
    for (const Builtin& b : kBuiltins) names.emplace_back(b.name);
    return names;
}

std::string brief(const Expr& e)
{
    std::string text = text_of(e);
    if (text.size() > 60) text = text.substr(0, 57) + "...";
    return text;
}

const Definition* domain_of_port(LibrarySet& set, const ComponentInfo& info, const Expr& expr)
{
    if (expr.kind != ExprKind::path || expr.path.empty()) return nullptr;
    const ComponentInfo* at = &info;
    for (std::size_t i = 0; i < expr.path.size(); ++i) {
        const Member* m = at->find(expr.path[i].name);
        if (m == nullptr) return nullptr;
        if (const auto* port = m->statement->as<PortDecl>(); port != nullptr && !m->is_port_fluid)
            return i + 1 == expr.path.size() ? set.find(*m->scope, port->domain, true) : nullptr;
        if (const auto* joint = m->statement->as<JointDecl>(); joint != nullptr) {
            if (i + 1 != expr.path.size() || joint->ports.empty() || joint->ports[0]->kind != ExprKind::path ||
                joint->ports[0]->path[0].name == expr.path[i].name)
                return nullptr;
            return domain_of_port(set, *at, *joint->ports[0]);
        }
        const Path* kind = nullptr;
        if (const auto* part = m->statement->as<PartDecl>()) kind = &part->kind.kind;
        if (const auto* slot = m->statement->as<SlotDecl>()) kind = &slot->base;
        if (kind == nullptr) return nullptr;
        const Definition* d = set.find(*m->scope, *kind, true);
        if (d == nullptr || d->as<ComponentDecl>() == nullptr) return nullptr;
        at = set.info(*d);
    }
    return nullptr;
}

// --- what fits what -----------------------------------------------------------------------------------------------

void UnitChecker::expect_equal(const Expr& left, const Type& a, const char* relation, const Expr& right, const Type& b)
{
    if (a.kind == Type::Kind::condition && b.kind == Type::Kind::number && !b.zero)
        set_.diagnostics.report(messages::not_a_number, left.span);
    else if (b.kind == Type::Kind::condition && a.kind == Type::Kind::number && !a.zero)
        set_.diagnostics.report(messages::not_a_number, right.span);
    if (!a.known || !b.known || a.zero || b.zero || a.dimension == b.dimension) return;
    auto& d =
        set_.diagnostics.report(messages::unit_mismatch, right.span, "'" + brief(left) + "'", shown_unit(a), relation, "'" + brief(right) + "'", shown_unit(b));
    Dimension quotient = a.dimension / b.dimension;
    if (b.bare && !a.dimension.dimensionless())
        d.mend(fmt::format("give the number a unit, such as [{}]", shown_unit(a)));
    else
        d.mend(fmt::format("the two differ by a factor in [{}]", quotient.text()));
}

void UnitChecker::expect_dimension(const Expr& e, const Type& type, const Dimension& wanted, const std::string& what)
{
    if (type.kind == Type::Kind::condition) {
        set_.diagnostics.report(messages::not_a_number, e.span);
        return;
    }
    if (!type.known || type.zero || type.dimension == wanted) return;
    std::string expected = wanted.dimensionless() ? "a dimensionless value" : "[" + wanted.text() + "]";
    set_.diagnostics.report(messages::unit_of_argument, e.span, what, expected, shown_unit(type))
        .mend(wanted.dimensionless() ? "divide by a reference value of the same unit" : "give a value in " + expected);
}

void UnitChecker::expect_fits(const std::string& what, const Type& declared, const Type& value, const Expr& e)
{
    if (declared.kind == Type::Kind::condition) {
        if (value.kind == Type::Kind::number && !value.zero) set_.diagnostics.report(messages::not_a_condition, e.span, shown_unit(value));
        return;
    }
    if (value.kind == Type::Kind::condition && declared.kind == Type::Kind::number) {
        set_.diagnostics.report(messages::not_a_number, e.span);
        return;
    }
    if (!declared.known || !value.known) return;
    std::string unit = shown_unit(declared);
    if (value.zero) {
        if (declared.unit && declared.unit->has_offset)
            set_.diagnostics.report(messages::bare_zero, e.span, what, unit).mend(fmt::format("write 0 {} or 0 {}", unit, declared.unit->difference().text));
        return;
    }
    if (value.bare && declared.unit && !plain_number(*declared.unit)) {
        set_.diagnostics.report(messages::bare_number, e.span, what, unit, brief(e)).mend(fmt::format("write {} {}", brief(e), literal_unit(unit)));
        return;
    }
    if (value.bare && declared.unit && declared.unit->text == "rad") {
        set_.diagnostics.report(messages::bare_radians, e.span, what, brief(e)).mend(fmt::format("write {} rad, or {} deg", brief(e), brief(e)));
        return;
    }
    if (declared.dimension == value.dimension) return;
    set_.diagnostics.report(messages::unit_of_value, e.span, what, unit, shown_unit(value)).mend(fmt::format("give a value in [{}]", unit));
}

// --- expressions --------------------------------------------------------------------------------------------------

std::optional<double> UnitChecker::constant_of(const Expr& e, Context& context)
{
    switch (e.kind) {
        case ExprKind::number:
            return e.unit ? std::nullopt : std::optional<double>(e.number);
        case ExprKind::negate: {
            auto v = constant_of(*e.args[0], context);
            return v ? std::optional<double>(-*v) : std::nullopt;
        }
        case ExprKind::chain: {
            std::optional<double> v = constant_of(*e.args[0], context);
            for (std::size_t i = 1; v && i < e.args.size(); ++i) {
                auto w = constant_of(*e.args[i], context);
                if (!w) return std::nullopt;
                switch (e.text[i - 1]) {
                    case '+':
                        v = *v + *w;
                        break;
                    case '-':
                        v = *v - *w;
                        break;
                    case '*':
                        v = *v * *w;
                        break;
                    case '/':
                        v = *v / *w;
                        break;
                    default:
                        return std::nullopt;
                }
            }
            return v;
        }
        case ExprKind::path: {
            if (e.path.size() != 1 || !e.path[0].indices.empty()) return std::nullopt;
            const Statement* s = nullptr;
            if (context.info != nullptr)
                if (const Member* m = context.info->find(e.path[0].name)) s = m->statement;
            if (s == nullptr)
                if (const Definition* d = set_.find(*context.scope, e.path, true)) s = d->statement;
            const auto* q = s != nullptr ? s->as<QuantityDecl>() : nullptr;
            if (q == nullptr || q->kind != QuantityKind::constant || q->value == nullptr) return std::nullopt;
            // what hangs on itself has no value, and is told elsewhere
            auto [known, first] = numbers_.try_emplace(q, std::nullopt);
            if (!first || stack_is_short()) return known->second;
            std::optional<double> number = constant_of(*q->value, context);
            return numbers_[q] = number;
        }
        default:
            return std::nullopt;
    }
}

Type UnitChecker::type_of_chain(const Expr& e, Context& context)
{
    if (e.text[0] == '&' || e.text[0] == '|') {
        for (const Expr* arg : e.args) expect_condition(*arg, context);
        return Type::condition();
    }
    bool product = e.text[0] == '*' || e.text[0] == '/';
    Type result = type_of(*e.args[0], context);
    const Expr* reference = e.args[0];
    bool all_bare = result.bare;
    auto offset_literal = [](const Expr& x) { return x.kind == ExprKind::number && x.unit && x.unit->has_offset; };
    auto complain = [&](const Expr& x, const char* role) {
        set_.diagnostics.report(messages::offset_in_sum, x.span, brief(x), role)
            .mend(fmt::format("write {} {} if a difference is meant", x.unit->from_si(x.number), x.unit->difference().text));
    };
    if (offset_literal(*e.args[0]) && (product || e.text[0] == '+')) complain(*e.args[0], product ? "a factor" : "a summand");
    for (std::size_t i = 1; i < e.args.size(); ++i) {
        Type t = type_of(*e.args[i], context);
        char op = e.text[i - 1];
        if (offset_literal(*e.args[i]) && op != '-') complain(*e.args[i], product ? "a factor" : "a summand");
        all_bare = all_bare && t.bare;
        if (product) {
            if (t.kind == Type::Kind::condition || result.kind == Type::Kind::condition) set_.diagnostics.report(messages::not_a_number, e.args[i]->span);
            if (t.zero && op == '*') result.zero = true;
            result.known = result.known && t.known;
            result.dimension = op == '*' ? result.dimension * t.dimension : result.dimension / t.dimension;
        } else {
            expect_equal(*reference, result, op == '+' ? "added to" : "less", *e.args[i], t);
            if ((result.zero || !result.known) && t.known && !t.zero) {
                result = t;
                reference = e.args[i];
            }
        }
    }
    result.zero = false;
    result.bare = all_bare;
    if (product)
        result.unit.reset();
    else if (result.unit)
        result.unit = result.unit->difference();
    if (result.kind != Type::Kind::unknown) result.kind = Type::Kind::number;
    return result;
}

Type UnitChecker::type_of_power(const Expr& e, Context& context)
{
    Type base = type_of(*e.args[0], context);
    Type exponent = type_of(*e.args[1], context);
    expect_dimension(*e.args[1], exponent, {}, "the exponent");
    if (!base.known) return base;
    base.unit.reset();
    base.zero = false;
    if (base.dimension.dimensionless()) return base;
    auto value = constant_of(*e.args[1], context);
    auto fraction = value ? Rational::from(*value) : std::nullopt;
    if (!fraction) {
        set_.diagnostics.report(messages::power_unit, e.span, base.dimension.text())
            .mend("make the exponent a number, or divide the base by a reference value");
        return Type::unknown();
    }
    base.dimension = base.dimension.power(*fraction);
    return base;
}

Type UnitChecker::type_of_builtin(const Expr& e, const std::string& name, Context& context)
{
    const Builtin& builtin = *find_builtin(name);
    int n = static_cast<int>(e.args.size());
    if (n < builtin.least || n > builtin.most) {
        set_.diagnostics.report(messages::wrong_argument_count, e.span, name,
                                builtin.least == builtin.most ? std::to_string(builtin.least) : fmt::format("{} or more", builtin.least), n);
        return Type::unknown();
    }
    auto arg = [&](int i) -> const Expr& { return *e.args[static_cast<std::size_t>(i)]; };
    auto wants_plain = [&](int i) { expect_dimension(arg(i), type_of(arg(i), context), {}, name); };
    if (name == "untracked") {
        expect_condition(arg(0), context);
        return Type::condition();
    }
    if (name == "sqrt" || name == "signed_sqrt") {
        Type t = type_of(arg(0), context);
        if (n == 2) expect_equal(arg(0), t, "used with", arg(1), type_of(arg(1), context));
        Type root = Type::of(t.dimension.power(Rational(1, 2)));
        root.kind = t.kind;
        root.known = t.known;
        root.bare = t.bare;
        return root;
    }
    for (const char* plain : {"exp", "log", "log10", "sin", "cos", "tan", "asin", "acos", "atan", "sinh", "cosh", "tanh", "floor", "ceil"}) {
        if (name != plain) continue;
        wants_plain(0);
        return Type::of(Dimension{});
    }
    if (is_word_of_ports(name)) return type_of_carried(arg(0), name, context);
    Type first = type_of(arg(0), context);
    Type result = first;
    if (name == "delay") {
        expect_dimension(arg(1), type_of(arg(1), context), second(), name);
        return first;
    }
    if (name == "slope") {
        Type by = type_of(arg(1), context);
        if (!first.known || !by.known) return Type::unknown();
        return Type::of(first.dimension / by.dimension);
    }
    const Expr* reference = &arg(0);
    for (int i = 1; i < n; ++i) {
        Type t = type_of(arg(i), context);
        expect_equal(*reference, result, "used with", arg(i), t);
        if ((result.zero || !result.known) && t.known && !t.zero) {
            result = t;
            reference = &arg(i);
        }
    }
    result.bare = false;
    if (name == "sign" || name == "atan2" || name == "smooth_step") return Type::of(Dimension{});
    if (name == "product" || name == "integral") return Type::unknown();
    return result;
}

// max(x), first(time when c) and their kin in a measure.
Type UnitChecker::type_of_measure_call(const Expr& e, Context& context)
{
    const auto* before = measures_;
    measures_ = nullptr;
    MeasureKind kind = *measure_kind(e);
    MeasureCall call = take_apart(e, kind);
    Type t = Type::unknown();
    if (call.trouble.empty()) {
        if (call.when != nullptr) expect_condition(*call.when, context);
        t = kind == MeasureKind::count ? Type::of(Dimension{}) : type_of(*call.value, context);
        Unit seconds = si_unit(second());
        seconds.text = "s";
        for (const Expr* time : {call.from_time, call.to_time})
            if (time != nullptr) expect_fits("the window", Type::of(seconds), type_of(*time, context), *time);
        if (kind == MeasureKind::time_of_max || kind == MeasureKind::time_of_min) t = Type::of(seconds);
        if (kind == MeasureKind::integral && t.known) t = Type::of(t.dimension * second());
    }
    measures_ = before;
    return t;
}

Type UnitChecker::type_of_measure(const ComponentInfo* info, const FileScope& scope, const Expr& e, const std::map<std::string, Type>& before)
{
    measures_ = &before;
    Type t = type_of_expression(info, scope, e);
    measures_ = nullptr;
    return t;
}

Type UnitChecker::type_of_call(const Expr& e, Context& context)
{
    if (measures_ != nullptr && measure_kind(e)) return type_of_measure_call(e, context);
    const FunctionDecl* function = nullptr;
    const TableDecl* table = nullptr;
    auto is_own = [&] {
        const Member* own = context.info != nullptr ? context.info->find(e.path[0].name) : nullptr;
        return own != nullptr ? own->statement->as<FunctionDecl>() != nullptr || own->statement->as<TableDecl>() != nullptr
                              : set_.find(*context.scope, e.path, true) != nullptr;
    };
    if (e.path.size() == 1 && find_builtin(e.path[0].name) != nullptr && !(is_word_of_ports(e.path[0].name) && is_own()))
        return type_of_builtin(e, e.path[0].name, context);
    const Statement* s = nullptr;
    const Member* m = context.info != nullptr ? context.info->find(e.path[0].name) : nullptr;
    if (m != nullptr && e.path.size() == 1) s = m->statement;
    const Definition* fluid = m != nullptr && e.path.size() == 2 ? fluid_kind(*m) : m == nullptr ? file_fluid_kind(e.path, *context.scope) : nullptr;
    if (fluid != nullptr) {
        const ComponentInfo* info = set_.info(*fluid);
        if (const Member* f = info->find(e.path.back().name)) s = f->statement;
        if (s == nullptr) {
            std::string near = nearest_name(e.path.back().name, info->member_names);
            set_.diagnostics.report(messages::unknown_name, e.path.back().span, e.path.back().name, fmt::format("fluid '{}'", fluid->name))
                .mend(near.empty() ? "" : fmt::format("did you mean '{}'?", near));
            return Type::unknown();
        }
    }
    if (s == nullptr) {
        const Definition* d = set_.find(*context.scope, e.path, true);
        if (d == nullptr) {
            std::vector<std::string> names = builtin_names();
            for (const auto& [name, def] : context.scope->names) names.push_back(name);
            std::string near = nearest_name(text_of(e.path), names);
            set_.diagnostics.report(messages::unknown_kind, e.path[0].span, "function or table", text_of(e.path))
                .mend(near.empty() ? "" : fmt::format("did you mean '{}'?", near));
            for (const Expr* a : e.args) type_of(*a, context);
            return Type::unknown();
        }
        s = d->statement;
    }
    function = s->as<FunctionDecl>();
    table = s->as<TableDecl>();
    if (function == nullptr && table == nullptr) {
        set_.diagnostics.report(messages::not_a, e.span, text_of(e.path), "no function", "a function or table");
        return Type::unknown();
    }
    const auto& arguments = function != nullptr ? function->arguments : table->arguments;
    if (arguments.size() != e.args.size()) {
        set_.diagnostics.report(messages::wrong_argument_count, e.span, text_of(e.path), arguments.size(), e.args.size());
        return Type::unknown();
    }
    for (std::size_t i = 0; i < arguments.size(); ++i) {
        Type t = type_of(*e.args[i], context);
        if (arguments[i].unit) expect_fits(text_of(e.path) + "(" + arguments[i].name + ")", Type::of(*arguments[i].unit), t, *e.args[i]);
    }
    if (table != nullptr) return table->unit ? Type::of(*table->unit) : Type::unknown();
    if (function->results.size() != 1 || !function->results[0].unit) return Type::unknown();
    return Type::of(*function->results[0].unit);
}

Type UnitChecker::type_of_steps(const ComponentInfo* info, const FileScope& scope, const Path& path, std::size_t at, Context& context)
{
    for (const Expr* index : path[at].indices) type_of(*index, context);
    const Member* m = info != nullptr ? info->find(path[at].name) : nullptr;
    if (m == nullptr) {
        if (const Definition* kind = at == 0 ? file_fluid_kind(path, scope) : nullptr)
            return type_of_steps(set_.info(*kind), *kind->scope, path, path.size() - 1, context);
        if (at == 0 && path.size() <= 2) {
            const Definition* d = set_.find(scope, path, true);
            if (d != nullptr && d->as<QuantityDecl>() != nullptr) return declared_type(*d->as<QuantityDecl>(), nullptr, *d->scope);
        }
        std::vector<std::string> names = info != nullptr ? info->member_names : std::vector<std::string>{};
        if (at == 0)
            for (const auto& [name, type] : context.locals) names.push_back(name);
        bool renamed = info != nullptr && !present_name(*info, path[at].name).empty();
        std::string near = nearest_name(path[at].name, names), mend = near.empty() ? "" : fmt::format("did you mean '{}'?", near);
        if (renamed) mend = mend_of_name(*info, path[at].name);
        std::string where = info != nullptr ? fmt::format("'{}'", info->definition->full_name) : "this file";
        set_.diagnostics.report(messages::unknown_name, path[at].span, path[at].name, where).mend(mend);
        return Type::unknown();
    }
    bool last = at + 1 == path.size();
    auto not_a_quantity = [&](const char* what) {
        set_.diagnostics.report(messages::not_a, path[at].span, path[at].name, what, "a quantity");
        return Type::unknown();
    };
    if (m->is_port_fluid || m->statement->as<FluidUseDecl>() != nullptr) {
        if (last) return not_a_quantity("a fluid");
        const Definition* kind = fluid_kind(*m);
        if (kind == nullptr) return Type::unknown();
        // a circuit may be given a fluid that has more than its kind; what only some have is looked up when the model is put together
        if (m->is_port_fluid && set_.info(*kind)->find(path[at + 1].name) == nullptr) return Type::unknown();
        return type_of_steps(set_.info(*kind), *kind->scope, path, at + 1, context);
    }
    if (const auto* q = m->statement->as<QuantityDecl>()) {
        if (last) return declared_type(*q, info, *m->scope);
        if (q->kind == QuantityKind::let) return Type::unknown();  // one of several results of a function
        set_.diagnostics.report(messages::unknown_name, path[at + 1].span, path[at + 1].name, fmt::format("quantity '{}'", path[at].name));
        return Type::unknown();
    }
    if (const auto* sequence = m->statement->as<SequenceDecl>()) {
        if (last) return not_a_quantity("a sequence");
        Context own{info, m->scope, {}};
        return type_of_sequence_member(*sequence, path[at + 1], own);
    }
    const Definition* domain = nullptr;
    if (const auto* port = m->statement->as<PortDecl>()) {
        domain = set_.find(*m->scope, port->domain);
        if (domain == nullptr) return Type::unknown();
    } else if (const auto* joint = m->statement->as<JointDecl>()) {
        if (joint->ports.empty() || (domain = domain_of_port(set_, *info, *joint->ports[0])) == nullptr) return Type::unknown();
    }
    if (domain != nullptr) {
        if (last) return not_a_quantity("a port");
        if (domain->as<DomainDecl>() == nullptr) return Type::unknown();
        std::vector<std::string> names;
        for (const DomainMember& member : domain->as<DomainDecl>()->members) {
            if (member.kind == DomainMember::Kind::fluid) continue;
            if (member.name == path[at + 1].name) return member.unit ? Type::of(*member.unit) : Type::unknown();
            names.push_back(member.name);
        }
        std::string near = nearest_name(path[at + 1].name, names);
        set_.diagnostics.report(messages::unknown_name, path[at + 1].span, path[at + 1].name, fmt::format("domain '{}'", domain->name))
            .mend(near.empty() ? "" : fmt::format("did you mean '{}'?", near));
        return Type::unknown();
    }
    const Path* kind = nullptr;
    const KindUse* use = nullptr;
    if (const auto* part = m->statement->as<PartDecl>()) kind = &part->kind.kind, use = &part->kind;
    if (const auto* slot = m->statement->as<SlotDecl>()) kind = &slot->base, use = &slot->kind;
    if (kind == nullptr) return not_a_quantity("no quantity");
    if (last) return not_a_quantity("a part");
    const Definition* d = set_.find(*m->scope, *kind);
    if (d == nullptr || d->as<ComponentDecl>() == nullptr) return Type::unknown();
    Type inside = type_of_steps(set_.info(*d), *d->scope, path, at + 1, context);
    return inside.dimension.is_open() ? settled(inside, settled_units(*info, path[at].name, *use, *m->scope)) : inside;
}

Type UnitChecker::type_of(const Expr& e, Context& context)
{
    look_at_interrupt();
    if (stack_is_short()) {
        set_.diagnostics.report(messages::nested_too_deeply, e.span, in_progress_.size()).mend("let fewer definitions hang on each other");
        return Type::unknown();
    }
    switch (e.kind) {
        case ExprKind::number: {
            if (e.unit && e.unit->dimension.is_open()) {
                check_open_names(e.unit->dimension, e.span, context);
                if (e.number != 0)
                    set_.diagnostics.report(messages::bad_value, e.span, fmt::format("how much {} is depends on what the unit is settled to", brief(e)))
                        .mend("only 0 can be said in it: 0 " + e.unit->text);
            }
            if (e.unit) return e.unit->text == "?" ? Type::unknown() : Type::of(*e.unit);
            Type t = Type::of(Dimension{});
            t.bare = e.text != "pi";
            t.zero = e.number == 0;
            return t;
        }
        case ExprKind::truth:
            return Type::condition();
        case ExprKind::text:
            return Type::unknown();
        case ExprKind::time:
            return Type::of(second());
        case ExprKind::path: {
            if (!e.args.empty()) {
                type_of(*e.args[0], context);
                return Type::unknown();
            }
            if (measures_ != nullptr && e.path.size() == 1)
                if (auto it = measures_->find(e.path[0].name); it != measures_->end()) return it->second;
            if (auto it = context.locals.find(e.path[0].name); it != context.locals.end()) {
                for (const Expr* index : e.path[0].indices) type_of(*index, context);
                return e.path.size() == 1 ? it->second : Type::unknown();
            }
            return type_of_steps(context.info, *context.scope, e.path, 0, context);
        }
        case ExprKind::derivative: {
            Type t = type_of(*e.args[0], context);
            // what turns goes on being shown as turning: rad/s, not 1/s
            if (t.unit && is_of_angle(*t.unit))
                for (int k = 0; k < static_cast<int>(e.order); ++k) t.unit = t.unit->rate();
            else
                t.unit.reset();
            t.dimension = t.dimension / second().power(e.order);
            return t;
        }
        case ExprKind::chain:
            return type_of_chain(e, context);
        case ExprKind::negate: {
            Type t = type_of(*e.args[0], context);
            if (t.kind == Type::Kind::condition) set_.diagnostics.report(messages::not_a_number, e.span);
            return t;
        }
        case ExprKind::power:
            return type_of_power(e, context);
        case ExprKind::compare: {
            // a choice option is compared with one of its words, which is no name
            for (std::size_t k : {0u, 1u}) {
                const Expr& x = *e.args[k];
                if (x.kind != ExprKind::path || x.path.empty() || context.info == nullptr) continue;
                const Member* m = context.info->find(x.path[0].name);
                if (m != nullptr && x.path.size() == 2) {  // an option of the fluid
                    const Definition* fluid = fluid_kind(*m);
                    m = fluid != nullptr ? set_.info(*fluid)->find(x.path[1].name) : nullptr;
                } else if (x.path.size() != 1) {
                    continue;
                }
                const auto* q = m != nullptr ? m->statement->as<QuantityDecl>() : nullptr;
                if (q == nullptr || q->type != ValueType::choice) continue;
                const Expr& word = *e.args[1 - k];
                if (word.kind == ExprKind::path && word.path.size() == 1 &&
                    std::find(q->choices.begin(), q->choices.end(), word.path[0].name) == q->choices.end()) {
                    std::string near = nearest_name(word.path[0].name, q->choices);
                    set_.diagnostics.report(messages::unknown_name, word.span, word.path[0].name, fmt::format("the choices of '{}'", q->name))
                        .mend(near.empty() ? "" : fmt::format("did you mean '{}'?", near));
                }
                return Type::condition();
            }
            Type a = type_of(*e.args[0], context), b = type_of(*e.args[1], context);
            if (a.kind == Type::Kind::condition && b.kind == Type::Kind::condition) return Type::condition();
            expect_equal(*e.args[0], a, "compared with", *e.args[1], b);
            return Type::condition();
        }
        case ExprKind::is_stage:
            check_is_stage(e, context);
            return Type::condition();
        case ExprKind::logical_not:
            expect_condition(*e.args[0], context);
            return Type::condition();
        case ExprKind::choice: {
            expect_condition(*e.args[0], context);
            Type a = type_of(*e.args[1], context), b = type_of(*e.args[2], context);
            expect_equal(*e.args[1], a, "chosen against", *e.args[2], b);
            Type t = (a.zero || !a.known) ? b : a;
            t.zero = a.zero && b.zero;
            t.bare = a.bare && b.bare;
            return t;
        }
        case ExprKind::call:
            return type_of_call(e, context);
        case ExprKind::comprehension: {
            for (std::size_t k : {1u, 2u}) type_of(*e.args[k], context);
            Context inner = context;
            inner.locals[e.text] = Type::of(Dimension{});
            return type_of(*e.args[0], inner);
        }
        case ExprKind::window:
        case ExprKind::at_moment:
            return type_of(*e.args[0], context);
        case ExprKind::array: {
            if (e.args.empty()) return Type::unknown();
            const Expr* first = e.args[0];
            Type t = type_of(*first, context);
            for (std::size_t i = 1; i < e.args.size(); ++i) {
                Type u = type_of(*e.args[i], context);
                expect_equal(*first, t, "beside", *e.args[i], u);
                if (t.zero) t = u, first = e.args[i];
            }
            return t;
        }
    }
    return Type::unknown();
}

void UnitChecker::expect_condition(const Expr& e, Context& context)
{
    Type t = type_of(e, context);
    if (t.kind == Type::Kind::number && (t.known || t.bare))
        set_.diagnostics.report(messages::not_a_condition, e.span, shown_unit(t)).mend("compare it with a value: <, <=, >, >=, ==, !=");
}

Type UnitChecker::type_of_path(const ComponentInfo& info, const FileScope& scope, const Path& path)
{
    Context context{&info, &scope, {}};
    return type_of_steps(&info, scope, path, 0, context);
}

Type UnitChecker::type_of_expression(const ComponentInfo* info, const FileScope& scope, const Expr& e)
{
    Context context{info, &scope, {}};
    return type_of(e, context);
}

}  // namespace netloop

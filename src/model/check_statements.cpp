// SPDX-License-Identifier: Apache-2.0
// Declarations and statements of definitions: that units, kinds and names fit, statement by statement. Expressions: check_units.cpp.
#include <algorithm>

#include "model/check_units.hpp"

namespace netloop {
namespace {

const Dimension kTime = Dimension::base(2);

}  // namespace

Type UnitChecker::declared_type(const QuantityDecl& q, const ComponentInfo* info, const FileScope& scope)
{
    if (q.type == ValueType::boolean) return Type::condition();
    if (q.type == ValueType::choice) return {Type::Kind::choice, false, {}, false, false, {}};
    if (q.type == ValueType::integer) return Type::of(Dimension{});
    if (q.unit) return Type::of(*q.unit);
    if (q.value == nullptr) {
        // `var angle init 0.2 rad`: the unit of the start value tells; otherwise unchecked
        return Type::unknown();
    }
    if (auto known = found_.find({&q, info}); known != found_.end()) return known->second;
    if (!in_progress_.insert(&q).second) return Type::unknown();
    Context context{info, &scope, {}};
    Type t = type_of(*q.value, context);
    in_progress_.erase(&q);
    // a bare number says nothing of the unit: the quantity is unchecked, but an option is a whole number or a condition
    if (t.bare && q.kind != QuantityKind::option && q.kind != QuantityKind::let && q.kind != QuantityKind::constant) t = Type::unknown();
    t.zero = false;
    t.bare = false;
    return found_[{&q, info}] = t;
}

void UnitChecker::check_quantity(const QuantityDecl& q, Context& context)
{
    if (q.unit) check_open_names(q.unit->dimension, q.name_span, context);
    Type own = declared_type(q, context.info, *context.scope);
    auto fits = [&](const Expr* e) {
        if (e == nullptr) return;
        Type t = type_of(*e, context);
        expect_fits(q.name, own, t, *e);
    };
    if (q.unit || q.type != ValueType::choice) {
        if (q.type != ValueType::choice) fits(q.value);
        fits(q.low);
        fits(q.high);
        fits(q.init);
        fits(q.guess);
        if (q.usual != nullptr) {
            Type width = own;
            if (width.unit) width.unit = width.unit->difference();
            expect_fits(q.name + " (usual)", width, type_of(*q.usual, context), *q.usual);
        }
    }
    for (const Expr* size : q.sizes) expect_dimension(*size, type_of(*size, context), {}, "the size of " + q.name);
    bool physical = q.type == ValueType::real && q.kind != QuantityKind::let && q.kind != QuantityKind::option;
    if (strict_ && physical && own.kind == Type::Kind::unknown)
        set_.diagnostics.report(messages::unchecked_strict, q.name_span, q.name).mend("declare one, such as ': mm', or ': 1' for a plain number");
}

void UnitChecker::check_kind_use(const KindUse& use, Context& context, bool fluid, const std::string& name, const std::string& index)
{
    const Definition* d = set_.find(*context.scope, use.kind);
    if (d == nullptr) return;
    bool fits = fluid ? d->as<FluidDecl>() != nullptr : d->as<ComponentDecl>() != nullptr;
    if (!fits) {
        set_.diagnostics.report(messages::not_a, use.span, d->name, d->kind_text(), fluid ? "a fluid" : "a component");
        return;
    }
    if (const auto* c = d->as<ComponentDecl>(); c != nullptr && c->base)
        set_.diagnostics.report(messages::base_as_part, use.span, d->name).mend("use one of the components that take it over");
    const ComponentInfo* target = set_.info(*d);
    for (const NamedValue& v : use.values) {
        const Member* m = target->find(v.path[0].name);
        if (m != nullptr && m->is_port_fluid) continue;  // `Tank(oil = iso46)`: a fluid, found when the model is put together
        if (m != nullptr && m->statement->as<QuantityDecl>() != nullptr && m->statement->as<QuantityDecl>()->type == ValueType::choice) continue;
        if (v.put != nullptr) {
            const auto* slot = m != nullptr ? m->statement->as<SlotDecl>() : nullptr;
            if (slot == nullptr || v.path.size() > 1) continue;  // looked at when the model is put together
            check_kind_use(*v.put, context, false);
            const Definition *base = set_.find(*m->scope, slot->base), *given = set_.find(*context.scope, v.put->kind, true);
            bool components = base != nullptr && given != nullptr && base->as<ComponentDecl>() != nullptr && given->as<ComponentDecl>() != nullptr;
            if (components) check_slot(*base, *given, v.put->span);
            continue;
        }
        if (m != nullptr && m->statement->as<SlotDecl>() != nullptr && v.path.size() == 1) continue;
        Context inside{target, d->scope, {}};
        Type declared = type_of_steps(target, *d->scope, v.path, 0, inside);
        if (declared.dimension.is_open() && context.info != nullptr)
            declared = settled(declared, settled_units(*context.info, name, use, *context.scope, index));
        expect_fits(text_of(v.path), declared, type_of(*v.value, context), *v.value);
    }
}

void UnitChecker::check_joint(const JointDecl& joint, Context& context)
{
    const Definition* domain = nullptr;
    const Expr* first = nullptr;
    for (const Expr* port : joint.ports) {
        const Definition* d = domain_of_port(set_, *context.info, *port);
        if (d == nullptr) {
            // an unknown name is reported with suggestions; a known one that is no port is named
            if (port->kind != ExprKind::path || !port->args.empty()) {
                set_.diagnostics.report(messages::not_a, port->span, brief(*port), "an expression", "a port");
                continue;
            }
            const ComponentInfo* at = context.info;
            bool reported = false;
            for (std::size_t i = 0; i < port->path.size() && at != nullptr; ++i) {
                const Member* m = at->find(port->path[i].name);
                if (m == nullptr) {
                    set_.diagnostics.report(messages::unknown_name, port->path[i].span, port->path[i].name, fmt::format("'{}'", at->definition->full_name))
                        .mend(mend_of_name(*at, port->path[i].name));
                    reported = true;
                    break;
                }
                const auto* part = m->statement->as<PartDecl>();
                const Definition* next = part != nullptr ? set_.find(*m->scope, part->kind.kind) : nullptr;
                if (part != nullptr && next == nullptr) reported = true;  // its kind is unknown, and was reported
                at = next != nullptr && next->as<ComponentDecl>() != nullptr ? set_.info(*next) : nullptr;
            }
            if (!reported) set_.diagnostics.report(messages::not_a, port->span, brief(*port), "no port", "a port");
            continue;
        }
        if (domain != nullptr && d != domain) {
            set_.diagnostics.report(messages::wrong_domain, port->span, brief(*port), d->name, brief(*first), domain->name)
                .mend("a joint holds ports of one domain; a component with a port of each turns one into the other");
        } else if (domain == nullptr) {
            domain = d;
            first = port;
        }
    }
}

// A loop of a component repeats equations and joints; what a name would stand for in its rounds is an array, declared before it.
void UnitChecker::refuse_declarations(const Block& body)
{
    for (const Statement* s : body) {
        if (const auto* branch = s->as<IfDecl>()) {
            refuse_declarations(branch->then_block);
            refuse_declarations(branch->else_block);
        }
        const auto* quantity = s->as<QuantityDecl>();
        bool declares = quantity != nullptr ? quantity->kind != QuantityKind::let
                                            : s->as<PortDecl>() != nullptr || s->as<PartDecl>() != nullptr || s->as<SlotDecl>() != nullptr ||
                                                  s->as<FluidUseDecl>() != nullptr || s->as<SequenceDecl>() != nullptr || s->as<FunctionDecl>() != nullptr ||
                                                  s->as<TableDecl>() != nullptr || s->as<OpenUnitDecl>() != nullptr;
        if (!declares) continue;
        Span span = s->span;
        std::string name = definition_name(*s, span);
        set_.diagnostics.report(messages::unexpected_here, span, fmt::format("the declaration of '{}' in a loop", name))
            .mend(s->as<PartDecl>() != nullptr || quantity != nullptr ? fmt::format("declare an array before the loop, {}[3], and use {}[k] in it", name, name)
                                                                      : "declare it before the loop");
    }
}

// A component as a branch sees it: where both branches of an option declare a name, the branch's own declaration counts in it.
const ComponentInfo* UnitChecker::seen_in(const Block& branch, const ComponentInfo* info)
{
    if (info == nullptr) return info;
    ComponentInfo* own = nullptr;
    for (const Statement* s : branch) {
        Span span;
        std::string name = definition_name(*s, span);
        const Member* m = name.empty() ? nullptr : info->find(name);
        bool branched = m != nullptr && !m->is_port_fluid && m->statement != s && (s->as<PartDecl>() != nullptr || s->as<QuantityDecl>() != nullptr);
        if (!branched) continue;
        if (own == nullptr) own = &branches_.emplace_back(*info);
        own->members[name].statement = s;
    }
    return own != nullptr ? own : info;
}

void UnitChecker::check_statement(const Statement& s, Context& context, const std::vector<FunctionArgument>* results)
{
    std::visit(
        [&](const auto& node) {
            using T = std::decay_t<decltype(node)>;
            if constexpr (std::is_same_v<T, QuantityDecl>) {
                if (results != nullptr)
                    context.locals[node.name] = node.unit ? Type::of(*node.unit) : type_of(*node.value, context);
                else
                    check_quantity(node, context);
            } else if constexpr (std::is_same_v<T, EquationDecl>) {
                Type a = type_of(*node.left, context), b = type_of(*node.right, context);
                bool radians = node.init && b.bare && !b.zero && a.unit && a.unit->text == "rad" && node.left->kind == ExprKind::path;
                if (radians) expect_fits(brief(*node.left), a, b, *node.right);
                if (node.init && b.zero && a.unit && a.unit->has_offset && node.left->kind == ExprKind::path) expect_fits(brief(*node.left), a, b, *node.right);
                expect_equal(*node.left, a, "equated with", *node.right, b);
            } else if constexpr (std::is_same_v<T, GuessDecl>) {
                expect_fits(brief(*node.target), type_of(*node.target, context), type_of(*node.value, context), *node.value);
            } else if constexpr (std::is_same_v<T, SignalDecl>) {
                Type source = type_of(*node.source, context);
                for (const Expr* target : node.targets) expect_fits(brief(*target), type_of(*target, context), source, *node.source);
            } else if constexpr (std::is_same_v<T, JointDecl>) {
                if (results != nullptr)
                    set_.diagnostics.report(messages::unexpected_here, s.span, "a joint in a function")
                        .mend("ports are joined in the component or system that holds them");
                else
                    check_joint(node, context);
            } else if constexpr (std::is_same_v<T, PartDecl>) {
                Context inner = context;
                if (!node.index.empty()) inner.locals[node.index] = Type::of(Dimension{});
                if (node.size != nullptr) type_of(*node.size, context);
                check_kind_use(node.kind, inner, false, node.name, node.index);
            } else if constexpr (std::is_same_v<T, SlotDecl>) {
                check_kind_use(node.kind, context, false, node.name);
                const Definition *base = set_.find(*context.scope, node.base), *d = set_.find(*context.scope, node.kind.kind, true);
                if (base != nullptr && base->template as<ComponentDecl>() == nullptr)
                    set_.diagnostics.report(messages::not_a, node.name_span, base->name, base->kind_text(), "a component");
                else if (base != nullptr && d != nullptr && d->template as<ComponentDecl>() != nullptr)
                    check_slot(*base, *d, node.kind.span);
            } else if constexpr (std::is_same_v<T, FluidUseDecl>) {
                check_kind_use(node.kind, context, true);
            } else if constexpr (std::is_same_v<T, PortDecl>) {
                const Definition* d = set_.find(*context.scope, node.domain);
                if (d != nullptr && d->template as<DomainDecl>() == nullptr)
                    set_.diagnostics.report(messages::not_a, node.name_span, d->name, d->kind_text(), "a domain");
                else if (d != nullptr && node.open_value != nullptr)
                    check_open_port(node, *d, context);
            } else if constexpr (std::is_same_v<T, IfDecl>) {
                expect_condition(*node.condition, context);
                const ComponentInfo* outside = context.info;
                for (const Block* branch : {&node.then_block, &node.else_block}) {
                    context.info = seen_in(*branch, outside);
                    check_block(*branch, context, results);
                }
                context.info = outside;
            } else if constexpr (std::is_same_v<T, ForDecl>) {
                type_of(*node.low, context);
                type_of(*node.high, context);
                auto before = context.locals;
                context.locals[node.index] = Type::of(Dimension{});
                if (results != nullptr) {
                    check_block(node.body, context, results);
                    return;
                }
                refuse_declarations(node.body);
                for (const Statement* inner : node.body) {
                    const auto* let = inner->template as<QuantityDecl>();
                    if (let == nullptr || let->kind != QuantityKind::let) {
                        check_block({inner}, context, nullptr);
                        continue;
                    }
                    // a name for one round of the loop
                    Type value = type_of(*let->value, context);
                    if (let->unit) expect_fits(let->name, Type::of(*let->unit), value, *let->value);
                    context.locals[let->name] = let->unit ? Type::of(*let->unit) : value;
                }
                context.locals = std::move(before);
            } else if constexpr (std::is_same_v<T, WhenDecl>) {
                if (node.condition != nullptr) expect_condition(*node.condition, context);
                Context own = context;
                check_block(node.body, own, &kNoBlockResults);
            } else if constexpr (std::is_same_v<T, EveryDecl>) {
                expect_dimension(*node.period, type_of(*node.period, context), kTime, "every");
                if (node.from != nullptr) expect_dimension(*node.from, type_of(*node.from, context), kTime, "every ... from");
                Context own = context;
                check_block(node.body, own, &kNoBlockResults);
            } else if constexpr (std::is_same_v<T, WhileDecl>) {
                expect_condition(*node.condition, context);
                check_block(node.body, context, results);
            } else if constexpr (std::is_same_v<T, AssignDecl>) {
                Type value = type_of(*node.value, context);
                // in a function a name is made by setting it; in a block that runs at a moment only `let` makes one
                bool local = results != nullptr && results != &kNoBlockResults && node.target->kind == ExprKind::path && node.target->path.size() == 1 &&
                             !context.locals.contains(node.target->path[0].name);
                if (local)
                    context.locals[node.target->path[0].name] = value;
                else
                    expect_fits(brief(*node.target), type_of(*node.target, context), value, *node.value);
            } else if constexpr (std::is_same_v<T, ReturnDecl>) {
                if (results == nullptr || node.value == nullptr) return;
                Type value = type_of(*node.value, context);
                if (results->size() == 1 && (*results)[0].unit) expect_fits("the result", Type::of(*(*results)[0].unit), value, *node.value);
            } else if constexpr (std::is_same_v<T, FunctionDecl>) {
                check_function(node, context.info, *context.scope);
            } else if constexpr (std::is_same_v<T, SequenceDecl>) {
                check_sequence(node, context);
            }
        },
        s.node);
}

// What an open port keeps is a shared quantity of its domain; one flow goes with it, which follows.
void UnitChecker::check_open_port(const PortDecl& port, const Definition& domain, Context& context)
{
    const DomainDecl& d = *domain.as<DomainDecl>();
    const DomainMember* kept = nullptr;
    int flows = 0;
    for (const DomainMember& m : d.members) {
        if (m.kind == DomainMember::Kind::shared && m.name == port.open_name) kept = &m;
        flows += m.kind == DomainMember::Kind::zero_sum ? 1 : 0;
    }
    if (kept == nullptr || flows != 1) {
        set_.diagnostics.report(messages::not_a, port.open_span, port.open_name, "nothing that an open port can keep",
                                kept == nullptr ? fmt::format("a shared quantity of {}", domain.name) : "a quantity of a domain with one zero_sum quantity");
        return;
    }
    expect_fits(port.open_name, kept->unit ? Type::of(*kept->unit) : Type::unknown(), type_of(*port.open_value, context), *port.open_value);
}

void UnitChecker::check_block(const Block& block, Context& context, const std::vector<FunctionArgument>* results)
{
    for (const Statement* s : block) check_statement(*s, context, results);
}

void UnitChecker::check_function(const FunctionDecl& f, const ComponentInfo* info, const FileScope& scope)
{
    if (!f.body) return;
    Context context{info, &scope, {}};
    for (const FunctionArgument& a : f.arguments) context.locals[a.name] = a.unit ? Type::of(*a.unit) : Type::unknown();
    if (f.results.size() > 1)
        for (const FunctionArgument& r : f.results) context.locals[r.name] = r.unit ? Type::of(*r.unit) : Type::unknown();
    check_block(*f.body, context, &f.results);
    if (f.results.size() <= 1 && !always_returns(*f.body))
        set_.diagnostics.report(messages::function_no_result, f.name_span, f.name).mend("end it with a return that holds whatever was not returned before");
}

void UnitChecker::check(const Definition& d)
{
    if (!checked_.insert(&d).second) return;
    if (d.as<ComponentDecl>() != nullptr || d.as<FluidDecl>() != nullptr) {
        const ComponentInfo* info = set_.info(d);
        const Block& body = d.as<ComponentDecl>() != nullptr ? d.as<ComponentDecl>()->body : d.as<FluidDecl>()->body;
        Context context{info, d.scope, {}};
        check_block(body, context, nullptr);
        const auto& takes = d.as<ComponentDecl>() != nullptr ? d.as<ComponentDecl>()->takes : d.as<FluidDecl>()->takes;
        if (const auto* entry = d.as<ComponentDecl>(); entry != nullptr && entry->entry) {
            check_kind_use(takes[0], context, false);
            return;
        }
        for (const KindUse& use : takes) {
            const Definition* base = set_.find(*d.scope, use.kind, true);
            if (base == nullptr) continue;
            const ComponentInfo* target = set_.info(*base);
            for (const NamedValue& v : use.values) {
                if (v.put != nullptr) continue;  // looked at when the model is put together
                Type declared = type_of_steps(target, *base->scope, v.path, 0, context);
                expect_fits(text_of(v.path), declared, type_of(*v.value, context), *v.value);
            }
        }
    } else if (const auto* fluid = d.as<FluidUseDecl>()) {
        Context context{nullptr, d.scope, {}};
        check_kind_use(fluid->kind, context, true);
    } else if (const auto* domain = d.as<DomainDecl>()) {
        check_domain(*domain, *d.scope);
    } else if (const auto* f = d.as<FunctionDecl>()) {
        check_function(*f, nullptr, *d.scope);
    } else if (const auto* q = d.as<QuantityDecl>()) {
        Context context{nullptr, d.scope, {}};
        check_quantity(*q, context);
    } else if (const auto* catalogue = d.as<CatalogueDecl>()) {
        const Definition* base = set_.find(*d.scope, catalogue->base);
        if (base != nullptr && base->as<ComponentDecl>() == nullptr)
            set_.diagnostics.report(messages::not_a, catalogue->base[0].span, base->name, base->kind_text(), "a component that the entries fit");
        for (const Definition* entry : d.entries) {
            check(*entry);
            const KindUse& use = entry->as<ComponentDecl>()->takes[0];
            const Definition* kind = set_.find(*d.scope, use.kind, true);
            if (base != nullptr && base->as<ComponentDecl>() != nullptr && kind != nullptr && kind->as<ComponentDecl>() != nullptr)
                check_slot(*base, *entry, use.span);
        }
    }
}

void UnitChecker::check(const FileScope& file)
{
    for (const Definition* d : file.definitions) check(*d);
    for (const FileScope* used : file.used_files) check(*used);
    for (const auto& [name, package] : file.prefixes)
        for (const auto& [n, d] : package->names) check(*d);
}

}  // namespace netloop

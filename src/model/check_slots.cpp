// SPDX-License-Identifier: Apache-2.0
// Whether a component fits a slot: it needs at least the ports, params and signals of what the slot asks for; in the place of a part, the ports and signals.
#include <algorithm>

#include "model/check_units.hpp"

namespace netloop {

bool UnitChecker::check_slot(const Definition& base, const Definition& d, Span span, bool joints_only)
{
    const ComponentInfo *wanted = set_.info(base), *offered = set_.info(d);
    if (wanted == nullptr || offered == nullptr) return false;
    if (std::find(offered->ancestry.begin(), offered->ancestry.end(), &base) != offered->ancestry.end()) return true;
    bool fits = true;
    auto refuse = [&](const std::string& what, Span where) {
        set_.diagnostics.report(messages::slot_unfit, span, d.full_name, joints_only ? "in the place of a" : "a slot for", base.full_name, what)
            .note(where, fmt::format("'{}' asks for it here", base.full_name))
            .mend(joints_only ? fmt::format("a component in the place of this part needs at least the ports, inputs and outputs of '{}'", base.full_name)
                              : fmt::format("a component for this slot needs at least the ports, params and signals of '{}'", base.full_name));
        fits = false;
    };
    for (const std::string& name : wanted->member_names) {
        const Member &need = *wanted->find(name), *have = offered->find(name);
        if (const auto* port = need.statement->as<PortDecl>(); port != nullptr && !need.is_port_fluid) {
            const auto* other = have != nullptr ? have->statement->as<PortDecl>() : nullptr;
            if (other == nullptr || have->is_port_fluid)
                refuse(fmt::format("it has no port '{}'", name), port->name_span);
            else if (set_.find(*need.scope, port->domain, true) != set_.find(*have->scope, other->domain, true))
                refuse(fmt::format("its port '{}' is {}, not {}", name, text_of(other->domain), text_of(port->domain)), port->name_span);
            continue;
        }
        const auto* q = need.statement->as<QuantityDecl>();
        bool visible = q != nullptr &&
                       (q->kind == QuantityKind::param || q->kind == QuantityKind::option || q->kind == QuantityKind::input || q->kind == QuantityKind::output);
        if (!visible || (joints_only && (q->kind == QuantityKind::param || q->kind == QuantityKind::option))) continue;
        const char* word = q->kind == QuantityKind::param    ? "param"
                           : q->kind == QuantityKind::option ? "option"
                           : q->kind == QuantityKind::input  ? "input"
                                                             : "output";
        const auto* other = have != nullptr ? have->statement->as<QuantityDecl>() : nullptr;
        if (other == nullptr || other->kind != q->kind) {
            refuse(fmt::format("it has no {} '{}'", word, name), q->name_span);
            continue;
        }
        Type a = declared_type(*q, wanted, *need.scope), b = declared_type(*other, offered, *have->scope);
        if (a.unit && b.unit && !a.dimension.is_open() && !b.dimension.is_open() && !(a.unit->dimension == b.unit->dimension))
            refuse(fmt::format("its {} '{}' is in [{}], not [{}]", word, name, b.unit->text, a.unit->text), q->name_span);
    }
    return fits;
}

void UnitChecker::check_put(const ComponentInfo& info, const Path& path, const KindUse& use, const FileScope& use_scope)
{
    const ComponentInfo* at = &info;
    for (std::size_t i = 0; i < path.size(); ++i) {
        const Member* m = at->find(path[i].name);
        if (m == nullptr) {
            set_.diagnostics.report(messages::unknown_name, path[i].span, path[i].name, fmt::format("'{}'", at->definition->full_name))
                .mend(mend_of_name(*at, path[i].name));
            return;
        }
        const auto* slot = m->statement->as<SlotDecl>();
        if (i + 1 == path.size()) {
            const auto* single = m->statement->as<PartDecl>();
            if (slot == nullptr && (single == nullptr || single->size != nullptr)) {
                set_.diagnostics.report(messages::not_a, path[i].span, path[i].name, single != nullptr ? "an array of parts" : "no slot and no part",
                                        "a place for a component");
                return;
            }
            Context context{&info, &use_scope, {}};
            check_kind_use(use, context, false, path[i].name);
            const Definition *base = set_.find(*m->scope, slot != nullptr ? slot->base : single->kind.kind), *d = set_.find(use_scope, use.kind, true);
            if (base != nullptr && d != nullptr && base->as<ComponentDecl>() != nullptr && d->as<ComponentDecl>() != nullptr)
                check_slot(*base, *d, use.span, slot == nullptr);
            return;
        }
        const auto* part = m->statement->as<PartDecl>();
        const Path* kind = part != nullptr ? &part->kind.kind : slot != nullptr ? &slot->kind.kind : nullptr;
        const Definition* d = kind != nullptr ? set_.find(*m->scope, *kind, true) : nullptr;
        if (d == nullptr || d->as<ComponentDecl>() == nullptr) {
            set_.diagnostics.report(messages::not_a, path[i].span, path[i].name, "no part", "a part that holds a slot");
            return;
        }
        at = set_.info(*d);
    }
}

}  // namespace netloop

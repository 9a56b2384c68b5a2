// SPDX-License-Identifier: Apache-2.0
// Domains, what their flows carry, and the fluids that names stand for, as far as definitions alone tell.
#include <algorithm>

#include "model/check_units.hpp"

namespace netloop {

// `leaving(inlet.h)` and its like: the unit of what is carried; of flow() that times the unit of the flow.
Type UnitChecker::type_of_carried(const Expr& e, const std::string& name, Context& context)
{
    const Definition* domain = nullptr;
    if (e.kind == ExprKind::path && e.path.size() > 1 && e.args.empty() && context.info != nullptr) {
        Expr port;
        port.kind = ExprKind::path;
        port.path = Path(e.path.begin(), e.path.end() - 1);
        domain = domain_of_port(set_, *context.info, port);
    }
    if (domain == nullptr || domain->as<DomainDecl>() == nullptr) {
        set_.diagnostics.report(messages::not_a, e.span, brief(e), "nothing that a port carries", "a carried quantity such as inlet.h");
        return Type::unknown();
    }
    const auto& members = domain->as<DomainDecl>()->members;
    auto find = [&](const std::string& wanted) {
        return std::find_if(members.begin(), members.end(), [&](const DomainMember& m) { return m.name == wanted; });
    };
    auto carried = find(e.path.back().name);
    if (carried == members.end() || carried->kind != DomainMember::Kind::carried) {
        std::vector<std::string> names;
        for (const DomainMember& m : members)
            if (m.kind == DomainMember::Kind::carried) names.push_back(m.name);
        set_.diagnostics.report(messages::unknown_name, e.path.back().span, e.path.back().name, fmt::format("what domain '{}' carries", domain->name))
            .mend(names.empty() ? "" : fmt::format("it carries {}", fmt::join(names, ", ")));
        return Type::unknown();
    }
    auto along = find(carried->along);
    if (!carried->unit) return Type::unknown();
    if (name != "flow") return Type::of(*carried->unit);
    return along != members.end() && along->unit ? Type::of(carried->unit->dimension * along->unit->dimension) : Type::unknown();
}

// The kind of the fluid of a file that all but the last step of a path name: `fluids.air` of `fluids.air.cp`.
const Definition* UnitChecker::file_fluid_kind(const Path& path, const FileScope& scope)
{
    if (path.size() < 2) return nullptr;
    const Definition* d = set_.find(scope, Path(path.begin(), path.end() - 1), true);
    const auto* use = d != nullptr ? d->as<FluidUseDecl>() : nullptr;
    const Definition* kind = use != nullptr ? set_.find(*d->scope, use->kind.kind, true) : nullptr;
    return kind != nullptr && kind->as<FluidDecl>() != nullptr ? kind : nullptr;
}

// The kind of the fluid that a port or a fluid statement of a component names.
const Definition* UnitChecker::fluid_kind(const Member& m)
{
    const Definition* fluid = nullptr;
    if (m.is_port_fluid) {
        const auto* port = m.statement->as<PortDecl>();
        const Definition* domain = set_.find(*m.scope, port->domain, true);
        if (domain != nullptr && domain->as<DomainDecl>() != nullptr)
            for (const DomainMember& d : domain->as<DomainDecl>()->members)
                if (d.kind == DomainMember::Kind::fluid) fluid = set_.find(*domain->scope, d.fluid_kind);
    } else if (const auto* use = m.statement->as<FluidUseDecl>()) {
        fluid = set_.find(*m.scope, use->kind.kind);
    }
    return fluid != nullptr && fluid->as<FluidDecl>() != nullptr ? fluid : nullptr;
}

void UnitChecker::check_domain(const DomainDecl& domain, const FileScope& scope)
{
    Context context{nullptr, &scope, {}};
    const std::string* fluid = nullptr;
    for (const DomainMember& m : domain.members)
        if (m.kind == DomainMember::Kind::fluid) fluid = &m.name;
    for (const DomainMember& m : domain.members) {
        for (const Expr* size : {m.usual, m.small}) {
            if (size == nullptr) continue;
            if (size->kind != ExprKind::number || !(size->number > 0))
                set_.diagnostics.report(messages::bad_value, size->span, fmt::format("'{}': a positive number with its unit is expected", brief(*size)));
            expect_fits(m.name, Type::of(*m.unit), type_of(*size, context), *size);
        }
        for (const Expr* end : {m.low, m.high})
            if (end != nullptr) expect_fits(m.name, Type::of(*m.unit), type_of(*end, context), *end);
        if (m.kind != DomainMember::Kind::carried) continue;
        auto along = std::find_if(domain.members.begin(), domain.members.end(), [&](const DomainMember& o) { return o.name == m.along; });
        if (along == domain.members.end() || along->kind != DomainMember::Kind::zero_sum)
            set_.diagnostics.report(messages::not_a, m.span, m.along, "no zero-sum quantity of the domain", "the flow that carries it");
        const Expr* c = m.condition;
        bool option = c != nullptr && c->kind == ExprKind::path && c->path.size() == 2 && fluid != nullptr && c->path[0].name == *fluid;
        if (c != nullptr && !option)
            set_.diagnostics.report(messages::bad_value, c->span, fmt::format("'{}': an option of the fluid is expected, such as oil.thermal", brief(*c)));
    }
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Which fluid fills each circuit: found along the joints from the part that is given it; branches that wait for that; fluids of files.
#include <algorithm>

#include "model/instantiator.hpp"

namespace netloop {

std::optional<InstanceId> Instantiator::fluid_of(InstanceId id, const std::string& name)
{
    const Member* m = instances_[id].info->find(name);
    if (m == nullptr) return std::nullopt;
    const InstanceMember& held = instances_[id].members[m->slot];
    if (held.kind != InstanceMember::Kind::fluid) return std::nullopt;
    if (!m->is_port_fluid) return held.first;
    auto it = fluid_of_slot_.find(fluid_slots_.find(held.first));
    return it == fluid_of_slot_.end() ? std::nullopt : std::optional(it->second);
}

InstanceId Instantiator::file_fluid(const Definition& d)
{
    auto it = file_fluids_.find(&d);
    if (it != file_fluids_.end()) return it->second;
    const auto& use = *d.as<FluidUseDecl>();
    const Definition* kind = set_.find(*d.scope, use.kind.kind);
    if (kind == nullptr || kind->as<FluidDecl>() == nullptr) throw StatementGivenUp{};
    if (!file_fluids_making_.insert(&d).second) give_up(messages::circular_definition, use.name_span, "fluid " + d.name);
    std::vector<Binding> bindings;
    for (const NamedValue& v : use.kind.values) bindings.push_back({v.path, v.value, Env{kNoNode, d.scope, nullptr, nullptr, true}, false, nullptr});
    InstanceId made = make_instance(*kind, 0, d.full_name, std::move(bindings), use.name_span, true);
    instances_[made].constant = true;
    file_fluids_making_.erase(&d);
    return file_fluids_[&d] = made;
}

// The fluid that a value names: one declared here, or one of a file (`fluids.water`).
std::optional<InstanceId> Instantiator::fluid_given(const Expr& value, const Env& env)
{
    if (value.kind != ExprKind::path) return std::nullopt;
    if (value.path.size() == 1 && env.instance != kNoNode) {
        if (const Member* m = instances_[env.instance].info->find(value.path[0].name)) {
            const InstanceMember& held = instances_[env.instance].members[m->slot];
            bool here = m->statement->as<FluidUseDecl>() != nullptr && held.kind == InstanceMember::Kind::fluid;
            return here ? std::optional(held.first) : std::nullopt;
        }
    }
    const Definition* d = set_.find(*env.scope, value.path, true);
    if (d == nullptr || d->as<FluidUseDecl>() == nullptr) return std::nullopt;
    return file_fluid(*d);
}

void Instantiator::find_fluids()
{
    fluid_of_slot_.clear();
    for (const FluidGift& gift : fluid_gifts_) fluid_of_slot_.emplace(fluid_slots_.find(gift.slot), gift.fluid);
}

// Parts that stand in a branch on an option of the fluid; true if some were made, which may bring further branches and circuits.
bool Instantiator::make_deferred_branches()
{
    std::vector<DeferredBranch> now;
    now.swap(deferred_);
    std::vector<DeferredBranch> open;
    for (const DeferredBranch& d : now) {
        const auto& branch = *d.item.statement->as<IfDecl>();
        auto condition = constant_of(*branch.condition, d.env, nullptr);
        if (!condition) {
            open.push_back(d);
            continue;
        }
        in_fluid_branch_ = true;
        for (Pass pass : {Pass::ports_and_fluids, Pass::parts, Pass::named_joints, Pass::joints}) {
            for (const Statement* s : condition->number != 0 ? branch.then_block : branch.else_block) {
                try {
                    walk({s, d.item.scope}, d.env, [&](const BodyItem& item, const Env& env) {
                        bool whole = item.statement->as<PartDecl>() != nullptr;  // what a part holds inside is its own affair
                        in_fluid_branch_ = !whole;
                        make_structure(d.instance, item, env, pass);
                        in_fluid_branch_ = true;
                    });
                } catch (const StatementGivenUp&) {
                }
            }
        }
        in_fluid_branch_ = false;
    }
    bool made = open.size() < now.size();
    deferred_.insert(deferred_.end(), open.begin(), open.end());
    return made;
}

void Instantiator::settle_fluids()
{
    do find_fluids();
    while (make_deferred_branches());
    report_fluids();
}

void Instantiator::report_fluids()
{
    auto circuit = [&](std::uint32_t root) {
        std::string text;
        int n = 0;
        for (const PortInstance& p : ports_) {
            if (p.fluid_slot == kNoNode || fluid_slots_.find(p.fluid_slot) != root) continue;
            if (n++ < 4) text += (text.empty() ? "'" : ", '") + p.path + "'";
        }
        return n > 4 ? text + fmt::format(" and {} more ports", n - 4) : text;
    };
    std::map<std::uint32_t, Span> given_at;
    for (const FluidGift& gift : fluid_gifts_) {
        std::uint32_t root = fluid_slots_.find(gift.slot);
        auto [it, fresh] = fluid_of_slot_.emplace(root, gift.fluid);
        // one of a library, where a name of one's own may have been meant: what fills a circuit is never chosen in silence
        for (const auto& [definition, instance] : file_fluids_)
            if (instance == gift.fluid && set_.sources.is_shipped(definition->as<FluidUseDecl>()->name_span.file) && !set_.sources.is_shipped(gift.span.file))
                set_.diagnostics.report(messages::library_fluid, gift.span, circuit(root), definition->full_name);
        if (fresh)
            given_at[root] = gift.span;
        else if (it->second != gift.fluid)
            set_.diagnostics.report(messages::two_fluids, gift.span, circuit(root), instances_[it->second].path, instances_[gift.fluid].path)
                .note(given_at[root], "the first one is given here");
    }
    std::set<std::uint32_t> reported;
    for (const PortInstance& p : ports_) {
        if (p.fluid_slot == kNoNode) continue;
        std::uint32_t root = fluid_slots_.find(p.fluid_slot);
        auto it = fluid_of_slot_.find(root);
        if (it == fluid_of_slot_.end()) {
            if (reported.insert(root).second)
                set_.diagnostics.report(messages::no_fluid, instances_[p.instance].span, circuit(root))
                    .mend(p.domain->full_name.starts_with("gases.")
                              ? "give it to one part of the circuit: fluid air = fluids.DryAir(); part open : gases.OpenAir(medium = air)"
                              : "give it to one part of the circuit: fluid iso46 = fluids.MineralOil(); part tank : hydraulics.Tank(oil = iso46)");
            continue;
        }
        const Instance& fluid = instances_[it->second];
        for (const DomainMember& m : p.domain->as<DomainDecl>()->members) {
            if (m.kind == DomainMember::Kind::fluid) {
                const Definition* kind = set_.find(*p.domain->scope, m.fluid_kind);
                const auto& line = fluid.info->ancestry;
                if (kind != nullptr && std::find(line.begin(), line.end(), kind) == line.end() && reported.insert(root).second)
                    set_.diagnostics.report(messages::wrong_fluid, given_at[root], fluid.info->definition->name, kind->name, p.path);
            }
        }
    }
}

}  // namespace netloop

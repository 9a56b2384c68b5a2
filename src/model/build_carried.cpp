// SPDX-License-Identifier: Apache-2.0
// What travels with a flow: what each port sends out, what its joint offers it, and what is transported.
//
// A port with the flow m into its component transports p(m)*mix - p(-m)*own, where p(m) = (m + sqrt(m^2 + e^2))/2 is the part of the
// flow that goes in and p(-m) that which goes out; p(m) - p(-m) = m, so what the ports of a joint transport adds up to zero for any e.
// Joints through own ports of components are taken apart first: only ports of components that hold no joint to it themselves mix.
#include <algorithm>

#include "model/instantiator.hpp"

namespace netloop {
namespace {

constexpr double kSmallFlow = 1e-6;  // SI; where the domain states none

std::vector<const DomainMember*> carried_members(const Definition& domain)
{
    std::vector<const DomainMember*> list;
    for (const DomainMember& m : domain.as<DomainDecl>()->members)
        if (m.kind == DomainMember::Kind::carried) list.push_back(&m);
    return list;
}

}  // namespace

bool Instantiator::is_carried(const PortInstance& port, const DomainMember& member)
{
    if (member.condition == nullptr) return true;
    if (port.fluid_slot == kNoNode) return false;
    auto fluid = fluid_of_slot_.find(fluid_slots_.find(port.fluid_slot));
    const Expr& asked = *member.condition;
    if (fluid == fluid_of_slot_.end() || asked.kind != ExprKind::path || asked.path.size() != 2) return false;
    const Instance& instance = instances_[fluid->second];
    const Member* option = instance.info->find(asked.path[1].name);
    return option != nullptr && instance.members[option->slot].number != 0;
}

// The ports that flow can reach from a connector, through own ports of components.
std::vector<std::uint32_t> Instantiator::ports_behind(std::uint32_t connector)
{
    std::vector<std::uint32_t> ports, waiting{connector};
    std::set<std::uint32_t> seen;
    while (!waiting.empty()) {
        std::uint32_t from = waiting.back();
        waiting.pop_back();
        auto joint = joined_.find(connectors_.find(from));
        if (joint == joined_.end() || !joint_spans_.contains(from) || !seen.insert(joint->first).second) continue;
        for (std::uint32_t c : joint->second) {
            if (c == from) continue;
            if (is_leaf(c / 2) && c % 2 == 0)
                ports.push_back(c / 2);
            else
                waiting.push_back(c ^ 1u);
        }
    }
    return ports;
}

// A port that its component joins to nothing inside: what leaves through it, the component's equations say.
bool Instantiator::is_leaf(std::uint32_t port)
{
    return !joined_.contains(connectors_.find(2 * port + 1));
}

void Instantiator::group_ports()
{
    for (std::uint32_t c = 0; c < 2 * ports_.size(); ++c)
        if (joint_spans_.contains(c)) joined_[connectors_.find(c)].push_back(c);
    group_.resize(ports_.size(), kNoNode);
    for (std::uint32_t p = 0; p < ports_.size(); ++p) {
        if (!is_leaf(p) || group_[p] != kNoNode || carried_members(*ports_[p].domain).empty()) continue;
        std::vector<std::uint32_t> members = ports_behind(2 * p);
        members.push_back(p);
        std::sort(members.begin(), members.end());
        members.erase(std::unique(members.begin(), members.end()), members.end());
        for (std::uint32_t m : members) group_[m] = members[0];
        groups_[members[0]] = std::move(members);
    }
}

void Instantiator::make_carried_quantities()
{
    for (std::uint32_t i = 0; i < ports_.size(); ++i) {
        PortInstance& p = ports_[i];
        for (const DomainMember* m : carried_members(*p.domain)) {
            p.stated.push_back(false);
            if (is_carried(p, *m)) model_->quantities[graph_[through(i, static_cast<std::uint32_t>(p.stated.size() - 1))].a].carries = true;
            if (!is_carried(p, *m) || group_[i] == kNoNode) {
                p.leaving.push_back(kNoNode);
                continue;
            }
            p.leaving.push_back(static_cast<QuantityId>(model_->quantities.size()));
            FlatQuantity q;
            q.path = p.path + "." + m->name + ".leaving";
            q.role = QuantityRole::carried;
            if (m->unit) q.unit = *m->unit;
            if (m->usual != nullptr) q.usual = std::abs(need_constant(*m->usual, {kNoNode, p.domain->scope, nullptr, nullptr, true}, "a usual size"));
            q.doc = fmt::format("{} of what leaves here", m->doc.empty() ? m->name : m->doc);
            q.origin = {p.instance, p.span};
            model_->quantities.push_back(std::move(q));
        }
    }
}

// --- the parts of a flow ------------------------------------------------------------------------------------------

NodeId Instantiator::through(std::uint32_t port, std::uint32_t member)
{
    const auto& domain = *ports_[port].domain;
    const std::string& along = carried_members(domain)[member]->along;
    std::uint32_t offset = 0;
    for (const DomainMember& m : domain.as<DomainDecl>()->members) {
        if (m.kind != DomainMember::Kind::shared && m.kind != DomainMember::Kind::zero_sum) continue;
        if (m.name == along) return graph_.quantity(ports_[port].first + offset);
        ++offset;
    }
    throw StatementGivenUp{};  // the check of the domain has said so
}

static double small_flow(const Definition& domain, const std::string& along)
{
    for (const DomainMember& m : domain.as<DomainDecl>()->members)
        if (m.name == along && m.small != nullptr && m.small->kind == ExprKind::number) return m.small->number;
    return kSmallFlow;
}

// p(m) with m into the component, or out of it: never negative, however the sum is rounded.
NodeId Instantiator::directed(std::uint32_t port, std::uint32_t member, bool inward)
{
    Graph& g = graph_;
    double e = small_flow(*ports_[port].domain, carried_members(*ports_[port].domain)[member]->along);
    NodeId m = through(port, member), size = g.unary(Op::sqrt, g.add(g.mul(m, m), g.constant(e * e)));
    return g.mul(g.constant(0.5), inward ? g.add(size, m) : g.sub(size, m));
}

NodeId Instantiator::mix_of(const std::vector<std::uint32_t>& ports, std::uint32_t member)
{
    if (ports.size() == 1) return graph_.quantity(ports_[ports[0]].leaving[member]);
    NodeId sum = graph_.constant(0), weight = graph_.constant(0);
    for (std::uint32_t p : ports) {
        NodeId out = directed(p, member, false);
        sum = graph_.add(sum, graph_.mul(out, graph_.quantity(ports_[p].leaving[member])));
        weight = graph_.add(weight, out);
    }
    return graph_.div(sum, weight);
}

NodeId Instantiator::leaving(std::uint32_t port, std::uint32_t member)
{
    if (group_[port] != kNoNode) return graph_.quantity(ports_[port].leaving[member]);
    return mix_of(ports_behind(2 * port + 1), member);
}

NodeId Instantiator::entering(std::uint32_t port, std::uint32_t member)
{
    if (group_[port] == kNoNode) {
        std::vector<std::uint32_t> outside = ports_behind(2 * port);
        return outside.empty() ? leaving(port, member) : mix_of(outside, member);
    }
    const auto& group = groups_.at(group_[port]);
    if (group.size() == 1) return leaving(port, member);
    if (group.size() == 2) return leaving(group[0] == port ? group[1] : group[0], member);
    auto [it, fresh] = mixes_.emplace(std::pair(group[0], member), static_cast<QuantityId>(model_->quantities.size()));
    if (fresh) {
        FlatQuantity q = model_->quantities[ports_[group[0]].leaving[member]];
        q.path = ports_[group[0]].path + "." + carried_members(*ports_[port].domain)[member]->name + ".mix";
        q.doc = "what the joint offers to all its ports";
        model_->quantities.push_back(std::move(q));
    }
    return graph_.quantity(it->second);
}

NodeId Instantiator::passing(std::uint32_t port, std::uint32_t member)
{
    NodeId in = directed(port, member, true), out = directed(port, member, false);
    NodeId share = graph_.div(in, graph_.add(in, out));
    NodeId own = leaving(port, member), offered = entering(port, member);
    return graph_.add(own, graph_.mul(share, graph_.sub(offered, own)));
}

NodeId Instantiator::transported(std::uint32_t port, std::uint32_t member)
{
    if (group_[port] == kNoNode) {
        NodeId sum = graph_.constant(0);
        for (std::uint32_t p : ports_behind(2 * port + 1)) sum = graph_.add(sum, transported(p, member));
        return sum;
    }
    return graph_.sub(graph_.mul(directed(port, member, true), entering(port, member)), graph_.mul(directed(port, member, false), leaving(port, member)));
}

// --- in expressions -----------------------------------------------------------------------------------------------

Instantiator::CarriedAt Instantiator::carried_at(const Expr& e, const Env& env)
{
    Expr port;
    port.kind = ExprKind::path;
    port.span = e.span;
    port.path = Path(e.path.begin(), e.path.end() - 1);
    auto c = e.path.size() > 1 ? connector(port, env) : std::nullopt;
    if (!c) give_up(messages::not_a, e.span, brief(e), "nothing that a port carries", "a carried quantity such as inlet.h");
    CarriedAt at;
    const Member* own = port.path.size() == 1 ? instances_[env.instance].info->find(port.path[0].name) : nullptr;
    at.joint = own != nullptr && instances_[env.instance].members[own->slot].kind == InstanceMember::Kind::joint;
    at.port = *c / 2;
    const PortInstance& p = ports_[at.port];
    auto members = carried_members(*p.domain);
    for (; at.member < members.size(); ++at.member)
        if (members[at.member]->name == e.path.back().name) break;
    if (at.member == members.size())
        give_up(messages::unknown_name, e.path.back().span, e.path.back().name, fmt::format("what domain '{}' carries", p.domain->name));
    if (!is_carried(p, *members[at.member]))
        give_up(messages::bad_value, e.span,
                fmt::format("the fluid of '{}' does not carry '{}' ({})", p.path, e.path.back().name, brief(*members[at.member]->condition)), {}, {},
                fmt::format("put it into a branch: if {} {{ ... }}, or choose the option of the fluid", brief(*members[at.member]->condition)));
    return at;
}

Value Instantiator::build_carried(const Expr& e, const std::string& name, const Env& env)
{
    if (e.args.size() != 1 || e.args[0]->kind != ExprKind::path) throw StatementGivenUp{};  // reported by the unit check
    CarriedAt at = carried_at(*e.args[0], env);
    std::uint32_t port = at.port;
    Value v;
    if (at.joint) {
        if (name == "flow")
            give_up(messages::unexpected_here, e.span, fmt::format("'{}', which each port of a joint has for itself,", brief(e)), {}, {},
                    "name one of the ports");
        // any port of the joint leads to the group that mixes there
        std::vector<std::uint32_t> leaves = is_leaf(port) ? std::vector{port} : ports_behind(2 * port + 1);
        if (leaves.empty()) leaves = ports_behind(2 * port);
        if (leaves.empty()) give_up(messages::bad_value, e.span, fmt::format("nothing flows in the joint of '{}'", brief(e)));
        std::uint32_t any = leaves[0];
        const auto& all = groups_.at(group_[any]);
        v.node = all.size() > 2 ? entering(any, at.member) : mix_of(all, at.member);
        return v;
    }
    if (name == "leaving") {
        if (env.instance == ports_[port].instance) ports_[port].stated[at.member] = true;
        v.node = leaving(port, at.member);
    } else if (name == "entering") {
        v.node = entering(port, at.member);
    } else if (name == "passing") {
        v.node = passing(port, at.member);
    } else {
        v.node = transported(port, at.member);
    }
    return v;
}

// --- equations and lets -------------------------------------------------------------------------------------------

void Instantiator::make_mixes()
{
    for (const auto& [key, quantity] : mixes_) {
        const auto& [group, member] = key;
        auto joint = joined_.find(connectors_.find(2 * group));
        Origin origin{joint_owner_[joint->second[0]], joint_spans_[joint->second[0]]};
        model_->equations.push_back({graph_.quantity(quantity), mix_of(groups_.at(group), member), EquationKind::joint_mix, origin});
    }
}

// What passes each port is recorded under the name of the carried quantity. A port whose component says nothing of what leaves is told.
void Instantiator::make_carried_views()
{
    for (std::uint32_t i = 0; i < ports_.size(); ++i) {
        auto members = carried_members(*ports_[i].domain);
        for (std::uint32_t k = 0; k < members.size(); ++k) {
            if (ports_[i].leaving[k] == kNoNode) continue;
            const PortInstance& p = ports_[i];
            if (!p.stated[k]) {
                set_.diagnostics.report(messages::leaving_unsaid, p.span, p.path, members[k]->name, instances_[p.instance].info->definition->full_name)
                    .mend(fmt::format("add to the component: leaving({0}.{1}) = ..., or for a passage: leaving({0}.{1}) = entering(other.{1})",
                                      p.path.substr(p.path.rfind('.') + 1), members[k]->name));
                continue;
            }
            FlatView view;
            view.path = p.path + "." + members[k]->name;
            view.value = passing(i, k);
            if (members[k]->unit) view.unit = *members[k]->unit;
            view.doc = members[k]->doc;
            view.origin = {p.instance, p.span};
            model_->views.push_back(std::move(view));
        }
    }
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "compile/variants.hpp"

#include <algorithm>
#include <map>
#include <set>

#include "algebra/differentiate.hpp"
#include "compile/forms.hpp"
#include "compile/matching.hpp"
#include "compile/passes.hpp"

namespace netloop {
namespace {

// Of an equation as its switches stand: the branch that holds.
class Branches {
public:
    Branches(const ReducedSystem& r) : g_(r.system.graph())
    {
        const auto& switches = r.system.flat->switches;
        for (std::uint32_t i = 0; i < switches.size(); ++i) index_.emplace(switches[i], i);
    }
    void collect(NodeId root, std::set<std::uint32_t>& switches) const
    {
        const Node& n = g_[root];
        auto s = n.op == Op::select ? index_.find(n.a) : index_.end();
        if (s == index_.end()) return;
        switches.insert(s->second);
        collect(n.b, switches);
        collect(n.c, switches);
    }
    NodeId taken(NodeId root, const std::map<std::uint32_t, bool>& values) const
    {
        for (;;) {
            const Node& n = g_[root];
            auto s = n.op == Op::select ? index_.find(n.a) : index_.end();
            auto v = s == index_.end() ? values.end() : values.find(s->second);
            if (v == values.end()) return root;
            root = v->second ? n.b : n.c;
        }
    }

private:
    const Graph& g_;
    std::map<NodeId, std::uint32_t> index_;
};

}  // namespace

std::vector<std::uint32_t> find_structural_switches(const ReducedSystem& r)
{
    constexpr std::size_t kAllCombinations = 6;  // of more switches in a block only some are looked at
    Branches branches(r);
    UnknownIndex index(r);
    std::set<std::uint32_t> structural;
    for (const SolveBlock& block : r.blocks) {
        std::set<std::uint32_t> switches;
        for (std::uint32_t e : block.equations) branches.collect(r.equations[e].residual, switches);
        if (switches.empty()) continue;
        std::map<std::uint32_t, std::uint32_t> column;
        for (std::uint32_t u : block.unknowns) column.emplace(u, static_cast<std::uint32_t>(column.size()));
        auto settles = [&](const std::map<std::uint32_t, bool>& values) {
            Adjacency rows;
            for (std::uint32_t e : block.equations) {
                std::vector<std::uint32_t> columns;
                for (const Variable& v : r.system.variables(branches.taken(r.equations[e].residual, values))) {
                    std::uint32_t u = index.of(v);
                    auto c = u == kUnmatched ? column.end() : column.find(u);
                    if (c != column.end()) columns.push_back(c->second);
                }
                rows.add_row(columns);
            }
            return maximum_matching(rows, static_cast<std::uint32_t>(column.size())).size == rows.n_rows();
        };
        std::vector<std::uint32_t> list(switches.begin(), switches.end());
        bool sound = true;
        auto look = [&](auto&& value_of) {
            std::map<std::uint32_t, bool> values;
            for (std::size_t k = 0; k < list.size(); ++k) values[list[k]] = value_of(k);
            sound = sound && settles(values);
        };
        if (list.size() <= kAllCombinations) {
            for (std::size_t mask = 0; mask < (1u << list.size()); ++mask) look([&](std::size_t k) { return (mask >> k & 1) != 0; });
        } else {
            for (bool base : {false, true}) {
                look([&](std::size_t) { return base; });
                for (std::size_t other = 0; other < list.size(); ++other) look([&](std::size_t k) { return (k == other) != base; });
            }
        }
        if (!sound) structural.insert(list.begin(), list.end());
    }
    return {structural.begin(), structural.end()};
}

void fix_switches(EquationSystem& system, const std::vector<std::uint32_t>& which, const std::vector<char>& values)
{
    Graph& g = system.graph();
    std::map<NodeId, bool> instead;
    for (std::size_t k = 0; k < which.size(); ++k) instead[system.flat->switches[which[k]]] = values[k] != 0;
    std::vector<NodeId*> roots;
    for (FlatEquation& e : system.flat->equations) roots.push_back(&e.left), roots.push_back(&e.right);
    for (SystemEquation& e : system.equations)
        if (e.residual != kNoNode) roots.push_back(&e.residual);
    std::vector<NodeId> before;
    for (const FlatEquation& e : system.flat->equations) before.push_back(e.left);
    rewrite(g, roots, [&](NodeId id, const Node& n) {
        auto it = n.op == Op::select ? instead.find(n.a) : instead.end();
        return it == instead.end() ? id : it->second ? n.b : n.c;
    });
    for (SystemEquation& e : system.equations) e.branch = system.flat->equations[e.flat].left != before[e.flat];
}

std::string share_name(const EquationSystem& system, std::uint32_t condition)
{
    return "share of " + std::to_string(condition) + ", " + system.conditions[condition].text;
}

void slide_along(EquationSystem& system, std::uint32_t condition)
{
    Graph& g = system.graph();
    FlatModel& flat = *system.flat;
    Condition& c = system.conditions[condition];
    FlatQuantity made;
    made.path = share_name(system, condition);
    made.start = g.constant(0.5);
    made.usual = 1;
    made.origin = c.origin;
    auto q = static_cast<QuantityId>(flat.quantities.size());
    flat.quantities.push_back(made);
    Resolution own;
    own.representative = q;
    system.resolutions.push_back(own);
    system.equations.push_back({kNoNode, static_cast<std::uint32_t>(flat.equations.size())});
    flat.equations.push_back({c.value, g.constant(0), EquationKind::equation, c.origin});
    NodeId share = g.quantity(q), one = g.constant(1), rest = g.sub(one, share);
    std::map<std::uint32_t, NodeId> instead{{condition, share}};
    for (const SameSurface& other : same_surface(system, condition)) {
        instead[other.condition] = other.with ? share : rest;
        system.conditions[other.condition].value = one;  // it turns with this one, when that is left
    }
    std::vector<NodeId*> roots;
    for (FlatEquation& e : flat.equations) roots.push_back(&e.left), roots.push_back(&e.right);
    for (FlatView& v : flat.views)
        if (!v.boolean) roots.push_back(&v.value);  // what is true or false stays so
    for (SystemEquation& e : system.equations)
        if (e.residual != kNoNode) roots.push_back(&e.residual);
    std::set<NodeId> between{share, rest};  // what may be neither 0 nor 1
    rewrite(g, roots, [&](NodeId id, const Node& n) -> NodeId {
        auto soft = [&](NodeId child) { return between.contains(child); };
        auto kept = [&](NodeId mixed) {
            if (!g.is_constant(mixed)) between.insert(mixed);
            return mixed;
        };
        switch (n.op) {
            case Op::mode:
                return instead.contains(n.a) ? instead[n.a] : id;
            case Op::logical_not:
                return soft(n.a) ? kept(g.sub(one, n.a)) : id;
            case Op::logical_and:
                return soft(n.a) || soft(n.b) ? kept(g.mul(n.a, n.b)) : id;
            case Op::logical_or:
                return soft(n.a) || soft(n.b) ? kept(g.sub(g.add(n.a, n.b), g.mul(n.a, n.b))) : id;
            case Op::select:
                return soft(n.a) ? g.add(n.c, g.mul(n.a, g.sub(n.b, n.c))) : id;
            default:
                return id;
        }
    });
    c.value = g.binary(Op::min, share, rest);
    c.kind = Condition::Kind::less;
}

Impact make_impact(ReducedSystem& r)
{
    Impact impact;
    if (std::none_of(r.equations.begin(), r.equations.end(), [](const ReducedEquation& e) { return e.differentiated > 0; })) return impact;
    Graph& g = r.system.graph();
    std::map<QuantityId, std::uint32_t> highest, column;
    for (const Variable& v : r.unknowns) highest[v.quantity] = std::max(highest[v.quantity], v.order);
    for (const auto& [quantity, order] : highest) {
        column[quantity] = static_cast<std::uint32_t>(impact.columns.size());
        impact.columns.push_back({quantity, order});
    }
    Gradients gradients(g, [&](const Node& n) -> std::uint32_t {
        if (n.op != Op::quantity) return kNoNode;
        auto h = highest.find(n.a);
        return h != highest.end() && h->second == n.b ? column[n.a] : kNoNode;
    });
    for (std::size_t e = 0; e < r.equations.size(); ++e) {
        if (r.equations[e].differentiated == 0) impact.rows.push_back({kNoNode, {}, r.equations[e].flat});
        Impact::Row& row = impact.rows.back();
        bool last = e + 1 == r.equations.size() || r.equations[e + 1].differentiated == 0;
        if (!last) {
            if (row.mismatch != kNoNode) row.below.push_back(row.mismatch);
            row.mismatch = r.equations[e].residual;
            continue;
        }
        for (const auto& [c, node] : gradients(r.equations[e].residual))
            impact.entries.push_back({static_cast<std::uint32_t>(impact.rows.size() - 1), c, node});
    }
    for (std::uint32_t i = 0; i < r.system.conditions.size(); ++i)
        for (const auto& [c, node] : gradients(r.system.conditions[i].value))
            if (impact.columns[c].order == 0) impact.conditions.push_back({i, c, node});
    return impact;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include <algorithm>

#include "algebra/differentiate.hpp"
#include "compile/passes.hpp"

namespace netloop {
namespace {

struct Leaf {
    Variable variable;
    int sign = 1;
};

class AliasRemoval {
public:
    explicit AliasRemoval(EquationSystem& s) : s_(s), g_(s.graph()), derivative_(s.graph()) {}

    void run()
    {
        for (SystemEquation& e : s_.equations) {
            const FlatEquation& flat = s_.flat->equations[e.flat];
            e.residual = g_.sub(flat.left, flat.right);
        }
        // Each round may lay bare new aliases (a + b + c = 0 with c found to be 0); a few rounds settle all.
        for (int round = 0; round < 50; ++round) {
            std::size_t before = s_.equations.size();
            std::vector<SystemEquation> left;
            bool found = false;
            for (const SystemEquation& e : s_.equations) {
                if (!e.branch && take(e.residual))
                    found = true;
                else
                    left.push_back(e);
            }
            s_.equations = std::move(left);
            if (!found && s_.equations.size() == before) break;
            resolve_all();
            std::vector<NodeId*> roots;
            for (SystemEquation& e : s_.equations) roots.push_back(&e.residual);
            rewrite(g_, roots, [&](NodeId id, const Node& n) { return n.op == Op::quantity ? replacement(n) : id; });
        }
        // equations of the flat model stay as they were written, for messages
        std::vector<NodeId*> roots;
        for_each_expression(*s_.flat, [&](NodeId& node, Role role) {
            if (role != Role::equation) roots.push_back(&node);
        });
        for (Condition& c : s_.conditions) roots.push_back(&c.value);
        rewrite(g_, roots, [&](NodeId id, const Node& n) { return n.op == Op::quantity ? replacement(n) : id; });
    }

private:
    // Follows the chain of resolutions to its end, shortening it; signs multiply and orders add up on the way.
    Resolution find(QuantityId q)
    {
        std::vector<QuantityId> chain;
        while (s_.resolutions[q].known == kNoNode && s_.resolutions[q].representative != q) {
            chain.push_back(q);
            q = s_.resolutions[q].representative;
        }
        Resolution at = s_.resolutions[q];
        if (at.known == kNoNode) at = {q, 0, 1, kNoNode};
        for (auto it = chain.rbegin(); it != chain.rend(); ++it) {
            const Resolution r = s_.resolutions[*it];
            Resolution total;
            total.sign = r.sign * at.sign;
            if (at.known != kNoNode) {
                NodeId known = at.known;
                for (std::uint32_t k = 0; k < r.order; ++k) known = derivative_(known);
                total.known = r.sign < 0 ? g_.neg(known) : known;
                total.sign = 1;
            } else {
                total.representative = at.representative;
                total.order = r.order + at.order;
            }
            s_.resolutions[*it] = at = total;
        }
        return at;
    }
    void resolve_all()
    {
        for (QuantityId q = 0; q < s_.resolutions.size(); ++q) {
            Resolution r = find(q);
            if (r.known != kNoNode || r.representative != q) s_.resolutions[q] = r;
        }
    }

    NodeId replacement(const Node& n)
    {
        const Resolution& r = s_.resolutions[n.a];
        if (r.known != kNoNode) {
            NodeId known = r.known;
            for (std::uint32_t k = 0; k < n.b; ++k) known = derivative_(known);
            return known;
        }
        NodeId leaf = g_.quantity(r.representative, r.order + n.b);
        return r.sign < 0 ? g_.neg(leaf) : leaf;
    }

    bool is_leaf(NodeId id, Leaf& leaf) const
    {
        const Node& n = g_[id];
        if (n.op == Op::quantity) {
            leaf = {{n.a, n.b}, 1};
            return true;
        }
        if (n.op == Op::neg && g_[n.a].op == Op::quantity) {
            leaf = {{g_[n.a].a, g_[n.a].b}, -1};
            return true;
        }
        return false;
    }

    bool is_known(NodeId id)
    {
        if (known_.size() < g_.size()) known_.resize(g_.size(), 0);
        std::vector<NodeId> stack{id};
        while (!stack.empty()) {
            NodeId at = stack.back();
            if (known_[at] != 0) {
                stack.pop_back();
                continue;
            }
            const Node& n = g_[at];
            if (n_children(n.op) == 0) {
                known_[at] = n.op == Op::quantity ? 2 : 1;
                continue;
            }
            char all = 1;
            bool ready = true;
            for (int k = first_child(n.op); k < end_of_children(n.op); ++k) {
                NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c;
                if (child == kNoNode) continue;
                if (known_[child] == 0)
                    stack.push_back(child), ready = false;
                else if (known_[child] == 2)
                    all = 2;
            }
            if (ready) known_[at] = all;
        }
        return known_[id] == 1;
    }

    // Tries to read the residual as an alias; true if the equation is used up by it.
    bool take(NodeId residual)
    {
        const Node n = g_[residual];
        Leaf a, b;
        if (is_leaf(residual, a)) return a.variable.order == 0 && settle(a, g_.constant(0));
        if (n.op != Op::add && n.op != Op::sub) return false;
        bool leaf_a = is_leaf(n.a, a), leaf_b = is_leaf(n.b, b);
        if (leaf_a && leaf_b) return join(a, b, n.op == Op::sub ? 1 : -1);
        if (leaf_a && a.variable.order == 0 && is_known(n.b)) return settle(a, n.op == Op::sub ? n.b : g_.neg(n.b));
        if (leaf_b && b.variable.order == 0 && is_known(n.a)) return settle(b, n.op == Op::sub ? n.a : g_.neg(n.a));
        return false;
    }

    bool settle(Leaf leaf, NodeId value)
    {
        Resolution r = find(leaf.variable.quantity);
        if (r.known != kNoNode || r.order != 0) return false;  // seen again in the next round, with the known value in place
        NodeId known = leaf.sign * r.sign < 0 ? g_.neg(value) : value;
        s_.resolutions[r.representative] = {r.representative, 0, 1, known};
        return true;
    }

    // a.sign * a = relation * b.sign * b
    bool join(Leaf a, Leaf b, int relation)
    {
        Resolution ra = find(a.variable.quantity), rb = find(b.variable.quantity);
        if (ra.known != kNoNode || rb.known != kNoNode) return false;
        std::uint32_t order_a = ra.order + a.variable.order, order_b = rb.order + b.variable.order;
        if (ra.representative == rb.representative) return false;  // a cycle: redundant or a real equation, told later
        int sign = a.sign * b.sign * relation * ra.sign * rb.sign;
        // A representative may only become a derivative of another one: x' = v makes v the derivative, never x an integral.
        bool a_free = order_a == 0, b_free = order_b == 0;
        if (!a_free && !b_free) return false;
        bool take_a = a_free && (!b_free || ra.representative > rb.representative);
        if (take_a)
            s_.resolutions[ra.representative] = {rb.representative, order_b, sign, kNoNode};
        else
            s_.resolutions[rb.representative] = {ra.representative, order_a, sign, kNoNode};
        return true;
    }

    EquationSystem& s_;
    Graph& g_;
    TimeDerivative derivative_;
    std::vector<char> known_;
};

}  // namespace

void remove_aliases(EquationSystem& system)
{
    AliasRemoval(system).run();
}

}  // namespace netloop

// Blocks in solving order, and the torn form of each.
#include <algorithm>
#include <map>

#include "algebra/differentiate.hpp"
#include "compile/matching.hpp"
#include "compile/passes.hpp"
#include "compile/proof_of_sign.hpp"

namespace netloop {
namespace {

/// Number of each unknown by (quantity, order).
class UnknownIndex {
public:
    explicit UnknownIndex(const ReducedSystem& r) : first_(r.system.flat->quantities.size(), kUnmatched)
    {
        for (std::uint32_t i = 0; i < r.unknowns.size(); ++i) {
            const Variable& v = r.unknowns[i];
            if (first_[v.quantity] == kUnmatched) first_[v.quantity] = static_cast<std::uint32_t>(lists_.size()), lists_.emplace_back();
            lists_[first_[v.quantity]].emplace_back(v.order, i);
        }
    }
    std::uint32_t of(Variable v) const
    {
        if (first_[v.quantity] == kUnmatched) return kUnmatched;
        for (const auto& [order, i] : lists_[first_[v.quantity]])
            if (order == v.order) return i;
        return kUnmatched;
    }

private:
    std::vector<std::uint32_t> first_;
    std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> lists_;
};

}  // namespace

void order_blocks(ReducedSystem& r, Diagnostics& diagnostics)
{
    UnknownIndex index(r);
    Adjacency rows;
    std::vector<std::uint32_t> equation;  // of each row
    for (std::uint32_t e = 0; e < r.equations.size(); ++e) {
        if (r.equations[e].constraint) continue;
        equation.push_back(e);
        std::vector<std::uint32_t> columns;
        for (const Variable& v : r.system.variables(r.equations[e].residual))
            if (std::uint32_t u = index.of(v); u != kUnmatched) columns.push_back(u);
        rows.add_row(columns);
    }
    Matching m = maximum_matching(rows, static_cast<std::uint32_t>(r.unknowns.size()));
    if (m.size < rows.n_rows() || rows.n_rows() != r.unknowns.size()) {
        for (std::uint32_t e = 0; e < rows.n_rows(); ++e) {
            if (m.column_of_row[e] != kUnmatched) continue;
            const FlatEquation& flat = r.system.flat->equations[r.equations[equation[e]].flat];
            diagnostics.report(messages::too_many_equations, flat.origin.span, 1, 0).note(flat.origin.span, r.system.flat->equation_text(flat));
        }
        throw CompilationStopped{};
    }
    Adjacency needs;
    for (std::uint32_t e = 0; e < rows.n_rows(); ++e) {
        std::vector<std::uint32_t> to;
        for (std::uint32_t k = rows.starts[e]; k < rows.starts[e + 1]; ++k)
            if (m.row_of_column[rows.targets[k]] != e) to.push_back(m.row_of_column[rows.targets[k]]);
        needs.add_row(to);
    }
    for (const auto& component : strong_components(needs)) {
        SolveBlock block;
        for (std::uint32_t e : component) {
            block.equations.push_back(equation[e]);
            block.unknowns.push_back(m.column_of_row[e]);
        }
        r.blocks.push_back(std::move(block));
    }
}

namespace {

class Tearing {
public:
    explicit Tearing(ReducedSystem& r)
        : r_(r), g_(r.system.graph()), index_(r), proof_(*r.system.flat), gradients_(g_, [this](const Node& n) {
              return n.op == Op::quantity ? index_.of({n.a, n.b}) : kNoNode;
          })
    {
    }

    void run()
    {
        for (SolveBlock& block : r_.blocks) {
            if (block.equations.size() == 1)
                single(block);
            else
                torn(block);
        }
    }

private:
    NodeId leaf(std::uint32_t unknown)
    {
        const Variable& v = r_.unknowns[unknown];
        return g_.quantity(v.quantity, v.order);
    }

    // The value of `unknown` from equation `e`, if the equation is linear in it over a coefficient that cannot be zero.
    NodeId solve(std::uint32_t e, std::uint32_t unknown, NodeId coefficient)
    {
        NodeId x = leaf(unknown), residual = r_.equations[e].residual;
        if (!proof_.never_zero(coefficient)) return kNoNode;
        const Node n = g_[residual];
        if (n.op == Op::sub && n.a == x && !contains(g_, n.b, x)) return n.b;
        if (n.op == Op::sub && n.b == x && !contains(g_, n.a, x)) return n.a;
        if (contains(g_, coefficient, x)) return kNoNode;
        NodeId rest = replace_leaf(g_, residual, x, g_.constant(0));
        return g_.neg(g_.div(rest, coefficient));
    }

    void single(SolveBlock& block)
    {
        std::uint32_t e = block.equations[0], u = block.unknowns[0];
        NodeId coefficient = kNoNode;
        for (const auto& [number, node] : gradients_(r_.equations[e].residual))
            if (number == u) coefficient = node;
        NodeId value = coefficient == kNoNode ? kNoNode : solve(e, u, coefficient);
        if (value != kNoNode) {
            block.steps.push_back({u, value, e});
        } else {
            block.iterates.push_back(u);
            block.residuals.push_back(e);
        }
    }

    // Greedy tearing: take every equation with one unknown left that can be solved for it; when there is none, declare the
    // unknown that stands in most of the equations left an iterate. Source of the idea: Steward (1965), SIAM J. Numer. Anal. B 2,
    // 345-365; the choice by degree as in Cellier and Kofman (2006), Continuous System Simulation, ch. 7.
    void torn(SolveBlock& block)
    {
        struct Entry {
            std::uint32_t unknown;
            NodeId coefficient;
        };
        std::size_t n = block.equations.size();
        std::map<std::uint32_t, std::uint32_t> local;  // unknown -> its place in the block
        for (std::uint32_t i = 0; i < n; ++i) local[block.unknowns[i]] = i;
        std::vector<std::vector<Entry>> entries(n);
        std::vector<std::vector<std::uint32_t>> users(n);
        for (std::uint32_t i = 0; i < n; ++i) {
            for (const auto& [number, node] : gradients_(r_.equations[block.equations[i]].residual)) {
                auto it = local.find(number);
                if (it == local.end()) continue;
                entries[i].push_back({it->second, node});
                users[it->second].push_back(i);
            }
        }
        std::vector<char> known(n, 0), used(n, 0);
        std::vector<std::uint32_t> open(n), degree(n), ready;
        for (std::uint32_t i = 0; i < n; ++i) {
            open[i] = static_cast<std::uint32_t>(entries[i].size());
            degree[i] = static_cast<std::uint32_t>(users[i].size());
            if (open[i] == 1) ready.push_back(i);
        }
        // a derivative of a state costs no further unknown in z: preferred as iterate at equal degree
        auto is_rate = [&](std::uint32_t u) {
            const Variable& v = r_.unknowns[block.unknowns[u]];
            return v.order > 0 && index_.of({v.quantity, v.order - 1}) == kUnmatched;
        };
        auto learn = [&](std::uint32_t u) {
            known[u] = 1;
            for (std::uint32_t i : users[u])
                if (--open[i] == 1 && !used[i]) ready.push_back(i);
        };
        std::vector<std::pair<std::uint32_t, std::uint32_t>> order(n);
        for (std::uint32_t u = 0; u < n; ++u) order[u] = {2 * degree[u] + (is_rate(u) ? 1u : 0u), u};
        std::stable_sort(order.begin(), order.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
        std::size_t next = 0;
        for (;;) {
            while (!ready.empty()) {
                std::uint32_t i = ready.back();
                ready.pop_back();
                if (used[i] || open[i] != 1) continue;
                for (const Entry& entry : entries[i]) {
                    if (known[entry.unknown]) continue;
                    NodeId value = solve(block.equations[i], block.unknowns[entry.unknown], entry.coefficient);
                    if (value == kNoNode) break;
                    used[i] = 1;
                    block.steps.push_back({block.unknowns[entry.unknown], value, block.equations[i]});
                    learn(entry.unknown);
                    break;
                }
            }
            while (next < n && known[order[next].second]) ++next;
            if (next == n) break;
            block.iterates.push_back(block.unknowns[order[next].second]);
            learn(order[next].second);
        }
        for (std::uint32_t i = 0; i < n; ++i)
            if (!used[i]) block.residuals.push_back(block.equations[i]);
    }

    ReducedSystem& r_;
    Graph& g_;
    UnknownIndex index_;
    ProofOfSign proof_;
    Gradients gradients_;
};

}  // namespace

void tear_blocks(ReducedSystem& system)
{
    Tearing(system).run();
}

}  // namespace netloop

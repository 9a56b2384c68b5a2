// SPDX-License-Identifier: Apache-2.0
// The form of each block: explicit steps where an equation can be solved for its unknown, iterates and residuals for the rest,
// and symbolic elimination of what is linear and small.
#include "compile/tear_blocks.hpp"

#include <algorithm>
#include <map>

#include "algebra/differentiate.hpp"
#include "compile/forms.hpp"
#include "compile/passes.hpp"
#include "compile/proof_of_sign.hpp"

namespace netloop {
namespace {

// Blocks with at most this many iterates are solved symbolically if they are linear in them and their pivots are proved non-zero.
constexpr std::size_t kLargestSymbolic = 3;

class BlockTearing {
public:
    explicit BlockTearing(ReducedSystem& r)
        : r_(r),
          g_(r.system.graph()),
          index_(r),
          proof_(*r.system.flat),
          gradients_(g_,
                     [this](const Node& n) {
                         return n.op == Op::quantity ? index_.of({n.a, n.b}) : kNoNode;
                     }),
          iterate_place_(r.unknowns.size(), kNoNode)
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

    // The other side, if the unknown stands alone on one side of its equation: as most equations are written, and no derivative is needed.
    NodeId assigned(std::uint32_t e, std::uint32_t unknown)
    {
        NodeId x = leaf(unknown);
        const Node n = g_[r_.equations[e].residual];
        if (n.op != Op::sub) return kNoNode;
        if (n.a == x && !contains(g_, n.b, x)) return n.b;
        if (n.b == x && !contains(g_, n.a, x)) return n.a;
        return kNoNode;
    }

    // The value of `unknown` from equation `e`, if the equation is linear in it over a coefficient that cannot be zero.
    NodeId solve(std::uint32_t e, std::uint32_t unknown, NodeId coefficient, bool alone = false)
    {
        NodeId x = leaf(unknown), residual = r_.equations[e].residual;
        if (alone ? !proof_.never_zero_here(coefficient, r_.system) : !proof_.never_zero(coefficient)) return kNoNode;
        if (NodeId value = assigned(e, unknown); value != kNoNode) return value;
        if (contains(g_, coefficient, x)) return kNoNode;
        NodeId rest = replace_leaf(g_, residual, x, g_.constant(0));
        return g_.neg(g_.div(rest, coefficient));
    }

    void single(SolveBlock& block)
    {
        std::uint32_t e = block.equations[0], u = block.unknowns[0];
        NodeId value = assigned(e, u), coefficient = kNoNode;
        if (value == kNoNode) {
            for (const auto& [number, node] : gradients_(r_.equations[e].residual))
                if (number == u) coefficient = node;
            if (coefficient != kNoNode) value = solve(e, u, coefficient, true);
        }
        if (value != kNoNode) {
            block.steps.push_back({u, value, e});
            block.form = SolveBlock::Form::explicit_;
        } else {
            block.iterates.push_back(u);
            block.residuals.push_back(e);
            bool linear = coefficient != kNoNode && !contains(g_, coefficient, leaf(u));
            block.form = linear ? SolveBlock::Form::linear : SolveBlock::Form::nonlinear;
        }
    }

    void torn(SolveBlock& block)
    {
        std::size_t n = block.equations.size();
        std::map<std::uint32_t, std::uint32_t> local;  // unknown -> its place in the block
        for (std::uint32_t i = 0; i < n; ++i) local[block.unknowns[i]] = i;
        std::vector<std::vector<NodeId>> coefficient(n);
        TearingProblem problem;
        problem.unknowns_of.resize(n);
        for (std::uint32_t i = 0; i < n; ++i)
            for (const auto& [number, node] : gradients_(r_.equations[block.equations[i]].residual)) {
                auto it = local.find(number);
                if (it == local.end()) continue;
                problem.unknowns_of[i].push_back(it->second);
                coefficient[i].push_back(node);
            }
        std::map<std::pair<std::uint32_t, std::uint32_t>, NodeId> value;
        problem.solvable = [&](std::uint32_t e, std::uint32_t u) {
            const auto& of = problem.unknowns_of[e];
            std::size_t at = 0;
            while (of[at] != u) ++at;
            NodeId v = solve(block.equations[e], block.unknowns[u], coefficient[e][at]);
            if (v != kNoNode) value[{e, u}] = v;
            return v != kNoNode;
        };
        // a derivative of a state costs no further unknown in z
        for (std::uint32_t u : block.unknowns) {
            const Variable& v = r_.unknowns[u];
            problem.cheap.push_back(v.order > 0 && index_.of({v.quantity, v.order - 1}) == kUnmatched ? 1 : 0);
            problem.shunned.push_back(v.order == 0 && r_.system.flat->quantities[v.quantity].carries ? 1 : 0);
        }
        Tearing torn = tear(problem, TearingRule::most_used), other = tear(problem, TearingRule::shortest_rows);
        auto cost = [&](const Tearing& t) {
            auto poor = std::count_if(t.iterates.begin(), t.iterates.end(), [&](std::uint32_t u) { return problem.shunned[u] != 0; });
            return std::pair(poor, t.iterates.size());
        };
        if (cost(other) < cost(torn)) torn = std::move(other);
        for (const Tearing::Step& s : torn.steps)
            block.steps.push_back({block.unknowns[s.unknown], value.at({s.equation, s.unknown}), block.equations[s.equation]});
        for (std::uint32_t u : torn.iterates) block.iterates.push_back(block.unknowns[u]);
        for (std::uint32_t e : torn.residuals) block.residuals.push_back(block.equations[e]);
        block.form = block.iterates.empty()          ? SolveBlock::Form::explicit_
                     : is_linear(coefficient, local) ? SolveBlock::Form::linear
                                                     : SolveBlock::Form::nonlinear;
        if (block.form == SolveBlock::Form::linear && block.iterates.size() <= kLargestSymbolic) solve_on_paper(block);
    }

    // Linear if no coefficient of an unknown of the block holds one.
    bool is_linear(const std::vector<std::vector<NodeId>>& coefficients, const std::map<std::uint32_t, std::uint32_t>& local)
    {
        for (const auto& row : coefficients)
            for (NodeId node : row)
                for (NodeId id : g_.reachable({node}))
                    if (g_[id].op == Op::quantity && local.count(index_.of({g_[id].a, g_[id].b}))) return false;
        return true;
    }

    // The steps are substituted into the residuals, so that only iterates and what is known before the block is left in them.
    void solve_on_paper(SolveBlock& block)
    {
        std::map<std::pair<std::uint32_t, std::uint32_t>, NodeId> values;
        Substitution substitute(g_, [&](const Node& n) {
            auto it = values.find({n.a, n.b});
            return it == values.end() ? g_.quantity(n.a, n.b) : it->second;
        });
        for (const SolveBlock::Step& s : block.steps) {
            const Variable& v = r_.unknowns[s.unknown];
            values[{v.quantity, v.order}] = substitute(s.value);
        }
        // by the iterates of this block alone: what blocks before it have settled is known here, and gradients are remembered by node
        for (std::uint32_t k = 0; k < block.iterates.size(); ++k) iterate_place_[block.iterates[k]] = k;
        Gradients by_iterate(g_, [this](const Node& n) -> std::uint32_t {
            std::uint32_t u = n.op == Op::quantity ? index_.of({n.a, n.b}) : kUnmatched;
            return u == kUnmatched ? kNoNode : iterate_place_[u];
        });
        std::vector<NodeId> rest;                      // the residuals, steps substituted
        std::vector<std::map<std::size_t, NodeId>> a;  // d(residual)/d(iterate)
        for (std::uint32_t e : block.residuals) {
            rest.push_back(substitute(r_.equations[e].residual));
            a.emplace_back();
            for (const auto& [number, node] : by_iterate(rest.back())) a.back()[number] = node;
        }
        for (std::uint32_t u : block.iterates) iterate_place_[u] = kNoNode;
        for (NodeId& r : rest)  // at iterates of zero: the right side
            for (std::uint32_t u : block.iterates) r = replace_leaf(g_, r, leaf(u), g_.constant(0));
        eliminate(block, std::move(a), std::move(rest));
    }

    // Gaussian elimination on the graph, by pivots that are proved non-zero; leaves the block as it is where none is left.
    void eliminate(SolveBlock& block, std::vector<std::map<std::size_t, NodeId>> a, std::vector<NodeId> b)
    {
        std::size_t n = block.iterates.size();
        std::vector<std::size_t> row_of(n, n);
        std::vector<std::size_t> order;
        std::vector<char> done(n, 0);
        for (std::size_t round = 0; round < n; ++round) {
            std::size_t row = n, column = n;
            for (std::size_t r = 0; r < n && row == n; ++r) {
                if (done[r]) continue;
                for (const auto& [c, node] : a[r])
                    if (row_of[c] == n && proof_.never_zero(node)) {
                        row = r, column = c;
                        break;
                    }
            }
            if (row == n) return;
            done[row] = 1;
            row_of[column] = row;
            order.push_back(column);
            for (std::size_t r = 0; r < n; ++r) {
                auto it = a[r].find(column);
                if (done[r] || it == a[r].end()) continue;
                NodeId factor = g_.div(it->second, a[row].at(column));
                a[r].erase(it);
                for (const auto& [c, node] : a[row]) {
                    if (row_of[c] != n) continue;
                    NodeId product = g_.mul(factor, node);
                    auto [place, fresh] = a[r].try_emplace(c, kNoNode);
                    place->second = fresh ? g_.neg(product) : g_.sub(place->second, product);
                }
                b[r] = g_.sub(b[r], g_.mul(factor, b[row]));
            }
        }
        std::vector<NodeId> x(n, kNoNode);
        std::vector<SolveBlock::Step> steps;
        for (auto at = order.rbegin(); at != order.rend(); ++at) {
            std::size_t row = row_of[*at];
            NodeId sum = b[row];
            for (const auto& [c, node] : a[row])
                if (c != *at && x[c] != kNoNode) sum = g_.add(sum, g_.mul(node, x[c]));
            x[*at] = g_.neg(g_.div(sum, a[row].at(*at)));
            // each value is written in terms of what was known before the block: a step for all to read
            steps.push_back({block.iterates[*at], x[*at], block.residuals[row]});
            x[*at] = leaf(block.iterates[*at]);
        }
        steps.insert(steps.end(), block.steps.begin(), block.steps.end());
        block.steps = std::move(steps);
        block.n_symbolic = n;
        block.iterates.clear();
        block.residuals.clear();
        block.form = SolveBlock::Form::symbolic;
    }

    ReducedSystem& r_;
    Graph& g_;
    UnknownIndex index_;
    ProofOfSign proof_;
    Gradients gradients_;                       ///< by all unknowns
    std::vector<std::uint32_t> iterate_place_;  ///< of the iterates of the block under way, numbered within it; kNoNode of all others
};

}  // namespace

void tear_blocks(ReducedSystem& system)
{
    BlockTearing(system).run();
}

}  // namespace netloop

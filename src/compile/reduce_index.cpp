// SPDX-License-Identifier: Apache-2.0
// Index reduction. Works on counts (how often each equation is differentiated, the highest order of each quantity), which is
// Pantelides' algorithm without building the differentiated equations first; then differentiates, then chooses the states.
#include <algorithm>
#include <cmath>
#include <stdexcept>

#include "algebra/differentiate.hpp"
#include "compile/cancel_rates.hpp"
#include "compile/choose_states.hpp"
#include "compile/matching.hpp"
#include "compile/null_sums.hpp"
#include "compile/parameters.hpp"
#include "compile/passes.hpp"
#include "compile/proof_of_sign.hpp"

namespace netloop {
namespace {

class IndexReduction {
public:
    IndexReduction(EquationSystem& s, Diagnostics& d)
        : s_(s),
          g_(s.graph()),
          diagnostics_(d),
          parameter_values_(default_parameters(*s.flat)),
          gradients_(g_, [this](const Node& n) -> std::uint32_t { return n.op == Op::quantity ? column_of_[n.a] * kOrders + n.b : kNoNode; }),
          values_(g_, [this](const Node& n) { return sample(n); }),
          proof_(*s.flat)
    {
    }

    ReducedSystem run()
    {
        collect();
        count_differentiations();
        // a sum of equations may hold fewer rates than each of them; each such sum can lay bare another
        for (int round = 0; round < 20 && (replace_by_sums() || replace_by_null_sums()); ++round) {
            collect();
            count_differentiations();
        }
        differentiate();
        choose_dummies();
        return assemble();
    }

private:
    struct Use {
        std::uint32_t column;
        std::uint32_t order;  ///< highest order of the quantity in the equation
    };

    // 1. which quantities stand in which equation, and their highest orders
    void collect()
    {
        const FlatModel& flat = *s_.flat;
        column_of_.assign(flat.quantities.size(), kUnmatched);
        quantities_.clear();
        for (QuantityId q = 0; q < flat.quantities.size(); ++q) {
            const Resolution& r = s_.resolutions[q];
            if (r.known != kNoNode || r.representative != q) continue;
            column_of_[q] = static_cast<std::uint32_t>(quantities_.size());
            quantities_.push_back(q);
        }
        highest_.assign(quantities_.size(), 0);
        uses_.clear();
        for (const SystemEquation& e : s_.equations) {
            std::vector<Use> uses;
            for (const Variable& v : s_.variables(e.residual)) {  // sorted: the last of a quantity is its highest order
                std::uint32_t c = column_of_[v.quantity];
                if (!uses.empty() && uses.back().column == c)
                    uses.back().order = v.order;
                else
                    uses.push_back({c, v.order});
                highest_[c] = std::max(highest_[c], v.order);
            }
            uses_.push_back(std::move(uses));
        }
        differentiated_.assign(s_.equations.size(), 0);
        // what is only looked at (aliases that are derivatives, lets, start conditions) needs its derivatives too
        auto look_at = [&](const Variable& v) {
            if (column_of_[v.quantity] != kUnmatched) highest_[column_of_[v.quantity]] = std::max(highest_[column_of_[v.quantity]], v.order);
        };
        for (const Resolution& r : s_.resolutions)
            if (r.known == kNoNode) look_at({r.representative, r.order});
        auto look_into = [&](NodeId node) {
            for (const Variable& v : s_.variables(node)) look_at(v);
        };
        for_each_expression(*s_.flat, [&](NodeId node, Role role) {
            if (role == Role::let || role == Role::init || role == Role::event || role == Role::switches) look_into(node);
        });
        for (const Condition& c : s_.conditions) look_into(c.value);
    }

    // 2. Pantelides: match each equation to a highest derivative; where that fails, differentiate what the search has reached
    void count_differentiations()
    {
        auto n = static_cast<std::uint32_t>(uses_.size());
        column_of_row_.assign(n, kUnmatched);
        row_of_column_.assign(quantities_.size(), kUnmatched);
        auto active = [&](std::uint32_t row, const Use& u) { return u.order + differentiated_[row] == highest_[u.column]; };
        for (std::uint32_t r = 0; r < n; ++r) {  // a cheap first matching
            for (const Use& u : uses_[r]) {
                if (!active(r, u) || row_of_column_[u.column] != kUnmatched) continue;
                row_of_column_[u.column] = r;
                column_of_row_[r] = u.column;
                break;
            }
        }
        std::vector<std::uint32_t> mark(quantities_.size(), 0);
        std::uint32_t stamp = 0;
        struct Frame {
            std::uint32_t row;
            std::size_t next;
        };
        for (std::uint32_t start = 0; start < n; ++start) {
            int rounds = 0;
            while (column_of_row_[start] == kUnmatched) {
                ++stamp;
                std::vector<Frame> path{{start, 0}};
                std::vector<std::uint32_t> via, reached_rows{start}, reached_columns;
                bool found = false;
                while (!path.empty() && !found) {
                    Frame& top = path.back();
                    if (top.next == uses_[top.row].size()) {
                        path.pop_back();
                        if (!via.empty()) via.pop_back();
                        continue;
                    }
                    const Use& u = uses_[top.row][top.next++];
                    if (!active(top.row, u) || mark[u.column] == stamp) continue;
                    mark[u.column] = stamp;
                    reached_columns.push_back(u.column);
                    via.push_back(u.column);
                    std::uint32_t next = row_of_column_[u.column];
                    if (next == kUnmatched) {
                        for (std::size_t i = 0; i < path.size(); ++i) {
                            column_of_row_[path[i].row] = via[i];
                            row_of_column_[via[i]] = path[i].row;
                        }
                        found = true;
                    } else {
                        reached_rows.push_back(next);
                        path.push_back({next, 0});
                    }
                }
                if (found) break;
                // A sound system ends. Without end rows are differentiated that hold fewer unknowns than they are: sums that were put together, or one mode of
                // parts whose equations change in kind, may show what the whole did not.
                constexpr int kWithoutEnd = 100;
                if (++rounds > kWithoutEnd) {
                    std::vector<QuantityId> unknowns;
                    for (std::uint32_t c : reached_columns) unknowns.push_back(quantities_[c]);
                    report_too_many(s_, reached_rows, unknowns, diagnostics_);
                    throw CompilationStopped{};
                }
                for (std::uint32_t c : reached_columns) ++highest_[c];
                for (std::uint32_t r : reached_rows) ++differentiated_[r];
            }
        }
    }

    // Blocks of the highest-order system: rows that settle each other's highest derivatives.
    std::vector<std::vector<std::uint32_t>> blocks_of_highest() const
    {
        Adjacency needs;
        for (std::uint32_t r = 0; r < uses_.size(); ++r) {
            std::vector<std::uint32_t> to;
            for (const Use& u : uses_[r])
                if (u.order + differentiated_[r] == highest_[u.column] && row_of_column_[u.column] != r) to.push_back(row_of_column_[u.column]);
            needs.add_row(to);
        }
        return strong_components(needs);
    }

    std::vector<LeadingRow> leading_rows(const std::vector<std::uint32_t>& block)
    {
        std::vector<LeadingRow> rows;
        for (std::uint32_t r : block) {
            LeadingRow row{r, differentiated_[r], {}};
            for (const auto& [number, node] : gradients_(s_.equations[r].residual)) {
                std::uint32_t c = number / kOrders;
                if (number % kOrders + differentiated_[r] == highest_[c]) row.entries.emplace_back(c, node);
            }
            rows.push_back(std::move(row));
        }
        return rows;
    }

    // What cancels only by rank, over different orders or among equations without rates: where a sum says something of its own, it takes the
    // place of one of them. Equations that merely repeat each other are left: they are a mistake, and told as one.
    bool replace_by_null_sums()
    {
        auto sample = [this](const Node& leaf, int point) { return scattered(leaf, point); };
        auto fixed = [this](NodeId node) { return is_fixed(node); };
        for (const auto& block : blocks_of_highest()) {
            if (block.size() < 2) continue;
            // the block by itself; the sum may need equations of blocks before it, which settle what else stands in its rows
            std::vector<LeadingRow> rows = leading_rows(block);
            std::vector<char> own(quantities_.size(), 0);
            for (std::uint32_t r : block) own[column_of_row_[r]] = 1;
            for (LeadingRow& row : rows) std::erase_if(row.entries, [&](const auto& e) { return own[e.first] == 0; });
            if (!is_deficient(g_, rows, sample)) continue;
            for (const NullSum& sum : find_null_sums(g_, leading_rows(with_those_before(block)), sample, fixed))
                if (replace(sum)) return true;  // counts are to be made anew
        }
        return false;
    }

    // A block and all rows that settle highest derivatives which stand in it, directly or by others.
    std::vector<std::uint32_t> with_those_before(const std::vector<std::uint32_t>& block) const
    {
        std::vector<char> in(uses_.size(), 0);
        std::vector<std::uint32_t> list = block;
        for (std::uint32_t r : block) in[r] = 1;
        for (std::size_t k = 0; k < list.size(); ++k)
            for (const Use& u : uses_[list[k]]) {
                if (u.order + differentiated_[list[k]] != highest_[u.column]) continue;
                std::uint32_t r = row_of_column_[u.column];
                if (in[r] == 0) in[r] = 1, list.push_back(r);
            }
        return list;
    }

    bool replace(const NullSum& sum)
    {
        TimeDerivative derivative(g_);
        NodeId total = g_.constant(0);
        for (const NullSum::Term& term : sum.terms) {
            NodeId residual = s_.equations[term.equation].residual;
            for (std::uint32_t k = 0; k < term.derivatives; ++k) residual = derivative(residual);
            if (!derivative.trouble().empty()) return false;
            total = g_.add(total, g_.mul(term.factor, residual));
        }
        // it must not depend on what cancels: then any value will do for it
        NodeId without = total;
        std::uint32_t order = differentiated_[sum.equation];
        for (std::uint32_t c : sum.columns) without = replace_leaf(g_, without, g_.quantity(quantities_[c], highest_[c] - order), g_.constant(0));
        for (int point = 0; point < 3; ++point) {
            NodeValues values(g_, [this, point](const Node& leaf) { return scattered(leaf, point); });
            double with = values(total), size = 0;
            for (const NullSum::Term& term : sum.terms) size = std::max(size, std::abs(values(term.factor) * values(s_.equations[term.equation].residual)));
            if (std::isfinite(with) && !(std::abs(with - values(without)) <= 1e-7 * std::max(size, std::abs(with)))) return false;
        }
        if (s_.variables(without).empty()) return false;
        NodeId before = s_.equations[sum.equation].residual;
        s_.equations[sum.equation].residual = without;
        if (is_matched()) return true;
        s_.equations[sum.equation].residual = before;
        return false;
    }

    // Whether each equation can be given a quantity of its own.
    bool is_matched() const
    {
        Adjacency rows;
        for (const SystemEquation& e : s_.equations) {
            std::vector<std::uint32_t> columns;
            for (const Variable& v : s_.variables(e.residual))
                if (column_of_[v.quantity] != kUnmatched && (columns.empty() || columns.back() != column_of_[v.quantity]))
                    columns.push_back(column_of_[v.quantity]);
            rows.add_row(columns);
        }
        return maximum_matching(rows, static_cast<std::uint32_t>(quantities_.size())).size == s_.equations.size();
    }

    bool replace_by_sums()
    {
        bool any = false;
        for (const auto& block : blocks_of_highest()) {
            // only among rates: algebraic equations that repeat each other are a mistake, and told as one
            bool rates = false;
            for (std::uint32_t r : block) rates |= highest_[column_of_row_[r]] > 0;
            if (block.size() < 2 || !rates) continue;
            std::vector<LeadingRow> rows = leading_rows(block);
            for (const HiddenSum& sum : find_hidden_sums(g_, rows, [this](NodeId node) { return is_fixed(node); })) {
                NodeId total = g_.constant(0);
                for (const auto& [equation, factor] : sum.terms) total = g_.add(total, g_.mul(factor, s_.equations[equation].residual));
                for (std::uint32_t c : sum.columns)  // their coefficients cancel, and the equations are linear in them
                    total = replace_leaf(g_, total, g_.quantity(quantities_[c], highest_[c] - differentiated_[sum.equation]), g_.constant(0));
                s_.equations[sum.equation].residual = total;
                any = true;
            }
        }
        return any;
    }

    // 3. the differentiated equations themselves
    void differentiate()
    {
        TimeDerivative derivative(g_);
        levels_.resize(s_.equations.size());
        for (std::uint32_t r = 0; r < s_.equations.size(); ++r) {
            NodeId at = s_.equations[r].residual;
            levels_[r].push_back(at);
            for (std::uint32_t k = 0; k < differentiated_[r]; ++k) levels_[r].push_back(at = derivative(at));
            if (differentiated_[r] > 0 && !derivative.trouble().empty()) {
                diagnostics_.report(messages::not_differentiable, s_.flat->equations[s_.equations[r].flat].origin.span, derivative.trouble());
                throw CompilationStopped{};
            }
        }
    }

    // How much a quantity is wanted as a state: one with a start value, or declared as a var, rather than a port's.
    void rate_wishes()
    {
        wish_.assign(quantities_.size(), 0);
        auto add = [&](NodeId side, int points) {
            for (const Variable& v : s_.variables(side))
                if (column_of_[v.quantity] != kUnmatched) wish_[column_of_[v.quantity]] += points;
        };
        for (const FlatInit& i : s_.flat->inits) add(i.left, 1000);
        for (const FlatGuess& i : s_.flat->guesses) add(i.target, 10);
        for (std::uint32_t c = 0; c < quantities_.size(); ++c)
            if (s_.flat->quantities[quantities_[c]].role == QuantityRole::var) wish_[c] += 1;
    }

    // 4. dummy derivatives, block by block of the highest-order system
    void choose_dummies()
    {
        n_dummies_.assign(quantities_.size(), 0);
        chosen_anew_.assign(quantities_.size(), 0);
        constraint_.assign(uses_.size(), 0);
        if (std::all_of(differentiated_.begin(), differentiated_.end(), [](std::uint32_t k) { return k == 0; })) return;
        rate_wishes();
        std::vector<std::uint32_t> block_of(quantities_.size(), kUnmatched);
        std::uint32_t number = 0;
        for (const auto& block : blocks_of_highest()) {
            ++number;
            for (std::uint32_t r : block) block_of[column_of_row_[r]] = number;
            std::vector<ConstraintRow> rows;
            for (std::uint32_t r : block)
                if (differentiated_[r] > 0) rows.push_back(constraint_row(r, block_of, number));
            if (!rows.empty()) choose(std::move(rows));
        }
    }

    // d(constraint)/d(candidate), which is the same on every level of differentiation
    ConstraintRow constraint_row(std::uint32_t r, const std::vector<std::uint32_t>& block_of, std::uint32_t block)
    {
        ConstraintRow row{r, differentiated_[r], {}};
        for (const auto& [number, node] : gradients_(levels_[r][0])) {
            std::uint32_t c = number / kOrders;
            if (block_of[c] == block && number % kOrders + differentiated_[r] == highest_[c]) row.entries.emplace_back(c, node);
        }
        return row;
    }

    void choose(std::vector<ConstraintRow> rows)
    {
        ChosenStates chosen = choose_states(
            g_, std::move(rows), wish_, [this](NodeId node) { return values_(node); }, [this](NodeId node) { return is_fixed(node); },
            [this](NodeId node) { return proof_.never_zero(node); });
        if (chosen.deficient) {
            const FlatEquation& e = s_.flat->equations[s_.equations[*chosen.deficient].flat];
            diagnostics_.report(messages::constraint_redundant, e.origin.span, s_.flat->equation_text(e));
            throw CompilationStopped{};
        }
        for (const auto& [c, count] : chosen.dependent) n_dummies_[c] = count;
        for (const ChosenStates::Open& open : chosen.open) {
            StateChoice choice;
            for (std::uint32_t c : open.columns) {
                chosen_anew_[c] = 1;
                choice.candidates.push_back({quantities_[c], highest_[c]});
            }
            for (const ConstraintRow& row : open.rows) {
                constraint_[row.equation] = 1;
                for (const auto& [c, node] : row.entries) {
                    auto place = std::lower_bound(open.columns.begin(), open.columns.end(), c) - open.columns.begin();
                    choice.entries.push_back({static_cast<std::uint32_t>(choice.differentiated.size()), static_cast<std::uint32_t>(place), node});
                }
                choice.differentiated.push_back(row.differentiated);
            }
            choices_.push_back(std::move(choice));
        }
    }

    // Whether an expression stands still while a run goes on: of constants and parameters only.
    bool is_fixed(NodeId root)
    {
        for (NodeId id : g_.reachable({root})) {
            Op op = g_[id].op;
            if (op == Op::quantity || op == Op::time || op == Op::mode || op == Op::memory) return false;
        }
        return true;
    }

    // Values at which nothing has a special one: parameters about what they are given, all else between 0.6 and 1.4.
    double scattered(const Node& n, int point) const
    {
        std::uint32_t x = (n.a * 8u + (n.b == kNoNode ? 0u : n.b)) * 4u + static_cast<std::uint32_t>(point) + (n.op == Op::parameter ? 0x9e3779b9u : 0u);
        x = (x ^ 61u) ^ (x >> 16u);
        x *= 9u;
        x ^= x >> 4u;
        x *= 0x27d4eb2du;
        double share = 0.6 + 0.8 * static_cast<double>(x >> 8u) / 16777216.0;
        if (n.op == Op::mode) return 1;
        if (n.op == Op::parameter && parameter_values_[n.a] != 0 && std::isfinite(parameter_values_[n.a])) return share * parameter_values_[n.a];
        return share;
    }

    // Values for a look at rank: parameters as given, quantities fixed and scattered, so that a zero by accident does not pass
    // for a loss of rank.
    double sample(const Node& n) const
    {
        if (n.op == Op::parameter) return parameter_values_[n.a];
        if (n.op == Op::mode || n.op == Op::memory) return 1;
        std::uint32_t x = n.a * 8u + (n.b == kNoNode ? 0u : n.b);
        x = (x ^ 61u) ^ (x >> 16u);
        x *= 9u;
        x ^= x >> 4u;
        x *= 0x27d4eb2du;
        return 0.6 + 0.8 * static_cast<double>(x >> 8u) / 16777216.0;
    }

    // 5. states are what is neither highest nor has a dummy derivative above it; where the run chooses, all that may be states
    // are given by it, and the constraints between them are no part of the solving order
    ReducedSystem assemble()
    {
        ReducedSystem r;
        for (std::uint32_t c = 0; c < quantities_.size(); ++c) {
            for (std::uint32_t k = 0; k <= highest_[c]; ++k) {
                Variable v{quantities_[c], k};
                if (chosen_anew_[c] && k < highest_[c]) continue;
                bool state = k < highest_[c] && k + 1 <= highest_[c] - n_dummies_[c];
                (state ? r.states : r.unknowns).push_back(v);
            }
        }
        for (std::uint32_t e = 0; e < levels_.size(); ++e)
            for (std::uint32_t k = 0; k < levels_[e].size(); ++k)
                r.equations.push_back({levels_[e][k], s_.equations[e].flat, k, constraint_[e] != 0 && k < differentiated_[e]});
        r.choices = std::move(choices_);
        // (q, k+1) is an unknown unless it is a state itself: then q's rate is simply that state
        r.system = std::move(s_);
        return r;
    }

    static constexpr std::uint32_t kOrders = 32;  ///< more derivatives than any model has

    EquationSystem& s_;
    Graph& g_;
    Diagnostics& diagnostics_;
    std::vector<double> parameter_values_;
    Gradients gradients_;  ///< by column * kOrders + order
    NodeValues values_;
    ProofOfSign proof_;
    std::vector<QuantityId> quantities_;
    std::vector<std::uint32_t> column_of_;
    std::vector<std::uint32_t> highest_;
    std::vector<std::vector<Use>> uses_;
    std::vector<std::uint32_t> differentiated_;
    std::vector<std::uint32_t> column_of_row_, row_of_column_;
    std::vector<std::vector<NodeId>> levels_;
    std::vector<int> wish_;
    std::vector<std::uint32_t> n_dummies_;
    std::vector<char> chosen_anew_;  ///< per column: the run chooses
    std::vector<char> constraint_;   ///< per equation: it ties such columns together
    std::vector<StateChoice> choices_;
};

}  // namespace

std::size_t StateChoice::n_states() const
{
    std::size_t n = 0;
    for (const Candidate& c : candidates) n += c.highest;
    for (std::uint32_t k : differentiated) n -= k;
    return n;
}

std::size_t ReducedSystem::n_states() const
{
    std::size_t n = states.size();
    for (const StateChoice& c : choices) n += c.n_states();
    return n;
}

ReducedSystem reduce_index(EquationSystem system, Diagnostics& diagnostics)
{
    return IndexReduction(system, diagnostics).run();
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// From blocks to F(t, z, z') = 0: explicit assignments are substituted (or carried as unknowns where that would fill the
// Jacobian), iterates join the states in z, and everything the user may look at becomes an expression of the solver's leaves.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <stdexcept>

#include "algebra/differentiate.hpp"
#include "algebra/enclosure.hpp"
#include "compile/matching.hpp"
#include "compile/passes.hpp"

namespace netloop {
namespace {

// An assignment that depends on more members of z than this is carried as an unknown of its own: substituted, it would copy
// its row of the Jacobian into every equation that reads it.
constexpr std::size_t kMaxCopiedDependencies = 12;

// What is usual for a kind of quantity, where the user said nothing.
struct Kind {
    Dimension dimension;
    double usual = 1;  ///< size, for scaling and absolute tolerance
    double start = 0;  ///< where a search begins that nothing else places: 20 degC, 1 bar, else 0
};

Kind describe_kind(const Dimension& dimension)
{
    static const std::map<std::string, double> kTable{{"Pa", 1e5},      {"K", 300},    {"kg/s", 0.1}, {"m", 0.1},  {"m/s", 0.1}, {"m/s^2", 1},
                                                      {"N", 100},       {"N*m", 10},   {"W", 100},    {"V", 10},   {"A", 1},     {"kg", 1},
                                                      {"m^3/s", 1e-4},  {"m^3", 1e-3}, {"m^2", 1e-4}, {"J", 1e3},  {"Hz", 10},   {"Pa*s", 0.01},
                                                      {"kg/m^3", 1000}, {"1", 1},      {"C", 1e-3},   {"ohm", 100}};
    std::string text = dimension.text();
    auto it = kTable.find(text);
    return {dimension, it == kTable.end() ? 1.0 : it->second, text == "K" ? 293.15 : text == "Pa" ? 1e5 : 0.0};
}

}  // namespace

double usual_of_kind(const Dimension& dimension)
{
    return describe_kind(dimension).usual;
}

namespace {

class SolverFormMaker {
public:
    explicit SolverFormMaker(ReducedSystem r) : g_(r.system.graph()), substitute_(g_, [this](const Node& n) { return value_of({n.a, n.b}); })
    {
        form_.reduced = std::move(r);
    }

    SolverForm run()
    {
        outermost_first();
        number_variables();
        count_uses();
        make_states();
        make_candidates();
        for (const SolveBlock& block : form_.reduced.blocks) make_block(block);
        finish_rates();
        finish_choices();
        order_rows();
        make_explicit();
        make_conditions();
        make_events();
        make_start();
        make_outputs();
        make_written();
        collect_knots();
        collect_signals();
        return std::move(form_);
    }

private:
    const ReducedSystem& reduced() const { return form_.reduced; }
    // Inits and guesses in their order of claim, for all that goes through them.
    void outermost_first()
    {
        FlatModel& flat = *form_.reduced.system.flat;
        auto by_depth = [](const auto& a, const auto& b) { return a.depth < b.depth; };
        std::stable_sort(flat.inits.begin(), flat.inits.end(), by_depth);
        std::stable_sort(flat.guesses.begin(), flat.guesses.end(), by_depth);
    }

    // Numbers of all variables there are: those of one quantity stand together, in the order of differentiation.
    void number_variables()
    {
        std::vector<std::uint32_t> orders(form_.flat().quantities.size(), 0);
        auto see = [&](Variable v) { orders[v.quantity] = std::max(orders[v.quantity], v.order + 1); };
        for (const Variable& v : reduced().states) see(v);
        for (const Variable& v : reduced().unknowns) see(v);
        for (const StateChoice& c : reduced().choices)
            for (const auto& [quantity, highest] : c.candidates) see({quantity, highest});
        first_.assign(orders.size() + 1, 0);
        for (std::size_t q = 0; q < orders.size(); ++q) first_[q + 1] = first_[q] + orders[q];
        std::size_t n = first_.back();
        values_.assign(n, kNoNode);
        state_.assign(n, kNoNode);
        depends_.resize(n);
        uses_.assign(n, 0);
        hints_.assign(n, kNoNode);
        needed_in_z_.assign(n, kNotNeeded);
    }
    bool has(Variable v) const { return first_[v.quantity] + v.order < first_[v.quantity + 1]; }
    std::uint32_t key(Variable v) const
    {
        if (!has(v)) throw std::logic_error("solver form: '" + reduced().system.name(v) + "' is no variable of the reduced system");
        return first_[v.quantity] + v.order;
    }

    NodeId value_of(Variable v)
    {
        NodeId value = values_[key(v)];
        if (value == kNoNode) throw std::logic_error("solver form: '" + reduced().system.name(v) + "' is read before it is settled");
        return value;
    }

    void count_uses()
    {
        for (const ReducedEquation& e : reduced().equations)
            for (const Variable& v : reduced().system.variables(e.residual)) ++uses_[key(v)];
    }

    // The quantity a user would name for a variable, and what is declared of it: its own, or one that is an alias of it.
    void collect_aliases()
    {
        const auto& resolutions = reduced().system.resolutions;
        aliases_.resize(values_.size());
        for (QuantityId q = 0; q < resolutions.size(); ++q) {
            const Resolution& r = resolutions[q];
            if (r.known == kNoNode && has({r.representative, r.order})) aliases_[key({r.representative, r.order})].push_back(q);
        }
    }

    // Inits and guesses that name a quantity place its search, too, whether or not they are needed as equations; outermost first.
    void collect_hints()
    {
        const FlatModel& flat = form_.flat();
        auto hint = [&](NodeId target, NodeId value) {
            bool negative = g_[target].op == Op::neg;
            const Node n = g_[negative ? g_[target].a : target];
            if (n.op != Op::quantity) return;
            for (NodeId id : g_.is_constant(value) ? std::vector<NodeId>{} : g_.reachable({value}))
                if (g_[id].op == Op::quantity || g_[id].op == Op::time || g_[id].op == Op::mode || g_[id].op == Op::memory) return;
            if (!has({n.a, n.b})) return;
            NodeId& place = hints_[key({n.a, n.b})];
            if (place == kNoNode) place = negative ? g_.neg(value) : value;
        };
        for (const FlatInit& i : flat.inits) hint(i.left, i.right);
        for (const FlatGuess& i : flat.guesses) hint(i.target, i.value);
    }

    const Kind& kind_of(const Dimension& dimension)
    {
        for (const Kind& k : kinds_)
            if (k.dimension == dimension) return k;
        kinds_.push_back(describe_kind(dimension));
        return kinds_.back();
    }

    std::uint32_t add_z(ZEntry::Kind kind, Variable v)
    {
        if (aliases_.empty()) collect_aliases(), collect_hints();
        ZEntry z;
        z.kind = kind;
        z.variable = v;
        z.low = -std::numeric_limits<double>::infinity();
        z.high = -z.low;
        const auto& flat = form_.flat();
        double declared = 0;
        bool any = false;
        int sign = 1;
        for (QuantityId q : aliases_[key(v)]) {
            const FlatQuantity& f = flat.quantities[q];
            sign = reduced().system.resolutions[q].sign;
            declared = std::max(declared, f.usual);
            z.angle |= (f.unit.text == "rad" || f.unit.text == "deg" || f.unit.text == "rev");
            if (sign > 0) {
                z.low = std::max(z.low, f.low);
                z.high = std::min(z.high, f.high);
                if (f.start != kNoNode && z.start == kNoNode) z.start = f.start;
            } else {
                z.low = std::max(z.low, -f.high);
                z.high = std::min(z.high, -f.low);
                if (f.start != kNoNode && z.start == kNoNode) z.start = g_.neg(f.start);
            }
            any = true;
        }
        if (hints_[key(v)] != kNoNode) z.start = hints_[key(v)];
        Dimension dimension = flat.quantities[v.quantity].unit.dimension;
        for (std::uint32_t k = 0; k < v.order; ++k) dimension = dimension / Dimension::base(2);
        const Kind& of_kind = kind_of(dimension);
        z.usual = declared > 0 ? declared : of_kind.usual;
        if (declared == 0 && z.start != kNoNode && g_.is_constant(z.start)) z.usual = std::max(z.usual, std::abs(g_.value(z.start)));
        if (z.start == kNoNode) {
            double at = of_kind.start;
            if (at < z.low || at > z.high) at = std::isfinite(z.low) && std::isfinite(z.high) ? 0.5 * (z.low + z.high) : std::isfinite(z.low) ? z.low : z.high;
            if (any || at != 0) z.start = g_.constant(at);
        }
        form_.z.push_back(z);
        return static_cast<std::uint32_t>(form_.z.size() - 1);
    }

    void make_states()
    {
        for (const Variable& v : reduced().states) {
            std::uint32_t i = add_z(ZEntry::Kind::state, v);
            form_.z[i].rate = i;
            values_[key(v)] = g_.leaf(Op::unknown, i);
            state_[key(v)] = i;
            depends_[key(v)] = {i};
        }
    }

    void make_candidates()
    {
        for (const StateChoice& choice : reduced().choices) {
            SolverChoice made;
            made.differentiated = choice.differentiated;
            for (const auto& [quantity, highest] : choice.candidates) {
                std::vector<std::uint32_t> orders;
                for (std::uint32_t k = 0; k < highest; ++k) {
                    Variable v{quantity, k};
                    std::uint32_t i = add_z(ZEntry::Kind::candidate, v);
                    values_[key(v)] = g_.leaf(Op::unknown, i);
                    depends_[key(v)] = {i};
                    orders.push_back(i);
                }
                needed_in_z_[key({quantity, highest})] = 0;
                made.orders.push_back(std::move(orders));
            }
            form_.choices.push_back(std::move(made));
        }
    }

    // A member of z for a quantity that is no state; one that a choice of states refers to is remembered.
    std::uint32_t add_unknown(ZEntry::Kind kind, Variable v)
    {
        std::uint32_t i = add_z(kind, v);
        values_[key(v)] = g_.leaf(Op::unknown, i);
        depends_[key(v)] = {i};
        if (needed_in_z_[key(v)] != kNotNeeded) needed_in_z_[key(v)] = i;
        return i;
    }

    // The constraints between candidates, and as many links as there are states among them.
    void finish_choices()
    {
        for (std::uint32_t e = 0; e < reduced().equations.size(); ++e)
            if (reduced().equations[e].constraint) add_residual(substitute_(reduced().equations[e].residual), e);
        for (std::size_t i = 0; i < form_.choices.size(); ++i) {
            const StateChoice& choice = reduced().choices[i];
            SolverChoice& made = form_.choices[i];
            for (std::size_t c = 0; c < choice.candidates.size(); ++c)
                made.orders[c].push_back(needed_in_z_[key({choice.candidates[c].quantity, choice.candidates[c].highest})]);
            for (const StateChoice::Entry& e : choice.entries) made.entries.push_back({e.row, e.candidate, substitute_(e.value)});
            for (std::size_t k = choice.n_states(); k > 0; --k) {
                made.links.push_back(static_cast<std::uint32_t>(form_.residuals.size()));
                add_residual(g_.constant(0), kNoNode);
            }
        }
        if (form_.residuals.size() != form_.z.size()) throw std::logic_error("solver form: not as many residuals as unknowns");
    }

    // (q, k) is the rate of a state if (q, k-1) is one
    std::uint32_t state_below(Variable v) const { return v.order == 0 ? kNoNode : state_[key({v.quantity, v.order - 1})]; }

    /// `home`: the member of z that the residual was solved for.
    void add_residual(NodeId residual, std::uint32_t equation, std::uint32_t home = kNoNode)
    {
        form_.residuals.push_back(residual);
        form_.residual_of.push_back(equation);
        homes_.push_back(home);
    }

    // What was solved for a member of z takes the row of its number: the matrix has its diagonal there, and where all rows are such, the
    // system is explicit and is seen to be. The others fill the rows left, in their order.
    void order_rows()
    {
        std::size_t n = form_.residuals.size();
        std::vector<std::uint32_t> row(n, kNoNode), taken(n, kNoNode);
        for (std::uint32_t r = 0; r < n; ++r)
            if (homes_[r] != kNoNode && taken[homes_[r]] == kNoNode) taken[homes_[r]] = r, row[r] = homes_[r];
        std::uint32_t free = 0;
        for (std::uint32_t r = 0; r < n; ++r) {
            if (row[r] != kNoNode) continue;
            while (taken[free] != kNoNode) ++free;
            taken[free] = r;
            row[r] = free;
        }
        std::vector<NodeId> residuals(n);
        std::vector<std::uint32_t> equations(n);
        for (std::uint32_t r = 0; r < n; ++r) {
            residuals[row[r]] = form_.residuals[r];
            equations[row[r]] = form_.residual_of[r];
        }
        form_.residuals = std::move(residuals);
        form_.residual_of = std::move(equations);
        for (SolverChoice& choice : form_.choices)
            for (std::uint32_t& link : choice.links) link = row[link];
    }

    void make_block(const SolveBlock& block)
    {
        for (std::uint32_t u : block.iterates) {
            Variable v = reduced().unknowns[u];
            std::uint32_t below = state_below(v);
            if (below != kNoNode) {
                values_[key(v)] = g_.leaf(Op::rate, below);
                depends_[key(v)] = {below};
                form_.z[below].rate_start = start_of_rate(v);
            } else {
                add_unknown(ZEntry::Kind::iterate, v);
            }
        }
        for (const SolveBlock::Step& step : block.steps) make_step(step);
        for (std::uint32_t e : block.residuals) add_residual(substitute_(reduced().equations[e].residual), e);
    }

    // A rate is searched from the guess of a quantity that is one with it (the flow out of a content).
    NodeId start_of_rate(Variable v)
    {
        if (hints_[key(v)] != kNoNode) return hints_[key(v)];
        for (QuantityId q : aliases_[key(v)]) {
            NodeId start = form_.flat().quantities[q].start;
            if (start != kNoNode) return reduced().system.resolutions[q].sign < 0 ? g_.neg(start) : start;
        }
        return kNoNode;
    }

    void make_step(const SolveBlock::Step& step)
    {
        Variable v = reduced().unknowns[step.unknown];
        NodeId value = substitute_(step.value);
        std::uint32_t below = state_below(v);
        if (below != kNoNode) {
            NodeId rate = g_.leaf(Op::rate, below);
            add_residual(g_.sub(rate, value), step.equation, below);
            settle_rate(below, value);
            values_[key(v)] = rate;
            depends_[key(v)] = {below};
            return;
        }
        std::vector<std::uint32_t> depends;
        for (const Variable& w : reduced().system.variables(step.value)) {
            const auto& more = depends_[key(w)];
            std::vector<std::uint32_t> merged;
            std::set_union(depends.begin(), depends.end(), more.begin(), more.end(), std::back_inserter(merged));
            depends = std::move(merged);
        }
        if ((depends.size() > kMaxCopiedDependencies && uses_[key(v)] > 1) || needed_in_z_[key(v)] != kNotNeeded) {
            std::uint32_t i = add_unknown(ZEntry::Kind::carried, v);
            add_residual(g_.sub(g_.leaf(Op::unknown, i), value), step.equation, i);
            return;
        }
        ++form_.n_explicit;
        values_[key(v)] = value;
        depends_[key(v)] = std::move(depends);
    }

    // the rate of a state that is itself followed by a state: x' = v with both in z
    void finish_rates()
    {
        for (const Variable& v : reduced().states) {
            Variable rate{v.quantity, v.order + 1};
            if (!has(rate) || state_[key(rate)] == kNoNode) continue;
            NodeId value = g_.leaf(Op::unknown, state_[key(rate)]);
            add_residual(g_.sub(g_.leaf(Op::rate, state_[key(v)]), value), kNoNode, state_[key(v)]);
            settle_rate(state_[key(v)], value);
        }
    }

    void settle_rate(std::uint32_t state, NodeId value) { rate_values_.emplace_back(state, value); }

    // Where each rate has an equation of its own, but some read others (a reaction that is the whole change of one substance and part of that of another),
    // what those are is put in their place: the system is explicit then, and needs no matrix where it is not stiff.
    void make_explicit()
    {
        constexpr double kGrowth = 1.5;  // of the entries of the matrix
        constexpr std::size_t kFree = 50;
        std::size_t n = form_.z.size();
        if (!form_.choices.empty() || rate_values_.size() != n) return;
        if (std::any_of(form_.z.begin(), form_.z.end(), [](const ZEntry& z) { return z.kind != ZEntry::Kind::state; })) return;
        std::vector<NodeId> final(n, kNoNode);
        std::vector<std::vector<std::uint32_t>> depends(n);
        std::size_t before = 0, after = 0;
        bool any = false;
        for (auto [state, value] : rate_values_) {
            std::vector<std::uint32_t> own, read;
            for (NodeId id : g_.reachable({value})) {
                if (g_[id].op == Op::unknown) own.push_back(g_[id].a);
                if (g_[id].op == Op::rate) read.push_back(g_[id].a);
            }
            std::sort(own.begin(), own.end());
            before += own.size() + read.size() + 1;
            for (std::uint32_t r : read) {
                if (final[r] == kNoNode) return;  // not settled before it
                std::vector<std::uint32_t> merged;
                std::set_union(own.begin(), own.end(), depends[r].begin(), depends[r].end(), std::back_inserter(merged));
                own = std::move(merged);
            }
            after += own.size() + 1;
            if (!read.empty()) {
                any = true;
                rewrite(g_, {&value}, [&](NodeId id, const Node& node) { return node.op == Op::rate ? final[node.a] : id; });
            }
            final[state] = value;
            depends[state] = std::move(own);
            if (static_cast<double>(after) > kGrowth * static_cast<double>(before) + kFree) return;
        }
        if (!any) return;
        for (std::uint32_t i = 0; i < n; ++i) form_.residuals[i] = g_.sub(g_.leaf(Op::rate, i), final[i]);
    }

    void make_conditions()
    {
        form_.conditions = reduced().system.conditions;
        TimeDerivative derivative(g_);
        for (Condition& c : form_.conditions) {
            c.value = substitute_(c.value);
            c.held = stands_still(c.value);
            c.fragile = may_lack_value(c.value);
            for (NodeId id : g_.reachable({c.value}))
                c.reads_solved = c.reads_solved || g_[id].op == Op::rate || (g_[id].op == Op::unknown && form_.z[g_[id].a].kind != ZEntry::Kind::state);
            c.of_time = is_of_time_alone(g_, c.value) && is_enclosed(c.value);
            if (!runs_with_time_alone(c.value)) continue;
            NodeId slope = derivative(c.value);
            bool straight = derivative.trouble().empty();
            for (NodeId id : g_.reachable({slope})) straight = straight && g_[id].op != Op::time;
            if (straight && !g_.is_constant(slope, 0)) c.slope = slope, c.of_time = false;
        }
    }
    bool may_lack_value(NodeId value) const
    {
        for (NodeId id : g_.reachable({value})) {
            Op op = g_[id].op;
            bool division = op == Op::div && !g_.is_constant(g_[id].b);
            if (division || op == Op::sqrt || op == Op::log || op == Op::pow || op == Op::asin || op == Op::acos || op == Op::lookup || op == Op::call)
                return true;
        }
        return false;
    }
    // Without anything that is enclosed by samples alone.
    bool is_enclosed(NodeId value) const
    {
        for (NodeId id : g_.reachable({value}))
            if (g_[id].op == Op::call || (g_[id].op == Op::lookup && g_[id].c != kNoNode)) return false;
        return true;
    }
    bool stands_still(NodeId value) const
    {
        for (NodeId id : g_.reachable({value})) {
            const Node& n = g_[id];
            if (n.op == Op::unknown || n.op == Op::rate || n.op == Op::time || (n.op == Op::memory && n.b == 1)) return false;
        }
        return true;
    }
    bool runs_with_time_alone(NodeId value) const
    {
        bool time = false;
        for (NodeId id : g_.reachable({value})) {
            const Node& n = g_[id];
            if (n.op == Op::unknown || n.op == Op::rate || (n.op == Op::memory && n.b == 1) || n.op == Op::lookup || n.op == Op::call) return false;
            time |= n.op == Op::time;
        }
        return time;
    }

    void make_events()
    {
        FlatModel& flat = *form_.reduced.system.flat;
        for (FlatBlock& b : flat.blocks)
            for (FlatSetting& s : b.settings)
                if (s.target != kNoNode)
                    for (const Variable& v : form_.reduced.system.variables(s.target)) s.order = std::max(s.order, v.order);
        for_each_expression(flat, [&](NodeId& node, Role role) {
            if (role == Role::event) node = substitute_(node);
        });
        for (NodeId& node : flat.switches) node = substitute_(node);
        form_.events = flat;
        order_sampled_blocks();
    }

    // Sampled blocks that feed each other run in the order of the data; in a ring, and where nothing is fed, in that of the text.
    void order_sampled_blocks()
    {
        auto& blocks = form_.events.blocks;
        auto begin = std::find_if(blocks.begin(), blocks.end(), [](const FlatBlock& b) { return b.kind == FlatBlock::Kind::every; });
        auto end = std::find_if(begin, blocks.end(), [](const FlatBlock& b) { return b.kind != FlatBlock::Kind::every; });
        std::map<std::uint32_t, std::uint32_t> setter;
        for (auto b = begin; b != end; ++b)
            for (const FlatSetting& s : b->settings)
                if (s.memory != FlatSetting::kNone) setter.emplace(s.memory, static_cast<std::uint32_t>(b - begin));
        if (setter.empty()) return;
        Adjacency reads;  // of a block: those whose results it reads
        for (auto b = begin; b != end; ++b) {
            std::vector<NodeId> roots;
            for (const FlatSetting& s : b->settings) roots.insert(roots.end(), {s.value, s.when});
            for (const FlatAlert& a : b->alerts) roots.push_back(a.when);
            std::set<std::uint32_t> from;
            for (NodeId id : g_.reachable(roots)) {
                if (g_[id].op != Op::memory) continue;
                auto s = setter.find(g_[id].a);
                if (s != setter.end() && s->second != static_cast<std::uint32_t>(b - begin)) from.insert(s->second);
            }
            reads.add_row({from.begin(), from.end()});
        }
        std::vector<FlatBlock> sorted;
        for (auto& group : strong_components(reads)) {
            std::sort(group.begin(), group.end());
            for (std::uint32_t k : group) sorted.push_back(*(begin + k));
        }
        std::move(sorted.begin(), sorted.end(), begin);
    }

    void make_start()
    {
        const FlatModel& flat = form_.flat();
        auto text = [&](NodeId a, NodeId b) { return flat.node_text(a) + " = " + flat.node_text(b); };
        for (const FlatInit& i : flat.inits) {
            StartEquation::Claim claim = i.find ? StartEquation::Claim::find : StartEquation::Claim::init;
            if (claim == StartEquation::Claim::init && flat.begin_steady && names_exempt(i)) claim = StartEquation::Claim::exempt_init;
            form_.start.push_back(
                {substitute_(i.left), substitute_(i.right), i.origin, claim, i.key.empty() ? text(i.left, i.right) : i.key + " = " + flat.node_text(i.right)});
        }
        for (const FlatGuess& i : flat.guesses)
            form_.start.push_back({substitute_(i.target), substitute_(i.value), i.origin, StartEquation::Claim::guess,
                                   i.key.empty() ? text(i.target, i.value) : i.key + " = " + flat.node_text(i.value)});
        form_.steady = flat.begin_steady;
        for (NodeId node : flat.steady_except)
            for (const Variable& v : reduced().system.variables(node))
                for (ZEntry& z : form_.z)
                    if (z.variable == v) z.exempt = true;
    }
    bool names_exempt(const FlatInit& i) const
    {
        for (NodeId node : form_.flat().steady_except)
            for (const Variable& v : reduced().system.variables(node))
                for (const Variable& w : reduced().system.variables(i.left))
                    if (v.quantity == w.quantity) return true;
        return false;
    }

    void make_outputs()
    {
        const FlatModel& flat = form_.flat();
        const auto& resolutions = reduced().system.resolutions;
        for (QuantityId q = 0; q < flat.quantities.size(); ++q) {
            const FlatQuantity& f = flat.quantities[q];
            const Resolution& r = resolutions[q];
            NodeId value = r.known != kNoNode ? r.known : value_of({r.representative, r.order});
            if (r.known == kNoNode && r.sign < 0) value = g_.neg(value);
            form_.outputs.push_back({f.path, value, f.unit, f.boolean, f.doc, f.origin});
        }
        // a state that is a derivative of another (x' of x'') is recorded under that name, so that a run can go on from a recording
        std::set<std::string> viewed;
        for (const FlatView& v : flat.views) viewed.insert(v.path);
        for (std::uint32_t i = 0; i < form_.z.size(); ++i) {
            const ZEntry& z = form_.z[i];
            bool state = z.kind == ZEntry::Kind::state || z.kind == ZEntry::Kind::candidate;
            if (!state || z.variable.order == 0 || !aliases_[key(z.variable)].empty() || viewed.count(reduced().system.name(z.variable))) continue;
            const FlatQuantity& f = flat.quantities[z.variable.quantity];
            Unit unit = f.unit;
            for (std::uint32_t k = 0; k < z.variable.order; ++k) unit = unit.rate();
            form_.outputs.push_back({reduced().system.name(z.variable), g_.leaf(Op::unknown, i), unit, false, f.doc, f.origin});
        }
        for (std::uint32_t i = 0; i < flat.memories.size(); ++i) {
            const FlatMemory& m = flat.memories[i];
            if (!m.hidden) form_.outputs.push_back({m.path, g_.leaf(Op::memory, i), m.unit, m.boolean, m.doc, m.origin});
        }
        for (const FlatView& v : flat.views) form_.outputs.push_back({v.path, substitute_(v.value), v.unit, v.boolean, v.doc, v.origin});
    }

    void make_written()
    {
        const FlatModel& flat = form_.flat();
        const auto& resolutions = reduced().system.resolutions;
        TimeDerivative derivative(g_);
        for (const WrittenModel::Leaf& leaf : form_.as_written().leaves) {
            const Resolution& r = resolutions[leaf.quantity];
            NodeId value = r.known;
            if (value != kNoNode)
                for (std::uint32_t k = 0; k < leaf.order; ++k) value = derivative(value);
            else if (Variable v{r.representative, r.order + leaf.order}; has(v))
                value = r.sign < 0 && values_[key(v)] != kNoNode ? g_.neg(values_[key(v)]) : values_[key(v)];
            form_.written.push_back(value);
            const FlatQuantity& f = flat.quantities[leaf.quantity];
            Dimension dimension = f.unit.dimension;
            for (std::uint32_t k = 0; k < leaf.order; ++k) dimension = dimension / Dimension::base(2);
            form_.written_usual.push_back(leaf.order == 0 && f.usual > 0 ? f.usual : kind_of(dimension).usual);
        }
    }

    // tables of time: their knots are hit exactly
    void collect_knots()
    {
        for (NodeId id = 0; id < g_.size(); ++id) {
            const Node& n = g_[id];
            if (n.op != Op::lookup || n.c != kNoNode || g_[n.b].op != Op::time) continue;
            const auto& knots = g_.table(n.a).knots(0);
            form_.time_knots.insert(form_.time_knots.end(), knots.begin(), knots.end());
        }
        std::sort(form_.time_knots.begin(), form_.time_knots.end());
        form_.time_knots.erase(std::unique(form_.time_knots.begin(), form_.time_knots.end()), form_.time_knots.end());
    }

    // Known functions of time: what steps and measures must not pass over.
    void collect_signals()
    {
        std::vector<NodeId> roots = form_.residuals;
        for (const Condition& c : form_.conditions)
            if (!c.is_clocked()) roots.push_back(c.value);
        for (const FlatDelay& d : form_.events.delays) roots.push_back(d.source);
        form_.signals = signals_below(g_, roots);
        for (const FlatAccumulator& a : form_.events.accumulators) form_.measured_signals.push_back(signals_below(g_, {a.value, a.when}));
    }

    SolverForm form_;
    Graph& g_;
    Substitution substitute_;
    // per variable, see number_variables()
    static constexpr std::uint32_t kNotNeeded = kNoNode;
    std::vector<std::uint32_t> first_;  ///< per quantity: number of its first variable
    std::vector<NodeId> values_;
    std::vector<std::uint32_t> state_;  ///< place in z
    std::vector<std::vector<std::uint32_t>> depends_;
    std::vector<std::uint32_t> uses_;
    std::vector<std::vector<QuantityId>> aliases_;
    std::vector<NodeId> hints_;
    std::vector<std::uint32_t> needed_in_z_;  ///< of highest derivatives of candidates: their place in z
    std::vector<Kind> kinds_;                 ///< those met so far: few
    /// Of states whose rates have an equation of their own: what they are, in the order in which they are settled.
    std::vector<std::pair<std::uint32_t, NodeId>> rate_values_;
    std::vector<std::uint32_t> homes_;  ///< per residual: the member of z it was solved for
};

}  // namespace

SolverForm make_solver_form(ReducedSystem system)
{
    return SolverFormMaker(std::move(system)).run();
}

std::string SolverForm::text() const
{
    auto leaf = [&](const Node& n) -> std::string {
        if (n.op == Op::unknown) return z_name(n.a);
        if (n.op == Op::rate) return z_name(n.a) + "'";
        if (n.op == Op::parameter) return flat().parameters[n.a].path;
        return fmt::format("{}[{}]", op_name(n.op), n.a);
    };
    std::string out;
    for (std::uint32_t i = 0; i < z.size(); ++i) {
        const char* kind = z[i].kind == ZEntry::Kind::state       ? "state"
                           : z[i].kind == ZEntry::Kind::candidate ? "candidate"
                           : z[i].kind == ZEntry::Kind::iterate   ? "iterate"
                                                                  : "carried";
        out += fmt::format("{} {} usual {:g}\n", kind, z_name(i), z[i].usual);
    }
    const Graph& g = reduced.system.graph();
    for (NodeId r : residuals) out += fmt::format("0 = {}\n", g.text(r, leaf));
    for (std::size_t k = 0; k < conditions.size(); ++k) out += fmt::format("mode[{}]: {}\n", k, conditions[k].text);
    return out;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "events/variant_change.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "compile/passes.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {

VariantChange::VariantChange(Evaluation& evaluation, ConsistentSolver& consistent, const SourceSet& sources)
    : e_(evaluation), consistent_(consistent), sources_(sources)
{
}

std::vector<char> VariantChange::wanted_key()
{
    const VariantFamily& family = *e_.first_model()->family;
    e_.work_out(e_.model().events.switches);
    std::vector<char> key;
    for (std::uint32_t s : family.switches) key.push_back(e_.value_at(e_.model().events.switches.results[s]) != 0 ? 1 : 0);
    return key;
}

std::string VariantChange::keys_text(const std::vector<char>& key) const
{
    const VariantFamily& family = *e_.first_model()->family;
    const FlatModel& flat = *family.base.flat;
    std::string text;
    for (std::size_t k = 0; k < key.size() && k < 8; ++k) {
        // the condition as it stands in the text: the first equation that it chooses for tells where
        NodeId node = flat.switches[family.switches[k]];
        std::string where, part;
        for (const FlatEquation& e : flat.equations)
            for (NodeId root : {e.left, e.right})
                if (flat.graph[root].op == Op::select && flat.graph[root].a == node && where.empty()) {
                    where = place_text(sources_, e.origin.span);
                    part = flat.instances[e.origin.instance];
                }
        text += fmt::format("\n      {}{}the branch of its {} holds", where.empty() ? "" : where + ": ", part.empty() ? "" : part + ": ",
                            key[k] != 0 ? "condition" : "'else'");
    }
    return text;
}

std::shared_ptr<const CompiledModel> VariantChange::model_for(const std::vector<char>& key, double time)
{
    std::string reason;
    auto model = family_get(key, reason);
    if (model == nullptr)
        throw NumericFailure("no-system",
                             fmt::format("at {:.9g} s the conditions ask for a system of equations that has no solution: {}{}", time, reason, keys_text(key)),
                             "give the parts that are cut off or clamped twice something that settles them: a small leakage, a stiffness");
    return model;
}

// Two parts may ask for what no equations can give (a switch closed onto a diode that still conducts): then conditions that follow from
// the motion give way, one of them, else two. Clocks and stages do not. What they have given way to is looked at with the next solution.
bool VariantChange::give_way(const std::vector<char>& key)
{
    std::string reason;
    if (family_get(key, reason) != nullptr) return false;
    std::vector<std::uint32_t> free = free_conditions();
    constexpr std::size_t kPairsUpTo = 12;
    auto turn = [&](std::uint32_t i) { e_.set_mode(i, 1 - e_.mode(i)); };
    auto works = [&] { return family_get(wanted_key(), reason) != nullptr; };
    for (std::uint32_t a : free) {
        turn(a);
        if (works()) return true;
        turn(a);
    }
    for (std::size_t i = 0; i < free.size() && free.size() <= kPairsUpTo; ++i)
        for (std::size_t j = i + 1; j < free.size(); ++j) {
            turn(free[i]), turn(free[j]);
            if (works()) return true;
            turn(free[i]), turn(free[j]);
        }
    return false;
}

bool VariantChange::try_another()
{
    constexpr std::size_t kMost = 12;
    if (!any()) return false;
    std::vector<std::uint32_t> free = free_conditions();
    if (first_modes_.empty())
        for (std::uint32_t i : free) first_modes_.push_back(e_.mode(i));
    if (free.size() != first_modes_.size() || free.size() > kMost) return false;
    // combinations in the order of a counter: those with few conditions turned are among the first
    while (++tried_ < (1ull << free.size())) {
        for (std::size_t k = 0; k < free.size(); ++k) e_.set_mode(free[k], (tried_ >> k & 1) != 0 ? 1 - first_modes_[k] : first_modes_[k]);
        std::string reason;
        auto model = family_get(wanted_key(), reason);
        if (model == nullptr || model->key == e_.model().key) continue;
        e_.change_model(model);
        consistent_.renew();
        return true;
    }
    return false;
}

// Conditions of structural switches that follow from the motion: no clocks, no stages.
std::vector<std::uint32_t> VariantChange::free_conditions() const
{
    const VariantFamily& family = *e_.first_model()->family;
    const CompiledModel& m = e_.model();
    std::vector<std::uint32_t> free;
    for (std::uint32_t s : family.switches)
        for (NodeId id : m.form.reduced.system.graph().reachable({m.form.events.switches[s]})) {
            const Node& n = m.form.reduced.system.graph()[id];
            if (n.op == Op::mode && !m.form.conditions[n.a].is_clocked() && m.form.conditions[n.a].kind != Condition::Kind::whole &&
                std::find(free.begin(), free.end(), n.a) == free.end())
                free.push_back(n.a);
        }
    return free;
}

std::shared_ptr<const CompiledModel> VariantChange::family_get(const std::vector<char>& key, std::string& reason)
{
    return e_.first_model()->family->get(e_.first_model(), key, reason);
}

std::shared_ptr<const CompiledModel> VariantChange::system_of(const std::vector<char>& key, const std::vector<std::uint32_t>& slides)
{
    const auto& first = e_.first_model();
    std::string reason;
    if (any() && key.size() != first->family->switches.size()) return nullptr;
    if (!slides.empty()) return first->sliding == nullptr ? nullptr : first->sliding->get(key, slides);
    if (any()) return family_get(key, reason);
    return key.empty() ? first : nullptr;
}

bool VariantChange::take(State& s)
{
    if (!any()) return false;
    std::vector<char> key = wanted_key();
    if (key == e_.model().key) return false;
    if (give_way(key)) key = wanted_key();
    if (key == e_.model().key) return false;
    e_.change_model(model_for(key, s.time));
    consistent_.renew();
    return true;
}

void VariantChange::look_at(const State& s)
{
    const CompiledModel& m = e_.model();
    const auto& outputs = m.form.outputs;
    auto read = [&](std::vector<double>& to) {
        e_.outputs();
        to.resize(outputs.size());
        for (std::size_t i = 0; i < outputs.size(); ++i) to[i] = e_.own_output(i);
    };
    // slopes of everything along the motion, for what is a derivative of something that is only computed
    double ahead = 1e-7 * std::max(1e-3, std::abs(s.time));
    std::vector<double> z = s.z;
    for (std::size_t i = 0; i < z.size(); ++i) z[i] += ahead * s.rates[i];
    e_.at(s.time + ahead, z.data(), s.rates.data());
    read(slopes_);
    e_.at(s.time, s.z.data(), s.rates.data());
    read(outputs_);
    for (std::size_t i = 0; i < slopes_.size(); ++i) slopes_[i] = (slopes_[i] - outputs_[i]) / ahead;
    members_.clear();
    for (std::size_t i = 0; i < m.n(); ++i) {
        Variable v = m.form.z[i].variable;
        members_[{v.quantity, v.order}] = s.z[i];
        if (e_.is_state(i)) members_.emplace(std::pair{v.quantity, v.order + 1}, s.rates[i]);
    }
}

// A derivative of a quantity as the motion is in the system that is left.
double VariantChange::present(QuantityId quantity, std::uint32_t order)
{
    const auto& resolutions = e_.model().form.reduced.system.resolutions;
    constexpr double kBetween = 0.5;
    if (quantity >= resolutions.size()) return order == 0 ? kBetween : 0;  // a share that the system at hand does not have
    if (order == 0) return outputs_[quantity];
    const Resolution& r = resolutions[quantity];
    if (r.known == kNoNode) {
        if (auto it = members_.find({r.representative, r.order + order}); it != members_.end()) return r.sign * it->second;
        for (QuantityId q = 0; q < resolutions.size(); ++q)
            if (resolutions[q].known == kNoNode && resolutions[q].representative == r.representative && resolutions[q].order == r.order + order)
                return r.sign * resolutions[q].sign * outputs_[q];
    }
    return order == 1 ? slopes_[quantity] : 0;
}

// Settles `jumps_`; true if conditions were turned by it instead.
bool VariantChange::jump(const CompiledModel& next, const State& s)
{
    constexpr double kClose = 1e-6;
    jumps_.clear();
    const Impact& impact = next.impact;
    if (impact.rows.empty()) return false;
    const Graph& g = next.form.reduced.system.graph();
    const FlatModel& flat = next.form.flat();
    NodeValues values(g, [&](const Node& n) {
        if (n.op == Op::time) return s.time;
        if (n.op == Op::parameter) return e_.parameter(n.a);
        if (n.op == Op::mode) return e_.mode(n.a);
        if (n.op == Op::memory) return e_.memory(n.a);
        return n.op == Op::quantity ? present(n.a, n.b == kNoNode ? 0 : n.b) : 0.0;
    });
    auto size_of = [&](NodeId residual) {
        double size = 0;
        for (const Variable& v : next.form.reduced.system.variables(residual)) {
            double usual = 1e-6;
            for (const ZEntry& z : next.form.z)
                if (z.variable.quantity == v.quantity && z.variable.order == v.order) usual = z.usual;
            size = std::max({size, std::abs(present(v.quantity, v.order)), usual});
        }
        return size;
    };
    std::vector<double> right(impact.rows.size(), 0.0);
    bool any = false;
    for (std::size_t r = 0; r < impact.rows.size(); ++r) {
        const Impact::Row& row = impact.rows[r];
        if (row.mismatch == kNoNode) continue;
        right[r] = -values(row.mismatch);
        any = any || right[r] != 0;
        for (NodeId below : row.below) {
            double off = values(below), size = size_of(below);
            if (std::abs(off) <= kClose * size) continue;
            const FlatEquation& e = flat.equations[row.flat];
            throw NumericFailure("run-failed",
                                 fmt::format("at {:.9g} s a constraint begins to hold that positions contradict by {:.3g} (SI): {}: {}", s.time, off,
                                             place_text(sources_, e.origin.span), flat.equation_text(e)),
                                 "let it begin when the positions meet, or set them as the block does that begins it");
        }
    }
    if (!any) return false;
    SparsePattern pattern;
    pattern.n_columns = static_cast<std::uint32_t>(impact.columns.size());
    std::vector<Impact::Entry> entries = impact.entries;
    std::stable_sort(entries.begin(), entries.end(), [](const auto& a, const auto& b) { return a.column != b.column ? a.column < b.column : a.row < b.row; });
    std::vector<double> matrix;
    std::size_t at = 0;
    for (std::uint32_t c = 0; c < pattern.n_columns; ++c) {
        for (; at < entries.size() && entries[at].column == c; ++at) {
            pattern.rows.push_back(entries[at].row);
            matrix.push_back(values(entries[at].value));
        }
        pattern.starts.push_back(static_cast<std::int64_t>(pattern.rows.size()));
    }
    SparseLU lu(pattern);
    if (impact.rows.size() != impact.columns.size() || !lu.factor(matrix) || lu.doubtful())
        throw NumericFailure("run-failed",
                             fmt::format("at {:.9g} s the jump that a new constraint causes cannot be settled: the equations lose their rank", s.time));
    lu.solve(right.data());
    // does the jump itself drive conditions over zero? Their values are then beyond all measure, with its sign.
    std::vector<double> driven(next.form.conditions.size(), 0.0), size(next.form.conditions.size(), 0.0);
    for (const Impact::Entry& c : impact.conditions) {
        double part = values(c.value) * right[c.column];
        driven[c.row] += part;
        size[c.row] += std::abs(part);
    }
    // a mismatch that is rounding only turns nothing
    double largest = 0;
    for (std::size_t r = 0; r < impact.rows.size(); ++r)
        if (impact.rows[r].mismatch != kNoNode) largest = std::max(largest, std::abs(values(impact.rows[r].mismatch)) / size_of(impact.rows[r].mismatch));
    bool turned = false;
    for (std::size_t i = 0; i < driven.size() && largest > 1e-7; ++i) {
        if (next.form.conditions[i].kind == Condition::Kind::whole || std::abs(driven[i]) <= 1e-9 * size[i] || size[i] == 0) continue;
        double mode = driven[i] < 0 ? 1 : 0;
        if (mode == e_.mode(i)) continue;
        e_.set_mode(i, mode);
        turned = true;
    }
    if (turned) return true;
    for (std::size_t c = 0; c < impact.columns.size(); ++c)
        if (impact.columns[c].order > 0) jumps_[{impact.columns[c].quantity, impact.columns[c].order - 1}] = right[c];
    return false;
}

// Into another system, with what the motion has there and its jumps.
void VariantChange::carry(State& s, const std::shared_ptr<const CompiledModel>& next)
{
    State taken;
    taken.time = s.time;
    std::size_t n = next->n();
    taken.z.resize(n);
    taken.rates.assign(n, 0.0);
    auto after = [&](Variable v) {
        double value = present(v.quantity, v.order);
        if (auto it = jumps_.find({v.quantity, v.order}); it != jumps_.end()) value += it->second;
        return value;
    };
    for (std::size_t i = 0; i < n; ++i) {
        Variable v = next->form.z[i].variable;
        taken.z[i] = after(v);
        if (next->form.z[i].kind == ZEntry::Kind::state) taken.rates[i] = present(v.quantity, v.order + 1);
    }
    e_.change_model(next);
    consistent_.renew();
    e_.at(taken.time, taken.z.data(), taken.rates.data());
    e_.choose_states();
    s = std::move(taken);
}

bool VariantChange::slide(State& s, std::uint32_t condition)
{
    const auto& models = e_.first_model()->sliding;
    if (models == nullptr) return false;
    std::vector<std::uint32_t> along = e_.model().slides;
    if (std::find(along.begin(), along.end(), condition) != along.end()) return false;
    along.push_back(condition);
    std::sort(along.begin(), along.end());
    std::shared_ptr<const CompiledModel> next = models->get(e_.model().key, along);
    if (next == nullptr) return false;
    look_at(s);
    jumps_.clear();
    carry(s, next);
    e_.set_mode(condition, 0);  // from now on: whether its share has left 0 .. 1
    return true;
}

bool VariantChange::leave(State& s)
{
    const CompiledModel& m = e_.model();
    for (std::size_t k = 0; k < m.slides.size(); ++k) {
        std::uint32_t condition = m.slides[k];
        if (e_.mode(condition) == 0) continue;
        std::vector<std::uint32_t> along = m.slides;
        along.erase(along.begin() + static_cast<std::ptrdiff_t>(k));
        std::string reason;
        std::shared_ptr<const CompiledModel> next = !along.empty() ? e_.first_model()->sliding->get(m.key, along)
                                                    : any()        ? family_get(m.key, reason)
                                                                   : e_.first_model();
        if (next == nullptr) return false;
        look_at(s);
        double side = outputs_[m.share_output[k]] > 0.5 ? 1 : 0;
        jumps_.clear();
        carry(s, next);
        e_.set_mode(condition, side);
        for (const SameSurface& other : same_surface(*e_.first_model()->sliding->base, condition)) e_.set_mode(other.condition, other.with ? side : 1 - side);
        return true;
    }
    return false;
}

VariantChange::Result VariantChange::follow(State& s)
{
    if (!any()) return Result::same;
    std::vector<char> key = wanted_key();
    if (key == e_.model().key) return Result::same;
    if (give_way(key)) return Result::turned;
    auto next = model_for(key, s.time);
    look_at(s);
    if (jump(*next, s)) return Result::turned;
    carry(s, next);
    return Result::taken_over;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "verify/verify.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

/// The consistent values of a row are solved to about this, whatever the tolerance of the run.
constexpr double kFinest = 1e-8;
constexpr std::size_t kMostFindings = 10;

std::vector<NodeId> all_roots(const WrittenModel& w)
{
    std::vector<NodeId> roots = w.views;
    for (const auto& e : w.equations) roots.insert(roots.end(), {e.left, e.right});
    for (const FlatInit& i : w.inits) roots.insert(roots.end(), {i.left, i.right});
    roots.insert(roots.end(), w.parameters.begin(), w.parameters.end());
    for (const FlatLimit& l : w.limits) roots.insert(roots.end(), {l.value, l.low, l.high});
    std::erase(roots, kNoNode);
    return roots;
}

}  // namespace

Verifier::Verifier(const CompiledModel& model, const SourceSet& sources, double tolerance, bool by_tolerance)
    : m_(model),
      flat_(model.form.flat()),
      written_(model.form.as_written()),
      sources_(sources),
      limit_(std::max(tolerance, kFinest)),
      by_tolerance_(by_tolerance),
      values_(flat_.graph, all_roots(written_), written_.needs, limit_),
      leaf_(written_.leaves.size()),
      leaf_size_(model.form.written_usual)
{
    auto index = [](const auto& list) { return static_cast<std::uint32_t>(list.size()); };
    for (const auto& e : written_.equations) {
        EquationKind kind = flat_.equations[equations_.size()].kind;
        bool joint = kind == EquationKind::joint_equal || kind == EquationKind::joint_sum || kind == EquationKind::joint_mix || kind == EquationKind::unjoined;
        equations_.push_back({joint ? Kind::joint : Kind::equation, index(equations_), e.left, e.right, true, {}});
    }
    std::map<std::string_view, std::uint32_t> output;
    for (std::uint32_t i = 0; i < m_.form.outputs.size(); ++i) output[m_.form.outputs[i].path] = i;
    for (std::uint32_t v = 0; v < written_.views.size(); ++v) {
        auto o = output.find(flat_.views[v].path);
        if (o == output.end()) continue;
        lets_.push_back({Kind::let, v, written_.views[v], kNoNode, true, {}});
        let_output_.push_back(o->second);
    }
    for (const FlatInit& i : written_.inits) inits_.push_back({Kind::init, index(inits_), i.left, i.right, true, {}});
    for (std::uint32_t p = 0; p < written_.parameters.size(); ++p) params_.push_back({Kind::param, p, written_.parameters[p], kNoNode, true, {}});
    for (const FlatLimit& l : written_.limits) ranges_.push_back({Kind::range, index(ranges_), l.value, kNoNode, true, {}});
    for (QuantityId q = 0; q < flat_.quantities.size(); ++q) {
        std::uint32_t first = written_.first_leaf[q], end = written_.first_leaf[q + 1];
        if (first == end) continue;
        for (std::uint32_t leaf = first + 1; leaf < end; ++leaf) {
            slopes_.push_back({leaf - 1, leaf, kNoNode, 1});
            slopes_of_.push_back({Kind::slope, leaf, kNoNode, kNoNode, true, {}});
        }
    }
    leaves_.quantity = [this](QuantityId q, std::uint32_t order) {
        std::uint32_t at = written_.first_leaf[q] + order;
        // a derivative beyond those that the expressions need is only asked for by series that are longer than they need be
        if (at >= written_.first_leaf[q + 1]) return Measured{0, 0};
        return Measured{leaf_[at], std::max(std::abs(leaf_[at]), m_.form.written_usual[at])};
    };
    leaves_.parameter = [this](std::uint32_t p) { return e_->parameter(p); };
    leaves_.memory = [this](std::uint32_t k) { return e_->memory(k); };
}

void Verifier::take_leaves(const State& s, Evaluation& e)
{
    e_ = &e;
    e.written(leaf_.data());
    leaves_.time = s.time;
    for (std::size_t i = 0; i < leaf_.size(); ++i)
        if (std::abs(leaf_[i]) > leaf_size_[i]) leaf_size_[i] = std::abs(leaf_[i]);
    values_.at(leaves_);
}

void Verifier::keep_worst(Worst& worst, double share, double time, double left, double right) const
{
    if (share > worst.share) worst = {share, time, left, right};
}

// Whether a derivative stands in it that the present system does not know.
bool Verifier::has_unknown(const Item& item) const
{
    for (NodeId root : {item.left, item.right}) {
        if (root == kNoNode) continue;
        for (NodeId id : flat_.graph.reachable({root})) {
            const Node& n = flat_.graph[id];
            if (n.op == Op::rate_of && !std::isfinite(values_(id).value)) return true;
            if (n.op == Op::quantity && std::isnan(leaf_[written_.first_leaf[n.a] + n.b])) return true;
        }
    }
    return false;
}

void Verifier::compare(Item& item, double time, const Measured& left, const Measured& right)
{
    auto share_of = [](const Measured& l, const Measured& r) {
        if (l.value == r.value) return 0.0;
        double size = l.spread + r.spread + PlainValues::kExact * (std::abs(l.value) + std::abs(r.value));
        double share = std::abs(l.value - r.value) / size;
        return std::isnan(share) ? HUGE_VAL : share;
    };
    double share = share_of(left, right);
    Measured l = left, r = right;
    if (share > limit_) {
        // a condition that is about to turn may hold or not: the side that the run has taken must fit
        std::vector<NodeId> roots{item.left};
        if (item.right != kNoNode) roots.push_back(item.right);
        // along a condition that drives back from both sides the value lies between those of both: the difference changes its sign with it
        bool above = left.value > right.value, below = left.value < right.value;
        values_.with_turned_conditions(roots, leaves_, [&] {
            const Measured& other_left = values_(item.left);
            const Measured& other_right = item.right == kNoNode ? right : values_(item.right);
            double other = share_of(other_left, other_right);
            if (other < share) share = other, l = other_left, r = other_right;
            above = above || other_left.value > other_right.value;
            below = below || other_left.value < other_right.value;
            if (slides_ && above && below) share = 0;
            return share <= limit_;
        });
        if (share > limit_ && !std::isfinite(share) && has_unknown(item)) {
            item.known = false;
            return;
        }
    }
    keep_worst(item.worst, share, time, l.value, r.value);
}

void Verifier::params(const Evaluation& e, const std::vector<ParameterId>& given)
{
    e_ = const_cast<Evaluation*>(&e);
    std::fill(leaf_.begin(), leaf_.end(), 0.0);
    values_.at(leaves_);
    for (Item& p : params_) {
        if (p.left == kNoNode || std::find(given.begin(), given.end(), p.index) != given.end()) continue;
        double is = e.parameter(p.index);
        compare(p, 0, {is, PlainValues::kExact * std::abs(is)}, values_(p.left));
    }
}

void Verifier::start(const State& s, Evaluation& e, Inits demanded)
{
    if (demanded == Inits::none || inits_.empty()) return;
    e.at(s.time, s.z.data(), s.rates.data());
    take_leaves(s, e);
    for (Item& i : inits_)
        if (demanded == Inits::all || written_.inits[i.index].find) compare(i, s.time, values_(i.left), values_(i.right));
}

void Verifier::point(const State& s, Evaluation& e)
{
    take_leaves(s, e);
    slides_ = !e.model().slides.empty();
    ++points_;
    for (Item& i : equations_)
        if (i.known) compare(i, s.time, values_(i.left), values_(i.right));
    for (std::size_t k = 0; k < lets_.size(); ++k) {
        double is = e.output(let_output_[k]);
        if (lets_[k].known) compare(lets_[k], s.time, values_(lets_[k].left), {is, std::abs(is)});
    }
    ranges(s.time);
}

std::optional<Verification::Finding> Verifier::without_value(const State& s, Evaluation& e)
{
    take_leaves(s, e);
    for (auto* list : {&equations_, &lets_})
        for (const Item& item : *list)
            for (NodeId root : {item.left, item.right})
                if (root != kNoNode && !std::isfinite(values_(root).value) && !has_unknown(item)) return finding(item);
    return std::nullopt;
}

void Verifier::ranges(double time)
{
    for (Item& range : ranges_) {
        const FlatLimit& l = written_.limits[range.index];
        Measured value = values_(l.value);
        double v = value.value, low = l.low == kNoNode ? -HUGE_VAL : values_(l.low).value, high = l.high == kNoNode ? HUGE_VAL : values_(l.high).value;
        double end = v < low ? low : v > high ? high : v, off = std::abs(v - end);
        keep_worst(range.worst, off == 0 ? 0 : off / std::max(std::abs(v), value.spread), time, v, end);
    }
}

// Which member of z each integrated leaf is; systems that take over from each other number them differently.
void Verifier::find_members(const CompiledModel& present)
{
    if (members_of_ == &present) return;
    members_of_ = &present;
    const Graph& g = present.form.reduced.system.graph();
    for (Slope& slope : slopes_) {
        NodeId node = present.form.written[slope.below];
        bool negative = node != kNoNode && g[node].op == Op::neg;
        if (negative) node = g[node].a;
        slope.sign = negative ? -1 : 1;
        slope.member = node != kNoNode && g[node].op == Op::unknown ? g[node].a : kNoNode;
    }
}

// By how much rates move when states move by what the tolerance lets them be off: of a stiff part that is far more than it changes.
std::vector<double> Verifier::rates_moved(const State& s, Evaluation& e, const Near& near)
{
    constexpr int kLooks = 2;
    std::vector<double> most(slopes_.size(), 0.0), here(leaf_.size()), moved(leaf_.size());
    near_ = s;
    near.solve(near_);
    e.written(here.data());
    for (int look = 0; look < kLooks; ++look) {
        near_ = s;
        std::uint32_t random = 12345u + 977u * static_cast<std::uint32_t>(look);
        for (std::size_t i = 0; i < near_.z.size(); ++i) {
            random = random * 1664525u + 1013904223u;
            if (e.is_state(i)) near_.z[i] += ((random >> 31) != 0 ? limit_ : -limit_) * std::max(std::abs(near_.z[i]), e.model().form.z[i].usual);
        }
        try {
            near.solve(near_);
        } catch (const NumericFailure&) {
            continue;  // states moved at random may lie where there is no solution
        }
        e.written(moved.data());
        for (std::size_t k = 0; k < slopes_.size(); ++k) most[k] = std::max(most[k], std::abs(moved[slopes_[k].rate] - here[slopes_[k].rate]));
    }
    return most;
}

void Verifier::slopes(const State& s, Evaluation& e, double step, const Near& near)
{
    constexpr double kOfTolerance = 1e-4;  // what a step's polynomial is off by in its middle, times its length, is many times the error that the step leaves
    constexpr std::size_t kSolved = 4;     // what is no state costs a solution more: looked at one time in so many
    if (!by_tolerance_ || !(step > 0) || slopes_.empty()) return;
    find_members(e.model());
    std::vector<double> here = leaf_, moved;
    auto judge = [&](std::size_t k, double is, double should) {
        const Slope& slope = slopes_[k];
        if (!std::isfinite(is) || !std::isfinite(should)) return;
        ++n_slopes_;
        double off = std::abs(is - should), share = kOfTolerance * off * step / leaf_size_[slope.below];
        if (share > limit_) {
            if (moved.empty()) moved = rates_moved(s, e, near);
            share = std::min(share, limit_ * kOfTolerance * off / std::max(moved[k], 1e-300));
        }
        keep_worst(slopes_of_[k].worst, share, s.time, is, should);
    };
    // 1. states: the slope of the integrator's own polynomial, told by two values of it
    double d = kNear * step;
    near_ = s;
    near.at(s.time + d, near_);
    std::vector<double> ahead = near_.z;
    near.at(s.time - d, near_);
    std::vector<double> behind = near_.z;
    bool others = false;
    for (std::size_t k = 0; k < slopes_.size(); ++k) {
        const Slope& slope = slopes_[k];
        bool state = slope.member != kNoNode && e.is_state(slope.member);
        others |= !state;
        if (state) judge(k, slope.sign * (ahead[slope.member] - behind[slope.member]) / (2 * d), here[slope.rate]);
    }
    // 2. what follows from states by the equations
    if (!others || n_looks_++ % kSolved != 0) return;
    d = kFar * step;
    near.at(s.time + d, near_);
    near.solve(near_);
    std::vector<double> there(leaf_.size());
    e.written(there.data());
    for (std::size_t k = 0; k < slopes_.size(); ++k) {
        const Slope& slope = slopes_[k];
        if (slope.member != kNoNode && e.is_state(slope.member)) continue;
        judge(k, (there[slope.below] - here[slope.below]) / d, 0.5 * (here[slope.rate] + there[slope.rate]));
    }
}

Verification::Finding Verifier::finding(const Item& item) const
{
    Verification::Finding f;
    f.kind = item.kind;
    f.time = item.worst.time;
    f.share = item.worst.share;
    f.left = item.worst.left, f.right = item.worst.right;
    Origin origin;
    auto take_unit = [&](const Unit& unit) {
        f.unit = unit.text;
        f.left = unit.from_si(f.left), f.right = unit.from_si(f.right);
    };
    auto equals = [&] { return flat_.node_text(item.left) + " = " + flat_.node_text(item.right); };
    auto take_dimension = [&] {
        auto d = dimension_of(flat_, item.left);
        if (!d) d = dimension_of(flat_, item.right);
        if (d) f.unit = d->text();
    };
    switch (item.kind) {
        case Kind::equation:
        case Kind::joint:
            origin = flat_.equations[item.index].origin;
            f.text = equals();
            take_dimension();
            break;
        case Kind::let:
            origin = flat_.views[item.index].origin;
            f.text = fmt::format("let {} = {}", flat_.views[item.index].path, flat_.node_text(item.left));
            take_unit(flat_.views[item.index].unit);
            break;
        case Kind::init:
            origin = written_.inits[item.index].origin;
            f.text = (written_.inits[item.index].find ? "find ... so that " : "init ") + equals();
            take_dimension();
            break;
        case Kind::range: {
            FlatModel::Limited limited = flat_.limited(written_.limits[item.index]);
            origin = *limited.origin;
            f.text = fmt::format("'{}' in {}", *limited.path, flat_.range_text(written_.limits[item.index]));
            take_unit(*limited.unit);
            break;
        }
        case Kind::slope: {
            const WrittenModel::Leaf& leaf = written_.leaves[item.index];
            const FlatQuantity& q = flat_.quantities[leaf.quantity];
            origin = q.origin;
            f.text = fmt::format("{}{} as the slope of {}{}", q.path, std::string(leaf.order, '\''), q.path, std::string(leaf.order - 1, '\''));
            Unit unit = q.unit;
            for (std::uint32_t k = 0; k < leaf.order; ++k) unit = unit.rate();
            take_unit(unit);
            break;
        }
        case Kind::param: {
            const FlatParameter& p = flat_.parameters[item.index];
            origin = p.origin;
            f.text = fmt::format("param {} = {}", p.path, flat_.node_text(item.left));
            take_unit(p.unit);
            break;
        }
    }
    f.part = flat_.instances[origin.instance];
    f.place = place_text(sources_, origin.span);
    return f;
}

Verification Verifier::result() const
{
    Verification v;
    v.done = true;
    v.limit = limit_;
    v.points = points_;
    v.equations = equations_.size();
    v.lets = lets_.size();
    v.ranges = ranges_.size();
    v.slopes = n_slopes_;
    std::vector<const Item*> worst;
    for (const auto* list : {&equations_, &lets_, &inits_, &ranges_, &slopes_of_, &params_})
        for (const Item& item : *list) {
            v.not_known += item.known ? 0 : 1;
            v.inits += item.kind == Kind::init && item.worst.share >= 0 ? 1 : 0;
            if (item.worst.share > 0) worst.push_back(&item);
        }
    std::stable_sort(worst.begin(), worst.end(), [](const Item* a, const Item* b) { return a->worst.share > b->worst.share; });
    if (!worst.empty()) v.worst = worst.front()->worst.share;
    v.holds = points_ > 0 && v.worst <= limit_;
    for (std::size_t k = 0; k < worst.size() && k < kMostFindings; ++k) v.findings.push_back(finding(*worst[k]));
    return v;
}

std::string Verification::Finding::line() const
{
    std::string shown_unit = unit.empty() || unit == "1" ? "" : " " + unit;
    std::string where = fmt::format("{}{}", place.empty() ? "" : place + ": ", part.empty() ? "" : "in '" + part + "': ");
    std::string off = std::isfinite(share) ? fmt::format("off by {:.2g} of its terms", share) : "a side has no value";
    if (kind == Kind::range) return fmt::format("{}{}: {:.8g}{} at {:.9g} s lies outside", where, text, left, shown_unit, time);
    if (kind == Kind::slope)
        return fmt::format("{}{}: its slope is {:.8g}{}, the equations say {:.8g} at {:.9g} s", where, text, left, shown_unit, right, time);
    return fmt::format("{}{}: {:.10g} against {:.10g}{} at {:.9g} s, {}", where, text, left, right, shown_unit, time, off);
}

std::string Verification::one_line() const
{
    if (!done) return "not verified";
    if (points == 0) return "not verified: there is no point that could be";
    std::string what = fmt::format("{} equations, {} lets, {} inits, {} ranges as written at {} points", equations, lets, inits, ranges, points);
    if (slopes > 0) what += fmt::format(", {} slopes", slopes);
    if (not_known > 0) what += fmt::format(" ({} of them hold a derivative that is not worked out)", not_known);
    return fmt::format("{}: {}; {} by {:.1e} of its terms (allowed: {:.0e})", holds ? "verified" : "NOT VERIFIED", what, "the worst is off", worst, limit);
}

std::string Verification::text(bool all) const
{
    std::string out = one_line() + "\n";
    for (const Finding& f : findings)
        if (all || f.share > limit) out += "  " + f.line() + "\n";
    return out;
}

}  // namespace netloop

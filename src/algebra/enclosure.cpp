// SPDX-License-Identifier: Apache-2.0
#include "algebra/enclosure.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "algebra/differentiate.hpp"

namespace netloop {
namespace {

constexpr double kInfinity = std::numeric_limits<double>::infinity();
constexpr double kEpsilon = std::numeric_limits<double>::epsilon();
constexpr Range kAnywhere{-kInfinity, kInfinity};
constexpr Enclosed kNothingKnown{kAnywhere, kAnywhere};

// A few units of the last place on both sides, and no NaN.
Range widened(double low, double high)
{
    if (std::isnan(low) || std::isnan(high)) return kAnywhere;
    if (low == high) return {low, high};
    return {low - 2 * kEpsilon * std::abs(low), high + 2 * kEpsilon * std::abs(high)};
}
Range hull(const Range& a, const Range& b)
{
    return {std::min(a.low, b.low), std::max(a.high, b.high)};
}
bool is_point(const Range& a)
{
    return a.low == a.high;
}
bool is_zero(const Range& a)
{
    return a.low == 0 && a.high == 0;
}
Range operator-(const Range& a)
{
    return {-a.high, -a.low};
}
Range operator+(const Range& a, const Range& b)
{
    return widened(a.low + b.low, a.high + b.high);
}
Range operator-(const Range& a, const Range& b)
{
    return widened(a.low - b.high, a.high - b.low);
}
double product(double a, double b)
{
    return a == 0 || b == 0 ? 0 : a * b;  // nothing times something unbounded is nothing
}
Range operator*(const Range& a, const Range& b)
{
    auto [low, high] = std::minmax({product(a.low, b.low), product(a.low, b.high), product(a.high, b.low), product(a.high, b.high)});
    return widened(low, high);
}
Range inverse(const Range& a)
{
    if (a.low > 0 || a.high < 0) return widened(1 / a.high, 1 / a.low);
    return kAnywhere;
}
Range operator/(const Range& a, const Range& b)
{
    if (is_point(a) && is_point(b)) return widened(a.low / b.low, a.low / b.low);
    return a * inverse(b);
}
Range squared(const Range& a)
{
    double low = a.holds_zero() ? 0 : std::min(a.low * a.low, a.high * a.high);
    return widened(low, std::max(a.low * a.low, a.high * a.high));
}
// Of a function that rises throughout.
template <typename F>
Range rising(const Range& a, F f)
{
    return widened(f(a.low), f(a.high));
}

// sin over a range: its summits lie at pi/2 + 2 pi k.
Range sine(const Range& a)
{
    constexpr double kTurn = 2 * M_PI;
    if (!(a.high - a.low < kTurn)) return {-1, 1};
    double s = std::sin(a.low), t = std::sin(a.high);
    Range r = widened(std::min(s, t), std::max(s, t));
    auto holds = [&](double summit) { return std::ceil((a.low - summit) / kTurn) * kTurn + summit <= a.high; };
    if (holds(M_PI / 2)) r.high = 1;
    if (holds(-M_PI / 2)) r.low = -1;
    return r;
}
Range cosine(const Range& a)
{
    if (is_point(a)) return {std::cos(a.low), std::cos(a.low)};
    return sine({a.low + M_PI / 2, a.high + M_PI / 2});
}

Range power(const Range& a, double p)
{
    auto f = [p](double x) { return std::pow(x, p); };
    if (is_point(a)) return widened(f(a.low), f(a.low));
    bool whole = p == std::floor(p);
    if (whole && p > 0) {
        bool even = std::fmod(p, 2) == 0;
        if (!even) return rising(a, f);
        if (a.holds_zero()) return widened(0, std::max(f(a.low), f(a.high)));
        return widened(std::min(f(a.low), f(a.high)), std::max(f(a.low), f(a.high)));
    }
    if (whole && p < 0) return inverse(power(a, -p));
    if (p == 0) return {1, 1};
    if (a.high < 0) return kAnywhere;
    Range from{std::max(a.low, 0.0), a.high};
    return p > 0 ? rising(from, f) : widened(f(from.high), f(from.low));
}

// A table of one argument, or its derivative of order 1: monotone between its points, or a parabola there.
Range looked_up(const Table& t, const Range& x, int order)
{
    double least = kInfinity, most = -kInfinity;
    auto take = [&](double at) {
        double v = t(at, 0, order, 0);
        least = std::min(least, v), most = std::max(most, v);
        if (std::isnan(v)) least = -kInfinity, most = kInfinity;
    };
    take(x.low), take(x.high);
    const auto& knots = t.knots(0);
    auto from = std::upper_bound(knots.begin(), knots.end(), x.low), to = std::lower_bound(knots.begin(), knots.end(), x.high);
    for (auto k = from; k < to; ++k) {
        take(*k);
        if (order > 0) take(std::nextafter(*k, -kInfinity));
    }
    if (order > 0 && t.smooth()) {
        // the slope of a cubic is a parabola: its summit, where the third of its derivatives is known
        auto begin = from == knots.begin() ? from : std::prev(from);
        for (auto k = begin; k + 1 < knots.end() && *k < x.high; ++k) {
            double mid = 0.5 * (*k + *(k + 1)), bend = t(mid, 0, 2, 0), change = t(mid, 0, 3, 0);
            double summit = change != 0 ? mid - bend / change : mid;
            if (summit > std::max(*k, x.low) && summit < std::min(*(k + 1), x.high)) take(summit);
        }
    }
    return widened(least, most);
}

Enclosed of_function(Op op, const Enclosed& a)
{
    const Range& x = a.value;
    switch (op) {
        case Op::sqrt: {
            Range root = rising({std::max(x.low, 0.0), std::max(x.high, 0.0)}, [](double v) { return std::sqrt(v); });
            return {root, a.slope / Range{2 * root.low, 2 * root.high}};
        }
        case Op::exp: {
            Range e = rising(x, [](double v) { return std::exp(v); });
            return {e, e * a.slope};
        }
        case Op::log: {
            if (x.high <= 0) return kNothingKnown;
            Range l = rising({std::max(x.low, 0.0), x.high}, [](double v) { return std::log(v); });
            return {l, a.slope / x};
        }
        case Op::sin:
            return {is_point(x) ? Range{std::sin(x.low), std::sin(x.low)} : sine(x), cosine(x) * a.slope};
        case Op::cos:
            return {cosine(x), -(sine(x) * a.slope)};
        case Op::tan: {
            Range c = cosine(x);
            if (c.holds_zero()) return kNothingKnown;
            return {rising(x, [](double v) { return std::tan(v); }), a.slope / squared(c)};
        }
        case Op::asin:
        case Op::acos: {
            Range in{std::clamp(x.low, -1.0, 1.0), std::clamp(x.high, -1.0, 1.0)};
            Range s = rising(in, [](double v) { return std::asin(v); });
            Range root = rising(Range{1, 1} - squared(in), [](double v) { return std::sqrt(std::max(v, 0.0)); });
            Range slope = a.slope / root;
            return op == Op::asin ? Enclosed{s, slope} : Enclosed{Range{M_PI / 2, M_PI / 2} - s, -slope};
        }
        case Op::atan:
            return {rising(x, [](double v) { return std::atan(v); }), a.slope / (Range{1, 1} + squared(x))};
        case Op::sinh:
        case Op::cosh: {
            Range s = rising(x, [](double v) { return std::sinh(v); });
            double ends = std::max(std::cosh(x.low), std::cosh(x.high));
            Range c = widened(x.holds_zero() ? 1 : std::min(std::cosh(x.low), std::cosh(x.high)), ends);
            return op == Op::sinh ? Enclosed{s, c * a.slope} : Enclosed{c, s * a.slope};
        }
        case Op::tanh: {
            Range t = rising(x, [](double v) { return std::tanh(v); });
            return {t, (Range{1, 1} - squared(t)) * a.slope};
        }
        default:
            return kNothingKnown;
    }
}

// Holds, holds not, or may be either.
Range truth(bool may_hold, bool may_not)
{
    return {may_not ? 0.0 : 1.0, may_hold ? 1.0 : 0.0};
}
Enclosed logical(const Range& t)
{
    return {t, is_point(t) ? Range{0, 0} : kAnywhere};
}
bool may_be_true(const Range& a)
{
    return a.low != 0 || a.high != 0;
}
bool may_be_false(const Range& a)
{
    return a.holds_zero();
}

}  // namespace

double Range::size() const
{
    return std::max(std::abs(low), std::abs(high));
}

TimeFunction::TimeFunction(const Graph& graph, NodeId root) : graph_(graph)
{
    std::map<NodeId, std::uint32_t> slot;
    for (NodeId id : graph.reachable({root})) {
        Step s;
        s.node = graph[id];
        if (s.node.op == Op::constant) s.constant = graph.value(id);
        if (s.node.op == Op::call)
            for (NodeId argument : graph.arguments(id)) s.list.push_back(slot.at(argument));
        for (int k = first_child(s.node.op); k < end_of_children(s.node.op); ++k) {
            NodeId child = k == 0 ? s.node.a : k == 1 ? s.node.b : s.node.c;
            if (child != kNoNode) (k == 0 ? s.a : k == 1 ? s.b : s.c) = slot.at(child);
        }
        slot[id] = static_cast<std::uint32_t>(steps_.size());
        steps_.push_back(std::move(s));
    }
    at_.resize(steps_.size());
}

bool TimeFunction::renew(const std::function<double(const Node&)>& leaf)
{
    bool changed = false;
    for (Step& s : steps_) {
        if (s.node.op == Op::constant || s.node.op == Op::time || n_children(s.node.op) != 0) continue;
        double v = leaf(s.node);
        changed |= v != s.constant;
        s.constant = v;
    }
    return changed;
}

Enclosed TimeFunction::over(double from, double to) const
{
    for (std::size_t k = 0; k < steps_.size(); ++k) at_[k] = compute(steps_[k], from, to);
    return at_.back();
}

Enclosed TimeFunction::sampled(const Step& s, const std::vector<std::uint32_t>& arguments, double from, double to) const
{
    constexpr int kSamples = 17;
    std::vector<double> x(arguments.size()), scratch(s.node.op == Op::call ? graph_.callable(s.node.a).n_scratch() : 0);
    double least = kInfinity, most = -kInfinity, largest = 0, last = 0;
    // along the straight line between the ends of the arguments' ranges
    for (int k = 0; k < kSamples; ++k) {
        double share = static_cast<double>(k) / (kSamples - 1);
        for (std::size_t i = 0; i < x.size(); ++i) {
            const Range& r = at_[arguments[i]].value;
            if (!std::isfinite(r.low) || !std::isfinite(r.high)) return kNothingKnown;
            x[i] = r.low + share * (r.high - r.low);
        }
        double v = s.node.op == Op::call ? graph_.callable(s.node.a).evaluate(x.data(), scratch.data())
                                         : graph_.table(s.node.a)(x[0], x[1], s.node.flag / 16, s.node.flag % 16);
        if (std::isnan(v)) return kNothingKnown;
        if (k > 0) largest = std::max(largest, std::abs(v - last));
        last = v;
        least = std::min(least, v), most = std::max(most, v);
        if (from == to) break;
    }
    bool still = std::all_of(arguments.begin(), arguments.end(), [&](std::uint32_t slot) { return is_zero(at_[slot].slope); });
    return {{least - largest, most + largest}, still ? Range{0, 0} : kAnywhere};
}

Enclosed TimeFunction::compute(const Step& s, double from, double to) const
{
    const Enclosed &a = at_[s.a], &b = at_[s.b], &c = at_[s.c];
    switch (s.node.op) {
        case Op::constant:
        case Op::parameter:
        case Op::mode:
        case Op::memory:
            return {{s.constant, s.constant}, {0, 0}};
        case Op::time:
            return {{from, to}, {1, 1}};
        case Op::add:
            return {a.value + b.value, a.slope + b.slope};
        case Op::sub:
            return {a.value - b.value, a.slope - b.slope};
        case Op::mul:
            if (s.a == s.b) return {squared(a.value), Range{2, 2} * a.value * a.slope};
            return {a.value * b.value, a.slope * b.value + a.value * b.slope};
        case Op::div: {
            Range q = a.value / b.value;
            return {q, (a.slope - q * b.slope) / b.value};
        }
        case Op::neg:
            return {-a.value, -a.slope};
        case Op::pow: {
            if (is_point(b.value) && is_zero(b.slope)) {
                double p = b.value.low;
                return {power(a.value, p), p == 0 ? Range{0, 0} : Range{p, p} * power(a.value, p - 1) * a.slope};
            }
            Enclosed l = of_function(Op::log, a);
            return of_function(Op::exp, {b.value * l.value, b.slope * l.value + b.value * l.slope});
        }
        case Op::abs:
            if (a.value.low >= 0) return a;
            if (a.value.high <= 0) return {-a.value, -a.slope};
            return {{0, a.value.size()}, hull(a.slope, -a.slope)};
        case Op::sign:
        case Op::floor:
        case Op::ceil: {
            auto f = [&](double v) { return s.node.op == Op::sign ? (v > 0) - (v < 0) : s.node.op == Op::floor ? std::floor(v) : std::ceil(v); };
            Range r{static_cast<double>(f(a.value.low)), static_cast<double>(f(a.value.high))};
            return {r, is_point(r) ? Range{0, 0} : kAnywhere};
        }
        case Op::min:
        case Op::max: {
            bool least = s.node.op == Op::min;
            if (least ? a.value.high <= b.value.low : a.value.low >= b.value.high) return a;
            if (least ? b.value.high <= a.value.low : b.value.low >= a.value.high) return b;
            Range r = least ? Range{std::min(a.value.low, b.value.low), std::min(a.value.high, b.value.high)}
                            : Range{std::max(a.value.low, b.value.low), std::max(a.value.high, b.value.high)};
            return {r, hull(a.slope, b.slope)};
        }
        case Op::less:
        case Op::less_equal:
            if (s.node.op == Op::less) return logical(truth(a.value.low < b.value.high, a.value.high >= b.value.low));
            return logical(truth(a.value.low <= b.value.high, a.value.high > b.value.low));
        case Op::equal:
            return logical(
                truth(a.value.low <= b.value.high && b.value.low <= a.value.high, !(is_point(a.value) && is_point(b.value) && a.value.low == b.value.low)));
        case Op::logical_and:
            return logical(truth(may_be_true(a.value) && may_be_true(b.value), may_be_false(a.value) || may_be_false(b.value)));
        case Op::logical_or:
            return logical(truth(may_be_true(a.value) || may_be_true(b.value), may_be_false(a.value) && may_be_false(b.value)));
        case Op::logical_not:
            return logical(truth(may_be_false(a.value), may_be_true(a.value)));
        case Op::select:
            if (!may_be_false(a.value)) return b;
            if (is_zero(a.value)) return c;
            return {hull(b.value, c.value), kAnywhere};
        case Op::lookup: {
            if (s.node.c != kNoNode) return sampled(s, {s.b, s.c}, from, to);
            const Table& t = graph_.table(s.node.a);
            int order = s.node.flag / 16;
            if (order > 1) return sampled(s, {s.b, s.b}, from, to);
            if (!std::isfinite(b.value.low) || !std::isfinite(b.value.high)) return kNothingKnown;
            Range slope = is_zero(b.slope) ? Range{0, 0} : order == 0 ? looked_up(t, b.value, 1) * b.slope : kAnywhere;
            return {looked_up(t, b.value, order), slope};
        }
        case Op::call:
            return sampled(s, s.list, from, to);
        case Op::pair:
            return {};
        case Op::atan2: {
            if (is_point(a.value) && is_point(b.value)) {
                double v = std::atan2(a.value.low, b.value.low);
                return {{v, v}, kAnywhere};
            }
            Range turn = (b.value * a.slope - a.value * b.slope) / (squared(a.value) + squared(b.value));
            return {{-M_PI, M_PI}, b.value.low > 0 ? turn : kAnywhere};
        }
        default:
            return of_function(s.node.op, a);
    }
}

namespace {

// Searches stretches from left to right, each halved until `look` says what is in it.
enum class Found { nothing, here, halve };
template <typename Look>
double search(double from, double to, std::size_t most_looks, double given_up, Look look)
{
    std::vector<std::pair<double, double>> open{{from, to}};
    for (std::size_t looks = 0; !open.empty() && looks < most_looks; ++looks) {
        auto [a, b] = open.back();
        open.pop_back();
        Found found = look(a, b);
        if (found == Found::here) return b;
        if (found == Found::nothing) continue;
        double mid = a + 0.5 * (b - a);
        open.emplace_back(mid, b);
        open.emplace_back(a, mid);
    }
    if (open.empty()) return kInfinity;
    return std::isnan(given_up) ? given_up : open.back().first;  // too much to look at: up to there, nothing was found
}

double resolution(double t)
{
    return 16 * kEpsilon * std::abs(t) + 1e-300;
}

// Where a function whose signs differ at both ends has the sign of the end b, no more than a ten-thousandth of the stretch behind its zero. False position,
// with the value of an end halved that stays (Dowell and Jarratt 1971), each fourth time the middle.
template <typename Function>
double behind_zero(double a, double b, Function f)
{
    constexpr double kWithin = 1e-4;
    double f_a = f(a), f_b = f(b), within = std::max(kWithin * (b - a), resolution(b));
    int stayed = 0;  // how often one end has stayed: -1, -2 ... the left one
    for (int k = 0; k < 60 && b - a > within; ++k) {
        double t = k % 4 == 3 ? a + 0.5 * (b - a) : std::clamp((a * f_b - b * f_a) / (f_b - f_a), a + 0.25 * within, b - 0.25 * within);
        double f_t = f(t);
        if (f_t == 0) return t;
        if ((f_t > 0) == (f_b > 0)) {
            b = t;
            f_b = f_t;
            stayed = std::min(stayed, 0) - 1;
            if (stayed < -1) f_a *= 0.5;
        } else {
            a = t;
            f_a = f_t;
            stayed = std::max(stayed, 0) + 1;
            if (stayed > 1) f_b *= 0.5;
        }
    }
    return b;
}

}  // namespace

double TimeFunction::next_turn(double from, double to) const
{
    if (!(to > from)) return kInfinity;
    constexpr double kFlat = 1e-10;  // of the value's size: no turn that could matter
    constexpr double kNear = 0.05;   // of the way to it: so close to each other that one turn stands for all of them
    constexpr std::size_t kMostLooks = 3000;
    double size = over(from, to).value.size();
    std::pair<double, double> around{0, 0};  // a turn, by the signs of the slopes at its ends
    auto slope_at = [&](double t) { return over(t, t).slope.low; };
    double found = search(from, to, kMostLooks, std::nan(""), [&](double a, double b) {
        Enclosed e = over(a, b);
        if (std::isfinite(e.value.size())) size = std::max(e.value.size(), 0.0);
        double slope = e.slope.size();
        double slack = 1e-13 * slope;
        if (e.slope.low >= -slack || e.slope.high <= slack) return Found::nothing;
        // so little change that it is a turn or nothing
        bool flat = std::isfinite(size) && slope * (b - a) <= kFlat * size, point = b - a <= resolution(b);
        bool near = b - a <= kNear * (b - from);
        if (!flat && !point && !near) return Found::halve;
        if (slope_at(a) * slope_at(b) < 0) {
            around = {a, b};
            return Found::here;
        }
        return flat || point ? Found::nothing : Found::halve;
    });
    return std::isfinite(found) ? behind_zero(around.first, around.second, slope_at) : found;
}

double TimeFunction::next_crossing(double from, double to, double level) const
{
    if (!(to > from)) return kInfinity;
    auto value = [&](double t) { return at(t) - level; };
    // at a zero: the side that it goes to
    double begin = from, side = value(from);
    for (double step = resolution(from); side == 0 && step < to - from; step *= 2) begin = from + step, side = value(begin);
    if (side == 0) return kInfinity;
    constexpr std::size_t kMostLooks = 100000;
    return search(begin, to, kMostLooks, 0, [&](double a, double b) {
        Enclosed e = over(a, b);
        if (e.value.low > level || e.value.high < level) return Found::nothing;
        double at_b = value(b);
        bool other = side > 0 ? at_b < 0 : at_b > 0;
        if (b - a <= resolution(b)) return other || at_b == 0 ? Found::here : Found::nothing;
        bool monotone = e.slope.low > 0 || e.slope.high < 0;
        return monotone && !other && at_b != 0 ? Found::nothing : Found::halve;
    });
}

bool is_of_time_alone(const Graph& g, NodeId root)
{
    bool time = false;
    for (NodeId id : g.reachable({root})) {
        const Node& n = g[id];
        if (n.op == Op::unknown || n.op == Op::rate || n.op == Op::quantity || n.op == Op::rate_of || (n.op == Op::memory && n.b == 1)) return false;
        if (n.op == Op::call && g.callable(n.a).has_state()) return false;  // it answers for the moment at hand only
        time |= n.op == Op::time;
    }
    return time;
}

std::vector<NodeId> signals_below(Graph& g, const std::vector<NodeId>& roots)
{
    std::vector<NodeId> present;
    for (NodeId r : roots)
        if (r != kNoNode) present.push_back(r);
    std::vector<NodeId> order = g.reachable(present);
    if (order.empty()) return {};
    std::vector<char> of_time(order.back() + 1, 0), runs(order.back() + 1, 0);  // holds the time; holds something else that runs
    for (NodeId id : order) {
        const Node& n = g[id];
        of_time[id] = n.op == Op::time ? 1 : 0;
        runs[id] = n.op == Op::unknown || n.op == Op::rate || n.op == Op::quantity || n.op == Op::rate_of || (n.op == Op::memory && n.b == 1) ||
                           (n.op == Op::call && g.callable(n.a).has_state())
                       ? 1
                       : 0;
        for (int k = first_child(n.op); k < end_of_children(n.op); ++k) {
            NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c;
            if (child != kNoNode) of_time[id] |= of_time[child], runs[id] |= runs[child];
        }
    }
    auto is_logic = [](Op op) {
        return op == Op::less || op == Op::less_equal || op == Op::equal || op == Op::logical_and || op == Op::logical_or || op == Op::logical_not;
    };
    std::vector<NodeId> found, stack = present;
    std::vector<char> seen(order.back() + 1, 0);
    TimeDerivative derivative(g);
    auto take = [&](NodeId id) {
        NodeId slope = derivative(id);
        bool straight = derivative.trouble().empty();
        if (straight)
            for (NodeId below : g.reachable({slope})) straight = straight && g[below].op != Op::time;
        if (!straight) found.push_back(id);
    };
    while (!stack.empty()) {
        NodeId id = stack.back();
        stack.pop_back();
        if (seen[id] || !of_time[id]) continue;
        seen[id] = 1;
        const Node n = g[id];
        if (!runs[id] && !is_logic(n.op) && n.op != Op::pair) {
            take(id);
            continue;
        }
        if (runs[id] && (n.op == Op::sin || n.op == Op::cos || n.op == Op::tan)) {
            // sin(w*time + phase): the time's part of the argument alone
            std::vector<NodeId> parts{n.a};
            while (!parts.empty()) {
                NodeId part = parts.back();
                parts.pop_back();
                if (part > order.back() || !of_time[part]) continue;
                const Node p = g[part];
                if (!runs[part])
                    found.push_back(g.unary(Op::sin, part));
                else if (p.op == Op::add || p.op == Op::sub)
                    parts.insert(parts.end(), {p.a, p.b});
                else if (p.op == Op::neg)
                    parts.push_back(p.a);
            }
        }
        // what stands in a comparison is looked at as the difference of its sides
        if (!runs[id] && (n.op == Op::less || n.op == Op::less_equal)) {
            take(g.sub(n.a, n.b));
            continue;
        }
        for (int k = first_child(n.op); k < end_of_children(n.op); ++k)
            if (NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c; child != kNoNode) stack.push_back(child);
    }
    std::sort(found.begin(), found.end());
    found.erase(std::unique(found.begin(), found.end()), found.end());
    return found;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "verify/plain_values.hpp"

#include <algorithm>
#include <limits>

namespace netloop {
namespace {

constexpr double kNoValue = std::numeric_limits<double>::quiet_NaN();
using Derivatives = std::array<double, kMostDerivatives + 2>;

// x^p and its derivatives.
Derivatives of_power(double x, double p)
{
    Derivatives d{};
    double factor = 1;
    for (std::size_t k = 0; k < d.size(); ++k) {
        d[k] = factor == 0 ? 0 : factor * std::pow(x, p - static_cast<double>(k));
        factor *= p - static_cast<double>(k);
    }
    return d;
}

// An elementary function and its derivatives at x.
Derivatives of_function(Op op, double x)
{
    switch (op) {
        case Op::sqrt:
            return of_power(x, 0.5);
        case Op::exp: {
            double e = std::exp(x);
            return {e, e, e, e, e};
        }
        case Op::log:
            return {std::log(x), 1 / x, -1 / (x * x), 2 / (x * x * x), -6 / (x * x * x * x)};
        case Op::sin: {
            double s = std::sin(x), c = std::cos(x);
            return {s, c, -s, -c, s};
        }
        case Op::cos: {
            double s = std::sin(x), c = std::cos(x);
            return {c, -s, -c, s, c};
        }
        case Op::tan: {
            double t = std::tan(x), u = 1 + t * t;
            return {t, u, 2 * t * u, 2 * u * (1 + 3 * t * t), 8 * t * u * (2 + 3 * t * t)};
        }
        case Op::asin:
        case Op::acos: {
            double w = 1 / std::sqrt(1 - x * x), w2 = w * w, sign = op == Op::asin ? 1 : -1;
            return {op == Op::asin ? std::asin(x) : std::acos(x), sign * w, sign * x * w * w2, sign * (1 + 2 * x * x) * w * w2 * w2,
                    sign * (9 * x + 6 * x * x * x) * w * w2 * w2 * w2};
        }
        case Op::atan: {
            double u = 1 / (1 + x * x);
            return {std::atan(x), u, -2 * x * u * u, (6 * x * x - 2) * u * u * u, 24 * x * (1 - x * x) * u * u * u * u};
        }
        case Op::sinh: {
            double s = std::sinh(x), c = std::cosh(x);
            return {s, c, s, c, s};
        }
        case Op::cosh: {
            double s = std::sinh(x), c = std::cosh(x);
            return {c, s, c, s, c};
        }
        case Op::tanh: {
            double t = std::tanh(x), u = 1 - t * t;
            return {t, u, -2 * t * u, u * (6 * t * t - 2), u * (16 * t - 24 * t * t * t)};
        }
        default:
            return {kNoValue, kNoValue, kNoValue, kNoValue, kNoValue};
    }
}

bool is_function(Op op)
{
    switch (op) {
        case Op::sqrt:
        case Op::exp:
        case Op::log:
        case Op::sin:
        case Op::cos:
        case Op::tan:
        case Op::asin:
        case Op::acos:
        case Op::atan:
        case Op::sinh:
        case Op::cosh:
        case Op::tanh:
            return true;
        default:
            return false;
    }
}

// A first derivative that does not exist (of a root at 0) tells no spread.
double finite_or_zero(double v)
{
    return std::isfinite(v) ? v : 0;
}

Measured exact(double v)
{
    return {v, PlainValues::kExact * std::abs(v)};
}

// A further derivative of a table, which has three at most.
double more_of(const Table& t, double x, double y, int dx, int dy, int more_x, int more_y)
{
    return dx + more_x > 3 || dy + more_y > 3 ? 0 : t(x, y, dx + more_x, dy + more_y);
}

}  // namespace

PlainValues::PlainValues(const Graph& graph, const std::vector<NodeId>& roots, const std::vector<std::uint32_t>& needs, double closeness)
    : graph_(graph), closeness_(closeness)
{
    std::vector<NodeId> present;
    for (NodeId r : roots)
        if (r != kNoNode) present.push_back(r);
    std::vector<NodeId> order = graph.reachable(present);
    slot_.assign(order.empty() ? 0 : order.back() + 1, 0);
    for (NodeId id : order) {
        Step s;
        s.node = graph[id];
        slot_[id] = static_cast<std::uint32_t>(steps_.size());
        list_of_.push_back(0);
        if (s.node.op == Op::constant) s.constant = graph.value(id);
        if (s.node.op == Op::call) {
            list_of_.back() = static_cast<std::uint32_t>(listed_.size());
            listed_.emplace_back();
            for (NodeId argument : graph.arguments(id)) listed_.back().push_back(slot_[argument]);
        }
        for (int k = first_child(s.node.op); k < end_of_children(s.node.op); ++k) {
            NodeId child = k == 0 ? s.node.a : k == 1 ? s.node.b : s.node.c;
            if (child != kNoNode) (k == 0 ? s.a : k == 1 ? s.b : s.c) = slot_[child];
        }
        if (id < needs.size() && needs[id] > 0) {
            series_.emplace_back();
            s.series = static_cast<std::uint32_t>(series_.size());
        }
        steps_.push_back(s);
    }
    values_.resize(steps_.size());
    choice_.assign(steps_.size(), -1);
    n_choices_.assign(steps_.size(), 0);
}

void PlainValues::at(const LeafValues& leaves)
{
    time_ = leaves.time;
    for (std::uint32_t k = 0; k < steps_.size(); ++k) compute(k, leaves);
}

void PlainValues::compute(std::uint32_t k, const LeafValues& leaves)
{
    const Step& s = steps_[k];
    if (s.series == 0) {
        values_[k] = plain(s, k, leaves);
    } else {
        series_[s.series - 1] = series(s, k, leaves);
        values_[k] = series_[s.series - 1].c[0];
    }
}

double PlainValues::choose(std::uint32_t step, std::initializer_list<double> may_be)
{
    if (collecting_ && n_choices_[step] == 0) {
        n_choices_[step] = static_cast<std::uint32_t>(may_be.size());
        unsure_.push_back(step);
    }
    int which = choice_[step] < 0 ? 0 : choice_[step];
    return *(may_be.begin() + std::min(which, static_cast<int>(may_be.size()) - 1));
}

double PlainValues::located(std::uint32_t step, const Step& s, const Measured& a, const Measured& b)
{
    constexpr double kRounding = 1e-8;
    Op op = s.node.op;
    double x = a.value, y = b.value;
    if (std::isnan(x) || std::isnan(y)) return kNoValue;
    bool comparison = op == Op::less || op == Op::less_equal;
    double near = closeness_ * (a.spread + (comparison ? b.spread : 0)) + kRounding * (std::abs(x) + (comparison ? std::abs(y) : 0));
    switch (op) {
        case Op::less:
        case Op::less_equal: {
            // no crossing is told closer than some roundings of the time: a steep one has gone so much further by then
            constexpr double kTimeRounding = 200 * std::numeric_limits<double>::epsilon();
            if (approach_.empty()) approach_.resize(steps_.size());
            Approach& d = approach_[step];
            if (d.seen && time_ > d.time) d.time_before = d.time, d.before = d.now, d.known = true;
            d.seen = true;
            d.time = time_;
            d.now = x - y;
            double since = d.time - d.time_before;
            if (d.known && since > 0) near += std::abs(d.now - d.before) / since * kTimeRounding * (std::abs(d.time) + since);
            double holds = (op == Op::less ? x < y : x <= y) ? 1 : 0;
            return s.node.flag != 0 && std::abs(x - y) <= near ? choose(step, {holds, 1 - holds}) : holds;
        }
        case Op::sign: {
            double sign = x > 0 ? 1 : x < 0 ? -1 : 0;
            if (s.node.flag == 0 || std::abs(x) > near) return sign;
            return sign == 0 ? choose(step, {0, 1, -1}) : choose(step, {sign, 0, -sign});
        }
        default: {  // floor, ceil
            double whole = std::round(x), here = op == Op::floor ? std::floor(x) : std::ceil(x);
            if (s.node.flag == 0 || std::abs(x - whole) > near + kRounding) return here;
            double other = op == Op::floor ? (here == whole ? whole - 1 : whole) : (here == whole ? whole + 1 : whole);
            return choose(step, {here, other});
        }
    }
}

Measured PlainValues::called(const Step& s)
{
    constexpr double kShare = 1e-6;  // of the spread of an argument, to see what it does
    const Callable& f = graph_.callable(s.node.a);
    const auto& list = listed_[list_of_[static_cast<std::size_t>(&s - steps_.data())]];
    scratch_.resize(f.n_scratch());
    arguments_.clear();
    for (std::uint32_t slot : list) arguments_.push_back(values_[slot].value);
    Measured r{f.evaluate(arguments_.data(), scratch_.data()), 0};
    for (std::size_t i = 0; i < list.size(); ++i) {
        if (!f.is_quantity(i)) continue;
        double here = arguments_[i];
        arguments_[i] = here + kShare * values_[list[i]].spread;
        double moved = f.evaluate(arguments_.data(), scratch_.data());
        arguments_[i] = here;
        r.spread += finite_or_zero(std::abs(moved - r.value) / kShare);
    }
    r.spread += PlainValues::kExact * std::abs(r.value);
    return r;
}

// The first derivative along the motion by a central difference; higher ones are not known.
Series PlainValues::called_series(const Step& s)
{
    constexpr double kShare = 1e-5;
    Series r(called(s));
    const Callable& f = graph_.callable(s.node.a);
    const auto& list = listed_[list_of_[static_cast<std::size_t>(&s - steps_.data())]];
    double fastest = 0;
    for (std::uint32_t slot : list)
        if (steps_[slot].series != 0)
            fastest = std::max(fastest, std::abs(series_of(slot).c[1].value) / std::max({values_[slot].spread, std::abs(values_[slot].value), 1e-6}));
    double h = fastest > 0 ? kShare / fastest : 0;
    double side[2] = {0, 0};
    for (int k = 0; k < 2; ++k) {
        arguments_.clear();
        for (std::uint32_t slot : list)
            arguments_.push_back(values_[slot].value + (steps_[slot].series == 0 ? 0 : (k == 0 ? -h : h) * series_of(slot).c[1].value));
        side[k] = f.evaluate(arguments_.data(), scratch_.data());
    }
    double rate = h > 0 ? (side[1] - side[0]) / (2 * h) : 0;
    // what the two sides differ by is what the difference may be off by: so far it is allowed to be
    double doubt = h > 0 ? std::abs(side[1] - 2 * r.c[0].value + side[0]) / (2 * h) : 0;
    r.c[1] = {rate, std::abs(rate) + doubt / closeness_ + (h > 0 ? 1e-10 * r.c[0].spread / h : 0)};
    for (std::size_t k = 2; k <= kMostDerivatives; ++k) r.c[k] = {kNoValue, kNoValue};
    return r;
}

Measured PlainValues::plain(const Step& s, std::uint32_t step, const LeafValues& leaves)
{
    const Measured &a = values_[s.a], &b = values_[s.b], &c = values_[s.c];
    auto truth = [](bool v) { return Measured{v ? 1.0 : 0.0, 0}; };
    auto logical = [&](bool v) { return std::isnan(a.value) || std::isnan(b.value) ? Measured{kNoValue, 0} : truth(v); };
    switch (s.node.op) {
        case Op::constant:
            return exact(s.constant);
        case Op::time:
            return exact(leaves.time);
        case Op::quantity:
            return leaves.quantity(s.node.a, s.node.b);
        case Op::parameter:
            return exact(leaves.parameter(s.node.a));
        case Op::memory:
            return exact(leaves.memory(s.node.a));
        case Op::rate_of:
            return series_of(s.a).c[1];
        case Op::add:
            return a + b;
        case Op::sub:
            return a - b;
        case Op::mul:
            return a * b;
        case Op::div:
            return a / b;
        case Op::neg:
            return -a;
        case Op::pow: {
            double p = std::pow(a.value, b.value);
            double by_a = b.value == 0 ? 0 : b.value * std::pow(a.value, b.value - 1), by_b = a.value > 0 ? p * std::log(a.value) : 0;
            return {p, std::abs(finite_or_zero(by_a)) * a.spread + std::abs(finite_or_zero(by_b)) * b.spread};
        }
        case Op::abs:
            return {std::abs(a.value), a.spread};
        case Op::sign:
        case Op::floor:
        case Op::ceil:
            return {located(step, s, a, {}), 0};
        case Op::atan2: {
            double r = a.value * a.value + b.value * b.value;
            return {std::atan2(a.value, b.value), r > 0 ? (std::abs(b.value) * a.spread + std::abs(a.value) * b.spread) / r : 0};
        }
        case Op::min:
        case Op::max: {
            if (std::isnan(a.value) || std::isnan(b.value)) return {kNoValue, 0};
            bool first = s.node.op == Op::min ? a.value <= b.value : a.value >= b.value;
            return first ? a : b;
        }
        case Op::less:
        case Op::less_equal:
            return {located(step, s, a, b), 0};
        case Op::equal:
            return logical(a.value == b.value);
        case Op::logical_and:
            return logical(a.value != 0 && b.value != 0);
        case Op::logical_or:
            return logical(a.value != 0 || b.value != 0);
        case Op::logical_not:
            return std::isnan(a.value) ? Measured{kNoValue, 0} : truth(a.value == 0);
        case Op::select:
            return std::isnan(a.value) ? Measured{kNoValue, 0} : a.value != 0 ? b : c;
        case Op::lookup: {
            const Table& t = graph_.table(s.node.a);
            int dx = s.node.flag / 16, dy = s.node.flag % 16;
            double x = b.value, y = s.node.c == kNoNode ? 0 : c.value;
            Measured r{t(x, y, dx, dy), std::abs(finite_or_zero(more_of(t, x, y, dx, dy, 1, 0))) * b.spread};
            if (s.node.c != kNoNode) r.spread += std::abs(finite_or_zero(more_of(t, x, y, dx, dy, 0, 1))) * c.spread;
            return r;
        }
        case Op::call:
            return called(s);
        case Op::pair:
            return {};
        default: {
            if (!is_function(s.node.op)) return {kNoValue, 0};
            Derivatives d = of_function(s.node.op, a.value);
            return {d[0], std::abs(finite_or_zero(d[1])) * a.spread};
        }
    }
}

Series PlainValues::series(const Step& s, std::uint32_t step, const LeafValues& leaves)
{
    auto of = [&](std::uint32_t slot) { return steps_[slot].series != 0 ? series_of(slot) : Series(values_[slot]); };
    switch (s.node.op) {
        case Op::time: {
            Series t(exact(leaves.time));
            t.c[1] = {1, 0};
            return t;
        }
        case Op::quantity: {
            Series q;
            double factorial = 1;
            for (std::uint32_t k = 0; k <= kMostDerivatives; ++k) {
                if (k > 1) factorial *= k;
                q.c[k] = 1 / factorial * leaves.quantity(s.node.a, s.node.b + k);
            }
            return q;
        }
        case Op::rate_of: {
            Series a = of(s.a), r;
            for (std::size_t k = 0; k < kMostDerivatives; ++k) r.c[k] = static_cast<double>(k + 1) * a.c[k + 1];
            r.c[kMostDerivatives] = {kNoValue, kNoValue};
            return r;
        }
        case Op::add:
            return of(s.a) + of(s.b);
        case Op::sub:
            return of(s.a) - of(s.b);
        case Op::mul:
            return of(s.a) * of(s.b);
        case Op::div:
            return of(s.a) / of(s.b);
        case Op::neg:
            return -of(s.a);
        case Op::pow: {
            const Series x = of(s.a), p = of(s.b);
            bool fixed = std::all_of(p.c.begin() + 1, p.c.end(), [](const Measured& m) { return m.value == 0; });
            if (fixed) return composed(x, of_power(x.c[0].value, p.c[0].value));
            Series exponent = p * composed(x, of_function(Op::log, x.c[0].value));
            return composed(exponent, of_function(Op::exp, exponent.c[0].value));
        }
        case Op::abs: {
            Series a = of(s.a);
            return a.c[0].value < 0 ? -a : a;
        }
        case Op::min:
        case Op::max: {
            Series a = of(s.a), b = of(s.b);
            if (std::isnan(a.c[0].value) || std::isnan(b.c[0].value)) return Series(Measured{kNoValue, 0});
            bool first = s.node.op == Op::min ? a.c[0].value <= b.c[0].value : a.c[0].value >= b.c[0].value;
            return first ? a : b;
        }
        case Op::select: {
            double holds = values_[s.a].value;
            return std::isnan(holds) ? Series(Measured{kNoValue, 0}) : holds != 0 ? of(s.b) : of(s.c);
        }
        case Op::atan2: {
            Series y = of(s.a), x = of(s.b), dy, dx, angle(plain(s, step, leaves));
            for (std::size_t k = 0; k < kMostDerivatives; ++k) {
                dy.c[k] = static_cast<double>(k + 1) * y.c[k + 1];
                dx.c[k] = static_cast<double>(k + 1) * x.c[k + 1];
            }
            Series turn = (x * dy - y * dx) / (x * x + y * y);
            for (std::size_t k = 1; k <= kMostDerivatives; ++k) angle.c[k] = 1.0 / static_cast<double>(k) * turn.c[k - 1];
            return angle;
        }
        case Op::lookup: {
            const Table& t = graph_.table(s.node.a);
            int dx = s.node.flag / 16, dy = s.node.flag % 16;
            Series x = of(s.b);
            double at_x = x.c[0].value, at_y = s.node.c == kNoNode ? 0 : values_[s.c].value;
            auto d = [&](int i, int j) { return more_of(t, at_x, at_y, dx, dy, i, j); };
            if (s.node.c == kNoNode) return composed(x, {d(0, 0), d(1, 0), d(2, 0), d(3, 0), 0});
            Series y = of(s.c), r(plain(s, step, leaves));
            const Measured &x1 = x.c[1], &y1 = y.c[1];
            r.c[1] = d(1, 0) * x1 + d(0, 1) * y1;
            r.c[2] = d(1, 0) * x.c[2] + d(0, 1) * y.c[2] + 0.5 * d(2, 0) * (x1 * x1) + d(1, 1) * (x1 * y1) + 0.5 * d(0, 2) * (y1 * y1);
            r.c[3] = {kNoValue, kNoValue};
            return r;
        }
        case Op::call:
            return called_series(s);
        default:
            if (is_function(s.node.op)) {
                Series a = of(s.a);
                return composed(a, of_function(s.node.op, a.c[0].value));
            }
            return Series(plain(s, step, leaves));  // what stands still, or changes by jumps
    }
}

bool PlainValues::with_turned_conditions(const std::vector<NodeId>& roots, const LeafValues& leaves, const std::function<bool()>& look)
{
    constexpr std::size_t kMostUnsure = 6;
    std::vector<std::uint32_t> list;
    for (NodeId id : graph_.reachable(roots)) list.push_back(slot_[id]);
    auto sweep = [&] {
        for (std::uint32_t step : list) compute(step, leaves);
    };
    unsure_.clear();
    collecting_ = true;
    sweep();
    bool found = false;
    // what is met anew in another branch is taken up, too
    std::vector<std::uint32_t> counter;
    for (std::size_t tried = 0; !found && !unsure_.empty() && tried < 300; ++tried) {
        std::size_t n = std::min(unsure_.size(), kMostUnsure);
        counter.resize(n, 0);
        std::size_t k = 0;
        while (k < n && ++counter[k] == n_choices_[unsure_[k]]) counter[k++] = 0;
        if (k == n && unsure_.size() <= n) break;
        if (k == n) break;
        for (std::size_t i = 0; i < n; ++i) choice_[unsure_[i]] = static_cast<int>(counter[i]);
        sweep();
        found = look();
    }
    for (std::uint32_t step : unsure_) choice_[step] = -1, n_choices_[step] = 0;
    collecting_ = false;
    unsure_.clear();
    sweep();
    return found;
}

}  // namespace netloop

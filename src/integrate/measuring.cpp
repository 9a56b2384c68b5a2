// SPDX-License-Identifier: Apache-2.0
#include "integrate/measuring.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {

bool Measuring::Followed::is_extreme() const
{
    return kind == MeasureKind::max || kind == MeasureKind::min || kind == MeasureKind::time_of_max || kind == MeasureKind::time_of_min;
}
double Measuring::Followed::sign() const
{
    return kind == MeasureKind::min || kind == MeasureKind::time_of_min ? -1 : 1;
}

Measuring::Measuring(Evaluation& evaluation, double tolerance) : e_(evaluation), tolerance_(tolerance) {}

void Measuring::begin(const State& s)
{
    const EventPrograms& p = e_.model().events;
    const auto& accumulators = e_.model().form.events.accumulators;
    followed_.clear();
    if (accumulators.empty()) return;
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.work_out(p.windows);
    for (std::size_t i = 0; i < accumulators.size(); ++i) {
        Followed f;
        f.kind = accumulators[i].kind;
        f.memory = accumulators[i].memory;
        auto time = [&](std::uint32_t place, double open) { return place == EventPrograms::kNone ? open : e_.value_at(place); };
        f.from_time = time(p.accumulators[i].from_time, -HUGE_VAL);
        f.to_time = time(p.accumulators[i].to_time, HUGE_VAL);
        followed_.push_back(f);
    }
    at_ = s;
    jump(s);
}

// What the accumulators see where the evaluation stands.
void Measuring::read(double time, Look& look)
{
    const EventPrograms& p = e_.model().events;
    e_.work_out(p.sampled);
    look.time = time;
    look.value.resize(followed_.size());
    look.holds.resize(followed_.size());
    look.margin.clear();
    for (std::size_t i = 0; i < followed_.size(); ++i) {
        const EventPrograms::Accumulator& a = p.accumulators[i];
        look.value[i] = e_.value_at(a.value);
        look.holds[i] = a.when != EventPrograms::kNone && e_.value_at(a.when) != 0 ? 1 : 0;
        for (std::uint32_t place : a.margins) look.margin.push_back(e_.value_at(place));
        if (std::isfinite(look.value[i])) followed_[i].size = std::max(followed_[i].size, std::abs(look.value[i]));
    }
}

// Whether a value may be the largest (smallest) so far, as far as it is known: values within a step are not, to the last digit, before what is no state is
// solved.
bool Measuring::Followed::can_win(double value) const
{
    constexpr double kKnown = 0.01, kTimes = 4;
    return !any || !std::isfinite(value) || sign() * value > sign() * best - std::max(kTimes * unsolved, kKnown * size);
}

// Solving costs many times what reading does. It is left out where what is read are states, and of an extreme where it is far from the best one so far.
bool Measuring::must_solve(const Look& look) const
{
    const auto& programs = e_.model().events.accumulators;
    for (std::size_t i = 0; i < followed_.size(); ++i) {
        const Followed& f = followed_[i];
        if (!programs[i].reads_solved || !is_within(f, look.time)) continue;
        if (f.kind == MeasureKind::final ? look.time == f.to_time : !f.is_extreme() || closely_ || f.can_win(look.value[i])) return true;
    }
    return false;
}

Measuring::Look Measuring::look_at(double time, const Interpolate& interpolate, const Solve& solve)
{
    interpolate(time, at_);
    e_.at(at_.time, at_.z.data(), at_.rates.data());
    Look look;
    read(time, look);
    if (!solved_ || !must_solve(look)) return look;
    std::vector<double> guessed = look.value;
    solve(at_);
    e_.at(at_.time, at_.z.data(), at_.rates.data());
    read(time, look);
    for (std::size_t i = 0; i < followed_.size(); ++i)
        if (double off = std::abs(look.value[i] - guessed[i]); off > followed_[i].unsolved) followed_[i].unsolved = off;
    return look;
}

// One value at one moment, within the window.
void Measuring::take(Followed& f, double time, double value, bool holds)
{
    using Kind = MeasureKind;
    switch (f.kind) {
        case Kind::max:
        case Kind::min:
        case Kind::time_of_max:
        case Kind::time_of_min:
            if (!f.any || f.sign() * value > f.sign() * f.best) f.best = value, f.best_time = time, f.any = true;
            break;
        case Kind::final:
            f.result = value, f.any = true;
            break;
        case Kind::first:
            if (holds && !f.any) f.result = value, f.any = true;
            break;
        case Kind::last:
            if (holds) f.result = value, f.any = true;
            break;
        case Kind::count:
            if (holds && !f.held && f.any) f.result += 1;
            f.any = true;  // what holds from the start is no change
            break;
        default:
            break;
    }
    f.held = holds;
}

void Measuring::jump(const State& s)
{
    if (none()) return;
    e_.at(s.time, s.z.data(), s.rates.data());
    Look before = last_;
    read(s.time, last_);
    // what moves on is on the side that it was on; what a block has set is where it was set
    if (before.margin.size() == last_.margin.size()) keep_sides(before, last_, true);
    for (std::size_t i = 0; i < followed_.size(); ++i)
        if (is_within(followed_[i], s.time)) take(followed_[i], s.time, last_.value[i], last_.holds[i] != 0);
    // params, modes and memories that signals hold may have changed, the system itself, too
    if (turns_of_ != &e_.model()) {
        turns_of_ = &e_.model();
        turns_.clear();
        std::vector<NodeId> roots;
        for (const auto& list : e_.model().form.measured_signals) roots.insert(roots.end(), list.begin(), list.end());
        std::sort(roots.begin(), roots.end());
        roots.erase(std::unique(roots.begin(), roots.end()), roots.end());
        for (NodeId root : roots) turns_.emplace_back(e_.model(), root);
        const auto& accumulators = e_.model().events.accumulators;
        solved_ = std::any_of(accumulators.begin(), accumulators.end(), [](const auto& a) { return a.reads_solved; });
    }
    for (Turns& t : turns_) t.renew(e_);
}

void Measuring::row(const State& s)
{
    if (std::none_of(followed_.begin(), followed_.end(), [](const Followed& f) { return f.is_extreme(); })) return;
    Look look;
    read(s.time, look);
    for (std::size_t i = 0; i < followed_.size(); ++i)
        if (followed_[i].is_extreme() && is_within(followed_[i], s.time)) take(followed_[i], s.time, look.value[i], false);
}

void Measuring::step(double from, double to, const Interpolate& interpolate, const Solve& solve)
{
    if (none() || !(to > from)) return;
    std::vector<double> cuts;
    auto cut = [&](double t) {
        if (t > from && t < to) cuts.push_back(t);
    };
    for (const Followed& f : followed_) cut(f.from_time), cut(f.to_time);
    for (Turns& turns : turns_)
        for (double t = turns.first(from, to); t < to; t = turns.first(t, to)) cut(t);
    cuts.push_back(to);
    std::sort(cuts.begin(), cuts.end());
    cuts.erase(std::unique(cuts.begin(), cuts.end()), cuts.end());
    if (last_.time != from) last_ = look_at(from, interpolate, solve);
    for (double end : cuts) {
        Look next = look_at(end, interpolate, solve);
        keep_sides(last_, next);
        piece(last_, next, interpolate, solve);
        last_ = std::move(next);
    }
}

// A comparison that is zero but for rounding (not zero itself) at the end of a piece is on the side that it was on: where it goes to, the next piece tells.
void Measuring::keep_sides(const Look& before, Look& now, bool at_event)
{
    constexpr double kRounding = 1e-10;
    const auto& programs = e_.model().events.accumulators;
    margin_size_.resize(now.margin.size(), 0.0);
    std::size_t margin = 0;
    for (std::size_t i = 0; i < followed_.size(); ++i)
        for (std::size_t k = 0; k < programs[i].margins.size(); ++k, ++margin) {
            margin_size_[margin] = std::max({margin_size_[margin], std::abs(before.margin[margin]), std::abs(now.margin[margin])});
            double rounding = kRounding * margin_size_[margin];
            bool here = std::abs(now.margin[margin]) <= rounding && now.margin[margin] != 0, was_here = std::abs(before.margin[margin]) <= rounding;
            // at an event nothing has moved on yet; a step that begins and ends there rests there, and rounding is all there is
            if (here && was_here == at_event) now.holds[i] = before.holds[i];
        }
}

// Halved from left to right until the middle of each part tells nothing new.
void Measuring::piece(const Look& a, const Look& b, const Interpolate& interpolate, const Solve& solve)
{
    constexpr double kShortest = 1e-6;          // of the piece: there, something jumps without being located
    constexpr double kResolution = 1e-14;       // of the time: nothing lies between such two
    constexpr std::size_t kMostHalvings = 400;  // beyond, what is looked at is rounding, or nothing that points could follow
    std::size_t halvings = 0;
    double shortest = std::max(kShortest * (b.time - a.time), kResolution * std::abs(b.time));
    struct Part {
        Look a, m, b;
    };
    auto middle = [&](const Look& x, const Look& y) { return look_at(0.5 * (x.time + y.time), interpolate, solve); };
    std::vector<Part> open;
    open.push_back({a, middle(a, b), b});
    while (!open.empty()) {
        Part p = std::move(open.back());
        open.pop_back();
        if (p.b.time - p.a.time <= shortest || halvings >= kMostHalvings || is_close(p.a, p.m, p.b)) {
            leaf(p.a, p.m, p.b, interpolate, solve);
            continue;
        }
        ++halvings;
        Look right = middle(p.m, p.b), left = middle(p.a, p.m);
        open.push_back({p.m, std::move(right), std::move(p.b)});
        open.push_back({std::move(p.a), std::move(left), std::move(p.m)});
    }
}

// What a parabola through three points is off by goes with the square of how far the middle one lies from the straight line, where a value is smooth.
bool Measuring::is_close(const Look& a, const Look& m, const Look& b) const
{
    const double bend = std::sqrt(tolerance_);
    auto straight = [&](double va, double vm, double vb, double size) { return !(std::abs(va - 2 * vm + vb) > bend * size); };
    const auto& programs = e_.model().events.accumulators;
    std::size_t margin = 0;
    for (std::size_t i = 0; i < followed_.size(); ++i) {
        const Followed& f = followed_[i];
        bool within = b.time > f.from_time && a.time < f.to_time;
        if (f.is_extreme() && within) {  // what lies far below the best so far need not be known closely
            double top = f.sign() * std::max({f.sign() * a.value[i], f.sign() * m.value[i], f.sign() * b.value[i]});
            if (!f.can_win(top + f.sign() * std::abs(a.value[i] - 2 * m.value[i] + b.value[i]))) continue;
        }
        if (within && f.kind != MeasureKind::final && !straight(a.value[i], m.value[i], b.value[i], f.size)) return false;
        for (std::size_t k = 0; k < programs[i].margins.size(); ++k, ++margin) {
            double x = a.margin[margin], y = m.margin[margin], z = b.margin[margin];
            double size = std::max({std::abs(x), std::abs(y), std::abs(z)}), least = std::min({std::abs(x), std::abs(y), std::abs(z)});
            // far from its zero a comparison need not be known closely
            if (within && least < 0.5 * size && !straight(x, y, z, size)) return false;
        }
    }
    return true;
}

void Measuring::leaf(const Look& a, const Look& m, const Look& b, const Interpolate& interpolate, const Solve& solve)
{
    double h = b.time - a.time;
    for (std::size_t i = 0; i < followed_.size(); ++i) {
        Followed& f = followed_[i];
        bool inside = a.time >= f.from_time && b.time <= f.to_time;
        if (!inside) {
            if (a.time == f.to_time) take(f, a.time, a.value[i], a.holds[i] != 0);
            if (b.time == f.from_time) take(f, b.time, b.value[i], b.holds[i] != 0);
            continue;
        }
        auto square = [&](double v) { return f.kind == MeasureKind::rms ? v * v : v; };
        if (f.kind == MeasureKind::integral || f.kind == MeasureKind::mean || f.kind == MeasureKind::rms) {
            f.sum += h / 6 * (square(a.value[i]) + 4 * square(m.value[i]) + square(b.value[i]));
            f.length += h;
            f.any = true;
        }
        change(i, a, m, interpolate, solve);
        take(f, m.time, m.value[i], m.holds[i] != 0);
        change(i, m, b, interpolate, solve);
        take(f, b.time, b.value[i], b.holds[i] != 0);
        if (f.is_extreme()) summit(i, a, m, b, interpolate, solve);
    }
}

// The moment between two points at which the condition of one that counts moments changes.
void Measuring::change(std::size_t i, const Look& a, const Look& b, const Interpolate& interpolate, const Solve& solve)
{
    Followed& f = followed_[i];
    bool by_condition = f.kind == MeasureKind::first || f.kind == MeasureKind::last || f.kind == MeasureKind::count;
    if (!by_condition || a.holds[i] == b.holds[i]) return;
    double low = a.time, high = b.time;
    for (int round = 0; round < 60 && high - low > 1e-15 * std::abs(high); ++round) {
        double mid = 0.5 * (low + high);
        (look_at(mid, interpolate, solve).holds[i] == a.holds[i] ? low : high) = mid;
    }
    double time = b.holds[i] != 0 ? high : low;  // the side on which it holds
    take(f, time, look_at(time, interpolate, solve).value[i], true);
}

// An extreme between the points, if it can be the best.
void Measuring::summit(std::size_t i, const Look& a, const Look& m, const Look& b, const Interpolate& interpolate, const Solve& solve)
{
    constexpr double kGolden = 0.3819660112501051;
    Followed& f = followed_[i];
    double sign = f.sign(), va = sign * a.value[i], vm = sign * m.value[i], vb = sign * b.value[i];
    double bend = va - 2 * vm + vb, tilt = 0.5 * (vb - va);
    if (!(bend < 0) || !(std::abs(tilt) < std::abs(bend))) return;  // the parabola's summit lies outside
    double expected = vm - tilt * tilt / (2 * bend);
    if (expected < sign * f.best - 0.1 * std::abs(expected - std::min(va, vb))) return;
    double low = a.time, high = b.time, mid = m.time, best = vm;
    closely_ = true;
    if (solved_) best = sign * look_at(mid, interpolate, solve).value[i];
    for (int round = 0; round < 60 && high - low > 1e-9 * (b.time - a.time); ++round) {
        double other = mid - low > high - mid ? mid - kGolden * (mid - low) : mid + kGolden * (high - mid);
        double there = sign * look_at(other, interpolate, solve).value[i];
        if (there > best) {
            (other < mid ? high : low) = mid;
            mid = other, best = there;
        } else {
            (other < mid ? low : high) = other;
        }
    }
    closely_ = false;
    take(f, mid, sign * best, false);
}

void Measuring::finish(State s, const Solve& solve)
{
    // values at the end: what is no state was not solved at each step for them
    if (solved_ && std::any_of(followed_.begin(), followed_.end(), [](const Followed& f) { return f.kind == MeasureKind::final; })) {
        solve(s);
        e_.at(s.time, s.z.data(), s.rates.data());
        Look look;
        read(s.time, look);
        for (std::size_t i = 0; i < followed_.size(); ++i)
            if (followed_[i].kind == MeasureKind::final && is_within(followed_[i], s.time)) take(followed_[i], s.time, look.value[i], false);
    }
    for (Followed& f : followed_) {
        double result = std::nan("");  // never happened, never in the window
        switch (f.kind) {
            case MeasureKind::max:
            case MeasureKind::min:
                if (f.any) result = f.best;
                break;
            case MeasureKind::time_of_max:
            case MeasureKind::time_of_min:
                if (f.any) result = f.best_time;
                break;
            case MeasureKind::integral:
                if (f.any) result = f.sum;
                break;
            case MeasureKind::mean:
                if (f.length > 0) result = f.sum / f.length;
                break;
            case MeasureKind::rms:
                if (f.length > 0) result = std::sqrt(std::max(f.sum / f.length, 0.0));
                break;
            default:
                if (f.any) result = f.result;
        }
        e_.set_memory(f.memory, result);
    }
}

}  // namespace netloop

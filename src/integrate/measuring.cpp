#include "integrate/measuring.hpp"

#include <array>
#include <cmath>

namespace netloop {

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

void Measuring::look(const State& s, std::vector<double>& value, std::vector<char>& holds)
{
    const EventPrograms& p = e_.model().events;
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.work_out(p.sampled);
    value.resize(followed_.size());
    holds.resize(followed_.size());
    for (std::size_t i = 0; i < followed_.size(); ++i) {
        value[i] = e_.value_at(p.accumulators[i].value);
        holds[i] = p.accumulators[i].when != EventPrograms::kNone && e_.value_at(p.accumulators[i].when) != 0 ? 1 : 0;
    }
}

// One value at one moment, within the window.
void Measuring::take(Followed& f, double time, double value, bool holds)
{
    using Kind = MeasureKind;
    double sign = f.kind == Kind::min || f.kind == Kind::time_of_min ? -1 : 1;
    switch (f.kind) {
        case Kind::max:
        case Kind::min:
        case Kind::time_of_max:
        case Kind::time_of_min:
            if (!f.any || sign * value > sign * f.best) f.best = value, f.best_time = time, f.any = true;
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
    look(s, now_, holds_);
    for (std::size_t i = 0; i < followed_.size(); ++i) {
        Followed& f = followed_[i];
        if (s.time >= f.from_time && s.time <= f.to_time) take(f, s.time, now_[i], holds_[i] != 0);
    }
}

void Measuring::step(double from, double to, const Interpolate& interpolate)
{
    if (none() || !(to > from)) return;
    constexpr std::size_t kPoints = 5;
    constexpr std::array<double, kPoints> kBoole{7. / 90, 32. / 90, 12. / 90, 32. / 90, 7. / 90};
    std::array<double, kPoints> time{};
    std::array<std::vector<double>, kPoints> value;
    std::array<std::vector<char>, kPoints> holds;
    for (std::size_t k = 0; k < kPoints; ++k) {
        time[k] = from + (to - from) * static_cast<double>(k) / (kPoints - 1);
        interpolate(time[k], at_);
        look(at_, value[k], holds[k]);
    }
    auto look_at = [&](std::size_t i, double t) {
        interpolate(t, at_);
        look(at_, now_, holds_);
        return std::pair{now_[i], holds_[i] != 0};
    };
    for (std::size_t i = 0; i < followed_.size(); ++i) {
        Followed& f = followed_[i];
        double begin = std::max(from, f.from_time), end = std::min(to, f.to_time);
        if (!(end > begin)) {
            if (end == begin) {
                auto [v, h] = look_at(i, begin);
                take(f, begin, v, h);
            }
            continue;
        }
        // 1. the points of this accumulator: those of the step, or its own where the window cuts the step
        std::array<double, kPoints> t = time, v{};
        std::array<bool, kPoints> h{};
        bool cut = begin > from || end < to;
        for (std::size_t k = 0; k < kPoints; ++k) {
            v[k] = value[k][i], h[k] = holds[k][i] != 0;
            if (!cut) continue;
            t[k] = begin + (end - begin) * static_cast<double>(k) / (kPoints - 1);
            std::tie(v[k], h[k]) = look_at(i, t[k]);
        }
        // 2. integrals
        auto add = [&](auto of) {
            for (std::size_t k = 0; k < kPoints; ++k) f.sum += (end - begin) * kBoole[k] * of(v[k]);
            f.length += end - begin;
            f.any = true;
        };
        if (f.kind == MeasureKind::integral || f.kind == MeasureKind::mean) add([](double x) { return x; });
        if (f.kind == MeasureKind::rms) add([](double x) { return x * x; });
        // 3. moments at which the condition changes: enclosed to rounding
        bool by_condition = f.kind == MeasureKind::first || f.kind == MeasureKind::last || f.kind == MeasureKind::count;
        for (std::size_t k = 0; k < kPoints; ++k) {
            if (by_condition && k > 0 && h[k] != h[k - 1]) {
                double low = t[k - 1], high = t[k];
                for (int round = 0; round < 60 && high - low > 1e-15 * std::abs(high); ++round) {
                    double mid = 0.5 * (low + high);
                    (look_at(i, mid).second == h[k - 1] ? low : high) = mid;
                }
                double change = h[k] ? high : low;  // the side on which it holds
                take(f, change, look_at(i, change).first, true);
            }
            take(f, t[k], v[k], h[k]);
        }
        // 4. an extreme between the points, if it can be the best
        bool largest = f.kind == MeasureKind::max || f.kind == MeasureKind::time_of_max,
             smallest = f.kind == MeasureKind::min || f.kind == MeasureKind::time_of_min;
        if (!largest && !smallest) continue;
        double sign = largest ? 1 : -1;
        for (std::size_t k = 1; k + 1 < kPoints; ++k) {
            bool summit = sign * v[k] >= sign * v[k - 1] && sign * v[k] >= sign * v[k + 1];
            if (!summit || sign * v[k] < sign * f.best || v[k - 1] == v[k + 1]) continue;
            constexpr double kGolden = 0.3819660112501051;
            double low = t[k - 1], high = t[k + 1], mid = t[k], best = v[k];
            for (int round = 0; round < 40 && high - low > 1e-9 * (t[k + 1] - t[k - 1]); ++round) {
                double other = mid - low > high - mid ? mid - kGolden * (mid - low) : mid + kGolden * (high - mid);
                double there = look_at(i, other).first;
                if (sign * there > sign * best) {
                    (other < mid ? high : low) = mid;
                    mid = other, best = there;
                } else {
                    (other < mid ? low : high) = other;
                }
            }
            take(f, mid, best, false);
        }
    }
}

void Measuring::finish()
{
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

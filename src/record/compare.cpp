// SPDX-License-Identifier: Apache-2.0
#include "netloop/compare.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "netloop/error.hpp"
#include "units/unit.hpp"

namespace netloop {
namespace {

// Walks one column along growing times; at a time with two rows `before` and `after` give both sides.
class Walk {
public:
    Walk(const std::vector<double>& time, const std::vector<double>& values) : time_(time), values_(values) {}
    // Values just before and just after t.
    std::pair<double, double> at(double t)
    {
        while (row_ + 1 < time_.size() && time_[row_ + 1] < t) ++row_;
        std::size_t first = row_;  // the last row before t, or the first of all
        if (time_[first] >= t) {
            std::size_t last = first;
            while (last + 1 < time_.size() && time_[last + 1] <= t) ++last;
            return {values_[first], values_[last]};
        }
        std::size_t next = first + 1;
        if (next >= time_.size()) return {values_.back(), values_.back()};
        if (time_[next] > t) {
            double share = (t - time_[first]) / (time_[next] - time_[first]), v = values_[first] + share * (values_[next] - values_[first]);
            return {v, v};
        }
        std::size_t last = next;
        while (last + 1 < time_.size() && time_[last + 1] <= t) ++last;
        return {values_[next], values_[last]};
    }
    // Smallest and largest value within t - shift .. t + shift.
    std::pair<double, double> band(double t, double shift)
    {
        Walk inner(time_, values_);
        auto [a, b] = inner.at(std::max(t - shift, time_.front()));
        double low = std::min(a, b), high = std::max(a, b);
        std::size_t from = static_cast<std::size_t>(std::lower_bound(time_.begin(), time_.end(), t - shift) - time_.begin());
        for (std::size_t i = from; i < time_.size() && time_[i] <= t + shift; ++i) low = std::min(low, values_[i]), high = std::max(high, values_[i]);
        auto [c, d] = inner.at(std::min(t + shift, time_.back()));
        return {std::min({low, c, d}), std::max({high, c, d})};
    }

private:
    const std::vector<double>&time_, &values_;
    std::size_t row_ = 0;
};

// The times of the second recording as those of the first: straight between events that both have.
class TimeMap {
public:
    // Pairs (first, second), ascending in both.
    explicit TimeMap(std::vector<std::pair<double, double>> knots) : knots_(std::move(knots)) {}
    double to_second(double t) const
    {
        return along(
            t, [](const auto& k) { return k.first; }, [](const auto& k) { return k.second; });
    }
    double to_first(double t) const
    {
        return along(
            t, [](const auto& k) { return k.second; }, [](const auto& k) { return k.first; });
    }

private:
    template <typename From, typename To>
    double along(double t, From from, To to) const
    {
        if (knots_.empty()) return t;
        auto next = std::lower_bound(knots_.begin(), knots_.end(), t, [&](const auto& k, double v) { return from(k) < v; });
        if (next != knots_.end() && from(*next) == t) return to(*next);
        if (next == knots_.begin()) return t + to(*next) - from(*next);
        if (next == knots_.end()) return t + to(knots_.back()) - from(knots_.back());
        auto before = next - 1;
        return to(*before) + (t - from(*before)) / (from(*next) - from(*before)) * (to(*next) - to(*before));
    }

    std::vector<std::pair<double, double>> knots_;
};

// Events of one part and text, in their order.
std::map<std::pair<std::string, std::string>, std::vector<double>> by_kind(const EventRecord& record)
{
    std::map<std::pair<std::string, std::string>, std::vector<double>> kinds;
    for (const EventEntry& e : record.kinds) {
        std::vector<double>& times = kinds[{e.part, e.text}];
        times.insert(times.end(), e.times.begin(), e.times.end());
        std::sort(times.begin(), times.end());
    }
    return kinds;
}

TimeMap match_events(const Recording& first, const Recording& second, const CompareOptions& options, Comparison& c)
{
    constexpr double kFarthest = 0.02;  // of the time that both cover: farther apart, two events are not the same one
    const double whole = c.to - c.from, allowed = std::max(options.tolerance * whole, options.shift);
    std::vector<std::pair<double, double>> pairs{{c.from, c.from}, {c.to, c.to}};
    auto kinds = by_kind(first.events), others = by_kind(second.events);
    for (const auto& [kind, times] : others) kinds.try_emplace(kind);
    for (const auto& [kind, times] : kinds) {
        EventDifference d{kind.second, kind.first, times.size(), 0, 0, 0, true};
        auto other = others.find(kind);
        if (other != others.end()) {
            d.count_second = other->second.size();
            for (std::size_t i = 0; i < std::min(times.size(), other->second.size()); ++i) {
                double apart = std::abs(times[i] - other->second[i]);
                if (apart > d.apart) d.apart = apart, d.at = times[i];
                if (apart <= kFarthest * whole) pairs.emplace_back(times[i], other->second[i]), ++c.events_paired;
            }
        }
        // who asks for some quantities asks for these alone: events that they do not show decide nothing
        d.within = !options.keep.empty() || (d.count_first == d.count_second && !(d.apart > allowed));
        if (d.apart > 0 || d.count_first != d.count_second) c.events.push_back(std::move(d));
    }
    std::stable_sort(c.events.begin(), c.events.end(),
                     [](const EventDifference& a, const EventDifference& b) { return std::pair(!a.within, a.apart) > std::pair(!b.within, b.apart); });
    std::sort(pairs.begin(), pairs.end());
    // where two pairs cross, time would run backwards: the later one goes
    std::vector<std::pair<double, double>> knots;
    for (const auto& p : pairs)
        if (knots.empty() || (p.first > knots.back().first && p.second > knots.back().second)) knots.push_back(p);
    return TimeMap(std::move(knots));
}

// Numbers of the runs as wholes.
void side_by_side(const Recording& first, const Recording& second, Comparison& c)
{
    const double none = std::nan("");
    for (const MeasureResult& m : first.measures) c.measures.push_back({m.name, m.unit, m.shown(), none});
    for (const MeasureResult& m : second.measures) {
        auto it = std::find_if(c.measures.begin(), c.measures.end(), [&](const SideBySide& p) { return p.name == m.name && p.unit == m.unit; });
        if (it != c.measures.end())
            it->second = m.shown();
        else
            c.measures.push_back({m.name, m.unit, none, m.shown()});
    }
    std::map<std::string, const ParameterValue*> given;
    for (const ParameterValue& p : second.origin.parameters) given.emplace(p.path, &p);
    for (const ParameterValue& p : first.origin.parameters) {
        auto it = given.find(p.path);
        double other = it == given.end() ? none : (it->second->value - p.offset) / p.scale;
        if (it == given.end() || it->second->value != p.value) c.params.push_back({p.path, p.unit, p.shown(), other});
        if (it != given.end()) given.erase(it);
    }
    for (const ParameterValue& p : second.origin.parameters)
        if (given.contains(p.path)) c.params.push_back({p.path, p.unit, none, p.shown()});
    if (first.events.steps > 0 && second.events.steps > 0) {
        auto events = [](const Recording& r) {
            std::size_t n = 0;
            for (const EventEntry& e : r.events.kinds) n += e.times.size();
            return static_cast<double>(n);
        };
        c.effort = {{"steps", "", first.events.steps, second.events.steps},
                    {"events", "", events(first), events(second)},
                    {"computing", "s", first.events.seconds, second.events.seconds}};
        if (first.origin.tolerance != second.origin.tolerance) c.effort.push_back({"tolerance", "", first.origin.tolerance, second.origin.tolerance});
    }
}

Difference difference(const Column& a, const Column& b, const std::vector<double>& time_a, const std::vector<double>& time_b, const std::vector<double>& times,
                      const TimeMap& map, double resting, const CompareOptions& options, const std::vector<std::pair<Unit, double>>& by_unit)
{
    Difference d;
    d.name = a.name;
    d.unit = a.unit;
    d.scale = a.scale;
    auto swing = [](const Column& c) {
        auto [low, high] = std::minmax_element(c.values.begin(), c.values.end());
        return *high - *low;
    };
    double larger = std::max(swing(a), swing(b));
    d.allowed = options.tolerance * larger;
    Unit unit;
    UnitProblem problem;
    if (parse_unit(a.unit, unit, problem))
        for (const auto& [u, allowed] : by_unit)
            if (u.dimension == unit.dimension) d.allowed = allowed;
    // beside what moves among the quantities of its kind, it rests in both
    d.allowed = std::max(d.allowed, resting);
    // a quantity that stands still in both differs by rounding, or it differs
    double size = 0;
    for (const Column* c : {&a, &b})
        for (double v : c->values) size = std::max(size, std::abs(v));
    d.allowed = std::max(d.allowed, 1e-12 * size);
    d.first = std::nan("");
    Walk walk_a(time_a, a.values), walk_b(time_b, b.values), walk_moved(time_b, b.values);
    for (double t : times) {
        auto [before_a, after_a] = walk_a.at(t);
        auto between = [&, before = before_a, after = after_a](std::pair<double, double> other) {
            double apart = std::max(std::abs(before - other.first), std::abs(after - other.second));
            // an event that comes a trifle earlier in one of both: its side before against the other's side after
            double crossed = std::max(std::abs(before - other.second), std::abs(after - other.first));
            return before == after && other.first == other.second ? apart : std::min(apart, crossed);
        };
        std::pair<double, double> other = walk_b.at(t);
        double apart = between(other);
        // what events move is held against the same moment between the same events; what they do not move, against the same time
        if (apart > d.allowed) apart = std::min(apart, between(walk_moved.at(map.to_second(t))));
        if (options.shift > 0 && apart > d.allowed) {
            auto [low, high] = walk_b.band(t, options.shift);
            apart = std::min(apart, std::max({0.0, low - after_a, after_a - high}));
        }
        if (apart > d.largest || std::isnan(apart)) d.largest = std::isnan(apart) ? HUGE_VAL : apart, d.at = t;
        if (apart > d.allowed && std::isnan(d.first)) d.first = t;
        d.final = other.second - after_a;
    }
    d.share = larger > 0 ? d.largest / larger : d.largest > 0 ? HUGE_VAL : 0;
    return d;
}

}  // namespace

bool Comparison::same() const
{
    return (shared_time || not_compared.empty()) && std::all_of(events.begin(), events.end(), [](const EventDifference& e) { return e.within; }) &&
           std::all_of(differences.begin(), differences.end(), [](const Difference& d) { return d.within(); });
}

Comparison compare(const Recording& first, const Recording& second, const CompareOptions& options)
{
    Comparison c;
    if (first.n_rows() == 0 || second.n_rows() == 0) throw RecordingError("a recording without rows cannot be compared");
    std::vector<std::pair<Unit, double>> by_unit;
    for (const auto& [text, value] : options.by_unit) {
        Unit unit;
        UnitProblem problem;
        if (!parse_unit(text, unit, problem)) throw UsageError(fmt::format("a tolerance in '{}': {}", text, problem.text));
        if (!(value >= 0)) throw UsageError(fmt::format("a tolerance of {:g} {}: it must not be negative", value, text));
        by_unit.emplace_back(unit, value * unit.scale);
    }
    const auto &time_a = first.time().values, &time_b = second.time().values;
    c.from = std::max(time_a.front(), time_b.front());
    c.to = std::min(time_a.back(), time_b.back());
    if (!(c.to >= c.from))
        throw RecordingError(fmt::format("the recordings share no time: {:g} s to {:g} s against {:g} s to {:g} s", time_a.front(), time_a.back(),
                                         time_b.front(), time_b.back()));
    c.shared_time = options.shared_time;
    const Recording* both[] = {&first, &second};
    const char* which[] = {"first", "second"};
    double whole = std::max(time_a.back(), time_b.back()) - std::min(time_a.front(), time_b.front());
    constexpr double kSameTime = 1e-9;  // of the whole time
    for (int k = 0; k < 2; ++k) {
        const Recording& r = *both[k];
        if (!r.complete) c.not_compared.push_back(fmt::format("the {} is incomplete: {}", which[k], r.reason));
        double early = c.from - r.time().first(), late = r.time().final() - c.to;
        if (std::max(early, late) > kSameTime * whole)
            c.not_compared.push_back(fmt::format("the {} covers {:g} s to {:g} s: {:.3g} % of it is not compared", which[k], r.time().first(), r.time().final(),
                                                 100 * (early + late) / (r.time().final() - r.time().first())));
    }
    side_by_side(first, second, c);
    auto tells_events = [](const Recording& r) { return r.events.steps > 0 || !r.events.kinds.empty(); };  // a .csv does not
    const TimeMap map = options.match_events && tells_events(first) && tells_events(second) ? match_events(first, second, options, c) : TimeMap({});
    std::vector<double> times, mapped;
    for (double t : time_b) mapped.push_back(map.to_first(t));
    std::merge(time_a.begin(), time_a.end(), mapped.begin(), mapped.end(), std::back_inserter(times));
    std::erase_if(times, [&](double t) { return t < c.from || t > c.to; });
    times.erase(std::unique(times.begin(), times.end()), times.end());
    auto wanted = [&](const std::string& name) {
        return options.keep.empty() || std::any_of(options.keep.begin(), options.keep.end(), [&](const std::string& p) { return fits_pattern(p, name); });
    };
    constexpr double kAtRest = 1e-12;
    auto kind = [](const Column& column) {
        Unit unit;
        UnitProblem problem;
        return parse_unit(column.unit, unit, problem) ? unit.dimension.text() : column.unit;
    };
    std::map<std::string, double> size_of_kind;  // by dimension: the largest value
    for (const Recording* r : both)
        for (std::size_t i = 1; i < r->columns.size(); ++i) {
            double& largest = size_of_kind[kind(r->columns[i])];
            for (double v : r->columns[i].values)
                if (std::isfinite(v)) largest = std::max(largest, std::abs(v));
        }
    for (std::size_t i = 1; i < first.columns.size(); ++i) {
        const Column& a = first.columns[i];
        if (!wanted(a.name)) continue;
        const Column* b = second.find(a.name);
        if (b == nullptr) {
            c.only_first.push_back(a.name);
            continue;
        }
        c.differences.push_back(difference(a, *b, time_a, time_b, times, map, kAtRest * size_of_kind[kind(a)], options, by_unit));
    }
    for (std::size_t i = 1; i < second.columns.size(); ++i)
        if (wanted(second.columns[i].name) && first.find(second.columns[i].name) == nullptr) c.only_second.push_back(second.columns[i].name);
    if (c.differences.empty()) throw RecordingError("the recordings have no quantity in common (of those asked for)");
    auto beyond = [](const Difference& d) { return d.allowed > 0 ? d.largest / d.allowed : d.largest > 0 ? HUGE_VAL : 0; };
    std::stable_sort(c.differences.begin(), c.differences.end(), [&](const Difference& a, const Difference& b) { return beyond(a) > beyond(b); });
    return c;
}

std::string Comparison::text(std::size_t most) const
{
    std::size_t beyond = static_cast<std::size_t>(std::count_if(differences.begin(), differences.end(), [](const Difference& d) { return !d.within(); }));
    std::string out = fmt::format("{} quantities over {:g} s to {:g} s: {}\n", differences.size(), from, to,
                                  beyond == 0 ? "all within what is allowed" : fmt::format("{} differ by more than is allowed", beyond));
    for (const std::string& why : not_compared) out += fmt::format("{} {}\n", shared_time ? " " : "*", why);
    if (!shared_time && !not_compared.empty()) out += "  so they differ; --shared-time compares the time that both cover\n";
    std::size_t shown = std::min({most, differences.size(), beyond == 0 ? std::size_t{5} : differences.size()});
    std::size_t wide = 8;
    for (std::size_t i = 0; i < shown; ++i) wide = std::max(wide, differences[i].name.size());
    if (shown > 0) out += fmt::format("  {:<{}}  {:>14}  {:>12}  {:>11}  {:>11}  {:>9}\n", "quantity", wide, "largest", "allowed", "at", "from", "of swing");
    for (std::size_t i = 0; i < shown; ++i) {
        const Difference& d = differences[i];
        // a difference of temperatures is one in K
        std::string unit = d.unit == "degC" || d.unit == "degF" ? "K" : d.unit == "1" || d.unit == "bool" ? "" : d.unit;
        double scale = d.unit == "degF" || d.unit == "degC" ? 1 : d.scale;
        out += fmt::format("{} {:<{}}  {:>14}  {:>12}  {:>11}  {:>11}  {:>9}\n", d.within() ? " " : "*", d.name, wide,
                           fmt::format("{:.4g} {}", d.largest / scale, unit), fmt::format("{:.3g} {}", d.allowed / scale, unit), fmt::format("{:.6g} s", d.at),
                           std::isnan(d.first) ? "never" : fmt::format("{:.6g} s", d.first),
                           std::isfinite(d.share) ? fmt::format("{:.3g} %", 100 * d.share) : "all");
    }
    if (shown < differences.size()) out += fmt::format("  and {} more{}\n", differences.size() - shown, beyond > shown ? "" : ", all within what is allowed");
    if (events_paired > 0 || !events.empty()) {
        std::size_t other = static_cast<std::size_t>(std::count_if(events.begin(), events.end(), [](const EventDifference& e) { return !e.within; }));
        out += fmt::format("  events: {} matched in time before values were compared{}\n", events_paired, events.empty() ? ", all at the same times" : "");
        constexpr std::size_t kMostEvents = 5;
        for (std::size_t i = 0; i < events.size() && i < std::max(std::min(other, most), kMostEvents); ++i) {
            const EventDifference& e = events[i];
            out += fmt::format("{}   {}{}: ", e.within ? " " : "*", e.part.empty() ? "" : e.part + ": ", e.text);
            if (e.count_first != e.count_second) out += fmt::format("{} against {} times{}", e.count_first, e.count_second, e.apart > 0 ? ", " : "\n");
            if (e.apart > 0) out += fmt::format("{:.3g} s apart at {:.6g} s\n", e.apart, e.at);
        }
    }
    auto pairs = [&](const char* title, const std::vector<SideBySide>& list, std::size_t at_most) {
        if (list.empty()) return;
        std::size_t name = 8;  // one width for all tables
        for (const std::vector<SideBySide>* all : {&measures, &params, &effort})
            for (const SideBySide& p : *all) name = std::max(name, p.name.size());
        out += fmt::format("  {:<{}}  {:>14}  {:>14}\n", title, name, "first", "second");
        for (std::size_t i = 0; i < list.size() && i < at_most; ++i) {
            const SideBySide& p = list[i];
            auto value = [&](double v) {
                return std::isnan(v) ? std::string("-") : fmt::format("{:.6g}{}", v, p.unit.empty() || p.unit == "1" ? "" : " " + p.unit);
            };
            double size = std::max(std::abs(p.first), std::abs(p.second));
            out += fmt::format("  {:<{}}  {:>14}  {:>14}{}\n", p.name, name, value(p.first), value(p.second),
                               std::isnan(p.first) || std::isnan(p.second) || size == 0 || std::abs(p.second - p.first) <= 1e-9 * size
                                   ? ""
                                   : fmt::format("  {:+.3g} %", 100 * (p.second - p.first) / std::abs(p.first == 0 ? size : p.first)));
        }
        if (list.size() > at_most) out += fmt::format("  and {} more\n", list.size() - at_most);
    };
    pairs("measure", measures, most);
    pairs("param", params, most);
    pairs("run", effort, most);
    auto alone = [&](const std::vector<std::string>& names, const char* which) {
        if (names.empty()) return;
        out += fmt::format("  only in the {}: ", which);
        for (std::size_t i = 0; i < names.size() && i < 6; ++i) out += (i > 0 ? ", " : "") + names[i];
        out += names.size() > 6 ? fmt::format(" and {} more\n", names.size() - 6) : "\n";
    };
    alone(only_first, "first");
    alone(only_second, "second");
    return out;
}

}  // namespace netloop

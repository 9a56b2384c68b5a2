// SPDX-License-Identifier: Apache-2.0
#include "runs/advice_prices.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace netloop {
namespace {

using Price = Advice::Price;

std::string in_unit(double si, double scale, const std::string& unit)
{
    return fmt::format("{:.4g}{}", si / scale, unit.empty() || unit == "1" ? "" : " " + unit);
}

/// Where a time lies among the rows of a recording, for all of its columns.
struct Place {
    std::size_t above = 0;
    double share = 0;
    double of(const Column& c) const
    {
        return above == 0                 ? c.values.front()
               : above == c.values.size() ? c.values.back()
                                          : c.values[above - 1] + share * (c.values[above] - c.values[above - 1]);
    }
};

/// A row of the run as it is, in the other one.
struct Seen {
    bool left_out = false;  ///< of two sides of an event that behind it counts, which is what a time stands for elsewhere, too
    bool side = false;      ///< behind an event: what the other run has on either side counts
    Place at, before, behind;
};

std::vector<Seen> rows_in(const Column& as_it_is, const Column& changed)
{
    const std::vector<double>&mine = as_it_is.values, &theirs = changed.values;
    const double beside = 1e-4 * (mine.back() - mine.front());
    auto place = [&](double t) {
        auto k = static_cast<std::size_t>(std::upper_bound(theirs.begin(), theirs.end(), t) - theirs.begin());
        return Place{k, k == 0 || k == theirs.size() ? 0 : (t - theirs[k - 1]) / (theirs[k] - theirs[k - 1])};
    };
    std::vector<Seen> rows(mine.size());
    for (std::size_t i = 0; i < mine.size(); ++i) {
        Seen& r = rows[i];
        r.left_out = i + 1 < mine.size() && mine[i] == mine[i + 1];
        if (r.left_out) continue;
        r.at = place(mine[i]);
        r.side = i > 0 && mine[i] == mine[i - 1];
        if (r.side) r.before = place(mine[i] - beside), r.behind = place(mine[i] + beside);
    }
    return rows;
}

Price price_of_column(const Column& a, const Column& b, const std::vector<Seen>& rows, const Column& time)
{
    double low = HUGE_VAL, high = -HUGE_VAL, off = 0, at = 0;
    for (std::size_t i = 0; i < a.values.size(); ++i) {
        low = std::min(low, a.values[i]), high = std::max(high, a.values[i]);
        const Seen& r = rows[i];
        if (r.left_out) continue;
        double there = r.at.of(b), difference = std::abs(there - a.values[i]);
        if (r.side) {
            auto [least, most] = std::minmax({there, r.before.of(b), r.behind.of(b)});
            difference = std::max({0.0, least - a.values[i], a.values[i] - most});
        }
        if (difference > off) off = difference, at = time.values[i];
    }
    double range = high - low;
    return {a.name, a.unit, off, range > 0 ? off / range : off == 0 ? 0 : 1, at, a.scale};
}

}  // namespace

Priced price_of(const Recording& as_it_is, const Recording& changed, const std::vector<AdviceRequest::Keep>& keep)
{
    Priced priced;
    auto refuse = [&](const std::string& why) {
        if (priced.refused.empty()) priced.refused = why;
    };
    auto bound_of = [&](const std::string& name) {
        for (const AdviceRequest::Keep& k : keep)
            if (k.name == name) return k.within;
        return HUGE_VAL;
    };
    constexpr double kMeasures = 0.01;
    for (std::size_t k = 0; k < as_it_is.measures.size() && k < changed.measures.size(); ++k) {
        const MeasureResult &a = as_it_is.measures[k], &b = changed.measures[k];
        double off = std::abs(b.value - a.value);
        if (std::isnan(a.value) && std::isnan(b.value)) off = 0;
        Price p{a.name, a.unit, off, a.value != 0 ? off / std::abs(a.value) : off == 0 ? 0 : 1, std::nan(""), a.scale};
        double bound = bound_of(a.name);
        bool beyond = keep.empty() ? !(p.share <= kMeasures) : std::isfinite(bound) && !(off <= bound);
        if (beyond) refuse(fmt::format("{} beyond {}", p.text(), keep.empty() ? "one percent of it" : in_unit(bound, a.scale, a.unit)));
        priced.prices.push_back(std::move(p));
    }
    for (std::size_t k = 0; k < as_it_is.demands.size() && k < changed.demands.size(); ++k)
        if (as_it_is.demands[k].holds && !changed.demands[k].holds) refuse("a demand no longer holds: " + as_it_is.demands[k].condition);
    const Column& time = as_it_is.time();
    const std::vector<Seen> rows = rows_in(time, changed.time());
    std::vector<Price> others;
    for (const Column& a : as_it_is.columns) {
        const Column* b = a.name == "time" ? nullptr : changed.find(a.name);
        // inside another component the same name may be another thing
        if (b == nullptr || b->unit != a.unit) {
            if (std::isfinite(bound_of(a.name))) refuse(fmt::format("{} is no longer there: it cannot be kept", a.name));
            continue;
        }
        Price p = price_of_column(a, *b, rows, time);
        double bound = bound_of(a.name);
        if (!std::isfinite(bound)) {
            if (p.difference != 0) others.push_back(std::move(p));
            continue;
        }
        if (!(p.difference <= bound)) refuse(fmt::format("{} beyond {}", p.text(), in_unit(bound, a.scale, a.unit)));
        priced.prices.push_back(std::move(p));
    }
    std::stable_sort(others.begin(), others.end(), [](const Price& x, const Price& y) { return x.share > y.share; });
    // one thing under several names is told once
    others.erase(std::unique(others.begin(), others.end(), [](const Price& x, const Price& y) { return x.share == y.share && x.at == y.at; }), others.end());
    constexpr std::size_t kMostOthers = 3;
    others.resize(std::min(others.size(), kMostOthers));
    priced.prices.insert(priced.prices.end(), others.begin(), others.end());
    return priced;
}

}  // namespace netloop

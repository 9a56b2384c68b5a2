// SPDX-License-Identifier: Apache-2.0
// What the runs of a study say of the things that were varied.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <numeric>

#include "netloop/study.hpp"
#include "study/points.hpp"

namespace netloop {
namespace {

constexpr std::size_t kResamplings = 500;
constexpr double kOutside = 0.025;  // on each side of 95 %

double mean_of(const std::vector<double>& x)
{
    return x.empty() ? std::nan("") : std::accumulate(x.begin(), x.end(), 0.0) / static_cast<double>(x.size());
}

struct Limits {
    double low, high;
};

// Percentiles of an estimate over resamplings (Efron 1979) of n base points, drawn with replacement.
std::vector<Limits> limits_of(std::size_t n, std::size_t n_estimates,
                              const std::function<void(const std::vector<std::size_t>&, std::vector<double>&)>& estimate)
{
    Draws draws(1);
    std::vector<std::size_t> which(n);
    std::vector<std::vector<double>> found(n_estimates);
    std::vector<double> values(n_estimates);
    for (std::size_t r = 0; r < kResamplings; ++r) {
        for (std::size_t& w : which) w = draws.below(n);
        estimate(which, values);
        for (std::size_t e = 0; e < n_estimates; ++e) found[e].push_back(values[e]);
    }
    std::vector<Limits> limits;
    for (auto& f : found) {
        std::sort(f.begin(), f.end());
        auto at = [&](double share) { return f[static_cast<std::size_t>(share * static_cast<double>(f.size() - 1))]; };
        limits.push_back({at(kOutside), at(1 - kOutside)});
    }
    return limits;
}

std::vector<std::string> varied_names(const StudyRecord& study)
{
    std::vector<std::string> names;
    for (const StudyColumn& c : study.columns)
        if (c.kind == StudyColumn::Kind::varied || c.kind == StudyColumn::Kind::uncertain) names.push_back(c.name);
    return names;
}

// Values of a result by number of run; empty if the study is not complete.
std::vector<double> by_run(const StudyRecord& study, const std::vector<StudyRow>& rows, std::size_t result)
{
    if (static_cast<std::int64_t>(rows.size()) != study.n_runs) return {};
    std::vector<double> values(rows.size(), std::nan(""));
    for (const StudyRow& r : rows) values[static_cast<std::size_t>(r.run)] = r.values[result];
    return values;
}

}  // namespace

std::vector<VarianceIndex> variance_indices(std::span<const double> values, const std::vector<std::string>& names)
{
    std::size_t k = names.size(), row = k + 2;
    std::vector<std::size_t> whole;  // base points with all their values
    for (std::size_t i = 0; (i + 1) * row <= values.size(); ++i)
        if (std::all_of(values.begin() + static_cast<std::ptrdiff_t>(i * row), values.begin() + static_cast<std::ptrdiff_t>((i + 1) * row),
                        [](double v) { return std::isfinite(v); }))
            whole.push_back(i);
    std::size_t n = whole.size();
    if (n < 2) return {};
    // products of values that lie far from 0 lose digits: their mean goes first
    double centre = 0;
    for (std::size_t i : whole) centre += (values[i * row] + values[i * row + 1]) / (2 * static_cast<double>(n));
    auto estimate = [&](const std::vector<std::size_t>& which, std::vector<double>& out) {
        double mean = 0, square = 0;
        for (std::size_t w : which)
            for (std::size_t ab = 0; ab < 2; ++ab) {
                double v = values[whole[w] * row + ab] - centre;
                mean += v, square += v * v;
            }
        double count = 2 * static_cast<double>(n), variance = square / count - mean * mean / (count * count);
        for (std::size_t j = 0; j < k; ++j) {
            double first = 0, total = 0;
            for (std::size_t w : which) {
                const double* v = values.data() + whole[w] * row;
                first += (v[1] - centre) * (v[2 + j] - v[0]);
                total += (v[0] - v[2 + j]) * (v[0] - v[2 + j]);
            }
            out[2 * j] = variance > 0 ? first / static_cast<double>(n) / variance : 0;
            out[2 * j + 1] = variance > 0 ? total / (2 * static_cast<double>(n)) / variance : 0;
        }
    };
    std::vector<std::size_t> all(n);
    std::iota(all.begin(), all.end(), std::size_t{0});
    std::vector<double> found(2 * k);
    estimate(all, found);
    std::vector<Limits> limits = limits_of(n, 2 * k, estimate);
    std::vector<VarianceIndex> list;
    for (std::size_t j = 0; j < k; ++j)
        list.push_back({names[j], found[2 * j], limits[2 * j].low, limits[2 * j].high, found[2 * j + 1], limits[2 * j + 1].low, limits[2 * j + 1].high});
    return list;
}

std::vector<ElementaryEffect> elementary_effects(std::span<const double> values, std::span<const double> levels, const std::vector<std::string>& names)
{
    std::size_t k = names.size();
    std::vector<ElementaryEffect> list;
    for (std::size_t j = 0; j < k; ++j) {
        std::vector<double> effects;
        for (std::size_t p = 0; p + 1 < values.size(); ++p) {
            if ((p + 1) % (k + 1) == 0) continue;  // the next trajectory begins there
            double step = levels[(p + 1) * k + j] - levels[p * k + j];
            if (step == 0) continue;
            double effect = (values[p + 1] - values[p]) / step;
            if (std::isfinite(effect)) effects.push_back(effect);
        }
        ElementaryEffect e;
        e.name = names[j];
        if (!effects.empty()) {
            std::vector<double> sizes(effects.size());
            std::transform(effects.begin(), effects.end(), sizes.begin(), [](double v) { return std::abs(v); });
            e.mean = mean_of(effects);
            e.size = mean_of(sizes);
            double square = 0;
            for (double v : effects) square += (v - e.mean) * (v - e.mean);
            e.spread = effects.size() > 1 ? std::sqrt(square / static_cast<double>(effects.size() - 1)) : 0;
            Limits l = limits_of(sizes.size(), 1, [&](const std::vector<std::size_t>& which, std::vector<double>& out) {
                out[0] = 0;
                for (std::size_t w : which) out[0] += sizes[w] / static_cast<double>(which.size());
            })[0];
            e.size_low = l.low, e.size_high = l.high;
        }
        list.push_back(std::move(e));
    }
    return list;
}

std::vector<VarianceIndex> variance_indices(const StudyRecord& study, const std::vector<StudyRow>& rows, std::size_t result)
{
    if (result >= study.columns.size()) throw UsageError(fmt::format("study '{}' has no column {}", study.name, result));
    std::vector<double> values = by_run(study, rows, result);
    if (study.take != "for_sobol" || values.empty()) return {};
    return variance_indices(values, varied_names(study));
}

std::vector<ElementaryEffect> elementary_effects(const StudyRecord& study, const std::vector<StudyRow>& rows, std::size_t result)
{
    if (result >= study.columns.size()) throw UsageError(fmt::format("study '{}' has no column {}", study.name, result));
    std::vector<double> values = by_run(study, rows, result);
    if (study.take != "for_morris" || values.empty()) return {};
    std::vector<std::string> names = varied_names(study);
    std::size_t k = names.size();
    // the place of a value between the least and the most that occur: levels are four, evenly in shares
    std::vector<double> levels(values.size() * k);
    for (std::size_t j = 0; j < k; ++j) {
        std::vector<double> there;
        for (const StudyRow& r : rows) there.push_back(r.values[j]);
        std::sort(there.begin(), there.end());
        there.erase(std::unique(there.begin(), there.end()), there.end());
        for (const StudyRow& r : rows) {
            auto at = std::lower_bound(there.begin(), there.end(), r.values[j]) - there.begin();
            levels[static_cast<std::size_t>(r.run) * k + j] = there.size() < 2 ? 0 : static_cast<double>(at) / static_cast<double>(there.size() - 1);
        }
    }
    return elementary_effects(values, levels, names);
}

std::vector<MainEffect> main_effects(const StudyRecord& study, const std::vector<StudyRow>& rows, std::size_t result)
{
    constexpr std::size_t kParts = 8;
    constexpr double kNormal95 = 1.959964;
    std::vector<MainEffect> list;
    for (std::size_t c = 0; c < study.columns.size(); ++c) {
        const StudyColumn& column = study.columns[c];
        if (column.kind != StudyColumn::Kind::varied && column.kind != StudyColumn::Kind::uncertain) continue;
        std::vector<std::pair<double, double>> points;
        for (const StudyRow& r : rows)
            if (std::isfinite(r.values[c]) && std::isfinite(r.values[result])) points.emplace_back(r.values[c], r.values[result]);
        std::sort(points.begin(), points.end());
        std::size_t distinct = 0;
        for (std::size_t i = 0; i < points.size(); ++i) distinct += i == 0 || points[i].first != points[i - 1].first ? 1 : 0;
        bool in_parts = column.levels.empty() && distinct > 2 * kParts;
        MainEffect e;
        e.name = column.name;
        for (std::size_t begin = 0; begin < points.size();) {
            std::size_t end = begin;
            if (in_parts) {
                std::size_t part = e.at.size() + 1;
                end = part == kParts ? points.size() : points.size() * part / kParts;
            } else {
                while (end < points.size() && points[end].first == points[begin].first) ++end;
            }
            double n = static_cast<double>(end - begin), x = 0, mean = 0, square = 0;
            for (std::size_t i = begin; i < end; ++i) x += points[i].first / n, mean += points[i].second / n;
            for (std::size_t i = begin; i < end; ++i) square += (points[i].second - mean) * (points[i].second - mean);
            double half = n > 1 ? kNormal95 * std::sqrt(square / (n - 1) / n) : 0;
            e.at.push_back(in_parts ? x : points[begin].first);
            e.mean.push_back(mean);
            e.low.push_back(mean - half);
            e.high.push_back(mean + half);
            begin = end;
        }
        if (!e.mean.empty()) e.swing = *std::max_element(e.mean.begin(), e.mean.end()) - *std::min_element(e.mean.begin(), e.mean.end());
        list.push_back(std::move(e));
    }
    return list;
}

std::vector<std::size_t> best_front(const std::vector<StudyRow>& rows, std::size_t a, std::size_t b, bool most_a, bool most_b)
{
    auto cost = [&](std::size_t i, std::size_t c, bool most) { return most ? -rows[i].values[c] : rows[i].values[c]; };
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < rows.size(); ++i)
        if (std::isfinite(rows[i].values[a]) && std::isfinite(rows[i].values[b])) order.push_back(i);
    std::sort(order.begin(), order.end(), [&](std::size_t x, std::size_t y) {
        return std::pair(cost(x, a, most_a), cost(x, b, most_b)) < std::pair(cost(y, a, most_a), cost(y, b, most_b));
    });
    std::vector<std::size_t> front;
    double best = HUGE_VAL;
    for (std::size_t i : order)
        if (cost(i, b, most_b) < best) {
            best = cost(i, b, most_b);
            front.push_back(i);
        }
    if (most_a) std::reverse(front.begin(), front.end());
    return front;
}

}  // namespace netloop

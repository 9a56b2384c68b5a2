// SPDX-License-Identifier: Apache-2.0
#include "study/design.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <stdexcept>

namespace netloop {
namespace {
constexpr double kAsItIs = std::numeric_limits<double>::quiet_NaN();
// what an uncertain or a continuous thing is set to when it alone is looked at
constexpr double kLowShare = 0.05, kHighShare = 0.95;
constexpr double kMostNumbers = 2e8;  // they are kept
}  // namespace

Design::Design(const TakeItem& take, std::vector<FactorShape> factors, const std::vector<Correlation>& correlations, std::uint64_t seed)
    : kind_(take.kind), factors_(std::move(factors))
{
    if (factors_.empty()) throw std::invalid_argument("nothing is varied");
    switch (take.kind) {
        case TakeItem::Kind::all:
            make_grid(take, correlations, seed);
            break;
        case TakeItem::Kind::one_at_a_time:
            if (!correlations.empty()) throw std::invalid_argument("what is changed one at a time is not correlated");
            for (std::size_t f = 0; f < factors_.size(); ++f) {
                if (factors_[f].n_levels == 0) {
                    alone_.emplace_back(f, kLowShare);
                    alone_.emplace_back(f, kHighShare);
                }
                for (std::size_t l = 0; l < factors_[f].n_levels; ++l) alone_.emplace_back(f, static_cast<double>(l));
            }
            size_ = alone_.size() + 1;
            break;
        case TakeItem::Kind::rows:
            if (!correlations.empty()) throw std::invalid_argument("what is listed row by row is not correlated");
            size_ = factors_[0].n_levels;
            for (const FactorShape& f : factors_)
                if (f.n_levels == 0 || f.n_levels != size_)
                    throw std::invalid_argument(
                        "'row by row' needs lists of equal length: the first values of all are the first run, the second ones the second");
            break;
        default:
            make_points(take, correlations, seed);
    }
}

void Design::make_grid(const TakeItem& take, const std::vector<Correlation>& correlations, std::uint64_t seed)
{
    double n = 1;
    for (std::size_t f = 0; f < factors_.size(); ++f) {
        if (factors_[f].uncertain)
            uncertain_.push_back(f);
        else if (factors_[f].n_levels == 0)
            throw std::invalid_argument("'take all' needs a number of values for each range: over 1 .. 5 in 9; or take some: take 200");
        else
            n *= static_cast<double>(factors_[f].n_levels);
    }
    if (take.draws > 0 && uncertain_.empty()) throw std::invalid_argument("nothing is uncertain, so there is nothing to draw");
    draws_ = uncertain_.empty() ? 1 : take.draws > 0 ? static_cast<std::size_t>(take.draws) : kUsualDraws;
    n *= static_cast<double>(draws_);
    if (n > kMostRuns) throw std::invalid_argument(fmt::format("the full grid has {:.3g} runs; take some of it: take 2000", n));
    if (static_cast<double>(draws_ * uncertain_.size()) > kMostNumbers)
        throw std::invalid_argument(fmt::format("{} draws of {} things are more than a plan can hold", draws_, uncertain_.size()));
    size_ = static_cast<std::size_t>(n);
    points_ = sobol_points(uncertain_.empty() ? 0 : draws_, uncertain_.size(), seed);
    correlate_points(correlations, uncertain_);
}

void Design::make_points(const TakeItem& take, const std::vector<Correlation>& correlations, std::uint64_t seed)
{
    std::size_t k = factors_.size();
    bool indices = kind_ == TakeItem::Kind::for_sobol || kind_ == TakeItem::Kind::for_morris;
    if (indices && !correlations.empty())
        throw std::invalid_argument(
            "indices of Sobol and Morris are defined for what is independent: leave the correlations out, or take points without 'for'");
    double rows = take.count * (kind_ == TakeItem::Kind::for_sobol    ? static_cast<double>(k) + 2
                                : kind_ == TakeItem::Kind::for_morris ? static_cast<double>(k) + 1
                                                                      : 1);
    if (rows * static_cast<double>(k) > kMostNumbers)
        throw std::invalid_argument(fmt::format("{:.3g} runs of {} things varied are more than a plan can hold", rows, k));
    base_ = static_cast<std::size_t>(take.count);
    points_ = kind_ == TakeItem::Kind::latin        ? latin_points(base_, k, seed)
              : kind_ == TakeItem::Kind::random     ? random_points(base_, k, seed)
              : kind_ == TakeItem::Kind::for_sobol  ? variance_points(base_, k, seed)
              : kind_ == TakeItem::Kind::for_morris ? morris_points(base_, k, seed)
                                                    : sobol_points(base_, k, seed);
    for (std::size_t f = 0; f < k; ++f) uncertain_.push_back(f);
    correlate_points(correlations, uncertain_);
    size_ = points_.n;
}

void Design::correlate_points(const std::vector<Correlation>& correlations, const std::vector<std::size_t>& factor_of)
{
    if (correlations.empty()) return;
    std::size_t k = factor_of.size();
    auto place = [&](std::size_t f) { return static_cast<std::size_t>(std::find(factor_of.begin(), factor_of.end(), f) - factor_of.begin()); };
    std::vector<double> r(k * k, 0);
    for (std::size_t j = 0; j < k; ++j) r[j * k + j] = 1;
    for (const Correlation& c : correlations) {
        if (!(std::abs(c.rank) < 1)) throw std::invalid_argument(fmt::format("a rank correlation lies between -1 and 1; {:g} is given", c.rank));
        std::size_t a = place(c.a), b = place(c.b);
        r[a * k + b] = r[b * k + a] = correlation_of_scores(c.rank);
    }
    std::vector<double> triangle = triangle_of(r, k);
    if (triangle.empty()) throw std::invalid_argument("the correlations contradict each other: no quantities have all of them at once");
    correlate(points_, triangle);
}

void Design::point(std::size_t i, std::span<double> values) const
{
    if (kind_ == TakeItem::Kind::one_at_a_time) {
        std::fill(values.begin(), values.end(), kAsItIs);
        if (i > 0) values[alone_[i - 1].first] = alone_[i - 1].second;
        return;
    }
    if (kind_ == TakeItem::Kind::rows) {
        std::fill(values.begin(), values.end(), static_cast<double>(i));
        return;
    }
    auto put = [&](std::size_t row) {
        for (std::size_t j = 0; j < uncertain_.size(); ++j) {
            std::size_t f = uncertain_[j], n = factors_[f].n_levels;
            double u = points_[row][j];
            values[f] = n == 0 ? u : static_cast<double>(std::min(static_cast<std::size_t>(u * static_cast<double>(n)), n - 1));
        }
    };
    if (kind_ != TakeItem::Kind::all) {
        put(i);
        return;
    }
    if (!uncertain_.empty()) put(i % draws_);
    std::size_t rest = i / draws_;
    for (std::size_t f = factors_.size(); f-- > 0;) {  // the first one is the slowest
        if (factors_[f].uncertain) continue;
        values[f] = static_cast<double>(rest % factors_[f].n_levels);
        rest /= factors_[f].n_levels;
    }
}

std::string Design::text() const
{
    switch (kind_) {
        case TakeItem::Kind::all: {
            std::string sizes;
            for (const FactorShape& f : factors_)
                if (!f.uncertain) sizes += (sizes.empty() ? "" : " x ") + std::to_string(f.n_levels);
            std::string out = sizes.empty() ? "the machine as it is" : "full grid of " + sizes;
            if (!uncertain_.empty()) out += fmt::format(", {}{} draws of what is uncertain", sizes.empty() ? "in " : "each with ", draws_);
            return out;
        }
        case TakeItem::Kind::one_at_a_time:
            return "the machine as it is, then each thing alone";
        case TakeItem::Kind::rows:
            return fmt::format("{} variants, row by row", size_);
        case TakeItem::Kind::latin:
            return fmt::format("{} points, Latin hypercube", base_);
        case TakeItem::Kind::random:
            return fmt::format("{} random points", base_);
        case TakeItem::Kind::for_sobol:
            return fmt::format("{} points for Sobol indices, {} runs each", base_, factors_.size() + 2);
        case TakeItem::Kind::for_morris:
            return fmt::format("{} trajectories of Morris, {} runs each", base_, factors_.size() + 1);
        default:
            return fmt::format("{} points, Sobol sequence", base_);
    }
}

}  // namespace netloop

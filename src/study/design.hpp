// SPDX-License-Identifier: Apache-2.0
// Which runs a study has: the points of its plan, by number.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "language/syntax.hpp"
#include "study/points.hpp"

namespace netloop {

/// How many values a thing that is varied has (0: any between two ends, or a distribution), and whether it is uncertain rather than chosen.
struct FactorShape {
    std::size_t n_levels = 0;
    bool uncertain = false;
};

class Design {
public:
    /// The rank correlation of two factors, by number.
    struct Correlation {
        std::size_t a, b;
        double rank;
    };
    /// `correlations`: of uncertain factors. Throws std::invalid_argument with what is wrong, in words.
    Design(const TakeItem& take, std::vector<FactorShape> factors, const std::vector<Correlation>& correlations, std::uint64_t seed);

    std::size_t size() const { return size_; }
    /// What factor f is at point i: the number of its level, or where it has none a share u in (0, 1). Not a number: as it is without the study. Any thread.
    void point(std::size_t i, std::span<double> values) const;
    /// Draws for each variant of a grid; 1: nothing is uncertain.
    std::size_t draws() const { return draws_; }
    /// "full grid of 3 x 7 x 3, each with 16 draws of what is uncertain".
    std::string text() const;

private:
    void make_grid(const TakeItem& take, const std::vector<Correlation>& correlations, std::uint64_t seed);
    void make_points(const TakeItem& take, const std::vector<Correlation>& correlations, std::uint64_t seed);
    void correlate_points(const std::vector<Correlation>& correlations, const std::vector<std::size_t>& factor_of);

    TakeItem::Kind kind_;
    std::vector<FactorShape> factors_;
    std::size_t size_ = 0, draws_ = 1, base_ = 0;
    Points points_;                                      ///< of all factors, or of the uncertain ones of a grid
    std::vector<std::size_t> uncertain_;                 ///< factors whose shares are in points_
    std::vector<std::pair<std::size_t, double>> alone_;  ///< one at a time: factor and value
};

/// Draws of what is uncertain for each variant of a grid where the study says no number.
inline constexpr std::size_t kUsualDraws = 16;
/// More runs than anybody means.
inline constexpr double kMostRuns = 1e9;

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// What an uncertain param may be: a distribution, perhaps cut off at limits, or the values of a file.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace netloop {

struct Distribution {
    enum class Kind { normal, uniform, triangular, lognormal, drawn } kind = Kind::uniform;
    /// normal: mean, standard deviation. uniform: least, most. triangular: least, likeliest, most. lognormal: median, standard deviation of the logarithm.
    double a = 0, b = 0, c = 0;
    std::optional<double> least{}, most{};           ///< what lies outside never comes; the rest keeps its shape
    std::vector<std::pair<double, double>> drawn{};  ///< values, ascending, and the share of each, summed up: the last one is 1

    /// What is wrong with the numbers, in words; empty: nothing.
    std::string trouble() const;
    /// The value below which a share u (0 < u < 1) of all lies, within the limits. By Boost.Math; exact to some units of the last place. Any thread.
    double quantile(double u) const;
    /// The values of a file, each with its weight (> 0), put in order.
    static Distribution of_values(std::vector<std::pair<double, double>> values_and_weights);

private:
    double share_below(double x) const;
    double plain_quantile(double u) const;
};

/// Of the standard normal distribution.
double normal_quantile(double u);
double normal_share_below(double x);

}  // namespace netloop

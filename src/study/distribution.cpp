// SPDX-License-Identifier: Apache-2.0
#include "study/distribution.hpp"

#include <algorithm>
#include <boost/math/distributions/lognormal.hpp>
#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/triangular.hpp>
#include <cmath>

namespace netloop {
namespace {
// what lies outside a distribution's own ends is no error here
using Quiet = boost::math::policies::policy<boost::math::policies::domain_error<boost::math::policies::ignore_error>,
                                            boost::math::policies::overflow_error<boost::math::policies::ignore_error>>;
using Normal = boost::math::normal_distribution<double, Quiet>;
using LogNormal = boost::math::lognormal_distribution<double, Quiet>;
using Triangular = boost::math::triangular_distribution<double, Quiet>;
}  // namespace

double normal_quantile(double u)
{
    return boost::math::quantile(Normal(), u);
}

double normal_share_below(double x)
{
    return boost::math::cdf(Normal(), x);
}

std::string Distribution::trouble() const
{
    if (!std::isfinite(a) || !std::isfinite(b) || !std::isfinite(c)) return "its numbers are not finite";
    if (kind == Kind::normal && !(b > 0)) return "its standard deviation is not positive";
    if (kind == Kind::uniform && !(a < b)) return "its least value is not below the most";
    if (kind == Kind::triangular && !(a <= b && b <= c && a < c)) return "its values are not in order: least, likeliest, most";
    if (kind == Kind::lognormal && !(a > 0 && b > 0)) return "its median and its spread must be positive";
    if (kind == Kind::drawn && drawn.empty()) return "there are no values to draw from";
    if (least && most && !(*least < *most)) return "the first limit is not below the second";
    if ((least || most) && kind == Kind::drawn) return "values drawn from a file are not limited: leave them out of the file";
    if (least && most && !(share_below(*most) - share_below(*least) > 1e-9)) return "hardly anything of it lies between the limits";
    return {};
}

double Distribution::share_below(double x) const
{
    switch (kind) {
        case Kind::normal:
            return boost::math::cdf(Normal(a, b), x);
        case Kind::lognormal:
            return x <= 0 ? 0 : boost::math::cdf(LogNormal(std::log(a), b), x);
        case Kind::triangular:
            return x <= a ? 0 : x >= c ? 1 : boost::math::cdf(Triangular(a, b, c), x);
        default:
            return std::clamp((x - a) / (b - a), 0.0, 1.0);
    }
}

double Distribution::plain_quantile(double u) const
{
    switch (kind) {
        case Kind::normal:
            return boost::math::quantile(Normal(a, b), u);
        case Kind::lognormal:
            return boost::math::quantile(LogNormal(std::log(a), b), u);
        case Kind::triangular:
            return boost::math::quantile(Triangular(a, b, c), u);
        default:
            return a + u * (b - a);
    }
}

double Distribution::quantile(double u) const
{
    if (kind == Kind::drawn) {
        auto it = std::upper_bound(drawn.begin(), drawn.end(), u, [](double share, const auto& value) { return share < value.second; });
        return it == drawn.end() ? drawn.back().first : it->first;
    }
    if (!least && !most) return plain_quantile(u);
    double low = least ? share_below(*least) : 0, high = most ? share_below(*most) : 1;
    double x = plain_quantile(low + u * (high - low));
    // rounding must not lead out
    if (least) x = std::max(x, *least);
    if (most) x = std::min(x, *most);
    return x;
}

Distribution Distribution::of_values(std::vector<std::pair<double, double>> values_and_weights)
{
    Distribution d;
    d.kind = Kind::drawn;
    d.drawn = std::move(values_and_weights);
    std::stable_sort(d.drawn.begin(), d.drawn.end(), [](const auto& x, const auto& y) { return x.first < y.first; });
    double sum = 0, all = 0;
    for (const auto& [value, weight] : d.drawn) all += weight;
    for (auto& [value, weight] : d.drawn) weight = sum += weight / all;
    return d;
}

}  // namespace netloop

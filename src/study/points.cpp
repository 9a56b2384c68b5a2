// SPDX-License-Identifier: Apache-2.0
#include "study/points.hpp"

#include <algorithm>
#include <boost/random/sobol.hpp>
#include <cmath>
#include <numbers>
#include <numeric>

#include "study/distribution.hpp"

namespace netloop {
namespace {

constexpr double kTwoTo53 = 9007199254740992.0;

// (0, 1): the middles of 2^53 parts, but for what rounding makes 1
double between(std::uint64_t bits)
{
    return std::min((static_cast<double>(bits >> 11u) + 0.5) / kTwoTo53, 1.0 - 1.0 / kTwoTo53);
}

}  // namespace

double Draws::next()
{
    return between(engine_());
}

std::size_t Draws::below(std::size_t n)
{
    return std::min(static_cast<std::size_t>(next() * static_cast<double>(n)), n - 1);
}

Points sobol_points(std::size_t n, std::size_t k, std::uint64_t seed)
{
    Points p{n, k, std::vector<double>(n * k)};
    if (n * k == 0) return p;
    boost::random::sobol engine(k);
    std::vector<std::uint64_t> shift(k, 0);
    if (seed != 0) {
        std::mt19937_64 random(seed);
        for (std::uint64_t& s : shift) s = random();
    }
    for (std::size_t i = 0; i < n; ++i)
        for (std::size_t j = 0; j < k; ++j) {
            std::uint64_t bits = engine() ^ shift[j];
            p[i][j] = seed == 0 ? static_cast<double>(bits >> 11u) / kTwoTo53 : between(bits);
        }
    return p;
}

Points random_points(std::size_t n, std::size_t k, std::uint64_t seed)
{
    Points p{n, k, std::vector<double>(n * k)};
    Draws draws(seed);
    for (double& u : p.u) u = draws.next();
    return p;
}

Points latin_points(std::size_t n, std::size_t k, std::uint64_t seed)
{
    Points p{n, k, std::vector<double>(n * k)};
    Draws draws(seed);
    std::vector<std::size_t> order(n);
    for (std::size_t j = 0; j < k; ++j) {
        std::iota(order.begin(), order.end(), std::size_t{0});
        for (std::size_t i = n; i > 1; --i) std::swap(order[i - 1], order[draws.below(i)]);  // Fisher and Yates
        for (std::size_t i = 0; i < n; ++i) p[i][j] = (static_cast<double>(order[i]) + draws.next()) / static_cast<double>(n);
    }
    return p;
}

Points variance_points(std::size_t n, std::size_t k, std::uint64_t seed)
{
    Points base = sobol_points(n, 2 * k, seed), p{n * (k + 2), k, std::vector<double>(n * (k + 2) * k)};
    for (std::size_t i = 0; i < n; ++i) {
        const double *a = base[i], *b = base[i] + k;
        double* to = p[i * (k + 2)];
        std::copy(a, a + k, to);
        std::copy(b, b + k, to + k);
        for (std::size_t j = 0; j < k; ++j) {
            double* mixed = to + (2 + j) * k;
            std::copy(a, a + k, mixed);
            mixed[j] = b[j];
        }
    }
    return p;
}

Points morris_points(std::size_t n, std::size_t k, std::uint64_t seed)
{
    Points p{n * (k + 1), k, std::vector<double>(n * (k + 1) * k)};
    Draws draws(seed);
    std::vector<std::size_t> order(k), level(k);
    auto put = [&](std::size_t point) {
        for (std::size_t j = 0; j < k; ++j) p[point][j] = (2 * static_cast<double>(level[j]) + 1) / 8;
    };
    for (std::size_t t = 0; t < n; ++t) {
        std::iota(order.begin(), order.end(), std::size_t{0});
        for (std::size_t i = k; i > 1; --i) std::swap(order[i - 1], order[draws.below(i)]);
        for (std::size_t& l : level) l = draws.below(4);
        put(t * (k + 1));
        for (std::size_t s = 0; s < k; ++s) {
            std::size_t& l = level[order[s]];
            l = l < 2 ? l + 2 : l - 2;  // by 2/3 of the way from end to end
            put(t * (k + 1) + s + 1);
        }
    }
    return p;
}

std::vector<double> triangle_of(const std::vector<double>& r, std::size_t k)
{
    std::vector<double> l(k * k, 0);
    for (std::size_t i = 0; i < k; ++i)
        for (std::size_t j = 0; j <= i; ++j) {
            double sum = r[i * k + j];
            for (std::size_t m = 0; m < j; ++m) sum -= l[i * k + m] * l[j * k + m];
            if (i != j) {
                l[i * k + j] = sum / l[j * k + j];
            } else {
                if (!(sum > 1e-12)) return {};
                l[i * k + i] = std::sqrt(sum);
            }
        }
    return l;
}

void correlate(Points& points, const std::vector<double>& triangle)
{
    std::size_t k = points.k;
    std::vector<double> z(k);
    for (std::size_t i = 0; i < points.n; ++i) {
        for (std::size_t j = 0; j < k; ++j) z[j] = normal_quantile(points[i][j]);
        for (std::size_t j = 0; j < k; ++j) {
            double sum = 0;
            bool alone = true;
            for (std::size_t m = 0; m <= j; ++m) sum += triangle[j * k + m] * z[m], alone &= m == j || triangle[j * k + m] == 0;
            if (!alone) points[i][j] = std::clamp(normal_share_below(sum), 1 / kTwoTo53, 1 - 1 / kTwoTo53);
        }
    }
}

double correlation_of_scores(double rank)
{
    return 2 * std::sin(std::numbers::pi * rank / 6);
}

}  // namespace netloop

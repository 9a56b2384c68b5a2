// SPDX-License-Identifier: Apache-2.0
// Points, distributions and plans against published numbers, counts, moments and quantiles.
#include <doctest/doctest.h>

#include <set>

#include "study/design.hpp"
#include "study/distribution.hpp"
#include "study/points.hpp"
#include "support/support.hpp"

namespace nl = netloop;
using nl::TakeItem;

TEST_SUITE_BEGIN("study");

namespace {

double mean(const std::vector<double>& x)
{
    double sum = 0;
    for (double v : x) sum += v;
    return sum / static_cast<double>(x.size());
}

double deviation(const std::vector<double>& x)
{
    double m = mean(x), sum = 0;
    for (double v : x) sum += (v - m) * (v - m);
    return std::sqrt(sum / static_cast<double>(x.size()));
}

std::vector<double> column(const nl::Points& p, std::size_t j)
{
    std::vector<double> x;
    for (std::size_t i = 0; i < p.n; ++i) x.push_back(p[i][j]);
    return x;
}

// Spearman's rank correlation, by the ranks themselves.
double rank_correlation(const std::vector<double>& a, const std::vector<double>& b)
{
    auto ranks = [](const std::vector<double>& x) {
        std::vector<std::size_t> order(x.size());
        for (std::size_t i = 0; i < x.size(); ++i) order[i] = i;
        std::sort(order.begin(), order.end(), [&](std::size_t i, std::size_t j) { return x[i] < x[j]; });
        std::vector<double> rank(x.size());
        for (std::size_t i = 0; i < x.size(); ++i) rank[order[i]] = static_cast<double>(i);
        return rank;
    };
    std::vector<double> ra = ranks(a), rb = ranks(b);
    double ma = mean(ra), mb = mean(rb), ab = 0;
    for (std::size_t i = 0; i < ra.size(); ++i) ab += (ra[i] - ma) * (rb[i] - mb);
    return ab / static_cast<double>(ra.size()) / deviation(ra) / deviation(rb);
}

std::vector<double> drawn(const nl::Distribution& d, std::size_t n)
{
    std::vector<double> x;
    nl::Points p = nl::sobol_points(n, 1, 7);
    for (std::size_t i = 0; i < n; ++i) x.push_back(d.quantile(p[i][0]));
    return x;
}

TakeItem taken(TakeItem::Kind kind, double count = 0, double draws = 0)
{
    TakeItem t;
    t.kind = kind, t.count = count, t.draws = draws;
    return t;
}

}  // namespace

TEST_CASE("the first points of the Sobol sequence are those that Joe and Kuo publish")
{
    // S. Joe, F. Y. Kuo (2008), direction numbers new-joe-kuo-6: points 1 to 9 in three dimensions
    const double kPublished[][3] = {{0.5, 0.5, 0.5},       {0.75, 0.25, 0.25},    {0.25, 0.75, 0.75},       {0.375, 0.375, 0.625},   {0.875, 0.875, 0.125},
                                    {0.625, 0.125, 0.875}, {0.125, 0.625, 0.375}, {0.1875, 0.3125, 0.9375}, {0.6875, 0.8125, 0.4375}};
    nl::Points p = nl::sobol_points(9, 3, 0);
    for (std::size_t i = 0; i < 9; ++i)
        for (std::size_t j = 0; j < 3; ++j) CHECK(p[i][j] == kPublished[i][j]);
}

TEST_CASE("shifted points lie as evenly, never at the ends, and follow from the seed alone")
{
    nl::Points a = nl::sobol_points(1024, 5, 3), b = nl::sobol_points(1024, 5, 3), c = nl::sobol_points(1024, 5, 4);
    CHECK(a.u == b.u);
    CHECK(a.u != c.u);
    for (std::size_t j = 0; j < 5; ++j) {
        // the point 0 is left out, so one of 64 parts has 15 of 16
        std::vector<int> count(64, 0);
        for (std::size_t i = 0; i < a.n; ++i) ++count[static_cast<std::size_t>(a[i][j] * 64)];
        for (int n : count) CHECK(std::abs(n - 16) <= 1);
    }
    for (double u : a.u) CHECK((u > 0 && u < 1));
}

TEST_CASE("a Latin hypercube has one point in each part of each coordinate")
{
    nl::Points p = nl::latin_points(100, 4, 11);
    for (std::size_t j = 0; j < 4; ++j) {
        std::set<int> parts;
        for (std::size_t i = 0; i < 100; ++i) parts.insert(static_cast<int>(p[i][j] * 100));
        CHECK(parts.size() == 100);
    }
    CHECK(std::abs(rank_correlation(column(p, 0), column(p, 1))) < 0.3);
    CHECK(nl::latin_points(100, 4, 12).u != p.u);
}

TEST_CASE("points for indices: A, B, and A with one coordinate of B")
{
    nl::Points p = nl::variance_points(8, 3, 1), base = nl::sobol_points(8, 6, 1);
    REQUIRE(p.n == 8 * 5);
    for (std::size_t i = 0; i < 8; ++i)
        for (std::size_t j = 0; j < 3; ++j) {
            CHECK(p[i * 5][j] == base[i][j]);
            CHECK(p[i * 5 + 1][j] == base[i][3 + j]);
            for (std::size_t k = 0; k < 3; ++k) CHECK(p[i * 5 + 2 + k][j] == (j == k ? base[i][3 + j] : base[i][j]));
        }
}

TEST_CASE("a trajectory changes each coordinate once, by two thirds of the way")
{
    nl::Points p = nl::morris_points(20, 4, 5);
    REQUIRE(p.n == 100);
    std::set<double> first;
    for (std::size_t t = 0; t < 20; ++t) {
        std::vector<int> changed(4, 0);
        for (std::size_t s = 0; s < 4; ++s)
            for (std::size_t j = 0; j < 4; ++j) {
                double step = p[t * 5 + s + 1][j] - p[t * 5 + s][j];
                if (step == 0) continue;
                CHECK(std::abs(step) == doctest::Approx(0.5));  // between shares of 1/8 .. 7/8, two levels of three
                ++changed[j];
            }
        for (int n : changed) CHECK(n == 1);
        first.insert(p[t * 5][0]);
    }
    CHECK(first.size() == 4);
}

TEST_CASE("distributions have the moments and quantiles of their formulas")
{
    using Kind = nl::Distribution::Kind;
    std::vector<double> x = drawn({.kind = Kind::normal, .a = 15, .b = 8}, 8192);
    CHECK(mean(x) == doctest::Approx(15).epsilon(1e-3));
    CHECK(deviation(x) == doctest::Approx(8).epsilon(2e-3));
    // Abramowitz, Stegun (1964), table 26.5
    CHECK(nl::Distribution{.kind = Kind::normal, .a = 0, .b = 1}.quantile(0.975) == doctest::Approx(1.95996398).epsilon(1e-8));
    x = drawn({.kind = Kind::uniform, .a = 2, .b = 5}, 4096);
    CHECK(mean(x) == doctest::Approx(3.5).epsilon(1e-3));
    CHECK(deviation(x) == doctest::Approx(3 / std::sqrt(12)).epsilon(1e-3));
    // (a + b + c) / 3 and sqrt((a^2 + b^2 + c^2 - ab - ac - bc) / 18)
    x = drawn({.kind = Kind::triangular, .a = 0.03, .b = 0.04, .c = 0.08}, 8192);
    CHECK(mean(x) == doctest::Approx(0.05).epsilon(1e-3));
    CHECK(deviation(x) == doctest::Approx(std::sqrt((9e-4 + 16e-4 + 64e-4 - 12e-4 - 24e-4 - 32e-4) / 18)).epsilon(2e-3));
    nl::Distribution lognormal{.kind = Kind::lognormal, .a = 3, .b = 0.5};
    CHECK(lognormal.quantile(0.5) == doctest::Approx(3));
    CHECK(mean(drawn(lognormal, 16384)) == doctest::Approx(3 * std::exp(0.125)).epsilon(3e-3));
}

TEST_CASE("limits cut off, and the rest keeps its shape")
{
    nl::Distribution d{.kind = nl::Distribution::Kind::normal, .a = 0, .b = 1, .least = 0.0, .most = 1.0};
    std::vector<double> x = drawn(d, 8192);
    for (double v : x) CHECK((v >= 0 && v <= 1));
    // of the half above 0: mean = (phi(0) - phi(1)) / (Phi(1) - Phi(0))
    double phi0 = 0.3989422804, phi1 = 0.2419707245, share = 0.3413447461;
    CHECK(mean(x) == doctest::Approx((phi0 - phi1) / share).epsilon(1e-3));
    CHECK(d.quantile(0.5) == doctest::Approx(nl::normal_quantile(0.5 + share / 2)));
    d.least = 40, d.most = 41;
    CHECK(d.trouble().find("hardly anything") != std::string::npos);
    CHECK(nl::Distribution{.kind = nl::Distribution::Kind::normal, .a = 1, .b = -1}.trouble() == "its standard deviation is not positive");
}

TEST_CASE("values of a file come as often as they weigh")
{
    nl::Distribution d = nl::Distribution::of_values({{18, 1}, {0, 2}, {10, 1}});
    CHECK(d.quantile(0.01) == 0);
    CHECK(d.quantile(0.49) == 0);
    CHECK(d.quantile(0.51) == 10);
    CHECK(d.quantile(0.76) == 18);
    CHECK(d.quantile(0.9999) == 18);
}

TEST_CASE("a rank correlation is what is asked for, and leaves each distribution as it is")
{
    nl::Points p = nl::sobol_points(4096, 3, 1), before = p;
    std::vector<double> r{1, nl::correlation_of_scores(0.7),  0, nl::correlation_of_scores(0.7), 1, nl::correlation_of_scores(-0.4),
                          0, nl::correlation_of_scores(-0.4), 1};
    std::vector<double> triangle = nl::triangle_of(r, 3);
    REQUIRE(!triangle.empty());
    nl::correlate(p, triangle);
    CHECK(rank_correlation(column(p, 0), column(p, 1)) == doctest::Approx(0.7).epsilon(0.02));
    CHECK(rank_correlation(column(p, 1), column(p, 2)) == doctest::Approx(-0.4).epsilon(0.03));
    CHECK(std::abs(rank_correlation(column(p, 0), column(p, 2))) < 0.02);
    CHECK(column(p, 0) == column(before, 0));
    for (std::size_t j = 0; j < 3; ++j) CHECK(mean(column(p, j)) == doctest::Approx(0.5).epsilon(0.01));
    CHECK(nl::triangle_of({1, 0.9, 0.9, 0.9, 1, -0.9, 0.9, -0.9, 1}, 3).empty());
}

TEST_CASE("a full grid counts its levels, the first the slowest, and draws the same for each variant")
{
    nl::Design d(taken(TakeItem::Kind::all, 0, 4), {{3, false}, {2, false}, {0, true}}, {}, 1);
    REQUIRE(d.size() == 24);
    std::set<std::pair<double, double>> seen;
    std::vector<double> a(3), b(3);
    for (std::size_t i = 0; i < 24; ++i) {
        d.point(i, a);
        d.point(i % 4, b);
        seen.insert({a[0], a[1]});
        CHECK(a[2] == b[2]);
    }
    CHECK(seen.size() == 6);
    d.point(7, a);
    CHECK(a[0] == 0);
    CHECK(a[1] == 1);
    CHECK(d.text() == "full grid of 3 x 2, each with 4 draws of what is uncertain");
    CHECK_THROWS_WITH_AS(nl::Design(taken(TakeItem::Kind::all), {{0, false}}, {}, 1), doctest::Contains("needs a number of values"), std::invalid_argument);
}

TEST_CASE("one at a time: as it is, then each value alone")
{
    nl::Design d(taken(TakeItem::Kind::one_at_a_time), {{3, false}, {0, false}}, {}, 1);
    REQUIRE(d.size() == 1 + 3 + 2);
    std::vector<double> v(2);
    d.point(0, v);
    CHECK((std::isnan(v[0]) && std::isnan(v[1])));
    d.point(2, v);
    CHECK((v[0] == 1 && std::isnan(v[1])));
    d.point(5, v);
    CHECK((std::isnan(v[0]) && v[1] == 0.95));
}

TEST_CASE("row by row: the first values of all, then the second ones")
{
    nl::Design d(taken(TakeItem::Kind::rows), {{3, false}, {3, false}}, {}, 1);
    REQUIRE(d.size() == 3);
    std::vector<double> v(2);
    for (std::size_t i = 0; i < 3; ++i) {
        d.point(i, v);
        CHECK((v[0] == static_cast<double>(i) && v[1] == static_cast<double>(i)));
    }
    CHECK(d.text() == "3 variants, row by row");
    CHECK_THROWS_AS(nl::Design(taken(TakeItem::Kind::rows), {{3, false}, {2, false}}, {}, 1), std::invalid_argument);
    CHECK_THROWS_AS(nl::Design(taken(TakeItem::Kind::rows), {{0, true}}, {}, 1), std::invalid_argument);
}

TEST_CASE("points choose levels evenly")
{
    nl::Design d(taken(TakeItem::Kind::sobol, 400), {{4, false}, {0, false}}, {}, 1);
    std::vector<int> count(4, 0);
    std::vector<double> v(2);
    for (std::size_t i = 0; i < d.size(); ++i) {
        d.point(i, v);
        ++count[static_cast<std::size_t>(v[0])];
    }
    for (int n : count) CHECK(std::abs(n - 100) < 4);
}

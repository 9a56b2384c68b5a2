// SPDX-License-Identifier: Apache-2.0
// Indices and effects against functions whose answers are published or follow by hand.
#include <doctest/doctest.h>

#include <numbers>

#include "study/points.hpp"
#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("study");

TEST_CASE("Sobol indices of the Ishigami function")
{
    // T. Ishigami, T. Homma (1990): sin x1 + 7 sin^2 x2 + 0.1 x3^4 sin x1 on (-pi, pi); shares by integration: Saltelli et al. (2000)
    const double a = 7, b = 0.1, pi = std::numbers::pi;
    double v1 = 0.5 * std::pow(1 + b * std::pow(pi, 4) / 5, 2), v2 = a * a / 8, v13 = b * b * std::pow(pi, 8) * (1.0 / 18 - 1.0 / 50), v = v1 + v2 + v13;
    CHECK(v1 / v == doctest::Approx(0.3139).epsilon(1e-3));  // as printed
    nl::Points p = nl::variance_points(8192, 3, 1);
    std::vector<double> values;
    for (std::size_t i = 0; i < p.n; ++i) {
        double x1 = pi * (2 * p[i][0] - 1), x2 = pi * (2 * p[i][1] - 1), x3 = pi * (2 * p[i][2] - 1);
        values.push_back(std::sin(x1) + a * std::pow(std::sin(x2), 2) + b * std::pow(x3, 4) * std::sin(x1));
    }
    auto found = nl::variance_indices(values, {"x1", "x2", "x3"});
    REQUIRE(found.size() == 3);
    const double first[] = {v1 / v, v2 / v, 0}, total[] = {(v1 + v13) / v, v2 / v, v13 / v};
    for (std::size_t j = 0; j < 3; ++j) {
        CHECK(found[j].first == doctest::Approx(first[j]).epsilon(0.01).scale(1));
        CHECK(found[j].total == doctest::Approx(total[j]).epsilon(0.01).scale(1));
        CHECK(found[j].first_low <= first[j]);
        CHECK(found[j].first_high >= first[j]);
        CHECK(found[j].total_low <= total[j]);
        CHECK(found[j].total_high >= total[j]);
        CHECK(found[j].total_high - found[j].total_low < 0.08);
    }
}

TEST_CASE("a run without a value takes its base point out, not the others")
{
    nl::Points p = nl::variance_points(512, 2, 1);
    std::vector<double> values;
    for (std::size_t i = 0; i < p.n; ++i) values.push_back(1e6 + 3 * p[i][0] + 4 * p[i][1]);  // far from 0: digits are not lost
    values[9] = std::nan("");
    auto found = nl::variance_indices(values, {"a", "b"});
    REQUIRE(found.size() == 2);
    CHECK(found[0].first == doctest::Approx(9.0 / 25).epsilon(0.03));
    CHECK(found[1].total == doctest::Approx(16.0 / 25).epsilon(0.03));
}

TEST_CASE("elementary effects of Morris' own function")
{
    // M. D. Morris (1991), section 4: twenty inputs, of which 1 to 7 act together, 8 to 10 in a line, 11 to 20 hardly. w = 2 (x - 0.5), but for inputs 3, 5, 7:
    // w = 2 (1.1 x / (x + 0.1) - 0.5). Coefficients: 20 for 1 .. 10, -15 for pairs of 1 .. 6, -10 for triples of 1 .. 5, 5 for fours of 1 .. 4; the rest, which
    // he drew at random from N(0, 1), is left out here: then 11 to 20 have no effect, and 8, 9, 10 exactly 40.
    constexpr std::size_t k = 20;
    auto y = [](const std::vector<double>& x) {
        std::array<double, k> w{};
        for (std::size_t i = 0; i < k; ++i) w[i] = i == 2 || i == 4 || i == 6 ? 2 * (1.1 * x[i] / (x[i] + 0.1) - 0.5) : 2 * (x[i] - 0.5);
        double sum = 0;
        for (std::size_t i = 0; i < 10; ++i) sum += 20 * w[i];
        for (std::size_t i = 0; i < 6; ++i)
            for (std::size_t j = i + 1; j < 6; ++j) sum -= 15 * w[i] * w[j];
        for (std::size_t i = 0; i < 5; ++i)
            for (std::size_t j = i + 1; j < 5; ++j)
                for (std::size_t l = j + 1; l < 5; ++l) sum -= 10 * w[i] * w[j] * w[l];
        return sum + 5 * w[0] * w[1] * w[2] * w[3];
    };
    nl::Points p = nl::morris_points(40, k, 3);
    std::vector<double> values, levels;
    std::vector<std::string> names;
    for (std::size_t j = 0; j < k; ++j) names.push_back(std::to_string(j + 1));
    for (std::size_t i = 0; i < p.n; ++i) {
        std::vector<double> x(k);
        for (std::size_t j = 0; j < k; ++j) x[j] = (8 * p[i][j] - 1) / 6;  // 0, 1/3, 2/3, 1
        levels.insert(levels.end(), x.begin(), x.end());
        values.push_back(y(x));
    }
    auto e = nl::elementary_effects(values, levels, names);
    REQUIRE(e.size() == k);
    for (std::size_t j : {7u, 8u, 9u}) {
        CHECK(e[j].mean == doctest::Approx(40));
        CHECK(e[j].spread < 1e-9);
    }
    for (std::size_t j = 10; j < k; ++j) CHECK(e[j].size < 1e-9);
    for (std::size_t j = 0; j < 6; ++j) CHECK(e[j].spread > 10);  // they act together
    for (std::size_t j = 0; j < 7; ++j) CHECK(e[j].size > 20);
    CHECK(e[0].size_low < e[0].size);
    CHECK(e[0].size_high > e[0].size);
}

TEST_CASE("main effects and the best front, counted by hand")
{
    nl::StudyRecord study;
    study.columns = {{.name = "kind", .levels = {"a", "b"}},
                     {.name = "x"},
                     {.kind = nl::StudyColumn::Kind::measure, .name = "cost"},
                     {.kind = nl::StudyColumn::Kind::measure, .name = "time"}};
    std::vector<nl::StudyRow> rows;
    const double values[][4] = {{0, 1, 10, 5}, {0, 2, 14, 3}, {1, 1, 20, 4}, {1, 2, 24, 2}, {1, 3, NAN, 1}};
    for (const auto& v : values) {
        nl::StudyRow r;
        r.run = static_cast<std::int64_t>(rows.size());
        r.values.assign(v, v + 4);
        rows.push_back(r);
    }
    auto effects = nl::main_effects(study, rows, 2);
    REQUIRE(effects.size() == 2);
    CHECK(effects[0].mean == std::vector<double>{12, 22});
    CHECK(effects[0].swing == 10);
    // two values 4 apart: their deviation is 2.83, of the mean 2, times 1.96
    CHECK(effects[0].high[0] == doctest::Approx(12 + 1.959964 * 2));
    CHECK(effects[1].mean == std::vector<double>{15, 19});
    CHECK(nl::best_front(rows, 2, 3) == std::vector<std::size_t>{0, 1, 3});
    CHECK(nl::best_front(rows, 2, 3, true) == std::vector<std::size_t>{3});
    CHECK(nl::best_front(rows, 2, 3, true, true) == std::vector<std::size_t>{0, 2, 3});
}

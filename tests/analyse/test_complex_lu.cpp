// SPDX-License-Identifier: Apache-2.0
#include "analyse/complex_lu.hpp"

#include <doctest/doctest.h>

#include <cmath>

namespace nl = netloop;

TEST_SUITE_BEGIN("analyse");

TEST_CASE("complex equations: forward and transposed, rows of very unlike size, numbers in one place added, singular told")
{
    using Complex = nl::ComplexLU::Complex;
    using Entry = Eigen::Triplet<Complex>;
    // rows in Pa and in m: 1e9 apart
    std::vector<Entry> entries{{0, 0, {2e9, 1e9}}, {0, 2, {-1e9, 0}}, {1, 1, {0, 3}}, {1, 0, {1, 0}}, {2, 2, {4e-9, 0}}, {2, 1, {1e-9, -1e-9}}, {1, 1, {1, 0}}};
    Eigen::MatrixXcd full = Eigen::MatrixXcd::Zero(3, 3);
    for (const Entry& e : entries) full(e.row(), e.col()) += e.value();
    nl::ComplexLU lu;
    REQUIRE(lu.factor(3, entries));
    Eigen::VectorXcd x(3);
    x << Complex(1, 2), Complex(-3, 0.5), Complex(0, -1);
    CHECK((lu.solve(full * x) - x).norm() < 1e-12);
    // the other way its unknowns are as unlike as the rows are
    Eigen::VectorXcd y(3);
    y << Complex(1e-9, 2e-9), Complex(-3, 0.5), Complex(0, -1e9);
    Eigen::VectorXcd found = lu.solve_transposed(full.transpose() * y);
    for (Eigen::Index i = 0; i < 3; ++i) CHECK(std::abs(found(i) - y(i)) < 1e-12 * std::abs(y(i)));
    // the second row twice the first
    std::vector<Entry> flat{{0, 0, {1, 0}}, {0, 1, {2, 0}}, {1, 0, {2, 0}}, {1, 1, {4, 0}}};
    CHECK_FALSE(lu.factor(2, flat));
    CHECK(lu.factor(0, {}));
    CHECK(lu.solve(Eigen::VectorXcd()).size() == 0);
}

TEST_SUITE_END();

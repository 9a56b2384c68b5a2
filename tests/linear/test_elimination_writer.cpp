// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <cmath>
#include <random>

#include "linear/elimination_writer.hpp"

using namespace netloop;

TEST_SUITE_BEGIN("linear");

TEST_CASE("what is written out solves random sparse systems in any order of pivots, and counts its work")
{
    std::mt19937 random(7);
    std::uniform_real_distribution<double> number(-1, 1);
    for (int round = 0; round < 40; ++round) {
        auto n = static_cast<std::uint32_t>(1 + round % 9);
        SparsePattern p;
        p.n_columns = n;
        std::vector<double> memory{1};  // place 0 holds 1
        std::vector<std::uint32_t> entries;
        std::vector<std::vector<double>> a(n, std::vector<double>(n, 0.0));
        for (std::uint32_t c = 0; c < n; ++c) {
            for (std::uint32_t r = 0; r < n; ++r) {
                if (r != c && number(random) > 0) continue;
                a[r][c] = number(random) + (r == c ? 4.0 : 0.0);
                p.rows.push_back(r);
                entries.push_back(static_cast<std::uint32_t>(memory.size()));
                memory.push_back(a[r][c]);
            }
            p.starts.push_back(static_cast<std::int64_t>(p.rows.size()));
        }
        std::vector<std::int64_t> order(n);
        for (std::uint32_t k = 0; k < n; ++k) order[k] = k;
        std::shuffle(order.begin(), order.end(), random);
        std::vector<double> x(n), b(n, 0.0);
        for (double& v : x) v = number(random);
        for (std::uint32_t r = 0; r < n; ++r)
            for (std::uint32_t c = 0; c < n; ++c) b[r] += a[r][c] * x[c];
        std::vector<std::uint32_t> right;
        for (double v : b) right.push_back(static_cast<std::uint32_t>(memory.size())), memory.push_back(v);
        std::size_t operations = 0;
        EmitOperation emit = [&](Op op, std::uint32_t i, std::uint32_t j) {
            double u = memory[i], v = memory[j];
            memory.push_back(op == Op::add ? u + v : op == Op::sub ? u - v : op == Op::mul ? u * v : op == Op::div ? u / v : -u);
            ++operations;
            return static_cast<std::uint32_t>(memory.size() - 1);
        };
        WrittenFactors factors;
        REQUIRE(write_factorisation(p, entries, order, order, 0, 100000, emit, factors));
        CHECK(factors.n_operations == operations);
        std::vector<std::uint32_t> found = write_substitution(factors, right, emit);
        for (std::uint32_t k = 0; k < n; ++k) CHECK(memory[found[k]] == doctest::Approx(x[k]).epsilon(1e-10));
        CHECK(factors.pivots.size() == n);
        WrittenFactors bounded;
        if (n > 3) CHECK_FALSE(write_factorisation(p, entries, order, order, 0, 3, emit, bounded));
    }
}

TEST_CASE("a pivot that is no entry is refused")
{
    SparsePattern p;
    p.n_columns = 2;
    p.rows = {1, 0};
    p.starts = {0, 1, 2};
    WrittenFactors made;
    EmitOperation emit = [](Op, std::uint32_t, std::uint32_t) { return 9u; };
    CHECK_FALSE(write_factorisation(p, {1, 2}, {0, 1}, {0, 1}, 0, 100, emit, made));
    CHECK(write_factorisation(p, {1, 2}, {1, 0}, {0, 1}, 0, 100, emit, made));
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Every form of elimination against the matrix itself: what it solves, multiplied back, gives the right-hand side.
#include <doctest/doctest.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <random>

#include "linear/linear_solver.hpp"

using namespace netloop;
using Form = LinearSolver::Form;

namespace {

struct Random {
    SparsePattern pattern;
    std::vector<double> values;

    void add_column(const std::vector<std::pair<int, double>>& entries)
    {
        for (const auto& [row, value] : entries) pattern.rows.push_back(row), values.push_back(value);
        pattern.starts.push_back(static_cast<std::int64_t>(pattern.rows.size()));
        ++pattern.n_columns;
    }
    std::vector<double> times(const std::vector<double>& x) const
    {
        std::vector<double> b(x.size(), 0.0);
        for (std::uint32_t c = 0; c < pattern.n_columns; ++c)
            for (auto k = static_cast<std::size_t>(pattern.starts[c]); k < static_cast<std::size_t>(pattern.starts[c + 1]); ++k)
                b[static_cast<std::size_t>(pattern.rows[k])] += values[k] * x[c];
        return b;
    }
};

// A random matrix with a strong diagonal; `width`: how far from the diagonal entries stand, 0: anywhere. Rows of very different sizes.
Random random_matrix(int n, int width, unsigned seed)
{
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> number(-1, 1), size(-4, 4);
    std::vector<double> row_size;
    for (int i = 0; i < n; ++i) row_size.push_back(std::pow(10, size(random)));
    Random m;
    for (int c = 0; c < n; ++c) {
        std::vector<std::pair<int, double>> entries;
        for (int r = 0; r < n; ++r) {
            bool here = r == c || (width > 0 ? std::abs(r - c) <= width && random() % 4 != 0 : random() % 5 == 0);
            if (here) entries.emplace_back(r, row_size[static_cast<std::size_t>(r)] * (r == c ? 4 + number(random) : number(random)));
        }
        m.add_column(entries);
    }
    return m;
}

double worst_error(LinearSolver& solver, const Random& m)
{
    std::vector<double> x(m.pattern.n_columns);
    for (std::size_t i = 0; i < x.size(); ++i) x[i] = 1 + 0.1 * static_cast<double>(i % 7);
    std::vector<double> b = m.times(x);
    solver.solve(b.data());
    double worst = 0;
    for (std::size_t i = 0; i < x.size(); ++i) worst = std::max(worst, std::abs(b[i] - x[i]));
    return worst;
}

}  // namespace

TEST_SUITE_BEGIN("linear");

TEST_CASE("dense, banded, written-out elimination and KLU solve what they are given")
{
    int served[4] = {0, 0, 0, 0};
    for (unsigned seed = 1; seed <= 40; ++seed) {
        int n = 1 + static_cast<int>(seed) * 3 % 40, width = seed % 2 == 0 ? 1 + static_cast<int>(seed) % 4 : 0;
        if (seed % 10 == 4) n = 230, width = 7;  // a wide band pays in large systems only
        Random m = random_matrix(n, width, seed);
        INFO("seed " << seed << ", n " << n);
        for (Form form : {Form::dense, Form::banded, Form::program, Form::klu, Form::fastest}) {
            LinearSolver solver(m.pattern, form);
            for (int round = 0; round < 3; ++round) {  // the first one gives the program its order
                for (double& v : m.values) v *= 1 + 0.1 * round;
                REQUIRE(solver.factor(m.values));
                INFO(solver.form());
                CHECK(worst_error(solver, m) < 1e-9);
            }
            served[0] += std::string(solver.form()) == "dense";
            served[1] += std::string(solver.form()) == "banded";
            served[2] += std::string(solver.form()) == "program";
            served[3] += std::string(solver.form()) == "KLU";
        }
    }
    for (int n : served) CHECK(n >= 15);
}

TEST_CASE("KLU does as well where the columns are of very different sizes, as quantities in SI are, and tells a lost rank from them")
{
    for (unsigned seed = 1; seed <= 20; ++seed) {
        INFO("seed " << seed);
        std::mt19937 random(100 + seed);
        std::uniform_real_distribution<double> exponent(-11, 11);
        Random plain = random_matrix(30, 0, seed), sized = plain;
        std::vector<double> size;
        for (std::uint32_t c = 0; c < 30; ++c) {
            size.push_back(std::pow(10, exponent(random)));
            for (auto k = static_cast<std::size_t>(plain.pattern.starts[c]); k < static_cast<std::size_t>(plain.pattern.starts[c + 1]); ++k)
                sized.values[k] *= size[c];
        }
        LinearSolver solver(sized.pattern, Form::klu);
        for (int round = 0; round < 3; ++round) {
            for (double& v : sized.values) v *= 1 + 0.05 * round;
            REQUIRE(solver.factor(sized.values));
            CHECK_FALSE(solver.doubtful());
            std::vector<double> x;
            for (std::size_t c = 0; c < 30; ++c) x.push_back((1 + 0.1 * static_cast<double>(c % 7)) / size[c]);
            std::vector<double> b = sized.times(x);
            solver.solve(b.data());
            for (std::size_t c = 0; c < 30; ++c) CHECK(b[c] == doctest::Approx(x[c]).epsilon(1e-9));
        }
        // one column a multiple of another: no rank, whatever their sizes
        Random lost = sized;
        std::vector<std::pair<int, double>> copy;
        for (auto k = static_cast<std::size_t>(lost.pattern.starts[3]); k < static_cast<std::size_t>(lost.pattern.starts[4]); ++k)
            copy.emplace_back(static_cast<int>(lost.pattern.rows[k]), 0.25 * lost.values[k]);
        Random singular;
        for (std::uint32_t c = 0; c < 30; ++c) {
            std::vector<std::pair<int, double>> column;
            for (auto k = static_cast<std::size_t>(lost.pattern.starts[c]); k < static_cast<std::size_t>(lost.pattern.starts[c + 1]); ++k)
                column.emplace_back(static_cast<int>(lost.pattern.rows[k]), lost.values[k]);
            singular.add_column(c == 17 ? copy : column);
        }
        LinearSolver none(singular.pattern, Form::klu);
        CHECK((!none.factor(singular.values) || none.doubtful()));
        CHECK((none.lost() == 3 || none.lost() == 17));  // the two that cannot be told apart
    }
}

TEST_CASE("a chain whose cells are numbered at random is banded all the same")
{
    constexpr int kN = 200;
    std::vector<int> number(kN);
    for (int i = 0; i < kN; ++i) number[static_cast<std::size_t>(i)] = i;
    std::shuffle(number.begin(), number.end(), std::mt19937(5));
    std::vector<std::vector<std::pair<int, double>>> columns(kN);
    for (int i = 0; i < kN; ++i)
        for (int k = std::max(0, i - 1); k <= std::min(kN - 1, i + 1); ++k)
            columns[static_cast<std::size_t>(number[static_cast<std::size_t>(i)])].emplace_back(number[static_cast<std::size_t>(k)],
                                                                                                k == i ? 3.0 : -1.0 - 0.01 * k);
    Random m;
    for (auto& column : columns) {
        std::sort(column.begin(), column.end());
        m.add_column(column);
    }
    LinearSolver solver(m.pattern);
    REQUIRE(solver.factor(m.values));
    CHECK(std::string(solver.form()) == "banded");
    CHECK(worst_error(solver, m) < 1e-12);
}

TEST_CASE("a pivot that becomes too small is seen, and the solution stays right")
{
    // two unknowns that are coupled more and more strongly against their diagonal, beside a calm third
    auto matrix = [](double diagonal) {
        Random m;
        m.add_column({{0, diagonal}, {1, 1}});
        m.add_column({{0, 1}, {1, diagonal}, {2, 0.5}});
        m.add_column({{1, 0.25}, {2, 2}});
        return m;
    };
    for (Form form : {Form::banded, Form::program, Form::dense}) {
        Random m = matrix(1.5);
        LinearSolver solver(m.pattern, form);
        for (int k = 0; k < 3; ++k) REQUIRE(solver.factor(m.values));
        std::string usual = solver.form();
        CHECK(usual != "KLU");
        for (double diagonal : {1e-2, 1e-6, 1e-12, 0.0, 1.5}) {
            m = matrix(diagonal);
            REQUIRE(solver.factor(m.values));
            INFO(usual << " at " << diagonal << " by " << solver.form());
            CHECK(worst_error(solver, m) < 1e-9);
            if (form == Form::banded && diagonal > 0 && diagonal < 1e-4) CHECK(std::string(solver.form()) == "KLU");
        }
    }
}

TEST_CASE("a singular matrix and one that holds what is no number are refused by every form")
{
    for (Form form : {Form::dense, Form::banded, Form::program, Form::klu, Form::fastest}) {
        Random m;
        m.add_column({{0, 1}, {1, 2}});
        m.add_column({{0, 2}, {1, 4}});
        LinearSolver solver(m.pattern, form);
        CHECK_FALSE(solver.factor(m.values));
        m.values = {1, 2, 2, 5};
        CHECK(solver.factor(m.values));
        CHECK(solver.factor(m.values));
        CHECK(worst_error(solver, m) < 1e-12);
        m.values[3] = std::numeric_limits<double>::quiet_NaN();
        CHECK_FALSE(solver.factor(m.values));
        m.values[3] = 4;
        CHECK_FALSE(solver.factor(m.values));
        m.values[3] = 5;
        CHECK(solver.factor(m.values));
        CHECK(worst_error(solver, m) < 1e-12);
    }
}

TEST_CASE("small pivots are no lost rank: a chain whose links differ by many powers of ten is regular, and solved")
{
    // tridiagonal; the unknowns' sizes go from 1 to 1e72
    constexpr int n = 13;
    Random m;
    std::vector<double> x;
    for (int c = 0; c < n; ++c) {
        std::vector<std::pair<int, double>> column;
        double size = std::pow(10.0, -6 * c);
        x.push_back((1 + 0.1 * (c % 7)) / size);
        if (c > 0) column.emplace_back(c - 1, 1e-3 * size);
        column.emplace_back(c, size);
        if (c + 1 < n) column.emplace_back(c + 1, 1e-3 * size);
        m.add_column(column);
    }
    LinearSolver solver(m.pattern, Form::klu);
    for (int round = 0; round < 3; ++round) {
        REQUIRE(solver.factor(m.values));
        CHECK_FALSE(solver.doubtful());
        std::vector<double> b = m.times(x);
        solver.solve(b.data());
        for (std::size_t c = 0; c < n; ++c) CHECK(b[c] == doctest::Approx(x[c]).epsilon(1e-12));
    }
    CHECK(solver.n_full() == 1);
}

TEST_CASE("old pivots serve until the elimination with them grows; then new ones are looked for")
{
    // [e 1; 1 1]: with e large the first pivot is good, with e small it is not
    auto matrix = [](double e) {
        Random m;
        m.add_column({{0, e}, {1, 1}});
        m.add_column({{0, 1}, {1, 1}});
        return m;
    };
    Random m = matrix(4);
    LinearSolver solver(m.pattern, Form::klu);
    for (double e : {4.0, 3.0, 0.5, 1e-2}) {
        m = matrix(e);
        REQUIRE(solver.factor(m.values));
        CHECK(worst_error(solver, m) < 1e-12);
    }
    CHECK(solver.n_full() == 1);
    m = matrix(1e-14);
    REQUIRE(solver.factor(m.values));
    CHECK(worst_error(solver, m) < 1e-12);
    CHECK(solver.n_full() == 2);
}

TEST_CASE("what only adds up others makes no matrix singular, however large they are against it")
{
    // x0 = 1e12 (x1 - x2), x1 and x2 by a regular block of their own
    Random m;
    m.add_column({{0, 1e-9}});
    m.add_column({{0, 1e12}, {1, 2}, {2, 1e-13}});
    m.add_column({{0, -1e12}, {1, 1}, {2, 1e-13}});
    LinearSolver solver(m.pattern, Form::klu);
    CHECK(solver.factor(m.values));
    CHECK_FALSE(solver.doubtful());
}

TEST_CASE("solvers that share a pattern share what they write down, and each has its own numbers")
{
    // entries like those of reactions: columns from 1e-8 to 1e8, no band
    auto matrix = [](double by) {
        Random m;
        constexpr int n = 12;
        for (int c = 0; c < n; ++c) {
            double size = std::pow(10.0, -8 + 16.0 * ((5 * c) % n) / (n - 1));
            std::vector<std::pair<int, double>> column;
            for (int r = 0; r < n; ++r)
                if (r == c || (r * r + 3 * c) % 4 == 1) column.emplace_back(r, size * (r == c ? 4.0 : by * std::sin(r + 2.0 * c)));
            m.add_column(column);
        }
        return m;
    };
    Random first = matrix(0.7), second = matrix(-0.4);
    first.pattern.shared = std::make_shared<SharedKnowledge>();
    LinearSolver a(first.pattern), b(first.pattern), alone(second.pattern);
    for (int k = 0; k < 2; ++k) {
        REQUIRE(a.factor(first.values));
        REQUIRE(b.factor(second.values));
        REQUIRE(alone.factor(second.values));
    }
    CHECK(std::string(a.form()) == "program");  // from the second matrix on, whatever the units of its columns
    CHECK(std::string(b.form()) == "program");
    for (auto [solver, m] : {std::pair{&a, &first}, std::pair{&b, &second}}) {
        // unknowns as large as their columns are small
        std::vector<double> x(12), right;
        for (std::size_t c = 0; c < x.size(); ++c)
            x[c] = (1 + 0.1 * static_cast<double>(c)) / std::abs(m->values[static_cast<std::size_t>(m->pattern.starts[c])]);
        right = m->times(x);
        solver->solve(right.data());
        for (std::size_t c = 0; c < x.size(); ++c) CHECK(right[c] == doctest::Approx(x[c]).epsilon(1e-10));
    }
    // the same numbers to the bit: shared or not, gone through or run as machine code
    std::vector<double> right(12, 1.0), early = right, late = right, other = right;
    b.solve(early.data());
    alone.solve(other.data());
    CHECK(early == other);
    for (int k = 0; k < 200; ++k) {
        REQUIRE(b.factor(second.values));
        std::vector<double> any = right;
        b.solve(any.data());
    }
    b.solve(late.data());
    CHECK(early == late);
}

TEST_CASE("what an elimination takes is foreseen: of a tridiagonal matrix its entries, of a full one all of them, and known to those that share the pattern")
{
    auto pattern = [](std::int64_t n, std::int64_t width) {
        SparsePattern p;
        p.n_columns = static_cast<std::uint32_t>(n);
        for (std::int64_t c = 0; c < n; ++c) {
            for (std::int64_t r = std::max<std::int64_t>(0, c - width); r <= std::min(n - 1, c + width); ++r) p.rows.push_back(r);
            p.starts.push_back(static_cast<std::int64_t>(p.rows.size()));
        }
        return p;
    };
    constexpr double n = 60;
    EliminationSize narrow = foresee_elimination(pattern(60, 1)), full = foresee_elimination(pattern(60, 60));
    CHECK(narrow.entries == 4 * n - 2);  // two diagonals of each factor
    CHECK(full.entries >= n * n);
    CHECK(full.entries <= n * (n + 1));
    CHECK(full.operations > n * n * n / 3);
    SparsePattern shared = pattern(60, 1);
    shared.shared = std::make_shared<SharedKnowledge>();
    CHECK(foresee_elimination(shared).entries == narrow.entries);
    REQUIRE(shared.shared->size);
    CHECK(shared.shared->size->entries == narrow.entries);
}

TEST_SUITE_END();

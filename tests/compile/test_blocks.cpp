// SPDX-License-Identifier: Apache-2.0
// Tearing, blocks solved on paper, proofs of sign, and constraints that hide in sums.
#include <doctest/doctest.h>

#include <cmath>
#include <random>
#include <set>

#include "compile/cancel_rates.hpp"
#include "compile/proof_of_sign.hpp"
#include "compile/tear_blocks.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

// Every unknown is an iterate or settled by one step, each step reads only what is known by then.
void check_tearing(const TearingProblem& p, const Tearing& t)
{
    std::size_t n = p.unknowns_of.size();
    CHECK(t.steps.size() + t.iterates.size() == n);
    CHECK(t.residuals.size() == t.iterates.size());
    std::set<std::uint32_t> known(t.iterates.begin(), t.iterates.end()), used(t.residuals.begin(), t.residuals.end());
    CHECK(known.size() == t.iterates.size());
    for (const Tearing::Step& s : t.steps) {
        CHECK(p.solvable(s.equation, s.unknown));
        for (std::uint32_t u : p.unknowns_of[s.equation]) CHECK((u == s.unknown || known.count(u) == 1));
        CHECK(known.insert(s.unknown).second);
        CHECK(used.insert(s.equation).second);
    }
    CHECK(used.size() == n);
}

std::string explain(const std::string& text)
{
    return test::compile(text).explain();
}

}  // namespace

TEST_SUITE_BEGIN("compile");

TEST_CASE("tearing leaves a valid order, by either rule, on random blocks with equations that cannot be solved for some unknowns")
{
    for (unsigned seed = 1; seed <= 100; ++seed) {
        CAPTURE(seed);
        std::mt19937 random(seed);
        std::uint32_t n = 2 + random() % 40;
        TearingProblem p;
        p.unknowns_of.resize(n);
        std::set<std::pair<std::uint32_t, std::uint32_t>> refused;
        for (std::uint32_t e = 0; e < n; ++e) {
            std::set<std::uint32_t> row{e, (e + 1) % n};
            for (unsigned k = random() % 3; k > 0; --k) row.insert(random() % n);
            p.unknowns_of[e].assign(row.begin(), row.end());
            for (std::uint32_t u : row)
                if (random() % 4 == 0) refused.insert({e, u});
        }
        p.cheap.assign(n, 0);
        p.shunned.assign(n, 0);
        p.solvable = [&](std::uint32_t e, std::uint32_t u) { return refused.count({e, u}) == 0; };
        check_tearing(p, tear(p, TearingRule::most_used));
        check_tearing(p, tear(p, TearingRule::shortest_rows));
    }
}

TEST_CASE("a ring of equations needs one iterate, a full block all but one")
{
    for (TearingRule rule : {TearingRule::most_used, TearingRule::shortest_rows}) {
        TearingProblem ring, full;
        for (std::uint32_t e = 0; e < 12; ++e) ring.unknowns_of.push_back({e, (e + 1) % 12});
        ring.cheap.assign(12, 0);
        ring.shunned.assign(12, 0);
        ring.solvable = [](std::uint32_t, std::uint32_t) { return true; };
        CHECK(tear(ring, rule).iterates.size() == 1);
        for (std::uint32_t e = 0; e < 5; ++e) full.unknowns_of.push_back({0, 1, 2, 3, 4});
        full.cheap.assign(5, 0);
        full.shunned.assign(5, 0);
        full.solvable = ring.solvable;
        CHECK(tear(full, rule).iterates.size() == 4);
    }
}

TEST_CASE("small linear blocks are solved on paper where the pivot cannot vanish, else in one step, else by iteration")
{
    // two masses in gear: J1 a1 = T1 - n f, J2 a2 = f, a1 = n a2
    std::string gear =
        "system S { param j : 1 = 2 in 0.1 .. 10 ; param k : 1 = 3 in 0.1 .. 10 ; param n : 1 = 4\n var a, b, f\n"
        "j*a = 5 - n*f\n k*n*b = n*f*n\n a = n*b }\n";
    CHECK(explain(gear).find("solved on paper") != std::string::npos);
    Recording r = test::simulate(gear, 1, 1e-6, 1);
    // k n b = n^2 f, a = n b: f = k b / n; j n b = 5 - k b
    CHECK(r["b"].final() == doctest::Approx(5.0 / (2 * 4 + 3)));
    CHECK(r["f"].final() == doctest::Approx(3 * 5.0 / 11 / 4));
    std::string open = "system S { param p = 2 ; param q = 3\n var x, y\n p*x + y = 1\n x - q*y = 2 }\n";
    CHECK(explain(open).find("linear (its pivots may be zero") != std::string::npos);
    CHECK(test::simulate(open, 1, 1e-6, 1)["x"].final() == doctest::Approx(5.0 / 7));
    std::string curved = "system S { var x guess 1 ; var y guess 1\n x*x + y = 3\n x + y*y = 5 }\n";
    CHECK(explain(curved).find("not linear, iterated") != std::string::npos);
    CHECK(test::simulate(curved, 1, 1e-6, 1)["y"].final() == doctest::Approx(2));
}

TEST_CASE("a proof of sign sees squares and sums of what has one sign")
{
    FlatModel flat;
    Graph& g = flat.graph;
    auto parameter = [&](double low, double high) {
        FlatParameter p;
        p.low = g.constant(low);
        p.high = g.constant(high);
        flat.parameters.push_back(p);
        return g.leaf(Op::parameter, static_cast<std::uint32_t>(flat.parameters.size() - 1));
    };
    NodeId plus = parameter(0.1, 10), any = parameter(-5, 5), other = parameter(-5, 5), zero_up = parameter(0, 5);
    ProofOfSign proof(flat);
    CHECK(proof.never_zero(plus));
    CHECK_FALSE(proof.never_zero(any));
    CHECK_FALSE(proof.never_zero(zero_up));
    CHECK(proof.never_zero(g.add(plus, g.mul(any, any))));
    CHECK(proof.never_zero(g.add(plus, g.mul(g.mul(any, other), g.mul(other, any)))));
    CHECK(proof.never_zero(g.sub(plus, g.mul(g.neg(any), any))));
    CHECK(proof.never_zero(g.sub(g.neg(plus), zero_up)));
    CHECK_FALSE(proof.never_zero(g.sub(plus, g.mul(any, any))));
    CHECK_FALSE(proof.never_zero(g.add(plus, g.mul(any, other))));
    CHECK_FALSE(proof.never_zero(g.mul(any, any)));
}

TEST_CASE("rates that cancel in a sum leave a constraint: floating capacitors")
{
    // C (u2 - u1)' = i1, C (u1 - u2)' = i2: only the difference is a state, and i1 + i2 = 0 at all times
    Recording r = test::simulate(R"(
system S {
    param C : uF = 2 uF
    param R : kohm = 1 kohm
    var u1, u2 : V
    C * (u2 - u1)' = (u1 - 10 V) / R
    C * (u1 - u2)' = u2 / R
    init u1 - u2 = 1 V
    guess u1 = 5 V
}
)",
                                 4e-3, 1e-9, 1e-3);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i], d = 10 - 9 * std::exp(-t / 4e-3);  // tau = 2 R C
        CHECK(r["u1"].values[i] - r["u2"].values[i] == doctest::Approx(d).epsilon(1e-7));
        CHECK(r["u1"].values[i] + r["u2"].values[i] == doctest::Approx(10).epsilon(1e-9));
    }
}

TEST_CASE("rates that cancel in sums with literal factors, of second order, and several times over")
{
    Recording r = test::simulate(R"(
system S {
    var x, y, z : m
    2 kg * x'' + 1 kg * y'' = -8 N/m * x
    6 kg * x'' + 3 kg * y'' = -24 N/m * z
    y = 3 * x
    init x = 1 m
    init x' = 0
}
)",
                                 3, 1e-10, 0.5);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        CHECK(r["x"].values[i] == doctest::Approx(std::cos(std::sqrt(8.0 / 5) * r.time().values[i])).scale(1).epsilon(1e-7));
        CHECK(r["z"].values[i] == doctest::Approx(r["x"].values[i]).scale(1).epsilon(1e-9));
    }
    // params that are equal only by chance are not taken to cancel: told at the start instead
    CHECK_THROWS_AS(test::simulate("system S { param a = 1 ; param b = 1 ; var x, y : 1\n a*x' - a*y' = -x * 1 s^-1\n b*y' - b*x' = y * 1 s^-1 }", 1),
                    RunError);
}

TEST_SUITE_END();

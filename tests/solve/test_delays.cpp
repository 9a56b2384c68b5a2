// SPDX-License-Identifier: Apache-2.0
#include "solve/delays.hpp"

#include <doctest/doctest.h>

#include <cmath>
#include <vector>

using netloop::Delays;

TEST_SUITE_BEGIN("solve");

TEST_CASE("a delay line gives back cubics exactly, jumps from either side, and what was before the start")
{
    auto cubic = [](double t) { return 1 - t + 2 * t * t - 0.5 * t * t * t; };
    Delays d(1);
    d.begin(0, 0.5, 7, 0);
    CHECK(d.next_break(0).time == 0.5);  // the start, behind which it moves
    CHECK(d.next_break(0).order == 1);
    auto piece = [&](double from, double to, double shift) {
        std::vector<double> values;
        for (double share : Delays::points(3)) values.push_back(cubic(from + share * (to - from)) + shift);
        d.add(0, from, to, std::move(values));
    };
    piece(0, 0.4, 0);
    piece(0.4, 1.0, 0);
    piece(1.0, 1.3, 10);
    d.break_source(0, 1.0, 0);
    CHECK(d.value(0, 0.3) == 7);
    for (double t : {0.6, 0.85, 0.9, 1.2, 1.45}) CHECK(d.value(0, t) == doctest::Approx(cubic(t - 0.5)).epsilon(1e-13));
    CHECK(d.value(0, 1.5) == doctest::Approx(cubic(1.0)).epsilon(1e-13));
    d.look_behind_jumps(true);
    CHECK(d.value(0, 1.5) == doctest::Approx(cubic(1.0) + 10).epsilon(1e-13));
    CHECK(d.next_break(0.6).time == 1.5);
    CHECK(d.next_break(0.6).order == 0);
    CHECK(std::isinf(d.next_break(1.5).time));
    CHECK(d.shortest() == 0.5);
}

TEST_CASE("what is kept of the past gives the same values and breaks in another line; what is none is refused")
{
    Delays d(2), other(2);
    d.begin(0, 0.5, 7, 0);
    d.begin(1, 0.2, -1, 0);
    auto piece = [&](std::size_t k, double from, double to) {
        std::vector<double> values;
        for (double share : Delays::points(4)) values.push_back(std::sin(from + share * (to - from)));
        d.add(k, from, to, std::move(values));
    };
    for (double t = 0; t < 1.45; t += 0.25) piece(0, t, t + 0.25), piece(1, t, t + 0.25);
    d.break_source(0, 1.2, 1);
    d.break_source(1, 1.45, 0);  // still to come at the time that is kept
    const double time = 1.4;
    std::vector<double> kept = d.kept(time);
    REQUIRE(other.put_back(kept));
    for (double t : {1.4, 1.43, 1.6}) {
        CHECK(other.value(0, t) == d.value(0, t));
        CHECK(other.value(1, t) == d.value(1, t));
    }
    CHECK(other.behind(1) == 0.2);
    CHECK(other.next_break(1.4).time == doctest::Approx(1.7));
    CHECK(other.next_break(1.7).time == HUGE_VAL);
    // a piece less, one number more, one that counts more than there is
    std::vector<double> shorter(kept.begin(), kept.end() - 1), longer = kept, wrong = kept;
    longer.push_back(1);
    wrong[2] = 1e6;
    for (const auto& bad : {shorter, longer, wrong, std::vector<double>{}}) CHECK_FALSE(other.put_back(bad));
    CHECK(other.value(0, 1.6) == d.value(0, 1.6));  // left as it was
}

TEST_CASE("breaks travel with their order, until they are smoother than any method sees")
{
    Delays d(2);
    d.begin(0, 1, 0, 0);
    d.begin(1, 3, 0, 0);
    CHECK(d.next_break(0).time == 1);
    d.break_sources(1, 2);
    CHECK(d.next_break(1).time == 2);
    CHECK(d.next_break(1).order == 2);
    CHECK(d.next_break(2).time == 3);
    CHECK(d.next_break(2).order == 1);  // of the second line, from the start
    d.break_sources(5, Delays::kSmoothest + 1);
    CHECK(d.next_break(4).time == HUGE_VAL);
}

TEST_SUITE_END();

#include "solve/delays.hpp"

#include <doctest/doctest.h>

#include <cmath>

using netloop::Delays;

TEST_SUITE_BEGIN("solve");

TEST_CASE("a delay line gives back cubics exactly, jumps from either side, and what was before the start")
{
    auto cubic = [](double t) { return 1 - t + 2 * t * t - 0.5 * t * t * t; };
    Delays d(1);
    d.begin(0, 0.5, 7);
    auto piece = [&](double from, double to, double shift) {
        double h = (to - from) / 3;
        d.add(0, from, to, {cubic(from) + shift, cubic(from + h) + shift, cubic(from + 2 * h) + shift, cubic(to) + shift});
    };
    piece(0, 0.4, 0);
    piece(0.4, 1.0, 0);
    piece(1.0, 1.3, 10);
    CHECK(d.value(0, 0.3) == 7);
    for (double t : {0.6, 0.85, 0.9, 1.2, 1.45}) CHECK(d.value(0, t) == doctest::Approx(cubic(t - 0.5)).epsilon(1e-13));
    CHECK(d.value(0, 1.5) == doctest::Approx(cubic(1.0)).epsilon(1e-13));
    d.look_behind_jumps(true);
    CHECK(d.value(0, 1.5) == doctest::Approx(cubic(1.0) + 10).epsilon(1e-13));
    CHECK(d.next_jump(0) == 0.5);  // from 7 to 1, as the start is passed
    CHECK(d.next_jump(0.6) == 1.5);
    CHECK(std::isinf(d.next_jump(1.5)));
    CHECK(d.shortest() == 0.5);
}

TEST_SUITE_END();

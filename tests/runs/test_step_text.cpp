// SPDX-License-Identifier: Apache-2.0
#include "runs/step_text.hpp"

#include <doctest/doctest.h>

#include <cmath>

using netloop::step_text;

TEST_SUITE_BEGIN("runs");

TEST_CASE("a step is told with the unit that suits it")
{
    CHECK(step_text(6.37e-8) == "63.7 ns");
    CHECK(step_text(4.18e-4) == "418 us");
    CHECK(step_text(1e-3) == "1 ms");
    CHECK(step_text(3) == "3 s");
    CHECK(step_text(0) == "-");
    CHECK(step_text(std::nan("")) == "-");
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
#include "base/deep_stack.hpp"

#include <doctest/doctest.h>

#include <atomic>
#include <stdexcept>

#include "base/interrupt.hpp"
#include "netloop/error.hpp"

using namespace netloop;

namespace {
// Some hundred bytes of stack a level; how deep it came.
int descend(int level, int most)
{
    volatile char room[400];
    room[level % 400] = 1;
    if (level >= most || stack_is_short()) return level;
    return descend(level + 1, most) + (room[0] - room[0]);
}
}  // namespace

TEST_SUITE_BEGIN("base");

TEST_CASE("a deep stack takes a million levels, and its end is seen before it comes")
{
    constexpr int kMillion = 1000000, kWithoutEnd = 1000000000;
    CHECK(on_deep_stack([] { return descend(0, kMillion); }) == kMillion);
    CHECK(on_deep_stack([] { return descend(0, kWithoutEnd); }) > kMillion);
    int here = descend(0, kWithoutEnd);
    CHECK(here > 1000);
    CHECK(here < kMillion);
    CHECK_FALSE(stack_is_short());
}

TEST_CASE("what is thrown on a deep stack is passed on, and work within it stays there")
{
    CHECK_THROWS_WITH_AS(with_deep_stack([] { throw std::runtime_error("deep"); }), "deep", std::runtime_error);
    int depth = on_deep_stack([] { return on_deep_stack([] { return descend(0, 1000000); }); });
    CHECK(depth == 1000000);
}

TEST_CASE("work looks at the flag of its scope, on a deep stack too")
{
    std::atomic<bool> flag{false};
    CHECK_FALSE(interrupt_asked());
    {
        InterruptScope scope(&flag);
        CHECK_NOTHROW(look_at_interrupt());
        flag = true;
        CHECK(interrupt_asked());
        CHECK_THROWS_AS(look_at_interrupt(), Interrupted);
        CHECK_THROWS_AS(with_deep_stack([] { look_at_interrupt(); }), Interrupted);
        InterruptScope none(nullptr);  // asks for nothing new
        CHECK(interrupt_asked());
    }
    CHECK_FALSE(interrupt_asked());
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// What bounded the steps, counted in stretches that grow as the run does.
#include "integrate/step_costs.hpp"

#include <doctest/doctest.h>

#include <map>

using namespace netloop;

TEST_SUITE_BEGIN("integrate");

TEST_CASE("a stretch counts its reasons, the first as well as those that come later")
{
    StepCosts::Stretch s;
    CHECK_FALSE(s.any_reason());
    s.count(7, 1);
    s.count(3, 2);
    s.count(7, 4);
    s.count(5, 1);
    s.count(3, 8);
    std::map<std::uint32_t, double> told;
    s.each_reason([&](std::uint32_t reason, double n) {
        CHECK(told.count(reason) == 0);
        told[reason] = n;
    });
    CHECK(told == std::map<std::uint32_t, double>{{7, 5}, {3, 10}, {5, 1}});
    CHECK(s.any_reason());
}

TEST_CASE("a long run is told in few stretches that lose no step and no reason")
{
    StepCosts costs;
    constexpr int kSteps = 3000;
    using Why = StepCosts::Why;
    double events = 0;
    for (int k = 0; k < kSteps; ++k) {
        StepCosts::Reason reason{k % 10 == 0 ? Why::event : Why::clock, nullptr, static_cast<std::uint32_t>(k % 10 == 0 ? k % 3 : 0)};
        events += k % 10 == 0 ? 1 : 0;
        costs.step(k, k + 1, &reason);
    }
    CHECK(costs.n_steps() == kSteps);
    REQUIRE(costs.stretches().size() > 100);
    CHECK(costs.stretches().size() <= 512);
    double steps = 0, at = 0, counted = 0;
    for (const StepCosts::Stretch& s : costs.stretches()) {
        CHECK(s.from == at);
        at = s.to;
        steps += s.steps;
        CHECK(s.shortest == 1);
        CHECK(s.longest == 1);
        s.each_reason([&](std::uint32_t reason, double n) { counted += costs.reasons()[reason].first.why == Why::event ? n : 0; });
    }
    CHECK(at == kSteps);
    CHECK(steps == kSteps);
    CHECK(counted == events);
}

TEST_CASE("equations that the iteration had to do with are counted as the steps that were looked at")
{
    StepCosts costs;
    costs.corrections(nullptr, 4, 3);
    for (int k = 0; k < 600; ++k) costs.step(k, k + 1, nullptr);
    costs.corrections(nullptr, 4, 2);  // one of eight by now
    costs.corrections(nullptr, 9, 5);
    const auto& told = costs.stubborn();
    REQUIRE(told.size() == 2);
    CHECK(told.at({nullptr, 4}).steps == 9);
    CHECK(told.at({nullptr, 4}).corrections == 3 + 8 * 2);
    CHECK(told.at({nullptr, 9}).corrections == 40);
}

TEST_SUITE_END();

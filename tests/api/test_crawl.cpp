// SPDX-License-Identifier: Apache-2.0
// A run that will not end soon says so, with what holds it.
#include "api/crawl.hpp"

#include <doctest/doctest.h>

#include <chrono>
#include <thread>

#include "api/internal.hpp"
#include "support/support.hpp"

TEST_SUITE_BEGIN("api");

namespace {

// Twenty steps of a run, each 25 ms of computing: half a second until 1 s of machine time, say. What was told.
std::vector<std::string> told(double stop)
{
    netloop::CompiledSystem system =
        test::compile("system S { var slow init 1 ; var quick init 1 ; slow' = -slow * 1 s^-1 ; quick' = (cos(300 * time / 1 s) - quick) * 1 s^-1 }");
    netloop::Simulation s(system.data().model, system.data().sources, {});
    s.evaluation().settle_parameters();
    s.start(0);
    std::vector<std::string> texts;
    netloop::CrawlWatch watch(
        s, stop, [&](const std::string& text) { texts.push_back(text); }, 0.2);
    for (int k = 1; k <= 20; ++k) {
        s.advance(0.05 * k, {}, {});
        std::this_thread::sleep_for(std::chrono::milliseconds(25));
        watch.look(s.state().time);
    }
    return texts;
}

}  // namespace

TEST_CASE("a run that would take long says so once, with the time left and what limits its steps")
{
    std::vector<std::string> texts = told(1e6);
    REQUIRE(texts.size() == 1);
    CAPTURE(texts[0]);
    CHECK(texts[0].find("of 1e+06 s; at this pace it needs ") != std::string::npos);
    CHECK((texts[0].find(" days more") != std::string::npos));
    CHECK(texts[0].find("what limits ") != std::string::npos);
    CHECK(texts[0].find("'quick' = ") != std::string::npos);
}

TEST_CASE("a run that ends soon says nothing")
{
    CHECK(told(2).empty());  // also on a machine that takes seconds for a step
}

TEST_SUITE_END();

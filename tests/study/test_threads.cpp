// SPDX-License-Identifier: Apache-2.0
// Loops over all cores, queues, and JUnit documents.
#include <doctest/doctest.h>

#include <pugixml.hpp>
#include <stdexcept>

#include "study/junit.hpp"
#include "study/threads.hpp"
#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("study");

TEST_CASE("a parallel loop does each number once, with any number of threads")
{
    for (unsigned jobs : {0u, 1u, 3u, 50u}) {
        std::vector<std::atomic<int>> done(1000);
        nl::parallel_for(done.size(), jobs, [&](std::size_t i) { ++done[i]; });
        for (const auto& n : done) CHECK(n == 1);
    }
    nl::parallel_for(0, 4, [](std::size_t) { FAIL("there is nothing to do"); });
    CHECK(nl::jobs_for(8, 3) == 3);
    CHECK(nl::jobs_for(0, 100) >= 1);
}

TEST_CASE("the first exception ends a parallel loop and is passed on")
{
    std::atomic<int> done{0};
    CHECK_THROWS_WITH_AS(nl::parallel_for(100000, 2,
                                          [&](std::size_t i) {
                                              if (i == 5) throw std::runtime_error("number 5");
                                              ++done;
                                          }),
                         "number 5", std::runtime_error);
    CHECK(done < 99999);
}

TEST_CASE("a queue hands out everything once, and ends when it is closed")
{
    nl::Queue<int> queue;
    std::atomic<long> sum{0};
    std::vector<std::thread> threads;
    for (int k = 0; k < 3; ++k)
        threads.emplace_back([&] {
            while (auto item = queue.take()) sum += *item;
        });
    for (int i = 1; i <= 1000; ++i) queue.put(i);
    queue.close();
    for (std::thread& t : threads) t.join();
    CHECK(sum == 500500);
    CHECK(queue.take_all(0).empty());
    nl::Queue<int> dropped;
    dropped.put(1);
    dropped.close(true);
    CHECK(!dropped.take());
}

TEST_CASE("a JUnit document can be read whatever its texts hold")
{
    std::string text = nl::junit_text("a <suite>", {{"file & co.loop", "good", 0.5, "", "", "peak = 3 bar\n"},
                                                    {"b", "fails", 1, "", "not met: \"x\" < 3\nand more", ""},
                                                    {"c", "broke", 0, "]]> <b>", "", ""}});
    pugi::xml_document document;
    REQUIRE(document.load_string(text.c_str()));
    pugi::xml_node suite = document.child("testsuite");
    CHECK(suite.attribute("tests").as_int() == 3);
    CHECK(suite.attribute("failures").as_int() == 1);
    CHECK(suite.attribute("errors").as_int() == 1);
    CHECK(suite.attribute("time").as_double() == 1.5);
    CHECK(std::string(suite.child("testcase").attribute("classname").as_string()) == "file & co.loop");
    CHECK(std::string(suite.find_child_by_attribute("name", "fails").child("failure").attribute("message").as_string()) == "not met: \"x\" < 3");
    CHECK(std::string(suite.find_child_by_attribute("name", "broke").child("error").text().as_string()) == "]]> <b>");
}

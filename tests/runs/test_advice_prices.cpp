// SPDX-License-Identifier: Apache-2.0
// Prices of recordings that are written down here.
#include "runs/advice_prices.hpp"

#include <doctest/doctest.h>

#include <cmath>

namespace nl = netloop;

TEST_SUITE_BEGIN("runs");

namespace {

nl::Recording recording(std::vector<double> time, std::vector<double> x, std::vector<double> y)
{
    nl::Recording r;
    auto column = [&](const char* name, std::vector<double> values) {
        nl::Column c;
        c.name = name;
        c.values = std::move(values);
        r.columns.push_back(std::move(c));
    };
    column("time", std::move(time));
    column("x", std::move(x));
    column("y", std::move(y));
    return r;
}

}  // namespace

TEST_CASE("the largest difference of each quantity, between other rows by straight lines, those that differ most first")
{
    nl::Recording a = recording({0, 1, 2}, {0, 10, 20}, {5, 6, 5}), b = recording({0, 2}, {0, 18}, {5, 5});
    nl::Priced p = nl::price_of(a, b, {});
    REQUIRE(p.prices.size() == 2);
    CHECK(p.refused.empty());
    CHECK(p.prices[0].what == "y");  // 1 of a range of 1
    CHECK(p.prices[0].difference == 1);
    CHECK(p.prices[0].share == 1);
    CHECK(p.prices[0].at == 1);
    CHECK(p.prices[1].what == "x");  // 2 of 20
    CHECK(p.prices[1].difference == 2);
    CHECK(p.prices[1].share == doctest::Approx(0.1));
    CHECK(p.prices[1].at == 2);
    // what is to be kept stands first, and goes beyond its bound or not
    CHECK(nl::price_of(a, b, {{"x", 2.0}}).refused.empty());
    nl::Priced kept = nl::price_of(a, b, {{"x", 1.9}});
    CHECK(kept.prices[0].what == "x");
    CHECK(kept.refused.find("x differs by 2 at 2 s beyond 1.9") != std::string::npos);
    CHECK(nl::price_of(a, a, {}).prices.empty());
}

TEST_CASE("what is to be kept and is no longer there, or is another thing by now, refuses a change")
{
    nl::Recording a = recording({0, 1}, {0, 1}, {0, 1}), b = recording({0, 1}, {0, 1}, {0, 1});
    b.columns.pop_back();
    CHECK(nl::price_of(a, b, {}).refused.empty());
    CHECK(nl::price_of(a, b, {{"x", 1}}).refused.empty());
    CHECK(nl::price_of(a, b, {{"y", 1}}).refused == "y is no longer there: it cannot be kept");
    b = a;
    b.columns[2].unit = "bar";
    CHECK(nl::price_of(a, b, {{"y", 1}}).refused.find("no longer there") != std::string::npos);
}

TEST_CASE("an event that lies a little later is no difference, one that lies far off is")
{
    nl::Recording a = recording({0, 50, 50, 100}, {0, 0, 1, 1}, {0, 0, 0, 0});
    CHECK(nl::price_of(a, recording({0, 50.005, 50.005, 100}, {0, 0, 1, 1}, {0, 0, 0, 0}), {}).prices.empty());
    nl::Priced far = nl::price_of(a, recording({0, 60, 60, 100}, {0, 0, 1, 1}, {0, 0, 0, 0}), {});
    REQUIRE(far.prices.size() == 1);
    CHECK(far.prices[0].difference == 1);
}

TEST_CASE("measures are kept within one percent where nothing else is said, a demand as it was")
{
    nl::Recording a = recording({0, 1}, {0, 1}, {0, 1}), b = a;
    nl::MeasureResult m;
    m.name = "peak";
    m.value = 100;
    a.measures = {m};
    m.value = 100.9;
    b.measures = {m};
    CHECK(nl::price_of(a, b, {}).refused.empty());
    b.measures[0].value = 101.1;
    CHECK(nl::price_of(a, b, {}).refused.find("one percent") != std::string::npos);
    CHECK(nl::price_of(a, b, {{"x", 1}}).refused.empty());
    CHECK(nl::price_of(a, b, {{"peak", 1}}).refused.find("beyond 1") != std::string::npos);
    nl::DemandResult d;
    d.condition = "x < 2";
    d.holds = true;
    a.demands = {d};
    d.holds = false;
    b.demands = {d};
    b.measures = a.measures;
    CHECK(nl::price_of(a, b, {}).refused == "a demand no longer holds: x < 2");
}

TEST_SUITE_END();

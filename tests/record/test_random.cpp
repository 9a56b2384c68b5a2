// SPDX-License-Identifier: Apache-2.0
// Recordings with whatever numbers and names: what goes in comes out, and comparing keeps its promises.
#include <doctest/doctest.h>
#include <fmt/format.h>

#include <bit>
#include <cmath>
#include <limits>
#include <netloop/compare.hpp>
#include <random>

#include "support/support.hpp"

using namespace netloop;

namespace {

struct Shown {
    const char* unit;
    double scale, offset;
};
constexpr Shown kShown[] = {{"1", 1, 0}, {"bar", 1e5, 0}, {"degC", 1, 273.15}, {"mm", 1e-3, 0}, {"L/min", 1e-3 / 60, 0}, {"bool", 1, 0}, {"", 1, 0}};
const char* const kNames[] = {"p",       "pump.outlet.p", "cell[12].T", "a name, with \"quotes\"", "leaf.angle'",
                              "Größe.µ", "x [m]",         "a:b",        "line\\with\\backslash",   "#hash",
                              "=1+1",    " blank ",       "100 %"};

Recording random_recording(std::mt19937_64& random, std::size_t rows, bool nasty)
{
    std::uniform_real_distribution<double> share(-1, 1);
    Recording r;
    r.system = "S";
    Column time;
    time.name = "time";
    time.unit = "s";
    double t = 0;
    for (std::size_t i = 0; i < rows; ++i) {
        if (i % 17 != 3) t += std::abs(share(random)) * 0.1 + 1e-6;  // now and then two rows at one time
        time.values.push_back(t);
    }
    r.columns.push_back(time);
    for (std::size_t k = 0; k < std::size(kNames); ++k) {
        const Shown& shown = kShown[k % std::size(kShown)];
        Column c;
        c.name = kNames[k];
        c.unit = shown.unit;
        c.scale = shown.scale;
        c.offset = shown.offset;
        c.description = std::string("text of ") + kNames[k];
        for (std::size_t i = 0; i < rows; ++i) {
            double v = share(random) * std::pow(10.0, static_cast<double>(random() % 30) - 15);
            if (shown.unit == std::string("bool")) v = static_cast<double>(random() % 2);
            if (nasty && i % 11 == 5) {
                const double odd[] = {std::nan(""), HUGE_VAL, -HUGE_VAL, -0.0, std::numeric_limits<double>::denorm_min(), std::numeric_limits<double>::max()};
                v = odd[random() % std::size(odd)];
            }
            c.values.push_back(v);
        }
        r.columns.push_back(std::move(c));
    }
    return r;
}

bool same_bits(double a, double b)
{
    return std::bit_cast<std::uint64_t>(a) == std::bit_cast<std::uint64_t>(b) || (std::isnan(a) && std::isnan(b));
}

}  // namespace

TEST_SUITE_BEGIN("record");

TEST_CASE("HDF5 keeps every number to the last bit and every text, whatever they are")
{
    test::Scratch scratch;
    for (unsigned seed : {1u, 2u, 3u}) {
        std::mt19937_64 random(seed);
        for (std::size_t rows : {1u, 2u, 511u, 5000u}) {
            INFO("seed ", seed, ", ", rows, " rows");
            Recording r = random_recording(random, rows, true);
            r.save(scratch / "r.h5");
            Recording back = Recording::load(scratch / "r.h5");
            REQUIRE(back.columns.size() == r.columns.size());
            REQUIRE(back.n_rows() == rows);
            for (std::size_t c = 0; c < r.columns.size(); ++c) {
                INFO(r.columns[c].name);
                CHECK(back.columns[c].name == r.columns[c].name);
                CHECK(back.columns[c].unit == r.columns[c].unit);
                CHECK(back.columns[c].scale == r.columns[c].scale);
                CHECK(back.columns[c].offset == r.columns[c].offset);
                CHECK(back.columns[c].description == r.columns[c].description);
                std::size_t wrong = 0;
                for (std::size_t i = 0; i < rows; ++i) wrong += same_bits(back.columns[c].values[i], r.columns[c].values[i]) ? 0 : 1;
                CHECK(wrong == 0);
            }
        }
    }
}

TEST_CASE("CSV keeps every number but for the last digits of a change of unit")
{
    test::Scratch scratch;
    std::mt19937_64 random(7);
    Recording r = random_recording(random, 300, false);
    r.save(scratch / "r.csv");
    Recording back = Recording::load(scratch / "r.csv");
    REQUIRE(back.columns.size() == r.columns.size());
    for (std::size_t c = 0; c < r.columns.size(); ++c) {
        INFO(r.columns[c].name);
        CHECK(back.columns[c].name == r.columns[c].name);
        for (std::size_t i = 0; i < r.n_rows(); ++i) {
            double size = std::abs(r.columns[c].values[i]) + std::abs(r.columns[c].offset);
            CHECK(std::abs(back.columns[c].values[i] - r.columns[c].values[i]) <= 1e-15 * size);
        }
    }
    // through the other form on the way, the same
    back.save(scratch / "r.h5");
    Recording::load(scratch / "r.h5").save(scratch / "again.csv");
    Recording again = Recording::load(scratch / "again.csv");
    for (std::size_t c = 0; c < r.columns.size(); ++c)
        for (std::size_t i = 0; i < r.n_rows(); ++i)
            CHECK(std::abs(again.columns[c].values[i] - r.columns[c].values[i]) <= 2e-15 * (std::abs(r.columns[c].values[i]) + std::abs(r.columns[c].offset)));
}

TEST_CASE("comparing: nothing differs from itself; what differs does so by what was put in, both ways round")
{
    std::mt19937_64 random(11);
    std::uniform_real_distribution<double> share(0.5, 2);
    Recording r;
    r.columns.resize(4);
    const char* names[] = {"time", "p", "T", "x"};
    const char* units[] = {"s", "bar", "degC", "mm"};
    double scales[] = {1, 1e5, 1, 1e-3}, offsets[] = {0, 0, 273.15, 0};
    for (std::size_t c = 0; c < 4; ++c)
        r.columns[c].name = names[c], r.columns[c].unit = units[c], r.columns[c].scale = scales[c], r.columns[c].offset = offsets[c];
    for (int i = 0; i <= 400; ++i) {
        double t = 0.025 * i;
        r.columns[0].values.push_back(t);
        r.columns[1].values.push_back(1e7 + 4e6 * std::sin(t));
        r.columns[2].values.push_back(300 + 20 * std::cos(t));
        r.columns[3].values.push_back(0.05 * t);
    }
    CHECK(compare(r, r).same());
    CHECK(compare(r, r, {.tolerance = 0}).same());
    for (int trial = 0; trial < 20; ++trial) {
        Recording other = r;
        std::size_t which = 1 + random() % 3, row = 40 + random() % 300;
        double added = share(random) * (which == 1 ? 1e5 : which == 2 ? 1.0 : 1e-3), at = r.columns[0].values[row];
        for (std::size_t i = row; i < other.n_rows(); ++i) other.columns[which].values[i] += added;
        Comparison there = compare(r, other), back = compare(other, r);
        INFO(names[which], " by ", added, " from ", at, " s");
        CHECK_FALSE(there.same());
        REQUIRE(there.differences.size() == 3);
        const Difference &d = there.differences[0], &e = back.differences[0];
        CHECK(d.name == names[which]);
        CHECK(d.largest == doctest::Approx(added).epsilon(1e-9));
        CHECK(std::abs(d.final) == doctest::Approx(added).epsilon(1e-9));
        CHECK(d.first == doctest::Approx(at).epsilon(0.03).scale(1));  // within the step before
        CHECK(d.first <= at);
        CHECK(e.name == d.name);
        CHECK(e.largest == doctest::Approx(d.largest).epsilon(1e-12));
        CHECK(e.first == doctest::Approx(d.first));
        for (std::size_t k = 1; k < 3; ++k) CHECK(there.differences[k].largest == 0);
        // what is allowed by unit decides, to either side of what was put in
        std::string unit = which == 2 ? "K" : units[which];
        double in_unit = added / scales[which];
        CHECK(compare(r, other, {.by_unit = {{unit, 1.001 * in_unit}}}).same());
        CHECK_FALSE(compare(r, other, {.by_unit = {{unit, 0.999 * in_unit}}}).same());
        double swing = which == 1 ? 8e6 : which == 2 ? 40 : 0.5;
        CHECK(compare(r, other, {.tolerance = 1.3 * added / swing}).same());
        CHECK_FALSE(compare(r, other, {.tolerance = 0.7 * added / (swing + added)}).same());
        // and only what is looked at counts
        CHECK(compare(r, other, {.keep = {names[1 + which % 3]}}).same());
    }
}

TEST_SUITE_END();

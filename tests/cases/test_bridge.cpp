// SPDX-License-Identifier: Apache-2.0
// The whole bascule bridge: every scenario comes to its end, holds its demands, and answers to statics and balances worked out by hand.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

constexpr double kPi = 3.14159265358979323846;
constexpr double kGravity = 9.80665;

struct Day {
    Recording recording;
    RunSummary summary;
    double measure(const std::string& name) const
    {
        for (const MeasureResult& m : summary.measures)
            if (m.name == name) return m.value;
        return std::nan("");
    }
};

Day run(const std::string& scenario)
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/bascule/whole/bridge.loop"));
    Run r(compile(library, {.system = "", .scenario = scenario}));
    RunOptions options;
    options.keep = {"*"};
    Recording recording = r.simulate(options);
    for (const DemandResult& d : r.summary().demands) {
        INFO(scenario, ": ", d.condition, " ", d.found);
        CHECK(d.holds);
    }
    return {std::move(recording), r.summary()};
}

const Day& calm_day()
{
    static const Day day = run("calm_day");
    return day;
}

std::size_t row_at(const Recording& r, double time)
{
    std::size_t i = 0;
    while (r.time().values[i] < time) ++i;
    return i;
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("the bridge on a calm day: demands, statics of the raised leaf, balance of work")
{
    const Day& day = calm_day();
    const Recording& r = day.recording;
    CHECK(day.summary.demands.size() == 7);
    // 1. held open, at rest: both cylinders carry the moment of the weights and of what is left of the wind
    std::size_t i = row_at(r, 44);
    REQUIRE(std::abs(r["leaf.speed"].values[i]) < 1e-3);
    double q = r["leaf.angle"].values[i], wind = r["wind.force"].values[i];
    double moment = kGravity * (20e3 * 4 - 30e3 * 2.4) * std::cos(q) + 4 * wind;
    double x = 1.3 * std::cos(q) + 0.4 * std::sin(q) - 0.3, y = 1.3 * std::sin(q) - 0.4 * std::cos(q) + 2.4, d = std::hypot(x, y);
    double reach = ((x + 0.3) * y - (y - 2.4) * x) / d;
    double head = kPi / 4 * 0.125 * 0.125, rod = kPi / 4 * (0.125 * 0.125 - 0.08 * 0.08), air = 1.013e5;
    double push = (r["lifting.head_p"].values[i] - air) * head - (r["lifting.rod_p"].values[i] - air) * rod;
    CHECK(r["lifting.left.x"].values[i] == doctest::Approx(d - 2.2).epsilon(1e-6));
    CHECK(2 * push * reach == doctest::Approx(moment).epsilon(0.05));  // the trunnion's friction still creeps
    // 2. what the pins of the trunnion carry, nearly still and level: weights, less what the seat and the cylinders take
    CHECK(day.measure("bearing") > 50e3 * kGravity);
    // 3. the winding has warmed, and only it: its copper loss over its capacity is the most that it can rise
    double loss = 0;
    const auto& t = r.time().values;
    for (std::size_t k = 1; k < t.size(); ++k)
        loss += (r["drive.motor.copper_loss"].values[k] + r["drive.motor.copper_loss"].values[k - 1]) / 2 * (t[k] - t[k - 1]);
    double rise = r["drive.winding_temperature"].max() - r["drive.winding_temperature"].first();
    CHECK(rise > 1);
    CHECK(rise < loss / 14e3);
    // 4. the plan: 80 deg at 3.2 deg/s takes 25 s and the ramps at both ends
    CHECK(day.measure("lift_time") > 6 + 1 + 80 / 3.2);
    // 5. energy by rows against the measure
    double energy = 0;
    for (std::size_t k = 1; k < t.size(); ++k) energy += (r["drive.power"].values[k] + r["drive.power"].values[k - 1]) / 2 * (t[k] - t[k - 1]);
    CHECK(day.measure("energy") == doctest::Approx(energy).epsilon(1e-3));
}

TEST_CASE("the bridge in a storm, in frost, with foam, with a worn pump: each holds its demands and shows what it is")
{
    double calm_power = calm_day().measure("energy");
    Day storm = run("storm_lift");
    CHECK(storm.summary.demands.size() == 8);
    CHECK(storm.recording["wind.present"].max() > 22);
    for (std::size_t i = 0; i < storm.recording.n_rows(); i += 50) {
        double v = storm.recording["wind.present"].values[i], q = storm.recording["leaf.angle"].values[i];
        CHECK(storm.recording["wind.force"].values[i] == doctest::Approx(1.23 / 2 * v * v * 1.3 * 70 * std::sin(q)).scale(1).epsilon(1e-6));
    }
    CHECK(storm.recording["wind.force"].max() == doctest::Approx(1.23 / 2 * 22 * 22 * 1.3 * 70).epsilon(0.6));
    Day cold = run("cold_morning");
    CHECK(cold.recording["tank.T"].first() == doctest::Approx(258.15).epsilon(1e-6));
    CHECK(cold.measure("energy") > calm_power);
    Day foam = run("aerated_oil");
    CHECK(foam.summary.convergence_failures < 300);  // of some 24,000 steps
    CHECK(foam.recording["lifting.block.void"].max() > 0.02);
    Day worn = run("worn_pump");
    CHECK(worn.measure("energy") > 1.2 * calm_power);
}

TEST_CASE("the bridge by diesel, and with a fixed pump")
{
    const Day& calm = calm_day();
    Day diesel = run("by_diesel"), fixed = run("fixed_pump");
    // the same leaf by another drive
    CHECK(diesel.measure("lift_time") == doctest::Approx(calm.measure("lift_time")).epsilon(0.02));
    // fuel: what is burnt times its heating value is the energy of the measure
    CHECK(diesel.recording["drive.fuel_burnt"].final() * 42.8e6 == doctest::Approx(diesel.measure("energy")).epsilon(1e-3));
    CHECK(diesel.measure("energy") > 2.5 * calm.measure("energy"));
    // over the relief valve: more energy, warmer oil
    CHECK(fixed.measure("energy") > 1.8 * calm.measure("energy"));
    CHECK(fixed.measure("oil_rise") > 2 * calm.measure("oil_rise"));
}

TEST_SUITE_END();

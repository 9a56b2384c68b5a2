// SPDX-License-Identifier: Apache-2.0
// The examples of heat, electrics and mechanisms against balances by hand: what goes in comes out or stays.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

struct Result {
    Recording recording;
    RunSummary summary;
    double operator()(const std::string& measure) const
    {
        for (const MeasureResult& m : summary.measures)
            if (m.name == measure) return m.value;
        return std::nan("");
    }
};

Result example(const std::string& file, const std::string& scenario, std::vector<std::pair<std::string, std::string>> set = {})
{
    Library library = Library::standard();
    library.load_file(test::source_path("examples/" + file));
    CompileRequest request;
    request.scenario = scenario;
    request.set = std::move(set);
    Run run(compile(library, request));
    Recording r = run.simulate();
    CHECK(run.summary().demands_hold());
    return {std::move(r), run.summary()};
}

double integral(const Recording& r, const std::string& name, double from, double to)
{
    const auto &t = r.time().values, &x = r[name].values;
    double sum = 0;
    for (std::size_t i = 1; i < t.size(); ++i)
        if (t[i - 1] >= from - 1e-9 && t[i] <= to + 1e-9) sum += (x[i] + x[i - 1]) / 2 * (t[i] - t[i - 1]);
    return sum;
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("two rooms: the heat of a day by U-values, ventilation and the mean temperatures")
{
    Result day = example("heat/two_rooms.loop", "winter_day");
    // in the mean of the second day heaters and people cover walls and air
    double u = 1 / (1 / 7.7 + 0.2 / 2.1 + 0.1 / 0.035 + 1 / 25.0), outside = 271.15, h = 86400;
    double warm = integral(day.recording, "day.T", h, 2 * h) / h, cool = integral(day.recording, "sleep.T", h, 2 * h) / h;
    double air = 0.5 / 3600 * 1206;
    double wanted = (u * 32 + air * 55) * (warm - outside) + (u * 24 + air * 35) * (cool - outside);
    // and what the walls have taken up meanwhile
    auto risen = [&](const std::string& mean) { return day.recording[mean].final() - day.recording[mean].at(h, day.recording.time()); };
    wanted +=
        (2400 * 1000 * 0.2 * (32 * risen("day_wall.core.mean") + 24 * risen("sleep_wall.core.mean")) + 1700 * 900 * 0.115 * 12 * risen("between.mean")) / h;
    double given = (day("energy") + 350 * 6 * 3600) / h;
    CHECK(given == doctest::Approx(wanted).epsilon(0.02));
    CHECK(day("coldest") > 273.15 + 19.4);
    CHECK(day("warmest") < 273.15 + 20.6);
    // the heater on, the room rises: the thermostat's band is what it swings by
    CHECK(day("warmest") - day("coldest") == doctest::Approx(1).epsilon(0.1));
}

TEST_CASE("the motor's cooling circuit: start-up, thermal rise and balance of heat by hand")
{
    Result run = example("heat/motor_cooling.loop", "full_load", {{"motor.iron_loss", "700 W"}});
    const Recording& r = run.recording;
    // settled: the exchanger sheds what winding and core give, and what the pump's shaft puts in, less what the room takes
    double motor = r["motor.copper_loss"].final() + r["motor.core_loss"].final();
    double pump = r["pump.shaft.torque"].final() * 1400 * std::acos(-1.0) / 30;
    double room = r["room.surface.heat"].final();
    CHECK(run("shed") == doctest::Approx(motor + pump - room).epsilon(2e-3));
    // winding over core: copper loss through the slots' insulation
    CHECK(run("winding_end") - run("core_end") == doctest::Approx(r["motor.copper_loss"].final() * 0.8e-3 / (0.06 * 0.35)).epsilon(1e-3));
    CHECK(run("core_end") - r["channel.T"].final() == doctest::Approx(motor / (300 * 0.6)).epsilon(1e-3));
    // the winding's time constant against the insulation: 14 kJ/K over 26 W/K
    double tau = 14e3 * 0.8e-3 / (0.06 * 0.35), end = run("winding_end"), begin = r["winding_temperature"].first();
    CHECK(r["winding_temperature"].at(tau, r.time()) < end - 0.2 * (end - begin));
    CHECK(r["winding_temperature"].at(6 * tau, r.time()) > end - 0.1 * (end - begin));
    // torque and slip: the load's square law meets the machine
    double n = r["motor.speed"].final() * 30 / std::acos(-1.0);
    CHECK(n > 1460);
    CHECK(r["motor.torque"].final() == doctest::Approx(190 * std::pow(n / 1475, 2)).epsilon(1e-5));
}

TEST_CASE("the battery car: charge by ampere-hours, height of the path by its slope, energy by its shares")
{
    Result trip = example("electrics/shuttle.loop", "round_trip");
    const Recording& r = trip.recording;
    CHECK(trip("charge_left") == doctest::Approx(0.7 - -integral(r, "pack.i", 0, 480) / (40 * 3600)).epsilon(1e-4));
    // there and back over the same hump: no height is kept, so all that was used has become heat, or air and tyres
    double lost = integral(r, "pack.loss", 0, 480) + integral(r, "drive.copper_loss", 0, 480) + integral(r, "drive.iron_loss", 0, 480) +
                  integral(r, "drive.inverter_loss", 0, 480);
    double driven = 0;
    const auto& t = r.time().values;
    for (std::size_t i = 1; i < t.size(); ++i) {
        auto power = [&](std::size_t k) { return (r["car.rolling_force"].values[k] + r["car.air_force"].values[k]) * r["car.speed"].values[k]; };
        driven += (power(i) + power(i - 1)) / 2 * (t[i] - t[i - 1]);
    }
    CHECK(trip("used") == doctest::Approx(lost + driven).epsilon(0.05));
    CHECK(trip("given_back") > 0.3 * 1400 * 9.80665 * 14 * 0.5);
}

TEST_CASE("the arm: its loops stay closed, and what the cylinders do is what the links get")
{
    Result stroke = example("mechanisms/arm.loop", "stroke");
    const Recording& r = stroke.recording;
    double apart = 0;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        // the end of the boom by its angle, against where the stick begins
        double q = r["boom.angle"].values[i];
        apart = std::max(apart, std::hypot(3 * std::cos(q) - r["stick.a.x"].values[i], 3 * std::sin(q) - r["stick.a.y"].values[i]));
        // the length of the first ram between its pins
        double x = 1.3 * std::cos(q) + 0.2 * std::sin(q) - 0.6, y = 1.3 * std::sin(q) - 0.2 * std::cos(q) + 0.5;
        apart = std::max(apart, std::abs(std::hypot(x, y) - 0.9 - r["lift.cylinder.x"].values[i]));
    }
    CHECK(apart < 1e-6);
    CHECK(stroke("lowest") < -1);
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// The examples of heat, electrics and mechanisms against balances by hand: what goes in comes out or stays.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

using namespace netloop;

namespace {

constexpr double kPi = 3.14159265358979323846;

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

TEST_CASE("the gangway: its loops stay closed, its flap follows the pontoon, and the rams carry the weight")
{
    Result wash = example("mechanisms/gangway.loop", "wash");
    const Recording& r = wash.recording;
    double apart = 0, farthest = 0;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        // the end of the bridge by its angle, against where the flap begins
        double a = r["bridge.angle"].values[i], b = r["flap.angle"].values[i], t = r.time().values[i];
        apart = std::max(apart, std::hypot(6.4 * std::cos(a) - r["flap.a.x"].values[i], 6.4 * std::sin(a) - r["flap.a.y"].values[i]));
        // the length of the lifting ram between its pins: foot (0.2, -1.5), lug 1.6 m along and 0.15 m below the bridge
        double x = 1.6 * std::cos(a) + 0.15 * std::sin(a) - 0.2, y = 1.6 * std::sin(a) - 0.15 * std::cos(a) + 1.5;
        apart = std::max(apart, std::abs(std::hypot(x, y) - 1.35 - r["lift.cylinder.x"].values[i]));
        // of the one that levels: horn 5.1 m along and 0.5 m above the bridge, toe 0.45 m along and 0.35 m above the flap
        double hx = 5.1 * std::cos(a) - 0.5 * std::sin(a), hy = 5.1 * std::sin(a) + 0.5 * std::cos(a);
        double tx = 6.4 * std::cos(a) + 0.45 * std::cos(b) - 0.35 * std::sin(b), ty = 6.4 * std::sin(a) + 0.45 * std::sin(b) + 0.35 * std::cos(b);
        apart = std::max(apart, std::abs(std::hypot(tx - hx, ty - hy) - 1.25 - r["level.cylinder.x"].values[i]));
        double pontoon = -1.1 + 0.22 * std::sin(2 * kPi * t / 9), end = 6.4 * std::sin(a) + 2.1 * std::sin(b);
        if (t >= 9) farthest = std::max(farthest, std::abs(end - pontoon));
    }
    CHECK(apart < 1e-6);
    CHECK(wash("farthest") == doctest::Approx(farthest).epsilon(1e-3));
    CHECK(farthest < 0.04);
    // over whole periods of the wash the lifting ram carries the weight at its lever: what accelerates cancels but for a few percent
    double carried = 0, needed = 0, area = kPi / 4 * 0.08 * 0.08, ring = area * (1 - 0.56 * 0.56);
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        if (t < 13 || t >= 40) continue;
        double a = r["bridge.angle"].values[i], b = r["flap.angle"].values[i];
        double lx = 1.6 * std::cos(a) + 0.15 * std::sin(a), ly = 1.6 * std::sin(a) - 0.15 * std::cos(a), dx = lx - 0.2, dy = ly + 1.5,
               length = std::hypot(dx, dy);
        double force = r["lift.cylinder.head_p"].values[i] * area - r["lift.cylinder.rod_side_p"].values[i] * ring - 1.013e5 * (area - ring);
        carried += force * (lx * dy - ly * dx) / length;
        needed += 9.80665 * (540 * 3.2 * std::cos(a) + 120 * (6.4 * std::cos(a) + 1.05 * std::cos(b)));
    }
    CHECK(carried == doctest::Approx(needed).epsilon(0.03));
}

TEST_SUITE_END();

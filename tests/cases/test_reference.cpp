// SPDX-License-Identifier: Apache-2.0
// Whole models against answers made by other means (hand-derived equations, two methods that agree): tests/cases/reference/.
#include <doctest/doctest.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "support/support.hpp"

using nlohmann::json;

namespace {

json load(const std::string& name)
{
    return json::parse(test::read_file(test::source_path("tests/cases/reference/" + name)));
}

// The deviation of a single value, first or last of its column, over its tolerance.
double deviation_of(const netloop::Recording& rec, const json& reference, const json& mapped)
{
    double scale = mapped.contains("scale") ? mapped["scale"].get<double>() : 1.0;
    const netloop::Column& column = rec[mapped["path"].get<std::string>()];
    double got = mapped["take"] == "first" ? column.first() : column.final();
    return std::abs(scale * got - reference["value"].get<double>()) / reference["tol_abs"].get<double>();
}

// Times at which a column jumps (between two rows of one time) up or down.
std::vector<double> jumps(const netloop::Recording& rec, const std::string& path, bool up)
{
    std::vector<double> times;
    const auto& v = rec[path].values;
    for (std::size_t i = 1; i < v.size(); ++i)
        if (rec.time().values[i] == rec.time().values[i - 1] && (up ? v[i] > v[i - 1] : v[i] < v[i - 1])) times.push_back(rec.time().values[i]);
    return times;
}

// Whether a time is left out of the comparison: a value that jumps is not told to the time of the jump.
bool left_out(const json& reference, const json& mapped, double t)
{
    if (!mapped.is_object() || !mapped.contains("exclude_near")) return false;
    for (const auto& list : mapped["exclude_near"])
        for (const auto& at : reference["scalars"][list.get<std::string>()]["value"])
            if (std::abs(at.get<double>() - t) < mapped["within"].get<double>()) return true;
    return false;
}

// `share`: of the tolerances that come with the answer.
void compare(const std::string& name, const std::vector<std::string>& scenarios, double share = 0.2)
{
    json reference = load(name + ".json"), map = load(name + ".map.json");
    for (const std::string& scenario : scenarios) {
        netloop::Library library = netloop::Library::standard();
        library.load_file(test::source_path("tests/cases/reference/" + name + ".loop"));
        netloop::Run run(netloop::compile(library, {.system = "", .scenario = scenario}));
        netloop::Recording rec = run.simulate();
        double end = rec.time().final();
        int compared = 0;
        for (const auto& [quantity, mapped] : map["runs"][scenario].items()) {
            INFO(name << " " << scenario << ": " << quantity);
            bool of_jumps = mapped.is_object() && mapped.contains("take") && (mapped["take"] == "rises" || mapped["take"] == "falls");
            if (of_jumps) {
                const json& wanted = reference["scalars"][quantity];
                std::vector<double> got = jumps(rec, mapped["path"].get<std::string>(), mapped["take"] == "rises");
                json times = wanted["value"].is_array() ? wanted["value"] : json::array({wanted["value"]});
                REQUIRE(got.size() == times.size());
                for (std::size_t i = 0; i < got.size(); ++i) CHECK(std::abs(got[i] - times[i].get<double>()) <= share * wanted["tol_abs"].get<double>());
                compared += static_cast<int>(got.size());
                continue;
            }
            if (reference["scalars"].contains(quantity)) {
                double worst = deviation_of(rec, reference["scalars"][quantity], mapped);
                CHECK(worst <= share);
                ++compared;
            }
            if (!reference["trajectories"].contains(quantity)) continue;
            const json& trajectory = reference["trajectories"][quantity];
            double scale = mapped.is_object() && mapped.contains("scale") ? mapped["scale"].get<double>() : 1.0;
            const netloop::Column& column = rec[mapped.is_object() ? mapped["path"].get<std::string>() : mapped.get<std::string>()];
            for (std::size_t i = 0; i < reference["times"].size(); ++i) {
                double t = reference["times"][i].get<double>();
                if (t > end * (1 + 1e-12) || left_out(reference, mapped, t)) continue;
                // only rows that were really recorded at this time
                double best = HUGE_VAL;
                for (std::size_t r = 0; r < rec.n_rows(); ++r)
                    if (std::abs(rec.time().values[r] - t) < 1e-9 * std::max(1.0, end))
                        best = std::min(best, std::abs(scale * column.values[r] - trajectory["values"][i].get<double>()));
                if (best == HUGE_VAL) continue;
                ++compared;
                CHECK(best <= share * trajectory["tol_abs"].get<double>());
            }
        }
        CHECK(compared > 0);
    }
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("counterflow heat exchanger as arrays")
{
    compare("counterflow_heat_exchanger", {"warm_up", "settled"});
}
TEST_CASE("dc motor with warm winding: three domains, rigid gear, milliseconds and hours")
{
    compare("dc_motor_thermal", {"start_up", "warm_up", "settled"});
}
TEST_CASE("servo cylinder on a proportional valve")
{
    compare("hydraulic_cylinder", {"stroke"});
}
TEST_CASE("planetary gear: three speeds of which two are independent")
{
    compare("planetary_gear", {"run_up"});
}
TEST_CASE("a sampled PI controller with hold on a lag")
{
    compare("sampled_controller", {"step"});
}
TEST_CASE("stick and slip on a moving belt")
{
    compare("stick_slip", {"stribeck", "coulomb"});
}

TEST_CASE("an accumulator discharges: a start that is singular where the search for a flow begins at 0")
{
    compare("accumulator_discharge", {"discharge", "vacuum"});
}
TEST_CASE("a converter whose diode and switch turn in one instant")
{
    compare("dc_dc_buck", {"synchronous", "diode"});
}
TEST_CASE("a bridge of four exponential diodes")
{
    compare("diode_bridge", {"five_periods"});
}
TEST_CASE("a four-bar linkage in x and y, with the forces in its pins")
{
    compare("four_bar_linkage", {"release"}, 0.6);
}
TEST_CASE("what is given and what is asked exchanged: a valve from its flow")
{
    compare("inverse_problem", {"a", "b", "c", "d"});
}
TEST_CASE("a pendulum in x and y that swings, and one that goes round")
{
    compare("pendulum_cartesian", {"swing", "rotate"});
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Shipped examples as units, used in a model again: their values are those of the direct run.
#include <doctest/doctest.h>

#include "foreign/unit_archive.hpp"
#include "foreign/unit_calls.hpp"
#include "foreign/units.hpp"

namespace nl = netloop;
namespace fs = std::filesystem;

TEST_SUITE_BEGIN("foreign");

namespace {

// "leaf.angle" is called leaf_angle where it comes in.
std::string known_as(const std::string& path)
{
    std::string name;
    for (char c : path) {
        bool plain = std::isalnum(static_cast<unsigned char>(c)) != 0;
        if (plain || (!name.empty() && name.back() != '_')) name += plain ? c : '_';
    }
    while (!name.empty() && name.back() == '_') name.pop_back();
    return name;
}

nl::RunOptions until(double stop, double tolerance)
{
    nl::RunOptions o;
    o.stop = stop;
    o.tolerance = tolerance;
    return o;
}

double largest(const nl::Column& c)
{
    double most = 0;
    for (double v : c.values) most = std::max(most, std::abs(v));
    return most;
}

struct Direct {
    nl::CompiledSystem system;
    nl::Recording recording;
    std::vector<std::string> outputs;

    Direct(const std::string& file, const std::string& scenario, double stop) : system(compiled(file, scenario))
    {
        nl::Run run(system);
        recording = run.simulate(until(stop, 1e-8));
        // a handful of what moves, over the whole list
        std::vector<std::string> moving;
        for (const nl::Column& c : recording.columns) {
            if (c.name == "time" || c.name.find('\'') != std::string::npos || c.name.find("._") != std::string::npos) continue;
            auto [low, high] = std::minmax_element(c.values.begin(), c.values.end());
            if (*high - *low > 1e-3 * std::max(std::abs(*high), std::abs(*low))) moving.push_back(c.name);
        }
        std::set<std::string> names;
        for (std::size_t k = 0; k < moving.size(); k += std::max<std::size_t>(1, moving.size() / 5))
            if (names.insert(known_as(moving[k])).second) outputs.push_back(moving[k]);
    }
    static nl::CompiledSystem compiled(const std::string& file, const std::string& scenario)
    {
        nl::Library library = nl::Library::standard();
        library.load_file(file);
        return nl::compile(library, {.scenario = scenario});
    }
};

nl::CompiledSystem with_unit(const std::string& folder, const std::string& kind, const std::string& values = "")
{
    test::write_file(folder + "/wrapped.loop", "use \"unit.fmu\" as Unit\nsystem Wrapped { part u : " + kind + values + " }\n");
    nl::Library library = nl::Library::standard();
    library.load_file(folder + "/wrapped.loop");
    return nl::compile(library);
}

}  // namespace

TEST_CASE("round trips of shipped examples by model exchange")
{
    // what cannot be exported says so elsewhere: systems whose equations change in kind
    std::size_t n = 0;
    std::string refused;
    for (const test::Shipped& model : test::shipped_models()) {
        constexpr double kStop = 1;
        constexpr std::size_t kEnough = 12;
        if (n >= kEnough) break;
        if (model.file.find("whole") != std::string::npos || model.file.find("crane") != std::string::npos) continue;  // their C takes long to compile
        test::Scratch scratch;
        try {
            Direct direct(model.file, model.scenario, kStop);
            if (direct.outputs.empty()) continue;
            nl::ExportFmuReport report =
                nl::export_fmu(direct.system, {.outputs = direct.outputs, .file = scratch / "unit.fmu", .version = n % 2 == 0 ? 2 : 3});  // one after the other
            if (!report.model_exchange) continue;
            CAPTURE(model.file);
            CAPTURE(model.scenario);
            nl::Run run(with_unit(scratch.path(), "Unit"));
            nl::RunOptions o = until(kStop, 1e-8);
            o.verify = true;
            const nl::Recording& r = run.simulate(o);
            CHECK(run.summary().verification.holds);
            for (const std::string& w : run.summary().warnings) CHECK_MESSAGE(w.find("derivatives") == std::string::npos, w);
            for (const std::string& name : direct.outputs) {
                const nl::Column* there = r.find("u." + known_as(name));
                REQUIRE_MESSAGE(there != nullptr, name);
                const nl::Column* here = direct.recording.find(name);
                CHECK_MESSAGE(std::abs(there->values.back() - here->values.back()) <= 1e-4 * largest(*here) + 1e-12, name);
            }
            ++n;
        } catch (const nl::RunError& error) {
            // a unit keeps the choice of states that the start had: a pendulum that goes over leaves it, told by the unit, or by whoever integrates it up to
            // where x is as long as the rod and y turns without end
            const std::string why = error.what();
            bool horizontal = why.find("however small the step") != std::string::npos && why.find("'u.pendulum_x' = 1 m") != std::string::npos;
            if (why.find("fixed steps") == std::string::npos && why.find("could not be solved from the states") == std::string::npos && !horizontal) {
                CHECK_MESSAGE(false, (model.file + " " + model.scenario + ": " + error.what()));
            }
            refused += model.file + " ";
        }
    }
    CHECK_MESSAGE(n >= 10, std::string("refused: " + refused));
}

TEST_CASE("what an exported unit cannot solve at a point is no failure: elsewhere it goes on")
{
    for (int version : {2, 3}) {
        test::Scratch scratch;
        // y + y^2 = x has no solution below x = -1/4
        nl::CompiledSystem system = test::compile("system S { var x init 2 ; var y guess 1 ; 1 s * x' = -y ; y + y^2 = x }\n");
        nl::ExportFmuRequest request;
        request.outputs = {"y"};
        request.file = scratch / "unit.fmu";
        request.version = version;
        nl::export_fmu(system, request);
        nl::UnitFolder folder(scratch / "unit.fmu");
        nl::ForeignDescription d = nl::read_foreign_description(folder.description());
        auto unit = nl::make_unit_calls(d, folder.path(), nl::UnitKind::exchange, "one");
        unit->enter_initialization(0, 0);
        unit->exit_initialization();
        while (unit->new_discrete_states().again) continue;
        unit->enter_continuous();
        auto rate_at = [&](double x) {
            double rate = 0;
            unit->set_states(&x, 1);
            unit->get_rates(&rate, 1);
            return rate;
        };
        CHECK(rate_at(2) == doctest::Approx(-1).epsilon(1e-9));
        CHECK_THROWS_AS((void)rate_at(-3), nl::UnitDiscards);
        CHECK(rate_at(6) == doctest::Approx(-2).epsilon(1e-9));
    }
}

TEST_CASE("co-simulation of a shipped example comes nearer as its steps become shorter")
{
    constexpr double kStop = 4;
    Direct direct(test::source_path("examples/bascule/bridge.loop"), "", kStop);
    const std::vector<std::string> outputs{"leaf.angle", "motor.speed"};
    double before = 0;
    for (double step : {4e-3, 1e-3}) {
        test::Scratch scratch;
        nl::ExportFmuRequest request{.outputs = outputs, .file = scratch / "unit.fmu"};
        request.options.step = step;
        nl::export_fmu(direct.system, request);
        nl::Run run(with_unit(scratch.path(), "SampledUnit"));
        const nl::Recording& r = run.simulate(until(kStop, 1e-8));
        double off = std::abs(r.find("u.leaf_angle")->values.back() - direct.recording.find("leaf.angle")->values.back());
        CHECK(off < 1e-3);
        // of order 1: a quarter of the step, a quarter of the error, about
        if (before > 0) {
            CHECK(off < before / 2.5);
            CHECK(off > before / 6);
        }
        before = off;
    }
}

TEST_SUITE_END();

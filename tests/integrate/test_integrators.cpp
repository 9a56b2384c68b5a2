// SPDX-License-Identifier: Apache-2.0
// Our own integrator against exact solutions, and against SUNDIALS IDA on everything that is shipped.
#include <doctest/doctest.h>

#include <cmath>
#include <filesystem>
#include <map>
#include <numbers>
#include <optional>

#include "api/internal.hpp"
#include "integrate/simulate.hpp"
#include "support/support.hpp"

using netloop::Recording;

namespace {

Recording run(const netloop::CompiledSystem& system, const std::string& integrator, double tolerance, double stop, std::size_t* steps = nullptr)
{
    netloop::Run r(system);
    netloop::RunOptions options;
    options.stop = stop;
    options.output_every = stop / 200;
    options.tolerance = tolerance;
    options.integrator = integrator;
    Recording rec = r.simulate(options);
    if (integrator != "auto") CHECK(r.summary().integrator == integrator);
    if (steps != nullptr) *steps = r.summary().steps;
    return rec;
}

// The largest difference of two recordings at the end, each quantity by its size over the run.
std::pair<double, std::string> difference(const Recording& a, const Recording& b)
{
    std::pair<double, std::string> worst{0, ""};
    for (std::size_t c = 1; c < a.columns.size(); ++c) {
        const netloop::Column &x = a.columns[c], &y = b[x.name];
        constexpr double kRounding = 1e-9;  // a large torque times a slip of 1e-18: nothing but rounding in both runs
        double size = std::max({std::abs(x.max()), std::abs(x.min()), std::abs(y.max()), std::abs(y.min())});
        if (size < kRounding) continue;
        double d = std::abs(x.final() - y.final()) / size;
        if (d > worst.first) worst = {d, x.name};
    }
    return worst;
}

}  // namespace

TEST_SUITE_BEGIN("integrate");

TEST_CASE("every shipped model: our integrators, IDA and CVODE agree")
{
    struct Shipped {
        std::string file, scenario;
        double stop;
    };
    std::vector<Shipped> list{{"examples/bascule/bridge.loop", "", 30},
                              {"examples/bascule/operation.loop", "opening", 12},
                              {"examples/first/culvert_valve.loop", "lagged", 36000},
                              {"examples/mechanisms/pendulum.loop", "", 2},
                              {"examples/mechanisms/slider_crank.loop", "", 0.5},
                              {"examples/mechanisms/four_bar.loop", "", 0.5},
                              {"tests/cases/reference/dc_motor_thermal.loop", "start_up", 0.3},
                              {"tests/cases/reference/dc_motor_thermal.loop", "warm_up", 600},
                              {"tests/cases/reference/hydraulic_cylinder.loop", "stroke", 1},
                              {"tests/cases/reference/planetary_gear.loop", "run_up", 1},
                              {"tests/cases/reference/counterflow_heat_exchanger.loop", "warm_up", 60}};
    for (const test::Shipped& model : test::shipped_models())
        if (std::size_t at = model.file.find("examples/first/"); at != std::string::npos)
            list.push_back({model.file.substr(at), model.scenario, model.file.ends_with("lamp.loop") ? 0.05 : 1.0});
    CHECK(list.size() >= 16);
    std::map<std::string, std::size_t> compared;
    for (const Shipped& s : list) {
        CAPTURE(s.file);
        CAPTURE(s.scenario);
        netloop::Library library = netloop::Library::standard();
        library.load_file(test::source_path(s.file));
        netloop::CompiledSystem system = netloop::compile(library, {.system = "", .scenario = s.scenario});
        Recording oracle = run(system, "ida", 1e-9, s.stop);
        for (const std::string method : {"bdf", "auto", "sdirk", "adams", "cvode"}) {
            CAPTURE(method);
            // stiff: an explicit method would take millions of steps
            if (method == "adams" &&
                (s.file.find("dc_motor") != std::string::npos || s.file.find("exchanger") != std::string::npos || s.file.find("lamp") != std::string::npos))
                continue;
            try {
                auto [worst, name] = difference(run(system, method, 1e-9, s.stop), oracle);
                CAPTURE(name);
                CHECK(worst < 2e-5);
                ++compared[method];
            } catch (const netloop::RunError& e) {
                // what a method is not made for is refused before the first step
                std::string text = e.what();
                CHECK((text.find("the Adams methods need") != std::string::npos || text.find("cvode needs") != std::string::npos));
            }
        }
    }
    CHECK(compared["bdf"] == list.size());
    CHECK(compared["auto"] == list.size());
    CHECK(compared["sdirk"] == list.size());
    CHECK(compared["adams"] >= 6);
    CHECK(compared["cvode"] >= 9);
}

TEST_CASE("the error follows the tolerance: a stiff problem with a known solution")
{
    // Prothero and Robinson (1974): y' = -1000 (y - cos t) - sin t, y = cos t; and an oscillation beside it
    netloop::CompiledSystem system = test::compile(
        "system S { var y init 1 ; y' = -1000 s^-1 * (y - cos(time / 1 s)) - sin(time / 1 s) * 1 s^-1\n"
        "var u init 1 ; var v init 0 ; u' = v * 1 s^-1 ; v' = -u * 1 s^-1 }");
    for (const std::string method : {"bdf", "sdirk", "auto", "cvode"}) {
        CAPTURE(method);
        double before = 1;
        for (double tolerance : {1e-3, 1e-5, 1e-7, 1e-9}) {
            CAPTURE(tolerance);
            std::size_t steps = 0;
            Recording r = run(system, method, tolerance, 10, &steps);
            double error = 0;
            for (std::size_t i = 0; i < r.n_rows(); ++i) {
                double t = r.time().values[i];
                error = std::max({error, std::abs(r["y"].values[i] - std::cos(t)), std::abs(r["u"].values[i] - std::cos(t))});
            }
            CHECK(error < (method == "cvode" ? 1000 : 200) * tolerance);  // the oracle's norm is the mean over everything
            CHECK(error < 0.5 * before);
            CHECK(steps < 4000);
            before = error;
        }
    }
    std::size_t steps = 0;
    run(system, "adams", 1e-5, 10, &steps);
    CHECK(steps > 4000);  // it is stiff, and the explicit method pays for it
}

TEST_CASE("the error of one part is not diluted by the calm of many others")
{
    auto model = [](int calm) {
        return test::compile(
            "component Swing { var u init 1 ; var v init 0 ; u' = 20*v * 1 s^-1 ; v' = -20*u * 1 s^-1 }\n"
            "component Calm { var x init 1 ; x' = -0.001 s^-1 * x }\n"
            "system S { part swing : Swing ; part calm[" +
            std::to_string(calm) + "] : Calm }");
    };
    auto error = [&](int calm) {
        Recording r = run(model(calm), "bdf", 1e-6, 4);
        double worst = 0;
        for (std::size_t i = 0; i < r.n_rows(); ++i) worst = std::max(worst, std::abs(r["swing.u"].values[i] - std::cos(20 * r.time().values[i])));
        return worst;
    };
    double alone = error(1), crowded = error(1000);
    CHECK(crowded < 1.5 * alone);
}

TEST_CASE("roots: each crossing is found once, several in one step in their order, and those of time alone too")
{
    // without events the steps would be far larger than the distance of the crossings
    netloop::CompiledSystem system = test::compile(
        "system S { var x init 0 ; x' = 1 s^-1 ; var n init 0\n"
        "n' = (if x > 0.300 then 1 else 0) * 1 s^-1 + (if x > 0.301 then 2 else 0) * 1 s^-1 + (if time > 0.7 s then 4 else 0) * 1 s^-1 }");
    Recording r = run(system, "bdf", 1e-8, 1);
    CHECK(r["n"].final() == doctest::Approx(0.7 + 2 * 0.699 + 4 * 0.3).epsilon(1e-9));
    int pairs = 0;
    for (std::size_t i = 1; i < r.n_rows(); ++i) pairs += r.time().values[i] == r.time().values[i - 1];
    CHECK(pairs == 3);
    Recording timed = run(test::compile("system S { let y = if time > 0.25 s and time < 0.5 s then 1 else 0 }"), "bdf", 1e-6, 1);
    pairs = 0;
    for (std::size_t i = 1; i < timed.n_rows(); ++i) pairs += timed.time().values[i] == timed.time().values[i - 1];
    CHECK(pairs >= 2);
}

TEST_CASE("variable steps: with the order held, the error falls as the steps to the power of that order")
{
    // u'' = -u for one turn; errors at the end against steps made, between two tight tolerances
    netloop::CompiledSystem system = test::compile("system S { var u init 1 ; var v init 0 ; u' = v * 1 s^-1 ; v' = -u * 1 s^-1 }");
    using Method = netloop::IntegratorSettings::Method;
    auto end = [&](Method method, int order, double tolerance) {
        netloop::IntegratorSettings settings;
        settings.method = method;
        settings.most_order = order;
        settings.tolerance = tolerance;
        netloop::Simulation s(system.data().model, system.data().sources, settings);
        s.evaluation().settle_parameters();
        s.start(0);
        s.advance(2 * std::numbers::pi, {}, {});
        double error = std::hypot(s.state().z[0] - 1, s.state().z[1]);
        return std::pair{static_cast<double>(s.statistics().counts.steps), error};
    };
    struct Case {
        Method method;
        int order;
        double expected, loose, tight;
    };
    // Adams corrects its prediction of order k by a formula of order k + 1, which goes on
    for (Case c : {Case{Method::bdf, 1, 1, 1e-4, 1e-6},
                   {Method::bdf, 2, 2, 1e-6, 1e-8},
                   {Method::bdf, 3, 3, 1e-7, 1e-9},
                   {Method::bdf, 4, 4, 1e-8, 1e-10},
                   {Method::bdf, 5, 5, 1e-8, 1e-10},
                   {Method::adams, 1, 2, 1e-5, 1e-7},
                   {Method::adams, 2, 3, 1e-6, 1e-8},
                   {Method::adams, 3, 4, 1e-7, 1e-9},
                   {Method::adams, 4, 5, 1e-8, 1e-10},
                   {Method::sdirk, 4, 4, 1e-7, 1e-10}}) {
        CAPTURE(static_cast<int>(c.method));
        CAPTURE(c.order);
        auto [few, coarse] = end(c.method, c.order, c.loose);
        auto [many, fine] = end(c.method, c.order, c.tight);
        CAPTURE(few);
        CAPTURE(many);
        CHECK(std::log(coarse / fine) / std::log(many / few) == doctest::Approx(c.expected).epsilon(0.12));
    }
}

TEST_CASE("the choice of the method follows the system, and is told with its reason")
{
    auto story = [](const std::string& text, double stop) {
        netloop::Run r(test::compile(text));
        netloop::RunOptions options;
        options.stop = stop;
        r.simulate(options);
        return r.summary().integrator;
    };
    CHECK(story("system S { var u init 1 ; var v init 0 ; u' = v * 1 s^-1 ; v' = -u * 1 s^-1 }", 10) == "adams");
    std::string stiff = story("system S { var y init 0 ; y' = -1e4 s^-1 * (y - cos(time / 1 s)) }", 10);
    CHECK(stiff.starts_with("adams, from 0.0"));
    CHECK(stiff.ends_with("bdf (stiff)"));
    CHECK(story("system S { var y init 1 ; var w ; y' = -w * 1 s^-1 ; w^3 + w = y }", 1) == "bdf (equations are solved in each step)");
    // a lag switched every three milliseconds or less: no history survives that long. Twenty times a second, a trial finds it before the events are counted
    auto lag = [](int rate) {
        return "system S { var y init 0 ; var w ; y' = (if sin(" + std::to_string(rate) +
               " * time / 1 s) > 0 then 1 else -1) * 1 s^-1 - y * 1 s^-1 ; w^3 + w = y }";
    };
    CHECK(story(lag(2000), 3).find("sdirk (an event every") != std::string::npos);
    std::string often = story(lag(62), 10);
    CHECK(often.ends_with("sdirk (faster by trial)"));
}

TEST_CASE("fixed steps converge with the order of their method")
{
    // u'' = -u with a constraint that follows it, and a driven first-order lag
    netloop::CompiledSystem system = test::compile(
        "system S { var u init 1 ; var v init 0 ; var w ; u' = v * 1 s^-1 ; v' = -u * 1 s^-1 ; w^3 + w = u\n"
        "var y init 0 ; y' = (sin(time / 1 s) - y) * 1 s^-1 }");
    auto error = [&](const std::string& method, double step) {
        netloop::Run r(system);
        netloop::RunOptions options;
        options.stop = 2;
        options.output_every = 0.5;
        options.integrator = method;
        options.step = step;
        Recording rec = r.simulate(options);
        double worst = 0;
        for (std::size_t i = 0; i < rec.n_rows(); ++i) {
            double t = rec.time().values[i], w = rec["w"].values[i];
            CHECK(w * w * w + w == doctest::Approx(rec["u"].values[i]).epsilon(1e-8));
            worst =
                std::max({worst, std::abs(rec["u"].values[i] - std::cos(t)), std::abs(rec["y"].values[i] - 0.5 * (std::exp(-t) + std::sin(t) - std::cos(t)))});
        }
        CHECK(r.summary().steps == static_cast<std::size_t>(std::lround(2 / step)));
        return worst;
    };
    for (const auto& [method, order] : {std::pair{"euler", 1.0}, {"implicit-euler", 1.0}, {"rk4", 4.0}}) {
        CAPTURE(method);
        double coarse = error(method, 0.02), fine = error(method, 0.01);
        CHECK(std::log2(coarse / fine) == doctest::Approx(order).epsilon(0.06));
    }
}

TEST_CASE("the linearly implicit step holds a stiff system at steps where the explicit one fails, and says so")
{
    netloop::CompiledSystem system = test::compile("system S { var y init 0 ; y' = -1e4 s^-1 * (y - cos(time / 1 s)) }");
    netloop::RunOptions options;
    options.stop = 1;
    options.output_every = 0.1;
    options.step = 0.01;
    options.integrator = "implicit-euler";
    netloop::Run stiff(system);
    Recording r = stiff.simulate(options);
    CHECK(r["y"].final() == doctest::Approx(std::cos(1.0)).epsilon(1e-3));
    options.integrator = "euler";
    options.stop = 30;
    netloop::Run explicit_run(system);
    CHECK_THROWS_WITH_AS(explicit_run.simulate(options), doctest::Contains("after a step of 0.01 s"), netloop::RunError);
}

TEST_CASE("fixed steps stop at events and at knots of tables of time")
{
    netloop::CompiledSystem system = test::compile(
        "table push(t : s) -> 1 { 0: 0, 0.335: 0, 0.336: 1, 2: 1 } linear, hold\n"
        "system S { var x init 0 ; x' = push(time) * 1 s^-1 ; var n init 0 ; n' = if x > 0.25 then 1 s^-1 else 0 }");
    for (const char* method : {"rk4", "euler", "implicit-euler"}) {
        CAPTURE(method);
        netloop::Run run(system);
        netloop::RunOptions options;
        options.stop = 1;
        options.integrator = method;
        options.step = 0.01;
        Recording r = run.simulate(options);
        CHECK(r["x"].final() == doctest::Approx(1 - 0.3355).epsilon(1e-3));
        CHECK(r["n"].final() == doctest::Approx(1 - 0.5855).epsilon(3e-3));
        CHECK(run.summary().events == 1);
    }
}

TEST_CASE("a step length belongs to the fixed-step methods")
{
    netloop::CompiledSystem system = test::compile("system S { var x init 1 ; x' = -x * 1 s^-1 }");
    auto with = [&](const std::string& method, std::optional<double> step) {
        netloop::Run r(system);
        netloop::RunOptions options;
        options.stop = 1;
        options.integrator = method;
        options.step = step;
        r.simulate(options);
    };
    CHECK_THROWS_AS(with("rk4", std::nullopt), netloop::UsageError);
    CHECK_THROWS_AS(with("rk4", -1.0), netloop::UsageError);
    CHECK_THROWS_AS(with("bdf", 0.1), netloop::UsageError);
    CHECK_NOTHROW(with("rk4", 0.1));
}

TEST_CASE("an unknown integrator is refused by name")
{
    netloop::Run r(test::compile("system S { var x init 1 ; x' = -x * 1 s^-1 }"));
    netloop::RunOptions options;
    options.stop = 1;
    options.integrator = "magic";
    CHECK_THROWS_WITH_AS(r.simulate(options), doctest::Contains("there are: auto, bdf, adams, sdirk, ida, cvode (variable step)"), netloop::UsageError);
}

TEST_CASE("a fixed step looks at what it leaves over: it is divided at corners, told, and keeps mass; what no step settles is refused")
{
    const std::string feed =
        "use hydraulics, fluids\nsystem S {\n fluid oil = MineralOil()\n part pump : FlowSource ; part line : Volume(volume = 20 mL) ; part guard : "
        "CheckValve(cracking = 5 bar, rise = "
        "0.5 bar)\n part room : Volume(volume = 5 mL) ; part way : Orifice(diameter = 2.5 mm) ; part tank : Tank(oil = oil)\n pump.outlet -- line.a -- "
        "guard.inlet ; guard.outlet "
        "-- room.a ; room.b -- way.inlet ; way.outlet -- tank.outlet\n 30 L/min * (if mod(time, 0.1 s) < 0.06 s then 1 else 0.05) -> pump.flow\n "
        "var fed : kg init 0 kg ; "
        "fed' = -pump.outlet.m\n var passed : kg init 0 kg ; passed' = way.inlet.m\n init line.p = 20 bar ; init room.p = 20 bar\n let held : kg = "
        "line.content.mass + "
        "room.content.mass\n}\n";
    netloop::Library library = netloop::Library::standard();
    library.load_text("feed.loop", feed);
    netloop::CompiledSystem system = netloop::compile(library, {});
    netloop::Run fixed(system), free(system);
    netloop::RunOptions by_step;
    by_step.stop = 0.5;
    by_step.integrator = "implicit-euler";
    by_step.step = 0.2e-3;
    netloop::Recording a = fixed.simulate(by_step), b = free.simulate({.stop = 0.5, .tolerance = 1e-8});
    CHECK(fixed.summary().integrator.find("did not settle as a whole and were divided") != std::string::npos);
    // mass: what was fed is held or has passed
    for (const netloop::Recording* r : {&a, &b}) {
        double held = (*r)["held"].final() - (*r)["held"].first();
        CHECK((*r)["fed"].final() == doctest::Approx(held + (*r)["passed"].final()).epsilon(1e-4));
    }
    CHECK(a["passed"].final() == doctest::Approx(b["passed"].final()).epsilon(0.01));

    // an equation that has no solution behind 0.5 s
    netloop::Library other = netloop::Library::standard();
    other.load_text("none.loop",
                    "system N {\n var x : 1 init 0\n var y : 1 guess 1\n x' = y / (1 s)\n y^2 = max(1 - 2 * time / (1 s), 0) - x * 0 - (if time > 0.6 s then 1 "
                    "else 0)\n}\n");
    by_step.step = 1e-3;
    by_step.stop = 1;
    CHECK_THROWS_AS(netloop::Run(netloop::compile(other, {})).simulate(by_step), netloop::RunError);
}

TEST_CASE("rows and measures only look: a run is the same, bit for bit, however many there are")
{
    struct Case {
        std::string file, scenario, quantity;
        double stop;
    };
    for (const Case& c :
         {Case{"examples/crane/crane.loop", "calm", "crane.power.line1.p", 11.1}, {"examples/bascule/operation.loop", "opening", "leaf.angle", 12.0}}) {
        CAPTURE(c.file);
        std::optional<std::size_t> steps;
        double end = 0;
        for (double every : {c.stop, 0.05, 0.007}) {
            CAPTURE(every);
            netloop::Library library = netloop::Library::standard();
            library.load_file(test::source_path(c.file));
            netloop::Run run(netloop::compile(library, {.system = "", .scenario = c.scenario}));
            netloop::RunOptions options;
            options.stop = c.stop;
            options.output_every = every;
            options.integrator = "bdf";
            options.tolerance = 1e-4;
            options.keep = {c.quantity};
            Recording r = run.simulate(options);
            if (!steps) steps = run.summary().steps, end = r[c.quantity].final();
            CHECK(run.summary().steps == *steps);
            CHECK(r[c.quantity].final() == end);
        }
    }
}

TEST_CASE("without states and without conditions to be searched a run goes from moment to moment")
{
    const std::string ticks = "system S { memory k : 1 = 0 ; every 10 ms { k := k + 1 } ; let y = 2 * k";
    auto steps_of = [&](const std::string& text, double* y) {
        netloop::Run r(test::compile(text + " }"));
        netloop::RunOptions options;
        options.stop = 1;
        const Recording& rec = r.simulate(options);
        *y = rec["y"].values.back();
        return r.summary().steps;
    };
    double y = 0;
    CHECK(steps_of(ticks, &y) == 100);
    CHECK(y == 202);
    // one that has to be searched, since nothing is known of it beforehand: above 0.99 for 14 ms at a time
    const std::string wave = "function wave(t) -> 1 { let n = 0 ; while n < 3 { n := n + 1 } ; return sin(20 * t) * n / 3 }\n";
    CHECK(steps_of(wave + "system S { memory y : 1 = 0 ; when wave(time / (1 s)) > 0.99 { y := y + 1 }", &y) >= 100);
    CHECK(y == 3);
}

TEST_SUITE_END();

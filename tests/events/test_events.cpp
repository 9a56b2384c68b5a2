// SPDX-License-Identifier: Apache-2.0
// What happens at moments: order, memories, clocks, delays, sequences, alerts. The expected values are worked out by hand.
#include <doctest/doctest.h>

#include <algorithm>

#include <cmath>
#include <map>
#include <numbers>
#include <thread>

#include "support/support.hpp"

using netloop::Recording;

namespace {

// The value of a column just before or behind a time at which something happened.
double before(const Recording& r, const std::string& name, double t)
{
    const auto& times = r.time().values;
    for (std::size_t i = 0; i + 1 < times.size(); ++i)
        if (std::abs(times[i] - t) < 1e-9 && std::abs(times[i + 1] - t) < 1e-9) return r[name].values[i];
    FAIL("nothing happened at " << t);
    return 0;
}
double behind(const Recording& r, const std::string& name, double t)
{
    const auto& times = r.time().values;
    for (std::size_t i = times.size(); i-- > 0;)
        if (std::abs(times[i] - t) < 1e-9) return r[name].values[i];
    FAIL("no row at " << t);
    return 0;
}

struct Ran {
    Recording recording;
    netloop::RunSummary summary;
};
Ran run(const std::string& text, double stop, double tolerance = 1e-9, double every = 0)
{
    netloop::Run r(test::compile(text));
    netloop::RunOptions options;
    options.stop = stop;
    options.tolerance = tolerance;
    if (every > 0) options.output_every = every;
    Recording recording = r.simulate(options);
    return {recording, r.summary()};
}

}  // namespace

TEST_SUITE_BEGIN("events");

TEST_CASE("blocks of several rates run in the order of the data, each seeing what those before it have set")
{
    // c reads a and b, b reads a: whatever the order of the text
    Recording r = run("system S { memory a = 0 ; memory b = 0 ; memory c = 0 ; var x init 0 ; x' = 1 s^-1\n"
                      "every 30 ms { c := b + a }\n every 15 ms { b := 10 * a }\n every 10 ms { a := a + 1 } }",
                      0.1)
                      .recording;
    CHECK(behind(r, "a", 0) == 1);
    CHECK(behind(r, "b", 0) == 10);
    CHECK(behind(r, "c", 0) == 11);
    CHECK(before(r, "a", 0.03) == 3);
    CHECK(behind(r, "a", 0.03) == 4);
    CHECK(behind(r, "b", 0.03) == 40);
    CHECK(behind(r, "c", 0.03) == 44);
    CHECK(r["a"].final() == 11);  // at 0, 10, ... 100 ms
    CHECK(r["b"].final() == 100);
}

TEST_CASE("offsets: every T from t0 fires at t0, t0 + T, ... to the last bit")
{
    Ran r = run("system S { memory n = 0 ; var x init 0 ; x' = 1 s^-1 ; every 0.1 s from 0.25 s { n := n + 1 } }", 1);
    REQUIRE(r.summary.event_record.kinds.size() == 1);
    const netloop::EventEntry& e = r.summary.event_record.kinds[0];
    CHECK(e.text == "every 0.1 s");
    REQUIRE(e.times.size() == 8);
    for (std::size_t k = 0; k < 8; ++k) CHECK(e.times[k] == 0.25 + static_cast<double>(k) * 0.1);
    CHECK(r.recording["n"].final() == 8);
}

TEST_CASE("previous() is the value before the event, within a block statements run in order")
{
    Recording r = run("system S { memory a = 1 ; memory b = 2 ; memory old = 0 ; var x init 0 ; x' = 1 s^-1\n"
                      "every 1 s from 1 s { a := a + b ; b := a ; old := previous(a) ; let both = a + b ; if both > 7 { b := 0 } } }",
                      2)
                      .recording;
    CHECK(behind(r, "a", 1) == 3);
    CHECK(behind(r, "b", 1) == 3);
    CHECK(behind(r, "old", 1) == 1);
    CHECK(behind(r, "a", 2) == 6);
    CHECK(behind(r, "b", 2) == 0);
    CHECK(behind(r, "old", 2) == 3);
}

TEST_CASE("when start, starts of memories that depend on the solution, and a when that is true at the start")
{
    Recording r = run("system S { param p0 = 3 ; memory kept = 2 * x ; memory n = 0 ; memory began = 0 ; var x init p0 ; x' = -kept * 0.1 s^-1\n"
                      "when start { began := kept + 1 } ; when x > 1 { n := n + 1 } }",
                      1)
                      .recording;
    CHECK(r["kept"].final() == 6);
    CHECK(r["began"].final() == 7);
    CHECK(r["n"].final() == 0);  // not for being true at the start
    CHECK(r["x"].final() == doctest::Approx(3 - 0.6).epsilon(1e-9));
}

TEST_CASE("states are set, of index-reduced systems too; what is not named keeps its value")
{
    SUBCASE("a state")
    {
        Recording r = run("system S { var x init 0 ; var y init 1 ; x' = 1 s^-1 ; y' = -y / (1 s) ; when x >= 0.5 { x := 0 } }", 1.2).recording;
        CHECK(r["x"].final() == doctest::Approx(0.2).epsilon(1e-9));
        CHECK(r["y"].final() == doctest::Approx(std::exp(-1.2)).epsilon(1e-8));
    }
    SUBCASE("the far side of a gear: both masses jump, angles stay")
    {
        Recording r = run("use mechanics\n system S { part a : Inertia(inertia = 2 kg*m^2) ; part g : Gear(ratio = 4) ; part b : Inertia(inertia = 1 kg*m^2)\n"
                          "a.shaft -- g.a ; g.b -- b.shaft ; init a.angle = 0 ; init a.speed = 8 rad/s\n"
                          "when time >= 1 s { b.speed := 5 rad/s } }",
                          2)
                          .recording;
        CHECK(before(r, "b.speed", 1) == doctest::Approx(2));
        CHECK(behind(r, "b.speed", 1) == doctest::Approx(5).epsilon(1e-9));
        CHECK(behind(r, "a.speed", 1) == doctest::Approx(20).epsilon(1e-9));
        CHECK(behind(r, "a.angle", 1) == doctest::Approx(8).epsilon(1e-9));
        CHECK(r["a.angle"].final() == doctest::Approx(28).epsilon(1e-9));
    }
    SUBCASE("a pendulum in x and y, whose states the run chooses: the bob is stopped")
    {
        Recording r = run("system S { var x : m init 0.6 m ; var y : m init -0.8 m ; var f : N/m\n"
                          "1 kg * x'' = -f * x ; 1 kg * y'' = -f * y - 9.81 N ; x^2 + y^2 = 1 m^2 ; init x' = 0 m/s\n"
                          "when x <= 0 m { x' := 0 m/s } }",
                          3)
                          .recording;
        CHECK(std::abs(r["x"].final()) < 1e-6);
        CHECK(r["y"].final() == doctest::Approx(-1).epsilon(1e-6));
    }
}

TEST_CASE("stop, warn and fail")
{
    Ran r = run("system S { var p init 0 ; p' = 1 s^-1 ; when p > 0.5 { warn \"half\" } ; when p > 1 { stop \"full\" } }", 5);
    CHECK(r.summary.complete);
    CHECK(r.summary.reason == "the model said stop: full");
    CHECK(r.summary.stop == doctest::Approx(1).epsilon(1e-9));
    REQUIRE(r.summary.warnings.size() == 1);
    CHECK(r.summary.warnings[0] == "at 0.5 s: half");
    CHECK_THROWS_WITH_AS(run("system S { var p init 0 ; p' = 1 s^-1 ; when p > 1 { fail \"burst\" } }", 5), doctest::Contains("burst"), netloop::RunError);
}

TEST_CASE("an event of a branch of an option is there only if the option says so")
{
    const std::string text = "system S { option counting = false ; memory n = 0 ; var x init 0 ; x' = 1 s^-1\n if counting { every 0.1 s { n := n + 1 } } }";
    auto final_count = [&](const std::string& value) {
        netloop::Run r(test::compile(text, {{"counting", value}}));
        netloop::RunOptions options;
        options.stop = 1;
        return r.simulate(options)["n"].final();
    };
    CHECK(final_count("false") == 0);
    CHECK(final_count("true") == 11);
}

TEST_CASE("conditions of time are met exactly, without any search")
{
    Ran r = run("system S { param at : s = 0.3 s ; var x init 0 ; x' = if time < at then 1 s^-1 else if mod(time, 0.25 s) < 0.125 s then 2 s^-1 else 0 s^-1 }",
                1, 1e-6);
    // x = 0.3, then 2 in 0.3 .. 0.375, 0.5 .. 0.625, 0.75 .. 0.875
    CHECK(r.recording["x"].final() == doctest::Approx(0.3 + 2 * (0.075 + 0.125 + 0.125)).epsilon(1e-12));
    for (const netloop::EventEntry& e : r.summary.event_record.kinds)
        for (double t : e.times) CHECK((t == 0.3 || std::abs(t / 0.125 - std::round(t / 0.125)) < 1e-15));
}

TEST_CASE("untracked conditions are not located; abs, min and max are stepped through")
{
    Ran r = run("system S { var x init -1 ; x' = 1 s^-1 ; let a = abs(x) + min(x, 0.2) ; let big = untracked(x > 0.5) }", 2);
    CHECK(r.summary.events == 0);
    CHECK(r.recording["big"].final() == 1);
}

TEST_CASE("a delayed signal is what it was, with its jumps; a delayed feedback follows the method of steps")
{
    // x' = -x(t - 1), x = 1 before 0: a polynomial on each interval (Bellman and Cooke, Differential-Difference Equations, ch. 3)
    Recording r = run("system S { var x init 1 ; x' = -delay(x, 1 s) / (1 s) }", 3, 1e-9, 0.25).recording;
    auto exact = [](double t) {
        double sum = 0, factorial = 1;
        for (int k = 0; k <= std::floor(t) + 1; ++k) {
            if (k > 0) factorial *= k;
            sum += std::pow(-1, k) * std::pow(t - (k - 1), k) / factorial;
        }
        return sum;
    };
    for (double t : {0.5, 1.25, 2.0, 2.75, 3.0}) CHECK(r["x"].at(t, r.time()) == doctest::Approx(exact(t)).epsilon(1e-7));
    Recording step = run("system S { var y init 0 ; let u = if time < 0.5 s then 0 else 1 ; y' = delay(u, 0.3 s) / (1 s) }", 2, 1e-6, 0.1).recording;
    CHECK(step["y"].final() == doctest::Approx(2 - 0.8).epsilon(1e-9));
}

TEST_CASE("a sequence of twelve stages with all kinds of transition")
{
    const std::string text = R"(
system S {
    param  quick : s = 0.25 s
    var    x init 0
    memory entered = 0
    memory sum = 0
    x' = cycle.rate
    when cycle is ten { sum := sum + 1 }
    sequence cycle {
        param wait : s = 0.5 s
        let   near = x > 0.95
        stage one    { rate = 1 s^-1 ; start { entered := entered + 1 } }
            -> two     when x >= 0.5                 # a state: at 0.5 s
        stage two    { }
            -> three   after wait                    # 1.0 s
        stage three  { rate = 2 s^-1 }
            -> four    when near                     # a let: x = 0.95 at 1.225 s
            -> twelve  after 10 s
        stage four   { }
            -> five    when true                     # holds at entry: one resolution later
        stage five   { }
            -> six     after 0 s                     # the same
        stage six    { rate = -1 s^-1 }
            -> twelve  when x < -100
            -> seven   when x < 0.45 and other is on # both needed: the later of the two
        stage seven  { }
            -> eight   when time >= 3 s              # the clock
        stage eight  { }
            -> nine    when other.dwell > 1 s        # the dwell of another: 4 s
        stage nine   { }
            -> ten     after quick                   # a param of the system
        stage ten    { start { x := 7 } }
            -> eleven  when sum >= 1                 # a memory set by a when
        stage eleven { }
            -> twelve  when cycle.dwell >= 0.1 s     # its own dwell
        stage twelve { start { entered := entered + 10 } }
        otherwise    { rate = 0 s^-1 }
    }
    sequence other {
        stage off { }
            -> on   after 2 s
        stage on  { }
            -> late when time >= 3 s
        stage late { }
    }
}
)";
    Ran r = run(text, 6);
    const auto& times = r.recording.time().values;
    const auto& stage = r.recording["cycle"].values;
    std::vector<double> entered(13, -1);
    for (std::size_t i = 0; i < times.size(); ++i)
        if (auto k = static_cast<std::size_t>(stage[i]); entered[k] < 0) entered[k] = times[i];
    const double resolution = 1e-7;  // as docs/language.md states it
    CHECK(entered[2] == doctest::Approx(0.5).epsilon(1e-9));
    CHECK(entered[3] == doctest::Approx(1.0).epsilon(1e-9));
    CHECK(entered[4] == doctest::Approx(1.225).epsilon(1e-9));
    CHECK(entered[5] - entered[4] == doctest::Approx(resolution).epsilon(1e-6));
    CHECK(entered[6] - entered[5] == doctest::Approx(resolution).epsilon(1e-6));
    CHECK(entered[7] == doctest::Approx(2.0).epsilon(1e-9));
    CHECK(entered[8] == 3.0);
    CHECK(entered[9] == doctest::Approx(4.0).epsilon(1e-9));
    CHECK(entered[10] == doctest::Approx(4.25).epsilon(1e-9));
    CHECK(entered[11] - entered[10] == doctest::Approx(resolution).epsilon(1e-6));
    CHECK(entered[12] - entered[11] == doctest::Approx(0.1).epsilon(1e-9));
    CHECK(r.recording["entered"].final() == 11);
    CHECK(r.recording["x"].final() == 7);
    CHECK(r.recording["cycle.dwell"].final() == doctest::Approx(6 - entered[12]).epsilon(1e-9));
    // a param of a sequence is set like any other
    netloop::Run later(test::compile(text, {{"cycle.wait", "0.75 s"}}));
    netloop::RunOptions options;
    options.stop = 2;
    Recording moved = later.simulate(options);
    CHECK(before(moved, "cycle", 1.25) == 2);
    CHECK(behind(moved, "cycle", 1.25) == 3);
}

TEST_CASE("conditions of stages that are not entered cost nothing and are not counted")
{
    Ran r =
        run("system S { var x init 0 ; var n init 0 ; x' = 1 s^-1 ; n' = 0 s^-1\n"
            "sequence duty { stage idle { } -> busy after 5 s\n stage busy { } -> idle when sin(20 * x) > 0.5 } }",
            4);
    CHECK(r.summary.events == 0);
}

TEST_CASE("a signal that touches twice within a step is not missed")
{
    // 0.9 above, a dip of 1e-3 s length at 5 s; nothing else asks for short steps
    Ran r = run("system S { var x : s init 0 s ; x' = 1 ; memory n = 0 ; when (x - 5 s)^2 < 2.5e-7 s^2 { n := n + 1 } }", 10, 1e-6);
    CHECK(r.recording["n"].final() == 1);
    REQUIRE(r.summary.event_record.kinds.size() == 1);
    REQUIRE(r.summary.event_record.kinds[0].times.size() == 1);
    CHECK(r.summary.event_record.kinds[0].times[0] == doctest::Approx(4.9995).epsilon(1e-9));
    // the condition itself turns at both ends: seen where an equation looks at it
    Ran both = run("system S { var x : s init 0 s ; x' = 1 ; var y init 0 ; y' = if (x - 5 s)^2 < 2.5e-7 s^2 then 1 s^-1 else 0 s^-1 }", 10, 1e-6);
    REQUIRE(both.summary.event_record.kinds.size() == 1);
    REQUIRE(both.summary.event_record.kinds[0].times.size() == 2);
    CHECK(both.summary.event_record.kinds[0].times[0] == doctest::Approx(4.9995).epsilon(1e-9));
    CHECK(both.summary.event_record.kinds[0].times[1] == doctest::Approx(5.0005).epsilon(1e-9));
    CHECK(both.recording["y"].final() == doctest::Approx(1e-3).epsilon(1e-6));
}

TEST_CASE("a signal that grazes its limit does no harm")
{
    Ran r = run("system S { var x : s init 0 s ; x' = 1 ; var y init 0 ; y' = (if (x - 1 s)^2 <= 0 s^2 then 5 else 1) / (1 s) }", 2, 1e-8);
    CHECK(r.recording["y"].final() == doctest::Approx(2).epsilon(1e-6));
}

TEST_CASE("a local event keeps the history of the rest: fewer steps than by beginning anew")
{
    // ten independent lags, one of which is switched
    const std::string text =
        "component Lag { param T : s = 1 s ; input u = 0 ; var y init 0 ; T * y' = u - y }\n"
        "system S { part lag[i in 1 .. 10] : Lag(T = (1 + 0.3 * i) * 1 s, u = 1) ; part switched : Lag(u = (if mod(time, 0.5 s) < 0.25 s then 1 else 0)) }";
    netloop::Run r(test::compile(text));
    netloop::RunOptions options;
    options.stop = 10;
    options.integrator = "bdf";
    Recording kept = r.simulate(options);
    CHECK(r.summary().kept_histories >= 35);
    for (int i = 1; i <= 10; ++i) CHECK(kept["lag[" + std::to_string(i) + "].y"].final() == doctest::Approx(1 - std::exp(-10 / (1 + 0.3 * i))).epsilon(3e-6));
    // the switched one: periodic, y at the end of a period of e^-t pieces
    double q = std::exp(-0.25), y = 0;
    for (int k = 0; k < 20; ++k) y = (1 - (1 - y) * q) * q;
    CHECK(kept["switched.y"].final() == doctest::Approx(y).epsilon(1e-5));
    CHECK(r.summary().steps < 20 * 40);
}

TEST_CASE("the table of events goes into the recording, and comes out of it without a new run")
{
    test::Scratch folder;
    const std::string file = folder / "model.loop", out = folder / "run.h5";
    test::write_file(file,
                     "system S {\n    part a : Relay(lower = -0.1, upper = 0.1, measured = sin(6.283185307179586 * time / (1 s)))\n}\nuse control\nscenario s "
                     "of S { stop at 3 s }\n");
    test::Outcome ran = test::netloop("run " + file + " --events --out " + out);
    CHECK(ran.code == 0);
    CHECK(ran.out.find("a: state is off -> on when measured > upper") != std::string::npos);
    test::Outcome listed = test::netloop("events " + out);
    CHECK(listed.code == 0);
    CHECK(ran.out.find(listed.out) != std::string::npos);
    Recording r = Recording::load(out);
    REQUIRE(r.events.kinds.size() == 2);
    std::size_t n = 0;
    for (const netloop::EventEntry& e : r.events.kinds) {
        CHECK(e.part == "a");
        CHECK(e.place.find("switching.loop:") != std::string::npos);
        n += e.times.size();
        for (double t : e.times) CHECK(std::abs(std::abs(std::sin(2 * std::numbers::pi * t)) - 0.1) < 1e-6);
    }
    CHECK(n == r.events.kinds[0].times.size() + r.events.kinds[1].times.size());
    test::Outcome csv = test::netloop("run " + file + " --quiet --out " + (folder / "run.csv"));
    CHECK(csv.code == 0);
    CHECK(test::netloop("events " + (folder / "run.csv")).code == 2);
}

TEST_CASE("whole parts of the time itself turn on time, however the steps lie")
{
    // the condition of mod(time) is the time: at an event it was looked at as it is now, not as it was at 0
    netloop::Recording r = test::simulate(
        "system S { let cycle : 1 = mod(time / (1 s), 1)\n let triangle : 1 = 1 - 4 * abs(cycle - 0.5)\n let narrow = triangle > 0.37\n let wide = triangle > "
        "-0.37\n var x : s init 0 s\n x' = (if "
        "narrow then 1 else 0) + (if wide then 0.001 else 0)\n var least : 1 init 0\n least' = 0 s^-1\n when cycle < 0 { least := cycle } }",
        100);
    CHECK(r["x"].final() == doctest::Approx(100 * (0.315 + 0.001 * 0.685)).epsilon(1e-9));
    CHECK(r["least"].final() == 0);
}

TEST_CASE("two crossings of one condition are found although another one's crossing lies behind them in the same step")
{
    // a short pulse in the middle of what else would be one step, and a slow condition that crosses late in it
    netloop::Recording r = test::simulate(
        "system S { var a : 1 init 0\n a' = 1 s^-1\n let bump : 1 = 0.01 - (a - 5)^2\n var n : 1 init 0\n n' = 0 s^-1\n when bump > 0 { n := previous(n) + 1 "
        "}\n var late : 1 init 0\n late' = 0 s^-1\n when a > "
        "9.9 { late := 1 } }",
        20, 1e-4);
    CHECK(r["n"].final() == 1);
    CHECK(r["late"].final() == 1);
}

TEST_CASE("a component's memories, blocks and stages are described")
{
    test::Outcome pid = test::netloop("describe control.SampledFilter"), friction = test::netloop("describe mechanics.Friction");
    CHECK(pid.out.find("memories\n  value") != std::string::npos);
    CHECK(pid.out.find("at moments\n  every period {") != std::string::npos);
    CHECK(friction.out.find("-> leaving_forward  when tension > breakaway") != std::string::npos);
}

TEST_CASE("several runs of one compiled system at once: each has its own moments and modes, new systems are made once")
{
    netloop::Library library = netloop::Library::standard();
    library.load_file(test::source_path("examples/switching/converter.loop"));
    netloop::CompiledSystem system = netloop::compile(library, {.system = "", .scenario = "light_load"});
    std::vector<double> finals(4);
    std::vector<std::thread> threads;
    for (std::size_t k = 0; k < finals.size(); ++k)
        threads.emplace_back([&, k] {
            netloop::Run r(system);
            netloop::RunOptions options;
            options.stop = 0.002;
            finals[k] = r.simulate(options)["filter.u"].final();
        });
    for (std::thread& t : threads) t.join();
    for (double v : finals) CHECK(v == finals[0]);
    CHECK(finals[0] > 1);
}

TEST_CASE("a run goes on from a recording with its memories and stages, and the time spent in them")
{
    test::Scratch folder;
    const std::string
        out = folder / "first.h5",
        model =
            "system S { var x init 0 ; memory n = 0 ; memory began = 0 ; x' = duty.rate\n every 0.3 s { n := n + 1 } ; when start { began := began + 1 }\n"
            "sequence duty { stage a { rate = 1 s^-1 ; start { began := began + 10 } } -> b after 1 s\n"
            "stage b { rate = 5 s^-1 ; start { began := began + 100 } } -> c after 2 s\n stage c { rate = 0 s^-1 } } }\n";
    netloop::Library library = netloop::Library::standard();
    library.load_text("first.loop", model + "scenario first of S { stop at 2.5 s }");
    netloop::Run first(netloop::compile(library));
    netloop::RunOptions options;
    options.out = out;
    first.simulate(options);
    netloop::Library again = netloop::Library::standard();
    again.load_text("second.loop", model + "scenario second of S { begin from \"" + out + "\" at 1.5 s ; stop at 3 s }");
    netloop::Run second(netloop::compile(again));
    Recording r = second.simulate();
    CHECK(r["began"].first() == 111);
    CHECK(r["began"].final() == 111);
    CHECK(r["x"].first() == doctest::Approx(1 + 2.5).epsilon(1e-6));
    CHECK(r["duty"].first() == 2);
    CHECK(r["duty.dwell"].first() == doctest::Approx(0.5).epsilon(1e-9));
    CHECK(before(r, "duty", 1.5) == 2);  // two seconds in the stage, half a second of which lies behind
    CHECK(behind(r, "duty", 1.5) == 3);
    CHECK(r["x"].final() == doctest::Approx(1 + 2 * 5).epsilon(1e-6));
    CHECK(r["n"].first() == 6 + 1);  // at 0, 0.3 ... 1.5 s, and at the new 0 s
}

TEST_CASE("a period changed while the run goes on counts from the last tick")
{
    netloop::Run r(test::compile(
        "system S { param T : s = 0.4 s ; memory n = 0 ; memory last : s = 0 s ; var x init 0 ; x' = 1 s^-1 ; every T { n := n + 1 ; last := time } }"));
    r.step_to(1);
    CHECK(r.value("n") == 3);  // 0, 0.4, 0.8
    r.set("T", netloop::q(0.1, "s"));
    r.step_to(1.25);
    CHECK(r.value("last") == doctest::Approx(1.2).epsilon(1e-12));
    CHECK_THROWS_AS(r.set("T", netloop::q(-1, "s")), netloop::RunError);
    r.step_to(1.35);  // refused, it has changed nothing
    CHECK(r.value("last") == doctest::Approx(1.3).epsilon(1e-12));
}

TEST_CASE("an input from outside sets off what looks at it")
{
    netloop::Run r(test::compile("system S { input button = 0 ; memory n = 0 ; var x init 0 ; x' = n / (1 s) ; when button > 0.5 { n := n + 1 } }"));
    r.step_to(1);
    CHECK(r.value("n") == 0);
    r.input("button") = 1.0;
    CHECK(r.value("n") == 1);
    r.step_to(2);
    r.input("button") = 0.0;
    r.input("button") = 1.0;
    r.step_to(3);
    CHECK(r.value("n") == 2);
    CHECK(r.value("x") == doctest::Approx(3).epsilon(1e-9));
}

TEST_CASE("the summary names a condition that makes up more than a third of the events")
{
    Ran r = run("system S { memory n = 0 ; memory m = 0 ; var x init 0 ; x' = 1 s^-1 ; every 10 ms { n := n + 1 } ; every 0.1 s { m := m + 1 } }", 1);
    CHECK(r.summary.text().find("of the events are every 10 ms") != std::string::npos);
}

TEST_CASE("the table of events shows numbers in the unit of what they are compared with")
{
    netloop::CompiledSystem system = test::compile(
        "system S { param limit : kPa = 130 kPa\n var angle : deg init 0 deg ; angle' = 10 deg/s\n var T : degC init 15 degC ; T' = 2 K/s\n var p : bar init 1 "
        "bar ; p' "
        "= 0.1 bar/s\n memory n : 1 = 0\n let hot : 1 = if T > 20 degC then 1 else 0\n let far : 1 = if abs(angle) < 45 deg then 0 else 1\n let late : 1 = if "
        "time < 2.5 s "
        "then 0 else 1\n let over : 1 = if p > limit then 1 else 0\n let rising : 1 = if 2 * p > 3 bar then 1 else 0 }");
    netloop::Run run(system);
    run.simulate({.stop = 10});
    std::vector<std::string> told;
    for (const netloop::EventEntry& e : run.summary().event_record.kinds) told.push_back(e.text);
    for (const char* expected : {"20 degC < T", "abs(angle) < 45 deg", "time < 2.5 s", "limit < p"}) {
        INFO(expected);
        CHECK(std::find(told.begin(), told.end(), expected) != told.end());
    }
    CHECK(told.size() == 5);
}

TEST_CASE("the table counts what happened: a transition when it is taken, a block when it runs, a condition of the equations when it turns")
{
    // the level swings 3 times in 3 s; what only the blocks look at turns twice as often, and is not told
    Ran r =
        run("system S { let level = sin(6.283185307179586 * time / (1 s))\n"
            "sequence pump { stage idle { on = 0 } -> running when level > 0.9\n stage running { on = 1 } -> idle when level < -0.9 }\n"
            "memory n = 0 ; when level > 0.5 { n := n + 1 }\n"
            "memory m = 0 ; every 1 s from 0.5 s { m := m + 1 }\n"
            "var x init 0 ; x' = if level > 0 then 1 s^-1 else 0 s^-1 }",
            3);
    std::map<std::string, std::size_t> counts;
    std::size_t all = 0;
    for (const netloop::EventEntry& e : r.summary.event_record.kinds) counts[e.text] = e.times.size(), all += e.times.size();
    CHECK(counts.size() == 5);
    CHECK(counts["pump is idle -> running when level > 0.9"] == 3);
    CHECK(counts["pump is running -> idle when level < -0.9"] == 3);
    CHECK(counts["when level > 0.5"] == 3);
    CHECK(counts["every 1 s"] == 3);
    CHECK(r.recording["n"].final() == 3);
    CHECK(r.summary.events == all);
    // down at 0.5, 1.5 and 2.5 s, up at 1 and 2 s, and at the very start, where the level begins to rise
    std::size_t turns = all - 12;
    CHECK((turns == 5 || turns == 6));
}

TEST_CASE("a transition that another one forestalls is not counted, and one after a time is counted when that time has passed")
{
    Ran r =
        run("system S { memory served = false\n sequence duty {\n stage filling { } -> service when time > 1 s and not served\n -> resting when time > 2 s\n"
            "stage resting { } -> filling when time > 20 s\n stage service { start { served := true } } -> resting after 2 s } }",
            10);
    REQUIRE(r.summary.event_record.kinds.size() == 2);
    for (const netloop::EventEntry& e : r.summary.event_record.kinds) {
        REQUIRE(e.times.size() == 1);
        CHECK(e.times[0] == doctest::Approx(e.text.find("after 2 s") != std::string::npos ? 3 : 1));
    }
}

TEST_SUITE_END();

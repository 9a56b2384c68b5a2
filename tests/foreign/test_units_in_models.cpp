// SPDX-License-Identifier: Apache-2.0
// Foreign units as parts of models, held against formulas and against the same equations written here. The units refuse every call that the standard forbids in
// their mode, so a run that comes to its end has kept to it.
#include <doctest/doctest.h>

#include <cstdlib>
#include <thread>

#include "foreign/units.hpp"

namespace nl = netloop;
namespace fs = std::filesystem;

TEST_SUITE_BEGIN("foreign");

namespace {

nl::CompiledSystem compiled(const std::string& file, bool isolated = false, const std::string& system = "")
{
    nl::Library library = nl::Library::standard();
    library.isolate_units(isolated);
    library.load_file(file);
    nl::CompileRequest request;
    request.system = system;
    return nl::compile(library, request);
}

nl::RunOptions options(double stop, double tolerance = 1e-9)
{
    nl::RunOptions o;
    o.stop = stop;
    o.tolerance = tolerance;
    o.verify = true;
    return o;
}

double last(const nl::Recording& r, const std::string& name)
{
    const nl::Column* c = r.find(name);
    REQUIRE_MESSAGE(c != nullptr, name);
    return c->values.back();
}

std::string failure_of(nl::Run& run, const nl::RunOptions& o)
{
    try {
        (void)run.simulate(o);
    } catch (const nl::RunError& error) {
        return error.what();
    } catch (const nl::ModelError& error) {
        return error.what();
    }
    return "";
}

#define SAYS(text, what) CHECK_MESSAGE(says(text, what), std::string(text))

bool says(const std::string& text, const std::string& what)
{
    return text.find(what) != std::string::npos;
}

struct Yard {
    test::Scratch scratch;
    std::string file;
    Yard(const std::string& unit, const std::string& text, const std::function<void(std::string&)>& change = {})
    {
        test::make_unit(scratch.path(), unit, change);
        file = scratch / "yard.loop";
        test::write_file(file, text);
    }
};

const char* const kBall =
    "use \"ball.fmu\" as Ball\nsystem Yard { part ball : Ball(floor_bounce = 0.7) ; input wind : N = 0 N ; wind -> ball.wind\n"
    "  param from : s = 100 s ; let now : bool = time > from ; now -> ball.held }\n";

// A ball dropped from 1 m under g, by formula: hits, height and speed at a time.
struct Fall {
    int hits = 0;
    double height = 0, speed = 0;
    Fall(double g, double bounce, double time)
    {
        double t = std::sqrt(2 / g), v = g * t;
        if (time < t) {
            height = 1 - g * time * time / 2, speed = -g * time;
            return;
        }
        for (;;) {
            ++hits;
            v *= bounce;
            if (t + 2 * v / g > time) break;
            t += 2 * v / g;
        }
        height = v * (time - t) - g * (time - t) * (time - t) / 2;
        speed = v - g * (time - t);
    }
};

}  // namespace

TEST_CASE("model exchange: a ball that bounces, by formula, in this process and in one of its own")
{
    Yard yard("ball", kBall);
    std::vector<double> of_both[2];
    for (bool isolated : {false, true}) {
        nl::Run run(compiled(yard.file, isolated));
        for (double wind : {0.0, 4.0}) {
            run.set("wind", nl::Quantity(wind, "N"));
            const nl::Recording& r = run.simulate(options(2.2));
            CHECK(run.summary().verification.holds);
            Fall fall(9.81 - wind / 2, 0.7, 2.2);
            CHECK(last(r, "ball.hits") == fall.hits);
            CHECK(last(r, "ball.h") == doctest::Approx(fall.height).epsilon(1e-8));
            CHECK(last(r, "ball.v") == doctest::Approx(fall.speed).epsilon(1e-8));
            CHECK(last(r, "ball.push") == doctest::Approx(-2 * 9.81 + wind).epsilon(1e-12));
            CHECK(last(r, "ball.low") == (fall.height < 0.2 ? 1 : 0));
            of_both[isolated ? 1 : 0].insert(of_both[isolated ? 1 : 0].end(), {last(r, "ball.h"), last(r, "ball.v")});
        }
    }
    CHECK(of_both[0] == of_both[1]);  // the same bits
}

TEST_CASE("model exchange: inputs that jump, params, starts of one's own, every method")
{
    Yard yard("ball", kBall);
    nl::CompiledSystem system = compiled(yard.file);
    nl::Run run(system);
    // held from 0.3 s on: it stays where it was
    run.set("from", nl::Quantity(0.3, "s"));
    const nl::Recording& held = run.simulate(options(1));
    CHECK(last(held, "ball.h") == doctest::Approx(1 - 9.81 * 0.09 / 2).epsilon(1e-9));
    CHECK(last(held, "ball.v") == 0);
    // a param of the unit
    nl::Run moon(system);
    moon.set("ball.g", nl::Quantity(1.62, "m/s^2"));
    moon.set("ball.floor_bounce", nl::Quantity(0.5));
    for (const char* method : {"adams", "bdf", "sdirk"}) {
        nl::RunOptions o = options(3, 1e-8);
        o.integrator = method;
        Fall fall(1.62, 0.5, 3);
        const nl::Recording& r = moon.simulate(o);
        CHECK(last(r, "ball.hits") == fall.hits);
        CHECK_MESSAGE(last(r, "ball.h") == doctest::Approx(fall.height).epsilon(1e-6), method);
    }
    CHECK_THROWS_AS(moon.set("ball.floor_bounce", nl::Quantity(1.5)), nl::RunError);  // the range of the description
    // a start of the model's instead of the unit's
    test::write_file(yard.scratch / "high.loop", std::string(kBall) + "scenario high of Yard { init ball.h = 0.5 m ; stop at 0.3 s }\n");
    nl::Run high(compiled(yard.scratch / "high.loop"));
    CHECK(last(high.simulate(options(0.3)), "ball.h") == doctest::Approx(0.5 - 9.81 * 0.09 / 2).epsilon(1e-9));
    // the params of a unit stay as they are while a run goes on
    nl::Run going(system);
    going.begin(options(2));
    going.step_to(0.1);
    CHECK_THROWS_AS((going.set("ball.g", nl::Quantity(1.0, "m/s^2")), going.step_to(0.2)), nl::RunError);
}

TEST_CASE("model exchange: a stiff oscillator beside the same equations of our own, by its own derivatives and by differences")
{
    const std::string text =
        "use \"oscillator.fmu\" as Oscillator\n"
        "system Foreign { part o : Oscillator }\n"
        "system Own { var x init 2 ; var v init 0 ; x' = v * 1 s^-1 ; v' = (100 * (1 - x^2) * v - x) * 1 s^-1 }\n";
    for (bool own : {true, false}) {
        Yard yard("oscillator", text, own ? std::function<void(std::string&)>{} : test::with(" providesDirectionalDerivative=\"true\"", ""));
        nl::Run foreign(compiled(yard.file, false, "Foreign")), ours(compiled(yard.file, false, "Own"));
        double x = last(ours.simulate(options(150, 1e-10)), "x");
        const nl::Recording& r = foreign.simulate(options(150, 1e-8));
        CHECK(last(r, "o.x") == doctest::Approx(x).epsilon(1e-5));
        CHECK(foreign.summary().verification.holds);
        // it asks for an event behind every hundredth step, and gets it
        double steps = static_cast<double>(foreign.summary().steps);
        CHECK(last(r, "o.asked") >= std::floor(steps / 100));  // and once at the start
        CHECK(last(r, "o.asked") <= steps / 100 + 1);
    }
}

TEST_CASE("derivatives that are a lie cost steps, and no digits")
{
    const std::string text = "use \"faulty.fmu\" as Lag\nsystem Foreign { part lag : Lag }\n";
    Yard yard("faulty", text, test::with("<ModelExchange ", "<ModelExchange providesDirectionalDerivative=\"true\" "));
    nl::Run run(compiled(yard.file));
    for (const char* method : {"adams", "bdf", "sdirk"}) {
        nl::RunOptions o = options(2);
        o.integrator = method;
        std::string failure = failure_of(run, o);
        CHECK_MESSAGE(failure.empty(), failure);
        CHECK_MESSAGE(last(run.recording(), "lag.x") == doctest::Approx(1 - std::exp(-2.0)).epsilon(1e-7), method);
        if (method == std::string("adams")) continue;  // needs none
        REQUIRE(run.summary().warnings.size() == 1);
        CHECK(says(run.summary().warnings[0], "in 'lag': the derivatives that unit"));
    }
}

TEST_CASE("co-simulation: a controller beside the same one as a sampled block of our own, tick for tick")
{
    const std::string plant = " var angle : deg init 0 deg ; param wanted : deg = 30 deg ; 0.3 s * angle' = drive * 90 deg - angle\n";
    Yard yard(
        "controller",
        "use \"controller.fmu\" as Controller\nsystem Foreign { part c : Controller(gain = 3) ; wanted -> c.wanted ; angle -> c.measured ; let drive = "
        "c.command\n" +
            plant +
            "}\n"
            // the unit takes the inputs of the tick before
            "system Own { memory drive : 1 = 0 ; memory sum : 1 = 0 ; memory w : rad = 0 rad ; memory m : rad = 0 rad ; memory saturated : bool = false\n" +
            plant +
            "  when start { w := wanted ; m := angle }\n"
            "  every 20 ms from 20 ms { let off = w - m ; let more = 3 * off * 0.02 / 0.5 ; let raw = 3 * off + sum + more\n"
            "    saturated := raw > 1 or raw < -1 ; if not (raw > 1 or raw < -1) { sum := sum + more }\n"
            "    drive := if raw > 1 then 1 else if raw < -1 then -1 else raw ; w := wanted ; m := angle } }\n");
    for (bool isolated : {false, true}) {
        nl::Run foreign(compiled(yard.file, isolated, "Foreign")), own(compiled(yard.file, false, "Own"));
        const nl::Recording& f = foreign.simulate(options(2));
        const nl::Recording& o = own.simulate(options(2));
        CHECK(foreign.summary().verification.holds);
        CHECK(last(f, "angle") == doctest::Approx(last(o, "angle")).epsilon(1e-9));
        CHECK(last(f, "c.command") == doctest::Approx(last(o, "drive")).epsilon(1e-9));
        CHECK(last(f, "c.saturated") == last(o, "saturated"));
    }
    // an end that the unit asks for, and a law of its enumeration
    test::write_file(yard.scratch / "stop.loop",
                     "use \"controller.fmu\" as Controller\nsystem S { part c : Controller(law = 1) ; let late : bool = time > 1 s ; late -> c.stop }\n");
    nl::Run stopped(compiled(yard.scratch / "stop.loop"));
    const nl::Recording& r = stopped.simulate(options(3));
    CHECK(r.time().values.back() == doctest::Approx(1.02));
    CHECK(says(stopped.summary().reason, "the unit ends the run"));
}

TEST_CASE("FMI 3.0: every kind of number, arrays, a time event; both ways")
{
    Yard yard(
        "kinds",
        "use \"kinds.fmu\" as Kinds\n"
        "system Exchange { part k : Kinds(rate = [2, 4], u8 = 200, i8 = -100, law = 1) ; input p : bar = 2 bar ; 0.5 * p -> k.inputs[1] ; p -> k.inputs[2]\n"
        "  let on : bool = time > 0.1 s ; on -> k.truth ; let n = 7 ; n -> k.i64 }\n"
        "system Sampled { part k : SampledKinds(rate = [2, 4], extrapolated = true) ; input p : bar = 2 bar ; 0.5 * p -> k.inputs[1] ; p -> k.inputs[2]\n"
        "  let on : bool = time > 0.1 s ; on -> k.truth }\n");
    double sum = 3e5;
    nl::Run run(compiled(yard.file, false, "Exchange"));
    const nl::Recording& r = run.simulate(options(1));
    CHECK(run.summary().verification.holds);
    double there = 3;  // in bar, in which the unit counts
    double x1 = (1 - there / 2) * std::exp(-2.0) + there / 2, x2 = (2 - there / 4) * std::exp(-4.0) + there / 4;
    CHECK(last(r, "k.x[1]") == doctest::Approx(x1).epsilon(1e-8));
    CHECK(last(r, "k.x[2]") == doctest::Approx(x2).epsilon(1e-8));
    CHECK(last(r, "k.sum") == doctest::Approx(sum));
    CHECK(last(r, "k.echo") == 0.5 - 100 + 200 - 16 + 16 - 32 + 32 + 64 + 1);
    CHECK(last(r, "k.echo_f32") == 1);
    CHECK(last(r, "k.echo_truth") == 1);
    CHECK(last(r, "k.echo_i64") == 107);  // at 0.25 s it adds 100
    const nl::Column* echo = r.find("k.echo_i64");
    for (std::size_t k = 0; k < r.n_rows(); ++k)
        if (r.time().values[k] < 0.2499) CHECK(echo->values[k] == 7);
    nl::Run sampled(compiled(yard.file, false, "Sampled"));
    const nl::Recording& s = sampled.simulate(options(1));
    CHECK(last(s, "k.sum") == doctest::Approx(sum));
    CHECK(sampled.summary().steps < 500);  // nothing to integrate: a step is as long as it may be
    // a number that does not fit its kind
    nl::Run wide(compiled(yard.file, false, "Exchange"));
    wide.set("k.u8", nl::Quantity(300.0));
    CHECK(says(failure_of(wide, options(1)), "300 does not fit"));
}

TEST_CASE("units that misbehave end the run with the part, the call and their own words")
{
    Yard yard("faulty", "use \"faulty.fmu\" as Faulty\nsystem Plant { part seal : Faulty }\nsystem Sampled { part seal : SampledFaulty }\n");
    auto failure = [&](const std::string& system, int fault, bool isolated) {
        nl::Run run(compiled(yard.file, isolated, system));
        run.set("seal.fault", nl::Quantity(static_cast<double>(fault)));
        std::string text = failure_of(run, options(3, 1e-6));
        if (text.empty()) return text;
        CHECK_MESSAGE(says(text, "'seal'"), text);
        CHECK_MESSAGE(says(text, "faulty.fmu"), text);
        return text;
    };
    for (bool isolated : {false, true}) {
        CHECK(failure("Plant", 0, isolated).empty());
        SAYS(failure("Plant", 1, isolated), "the rate of its state 1 is nan");
        SAYS(failure("Plant", 2, isolated), "fmi2GetDerivatives gives an error: fmi2GetDerivatives: the seal is gone");
        SAYS(failure("Plant", 3, isolated), "a fatal error: shaft broken in part of 7");
        SAYS(failure("Plant", 6, isolated), "do not settle");
        SAYS(failure("Plant", 7, isolated), "a status that the standard does not know");
        SAYS(failure("Plant", 9, isolated), "the oil is cold");
        SAYS(failure("Plant", 10, isolated), "gives discard");
        SAYS(failure("Plant", 11, isolated), "is inf");
        CHECK(failure("Sampled", 0, isolated).empty());
        SAYS(failure("Sampled", 2, isolated), "fmi2DoStep gives an error");
    }
    SAYS(failure("Plant", 4, true), "its process crashed (Segmentation fault)");
    SAYS(failure("Sampled", 4, true), "its process crashed");
    SAYS(failure("Plant", 5, true), "no answer within 10 s");
    // by the command line, too, with exit code 1
    test::write_file(yard.scratch / "crash.loop",
                     "use \"faulty.fmu\" as Faulty\nsystem Plant { part seal : Faulty(fault = 4) }\nscenario s of Plant { stop at 2 s }\n");
    test::Outcome o = test::netloop("run " + (yard.scratch / "crash.loop") + " --isolated");
    CHECK(o.code == 1);
    CHECK_MESSAGE(says(o.err, "its process crashed"), o.err);
}

TEST_CASE("what cannot be used is refused at its line")
{
    test::Scratch scratch;
    test::make_unit(scratch.path(), "ball");
    test::make_unit(scratch.path(), "ball", test::with("{ball}", "{another}"), "other");
    test::make_unit(scratch.path(), "ball", test::with("modelIdentifier=\"ball\"", "modelIdentifier=\"dice\""), "nameless");
    test::make_unit(scratch.path(), "ball", test::with("modelIdentifier=\"ball\"", "modelIdentifier=\"ball\" needsExecutionTool=\"true\""), "tool");
    auto message = [&](const std::string& text) -> std::string {
        test::write_file(scratch / "m.loop", text);
        try {
            nl::Run run(compiled(scratch / "m.loop"));
            return failure_of(run, options(1));
        } catch (const nl::ModelError& error) {
            return error.what();
        }
    };
    std::string text = message("use \"none.fmu\" as Ball\nsystem S { part b : Ball }\n");
    CHECK(says(text, "m.loop:1:1: error: unit"));
    CHECK(says(text, "there is no such file"));
    CHECK(says(text, "[unit-refused]"));
    CHECK(says(message("use \"ball.fmu\"\nsystem S { }\n"), "to mend: say what the component is called: use \"ball.fmu\" as Pump"));
    CHECK(says(message("use \"ball.fmu\" as ball\nsystem S { }\n"), "'ball' is no name of a component"));
    CHECK(says(message("use \"nameless.fmu\" as Ball\nsystem S { part b : Ball }\n"), "no binary for this machine (binaries/linux64/dice.so)"));
    CHECK(says(message("use \"tool.fmu\" as Ball\nsystem S { part b : Ball }\n"), "only works together with the program that made it"));
    CHECK(says(message("use \"other.fmu\" as Ball\nsystem S { part b : Ball }\n"), "fmi2Instantiate makes no instance"));
    CHECK(message("use \"ball.fmu\" as Ball\nsystem S { part b : Ball }\n").empty());
    // what cannot hold a unit says so
    test::write_file(scratch / "good.loop", "use \"ball.fmu\" as Ball\nsystem S { part b : Ball }\nscenario s of S { stop at 1 s }\n");
    test::Outcome c = test::netloop("export " + (scratch / "good.loop") + " --as c --step 1ms --output b.h --out " + (scratch / "c"));
    CHECK(c.code != 0);
    CHECK_MESSAGE(says(c.err, "a unit from elsewhere"), c.err);
    test::Outcome run = test::netloop("run " + (scratch / "good.loop") + " --out " + (scratch / "r.h5"));
    CHECK_MESSAGE(run.code == 0, run.err);
    test::Outcome again = test::netloop("linear " + (scratch / "r.h5") + " --at 0.5s");
    CHECK(again.code != 0);
    CHECK_MESSAGE(says(again.err, "keep texts, and no units"), again.err);
    test::Outcome page = test::netloop("describe Ball --file " + (scratch / "good.loop"));
    CHECK(says(page.out, "A body that falls and bounces."));
    CHECK(says(page.out, "share of the speed that is left"));
    CHECK(says(page.out, "0 .. 1"));
    CHECK_FALSE(says(page.out, "_look"));
}

TEST_CASE("many parts of a unit, units of two files, runs side by side, and nothing that stays")
{
    test::Scratch scratch;
    test::make_unit(scratch.path(), "ball");
    test::make_unit(scratch.path(), "kinds");
    test::write_file(
        scratch / "m.loop",
        "use \"ball.fmu\" as Ball\nuse \"kinds.fmu\" as Kinds\nsystem S { part b[i in 1 .. 30] : Ball(floor_bounce = 0.5 + 0.01 * i) ; part k : Kinds }\n");
    nl::CompiledSystem system = compiled(scratch / "m.loop");
    std::vector<double> first;
    auto look = [&](const nl::Recording& r) {
        std::vector<double> values;
        for (int i = 1; i <= 30; ++i) {
            Fall fall(9.81, 0.5 + 0.01 * i, 0.9);
            values.push_back(last(r, fmt::format("b[{}].h", i)));
            CHECK(values.back() == doctest::Approx(fall.height).epsilon(1e-7));
        }
        values.push_back(last(r, "k.x[1]"));
        CHECK(values.back() == doctest::Approx(std::exp(-0.9)).epsilon(1e-7));
        return values;
    };
    nl::Run run(system);
    first = look(run.simulate(options(0.9)));
    // several threads, each with runs of its own
    std::vector<nl::Recording> ends(8);
    std::vector<std::thread> threads;
    for (int k = 0; k < 4; ++k)
        threads.emplace_back([&, k] {
            for (int each : {k, k + 4}) ends[static_cast<std::size_t>(each)] = nl::Run(system).simulate(options(0.9));
        });
    for (std::thread& t : threads) t.join();
    for (const nl::Recording& r : ends) CHECK(look(r) == first);
    // a run after the other: no memory is lost
    test::write_file(scratch / "one.loop", "use \"ball.fmu\" as Ball\nsystem S { part b : Ball }\n");
    nl::Run one(compiled(scratch / "one.loop"));
    auto resident = [] {
        std::string text = test::read_file("/proc/self/statm");
        return std::stod(text.substr(text.find(' ') + 1)) * 4096;
    };
    nl::RunOptions o = options(0.5, 1e-6);
    o.in_memory = false;
    for (int k = 0; k < 100; ++k) (void)one.simulate(o);
    double before = resident();
    for (int k = 0; k < 1000; ++k) (void)one.simulate(o);
    // under AddressSanitizer what was given back stays for a while
    const char* sanitized = std::getenv("NETLOOP_SANITIZED");
    if (sanitized == nullptr || std::string(sanitized) != "ON") CHECK(resident() - before < 4e6);
}

TEST_CASE("units by a program")
{
    test::Scratch scratch;
    test::make_unit(scratch.path(), "ball");
    nl::Library library = nl::Library::standard();
    library.load_fmu(scratch / "ball.fmu", "Ball");
    CHECK_THROWS_AS(library.load_fmu(scratch / "none.fmu", "Other"), nl::ModelError);
    nl::SystemBuilder yard("Yard", library);
    yard.part("b", "Ball");
    nl::Run run(nl::compile(yard));
    CHECK(last(run.simulate(options(0.3)), "b.h") == doctest::Approx(1 - 9.81 * 0.09 / 2).epsilon(1e-9));
}

TEST_SUITE_END();

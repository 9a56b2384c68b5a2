// SPDX-License-Identifier: Apache-2.0
// Runs are held against the text: what verification sees, and what it must not let pass.
#include "verify/verify.hpp"

#include <doctest/doctest.h>

#include <cmath>

#include "api/internal.hpp"
#include "integrate/simulate.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

// A model of a text, its run at the start, ready to be tampered with.
struct Started {
    CompiledSystem system;
    Simulation simulation;
    State state;

    explicit Started(const std::string& text) : system(test::compile(text)), simulation(system.data().model, system.data().sources, {}), state()
    {
        simulation.evaluation().settle_parameters();
        simulation.start(0);
        state = simulation.state();
    }
    Verification look(double tolerance = 1e-6)
    {
        Verifier verifier(*system.data().model, system.data().sources, tolerance, true);
        Evaluation& e = simulation.evaluation();
        e.at(state.time, state.z.data(), state.rates.data());
        e.outputs();
        verifier.point(state, e);
        return verifier.result();
    }
};

const char* const kBlock = R"(
system S {
    var x : m init 2 m
    var y, z : m
    let sum : m = y + z
    x' = -x / (1 s)
    y + 0.5 * sin(z / (1 m)) * 1 m = x
    z - 0.3 * cos(y / (1 m)) * 1 m = 0.1 m
}
)";

}  // namespace

TEST_SUITE_BEGIN("verify");

TEST_CASE("a run that is right is verified: equations, lets, inits, params and slopes")
{
    Run run(test::compile(std::string(kBlock) + "scenario s of S { stop at 3 s }"));
    RunOptions options;
    options.verify = true;
    run.simulate(options);
    const Verification& v = run.summary().verification;
    CHECK(v.done);
    CHECK(v.holds);
    CHECK(v.equations == 3);
    CHECK(v.lets == 1);
    CHECK(v.inits == 1);
    CHECK(v.points == 751);  // 501 rows, and a point between every second two
    CHECK(v.slopes >= 200);
    CHECK(v.limit == 1e-6);
    CHECK(v.worst < 1e-7);
    CHECK(v.one_line().starts_with("verified: 3 equations, 1 lets, 1 inits"));
}

TEST_CASE("an iterate that is off, and a rate that is off, are found in the equation that holds them, with values and unit")
{
    Started s(kBlock);
    CHECK(s.look().holds);
    std::size_t iterate = 0;
    while (s.system.data().model->form.z[iterate].kind == ZEntry::Kind::state) ++iterate;
    s.state.z[iterate] += 1e-3;
    Verification v = s.look();
    CHECK_FALSE(v.holds);
    CHECK(v.findings[0].kind == Verification::Finding::Kind::equation);
    CHECK(v.findings[0].place.starts_with("test.loop:"));
    CHECK(v.findings[0].unit == "m");
    CHECK(v.findings[0].line().find(" m at 0 s, off by ") != std::string::npos);
    CHECK(v.text().find(v.findings[0].line()) != std::string::npos);
    s.state.z[iterate] -= 1e-3;
    s.state.rates[0] += 1e-3;
    v = s.look();
    CHECK_FALSE(v.holds);
    CHECK(v.findings[0].text.find("x' = ") != std::string::npos);
    s.state.rates[0] -= 1e-3;
    CHECK(s.look().holds);
}

TEST_CASE("the size of an error is judged by the terms: a thousandth of a Pascal is nothing beside a bar")
{
    const char* text = "system S {\n var a : Pa init 1 bar\n var b : Pa\n a' = -a / (1 s)\n b + 1e-9 * b^3 / (1 Pa^2) / 1e10 = a\n}\n";
    Started s(text);
    s.state.z[1] += 1e-3;
    CHECK(s.look().holds);
    s.state.z[1] += 10;
    CHECK_FALSE(s.look().holds);
}

TEST_CASE("slopes: a polynomial that does not run as the equations say")
{
    Started s("system S {\n var x : m init 1 m\n x' = -x / (1 s)\n}\n");
    Verifier verifier(*s.system.data().model, s.system.data().sources, 1e-6, true);
    Evaluation& e = s.simulation.evaluation();
    e.at(0, s.state.z.data(), s.state.rates.data());
    e.outputs();
    verifier.point(s.state, e);
    double slope = -1;
    Verifier::Near near{[&](double t, State& n) { n.z[0] = 1 + slope * t; }, [&](State& n) { s.simulation.solve_from_states(n); }};
    verifier.slopes(s.state, e, 0.1, near);
    CHECK(verifier.result().holds);
    slope = -0.5;
    verifier.slopes(s.state, e, 0.1, near);
    Verification v = verifier.result();
    CHECK_FALSE(v.holds);
    CHECK(v.findings[0].kind == Verification::Finding::Kind::slope);
    CHECK(v.findings[0].left == doctest::Approx(-0.5));
    CHECK(v.findings[0].right == doctest::Approx(-1));
}

TEST_CASE("Run::verify looks at the present point; the command line says it, and its exit code")
{
    Run run(test::compile(kBlock));
    run.step_to(0.5);
    Verification v = run.verify();
    CHECK(v.holds);
    CHECK(v.points == 1);
    test::Scratch scratch;
    test::write_file(scratch / "s.loop", std::string(kBlock) + "scenario s of S { stop at 3 s }");
    test::Outcome o = test::netloop("run " + (scratch / "s.loop") + " --verify");
    CHECK(o.code == 0);
    CHECK(o.out.find("\n  verified: 3 equations") != std::string::npos);
    o = test::netloop("run " + (scratch / "s.loop") + " --verify --json");
    CHECK(o.out.find("\"holds\": true") != std::string::npos);
    o = test::netloop("run " + (scratch / "s.loop"));
    CHECK(o.out.find("verified") == std::string::npos);
}

TEST_SUITE_END();

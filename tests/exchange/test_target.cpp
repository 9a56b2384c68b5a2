// SPDX-License-Identifier: Apache-2.0
// The stand-in for a target of examples/target: the machine in one process, its controller in another.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("exchange");

namespace {

test::Outcome run(const test::Scratch& scratch, const std::string& arguments, int port)
{
    return test::shell("OUT=" + (scratch / "target") + " PORT=" + std::to_string(port) + " NETLOOP=\"$NETLOOP_PROGRAM\" timeout 60 " +
                       test::source_path("examples/target/run") + " " + arguments);
}

double value_of(const std::string& out, const std::string& name)
{
    std::size_t at = out.find(name + " = ");
    return at == std::string::npos ? std::nan("") : std::strtod(&out[at + name.size() + 3], nullptr);
}

}  // namespace

TEST_CASE("step by step with its controller: to the last bit what the same controller does with the machine in this process")
{
    test::Scratch scratch;
    test::Outcome o = run(scratch, "16 lockstep", 27350);
    REQUIRE_MESSAGE(o.code == 0, o.out, o.err);
    CHECK(o.err.empty());
    CHECK(o.out.find("16000 steps of 0.001 s") != std::string::npos);
    // controller.c once more
    nl::Library library = nl::Library::standard();
    library.load_file(test::source_path("examples/bascule/bridge.loop"));
    nl::CompiledSystem system = nl::compile(library, {.from_outside = {"valve.command"}});
    nl::FixedStepRun machine(system, {.method = "linear-euler", .step = 1e-3}, {"valve.command"}, {"leaf.angle"});
    double integral = 0, command = 0, next = 0;
    for (int k = 0; k < 16000; ++k) {
        double t = machine.time();
        if (t >= next - 1e-9) {
            double top = 40.0 / 90.0, speed = t > 2 && t < 14 ? top / (14.0 - 2.0) : 0, plan = t <= 2 ? 0 : t >= 14 ? top : top * (t - 2) / (14.0 - 2.0);
            double deviation = plan - machine.output(0) / 1.5707963267948966, wanted = 2.0 * deviation + integral + speed / (20.0 / 90.0);
            command = wanted > 1 ? 1 : wanted < -1 ? -1 : wanted;
            if (command == wanted) integral += 2.0 * deviation * 0.01 / 60.0;
            next += 0.01;
        }
        machine.set_input(0, command);
        REQUIRE(machine.step() == nl::FixedStepStatus::good);
    }
    double deg = 57.295779513082323;
    CHECK(value_of(o.out, "leaf.angle") == doctest::Approx(machine.output(0) * deg).epsilon(1e-14));
    CHECK(machine.output(0) * deg == doctest::Approx(40).epsilon(0.02));
}

TEST_CASE("in its own time: three seconds at 1 ms come to their end, with a histogram")
{
    test::Scratch scratch;
    test::Outcome o = run(scratch, "3", 27360);
    REQUIRE_MESSAGE(o.code == 0, o.out, o.err);
    CHECK(o.out.find("3000 steps of 0.001 s") != std::string::npos);
    CHECK(o.out.find("deadlines lost") != std::string::npos);
    CHECK(o.out.find("  up to ") != std::string::npos);
    // up since 2 s: what the plan says, wherever the other process was in between
    double angle = value_of(o.out, "leaf.angle");
    CHECK(angle > 1);
    CHECK(angle < 5);
}

TEST_SUITE_END();

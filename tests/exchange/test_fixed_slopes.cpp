// SPDX-License-Identifier: Apache-2.0
// Derivatives beside a plan of fixed steps: what is differentiated by what, and the numbers.
#include <doctest/doctest.h>

#include <cmath>

#include "exchange/fixed_machine.hpp"
#include "runs/fixed_start.hpp"
#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("exchange");

TEST_CASE("a param that follows from an input hands on what moves it; a param of its own does not")
{
    nl::CompiledSystem system = test::compile(
        "system Law { input u = 2 ; param k = u * u ; param held = 5 ; var x init 3 ; x' * (1 s) = -k * x + u + held ; let o = k * sin(x) }\n"
        "scenario s of Law { stop at 1 s }\n");
    nl::FixedStepStart start(system, {});
    std::shared_ptr<const nl::FixedPlan> plan =
        start.plan({.step = 1e-3}, nl::inputs_named(*start.data().system, {"u"}), nl::outputs_named(*start.data().system, start.model(), {"o"}), true);
    const nl::FixedPlan::Slopes& p = plan->slopes;
    const nl::MemoryLayout& at = plan->model->layout;
    std::vector<double> memory = nl::begin_memory(*plan), scratch, moves(at.constants, 0.0);
    nl::execute(p.program, nl::Evaluator::plain, memory, scratch);
    REQUIRE(p.params.size() == 1);
    CHECK(memory[p.params[0].place] == doctest::Approx(4).epsilon(1e-14));  // dk/du = 2 u
    CHECK(p.params[0].by == at.parameters + plan->request.inputs[0]);
    moves[p.params[0].by] = 1;
    moves[at.parameters + p.params[0].of] = memory[p.params[0].place];
    // the rate: -4 x + 1
    for (std::uint32_t side : p.side) memory[side] = 0;
    for (const auto& e : p.rows) memory[p.side[e.of]] += memory[e.place] * moves[e.by];
    nl::execute(p.substitution, nl::Evaluator::plain, memory, scratch);
    std::size_t n_states = 0;
    for (std::size_t i = 0; i < plan->is_state.size(); ++i) {
        if (plan->is_state[i] == 0) continue;
        ++n_states;
        CHECK(-memory[p.result[i]] == doctest::Approx(-4 * 3 + 1).epsilon(1e-14));
    }
    CHECK(n_states == 1);
    for (const auto& e : p.rows) CHECK((e.by < at.z ? e.by != at.parameters + 2 : true));
    // the output by k and by x, each once
    REQUIRE(p.outputs.size() == 2);
    for (const auto& e : p.outputs) CHECK(memory[e.place] == doctest::Approx(e.by < at.z ? std::sin(3) : 4 * std::cos(3)).epsilon(1e-14));
    CHECK(p.conditions.empty());
}

TEST_CASE("without anybody who asks there are none, and the plan is as it was")
{
    nl::CompiledSystem system = test::compile("system Lag { var x init 1 ; x' * (1 s) = -x }\nscenario s of Lag { stop at 1 s }\n");
    nl::FixedStepStart start(system, {});
    std::shared_ptr<const nl::FixedPlan> plan = start.plan({.step = 1e-3}, {}, {});
    CHECK(plan->slopes.program.kernels.empty());
    CHECK(plan->slopes.graph == nullptr);
    CHECK(plan->again.result.empty());
}

TEST_SUITE_END();

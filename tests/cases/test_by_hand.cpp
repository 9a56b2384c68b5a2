// SPDX-License-Identifier: Apache-2.0
// Whole machines against the same machines derived and programmed by hand (bench/by_hand), integrated by CVODE: no line of the equations
// there comes from this library.
#include <doctest/doctest.h>

#include <cmath>

#include "../../bench/by_hand/problems.hpp"
#include "support/support.hpp"

TEST_SUITE_BEGIN("cases");

TEST_CASE("chains of twelve cells and the bridge come out as their hand-written programs say")
{
    std::vector<std::string> names = by_hand::kProblems;
    names.push_back(by_hand::kBridge);
    for (const std::string& name : names) {
        INFO(name);
        std::unique_ptr<by_hand::Problem> p = by_hand::make_problem(name, name == "pipe grid" ? 16 : 12);
        std::vector<double> times;
        for (int k = 1; k <= 4; ++k) times.push_back(p->stop() * k / 4);
        by_hand::Result wanted = by_hand::solve(*p, {1e-10, false, 5}, times);
        REQUIRE(wanted.done);
        netloop::Run run(test::compile(p->model()));
        netloop::RunOptions options;
        options.stop = p->stop();
        options.output_every = p->stop() / 4;
        options.tolerance = 1e-8;
        netloop::Recording got = run.simulate(options);
        for (std::size_t s = 0; s < p->n_states(); ++s) {
            double size = p->usual(s);
            for (const auto& y : wanted.states) size = std::max(size, std::abs(y[s]));
            for (std::size_t k = 0; k < times.size(); ++k) {
                INFO(p->path(s) << " at " << times[k] << " s");
                CHECK(std::abs(got[p->path(s)].at(times[k], got.time()) - wanted.states[k][s]) < 2e-6 * size);
            }
        }
    }
}

TEST_SUITE_END();

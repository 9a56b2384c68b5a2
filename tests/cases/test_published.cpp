// SPDX-License-Identifier: Apache-2.0
// Problems of the literature of initial value problems (bench/published, which says where each is from) against the end values printed there, and against
// programs written by hand of the same equations.
#include <doctest/doctest.h>

#include <cmath>
#include <map>

#include "../../bench/published/problem.hpp"
#include "support/support.hpp"

namespace {

// How much of a member's size the answer may be off, at a tolerance of 1e-9: what the problem makes of small errors. Arenstorf's orbit passes the moon closely
// and multiplies them by a million; the modulator and the amplifier switch their diodes many times.
double allowed(const std::string& name)
{
    static const std::map<std::string, double> kMore{
        {"Arenstorf orbit", 2e-3}, {"ring modulator", 5e-5}, {"transistor amplifier", 2e-5}, {"Pleiades", 1e-5}, {"beam", 1e-5}};
    auto found = kMore.find(name);
    return found == kMore.end() ? 1e-6 : found->second;
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("published problems end where the literature says")
{
    for (const published::Problem& p : published::all_problems()) {
        if (p.printed.empty()) continue;
        INFO(p.name);
        netloop::Library library = netloop::Library::standard();
        library.load_text(p.name + ".loop", p.text + published::scenario_of(p));
        netloop::CompiledSystem system = netloop::compile(library, {.system = "", .scenario = "measured"});
        netloop::Run run(system);
        netloop::RunOptions options;
        options.stop = p.stop;
        options.output_every = p.stop / 10;
        options.tolerance = 1e-9;
        netloop::Recording r = run.simulate(options);
        for (const auto& [i, value] : p.printed) {
            double got = r[p.paths[i]].final(), size = std::abs(value);
            if (p.name == "Arenstorf orbit" || p.name == "Pleiades" || p.name == "ring modulator") size = std::max(size, 0.1);
            INFO(p.paths[i] << " = " << got << ", printed " << value);
            CHECK(std::abs(got - value) < allowed(p.name) * size);
        }
    }
}

TEST_CASE("published problems have the rates that programs written by hand give")
{
    // along a run, at each row: f(t, y) of the hand-written program, and what the run says the rates are
    for (const published::Problem& p : published::all_problems()) {
        if (!p.is_explicit()) continue;
        INFO(p.name);
        netloop::Library library = netloop::Library::standard();
        std::string text = p.text;
        for (std::size_t i = 0; i < p.n; ++i) text.insert(text.rfind('}'), "    let told_rate" + std::to_string(i) + " = " + p.paths[i] + "'\n");
        library.load_text(p.name + ".loop", text + published::scenario_of(p));
        netloop::CompiledSystem system = netloop::compile(library, {.system = "", .scenario = "measured"});
        netloop::Run run(system);
        netloop::RunOptions options;
        options.stop = p.stop;
        options.output_every = p.stop / 20;
        netloop::Recording r = run.simulate(options);
        std::vector<double> y(p.n), f(p.n);
        double worst = 0;
        for (std::size_t row = 0; row < r.n_rows(); ++row) {
            for (std::size_t i = 0; i < p.n; ++i) y[i] = r[p.paths[i]].values[row];
            p.rates(r.time().values[row], y.data(), f.data());
            double size = 0;
            for (std::size_t i = 0; i < p.n; ++i) size = std::max(size, std::abs(f[i]));
            for (std::size_t i = 0; i < p.n; ++i) worst = std::max(worst, std::abs(r["told_rate" + std::to_string(i)].values[row] - f[i]) / size);
        }
        CHECK(worst < 1e-9);
    }
}

TEST_CASE("where it has become stiff, the method for that goes on with the history of the one before")
{
    published::Problem p = published::hires();
    auto steps = [&](const std::string& method) {
        netloop::Run run(test::compile(p.text));
        netloop::RunOptions options;
        options.stop = p.stop;
        options.integrator = method;
        run.simulate(options);
        CHECK((method == "auto") == (run.summary().integrator.find("bdf (stiff)") != std::string::npos));
        return run.summary().steps;
    };
    CHECK(static_cast<double>(steps("auto")) < 1.15 * static_cast<double>(steps("bdf")));
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// Another component in the place of a part: what must fit, what is given to it, what is told where it does not.
#include <doctest/doctest.h>

#include <cmath>

#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("model");

namespace {

const std::string kModel =
    "component Lag { option doubled = false ; param T : s = 1 s in 1 ms .. 100 s ; input u : 1 ; output y : 1 ; var x init 0 ; T * x' = u - x ; y = (if "
    "doubled then 2 else 1) * x }\n"
    "component Straight { param factor = 1 ; input u : 1 ; output y : 1 ; y = factor * u }\n"
    "component Deaf { output y : 1 ; y = 1 }\n"
    "component InVolts { input u : V ; output y : 1 ; y = u / (1 V) }\n"
    "component Chain { input u : 1 ; output y : 1 ; part first : Lag(T = 2 s) ; part second : Lag ; part cells[2] : Lag\n"
    "  u -> first.u ; first.y -> second.u ; second.y -> cells[1].u ; cells[1].y -> cells[2].u ; y = second.y }\n"
    "system S { part chain : Chain ; 3 -> chain.u }\n"
    "system T { part chain : Chain(first = Straight(factor = 5)) ; 3 -> chain.u }\n"
    "scenario plain of S { stop at 1 s }\n"
    "scenario put of S { put chain.first = Straight(factor = 2) ; set chain.first.factor = 4 ; stop at 1 s }\n";

double second(const nl::CompileRequest& request, double until = 1)
{
    nl::Library library = nl::Library::standard();
    library.load_text("model.loop", kModel);
    nl::Run run(nl::compile(library, request));
    nl::RunOptions exact;
    exact.tolerance = 1e-9;
    exact.stop = until;
    run.simulate(exact);
    return run.value("chain.second.y");
}

std::string refused(const nl::CompileRequest& request)
{
    try {
        (void)second(request);
    } catch (const nl::ModelError& error) {
        return error.what();
    }
    return "nothing";
}

}  // namespace

TEST_CASE("a component that fits stands in the place of a part: in a scenario, from outside, from whoever holds it")
{
    const double settled = 1 - std::exp(-1.0);  // of second, with T = 1 s
    CHECK(second({.scenario = "put"}) == doctest::Approx(3 * 4 * settled).epsilon(1e-7));
    CHECK(second({.system = "T", .no_scenario = true}) == doctest::Approx(3 * 5 * settled).epsilon(1e-7));
    CHECK(second({.scenario = "plain", .set = {{"chain.first", "Straight(factor = 2)"}}}) == doctest::Approx(3 * 2 * settled).epsilon(1e-7));
    // what comes later wins, and options go with it
    CHECK(second({.scenario = "put", .set = {{"chain.first", "Straight()"}, {"chain.first.factor", "1"}, {"chain.second.doubled", "true"}}}) ==
          doctest::Approx(2 * 3 * settled).epsilon(1e-7));
    // as it was: x'' of two lags, 2 s and 1 s
    CHECK(second({.scenario = "plain"}) == doctest::Approx(3 * (1 - 2 * std::exp(-0.5) + std::exp(-1.0))).epsilon(1e-7));
}

TEST_CASE("what does not fit in the place of a part is refused by what it lacks")
{
    auto with = [](const std::string& path, const std::string& value) { return refused({.scenario = "plain", .set = {{path, value}}}); };
    CHECK(with("chain.first", "Deaf()").find("it has no input 'u'") != std::string::npos);
    CHECK(with("chain.first", "Deaf()").find("at least the ports, inputs and outputs of 'Lag'") != std::string::npos);
    CHECK(with("chain.first", "InVolts()").find("its input 'u' is in [V], not [1]") != std::string::npos);
    CHECK(with("chain.first", "Nothing()").find("Nothing") != std::string::npos);
    CHECK(with("chain.cells", "Straight()").find("an array of parts") != std::string::npos);
    CHECK(with("chain.u", "Straight()").find("no slot and no part") != std::string::npos);
    // a value that only the component before it had
    std::string gone = refused({.scenario = "put", .set = {{"chain.first.T", "3 s"}}});
    CHECK(gone.find("'T'") != std::string::npos);
    CHECK(gone.find("Straight") != std::string::npos);
}

TEST_SUITE_END();

// SPDX-License-Identifier: Apache-2.0
// A compiled system owns what it was made of, and a library is afterwards what it was before.
#include <doctest/doctest.h>

#include <cmath>
#include <cstdint>
#include <cstdio>
#include <optional>
#include <thread>

#include "model/library_set.hpp"
#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("api");

namespace {

constexpr const char* kDecay =
    "## y dies away.\n"
    "system Decay { param k : 1/s = 1 s^-1 ; option fast = false ; var y : m init 1 m ; if fast { y' = -10 * k * y } else { y' = -k * y } }\n"
    "system Other { var z : m init 1 m ; z' = 1 m/s }\n";

nl::CompiledSystem decay(const nl::Library& library, std::vector<std::pair<std::string, std::string>> set = {})
{
    return nl::compile(library, {.system = "Decay", .no_scenario = true, .set = std::move(set)});
}

}  // namespace

TEST_CASE("what is set from outside is no part of the model's texts, nor of their hash")
{
    nl::Library library = nl::Library::standard();
    library.load_text("decay.loop", kDecay);
    nl::CompiledSystem plain = decay(library), changed = decay(library, {{"k", "2 s^-1"}, {"fast", "true"}}), again = decay(library);
    nl::Library other = nl::Library::standard();
    other.load_text("decay.loop", kDecay);
    CHECK(plain.text_hash() == changed.text_hash());
    CHECK(plain.text_hash() == again.text_hash());
    CHECK(plain.text_hash() == decay(other).text_hash());
    nl::Library longer = nl::Library::standard();
    longer.load_text("decay.loop", std::string(kDecay) + "\n");
    CHECK(plain.text_hash() != decay(longer).text_hash());
    // FNV-1a of the text, 64 bits, worked out here once more
    std::uint64_t hash = 0xcbf29ce484222325u;
    for (const char* c = kDecay; *c != 0; ++c) hash = (hash ^ static_cast<unsigned char>(*c)) * 0x100000001b3u;
    char text[17];
    std::snprintf(text, sizeof text, "%016llx", static_cast<unsigned long long>(hash));
    CHECK(plain.text_hash() == text);

    nl::Run run(changed);
    nl::Recording recording = run.simulate({.stop = 0.1});
    REQUIRE(recording.origin.texts.size() == 1);
    CHECK(recording.origin.texts[0].text == kDecay);
    CHECK(recording.origin.settings == std::vector<std::pair<std::string, std::string>>{{"k", "2 s^-1"}, {"fast", "true"}});
    CHECK(recording["y"].final() == doctest::Approx(std::exp(-2.0)).epsilon(1e-5));

    test::Scratch scratch;
    nl::Run(changed).simulate({.stop = 0.1, .out = scratch / "run.h5"});
    nl::Recording read = nl::Recording::load(scratch / "run.h5");
    CHECK(read.origin.settings == recording.origin.settings);
    CHECK(read.origin.text_hash == plain.text_hash());
}

TEST_CASE("only the texts that a system is made of count for its hash")
{
    nl::Library library = nl::Library::standard();
    library.load_text("decay.loop", kDecay);
    std::string hash = decay(library).text_hash();
    library.load_text("elsewhere.loop", "system Elsewhere { var q : m init 1 m ; q' = 0 m/s }");
    CHECK(decay(library).text_hash() == hash);
}

TEST_CASE("compilations leave nothing in the library")
{
    nl::Library library = nl::Library::standard();
    library.load_text("decay.loop", kDecay);
    decay(library);
    std::size_t texts = library.set().sources.size(), files = library.set().n_files();
    for (int k = 0; k < 50; ++k) {
        decay(library, {{"k", "3 s^-1"}});
        CHECK_THROWS_AS(decay(library, {{"k", "3 bar"}}), nl::ModelError);
        CHECK_THROWS_AS(decay(library, {{"nothing", "3"}}), nl::ModelError);
    }
    CHECK(library.set().sources.size() == texts);
    CHECK(library.set().n_files() == files);
    decay(library);
    CHECK(library.set().diagnostics.items().empty());
}

TEST_CASE("a faulty definition is told each time, not only the first")
{
    nl::Library library = nl::Library::standard();
    library.load_text("faulty.loop", "component A { param k : 1 = 1 ; param k : 1 = 2 }\nsystem S { part a : A ; var x init 1 ; x' = -x }");
    std::string first, second;
    try {
        nl::compile(library);
    } catch (const nl::ModelError& error) {
        first = error.what();
        CHECK(error.id() == "name-taken");
    }
    try {
        nl::compile(library);
    } catch (const nl::ModelError& error) {
        second = error.what();
    }
    CHECK_FALSE(first.empty());
    CHECK(second == first);
}

TEST_CASE("a system outlives its library, its builder and its expressions")
{
    std::optional<nl::CompiledSystem> from_text, built;
    {
        nl::Library library = nl::Library::standard();
        library.load_text("decay.loop", kDecay);
        from_text = decay(library, {{"k", "2 s^-1"}});
        nl::SystemBuilder builder("Built", library);
        auto x = builder.param("x0", "m", nl::q(3, "m"));
        nl::ComponentBuilder part("Grows", library);
        auto y = part.var("y", "m");
        part.equation(nl::rate(y) == nl::Expression(nl::q(2, "m/s")));
        part.init(y, nl::Expression(nl::q(1, "m")));
        part.define();
        builder.part("grows", "Grows");
        built = nl::compile(builder);
        builder.part("another", "Grows");
        CHECK(nl::compile(builder).n_states() == 2);
        CHECK(nl::compile(builder).n_states() == 2);
    }
    CHECK(built->n_states() == 1);
    CHECK(nl::Run(*from_text).simulate({.stop = 1.0})["y"].final() == doctest::Approx(std::exp(-2.0)).epsilon(1e-5));
    CHECK(nl::Run(*built).simulate({.stop = 1.0})["grows.y"].final() == doctest::Approx(3));
    nl::Run faulty(*from_text);
    faulty.set("k", nl::q(-1e300, "1/s"));
    CHECK_THROWS_AS(faulty.simulate({.stop = 1.0}), nl::RunError);  // its message looks at texts that are gone from the library
}

TEST_CASE("several threads load, look, compile and run on one library")
{
    nl::Library library = nl::Library::standard();
    library.load_text("decay.loop", kDecay);
    std::vector<double> ends(8, 0);
    std::vector<std::thread> threads;
    for (std::size_t k = 0; k < ends.size(); ++k)
        threads.emplace_back([&, k] {
            for (int round = 0; round < 3; ++round) {
                std::string name = "own" + std::to_string(k) + "_" + std::to_string(round);
                library.load_text(
                    name + ".loop",
                    "system " + name + " { part m : mechanics.Mass(mass = 2 kg) ; part f : mechanics.ForceSource ; f.point -- m.point ; 4 N -> f.force }");
                nl::CompiledSystem system = decay(library, {{"k", std::to_string(k + 1) + " s^-1"}});
                nl::Run run(system);
                ends[k] = run.simulate({.stop = 1.0, .tolerance = 1e-8})["y"].final();
                library.describe("hydraulics.ReliefValve");
                library.find("relief valve");
                library.list("heat");
            }
        });
    for (std::thread& t : threads) t.join();
    for (std::size_t k = 0; k < ends.size(); ++k) CHECK(ends[k] == doctest::Approx(std::exp(-static_cast<double>(k + 1))).epsilon(1e-6));
}

TEST_CASE("built expressions: sums of any length, and a bound on nesting")
{
    nl::SystemBuilder builder("Long", nl::Library::standard());
    auto x = builder.param("x", "1", nl::q(2, "1")), one = builder.param("one", "1", nl::q(1, "1"));
    nl::Expression sum = x, product = x, difference = x;
    for (int k = 0; k < 20000; ++k) sum = sum + one;
    for (int k = 0; k < 1000; ++k) product = product * one / one;
    for (int k = 0; k < 10; ++k) difference = difference - one;
    auto z = builder.input("z", "1", nl::q(0, "1"));
    builder.equation(nl::rate(builder.ref("y")) == nl::Expression(nl::q(1, "1/s")) * (sum + product + difference + z));
    CHECK_THROWS_AS(nl::compile(builder), nl::ModelError);  // no y is declared: told, whatever the length

    nl::Expression deep = x;
    for (int k = 0; k < 300; ++k) deep = one + (one - deep);
    CHECK_THROWS_WITH_AS(builder.equation(z == deep), doctest::Contains("200 deep"), nl::UsageError);
}

TEST_CASE("a long built sum has the value of its terms")
{
    nl::Library library = nl::Library::standard();
    nl::ComponentBuilder part("Long", library);
    auto y = part.var("y", "1");
    nl::Expression sum = 0.5;
    for (int k = 0; k < 20000; ++k) sum = k % 2 == 0 ? sum + 0.25 : sum - 0.125;
    part.equation(nl::rate(y) * nl::Expression(nl::q(1, "s")) == sum);
    part.init(y, 0.0);
    part.define();
    nl::SystemBuilder builder("S", library);
    builder.part("part", "Long");
    nl::Run run(nl::compile(builder));
    CHECK(run.simulate({.stop = 2.0})["part.y"].final() == doctest::Approx(2 * (0.5 + 10000 * 0.125)).epsilon(1e-9));
}

TEST_SUITE_END();

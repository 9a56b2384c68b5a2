// SPDX-License-Identifier: Apache-2.0
// A run that keeps few quantities works those out alone: the same numbers, and nothing of the others is asked. Where all runs are verified they are all worked
// out; so these runs are made without.
#include <doctest/doctest.h>

#include <cmath>
#include <cstdlib>

#include "base/verifies_all.hpp"
#include "support/support.hpp"

using namespace netloop;

namespace {

class Unverified {
public:
    Unverified() : was_(verifies_all()) { unsetenv("NETLOOP_VERIFY"); }
    ~Unverified()
    {
        if (was_) setenv("NETLOOP_VERIFY", "1", 1);
    }
    Unverified(const Unverified&) = delete;
    Unverified& operator=(const Unverified&) = delete;

private:
    bool was_;
};

Recording recorded(const CompiledSystem& system, const std::vector<std::string>& keep)
{
    RunOptions options;
    options.keep = keep;
    Run run(system);
    return run.simulate(options);
}

}  // namespace

TEST_SUITE_BEGIN("api");

TEST_CASE("kept quantities have the numbers that they have where all are kept, to the bit, in every shipped model")
{
    Unverified alone;
    std::size_t compared = 0;
    for (const test::Shipped& shipped : test::shipped_models()) {
        if (shipped.file.find("whole") != std::string::npos || shipped.file.find("studies") != std::string::npos) continue;  // they take their time
        INFO(shipped.file << " " << shipped.scenario);
        Library library = Library::standard();
        library.load_file(shipped.file);
        CompiledSystem system = compile(library, {.system = "", .scenario = shipped.scenario});
        Recording all = recorded(system, {});
        // every seventh quantity, derivatives and array cells among them
        std::vector<std::string> keep;
        for (std::size_t c = 1; c < all.columns.size(); c += 7) keep.push_back(all.columns[c].name);
        if (keep.empty()) continue;
        Recording few = recorded(system, keep), again = recorded(system, keep);  // the second by the program that the first made
        REQUIRE(few.n_rows() == all.n_rows());
        CHECK(few.columns.size() <= keep.size() + 1);
        for (const std::string& path : keep) {
            INFO(path);
            CHECK(few[path].values == all[path].values);
            CHECK(again[path].values == all[path].values);
        }
        ++compared;
    }
    CHECK(compared > 20);
}

TEST_CASE("what is recorded must be finite; what is not kept need not be")
{
    Unverified alone;
    CompiledSystem system =
        test::compile("system S { var x init 1 ; x' = -x * 1 s^-1 ; let late = sqrt(x - 2) ; let other = 2 * x ; let third = x + 1 ; let fourth = x - 1 }");
    RunOptions options;
    options.stop = 1;
    options.keep = {"x"};
    Run fine(system);
    CHECK(fine.simulate(options)["x"].final() == doctest::Approx(std::exp(-1.0)).epsilon(1e-5));
    options.keep = {"x", "late"};
    Run broken(system);
    try {
        broken.simulate(options);
        FAIL("a quantity without a value was recorded");
    } catch (const Error& error) {
        CHECK(std::string(error.what()).find("late") != std::string::npos);
    }
}

TEST_SUITE_END();

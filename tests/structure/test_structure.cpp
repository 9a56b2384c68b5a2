// SPDX-License-Identifier: Apache-2.0
// The house in order: a stage includes only stages to its left.
#include <doctest/doctest.h>

#include <filesystem>
#include <map>
#include <sstream>

#include "support/support.hpp"

namespace fs = std::filesystem;

TEST_SUITE_BEGIN("structure");

TEST_CASE("a folder includes only folders before it")
{
    const std::vector<std::string> order{"base",     "files",  "units", "language", "algebra",   "foreign", "model",  "compile",
                                         "evaluate", "linear", "solve", "events",   "integrate", "verify",  "record", "analyse",
                                         "exchange", "api",    "runs",  "store",    "study",     "figures"};
    std::map<std::string, int> place;
    for (std::size_t i = 0; i < order.size(); ++i) place[order[i]] = static_cast<int>(i);
    int looked = 0;
    for (const auto& entry : fs::recursive_directory_iterator(test::source_path("src"))) {
        if (!entry.is_regular_file()) continue;
        std::string stage = fs::relative(entry.path(), test::source_path("src")).begin()->string();
        INFO(entry.path().string());
        REQUIRE(place.contains(stage));
        std::string text = test::read_file(entry.path().string());
        std::istringstream lines(text);
        for (std::string line; std::getline(lines, line);) {
            if (!line.starts_with("#include \"")) continue;
            std::size_t slash = line.find('/');
            if (slash == std::string::npos) continue;
            std::string other = line.substr(10, slash - 10);
            if (other == "netloop") continue;
            REQUIRE(place.contains(other));
            CHECK(place[other] <= place[stage]);
            ++looked;
        }
    }
    CHECK(looked > 100);
}

TEST_CASE("public headers include no inner ones, and there are few of them")
{
    int n = 0;
    for (const auto& entry : fs::directory_iterator(test::source_path("include/netloop"))) {
        ++n;
        std::string text = test::read_file(entry.path().string());
        INFO(entry.path().string());
        for (const char* inner : {"\"base/", "\"model/", "\"algebra/", "\"compile/", "fmt/", "hdf5", "sundials", "klu"})
            CHECK(text.find(std::string("#include ") + inner) == std::string::npos);
        CHECK(text.find("#include <fmt") == std::string::npos);
    }
    CHECK(n < 20);
}

TEST_CASE("no folder of the sources holds more than thirty files")
{
    std::map<std::string, int> files;
    for (const auto& entry : fs::recursive_directory_iterator(test::source_path("src")))
        if (entry.is_regular_file()) ++files[entry.path().parent_path().string()];
    for (const auto& [folder, n] : files) {
        INFO(folder);
        CHECK(n <= 30);
    }
}

TEST_SUITE_END();

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

TEST_CASE(
    "no two sources of the core call a type of their own alike: several of them are compiled as one text, and which ones depends on the compiler's preset")
{
    std::map<std::string, std::string> where;
    for (const auto& entry : fs::recursive_directory_iterator(test::source_path("src"))) {
        if (!entry.is_regular_file() || entry.path().extension() != ".cpp") continue;
        std::istringstream lines(test::read_file(entry.path().string()));
        bool own = false;
        for (std::string line; std::getline(lines, line);) {
            if (line.starts_with("namespace {")) own = true;
            if (line.starts_with("}  // namespace")) own = false;
            for (const char* word : {"struct ", "class ", "enum class ", "enum "})
                if (own && line.starts_with(word)) {
                    std::size_t from = std::string(word).size();
                    std::string name = line.substr(from, line.find_first_of(" :;{", from) - from);
                    if (name.empty()) break;  // without a name, in C that we write
                    auto [before, fresh] = where.emplace(name, entry.path().string());
                    INFO(name, " in ", before->second, " and ", entry.path().string());
                    CHECK(fresh);
                    break;
                }
        }
    }
    CHECK(where.size() > 50);
}

TEST_SUITE_END();

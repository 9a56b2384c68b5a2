// SPDX-License-Identifier: Apache-2.0
// The documentation is whole: links lead somewhere, and the pages of the libraries are those of today.
#include <doctest/doctest.h>

#include <algorithm>
#include <filesystem>
#include <regex>
#include <set>
#include <sstream>

#include "support/support.hpp"

namespace fs = std::filesystem;

namespace {

std::vector<std::string> documents()
{
    std::vector<std::string> list{test::source_path("README.md"), test::source_path("CHANGELOG.md")};
    for (const auto& entry : fs::recursive_directory_iterator(test::source_path("docs")))
        if (entry.path().extension() == ".md") list.push_back(entry.path().string());
    return list;
}

// Anchors of a document's headings: lower case, blanks to hyphens, punctuation dropped.
std::set<std::string> anchors(const std::string& text)
{
    std::set<std::string> list;
    std::istringstream in(text);
    bool listing = false;
    for (std::string line; std::getline(in, line);) {
        if (line.rfind("```", 0) == 0) listing = !listing;
        if (listing || line.empty() || line[0] != '#') continue;
        std::string anchor;
        for (char c : line.substr(line.find_first_not_of('#') + 1)) {
            if (c == ' ') anchor += '-';
            if (std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '-' || c == '_')
                anchor += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
        }
        list.insert(anchor);
    }
    return list;
}

}  // namespace

TEST_SUITE_BEGIN("structure");

TEST_CASE("every link of the documentation leads to a file that is there, and to a heading in it")
{
    static const std::regex kLink(R"(\]\(([^)\s]+)\))");
    int n = 0;
    for (const std::string& file : documents()) {
        std::string text = test::read_file(file);
        for (auto it = std::sregex_iterator(text.begin(), text.end(), kLink); it != std::sregex_iterator(); ++it) {
            std::string target = (*it)[1];
            INFO(file, ": ", target);
            if (target.rfind("http", 0) == 0) continue;
            std::size_t hash = target.find('#');
            std::string path = target.substr(0, hash), whole = path.empty() ? file : (fs::path(file).parent_path() / path).string();
            CHECK(fs::exists(whole));
            ++n;
            if (hash == std::string::npos || fs::path(whole).extension() != ".md" || !fs::exists(whole)) continue;
            CHECK(anchors(test::read_file(whole)).count(target.substr(hash + 1)) == 1);
        }
    }
    CHECK(n > 200);
}

TEST_CASE("docs/libraries holds what `describe --handbook` writes today")
{
    test::Scratch folder;
    CHECK(test::netloop("describe --handbook " + folder.path()).code == 0);
    std::set<std::string> made, kept;
    for (const auto& e : fs::directory_iterator(folder.path())) made.insert(e.path().filename().string());
    for (const auto& e : fs::directory_iterator(test::source_path("docs/libraries"))) kept.insert(e.path().filename().string());
    CHECK(made == kept);
    for (const std::string& name : made) {
        INFO(name, ": made anew by build/release/netloop describe --handbook docs/libraries");
        CHECK(test::read_file(folder / name) == test::read_file(test::source_path("docs/libraries/" + name)));
    }
}

TEST_CASE("every component's page says what it is and shows how it is used")
{
    netloop::Library library = netloop::Library::standard();
    int sources = 0;
    for (const std::string& p : library.packages())
        for (const auto& e : library.list(p)) {
            if (e.kind != "component") continue;
            INFO(e.name);
            std::string page = library.describe(e.name);
            CHECK(page.find("\nexample\n") != std::string::npos);
            bool symbols = page.find("\nports\n") != std::string::npos || page.find("\noutputs\n") != std::string::npos ||
                           page.find("\ntakes over\n") != std::string::npos;
            CHECK(symbols);
            sources += page.find("\nsource\n") != std::string::npos ? 1 : 0;
        }
    CHECK(sources > 40);
    std::string relief = library.describe("hydraulics.ReliefValve", netloop::Library::Form::markdown);
    CHECK(relief.find("$$\\mathit{inlet.m} + \\mathit{outlet.m} = 0$$") != std::string::npos);
    CHECK(library.describe("hydraulics.CheckValve", netloop::Library::Form::markdown).find("\\frac{\\mathit{rated\\_flow}\\, \\max\\left(") !=
          std::string::npos);
    CHECK(library.describe("mechanics.Mass", netloop::Library::Form::json).find("\"latex\": \"\\\\mathit{mass}\\\\, \\\\dot{v}") != std::string::npos);
}

TEST_CASE("every former name that the libraries state is answered with the present one")
{
    int kinds = 0, members = 0;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(test::source_path("library"))) {
        if (entry.path().extension() != ".loop") continue;
        std::istringstream text(test::read_file(entry.path().string()));
        const std::string package = entry.path().parent_path().filename().string();
        std::string former;
        for (std::string line; std::getline(text, line);) {
            if (line.starts_with("## Formerly: ")) former += (former.empty() ? "" : ", ") + line.substr(13);
            if (line.starts_with("##") || former.empty()) continue;
            std::size_t at = line.find("component ");
            REQUIRE(at != std::string::npos);
            std::string kind = line.substr(at + 10, line.find_first_of(" :{", at + 10) - at - 10);
            std::istringstream items(former);
            for (std::string item; std::getline(items, item, ',');) {
                item.erase(0, item.find_first_not_of(' '));
                std::size_t arrow = item.find(" -> ");
                CAPTURE(package);
                CAPTURE(item);
                if (arrow == std::string::npos) {
                    ++kinds;
                    CHECK(test::messages_of("system S { part p : " + package + "." + item + " }").find("it is called '" + package + "." + kind + "' now") !=
                          std::string::npos);
                    CHECK(
                        test::messages_of("use " + package + "\nsystem S { part p : " + item + " }").find("it is called '" + package + "." + kind + "' now") !=
                        std::string::npos);
                } else {
                    ++members;
                    std::string old = item.substr(0, arrow), now = item.substr(arrow + 4);
                    CHECK(test::messages_of("system S { part p : " + package + "." + kind + " ; let x = p." + old + " }")
                              .find("it is called '" + now + "' now") != std::string::npos);
                }
            }
            former.clear();
        }
    }
    CHECK(kinds >= 13);
    CHECK(members >= 14);
}

TEST_SUITE_END();

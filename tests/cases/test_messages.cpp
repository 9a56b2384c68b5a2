// SPDX-License-Identifier: Apache-2.0
// Models with one mistake each: the message must stand on the faulty line, name the mend, and nothing else may be reported.
#include <doctest/doctest.h>

#include <algorithm>
#include <sstream>

#include "support/support.hpp"

namespace {

struct Case {
    std::string title, text;
    std::vector<std::string> expected;                          ///< "slug:line"
    std::vector<std::pair<std::string, std::string>> mentions;  ///< slug, what the message must mention
};

std::vector<Case> read_cases(const std::string& file)
{
    std::istringstream in(test::read_file(test::source_path("tests/cases/messages/" + file)));
    std::vector<Case> cases;
    std::string line;
    int number = 0;
    while (std::getline(in, line)) {
        if (line.starts_with("=== ")) {
            cases.push_back({line.substr(4), "", {}, {}});
            number = 0;
            continue;
        }
        REQUIRE_FALSE(cases.empty());
        ++number;
        Case& c = cases.back();
        c.text += line + "\n";
        if (std::size_t at = line.find("#! "); at != std::string::npos) {
            std::istringstream words(line.substr(at + 3));
            std::string slug, mention;
            words >> slug;
            std::getline(words >> std::ws, mention);  // the rest of the line: what the message must mention
            c.expected.push_back(slug + ":" + std::to_string(number));
            if (!mention.empty()) c.mentions.emplace_back(slug, mention);
        }
    }
    return cases;
}

void check_file(const std::string& file)
{
    std::vector<Case> cases = read_cases(file);
    CHECK(cases.size() > 15);
    for (const Case& c : cases) {
        std::string text = c.text;
        // definitions alone are checked with an empty system beside them
        if (text.find("system ") == std::string::npos) text += "system Nothing { var nothing init 1 ; nothing' = 0 }\n";
        std::vector<std::string> found = test::errors_of(text), expected = c.expected;
        std::sort(found.begin(), found.end());
        found.erase(std::unique(found.begin(), found.end()), found.end());
        std::sort(expected.begin(), expected.end());
        std::string messages = test::messages_of(text);
        INFO(file << ": " << c.title << "\n" << messages);
        CHECK(found == expected);
        for (const auto& [slug, mention] : c.mentions) CHECK(messages.find("'" + mention + "'") != std::string::npos);
    }
}

// Models that compile and whose run must fail: by the right kind of failure, naming the line and what is said there.
void run_file(const std::string& file)
{
    std::vector<Case> cases = read_cases(file);
    CHECK(cases.size() > 15);
    for (const Case& c : cases) {
        REQUIRE(c.expected.size() == 1);
        std::string slug = c.expected[0].substr(0, c.expected[0].find(':')), line = c.expected[0].substr(c.expected[0].find(':'));
        INFO(file << ": " << c.title);
        netloop::Library library = netloop::Library::standard();
        std::string said, id;
        try {
            library.load_text("model.loop", c.text);
            netloop::Run run(netloop::compile(library));
            netloop::RunOptions options;
            options.stop = 2;
            run.simulate(options);
        } catch (const netloop::RunError& e) {
            said = e.what();
            id = e.id();
        } catch (const netloop::ModelError& e) {
            said = e.what();
        }
        INFO(said);
        CHECK(id == slug);
        CHECK(said.find("model.loop" + line) != std::string::npos);
        for (const auto& [any, mention] : c.mentions) CHECK(said.find(mention) != std::string::npos);
    }
}

}  // namespace

TEST_SUITE_BEGIN("cases");

TEST_CASE("mistakes with memories, blocks and sequences")
{
    check_file("moments.cases");
}

TEST_CASE("mistakes with names and definitions")
{
    check_file("names.cases");
}
TEST_CASE("an angle without a unit is taken as radians, which is said where it is given: of params, at the start and as a guess")
{
    const std::string text =
        "use mechanics\nsystem S {\n part house : Foundation\n part pin : Pivot\n part boom : Bar(length = 3 m, mass = 300 kg)\n house.place -- pin.a\n pin.b "
        "-- boom.a\n"
        "init boom.angle' = 0 rad/s\n";
    auto warned = [&](const std::string& line) {
        int n = 0;
        const netloop::CompiledSystem system = test::compile(text + line + "\n}");
        for (const netloop::Diagnostic& d : system.notes()) n += d.id == "bare-radians" && d.line == 9;
        return n;
    };
    CHECK(warned("init boom.angle = 15") == 1);
    CHECK(warned("guess boom.angle = 15") == 1);
    CHECK(warned("init boom.angle = 15 deg") == 0);
    CHECK(warned("init boom.angle = pi / 12") == 0);
    CHECK(warned("init boom.angle = 0") == 0);
}

TEST_CASE("mistakes with units")
{
    check_file("units.cases");
}
TEST_CASE("mistakes with joints, signals, fluids and numbers of equations")
{
    check_file("structure.cases");
}

TEST_CASE("mistakes that only numbers show")
{
    run_file("numbers.cases");
}

TEST_SUITE_END();

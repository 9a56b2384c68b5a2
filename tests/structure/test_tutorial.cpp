// SPDX-License-Identifier: Apache-2.0
// Every command of docs/first_day.md and docs/studies.md is run, and what stands under it is what it answers.
#include <doctest/doctest.h>

#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <sstream>

#include "support/support.hpp"

namespace fs = std::filesystem;

namespace {

const char* const kTutorial = "docs/first_day.md";
const char* const kStudies = "docs/studies.md";

// What computing took differs from run to run, and counts of steps and small differences of numbers from processor to processor.
bool differs_each_time(const std::string& line)
{
    for (const char* word : {"  time ", "  spent ", "  events ", "  steps ", "  method ", "  computing "})
        if (line.rfind(word, 0) == 0) return true;
    return line.find(" MB)") != std::string::npos || line.rfind("holds ", 0) == 0 || line.rfind("study ", 0) == 0 || line.find(") / ") != std::string::npos ||
           line.find(" of the runs took ") != std::string::npos;
}

// The same words, and numbers that agree to a thousandth.
bool same_line(const std::string& a, const std::string& b)
{
    if (differs_each_time(a) && differs_each_time(b)) return a.substr(0, 6) == b.substr(0, 6);
    std::istringstream in_a(a), in_b(b);
    std::string wa, wb;
    for (;;) {
        bool more_a = static_cast<bool>(in_a >> wa), more_b = static_cast<bool>(in_b >> wb);
        if (more_a != more_b) return false;
        if (!more_a) return true;
        if (wa == wb) continue;
        char *end_a = nullptr, *end_b = nullptr;
        double x = std::strtod(wa.c_str(), &end_a), y = std::strtod(wb.c_str(), &end_b);
        if (end_a == wa.c_str() || std::string(end_a) != end_b || std::abs(x - y) > 1e-3 * std::abs(x)) return false;
    }
}

// The document as it would be today. Files are made, commands run in `folder`, one after the other.
std::string retold(const std::string& document, const std::string& folder, int& commands)
{
    std::istringstream in(document);
    std::string out;
    for (std::string line; std::getline(in, line);) {
        out += line + '\n';
        if (line.rfind("```loop ", 0) == 0) {
            std::string text, name = line.substr(8);
            while (std::getline(in, line) && line != "```") text += line + '\n';
            // shown as the program lays it out
            text = netloop::format_text(name, text);
            test::write_file(folder + "/" + name, text);
            out += text + "```\n";
        } else if (line.rfind("```console", 0) == 0) {
            std::string expected = line.size() > 11 ? line.substr(11) : "";
            while (std::getline(in, line) && line != "```") {
                if (line.rfind("$ ", 0) != 0) continue;  // an answer of before
                ++commands;
                std::string program = fs::path(std::getenv("NETLOOP_PROGRAM")).parent_path().string();
                test::Outcome o = test::shell("cd " + folder + " && PATH=" + program + ":$PATH && " + line.substr(2));
                INFO(line, "\n", o.err);
                CHECK(o.code == (expected.empty() ? 0 : 1));
                out += line + '\n';
                std::string said = o.out + o.err;
                out += said + (said.empty() || said.back() == '\n' ? "" : "\n");
            }
            out += "```\n";
        }
    }
    return out;
}

// Holds what a document says against what it would say today.
void compare_lines(const char* name, const std::string& document, const std::string& today)
{
    std::istringstream now(today), told(document);
    std::string a, b;
    int line = 0;
    while (std::getline(told, a)) {
        ++line;
        REQUIRE(std::getline(now, b));
        INFO(name, ":", line, ": made anew by NETLOOP_RETELL=1 and this test");
        INFO(a, "\n", b);
        CHECK(same_line(a, b));
    }
    CHECK_FALSE(std::getline(now, b));
}

}  // namespace

TEST_SUITE_BEGIN("structure");

TEST_CASE("the first day: every command runs, and its answer is the one in the text")
{
    test::Scratch folder;
    fs::create_directory_symlink(test::source_path("examples"), folder / "examples");
    std::string document = test::read_file(test::source_path(kTutorial));
    int commands = 0;
    std::string today = retold(document, folder.path(), commands);
    CHECK(commands >= 20);
    for (const char* picture : {"barge.png", "cabin.png", "barrier.png", "holding.png", "gate.png", "opening.png"}) {
        INFO(picture);
        CHECK(test::read_file(folder / picture).substr(1, 3) == "PNG");
    }
    CHECK(test::read_file(folder / "results.xml").find("<testsuite") != std::string::npos);
    // NETLOOP_RETELL=1 writes the answers and pictures of today into the document
    if (std::getenv("NETLOOP_RETELL") != nullptr) {
        test::write_file(test::source_path(kTutorial), today);
        for (const char* picture : {"barge.png", "cabin.png", "barrier.png", "holding.png"})
            fs::copy_file(folder / picture, test::source_path("docs/first_day/" + std::string(picture)), fs::copy_options::overwrite_existing);
        return;
    }
    compare_lines(kTutorial, document, today);
}

TEST_CASE("studies: every command runs, and its answer is the one in the text")
{
    test::Scratch folder;
    fs::create_directory_symlink(test::source_path("examples"), folder / "examples");
    std::string document = test::read_file(test::source_path(kStudies));
    int commands = 0;
    std::string today = retold(document, folder.path(), commands);
    CHECK(commands >= 9);
    CHECK(test::read_file(folder / "effects.png").substr(1, 3) == "PNG");
    CHECK(test::read_file(folder / "drive.html").find("id=\"axes\"") != std::string::npos);
    CHECK(netloop::Recording::load(folder / "run4.h5").n_rows() > 1000);
    if (std::getenv("NETLOOP_RETELL") != nullptr) {
        test::write_file(test::source_path(kStudies), today);
        return;
    }
    compare_lines(kStudies, document, today);
}

TEST_SUITE_END();

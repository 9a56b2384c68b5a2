// SPDX-License-Identifier: Apache-2.0
// The one layout of .loop files.
#include <doctest/doctest.h>

#include <algorithm>
#include <filesystem>

#include "support/support.hpp"

using namespace netloop;
namespace fs = std::filesystem;

namespace {

std::vector<std::string> shipped_files()
{
    std::vector<std::string> files;
    for (const char* folder : {"library", "examples"})
        for (const auto& e : fs::recursive_directory_iterator(test::source_path(folder)))
            if (e.path().extension() == ".loop") files.push_back(e.path().string());
    std::sort(files.begin(), files.end());
    return files;
}

// Blanks in columns and at line ends taken away or added; what stands in texts and comments stays.
std::string disturbed(const std::string& text, bool more)
{
    std::string out;
    bool comment = false, quoted = false, begin = true;
    for (std::size_t i = 0; i < text.size(); ++i) {
        char c = text[i];
        if (c == '\n') {
            out += more ? "  \t\r\n" : "\n";
            comment = quoted = false;
            begin = true;
            continue;
        }
        if (!quoted && c == '#') comment = true;
        if (!comment && c == '"') quoted = !quoted;
        if (!comment && !quoted && c == ' ') {
            if (begin && !more) continue;
            if (!more && i + 1 < text.size() && text[i + 1] == ' ') continue;
            out += more ? "   " : " ";
            continue;
        }
        begin = false;
        out += c;
    }
    return out;
}

}  // namespace

TEST_SUITE_BEGIN("language");

TEST_CASE("all shipped files are laid out, and laying them out once more changes nothing")
{
    std::vector<std::string> files = shipped_files();
    CHECK(files.size() > 60);
    for (const std::string& file : files) {
        INFO(file, ": laid out by netloop format library examples");
        std::string text = test::read_file(file);
        CHECK(format_text(file, text) == text);
    }
}

TEST_CASE("the same text in other blanks comes to the same layout")
{
    for (const std::string& file : shipped_files()) {
        INFO(file);
        std::string text = test::read_file(file);
        CHECK(format_text(file, disturbed(text, false)) == text);
        CHECK(format_text(file, disturbed(text, true)) == text);
    }
}

TEST_CASE("declarations, signals, ways out of stages and comments stand in columns")
{
    CHECK(format_text("a.loop",
                      "\n\n#note\nsystem   S{\n\n\nparam a:m=2 m in 1 m..3 m ## first\n  param longer_one : kg/m^3= 1e3 kg/m^3   ##second\nvar x:m init 1 "
                      "m\n\n\n\nlet y=-x+2*a-(-3 m)\n"
                      "a*x''  =-x^-1*( a-1 m )\n x  -> sink.signal\n  longer.path-> sink.b\ninit x'=0 m/s;init  y =1 m\n}\n\n") ==
          "#note\n"
          "system S {\n"
          "    param a          : m = 2 m in 1 m .. 3 m    ## first\n"
          "    param longer_one : kg/m^3 = 1e3 kg/m^3      ## second\n"
          "    var   x          : m init 1 m\n"
          "\n"
          "    let   y = -x + 2*a - (-3 m)\n"
          "    a*x'' = -x^-1*(a - 1 m)\n"
          "    x           -> sink.signal\n"
          "    longer.path -> sink.b\n"
          "    init  x' = 0 m/s ; init y = 1 m\n"
          "}\n");
    CHECK(format_text("b.loop",
                      "component C {\n  sequence s {\n stage up { v=1 }\n -> down when x>2 m\n -> resting_long after 3 s\nstage resting_long{ }\n   otherwise "
                      "{ v = 0 }\n }\n}\n") ==
          "component C {\n"
          "    sequence s {\n"
          "        stage up           { v = 1 }\n"
          "            -> down         when x > 2 m\n"
          "            -> resting_long after 3 s\n"
          "        stage resting_long { }\n"
          "        otherwise          { v = 0 }\n"
          "    }\n"
          "}\n");
}

TEST_CASE("blanks that mean something stay, and what goes on over lines is set in")
{
    CHECK(format_text("a.loop",
                      "system S {\n  let a = 3 N*m\n  let b = 3 m / s\n  let c = n-1\n  let d[n-1] = [1, 2 ,3]\n  for i in 1 .. n-1 { x[i+1]=x[ i ] }\n  let "
                      "after = 1\n  let e = (after - before)\n"
                      "  let f = if a>-1 then -2 else -b\n  let g = f(1,\n2, -3) +\n  4\n  p.a -- q.b\n  -- r.c\n}\n") ==
          "system S {\n"
          "    let   a = 3 N*m\n"
          "    let   b = 3 m / s\n"
          "    let   c = n - 1\n"
          "    let   d[n-1] = [1, 2, 3]\n"
          "    for i in 1 .. n-1 { x[i+1] = x[i] }\n"
          "    let   after = 1\n"
          "    let   e = (after - before)\n"
          "    let   f = if a > -1 then -2 else -b\n"
          "    let   g = f(1,\n"
          "        2, -3) +\n"
          "        4\n"
          "    p.a -- q.b\n"
          "        -- r.c\n"
          "}\n");
    CHECK(format_text("empty.loop", "") == "");
    CHECK(format_text("comment.loop", "# only\n\n\n\n## this  \n") == "# only\n\n## this\n");
    CHECK(format_text("last.loop", "system S { }") == "system S { }\n");
    CHECK_THROWS_AS(format_text("bad.loop", "system S { var x : m = }\n"), ModelError);
    CHECK_THROWS_AS(format_text("bad.loop", "## Source: Mass\n Transfer, ch. 5.\nsystem S { }\n"), ModelError);
    CHECK_THROWS_AS(format_text("bad.loop", "system S { let t = \"open\n }\n"), ModelError);
}

TEST_CASE("the command lays out files and folders, tells what would change, and leaves broken files alone")
{
    test::Scratch scratch;
    std::string good = "system S {\n    var   x : m\n}\n", odd = "system S {\nvar x:m\n}\n", broken = "system S {\nvar x : m = \n";
    fs::create_directories(scratch / "sub");
    test::write_file(scratch / "good.loop", good);
    test::write_file(scratch / "sub/odd.loop", odd);
    test::write_file(scratch / "notes.txt", odd);
    test::Outcome check = test::netloop("format --check " + scratch.path());
    CHECK(check.code == 1);
    CHECK(check.out.find("odd.loop") != std::string::npos);
    CHECK(check.out.find("1 of 2 files would change") != std::string::npos);
    CHECK(test::read_file(scratch / "sub/odd.loop") == odd);
    CHECK(test::netloop("format " + scratch.path()).code == 0);
    CHECK(test::read_file(scratch / "sub/odd.loop") == good);
    CHECK(test::read_file(scratch / "notes.txt") == odd);
    CHECK(test::netloop("format --check " + scratch.path()).code == 0);
    test::write_file(scratch / "broken.loop", broken);
    test::write_file(scratch / "sub/odd.loop", odd);
    test::Outcome some = test::netloop("format " + scratch.path());
    CHECK(some.code == 1);
    CHECK(some.err.find("broken.loop:2") != std::string::npos);
    CHECK(test::read_file(scratch / "broken.loop") == broken);
    CHECK(test::read_file(scratch / "sub/odd.loop") == good);
    CHECK(test::netloop("format " + (scratch / "nothing.loop")).code == 2);
    CHECK(test::shell("printf 'system S {\\nvar x:m\\n}\\n' | " + std::string(std::getenv("NETLOOP_PROGRAM")) + " format -").out == good);
}

TEST_CASE("two signs that follow each other stay two: together they would be a joint")
{
    CHECK(format_text("a.loop", "system S {\n    var x : 1\n    x = 3 - - - 2 * (- -4)\n}\n") == "system S {\n    var   x : 1\n    x = 3 - - -2 * (- -4)\n}\n");
    CHECK(format_text("b.loop", "system S {\n    var x : rad/s\n    x = 0 rad/- -s\n}\n") == "system S {\n    var   x : rad/s\n    x = 0 rad/- -s\n}\n");
}

TEST_SUITE_END();

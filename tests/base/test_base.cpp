// SPDX-License-Identifier: Apache-2.0
#include <doctest/doctest.h>

#include <set>

#include "base/diagnostics.hpp"
#include "base/markup.hpp"
#include "support/support.hpp"

using namespace netloop;

TEST_SUITE_BEGIN("base");

TEST_CASE("positions count lines and code points from 1")
{
    SourceSet sources;
    std::uint32_t f = sources.add("a.loop", "abc\n\xc3\xa4x\r\nlast");
    CHECK(sources.position(f, 0).line == 1);
    CHECK(sources.position(f, 2).column == 3);
    CHECK(sources.position(f, 4).line == 2);
    CHECK(sources.position(f, 6).column == 2);  // behind the two bytes of one letter
    CHECK(sources.line_at(f, 5) == "\xc3\xa4x");
    CHECK(sources.line_at(f, 10) == "last");
    CHECK(sources.text({f, 0, 3}) == "abc");
}

TEST_CASE("a message shows place, line, marker, mend and slug")
{
    SourceSet sources;
    std::uint32_t f = sources.add("bridge.loop", "system A {\n    piston.force = chamber.p\n}\n");
    Diagnostics d;
    d.report(messages::unit_mismatch, Span{f, 30, 39}, "'piston.force'", "N", "equated with", "'chamber.p'", "Pa")
        .mend("multiply by an area")
        .note({f, 0, 6}, "declared here");
    std::string text = render(d.items()[0], sources);
    CHECK(text ==
          "bridge.loop:2:20: error: 'piston.force' [N] equated with 'chamber.p' [Pa]\n"
          "     2 |     piston.force = chamber.p\n"
          "       |                    ^^^^^^^^^\n"
          "      bridge.loop:1:1: declared here\n"
          "      to mend: multiply by an area   [unit-mismatch]\n");
}

TEST_CASE("long and unprintable lines are shown safely")
{
    SourceSet sources;
    std::string line(500, 'x');
    line[300] = '\x1b';
    std::uint32_t f = sources.add("long.loop", line);
    Diagnostics d;
    d.report(messages::stray_character, Span{f, 300, 301}, "?");
    std::string text = render(d.items()[0], sources);
    CHECK(text.find('\x1b') == std::string::npos);
    for (std::size_t at = 0, end; at < text.size(); at = end + 1) {
        end = text.find('\n', at);
        CHECK(end - at < 160);
    }
}

TEST_CASE("the same message at the same place is kept once")
{
    Diagnostics d;
    d.report(messages::unknown_name, Span{0, 1, 2}, "a", "b");
    d.report(messages::unknown_name, Span{0, 1, 2}, "a", "b").mend("nothing comes of it");
    d.report(messages::unknown_name, Span{0, 1, 2}, "other", "b");
    CHECK(d.items().size() == 2);
    CHECK(d.n_errors() == 2);
}

TEST_CASE("the nearest name is found, and none if nothing is near")
{
    CHECK(nearest_name("crackin", {"override", "cracking", "rated_flow"}) == "cracking");
    CHECK(nearest_name("Crackng", {"override", "cracking"}) == "cracking");
    CHECK(nearest_name("volume", {"resistance", "inductance"}).empty());
    CHECK(nearest_name(std::string(100, 'a'), {"a"}).empty());
    CHECK(nearest_name("x", {}).empty());
}

TEST_CASE("every message has a slug of its own, and a line in docs/messages.md")
{
    std::set<std::string> slugs;
    std::string page = test::read_file(test::source_path("docs/messages.md"));
    auto look = [&](const Message& m) {
        INFO("message '" << m.slug << "'");
        CHECK(slugs.insert(std::string(m.slug)).second);
        CHECK(page.find("`" + std::string(m.slug) + "`") != std::string::npos);
        CHECK(m.text.back() != '.');
        CHECK((m.text[0] < 'A' || m.text[0] > 'Z'));
    };
#define NETLOOP_LOOK(name, severity, slug, text) look(messages::name);
    NETLOOP_MESSAGES(NETLOOP_LOOK)
#undef NETLOOP_LOOK
}

TEST_CASE("text in markup: four signs as entities, no control characters, UTF-8 as it is")
{
    CHECK(markup("a < b && \"c\" > d") == "a &lt; b &amp;&amp; &quot;c&quot; &gt; d");
    CHECK(markup("one\ntwo\tthree") == "one\ntwo\tthree");
    CHECK(markup(std::string("a\0b\x1b[1mc\r", 9)) == "ab[1mc");
    CHECK(markup("20 °C, µm, 水") == "20 °C, µm, 水");
    CHECK(markup("").empty());
}

TEST_SUITE_END();

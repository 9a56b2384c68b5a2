// SPDX-License-Identifier: Apache-2.0
// Cells of CSV texts as RFC 4180 has them, and their places.
#include <doctest/doctest.h>

#include "files/csv_cells.hpp"
#include "support/support.hpp"

namespace nl = netloop;

TEST_SUITE_BEGIN("files");

namespace {
std::vector<std::vector<std::string>> texts(const std::string& csv)
{
    std::vector<std::vector<std::string>> all;
    for (const auto& row : nl::csv_rows(csv)) {
        all.emplace_back();
        for (const auto& cell : row) all.back().push_back(cell.text);
    }
    return all;
}
using Rows = std::vector<std::vector<std::string>>;
}  // namespace

TEST_CASE("cells: quotes, doubled quotes, commas and line ends in them, blanks, ends of line")
{
    CHECK(texts("a,b\r\n1,2\r\n") == Rows{{"a", "b"}, {"1", "2"}});
    CHECK(texts("\"a, b\",\"say \"\"no\"\"\"\n x ,\" y \"\n") == Rows{{"a, b", "say \"no\""}, {"x", " y "}});
    CHECK(texts("a,\"two\nlines\"\nlast,") == Rows{{"a", "two\nlines"}, {"last", ""}});
    CHECK(texts("\xef\xbb\xbfname\n\n# a remark\nx\n") == Rows{{"name"}, {"x"}});
    CHECK(texts(",,\n") == Rows{{"", "", ""}});
    CHECK(texts("").empty());
    CHECK(texts("\"not closed\nb") == Rows{{"not closed\nb"}});
    CHECK(texts("1\" pipe,2\n") == Rows{{"1\" pipe", "2"}});
}

TEST_CASE("each cell knows its bytes")
{
    auto rows = nl::csv_rows("ab,c\n\"d\",ef\n");
    CHECK(rows[0][1].begin == 3);
    CHECK(rows[0][1].end == 4);
    CHECK(rows[1][0].begin == 5);
    CHECK(rows[1][1].end == 11);
}

TEST_CASE("headings and quoting")
{
    CHECK(nl::csv_heading("displacement [cm^3/rev]").name == "displacement");
    CHECK(nl::csv_heading("displacement [cm^3/rev]").unit == "cm^3/rev");
    CHECK(nl::csv_heading("name").unit.empty());
    for (const char* text : {"plain", "a,b", "say \"no\"", "two\nlines"}) CHECK(texts(nl::csv_quoted(text) + ",x\n")[0][0] == text);
    CHECK(nl::csv_quoted("plain") == "plain");
}

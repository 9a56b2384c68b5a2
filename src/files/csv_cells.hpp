// SPDX-License-Identifier: Apache-2.0
// Cells of a CSV text (RFC 4180: quotes, doubled quotes in them, any end of line), each with its place.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace netloop {

struct CsvCell {
    std::string text;                ///< without quotes and blanks around it
    std::size_t begin = 0, end = 0;  ///< bytes in the file
};

/// Rows of the text; empty lines, and those that begin with '#', are left out. A quote that is not closed goes on to the end of the text.
std::vector<std::vector<CsvCell>> csv_rows(std::string_view text);

/// "displacement [cm^3/rev]": the name, and what stands in the brackets (empty: nothing).
struct CsvHeading {
    std::string name, unit;
};
CsvHeading csv_heading(const std::string& cell);

/// A cell as CSV: in quotes where it needs them.
std::string csv_quoted(const std::string& cell);

}  // namespace netloop

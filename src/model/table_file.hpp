// SPDX-License-Identifier: Apache-2.0
// Points of a table from a CSV file.
#pragma once

#include <string>

#include "language/syntax.hpp"

namespace netloop {

struct TablePoints {
    std::vector<double> x, y, z, values;  ///< SI; y empty for one argument, z for two
};

/// The text of a table's file. Throws std::runtime_error: there is none, it is no text, it is too large.
std::string read_table_file(const std::string& path, const TableDecl& table);

/// Reads `table name(a : u) -> v from "file"`. One argument: two columns, or the two whose headings are the argument's and the
/// table's name; two arguments: a grid whose first row and first column are the arguments. Three: four columns, one row for each point of
/// the grid, in any order, by heading or in the order of the declaration. A heading may carry a unit in square
/// brackets, which is then used instead of the declared one. Throws std::runtime_error with what is wrong and its line.
TablePoints table_points(const std::string& text, const TableDecl& table);

}  // namespace netloop

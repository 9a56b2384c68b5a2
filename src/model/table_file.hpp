// Points of a table from a CSV file.
#pragma once

#include <string>

#include "language/syntax.hpp"

namespace netloop {

struct TablePoints {
    std::vector<double> x, y, values;  ///< SI; y empty for one argument
};

/// Reads `table name(a : u) -> v from "file"`. One argument: two columns, or the two whose headings are the argument's and the
/// table's name; two arguments: a grid whose first row and first column are the arguments. A heading may carry a unit in square
/// brackets, which is then used instead of the declared one. Throws std::runtime_error with what is wrong and its line.
TablePoints read_table_file(const std::string& path, const TableDecl& table);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Tables and functions with loops as C.
#pragma once

#include <string>

#include "evaluate/program.hpp"

namespace netloop {

/// Definitions of all tables and functions of a system, as static functions `NAME_table_K(order, x, y)` and `NAME_function_K(a)`. `used_tables` and
/// `used_functions` say which are wanted. Throws NumericFailure for a function that has no C form.
std::string c_callables(const Callables& callables, const std::vector<char>& used_tables, const std::vector<char>& used_functions, const std::string& name,
                        const std::string& real, const std::string& suffix);

/// What the tables and functions that programs use themselves call.
void mark_used(const Callables& callables, std::vector<char>& used_tables, std::vector<char>& used_functions);

}  // namespace netloop

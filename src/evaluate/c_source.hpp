// SPDX-License-Identifier: Apache-2.0
// Programs as C: for targets without this library, and as a third opinion on what the evaluators compute.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "evaluate/program.hpp"

namespace netloop {

/// How the functions of a program are written.
struct CDialect {
    std::string prefix;           ///< in front of every name
    std::string real = "double";  ///< the type of all numbers
    std::string suffix;           ///< of functions of the mathematical library: "f" for float
    std::string parameters = "double* m, const struct netloop_services* s";
    std::string arguments = "m, s";
    std::string unused = "    (void)m;\n    (void)s;\n";  ///< at the end of each function
    std::string linkage;                                  ///< "static " where nothing outside the file calls them
    /// A place of the memory as an index into m; the place itself if this is empty.
    std::function<std::uint32_t(std::uint32_t)> index;
    /// The value of a table, and of a function that is called; with services where they are empty. `x`: arguments as text.
    std::function<std::string(std::uint32_t table, std::uint32_t order, const std::vector<std::string>& x)> look_up;
    std::function<std::string(std::uint32_t function, const std::vector<std::string>& x)> call;
};

/// C99: `void NAME(double* m, const struct netloop_services* s)`, NAME being the program's; m as the memory of
/// execute(). Tables and called functions are reached through `s`. To agree with the evaluators bit for bit it has to be compiled with
/// -ffp-contract=off. Functions of at most 1,000 operations each: compilers take more than linear time over long ones.
std::string c_source(const Program& program, const CDialect& dialect = {});

/// One operation over operands that stand as text.
std::string c_operation(Op op, const std::vector<std::string>& x, const std::string& suffix = {});

/// Marks the places that the functions of a program read from m or write to it; all others stay local to a function. `stored` has a number for each place.
void mark_stored(const Program& program, std::vector<char>& stored);

/// What stands in front of the functions: includes and the struct. Once a file.
std::string c_source_head();

/// The services as the C side sees them; the layout of `struct netloop_services`.
struct CServices {
    double (*look_up)(const void* of, unsigned table, unsigned order, double x, double y);
    double (*call)(const void* of, unsigned function, unsigned n, const double* arguments);
    const void* of;
};
/// Services over the callables of a compiled system, which must outlive them.
CServices c_services(const Callables& callables);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Programs as C: for targets without this library, and as a third opinion on what the evaluators compute.
#pragma once

#include <string>

#include "evaluate/program.hpp"

namespace netloop {

/// A C99 translation unit with `void NAME(double* m, const struct netloop_services* s)`, NAME being the program's; m as the memory of
/// execute(). Tables and called functions are reached through `s`. To agree with the evaluators bit for bit it has to be compiled with
/// -ffp-contract=off. Functions of at most 1,000 operations each: compilers take more than linear time over long ones.
std::string c_source(const Program& program);

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

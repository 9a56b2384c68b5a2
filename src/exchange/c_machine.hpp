// SPDX-License-Identifier: Apache-2.0
// A plan as C99: a header and a source that need nothing but the mathematical library.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

#include "exchange/fixed_plan.hpp"

namespace netloop {

struct CMachineOptions {
    std::string name = "machine";  ///< a C identifier: of the type, and in front of all names
    bool single = false;           ///< float instead of double
    bool derivatives = false;      ///< with functions for those who integrate themselves: rates and conditions at given states
};

struct CMachine {
    std::string header, source;
    std::size_t n_memory = 0;  ///< numbers in the memory of a machine
};

/// Throws NumericFailure for what cannot be written: tables of three arguments.
CMachine write_c_machine(const FixedPlan& plan, const CMachineOptions& options);

/// `text` as a C string.
std::string c_string(const std::string& text);

/// A text of C in which @ stands for a machine's name, REAL for the type of its numbers, and FN( for the suffix of functions of the mathematical library. What
/// a user wrote is put in behind this, never before: it may hold any of them.
std::string with_names(std::string text, const std::string& name, const std::string& real = "double", const std::string& suffix = {});

}  // namespace netloop

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

}  // namespace netloop

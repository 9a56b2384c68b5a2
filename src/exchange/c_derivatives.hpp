// SPDX-License-Identifier: Apache-2.0
// Of a machine in C, what those need who integrate themselves: rates at given states, conditions, and how they move with states and inputs.
#pragma once

#include <string>

#include "exchange/c_text.hpp"

namespace netloop {

/// Declarations, behind those of the machine.
std::string c_derivatives_header(const CText& text, const FixedPlan& plan);
std::string c_derivatives(const CText& text, const FixedPlan& plan);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Systems that are explicit, z' = f(t, z): whether one is, and its right-hand side.
#pragma once

#include "solve/evaluation.hpp"

namespace netloop {

/// Every member of z is a state, and its residual is its rate minus something that no rate stands in: F_i = z'_i - f_i(t, z).
bool is_explicit(const CompiledModel& model, const Evaluation& evaluation);

/// f(t, z) at the z that stands in evaluation.z(); its rates become 0. False if a value is not finite.
bool explicit_rates(Evaluation& evaluation, double t, double* f);

}  // namespace netloop

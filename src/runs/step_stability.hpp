// SPDX-License-Identifier: Apache-2.0
// How long a step of an explicit method may be.
#pragma once

#include <complex>

#include "exchange/fixed_plan.hpp"

namespace netloop {

/// Whether the method has a limit of its own for a mode that decays: euler and rk4.
bool is_explicit(FixedMethod method);
/// The longest step, s, up to which the method's polynomial damps x' = eigenvalue * x. With rk4, of one that neither decays nor grows
/// (to a millionth): sqrt(8) / |eigenvalue|. Infinite for a mode that does not decay otherwise, and for methods that are not explicit. Source: Hairer and
/// Wanner (1996), Solving Ordinary Differential Equations II, ch. IV.2.
double longest_damped_step(FixedMethod method, std::complex<double> eigenvalue);

}  // namespace netloop

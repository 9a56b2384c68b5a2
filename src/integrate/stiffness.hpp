// SPDX-License-Identifier: Apache-2.0
// For systems that are explicit, z' = f(t, z): whether they are, their right-hand side, and how fast they can change.
#pragma once

#include "solve/evaluation.hpp"

namespace netloop {

/// Every member of z is a state, and its residual is its rate minus something that no rate stands in: F_i = z'_i - f_i(t, z).
bool is_explicit(const CompiledModel& model, const Evaluation& evaluation);

/// f(t, z) at the z that stands in evaluation.z(); its rates become 0. False if a value is not finite.
bool explicit_rates(Evaluation& evaluation, double t, double* f);

/// An upper estimate of the largest |eigenvalue| of df/dz, 1/s, at the z that stands in the evaluation: power iteration on the absolute
/// values of the matrix, begun from `size` (Perron and Frobenius: its radius bounds that of the matrix).
class RateEstimate {
public:
    double operator()(Evaluation& evaluation, const std::vector<double>& weight);

private:
    std::vector<double> values_, x_, y_;
};

/// Up to which step length times largest rate the Adams methods of each order are stable, in predict-evaluate-correct-evaluate mode; as
/// an average over the half plane. Source: Petzold (1983), SIAM J. Sci. Stat. Comput. 4, 136-148 (the idea); the numbers are cautious.
double adams_stability(int order);

}  // namespace netloop

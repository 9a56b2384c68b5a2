// SPDX-License-Identifier: Apache-2.0
// How fast a system z' = f(t, z) can change, and at which steps the Adams methods bear it.
#pragma once

#include "solve/explicit_form.hpp"

namespace netloop {

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

/// What a step of backward differences costs beside one of an Adams method, by counted operations: the one evaluates hardly more than once and solves with a
/// matrix, the other evaluates twice and has more differences to carry. Costs an analysis of the pattern, once for a system.
double matrix_step_cost(const CompiledModel& model);

}  // namespace netloop

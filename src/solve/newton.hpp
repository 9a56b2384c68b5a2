// SPDX-License-Identifier: Apache-2.0
// Damped Newton iteration on a sparse system, scaled by usual sizes.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "linear/sparse_lu.hpp"

namespace netloop {

struct NewtonProblem {
    SparsePattern pattern;      ///< of the Jacobian, square
    std::vector<double> scale;  ///< usual size of each unknown, > 0
    /// The range of each unknown, which no trial point leaves; empty: unbounded.
    std::vector<double> low{}, high{};
    /// How far each unknown goes in one step at most; empty: as far as it likes.
    std::vector<double> longest{};
    /// Residuals at x; false if one is not finite.
    std::function<bool(const std::vector<double>& x, std::vector<double>& residual)> residual;
    /// Values along the pattern.
    std::function<void(const std::vector<double>& x, std::vector<double>& values)> jacobian;
    double tolerance = 1e-10;  ///< of the last step, relative to max(scale, |x|)
    int max_iterations = 100;
    bool strict =
        false;  ///< a doubtful matrix (SparseLU::doubtful()) counts as singular: every unknown is to be settled, not only what the equations at hand feel
};

struct NewtonResult {
    enum class Outcome { converged, singular, not_finite, stalled } outcome = Outcome::stalled;
    int iterations = 0;
    double step = 0;               ///< size of the last step, scaled
    std::vector<double> residual;  ///< at the end
};

/// Iterates from x, which holds the best point found at the end. Step control by the natural monotonicity test of
/// Deuflhard (2004, Newton Methods for Nonlinear Problems, sec. 3.3).
NewtonResult solve_newton(const NewtonProblem& problem, SparseLU& lu, std::vector<double>& x);

}  // namespace netloop

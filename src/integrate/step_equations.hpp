// SPDX-License-Identifier: Apache-2.0
// The equations of an implicit step, solved by Newton's iteration with a matrix that serves several steps.
#pragma once

#include <functional>
#include <optional>

#include "integrate/integrator.hpp"
#include "linear/linear_solver.hpp"
#include "solve/explain.hpp"

namespace netloop {

class StepEquations {
public:
    /// `closeness`: how closely a step's equations are solved, as a share of the tolerance.
    StepEquations(Evaluation& evaluation, StepCounts& counts, double closeness);

    enum class Solved { yes, no, never };  ///< never: not even with a fresh matrix
    /// For messages: why no step could be made, however small, when the last attempt was solved like this.
    static const char* cause(Solved solved);
    /// Solves F(t, z, z') = 0 along z' = ... + cj z, from what `predict` writes to z() and rates() of the evaluation, until the corrections
    /// times `weight` are small against 1. `correction`, set to 0 by `predict`, adds them up.
    Solved solve(double t, double cj, const double* weight, double* correction, const std::function<void()>& predict);
    /// The next step gets a new matrix.
    void forget_matrix() { matrix_is_wrong_ = true; }
    void states_changed()
    {
        matrix_is_wrong_ = true;
        lu_->forget_pivots();
    }
    /// From here on: what is left of the equations behind a first correction is kept, or not.
    void look(bool closely) { looks_ = closely, seen_corrections_ = 0; }
    /// Of the solutions since look(): the most corrections that one took, and the residual that was then farthest from being met; kNone where one was enough.
    Integrator::Stubborn most_stubborn(const double* weight) const;
    const NotFinitePoint& not_finite() const { return not_finite_; }
    /// After `never`: the member of z that no equation settles, if it is known.
    std::optional<std::size_t> lost() const { return lu_->lost() < delta_.size() ? std::optional(lu_->lost()) : std::nullopt; }

private:
    bool factor(double t, double cj);
    void take_used_entries();
    bool residual(double t);
    bool iterate(double t, double cj, const double* weight, double* correction);
    bool iterate_anew(double t, double cj, const double* weight, double* correction);

    Evaluation& e_;
    StepCounts& counts_;
    double closeness_;
    std::optional<LinearSolver> lu_;
    std::vector<double> delta_, matrix_;
    /// Where states are chosen: entries that the present choice uses, and their values; links could refer to any candidate, but refer to two members each.
    /// Empty: all are taken.
    std::vector<std::uint32_t> used_;
    std::vector<double> used_values_;
    std::size_t choice_ = 0;                             ///< that `used_` belongs to
    double cj_of_matrix_ = 1, cj_last_ = 0, rate_ = -1;  ///< rate of convergence in the last step; negative: not known
    int matrix_age_ = 0;
    int n_unsolved_ = 0;  ///< attempts in a row that did not converge
    int at_corner_ = 0;   ///< steps for which a matrix for each turn is tried at once, should one not do
    bool matrix_is_wrong_ = true;
    bool looks_ = false;
    int seen_corrections_ = 0;
    bool seen_other_length_ = false;
    std::vector<double> seen_;  ///< residuals behind the first correction
    NotFinitePoint not_finite_;
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "integrate/step_equations.hpp"

#include <cmath>

#include "solve/vector_loops.hpp"

namespace netloop {
namespace {

constexpr int kMostIterations = 5;
constexpr double kSlow = 0.3;  ///< a rate of convergence above this asks for a new matrix at the next step
constexpr double kChangedCoefficient = 0.25;
constexpr double kLeastRemembered = 0.05;
constexpr int kOldest = 20;  ///< steps that a matrix serves at most

}  // namespace

StepEquations::StepEquations(Evaluation& evaluation, StepCounts& counts, double closeness)
    : e_(evaluation), counts_(counts), closeness_(closeness), lu_(evaluation.model().pattern), delta_(evaluation.model().n())
{
}

StepEquations::Solved StepEquations::solve(double t, double cj, const double* weight, double* correction, const std::function<void()>& predict)
{
    double ratio = cj / cj_of_matrix_, least = (1 - kChangedCoefficient) / (1 + kChangedCoefficient);
    bool renew = matrix_is_wrong_ || ratio < least || ratio > 1 / least || rate_ > kSlow || matrix_age_ >= kOldest;
    for (;;) {
        predict();
        if (renew) {
            matrix_is_wrong_ = false;
            if (!factor(t, cj)) return Solved::never;
        }
        if (iterate(t, cj, weight, correction)) {
            ++matrix_age_;
            if (at_corner_ > 0)
                --at_corner_;
            else
                n_unsolved_ = 0;
            return Solved::yes;
        }
        if (renew) break;
        renew = true;
    }
    constexpr int kShorterFirst = 2;  // a shorter step is the better answer to most of what does not converge
    // what a doubtful matrix does not lead to is not to be had from a better one
    Solved unsolved = lu_->doubtful() ? Solved::never : Solved::no;
    if (++n_unsolved_ <= kShorterFirst) return unsolved;
    predict();
    if (!iterate_anew(t, cj, weight, correction)) return unsolved;
    constexpr int kStays = 50;  // a solution that lies at a corner does so for some steps
    at_corner_ = kStays;
    return Solved::yes;
}

const char* StepEquations::cause(Solved solved)
{
    switch (solved) {
        case Solved::yes:
            return "the error of a step stays too large however small the step";
        case Solved::never:
            return "the equations lose their rank";
        case Solved::no:
            break;
    }
    return "the equations of a step cannot be solved however small the step";
}

bool StepEquations::factor(double t, double cj)
{
    e_.set_time(t);
    e_.jacobian(cj, matrix_);
    ++counts_.jacobians;
    cj_of_matrix_ = cj;
    matrix_age_ = 0;
    rate_ = -1;
    Stopwatch watch(e_.shares.algebra);
    if (e_.model().form.choices.empty()) return lu_->factor(matrix_);
    if (choice_ != e_.selection().version()) take_used_entries();
    if (used_.empty()) return lu_->factor(matrix_);
    for (std::size_t k = 0; k < used_.size(); ++k) used_values_[k] = matrix_[used_[k]];
    if (lu_->factor(used_values_)) return true;
    // another order of elimination may do
    used_.clear();
    lu_.emplace(e_.model().pattern);
    return lu_->factor(matrix_);
}

void StepEquations::take_used_entries()
{
    const SparsePattern& whole = e_.model().pattern;
    std::vector<char> keep(whole.n_entries(), 1);
    e_.selection().drop_unused(keep);
    SparsePattern few;
    few.n_columns = whole.n_columns;
    few.starts.assign(1, 0);
    std::vector<std::uint32_t> used;
    for (std::uint32_t c = 0; c < whole.n_columns; ++c) {
        for (auto k = static_cast<std::size_t>(whole.starts[c]); k < static_cast<std::size_t>(whole.starts[c + 1]); ++k) {
            if (keep[k] == 0) continue;
            used.push_back(static_cast<std::uint32_t>(k));
            few.rows.push_back(whole.rows[k]);
        }
        few.starts.push_back(static_cast<std::int64_t>(few.rows.size()));
    }
    bool had = !used_.empty();
    choice_ = e_.selection().version();
    constexpr double kWorthIt = 0.7;  // of all entries
    if (static_cast<double>(used.size()) > kWorthIt * static_cast<double>(keep.size())) {
        if (had) lu_.emplace(whole);
        used_.clear();
        return;
    }
    used_ = std::move(used);
    used_values_.resize(used_.size());
    lu_.emplace(few);
}

bool StepEquations::residual(double t)
{
    ++counts_.residuals;
    e_.set_time(t);
    if (e_.residual(delta_.data())) return true;
    not_finite_.remember(delta_.data(), delta_.size(), t, e_.z(), e_.rates());
    return false;
}

bool StepEquations::iterate(double t, double cj, const double* weight, double* correction)
{
    // a matrix of an earlier step length overshoots or falls short by about this share
    double share = 2 / (1 + cj / cj_of_matrix_), first = 0;
    // how fast the iteration converges was seen with another matrix or step length: not relied on here
    // ... and where it was, it has become slower since: after one correction nothing is known of it, and what is no state is often predicted badly, so a
    // remembered rate alone never lets a large correction pass
    double security = cj == cj_last_ && rate_ > 0 && rate_ < 0.9 ? std::max(rate_ / (1 - rate_), kLeastRemembered) : cj == cj_of_matrix_ ? 20 : 100;
    cj_last_ = cj;
    for (int iteration = 0; iteration < kMostIterations; ++iteration) {
        if (!residual(t)) return false;
        if (looks_ && iteration > 0 && iteration + 1 > seen_corrections_) {
            if (iteration == 1) seen_ = delta_, seen_other_length_ = std::abs(share - 1) > 1e-9;
            seen_corrections_ = iteration + 1;
        }
        {
            Stopwatch watch(e_.shares.algebra);
            lu_->solve(delta_.data());
        }
        double size = correct(delta_.size(), share, cj, delta_.data(), weight, e_.z(), e_.rates(), correction);
        if (!std::isfinite(size)) return false;
        if (iteration == 0) {
            first = size;
            if (size <= 1e-4 * closeness_) return true;
        } else {
            rate_ = std::pow(size / first, 1.0 / iteration);
            if (rate_ > 0.9) return false;
            security = rate_ / (1 - rate_);
        }
        if (security * size <= closeness_) return true;
    }
    return false;
}

// With a matrix of its own for each turn. At a corner (max, clamp, the seat of a valve) slopes differ by powers of ten from one side to the other, and no one
// matrix leads from the one side to a solution on the other; a shorter step would meet the corner all the same.
bool StepEquations::iterate_anew(double t, double cj, const double* weight, double* correction)
{
    constexpr int kMost = 8;
    constexpr double kClosely = 0.05;
    double before = HUGE_VAL;
    for (int turn = 0; turn < kMost; ++turn) {
        if (!factor(t, cj) || !residual(t)) return false;
        {
            Stopwatch watch(e_.shares.algebra);
            lu_->solve(delta_.data());
        }
        double size = correct(delta_.size(), 1, cj, delta_.data(), weight, e_.z(), e_.rates(), correction);
        if (!std::isfinite(size)) return false;
        if (size <= kClosely * closeness_) return true;
        if (turn > 3 && size > 0.5 * before) return false;
        before = size;
    }
    return false;
}

// In terms of the unknown that it takes least to meet an equation by: |F| over the largest |dF/dz| / weight in its row.
Integrator::Stubborn StepEquations::most_stubborn(const double* weight) const
{
    Integrator::Stubborn found;
    if (seen_corrections_ < 2 || seen_.size() != delta_.size()) return found;
    const SparsePattern& p = e_.model().pattern;
    if (matrix_.size() != p.n_entries()) return found;
    if (seen_other_length_) {  // then equations without any curvature are off, too
        found.corrections = seen_corrections_;
        found.other_length = true;
        return found;
    }
    std::vector<double> slope(delta_.size(), 0.0);
    for (std::uint32_t c = 0; c < p.n_columns; ++c)
        for (auto k = static_cast<std::size_t>(p.starts[c]); k < static_cast<std::size_t>(p.starts[c + 1]); ++k) {
            double& most = slope[static_cast<std::size_t>(p.rows[k])];
            most = std::max(most, std::abs(matrix_[k]) / weight[c]);
        }
    double largest = 0;
    for (std::size_t r = 0; r < slope.size(); ++r)
        if (double off = std::abs(seen_[r]); slope[r] > 0 && off > largest * slope[r]) largest = off / slope[r], found.residual = r;
    if (found.residual != Integrator::kNone) found.corrections = seen_corrections_;
    return found;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "solve/explain.hpp"
#include "solve/explicit_form.hpp"
#include "solve/failure.hpp"
#include "solve/start.hpp"

namespace netloop {
namespace {

// The columns of the unknown half: z' for a state, z for everything else; both for what is a state at times.
SparsePattern unknown_half(const CompiledModel& m, std::vector<std::size_t>& entry)
{
    SparsePattern p;
    p.n_columns = m.pattern.n_columns;
    for (std::uint32_t c = 0; c < p.n_columns; ++c) {
        for (auto k = m.pattern.starts[c]; k < m.pattern.starts[c + 1]; ++k) {
            auto at = static_cast<std::size_t>(k);
            ZEntry::Kind kind = m.form.z[c].kind;
            if (kind == ZEntry::Kind::state && m.by_rate[at] == kNoNode) continue;
            if (kind != ZEntry::Kind::state && kind != ZEntry::Kind::candidate && m.by_z[at] == kNoNode && m.by_rate[at] != kNoNode) continue;
            entry.push_back(at);
            p.rows.push_back(m.pattern.rows[at]);
        }
        p.starts.push_back(static_cast<std::int64_t>(p.rows.size()));
    }
    return p;
}

}  // namespace

ConsistentSolver::ConsistentSolver(Evaluation& evaluation) : evaluation_(evaluation)
{
    renew();
}

void ConsistentSolver::renew()
{
    n_ = evaluation_.model().n();
    explicit_ = is_explicit(evaluation_.model(), evaluation_);
    prepared_ = factored_ = false;
    last_.clear();
}

void ConsistentSolver::prepare()
{
    if (prepared_) return;
    prepared_ = true;
    entry_.clear();
    pattern_ = unknown_half(evaluation_.model(), entry_);
    lu_.emplace(pattern_);
    // rates that each stand alone in their equation need no elimination
    diagonal_ = pattern_.n_entries() == n_;
    for (std::size_t i = 0; diagonal_ && i < n_; ++i) diagonal_ = pattern_.rows[i] == static_cast<std::int64_t>(i);
    problem_ = {};
    problem_.tolerance = 1e-9;
    problem_.max_iterations = 50;
    for (const ZEntry& z : evaluation_.model().form.z) problem_.scale.push_back(z.usual);
    problem_.residual = [this](const std::vector<double>& at, std::vector<double>& r) {
        place(at);
        return evaluation_.residual(r.data());
    };
    problem_.jacobian = [this](const std::vector<double>& at, std::vector<double>& values) {
        place(at);
        evaluation_.jacobian(by_z_, by_rate_);
        values.resize(entry_.size());
        for (std::uint32_t c = 0; c < pattern_.n_columns; ++c)
            for (auto k = pattern_.starts[c]; k < pattern_.starts[c + 1]; ++k) {
                auto e = entry_[static_cast<std::size_t>(k)];
                values[static_cast<std::size_t>(k)] = evaluation_.is_state(c) ? by_rate_[e] : by_z_[e];
            }
    };
}

// Of an explicit system: z' = f(t, z), by one evaluation.
bool ConsistentSolver::evaluate(State& s)
{
    std::copy(s.z.begin(), s.z.end(), evaluation_.z());
    s.rates.resize(n_);
    if (!explicit_rates(evaluation_, s.time, s.rates.data())) return false;
    std::copy(s.rates.begin(), s.rates.end(), evaluation_.rates());
    return true;
}

void ConsistentSolver::place(const std::vector<double>& at)
{
    for (std::size_t i = 0; i < n_; ++i) (evaluation_.is_state(i) ? state_->rates[i] : state_->z[i]) = at[i];
    evaluation_.at(state_->time, state_->z.data(), state_->rates.data());
}

// Rows follow each other closely: the matrix of the one before serves the next as long as the iteration converges fast.
bool ConsistentSolver::with_old_matrix(std::vector<double>& x)
{
    constexpr double kTolerance = 1e-12, kSlow = 0.1;
    constexpr int kMost = 6;
    if (!factored_) return false;
    double before = HUGE_VAL;
    step_.resize(n_);
    for (int iteration = 0; iteration < kMost; ++iteration) {
        if (!problem_.residual(x, step_)) return false;
        if (diagonal_)
            for (std::size_t i = 0; i < n_; ++i) step_[i] /= pivots_[i];
        else
            lu_->solve(step_);
        double length = 0;
        for (std::size_t i = 0; i < n_; ++i) {
            length = std::max(length, std::abs(step_[i]) / std::max(problem_.scale[i], std::abs(x[i])));
            x[i] -= step_[i];
        }
        if (!std::isfinite(length) || (length > kSlow * before && length > kTolerance)) return false;
        if (length <= kTolerance) {
            place(x);
            return true;
        }
        before = length;
    }
    return false;
}

void ConsistentSolver::solve(State& s, const SourceSet& sources)
{
    const CompiledModel& m = evaluation_.model();
    std::size_t n = n_;
    if (n == 0) return;
    if (explicit_) {
        std::vector<double>& before = begin_;  // a message tells what stood there
        before = s.rates;
        if (evaluate(s)) return;
        s.rates = before;
    }
    prepare();
    state_ = &s;
    std::vector<double>& x = x_;
    x.resize(n);
    for (std::size_t i = 0; i < n; ++i) x[i] = evaluation_.is_state(i) ? s.rates[i] : s.z[i];
    begin_ = x;
    if (with_old_matrix(x)) {
        last_ = x;
        return;
    }
    x = begin_;
    NewtonResult result = solve_newton(problem_, *lu_, x);
    if (result.outcome != NewtonResult::Outcome::converged && last_.size() == n) {
        // what an integrator's polynomial says of what is no state may be no guess at all: the last point that was solved may be a better one
        std::vector<double> again = last_;
        NewtonResult second = solve_newton(problem_, *lu_, again);
        if (second.outcome == NewtonResult::Outcome::converged) {
            result = second;
            x = again;
        }
    }
    if (result.outcome == NewtonResult::Outcome::converged) last_ = x;
    factored_ = result.outcome == NewtonResult::Outcome::converged;
    if (diagonal_ && factored_) problem_.jacobian(x, pivots_);
    place(x);
    if (result.outcome == NewtonResult::Outcome::converged) return;
    // a rate that is a small difference of large values over a small one (a diode's capacitance) is known to some digits only: a step
    // this small that makes nothing smaller any more is made of rounding
    constexpr double kRounding = 1e-5;
    if (result.outcome == NewtonResult::Outcome::stalled && result.step < kRounding) return;
    std::size_t worst = 0;
    for (std::size_t i = 0; i < n; ++i) {
        if (!std::isfinite(result.residual[i])) {
            worst = i;
            break;
        }
        if (std::abs(result.residual[i]) > std::abs(result.residual[worst])) worst = i;
    }
    const char* cause = result.outcome == NewtonResult::Outcome::singular     ? "the equations lose their rank"
                        : result.outcome == NewtonResult::Outcome::not_finite ? "an equation has no finite value"
                                                                              : "the equations cannot be solved";
    throw NumericFailure(
        "run-failed", fmt::format("at {:.9g} s {}: {}\n      with {}", s.time, cause, describe_residual(m, sources, worst), describe_operands(m, worst, s.z)) +
                          (std::isfinite(result.residual[worst])
                               ? ""
                               : "\n      no finite value: " + describe_not_finite(evaluation_, sources, s.time, s.z.data(), s.rates.data())));
}

std::size_t settle_modes(Evaluation& evaluation, const State& s)
{
    const auto& conditions = evaluation.model().form.conditions;
    if (conditions.empty()) return 0;
    evaluation.at(s.time, s.z.data(), s.rates.data());
    std::vector<double> g;
    evaluation.conditions(g);
    std::size_t changed = 0;
    for (std::size_t i = 0; i < g.size(); ++i) {
        if (conditions[i].is_clocked()) continue;  // by the clock
        double mode = conditions[i].kind == Condition::Kind::less         ? (g[i] < 0 ? 1 : 0)
                      : conditions[i].kind == Condition::Kind::less_equal ? (g[i] <= 0 ? 1 : 0)
                                                                          : std::floor(g[i]);
        if (mode == evaluation.mode(i)) continue;
        evaluation.set_mode(i, mode);
        ++changed;
    }
    return changed;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "linear/linear_solver.hpp"

namespace netloop {
namespace {

constexpr std::size_t kDense = 3;  ///< unknowns up to which the dense form is the fastest (bench: eliminate_*)
constexpr long kPays = 4;          ///< factorisations after which an elimination program has paid for its making, for each 100 entries
constexpr long kAgain = 40;        ///< ... where one before it failed
constexpr int kPatience = 6;       ///< programs that may fail before none is tried any more; each comes after twice as long as the one before

}  // namespace

LinearSolver::LinearSolver(const SparsePattern& pattern, Form form) : pattern_(pattern), klu_(pattern), form_(form)
{
    bool any = form == Form::fastest;
    if (pattern.n_columns == 0) return;
    if (form == Form::dense || (any && pattern.n_columns <= kDense)) fixed_ = make_dense(pattern);
    if (form == Form::banded || (any && fixed_ == nullptr)) fixed_ = make_banded(pattern);
    depends_on_values_ = fixed_ == nullptr;
}

void LinearSolver::forget_pivots()
{
    klu_.forget_pivots();
    if (!depends_on_values_) return;
    fixed_.reset();
    fixed_is_good_ = false;
}

bool LinearSolver::factor(const std::vector<double>& values)
{
    if (fixed_ != nullptr) {
        fixed_is_good_ = fixed_->factor(values.data());
        if (fixed_is_good_) return true;
        ++n_given_up_;
        if (depends_on_values_ || n_given_up_ > kPatience) fixed_.reset();
    }
    fixed_is_good_ = false;
    if (!klu_.factor(values)) return false;
    ++n_klu_;
    long hundreds = static_cast<long>(pattern_.n_entries()) / 100, pays = n_given_up_ == 0 ? 1 + kPays * hundreds : (kAgain * (1 + hundreds)) << n_given_up_;
    bool wanted = form_ == Form::program || (form_ == Form::fastest && n_klu_ >= pays);
    if (wanted && depends_on_values_ && n_given_up_ <= kPatience) {
        // the order that this matrix asks for; it serves from the next one on
        std::vector<std::int64_t> rows, columns;
        if (klu_.order(rows, columns)) fixed_ = make_elimination_program(pattern_, rows, columns);
        if (fixed_ == nullptr) n_given_up_ = kPatience + 1;
        n_klu_ = 0;
    }
    return true;
}

}  // namespace netloop

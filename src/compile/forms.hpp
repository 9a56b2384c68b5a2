// SPDX-License-Identifier: Apache-2.0
// The forms between the passes: the numbers of unknowns, each form as text, and what must hold of it.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "compile/matching.hpp"
#include "compile/solver_form.hpp"

namespace netloop {

/// Number of each unknown by (quantity, order); kUnmatched for what is given.
class UnknownIndex {
public:
    explicit UnknownIndex(const ReducedSystem& r) : first_(r.system.flat->quantities.size(), kUnmatched)
    {
        for (std::uint32_t i = 0; i < r.unknowns.size(); ++i) {
            const Variable& v = r.unknowns[i];
            if (first_[v.quantity] == kUnmatched) first_[v.quantity] = static_cast<std::uint32_t>(lists_.size()), lists_.emplace_back();
            lists_[first_[v.quantity]].emplace_back(v.order, i);
        }
    }
    std::uint32_t of(Variable v) const
    {
        if (first_[v.quantity] == kUnmatched) return kUnmatched;
        for (const auto& [order, i] : lists_[first_[v.quantity]])
            if (order == v.order) return i;
        return kUnmatched;
    }

private:
    std::vector<std::uint32_t> first_;
    std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> lists_;
};

/// With a flat model and a graph of its own.
EquationSystem clone(const EquationSystem& system);

/// One equation a line: "0 = ...".
std::string text_of(const EquationSystem& system);
/// States, choices of states, constraints; after the blocks are ordered, each block with its steps, iterates and residuals.
std::string text_of(const ReducedSystem& reduced);

/// What is broken in a form: an id that leads nowhere, counts that do not fit, a value used before it is settled. Empty: nothing. Never the user's fault. Cost:
/// a walk over all expressions.
std::string fault_of(const FlatModel& flat);
/// `aliases_removed`: equations must be in representatives alone.
std::string fault_of(const EquationSystem& system, bool aliases_removed);
std::string fault_of(const ReducedSystem& reduced);
std::string fault_of(const SolverForm& form);

}  // namespace netloop

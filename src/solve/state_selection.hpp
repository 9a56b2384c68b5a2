// SPDX-License-Identifier: Apache-2.0
// Which candidates of a SolverChoice are states at the moment: held by the run, renewed while it goes on.
#pragma once

#include <utility>
#include <vector>

#include "evaluate/compiled_model.hpp"

namespace netloop {

class StateSelection {
public:
    explicit StateSelection(const CompiledModel& model);

    bool is_state(std::size_t z) const { return is_state_[z] != 0; }
    /// Looks at all choices with the coefficients of the moment, one after another as CompiledModel::choices computes them. A selection
    /// is kept while it is not much worse conditioned than the best one. True if one was changed.
    bool renew(const std::vector<double>& coefficients);
    /// Fills in the residuals of the links.
    void residual(const double* z, const double* rates, double* f) const;
    /// Fills in the links' entries, which must be zero before.
    void jacobian(std::vector<double>& by_z, std::vector<double>& by_rate) const;
    /// Sets the rates of the states to what they are linked to.
    void set_rates(const std::vector<double>& z, std::vector<double>& rates) const;
    /// Per choice and candidate, one after another: how many of its derivatives are no states. Put back: false for what is no choice of this system.
    std::vector<double> dependents() const;
    bool put_back(const std::vector<double>& dependents);
    std::size_t n_changes() const { return n_changes_; }
    /// Counts every choice made: what depends on it is to be made anew when this has changed.
    std::size_t version() const { return version_; }
    /// Entries of the pattern that links might use and do not use as the choice stands: 0 there.
    void drop_unused(std::vector<char>& keep) const;

private:
    struct Link {
        std::uint32_t residual, state, derivative;  ///< into F, z and z
        std::uint32_t by_rate, by_z;                ///< into the pattern
    };
    struct Set {
        std::vector<std::uint32_t> dependent;  ///< per candidate: how many of its derivatives are no states
        std::vector<double> scale;             ///< per candidate: the largest usual size among candidates of its kind
        std::vector<Link> links;
        std::vector<double> looked_at;  ///< coefficients of the constraints at the last elimination
        bool chosen = false;
    };
    /// Elimination with the largest pivots, most differentiated constraints first. `allowed` restricts the columns of each row, if given.
    /// Returns the product of the pivots; fills `dependent`.
    double eliminate(std::size_t choice, const std::vector<double>& matrix, const std::vector<std::uint32_t>* allowed, std::vector<std::uint32_t>& dependent);
    void adopt(std::size_t choice, std::vector<std::uint32_t> dependent);

    const CompiledModel& m_;
    std::vector<char> is_state_;
    std::vector<Set> sets_;
    std::size_t n_changes_ = 0, version_ = 0;
    // scratch of renew() and eliminate(), which run after every step
    std::vector<double> matrix_, work_;
    std::vector<std::uint32_t> best_, same_;
    std::vector<char> done_;
    std::vector<std::pair<double, std::size_t>> largest_;
};

}  // namespace netloop

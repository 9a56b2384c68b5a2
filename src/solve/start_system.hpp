// SPDX-License-Identifier: Apache-2.0
// The start as a system of equations: what may be stated at the start, in order of claim, and which of it is taken.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "compile/matching.hpp"
#include "solve/start.hpp"

namespace netloop {

/// Unknowns (columns): z, numbers 0 .. n-1, then the rates of the states that are always states.
class StartSystem {
public:
    using Row = TakenRow;

    /// `known`: values of members of z that are given from outside (a recorded state), or NaN; may be empty. `before_steady`: the start
    /// that a steady one is searched from, without its demands and without finds.
    StartSystem(Evaluation& evaluation, State& state, const std::vector<double>& known, bool before_steady = false);

    std::size_t n_columns() const { return n_columns_; }
    const std::vector<Row>& rows() const { return rows_; }
    const std::vector<std::uint32_t>& chosen() const { return chosen_; }
    /// Inits that were not taken, since the others settle everything already.
    const std::vector<std::uint32_t>& redundant() const { return redundant_; }
    /// After a failed choose_by_rank: rows of the model that say nothing new though the states are given.
    const std::vector<std::uint32_t>& deficient() const { return deficient_; }
    /// The rows that the first of them repeats.
    const std::vector<std::uint32_t>& repeated() const { return repeated_; }

    /// What was chosen, to come back to.
    struct Choice {
        std::vector<std::uint32_t> chosen, redundant;
    };
    Choice choice() const { return {chosen_, redundant_}; }
    void choose(Choice choice)
    {
        chosen_ = std::move(choice.chosen);
        redundant_ = std::move(choice.redundant);
    }
    void choose_by_matching();
    /// Rows in order of claim, each only if it is independent of those before at the present point. Dense, for systems up to a size
    /// where that costs no more than some seconds. False if that cannot help.
    bool choose_by_rank();

    /// Whether the chosen rows are independent at the present point. Dense, like choose_by_rank; beyond its size: false.
    bool chosen_are_independent();

    /// The chosen rows in blocks, each with the columns it settles, in solving order.
    struct Block {
        std::vector<std::uint32_t> rows, columns;
    };
    std::vector<Block> blocks() const;
    Block whole() const;

    /// Solves the block's rows for its columns from the present point by damped Newton iteration within the declared ranges; with
    /// `continuation` by following F(x) = (1 - s) F(x0) from s = 0 to 1 (the global homotopy of Allgower and Georg, 1990, Numerical
    /// Continuation Methods, ch. 1). The point found is placed in the state.
    NewtonResult solve(const Block& block, bool continuation);

    /// From here on angles go no farther than half a radian in one step of a search.
    void bound_angles(bool bound) { angles_bound_ = bound; }

    double value(std::size_t column) const { return column < n_ ? s_.z[column] : s_.rates[states_[column - n_]]; }
    double scale(std::size_t column) const { return column < n_ ? m_.form.z[column].usual : m_.form.z[states_[column - n_]].usual; }
    /// The state whose rate a column behind z is.
    std::uint32_t state_of(std::size_t column) const { return states_[column - n_]; }
    std::size_t n_z() const { return n_; }
    /// Derivatives of a row by the columns, at the present point; call evaluate() before.
    std::vector<std::pair<std::uint32_t, double>> row_values(std::uint32_t row) const;
    void evaluate();
    /// Moves the present point of a block away from where an equation has no value; `attempt` counts from 0. False: no more ideas.
    bool shift(const Block& block, int attempt);

private:
    struct Source {
        enum class Kind { by_z, by_rate, condition, one } kind = Kind::one;
        std::uint32_t index = 0;
    };
    struct Entry {
        std::uint32_t column = 0;
        Source source;
    };
    class Elimination;

    void add_row(Row row, std::vector<Entry> entries);
    double entry_value(const Source& source) const;
    void place(const Block& block, const std::vector<double>& x);
    bool residuals(const Block& block, std::vector<double>& r);
    bool always_state(std::size_t z) const { return m_.form.z[z].kind == ZEntry::Kind::state; }

    Evaluation& e_;
    const CompiledModel& m_;
    State& s_;
    std::size_t n_ = 0, n_columns_ = 0;
    std::vector<std::uint32_t> states_, rate_column_;
    std::vector<Row> rows_;
    std::vector<std::vector<Entry>> entries_;  ///< per row
    std::vector<double> held_;                 ///< per column: where the search began
    std::vector<std::uint32_t> chosen_, redundant_, deficient_, repeated_;
    std::vector<double> by_z_, by_rate_, f_;
    bool angles_bound_ = false;
    std::vector<std::uint32_t> local_;  ///< scratch: place of a column in the present block
};

}  // namespace netloop

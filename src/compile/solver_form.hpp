// SPDX-License-Identifier: Apache-2.0
// The last symbolic form: F(t, z, z') = 0 with z = states + iterates, and everything else as expressions of them.
#pragma once

#include "compile/equation_system.hpp"

namespace netloop {

struct ZEntry {
    /// candidate: a state or not, as the run chooses; carried: an explicit assignment kept as an unknown
    enum class Kind { state, candidate, iterate, carried } kind = Kind::state;
    Variable variable;
    std::uint32_t rate = kNoNode;  ///< for a state: the index of its z', equal to its own index; kNoNode otherwise
    double usual = 1;
    double low = 0, high = 0;
    NodeId start = kNoNode;       ///< where the start search begins (an expression of parameters), or kNoNode
    NodeId rate_start = kNoNode;  ///< the same for the rate of a state that is iterated, or kNoNode: 0
    bool exempt = false;          ///< of a steady start
    bool angle = false;           ///< after a turn it means the same: a search goes no farther than it must
};

/// The size of a quantity for which nothing else says one, by its kind: a pressure 1 bar, a temperature 300 K ...
double usual_of_kind(const Dimension& dimension);

struct StartEquation {
    NodeId left = kNoNode;
    NodeId right = kNoNode;
    Origin origin;
    enum class Claim { find, exempt_init, init, guess } claim = Claim::init;  ///< exempt_init: of what is exempt from a steady start
    std::string text;
};

/// A quantity as the user reads it: an expression of z, z', time and parameters.
struct OutputColumn {
    std::string path;
    NodeId value = kNoNode;
    Unit unit;
    bool boolean = false;
    std::string doc;
    Origin origin;
};

/// A StateChoice in terms of z. The residuals `links` say z'[of a state] = z[of its derivative], for the states of the moment: they
/// are filled in by the run, so that programs and kernels stay the same whatever is chosen.
struct SolverChoice {
    std::vector<std::vector<std::uint32_t>> orders;  ///< per candidate: the members of z that are it and its derivatives, the highest included
    std::vector<std::uint32_t> differentiated;       ///< per constraint
    std::vector<StateChoice::Entry> entries;         ///< in solver leaves
    std::vector<std::uint32_t> links;                ///< residuals, as many as there are states at a time
};

struct SolverForm {
    ReducedSystem reduced;
    std::vector<ZEntry> z;
    std::vector<NodeId> residuals;           ///< as many as z
    std::vector<std::uint32_t> residual_of;  ///< per residual: the reduced equation it states, kNoNode for an assignment or a link
    std::vector<SolverChoice> choices;
    std::vector<Condition> conditions;  ///< in solver leaves
    FlatEvents events;                  ///< in solver leaves
    std::vector<StartEquation> start;   ///< inits first, then guesses, outermost first
    bool steady = false;                ///< the start is where the states stand still
    std::vector<OutputColumn> outputs;
    /// What the quantities of the model as written have become, in the order of WrittenModel::leaves: kNoNode for a derivative that this
    /// system does not know; and their usual sizes.
    std::vector<NodeId> written;
    std::vector<double> written_usual;
    std::vector<double> time_knots;  ///< of tables of time
    /// See signals_below(): of equations and of conditions that are searched; of each accumulator.
    std::vector<NodeId> signals;
    std::vector<std::vector<NodeId>> measured_signals;
    std::size_t n_explicit = 0;  ///< assignments that were substituted

    Graph& graph() { return reduced.system.graph(); }
    const FlatModel& flat() const { return *reduced.system.flat; }
    const WrittenModel& as_written() const { return *reduced.system.written; }
    std::string z_name(std::uint32_t i) const { return reduced.system.name(z[i].variable); }
    std::string text() const;
};

}  // namespace netloop

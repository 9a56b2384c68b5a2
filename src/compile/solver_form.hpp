// The last symbolic form: F(t, z, z') = 0 with z = states + iterates, and everything else as expressions of them.
#pragma once

#include "compile/equation_system.hpp"

namespace netloop {

struct ZEntry {
    enum class Kind { state, iterate, carried } kind = Kind::state;  ///< carried: an explicit assignment kept as an unknown
    Variable variable;
    std::uint32_t rate = kNoNode;  ///< for a state: the index of its z', equal to its own index; kNoNode otherwise
    double usual = 1;
    double low = 0, high = 0;
    NodeId start = kNoNode;  ///< where the start search begins (an expression of parameters), or kNoNode
};

struct StartEquation {
    NodeId left = kNoNode;
    NodeId right = kNoNode;
    Origin origin;
    std::uint32_t depth = 0;
    bool guess = false;
    std::string text;
    std::string key;
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

struct SolverForm {
    ReducedSystem reduced;
    std::vector<ZEntry> z;
    std::vector<NodeId> residuals;           ///< as many as z
    std::vector<std::uint32_t> residual_of;  ///< per residual: the reduced equation it states, or kNoNode for an assignment
    std::vector<Condition> conditions;       ///< in solver leaves
    std::vector<StartEquation> start;        ///< inits first, then guesses, outermost first
    std::vector<OutputColumn> outputs;
    std::vector<double> time_knots;  ///< of tables of time
    std::size_t n_explicit = 0;      ///< assignments that were substituted

    Graph& graph() { return reduced.system.graph(); }
    const FlatModel& flat() const { return *reduced.system.flat; }
    std::string z_name(std::uint32_t i) const { return reduced.system.name(z[i].variable); }
    std::string text() const;
};

}  // namespace netloop

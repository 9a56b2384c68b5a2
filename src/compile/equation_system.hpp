// SPDX-License-Identifier: Apache-2.0
// What the compiler passes work on, step by step: flat model -> equation system -> reduced system -> solver form.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "base/diagnostics.hpp"
#include "model/written.hpp"

namespace netloop {

/// One derivative of a quantity: order 0 is the quantity itself.
struct Variable {
    QuantityId quantity = 0;
    std::uint32_t order = 0;
    friend bool operator==(const Variable&, const Variable&) = default;
};

/// What a quantity of the flat model has become: sign * d^order/dt^order of another one, or a known expression.
struct Resolution {
    QuantityId representative = 0;
    std::uint32_t order = 0;
    int sign = 1;
    NodeId known = kNoNode;  ///< an expression of time, parameters and modes only
};

struct SystemEquation {
    NodeId residual = kNoNode;
    std::uint32_t flat = 0;  ///< index of the flat equation it came from
    bool branch = false;     ///< of a branch that holds at times only: it stays an equation, so that what it does to the motion is seen
};

/// A located condition. Its mode is held between events: for a comparison 1 or 0, for `whole` the floor of `value`.
struct Condition {
    enum class Kind { less, less_equal, whole } kind = Kind::less;
    NodeId value = kNoNode;  ///< less: a - b, so that the mode is 1 where value < 0; whole: the argument of floor
    NodeId slope = kNoNode;  ///< of a value that runs straight with time and holds nothing else that runs: d(value)/dt; it needs no search
    bool of_time =
        false;  ///< a known function of time (params, modes and memories held) that does not run straight: enclosed beforehand, it needs no search either
    bool reads_solved = false;  ///< reads what the equations settle, not states and time alone
    bool fragile = false;       ///< its value may be none: it holds a root, a logarithm, a division or the like
    bool held = false;          ///< the value stands still between events: it is looked at there, to the last bit, and never searched
    Origin origin{};
    std::string text{};

    /// When it turns is known beforehand.
    bool is_clocked() const { return slope != kNoNode || of_time; }
};

/// One line of the compile record: a pass, what it left, how long it took.
struct PassRecord {
    std::string pass;
    std::string result;
    double seconds = 0;
};

struct EquationSystem {
    std::unique_ptr<FlatModel> flat;
    std::shared_ptr<const WrittenModel> written;  ///< of the same graph
    std::vector<SystemEquation> equations;
    std::vector<Condition> conditions;
    std::vector<Resolution> resolutions;  ///< per quantity of the flat model
    std::vector<PassRecord> record;
    /// Whether passes may take an expression of params as a pivot that is not zero at their values as written; those that were taken.
    bool may_assume = false;
    std::vector<NodeId> assumed;

    Graph& graph() { return flat->graph; }
    const Graph& graph() const { return flat->graph; }
    /// "lift.x'" for messages.
    std::string name(Variable v) const { return flat->quantities[v.quantity].path + std::string(v.order, '\''); }
    /// The distinct variables in an expression, sorted.
    std::vector<Variable> variables(NodeId node) const;
};

/// A block of the solving order: equations that settle variables together.
struct SolveBlock {
    std::vector<std::uint32_t> equations;  ///< into ReducedSystem::equations
    std::vector<std::uint32_t> unknowns;   ///< into ReducedSystem::unknowns
    /// Torn form: explicit steps first (equation e settles unknown u), then what is left for iteration.
    struct Step {
        std::uint32_t unknown = 0;
        NodeId value = kNoNode;
        std::uint32_t equation = 0;
    };
    std::vector<Step> steps;
    std::vector<std::uint32_t> iterates;   ///< unknowns
    std::vector<std::uint32_t> residuals;  ///< equations
    /// symbolic: linear, and what was to be iterated is solved for on paper; linear: one step of Newton's iteration settles it
    enum class Form { explicit_, symbolic, linear, nonlinear } form = Form::explicit_;
    std::size_t n_symbolic = 0;  ///< unknowns that elimination on paper has settled
};

struct ReducedEquation {
    NodeId residual = kNoNode;
    std::uint32_t flat = 0;
    std::uint32_t differentiated = 0;  ///< how often
    bool constraint = false;           ///< ties quantities of a StateChoice together; not in the solving order
};

/// Quantities tied together by constraints so that only some of them are independent, which ones changing while the run goes on
/// (a pendulum in x and y). All their orders below the highest are given by the run.
struct StateChoice {
    struct Candidate {
        QuantityId quantity = 0;
        std::uint32_t highest = 0;
    };
    struct Entry {
        std::uint32_t row = 0, candidate = 0;
        NodeId value = kNoNode;  ///< d(constraint)/d(candidate), statically dependent quantities eliminated
    };
    std::vector<Candidate> candidates;
    std::vector<std::uint32_t> differentiated;  ///< per constraint: how often, most first
    std::vector<Entry> entries;
    /// How many of the candidates' orders are states at any time.
    std::size_t n_states() const;
};

/// The index-1 system: as many equations as unknowns; states are given.
struct ReducedSystem {
    EquationSystem system;
    std::vector<ReducedEquation> equations;
    std::vector<Variable> states;
    std::vector<Variable> unknowns;
    std::vector<SolveBlock> blocks;  ///< in solving order
    std::vector<StateChoice> choices;
    /// States that are always the same, and those that the run chooses.
    std::size_t n_states() const;
};

}  // namespace netloop

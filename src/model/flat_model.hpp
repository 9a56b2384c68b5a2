// The flat model: arrays of quantities, parameters, equations and start conditions, each with its origin. Plain data.
#pragma once

#include <limits>
#include <string>
#include <vector>

#include "algebra/graph.hpp"
#include "base/source.hpp"
#include "units/unit.hpp"

namespace netloop {

using QuantityId = std::uint32_t;
using ParameterId = std::uint32_t;

/// Where something comes from: the instance that holds it, and the text that states it.
struct Origin {
    std::uint32_t instance = 0;
    Span span;
    bool in_library = false;  ///< the text belongs to a shipped library
};

enum class QuantityRole { var, shared, zero_sum, input, output };

struct FlatQuantity {
    std::string path;  ///< "lift.cell[3].T"
    QuantityRole role = QuantityRole::var;
    Unit unit;
    bool checked = true;  ///< false: declared without a unit
    bool boolean = false;
    bool found = false;  ///< a param that the start has to find
    double low = -std::numeric_limits<double>::infinity();
    double high = std::numeric_limits<double>::infinity();
    double usual = 0;        ///< 0: not declared
    NodeId start = kNoNode;  ///< where the search begins: guess or init of the declaration, an expression of parameters
    std::string doc;
    Origin origin;
};

struct FlatParameter {
    std::string path;
    Unit unit;
    bool boolean = false;
    bool external = false;   ///< a system's own input: may change while a run goes on
    std::string follows;     ///< path of a param that is found at the start and settles this one
    NodeId value = kNoNode;  ///< an expression of other parameters
    NodeId low = kNoNode;
    NodeId high = kNoNode;
    std::string doc;
    Origin origin;
};

enum class EquationKind { equation, joint_equal, joint_sum, unjoined, signal, value };

struct FlatEquation {
    NodeId left = kNoNode;
    NodeId right = kNoNode;
    EquationKind kind = EquationKind::equation;
    Origin origin;
};

/// `init left = right`; `key` is the declared path (with primes) if the left side is one, for replacing further in.
struct FlatInit {
    NodeId left = kNoNode;
    NodeId right = kNoNode;
    Origin origin;
    std::uint32_t depth = 0;  ///< of the instance that states it; 0 is the system or scenario
    std::string key;
    bool find = false;  ///< what a `find ... so that` demands
};

/// `find parameter so that left = right`.
struct FlatFind {
    ParameterId parameter = 0;
    NodeId left = kNoNode;
    NodeId right = kNoNode;
    Origin origin;
};

struct FlatGuess {
    NodeId target = kNoNode;
    NodeId value = kNoNode;
    Origin origin;
    std::uint32_t depth = 0;
    std::string key;
};

/// A `let`: a name for an expression, recorded like a quantity.
struct FlatView {
    std::string path;
    NodeId value = kNoNode;
    Unit unit;
    bool boolean = false;
    std::string doc;
    Origin origin;
};

struct FlatModel {
    std::string name;
    Graph graph;
    std::vector<FlatQuantity> quantities;
    std::vector<FlatParameter> parameters;
    std::vector<FlatEquation> equations;
    std::vector<FlatInit> inits;
    std::vector<FlatGuess> guesses;
    std::vector<FlatFind> finds;
    bool begin_steady = false;
    std::vector<NodeId> steady_except;  ///< quantities that need not stand still
    std::vector<FlatView> views;
    std::vector<std::string> instances;  ///< path of each instance; "" is the system
    std::vector<Span> places;            ///< where each instance stands in the user's own files: its part, or the part that holds it

    /// The place to show for an origin: its own if that is the user's, else the part in the user's files that brings it in.
    Span shown_place(const Origin& origin) const { return origin.in_library ? places[origin.instance] : origin.span; }

    /// Throws std::logic_error if an id points outside its array (a broken invariant, never the user's fault).
    void verify() const;
    std::string node_text(NodeId id) const;
    std::string equation_text(const FlatEquation& equation) const { return node_text(equation.left) + " = " + node_text(equation.right); }
    /// The whole model as text, one item a line: what `check --show flat` prints.
    std::string text() const;
};

}  // namespace netloop

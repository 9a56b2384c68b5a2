// SPDX-License-Identifier: Apache-2.0
// What an expression can call besides its own operations: functions with loops, tables of three arguments.
#pragma once

#include <cstddef>
#include <memory>
#include <string>

namespace netloop {

class Graph;
struct ProcedureCode;

class Callable {
public:
    virtual ~Callable() = default;
    virtual const std::string& name() const = 0;
    virtual std::size_t n_arguments() const = 0;
    /// Numbers of scratch that evaluate() needs.
    virtual std::size_t n_scratch() const { return 0; }
    virtual double evaluate(const double* arguments, double* scratch) const = 0;
    /// The derivative by one argument, itself callable with the same arguments; may add nodes to the graph.
    virtual std::shared_ptr<const Callable> derivative(Graph& graph, std::size_t argument) const = 0;
    /// Whether it may be given up for the turns of its loops (kMostTurns, kMostTurnsOfAll).
    virtual bool has_loops() const { return false; }
    /// Its code, of one that is a procedure; null otherwise.
    virtual const ProcedureCode* code() const { return nullptr; }
    /// Whether its values come from something that is kept for each run (a foreign unit): then it stands nowhere but in a run of this program.
    virtual bool has_state() const { return false; }
    /// Whether a small change of this argument means anything; not of one that stands for something else, such as the number of a set of values.
    virtual bool is_quantity(std::size_t argument) const
    {
        (void)argument;
        return true;
    }
    /// Why it gave no number, in words; empty: it does not know.
    virtual std::string failure() const { return {}; }
    /// Whether the derivative exists everywhere (a linear table has none at its points).
    virtual bool smooth() const { return true; }
};

using CallablePtr = std::shared_ptr<const Callable>;

}  // namespace netloop

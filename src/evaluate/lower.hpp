// SPDX-License-Identifier: Apache-2.0
// Graph to program: units of work, dependency levels, equal shapes merged into kernels over instances.
#pragma once

#include <algorithm>

#include "evaluate/program.hpp"

namespace netloop {

/// Lowers several programs over one memory. Values that depend on parameters only are hoisted into the prologue, which the run
/// executes once after parameters have changed. Use: add programs, then finish().
class Lowering {
public:
    Lowering(const Graph& graph, std::uint32_t n_parameters, std::uint32_t n_modes, std::uint32_t n_memories, std::uint32_t n_z);

    /// Before any program: their results lie from this place on, behind those of another lowering over the same leaves.
    void begin_behind(std::uint32_t place) { next_place_ = std::max(next_place_, place); }

    /// A program that computes `roots`; its results lie where Program::results says.
    Program lower(std::string name, const std::vector<NodeId>& roots);
    /// The same with nothing hoisted: for values that the prologue itself needs first.
    Program lower_in_place(std::string name, const std::vector<NodeId>& roots);
    /// The program for everything hoisted; call after all others.
    Program prologue();
    const MemoryLayout& layout() const { return layout_; }
    /// Literals and their places, to be written into a run's memory once.
    const std::vector<std::pair<std::uint32_t, double>>& literals() const { return literals_; }

private:
    enum class Nature : char { unknown, constant, parameter, varying };
    void classify(const std::vector<NodeId>& order);
    std::uint32_t place_of_leaf(NodeId id);
    std::uint32_t new_place() { return next_place_++; }

    const Graph& graph_;
    MemoryLayout layout_;
    std::uint32_t next_place_ = 0;
    std::vector<Nature> nature_;
    std::vector<std::uint32_t> fixed_places_;  ///< per node, of literals and hoisted values; 0: none
    std::vector<std::uint32_t> position_;      ///< scratch: place of a node in the order of the program under way
    std::vector<NodeId> hoisted_;
    std::vector<std::pair<std::uint32_t, double>> literals_;
    bool in_prologue_ = false;
};

}  // namespace netloop

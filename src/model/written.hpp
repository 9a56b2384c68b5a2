// SPDX-License-Identifier: Apache-2.0
// The model as its text states it, before any pass: what results are held against by src/verify.
#pragma once

#include <cstdint>
#include <vector>

#include "model/flat_model.hpp"

namespace netloop {

/// Roots in the graph of the flat model. Passes put other expressions in place of those of the flat model, but a graph only grows, so
/// these keep their meaning.
struct WrittenModel {
    struct Equation {
        NodeId left = kNoNode, right = kNoNode;
    };
    /// A quantity or one of its derivatives that stands in the expressions, or that they need to be differentiated.
    struct Leaf {
        QuantityId quantity = 0;
        std::uint32_t order = 0;
    };
    std::vector<Equation> equations;  ///< in the order of FlatModel::equations
    std::vector<NodeId> views;        ///< in the order of FlatModel::views
    std::vector<FlatInit> inits;
    std::vector<FlatLimit> limits;
    std::vector<NodeId> parameters;         ///< the value of each, in the order of FlatModel::parameters
    std::vector<std::uint32_t> needs;       ///< per node up to the largest of them: how many of its derivatives are needed
    std::vector<Leaf> leaves;               ///< those of one quantity in a row, from order 0 on
    std::vector<std::uint32_t> first_leaf;  ///< per quantity: its first; one more at the end
};

/// Linear in the size of the model.
WrittenModel as_written(const FlatModel& flat);

}  // namespace netloop

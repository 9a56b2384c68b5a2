// SPDX-License-Identifier: Apache-2.0
// Equations that change in kind with a condition (`if locked { a.angle' = b.angle' } else { torque = 0 }`): which conditions need a system
// of their own for each of their values, those systems, and what happens to the motion when one takes over from another.
#pragma once

#include "compile/equation_system.hpp"

namespace netloop {

/// The switches (indices into FlatModel::switches) for which one system will not do for both values: in some combination the equations of
/// a block no longer settle its highest derivatives. Call after the blocks are ordered.
std::vector<std::uint32_t> find_structural_switches(const ReducedSystem& reduced);

/// Puts values in place of switches, in equations only.
void fix_switches(EquationSystem& system, const std::vector<std::uint32_t>& which, const std::vector<char>& values);

/// The name of the unknown that slide_along() adds.
std::string share_name(const EquationSystem& system, std::uint32_t condition);
/// Lets the motion go along a condition: its value is held at zero, and what it chooses between in equations and lets is mixed in a share that is an unknown
/// (1: the condition holds; not, and, or of shares are products). The condition's own value becomes how far the share is from leaving 0 .. 1.
void slide_along(EquationSystem& system, std::uint32_t condition);

/// A system that takes over may hold constraints that the motion does not meet yet. The jump is that of a very short, very strong action:
/// the equations, integrated over the instant, keep what stands with the highest derivatives (masses times jumps of speed, impulses of
/// forces), and each constraint, differentiated as often as its system needs less one, is met behind it. The matrix is that of the highest
/// derivatives themselves; energy can only be lost. Source: Brogliato (1999), Nonsmooth Mechanics, ch. 3 (the plastic impact).
struct Impact {
    struct Row {
        NodeId mismatch = kNoNode;  ///< the constraint less one differentiation; kNoNode: no constraint
        std::vector<NodeId> below;  ///< its lower derivatives: what no impact can mend
        std::uint32_t flat = 0;     ///< the flat equation
    };
    struct Entry {
        std::uint32_t row = 0, column = 0;
        NodeId value = kNoNode;
    };
    std::vector<Row> rows;
    std::vector<Variable> columns;  ///< highest derivatives; order 0: what is settled without being differentiated
    std::vector<Entry> entries;
    std::vector<Entry> conditions;  ///< row: the condition; its slope by a column of order 0
};

/// Empty rows if nothing is differentiated.
Impact make_impact(ReducedSystem& reduced);

}  // namespace netloop

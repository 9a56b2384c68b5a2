// SPDX-License-Identifier: Apache-2.0
// Elimination with a fixed order, written out as operations over places: what machine code, the interpreters and C source are made of alike.
#pragma once

#include <functional>
#include <vector>

#include "evaluate/program.hpp"
#include "evaluate/sparse_pattern.hpp"

namespace netloop {

/// An operation over two places whose result gets a place of its own; the second is not read where the operation has one argument.
using EmitOperation = std::function<std::uint32_t(Op op, std::uint32_t a, std::uint32_t b)>;

/// A matrix factored: where everything lies that a substitution needs.
struct WrittenFactors {
    struct Multiplier {
        std::uint32_t pivot = 0, row = 0;  ///< numbers in the order of elimination
        std::uint32_t place = 0;
    };
    std::vector<std::int64_t> rows, columns;                                   ///< which come as the k-th pivot
    std::vector<std::uint32_t> pivots, inverse;                                ///< per pivot: place, and that of 1 over it
    std::vector<Multiplier> multipliers;                                       ///< in the order in which a substitution goes through them
    std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> behind;  ///< per pivot: number and place of what stands behind it in its row
    std::size_t n_operations = 0;

    /// All places that write_substitution() reads, pivots and multipliers included.
    std::vector<std::uint32_t> places() const;
};

/// Writes the factorisation of a matrix whose k-th entry of the pattern lies at entries[k]; `one` is where 1 lies. False if a pivot is no entry, or after more
/// than `most` operations (its substitution included).
bool write_factorisation(const SparsePattern& pattern, const std::vector<std::uint32_t>& entries, const std::vector<std::int64_t>& rows,
                         const std::vector<std::int64_t>& columns, std::uint32_t one, std::size_t most, const EmitOperation& emit, WrittenFactors& made);

/// Writes the substitution for a right-hand side, which lies at b[row]. Returns where each unknown lies.
std::vector<std::uint32_t> write_substitution(const WrittenFactors& factors, const std::vector<std::uint32_t>& b, const EmitOperation& emit);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Where a sparse matrix has entries.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <mutex>
#include <optional>
#include <vector>

namespace netloop {

/// What the solvers of one pattern know of it, whoever found it: the runs of a system, on all threads.
struct PatternKnowledge {
    virtual ~PatternKnowledge() = default;
};
/// What eliminating in a pattern takes, as its analysis foresees it: entries of both factors, and operations of a factorisation.
struct EliminationSize {
    double entries = 0, operations = 0;
};
struct SharedKnowledge {
    std::mutex lock;
    std::optional<EliminationSize> size;
    std::shared_ptr<PatternKnowledge> known;  ///< made by the first solver
};

/// Compressed columns: the rows of column c are rows[starts[c] .. starts[c + 1]), ascending.
struct SparsePattern {
    std::uint32_t n_columns = 0;
    std::vector<std::int64_t> starts{0};
    std::vector<std::int64_t> rows;
    std::shared_ptr<SharedKnowledge> shared{};  ///< null: each solver finds out by itself
    std::size_t n_entries() const { return rows.size(); }
};

}  // namespace netloop

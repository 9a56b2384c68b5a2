// SPDX-License-Identifier: Apache-2.0
// Where a sparse matrix has entries.
#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

namespace netloop {

/// Compressed columns: the rows of column c are rows[starts[c] .. starts[c + 1]), ascending.
struct SparsePattern {
    std::uint32_t n_columns = 0;
    std::vector<std::int64_t> starts{0};
    std::vector<std::int64_t> rows;
    std::size_t n_entries() const { return rows.size(); }
};

}  // namespace netloop

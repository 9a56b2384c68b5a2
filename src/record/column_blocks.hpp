// SPDX-License-Identifier: Apache-2.0
// Rows into columns, a block of rows at a time: written one by one, each row would touch as many places of memory as there are columns.
#pragma once

#include <algorithm>

#include "netloop/recording.hpp"

namespace netloop {

class ColumnBlocks {
public:
    /// `rows`: how many are expected, 0 if none.
    ColumnBlocks(Recording& recording, std::size_t rows) : recording_(recording)
    {
        if (rows == 0) return;
        block_.resize(kRows * recording.columns.size());
        for (Column& c : recording.columns) c.values.reserve(rows);
    }
    void add(const double* row)
    {
        std::copy_n(row, recording_.columns.size(), block_.data() + n_ * recording_.columns.size());
        if (++n_ == kRows) flush();
    }
    /// What was added is in the recording after this.
    void flush()
    {
        std::size_t width = recording_.columns.size();
        for (std::size_t c = 0; c < width && n_ > 0; ++c) {
            std::vector<double>& values = recording_.columns[c].values;
            for (std::size_t k = 0; k < n_; ++k) values.push_back(block_[k * width + c]);
        }
        n_ = 0;
    }

private:
    static constexpr std::size_t kRows = 32;
    Recording& recording_;
    std::vector<double> block_;
    std::size_t n_ = 0;
};

}  // namespace netloop

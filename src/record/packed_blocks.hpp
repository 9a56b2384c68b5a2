// SPDX-License-Identifier: Apache-2.0
// Blocks of rows turned into compressed columns by a thread of their own, so that a run does not wait for it.
#pragma once

#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <functional>
#include <mutex>
#include <thread>
#include <vector>

namespace netloop {

/// How a recording's table is cut into chunks: `rows` of one column, or of `columns` beside each other where there are very many.
struct ChunkShape {
    std::size_t rows = 0, columns = 1;
};
/// Blocks of about four megabytes, chunks of at least eight kilobytes.
ChunkShape chunk_shape(std::size_t columns);

/// A block of consecutive rows.
struct RowBlock {
    std::size_t first = 0;     ///< row in the recording
    std::size_t rows = 0;      ///< at most ChunkShape::rows
    std::vector<double> data;  ///< rows x columns
};

/// Shuffles and deflates the chunks as HDF5's filters of that name do, so that any reader of HDF5 can read them. Where rows come faster than they can be
/// deflated, blocks are stored (a valid stream, too): the file is larger, and the run does not wait.
class BlockPacker {
public:
    /// Takes the packed chunks of a block, in the order of their columns; called in the packer's thread. False if they could not be kept.
    using Sink = std::function<bool(const RowBlock& block, const std::vector<std::vector<std::uint8_t>>& chunks)>;
    /// Without `threaded` put() does the work itself.
    BlockPacker(std::size_t columns, ChunkShape shape, Sink sink, bool threaded);
    ~BlockPacker();
    BlockPacker(const BlockPacker&) = delete;
    BlockPacker& operator=(const BlockPacker&) = delete;

    /// Room for the rows of a block, of one that was packed if there is one: memory that is new to the process costs more than what is written into it.
    std::vector<double> room();
    /// A block for the thread; where too many wait, so does the call. False if the sink has failed.
    bool put(RowBlock block);
    /// Until all blocks are through. False if the sink has failed.
    bool wait();

private:
    void work();
    void pack(RowBlock& block, bool store);

    std::size_t columns_;
    ChunkShape shape_;
    Sink sink_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<RowBlock> waiting_;
    std::vector<std::vector<double>> spare_;
    bool busy_ = false, end_ = false, failed_ = false;
    std::thread thread_;  ///< last: it uses the others
};

}  // namespace netloop

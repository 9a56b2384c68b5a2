// Blocks of rows turned into compressed columns by a thread of their own, so that a run does not wait for it.
#pragma once

#include <condition_variable>
#include <cstddef>
#include <cstdint>
#include <deque>
#include <mutex>
#include <optional>
#include <thread>
#include <vector>

namespace netloop {

/// How a recording's table is cut into chunks: `rows` of one column, or of `columns` beside each other where there are very many.
struct ChunkShape {
    std::size_t rows = 0, columns = 1;
};
/// Blocks of about eight megabytes, chunks of at least eight kilobytes.
ChunkShape chunk_shape(std::size_t columns);

/// A block of rows: given by rows, given back as one packed chunk after the other.
struct RowBlock {
    std::size_t first = 0;     ///< row in the recording
    std::size_t rows = 0;      ///< at most ChunkShape::rows
    std::vector<double> data;  ///< rows x columns
    std::vector<std::vector<std::uint8_t>> chunks;
};

/// Shuffles and deflates the chunks as HDF5's filters of that name do, so that any reader of HDF5 can read them.
class BlockPacker {
public:
    BlockPacker(std::size_t columns, ChunkShape shape);
    ~BlockPacker();
    BlockPacker(const BlockPacker&) = delete;
    BlockPacker& operator=(const BlockPacker&) = delete;

    /// A block for the thread; at most three wait, then the call does.
    void put(RowBlock block);
    /// The next packed block, in the order of put(). With `wait`, whatever was put comes; without, only what is ready.
    std::optional<RowBlock> take(bool wait);

private:
    void work();
    void pack(RowBlock& block);

    std::size_t columns_;
    ChunkShape shape_;
    std::mutex mutex_;
    std::condition_variable changed_;
    std::deque<RowBlock> waiting_, ready_;
    std::size_t under_way_ = 0;  ///< put, but not taken
    bool end_ = false;
    std::thread thread_;  ///< last: it uses the others
};

}  // namespace netloop

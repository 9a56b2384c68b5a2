#include "record/packed_blocks.hpp"

#include <libdeflate.h>

#include <algorithm>
#include <cstring>
#include <memory>

namespace netloop {

namespace {
constexpr std::size_t kBlockNumbers = 1u << 20, kChunkNumbers = 1u << 10, kWaiting = 3;
constexpr int kLevel = 1;  // the higher ones take twice the time for a tenth of the size
}  // namespace

ChunkShape chunk_shape(std::size_t columns)
{
    ChunkShape shape{64, 1};
    while (shape.rows < 4096 && shape.rows * 2 * columns <= kBlockNumbers) shape.rows *= 2;
    shape.columns = std::min(columns, std::max<std::size_t>(1, kChunkNumbers / shape.rows));
    return shape;
}

BlockPacker::BlockPacker(std::size_t columns, ChunkShape shape) : columns_(columns), shape_(shape), thread_([this] { work(); }) {}

BlockPacker::~BlockPacker()
{
    {
        std::lock_guard lock(mutex_);
        end_ = true;
    }
    changed_.notify_all();
    thread_.join();
}

void BlockPacker::put(RowBlock block)
{
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return waiting_.size() < kWaiting; });
    waiting_.push_back(std::move(block));
    ++under_way_;
    changed_.notify_all();
}

std::optional<RowBlock> BlockPacker::take(bool wait)
{
    std::unique_lock lock(mutex_);
    if (wait) changed_.wait(lock, [&] { return !ready_.empty() || under_way_ == 0; });
    if (ready_.empty()) return std::nullopt;
    RowBlock block = std::move(ready_.front());
    ready_.pop_front();
    --under_way_;
    return block;
}

void BlockPacker::work()
{
    std::unique_lock lock(mutex_);
    for (;;) {
        changed_.wait(lock, [&] { return end_ || !waiting_.empty(); });
        if (end_) return;
        RowBlock block = std::move(waiting_.front());
        waiting_.pop_front();
        lock.unlock();
        changed_.notify_all();
        pack(block);
        lock.lock();
        ready_.push_back(std::move(block));
        changed_.notify_all();
    }
}

void BlockPacker::pack(RowBlock& block)
{
    std::unique_ptr<libdeflate_compressor, decltype(&libdeflate_free_compressor)> deflate(libdeflate_alloc_compressor(kLevel), libdeflate_free_compressor);
    std::size_t numbers = shape_.rows * shape_.columns, bytes = numbers * sizeof(double);
    std::vector<double> chunk(numbers);
    std::vector<std::uint8_t> shuffled(bytes), packed(libdeflate_zlib_compress_bound(deflate.get(), bytes));
    for (std::size_t at = 0; at < columns_; at += shape_.columns) {
        std::size_t width = std::min(shape_.columns, columns_ - at);
        std::fill(chunk.begin(), chunk.end(), 0.0);  // what lies outside the table
        for (std::size_t r = 0; r < block.rows; ++r)
            std::memcpy(chunk.data() + r * shape_.columns, block.data.data() + r * columns_ + at, width * sizeof(double));
        const auto* from = reinterpret_cast<const std::uint8_t*>(chunk.data());
        for (std::size_t b = 0; b < sizeof(double); ++b)
            for (std::size_t i = 0; i < numbers; ++i) shuffled[b * numbers + i] = from[i * sizeof(double) + b];
        std::size_t size = libdeflate_zlib_compress(deflate.get(), shuffled.data(), bytes, packed.data(), packed.size());
        block.chunks.emplace_back(packed.begin(), packed.begin() + static_cast<long>(size));
    }
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "record/packed_blocks.hpp"

#include <libdeflate.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <cstring>
#include <memory>
#include <new>
#include <system_error>

namespace netloop {

namespace {

constexpr std::size_t kBlockNumbers = 1u << 19, kChunkNumbers = 1u << 10, kWaiting = 4;
constexpr std::size_t kBehind = 1;  // blocks that still wait: from then on the next one is stored as it is, so that the run need not wait
constexpr double kNoise = 6.0;      // bits of a byte's eight: above this deflating saves less than it costs

// What a byte of the plane tells, estimated from every eighth one.
double bits_of_a_byte(const std::uint8_t* plane, std::size_t n)
{
    std::array<std::uint32_t, 256> count{};
    std::size_t looked = 0;
    for (std::size_t i = 0; i < n; i += 8, ++looked) ++count[plane[i]];
    double bits = 0;
    for (std::uint32_t c : count)
        if (c > 0) bits += c * std::log2(static_cast<float>(c));
    return std::log2(static_cast<double>(looked)) - bits / static_cast<double>(looked);
}

// The bytes of numbers into planes.
void shuffle(const std::vector<std::uint64_t>& numbers, std::vector<std::uint8_t>& planes)
{
    std::size_t n = numbers.size();
    for (std::size_t b = 0; b < sizeof(double); ++b) {
        std::uint8_t* plane = planes.data() + b * n;
        for (std::size_t i = 0; i < n; ++i) plane[i] = static_cast<std::uint8_t>(numbers[i] >> (8 * b));
    }
}

// Zlib streams (RFC 1950, 1951). The planes of the last digits, which come first, are as good as random: they are stored as they are, and only the
// others are deflated, which is several times faster than trying it on all. With `store` all of them are stored.
class Deflater {
public:
    Deflater()
    {
        if (compressor_ == nullptr) throw std::bad_alloc();
    }
    std::vector<std::uint8_t> pack(const std::vector<std::uint8_t>& shuffled, std::size_t numbers, bool store)
    {
        std::size_t noise = store ? shuffled.size() : 0;
        while (noise < sizeof(double) * numbers && bits_of_a_byte(shuffled.data() + noise, numbers) > kNoise) noise += numbers;
        std::vector<std::uint8_t> out{0x78, 0x01};
        for (std::size_t at = 0; at < noise; at += kStored) {
            auto size = static_cast<std::uint16_t>(std::min(kStored, noise - at)), not_size = static_cast<std::uint16_t>(~size);
            for (int byte : {0, size & 0xff, size >> 8, not_size & 0xff, not_size >> 8}) out.push_back(static_cast<std::uint8_t>(byte));
            out.insert(out.end(), shuffled.begin() + static_cast<long>(at), shuffled.begin() + static_cast<long>(at + size));
        }
        std::size_t rest = shuffled.size() - noise, begin = out.size();
        out.resize(begin + libdeflate_deflate_compress_bound(compressor_.get(), rest));
        out.resize(begin + libdeflate_deflate_compress(compressor_.get(), shuffled.data() + noise, rest, out.data() + begin, out.size() - begin));
        std::uint32_t sum = libdeflate_adler32(1, shuffled.data(), shuffled.size());
        for (int shift : {24, 16, 8, 0}) out.push_back(static_cast<std::uint8_t>(sum >> shift));
        return out;
    }

private:
    static constexpr std::size_t kStored = 65535;  // most bytes of a stored piece
    std::unique_ptr<libdeflate_compressor, decltype(&libdeflate_free_compressor)> compressor_{libdeflate_alloc_compressor(1), libdeflate_free_compressor};
};

}  // namespace

ChunkShape chunk_shape(std::size_t columns)
{
    ChunkShape shape{64, 1};
    while (shape.rows < 4096 && shape.rows * 2 * columns <= kBlockNumbers) shape.rows *= 2;
    shape.columns = std::min(columns, std::max<std::size_t>(1, kChunkNumbers / shape.rows));
    return shape;
}

BlockPacker::BlockPacker(std::size_t columns, ChunkShape shape, Sink sink, bool threaded) : columns_(columns), shape_(shape), sink_(std::move(sink))
{
    if (!threaded) return;
    try {
        thread_ = std::thread([this] { work(); });
    } catch (const std::system_error&) {  // no memory, or no more threads: blocks are packed as they come
    }
}

BlockPacker::~BlockPacker()
{
    {
        std::lock_guard lock(mutex_);
        end_ = true;
    }
    changed_.notify_all();
    if (thread_.joinable()) thread_.join();
}

bool BlockPacker::put(RowBlock block)
{
    if (!thread_.joinable()) {
        pack(block, false);
        return !failed_;
    }
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return waiting_.size() < kWaiting; });
    waiting_.push_back(std::move(block));
    changed_.notify_all();
    return !failed_;
}

bool BlockPacker::wait()
{
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return waiting_.empty() && !busy_; });
    return !failed_;
}

void BlockPacker::work()
{
    std::unique_lock lock(mutex_);
    for (;;) {
        changed_.wait(lock, [&] { return end_ || !waiting_.empty(); });
        if (end_) return;
        RowBlock block = std::move(waiting_.front());
        waiting_.pop_front();
        bool behind = waiting_.size() >= kBehind;
        busy_ = true;
        lock.unlock();
        changed_.notify_all();
        try {
            pack(block, behind);
        } catch (const std::bad_alloc&) {
            std::lock_guard failing(mutex_);
            failed_ = true;
        }
        lock.lock();
        busy_ = false;
        changed_.notify_all();
    }
}

void BlockPacker::pack(RowBlock& block, bool store)
{
    // Some chunks beside each other are taken out of the rows at once: a row of the block lies in few lines of the cache, a column in very many.
    std::size_t numbers = shape_.rows * shape_.columns, together = std::max<std::size_t>(1, 16 / shape_.columns);
    std::vector<std::vector<std::uint64_t>> columns(together, std::vector<std::uint64_t>(numbers));
    std::vector<std::uint8_t> shuffled(numbers * sizeof(double));
    std::vector<std::vector<std::uint8_t>> chunks;
    Deflater deflater;
    for (std::size_t at = 0; at < columns_; at += together * shape_.columns) {
        std::size_t end = std::min(columns_, at + together * shape_.columns), n = (end - at + shape_.columns - 1) / shape_.columns;
        if (block.rows < shape_.rows || n * shape_.columns > end - at)  // what lies outside the table
            for (auto& c : columns) std::fill(c.begin(), c.end(), 0);
        for (std::size_t r = 0; r < block.rows; ++r) {
            const double* row = block.data.data() + r * columns_;
            for (std::size_t k = 0; k < n; ++k) {
                std::size_t first = at + k * shape_.columns, width = std::min(shape_.columns, columns_ - first);
                if (shape_.columns == 1)
                    columns[k][r] = std::bit_cast<std::uint64_t>(row[first]);
                else
                    std::memcpy(&columns[k][r * shape_.columns], row + first, width * sizeof(double));
            }
        }
        for (std::size_t k = 0; k < n; ++k) {
            shuffle(columns[k], shuffled);
            chunks.push_back(deflater.pack(shuffled, numbers, store));
        }
    }
    bool kept = sink_(block, chunks);
    std::lock_guard lock(mutex_);
    failed_ = failed_ || !kept;
    spare_.push_back(std::move(block.data));
}

std::vector<double> BlockPacker::room()
{
    std::lock_guard lock(mutex_);
    if (spare_.empty()) return std::vector<double>(shape_.rows * columns_);
    std::vector<double> data = std::move(spare_.back());
    spare_.pop_back();
    return data;
}

}  // namespace netloop

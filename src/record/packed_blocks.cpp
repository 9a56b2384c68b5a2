#include "record/packed_blocks.hpp"

#include <libdeflate.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <memory>

namespace netloop {

namespace {

constexpr std::size_t kBlockNumbers = 1u << 19, kChunkNumbers = 1u << 10, kWaiting = 4;
constexpr double kNoise = 6.0;  // bits of a byte's eight: above this deflating saves less than it costs

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

// The bytes of `n` numbers, `stride` apart, into planes `apart` from each other. Some numbers at a time: the planes lie so that byte by byte they would get
// into each other's way in the cache.
void shuffle(const double* from, std::size_t stride, std::size_t n, std::uint8_t* planes, std::size_t apart)
{
    constexpr std::size_t kSome = 32;
    std::array<std::uint64_t, kSome> some{};
    for (std::size_t at = 0; at < n; at += kSome) {
        std::size_t count = std::min(kSome, n - at);
        for (std::size_t i = 0; i < count; ++i) std::memcpy(&some[i], from + (at + i) * stride, sizeof(double));
        for (std::size_t b = 0; b < sizeof(double); ++b) {
            std::array<std::uint8_t, kSome> plane;
            for (std::size_t i = 0; i < kSome; ++i) plane[i] = static_cast<std::uint8_t>(some[i] >> (8 * b));
            std::memcpy(planes + b * apart + at, plane.data(), count);
        }
    }
}

// Zlib streams (RFC 1950, 1951). The planes of the last digits, which come first, are as good as random: they are stored as they are, and only the
// others are deflated, which is several times faster than trying it on all.
class Deflater {
public:
    std::vector<std::uint8_t> pack(const std::vector<std::uint8_t>& shuffled, std::size_t numbers)
    {
        std::size_t noise = 0;
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
    if (threaded) thread_ = std::thread([this] { work(); });
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
        pack(block);
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
        busy_ = true;
        lock.unlock();
        changed_.notify_all();
        pack(block);
        lock.lock();
        busy_ = false;
        changed_.notify_all();
    }
}

void BlockPacker::pack(const RowBlock& block)
{
    std::size_t numbers = shape_.rows * shape_.columns;
    std::vector<std::uint8_t> shuffled(numbers * sizeof(double));
    std::vector<std::vector<std::uint8_t>> chunks;
    Deflater deflater;
    for (std::size_t at = 0; at < columns_; at += shape_.columns) {
        std::size_t width = std::min(shape_.columns, columns_ - at);
        if (block.rows < shape_.rows || width < shape_.columns) std::fill(shuffled.begin(), shuffled.end(), std::uint8_t{0});  // what lies outside the table
        if (width == 1)
            shuffle(block.data.data() + at, columns_, block.rows, shuffled.data(), numbers);
        else
            for (std::size_t r = 0; r < block.rows; ++r)
                shuffle(block.data.data() + r * columns_ + at, 1, width, shuffled.data() + r * shape_.columns, numbers);
        chunks.push_back(deflater.pack(shuffled, numbers));
    }
    bool kept = sink_(block, chunks);
    std::lock_guard lock(mutex_);
    failed_ = failed_ || !kept;
}

}  // namespace netloop

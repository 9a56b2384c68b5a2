// SPDX-License-Identifier: Apache-2.0
#include "figures/outline.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {
namespace {

constexpr double kBlock = 2;           // columns that are looked at together
constexpr int kTurns = 3;              // in a block: more than a line can show
constexpr std::size_t kLeastRun = 4;   // blocks: a shorter burst is a line
constexpr std::size_t kClosedGap = 2;  // blocks between two bands that are one band
constexpr double kLeastSwing = 2;      // pixels

double column_of(double x, const Raster& r)
{
    double share = r.logarithmic_x ? std::log(x / r.low) / std::log(r.high / r.low) : (x - r.low) / (r.high - r.low);
    return std::isfinite(share) ? share * r.columns : -1;
}

bool few(const Stroke& s, const Raster& r)
{
    return s.x.size() <= 4 * static_cast<std::size_t>(r.columns) || !(r.high > r.low);
}

// Consecutive points first .. end - 1 that share a block of columns.
struct Block {
    std::size_t first = 0, end = 0;
    double low = HUGE_VAL, high = -HUGE_VAL;
    int turns = 0;
    bool dense = false;
};

std::vector<Block> blocks_of(const Stroke& s, const Raster& r)
{
    std::vector<Block> blocks;
    double at = 0;
    int direction = 0;
    for (std::size_t i = 0; i < s.x.size(); ++i) {
        double block = std::floor(column_of(s.x[i], r) / kBlock);
        if (blocks.empty() || block != at) blocks.push_back({i, i});
        at = block;
        Block& b = blocks.back();
        b.end = i + 1;
        if (!std::isfinite(s.y[i])) {
            b.turns = -static_cast<int>(s.x.size());  // a gap is no band
            continue;
        }
        b.low = std::min(b.low, s.y[i]);
        b.high = std::max(b.high, s.y[i]);
        double step = i > 0 ? s.y[i] - s.y[i - 1] : 0;
        int now = step > 0 ? 1 : step < 0 ? -1 : 0;
        if (now != 0 && direction != 0 && now != direction) ++b.turns;
        if (now != 0) direction = now;
    }
    for (Block& b : blocks) b.dense = b.turns >= kTurns && b.high - b.low > kLeastSwing * r.y_pixel;
    return blocks;
}

// Short gaps closed, short bursts given up.
void settle(std::vector<Block>& blocks)
{
    auto runs = [&](bool dense, std::size_t shorter_than, bool inside) {
        for (std::size_t k = 0; k < blocks.size();) {
            std::size_t end = k;
            while (end < blocks.size() && blocks[end].dense == blocks[k].dense) ++end;
            bool whole = !inside || (k > 0 && end < blocks.size());
            bool gap = std::any_of(blocks.begin() + static_cast<long>(k), blocks.begin() + static_cast<long>(end), [](const Block& b) { return b.turns < 0; });
            if (blocks[k].dense == dense && end - k < shorter_than && whole && !gap)
                for (std::size_t i = k; i < end; ++i) blocks[i].dense = !dense;
            k = end;
        }
    };
    runs(false, kClosedGap + 1, true);
    runs(true, kLeastRun, false);
}

}  // namespace

Stroke thinned(const Stroke& s, const Raster& r)
{
    if (few(s, r)) return s;
    Stroke out;
    std::size_t first = 0;
    auto keep = [&](std::size_t i) { out.x.push_back(s.x[i]), out.y.push_back(s.y[i]); };
    auto close = [&](std::size_t end) {  // points first .. end - 1 share a pixel
        std::size_t lowest = first, highest = first;
        for (std::size_t i = first; i < end; ++i) {
            if (s.y[i] < s.y[lowest]) lowest = i;
            if (s.y[i] > s.y[highest]) highest = i;
        }
        std::size_t kept[4] = {first, std::min(lowest, highest), std::max(lowest, highest), end - 1};
        for (std::size_t k = 0; k < 4; ++k)
            if (k == 0 || kept[k] != kept[k - 1]) keep(kept[k]);
    };
    for (std::size_t i = 1; i < s.x.size(); ++i) {
        bool gap = std::isnan(s.y[i]) || std::isnan(s.y[i - 1]);
        if (!gap && std::floor(column_of(s.x[i], r)) == std::floor(column_of(s.x[first], r))) continue;
        close(i);
        first = i;
    }
    close(s.x.size());
    return out;
}

Outline outline_of(const Stroke& s, const Raster& r)
{
    if (few(s, r) || !std::is_sorted(s.x.begin(), s.x.end())) return {{thinned(s, r)}, {}};
    std::vector<Block> blocks = blocks_of(s, r);
    settle(blocks);
    Outline out;
    for (std::size_t k = 0; k < blocks.size();) {
        std::size_t end = k;
        while (end < blocks.size() && blocks[end].dense == blocks[k].dense) ++end;
        if (blocks[k].dense) {
            Band band;
            for (std::size_t i = k; i < end; ++i) {
                const Block& b = blocks[i];
                band.x.push_back(i == k ? s.x[b.first] : i + 1 == end ? s.x[b.end - 1] : 0.5 * (s.x[b.first] + s.x[b.end - 1]));
                band.low.push_back(b.low);
                band.high.push_back(b.high);
            }
            out.bands.push_back(std::move(band));
        } else {
            std::size_t first = blocks[k].first - (k > 0 ? 1 : 0), last = std::min(blocks[end - 1].end + (end < blocks.size() ? 1 : 0), s.x.size());
            Stroke line;
            line.x.assign(s.x.begin() + static_cast<long>(first), s.x.begin() + static_cast<long>(last));
            line.y.assign(s.y.begin() + static_cast<long>(first), s.y.begin() + static_cast<long>(last));
            out.lines.push_back(thinned(line, r));
        }
        k = end;
    }
    return out;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "figures/report_data.hpp"

#include <libdeflate.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <map>
#include <memory>
#include <set>

namespace netloop {
namespace {

std::string base64(const std::vector<std::uint8_t>& bytes)
{
    static const char* kLetters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
    std::string out;
    out.reserve((bytes.size() + 2) / 3 * 4);
    for (std::size_t i = 0; i < bytes.size(); i += 3) {
        std::size_t n = std::min<std::size_t>(3, bytes.size() - i);
        std::uint32_t group = 0;
        for (std::size_t k = 0; k < 3; ++k) group = group << 8 | (k < n ? bytes[i + k] : 0u);
        for (std::size_t k = 0; k < 4; ++k) out += k <= n ? kLetters[group >> (18 - 6 * k) & 63] : '=';
    }
    return out;
}

template <typename Number>
void put_planes(const std::vector<Number>& numbers, std::vector<std::uint8_t>& out)
{
    std::size_t at = out.size(), n = numbers.size();
    out.resize(at + n * sizeof(Number));
    for (std::size_t i = 0; i < n; ++i) {
        std::uint8_t bytes[sizeof(Number)];
        std::memcpy(bytes, &numbers[i], sizeof(Number));  // little-endian, as the page expects
        for (std::size_t b = 0; b < sizeof(Number); ++b) out[at + b * n + i] = bytes[b];
    }
}

}  // namespace

std::vector<std::uint32_t> kept_rows(const std::vector<double>& t, const std::vector<double>& v, double tolerance)
{
    std::vector<std::uint32_t> kept;
    if (t.empty()) return kept;
    kept.push_back(0);
    double low = -HUGE_VAL, high = HUGE_VAL;  // slopes that pass all rows since the last kept one
    std::size_t anchor = 0, last = 0;
    auto keep = [&](std::size_t i) {
        if (kept.back() != i) kept.push_back(static_cast<std::uint32_t>(i));
        anchor = last = i;
        low = -HUGE_VAL;
        high = HUGE_VAL;
    };
    for (std::size_t i = 1; i < t.size(); ++i) {
        if (std::isnan(v[i]) || std::isnan(v[anchor])) {
            keep(last);
            keep(i);
            continue;
        }
        double dt = t[i] - t[anchor];
        if (t[i] == t[last] && std::abs(v[i] - v[last]) > tolerance) {  // both sides of an event
            keep(last);
            keep(i);
            continue;
        }
        if (dt <= 0) continue;
        double slope = (v[i] - v[anchor]) / dt;
        if (slope < low || slope > high) {
            keep(last);
            dt = t[i] - t[anchor];
            if (dt <= 0) {
                keep(i);
                continue;
            }
        }
        low = std::max(low, (v[i] - tolerance - v[anchor]) / dt);
        high = std::min(high, (v[i] + tolerance - v[anchor]) / dt);
        last = i;
    }
    keep(last);
    return kept;
}

PackedRecording pack(const Recording& recording, double share)
{
    PackedRecording made;
    std::vector<std::uint8_t> bytes;
    put_planes(recording.time().values, bytes);
    std::set<std::string> drawn;
    for (const FigureRequest& f : recording.figures)
        for (const auto& p : f.panels)
            for (const auto& c : p.curves) drawn.insert(c.path);
    std::map<std::vector<double>, std::size_t> same;  // columns that hold the same numbers are kept once
    for (const Column& c : recording.columns) {
        std::vector<double> shown = c.values;
        for (double& v : shown) v = (v - c.offset) / c.scale;
        auto [it, fresh] = same.emplace(shown, made.stores.size());
        made.store_of.push_back(it->second);
        if (!fresh) continue;
        double low = HUGE_VAL, high = -HUGE_VAL;
        for (double v : shown)
            if (std::isfinite(v)) low = std::min(low, v), high = std::max(high, v);
        bool exact = c.unit == "bool" || !(high > low);
        double tolerance = exact ? 0 : share * (high - low) * (drawn.contains(c.name) ? 0.1 : 1);
        std::vector<std::uint32_t> rows = kept_rows(recording.time().values, shown, tolerance);
        PackedRecording::Store store{rows.size(), bytes.size(), 0};
        std::vector<float> values;
        std::uint32_t before = 0;
        for (std::uint32_t r : rows) {
            std::uint32_t step = r - before;
            for (before = r; step > 127; step >>= 7) bytes.push_back(static_cast<std::uint8_t>(step & 127) | 128);
            bytes.push_back(static_cast<std::uint8_t>(step));
            values.push_back(static_cast<float>(shown[r]));
        }
        store.values = bytes.size();
        put_planes(values, bytes);
        made.stores.push_back(store);
    }
    std::unique_ptr<libdeflate_compressor, decltype(&libdeflate_free_compressor)> deflate(libdeflate_alloc_compressor(9), libdeflate_free_compressor);
    std::vector<std::uint8_t> packed(libdeflate_zlib_compress_bound(deflate.get(), bytes.size()));
    packed.resize(libdeflate_zlib_compress(deflate.get(), bytes.data(), bytes.size(), packed.data(), packed.size()));
    made.packed = base64(packed);
    return made;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The numbers of a recording, small enough for a page: thinned within a tolerance, as 32-bit floats, deflated, as base64 text.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

/// Rows that suffice: straight lines between them miss no row in between by more than `tolerance` (in the unit of `values`). Both sides of an event stay.
/// Source: the swinging door of Bristol (1987), with the slope of the line to each row tested itself.
std::vector<std::uint32_t> kept_rows(const std::vector<double>& time, const std::vector<double>& values, double tolerance);

struct PackedRecording {
    /// Where the points of a column lie in the bytes: steps from row to row (7 bits a byte, the lowest first, the highest bit: more follow), then the four
    /// planes of their values.
    struct Store {
        std::size_t points = 0, rows = 0, values = 0;
    };
    std::vector<Store> stores;
    std::vector<std::size_t> store_of;  ///< per column of the recording
    std::string packed;                 ///< base64 of a zlib stream; it begins with the eight planes of the times
};

/// `share`: of a curve's swing, the tolerance; a tenth of it for `figures`' curves.
PackedRecording pack(const Recording& recording, double share);

}  // namespace netloop

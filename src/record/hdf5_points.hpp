// SPDX-License-Identifier: Apache-2.0
// The points of a recording: a table for each layout, with the names of its columns.
#pragma once

#include <vector>

#include "netloop/recording.hpp"
#include "record/hdf5.hpp"

namespace netloop::hdf5 {

/// A group `points` with a group for each layout: `time`, `values` (a row for each point), `names`, `index`, `sign`, and `past` with `past_starts`.
bool write_points(hid_t file, const std::vector<RunPoint>& points);
/// Those that are whole; sizes are looked at before anything is read.
std::vector<RunPoint> read_points(hid_t file);

}  // namespace netloop::hdf5

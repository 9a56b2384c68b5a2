// SPDX-License-Identifier: Apache-2.0
// What the page's script is given: runs, their packed numbers, shapes and events, figures, measures, units to choose from.
#pragma once

#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

constexpr std::size_t kMostMarks = 2000;  ///< times of one kind of event that the page can mark

/// As JSON; `share` is the tolerance of pack().
std::string report_numbers(const std::vector<Recording>& runs, const std::vector<std::string>& names, double share);
/// Of all runs, each name once.
std::vector<MeasureResult> measures_of(const std::vector<Recording>& runs);

}  // namespace netloop

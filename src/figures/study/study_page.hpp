// SPDX-License-Identifier: Apache-2.0
// A study as one HTML page: table, bars, radar, scatter with front, parallel axes, effects, indices, histograms, curves of runs that were recorded.
#pragma once

#include <string>
#include <vector>

#include "netloop/study.hpp"

namespace netloop {

/// `store`: as it is told to `netloop rerun`. Of more than 50,000 runs evenly as many are taken, and the page says so. Curves are read from recordings that
/// are there, of eight runs at most. Gives the bytes of the page. Throws RecordingError.
std::size_t write_study_page(const StudyRecord& study, const std::vector<StudyRow>& rows, const std::string& store, const std::string& out);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Charts of a study's runs, by gnuplot.
#pragma once

#include <string>
#include <vector>

#include "netloop/study.hpp"

namespace netloop {

struct StudyChart {
    std::string kind{};      ///< "bars", "radar", "scatter", "histogram", "effects"
    std::string of{};        ///< columns, with commas between; empty: the first that is collected (of a radar all)
    std::int64_t most = 20;  ///< runs that bars and radar show
    int width = 1280, height = 800;
};

/// Draws rows, in their order, into a .svg, .png or .pdf. Throws UsageError for a kind or column that there is not, RecordingError for the file.
void draw_study_chart(const StudyRecord& study, const std::vector<StudyRow>& rows, const StudyChart& chart, const std::string& out);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// What a figure shows, as numbers: panels of curves in display units, before anything is drawn.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "figures/plot.hpp"

namespace netloop {

/// Points joined by straight lines.
struct Stroke {
    std::vector<double> x, y;
};

constexpr const char* kStageUnit = "stage of ";
constexpr const char* kPartAxis = "stage of parts";  ///< an axis that names parts

struct Curve {
    std::string label;
    std::string unit;                 ///< of a sequence: kStageUnit and its path, an axis of its own
    std::vector<std::string> stages;  ///< of a sequence: names of the values 1, 2, ...
    std::size_t quantity = 0;         ///< running number on the page: gives the colour
    std::size_t run = 0;              ///< gives the dashes where several runs are drawn
    std::vector<Stroke> strokes;      ///< several where cycles are folded, the first one first
    enum class Mark { line, cross, ring, bar } mark = Mark::line;
};

struct PanelContent {
    std::vector<std::string> units;  ///< one or two: left, right
    std::vector<Curve> curves;
    std::string x_label, x_unit;
    bool shares_x = false;             ///< with other panels of the same x_label: numbers are written below the last one only
    bool lower = false;                ///< a difference, drawn lower than the others
    std::string y_label;               ///< "difference"; empty: the unit alone
    std::optional<bool> log_x, log_y;  ///< instead of what the request says for all panels
};

struct EventLane {
    std::string label;
    std::vector<double> times;
};

struct PageContent {
    std::vector<PanelContent> panels;
    std::vector<EventLane> lanes;  ///< below the last panel, over time
    std::size_t n_runs = 1;
};

/// Finds, converts, folds, transforms. Throws RecordingError.
PageContent find_content(std::vector<Recording>& recordings, const std::vector<std::string>& names, const PlotRequest& request);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Figures by gnuplot: several quantities over time or over another quantity, one axis per unit.
#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

struct PlotRequest {
    /// Paths, or patterns: "pump.*"; "2:pump.p" is that of the second recording alone; "leaf.angle:deg" is drawn in deg; "/" begins a panel of its own below.
    std::vector<std::string> quantities{};
    std::vector<FigureRequest::Panel> panels{};  ///< instead of quantities: what a scenario's figure asks for
    std::string against{};                       ///< x axis; empty: time; "time:min": time in another unit
    std::string title{};
    std::string out{};                  ///< .png, .svg or .pdf, or - for standard output (SVG)
    std::vector<std::string> inputs{};  ///< files that the recordings were read from: never written over
    int width = 1280, height = 800;
    std::optional<double> from{}, to{};  ///< s
    /// Working cycles over each other: of a period (s), or from one time at which a condition becomes true to the next.
    std::optional<double> fold{};
    std::string fold_at{};
    bool spectrum = false;                            ///< amplitudes over frequency instead of values over time
    bool log_x = false, log_y = false;                ///< logarithmic axes
    bool events = false;                              ///< the events of the first recording, a line a kind, below the panels
    bool difference = true;                           ///< of several recordings over time: what each differs from the first, below
    int columns = 1;                                  ///< panels beside each other
    std::vector<std::pair<double, double>> ranges{};  ///< of axes: low and high, in `range_units`
    std::vector<std::string> range_units{};           ///< an axis in a unit that can be turned into one of these gets its range
};

/// Draws curves of one or several recordings (compared in one figure), and reads what it needs of opened ones. Two units share a panel with an axis on each
/// side; more units get panels below each other. Throws RecordingError for an unknown quantity or a file that cannot be written.
void plot(std::vector<Recording> recordings, const std::vector<std::string>& names, const PlotRequest& request);

}  // namespace netloop

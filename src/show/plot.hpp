// Figures by gnuplot: several quantities over time or over another quantity, one axis per unit.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

struct PlotRequest {
    /// Paths; "2:pump.p" is that of the second recording alone; "leaf.angle:deg" is drawn in deg; "/" begins a panel of its own below.
    std::vector<std::string> quantities;
    std::vector<FigureRequest::Panel> panels{};  ///< instead of quantities: what a scenario's figure asks for
    std::string against;                         ///< x axis; empty: time
    std::string title;
    std::string out;  ///< .png, .svg or .pdf
    int width = 1280, height = 800;
    std::optional<double> from{}, to{};  ///< s
};

/// Draws curves of one or several recordings (compared in one figure). Two units share a panel with an axis on each side; more
/// units get panels below each other. Throws RecordingError for an unknown quantity or a file that cannot be written.
void plot(const std::vector<Recording>& recordings, const std::vector<std::string>& names, const PlotRequest& request);

}  // namespace netloop

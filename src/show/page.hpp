// A page of panels as text for gnuplot: where everything stands, in pixels, so that nothing overlaps.
#pragma once

#include <string>

#include "show/curves.hpp"

namespace netloop {

/// Colours told apart on white, by most people with a colour weakness, and by their brightness where neighbours meet; shared with the report.
constexpr const char* kColours[] = {"#14508c", "#d9772b", "#2f8f5b", "#8e3a9d", "#b8930f", "#0b8a96", "#6b3f1d", "#d43d7a"};

/// The script that draws the page into `out`.
std::string page_script(const PageContent& page, const PlotRequest& request, const std::string& out);

}  // namespace netloop

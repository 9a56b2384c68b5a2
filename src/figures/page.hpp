// SPDX-License-Identifier: Apache-2.0
// A page of panels as text for gnuplot: where everything stands, in pixels, so that nothing overlaps.
#pragma once

#include <string>

#include "figures/curves.hpp"

namespace netloop {

/// The script that draws the page into `out`.
std::string page_script(const PageContent& page, const PlotRequest& request, const std::string& out);

}  // namespace netloop

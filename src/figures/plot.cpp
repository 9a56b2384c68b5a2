// SPDX-License-Identifier: Apache-2.0
#include "figures/plot.hpp"

#include <fmt/format.h>

#include "figures/page.hpp"
#include "figures/picture_file.hpp"

namespace netloop {

void plot(std::vector<Recording> recordings, const std::vector<std::string>& names, const PlotRequest& request)
{
    std::string form = picture_form(request.out);
    if (form != ".png" && form != ".svg" && form != ".pdf") throw RecordingError(fmt::format("'{}': a figure is written as .png, .svg or .pdf", request.out));
    for (const Recording& r : recordings)
        if (r.n_rows() == 0) throw RecordingError("a recording has no rows");
    PageContent page = find_content(recordings, names, request);
    draw_by(
        "gnuplot", [](const std::string&) { return std::vector<std::string>{}; },
        [&](const std::string& unfinished) { return page_script(page, request, unfinished); }, request.out, request.inputs);
}

}  // namespace netloop

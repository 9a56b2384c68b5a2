#include "show/plot.hpp"

#include <fmt/format.h>

#include <filesystem>

#include "show/page.hpp"
#include "show/picture_file.hpp"

namespace netloop {

void plot(std::vector<Recording> recordings, const std::vector<std::string>& names, const PlotRequest& request)
{
    namespace fs = std::filesystem;
    std::string form = fs::path(request.out).extension().string();
    if (form != ".png" && form != ".svg" && form != ".pdf") throw RecordingError(fmt::format("'{}': a figure is written as .png, .svg or .pdf", request.out));
    for (const Recording& r : recordings)
        if (r.n_rows() == 0) throw RecordingError("a recording has no rows");
    PageContent page = find_content(recordings, names, request);
    draw_by("gnuplot", {}, page_script(page, request, unfinished_picture(request.out)), request.out);
}

}  // namespace netloop

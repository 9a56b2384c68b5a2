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
    std::error_code error;
    fs::path folder = fs::path(request.out).parent_path();
    if (!folder.empty() && !fs::is_directory(folder, error))
        throw RecordingError(fmt::format("'{}' cannot be written: there is no folder '{}'", request.out, folder.string()));
    for (const Recording& r : recordings)
        if (r.n_rows() == 0) throw RecordingError("a recording has no rows");
    PageContent page = find_content(recordings, names, request);
    draw_by("gnuplot", "gnuplot 2>/dev/null", page_script(page, request, unfinished_picture(request.out)), request.out);
}

}  // namespace netloop

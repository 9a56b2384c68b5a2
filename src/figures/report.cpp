// SPDX-License-Identifier: Apache-2.0
#include "figures/report.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <optional>

#include "base/markup.hpp"
#include "figures/analyses.hpp"
#include "figures/diagram.hpp"
#include "figures/picture_file.hpp"
#include "figures/report_assets.hpp"
#include "figures/report_numbers.hpp"
#include "figures/report_sections.hpp"
#include "files/other_program.hpp"
#include "files/output_file.hpp"
#include "netloop/error.hpp"
#include "netloop/library.hpp"

namespace netloop {
namespace {

namespace fs = std::filesystem;

constexpr double kShares[] = {0, 1e-7, 1e-6, 1e-5, 3e-5, 1e-4, 3e-4, 1e-3, 3e-3};
constexpr const char* kScripts = "/usr/share/javascript";

class Report {
public:
    Report(std::vector<Recording> recordings, const std::vector<std::string>& names, const ReportRequest& request) : request_(request)
    {
        page_.runs = std::move(recordings);
        page_.names = names;
        for (Recording& r : page_.runs) {
            r.fetch({"*"});
            if (r.n_rows() == 0) throw RecordingError("a recording has no rows: there is nothing to report");
        }
        page_.measures = measures_of(page_.runs);
        const Recording& first = page_.runs[0];
        page_.title = !request.title.empty() ? request.title : first.system + (first.scenario.empty() || page_.several() ? "" : ", " + first.scenario);
    }

    std::string whole()
    {
        load_model();
        draw_analyses();
        const std::string& scripts = request_.scripts;
        std::string style = installed_script(scripts, "dygraphs/dygraph.min.css", "libjs-dygraphs");
        std::string code = "<script>" + installed_script(scripts, "dygraphs/dygraph.min.js", "libjs-dygraphs") + "</script>\n";
        code += "<script>" + installed_script(scripts, "chart.js/chart.min.js", "libjs-chart.js") + "</script>\n";
        std::string head = fmt::format(
            "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
            "<title>{}</title>\n<link rel=\"icon\" href=\"data:,\">\n<style>{}\n{}</style>\n</head>\n<body>\n",
            markup(page_.title), style, kReportStyle);
        std::string before = head + header_section(page_) + summary_section(page_) + figures_section(page_) + picker_section() + motion_section(page_) +
                             variants_section(page_) + events_section(page_) + cost_section(page_) + modes_section(page_) + advice_section(page_) +
                             parameters_section(page_) + assumptions_section(page_) + model_section(page_);
        std::string after = code + "<script>\"use strict\";\n(async function () {\n" + kReportScript + "})();</script>\n</body>\n</html>\n";
        auto room = request_.megabytes * 1e6 - static_cast<double>(before.size() + after.size());
        std::string data;
        double share = 0;
        for (double s : kShares) {
            data = report_numbers(page_.runs, page_.names, share = s);
            if (static_cast<double>(data.size()) < room) break;
        }
        // within texts of JSON only, where it may be written so: neither an end of the script nor a comment can stand in it
        for (std::size_t at = data.find('<'); at != std::string::npos; at = data.find('<', at + 1)) data.replace(at, 1, "\\u003c");
        std::string exact = share == 0 ? "Curves hold every row that was recorded, to seven digits."
                                       : fmt::format(
                                             "Curves are thinned so that no row is missed by more than {:g} % of the curve's swing ({:g} % in the figures); "
                                             "the recordings hold every row.",
                                             100 * share, 10 * share);
        std::string foot = fmt::format("<section class=\"soft\"><p>{} Made by netloop {}.</p></section>\n", exact, markup(page_.runs[0].origin.version));
        return before + foot + "<script type=\"application/json\" id=\"data\">" + data + "</script>\n" + after;
    }

private:
    // The model as it was when it was run, for its diagram and what its parts neglect.
    void load_model()
    {
        library_.emplace(Library::standard());
        page_.library = &*library_;
        const std::vector<ModelText>& texts = page_.runs[0].origin.texts;
        try {
            library_->load_recorded(texts);
            fs::path svg = folder_ / "diagram.svg";
            draw_diagram(*library_, {.name = page_.runs[0].system, .out = svg.string()});
            page_.diagram = drawn(svg);
        } catch (const std::exception& error) {
            page_.diagram.clear();
            page_.no_diagram = error.what();
        }
    }

    static std::string drawn(const fs::path& svg)
    {
        std::ifstream in(svg, std::ios::binary);
        std::string text{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
        return text.erase(0, text.find("<svg"));
    }

    void draw_analyses()
    {
        page_.advice = request_.advice;
        page_.modes = request_.modes;
        std::erase_if(page_.modes, [](const Modes& m) { return m.modes.empty(); });
        if (page_.modes.empty()) return;
        auto fastest = [](const Modes& m) { return std::abs(m.modes.front().root.value); };
        page_.shown = static_cast<std::size_t>(
            std::max_element(page_.modes.begin(), page_.modes.end(), [&](const Modes& a, const Modes& b) { return fastest(a) < fastest(b); }) -
            page_.modes.begin());
        fs::path svg = folder_ / "modes.svg";
        draw_modes(page_.modes, page_.shown, {.title = "", .out = svg.string(), .width = 1150, .height = 780});
        page_.modes_picture = drawn(svg);
    }

    ReportContent page_;
    const ReportRequest& request_;
    OwnFolder folder_;
    std::optional<Library> library_;
};

}  // namespace

std::string installed_script(const std::string& folder, const std::string& name, const std::string& package)
{
    fs::path path = fs::path(folder.empty() ? kScripts : folder) / name;
    std::ifstream in(path, std::ios::binary);
    std::string text{std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
    if (text.empty())
        throw RecordingError(fmt::format("'{}' is not there: a report takes it in; install the Debian package {}, or name the folder that has it: --scripts",
                                         path.string(), package));
    // the map of the minimised text would be looked for beside the page
    if (std::size_t at = text.rfind("//# sourceMappingURL"); at != std::string::npos) text.erase(at);
    for (std::size_t at = text.find("</script"); at != std::string::npos; at = text.find("</script", at + 3)) text.insert(at + 1, "\\");
    return text;
}

std::size_t write_report(std::vector<Recording> recordings, const std::vector<std::string>& names, const ReportRequest& request)
{
    if (request.out != "-" && fs::path(request.out).extension() != ".html")
        throw RecordingError(fmt::format("'{}': a report is written as .html", request.out));
    if (recordings.empty()) throw UsageError("a report needs at least one recording");
    OutputRules rules{.what = "a report", .replaces = is_report, .inputs = request.inputs};
    OutputFile file(request.out, rules);  // told before the work begins
    std::string page = Report(std::move(recordings), names, request).whole();
    file.write(page);
    file.publish();
    return page.size();
}

}  // namespace netloop

#include "show/report.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <optional>
#include <set>
#include <sstream>

#include "netloop/error.hpp"
#include "netloop/library.hpp"
#include "show/diagram.hpp"
#include "show/pictures.hpp"
#include "show/report_assets.hpp"
#include "show/report_numbers.hpp"

namespace netloop {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;

constexpr double kShares[] = {0, 1e-7, 1e-6, 1e-5, 3e-5, 1e-4, 3e-4, 1e-3, 3e-3};
constexpr const char* kScripts = "/usr/share/javascript";

std::string html(const std::string& text)
{
    std::string out;
    for (char c : text) switch (c) {
            case '&':
                out += "&amp;";
                break;
            case '<':
                out += "&lt;";
                break;
            case '>':
                out += "&gt;";
                break;
            case '"':
                out += "&quot;";
                break;
            default:
                out += c;
        }
    return out;
}

std::string in_unit(const std::string& unit)
{
    return unit.empty() || unit == "1" || unit == "bool" ? "" : " " + unit;
}

std::string number(double value)
{
    return std::isfinite(value) ? fmt::format("{:.6g}", value) : "-";
}

std::string read_script(const std::string& folder, const std::string& name, const std::string& package)
{
    fs::path path = fs::path(folder) / name;
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

// A folder of its own, removed at the end.
class Folder {
public:
    Folder()
    {
        std::string name = (fs::temp_directory_path() / "netloop_report_XXXXXX").string();
        if (mkdtemp(name.data()) == nullptr) throw RecordingError(fmt::format("no folder can be made in '{}'", fs::temp_directory_path().string()));
        path_ = name;
    }
    ~Folder()
    {
        std::error_code error;
        fs::remove_all(path_, error);
    }
    Folder(const Folder&) = delete;
    Folder& operator=(const Folder&) = delete;
    fs::path operator/(const std::string& name) const { return path_ / name; }

private:
    fs::path path_;
};

class Report {
public:
    Report(std::vector<Recording> recordings, const std::vector<std::string>& names, const ReportRequest& request)
        : runs_(std::move(recordings)), names_(names), request_(request)
    {
        for (Recording& r : runs_) {
            r.fetch({"*"});
            if (r.n_rows() == 0) throw RecordingError("a recording has no rows: there is nothing to report");
        }
        measures_ = measures_of(runs_);
    }

    std::string whole()
    {
        load_model();
        std::string scripts = request_.scripts.empty() ? kScripts : request_.scripts;
        std::string style = read_script(scripts, "dygraphs/dygraph.min.css", "libjs-dygraphs");
        std::string code = "<script>" + read_script(scripts, "dygraphs/dygraph.min.js", "libjs-dygraphs") + "</script>\n";
        code += "<script>" + read_script(scripts, "chart.js/chart.min.js", "libjs-chart.js") + "</script>\n";
        std::string head = fmt::format(
            "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
            "<title>{}</title>\n<link rel=\"icon\" href=\"data:,\">\n<style>{}\n{}</style>\n</head>\n<body>\n",
            html(title()), style, kReportStyle);
        std::string before = head + header() + summary() + figures() + picker() + motion() + variants() + events() + parameters() + assumptions() + model();
        std::string after = code + "<script>" + kReportScript + "</script>\n</body>\n</html>\n";
        auto room = request_.megabytes * 1e6 - static_cast<double>(before.size() + after.size());
        std::string data;
        double share = 0;
        for (double s : kShares) {
            data = report_numbers(runs_, names_, share = s);
            if (static_cast<double>(data.size()) < room) break;
        }
        for (std::size_t at = data.find("</"); at != std::string::npos; at = data.find("</", at + 2)) data.replace(at, 2, "<\\/");
        std::string exact = share == 0 ? "Curves hold every row that was recorded, to seven digits."
                                       : fmt::format(
                                             "Curves are thinned so that no row is missed by more than {:g} % of the curve's swing ({:g} % in the figures); "
                                             "the recordings hold every row.",
                                             100 * share, 10 * share);
        std::string foot = fmt::format("<section class=\"soft\"><p>{} Made by netloop {}.</p></section>\n", exact, html(runs_[0].origin.version));
        return before + foot + "<script type=\"application/json\" id=\"data\">" + data + "</script>\n" + after;
    }

private:
    bool several() const { return runs_.size() > 1; }
    std::string title() const
    {
        if (!request_.title.empty()) return request_.title;
        return runs_[0].system + (runs_[0].scenario.empty() || several() ? "" : ", " + runs_[0].scenario);
    }

    // The model as it was when it was run, for its diagram and what its parts neglect.
    void load_model()
    {
        library_.emplace(Library::standard());
        const auto& texts = runs_[0].origin.texts;
        try {
            for (const ModelText& t : texts) {
                fs::path path = folder_ / t.file;
                if (t.file.find("..") != std::string::npos || fs::path(t.file).is_absolute())
                    throw RecordingError("a text of the model lies outside its folder");
                fs::create_directories(path.parent_path());
                std::ofstream(path, std::ios::binary) << t.text;
            }
            if (!texts.empty()) library_->load_file((folder_ / texts[0].file).string());
            fs::path svg = folder_ / "diagram.svg";
            draw_diagram(*library_, {.name = runs_[0].system, .out = svg.string()});
            std::ifstream in(svg, std::ios::binary);
            diagram_.assign(std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>());
            diagram_.erase(0, diagram_.find("<svg"));
        } catch (const std::exception& error) {
            diagram_.clear();
            no_diagram_ = error.what();
        }
    }

    std::string header() const
    {
        const Recording& r = runs_[0];
        std::string doc = r.origin.doc.empty() ? "" : "<p>" + html(r.origin.doc) + "</p>\n",
                    out = fmt::format("<header>\n<h1>{}</h1>\n{}", html(title()), several() ? "" : doc);
        for (std::size_t k = 0; k < runs_.size(); ++k) {
            const Recording& run = runs_[k];
            out += fmt::format("<p class=\"soft\">{}{} s to {} s, {} rows, {} quantities, tolerance {:g}, model text {}</p>\n",
                               several() ? "<b>" + html(names_[k]) + "</b>: " + html(run.system + (run.scenario.empty() ? "" : " " + run.scenario)) + ", " : "",
                               number(run.time().first()), number(run.time().final()), run.n_rows(), run.columns.size() - 1, run.origin.tolerance,
                               html(run.origin.text_hash.empty() ? "unknown" : run.origin.text_hash));
            if (!run.complete) out += fmt::format("<p class=\"warning\">{} is incomplete: {}</p>\n", html(names_[k]), html(run.reason));
        }
        out += "</header>\n<nav>\n";
        for (auto [id, name] : {std::pair{"summary", "Measures"},
                                {"figures-at", "Figures"},
                                {"quantities", "Quantities"},
                                {"motion-at", "Moving picture"},
                                {"variants", "Variants"},
                                {"events", "Events"},
                                {"parameters", "Parameters"},
                                {"assumptions", "Assumptions"},
                                {"model", "Model"}}) {
            if (std::string(id) == "motion-at" && !any_shapes()) continue;
            if (std::string(id) == "variants" && !several()) continue;
            out += fmt::format("<a href=\"#{}\">{}</a>\n", id, name);
        }
        return out +
               "<span class=\"tools\"><span id=\"runs\"></span><span id=\"cursor\" class=\"soft\"></span><span id=\"frame\" class=\"soft\"></span>"
               "<button id=\"earlier\" title=\"earlier\">&larr;</button><button id=\"later\" title=\"later\">&rarr;</button><button id=\"closer\">zoom "
               "in</button>"
               "<button id=\"wider\">zoom out</button><button id=\"whole\">whole run</button></span>\n</nav>\n";
    }

    std::string measure_value(const Recording& r, const std::string& name) const
    {
        for (const MeasureResult& m : r.measures)
            if (m.name == name) return number(m.shown()) + in_unit(m.unit);
        return "";
    }

    std::string summary() const
    {
        std::string out = "<section id=\"summary\">\n<h2>Measures and demands</h2>\n";
        if (measures_.empty() && runs_[0].demands.empty()) out += "<p class=\"soft\">The scenario asks for none.</p>\n";
        if (!measures_.empty()) {
            out += "<table><tr><th>measure</th>";
            for (const std::string& n : names_) out += "<th class=\"number\">" + (several() ? html(n) : std::string("value")) + "</th>";
            out += "<th>what it is</th></tr>\n";
            for (const MeasureResult& m : measures_) {
                out += "<tr><td>" + html(m.name) + "</td>";
                for (const Recording& r : runs_) out += "<td class=\"number\">" + html(measure_value(r, m.name)) + "</td>";
                out += fmt::format("<td title=\"{}\">{}</td></tr>\n", html(m.text), html(m.doc.empty() ? m.text : m.doc));
            }
            out += "</table>\n";
        }
        for (std::size_t k = 0; k < runs_.size(); ++k) {
            if (runs_[k].demands.empty()) continue;
            out += several() ? "<h3>Demands on " + html(names_[k]) + "</h3>\n" : "<h3>Demands</h3>\n";
            out += "<table><tr><th></th><th>demand</th><th>found</th><th>why</th><th>where</th></tr>\n";
            for (const DemandResult& d : runs_[k].demands)
                out += fmt::format("<tr><td class=\"{}\">{}</td><td>{}</td><td>{}</td><td>{}</td><td class=\"soft\">{}</td></tr>\n",
                                   d.holds ? "holds" : "fails", d.holds ? "holds" : "does not hold", html(d.condition), html(d.found), html(d.text),
                                   html(fs::path(d.place).filename().string()));
            out += "</table>\n";
        }
        return out + "</section>\n";
    }

    std::string figures() const
    {
        return std::string(
                   "<section id=\"figures-at\">\n<h2>Figures</h2>\n<p class=\"soft\">Drag to zoom into a time, shift and drag to pan, double click for the "
                   "whole run; all "
                   "panels over time go along.</p>\n") +
               (runs_[0].figures.empty() ? "<p class=\"soft\">The scenario asks for no figure; choose quantities below.</p>\n" : "") +
               "<div id=\"figures\"></div>\n</section>\n";
    }
    std::string picker() const
    {
        return "<section id=\"quantities\">\n<h2>All recorded quantities</h2>\n<div class=\"picker\"><div>\n<p><input id=\"search\" type=\"search\" "
               "placeholder=\"words of a name, "
               "text or unit\" aria-label=\"search quantities\"> <span id=\"found\" class=\"soft\"></span> <button id=\"fresh\">new panel</button></p>\n<div "
               "id=\"list\" "
               "class=\"list\"></div>\n</div>\n<div id=\"own\"></div></div>\n</section>\n";
    }
    bool any_shapes() const
    {
        std::vector<std::string> none;
        return std::any_of(runs_.begin(), runs_.end(), [&](const Recording& r) { return !shapes_of(r, none).empty(); });
    }
    std::string motion() const
    {
        if (!any_shapes()) return "";
        std::string out =
            "<section id=\"motion-at\">\n<h2>Moving picture</h2>\n<div class=\"motion\"><canvas id=\"picture\"></canvas>\n<div class=\"bar\"><button "
            "id=\"play\">play</button>"
            "<select id=\"speed\" aria-label=\"speed\"><option value=\"0.1\">a tenth of real time</option><option value=\"1\">real time</option><option "
            "value=\"5\" "
            "selected>5 times</option><option value=\"20\">20 times</option></select><select id=\"which\" hidden aria-label=\"run\"></select><input "
            "id=\"moment\" type=\"range\" "
            "min=\"0\" max=\"1000\" step=\"0.5\" value=\"0\" aria-label=\"time\"><span id=\"clock\"></span></div></div>\n";
        std::vector<std::string> left_out;
        shapes_of(runs_[0], left_out);
        if (!left_out.empty()) {
            out += "<details><summary class=\"soft\">parts that could not be drawn</summary><ul>\n";
            for (const std::string& l : left_out) out += "<li>" + html(l) + "</li>\n";
            out += "</ul></details>\n";
        }
        return out + "</section>\n";
    }
    std::string variants() const
    {
        if (!several()) return "";
        if (measures_.empty()) return "<section id=\"variants\">\n<h2>Variants</h2>\n<p class=\"soft\">The scenarios measure nothing.</p>\n</section>\n";
        return "<section id=\"variants\">\n<h2>Variants</h2>\n<p><select id=\"measure\" aria-label=\"measure\"></select> <span class=\"soft\">On the right "
               "every measure as a share of "
               "the largest among the runs.</span></p>\n<div class=\"charts\"><div><canvas id=\"bars\"></canvas></div><div><canvas "
               "id=\"radar\"></canvas></div></div>\n</section>\n";
    }

    std::string events() const
    {
        std::string out = "<section id=\"events\">\n<h2>Events</h2>\n";
        for (std::size_t k = 0; k < runs_.size(); ++k) {
            const EventRecord& record = runs_[k].events;
            if (several()) out += "<h3>" + html(names_[k]) + "</h3>\n";
            if (record.kinds.empty()) {
                out += "<p class=\"soft\">None.</p>\n";
                continue;
            }
            out += "<table><tr><th>mark</th><th class=\"number\">times</th><th>first</th><th>last</th><th>event</th><th>part</th><th>where</th></tr>\n";
            for (std::size_t e = 0; e < record.kinds.size(); ++e) {
                const EventEntry& kind = record.kinds[e];
                std::string box = kind.times.size() <= kMostMarks
                                      ? fmt::format("<input type=\"checkbox\" data-event=\"{}:{}\" aria-label=\"mark in the figures\">", k, e)
                                      : "";
                out +=
                    fmt::format("<tr><td>{}</td><td class=\"number\">{}</td><td>{} s</td><td>{} s</td><td>{}</td><td>{}</td><td class=\"soft\">{}</td></tr>\n",
                                box, kind.times.size(), number(kind.times.front()), number(kind.times.back()), html(kind.text), html(kind.part),
                                html(fs::path(kind.place).filename().string()));
            }
            out += "</table>\n";
        }
        return out + "</section>\n";
    }

    std::string parameters() const
    {
        std::string out = "<section id=\"parameters\">\n<h2>Parameters</h2>\n", rows;
        std::size_t changed = 0;
        auto find = [](const Recording& r, const std::string& path) -> const ParameterValue* {
            for (const ParameterValue& p : r.origin.parameters)
                if (p.path == path) return &p;
            return nullptr;
        };
        std::set<std::string> seen;
        for (bool marked : {true, false})
            for (const Recording& of : runs_)
                for (const ParameterValue& p : of.origin.parameters) {
                    if (seen.contains(p.path)) continue;
                    bool differs = false;
                    std::string cells;
                    for (const Recording& r : runs_) {
                        const ParameterValue* v = find(r, p.path);
                        differs = differs || v == nullptr || v->value != p.value || v->changed;
                        std::string text = v == nullptr ? "" : v->unit == "bool" ? (v->value != 0 ? "true" : "false") : number(v->shown()) + in_unit(v->unit);
                        cells += "<td class=\"number\">" + html(text) + "</td>";
                    }
                    if (differs != marked) continue;
                    seen.insert(p.path);
                    changed += marked ? 1 : 0;
                    rows += fmt::format("<tr class=\"{}\"{}><td>{}</td>{}<td class=\"soft\">{}</td></tr>\n", marked ? "changed" : "kept",
                                        marked ? "" : " hidden", html(p.path), cells, html(p.doc));
                }
        out += fmt::format(
            "<p><label><input type=\"checkbox\" id=\"all-params\"> all {} parameters</label> <span class=\"soft\">{} changed by the scenario, the command line "
            "or between "
            "the runs, marked in front</span></p>\n<table><tr><th>parameter</th>",
            seen.size(), changed);
        for (const std::string& n : names_) out += "<th class=\"number\">" + (several() ? html(n) : std::string("value")) + "</th>";
        return out + "<th>what it is</th></tr>\n" + rows + "</table>\n</section>\n";
    }

    std::string assumptions() const
    {
        std::string out = "<section id=\"assumptions\">\n<h2>Assumptions</h2>\n";
        if (!runs_[0].assumed.empty()) {
            out += "<h3>At the start</h3>\n<ul>\n";
            for (const std::string& a : runs_[0].assumed) out += "<li>" + html(a) + "</li>\n";
            out += "</ul>\n";
        }
        std::string rows;
        std::set<std::string> kinds;
        for (const PartEntry& p : runs_[0].origin.parts) {
            if (!kinds.insert(p.kind).second) continue;
            try {
                json page = json::parse(library_->describe(p.kind, Library::Form::json));
                std::string left_out = page.value("simplified", "");
                if (!left_out.empty()) rows += fmt::format("<tr><td>{}</td><td>{}</td></tr>\n", html(p.kind), html(left_out));
            } catch (const std::exception&) {  // a kind that the texts do not hold any more has nothing to say
            }
        }
        if (rows.empty() && runs_[0].assumed.empty()) out += "<p class=\"soft\">None that the model tells of.</p>\n";
        if (!rows.empty()) out += "<h3>What the components leave out</h3>\n<table>\n" + rows + "</table>\n";
        return out + "</section>\n";
    }

    std::string model() const
    {
        std::string out = "<section id=\"model\">\n<h2>Model</h2>\n", others;
        for (std::size_t k = 1; k < runs_.size(); ++k)
            if (runs_[k].origin.text_hash != runs_[0].origin.text_hash) others += (others.empty() ? "" : ", ") + names_[k];
        if (!others.empty()) out += "<p class=\"warning\">This is the model of " + html(names_[0]) + "; " + html(others) + ": from another text.</p>\n";
        if (!diagram_.empty())
            out += "<div class=\"diagram\" id=\"diagram\">" + diagram_ + "</div>\n";
        else if (!runs_[0].origin.texts.empty())
            out += "<p class=\"soft\">No diagram: " + html(no_diagram_) + "</p>\n";
        for (const ModelText& t : runs_[0].origin.texts) {
            out += fmt::format("<details{}><summary>{}</summary>\n<pre>", &t == &runs_[0].origin.texts[0] ? " open" : "", html(t.file));
            std::istringstream in(t.text);
            int n = 0;
            for (std::string line; std::getline(in, line);) out += fmt::format("<span class=\"no\">{}</span>{}\n", ++n, html(line));
            out += "</pre>\n</details>\n";
        }
        return out + "</section>\n";
    }

    std::vector<Recording> runs_;
    std::vector<std::string> names_;
    std::vector<MeasureResult> measures_;
    const ReportRequest& request_;
    Folder folder_;
    std::optional<Library> library_;
    std::string diagram_, no_diagram_;
};

}  // namespace

void write_report(std::vector<Recording> recordings, const std::vector<std::string>& names, const ReportRequest& request)
{
    if (fs::path(request.out).extension() != ".html") throw RecordingError(fmt::format("'{}': a report is written as .html", request.out));
    if (recordings.empty()) throw UsageError("a report needs at least one recording");
    std::string text = Report(std::move(recordings), names, request).whole(), unfinished = request.out + ".unfinished";
    std::error_code error;
    {
        std::ofstream out(unfinished, std::ios::binary);
        if (!out) throw RecordingError(fmt::format("'{}' cannot be written: there is no such folder, or no permission", request.out));
        if (!(out << text) || !out.flush()) {
            fs::remove(unfinished, error);
            throw RecordingError(fmt::format("'{}' cannot be written: the disk is full or failed", request.out));
        }
    }
    fs::rename(unfinished, request.out, error);
    if (error) throw RecordingError(fmt::format("'{}' cannot be written: {}", request.out, error.message()));
}

}  // namespace netloop

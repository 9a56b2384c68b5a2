// SPDX-License-Identifier: Apache-2.0
#include "figures/study/study_page.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/markup.hpp"
#include "figures/palette.hpp"
#include "figures/report_assets.hpp"
#include "files/output_file.hpp"
#include "store/columns.hpp"

namespace netloop {
namespace {

constexpr std::size_t kMostRuns = 50'000, kMostRecorded = 8, kMostCurves = 40, kMostPoints = 500;

// Seven digits: more than any picture shows.
nlohmann::json number(double v)
{
    if (!std::isfinite(v)) return nullptr;
    return v == 0 || !std::isfinite(std::log10(std::abs(v))) ? 0 : std::stod(fmt::format("{:.7g}", v));
}

nlohmann::json columns_of(const StudyRecord& study, const std::vector<const StudyRow*>& rows)
{
    static constexpr const char* kRoles[] = {"varied", "uncertain", "measure", "demand"};
    nlohmann::json list = nlohmann::json::array();
    for (std::size_t c = 0; c < study.columns.size(); ++c) {
        const StudyColumn& column = study.columns[c];
        std::string unit = has_unit(column) ? column.unit : "";
        nlohmann::json j{{"name", column.name}, {"unit", unit}, {"role", kRoles[static_cast<std::size_t>(column.kind)]}};
        if (!column.levels.empty()) j["levels"] = column.levels;
        if (!column.titles.empty()) j["titles"] = column.titles;
        nlohmann::json values = nlohmann::json::array();
        for (const StudyRow* r : rows) values.push_back(number(in_unit(column, r->values[c])));
        j["values"] = std::move(values);
        list.push_back(std::move(j));
    }
    return list;
}

nlohmann::json numbers(const std::vector<double>& values, const StudyColumn& c, bool shift = true)
{
    nlohmann::json list = nlohmann::json::array();
    for (double v : values) list.push_back(number(shift ? in_unit(c, v) : v / c.scale));
    return list;
}

// By number of column: main effects of each result on what was varied.
nlohmann::json effects_of(const StudyRecord& study, const std::vector<StudyRow>& rows)
{
    nlohmann::json all = nlohmann::json::object();
    for (std::size_t c = 0; c < study.columns.size(); ++c) {
        const StudyColumn& result = study.columns[c];
        if (result.kind != StudyColumn::Kind::measure && result.kind != StudyColumn::Kind::demand) continue;
        nlohmann::json list = nlohmann::json::array();
        for (const MainEffect& e : main_effects(study, rows, c)) {
            auto of = std::find_if(study.columns.begin(), study.columns.end(), [&](const StudyColumn& x) { return x.name == e.name; });
            list.push_back({{"name", e.name},
                            {"at", numbers(e.at, *of)},
                            {"mean", numbers(e.mean, result)},
                            {"low", numbers(e.low, result)},
                            {"high", numbers(e.high, result)},
                            {"swing", number(e.swing)}});
        }
        all[std::to_string(c)] = std::move(list);
    }
    return all;
}

nlohmann::json indices_of(const StudyRecord& study, const std::vector<StudyRow>& rows)
{
    nlohmann::json all = nlohmann::json::object();
    for (std::size_t c = 0; c < study.columns.size(); ++c) {
        const StudyColumn& result = study.columns[c];
        if (result.kind != StudyColumn::Kind::measure) continue;
        nlohmann::json list = nlohmann::json::array();
        auto shares = variance_indices(study, rows, c);
        for (const VarianceIndex& v : shares)
            list.push_back({{"name", v.name},
                            {"first", number(v.first)},
                            {"first_low", number(v.first_low)},
                            {"first_high", number(v.first_high)},
                            {"total", number(v.total)},
                            {"total_low", number(v.total_low)},
                            {"total_high", number(v.total_high)}});
        if (!shares.empty()) all[std::to_string(c)] = {{"kind", "sobol"}, {"list", list}};
        auto elementary = elementary_effects(study, rows, c);
        for (const ElementaryEffect& e : elementary)
            list.push_back({{"name", e.name},
                            {"mean", number(e.mean / result.scale)},
                            {"size", number(e.size / result.scale)},
                            {"size_low", number(e.size_low / result.scale)},
                            {"size_high", number(e.size_high / result.scale)},
                            {"spread", number(e.spread / result.scale)}});
        if (!elementary.empty()) all[std::to_string(c)] = {{"kind", "morris"}, {"list", list}};
    }
    return all;
}

// Curves of runs whose recordings are there, thinned.
nlohmann::json curves_of(const std::vector<StudyRow>& rows)
{
    nlohmann::json list = nlohmann::json::array();
    for (const StudyRow& r : rows) {
        if (list.size() >= kMostRecorded) break;
        if (r.recording.empty() || !std::filesystem::is_regular_file(r.recording)) continue;
        try {
            Recording recording = Recording::load(r.recording);
            std::size_t n = recording.n_rows(), step = std::max<std::size_t>(1, (n + kMostPoints - 1) / kMostPoints);
            auto thinned = [&](const Column& c) {
                nlohmann::json v = nlohmann::json::array();
                for (std::size_t i = 0; i < n; i += step) v.push_back(number((c.values[i] - c.offset) / c.scale));
                return v;
            };
            // what its scenario draws comes first
            std::vector<std::string> wanted;
            for (const FigureRequest& f : recording.figures)
                for (const auto& p : f.panels)
                    for (const auto& c : p.curves) wanted.push_back(c.path);
            for (const Column& c : recording.columns) wanted.push_back(c.name);
            nlohmann::json columns = nlohmann::json::array();
            std::vector<std::string> taken{"time"};
            for (const std::string& name : wanted) {
                const Column* c = recording.find(name);
                if (c == nullptr || columns.size() >= kMostCurves || std::find(taken.begin(), taken.end(), name) != taken.end()) continue;
                taken.push_back(name);
                columns.push_back({{"name", name}, {"unit", c->unit == "1" ? "" : c->unit}, {"values", thinned(*c)}});
            }
            list.push_back({{"run", r.run}, {"time", thinned(recording.time())}, {"columns", columns}});
        } catch (const Error&) {
            // a recording that was damaged or moved is no reason to have no page
        }
    }
    return list;
}

std::string section(const char* id, const char* title, const char* text, const std::string& body)
{
    return fmt::format("<section id=\"{}-part\"><h2>{}</h2>\n<p class=\"soft\">{}</p>\n{}</section>\n", id, title, text, body);
}

}  // namespace

std::size_t write_study_page(const StudyRecord& study, const std::vector<StudyRow>& rows, const std::string& store, const std::string& out)
{
    if (out != "-" && std::filesystem::path(out).extension() != ".html") throw RecordingError(fmt::format("'{}': a report is written as .html", out));
    OutputFile file(out, {.what = "a report", .replaces = is_report});
    std::vector<const StudyRow*> taken;
    std::size_t step = (rows.size() + kMostRuns - 1) / kMostRuns;
    for (std::size_t i = 0; i < rows.size(); i += std::max<std::size_t>(1, step)) taken.push_back(&rows[i]);
    nlohmann::json runs = nlohmann::json::array();
    for (const StudyRow* r : taken) runs.push_back({{"run", r->run}, {"status", r->status}, {"reason", r->reason}});
    nlohmann::json data{{"colours", kColours},
                        {"study", study.name},
                        {"store", store},
                        {"columns", columns_of(study, taken)},
                        {"runs", runs},
                        {"effects", effects_of(study, rows)},
                        {"indices", indices_of(study, rows)},
                        {"curves", curves_of(rows)}};
    std::string numbers_text = data.dump(-1, ' ', false, nlohmann::json::error_handler_t::replace);
    for (std::size_t at = numbers_text.find('<'); at != std::string::npos; at = numbers_text.find('<', at + 1)) numbers_text.replace(at, 1, "\\u003c");
    std::string page = fmt::format(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
        "<title>{0}</title>\n<link rel=\"icon\" href=\"data:,\">\n<style>{1}{2}</style>\n</head>\n<body>\n<header><h1>{0} of {3}</h1>\n<p>{4}</p>\n"
        "<p class=\"soft\">{5}. {6} of {7} runs done{8}, by {9}, {10}{11}</p></header>\n"
        "<nav><a href=\"#axes-part\">All at once</a><a href=\"#cloud-part\">Two against each other</a><a href=\"#table-part\">Runs</a><a "
        "href=\"#chosen-part\">Chosen runs</a>"
        "<a href=\"#effects-part\">What moves a result</a><a href=\"#spread-part\">How it is spread</a><a href=\"#curves-part\">Curves</a>"
        "<span class=\"tools\"><span id=\"count\"></span><button id=\"clear\">all runs again</button></span></nav>\n",
        markup(study.name), kReportStyle, kStudyStyle, markup(study.system), markup(study.text), markup(study.plan), study.n_done, study.n_runs,
        study.n_failed > 0 ? fmt::format(", {} of them failed", study.n_failed) : "", markup(study.author), markup(study.created),
        step > 1 ? fmt::format(". The page holds every {}th run; the store has all", step) : "");
    page += section(
        "axes", "All at once",
        "An axis is a column, a line is a run. Pull along an axis to keep the runs that pass there, as many axes as you like; a click on it takes all again.",
        "<canvas class=\"axes\" id=\"axes\"></canvas>\n");
    page += section("cloud", "Two against each other", "Rings on the black line are runs that no other beats in both. A click on a point chooses its run.",
                    "<div class=\"row\" id=\"cloud-tools\"></div>\n<canvas class=\"cloud\" id=\"cloud\"></canvas>\n<div class=\"row\" "
                    "id=\"cloud-key\"></div>\n<p id=\"front\"></p>\n");
    page += section("table", "Runs", "A click on a heading sorts; the boxes choose runs to be held against each other.",
                    "<div class=\"row\"><input id=\"words\" placeholder=\"words: p90 storm failed\" aria-label=\"words\"><button "
                    "id=\"back\">earlier</button><span id=\"page\"></span><button id=\"on\">later</button>"
                    "<button id=\"none\">choose none</button></div>\n<div class=\"scroll\"><table><thead><tr id=\"head\"></tr></thead><tbody "
                    "id=\"body\"></tbody></table></div>\n");
    page += section("chosen", "Chosen runs", "Eight at most, each in its colour.",
                    "<p id=\"nothing\">No run is chosen: tick some in the table, or click on points.</p><div id=\"held\"><div class=\"row\" "
                    "id=\"bars-tools\"></div><div class=\"two\"><div class=\"chart\"><canvas id=\"bars\"></canvas></div>"
                    "<div class=\"chart\"><canvas id=\"radar\"></canvas></div></div><p class=\"soft\">In the radar each measure is a share of the greatest "
                    "among the chosen.</p><h3>Make them again</h3><div id=\"who\"></div></div>\n");
    page += section("effects", "What moves a result", "The mean over all runs at each value of what was varied, with its 95 % line; the greatest swing first.",
                    "<div class=\"row\" id=\"effects-tools\"></div><div class=\"small\" id=\"effects\"></div><div id=\"indices\"></div>\n");
    page +=
        section("spread", "How it is spread", "Of the runs that the axes keep.", "<div class=\"row\" id=\"spread-tools\"></div><div id=\"spread\"></div>\n");
    page += section("curves", "Curves", "Of runs that were recorded, over each other.",
                    "<div id=\"curves-box\"><div class=\"row\" id=\"curves-tools\"></div><div class=\"chart\"><canvas id=\"curves\"></canvas></div></div>\n");
    page += fmt::format("<section class=\"soft\"><p>Made by netloop from {}.</p></section>\n", markup(store));
    page += "<script type=\"application/json\" id=\"data\">" + numbers_text + "</script>\n<script>" +
            installed_script("", "chart.js/chart.min.js", "libjs-chart.js") + "</script>\n";
    page += std::string("<script>\"use strict\";\n(function () {\n") + kStudyScript + "})();</script>\n</body>\n</html>\n";
    file.write(page);
    file.publish();
    return page.size();
}

}  // namespace netloop

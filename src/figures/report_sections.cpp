// SPDX-License-Identifier: Apache-2.0
#include "figures/report_sections.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <set>
#include <sstream>

#include "base/markup.hpp"
#include "figures/pictures.hpp"
#include "figures/report_numbers.hpp"

namespace netloop {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;

std::string in_unit(const std::string& unit)
{
    return unit.empty() || unit == "1" || unit == "bool" ? "" : " " + unit;
}

std::string number(double value)
{
    return std::isfinite(value) ? fmt::format("{:.6g}", value) : "-";
}

bool any_shapes(const ReportContent& page)
{
    std::vector<std::string> none;
    return std::any_of(page.runs.begin(), page.runs.end(), [&](const Recording& r) { return !shapes_of(r, none).empty(); });
}

std::string measure_value(const Recording& r, const std::string& name)
{
    for (const MeasureResult& m : r.measures)
        if (m.name == name) return number(m.shown()) + in_unit(m.unit);
    return "";
}

}  // namespace

static bool any_costs(const ReportContent& page)
{
    return std::any_of(page.runs.begin(), page.runs.end(), [](const Recording& r) { return r.cost.steps > 0; });
}

std::string header_section(const ReportContent& page)
{
    const Recording& r = page.runs[0];
    std::string doc = r.origin.doc.empty() ? "" : "<p>" + markup(r.origin.doc) + "</p>\n",
                out = fmt::format("<header>\n<h1>{}</h1>\n{}", markup(page.title), page.several() ? "" : doc);
    for (std::size_t k = 0; k < page.runs.size(); ++k) {
        const Recording& run = page.runs[k];
        out += fmt::format(
            "<p class=\"soft\">{}{} s to {} s, {} rows, {} quantities, tolerance {:g}, model text {}</p>\n",
            page.several() ? "<b>" + markup(page.names[k]) + "</b>: " + markup(run.system + (run.scenario.empty() ? "" : " " + run.scenario)) + ", " : "",
            number(run.time().first()), number(run.time().final()), run.n_rows(), run.columns.size() - 1, run.origin.tolerance,
            markup(run.origin.text_hash.empty() ? "unknown" : run.origin.text_hash));
        std::string settings;
        for (const auto& [path, value] : run.origin.settings) settings += (settings.empty() ? "" : ", ") + markup(path + " = " + value);
        if (!settings.empty()) out += fmt::format("<p class=\"soft\">set for this run: {}</p>\n", settings);
        if (!run.complete) out += fmt::format("<p class=\"warning\">{} is incomplete: {}</p>\n", markup(page.names[k]), markup(run.reason));
    }
    out += "</header>\n<nav>\n";
    for (auto [id, name] : {std::pair{"summary", "Measures"},
                            {"figures-at", "Figures"},
                            {"quantities", "Quantities"},
                            {"motion-at", "Moving picture"},
                            {"variants", "Variants"},
                            {"events", "Events"},
                            {"cost", "Steps"},
                            {"modes", "Modes"},
                            {"advice", "Advice"},
                            {"parameters", "Parameters"},
                            {"assumptions", "Assumptions"},
                            {"model", "Model"}}) {
        if (std::string(id) == "motion-at" && !any_shapes(page)) continue;
        if (std::string(id) == "variants" && !page.several()) continue;
        if (std::string(id) == "cost" && !any_costs(page)) continue;
        if (std::string(id) == "modes" && page.modes.empty()) continue;
        if (std::string(id) == "advice" && page.advice.empty()) continue;
        out += fmt::format("<a href=\"#{}\">{}</a>\n", id, name);
    }
    return out +
           "<span class=\"tools\"><span id=\"runs\"></span><span id=\"cursor\" class=\"soft\"></span><span id=\"frame\" class=\"soft\"></span>"
           "<button id=\"earlier\" title=\"earlier\">&larr;</button><button id=\"later\" title=\"later\">&rarr;</button><button id=\"closer\">zoom "
           "in</button>"
           "<button id=\"wider\">zoom out</button><button id=\"whole\">whole run</button></span>\n</nav>\n";
}

std::string summary_section(const ReportContent& page)
{
    std::string out = "<section id=\"summary\">\n<h2>Measures and demands</h2>\n";
    if (page.measures.empty() && page.runs[0].demands.empty()) out += "<p class=\"soft\">The scenario asks for none.</p>\n";
    if (!page.measures.empty()) {
        out += "<table><tr><th>measure</th>";
        for (const std::string& n : page.names) out += "<th class=\"number\">" + (page.several() ? markup(n) : std::string("value")) + "</th>";
        out += "<th>what it is</th></tr>\n";
        for (const MeasureResult& m : page.measures) {
            out += "<tr><td>" + markup(m.name) + "</td>";
            for (const Recording& r : page.runs) out += "<td class=\"number\">" + markup(measure_value(r, m.name)) + "</td>";
            out += fmt::format("<td title=\"{}\">{}</td></tr>\n", markup(m.text), markup(m.doc.empty() ? m.text : m.doc));
        }
        out += "</table>\n";
    }
    for (std::size_t k = 0; k < page.runs.size(); ++k) {
        if (page.runs[k].demands.empty()) continue;
        out += page.several() ? "<h3>Demands on " + markup(page.names[k]) + "</h3>\n" : "<h3>Demands</h3>\n";
        out += "<table><tr><th></th><th>demand</th><th>found</th><th>why</th><th>where</th></tr>\n";
        for (const DemandResult& d : page.runs[k].demands)
            out += fmt::format("<tr><td class=\"{}\">{}</td><td>{}</td><td>{}</td><td>{}</td><td class=\"soft\">{}</td></tr>\n", d.holds ? "holds" : "fails",
                               d.holds ? "holds" : "does not hold", markup(d.condition), markup(d.found), markup(d.text),
                               markup(fs::path(d.place).filename().string()));
        out += "</table>\n";
    }
    return out + "</section>\n";
}

std::string figures_section(const ReportContent& page)
{
    return std::string(
               "<section id=\"figures-at\">\n<h2>Figures</h2>\n<p class=\"soft\">Drag to zoom into a time, shift and drag to pan, double click for the "
               "whole run; all "
               "panels over time go along, and those over another quantity show that time only.</p>\n") +
           (page.runs[0].figures.empty() ? "<p class=\"soft\">The scenario asks for no figure; choose quantities below.</p>\n" : "") +
           "<div id=\"figures\"></div>\n</section>\n";
}
std::string picker_section()
{
    return "<section id=\"quantities\">\n<h2>All recorded quantities</h2>\n<div class=\"picker\"><div>\n<p><input id=\"search\" type=\"search\" "
           "placeholder=\"words of a name, "
           "text or unit\" aria-label=\"search quantities\"> <span id=\"found\" class=\"soft\"></span> <button id=\"fresh\">new panel</button></p>\n<div "
           "id=\"list\" "
           "class=\"list\"></div>\n</div>\n<div id=\"own\"></div></div>\n</section>\n";
}
std::string motion_section(const ReportContent& page)
{
    if (!any_shapes(page)) return "";
    std::string out =
        "<section id=\"motion-at\">\n<h2>Moving picture</h2>\n<div class=\"motion\"><canvas id=\"picture\"></canvas>\n<div class=\"bar\"><button "
        "id=\"play\">play</button>"
        "<select id=\"speed\" aria-label=\"speed\"><option value=\"0.1\">a tenth of real time</option><option value=\"1\">real time</option><option "
        "value=\"5\" "
        "selected>5 times</option><option value=\"20\">20 times</option></select><select id=\"which\" hidden aria-label=\"run\"></select><input "
        "id=\"moment\" type=\"range\" "
        "min=\"0\" max=\"1000\" step=\"0.5\" value=\"0\" aria-label=\"time\"><span id=\"clock\"></span></div></div>\n";
    std::vector<std::string> left_out;
    shapes_of(page.runs[0], left_out);
    if (!left_out.empty()) {
        out += "<details><summary class=\"soft\">parts that could not be drawn</summary><ul>\n";
        for (const std::string& l : left_out) out += "<li>" + markup(l) + "</li>\n";
        out += "</ul></details>\n";
    }
    return out + "</section>\n";
}
std::string variants_section(const ReportContent& page)
{
    if (!page.several()) return "";
    if (page.measures.empty()) return "<section id=\"variants\">\n<h2>Variants</h2>\n<p class=\"soft\">The scenarios measure nothing.</p>\n</section>\n";
    return "<section id=\"variants\">\n<h2>Variants</h2>\n<p><select id=\"measure\" aria-label=\"measure\"></select> <span class=\"soft\">On the right "
           "every measure as a share of "
           "the largest among the runs.</span></p>\n<div class=\"charts\"><div><canvas id=\"bars\"></canvas></div><div><canvas "
           "id=\"radar\"></canvas></div></div>\n</section>\n";
}

std::string events_section(const ReportContent& page)
{
    std::string out = "<section id=\"events\">\n<h2>Events</h2>\n";
    for (std::size_t k = 0; k < page.runs.size(); ++k) {
        const EventRecord& record = page.runs[k].events;
        if (page.several()) out += "<h3>" + markup(page.names[k]) + "</h3>\n";
        if (record.kinds.empty()) {
            out += "<p class=\"soft\">None.</p>\n";
            continue;
        }
        out += "<table><tr><th>mark</th><th class=\"number\">times</th><th>first</th><th>last</th><th>event</th><th>part</th><th>where</th></tr>\n";
        for (std::size_t e = 0; e < record.kinds.size(); ++e) {
            const EventEntry& kind = record.kinds[e];
            std::string box =
                kind.times.size() <= kMostMarks ? fmt::format("<input type=\"checkbox\" data-event=\"{}:{}\" aria-label=\"mark in the figures\">", k, e) : "";
            out += fmt::format("<tr><td>{}</td><td class=\"number\">{}</td><td>{} s</td><td>{} s</td><td>{}</td><td>{}</td><td class=\"soft\">{}</td></tr>\n",
                               box, kind.times.size(), number(kind.times.front()), number(kind.times.back()), markup(kind.text), markup(kind.part),
                               markup(fs::path(kind.place).filename().string()));
        }
        out += "</table>\n";
    }
    return out + "</section>\n";
}

std::string cost_section(const ReportContent& page)
{
    constexpr std::size_t kMostShown = 12;
    if (!any_costs(page)) return {};
    std::string out = "<section id=\"cost\">\n<h2>What limited the steps</h2>\n";
    for (std::size_t k = 0; k < page.runs.size(); ++k) {
        const Cost& cost = page.runs[k].cost;
        if (cost.steps == 0) continue;
        if (page.several()) out += "<h3>" + markup(page.names[k]) + "</h3>\n";
        double all = 0;
        for (const Cost::Limit& l : cost.limits) all += l.steps;
        out += fmt::format(
            "<p class=\"soft\">{:.0f} steps.</p>\n<table><tr><th class=\"number\">share</th><th>why</th><th>what</th><th>part</th><th>where</th></tr>\n",
            cost.steps);
        for (std::size_t i = 0; i < cost.limits.size() && i < kMostShown; ++i) {
            const Cost::Limit& l = cost.limits[i];
            out += fmt::format("<tr><td class=\"number\">{:.1f} %</td><td>{}</td><td>{}</td><td>{}</td><td class=\"soft\">{}</td></tr>\n", 100 * l.steps / all,
                               markup(l.why), markup(l.what), markup(l.part), markup(fs::path(l.place).filename().string()));
        }
        out += "</table>\n";
        if (cost.limits.size() > kMostShown) out += fmt::format("<p class=\"soft\">And {} more: netloop cost.</p>\n", cost.limits.size() - kMostShown);
    }
    return out + "</section>\n";
}

std::string parameters_section(const ReportContent& page)
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
        for (const Recording& of : page.runs)
            for (const ParameterValue& p : of.origin.parameters) {
                if (seen.contains(p.path)) continue;
                bool differs = false;
                std::string cells;
                for (const Recording& r : page.runs) {
                    const ParameterValue* v = find(r, p.path);
                    differs = differs || v == nullptr || v->value != p.value || v->changed;
                    std::string text = v == nullptr ? "" : v->unit == "bool" ? (v->value != 0 ? "true" : "false") : number(v->shown()) + in_unit(v->unit);
                    cells += "<td class=\"number\">" + markup(text) + "</td>";
                }
                if (differs != marked) continue;
                seen.insert(p.path);
                changed += marked ? 1 : 0;
                rows += fmt::format("<tr class=\"{}\"{}><td>{}</td>{}<td class=\"soft\">{}</td></tr>\n", marked ? "changed" : "kept", marked ? "" : " hidden",
                                    markup(p.path), cells, markup(p.doc));
            }
    out += fmt::format(
        "<p><label><input type=\"checkbox\" id=\"all-params\"> all {} parameters</label> <span class=\"soft\">{} changed by the scenario, the command line "
        "or between "
        "the runs, marked in front</span></p>\n<table><tr><th>parameter</th>",
        seen.size(), changed);
    for (const std::string& n : page.names) out += "<th class=\"number\">" + (page.several() ? markup(n) : std::string("value")) + "</th>";
    return out + "<th>what it is</th></tr>\n" + rows + "</table>\n</section>\n";
}

std::string assumptions_section(const ReportContent& page)
{
    std::string out = "<section id=\"assumptions\">\n<h2>Assumptions</h2>\n";
    if (!page.runs[0].assumed.empty()) {
        out += "<h3>At the start</h3>\n<ul>\n";
        for (const std::string& a : page.runs[0].assumed) out += "<li>" + markup(a) + "</li>\n";
        out += "</ul>\n";
    }
    std::string rows;
    std::set<std::string> kinds;
    for (const PartEntry& p : page.runs[0].origin.parts) {
        if (!kinds.insert(p.kind).second) continue;
        try {
            json about = json::parse(page.library->describe(p.kind, Library::Form::json));
            std::string left_out = about.value("neglected", "");
            if (!left_out.empty()) rows += fmt::format("<tr><td>{}</td><td>{}</td></tr>\n", markup(p.kind), markup(left_out));
        } catch (const std::exception&) {  // a kind that the texts do not hold any more has nothing to say
        }
    }
    if (rows.empty() && page.runs[0].assumed.empty()) out += "<p class=\"soft\">None that the model tells of.</p>\n";
    if (!rows.empty()) out += "<h3>What the components leave out</h3>\n<table>\n" + rows + "</table>\n";
    return out + "</section>\n";
}

std::string model_section(const ReportContent& page)
{
    std::string out = "<section id=\"model\">\n<h2>Model</h2>\n", others;
    for (std::size_t k = 1; k < page.runs.size(); ++k)
        if (page.runs[k].origin.text_hash != page.runs[0].origin.text_hash) others += (others.empty() ? "" : ", ") + page.names[k];
    if (!others.empty())
        out += "<p class=\"warning\">The model shown belongs to " + markup(page.names[0]) + "; " + markup(others) +
               " was run from a different text (not shown).</p>\n";
    if (!page.diagram.empty())
        out += "<div class=\"diagram\" id=\"diagram\">" + page.diagram + "</div>\n";
    else if (!page.runs[0].origin.texts.empty())
        out += "<p class=\"soft\">No diagram: " + markup(page.no_diagram) + "</p>\n";
    for (const ModelText& t : page.runs[0].origin.texts) {
        out += fmt::format("<details{}><summary>{}</summary>\n<pre>", &t == &page.runs[0].origin.texts.front() ? " open" : "", markup(t.file));
        std::istringstream in(t.text);
        int n = 0;
        for (std::string line; std::getline(in, line);) out += fmt::format("<span class=\"no\">{}</span>{}\n", ++n, markup(line));
        out += "</pre>\n</details>\n";
    }
    return out + "</section>\n";
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The sections of a report that tell of analyses: modes over the run, and advice.
#include <fmt/format.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "base/markup.hpp"
#include "figures/report_sections.hpp"
#include "netloop/error.hpp"
#include "runs/step_text.hpp"

namespace netloop {
namespace {

using nlohmann::json;

std::string time_text(double seconds)
{
    return seconds < 1 ? step_text(seconds) : fmt::format("{:.4g} s", seconds);
}

// What the advice says of each of a list, from the `from`-th on, so many at most.
std::string texts(const json& list, std::size_t from, std::size_t most)
{
    std::string out;
    for (std::size_t k = from; k < list.size() && k < from + most; ++k) out += (out.empty() ? "" : "; ") + list[k].at("text").get<std::string>();
    return out;
}

std::string changes(const json& trial, std::size_t from)
{
    return texts(trial.at("changes"), from, trial.at("changes").size());
}

std::string prices(const json& trial)
{
    constexpr std::size_t kMost = 4;  // they come by their size
    json told = json::array();
    for (const json& p : trial.at("prices"))
        if (p.at("difference").is_number()) told.push_back(p);  // what has no value in one of the runs has no difference
    return texts(told, 0, kMost);
}

std::string gain(const json& trial)
{
    return trial.at("speed_up").is_number() ? fmt::format("{:.2f}", trial.at("speed_up").get<double>()) : "";
}

std::string advice_rows(const json& advice)
{
    std::string out;
    for (const json& t : advice.at("trials")) {
        const std::size_t n = t.at("changes").size(), tried = std::min<std::size_t>(t.value("tried", std::size_t{1}), n);
        const std::string refused = t.at("refused");
        out += fmt::format("<tr><td class=\"number\">{}</td><td class=\"number\">{}</td><td>{}</td><td>{}</td><td>{}</td></tr>\n", t.value("round", 1), gain(t),
                           markup(changes(t, n - tried)), n == 0 ? "" : markup(t.at("changes").back().at("reason").get<std::string>()),
                           refused.empty() ? markup(prices(t)) : "<span class=\"fails\">refused</span> " + markup(refused));
    }
    return out;
}

}  // namespace

std::string modes_section(const ReportContent& page)
{
    if (page.modes.empty()) return {};
    constexpr std::size_t kMostShown = 20;
    const Modes& here = page.modes[page.shown];
    std::string out =
        fmt::format("<section id=\"modes\">\n<h2>Modes</h2>\n<p class=\"soft\">{}How it swings and settles by itself, at {} {}{}.</p>\n",
                    page.several() ? "Of " + markup(page.names[0]) + ". " : "", page.modes.size(), page.modes.size() == 1 ? "point" : "points along the run",
                    page.modes.size() == 1 ? "" : fmt::format("; in detail at {:.6g} s, where the fastest is fastest", here.time));
    if (!page.modes_picture.empty()) out += "<div class=\"analysis\">" + page.modes_picture + "</div>\n";
    out += fmt::format(
        "<h3>At {:.6g} s</h3>\n<table><tr><th class=\"number\">frequency</th><th class=\"number\">damping</th><th class=\"number\">time "
        "constant</th><th>parts that take part</th></tr>\n",
        here.time);
    for (std::size_t k = 0; k < here.modes.size() && k < kMostShown; ++k) {
        const Mode& m = here.modes[k];
        const double rate = -m.root.value.real();
        out += fmt::format("<tr><td class=\"number\">{}</td><td class=\"number\">{}</td><td class=\"number\">{}</td><td>{}</td></tr>\n",
                           m.swings() ? fmt::format("{:.4g} Hz", m.root.frequency()) : "", m.swings() ? fmt::format("{:.3g}", m.root.damping()) : "",
                           rate != 0 ? time_text(std::abs(1 / rate)) + (rate < 0 ? ", growing" : "") : "none", markup(m.parts_text()));
    }
    out += "</table>\n";
    if (here.modes.size() > kMostShown) out += fmt::format("<p class=\"soft\">And {} slower ones: netloop modes.</p>\n", here.modes.size() - kMostShown);
    return out + "</section>\n";
}

std::string advice_section(const ReportContent& page)
{
    if (page.advice.empty()) return {};
    try {
        const json advice = json::parse(page.advice);
        const bool longer = advice.contains("method");
        const std::string what = longer ? "longer fixed steps with " + markup(advice.at("method").get<std::string>()) : "a faster run";
        const json& as_it_is = advice.at("as_it_is");
        std::string out = fmt::format("<section id=\"advice\">\n<h2>Advice</h2>\n<p class=\"soft\">For {}. {} runs were made; as it is {}.</p>\n", what,
                                      advice.at("runs").get<std::size_t>(),
                                      longer ? "it bears steps of " + step_text(as_it_is.at("largest_step").get<double>())
                                             : fmt::format("it takes {:.0f} steps", as_it_is.at("steps").get<double>()));
        std::string rows = advice_rows(advice);
        if (!rows.empty())
            out += fmt::format(
                "<table><tr><th class=\"number\">round</th><th class=\"number\">{}</th><th>change</th><th>why</th><th>price</th></tr>\n{}</table>\n",
                longer ? "steps, times as long" : "times as fast", rows);
        const json& combined = advice.at("combined");
        if (combined.is_null()) {
            out += "<p>Nothing that was tried helps and may be taken.</p>\n";
        } else {
            out += fmt::format("<h3>Together, {} times</h3>\n<p>{}</p>\n<p class=\"soft\">{}</p>\n", gain(combined), markup(changes(combined, 0)),
                               markup(prices(combined)));
        }
        if (advice.contains("confirmed")) out += "<p>Steps of " + markup(advice.at("confirmed").get<std::string>()) + ".</p>\n";
        if (const std::string scenario = advice.at("scenario"); !scenario.empty()) out += "<h3>To take it over</h3>\n<pre>" + markup(scenario) + "</pre>\n";
        return out + "</section>\n";
    } catch (const json::exception& error) {
        throw UsageError(fmt::format("this is no advice as `netloop advise --json` gives it: {}", error.what()));
    }
}

}  // namespace netloop

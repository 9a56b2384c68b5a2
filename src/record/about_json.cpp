// SPDX-License-Identifier: Apache-2.0
#include "record/about_json.hpp"

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>

#include "record/json_number.hpp"

namespace netloop {
namespace {

using nlohmann::json;

double number(const json& value)
{
    return value.is_number() ? value.get<double>() : std::nan("");
}

json curve(const FigureRequest::Curve& c)
{
    return {{"path", c.path}, {"unit", c.unit}};
}
FigureRequest::Curve curve(const json& c)
{
    return {c.value("path", ""), c.value("unit", "")};
}

constexpr std::size_t kDeepest = 32;  // levels: ours has six

// How deep brackets and braces stand in each other, texts left out. What is made of JSON is taken apart by recursion, so its depth is looked at first.
std::size_t deepest(const std::string& text)
{
    std::size_t depth = 0, most = 0;
    bool inside = false;
    for (std::size_t i = 0; i < text.size(); ++i) {
        char c = text[i];
        if (inside) {
            if (c == '\\') ++i;
            if (c == '"') inside = false;
        } else if (c == '"') {
            inside = true;
        } else if (c == '[' || c == '{') {
            most = std::max(most, ++depth);
        } else if ((c == ']' || c == '}') && depth > 0) {
            --depth;
        }
    }
    return most;
}

// An own text that is damaged or of another program says nothing rather than failing the whole recording.
template <typename Take>
void parsed(const std::string& text, Take take)
{
    if (deepest(text) > kDeepest) return;
    json all = json::parse(text, nullptr, false);
    if (!all.is_object()) return;
    try {
        take(all);
    } catch (const json::exception&) {
    }
}

}  // namespace

std::string about_text(const RunOrigin& origin, const std::vector<FigureRequest>& figures)
{
    json all{{"program", "netloop " + origin.version},
             {"version", origin.version},
             {"text_hash", origin.text_hash},
             {"doc", origin.doc},
             {"tolerance", origin.tolerance}};
    all["params"] = json::array();
    for (const ParameterValue& p : origin.parameters)
        all["params"].push_back({{"path", p.path},
                                 {"value", json_number(p.value)},
                                 {"unit", p.unit},
                                 {"scale", p.scale},
                                 {"offset", p.offset},
                                 {"changed", p.changed},
                                 {"doc", p.doc}});
    all["parts"] = json::array();
    for (const PartEntry& p : origin.parts) all["parts"].push_back({{"path", p.path}, {"kind", p.kind}, {"pictures", p.pictures}});
    all["sequences"] = json::array();
    for (const SequenceEntry& s : origin.sequences) all["sequences"].push_back({{"path", s.path}, {"stages", s.stages}});
    all["texts"] = json::array();
    for (const ModelText& t : origin.texts) all["texts"].push_back({{"file", t.file}, {"text", t.text}});
    all["settings"] = json::array();
    for (const auto& [path, value] : origin.settings) all["settings"].push_back({{"path", path}, {"value", value}});
    all["figures"] = json::array();
    for (const FigureRequest& f : figures) {
        json panels = json::array();
        for (const auto& p : f.panels) {
            json curves = json::array();
            for (const auto& c : p.curves) curves.push_back(curve(c));
            panels.push_back({{"curves", curves}, {"against", curve(p.against)}});
        }
        all["figures"].push_back({{"title", f.title}, {"panels", panels}});
    }
    return all.dump(-1, ' ', false, json::error_handler_t::replace);
}

std::string results_text(const RunResults& results)
{
    json all{{"measures", json::array()}, {"demands", json::array()}, {"assumed", results.assumed}};
    for (const MeasureResult& m : results.measures)
        all["measures"].push_back(
            {{"name", m.name}, {"value", json_number(m.value)}, {"unit", m.unit}, {"scale", m.scale}, {"offset", m.offset}, {"text", m.text}, {"doc", m.doc}});
    for (const DemandResult& d : results.demands)
        all["demands"].push_back({{"condition", d.condition}, {"text", d.text}, {"place", d.place}, {"holds", d.holds}, {"found", d.found}});
    json limits = json::array(), stretches = json::array();
    for (const Cost::Limit& l : results.cost.limits)
        limits.push_back({{"what", l.what}, {"part", l.part}, {"place", l.place}, {"why", l.why}, {"steps", l.steps}});
    for (const Cost::Stretch& s : results.cost.stretches) stretches.push_back({s.from, s.to, s.steps, s.shortest, s.longest, s.limit});
    json equations = json::array();
    for (const Cost::Equation& e : results.cost.equations)
        equations.push_back({{"text", e.text}, {"part", e.part}, {"place", e.place}, {"steps", e.steps}, {"corrections", e.corrections}});
    all["cost"] = {{"steps", results.cost.steps}, {"limits", limits}, {"stretches", stretches}, {"equations", equations}};
    return all.dump(-1, ' ', false, json::error_handler_t::replace);
}

void read_about(const std::string& text, Recording& recording)
{
    parsed(text, [&](const json& all) {
        RunOrigin& o = recording.origin;
        o.version = all.value("version", "");
        o.text_hash = all.value("text_hash", "");
        o.doc = all.value("doc", "");
        o.tolerance = all.value("tolerance", 0.0);
        for (const json& p : all.value("params", json::array()))
            o.parameters.push_back({p.value("path", ""), number(p.at("value")), p.value("unit", ""), p.value("scale", 1.0), p.value("offset", 0.0),
                                    p.value("changed", false), p.value("doc", "")});
        for (const json& p : all.value("parts", json::array()))
            o.parts.push_back({p.value("path", ""), p.value("kind", ""), p.value("pictures", std::vector<std::string>{})});
        for (const json& s : all.value("sequences", json::array())) o.sequences.push_back({s.value("path", ""), s.value("stages", std::vector<std::string>{})});
        for (const json& t : all.value("texts", json::array())) o.texts.push_back({t.value("file", ""), t.value("text", "")});
        for (const json& s : all.value("settings", json::array())) o.settings.emplace_back(s.value("path", ""), s.value("value", ""));
        for (const json& f : all.value("figures", json::array())) {
            FigureRequest figure;
            figure.title = f.value("title", "");
            for (const json& p : f.value("panels", json::array())) {
                FigureRequest::Panel panel;
                for (const json& c : p.value("curves", json::array())) panel.curves.push_back(curve(c));
                panel.against = curve(p.value("against", json::object()));
                figure.panels.push_back(std::move(panel));
            }
            recording.figures.push_back(std::move(figure));
        }
    });
}

void read_results(const std::string& text, Recording& recording)
{
    parsed(text, [&](const json& all) {
        for (const json& m : all.value("measures", json::array()))
            recording.measures.push_back({m.value("name", ""), m.value("text", ""), m.value("doc", ""), number(m.at("value")), m.value("unit", ""),
                                          m.value("scale", 1.0), m.value("offset", 0.0)});
        recording.assumed = all.value("assumed", std::vector<std::string>{});
        const json cost = all.value("cost", json::object());
        recording.cost.steps = cost.value("steps", 0.0);
        for (const json& l : cost.value("limits", json::array()))
            recording.cost.limits.push_back({l.value("what", ""), l.value("part", ""), l.value("place", ""), l.value("why", ""), l.value("steps", 0.0)});
        for (const json& e : cost.value("equations", json::array()))
            recording.cost.equations.push_back(
                {e.value("text", ""), e.value("part", ""), e.value("place", ""), e.value("steps", 0.0), e.value("corrections", 0.0)});
        for (const json& s : cost.value("stretches", json::array())) {
            Cost::Stretch stretch{number(s.at(0)), number(s.at(1)), number(s.at(2)), number(s.at(3)), number(s.at(4)), s.at(5).get<std::uint32_t>()};
            if (stretch.limit < std::max<std::size_t>(recording.cost.limits.size(), 1)) recording.cost.stretches.push_back(stretch);
        }
        for (const json& d : all.value("demands", json::array()))
            recording.demands.push_back({d.value("condition", ""), d.value("text", ""), d.value("place", ""), d.value("holds", false), d.value("found", "")});
    });
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "figures/report_numbers.hpp"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "figures/curves.hpp"
#include "figures/palette.hpp"
#include "figures/pictures.hpp"
#include "figures/report_data.hpp"
#include "units/unit.hpp"

namespace netloop {
namespace {

namespace fs = std::filesystem;
using nlohmann::json;

// What a reader may want to see a quantity in instead.
const std::vector<std::vector<std::string>> kUnits{{"bar", "Pa", "kPa", "MPa", "psi"},
                                                   {"degC", "K"},
                                                   {"deg", "rad", "rev"},
                                                   {"deg/s", "rad/s", "rpm"},
                                                   {"m", "mm", "cm", "km"},
                                                   {"m/s", "mm/s", "km/h"},
                                                   {"L/min", "m^3/s", "L/s", "m^3/h"},
                                                   {"L", "m^3", "cm^3"},
                                                   {"kg/s", "kg/h", "g/s"},
                                                   {"N", "kN", "MN"},
                                                   {"N*m", "kN*m"},
                                                   {"W", "kW", "MW"},
                                                   {"J", "kJ", "MJ", "kWh"},
                                                   {"A", "mA", "kA"},
                                                   {"V", "mV", "kV"},
                                                   {"s", "ms", "min", "h"},
                                                   {"1", "%"},
                                                   {"kg", "g", "t"}};

Dimension si(const std::string& unit)
{
    Unit made;
    UnitProblem problem;
    parse_unit(unit, made, problem);
    return made.dimension;
}

void add_units(const std::string& text, json& units)
{
    if (text.empty() || units.contains(text)) return;
    Unit own, other;
    UnitProblem problem;
    json list = json::array();
    if (parse_unit(text, own, problem)) {
        list.push_back({text, own.scale, own.offset});
        auto group = std::find_if(kUnits.begin(), kUnits.end(), [&](const auto& g) { return std::find(g.begin(), g.end(), text) != g.end(); });
        // units of one dimension may mean different things (J and N*m, Hz and rpm): those go together only by name
        bool ambiguous = own.dimension.dimensionless() || own.dimension == si("s^-1") || own.dimension == si("J");
        if (group == kUnits.end() && !ambiguous) group = std::find_if(kUnits.begin(), kUnits.end(), [&](const auto& g) { return si(g[0]) == own.dimension; });
        if (group != kUnits.end())
            for (const std::string& u : *group)
                if (u != text && parse_unit(u, other, problem)) list.push_back({u, other.scale, other.offset});
    }
    units[text] = list;
}

json numbers(const std::vector<Recording>& runs, const std::vector<std::string>& names, double share)
{
    json all{{"mark", "#a33b20"}, {"runs", json::array()}, {"figures", json::array()}, {"measures", json::array()}, {"units", json::object()}};
    for (const char* c : kColours) all["colours"].push_back(c);
    for (std::size_t k = 0; k < runs.size(); ++k) {
        const Recording& r = runs[k];
        PackedRecording packed = pack(r, share);
        json columns = json::array(), stores = json::array(), shapes = json::array(), times = json::array();
        for (std::size_t c = 0; c < r.columns.size(); ++c) {
            const Column& column = r.columns[c];
            std::vector<std::string> stages = r.origin.stages_of(column.name);
            std::string unit = stages.empty() ? column.unit : kStageUnit + column.name;
            columns.push_back({{"name", column.name},
                               {"unit", unit},
                               {"scale", column.scale},
                               {"offset", column.offset},
                               {"doc", column.description},
                               {"origin", fs::path(column.origin).filename().string()},
                               {"store", packed.store_of[c]}});
            if (!stages.empty()) columns.back()["stages"] = stages;
            add_units(unit, all["units"]);
        }
        for (const auto& s : packed.stores) stores.push_back({{"n", s.points}, {"rows", s.rows}, {"values", s.values}});
        std::vector<std::string> left_out;
        for (const Shape& s : shapes_of(r, left_out)) {
            json points = json::array();
            for (const auto& p : s.points) {
                json point = json::array();
                for (const auto& c : p) std::visit([&](const auto& v) { point.push_back(v); }, c);
                points.push_back(point);
            }
            shapes.push_back({{"part", s.part}, {"shape", s.shape}, {"points", points}, {"shortest", s.shortest}});
        }
        for (const EventEntry& e : r.events.kinds) times.push_back(e.times.size() <= kMostMarks ? json(e.times) : json::array());
        all["runs"].push_back({{"name", names[k]},
                               {"rows", r.n_rows()},
                               {"packed", packed.packed},
                               {"columns", columns},
                               {"stores", stores},
                               {"shapes", shapes},
                               {"events", times}});
    }
    for (const FigureRequest& f : runs[0].figures) {
        json panels = json::array();
        for (const auto& p : f.panels) {
            json curves = json::array();
            for (const auto& c : p.curves) curves.push_back({{"path", c.path}, {"unit", c.unit}});
            panels.push_back({{"curves", curves}, {"against", {{"path", p.against.path}, {"unit", p.against.unit}}}});
        }
        all["figures"].push_back({{"title", f.title}, {"panels", panels}});
    }
    for (const MeasureResult& m : measures_of(runs)) {
        json values = json::array();
        for (const Recording& r : runs) {
            json value = nullptr;
            for (const MeasureResult& v : r.measures)
                if (v.name == m.name && std::isfinite(v.shown())) value = v.shown();
            values.push_back(value);
        }
        all["measures"].push_back({{"name", m.name}, {"unit", m.unit}, {"values", values}});
    }
    return all;
}

}  // namespace

std::vector<MeasureResult> measures_of(const std::vector<Recording>& runs)
{
    std::vector<MeasureResult> list;
    for (const Recording& r : runs)
        for (const MeasureResult& m : r.measures)
            if (std::none_of(list.begin(), list.end(), [&](const MeasureResult& l) { return l.name == m.name; })) list.push_back(m);
    return list;
}

std::string report_numbers(const std::vector<Recording>& runs, const std::vector<std::string>& names, double share)
{
    return numbers(runs, names, share).dump(-1, ' ', false, json::error_handler_t::replace);
}

}  // namespace netloop

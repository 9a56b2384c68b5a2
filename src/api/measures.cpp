// SPDX-License-Identifier: Apache-2.0
// Results of a scenario's measures and demands, in the user's units.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "api/internal.hpp"
#include "solve/explain.hpp"

namespace netloop {
namespace {

std::string shown(double si, const Unit& unit)
{
    if (!std::isfinite(si)) return "no value";
    return fmt::format("{:.6g}{}{}", unit.from_si(si), unit.text == "1" ? "" : " ", unit.text == "1" ? "" : unit.text);
}

}  // namespace

std::string MeasureResult::line() const
{
    if (!std::isfinite(value)) return fmt::format("{} has no value: what it waits for did not happen", name);
    if (unit == "bool") return fmt::format("{} = {}", name, value != 0 ? "true" : "false");
    return fmt::format("{} = {:.6g}{}{}", name, shown(), unit == "1" ? "" : " ", unit == "1" ? "" : unit);
}

std::string DemandResult::line() const
{
    return fmt::format("{}{}{}  {}", condition, found.empty() ? "" : ": " + found, text.empty() ? "" : " (" + text + ")", place);
}

bool RunSummary::demands_hold() const
{
    return std::all_of(demands.begin(), demands.end(), [](const DemandResult& d) { return d.holds; });
}

void take_measures(Evaluation& e, const SourceSet& sources, RunSummary& summary)
{
    const FlatEvents& events = e.model().form.events;
    const EventPrograms& programs = e.model().events;
    summary.measures.clear();
    summary.demands.clear();
    if (events.measures.empty() && events.demands.empty()) return;
    e.work_out(programs.measured);
    for (std::size_t i = 0; i < events.measures.size(); ++i) {
        const FlatMeasure& m = events.measures[i];
        MeasureResult r{m.name, m.text, m.doc, e.value_at(programs.measures[i]), m.boolean ? "bool" : m.unit.text, m.unit.scale, m.unit.offset};
        summary.measures.push_back(std::move(r));
    }
    for (std::size_t i = 0; i < events.demands.size(); ++i) {
        const FlatDemand& d = events.demands[i];
        DemandResult r;
        r.condition = d.source;
        r.text = d.text;
        r.place = place_text(sources, d.origin.span);
        r.holds = e.value_at(programs.demands[i].condition) != 0;
        if (d.left != kNoNode) {
            double left = e.value_at(programs.demands[i].left), right = e.value_at(programs.demands[i].right);
            r.found = shown(left, d.unit) + " against " + shown(right, d.unit);
            // a comparison with what has no value demands something that did not happen
            if (!std::isfinite(left) || !std::isfinite(right)) r.holds = false;
        }
        summary.demands.push_back(std::move(r));
    }
}

}  // namespace netloop

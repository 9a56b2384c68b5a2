// SPDX-License-Identifier: Apache-2.0
// What a run says of itself, as text.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "netloop/run.hpp"

namespace netloop {
namespace {

constexpr std::size_t kFewAssumed = 3;  ///< of the guesses that completed the start, in a summary

}  // namespace

std::string RunSummary::one_line() const
{
    double simulated = stop - start;
    return fmt::format("{}: {:g} s in {:.3g} s, {} steps, {} events, {} rows", complete ? "done" : "ended early", simulated, wall_seconds, steps, events, rows);
}

std::string RunSummary::text() const
{
    double simulated = stop - start;
    // the error itself tells the rest
    std::string out = fmt::format("{} at {:g} s{}\n", complete ? "done" : "ended early", stop, complete ? "" : ": " + reason.substr(0, reason.find('\n')));
    // many of them say less than a few
    std::size_t shown = assumed.size() > kFewAssumed + 2 ? kFewAssumed : assumed.size();
    for (std::size_t i = 0; i < shown; ++i) out += fmt::format("  assumed at the start: {}\n", assumed[i]);
    if (shown < assumed.size()) out += fmt::format("    and {} more: run --json, or the recording's report\n", assumed.size() - shown);
    for (const std::string& a : found) out += fmt::format("  found: {}\n", a);
    for (const std::string& a : left_open) out += fmt::format("  steadiness leaves this open, its init is kept: {}\n", a);
    for (const std::string& a : agreed) out += fmt::format("  more inits than needed, this one agrees: {}\n", a);
    for (const std::string& h : held) out += fmt::format("  nothing settles this at the start, it is held: {}\n", h);
    if (wall_seconds > 0)
        out += fmt::format("  time      {:.3f} s for {:g} s of machine time: {:.3g} times real time\n", wall_seconds, simulated, simulated / wall_seconds);
    std::string where;
    double counted = 0;  // a long search for the start is work too, but no part of the time
    for (const auto& [what, seconds] : shares) counted += seconds;
    double whole = std::max(wall_seconds, counted);
    for (const auto& [what, seconds] : shares)
        if (wall_seconds > 0 && seconds >= 0.005 * whole) where += fmt::format("{}{} {:.0f} %", where.empty() ? "" : ", ", what, 100 * seconds / whole);
    if (!where.empty()) out += fmt::format("  spent     {}\n", where);
    if (steps > 0) out += fmt::format("  method    {}\n", integrator);
    out += fmt::format("  steps     {} ({} residuals, {} Jacobians, {} repeated for error, {} for convergence)\n", steps, residuals, jacobians, error_failures,
                       convergence_failures);
    if (std::string limited = cost.one_line(); !limited.empty()) out += fmt::format("  limited   {}\n", limited);
    if (systems > 1) out += fmt::format("  systems   {} of the combinations in which the equations change in kind\n", systems);
    if (state_changes > 0) out += fmt::format("  states    chosen anew {} times\n", state_changes);
    out += fmt::format("  rows      {}\n  events    {}", rows, events);
    if (events > 0 && wall_seconds > 0) out += fmt::format(" ({:.0f} % of the time)", 100 * event_seconds / wall_seconds);
    out += "\n";
    const auto& event_table = event_record.kinds;
    for (std::size_t i = 0; i < event_table.size() && i < 5; ++i) {
        const EventEntry& e = event_table[i];
        out += fmt::format("    {:>6} x {}{}{}\n", e.times.size(), e.place.empty() ? "" : e.place + ": ", e.part.empty() ? "" : e.part + ": ", e.text);
    }
    if (event_table.size() > 5) out += fmt::format("    and {} more: run --events\n", event_table.size() - 5);
    std::size_t all = 0;
    for (const EventEntry& e : event_table) all += e.times.size();
    constexpr std::size_t kMany = 30;
    if (all >= kMany && event_table.size() > 1 && 3 * event_table[0].times.size() > all)
        out += fmt::format("  most      {:.0f} % of the events are {}{}\n", 100.0 * static_cast<double>(event_table[0].times.size()) / static_cast<double>(all),
                           event_table[0].part.empty() ? "" : event_table[0].part + ": ", event_table[0].text);
    if (verification.done) {
        std::string verified = verification.text();
        for (std::size_t at = verified.find('\n'); at + 1 < verified.size(); at = verified.find('\n', at + 1)) verified.insert(at + 1, "  ");
        out += "  " + verified;
    }
    for (const std::string& w : warnings) out += fmt::format("  warning   {}\n", w);
    std::size_t wide = 0;
    for (const MeasureResult& m : measures) wide = std::max(wide, m.name.size());
    for (std::size_t i = 0; i < measures.size(); ++i) {
        const MeasureResult& m = measures[i];
        std::string line = m.line();  // name = value: the values stand below each other
        if (std::size_t at = line.find(" = "); at != std::string::npos && std::isfinite(m.value)) line = fmt::format("{:<{}}{}", m.name, wide, line.substr(at));
        out += fmt::format("  {}  {}{}\n", i == 0 ? "measures" : "        ", line, m.doc.empty() ? "" : "   (" + m.doc + ")");
    }
    std::size_t n_hold = static_cast<std::size_t>(std::count_if(demands.begin(), demands.end(), [](const DemandResult& d) { return d.holds; }));
    if (!demands.empty()) out += fmt::format("  demands   {} of {} hold\n", n_hold, demands.size());
    for (const DemandResult& d : demands)
        if (!d.holds) out += "    not met: " + d.line() + "\n";
    return out;
}

}  // namespace netloop

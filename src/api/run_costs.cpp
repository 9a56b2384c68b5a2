// SPDX-License-Identifier: Apache-2.0
#include "api/run_costs.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

#include "integrate/simulate.hpp"
#include "netloop/recording.hpp"
#include "solve/explain.hpp"

namespace netloop {
namespace {

using Why = StepCosts::Why;

const char* why_text(Why why)
{
    switch (why) {
        case Why::accuracy:
            return "accuracy";
        case Why::convergence:
            return "convergence";
        case Why::event:
            return "event";
        case Why::clock:
            return "clock";
        case Why::signal:
            return "signal";
        case Why::table:
            return "table";
        case Why::delay:
            return "delay";
        default:
            return "end of a stretch";
    }
}

Cost::Limit limit_of(const StepCosts::Reason& reason, double steps, const EventLog& log, const CompiledModel& first, const SourceSet& sources)
{
    Cost::Limit l;
    l.why = why_text(reason.why);
    l.steps = steps;
    const FlatModel& flat = first.form.flat();
    auto take_origin = [&](const FlatModel& of, const Origin& origin) {
        l.part = of.instances[origin.instance];
        l.place = place_text(sources, of.shown_place(origin));
    };
    switch (reason.why) {
        case Why::accuracy:
        case Why::convergence:
            if (reason.model == nullptr) {
                l.what = "the length of the first steps";
            } else {
                Variable v = reason.model->form.z[reason.index].variable;
                l.what = variable_name(*reason.model, v);
                take_origin(reason.model->form.flat(), reason.model->form.flat().quantities[v.quantity].origin);
            }
            break;
        case Why::event:
        case Why::clock: {
            if (reason.index >= log.kinds().size()) {
                l.what = "an event";
                break;
            }
            const EventKind& kind = log.kinds()[reason.index];
            const auto& events = first.form.events;
            // the step that a tick ends and those behind it that it shortens have one reason
            l.why = why_text(kind.block && events.blocks[kind.index].kind == FlatBlock::Kind::every ? Why::clock : Why::event);
            l.what = kind.block ? events.blocks[kind.index].text : first.form.conditions[kind.index].text;
            take_origin(flat, kind.block ? events.blocks[kind.index].origin : first.form.conditions[kind.index].origin);
            break;
        }
        case Why::signal:
            l.what = "turns of a signal of time";
            break;
        case Why::table:
            l.what = "points of a table of time";
            break;
        case Why::delay:
            l.what = "a delay, and breaks that travel through it";
            break;
        default:
            l.what = "the end of the run or of a stretch of it";
    }
    return l;
}

Cost::Equation equation_of(const CompiledModel& model, std::uint32_t residual, const SourceSet& sources)
{
    Cost::Equation told;
    std::uint32_t equation = model.form.residual_of[residual];
    if (equation == kNoNode) {
        told.text = describe_residual(model, sources, residual);
        return told;
    }
    const FlatModel& flat = model.form.flat();
    const ReducedEquation& e = model.form.reduced.equations[equation];
    const FlatEquation& f = flat.equations[e.flat];
    told.part = flat.instances[f.origin.instance];
    told.place = place_text(sources, f.origin.span);
    // as it is written: what the compiler made of it may be long
    for (char c : sources.text(f.origin.span)) {
        const char plain = c == '\n' || c == '\t' ? ' ' : c;
        if (plain != ' ' || !told.text.ends_with(' ')) told.text += plain;
    }
    if (told.text.empty()) told.text = flat.equation_text(f);
    constexpr std::size_t kLong = 100;
    if (told.text.size() > kLong) {
        std::size_t end = kLong - 3;
        while (end > 0 && (static_cast<unsigned char>(told.text[end]) & 0xc0) == 0x80) --end;  // no character is cut in two
        told.text = told.text.substr(0, end) + "...";
    }
    if (e.differentiated > 0) told.text += fmt::format(" (differentiated {} time{})", e.differentiated, e.differentiated == 1 ? "" : "s");
    return told;
}

}  // namespace

Cost cost_of(const Simulation& simulation, const SourceSet& sources)
{
    Cost cost;
    const StepCosts& costs = simulation.costs();
    cost.steps = costs.n_steps();
    const CompiledModel& first = *const_cast<Simulation&>(simulation).evaluation().first_model();
    std::map<std::pair<std::string, std::string>, std::size_t> stated;
    for (const auto& [which, much] : costs.stubborn()) {
        Cost::Equation e;
        if (which.first != nullptr)
            e = equation_of(*which.first, which.second, sources);
        else
            e.text = "none: the matrix at hand was made for another length of step";
        auto [it, fresh] = stated.emplace(std::pair{e.text, e.place}, cost.equations.size());
        if (fresh) cost.equations.push_back(std::move(e));
        cost.equations[it->second].steps += much.steps;
        cost.equations[it->second].corrections += much.corrections;
    }
    std::stable_sort(cost.equations.begin(), cost.equations.end(), [](const auto& a, const auto& b) { return a.corrections > b.corrections; });
    // the same name may come of several systems that the run went through
    std::map<std::array<std::string, 3>, std::size_t> known;
    std::vector<std::size_t> number;
    for (const auto& [reason, steps] : costs.reasons()) {
        Cost::Limit l = limit_of(reason, steps, simulation.event_log(), first, sources);
        auto [it, fresh] = known.emplace(std::array{l.what, l.part, l.why}, cost.limits.size());
        number.push_back(it->second);
        if (fresh)
            cost.limits.push_back(std::move(l));
        else
            cost.limits[it->second].steps += steps;
    }
    std::vector<std::size_t> order(cost.limits.size()), place(cost.limits.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return cost.limits[a].steps > cost.limits[b].steps; });
    std::vector<Cost::Limit> sorted;
    for (std::size_t i = 0; i < order.size(); ++i) place[order[i]] = i, sorted.push_back(std::move(cost.limits[order[i]]));
    cost.limits = std::move(sorted);
    for (const StepCosts::Stretch& s : costs.stretches()) {
        Cost::Stretch told{s.from, s.to, s.steps, s.shortest, s.longest, 0};
        double most = 0;
        std::map<std::size_t, double> by;
        s.each_reason([&](std::uint32_t reason, double steps) { by[place[number[reason]]] += steps; });
        for (const auto& [limit, steps] : by)
            if (steps > most) most = steps, told.limit = static_cast<std::uint32_t>(limit);
        // one that was not looked at is like the one before it
        if (!s.any_reason() && !cost.stretches.empty()) told.limit = cost.stretches.back().limit;
        cost.stretches.push_back(told);
    }
    return cost;
}

// Steps by what `key` says of each limit, most first.
template <typename Key>
static std::vector<std::pair<std::string, double>> summed(const std::vector<Cost::Limit>& limits, Key key)
{
    std::map<std::string, double> sums;
    for (const Cost::Limit& l : limits) sums[key(l)] += l.steps;
    std::vector<std::pair<std::string, double>> list(sums.begin(), sums.end());
    std::stable_sort(list.begin(), list.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
    return list;
}

std::vector<std::pair<std::string, double>> Cost::parts() const
{
    return summed(limits, [](const Limit& l) { return l.part; });
}

std::string Cost::one_line() const
{
    if (steps == 0 || limits.empty()) return {};
    constexpr std::size_t kMost = 3;
    constexpr double kLeast = 0.02;
    double all = 0;
    for (const Limit& l : limits) all += l.steps;
    std::string text;
    for (std::size_t k = 0; k < limits.size() && k < kMost; ++k) {
        double share = limits[k].steps / all;
        if (k > 0 && share < kLeast) break;
        const Limit& l = limits[k];
        std::string by = l.why == "accuracy" ? l.what : l.why == "convergence" ? "convergence at " + l.what : l.what + (l.part.empty() ? "" : " in " + l.part);
        text += fmt::format("{}{:.0f} % {}{}", k == 0 ? "" : ", ", 100 * share, k == 0 ? "of the steps by " : "by ", by);
    }
    return text;
}

std::string Cost::text(std::size_t most) const
{
    return text({}, most);
}

std::string Cost::text(const EventRecord& events, std::size_t most) const
{
    if (steps == 0 && events.kinds.empty()) return "no steps of variable length were made\n";
    double all = 0;
    for (const Limit& l : limits) all += l.steps;
    // as limits do, events of one text in one part share a row
    struct Happened {
        std::size_t times = 0;
        double seconds = 0;
        bool told = false;
    };
    using Key = std::pair<std::string, std::string>;
    std::map<Key, Happened> happened;
    std::size_t n_events = 0;
    for (const EventEntry& e : events.kinds) {
        Happened& h = happened[{e.text, e.part}];
        h.times += e.times.size();
        h.seconds += e.seconds;
        n_events += e.times.size();
    }
    std::string out = fmt::format("{:.0f} steps, and what kept them from being longer", steps);
    if (n_events > 0) out += fmt::format("; {} event{}", n_events, n_events == 1 ? "" : "s");
    // the columns of events only where there are any
    auto line = [&](const std::string& n, const std::string& share, const std::string& times, const std::string& time, const std::string& why,
                    const std::string& what) {
        out += fmt::format("  {:>9}  {:>6}{}  {:<12} {}\n", n, share, n_events > 0 ? fmt::format("  {:>7}  {:>7}", times, time) : "", why, what);
    };
    auto time_of = [&](const Happened& h) { return fmt::format("{:.1f} %", events.seconds > 0 ? 100 * h.seconds / events.seconds : 0); };
    auto where = [](const std::string& what, const std::string& part, const std::string& place) {
        return what + (part.empty() || what.starts_with(part + ".") ? "" : " in " + part) + (place.empty() ? "" : "  " + place);
    };
    out += "\n\n";
    line("steps", "share", "times", "time", "why", "what");
    std::size_t shown = 0;
    for (const Limit& l : limits) {
        auto it = l.why == "event" || l.why == "clock" ? happened.find({l.what, l.part}) : happened.end();
        bool happens = it != happened.end() && !it->second.told;
        if (happens) it->second.told = true;
        if (shown++ < most)
            line(fmt::format("{:.0f}", l.steps), fmt::format("{:.1f} %", 100 * l.steps / all), happens ? fmt::format("{}", it->second.times) : "",
                 happens ? time_of(it->second) : "", l.why, where(l.what, l.part, l.place));
    }
    for (const EventEntry& e : events.kinds) {
        Happened& h = happened[{e.text, e.part}];
        if (h.told) continue;
        h.told = true;
        if (shown++ < most) line("0", "", fmt::format("{}", h.times), time_of(h), "event", where(e.text, e.part, e.place));
    }
    if (shown > most) out += fmt::format("  and {} more\n", shown - most);
    auto sums = [&](const char* title, const std::vector<std::pair<std::string, double>>& list, const char* unnamed) {
        constexpr std::size_t kMostSums = 8;
        constexpr double kLeast = 0.005;
        out += fmt::format("\n{}\n", title);
        for (std::size_t k = 0; k < list.size() && k < kMostSums && list[k].second >= kLeast * all; ++k)
            out += fmt::format("  {:>9.0f}  {:>4.1f} %  {}\n", list[k].second, 100 * list[k].second / all, list[k].first.empty() ? unnamed : list[k].first);
    };
    sums("by part", parts(), "the system, signals, clocks");
    // several parts of one declaration, several quantities of one part
    if (std::any_of(limits.begin(), limits.end(), [](const Limit& l) { return !l.place.empty(); }))
        sums("by line of text", summed(limits, [](const Limit& l) { return l.place; }), "no line");
    // what the iteration within a step had to do with
    double stubborn = 0;
    for (const Equation& e : equations) stubborn += e.steps;
    if (stubborn > 0) {
        constexpr std::size_t kMostEquations = 8;
        out += fmt::format("\n{:.0f} steps took Newton's iteration more than one correction; the equation that was then farthest from being met\n", stubborn);
        for (std::size_t k = 0; k < equations.size() && k < kMostEquations && equations[k].steps >= 0.005 * stubborn; ++k) {
            const Equation& e = equations[k];
            out += fmt::format("  {:>9.0f}  {:>4.1f} %  {:.1f} corrections  {}{}{}\n", e.steps, 100 * e.steps / stubborn, e.corrections / e.steps, e.text,
                               e.part.empty() ? "" : ", in " + e.part, e.place.empty() ? "" : "  (" + e.place + ")");
        }
    }
    // where in time the steps were
    double most_steps = 0;
    const Stretch* dense = nullptr;
    for (const Stretch& s : stretches)
        if (double rate = s.steps / std::max(s.to - s.from, 1e-300); rate > most_steps) most_steps = rate, dense = &s;
    if (dense != nullptr)
        out += fmt::format("\nshortest steps from {:.6g} s to {:.6g} s: {:.3g} s to {:.3g} s long, limited by {}\n", dense->from, dense->to, dense->shortest,
                           dense->longest, dense->limit < limits.size() ? limits[dense->limit].what : "nothing that was looked at");
    return out;
}

}  // namespace netloop

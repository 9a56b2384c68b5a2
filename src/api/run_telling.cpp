// SPDX-License-Identifier: Apache-2.0
// What a run tells of itself: the head of its recording, its summary, the words of its failures.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "api/run_costs.hpp"
#include "api/run_data.hpp"
#include "base/diagnostics.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {

std::string program_version()
{
    return NETLOOP_VERSION;
}

// What is in no joint may well be the cause where the part that it belongs to is named.
RunError Run::Data::with_open_ports(const NumericFailure& failure) const
{
    std::string text = failure.what();
    for (const Diagnostic& note : system->notes) {
        std::size_t begin = note.text.find('\''), end = note.text.find('\'', begin + 1), dot = note.text.rfind('.', end);
        if (note.id != "unjoined-port" || end == std::string::npos || dot == std::string::npos || dot < begin) continue;
        std::string part = note.text.substr(begin + 1, dot - begin - 1);
        bool named =
            std::any_of(part.begin(), part.end(), [](char c) { return c != ' '; }) &&
            (text.find("'" + part + "'") != std::string::npos || text.find(part + ".") != std::string::npos || text.find(part + ":") != std::string::npos);
        if (named) text += "\n      " + note.text;
    }
    return RunError(failure.id(), text, failure.hint());
}

RunOrigin Run::Data::origin() const
{
    RunOrigin o;
    o.version = program_version();
    o.doc = system->doc;
    o.tolerance = tolerance;
    o.texts = system->texts;
    o.text_hash = system->text_hash;
    o.settings = system->settings;
    const Evaluation& e = simulation->evaluation();
    for (ParameterId p = 0; p < flat().parameters.size(); ++p) {
        const FlatParameter& f = flat().parameters[p];
        o.parameters.push_back({f.path, e.parameter(p), f.boolean ? "bool" : f.unit.text, f.unit.scale, f.unit.offset, f.changed || given[p], f.doc});
    }
    for (std::size_t i = 0; i < flat().instances.size(); ++i) o.parts.push_back({flat().instances[i], flat().kinds[i], {}});
    for (const FlatSequence& s : flat().sequences) o.sequences.push_back({s.path, s.stages});
    for (const FlatPicture& p : flat().pictures) o.parts[p.instance].pictures.push_back(p.text);
    return o;
}

RecordingHead Run::Data::head(const std::vector<std::string>& keep, std::vector<std::size_t>& columns) const
{
    RecordingHead h;
    h.system = system->name;
    h.scenario = system->scenario;
    h.figures = system->figures;
    h.origin = origin();
    Column time;
    time.name = "time";
    time.unit = "s";
    h.columns.push_back(std::move(time));
    h.stored_as.push_back(0);
    std::vector<char> pattern_used(keep.size(), 0);
    std::map<std::uint32_t, std::size_t> first;
    const auto& outputs = model().form.outputs;
    for (std::size_t i = 0; i < outputs.size(); ++i) {
        bool wanted = keep.empty();
        for (std::size_t k = 0; k < keep.size(); ++k)
            if (fits_pattern(keep[k], outputs[i].path)) wanted = true, pattern_used[k] = 1;
        if (!wanted) continue;
        Column c;
        c.name = outputs[i].path;
        c.unit = outputs[i].boolean ? "bool" : outputs[i].unit.text;
        c.scale = outputs[i].unit.scale;
        c.offset = outputs[i].unit.offset;
        c.description = outputs[i].doc;
        c.origin = place_text(system->sources, outputs[i].origin.span);
        columns.push_back(i);
        h.stored_as.push_back(first.emplace(model().alias_of[i], h.columns.size()).first->second);
        h.columns.push_back(std::move(c));
    }
    for (std::size_t k = 0; k < keep.size(); ++k) {
        if (pattern_used[k]) continue;
        std::vector<std::string> names;
        for (const OutputColumn& o : outputs) names.push_back(o.path);
        std::string near = nearest_name(keep[k], names);
        throw UsageError(fmt::format("nothing fits '{}', which is to be kept{}", keep[k], near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
    }
    return h;
}

// An accepted state at which a quantity has no value is an error, even if no other equation needs it.
void Run::Data::fail_output(std::size_t i, const State& s, Evaluation& e) const
{
    std::string fault = describe_not_finite(e, system->sources, s.time, s.z.data(), s.rates.data());
    throw NumericFailure(
        "run-failed", fmt::format("at {:.9g} s: '{}' has no finite value{}{}", s.time, model().form.outputs[i].path, fault.empty() ? "" : "\n      ", fault));
}

// A condition without a value chooses no branch: what stands in the branches has none either.
void Run::Data::check_conditions(const State& s, Evaluation& e)
{
    const auto& conditions = model().form.conditions;
    if (&e.model() != system->model.get() || std::none_of(conditions.begin(), conditions.end(), [](const Condition& c) { return c.fragile; })) return;
    e.conditions();
    for (std::size_t i = 0; i < conditions.size(); ++i) {
        if (!std::isnan(e.condition_value(i)) || e.model().events.idle[i] != 0) continue;
        Verifier verifier(model(), system->sources, tolerance, false);
        auto found = verifier.without_value(s, e);
        if (!found) continue;  // it stands in a branch that is not taken
        throw NumericFailure(
            "run-failed", fmt::format("at {:.9g} s: the condition {} has no value, and so has {}{}{}", s.time, conditions[i].text,
                                      found->place.empty() ? "" : found->place + ": ", found->part.empty() ? "" : "in '" + found->part + "': ", found->text));
    }
}

void Run::Data::summarize(double stop)
{
    RunStatistics s = simulation->statistics();
    summary.stop = stop;
    if (!s.story.empty()) summary.integrator = s.story;
    summary.steps = s.counts.steps;
    summary.residuals = s.counts.residuals;
    summary.jacobians = s.counts.jacobians;
    summary.error_failures = s.counts.error_failures;
    summary.convergence_failures = s.counts.convergence_failures;
    summary.events = s.events;
    summary.rows = s.rows;
    summary.wall_seconds = s.wall_seconds;
    summary.shares = {{"equations", s.shares.equations},
                      {"Jacobian", s.shares.jacobian},
                      {"linear algebra", s.shares.algebra},
                      {"conditions", s.shares.conditions},
                      {"rows", s.shares.rows}};
    double rest = s.wall_seconds;
    for (const auto& [what, seconds] : summary.shares) rest -= seconds;
    summary.shares.emplace_back("stepping", std::max(rest, 0.0));
    std::stable_sort(summary.shares.begin(), summary.shares.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
    summary.assumed = simulation->start_report().assumed;
    summary.held = simulation->start_report().held;
    summary.agreed = simulation->start_report().agreed;
    summary.left_open = simulation->start_report().left_open;
    summary.found = simulation->start_report().found;
    summary.state_changes = s.state_changes;
    summary.systems = s.systems;
    summary.warnings = s.warnings;
    summary.event_seconds = s.event_seconds;
    summary.kept_histories = s.kept_histories;
    summary.cost = cost_of(*simulation, system->sources);
    summary.event_record = {};
    summary.event_record.steps = static_cast<double>(summary.steps);
    summary.event_record.seconds = s.wall_seconds;
    for (EventKind& kind : s.event_kinds) {
        const Origin& origin = kind.block ? model().form.events.blocks[kind.index].origin : model().form.conditions[kind.index].origin;
        EventEntry entry;
        entry.text = kind.block ? model().form.events.blocks[kind.index].text : model().form.conditions[kind.index].text;
        if (!kind.block && std::find(s.slid.begin(), s.slid.end(), kind.index) != s.slid.end())
            entry.text += "  (driven back from both sides: the run goes on along it)";
        entry.part = flat().instances[origin.instance];
        entry.place = place_text(system->sources, origin.span);
        entry.times = std::move(kind.times);
        entry.steps_lost = kind.steps_lost;
        entry.seconds = kind.ticks;
        summary.event_record.kinds.push_back(std::move(entry));
    }
    auto& kinds = summary.event_record.kinds;
    std::stable_sort(kinds.begin(), kinds.end(), [](const EventEntry& a, const EventEntry& b) { return a.times.size() > b.times.size(); });
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// A run's summary for programs: everything that it holds, each once.
#include "netloop/run.hpp"
#include "record/json_number.hpp"

namespace netloop {
namespace {

using nlohmann::json;

json of(const MeasureResult& m)
{
    return {{"value", json_number(m.shown())}, {"unit", m.unit}, {"text", m.text}};
}

json of(const DemandResult& d)
{
    return {{"condition", d.condition}, {"text", d.text}, {"holds", d.holds}, {"found", d.found}, {"place", d.place}};
}

json of(const EventEntry& e)
{
    return {{"condition", e.text},      {"part", e.part},         {"place", e.place},           {"count", e.times.size()},
            {"first", e.times.front()}, {"last", e.times.back()}, {"steps_lost", e.steps_lost}, {"seconds", e.seconds}};
}

json of(const Verification& v)
{
    if (!v.done) return nullptr;
    json findings = json::array();
    for (const Verification::Finding& f : v.findings)
        findings.push_back({{"text", f.text},
                            {"part", f.part},
                            {"place", f.place},
                            {"time", f.time},
                            {"left", json_number(f.left)},
                            {"right", json_number(f.right)},
                            {"unit", f.unit},
                            {"share", json_number(f.share)}});
    return {{"holds", v.holds},         {"limit", v.limit},         {"worst", json_number(v.worst)},
            {"points", v.points},       {"equations", v.equations}, {"lets", v.lets},
            {"inits", v.inits},         {"ranges", v.ranges},       {"slopes", v.slopes},
            {"not_known", v.not_known}, {"findings", findings}};
}

}  // namespace

std::string RunSummary::json(const std::string& system, const std::string& scenario) const
{
    nlohmann::json shares_told = nlohmann::json::object(), measured = nlohmann::json::object(), demanded = nlohmann::json::array(),
                   happened = nlohmann::json::array();
    for (const auto& [what, seconds] : shares) shares_told[what] = seconds;
    for (const MeasureResult& m : measures) measured[m.name] = of(m);
    for (const DemandResult& d : demands) demanded.push_back(of(d));
    for (const EventEntry& e : event_record.kinds) happened.push_back(of(e));
    nlohmann::json limited = nlohmann::json::array();
    for (const Cost::Limit& l : cost.limits) limited.push_back({{"what", l.what}, {"part", l.part}, {"place", l.place}, {"why", l.why}, {"steps", l.steps}});
    nlohmann::json iterated = nlohmann::json::array();
    for (const Cost::Equation& e : cost.equations)
        iterated.push_back({{"text", e.text}, {"part", e.part}, {"place", e.place}, {"steps", e.steps}, {"corrections", e.corrections}});
    nlohmann::json all{{"system", system},
                       {"scenario", scenario},
                       {"complete", complete},
                       {"reason", reason},
                       {"start", start},
                       {"stop", stop},
                       {"integrator", integrator},
                       {"steps", steps},
                       {"residuals", residuals},
                       {"jacobians", jacobians},
                       {"error_failures", error_failures},
                       {"convergence_failures", convergence_failures},
                       {"state_changes", state_changes},
                       {"systems", systems},
                       {"events", events},
                       {"rows", rows},
                       {"recorded", recorded},
                       {"recording_notes", recording_notes},
                       {"wall_seconds", wall_seconds},
                       {"limits", limited},
                       {"iterated", iterated},
                       {"spent_seconds", shares_told},
                       {"event_seconds", event_seconds},
                       {"kept_histories", kept_histories},
                       {"assumed", assumed},
                       {"held", held},
                       {"agreed", agreed},
                       {"left_open", left_open},
                       {"found", found},
                       {"warnings", warnings},
                       {"verified", of(verification)},
                       {"measures", measured},
                       {"demands", demanded},
                       {"demands_hold", demands_hold()},
                       {"conditions", happened}};
    return all.dump(2, ' ', false, nlohmann::json::error_handler_t::replace);
}

}  // namespace netloop

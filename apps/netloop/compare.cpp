// SPDX-License-Identifier: Apache-2.0
// `compare`: two recordings against each other; the exit code tells a script whether they agree.
#include <fmt/format.h>

#include <cmath>
#include <memory>
#include <netloop/compare.hpp>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "record/json_number.hpp"

namespace {

struct Options {
    std::string first, second, shift;
    std::vector<std::string> keep, allow;
    double tolerance = 1e-3;
    std::size_t most = 20;
    bool json = false, quiet = false, shared_time = false, times_as_they_stand = false;
};

int run_compare(const Options& o)
{
    netloop::CompareOptions options;
    options.tolerance = o.tolerance;
    options.keep = o.keep;
    options.shared_time = o.shared_time;
    options.match_events = !o.times_as_they_stand;
    if (!o.shift.empty()) options.shift = seconds_from(o.shift, "--shift");
    for (const std::string& text : o.allow) {
        netloop::Quantity q = quantity_from(text, "1", "--allow", "a value with its unit", "0.5bar");
        options.by_unit.emplace_back(q.unit, q.value);
    }
    netloop::Recording first = open_recording(o.first), second = open_recording(o.second);
    for (netloop::Recording* r : {&first, &second}) r->fetch(o.keep.empty() ? std::vector<std::string>{"*"} : o.keep);
    netloop::Comparison c = netloop::compare(first, second, options);
    if (o.json) {
        nlohmann::json list = nlohmann::json::array();
        for (const netloop::Difference& d : c.differences)
            list.push_back({{"name", d.name},
                            {"unit", d.unit},
                            {"largest", d.largest / d.scale},
                            {"allowed", d.allowed / d.scale},
                            {"at", d.at},
                            {"from", std::isnan(d.first) ? nlohmann::json(nullptr) : nlohmann::json(d.first)},
                            {"within", d.within()}});
        auto pairs = [](const std::vector<netloop::SideBySide>& all) {
            nlohmann::json made = nlohmann::json::array();
            for (const netloop::SideBySide& p : all)
                made.push_back({{"name", p.name}, {"unit", p.unit}, {"first", netloop::json_number(p.first)}, {"second", netloop::json_number(p.second)}});
            return made;
        };
        nlohmann::json events = nlohmann::json::array();
        for (const netloop::EventDifference& e : c.events)
            events.push_back({{"condition", e.text},
                              {"part", e.part},
                              {"count_first", e.count_first},
                              {"count_second", e.count_second},
                              {"apart", e.apart},
                              {"at", e.at},
                              {"within", e.within}});
        show_json({{"same", c.same()},
                   {"measures", pairs(c.measures)},
                   {"params", pairs(c.params)},
                   {"run", pairs(c.effort)},
                   {"events_paired", c.events_paired},
                   {"events", events},
                   {"not_compared", c.not_compared},
                   {"quantities", list},
                   {"only_first", c.only_first},
                   {"only_second", c.only_second}});
    } else if (!o.quiet || !c.same()) {
        show("{}", c.text(o.most));
    }
    return c.same() ? 0 : 1;
}

}  // namespace

Command add_compare(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("compare", "Compare two recordings: what differs most, from when on, by how much");
    app->add_option("first", o->first, "a recording (.h5 or .csv)")->required();
    app->add_option("second", o->second, "another one")->required();
    app->add_option("--tolerance", o->tolerance, "allowed share of a quantity's swing (default 1e-3)")->check(CLI::NonNegativeNumber);
    app->add_option("--allow", o->allow, "allowed difference for all quantities of a unit, such as 0.5bar; may be repeated")->allow_extra_args(false);
    app->add_option("--keep", o->keep, "only these: a path or a pattern such as pump.*")->allow_extra_args(false);
    app->add_option("--shift", o->shift, "changes that come this much earlier or later are the same, such as 5ms");
    app->add_flag("--times-as-they-stand", o->times_as_they_stand, "do not match events in time before values are compared");
    app->add_flag("--shared-time", o->shared_time,
                  "recordings that cover different times, or are incomplete, are compared over the time that they share (else they differ)");
    app->add_option("--most", o->most, "how many quantities to show (default 20)");
    app->add_flag("--json", o->json, "print all of them for programs");
    app->add_flag("--quiet", o->quiet, "print only if they differ");
    app->footer(
        "Exit code: 0 if all is within what is allowed, 1 if not, 2 for wrong use.\nExample:  netloop compare before.h5 after.h5 --allow 0.5bar --allow "
        "0.1degC");
    return {app, [o] { return run_compare(*o); }};
}

// SPDX-License-Identifier: Apache-2.0
// `modes`: how a system swings and settles by itself, at points or over a run.
#include <fmt/format.h>

#include <algorithm>
#include <complex>
#include <memory>
#include <numbers>
#include <optional>

#include "figures/analyses.hpp"
#include "points.hpp"

namespace {

struct Options {
    PointOptions point;
    std::string at, draw, near, end = "all";
    std::size_t over = 0, count = 0, detailed = 3;
    bool json = false;
};

std::vector<std::string> split(const std::string& list)
{
    std::vector<std::string> parts;
    std::size_t begin = 0;
    while (begin <= list.size()) {
        std::size_t comma = std::min(list.find(',', begin), list.size());
        if (comma > begin) parts.push_back(list.substr(begin, comma - begin));
        begin = comma + 1;
    }
    return parts;
}

double fastest(const netloop::Modes& m)
{
    double most = 0;
    for (const netloop::Mode& mode : m.modes) most = std::max(most, mode.root.frequency());
    return most;
}

// "50Hz": what swings so fast; "2ms": what settles within that time constant.
std::complex<double> eigenvalue_from(const std::string& text)
{
    netloop::Quantity given = quantity_from(text, "Hz", "--near", "a frequency or a time constant", "50Hz");
    netloop::Column helper;
    helper.unit = given.unit;
    helper.values = {given.si()};
    auto in = [&](const char* unit) -> std::optional<double> {
        try {
            return helper.in(unit).values[0];
        } catch (const netloop::RecordingError&) {
            return std::nullopt;
        }
    };
    if (auto hertz = in("Hz"); hertz && *hertz >= 0) return {0, 2 * std::numbers::pi * *hertz};
    if (auto seconds = in("s"); seconds && *seconds > 0) return {-1 / *seconds, 0};
    throw netloop::UsageError(fmt::format("--near {}: a frequency (50Hz) or a time constant (2ms) is expected, not below 0", text));
}

int run_modes(const Options& o)
{
    netloop::ModesRequest request;
    request.count = o.count;
    request.end = o.end == "fastest"   ? netloop::ModesRequest::End::fastest
                  : o.end == "slowest" ? netloop::ModesRequest::End::slowest
                                       : netloop::ModesRequest::End::all;
    if (!o.near.empty()) {
        if (o.end != "all") throw netloop::UsageError("--near and --end: modes are looked for in one region");
        request.near = eigenvalue_from(o.near);
    }
    PointSource source(o.point, {});
    std::vector<double> times;
    bool worst = false;
    for (const std::string& t : split(o.at)) {
        if (t == "worst")
            worst = true;
        else
            times.push_back(seconds_from(t, "--at"));
    }
    std::size_t n_over = o.over == 0 && worst ? 50 : o.over;
    if (n_over > 0 && !source.stop()) throw netloop::UsageError("points over a run need to know when it ends: its scenario has no stop time");
    std::vector<double> over;
    for (std::size_t k = 0; k < n_over; ++k) over.push_back(n_over == 1 ? 0 : *source.stop() * static_cast<double>(k) / static_cast<double>(n_over - 1));
    if (times.empty() && over.empty()) times.push_back(0);
    std::vector<double> all = over;
    all.insert(all.end(), times.begin(), times.end());
    std::sort(all.begin(), all.end());
    all.erase(std::unique(all.begin(), all.end()), all.end());
    std::vector<netloop::Modes> found;
    netloop::Run run = source.run();
    for (double t : all) {
        bool asked = std::find(times.begin(), times.end(), t) != times.end();
        if (asked && over.empty())
            source.bring(run, t);
        else if (!source.go_to(run, t))
            break;
        netloop::ModesRequest here = request;
        here.sensitivities = asked;
        found.push_back(run.modes(here));
        // behind an event at the start the run stands a breath later
        constexpr double kNothing = 1e-12;
        if (found.back().time < kNothing) found.back().time = 0;
    }
    if (found.empty()) throw netloop::UsageError("the run reached none of the points");
    // the point that is drawn and told in detail: where the fastest mode is fastest
    std::size_t shown = 0;
    if (worst || times.empty()) {
        for (std::size_t k = 0; k < found.size(); ++k)
            if (fastest(found[k]) > fastest(found[shown])) shown = k;
    } else {
        shown = static_cast<std::size_t>(std::find(all.begin(), all.end(), times[0]) - all.begin());
        shown = std::min(shown, found.size() - 1);
    }
    if ((worst || times.empty()) && !found[shown].modes.empty()) {
        netloop::Run again = source.run();
        if (source.go_to(again, found[shown].time)) found[shown] = again.modes(request);
    }
    if (!o.draw.empty()) {
        std::string title = fmt::format("{}{}: modes", source.system().name(), source.system().scenario().empty() ? "" : ", " + source.system().scenario());
        netloop::draw_modes(found, shown, {.title = title, .out = o.draw, .inputs = {o.point.file}});
    }
    auto told = [&](std::size_t k) {
        return k == shown ? worst || times.empty() || std::find(times.begin(), times.end(), all[k]) != times.end()
                          : std::find(times.begin(), times.end(), all[k]) != times.end();
    };
    if (o.json) {
        nlohmann::json list = nlohmann::json::array();
        for (const netloop::Modes& m : found) list.push_back(nlohmann::json::parse(m.json()));
        show_json({{"system", source.system().name()}, {"scenario", source.system().scenario()}, {"points", list}});
        return 0;
    }
    if (found.size() > 1) {
        show("{:>12}  {:>12}  fastest mode\n", "time", "frequency");
        for (const netloop::Modes& m : found) {
            const netloop::Mode* most = nullptr;
            for (const netloop::Mode& mode : m.modes)
                if (most == nullptr || mode.root.frequency() > most->root.frequency()) most = &mode;
            if (most != nullptr) show("{:>10.6g} s  {:>9.5g} Hz  {}\n", m.time, most->root.frequency(), most->parts_text());
        }
    }
    for (std::size_t k = 0; k < found.size(); ++k)
        if (told(k)) show("{}{}", k > 0 || found.size() > 1 ? "\n" : "", found[k].text(o.detailed));
    if (!o.draw.empty()) show("{}\n", o.draw);
    return 0;
}

}  // namespace

Command add_modes(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("modes", "Modes at points or over a run: frequencies, damping, which parts take part, which params move them");
    add_point_options(*app, o->point);
    app->add_option("--at", o->at, "times of points, such as 2s,5s; worst: of points over the run the one with the fastest mode (default: the settled start)");
    app->add_option("--over", o->over, "so many points over the run")->check(CLI::Range(1, 100000));
    app->add_option("--count", o->count,
                    fmt::format("so many modes of each end of the spectrum (default: all; 10 of more than {} states)", netloop::kMostStatesInTables))
        ->check(CLI::Range(std::size_t{1}, netloop::kMostStatesInTables));
    app->add_option("--end", o->end, "which end of the spectrum: all, fastest, slowest")->check(CLI::IsMember({"all", "fastest", "slowest"}));
    app->add_option("--near", o->near, "only the modes nearest to a frequency (50Hz) or to a time constant (2ms): --count of them, else ten");
    app->add_option("--detailed", o->detailed, "for so many modes the states and the params that move them (default 3)");
    app->add_option("--draw", o->draw, "draw frequencies over time and the parts of a point: .png, .svg or .pdf");
    app->add_flag("--json", o->json, "print all of it for programs");
    app->footer("Example:  netloop modes examples/bascule/bridge.loop --over 100 --at worst --draw modes.png");
    return {app, [o] { return run_modes(*o); }};
}

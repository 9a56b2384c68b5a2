// SPDX-License-Identifier: Apache-2.0
// `advise`: what to change so that a run gets faster, each change tried and priced.
#include <fmt/format.h>

#include <memory>

#include "points.hpp"

namespace {

struct Options {
    PointOptions point;
    std::string keep, stop, fixed;
    std::size_t runs = 40, jobs = 1;
    std::optional<double> tolerance;
    bool json = false, quiet = false;
};

// "leaf.angle within 0.2 deg, peak within 2 bar"
std::vector<netloop::AdviceRequest::Keep> kept(const std::string& text)
{
    std::vector<netloop::AdviceRequest::Keep> list;
    std::size_t begin = 0;
    auto trimmed = [](std::string s) {
        while (!s.empty() && s.front() == ' ') s.erase(0, 1);
        while (!s.empty() && s.back() == ' ') s.pop_back();
        return s;
    };
    while (begin < text.size()) {
        std::size_t comma = std::min(text.find(',', begin), text.size());
        std::string one = trimmed(text.substr(begin, comma - begin));
        begin = comma + 1;
        if (one.empty()) continue;
        constexpr std::string_view kWithin = " within ";
        std::size_t at = one.find(kWithin);
        const char* expected = "what may differ, and by how much";
        if (at == std::string::npos)
            throw netloop::UsageError(
                fmt::format("--keep {}: {} is expected, for example --keep \"leaf.angle within 0.2 deg, peak within 2 bar\"", one, expected));
        netloop::Quantity size = quantity_from(trimmed(one.substr(at + kWithin.size())), "1", "--keep", expected, "\"leaf.angle within 0.2 deg\"");
        netloop::Quantity none{0, size.unit};
        list.push_back({trimmed(one.substr(0, at)), size.si() - none.si()});
    }
    return list;
}

int run_advise(const Options& o)
{
    PointSource source(o.point, {});
    netloop::AdviceRequest request;
    request.keep = kept(o.keep);
    request.runs = o.runs;
    request.jobs = o.jobs;
    request.fixed_method = o.fixed;
    request.options = source.options();
    if (o.tolerance) request.options.tolerance = o.tolerance;
    if (!o.stop.empty())
        request.options.stop = seconds_from(o.stop, "--stop");
    else if (!source.system().stop())
        request.options.stop = source.stop();
    request.prepare = [&](netloop::Run& run, const netloop::CompiledSystem& system) { source.prepare(run, system); };
    request.interrupt = &interrupted();
    if (!o.quiet && !o.json)
        request.progress = [](std::size_t done, std::size_t all) {
            if (done % 10 == 0) tell("note: {} runs of at most {}\n", done, all);
        };
    netloop::Advice advice = netloop::advise(source.library(), source.request(), request);
    if (o.json)
        show("{}\n", advice.json());
    else
        show("{}{}: {}", source.system().name(), source.system().scenario().empty() ? "" : ", scenario " + source.system().scenario(), advice.text());
    return interrupted() ? 1 : 0;
}

}  // namespace

Command add_advise(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app =
        program.add_subcommand("advise", "What to change so that a run gets faster, or bears longer fixed steps: each change tried, measured and priced");
    add_point_options(*app, o->point);
    app->add_option("--keep", o->keep, "what may differ by how much: \"leaf.angle within 0.2 deg, peak within 2 bar\" (default: measures within one percent)");
    app->add_option("--runs", o->runs, "make at most so many runs (default 40)")->check(CLI::Range(2, 100000));
    app->add_option("--jobs", o->jobs, "so many at a time (default 1)")->check(CLI::Range(1, 1024));
    app->add_option("--fixed", o->fixed, "look for longer fixed steps of this method (see realtime) in place of faster runs");
    app->add_option("--stop", o->stop, "stop time, such as 60s or 2min");
    app->add_option("--tolerance", o->tolerance, "relative tolerance (default: the scenario's, else 1e-6)");
    app->add_flag("--json", o->json, "print it for programs");
    app->add_flag("--quiet", o->quiet, "print no progress");
    app->footer("Example:  netloop advise examples/bascule/bridge.loop --jobs 2 --keep \"leaf.angle within 0.5 deg\"");
    return {app, [o] { return run_advise(*o); }};
}

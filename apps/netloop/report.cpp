// SPDX-License-Identifier: Apache-2.0
#include "figures/report.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <iterator>
#include <memory>

#include "points.hpp"

namespace {

struct Options {
    std::vector<std::string> recordings;
    std::string out, title, scripts, size, advice;
    std::size_t modes = 0;
};

// Of the run that a recording tells of, repeated; evenly along it.
std::vector<netloop::Modes> modes_along(const std::string& file, std::size_t n)
{
    PointOptions options;
    options.file = file;
    PointSource source(options, {});
    if (!source.stop()) throw netloop::UsageError(fmt::format("'{}' has no rows: there is no run along which modes could be looked at", file));
    netloop::Run run = source.run();
    netloop::ModesRequest request;
    request.sensitivities = false;
    std::vector<netloop::Modes> found;
    for (std::size_t k = 0; k < n; ++k) {
        double t = n == 1 ? 0 : *source.stop() * static_cast<double>(k) / static_cast<double>(n - 1);
        if (!source.go_to(run, t)) break;
        found.push_back(run.modes(request));
    }
    return found;
}

int run_report(const Options& o)
{
    namespace fs = std::filesystem;
    netloop::ReportRequest request;
    request.out = o.out;
    request.title = o.title;
    request.scripts = o.scripts;
    if (!o.size.empty()) {
        netloop::Quantity size = quantity_from(o.size, "MB", "--size", "a size in MB", "3MB");
        if (size.unit != "MB" || !(size.value > 0))
            throw netloop::UsageError(fmt::format("--size {}: a size in MB is expected, for example --size 3MB", o.size));
        request.megabytes = size.value;
    }
    std::vector<netloop::Recording> recordings;
    std::vector<std::string> names;
    for (const std::string& file : o.recordings) {
        recordings.push_back(open_recording(file));
        names.push_back(fs::path(file).stem().string());
    }
    request.inputs = o.recordings;
    if (o.modes > 0) request.modes = modes_along(o.recordings[0], o.modes);
    if (!o.advice.empty()) {
        std::ifstream in(o.advice, std::ios::binary);
        request.advice.assign(std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>());
        if (request.advice.empty()) throw netloop::RecordingError(fmt::format("'{}' cannot be read, or is empty", o.advice));
        request.inputs.push_back(o.advice);
    }
    if (o.out == "-") output_is_taken();
    double megabytes = static_cast<double>(netloop::write_report(std::move(recordings), names, request)) / 1e6;
    if (megabytes > request.megabytes) tell("note: the page is larger than {:g} MB although its curves are thinned as far as is sensible\n", request.megabytes);
    show("{} ({:.1f} MB)\n", o.out, megabytes);
    return 0;
}

}  // namespace

Command add_report(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("report", "Write one page (.html) of one or several runs that needs nothing else to be read");
    app->add_option("recordings", o->recordings, "recordings (.h5 or .csv), laid over each other")->required();
    app->add_option("--out", o->out, "the page: .html, or - for standard output")->required();
    app->add_option("--title", o->title, "its title (default: system and scenario)");
    app->add_option("--size", o->size, "its size; curves are thinned until it fits (default 3MB)");
    app->add_option("--modes", o->modes, "with the modes at so many points along the first run, which is repeated between the points that it keeps")
        ->check(CLI::Range(1, 10000));
    app->add_option("--advice", o->advice, "with the advice of a file that `netloop advise --json` has written");
    app->add_option("--scripts", o->scripts, "folder of the scripts that the page takes in (default /usr/share/javascript)");
    app->footer("Example:  netloop report calm_day.h5 storm_lift.h5 --modes 50 --out bridge.html");
    return {app, [o] { return run_report(*o); }};
}

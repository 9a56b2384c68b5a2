// SPDX-License-Identifier: Apache-2.0
#include "figures/report.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <memory>

#include "commands.hpp"

namespace {

struct Options {
    std::vector<std::string> recordings;
    std::string out, title, scripts, size;
};

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
    app->add_option("--scripts", o->scripts, "folder of the scripts that the page takes in (default /usr/share/javascript)");
    app->footer("Example:  netloop report calm_day.h5 storm_lift.h5 --out bridge.html");
    return {app, [o] { return run_report(*o); }};
}

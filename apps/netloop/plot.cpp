#include "show/plot.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <memory>

#include "commands.hpp"

namespace {

struct Options {
    std::vector<std::string> words, more;
    std::string against, out, title, from, to, size;
};

int run_plot(const Options& o)
{
    namespace fs = std::filesystem;
    std::vector<std::string> files{o.words.at(0)};
    files.insert(files.end(), o.more.begin(), o.more.end());
    netloop::PlotRequest request;
    request.quantities.assign(o.words.begin() + 1, o.words.end());
    if (request.quantities.empty()) throw netloop::UsageError("name at least one quantity behind the recording, such as leaf.angle");
    request.against = o.against;
    request.title = o.title;
    request.out = o.out;
    if (!o.from.empty()) request.from = seconds_from(o.from, "--from");
    if (!o.to.empty()) request.to = seconds_from(o.to, "--to");
    if (!o.size.empty() && std::sscanf(o.size.c_str(), "%dx%d", &request.width, &request.height) != 2)
        throw netloop::UsageError(fmt::format("--size {}: write widthxheight, such as 1280x800", o.size));
    if (request.width < 200 || request.height < 150 || request.width > 10000 || request.height > 10000)
        throw netloop::UsageError(fmt::format("--size {}: from 200x150 to 10000x10000", o.size));
    std::vector<netloop::Recording> recordings;
    std::vector<std::string> names;
    for (const std::string& file : files) {
        recordings.push_back(netloop::Recording::load(file));
        names.push_back(fs::path(file).stem().string());
        if (!recordings.back().complete) fmt::print(stderr, "note: '{}' is incomplete: {}\n", file, recordings.back().reason);
    }
    netloop::plot(recordings, names, request);
    fmt::print("{}\n", o.out);
    return 0;
}

}  // namespace

Command add_plot(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("plot", "Draw quantities of a recording as PNG or SVG");
    app->add_option("recording and quantities", o->words, "the recording (.h5 or .csv), then paths such as leaf.angle")->required();
    app->add_option("--with", o->more, "a further recording, drawn into the same figure")->allow_extra_args(false);
    app->add_option("--against", o->against, "the quantity on the x axis (default: time)");
    app->add_option("--out", o->out, "the figure: .png or .svg")->required();
    app->add_option("--title", o->title, "a title above the figure");
    app->add_option("--from", o->from, "draw from this time on");
    app->add_option("--to", o->to, "draw up to this time");
    app->add_option("--size", o->size, "size in pixels (default 1280x800)");
    app->footer("Example:  netloop plot bridge.h5 leaf.angle pump.outlet.p --out bridge.png");
    return {app, [o] { return run_plot(*o); }};
}

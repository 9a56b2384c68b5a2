// SPDX-License-Identifier: Apache-2.0
#include "figures/plot.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <memory>

#include "commands.hpp"

namespace {

struct Options {
    std::vector<std::string> words, more;
    std::string against, figure, out, title, from, to, size, fold, fold_at, log;
    std::vector<std::string> ranges;
    int columns = 1;
    bool spectrum = false, events = false, no_difference = false;
};

// "0..200 bar": the range of the axes in a unit that bar can be turned into.
void take_range(const std::string& text, netloop::PlotRequest& request)
{
    std::size_t dots = text.find("..");
    const char* expected = "a range with its unit";
    if (dots == std::string::npos) throw netloop::UsageError(fmt::format("--range {}: {} is expected, for example --range 0..200bar", text, expected));
    netloop::Quantity high = quantity_from(text.substr(dots + 2), "1", "--range", expected, "0..200bar");
    netloop::Quantity low = quantity_from(text.substr(0, dots), high.unit, "--range", expected, "0..200bar");
    if (low.unit != high.unit || !(low.value < high.value))
        throw netloop::UsageError(fmt::format("--range {}: from a lower to a higher value in one unit, for example --range 0..200bar", text));
    request.ranges.emplace_back(low.value, high.value);
    request.range_units.push_back(high.unit);
}

void take_figure(const netloop::Recording& recording, const std::string& title, netloop::PlotRequest& request)
{
    std::string all;
    for (const netloop::FigureRequest& f : recording.figures) {
        all += (all.empty() ? "" : ", ") + ("'" + f.title + "'");
        if (f.title != title) continue;
        request.panels = f.panels;
        if (request.title.empty()) request.title = f.title;
        return;
    }
    throw netloop::UsageError(fmt::format("the recording has no figure '{}'; {}", title, all.empty() ? "its scenario asks for none" : "there are: " + all));
}

int run_plot(const Options& o)
{
    namespace fs = std::filesystem;
    std::vector<std::string> files{o.words.at(0)};
    files.insert(files.end(), o.more.begin(), o.more.end());
    netloop::PlotRequest request;
    request.quantities.assign(o.words.begin() + 1, o.words.end());
    request.against = o.against;
    request.title = o.title;
    request.out = o.out;
    if (!o.from.empty()) request.from = seconds_from(o.from, "--from");
    if (!o.to.empty()) request.to = seconds_from(o.to, "--to");
    if (!o.size.empty() && std::sscanf(o.size.c_str(), "%dx%d", &request.width, &request.height) != 2)
        throw netloop::UsageError(fmt::format("--size {}: write widthxheight, such as 1280x800", o.size));
    if (request.width < 200 || request.height < 150 || request.width > 10000 || request.height > 10000)
        throw netloop::UsageError(fmt::format("--size {}: from 200x150 to 10000x10000", o.size));
    if (request.from && request.to && !(*request.from < *request.to))
        throw netloop::UsageError(fmt::format("--from {} --to {}: there is no time between", o.from, o.to));
    if (!o.fold.empty()) request.fold = seconds_from(o.fold, "--fold");
    request.fold_at = o.fold_at;
    request.spectrum = o.spectrum;
    request.events = o.events;
    request.difference = !o.no_difference;
    request.columns = o.columns;
    request.log_x = o.log.find('x') != std::string::npos;
    request.log_y = o.log.find('y') != std::string::npos;
    if (request.spectrum && (!o.fold.empty() || !o.fold_at.empty() || !o.against.empty()))
        throw netloop::UsageError("--spectrum stands alone: it is drawn over frequency");
    if (!o.fold.empty() && !o.fold_at.empty()) throw netloop::UsageError("fold by a period or at a condition, not both");
    for (const std::string& r : o.ranges) take_range(r, request);
    std::vector<netloop::Recording> recordings;
    std::vector<std::string> names;
    for (const std::string& file : files) {
        recordings.push_back(open_recording(file));
        names.push_back(fs::path(file).stem().string());
    }
    if (!o.figure.empty()) take_figure(recordings[0], o.figure, request);
    if (request.quantities.empty() && request.panels.empty()) {
        std::string figures;
        for (const netloop::FigureRequest& f : recordings[0].figures)
            figures += (figures.empty() ? "; or draw a figure of its scenario: --figure \"" : "\", \"") + f.title;
        throw netloop::UsageError("name at least one quantity behind the recording, such as leaf.angle" + figures + (figures.empty() ? "" : "\""));
    }
    request.inputs = files;
    if (o.out == "-") output_is_taken();
    netloop::plot(std::move(recordings), names, request);
    show("{}\n", o.out);
    return 0;
}

}  // namespace

Command add_plot(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("plot", "Draw quantities of a recording as PNG, SVG or PDF");
    app->add_option("recording and quantities", o->words,
                    "the recording (.h5 or .csv), then paths or patterns such as leaf.angle or pump.*, with a unit leaf.angle:deg; / begins a panel below")
        ->required();
    app->add_option("--with", o->more, "a further recording, drawn into the same figure")->allow_extra_args(false);
    app->add_option("--against", o->against, "the quantity on the x axis (default: time)");
    app->add_option("--figure", o->figure, "draw this figure of the recording's scenario");
    app->add_option("--fold", o->fold, "lay working cycles of this period over each other, such as 20s");
    app->add_option("--fold-at", o->fold_at, "the same, from one time at which a condition becomes true to the next, such as \"leaf.angle > 5 deg\"");
    app->add_flag("--spectrum", o->spectrum, "amplitudes over frequency instead of values over time");
    app->add_option("--log", o->log, "logarithmic axes: x, y or xy")->check(CLI::IsMember({"x", "y", "xy", "yx"}));
    app->add_option("--range", o->ranges, "range of the axes of a unit, such as 0..200bar; may be repeated")->allow_extra_args(false);
    app->add_flag("--events", o->events, "mark the events of the (first) recording below the curves");
    app->add_flag("--no-difference", o->no_difference, "with several recordings: leave off what they differ by");
    app->add_option("--columns", o->columns, "panels beside each other (default 1)")->check(CLI::Range(1, 6));
    app->add_option("--out", o->out, "the figure: .png, .svg or .pdf, or - for SVG on standard output")->required();
    app->add_option("--title", o->title, "a title above the figure");
    app->add_option("--from", o->from, "draw from this time on");
    app->add_option("--to", o->to, "draw up to this time");
    app->add_option("--size", o->size, "size in pixels (default 1280x800)");
    app->footer("Example:  netloop plot bridge.h5 leaf.angle pump.outlet.p --out bridge.png");
    return {app, [o] { return run_plot(*o); }};
}

// SPDX-License-Identifier: Apache-2.0
// `cost`: what the steps of a recorded run were limited by, over time and by part, with its events.
#include <fmt/format.h>

#include <memory>

#include "commands.hpp"
#include "figures/analyses.hpp"

Command add_cost(CLI::App& program)
{
    struct Options {
        std::string file, draw;
        std::size_t most = 20;
    };
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("cost", "What limited the steps of a recorded run: by quantity, part and line, and over time");
    app->add_option("recording", o->file, "the recording (.h5)")->required();
    app->add_option("--draw", o->draw, "draw the length of steps over time, with what limited them: .png, .svg or .pdf");
    app->add_option("--most", o->most, "so many lines at most (default 20)");
    app->footer("Example:  netloop run examples/bascule/bridge.loop --out bridge.h5; netloop cost bridge.h5 --draw cost.png");
    return {
        app, [o] {
            netloop::Recording recording = open_recording(o->file);
            if (recording.cost.steps == 0)
                throw netloop::UsageError(fmt::format("'{}' does not tell what its steps were limited by: it holds rows only, or had fixed steps", o->file));
            show("{}", recording.cost.text(recording.events, o->most));
            if (o->draw.empty()) return 0;
            std::string title = recording.system + (recording.scenario.empty() ? "" : ", " + recording.scenario) + ": length of steps and what limited them";
            netloop::draw_cost(recording.cost, {.title = title, .out = o->draw, .inputs = {o->file}});
            show("{}\n", o->draw);
            return 0;
        }};
}

// SPDX-License-Identifier: Apache-2.0
// `draw`: the diagram of a system or component.
#include <fmt/format.h>

#include <memory>

#include "commands.hpp"
#include "figures/diagram.hpp"

namespace {

struct Options {
    std::string what, name, out;
    std::vector<std::string> open;
    bool plain = false;
};

int run_draw(const Options& o)
{
    netloop::Library library = netloop::Library::standard();
    netloop::DiagramRequest request;
    request.name = o.what;
    if (o.what.size() > 5 && o.what.substr(o.what.size() - 5) == ".loop") {
        library.load_file(o.what);
        request.name = o.name;
        std::string systems;
        std::size_t n = 0;
        for (const auto& e : library.list()) {
            if (e.kind != "system") continue;
            systems += (systems.empty() ? "" : ", ") + e.name;
            if (o.name.empty()) request.name = e.name;
            ++n;
        }
        if (o.name.empty() && n != 1)
            throw netloop::UsageError(n == 0 ? "the file has no system; name a component: --name"
                                             : fmt::format("the file has several systems: {}; name one: --name", systems));
    } else if (!o.name.empty()) {
        throw netloop::UsageError("--name goes with a .loop file");
    }
    request.open = o.open;
    request.out = o.out;
    request.values = !o.plain;
    if (o.out == "-") output_is_taken();
    netloop::draw_diagram(library, request);
    show("{}\n", o.out);
    return 0;
}

}  // namespace

Command add_draw(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("draw", "Draw the diagram of a system or component: parts, joints by domain, signals");
    app->add_option("what", o->what, "a .loop file, or a component such as hydraulics.Cylinder")->required();
    app->add_option("--name", o->name, "the system or component of the file (needed if it has several systems)");
    app->add_option("--open", o->open, "show this part from inside; * for all of the first level; may be repeated")->allow_extra_args(false);
    app->add_flag("--plain", o->plain, "without the values that parts are given");
    app->add_option("--out", o->out, "the diagram: .svg, .png, .pdf or .dot, or - for SVG on standard output")->required();
    app->footer("Example:  netloop draw examples/bascule/whole/bridge.loop --out bridge.svg");
    return {app, [o] { return run_draw(*o); }};
}

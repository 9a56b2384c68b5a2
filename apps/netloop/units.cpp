// SPDX-License-Identifier: Apache-2.0
// `units`: the table of units, or those that are searched for.
#include <algorithm>

#include "commands.hpp"

namespace {

struct Options {
    std::string search;
    bool json = false, markdown = false;
};

int run_units(const Options& o)
{
    if (o.markdown) {
        show("{}", netloop::units_page());
        return 0;
    }
    std::vector<netloop::UnitEntry> entries = netloop::units(o.search);
    if (o.json) {
        nlohmann::json all = nlohmann::json::array();
        for (const netloop::UnitEntry& u : entries)
            all.push_back({{"name", u.name},
                           {"quantity", u.quantity},
                           {"si", u.si},
                           {"scale", u.scale},
                           {"offset", u.offset},
                           {"prefixes", u.prefixes},
                           {"text", u.text}});
        show_json(all);
        return 0;
    }
    auto in_si = [](const netloop::UnitEntry& u) {
        return fmt::format("{:.10g} {}{}", u.scale, u.si, u.offset != 0 ? fmt::format(", its 0 at {:.10g} {}", u.offset, u.si) : "");
    };
    std::size_t name = 0, value = 0;
    for (const netloop::UnitEntry& u : entries) name = std::max(name, u.name.size()), value = std::max(value, in_si(u).size());
    std::string last = "-";
    for (const netloop::UnitEntry& u : entries) {
        if (u.quantity != last) show("{}{}\n", last == "-" ? "" : "\n", u.quantity.empty() ? "of several names" : u.quantity);
        last = u.quantity;
        std::string line = fmt::format("  {:{}}  {:{}}  {:14}  {}", u.name, name, in_si(u), value, u.prefixes ? "with prefixes" : "", u.text);
        line.erase(line.find_last_not_of(' ') + 1);
        show("{}\n", line);
    }
    return 0;
}

}  // namespace

Command add_units(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("units", "List the units, or those of a quantity or dimension");
    app->add_option("search", o->search, "a quantity (pressure), a unit (kN*m: all of its dimension), or a part of a name");
    app->add_flag("--json", o->json, "print the list for programs");
    app->add_flag("--markdown", o->markdown, "print the whole list as a page");
    app->footer("Example:  netloop units pressure\n          netloop units L/min");
    return {app, [o] { return run_units(*o); }};
}

// SPDX-License-Identifier: Apache-2.0
// `property`: a property of a fluid over its range, as a table or a figure.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <memory>
#include <numeric>

#include "commands.hpp"
#include "figures/plot.hpp"

namespace {

struct Options {
    std::string fluid, function, file, plot, unit;
    int points = 26;
};

// What one argument of the property is given: one value, a list, or a range.
struct Given {
    std::string name, declared;  ///< with its declared unit
    std::string unit;            ///< in which it is shown
    std::vector<double> si;
    bool range = false;

    std::string shown(double value) const
    {
        double offset = netloop::q(0, unit).si();
        return fmt::format("{} = {:.6g}{}", name, (value - offset) / (netloop::q(1, unit).si() - offset), unit == "1" ? "" : " " + unit);
    }
};

// SI values that are shown in a unit. Throws RecordingError if it is no unit of what is declared.
netloop::Column column_in(const std::string& name, const std::string& declared, const std::string& unit, std::vector<double> si)
{
    netloop::Column c;
    c.name = name;
    c.unit = declared;
    c.in(unit);
    c.unit = unit;
    c.offset = netloop::q(0, unit).si();
    c.scale = netloop::q(1, unit).si() - c.offset;
    c.values = std::move(si);
    return c;
}

std::vector<double> between(double low, double high, int points)
{
    std::vector<double> values;
    for (int i = 0; i < points; ++i) values.push_back(low + (high - low) * i / (points - 1));
    return values;
}

void read_values(const std::string& text, int points, Given& g)
{
    auto one = [&](const std::string& part, const std::string& otherwise) {
        netloop::Quantity v = quantity_from(part, otherwise, "--" + g.name, "a number with its unit", "1" + (g.declared == "1" ? "" : g.declared));
        try {
            column_in(g.name, g.declared, v.unit, {});
        } catch (const netloop::RecordingError&) {
            throw netloop::UsageError(fmt::format("--{} {}: [{}] is no unit of '{}', which is in [{}]", g.name, text, v.unit, g.name, g.declared));
        }
        g.unit = v.unit;
        return v.si();
    };
    g.si.clear();
    std::size_t dots = text.find("..");
    g.range = dots != std::string::npos;
    if (g.range) {
        double high = one(text.substr(dots + 2), g.declared);
        std::string unit = g.unit;  // that of the end, which the beginning need not repeat
        double low = one(text.substr(0, dots), unit);
        g.unit = unit;
        g.si = between(low, high, points);
        return;
    }
    for (std::size_t from = 0; from <= text.size();) {
        std::size_t comma = std::min(text.find(',', from), text.size());
        g.si.push_back(one(text.substr(from, comma - from), g.declared));
        from = comma + 1;
    }
}

// The arguments of the property from what stands behind the options: "--T", "250K..1500K" or "--T=250K..1500K".
std::vector<Given> read_arguments(const netloop::FluidProperty& property, const Options& o, const std::vector<std::string>& words)
{
    std::vector<Given> given;
    std::string all;
    for (const auto& a : property.arguments()) {
        given.push_back({a.name, a.unit, {}, {}, false});
        all += fmt::format("{}--{} [{}]", all.empty() ? "" : ", ", a.name, a.unit);
    }
    for (std::size_t i = 0; i < words.size(); ++i) {
        std::string word = words[i], name = word.starts_with("--") ? word.substr(2) : "", value;
        if (std::size_t equals = name.find('='); equals != std::string::npos)
            value = name.substr(equals + 1), name.resize(equals);
        else if (i + 1 < words.size())
            value = words[++i];
        auto g = std::find_if(given.begin(), given.end(), [&](const Given& x) { return x.name == name; });
        if (value.empty() || g == given.end())
            throw netloop::UsageError(fmt::format("'{}': '{}' takes {}, each with a value", word, o.function, all.empty() ? "no arguments" : all));
        read_values(value, o.points, *g);
    }
    for (Given& g : given) {
        if (!g.si.empty()) continue;
        if (g.name == "p")
            g.unit = "bar", g.si = {101325};
        else if (g.name == "T")
            g.unit = "degC", g.si = {293.15};
        else
            throw netloop::UsageError(fmt::format("give --{} in [{}], as one value or a range: --{} a..b", g.name, g.declared, g.name));
    }
    return given;
}

// Which argument runs over the rows (the first range, else the first list) and which over the columns; null: none.
struct Axes {
    const Given* row = nullptr;
    const Given* column = nullptr;
};
Axes choose_axes(const std::vector<Given>& given)
{
    std::vector<const Given*> many;
    for (const Given& g : given)
        if (g.si.size() > 1) many.push_back(&g);
    std::stable_sort(many.begin(), many.end(), [](const Given* a, const Given* b) { return a->range > b->range; });
    if (many.size() > 2) throw netloop::UsageError("at most two arguments can have several values: one for the rows, one for the columns");
    return {many.empty() ? nullptr : many[0], many.size() > 1 ? many[1] : nullptr};
}

// A first column that only counts, that of the rows' argument if there is one, and one for each value of the columns' argument.
netloop::Recording tabulate(const netloop::FluidProperty& property, const Options& o, const std::vector<Given>& given, Axes axes,
                            const std::vector<double>& rows)
{
    netloop::Recording table;
    table.system = o.fluid;
    std::vector<double> counted(rows.size());
    std::iota(counted.begin(), counted.end(), 0.0);
    table.columns.push_back(column_in("time", "s", "s", counted));
    if (axes.row != nullptr) table.columns.push_back(column_in(axes.row->name, axes.row->declared, axes.row->unit, rows));
    for (std::size_t c = 0; c < (axes.column != nullptr ? axes.column->si.size() : 1); ++c) {
        std::vector<double> values;
        for (double row : rows) {
            std::vector<double> at;
            for (const Given& g : given) at.push_back(&g == axes.row ? row : g.si[&g == axes.column ? c : 0]);
            values.push_back(property(at));
        }
        table.columns.push_back(column_in(axes.column != nullptr ? axes.column->shown(axes.column->si[c]) : o.function, property.unit(),
                                          o.unit.empty() ? property.unit() : o.unit, std::move(values)));
    }
    return table;
}

void print(const netloop::Recording& table)
{
    std::vector<std::string> lines(table.n_rows() + 1);
    for (std::size_t c = 1; c < table.columns.size(); ++c) {
        const netloop::Column& column = table.columns[c];
        std::string head = fmt::format("{} [{}]", column.name, column.unit);
        std::size_t width = std::max<std::size_t>(head.size(), 12) + 2;
        lines[0] += fmt::format("{:>{}}", head, width);
        for (std::size_t r = 0; r < table.n_rows(); ++r) {
            double v = (column.values[r] - column.offset) / column.scale;
            lines[r + 1] += fmt::format("{:>{}}", std::isnan(v) ? std::string("-") : fmt::format("{:.6g}", v), width);
        }
    }
    show("\n{}\n", fmt::join(lines, "\n"));
}

int list_functions(const Options& o)
{
    auto entries = netloop::FluidProperty::list(o.fluid, o.file);
    std::size_t width = 0, kind = 0;
    for (const auto& e : entries) width = std::max(width, e.name.size()), kind = std::max(kind, e.kind.size());
    for (const auto& e : entries) show("{:<{}}  {:<{}}  {}\n", e.name, width, e.kind, kind, e.summary);
    return 0;
}

int run_property(const Options& o, const std::vector<std::string>& words)
{
    if (o.function.empty()) return list_functions(o);
    if (o.points < 2 || o.points > 100000) throw netloop::UsageError(fmt::format("--points {}: from 2 to 100000", o.points));
    netloop::FluidProperty property(o.fluid, o.function, o.file);
    std::vector<Given> given = read_arguments(property, o, words);
    Axes axes = choose_axes(given);
    if (!o.plot.empty() && axes.row == nullptr) throw netloop::UsageError("a figure needs a range: for example --T 250K..1500K");
    std::string fixed;
    for (const Given& g : given)
        if (&g != axes.row && &g != axes.column) fixed += ", " + g.shown(g.si[0]);
    netloop::Recording table = tabulate(property, o, given, axes, axes.row != nullptr ? axes.row->si : std::vector<double>{0});
    show("{}.{}{}\n", o.fluid, o.function, fixed);
    if (!property.text().empty()) show("{}\n", property.text());
    print(table);
    if (o.plot.empty()) return 0;
    constexpr int kSmooth = 401;  // a curve is smooth only with more points than a table is read with
    bool finer = axes.row->range && o.points < kSmooth;
    netloop::PlotRequest request;
    for (std::size_t c = 2; c < table.columns.size(); ++c) request.quantities.push_back(table.columns[c].name);
    request.against = axes.row->name;
    request.title = fmt::format("{} of {}{}", o.function, o.fluid, fixed);
    request.out = o.plot;
    std::vector<double> rows = finer ? between(axes.row->si.front(), axes.row->si.back(), kSmooth) : axes.row->si;
    netloop::plot({tabulate(property, o, given, axes, rows)}, {o.fluid}, request);
    show("\n{}\n", o.plot);
    return 0;
}

}  // namespace

Command add_property(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("property", "Print or draw a property of a fluid over its range");
    app->add_option("fluid", o->fluid, "such as air, oil, water, or a kind with values: \"MineralOil(grade = 32 cSt)\"")->required();
    app->add_option("function", o->function, "such as cp, density, viscosity; without it the functions are listed");
    app->add_option("--points", o->points, "number of points of a range (default 26)");
    app->add_option("--unit", o->unit, "the unit of the result (default: as declared)");
    CLI::Option* plot = app->add_option("--plot", o->plot, "draw it too: .png or .svg (default: function_of_fluid.png, here)")->expected(0, 1);
    app->add_option("--file", o->file, "a .loop file whose fluids are in sight too");
    app->allow_extras();
    app->footer(
        "Arguments of the function are options of their own: one value, a list 1bar,50bar or a range 250K..1500K. One range makes the rows, a\n"
        "second range or list the columns. p and T need not be given: 1.01325 bar, 20 degC.\n"
        "Example:  netloop property air cp --p 1bar --T 250K..1500K");
    return {app, [o, app, plot] {
                if (plot->count() > 0 && o->plot.empty()) o->plot = fmt::format("{}_of_{}.png", o->function, o->fluid.substr(0, o->fluid.find('(')));
                return run_property(*o, app->remaining());
            }};
}

// `property`: a property of a fluid over its range, as a table or a figure.
#include <fmt/format.h>

#include <cmath>
#include <filesystem>
#include <memory>
#include <netloop/property.hpp>

#include "commands.hpp"
#include "show/plot.hpp"

namespace {

struct Options {
    std::string fluid, function, file, plot, unit, out;
    int points = 26;
};

// What one argument of the property is: one value, several, or a range.
struct Values {
    std::string unit;  ///< in which they are shown
    std::vector<double> si;
    bool range = false;
};

double number_with_unit(const std::string& text, const std::string& otherwise, std::string& unit, const std::string& option)
{
    char* end = nullptr;
    double value = std::strtod(text.c_str(), &end);
    std::string rest = end;
    while (!rest.empty() && rest.front() == ' ') rest.erase(0, 1);
    if (end == text.c_str() || !std::isfinite(value)) throw netloop::UsageError(fmt::format("--{} {}: a number with its unit is expected", option, text));
    unit = rest.empty() ? otherwise : rest;
    return netloop::q(value, unit).si();
}

// A column of SI values that is shown in a unit; throws if it does not fit the declared one.
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

double shown(double si, const std::string& unit)
{
    double offset = netloop::q(0, unit).si();
    return (si - offset) / (netloop::q(1, unit).si() - offset);
}

Values read_values(const std::string& text, const netloop::FluidProperty::Argument& argument, int points)
{
    Values v;
    auto check = [&](const std::string& unit) {
        try {
            column_in(argument.name, argument.unit, unit, {});
        } catch (const netloop::RecordingError&) {
            throw netloop::UsageError(
                fmt::format("--{} {}: [{}] is no unit of '{}', which is in [{}]", argument.name, text, unit, argument.name, argument.unit));
        }
    };
    if (std::size_t dots = text.find(".."); dots != std::string::npos) {
        std::string first, last;
        double high = number_with_unit(text.substr(dots + 2), argument.unit, last, argument.name);
        double low = number_with_unit(text.substr(0, dots), last, first, argument.name);
        check(first), check(last);
        v.unit = last;
        v.range = true;
        for (int i = 0; i < points; ++i) v.si.push_back(low + (high - low) * i / (points - 1));
        return v;
    }
    for (std::size_t from = 0; from <= text.size();) {
        std::size_t comma = std::min(text.find(',', from), text.size());
        v.si.push_back(number_with_unit(text.substr(from, comma - from), argument.unit, v.unit, argument.name));
        check(v.unit);
        from = comma + 1;
    }
    return v;
}

int run_list(const Options& o)
{
    auto entries = netloop::FluidProperty::list(o.fluid, o.file);
    std::size_t width = 0, kind = 0;
    for (const auto& e : entries) width = std::max(width, e.name.size()), kind = std::max(kind, e.kind.size());
    for (const auto& e : entries) fmt::print("{:<{}}  {:<{}}  {}\n", e.name, width, e.kind, kind, e.summary);
    return 0;
}

int run_property(const Options& o, const std::vector<std::string>& rest)
{
    if (o.function.empty()) return run_list(o);
    if (o.points < 2 || o.points > 100000) throw netloop::UsageError(fmt::format("--points {}: from 2 to 100000", o.points));
    netloop::FluidProperty property(o.fluid, o.function, o.file);
    const auto& arguments = property.arguments();
    std::vector<Values> given(arguments.size());
    for (std::size_t i = 0; i < rest.size(); ++i) {
        std::string name = rest[i].starts_with("--") ? rest[i].substr(2) : "", value;
        std::size_t equals = name.find('=');
        if (equals != std::string::npos)
            value = name.substr(equals + 1), name.resize(equals);
        else if (i + 1 < rest.size())
            value = rest[++i];
        std::size_t k = 0;
        while (k < arguments.size() && arguments[k].name != name) ++k;
        if (name.empty() || value.empty() || k == arguments.size()) {
            std::string list;
            for (const auto& a : arguments) list += fmt::format("{}--{} [{}]", list.empty() ? "" : ", ", a.name, a.unit);
            throw netloop::UsageError(fmt::format("'{}': '{}' takes {}, each with a value", rest[equals == std::string::npos && !value.empty() ? i - 1 : i],
                                                  o.function, list.empty() ? "no arguments" : list));
        }
        given[k] = read_values(value, arguments[k], o.points);
    }
    for (std::size_t k = 0; k < arguments.size(); ++k) {
        if (!given[k].si.empty()) continue;
        if (arguments[k].name == "p")
            given[k] = {"bar", {101325}, false};
        else if (arguments[k].name == "T")
            given[k] = {"degC", {293.15}, false};
        else
            throw netloop::UsageError(
                fmt::format("give --{} in [{}], as one value or a range: --{} a..b", arguments[k].name, arguments[k].unit, arguments[k].name));
    }
    // rows run over the first range (else the first list), columns over one more
    std::vector<std::size_t> many;
    for (std::size_t k = 0; k < given.size(); ++k)
        if (given[k].si.size() > 1) many.push_back(k);
    std::stable_sort(many.begin(), many.end(), [&](std::size_t a, std::size_t b) { return given[a].range > given[b].range; });
    if (many.size() > 2) throw netloop::UsageError("at most two arguments can have several values: one for the rows, one for the columns");
    std::size_t row = many.empty() ? given.size() : many[0], column = many.size() > 1 ? many[1] : given.size();
    if (!o.plot.empty() && row == given.size()) throw netloop::UsageError("a figure needs a range: for example --T 250K..1500K");
    std::string unit = o.unit.empty() ? property.unit() : o.unit;
    auto make_table = [&](const std::vector<double>& rows) {
        netloop::Recording table;
        table.system = o.fluid;
        std::vector<double> counted;
        for (std::size_t r = 0; r < rows.size(); ++r) counted.push_back(static_cast<double>(r));
        table.columns.push_back(column_in("time", "s", "s", counted));
        if (row < given.size()) table.columns.push_back(column_in(arguments[row].name, arguments[row].unit, given[row].unit, rows));
        std::size_t n_columns = column < given.size() ? given[column].si.size() : 1;
        for (std::size_t c = 0; c < n_columns; ++c) {
            std::vector<double> values;
            for (double at_row : rows) {
                std::vector<double> at;
                for (std::size_t k = 0; k < given.size(); ++k) at.push_back(k == row ? at_row : given[k].si[k == column ? c : 0]);
                values.push_back(property(at));
            }
            std::string name = o.function;
            if (column < given.size())
                name = fmt::format("{} = {:.6g} {}", arguments[column].name, shown(given[column].si[c], given[column].unit), given[column].unit);
            table.columns.push_back(column_in(name, property.unit(), unit, std::move(values)));
        }
        return table;
    };
    netloop::Recording table = make_table(row < given.size() ? given[row].si : std::vector<double>{0});
    std::size_t n_rows = table.n_rows();
    std::string fixed;
    for (std::size_t k = 0; k < given.size(); ++k)
        if (k != row && k != column)
            fixed += fmt::format(", {} = {:.6g} {}", arguments[k].name, shown(given[k].si[0], given[k].unit), given[k].unit == "1" ? "" : given[k].unit);
    fmt::print("{}.{}{}\n", o.fluid, o.function, fixed);
    if (!property.text().empty()) fmt::print("{}\n", property.text());
    std::vector<std::string> head;
    for (std::size_t c = 1; c < table.columns.size(); ++c) head.push_back(fmt::format("{} [{}]", table.columns[c].name, table.columns[c].unit));
    fmt::print("\n");
    for (const std::string& h : head) fmt::print("{:>{}}", h, std::max<std::size_t>(h.size(), 12) + 2);
    fmt::print("\n");
    for (std::size_t r = 0; r < n_rows; ++r) {
        for (std::size_t c = 1; c < table.columns.size(); ++c) {
            const netloop::Column& col = table.columns[c];
            double v = (col.values[r] - col.offset) / col.scale;
            fmt::print("{:>{}}", std::isnan(v) ? std::string("-") : fmt::format("{:.6g}", v), std::max<std::size_t>(head[c - 1].size(), 12) + 2);
        }
        fmt::print("\n");
    }
    if (!o.plot.empty()) {
        netloop::PlotRequest request;
        for (std::size_t c = 2; c < table.columns.size(); ++c) request.quantities.push_back(table.columns[c].name);
        request.against = table.columns[1].name;
        request.title = fmt::format("{} of {}{}", o.function, o.fluid, fixed);
        request.out = o.plot;
        // a curve is smooth only with more points than a table is read with
        std::vector<double> fine = given[row].si;
        constexpr std::size_t kSmooth = 401;
        if (given[row].range && fine.size() < kSmooth) {
            double low = fine.front(), high = fine.back();
            fine.clear();
            for (std::size_t i = 0; i < kSmooth; ++i) fine.push_back(low + (high - low) * static_cast<double>(i) / (kSmooth - 1));
        }
        netloop::plot({make_table(fine)}, {o.fluid}, request);
        fmt::print("\n{}\n", o.plot);
    }
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

// SPDX-License-Identifier: Apache-2.0
#include "netloop/units.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "netloop/error.hpp"
#include "netloop/quantity.hpp"
#include "units/unit.hpp"

namespace netloop {
namespace {

std::string in_small_letters(std::string text)
{
    for (char& c : text) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    return text;
}

// What a quantity's values are in: angles are plain numbers to the checks of dimensions, but not to a reader.
std::string si_of(const Unit& unit, const std::string& quantity)
{
    if (quantity == "angle") return "rad";
    if (quantity == "angular speed") return "rad/s";
    if (quantity == "solid angle") return "sr";
    if (quantity == "frequency") return "Hz";
    return unit.dimension.text();
}

UnitEntry entry_of(const NamedUnit& row)
{
    return {row.unit.text, row.quantity, si_of(row.unit, row.quantity), row.unit.scale, row.unit.offset, row.prefixes, row.says};
}

// The quantity of the list that a unit made of others is of; empty: none.
std::string quantity_of(const Unit& unit)
{
    for (const NamedUnit& row : named_units())
        if (row.unit.dimension == unit.dimension && !unit.dimension.dimensionless()) return row.quantity;
    return {};
}

}  // namespace

std::vector<UnitEntry> units(const std::string& search)
{
    std::vector<UnitEntry> found;
    Unit unit;
    UnitProblem problem;
    const bool is_unit = !search.empty() && parse_unit(search, unit, problem);
    if (is_unit) {
        auto listed = std::find_if(named_units().begin(), named_units().end(), [&](const NamedUnit& row) { return row.unit.text == search; });
        const bool plain = unit.dimension.dimensionless();
        std::string quantity = listed != named_units().end() ? listed->quantity : quantity_of(unit);
        found.push_back(listed != named_units().end() ? entry_of(*listed)
                                                      : UnitEntry{search, quantity, si_of(unit, quantity), unit.scale, unit.offset, false, ""});
        for (const NamedUnit& row : named_units())
            if (row.unit.dimension == unit.dimension && row.unit.text != search && (!plain || quantity == row.quantity)) found.push_back(entry_of(row));
        return found;
    }
    const std::string wanted = in_small_letters(search);
    auto holds = [&](const std::string& text) { return in_small_letters(text).find(wanted) != std::string::npos; };
    for (const NamedUnit& row : named_units())
        if (holds(row.quantity) || holds(row.says)) found.push_back(entry_of(row));
    // a part of a name, unless it is another spelling of a unit
    if (found.empty() && problem.hint.empty())
        for (const NamedUnit& row : named_units())
            if (holds(row.unit.text)) found.push_back(entry_of(row));
    if (found.empty()) throw UsageError(fmt::format("no unit is or is for '{}'{}", search, problem.hint.empty() ? "" : "; " + problem.hint));
    return found;
}

std::string units_page()
{
    std::string out =
        "# Units\n\nMade by `netloop units --markdown`.\n\nThe names are a closed list; SI prefixes (q r y z a f p n u m c d da h k M G T P E Z Y R Q) stand "
        "before those that are marked so. Units are joined by `*`, `/` and "
        "`^`, with no space between: `L/min`, `kg*m^2`, `W/(m^2*K)`, `Pa^0.5`. `netloop units pressure` and `netloop units kN*m` search the list. A spelling "
        "that is usual elsewhere (`Nm`, `m3/h`, `lpm`, `bara`, `µm`) is "
        "answered with the one of this list.\n";
    std::string last;
    for (const UnitEntry& u : units()) {
        if (u.quantity != last)
            out += fmt::format("\n## {}{}\n\n| unit | in SI | prefixes | |\n| --- | --- | --- | --- |\n",
                               static_cast<char>(std::toupper(static_cast<unsigned char>(u.quantity[0]))), u.quantity.substr(1));
        last = u.quantity;
        out += fmt::format("| `{}` | {:.10g} {}{} | {} | {} |\n", u.name, u.scale, u.si,
                           u.offset != 0 ? fmt::format(", its 0 at {:.10g} {}", u.offset, u.si) : "", u.prefixes ? "all" : "", u.text);
    }
    return out;
}

double Quantity::si() const
{
    if (unit.empty()) return value;
    Unit parsed;
    UnitProblem problem;
    if (!parse_unit(unit, parsed, problem)) throw UsageError(fmt::format("{}{}", problem.text, problem.hint.empty() ? "" : "; " + problem.hint));
    return parsed.to_si(value);
}

}  // namespace netloop

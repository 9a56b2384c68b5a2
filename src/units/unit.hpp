// SPDX-License-Identifier: Apache-2.0
// Units as conversions at the edge: a written unit gives a dimension, a scale and an offset to SI.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "units/dimension.hpp"

namespace netloop {

/// si = value * scale + offset. `text` is as written, for display.
struct Unit {
    Dimension dimension;
    double scale = 1;
    double offset = 0;
    bool has_offset = false;  ///< degC, degF, barg, psig standing alone
    std::string text = "1";

    double to_si(double value) const { return value * scale + offset; }
    double from_si(double si) const { return (si - offset) / scale; }
    /// The unit in which a difference of two such quantities is shown: K for degC, bar for barg.
    Unit difference() const;
    /// The unit in which a rate of change of such a quantity is shown: deg/s for deg, m/s^2 for m/s, K/s for degC, s^-1 for numbers.
    Unit rate() const;
};

/// Why a written unit was not understood; `begin..end` is the faulty part of the text.
struct UnitProblem {
    std::string text;
    std::string hint;
    std::size_t begin = 0;
    std::size_t end = 0;
};

/// Whether a name stands for a unit that each use of a component settles (`unit of_measured`): all such names begin with of_.
bool is_open_unit(std::string_view name);

/// Reads "cm^3/rev", "J/(kg*K)", "1/K", "Pa^0.5", "%". Names come from a closed list; their scale and offset were taken
/// from UDUNITS-2 when the program was built (generate_unit_table.cpp), so this needs no lock and no file at run time. `open`: names of
/// open units are taken, too.
bool parse_unit(std::string_view text, Unit& unit, UnitProblem& problem, bool open = false);

/// One name of the list, for tables of them.
struct NamedUnit {
    Unit unit;
    const char* quantity;  ///< what it is used for: "pressure"
    bool prefixes;         ///< whether all SI prefixes may stand before it
    const char* says;      ///< "absolute"; may be empty
};
/// The list, in its order, by quantity.
const std::vector<NamedUnit>& named_units();
/// A name of the list, or one that an SI prefix makes of it.
bool is_unit_name(std::string_view name);
/// What to write for a name that is none, as a sentence: the trade's other spellings ("Nm", "m3", "lpm", "bara"), products without a sign, other cases of
/// letters, near names. Empty: nothing helps.
std::string unit_hint(std::string_view name);

/// A display unit for a dimension when none was written ("rad" and "1" cannot be told apart: gives "1").
Unit si_unit(const Dimension& dimension);

}  // namespace netloop

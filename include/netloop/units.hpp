// SPDX-License-Identifier: Apache-2.0
// The units that models, scenarios and programs are written in.
#pragma once

#include <string>
#include <vector>

namespace netloop {

/// A unit: SI value = value * scale + offset.
struct UnitEntry {
    std::string name;      ///< "bar"
    std::string quantity;  ///< what it is used for: "pressure"
    std::string si;        ///< the SI unit that `scale` and `offset` lead to: "Pa"
    double scale = 1;
    double offset = 0;      ///< not 0 for those with a zero of their own: degC, barg
    bool prefixes = false;  ///< all SI prefixes may stand before it: kPa, uPa
    std::string text;       ///< a word on it: "gauge: above 1.01325 bar"; may be empty
};

/// All units, by quantity; with `search` those whose name, quantity or text holds it ("pressure"), or, where it is a unit itself ("kN*m", "l/min"), that unit
/// first and then all of its dimension. Throws UsageError where nothing fits, with what may have been meant. Any thread; some 100 us.
std::vector<UnitEntry> units(const std::string& search = {});

/// The same list as a page in Markdown: docs/units.md.
std::string units_page();

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// How the values of a study's columns are shown: in their units, under their headings.
#pragma once

#include <string>

#include "netloop/store.hpp"

namespace netloop {

/// Whether its values are numbers with a unit: no words, no conditions.
inline bool has_unit(const StudyColumn& c)
{
    return c.levels.empty() && !c.unit.empty() && c.unit != "1" && c.unit != "bool";
}
/// "peak [bar]".
inline std::string heading(const StudyColumn& c)
{
    return has_unit(c) ? c.name + " [" + c.unit + "]" : c.name;
}
/// A number in its unit; the number of a level and a condition stay as they are.
inline double in_unit(const StudyColumn& c, double si)
{
    return c.levels.empty() && c.kind != StudyColumn::Kind::demand ? (si - c.offset) / c.scale : si;
}

}  // namespace netloop

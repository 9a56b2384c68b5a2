// SPDX-License-Identifier: Apache-2.0
// What of a system can be drawn moving: from the `## Picture:` lines of its parts.
#pragma once

#include <string>
#include <variant>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

/// "bar a b" of part "boom": a bar from (boom.a.x, boom.a.y) to (boom.b.x, boom.b.y).
struct Shape {
    using Coordinate = std::variant<double, std::string>;  ///< a number (m), or the name of a recorded column
    std::string part;
    std::string shape;                            ///< ground, link, bar, cylinder, spring, body, pivot, slider, level
    std::vector<std::vector<Coordinate>> points;  ///< x and y of each place; of a level its height alone
    double shortest = 0;                          ///< of a cylinder: the least distance of its ends in the run
};

/// Those whose places were recorded; `left_out` gets a line for each of the others. A place is the name of a port or part with x and y, or "(x,y)" with names
/// of quantities or numbers in m.
std::vector<Shape> shapes_of(const Recording& recording, std::vector<std::string>& left_out);

}  // namespace netloop

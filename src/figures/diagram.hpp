// SPDX-License-Identifier: Apache-2.0
// Diagrams of systems and components from their text, laid out by graphviz.
#pragma once

#include <string>
#include <vector>

#include "netloop/library.hpp"

namespace netloop {

struct DiagramRequest {
    std::string name{};               ///< of the system or component: "Bridge", "hydraulics.Cylinder"
    std::vector<std::string> open{};  ///< paths of parts to show from inside, '*' for all of the first level
    std::string out{};                ///< .svg, .png, .pdf, or .dot for the description itself
    bool values = true;               ///< values that parts are given
};

/// Parts as boxes with name, type and values given; joints as lines told apart by colour, line and a written tag of their domain; signals as grey
/// arrows; own ports as small rings. Throws UsageError for an unknown name, RecordingError if the file cannot be written.
void draw_diagram(const Library& library, const DiagramRequest& request);
/// The description that graphviz lays out.
std::string diagram_text(const Library& library, const DiagramRequest& request);

}  // namespace netloop

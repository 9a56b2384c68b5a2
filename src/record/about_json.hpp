// SPDX-License-Identifier: Apache-2.0
// What a recording says besides its numbers, as JSON text: the form in which HDF5 files keep it.
#pragma once

#include <string>

#include "record/writer.hpp"

namespace netloop {

/// Known before the first row: program, model text, params, figures.
std::string about_text(const RunOrigin& origin, const std::vector<FigureRequest>& figures);
/// Known at the end: measures, demands, what the start assumed.
std::string results_text(const RunResults& results);
/// The ways back; what is not there or not understood is left empty.
void read_about(const std::string& text, Recording& recording);
void read_results(const std::string& text, Recording& recording);

}  // namespace netloop

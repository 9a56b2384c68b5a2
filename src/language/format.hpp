// SPDX-License-Identifier: Apache-2.0
// One layout for all .loop files.
#pragma once

#include <string>

#include "base/diagnostics.hpp"

namespace netloop {

/// The text of a file laid out: four blanks a level, one blank around operators that stand alone, at most one empty line, declarations, signals and comments
/// that follow each other in columns. Lines stay lines and comments stay; tokens are not changed, and blanks that mean something (in units) are kept, so the
/// text means the same: this is looked at before it is given back. Laid out once more, nothing changes. Problems of the text's tokens are reported, then the
/// text comes back as it was.
std::string formatted(const SourceSet& sources, std::uint32_t file, Diagnostics& diagnostics);

}  // namespace netloop

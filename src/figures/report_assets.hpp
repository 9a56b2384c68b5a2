// SPDX-License-Identifier: Apache-2.0
// The page's script and style, taken into the program when it is built (src/figures/report/).
#pragma once

#include <string>

namespace netloop {

extern const char* const kReportScript;
extern const char* const kReportStyle;
/// The same of the page of a study (src/figures/study/).
extern const char* const kStudyScript;
extern const char* const kStudyStyle;

/// A script or style of another project, from the folder where Debian installs them (`folder` empty) or another, fit to stand within a page. Throws
/// RecordingError that names the package.
std::string installed_script(const std::string& folder, const std::string& name, const std::string& package);

}  // namespace netloop

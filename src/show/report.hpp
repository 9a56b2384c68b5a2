// A report of one or several runs: one HTML file that needs nothing else.
#pragma once

#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

struct ReportRequest {
    std::string out;       ///< .html
    std::string title;     ///< empty: system and scenario
    double megabytes = 3;  ///< the file's size: curves are thinned until it fits, and the page says by how much
    std::string scripts;   ///< folder of the scripts that the page takes in; empty: where Debian installs them
};

/// Model text and diagram, parameters, assumptions, measures and demands, figures, all quantities to choose from, events, a moving picture. Everything is read
/// from the recordings, which are laid over each other by `names`. Throws RecordingError if a file cannot be read or written, or a script is not installed.
void write_report(std::vector<Recording> recordings, const std::vector<std::string>& names, const ReportRequest& request);

}  // namespace netloop

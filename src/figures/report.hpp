// SPDX-License-Identifier: Apache-2.0
// A report of one or several runs: one HTML file that needs nothing else.
#pragma once

#include <string>
#include <vector>

#include "netloop/modes.hpp"
#include "netloop/recording.hpp"

namespace netloop {

struct ReportRequest {
    std::string out;                    ///< .html, or - for standard output
    std::string title;                  ///< empty: system and scenario
    double megabytes = 3;               ///< the file's size: curves are thinned until it fits, and the page says by how much
    std::string scripts;                ///< folder of the scripts that the page takes in; empty: where Debian installs them
    std::vector<std::string> inputs{};  ///< files that the recordings were read from: never written over
    std::vector<Modes> modes{};         ///< of the first of the runs, at points along it; empty: the page has no section of them
    std::string advice{};               ///< what Advice::json() gave for it; empty: none
};

/// Model text and diagram, parameters, assumptions, measures and demands, figures, all quantities to choose from, events, a moving picture, modes and advice
/// where they are given. All else is read from the recordings, which are laid over each other by `names`. Gives the bytes of the page. Throws RecordingError if
/// a file cannot be read or written, or a script is not installed; UsageError for what is no advice.
std::size_t write_report(std::vector<Recording> recordings, const std::vector<std::string>& names, const ReportRequest& request);

}  // namespace netloop

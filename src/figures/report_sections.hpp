// SPDX-License-Identifier: Apache-2.0
// The sections of a report's page, as HTML, in the order of the page. What moves in them is the page's script (src/figures/report/).
#pragma once

#include <string>
#include <vector>

#include "netloop/library.hpp"
#include "netloop/modes.hpp"
#include "netloop/recording.hpp"

namespace netloop {

/// What the sections tell of.
struct ReportContent {
    std::vector<Recording> runs;          ///< with their numbers; at least one
    std::vector<std::string> names;       ///< one a run
    std::vector<MeasureResult> measures;  ///< of all runs, each name once
    std::string title;
    const Library* library = nullptr;  ///< the texts that the first run was made from, and the shipped ones
    std::string diagram;               ///< SVG; empty: none could be drawn, `no_diagram` says why
    std::string no_diagram;
    std::vector<Modes> modes;   ///< of the first run; may be empty
    std::string modes_picture;  ///< SVG
    std::size_t shown = 0;      ///< which of them is told in detail
    std::string advice;         ///< JSON of the first run's; empty: none
    bool several() const { return runs.size() > 1; }
};

std::string header_section(const ReportContent& page);  ///< title, runs, the bar that stays on top
std::string summary_section(const ReportContent& page);
std::string figures_section(const ReportContent& page);
std::string picker_section();
std::string motion_section(const ReportContent& page);    ///< empty if nothing can be drawn
std::string variants_section(const ReportContent& page);  ///< empty for a single run
std::string events_section(const ReportContent& page);
std::string cost_section(const ReportContent& page);    ///< empty where no recording tells it
std::string modes_section(const ReportContent& page);   ///< empty where none are given
std::string advice_section(const ReportContent& page);  ///< likewise; throws UsageError for a text that is no advice
std::string parameters_section(const ReportContent& page);
std::string assumptions_section(const ReportContent& page);
std::string model_section(const ReportContent& page);

}  // namespace netloop

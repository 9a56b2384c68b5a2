// SPDX-License-Identifier: Apache-2.0
// One thread's runs of a study.
#pragma once

#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "study/study_data.hpp"

namespace netloop {

/// One thread at a time. Each run is one of its own: what a run before was given does not stay.
class CaseRunner {
public:
    CaseRunner(const StudyData& study, std::optional<double> limit, const std::atomic<bool>* interrupt, std::string worker)
        : study_(study), limit_(limit), interrupt_(interrupt), worker_(std::move(worker))
    {
    }
    /// Run i of the plan. None: it was interrupted. What goes wrong with it is in the row. `out`: a file to record to; empty: none.
    std::optional<StudyRow> run(std::size_t i, const std::string& out = {});
    /// Of the last run.
    const RunSummary& summary() const { return summary_; }

private:
    void take_results(StudyRow& row) const;

    const StudyData& study_;
    std::optional<double> limit_;
    const std::atomic<bool>* interrupt_;
    std::string worker_;
    RunSummary summary_;
    std::vector<ParamId> params_;
    std::vector<double> si_;
};

/// Whether a row is one that the rule "those that fail" keeps: it has no end, or does not meet a demand.
bool is_failing(const StudyData& study, const StudyRow& row);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "study/case_runner.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>

#include "base/interrupt.hpp"
#include "study/threads.hpp"

namespace netloop {
namespace {
std::string first_line_of(const std::string& text)
{
    return text.substr(0, text.find('\n'));
}
}  // namespace

void CaseRunner::take_results(StudyRow& row) const
{
    std::size_t n = study_.factors.size();
    for (std::size_t c = 0; c < study_.collected.size(); ++c) {
        const Collected& what = study_.collected[c];
        double& to = row.values[n + c];
        for (const MeasureResult& m : summary_.measures)
            if (!what.demand && m.name == what.name) to = m.value;
        for (const DemandResult& d : summary_.demands)
            if (what.demand && d.condition == what.name) to = d.holds ? 1 : 0;
    }
}

std::optional<StudyRow> CaseRunner::run(std::size_t i, const std::string& out)
{
    InterruptScope scope(interrupt_);
    auto begun = std::chrono::steady_clock::now();
    std::vector<double> point = study_.point(i);
    StudyRow row;
    row.run = static_cast<std::int64_t>(i);
    row.worker = worker_;
    row.values = study_.shown(point);
    row.values.resize(study_.columns.size(), std::nan(""));
    row.status = "failed";
    summary_ = {};
    std::unique_ptr<Run> run;
    try {
        Structure& s = study_.structure_at(point);
        if (!s.system) {
            row.id = s.id;
            row.reason = first_line_of(s.error);
        } else {
            run = std::make_unique<Run>(*s.system);
            study_.settings_at(s, point, params_, si_);
            run->set(params_, si_);
            if (s.base != nullptr) run->search_from(*s.base);
            RunOptions options;
            options.in_memory = false;
            options.out = out;
            if (out.empty()) options.output_every = s.system->stop();  // rows that nobody keeps cost, and change nothing
            options.time_limit = limit_;
            options.interrupt = interrupt_;
            run->simulate(options);
            summary_ = run->summary();
            if (summary_.complete) {
                row.status = "done";
                take_results(row);
            } else if (interrupt_asked()) {
                return std::nullopt;
            } else {
                row.status = limit_ && summary_.reason.find("time limit") != std::string::npos ? "limit" : "failed";
                row.id = row.status == "limit" ? "time-limit" : "run-failed";
                row.reason = first_line_of(summary_.reason);
            }
        }
    } catch (const Interrupted&) {
        return std::nullopt;
    } catch (const Error& error) {
        if (interrupt_asked()) return std::nullopt;
        row.id = error.id();
        row.reason = first_line_of(error.what());
        if (run != nullptr) summary_ = run->summary();
    }
    row.steps = static_cast<std::int64_t>(summary_.steps);
    row.recording = summary_.recorded;
    row.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
    return row;
}

bool is_failing(const StudyData& study, const StudyRow& row)
{
    if (row.status != "done") return true;
    for (std::size_t c = 0; c < study.collected.size(); ++c)
        if (study.collected[c].demand && row.values[study.factors.size() + c] == 0) return true;
    return false;
}

void run_all(const CompiledSystem& system, std::span<const ParamId> params, std::span<const double> cases, const RunAllOptions& options,
             const std::function<void(const CaseResult&)>& sink)
{
    if (params.empty() || cases.size() % params.size() != 0)
        throw UsageError("the cases are as many numbers as there are params, for each of them one after the other");
    std::size_t n = cases.size() / params.size();
    std::unique_ptr<Run> base;
    if (options.warm_start) try {
            base = std::make_unique<Run>(system);
            base->step_to(0);
        } catch (const RunError&) {
            base.reset();  // each searches by itself
        }
    std::mutex telling;
    parallel_for(n, options.jobs, [&](std::size_t i) {
        InterruptScope scope(options.interrupt);
        if (interrupt_asked()) return;
        Run run(system);
        CaseResult result;
        result.index = i;
        RunOptions how = options.run;
        how.out.clear();
        how.in_memory = false;
        how.interrupt = options.interrupt;
        try {
            run.set(params, cases.subspan(i * params.size(), params.size()));
            if (base != nullptr) run.search_from(*base);
            run.simulate(how);
            if (!run.summary().complete) result.id = "run-failed", result.error = run.summary().reason;
        } catch (const Interrupted&) {
            return;
        } catch (const Error& error) {
            result.id = error.id(), result.error = error.what();
        }
        if (interrupt_asked()) return;
        result.summary = &run.summary();
        std::lock_guard lock(telling);
        sink(result);
    });
}

}  // namespace netloop

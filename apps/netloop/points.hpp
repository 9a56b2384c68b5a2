// SPDX-License-Identifier: Apache-2.0
// Points of runs for the commands that look at them: of a model, or of a recording, whose run is repeated up to there.
#pragma once

#include <memory>
#include <optional>

#include "commands.hpp"

struct PointOptions {
    std::string file, scenario, system;
    std::vector<std::string> set;
};
void add_point_options(CLI::App& app, PointOptions& o);

class PointSource {
public:
    /// `signals`: paths that shall act, as far as they are signals or inputs of the system. Throws what compiling throws.
    PointSource(const PointOptions& options, const std::vector<std::string>& signals);

    const netloop::CompiledSystem& system() const { return *system_; }
    const netloop::Library& library() const { return library_; }
    const netloop::CompileRequest& request() const { return request_; }
    /// Gives a run of this system, or of one that differs from it in structure, the values that the recording had.
    void prepare(netloop::Run& run, const netloop::CompiledSystem& system) const;
    /// A new run with the values that the recording had.
    netloop::Run run() const;
    netloop::RunOptions options() const { return options_; }
    /// Brings a run to a time; what a recording has there is held against it, and a difference told.
    void bring(netloop::Run& run, double time) const;
    /// The same without a comparison, for a run that goes along: false where it does not get there. From the nearest point that the recording keeps, if it lies
    /// on the way.
    bool go_to(netloop::Run& run, double time) const;
    /// When the run ends: the scenario's or the recording's stop time.
    std::optional<double> stop() const { return stop_; }
    bool recorded() const { return recording_.has_value(); }

private:
    netloop::Library library_;
    netloop::CompileRequest request_;
    std::optional<netloop::CompiledSystem> system_;
    std::optional<netloop::Recording> recording_;
    bool changed_ = false;                                ///< other values than the recorded run's are asked for: nothing to compare with
    std::vector<std::pair<std::string, double>> params_;  ///< SI, that a program gave the recorded run
    netloop::RunOptions options_;
    std::optional<double> stop_;
};

// SPDX-License-Identifier: Apache-2.0
// What the public classes hold inside; shared by the files of this folder.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <mutex>

#include "analyse/added_signals.hpp"
#include "evaluate/compiled_model.hpp"
#include "model/scenario.hpp"
#include "netloop/run.hpp"
#include "netloop/system.hpp"
#include "solve/error_sizes.hpp"
#include "solve/evaluation.hpp"

namespace netloop {

/// Never changes once compiled; nothing of it is the library's.
/// Programs that work out some of the outputs alone: those that a run keeps. Made when a run keeps them first. Shared by threads.
struct KeptOutputs {
    std::mutex lock;
    std::map<std::vector<std::size_t>, std::shared_ptr<const Program>> made;
    /// Null where all outputs cost hardly more.
    std::shared_ptr<const Program> get(const CompiledModel& model, const std::vector<std::size_t>& outputs);
};

struct CompiledSystemData {
    SourceSet sources;                                            ///< as they were when it was compiled, for messages
    std::vector<ModelText> texts;                                 ///< what recordings tell of the model
    std::string text_hash;                                        ///< of `texts`, and of tables too large to be among them
    std::vector<std::string> files_read;                          ///< what must not be written over
    std::vector<std::pair<std::string, std::string>> settings{};  ///< CompileRequest::set
    std::vector<std::string> linear_inputs{};                     ///< CompileRequest::linear_inputs
    std::vector<std::string> from_outside{};                      ///< CompileRequest::from_outside
    std::vector<AddedSignal> added{};                             ///< for each of them
    std::shared_ptr<const CompiledModel> model;
    std::shared_ptr<KeptOutputs> kept = std::make_shared<KeptOutputs>();
    std::string name, scenario;
    std::vector<Diagnostic> notes;
    std::optional<double> stop, output_every, output_points, tolerance;
    std::vector<OwnTolerance> tolerances;
    std::vector<double> output_at;
    std::vector<std::string> keep;
    std::vector<FigureRequest> figures;
    std::string doc;                 ///< `##` text of the scenario
    std::string folder;              ///< of the file that says so
    std::string begin_from;          ///< a recording whose state the run begins from; empty: none
    std::optional<double> begin_at;  ///< s, in that recording; none: its end
    std::size_t n_flat_equations = 0;
    std::vector<NodeId> asked{};  ///< of ScenarioPlan::asked, in the graph of the flat model
};

/// The measures and demands of a run that is over, its accumulators having put their results into their memories.
void take_measures(Evaluation& evaluation, const SourceSet& sources, RunSummary& summary);

struct LibraryAccess {
    static std::shared_ptr<LibrarySet> set(const Library& library) { return library.set_; }
};

struct SystemAccess {
    static std::shared_ptr<const CompiledSystemData> data(const CompiledSystem& system) { return system.data_; }
};

/// The param of this path (`external_only`: it must be an input of the system). Throws UsageError.
ParameterId find_parameter(const CompiledSystemData& system, const std::string& path, bool external_only);
std::optional<OutputId> output_named(const CompiledSystemData& system, const std::string& path);
UsageError unknown_output(const CompiledSystemData& system, const std::string& path);
/// Of this program: "0.5.0".
std::string program_version();
/// "160 bar", "no number", "inf K".
std::string si_text(const Unit& unit, double si);

/// The `##` text of a function of a fluid or component: its own, else that of the announcement which it fills in.
std::string function_text(const ComponentInfo& info, const std::string& name);

/// Diagnostics for the outside.
Diagnostic export_diagnostic(const SourceDiagnostic& diagnostic, const SourceSet& sources);
std::vector<Diagnostic> export_diagnostics(const Diagnostics& diagnostics, const SourceSet& sources);
/// Throws ModelError, with all of them, if there is an error among them.
void throw_errors(const Diagnostics& diagnostics, const SourceSet& sources);
/// The same of the work at hand.
void throw_errors(const LibrarySet& set);

/// Plans, checks and compiles; shared by files and builders. `make_plan` is called within a LibraryWork.
using PlanMaker = std::function<ScenarioPlan(LibrarySet& set)>;
CompiledSystem compile_plan(const Library& library, const PlanMaker& make_plan, const CompileRequest& request);
/// Up to the flat model only. `plan` is checked, and takes what the check found.
std::unique_ptr<FlatModel> flatten_plan(LibrarySet& set, ScenarioPlan& plan, CompiledSystemData& data, bool strict);

}  // namespace netloop

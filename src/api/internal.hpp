// SPDX-License-Identifier: Apache-2.0
// What the public classes hold inside; shared by the files of this folder.
#pragma once

#include <memory>

#include "evaluate/compiled_model.hpp"
#include "model/scenario.hpp"
#include "netloop/run.hpp"
#include "netloop/system.hpp"
#include "solve/error_sizes.hpp"

namespace netloop {

struct CompiledSystemData {
    std::shared_ptr<LibrarySet> set;  ///< keeps sources and syntax alive for messages
    std::shared_ptr<const CompiledModel> model;
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
};

class Simulation;
/// Works out the measures and demands of a run that is over.
void take_measures(Simulation& simulation, const SourceSet& sources, RunSummary& summary);

struct LibraryAccess {
    static std::shared_ptr<LibrarySet> set(const Library& library) { return library.set_; }
};

/// The `##` text of a function of a fluid or component: its own, else that of the announcement which it fills in.
std::string function_text(const ComponentInfo& info, const std::string& name);

/// Diagnostics from number `from` on, for the outside.
Diagnostic export_diagnostic(const SourceDiagnostic& diagnostic, const SourceSet& sources);
std::vector<Diagnostic> export_diagnostics(const LibrarySet& set, std::size_t from = 0);
/// Throws ModelError if there is an error among the diagnostics from number `from` on.
void throw_errors(const LibrarySet& set, std::size_t from);

/// Plans, checks and compiles; shared by files and builders.
CompiledSystem compile_plan(const Library& library, ScenarioPlan plan, bool strict, std::size_t diagnostics_from);
/// Up to the flat model only.
std::unique_ptr<FlatModel> flatten_plan(LibrarySet& set, ScenarioPlan plan, CompiledSystemData& data, bool strict, std::size_t from);

}  // namespace netloop

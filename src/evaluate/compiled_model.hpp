// SPDX-License-Identifier: Apache-2.0
// A compiled system: everything a run needs, immutable, shared between threads.
#pragma once

#include <memory>
#include <optional>

#include <map>
#include <mutex>

#include "compile/solver_form.hpp"
#include "compile/variants.hpp"
#include "evaluate/event_programs.hpp"
#include "evaluate/program.hpp"
#include "evaluate/sparse_pattern.hpp"

namespace netloop {

/// Values of some parameters: result k of the program is that of parameters[k].
struct ParameterValues {
    std::vector<ParameterId> parameters;
    Program program;
};

/// Ranges: result k is the bound of parameters[k].
struct ParameterBounds {
    std::vector<ParameterId> low, high;  ///< results: first those of `low`, then those of `high`
    Program program;
};

/// Derivatives of one start equation: column 0 .. n-1 for z, n .. 2n-1 for rates; place of each value in memory.
struct StartRow {
    std::uint32_t residual = 0;  ///< place of left - right
    std::uint32_t left = 0, right = 0;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> entries;
};

/// Where the entries of one link of a SolverChoice lie in the pattern: for each candidate and each order below its highest, that of
/// the rate (dF/dz') and that of the derivative it may be linked to (dF/dz).
struct LinkEntries {
    std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> of;
};

struct VariantFamily;
struct CarefulModel;
struct SlidingModels;

struct CompiledModel {
    SolverForm form;
    /// Of a system that has others beside it for other values of its structural switches: theirs here, all of them, and what its own
    /// constraints do to the motion when it takes over.
    std::shared_ptr<VariantFamily> family;  ///< of the first of them, which owns it
    std::vector<char> key;
    Impact impact;
    MemoryLayout layout;
    std::vector<std::pair<std::uint32_t, double>> literals;
    std::vector<ParameterValues> parameters;  ///< run one after another, they settle all: each uses only those before it
    ParameterBounds bounds;
    Program prologue;
    /// What was taken as not zero, by params alone: value and size of its terms, one after another. Where a run's params make one zero, the careful model
    /// serves it.
    Program assumed;
    std::shared_ptr<CarefulModel> careful;
    /// Of a system whose equations read conditions: those that go along some of them; and of such a one, which, with the output that tells the share of each.
    std::shared_ptr<SlidingModels> sliding;
    std::vector<std::uint32_t> slides;
    std::vector<std::uint32_t> share_output;
    Program residual;
    bool fragile = false;  ///< the residuals hold roots, logarithms or powers: they may have no value between two good states
    Program jacobian;
    Program conditions;
    Program outputs;
    EventPrograms events;
    Program written;                           ///< SolverForm::written, those that are known
    std::vector<std::uint32_t> written_place;  ///< per leaf: place after `written` has run, or kNoNode
    Program choices;                           ///< the entries of all SolverChoices, one after another
    Program start;
    std::vector<StartRow> start_rows;
    Program search_start;                   ///< where the search begins for each member of z that has a place to begin
    std::vector<std::uint32_t> rate_start;  ///< per member of z: the same for its rate
    std::vector<std::uint32_t> z_start;     ///< per member of z: place of it after `search_start` has run, or kNoNode: 0
    std::vector<std::vector<std::uint32_t>>
        error_parts;                              ///< the states of each part, each cell of an array counting as one: what an error norm looks at together
    SparsePattern pattern;                        ///< of dF/dz + cj dF/dz'
    std::vector<std::uint32_t> by_z;              ///< per entry: place of dF/dz, or kNoNode
    std::vector<std::uint32_t> by_rate;           ///< per entry: place of dF/dz', or kNoNode
    std::vector<std::vector<LinkEntries>> links;  ///< per choice and link
    std::vector<std::uint32_t> output_place;      ///< per output: place in memory after `outputs` has run
    std::vector<std::uint32_t> alias_of;          ///< per output: an earlier output with the same value, or its own index

    std::size_t n() const { return form.z.size(); }
    Callables callables() const { return {form.reduced.system.graph().tables(), form.reduced.system.graph().callables()}; }
};

/// The systems for all combinations of structural switches that a run has met: made when one is met first, then kept. Shared by threads.
struct VariantFamily {
    EquationSystem base;                  ///< conditions located, switches open
    std::vector<std::uint32_t> switches;  ///< those that are structural, into FlatModel::switches
    std::vector<char> first_key;
    std::mutex lock;
    std::map<std::vector<char>, std::shared_ptr<const CompiledModel>> made;
    std::map<std::vector<char>, std::string> failed;

    /// Null, with the reason, if there is no such system. `first` is the one that owns the family.
    std::shared_ptr<const CompiledModel> get(const std::shared_ptr<const CompiledModel>& first, const std::vector<char>& key, std::string& reason);
};

/// The same system, compiled with nothing assumed: made when a run needs it first. Shared by threads.
struct CarefulModel {
    std::shared_ptr<const EquationSystem> base;  ///< conditions located
    std::mutex lock;
    std::shared_ptr<const CompiledModel> made;

    std::shared_ptr<const CompiledModel> get();
};

/// The same system where the motion goes along conditions, being driven back to them from both sides: what each chooses between is mixed, in the share that
/// holds the condition at its zero (Filippov 1988, Differential Equations with Discontinuous Righthand Sides, ch. 1). The shares are unknowns, the zeros
/// constraints, which are differentiated as any other. Made when a run needs one first. Shared by threads.
struct SlidingModels {
    std::shared_ptr<const EquationSystem> base;  ///< conditions located
    std::vector<std::uint32_t> switches;         ///< of a family: those that are structural
    std::mutex lock;
    std::map<std::pair<std::vector<char>, std::vector<std::uint32_t>>, std::shared_ptr<const CompiledModel>> made;

    /// `key`: of the system of a family; empty where there is one system. Null if there is no such system.
    std::shared_ptr<const CompiledModel> get(const std::vector<char>& key, const std::vector<std::uint32_t>& conditions);
};

/// Differentiates the residuals and lowers everything. The last step of compilation.
std::shared_ptr<CompiledModel> build_programs(SolverForm form);

/// All passes from the flat model on. Null after an error; a broken structure is explained in `diagnostics`.
std::shared_ptr<const CompiledModel> compile_model(std::unique_ptr<FlatModel> flat, Diagnostics& diagnostics);

/// The stages that can be shown: flat, system, reduced, solver, program, source; and the name of each pass, for the form behind it.
std::vector<std::string> stage_names();
/// What `check --show STAGE` prints, stopping at that stage.
std::string show_stage(std::unique_ptr<FlatModel> flat, const std::string& stage, Diagnostics& diagnostics);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Which system, with which values, for how long: a scenario and what it takes over, resolved.
#pragma once

#include <optional>

#include "model/instantiate.hpp"

namespace netloop {

struct ScenarioPlan {
    const Definition* system = nullptr;
    const Definition* scenario = nullptr;  ///< null: none
    std::vector<OutsideValue> values;
    std::vector<BodyItem> start_statements;
    const Expr* stop = nullptr;
    const Expr* output_every = nullptr;
    const Expr* output_points = nullptr;
    std::vector<const Expr*> output_at;
    const Expr* tolerance = nullptr;
    std::vector<BodyItem> tolerances;  ///< of single quantities
    const BeginItem* begin = nullptr;
    std::vector<BodyItem> finds;
    std::vector<BodyItem> measures, demands, figures;
    std::map<std::string, Unit> measure_types;  ///< display units, once checked
    std::map<const Statement*, Unit> demand_units;
    std::vector<std::string> keep;
    std::vector<std::string> rates;                                        ///< further rates to be made recordable: "leaf.angle'"
    std::shared_ptr<SyntaxArena> arena = std::make_shared<SyntaxArena>();  ///< of values given as text
    std::vector<std::shared_ptr<const KindUse>> kept_kinds;                ///< of the same, kept alive
    std::string doc;
    const FileScope* told_by = nullptr;                             ///< whose text says what is run, where that is not the scenario's
    bool all_tables = false;                                        ///< tell of large tables too
    std::vector<std::pair<const Expr*, const FileScope*>> asked{};  ///< further expressions to be made, of params; see CompiledSystemData::asked
};

/// Finds the system and scenario asked for among the loaded files. Reports what is wrong and returns none.
std::optional<ScenarioPlan> plan_scenario(LibrarySet& set, const std::string& system, const std::string& scenario, bool no_scenario);

/// Reads "path" and "value" as written on a command line and appends it to the plan's values; the unit is checked.
void add_outside_value(LibrarySet& set, ScenarioPlan& plan, const std::string& path, const std::string& value);

/// Checks the units of the plan's values, times and measures; notes the units of the latter in the plan.
void check_plan(LibrarySet& set, ScenarioPlan& plan);

}  // namespace netloop

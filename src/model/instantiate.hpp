// SPDX-License-Identifier: Apache-2.0
// Definitions to flat model. In stages: parts, options and joints; then fluids along the joints; then quantities and equations.
#pragma once

#include <map>
#include <memory>

#include "model/flat_model.hpp"
#include "model/library_set.hpp"

namespace netloop {

/// A value given from outside the system: by a scenario, the command line or a program. Later ones win over earlier ones.
struct OutsideValue {
    Path path;
    const Expr* value = nullptr;
    const FileScope* scope = nullptr;
    const KindUse* put = nullptr;  ///< instead of a value: a component for a slot
};

struct InstantiateRequest {
    const Definition* system = nullptr;
    std::vector<OutsideValue> values;
    /// `init` and `guess` statements of the scenario, with the scope in which they stand.
    std::vector<BodyItem> start_statements;
    std::vector<BodyItem> finds;             ///< `find` statements
    std::vector<const Expr*> steady_except;  ///< of `begin steady except`
    bool begin_steady = false;
    std::vector<BodyItem> measures, demands;
    std::map<std::string, Unit> measure_types;  ///< display units, by name
    std::map<const Statement*, Unit> demand_units;
    /// Expressions to be evaluated in the system (output times, stop time ...); see InstantiateResult::extra.
    std::vector<const Expr*> extra;
    const FileScope* extra_scope = nullptr;
    /// The same, each in a scope of its own: what a study asks of the system.
    std::vector<std::pair<const Expr*, const FileScope*>> asked{};
};

struct InstantiateResult {
    std::unique_ptr<FlatModel> model;  ///< null after an error
    std::vector<NodeId> extra;
    std::vector<NodeId> asked{};
};

InstantiateResult instantiate(LibrarySet& set, const InstantiateRequest& request);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Units and kinds of values, checked once per definition, before anything is instantiated.
#pragma once

#include <deque>
#include <map>
#include <optional>
#include <set>
#include <string>

#include "model/library_set.hpp"

namespace netloop {

/// What is known of an expression's value from its definition alone.
struct Type {
    enum class Kind { number, condition, choice, unknown } kind = Kind::number;
    bool known = false;  ///< the dimension is known; false for unchecked quantities
    Dimension dimension;
    bool zero = false;  ///< a bare 0, which fits any unit
    bool bare = false;  ///< a number without a unit
    std::optional<Unit> unit;

    static Type unknown() { return {Kind::unknown, false, {}, false, false, {}}; }
    static Type condition() { return {Kind::condition, false, {}, false, false, {}}; }
    static Type of(const Dimension& d) { return {Kind::number, true, d, false, false, {}}; }
    static Type of(const Unit& u) { return {Kind::number, true, u.dimension, false, false, u}; }
};

/// What the units that a component leaves open are in one use of it, by name. A name that is missing contradicts itself, or waits for another.
using SettledUnits = std::map<std::string, Unit>;

/// A type with its open units replaced; unknown where one is missing.
Type settled(const Type& type, const SettledUnits& units);

/// The unit to show values of a type in: the declared one, else that of its dimension.
Unit display_unit(const Type& type);

class UnitChecker {
public:
    explicit UnitChecker(LibrarySet& set, bool strict = false) : set_(set), strict_(strict) {}

    /// Checks a definition and reports every unit error in it. Each definition is checked once, however often it is asked for.
    void check(const Definition& definition);
    /// Checks all definitions of a file.
    void check(const FileScope& file);
    /// The type of the quantity that a declaration declares, as seen in the component `info`.
    Type declared_type(const QuantityDecl& q, const ComponentInfo* info, const FileScope& scope);
    /// The type of a quantity inside a system, by path: what `set a.b = value` must fit. Reports an unknown path.
    Type type_of_path(const ComponentInfo& info, const FileScope& scope, const Path& path);
    /// Type of an expression in a system's scope, for scenarios.
    Type type_of_expression(const ComponentInfo* info, const FileScope& scope, const Expr& e);
    /// The same for a measure or demand of a scenario; `before`: the measures that it may name.
    Type type_of_measure(const ComponentInfo* info, const FileScope& scope, const Expr& e, const std::map<std::string, Type>& before);
    /// Type of a param, let or signal of a sequence.
    Type type_in_sequence(const ComponentInfo& info, const FileScope& scope, const SequenceDecl& sequence, const std::string& name);
    /// Whether component `d` has at least the ports, params and signals of `base`; reports at `span` what is missing.
    /// `joints_only`: for the place of a part, whose params may be others.
    bool check_slot(const Definition& base, const Definition& d, Span span, bool joints_only = false);
    /// `put slot = Kind(...)` in the system `info`: the slot, the component's values, and that it fits.
    void check_put(const ComponentInfo& info, const Path& slot, const KindUse& use, const FileScope& use_scope);
    void expect_fits(const std::string& what, const Type& declared, const Type& value, const Expr& e);
    /// What the open units of a part's (or slot's) component are: solved for from the units of the values given to it and of the signals from and to it in the
    /// component `info` that holds it; plain numbers where nothing says anything. They may be open units of the holder. Reports what contradicts.
    const SettledUnits& settled_units(const ComponentInfo& info, const std::string& part, const KindUse& use, const FileScope& scope,
                                      const std::string& index = {});

private:
    struct Context {
        const ComponentInfo* info = nullptr;
        const FileScope* scope = nullptr;
        std::map<std::string, Type> locals;
    };

    void check_open_names(const Dimension& dimension, Span span, const Context& context);
    struct UnitUse;
    void uses_in(const Statement& s, const FileScope& scope, const std::string& part, const ComponentInfo& kind, Context& context, std::vector<UnitUse>& uses);
    void use_of(const Expr& end, const Expr& other, const std::string& part, const ComponentInfo& kind, Context& context, std::vector<UnitUse>& uses);
    SettledUnits solve_units(const std::vector<std::string>& names, const std::string& part, const std::vector<UnitUse>& uses);
    void check_domain(const DomainDecl& domain, const FileScope& scope);
    const Definition* fluid_kind(const Member& m);
    const Definition* file_fluid_kind(const Path& path, const FileScope& scope);
    Type type_of_measure_call(const Expr& e, Context& context);
    Type type_of_carried(const Expr& e, const std::string& name, Context& context);
    void check_open_port(const PortDecl& port, const Definition& domain, Context& context);
    void check_function(const FunctionDecl& f, const ComponentInfo* info, const FileScope& scope);
    void check_block(const Block& block, Context& context, const std::vector<FunctionArgument>* results);
    void check_statement(const Statement& s, Context& context, const std::vector<FunctionArgument>* results);
    const ComponentInfo* seen_in(const Block& branch, const ComponentInfo* info);
    void check_quantity(const QuantityDecl& q, Context& context);
    void check_kind_use(const KindUse& use, Context& context, bool fluid, const std::string& name = {}, const std::string& index = {});
    void refuse_declarations(const Block& body);
    void check_joint(const JointDecl& joint, Context& context);
    void expect_condition(const Expr& e, Context& context);
    void expect_equal(const Expr& left, const Type& a, const char* relation, const Expr& right, const Type& b);
    void expect_dimension(const Expr& e, const Type& type, const Dimension& wanted, const std::string& what);
    Type type_of(const Expr& e, Context& context);
    Type type_of_chain(const Expr& e, Context& context);
    Type type_of_power(const Expr& e, Context& context);
    Type type_of_call(const Expr& e, Context& context);
    Type type_of_builtin(const Expr& e, const std::string& name, Context& context);
    Type type_of_steps(const ComponentInfo* info, const FileScope& scope, const Path& path, std::size_t at, Context& context);
    std::optional<double> constant_of(const Expr& e, Context& context);
    // --- check_sequences.cpp
    void check_sequence(const SequenceDecl& sequence, Context& context);
    void check_stage_name(const SequenceDecl& sequence, const std::string& stage, Span span);
    void check_is_stage(const Expr& e, Context& context);
    Type type_of_signal(const SequenceDecl& sequence, const std::string& name, Context& context);
    Type type_of_sequence_member(const SequenceDecl& sequence, const PathStep& step, Context& context);
    Context inside(const SequenceDecl& sequence, const Context& context);

    LibrarySet& set_;
    const std::map<std::string, Type>* measures_ = nullptr;  ///< within a measure: those before it
    bool strict_;
    std::set<const Definition*> checked_;
    std::map<std::pair<const ComponentInfo*, const KindUse*>, SettledUnits> units_of_parts_;
    std::deque<ComponentInfo> branches_;  ///< components as seen in a branch whose declarations differ from those of the other one
    std::set<const QuantityDecl*> in_progress_;
    std::map<const QuantityDecl*, std::optional<double>> numbers_;                ///< of constants
    std::map<std::pair<const QuantityDecl*, const ComponentInfo*>, Type> found_;  ///< of declarations that say no unit
    std::set<std::pair<const SequenceDecl*, std::string>> in_sequence_;
};

/// Stands for the results of a function where a block runs at a moment.
inline const std::vector<FunctionArgument> kNoBlockResults;

/// The signals that the stages of a sequence set, in the order of the text.
std::vector<std::string> signal_names(const SequenceDecl& sequence);
/// The sequence that `path` names, seen from a component; null: none.
const SequenceDecl* find_sequence(LibrarySet& set, const ComponentInfo& info, const Path& path);
/// Whether an expression is the plain name of a sequence, which a figure may draw.
bool is_sequence(LibrarySet& set, const ComponentInfo& info, const Expr* e);

/// The domain of the port that `expr` names inside `info`, or null (nothing is reported).
const Definition* domain_of_port(LibrarySet& set, const ComponentInfo& info, const Expr& expr);

/// Names and numbers of arguments of the functions known everywhere; -1: any number.
struct Builtin {
    const char* name;
    int least;
    int most;
};
const Builtin* find_builtin(const std::string& name);
/// `flow`, `entering` and their like are words of ports only: a function or table of one's own of that name goes before them.
bool is_word_of_ports(const std::string& name);
std::vector<std::string> builtin_names();

/// Shortened text of an expression, for messages.
std::string brief(const Expr& e);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The working state of instantiation, shared by its files: instances, joints, fluids, expressions, equations.
#pragma once

#include <deque>
#include <optional>
#include <set>

#include "algebra/procedure.hpp"
#include "model/check_units.hpp"
#include "model/instantiate.hpp"

namespace netloop {

/// Thrown inside instantiation only: the present statement is given up after its error was reported.
struct StatementGivenUp {};

using InstanceId = std::uint32_t;

struct LoopIndex {
    std::string name;
    int value = 0;
    const LoopIndex* outer = nullptr;
    const Expr* let = nullptr;  ///< a `let` inside the loop instead: what it is a name for
};

/// The value of an expression: one node, or an array of them; or a word of a choice option.
struct Value {
    NodeId node = kNoNode;
    std::vector<NodeId> elements;
    std::vector<std::uint32_t> sizes;  ///< empty for a scalar
    std::string path;                  ///< canonical path if the expression is a plain reference
    bool boolean = false;

    bool is_array() const { return !sizes.empty(); }
};
inline Value scalar(NodeId node, bool boolean = false)
{
    Value v;
    v.node = node;
    v.boolean = boolean;
    return v;
}

/// A sequence of an instance.
struct SequenceInstance {
    InstanceId owner = 0;
    const SequenceDecl* decl = nullptr;
    const FileScope* scope = nullptr;
    std::string path;
    std::uint32_t flat = 0;  ///< into FlatModel::sequences
    std::map<std::string, ParameterId> parameters;
    std::map<std::string, QuantityId> signals;
};

struct FunctionFrame {
    std::map<std::string, Value> locals;
};

/// Where an expression stands: names are looked up in the frame, then the loop indices, then the instance, then the file.
struct Env {
    InstanceId instance = 0;
    const FileScope* scope = nullptr;
    const LoopIndex* loops = nullptr;
    FunctionFrame* frame = nullptr;
    bool located = true;                                     ///< conditions become events; false inside functions and untracked()
    const SequenceInstance* sequence = nullptr;              ///< whose own names are looked up before those of the instance
    bool in_block = false;                                   ///< previous() has a meaning here
    const std::map<NodeId, NodeId>* now = nullptr;           ///< in a block: memories that it has set so far, leaf and value
    const std::map<std::string, Value>* measures = nullptr;  ///< in a measure: those before it
};

struct Binding {
    Path path;  ///< what is left of it at this instance
    const Expr* value = nullptr;
    Env env;
    bool from_outside = false;
    const KindUse* put = nullptr;  ///< instead of a value: a component for a slot
};

struct InstanceMember {
    enum class Kind { absent, option, parameter, quantity, view, port, part, fluid, joint, sequence, memory, other } kind = Kind::absent;
    std::uint32_t first = 0;
    std::vector<std::uint32_t> sizes;           ///< of an array; for an array of parts the instance of each
    double number = 0;                          ///< of an option
    std::string choice;                         ///< of a choice option
    const QuantityDecl* declaration = nullptr;  ///< the one that counts, where branches declare the same name
};

struct Instance {
    InstanceId parent = 0;
    std::string path;
    const ComponentInfo* info = nullptr;
    std::uint32_t depth = 0;
    std::vector<InstanceMember> members;
    std::vector<Binding> bindings;
    SettledUnits units;  ///< of the units that its component leaves open
    Span span;
    bool fluid = false;
    bool constant = false;  ///< a fluid of a file, not of a system: its params are no params of the model
};

struct PortInstance {
    InstanceId instance = 0;
    std::string path;
    const Definition* domain = nullptr;
    QuantityId first = 0;             ///< its quantities, in the order of the domain
    std::vector<QuantityId> leaving;  ///< of each carried quantity, in the order of the domain; kNoNode where the fluid does not ask for it
    std::vector<bool> stated;         ///< whether the component says what leaves
    std::uint32_t fluid_slot = kNoNode;
    bool joined_outside = false;
    bool needed = false;
    bool optional = false;
    const PortDecl* open = nullptr;  ///< says what holds where the port is in no joint
    const FileScope* scope = nullptr;
    Span span;
    std::string doc;
};

struct View {
    const QuantityDecl* declaration = nullptr;
    const FileScope* scope = nullptr;
    InstanceId instance = 0;
    std::optional<Value> value;
    std::map<std::string, Value> results;  ///< of a function with several results
    std::string doc;
    Span span;
};

struct UnionFind {
    std::vector<std::uint32_t> up;
    std::uint32_t add()
    {
        up.push_back(static_cast<std::uint32_t>(up.size()));
        return up.back();
    }
    std::uint32_t find(std::uint32_t x)
    {
        while (up[x] != x) x = up[x] = up[up[x]];
        return x;
    }
    void join(std::uint32_t a, std::uint32_t b) { up[std::max(find(a), find(b))] = std::min(find(a), find(b)); }
};

class Instantiator {
public:
    Instantiator(LibrarySet& set, const InstantiateRequest& request);
    InstantiateResult run();

private:
    // --- instances.cpp: the tree of parts, options and joints
    enum class Pass { ports_and_fluids, parts, named_joints, joints };
    InstanceId make_instance(const Definition& d, InstanceId parent, std::string path, std::vector<Binding> bindings, Span span, bool fluid,
                             const SettledUnits& units = {});
    SettledUnits units_in(InstanceId parent, const std::string& part, const KindUse& use, const FileScope& scope, const std::string& index = {});
    void make_options(InstanceId id);
    void make_option(InstanceId id, const std::string& name);
    void make_structure(InstanceId id, const BodyItem& item, const Env& env, Pass pass);
    void tell_option(InstanceId id, const QuantityDecl& q, const Member& m, const InstanceMember& held);
    void make_part(InstanceId id, const Member& member, const PartDecl& part, const Definition& d, const KindUse& use, const Env& env);
    void make_parts(InstanceId id, const Member& member, const PartDecl& part, const Env& env);
    void make_slot(InstanceId id, const SlotDecl& slot, const Env& env);
    void make_ports(InstanceId id, const PortDecl& port, const Env& env, const Statement& s);
    void collect_joint(const BodyItem& item, const JointDecl& joint, const Env& env);
    std::optional<std::uint32_t> connector(const Expr& port, const Env& env);
    std::vector<Binding> bindings_for(InstanceId parent, const std::string& name, std::optional<int> index, const KindUse& use, const Env& env);
    void check_bindings(InstanceId id);
    const Binding* binding_of(InstanceId id, const std::string& name) const;
    const Binding* put_into(InstanceId id, const std::string& slot) const;
    void for_each_statement(InstanceId id, const std::function<void(const BodyItem&, const Env&)>& visit);
    void walk(const BodyItem& item, const Env& env, const std::function<void(const BodyItem&, const Env&)>& visit);

    // --- find_fluids.cpp: which fluid fills each circuit
    void settle_fluids();
    void find_fluids();
    void report_fluids();
    bool make_deferred_branches();
    std::optional<InstanceId> fluid_of(InstanceId id, const std::string& name);
    std::optional<InstanceId> fluid_given(const Expr& value, const Env& env);
    InstanceId file_fluid(const Definition& d);

    // --- constants: options, sizes, indices
    struct Constant {
        double number = 0;
        std::string choice;
    };
    std::optional<Constant> constant_of(const Expr& e, const Env& env, std::string* reason = nullptr);
    double need_constant(const Expr& e, const Env& env, const std::string& what);
    std::uint32_t size_of(const Expr& e, const Env& env, const std::string& what);

    // --- build_expressions.cpp
    Value build(const Expr& e, const Env& env);
    NodeId build_scalar(const Expr& e, const Env& env);
    Value resolve(const Expr& e, const Env& env);
    Value resolve_member(InstanceId id, const Path& path, std::size_t at, const Env& env, const Expr& e);
    std::size_t flat_index(const std::vector<std::uint32_t>& sizes, const PathStep& step, const Env& env, std::string& text);
    Value element(Value array, const PathStep& step, const Env& env);
    Value build_chain(const Expr& e, const Env& env);
    Value build_call(const Expr& e, const Env& env);
    Value build_builtin(const Expr& e, const std::string& name, const Env& env);
    Value call_function(const FunctionDecl& f, const Expr& e, const Env& env, InstanceId instance, const FileScope* scope, View* results);
    std::uint32_t table_index(const TableDecl& table, const FileScope& scope);
    Value view_value(std::uint32_t view, const std::string& path);
    struct FoundFunction {
        const FunctionDecl* function = nullptr;  ///< null: there is none of that name
        InstanceId instance = 0;
        const FileScope* scope = nullptr;
    };
    FoundFunction find_function(const Path& path, const Env& env);
    Value map_unary(const Value& v, const std::function<NodeId(NodeId)>& f);
    Value map_binary(const Value& a, const Value& b, Span span, const std::function<NodeId(NodeId, NodeId)>& f);
    [[noreturn]] void give_up(const Message& message, Span span, const std::string& a = {}, const std::string& b = {}, const std::string& c = {},
                              std::string hint = {});

    class Within;  ///< counts what one call takes with it
    /// A definition that is being followed to what it hangs on: met again there, it hangs on itself.
    class Following {
    public:
        Following(Instantiator& by, const void* what, InstanceId where) : followed_(by.followed_), key_(what, where), first_(followed_.insert(key_).second) {}
        ~Following()
        {
            if (first_) followed_.erase(key_);
        }
        Following(const Following&) = delete;
        Following& operator=(const Following&) = delete;
        bool again() const { return !first_; }

    private:
        std::set<std::pair<const void*, InstanceId>>& followed_;
        std::pair<const void*, InstanceId> key_;
        bool first_;
    };

    struct Execution {
        NodeId returned = kNoNode;  ///< condition under which a value was already returned
        NodeId value = kNoNode;
    };
    /// Thrown by execute() at a loop whose length is not known: the function has to be called instead.
    struct NeedsProcedure {};
    void execute(const Block& block, Env& env, Execution& state);

    // --- build_procedure.cpp: functions that are called when the model runs
    struct ProcedureWork;
    struct MadeProcedure {
        std::vector<std::uint32_t> callables;  ///< one for each result
        std::vector<NodeId> parameters;        ///< further arguments: params that the function reads
    };
    Value call_procedure(const FunctionDecl& f, const FunctionFrame& given, const Expr& e, InstanceId instance, const FileScope* scope, View* results);
    const MadeProcedure& make_procedure_of(const FunctionDecl& f, InstanceId instance, const FileScope* scope);
    void walk_procedure(const Block& block, std::size_t from, Env& env, ProcedureWork& work, std::vector<ProcedureStep>& out);
    void set_local(const std::string& name, const Value& value, Span span, Env& env, ProcedureWork& work, std::vector<ProcedureStep>& out);

    // --- build_events.cpp: memories, blocks, sequences
    struct BlockWork;
    std::string path_of(InstanceId id, const std::string& name) const;
    std::uint32_t add_memory(FlatMemory memory);
    NodeId previous_value(NodeId source);
    Value build_measured(const Expr& e, const Env& env);
    void make_measures();
    void share_accumulators(std::size_t from, const std::vector<NodeId*>& users);
    Value slope_of(const Expr& e, const Value& f, const Value& x);
    NodeId delayed_value(const Expr& e, NodeId source, NodeId time, const Env& env);
    void make_sequence(InstanceId id, const SequenceDecl& decl, const BodyItem& item);
    void settle_sequence_parameters();
    Env env_of(const SequenceInstance& s) const;
    NodeId is_in_stage(const SequenceInstance& s, std::size_t stage);
    std::size_t stage_index(const SequenceInstance& s, const std::string& name, Span span);
    Value sequence_member(std::uint32_t index, const Path& path, std::size_t at, const Env& env, const Expr& e);
    Value own_sequence_name(const SequenceInstance& s, const std::string& name, Span span, const Env& env);
    Value is_stage(const Expr& e, const Env& env);
    void order_blocks();
    void make_sequence_equations();
    void make_transitions(const SequenceInstance& s, const std::vector<const Stage*>& stages, const Env& env);
    void make_block(const BodyItem& item, const Env& env);
    void finish_block(const Block& body, const Env& env, BlockWork& work);
    NodeId as_of_now(NodeId root, const std::map<NodeId, NodeId>& now);
    void run_block(const Block& body, Env& env, BlockWork& work);
    void set_in_block(const AssignDecl& assign, const Value& value, const Env& env, BlockWork& work);

    // --- build_carried.cpp: what travels with the flow
    bool is_carried(const PortInstance& port, const DomainMember& member);
    void group_ports();
    void make_carried_quantities();
    void make_mixes();
    void make_carried_views();
    Value build_carried(const Expr& e, const std::string& name, const Env& env);
    struct CarriedAt {
        std::uint32_t port = 0;    ///< the port, or one of a named joint
        std::uint32_t member = 0;  ///< among the carried quantities of the domain
        bool joint = false;
    };
    CarriedAt carried_at(const Expr& e, const Env& env);
    NodeId through(std::uint32_t port, std::uint32_t member);
    NodeId directed(std::uint32_t port, std::uint32_t member, bool inward);
    NodeId leaving(std::uint32_t port, std::uint32_t member);
    NodeId mix_of(const std::vector<std::uint32_t>& ports, std::uint32_t member);
    NodeId entering(std::uint32_t port, std::uint32_t member);
    NodeId passing(std::uint32_t port, std::uint32_t member);
    NodeId transported(std::uint32_t port, std::uint32_t member);
    bool is_leaf(std::uint32_t port);
    std::vector<std::uint32_t> ports_behind(std::uint32_t connector);

    // --- build_equations.cpp
    void make_quantities(InstanceId id);
    void make_quantity(InstanceId id, const QuantityDecl& q, const BodyItem& item, const Env& env);
    void make_port_quantities();
    void settle_parameters();
    void make_equations(InstanceId id);
    void make_statement(const BodyItem& item, const Env& env, std::vector<FlatEquation>* branch);
    void make_dynamic_branch(const BodyItem& item, const IfDecl& branch, const Env& env, std::vector<FlatEquation>* outer);
    void add_equation(const Value& left, const Value& right, EquationKind kind, Origin origin, std::vector<FlatEquation>* branch);
    void make_signal(const SignalDecl& signal, const BodyItem& item, const Env& env);
    void make_start(const BodyItem& item, const Env& env, std::uint32_t depth);
    void make_exempt(const Expr& e);
    void make_find(const BodyItem& item);
    void add_init(Value left, Value right, Origin origin, std::uint32_t depth);
    void add_guess(const Value& target, const Value& value, Origin origin, std::uint32_t depth);
    void make_joint_equations();
    void make_open_port(const PortInstance& p, Span shown);
    void close_inputs();
    void make_views();

    LibrarySet& set_;
    const InstantiateRequest& request_;
    std::unique_ptr<FlatModel> model_ = std::make_unique<FlatModel>();
    Graph& graph_;
    UnitChecker checker_;
    std::deque<Instance> instances_;
    std::vector<PortInstance> ports_;
    std::vector<View> views_;
    std::deque<LoopIndex> loop_indices_;
    std::vector<const Definition*> making_;

    UnionFind connectors_;  ///< 2 * port: from outside, 2 * port + 1: from inside
    std::map<std::uint32_t, Span> joint_spans_;
    std::map<std::uint32_t, InstanceId> joint_owner_;
    std::vector<std::uint32_t> joints_;  ///< named joints: a connector of each
    struct FluidGift {
        std::uint32_t slot;
        InstanceId fluid;
        Span span;
    };
    struct DeferredBranch {  ///< `if oil.thermal { ... }` around parts: their fluid is known once all joints are
        InstanceId instance;
        BodyItem item;
        Env env;
    };
    std::vector<DeferredBranch> deferred_;
    bool in_fluid_branch_ = false;
    std::map<const Definition*, InstanceId> file_fluids_;
    std::set<const Definition*> file_fluids_making_;
    std::map<std::uint32_t, std::vector<std::uint32_t>> joined_;  ///< connectors of each joint, by its root
    std::vector<std::uint32_t> group_;                            ///< of each port: the first port of all that its flow mixes with
    std::map<std::uint32_t, std::vector<std::uint32_t>> groups_;
    std::map<std::pair<std::uint32_t, std::uint32_t>, QuantityId> mixes_;  ///< by group and carried quantity
    UnionFind fluid_slots_;
    std::vector<FluidGift> fluid_gifts_;
    std::map<std::uint32_t, InstanceId> fluid_of_slot_;

    std::map<QuantityId, Span> input_source_;
    std::map<std::pair<const TableDecl*, int>, std::uint32_t> tables_;
    std::map<std::pair<const FunctionDecl*, InstanceId>, MadeProcedure> procedures_;
    std::map<std::string, std::size_t> init_by_key_, guess_by_key_;
    std::deque<SequenceInstance> sequences_;
    std::map<NodeId, NodeId> previous_;  ///< of an expression: the leaf that holds it as it was before the event
    Value fixed_value(const QuantityDecl* q, InstanceId where, const std::function<Value()>& build_it);
    std::set<std::pair<const void*, InstanceId>> followed_;
    std::map<std::pair<const void*, InstanceId>, Value> fixed_;         ///< constants, and params and lets of what is constant
    std::map<std::pair<const void*, InstanceId>, Constant> constants_;  ///< the same, worked out as numbers
    std::size_t depth_ = 0;                                             ///< of build() within itself
    std::size_t calls_within_ = 0;                                      ///< function calls below the outermost one
    std::size_t open_calls_ = 0;
    std::pair<Span, std::string> outermost_;  ///< where the outermost call stands, and of what
    double turns_ = 1;                        ///< that the loops around take together: of the function at hand
};

/// The unit in which a quantity of this type is shown.
Unit unit_of(const Type& type);

}  // namespace netloop

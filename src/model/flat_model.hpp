// SPDX-License-Identifier: Apache-2.0
// The flat model: arrays of quantities, parameters, equations and start conditions, each with its origin. Plain data.
#pragma once

#include <limits>
#include <string>
#include <vector>

#include "algebra/graph.hpp"
#include "base/source.hpp"
#include "model/measures.hpp"
#include "units/unit.hpp"

namespace netloop {

using QuantityId = std::uint32_t;
using ParameterId = std::uint32_t;

/// Where something comes from: the instance that holds it, and the text that states it.
struct Origin {
    std::uint32_t instance = 0;
    Span span;
    bool in_library = false;  ///< the text belongs to a shipped library
};

enum class QuantityRole { var, shared, zero_sum, carried, input, output };

struct FlatQuantity {
    std::string path;  ///< "lift.cell[3].T"
    QuantityRole role = QuantityRole::var;
    Unit unit;
    bool checked = true;  ///< false: declared without a unit
    bool boolean = false;
    bool found = false;    ///< a param that the start has to find
    bool carries = false;  ///< a flow along which something is carried
    double low = -std::numeric_limits<double>::infinity();
    double high = std::numeric_limits<double>::infinity();
    double usual = 0;        ///< 0: not declared
    NodeId start = kNoNode;  ///< where the search begins: guess or init of the declaration, an expression of parameters
    std::string doc;
    Origin origin;
};

struct FlatParameter {
    std::string path;
    Unit unit;
    bool boolean = false;
    bool changed = false;    ///< given from outside the system
    bool external = false;   ///< a system's own input: may change while a run goes on
    std::string follows;     ///< path of a param that is found at the start and settles this one
    NodeId value = kNoNode;  ///< an expression of other parameters
    NodeId low = kNoNode;
    NodeId high = kNoNode;
    std::string doc;
    Origin origin;
};

enum class EquationKind { equation, joint_equal, joint_sum, joint_mix, unjoined, signal, value };

struct FlatEquation {
    NodeId left = kNoNode;
    NodeId right = kNoNode;
    EquationKind kind = EquationKind::equation;
    Origin origin;
};

/// `init left = right`; `key` is the declared path (with primes) if the left side is one, for replacing further in.
struct FlatInit {
    NodeId left = kNoNode;
    NodeId right = kNoNode;
    Origin origin;
    std::uint32_t depth = 0;  ///< of the instance that states it; 0 is the system or scenario
    std::string key;
    bool find = false;  ///< what a `find ... so that` demands
};

/// `find parameter so that left = right`.
struct FlatFind {
    ParameterId parameter = 0;
    NodeId left = kNoNode;
    NodeId right = kNoNode;
    Origin origin;
};

struct FlatGuess {
    NodeId target = kNoNode;
    NodeId value = kNoNode;
    Origin origin;
    std::uint32_t depth = 0;
    std::string key;
};

/// A `let`: a name for an expression, recorded like a quantity.
struct FlatView {
    std::string path;
    NodeId value = kNoNode;
    Unit unit;
    bool boolean = false;
    std::string doc;
    Origin origin;
};

/// What keeps its value between events.
struct FlatMemory {
    std::string path;
    Unit unit;
    bool boolean = false;
    bool hidden = false;     ///< made by the compiler, not by the user: not recorded
    NodeId start = kNoNode;  ///< what it begins with
    std::string doc;
    Origin origin;
};

/// `target := value` in a block.
struct FlatSetting {
    static constexpr std::uint32_t kNone = 0xffffffffu;
    std::uint32_t memory = kNone;  ///< what is set: a memory, or the quantity (or its derivative) in `target`
    NodeId target = kNoNode;
    NodeId value = kNoNode;
    NodeId when = kNoNode;    ///< set only if this holds; kNoNode: always
    std::uint32_t order = 0;  ///< of the derivative that is set
    Span span;
};
/// `stop`, `warn` or `fail` in a block.
struct FlatAlert {
    enum class Action { stop, warn, fail } action = Action::stop;
    std::string text;
    NodeId when = kNoNode;
    Span span;
};
/// Statements that run at a moment.
struct FlatBlock {
    enum class Kind { start, every, transition, entry, when } kind = Kind::when;
    NodeId condition = kNoNode;                ///< of a `when` and of a transition
    NodeId period = kNoNode, first = kNoNode;  ///< of an `every`, s
    std::uint32_t sequence = 0, stage = 0;     ///< of a transition, which leaves it, and of what runs on entry
    std::uint32_t target = 0;                  ///< the stage that a transition leads to
    std::vector<FlatSetting> settings;
    std::vector<FlatAlert> alerts;
    std::string text;  ///< for tables and messages: "when level > 2.4 m"
    Origin origin;
};
struct FlatSequence {
    std::string path;
    std::vector<std::string> stages;
    std::uint32_t stage = 0;  ///< memory: the number of the present stage, from 1
    std::uint32_t since = 0;  ///< memory: when it was entered, s
    Origin origin;
};
/// `delay(x, T)`: the memory follows x, T later. `previous(x)`: it holds x as it was just before the event.
struct FlatDelay {
    std::uint32_t memory = 0;
    NodeId source = kNoNode;
    NodeId time = kNoNode;
    Origin origin;
};
struct FlatPrevious {
    std::uint32_t memory = 0;
    NodeId source = kNoNode;
};

/// A call such as `max(p from 5 s to 60 s)` in a measure; its result stands in a memory when the run is over.
struct FlatAccumulator {
    MeasureKind kind = MeasureKind::final;
    std::uint32_t memory = 0;
    NodeId value = kNoNode;
    NodeId when = kNoNode;                          ///< of first, last and count
    NodeId from_time = kNoNode, to_time = kNoNode;  ///< kNoNode: the start, the end
};
struct FlatMeasure {
    std::string name;
    NodeId value = kNoNode;
    Unit unit;
    bool boolean = false;
    std::string text, doc;  ///< its expression as written, and its `##` text
    Origin origin;
};
struct FlatDemand {
    NodeId condition = kNoNode;
    NodeId left = kNoNode, right = kNoNode;  ///< of a comparison
    Unit unit;                               ///< of its sides
    std::string text, source;                ///< what the user says of it, and the condition as written
    Origin origin;
};

/// `in low .. high` of a var, an input, a let, a memory or a shared quantity of a domain.
struct FlatLimit {
    enum class Of { quantity, view, memory } of = Of::quantity;
    std::uint32_t index = 0;                                ///< of that
    NodeId value = kNoNode, low = kNoNode, high = kNoNode;  ///< the ends may be expressions
};

/// What happens at moments.
struct FlatEvents {
    std::vector<FlatMemory> memories;
    std::vector<FlatBlock> blocks;  ///< in the order in which they run at one moment, kind by kind
    std::vector<FlatSequence> sequences;
    std::vector<FlatDelay> delays;
    std::vector<FlatPrevious> previous;
    std::vector<FlatAccumulator> accumulators;
    std::vector<FlatMeasure> measures;
    std::vector<FlatDemand> demands;
    std::vector<FlatLimit> limits;
    /// Conditions whose equations differ in kind: each combination of them may need a system of its own.
    std::vector<NodeId> switches;
};

/// `## Picture: bar a b`: how an instance is drawn in a moving picture.
struct FlatPicture {
    std::uint32_t instance = 0;
    std::string text;  ///< "bar a b"
};

/// A value that was fixed when the model was put together.
struct FlatOption {
    std::string path, value;
    std::uint32_t instance = 0;
    std::vector<std::string> simpler;  ///< values that leave something out, or do it in fewer pieces
};

struct FlatModel : FlatEvents {
    std::string name;
    Graph graph;
    std::vector<FlatQuantity> quantities;
    std::vector<FlatParameter> parameters;
    std::vector<FlatEquation> equations;
    std::vector<FlatInit> inits;
    std::vector<FlatGuess> guesses;
    std::vector<FlatFind> finds;
    bool begin_steady = false;
    std::vector<NodeId> steady_except;  ///< quantities that need not stand still
    std::vector<FlatView> views;
    std::vector<std::string> instances;  ///< path of each instance; "" is the system
    std::vector<std::string> kinds;      ///< full name of each instance's definition
    std::vector<FlatOption> options;     ///< of parts, in the order in which they were settled
    std::vector<FlatPicture> pictures;   ///< how instances are drawn, from `## Picture:` lines
    std::vector<Span> places;            ///< where each instance stands in the user's own files: its part, or the part that holds it

    /// The place to show for an origin: its own if that is the user's, else the part in the user's files that brings it in.
    Span shown_place(const Origin& origin) const { return origin.in_library ? places[origin.instance] : origin.span; }

    /// What a limit is put on, as the user reads it.
    struct Limited {
        const std::string *path, *doc;
        const Unit* unit;
        const Origin* origin;
    };
    Limited limited(const FlatLimit& limit) const;
    /// "0 L .. size".
    std::string range_text(const FlatLimit& limit) const;

    /// Throws std::logic_error if an id points outside its array (a broken invariant, never the user's fault).
    void verify() const;
    std::string node_text(NodeId id) const;
    /// "leaf.angle < 85 deg": a number is shown in the unit of the quantity it is compared with.
    std::string comparison_text(NodeId a, const char* op, NodeId b) const;
    /// Of a quantity, param, memory or the time; also behind a minus or abs, unless the unit has an offset; null of anything else.
    const Unit* shown_unit(NodeId id) const;
    std::string equation_text(const FlatEquation& equation) const { return node_text(equation.left) + " = " + node_text(equation.right); }
    /// The whole model as text, one item a line: what `check --show flat` prints.
    std::string text() const;
};

/// What an expression of a flat model is for.
enum class Role { equation, init, guess, find, let, event, switches, steady };

/// Every expression of a flat model but the values and ranges of params, each once: visit(NodeId& node, Role role). Places that hold none are left out. Passes
/// that do something to leaves go by this list, so that an expression that is added later cannot be forgotten by one of them.
template <typename Visit>
void for_each_expression(FlatModel& flat, Visit visit)
{
    auto all = [&](Role role, auto&... nodes) { ((nodes != kNoNode ? visit(nodes, role) : void()), ...); };
    for (FlatMemory& m : flat.memories) all(Role::event, m.start);
    for (FlatBlock& b : flat.blocks) {
        all(Role::event, b.condition, b.period, b.first);
        for (FlatSetting& s : b.settings) all(Role::event, s.target, s.value, s.when);
        for (FlatAlert& a : b.alerts) all(Role::event, a.when);
    }
    for (FlatDelay& d : flat.delays) all(Role::event, d.source, d.time);
    for (FlatPrevious& p : flat.previous) all(Role::event, p.source);
    for (FlatAccumulator& a : flat.accumulators) all(Role::event, a.value, a.when, a.from_time, a.to_time);
    for (FlatMeasure& m : flat.measures) all(Role::event, m.value);
    for (FlatDemand& d : flat.demands) all(Role::event, d.condition, d.left, d.right);
    for (FlatLimit& l : flat.limits) all(Role::event, l.value, l.low, l.high);
    for (FlatInit& i : flat.inits) all(Role::init, i.left, i.right);
    for (FlatGuess& g : flat.guesses) all(Role::guess, g.target, g.value);
    for (FlatFind& f : flat.finds) all(Role::find, f.left, f.right);
    for (FlatView& v : flat.views) all(Role::let, v.value);
    for (FlatEquation& e : flat.equations) all(Role::equation, e.left, e.right);
    for (NodeId& node : flat.switches) all(Role::switches, node);
    for (NodeId& node : flat.steady_except) all(Role::steady, node);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The syntax tree: every construct of the language, as written. The C++ builder makes the same nodes.
// Nodes live in a SyntaxArena and are never changed once made; a node refers only to nodes made before it.
#pragma once

#include <deque>
#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include "base/source.hpp"
#include "units/unit.hpp"

namespace netloop {

struct Expr;

/// One step of a path: `cell[i]` in `lift.cell[i].x`.
struct PathStep {
    std::string name;
    Span span;
    std::vector<const Expr*> indices;
};
using Path = std::vector<PathStep>;

std::string text_of(const Path& path);

enum class ExprKind {
    number,  ///< number (SI value), unit
    truth,   ///< number is 0 or 1
    text,    ///< text
    time,
    path,           ///< path
    derivative,     ///< args[0], order
    chain,          ///< args joined by the operators in `text`, one character each: "+-" or "*/" or "&" or "|"
    negate,         ///< args[0]
    power,          ///< args[0] ^ args[1]
    compare,        ///< args[0] text args[1]
    is_stage,       ///< path (the sequence), text (the stage)
    logical_not,    ///< args[0]
    choice,         ///< if args[0] then args[1] else args[2]
    call,           ///< path (the function), args
    comprehension,  ///< args[0] for text in args[1] .. args[2], inside a call
    window,         ///< args[0] from args[1] to args[2], inside a measure
    at_moment,      ///< args[0] when args[1], inside a measure
    array,          ///< [args]
};

struct Expr {
    ExprKind kind = ExprKind::number;
    Span span;
    double number = 0;
    std::shared_ptr<const Unit> unit;  ///< of a literal; null for a bare number
    std::string text;
    Path path;
    std::vector<const Expr*> args;
    int order = 0;
    bool bracketed = false;
};

struct KindUse;
struct NamedValue {
    Path path;
    const Expr* value = nullptr;
    std::shared_ptr<const KindUse> put{};  ///< instead of a value: a component for a slot
    Span span{};
};

/// A named thing with values: `hydraulics.FixedPump(displacement = 16 cm^3/rev)`.
struct KindUse {
    Path kind;
    std::vector<NamedValue> values;
    Span span;
};

struct Statement;
using Block = std::vector<const Statement*>;

enum class QuantityKind { param, option, constant, let, var, input, output, memory };
enum class ValueType { real, boolean, integer, choice };

struct QuantityDecl {
    QuantityKind kind = QuantityKind::var;
    std::string name;
    Span name_span;
    std::vector<const Expr*> sizes;
    ValueType type = ValueType::real;
    std::vector<std::string> choices;
    std::optional<Unit> unit;
    const Expr* value = nullptr;
    const Expr* low = nullptr;
    const Expr* high = nullptr;
    const Expr* init = nullptr;
    const Expr* guess = nullptr;
    const Expr* usual = nullptr;
};
/// `unit of_measured`: a unit that each use of the component settles by what it gives and joins.
struct OpenUnitDecl {
    std::string name;
    Span name_span;
};
struct PortDecl {
    std::string name;
    Span name_span;
    std::vector<const Expr*> sizes;
    Path domain;
    std::vector<std::string> fluids;
    bool needed = false;
    bool optional = false;  ///< left open without a note
    /// `open T = reference`: what holds where the port is in no joint, in place of no flow.
    std::string open_name{};
    Span open_span{};
    const Expr* open_value = nullptr;
};
struct PartDecl {
    std::string name;
    Span name_span;
    std::string index;  ///< of `cell[i in 1 .. n]`; else empty
    const Expr* low = nullptr;
    const Expr* size = nullptr;  ///< n of `cell[n]` and `cell[i in 1 .. n]`; null for a single part
    KindUse kind;
};
struct SlotDecl {
    std::string name;
    Span name_span;
    Path base;
    KindUse kind;
};
struct FluidUseDecl {  ///< `fluid iso46 = MineralOil(grade = 46 cSt)` in a system
    std::string name;
    Span name_span;
    KindUse kind;
};
struct JointDecl {
    std::string name;  ///< empty for a nameless joint
    Span name_span;
    std::vector<const Expr*> ports;
};
struct SignalDecl {
    const Expr* source = nullptr;
    std::vector<const Expr*> targets;
};
struct EquationDecl {
    const Expr* left = nullptr;
    const Expr* right = nullptr;
    bool init = false;
};
struct GuessDecl {
    const Expr* target = nullptr;
    const Expr* value = nullptr;
};
struct IfDecl {
    const Expr* condition = nullptr;
    Block then_block;
    Block else_block;
};
struct ForDecl {
    std::string index;
    Span index_span;
    const Expr* low = nullptr;
    const Expr* high = nullptr;
    Block body;
};
struct WhenDecl {
    const Expr* condition = nullptr;  ///< null for `when start`
    Block body;
};
struct EveryDecl {
    const Expr* period = nullptr;
    const Expr* from = nullptr;
    Block body;
};
struct AssignDecl {
    const Expr* target = nullptr;
    const Expr* value = nullptr;
};
struct AlertDecl {  ///< stop, warn or fail with a text
    std::string action;
    std::string text;
};
struct WhileDecl {
    const Expr* condition = nullptr;
    Block body;
};
struct ReturnDecl {
    const Expr* value = nullptr;
};
struct StageTransition {
    std::string target;
    Span span;
    const Expr* when = nullptr;
    const Expr* after = nullptr;
};
struct Stage {
    std::string name;
    bool otherwise = false;
    Span span;
    std::vector<NamedValue> settings;
    Block on_entry;
    std::vector<StageTransition> transitions;
};
struct SequenceDecl {
    std::string name;
    Span name_span;
    Block declarations;
    std::vector<Stage> stages;
};
struct FunctionArgument {
    std::string name;
    Span span;
    std::optional<Unit> unit;
};
struct FunctionDecl {
    std::string name;
    Span name_span;
    std::vector<FunctionArgument> arguments;
    std::vector<FunctionArgument> results;  ///< one nameless result, or several named ones
    std::optional<Block> body;              ///< none in a base fluid: what each fluid must offer
};
struct TableDecl {
    std::string name;
    Span name_span;
    std::vector<FunctionArgument> arguments;
    std::optional<Unit> unit;
    std::vector<std::vector<double>> knots;  ///< per argument, as written (in its unit)
    std::vector<double> values;              ///< first argument slowest, as written (in the table's unit)
    std::string file;                        ///< of `from "file"`; else empty
    Span file_span;
    bool smooth = false;
    enum class Outside { hold, extend, refuse } outside = Outside::hold;
};
struct DomainMember {
    enum class Kind { fluid, carried, shared, zero_sum } kind = Kind::shared;
    std::string name;
    Span span;
    std::string doc;
    std::optional<Unit> unit;
    Path fluid_kind;                             ///< of a fluid
    std::string along;                           ///< of a carried quantity
    const Expr* condition = nullptr;             ///< of a carried quantity
    const Expr* usual = nullptr;                 ///< usual size of a carried quantity
    const Expr *low = nullptr, *high = nullptr;  ///< range of a shared quantity
    const Expr* small = nullptr;                 ///< of a zero-sum quantity that carries others: the flow below which both directions count
};
struct DomainDecl {
    std::string name;
    Span name_span;
    std::vector<DomainMember> members;
};
/// A table of a component that is read from another file: `efficiency = "maps/p90.csv"` in an entry of a catalogue.
struct TableFile {
    std::string name;
    std::string file;
    Span span;
};
struct ComponentDecl {
    std::string name;
    Span name_span;
    bool base = false;
    bool system = false;
    bool entry = false;  ///< of a catalogue: one kind taken over, with its values
    std::vector<KindUse> takes;
    Block body;
    std::vector<TableFile> tables{};
};
struct FluidDecl {
    std::string name;
    Span name_span;
    bool base = false;
    std::vector<KindUse> takes;
    Block body;
};
struct UseDecl {
    std::vector<Path> names;
    std::string file;  ///< or folder, if it ends in '/'
    std::string as;
};
struct SetItem {
    std::vector<NamedValue> values;
};
struct PutItem {
    Path slot;
    KindUse kind;
};
struct StopItem {
    const Expr* at = nullptr;
};
struct OutputItem {
    const Expr* every = nullptr;
    const Expr* points = nullptr;
    std::vector<const Expr*> at;
};
struct ToleranceItem {
    const Expr* value = nullptr;        ///< null: the run's
    const Expr* usual = nullptr;        ///< the size below which absolute errors count; null: as it is without this
    std::vector<std::string> patterns;  ///< of the quantities that it is for; empty: of all
};
struct BeginItem {
    bool steady = false;
    std::vector<const Expr*> except;
    std::string file;
    const Expr* at = nullptr;
};
struct KeepItem {
    std::vector<std::string> patterns;
};
struct MeasureItem {
    std::string name;
    std::optional<Unit> unit;  ///< to show it in
    const Expr* value = nullptr;
};
struct RequireItem {
    const Expr* condition = nullptr;
    std::string text;
};
struct FindItem {
    Path unknown;
    const Expr* left = nullptr;
    const Expr* right = nullptr;
};
struct FigurePanel {
    std::vector<const Expr*> curves;
    const Expr* against = nullptr;
    std::optional<Unit> unit;
};
struct FigureItem {
    std::string title;
    std::vector<FigurePanel> panels;
};
struct ScenarioDecl {
    std::string name;
    Span name_span;
    Path of;
    std::string from;
    Block items;
};

/// `from "pumps.csv" as Kind`: a row an entry.
struct CatalogueFile {
    std::string file;
    Span span;
    KindUse kind;
};
struct CatalogueDecl {
    std::string name;
    Span name_span;
    Path base;
    Block entries;  ///< a ComponentDecl each
    std::vector<CatalogueFile> files;
};

/// One thing that a study varies.
struct VaryItem {
    enum class Kind {
        list,          ///< levels
        grid,          ///< from low to high in `count` values
        range,         ///< anything from low to high
        distribution,  ///< `distribution` with `arguments`, or the values of a file
    } kind = Kind::list;
    bool scenario = false;  ///< `vary scenario over ...`; else path
    Path path;
    std::vector<Path> also{};  ///< what has the same value at the same time: vary left, right over cylinders
    Span span;
    std::vector<NamedValue> levels;
    const Expr *low = nullptr, *high = nullptr, *count = nullptr;
    bool on_log = false;
    std::string distribution;
    std::vector<const Expr*> arguments;
    std::string file;                              ///< CSV with a column of the param: of values drawn from, or of the list
    const Expr *least = nullptr, *most = nullptr;  ///< limits of a distribution
};
struct TakeItem {
    enum class Kind { all, one_at_a_time, sobol, latin, random, for_sobol, for_morris, rows } kind = Kind::all;
    double count = 0;  ///< of points; of trajectories with Morris
    double draws = 0;  ///< of what is uncertain, in each variant of a grid; 0: not said
    Span span;
};
struct CorrelateItem {
    Path a, b;
    const Expr* rank = nullptr;
    Span span;
};
struct NamedSpan {
    std::string name;
    Span span;
};
struct KeepRecordings {
    enum class Kind { failing, none, all, best } kind = Kind::none;
    double count = 0;
    NamedSpan by;  ///< what the best are told by; empty: the first that is collected
    bool most = false;
};
struct StudyDecl {
    std::string name;
    Span name_span;
    Path of;
    std::string from;
    Span from_span;
    Block settings;  ///< set and put
    std::vector<VaryItem> varies;
    std::optional<TakeItem> take;
    std::vector<const Expr*> where;
    std::vector<NamedSpan> collect;
    std::vector<CorrelateItem> correlations;
    std::optional<KeepRecordings> keep;
    std::optional<double> seed;
};

struct Statement {
    Span span;
    std::string doc;
    std::variant<QuantityDecl, OpenUnitDecl, PortDecl, PartDecl, SlotDecl, FluidUseDecl, JointDecl, SignalDecl, EquationDecl, GuessDecl, IfDecl, ForDecl,
                 WhenDecl, EveryDecl, AssignDecl, AlertDecl, WhileDecl, ReturnDecl, SequenceDecl, FunctionDecl, TableDecl, DomainDecl, ComponentDecl, FluidDecl,
                 UseDecl, ScenarioDecl, SetItem, PutItem, StopItem, OutputItem, ToleranceItem, BeginItem, KeepItem, MeasureItem, RequireItem, FindItem,
                 FigureItem, CatalogueDecl, StudyDecl>
        node;

    template <typename T>
    const T* as() const
    {
        return std::get_if<T>(&node);
    }
};

/// Owns all nodes of one file or of one builder.
class SyntaxArena {
public:
    Expr* expr(ExprKind kind, Span span)
    {
        Expr& e = exprs_.emplace_back();
        e.kind = kind;
        e.span = span;
        return &e;
    }
    Statement* statement(Span span)
    {
        Statement& s = statements_.emplace_back();
        s.span = span;
        return &s;
    }

private:
    std::deque<Expr> exprs_;
    std::deque<Statement> statements_;
};

/// One parsed file: its top-level statements.
struct SyntaxFile {
    std::uint32_t file = kNoFile;
    std::shared_ptr<SyntaxArena> arena;
    Block statements;
};

/// The expression as text, for messages and printed equations; brackets only where precedence needs them.
std::string text_of(const Expr& expr);

/// Whether `name` is reserved everywhere in the language.
bool is_reserved(std::string_view name);

/// Whether every way through the statements of a function ends in a `return`: the last one is one, or chooses between such.
bool always_returns(const Block& block);

}  // namespace netloop

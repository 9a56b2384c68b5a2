// SPDX-License-Identifier: Apache-2.0
#include "netloop/builder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <iterator>
#include <memory>
#include <unordered_map>
#include <vector>

#include "api/internal.hpp"
#include "base/deep_stack.hpp"
#include "language/parser.hpp"

namespace netloop {

// A node of an expression as the program made it. It becomes syntax where a builder is given it; until then nobody but its expressions knows it.
struct ExpressionNode {
    ExprKind kind = ExprKind::number;
    double number = 0;
    int order = 0;
    std::shared_ptr<const Unit> unit{};
    std::string text{};  ///< operator, or path
    std::vector<std::shared_ptr<const ExpressionNode>> args{};

    ExpressionNode() = default;
    ExpressionNode(const ExpressionNode&) = delete;
    ExpressionNode& operator=(const ExpressionNode&) = delete;
    // One after another: by recursion a chain of many thousands would take the stack with it.
    ~ExpressionNode()
    {
        using Nodes = std::vector<std::shared_ptr<const ExpressionNode>>;
        thread_local Nodes* open = nullptr;
        if (open != nullptr) {  // within the loop below
            std::move(args.begin(), args.end(), std::back_inserter(*open));
            return;
        }
        Nodes to_drop = std::move(args);
        open = &to_drop;
        while (!to_drop.empty()) {
            std::shared_ptr<const ExpressionNode> node = std::move(to_drop.back());
            to_drop.pop_back();
        }
        open = nullptr;
    }
};

struct ExpressionAccess {
    using Pointer = std::shared_ptr<const ExpressionNode>;
    static const Pointer& node(const Expression& e) { return e.node_; }
    static Expression made(Pointer node) { return Expression(std::move(node)); }
};

namespace {

using Pointer = ExpressionAccess::Pointer;

std::shared_ptr<ExpressionNode> node(ExprKind kind, std::vector<Pointer> args = {}, std::string text = {})
{
    auto made = std::make_shared<ExpressionNode>();
    made->kind = kind;
    made->args = std::move(args);
    made->text = std::move(text);
    return made;
}

bool is_name(const std::string& text)
{
    auto letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_'; };
    return !text.empty() && letter(text[0]) && std::all_of(text.begin(), text.end(), [&](char c) { return letter(c) || (c >= '0' && c <= '9'); });
}

Path path_from(const std::string& text, SyntaxArena& arena)
{
    auto refuse = [&] { throw UsageError(fmt::format("'{}' is no path: names joined by dots, with whole numbers as indices: cylinder.x, bar[3].T", text)); };
    Path path;
    std::size_t at = 0;
    while (at <= text.size()) {
        std::size_t dot = std::min(text.find('.', at), text.size());
        std::string step = text.substr(at, dot - at);
        PathStep s;
        std::size_t open = step.find('[');
        s.name = step.substr(0, open);
        if (!is_name(s.name)) refuse();
        while (open < step.size()) {
            std::size_t close = step.find(']', open);
            std::uint32_t value = 0;
            const char *first = step.data() + open + 1, *last = step.data() + std::min(close, step.size());
            bool read = step[open] == '[' && close != std::string::npos && first < last;
            auto [end, error] = read ? std::from_chars(first, last, value) : std::from_chars_result{first, std::errc::invalid_argument};
            if (!read || error != std::errc() || end != last) refuse();
            Expr* index = arena.expr(ExprKind::number, {});
            index->number = value;
            s.indices.push_back(index);
            open = close + 1;
        }
        path.push_back(std::move(s));
        at = dot + 1;
    }
    return path;
}

Expression path_expression(const std::string& text)
{
    SyntaxArena unused;
    path_from(text, unused);  // refused where it is written
    return ExpressionAccess::made(node(ExprKind::path, {}, text));
}

std::optional<Unit> declared(const std::string& text)
{
    Unit unit;
    UnitProblem problem;
    if (text.empty()) return std::nullopt;
    if (!parse_unit(text, unit, problem)) throw UsageError(fmt::format("{}{}", problem.text, problem.hint.empty() ? "" : "; " + problem.hint));
    return unit;
}

Expression chain(const Expression& a, const Expression& b, char op)
{
    return ExpressionAccess::made(node(ExprKind::chain, {ExpressionAccess::node(a), ExpressionAccess::node(b)}, std::string(1, op)));
}

// Expressions to syntax: a node that several hold becomes one that several point at, and a sum (or product) whose first operand is a sum one long sum, as in a
// text. Without recursion, and no deeper than a text may be.
class BuiltText {
public:
    explicit BuiltText(SyntaxArena& arena) : arena_(arena) {}

    const Expr* operator()(const Expression& e)
    {
        std::vector<Open> open;
        auto begin = [&](const Pointer& n) {
            if (!done_.contains(n.get())) open.push_back(opened(n));
        };
        begin(ExpressionAccess::node(e));
        while (!open.empty()) {
            Open& top = open.back();
            if (top.next < top.operands.size()) {
                begin(Pointer(top.operands[top.next++]));
                continue;
            }
            write(top);
            open.pop_back();
        }
        return done_.at(ExpressionAccess::node(e).get()).expr;
    }

private:
    static bool adds(const ExpressionNode& n) { return n.text[0] == '+' || n.text[0] == '-'; }

    struct Open {
        Pointer node;
        std::vector<Pointer> operands;
        std::string operators;  ///< of a chain
        std::size_t next = 0;   ///< the operand to look at next
    };
    // Of a chain: down its first operands, as long as nothing else holds them.
    static Open opened(const Pointer& n)
    {
        if (n->kind != ExprKind::chain) return {n, n->args, {}};
        Open o{n, {}, {}};
        for (const ExpressionNode* at = n.get();;) {
            o.operands.push_back(at->args[1]);
            o.operators += at->text;
            const Pointer& first = at->args[0];
            if (first->kind != ExprKind::chain || adds(*first) != adds(*n) || first.use_count() != 1) {
                o.operands.push_back(first);
                break;
            }
            at = first.get();
        }
        std::reverse(o.operands.begin(), o.operands.end());
        std::reverse(o.operators.begin(), o.operators.end());
        return o;
    }

    void write(const Open& o)
    {
        const ExpressionNode& n = *o.node;
        Expr* e = arena_.expr(n.kind, {});
        int depth = 1;
        for (const Pointer& operand : o.operands) {
            const Written& written = done_.at(operand.get());
            e->args.push_back(written.expr);
            depth = std::max(depth, written.depth + 1);
        }
        if (depth > kDeepestExpression)
            throw UsageError(fmt::format("an expression is nested more than {} deep", kDeepestExpression),
                             "give parts of it names: a let or a variable with an equation of its own");
        e->number = n.number;
        e->order = n.order;
        e->unit = n.unit;
        if (n.kind == ExprKind::path || n.kind == ExprKind::call)
            e->path = path_from(n.text, arena_);
        else
            e->text = n.kind == ExprKind::chain ? o.operators : n.text;
        done_[&n] = {e, depth, o.node};
    }

    struct Written {
        const Expr* expr = nullptr;
        int depth = 0;
        Pointer kept;  ///< its address is the key
    };
    SyntaxArena& arena_;
    std::unordered_map<const ExpressionNode*, Written> done_;
};

QuantityDecl quantity(QuantityKind kind, const std::string& name, const std::string& unit)
{
    QuantityDecl q;
    q.kind = kind;
    q.name = name;
    q.unit = declared(unit);
    return q;
}

}  // namespace

struct BuilderState {
    std::string name;
    Library library;
    std::shared_ptr<SyntaxArena> arena = std::make_shared<SyntaxArena>();
    ComponentDecl declaration;
    std::string doc;

    BuilderState(std::string n, Library l) : name(std::move(n)), library(std::move(l)) { declaration.name = name; }

    const Expr* write(const Expression& e) { return BuiltText(*arena)(e); }

    template <typename T>
    void add(T node)
    {
        Statement* s = arena->statement({});
        s->node = std::move(node);
        declaration.body.push_back(s);
    }
    void add_equation(const ExpressionEquation& equation, bool init)
    {
        BuiltText writer(*arena);
        EquationDecl e;
        e.left = writer(equation.left);
        e.right = writer(equation.right);
        e.init = init;
        add(std::move(e));
    }
    KindUse kind_use(const std::string& kind, const std::vector<PartValue>& values)
    {
        KindUse use;
        use.kind = path_from(kind, *arena);
        for (const PartValue& v : values) use.values.push_back({path_from(v.path, *arena), write(v.value), {}});
        return use;
    }
    void define()
    {
        auto set = LibraryAccess::set(library);
        Statement* s = arena->statement({});
        s->node = declaration;
        s->doc = doc;
        LibraryWork work(*set);
        set->keep(arena);
        set->define(set->program_scope(), s, name, {});
        throw_errors(*set);
    }
};

struct BuilderAccess {
    static BuilderState& state(const SystemBuilder& b) { return *b.state_; }
};

Expression::Expression(double bare)
{
    auto made = node(ExprKind::number);
    made->number = bare;
    node_ = std::move(made);
}

Expression::Expression(const Quantity& quantity)
{
    auto made = node(ExprKind::number);
    made->number = quantity.si();
    if (auto unit = declared(quantity.unit)) made->unit = std::make_shared<const Unit>(*unit);
    node_ = std::move(made);
}

Expression operator+(const Expression& a, const Expression& b)
{
    return chain(a, b, '+');
}
Expression operator-(const Expression& a, const Expression& b)
{
    return chain(a, b, '-');
}
Expression operator*(const Expression& a, const Expression& b)
{
    return chain(a, b, '*');
}
Expression operator/(const Expression& a, const Expression& b)
{
    return chain(a, b, '/');
}
Expression operator-(const Expression& a)
{
    return ExpressionAccess::made(node(ExprKind::negate, {ExpressionAccess::node(a)}));
}
ExpressionEquation operator==(const Expression& left, const Expression& right)
{
    return {left, right};
}
Expression rate(const Expression& x)
{
    auto made = node(ExprKind::derivative, {ExpressionAccess::node(x)});
    made->order = 1;
    return ExpressionAccess::made(std::move(made));
}
Expression call(const std::string& function, const std::vector<Expression>& arguments)
{
    SyntaxArena unused;
    path_from(function, unused);
    std::vector<std::shared_ptr<const ExpressionNode>> args;
    for (const Expression& a : arguments) args.push_back(ExpressionAccess::node(a));
    return ExpressionAccess::made(node(ExprKind::call, std::move(args), function));
}
Expression less(const Expression& a, const Expression& b)
{
    return ExpressionAccess::made(node(ExprKind::compare, {ExpressionAccess::node(a), ExpressionAccess::node(b)}, "<"));
}
Expression choose(const Expression& condition, const Expression& a, const Expression& b)
{
    return ExpressionAccess::made(node(ExprKind::choice, {ExpressionAccess::node(condition), ExpressionAccess::node(a), ExpressionAccess::node(b)}));
}
Expression time()
{
    return ExpressionAccess::made(node(ExprKind::time));
}

Expression PartHandle::operator[](const std::string& member) const
{
    return path_expression(path_ + "." + member);
}

// --- systems ------------------------------------------------------------------------------------------------------

SystemBuilder::SystemBuilder(const std::string& name, Library library) : state_(std::make_shared<BuilderState>(name, std::move(library)))
{
    state_->declaration.system = true;
}

void SystemBuilder::fluid(const std::string& name, const std::string& kind, const std::vector<PartValue>& values)
{
    FluidUseDecl fluid;
    fluid.name = name;
    fluid.kind = state_->kind_use(kind, values);
    state_->add(std::move(fluid));
}

PartHandle SystemBuilder::part(const std::string& name, const std::string& kind, const std::vector<PartValue>& values)
{
    PartDecl part;
    part.name = name;
    part.kind = state_->kind_use(kind, values);
    state_->add(std::move(part));
    return {name};
}

void SystemBuilder::join(const std::vector<Expression>& ports)
{
    JointDecl joint;
    for (const Expression& p : ports) joint.ports.push_back(state_->write(p));
    state_->add(std::move(joint));
}

void SystemBuilder::feed(const Expression& source, const Expression& input)
{
    SignalDecl signal;
    signal.source = state_->write(source);
    signal.targets = {state_->write(input)};
    state_->add(std::move(signal));
}

Expression SystemBuilder::input(const std::string& name, const std::string& unit, const Quantity& value)
{
    QuantityDecl q = quantity(QuantityKind::input, name, unit);
    q.value = state_->write(value);
    state_->add(std::move(q));
    return path_expression(name);
}

Expression SystemBuilder::param(const std::string& name, const std::string& unit, const Quantity& value)
{
    QuantityDecl q = quantity(QuantityKind::param, name, unit);
    q.value = state_->write(value);
    state_->add(std::move(q));
    return path_expression(name);
}

void SystemBuilder::equation(const ExpressionEquation& e)
{
    state_->add_equation(e, false);
}
void SystemBuilder::init(const Expression& left, const Expression& right)
{
    state_->add_equation({left, right}, true);
}
void SystemBuilder::guess(const Expression& target, const Expression& value)
{
    state_->add(GuessDecl{state_->write(target), state_->write(value)});
}
Expression SystemBuilder::ref(const std::string& path) const
{
    return path_expression(path);
}
const std::string& SystemBuilder::name() const
{
    return state_->name;
}
const Library& SystemBuilder::library() const
{
    return state_->library;
}

CompiledSystem compile(const SystemBuilder& builder)
{
    BuilderState& state = BuilderAccess::state(builder);
    // the declaration may go on growing after this: each compilation takes it as it stands
    SyntaxArena own;
    Statement* s = own.statement({});
    s->node = state.declaration;
    auto make_plan = [&](LibrarySet& set) {
        ScenarioPlan plan;
        plan.system = set.define_passing(set.program_scope(), s, state.name);
        return plan;
    };
    return on_deep_stack([&] { return compile_plan(state.library, make_plan, {}); });
}

// --- components ---------------------------------------------------------------------------------------------------

ComponentBuilder::ComponentBuilder(const std::string& name, Library library) : state_(std::make_shared<BuilderState>(name, std::move(library))) {}

PartHandle ComponentBuilder::port(const std::string& name, const std::string& domain, const std::string& fluid)
{
    PortDecl port;
    port.name = name;
    port.domain = path_from(domain, *state_->arena);
    if (!fluid.empty()) port.fluids = {fluid};
    state_->add(std::move(port));
    return {name};
}

Expression ComponentBuilder::param(const std::string& name, const std::string& unit)
{
    state_->add(quantity(QuantityKind::param, name, unit));
    return path_expression(name);
}

Expression ComponentBuilder::param(const std::string& name, const std::string& unit, const Quantity& value)
{
    QuantityDecl q = quantity(QuantityKind::param, name, unit);
    q.value = state_->write(value);
    state_->add(std::move(q));
    return path_expression(name);
}

Expression ComponentBuilder::param(const std::string& name, const std::string& unit, const Quantity& value, const Quantity& low, const Quantity& high)
{
    QuantityDecl q = quantity(QuantityKind::param, name, unit);
    q.value = state_->write(value);
    q.low = state_->write(low);
    q.high = state_->write(high);
    state_->add(std::move(q));
    return path_expression(name);
}

Expression ComponentBuilder::var(const std::string& name, const std::string& unit)
{
    state_->add(quantity(QuantityKind::var, name, unit));
    return path_expression(name);
}
Expression ComponentBuilder::input(const std::string& name, const std::string& unit)
{
    state_->add(quantity(QuantityKind::input, name, unit));
    return path_expression(name);
}
Expression ComponentBuilder::output(const std::string& name, const std::string& unit)
{
    state_->add(quantity(QuantityKind::output, name, unit));
    return path_expression(name);
}
Expression ComponentBuilder::let(const std::string& name, const Expression& value)
{
    QuantityDecl q = quantity(QuantityKind::let, name, "");
    q.value = state_->write(value);
    state_->add(std::move(q));
    return path_expression(name);
}
void ComponentBuilder::equation(const ExpressionEquation& e)
{
    state_->add_equation(e, false);
}
void ComponentBuilder::init(const Expression& left, const Expression& right)
{
    state_->add_equation({left, right}, true);
}
void ComponentBuilder::guess(const Expression& target, const Expression& value)
{
    state_->add(GuessDecl{state_->write(target), state_->write(value)});
}
void ComponentBuilder::doc(const std::string& text)
{
    state_->doc = text;
}
void ComponentBuilder::define()
{
    state_->define();
}

}  // namespace netloop

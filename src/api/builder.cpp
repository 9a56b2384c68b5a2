// SPDX-License-Identifier: Apache-2.0
#include "netloop/builder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "api/internal.hpp"
#include "base/deep_stack.hpp"
#include "language/parser.hpp"

namespace netloop {

struct BuilderState {
    std::string name;
    Library library;
    SyntaxArena& arena;
    ComponentDecl declaration;
    std::string doc;
    bool defined = false;

    BuilderState(std::string n, Library l) : name(std::move(n)), library(std::move(l)), arena(*LibraryAccess::set(library)->program_arena())
    {
        declaration.name = name;
    }

    template <typename T>
    void add(T node)
    {
        Statement* s = arena.statement({});
        s->node = std::move(node);
        declaration.body.push_back(s);
    }
    const Definition* define(std::size_t from)
    {
        auto set = LibraryAccess::set(library);
        Statement* s = arena.statement({});
        s->node = declaration;
        s->doc = doc;
        const Definition* d = set->define(set->program_scope(), s, name, {});
        throw_errors(*set, from);
        defined = true;
        return d;
    }
};

struct BuilderAccess {
    static BuilderState& state(const SystemBuilder& b) { return *b.state_; }
};

namespace {

// Expressions made outside a builder (numbers, operators) live as long as the program: they are few and small.
SyntaxArena& loose_arena()
{
    static auto* arena = new SyntaxArena;
    return *arena;
}

Expr* node(ExprKind kind)
{
    return loose_arena().expr(kind, {});
}

bool is_name(const std::string& text)
{
    auto letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_'; };
    return !text.empty() && letter(text[0]) && std::all_of(text.begin(), text.end(), [&](char c) { return letter(c) || (c >= '0' && c <= '9'); });
}

Path path_from(const std::string& text)
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
            Expr* index = node(ExprKind::number);
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
    Expr* e = node(ExprKind::path);
    e->path = path_from(text);
    return Expression(e);
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
    Expr* e = node(ExprKind::chain);
    e->text = op;
    e->args = {a.node(), b.node()};
    return Expression(e);
}

KindUse kind_use(const std::string& kind, const std::vector<PartValue>& values)
{
    KindUse use;
    use.kind = path_from(kind);
    for (const PartValue& v : values) use.values.push_back({path_from(v.path), v.value.node(), {}});
    return use;
}

QuantityDecl quantity(QuantityKind kind, const std::string& name, const std::string& unit)
{
    QuantityDecl q;
    q.kind = kind;
    q.name = name;
    q.unit = declared(unit);
    return q;
}

EquationDecl equation_of(const Expression& left, const Expression& right, bool init)
{
    EquationDecl e;
    e.left = left.node();
    e.right = right.node();
    e.init = init;
    return e;
}

}  // namespace

Expression::Expression(double bare)
{
    Expr* e = netloop::node(ExprKind::number);
    e->number = bare;
    node_ = e;
}

Expression::Expression(const Quantity& quantity)
{
    Expr* e = netloop::node(ExprKind::number);
    e->number = quantity.si();
    if (auto unit = declared(quantity.unit)) e->unit = std::make_shared<const Unit>(*unit);
    node_ = e;
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
    Expr* e = node(ExprKind::negate);
    e->args = {a.node()};
    return Expression(e);
}
ExpressionEquation operator==(const Expression& left, const Expression& right)
{
    return {left, right};
}
Expression rate(const Expression& x)
{
    Expr* e = node(ExprKind::derivative);
    e->order = 1;
    e->args = {x.node()};
    return Expression(e);
}
Expression call(const std::string& function, const std::vector<Expression>& arguments)
{
    Expr* e = node(ExprKind::call);
    e->path = path_from(function);
    for (const Expression& a : arguments) e->args.push_back(a.node());
    return Expression(e);
}
Expression less(const Expression& a, const Expression& b)
{
    Expr* e = node(ExprKind::compare);
    e->text = "<";
    e->args = {a.node(), b.node()};
    return Expression(e);
}
Expression choose(const Expression& condition, const Expression& a, const Expression& b)
{
    Expr* e = node(ExprKind::choice);
    e->args = {condition.node(), a.node(), b.node()};
    return Expression(e);
}
Expression time()
{
    return Expression(node(ExprKind::time));
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
    fluid.kind = kind_use(kind, values);
    state_->add(std::move(fluid));
}

PartHandle SystemBuilder::part(const std::string& name, const std::string& kind, const std::vector<PartValue>& values)
{
    PartDecl part;
    part.name = name;
    part.kind = kind_use(kind, values);
    state_->add(std::move(part));
    return {name};
}

void SystemBuilder::join(const std::vector<Expression>& ports)
{
    JointDecl joint;
    for (const Expression& p : ports) joint.ports.push_back(p.node());
    state_->add(std::move(joint));
}

void SystemBuilder::feed(const Expression& source, const Expression& input)
{
    SignalDecl signal;
    signal.source = source.node();
    signal.targets = {input.node()};
    state_->add(std::move(signal));
}

Expression SystemBuilder::input(const std::string& name, const std::string& unit, const Quantity& value)
{
    QuantityDecl q = quantity(QuantityKind::input, name, unit);
    q.value = Expression(value).node();
    state_->add(std::move(q));
    return path_expression(name);
}

Expression SystemBuilder::param(const std::string& name, const std::string& unit, const Quantity& value)
{
    QuantityDecl q = quantity(QuantityKind::param, name, unit);
    q.value = Expression(value).node();
    state_->add(std::move(q));
    return path_expression(name);
}

void SystemBuilder::equation(const ExpressionEquation& e)
{
    state_->add(equation_of(e.left, e.right, false));
}
void SystemBuilder::init(const Expression& left, const Expression& right)
{
    state_->add(equation_of(left, right, true));
}
void SystemBuilder::guess(const Expression& target, const Expression& value)
{
    state_->add(GuessDecl{target.node(), value.node()});
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
    auto set = LibraryAccess::set(state.library);
    std::size_t from = set->diagnostics.begin_work();
    // the declaration may go on growing after this: each compilation takes it as it stands
    Statement* s = state.arena.statement({});
    s->node = state.declaration;
    ScenarioPlan plan;
    FileScope* scope = set->program_scope();
    scope->names.erase(state.name);
    plan.system = set->define(scope, s, state.name, {});
    return on_deep_stack([&] { return compile_plan(state.library, std::move(plan), false, from); });
}

// --- components ---------------------------------------------------------------------------------------------------

ComponentBuilder::ComponentBuilder(const std::string& name, Library library) : state_(std::make_shared<BuilderState>(name, std::move(library))) {}

PartHandle ComponentBuilder::port(const std::string& name, const std::string& domain, const std::string& fluid)
{
    PortDecl port;
    port.name = name;
    port.domain = path_from(domain);
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
    q.value = Expression(value).node();
    state_->add(std::move(q));
    return path_expression(name);
}

Expression ComponentBuilder::param(const std::string& name, const std::string& unit, const Quantity& value, const Quantity& low, const Quantity& high)
{
    QuantityDecl q = quantity(QuantityKind::param, name, unit);
    q.value = Expression(value).node();
    q.low = Expression(low).node();
    q.high = Expression(high).node();
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
    q.value = value.node();
    state_->add(std::move(q));
    return path_expression(name);
}
void ComponentBuilder::equation(const ExpressionEquation& e)
{
    state_->add(equation_of(e.left, e.right, false));
}
void ComponentBuilder::init(const Expression& left, const Expression& right)
{
    state_->add(equation_of(left, right, true));
}
void ComponentBuilder::guess(const Expression& target, const Expression& value)
{
    state_->add(GuessDecl{target.node(), value.node()});
}
void ComponentBuilder::doc(const std::string& text)
{
    state_->doc = text;
}
void ComponentBuilder::define()
{
    state_->define(LibraryAccess::set(state_->library)->diagnostics.items().size());
}

}  // namespace netloop

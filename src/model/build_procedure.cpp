// SPDX-License-Identifier: Apache-2.0
// Functions with loops whose length is not known when the model is compiled: they become procedures that expressions call.
#include "algebra/procedure.hpp"
#include "model/instantiator.hpp"

namespace netloop {
namespace {

bool may_return(const Block& block)
{
    return std::any_of(block.begin(), block.end(), [](const Statement* s) {
        if (s->as<ReturnDecl>() != nullptr) return true;
        if (const auto* b = s->as<IfDecl>()) return may_return(b->then_block) || may_return(b->else_block);
        if (const auto* f = s->as<ForDecl>()) return may_return(f->body);
        if (const auto* w = s->as<WhileDecl>()) return may_return(w->body);
        return false;
    });
}

template <typename Visit>
void for_each_expression(std::vector<ProcedureStep>& steps, Visit visit)
{
    for (ProcedureStep& s : steps) {
        visit(s.value);
        for_each_expression(s.then_steps, visit);
        for_each_expression(s.else_steps, visit);
    }
}

}  // namespace

struct Instantiator::ProcedureWork {
    ProcedureText text;
    std::uint32_t returned = 0;  ///< register: whether a value was already returned
    std::uint32_t fresh() { return text.n_registers++; }
};

void Instantiator::set_local(const std::string& name, const Value& value, Span span, Env& env, ProcedureWork& work, std::vector<ProcedureStep>& out)
{
    if (value.is_array() || value.node == kNoNode) give_up(messages::unsupported, span, "an array in a function with a loop of unknown length");
    auto& local = env.frame->locals[name];
    bool has_register = local.node != kNoNode && graph_[local.node].op == Op::unknown;
    std::uint32_t reg = has_register ? graph_[local.node].a : work.fresh();
    out.push_back({ProcedureStep::Kind::assign, reg, value.node});
    local = Value{};
    local.node = graph_.leaf(Op::unknown, reg);
    local.boolean = value.boolean;
}

void Instantiator::walk_procedure(const Block& block, std::size_t from, Env& env, ProcedureWork& work, std::vector<ProcedureStep>& out)
{
    Graph& g = graph_;
    NodeId not_returned = g.unary(Op::logical_not, g.leaf(Op::unknown, work.returned));
    for (std::size_t i = from; i < block.size(); ++i) {
        const Statement& s = *block[i];
        bool returns = false;
        if (const auto* q = s.as<QuantityDecl>()) {
            if (q->value == nullptr) give_up(messages::bad_value, s.span, fmt::format("'{}' needs a value", q->name));
            set_local(q->name, build(*q->value, env), s.span, env, work, out);
        } else if (const auto* assign = s.as<AssignDecl>()) {
            if (assign->target->kind != ExprKind::path || assign->target->path.size() != 1 || !assign->target->path[0].indices.empty())
                give_up(messages::unsupported, assign->target->span, "setting an element of an array inside a function");
            set_local(assign->target->path[0].name, build(*assign->value, env), s.span, env, work, out);
        } else if (const auto* result = s.as<ReturnDecl>()) {
            if (result->value != nullptr) out.push_back({ProcedureStep::Kind::assign, work.text.result, build_scalar(*result->value, env)});
            out.push_back({ProcedureStep::Kind::assign, work.returned, g.constant(1)});
            return;
        } else if (const auto* branch = s.as<IfDecl>()) {
            ProcedureStep step{ProcedureStep::Kind::branch, 0, build_scalar(*branch->condition, env)};
            walk_procedure(branch->then_block, 0, env, work, step.then_steps);
            walk_procedure(branch->else_block, 0, env, work, step.else_steps);
            out.push_back(std::move(step));
            returns = may_return(branch->then_block) || may_return(branch->else_block);
        } else if (const auto* loop = s.as<ForDecl>()) {
            returns = may_return(loop->body);
            NodeId low = build_scalar(*loop->low, env), high = build_scalar(*loop->high, env);
            std::uint32_t index = work.fresh(), last = work.fresh();
            out.push_back({ProcedureStep::Kind::assign, index, low});
            out.push_back({ProcedureStep::Kind::assign, last, high});
            Value held;
            held.node = g.leaf(Op::unknown, index);
            env.frame->locals[loop->index] = held;
            NodeId more = g.compare(Op::less_equal, held.node, g.leaf(Op::unknown, last), false);
            ProcedureStep step{ProcedureStep::Kind::repeat, 0, returns ? g.binary(Op::logical_and, not_returned, more) : more};
            walk_procedure(loop->body, 0, env, work, step.then_steps);
            step.then_steps.push_back({ProcedureStep::Kind::assign, index, g.add(held.node, g.constant(1))});
            out.push_back(std::move(step));
        } else if (const auto* repeat = s.as<WhileDecl>()) {
            returns = may_return(repeat->body);
            NodeId more = build_scalar(*repeat->condition, env);
            ProcedureStep step{ProcedureStep::Kind::repeat, 0, returns ? g.binary(Op::logical_and, not_returned, more) : more};
            walk_procedure(repeat->body, 0, env, work, step.then_steps);
            out.push_back(std::move(step));
        } else {
            give_up(messages::unexpected_here, s.span, "this statement in a function");
        }
        if (returns && i + 1 < block.size()) {  // the rest runs only if nothing was returned
            ProcedureStep rest{ProcedureStep::Kind::branch, 0, not_returned};
            walk_procedure(block, i + 1, env, work, rest.then_steps);
            out.push_back(std::move(rest));
            return;
        }
    }
}

const Instantiator::MadeProcedure& Instantiator::make_procedure_of(const FunctionDecl& f, InstanceId instance, const FileScope* scope)
{
    auto key = std::make_pair(&f, instance);
    if (auto it = procedures_.find(key); it != procedures_.end()) return it->second;
    if (const OutsideFunction* outside = set_.outside(f)) {
        MadeProcedure made;
        for (CallablePtr& c : outside->callables(instances_[instance].path)) made.callables.push_back(graph_.add_callable(std::move(c)));
        return procedures_.emplace(key, std::move(made)).first->second;
    }
    ProcedureWork work;
    work.text.name = f.name;
    FunctionFrame frame;
    for (const FunctionArgument& a : f.arguments) {
        work.text.arguments.push_back(work.fresh());
        frame.locals[a.name].node = graph_.leaf(Op::unknown, work.text.arguments.back());
    }
    work.text.result = work.fresh();
    work.returned = work.fresh();
    Env inner{instance, scope, nullptr, &frame, false};
    walk_procedure(*f.body, 0, inner, work, work.text.steps);
    if (f.results.size() <= 1 && !may_return(*f.body)) give_up(messages::function_no_result, f.name_span, f.name);

    // params that the function reads come in as further arguments
    MadeProcedure made;
    std::vector<NodeId*> roots;
    std::vector<NodeId> all;
    for_each_expression(work.text.steps, [&](NodeId& e) { roots.push_back(&e), all.push_back(e); });
    std::map<NodeId, NodeId> instead;
    for (NodeId id : graph_.reachable(all)) {
        Op op = graph_[id].op;
        if (op == Op::quantity || op == Op::time || op == Op::rate_of)
            give_up(messages::unsupported, f.name_span, "a function with a loop of unknown length that looks at quantities other than its arguments");
        if (op != Op::parameter) continue;
        made.parameters.push_back(id);
        work.text.arguments.push_back(work.fresh());
        instead[id] = graph_.leaf(Op::unknown, work.text.arguments.back());
    }
    rewrite(graph_, roots, [&](NodeId id, const Node&) {
        auto it = instead.find(id);
        return it == instead.end() ? id : it->second;
    });
    if (f.results.size() > 1) {
        for (const FunctionArgument& r : f.results) {
            auto it = frame.locals.find(r.name);
            if (it == frame.locals.end()) give_up(messages::function_no_result, f.name_span, f.name);
            ProcedureText one = work.text;
            one.name = f.name + "." + r.name;
            one.result = graph_[it->second.node].a;
            made.callables.push_back(graph_.add_callable(make_procedure(graph_, std::move(one))));
        }
    } else {
        made.callables.push_back(graph_.add_callable(make_procedure(graph_, std::move(work.text))));
    }
    return procedures_[key] = std::move(made);
}

Value Instantiator::call_procedure(const FunctionDecl& f, const FunctionFrame& given, const Expr& e, InstanceId instance, const FileScope* scope, View* results)
{
    const MadeProcedure& made = make_procedure_of(f, instance, scope);
    std::vector<NodeId> arguments;
    for (const FunctionArgument& a : f.arguments) {
        const Value& v = given.locals.at(a.name);
        if (v.is_array() || v.node == kNoNode) give_up(messages::unsupported, e.span, "an array given to a function with a loop of unknown length");
        arguments.push_back(v.node);
    }
    arguments.insert(arguments.end(), made.parameters.begin(), made.parameters.end());
    if (arguments.empty()) give_up(messages::unsupported, e.span, "a function without arguments with a loop of unknown length");
    Value first;
    first.node = graph_.call(made.callables[0], arguments);
    if (f.results.size() <= 1) return first;
    if (results == nullptr)
        give_up(messages::bad_value, e.span, fmt::format("function '{}' has several results", f.name), {}, {},
                fmt::format("name one of them: {}(...).{}", f.name, f.results[0].name));
    for (std::size_t i = 0; i < f.results.size(); ++i) {
        Value v;
        v.node = graph_.call(made.callables[i], arguments);
        results->results[f.results[i].name] = v;
    }
    return first;
}

}  // namespace netloop

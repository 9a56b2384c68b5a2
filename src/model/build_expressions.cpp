// SPDX-License-Identifier: Apache-2.0
// Expressions of the text to nodes of the graph: names resolved, functions inlined, arrays taken apart.
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <stdexcept>

#include "base/deep_stack.hpp"
#include "base/interrupt.hpp"
#include "model/instantiator.hpp"
#include "model/table_file.hpp"

namespace netloop {
Value Instantiator::map_unary(const Value& v, const std::function<NodeId(NodeId)>& f)
{
    if (!v.is_array()) return scalar(f(v.node));
    Value r;
    r.sizes = v.sizes;
    for (NodeId n : v.elements) r.elements.push_back(f(n));
    return r;
}

Value Instantiator::map_binary(const Value& a, const Value& b, Span span, const std::function<NodeId(NodeId, NodeId)>& f)
{
    if (!a.is_array() && !b.is_array()) return scalar(f(a.node, b.node));
    if (a.is_array() && b.is_array() && a.sizes != b.sizes)
        give_up(messages::bad_value, span, fmt::format("arrays of {} and {} elements do not go together", a.elements.size(), b.elements.size()));
    Value r;
    r.sizes = a.is_array() ? a.sizes : b.sizes;
    std::size_t n = a.is_array() ? a.elements.size() : b.elements.size();
    for (std::size_t i = 0; i < n; ++i) r.elements.push_back(f(a.is_array() ? a.elements[i] : a.node, b.is_array() ? b.elements[i] : b.node));
    return r;
}

NodeId Instantiator::build_scalar(const Expr& e, const Env& env)
{
    Value v = build(e, env);
    if (v.is_array())
        give_up(messages::bad_value, e.span, fmt::format("'{}' is an array where one value is expected", brief(e)), {}, {}, "name an element: x[1]");
    if (v.node == kNoNode) give_up(messages::bad_value, e.span, fmt::format("'{}' is a word, not a value", brief(e)));
    return v.node;
}

// --- names --------------------------------------------------------------------------------------------------------

std::size_t Instantiator::flat_index(const std::vector<std::uint32_t>& sizes, const PathStep& step, const Env& env, std::string& text)
{
    if (sizes.empty()) give_up(messages::bad_value, step.span, fmt::format("'{}' is not an array", step.name));
    if (step.indices.size() != sizes.size())
        give_up(messages::bad_value, step.span, fmt::format("'{}' has {} indices, {} are given", step.name, sizes.size(), step.indices.size()));
    std::size_t at = 0;
    for (std::size_t k = 0; k < step.indices.size(); ++k) {
        double v = need_constant(*step.indices[k], env, "an index");
        std::uint32_t n = sizes[k];
        if (!(v >= 1 && v <= n) || v != std::floor(v))
            give_up(messages::bad_index, step.indices[k]->span, fmt::format("{:g}", v), step.name, std::to_string(n), "arrays are numbered from 1");
        at = at * n + static_cast<std::size_t>(v) - 1;
        text += fmt::format("{}{:.0f}", k == 0 ? "" : ",", v);
    }
    return at;
}

Value Instantiator::element(Value array, const PathStep& step, const Env& env)
{
    if (step.indices.empty()) return array;
    std::string text;
    std::size_t at = flat_index(array.sizes, step, env, text);
    Value r = scalar(array.elements[at], array.boolean);
    r.path = array.path.empty() ? "" : array.path + "[" + text + "]";
    return r;
}

// A function by its name: the component's own goes before those of files.
Instantiator::FoundFunction Instantiator::find_function(const Path& path, const Env& env)
{
    if (path.size() == 1 && env.instance != kNoNode)
        if (const Member* m = instances_[env.instance].info->find(path[0].name)) return {m->statement->as<FunctionDecl>(), env.instance, m->scope};
    const Definition* d = set_.find(*env.scope, path, true);
    const FunctionDecl* f = d != nullptr ? d->as<FunctionDecl>() : nullptr;
    return {f, kNoNode, d != nullptr ? d->scope : nullptr};
}

Value Instantiator::view_value(std::uint32_t view, const std::string& path)
{
    constexpr InstanceId kOfViews = 0x80000000;  // numbers of views beside those of instances
    View& v = views_[view];
    if (!v.value) {
        Following following(*this, v.declaration, view | kOfViews);
        if (following.again()) give_up(messages::circular_definition, v.declaration->name_span, "let " + v.declaration->name);
        Env env{v.instance, v.scope, nullptr, nullptr, true};
        const Expr& e = *v.declaration->value;
        // `let r = roots(a, b, c)` with several results: r.lo, r.hi
        FoundFunction several;
        if (e.kind == ExprKind::call && e.path.size() == 1 && find_builtin(e.path[0].name) == nullptr) several = find_function(e.path, env);
        Value value;
        if (several.function != nullptr && several.function->results.size() > 1) {
            View results;
            value = call_function(*several.function, e, env, several.instance, several.scope, &results);
            views_[view].results = std::move(results.results);
        } else {
            value = build(e, env);
        }
        views_[view].value = value;
    }
    Value value = *views_[view].value;
    value.path = path;
    return value;
}

Value Instantiator::resolve_member(InstanceId id, const Path& path, std::size_t at, const Env& env, const Expr& e)
{
    const PathStep& step = path[at];
    const Member* m = instances_[id].info->find(step.name);
    bool last = at + 1 == path.size();
    if (m == nullptr) {
        give_up(messages::unknown_name, step.span, step.name, fmt::format("'{}'", instances_[id].info->definition->full_name), {},
                mend_of_name(*instances_[id].info, step.name));
    }
    const InstanceMember& held = instances_[id].members[m->slot];
    std::string full = (instances_[id].path.empty() ? "" : instances_[id].path + ".") + step.name;
    auto no_further = [&] {
        if (!last) give_up(messages::unknown_name, path[at + 1].span, path[at + 1].name, fmt::format("quantity '{}'", step.name));
    };
    auto from_leaves = [&](auto&& leaf) {
        Value v;
        if (held.sizes.empty()) {
            v = scalar(leaf(held.first));
        } else if (!step.indices.empty()) {  // one element: the others are not built
            std::string text;
            v = scalar(leaf(held.first + static_cast<std::uint32_t>(flat_index(held.sizes, step, env, text))));
            v.path = full + "[" + text + "]";
            return v;
        } else {
            v.sizes = held.sizes;
            std::uint32_t n = 1;
            for (std::uint32_t s : held.sizes) n *= s;
            for (std::uint32_t i = 0; i < n; ++i) v.elements.push_back(leaf(held.first + i));
        }
        v.path = full;
        return element(std::move(v), step, env);
    };
    const auto* q = m->statement->as<QuantityDecl>();
    switch (held.kind) {
        case InstanceMember::Kind::option: {
            no_further();
            // comparisons with a word were worked out before: anywhere else a word is no value
            if (!held.choice.empty())
                give_up(messages::bad_value, step.span, fmt::format("'{}' is a word, not a value", full), {}, {},
                        fmt::format("compare it with one of its words: {} == {}", step.name, held.choice));
            return scalar(graph_.constant(held.number), q->type == ValueType::boolean);
        }
        case InstanceMember::Kind::parameter: {
            no_further();
            Value v = from_leaves([&](std::uint32_t i) { return graph_.leaf(Op::parameter, i); });
            v.boolean = q->type == ValueType::boolean;
            return v;
        }
        case InstanceMember::Kind::quantity: {
            no_further();
            Value v = from_leaves([&](std::uint32_t i) { return graph_.quantity(i); });
            v.boolean = q->type == ValueType::boolean;
            return v;
        }
        case InstanceMember::Kind::view: {
            Value v = view_value(held.first, full);
            if (env.now != nullptr) {
                if (!v.is_array()) v.node = as_of_now(v.node, *env.now);
                for (NodeId& node : v.elements) node = as_of_now(node, *env.now);
            }
            if (!last) {
                const auto& results = views_[held.first].results;
                auto it = results.find(path[at + 1].name);
                if (it == results.end()) no_further();
                return it->second;
            }
            return element(std::move(v), step, env);
        }
        case InstanceMember::Kind::port:
        case InstanceMember::Kind::joint: {
            std::uint32_t port = 0;
            if (held.kind == InstanceMember::Kind::joint) {
                port = joints_[held.first] / 2;
            } else if (held.sizes.empty()) {
                port = held.first;
            } else {
                double v = step.indices.empty() ? 0 : need_constant(*step.indices[0], env, "an index");
                if (!(v >= 1 && v <= held.sizes[0]) || v != std::floor(v))
                    give_up(messages::bad_index, step.span, fmt::format("{:g}", v), step.name, std::to_string(held.sizes[0]));
                port = held.first + static_cast<std::uint32_t>(v) - 1;
            }
            if (last) give_up(messages::not_a, step.span, step.name, "a port", "a quantity");
            std::uint32_t offset = 0;
            for (const DomainMember& member : ports_[port].domain->as<DomainDecl>()->members) {
                if (member.kind != DomainMember::Kind::shared && member.kind != DomainMember::Kind::zero_sum) {
                    if (member.name == path[at + 1].name && member.kind == DomainMember::Kind::carried)
                        give_up(messages::unexpected_here, path[at + 1].span, fmt::format("a bare carried quantity '{}'", brief(e)), {}, {},
                                "write leaving(), entering(), passing() or flow() of it");
                    continue;
                }
                if (member.name == path[at + 1].name) {
                    if (held.kind == InstanceMember::Kind::joint && member.kind == DomainMember::Kind::zero_sum)
                        give_up(messages::unexpected_here, path[at + 1].span, fmt::format("'{}', which each port of a joint has for itself,", brief(e)), {}, {},
                                "name one of the ports");
                    Value v = scalar(graph_.quantity(ports_[port].first + offset));
                    v.path = ports_[port].path + "." + member.name;
                    return v;
                }
                ++offset;
            }
            give_up(messages::unknown_name, path[at + 1].span, path[at + 1].name, fmt::format("domain '{}'", ports_[port].domain->name));
        }
        case InstanceMember::Kind::part: {
            if (last) give_up(messages::not_a, step.span, step.name, "a part", "a quantity");
            if (held.first != kNoNode) return resolve_member(held.first, path, at + 1, env, e);
            if (step.indices.empty()) {  // `cell.T` of all cells: an array
                Value all;
                for (InstanceId part : held.sizes) {
                    Value v = resolve_member(part, path, at + 1, env, e);
                    if (v.is_array()) give_up(messages::bad_value, step.span, "an array of arrays");
                    all.elements.push_back(v.node);
                }
                all.sizes = {static_cast<std::uint32_t>(held.sizes.size())};
                return all;
            }
            double v = need_constant(*step.indices[0], env, "an index");
            if (!(v >= 1 && v <= static_cast<double>(held.sizes.size())) || v != std::floor(v))
                give_up(messages::bad_index, step.indices[0]->span, fmt::format("{:g}", v), step.name, std::to_string(held.sizes.size()),
                        "arrays are numbered from 1");
            return resolve_member(held.sizes[static_cast<std::size_t>(v) - 1], path, at + 1, env, e);
        }
        case InstanceMember::Kind::fluid: {
            auto fluid = fluid_of(id, step.name);
            if (!fluid || last) throw StatementGivenUp{};  // the missing fluid was reported
            return resolve_member(*fluid, path, at + 1, env, e);
        }
        case InstanceMember::Kind::sequence:
            return sequence_member(held.first, path, at, env, e);
        case InstanceMember::Kind::memory: {
            no_further();
            Value v = from_leaves([&](std::uint32_t i) {
                NodeId leaf = graph_.leaf(Op::memory, i);
                if (env.now == nullptr) return leaf;
                auto set = env.now->find(leaf);
                return set == env.now->end() ? leaf : set->second;
            });
            v.boolean = q->type == ValueType::boolean || (v.is_array() ? false : model_->memories[held.first].boolean);
            return v;
        }
        case InstanceMember::Kind::other:
        case InstanceMember::Kind::absent:
            break;
    }
    if (instances_[id].constant && q != nullptr && q->kind == QuantityKind::param) {
        const Binding* b = binding_of(id, step.name);
        if (b == nullptr && q->value == nullptr) give_up(messages::missing_value, instances_[id].span, step.name, instances_[id].path);
        no_further();
        Following following(*this, q, id);
        if (following.again()) give_up(messages::circular_definition, b != nullptr ? b->value->span : q->name_span, "param " + step.name);
        return element(fixed_value(q, id,
                                   [&] {
                                       return build(b != nullptr ? *b->value : *q->value, b != nullptr ? b->env : Env{id, m->scope, nullptr, nullptr, true});
                                   }),
                       step, env);
    }
    bool fixed = q != nullptr && (q->kind == QuantityKind::constant || (instances_[id].constant && q->kind == QuantityKind::let));
    if (fixed && q->value != nullptr) {
        no_further();
        Following following(*this, q, id);
        if (following.again()) give_up(messages::circular_definition, q->name_span, "let " + step.name);
        return element(fixed_value(q, id, [&] { return build(*q->value, {id, m->scope, nullptr, nullptr, true}); }), step, env);
    }
    give_up(messages::bad_value, step.span, fmt::format("'{}' does not exist here (the branch that holds it is not taken)", full));
}

// What never changes is worked out once: where each of many uses the one before twice, that is all the difference.
Value Instantiator::fixed_value(const QuantityDecl* q, InstanceId where, const std::function<Value()>& build_it)
{
    std::pair<const void*, InstanceId> key{q, where};
    if (auto known = fixed_.find(key); known != fixed_.end()) return known->second;
    return fixed_[key] = build_it();
}

Value Instantiator::resolve(const Expr& e, const Env& env)
{
    const std::string& name = e.path[0].name;
    if (env.frame != nullptr) {
        auto it = env.frame->locals.find(name);
        if (it != env.frame->locals.end()) {
            if (e.path.size() == 1) return element(it->second, e.path[0], env);
            auto member = env.frame->locals.find(name + "." + e.path[1].name);
            if (member != env.frame->locals.end()) return member->second;
        }
    }
    if (e.path.size() == 1 && e.path[0].indices.empty())
        for (const LoopIndex* l = env.loops; l != nullptr; l = l->outer)
            if (l->name == name) {
                if (l->let == nullptr) return scalar(graph_.constant(l->value));
                Env there = env;
                there.loops = l->outer;
                return build(*l->let, there);
            }
    if (env.sequence != nullptr && e.path.size() == 1 && e.path[0].indices.empty()) {
        const SequenceInstance& s = *env.sequence;
        bool own = s.parameters.contains(name) || s.signals.contains(name) || name == "dwell";
        for (const Statement* statement : s.decl->declarations)
            if (const auto* q = statement->as<QuantityDecl>()) own |= q->name == name;
        if (own) return own_sequence_name(s, name, e.path[0].span, env);
    }
    bool in_instance = env.instance != kNoNode && instances_[env.instance].info->find(name) != nullptr;
    if (in_instance) return resolve_member(env.instance, e.path, 0, env, e);
    if (e.path.size() > 1) {  // a param of a fluid of a file
        const Definition* d = set_.find(*env.scope, Path(e.path.begin(), e.path.end() - 1), true);
        if (d != nullptr && d->as<FluidUseDecl>() != nullptr) return resolve_member(file_fluid(*d), e.path, e.path.size() - 1, env, e);
    }
    if (const Definition* d = set_.find(*env.scope, e.path, true)) {
        if (const auto* q = d->as<QuantityDecl>(); q != nullptr && q->value != nullptr) {
            Following following(*this, q, kNoNode);
            if (following.again()) give_up(messages::circular_definition, e.span, "const " + d->name);
            return element(fixed_value(q, kNoNode, [&] { return build(*q->value, {kNoNode, d->scope, nullptr, nullptr, true}); }), e.path.back(), env);
        }
        give_up(messages::not_a, e.span, d->name, d->kind_text(), "a quantity");
    }
    std::vector<std::string> names;
    if (env.instance != kNoNode) names = instances_[env.instance].info->member_names;
    if (env.frame != nullptr)
        for (const auto& [local, v] : env.frame->locals) names.push_back(local);
    std::string near = nearest_name(name, names);
    std::string where = env.instance != kNoNode ? fmt::format("'{}'", instances_[env.instance].info->definition->full_name) : "this file";
    give_up(messages::unknown_name, e.path[0].span, name, where, {}, near.empty() ? "" : fmt::format("did you mean '{}'?", near));
}

// --- expressions --------------------------------------------------------------------------------------------------

Value Instantiator::build_chain(const Expr& e, const Env& env)
{
    Value sum = build(*e.args[0], env);
    for (std::size_t i = 1; i < e.args.size(); ++i) {
        Value next = build(*e.args[i], env);
        char op = e.text[i - 1];
        bool boolean = op == '&' || op == '|';
        sum = map_binary(sum, next, e.span, [&](NodeId a, NodeId b) {
            switch (op) {
                case '+':
                    return graph_.add(a, b);
                case '-':
                    return graph_.sub(a, b);
                case '*':
                    return graph_.mul(a, b);
                case '/':
                    return graph_.div(a, b);
                case '&':
                    return graph_.binary(Op::logical_and, a, b);
                default:
                    return graph_.binary(Op::logical_or, a, b);
            }
        });
        sum.boolean = boolean;
    }
    sum.path.clear();
    return sum;
}

Value Instantiator::build(const Expr& e, const Env& env)
{
    struct Depth {
        std::size_t& depth;
        explicit Depth(std::size_t& of) : depth(of) { ++depth; }
        ~Depth() { --depth; }
        Depth(const Depth&) = delete;
        Depth& operator=(const Depth&) = delete;
    } within(depth_);
    look_at_interrupt();
    if (stack_is_short()) give_up(messages::nested_too_deeply, e.span, std::to_string(depth_), {}, {}, "let fewer definitions hang on each other");
    switch (e.kind) {
        case ExprKind::number:
            return scalar(graph_.constant(e.number));
        case ExprKind::truth:
            return scalar(graph_.constant(e.number), true);
        case ExprKind::text:
            give_up(messages::unexpected_here, e.span, "a text in quotes");
        case ExprKind::time:
            return scalar(graph_.time());
        case ExprKind::path:
            if (!e.args.empty()) {  // roots(a, b, c).lo
                View results;
                FoundFunction f = find_function(e.args[0]->path, env);
                if (f.function == nullptr) {
                    (void)set_.find(*env.scope, e.args[0]->path);
                    throw StatementGivenUp{};
                }
                call_function(*f.function, *e.args[0], env, f.instance, f.scope, &results);
                auto it = results.results.find(e.path.back().name);
                if (it == results.results.end())
                    give_up(messages::unknown_name, e.span, e.path.back().name, fmt::format("the results of '{}'", f.function->name));
                return it->second;
            }
            if (env.measures != nullptr && e.path.size() == 1)
                if (auto it = env.measures->find(e.path[0].name); it != env.measures->end()) return it->second;
            return resolve(e, env);
        case ExprKind::derivative: {
            Value v = build(*e.args[0], env);
            std::string path = v.path;
            for (int k = 0; k < e.order; ++k) v = map_unary(v, [&](NodeId n) { return graph_.rate_of(n); });
            if (!path.empty()) v.path = path + std::string(static_cast<std::size_t>(e.order), '\'');
            return v;
        }
        case ExprKind::chain:
            return build_chain(e, env);
        case ExprKind::negate:
            return map_unary(build(*e.args[0], env), [&](NodeId n) { return graph_.neg(n); });
        case ExprKind::power:
            return map_binary(build(*e.args[0], env), build(*e.args[1], env), e.span, [&](NodeId a, NodeId b) { return graph_.pow(a, b); });
        case ExprKind::logical_not:
            return scalar(graph_.unary(Op::logical_not, build_scalar(*e.args[0], env)), true);
        case ExprKind::is_stage:
            return is_stage(e, env);
        case ExprKind::choice: {
            if (auto c = constant_of(*e.args[0], env, nullptr)) return build(*e.args[c->number != 0 ? 1 : 2], env);
            NodeId condition = build_scalar(*e.args[0], env);
            Value yes = build(*e.args[1], env), no = build(*e.args[2], env);
            Value v = map_binary(yes, no, e.span, [&](NodeId a, NodeId b) { return graph_.select(condition, a, b); });
            v.boolean = yes.boolean && no.boolean;
            return v;
        }
        case ExprKind::compare: {
            if (auto c = constant_of(e, env, nullptr)) return scalar(graph_.constant(c->number), true);
            Value left = build(*e.args[0], env), right = build(*e.args[1], env);
            if (left.is_array() || right.is_array()) give_up(messages::bad_value, e.span, "arrays cannot be compared as a whole");
            NodeId a = left.node, b = right.node;
            if (a == kNoNode || b == kNoNode) give_up(messages::bad_value, e.span, "a choice can only be compared with one of its words");
            bool words = left.boolean || right.boolean;
            auto equal = [&] {
                if (!words) return graph_.compare(Op::equal, a, b, false);
                NodeId both = graph_.binary(Op::logical_and, a, b);
                return graph_.binary(Op::logical_or, both, graph_.binary(Op::logical_and, graph_.unary(Op::logical_not, a), graph_.unary(Op::logical_not, b)));
            };
            if (e.text == "==") return scalar(equal(), true);
            if (e.text == "!=") return scalar(graph_.unary(Op::logical_not, equal()), true);
            if (e.text == "<") return scalar(graph_.compare(Op::less, a, b, env.located), true);
            if (e.text == "<=") return scalar(graph_.compare(Op::less_equal, a, b, env.located), true);
            if (e.text == ">") return scalar(graph_.compare(Op::less, b, a, env.located), true);
            return scalar(graph_.compare(Op::less_equal, b, a, env.located), true);
        }
        case ExprKind::call:
            return build_call(e, env);
        case ExprKind::array: {
            Value v;
            for (const Expr* x : e.args) {
                Value inner = build(*x, env);
                if (inner.is_array()) {
                    if (v.sizes.size() == 0) v.sizes = {0, inner.sizes[0]};
                    if (inner.sizes.size() != 1 || v.sizes.size() != 2 || v.sizes[1] != inner.sizes[0])
                        give_up(messages::bad_value, x->span, "the rows of an array must be equally long");
                    v.elements.insert(v.elements.end(), inner.elements.begin(), inner.elements.end());
                } else {
                    if (v.sizes.size() == 0) v.sizes = {0};
                    if (v.sizes.size() != 1) give_up(messages::bad_value, x->span, "the rows of an array must be equally long");
                    v.elements.push_back(inner.node);
                }
                ++v.sizes[0];
            }
            if (v.sizes.empty()) v.sizes = {0};
            return v;
        }
        case ExprKind::comprehension:
        case ExprKind::window:
        case ExprKind::at_moment:
            give_up(messages::unexpected_here, e.span, fmt::format("'{}'", brief(e)));
    }
    throw StatementGivenUp{};
}

// --- calls --------------------------------------------------------------------------------------------------------

Value Instantiator::build_call(const Expr& e, const Env& env)
{
    const FunctionDecl* function = nullptr;
    const TableDecl* table = nullptr;
    const FileScope* scope = nullptr;
    InstanceId instance = kNoNode;
    if (env.measures != nullptr && measure_kind(e)) return build_measured(e, env);
    auto is_own = [&] {
        const Member* own = env.instance != kNoNode ? instances_[env.instance].info->find(e.path[0].name) : nullptr;
        return own != nullptr ? own->statement->as<FunctionDecl>() != nullptr || own->statement->as<TableDecl>() != nullptr
                              : set_.find(*env.scope, e.path, true) != nullptr;
    };
    if (e.path.size() == 1 && find_builtin(e.path[0].name) != nullptr && !(is_word_of_ports(e.path[0].name) && is_own()))
        return build_builtin(e, e.path[0].name, env);
    if (env.instance != kNoNode) {
        const Member* m = instances_[env.instance].info->find(e.path[0].name);
        if (m != nullptr && e.path.size() == 1) {
            function = m->statement->as<FunctionDecl>();
            table = m->statement->as<TableDecl>();
            scope = m->scope;
            instance = env.instance;
        } else if (m != nullptr && e.path.size() == 2) {
            auto fluid = fluid_of(env.instance, e.path[0].name);
            if (!fluid) throw StatementGivenUp{};  // reported when fluids were settled
            const Member* f = instances_[*fluid].info->find(e.path[1].name);
            if (f == nullptr)
                give_up(messages::unknown_name, e.path[1].span, e.path[1].name, fmt::format("fluid '{}'", instances_[*fluid].info->definition->name));
            function = f->statement->as<FunctionDecl>();
            table = f->statement->as<TableDecl>();
            scope = f->scope;
            instance = *fluid;
        }
    }
    if (function == nullptr && table == nullptr && e.path.size() > 1) {  // `fluids.air.cp(p, T)`
        const Definition* d = set_.find(*env.scope, Path(e.path.begin(), e.path.end() - 1), true);
        if (d != nullptr && d->as<FluidUseDecl>() != nullptr) {
            instance = file_fluid(*d);
            const Member* f = instances_[instance].info->find(e.path.back().name);
            if (f == nullptr) throw StatementGivenUp{};  // reported by the unit check
            function = f->statement->as<FunctionDecl>();
            table = f->statement->as<TableDecl>();
            scope = f->scope;
        }
    }
    if (function == nullptr && table == nullptr) {
        const Definition* d = set_.find(*env.scope, e.path);
        if (d == nullptr) throw StatementGivenUp{};
        checker_.check(*d);
        function = d->as<FunctionDecl>();
        table = d->as<TableDecl>();
        scope = d->scope;
        instance = kNoNode;
    }
    if (table != nullptr) {
        if (e.args.size() != table->arguments.size()) throw StatementGivenUp{};  // reported by the unit check
        std::uint32_t index = table_index(*table, *scope);
        Value x = build(*e.args[0], env);
        if (e.args.size() == 3)
            return scalar(graph_.call(index, {build_scalar(*e.args[0], env), build_scalar(*e.args[1], env), build_scalar(*e.args[2], env)}));
        if (e.args.size() == 1) return map_unary(x, [&](NodeId n) { return graph_.lookup(index, n, kNoNode); });
        return map_binary(x, build(*e.args[1], env), e.span, [&](NodeId a, NodeId b) { return graph_.lookup(index, a, b); });
    }
    if (function == nullptr) give_up(messages::not_a, e.span, text_of(e.path), "no function", "a function or table");
    return call_function(*function, e, env, instance, scope, nullptr);
}

// Counts what one call takes with it.
class Instantiator::Within {
public:
    explicit Within(Instantiator& of) : of_(of), turns_(of.turns_), call_(true)
    {
        ++of_.open_calls_;
        of_.turns_ = 1;
    }
    Within(Instantiator& of, double turns) : of_(of), turns_(of.turns_) { of_.turns_ *= std::max(turns, 1.0); }
    ~Within()
    {
        of_.turns_ = turns_;
        if (call_) --of_.open_calls_;
    }
    Within(const Within&) = delete;
    Within& operator=(const Within&) = delete;

private:
    Instantiator& of_;
    double turns_;
    bool call_ = false;
};

Value Instantiator::call_function(const FunctionDecl& f, const Expr& e, const Env& env, InstanceId instance, const FileScope* scope, View* results)
{
    if (e.args.size() != f.arguments.size()) throw StatementGivenUp{};  // reported by the unit check
    if (!f.body) give_up(messages::bad_value, e.span, fmt::format("function '{}' is only announced here; the fluid given must define it", f.name));
    FunctionFrame frame;
    for (std::size_t i = 0; i < f.arguments.size(); ++i) {
        Value v = build(*e.args[i], env);
        v.path.clear();
        frame.locals[f.arguments[i].name] = std::move(v);
    }
    if (set_.outside(f) != nullptr) return call_procedure(f, frame, e, instance, scope, results);
    Following following(*this, &f, kNoNode);
    if (following.again()) give_up(messages::circular_definition, e.span, fmt::format("function '{}' calls itself", f.name));
    constexpr std::size_t kMostCalls = 100000;
    if (open_calls_ == 0) calls_within_ = 0, outermost_ = {e.span, f.name};
    if (++calls_within_ > kMostCalls)
        give_up(messages::function_too_large, outermost_.first, outermost_.second, std::to_string(kMostCalls), {},
                "let it call another once, and give the result a name");
    Within within(*this);
    Env inner{instance, scope, nullptr, &frame, false};
    Execution state{graph_.constant(0), graph_.constant(0)};
    FunctionFrame given = frame;
    try {
        execute(*f.body, inner, state);
    } catch (const NeedsProcedure&) {
        return call_procedure(f, given, e, instance, scope, results);
    }
    if (f.results.size() > 1) {
        if (results == nullptr)
            give_up(messages::bad_value, e.span, fmt::format("function '{}' has several results", f.name), {}, {},
                    fmt::format("name one of them: {}(...).{}", f.name, f.results[0].name));
        for (const FunctionArgument& r : f.results) {
            auto it = frame.locals.find(r.name);
            if (it == frame.locals.end()) give_up(messages::function_no_result, f.name_span, f.name);
            results->results[r.name] = it->second;
        }
        return frame.locals[f.results[0].name];
    }
    if (!graph_.is_constant(state.returned, 1)) {
        // every way through must return; a result that depends on a condition alone is not enough
        if (graph_.is_constant(state.returned, 0)) give_up(messages::function_no_result, f.name_span, f.name);
    }
    return scalar(state.value);
}

void Instantiator::execute(const Block& block, Env& env, Execution& state)
{
    Graph& g = graph_;
    for (const Statement* s : block) {
        if (g.is_constant(state.returned, 1)) return;
        if (const auto* q = s->as<QuantityDecl>()) {
            if (q->value == nullptr) give_up(messages::bad_value, s->span, fmt::format("'{}' needs a value", q->name));
            env.frame->locals[q->name] = build(*q->value, env);
        } else if (const auto* assign = s->as<AssignDecl>()) {
            if (assign->target->kind != ExprKind::path || assign->target->path.size() != 1 || !assign->target->path[0].indices.empty())
                give_up(messages::unsupported, assign->target->span, "setting an element of an array inside a function");
            env.frame->locals[assign->target->path[0].name] = build(*assign->value, env);
        } else if (const auto* result = s->as<ReturnDecl>()) {
            if (result->value != nullptr) {
                NodeId v = build_scalar(*result->value, env);
                state.value = g.is_constant(state.returned, 0) ? v : g.select(state.returned, state.value, v);
            }
            state.returned = g.constant(1);
        } else if (const auto* branch = s->as<IfDecl>()) {
            if (auto c = constant_of(*branch->condition, env, nullptr); c && env.frame->locals.empty()) {
                execute(c->number != 0 ? branch->then_block : branch->else_block, env, state);
                continue;
            }
            NodeId condition = build_scalar(*branch->condition, env);
            if (g.is_constant(condition)) {
                execute(g.value(condition) != 0 ? branch->then_block : branch->else_block, env, state);
                continue;
            }
            FunctionFrame yes = *env.frame, no = *env.frame;
            Execution state_yes = state, state_no = state;
            Env env_yes = env, env_no = env;
            env_yes.frame = &yes;
            env_no.frame = &no;
            execute(branch->then_block, env_yes, state_yes);
            execute(branch->else_block, env_no, state_no);
            for (auto& [name, v] : yes.locals) {
                auto other = no.locals.find(name);
                if (other == no.locals.end() || v.node == other->second.node) continue;
                env.frame->locals[name] = map_binary(v, other->second, s->span, [&](NodeId a, NodeId b) { return g.select(condition, a, b); });
            }
            for (auto& [name, v] : yes.locals)
                if (!env.frame->locals.contains(name) && no.locals.contains(name)) env.frame->locals[name] = v;
            state.value = g.select(condition, state_yes.value, state_no.value);
            state.returned = g.select(condition, state_yes.returned, state_no.returned);
        } else if (const auto* loop = s->as<ForDecl>()) {
            double low = g.is_constant(build_scalar(*loop->low, env)) ? g.value(build_scalar(*loop->low, env)) : std::nan("");
            double high = g.is_constant(build_scalar(*loop->high, env)) ? g.value(build_scalar(*loop->high, env)) : std::nan("");
            constexpr double kLongestUnrolled = 256, kMostUnrolled = 4096;  // of one loop, of loops within each other
            if (!(high - low < kLongestUnrolled) || turns_ * (high - low + 1) > kMostUnrolled) throw NeedsProcedure{};
            Within within(*this, high - low + 1);
            for (int i = static_cast<int>(low); i <= static_cast<int>(high); ++i) {
                env.frame->locals[loop->index] = scalar(g.constant(i));
                execute(loop->body, env, state);
            }
        } else if (s->as<WhileDecl>() != nullptr) {
            throw NeedsProcedure{};
        } else {
            give_up(messages::unexpected_here, s->span, "this statement in a function");
        }
    }
}

std::uint32_t Instantiator::table_index(const TableDecl& table, const FileScope& scope)
{
    auto key = std::make_pair(&table, 0);
    if (auto it = tables_.find(key); it != tables_.end()) return it->second;
    auto scaled = [](const std::vector<double>& v, const std::optional<Unit>& unit) {
        std::vector<double> r = v;
        if (unit)
            for (double& x : r) x = unit->to_si(x);
        return r;
    };
    try {
        auto outside = table.outside == TableDecl::Outside::hold     ? Table::Outside::hold
                       : table.outside == TableDecl::Outside::extend ? Table::Outside::extend
                                                                     : Table::Outside::refuse;
        if (!table.file.empty()) {
            TablePoints p = table_points(set_.table_text((std::filesystem::path(scope.path).parent_path() / table.file).string(), table), table);
            if (!p.z.empty()) {
                std::array<std::vector<double>, 3> knots{std::move(p.x), std::move(p.y), std::move(p.z)};
                return tables_[key] =
                           graph_.add_callable(std::make_shared<const Table3>(table.name, std::move(knots), std::move(p.values), table.smooth, outside));
            }
            return tables_[key] =
                       graph_.add_table(std::make_shared<const Table>(table.name, std::move(p.x), std::move(p.y), std::move(p.values), table.smooth, outside));
        }
        std::vector<double> x = scaled(table.knots.at(0), table.arguments.at(0).unit), y;
        if (table.knots.size() > 1) y = scaled(table.knots[1], table.arguments.at(1).unit);
        if (table.knots.size() != table.arguments.size())
            throw std::invalid_argument(
                fmt::format("it has {} arguments and points for {} (a table of three is read from a CSV file)", table.arguments.size(), table.knots.size()));
        auto made = std::make_shared<const Table>(table.name, std::move(x), std::move(y), scaled(table.values, table.unit), table.smooth, outside);
        return tables_[key] = graph_.add_table(std::move(made));
    } catch (const std::exception& problem) {
        give_up(messages::bad_table, table.name_span, table.name, problem.what());
    }
}

}  // namespace netloop

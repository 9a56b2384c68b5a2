// SPDX-License-Identifier: Apache-2.0
// Stage three: quantities, parameters and equations of every instance, and the equations of joints and signals.
#include <algorithm>
#include <cmath>

#include "model/instantiator.hpp"

namespace netloop {
namespace {

std::string indexed(const std::string& path, const std::vector<std::uint32_t>& sizes, std::uint32_t at)
{
    if (sizes.empty()) return path;
    if (sizes.size() == 1) return fmt::format("{}[{}]", path, at + 1);
    return fmt::format("{}[{},{}]", path, at / sizes[1] + 1, at % sizes[1] + 1);
}

}  // namespace

Unit unit_of(const Type& type)
{
    if (type.unit) return *type.unit;
    return type.known ? si_unit(type.dimension) : Unit{};
}

// --- quantities ---------------------------------------------------------------------------------------------------

void Instantiator::make_quantity(InstanceId id, const QuantityDecl& q, const BodyItem& item, const Env& env)
{
    if (q.kind == QuantityKind::option || q.kind == QuantityKind::constant) return;
    const Member* m = instances_[id].info->find(q.name);
    if (m == nullptr || instances_[id].members[m->slot].kind != InstanceMember::Kind::absent) return;
    std::string path = (instances_[id].path.empty() ? "" : instances_[id].path + ".") + q.name;
    InstanceMember held;
    std::uint32_t n = 1;
    for (const Expr* size : q.sizes) {
        held.sizes.push_back(size_of(*size, env, q.name));
        n *= held.sizes.back();
    }
    if (q.sizes.size() > 2) give_up(messages::unsupported, q.name_span, "arrays of more than two indices");
    Type type = settled(checker_.declared_type(q, instances_[id].info, *item.scope), instances_[id].units);
    Origin origin{id, q.name_span};
    bool boolean = q.type == ValueType::boolean || type.kind == Type::Kind::condition;
    bool unchecked = !type.known && !boolean && q.type == ValueType::real && q.kind != QuantityKind::let && q.kind != QuantityKind::memory;
    if (unchecked) set_.diagnostics.report(messages::unchecked_quantity, q.name_span, q.name);
    if (q.kind == QuantityKind::memory) {
        held.kind = InstanceMember::Kind::memory;
        held.first = static_cast<std::uint32_t>(model_->memories.size());
        for (std::uint32_t i = 0; i < n; ++i) {
            FlatMemory memory;
            memory.path = indexed(path, held.sizes, i);
            memory.unit = unit_of(type);
            memory.boolean = boolean;
            memory.doc = item.statement->doc;
            memory.origin = origin;
            add_memory(std::move(memory));
        }
    } else if (q.kind == QuantityKind::let) {
        held.kind = InstanceMember::Kind::view;
        held.first = static_cast<std::uint32_t>(views_.size());
        View v;
        v.declaration = &q;
        v.scope = item.scope;
        v.instance = id;
        v.doc = item.statement->doc;
        v.span = q.name_span;
        views_.push_back(std::move(v));
    } else if (q.kind == QuantityKind::param || (q.kind == QuantityKind::input && id == 0)) {
        held.kind = InstanceMember::Kind::parameter;
        held.first = static_cast<std::uint32_t>(model_->parameters.size());
        for (std::uint32_t i = 0; i < n; ++i) {
            FlatParameter p;
            p.path = indexed(path, held.sizes, i);
            p.unit = unit_of(type);
            p.boolean = boolean;
            p.external = q.kind == QuantityKind::input;
            p.doc = item.statement->doc;
            p.origin = origin;
            model_->parameters.push_back(std::move(p));
        }
    } else {
        held.kind = InstanceMember::Kind::quantity;
        held.first = static_cast<QuantityId>(model_->quantities.size());
        for (std::uint32_t i = 0; i < n; ++i) {
            FlatQuantity f;
            f.path = indexed(path, held.sizes, i);
            f.role = q.kind == QuantityKind::input ? QuantityRole::input : q.kind == QuantityKind::output ? QuantityRole::output : QuantityRole::var;
            f.unit = unit_of(type);
            f.checked = type.known || boolean;
            f.boolean = boolean;
            f.doc = item.statement->doc;
            f.origin = origin;
            model_->quantities.push_back(std::move(f));
        }
    }
    held.declaration = &q;
    instances_[id].members[m->slot] = held;
}

void Instantiator::make_quantities(InstanceId id)
{
    if (instances_[id].constant) return;
    for_each_statement(id, [&](const BodyItem& item, const Env& env) {
        if (const auto* q = item.statement->as<QuantityDecl>()) make_quantity(id, *q, item, env);
        if (const auto* sequence = item.statement->as<SequenceDecl>()) make_sequence(id, *sequence, item);
    });
}

void Instantiator::make_port_quantities()
{
    for (PortInstance& p : ports_) {
        p.first = static_cast<QuantityId>(model_->quantities.size());
        for (const DomainMember& m : p.domain->as<DomainDecl>()->members) {
            if (m.kind != DomainMember::Kind::shared && m.kind != DomainMember::Kind::zero_sum) continue;
            FlatQuantity q;
            q.path = p.path + "." + m.name;
            q.role = m.kind == DomainMember::Kind::shared ? QuantityRole::shared : QuantityRole::zero_sum;
            if (m.unit) q.unit = *m.unit;
            q.doc = p.doc;
            q.origin = {p.instance, p.span};
            if (m.low != nullptr) {
                Env own{kNoNode, p.domain->scope, nullptr, nullptr, true};
                q.low = need_constant(*m.low, own, "a range");
                q.high = need_constant(*m.high, own, "a range");
                if (q.doc.empty()) q.doc = m.doc;
                auto id = static_cast<QuantityId>(model_->quantities.size());
                model_->limits.push_back({FlatLimit::Of::quantity, id, graph_.quantity(id), graph_.constant(q.low), graph_.constant(q.high)});
            }
            model_->quantities.push_back(std::move(q));
        }
    }
}

void Instantiator::settle_parameters()
{
    for (InstanceId id = 0; id < instances_.size(); ++id) {
        for (const auto& name : instances_[id].info->member_names) {
            const Member& m = *instances_[id].info->find(name);
            const InstanceMember held = instances_[id].members[m.slot];
            const QuantityDecl* q = held.declaration != nullptr ? held.declaration : m.statement->as<QuantityDecl>();
            if (q == nullptr) continue;
            Env own{id, m.scope, nullptr, nullptr, true};
            auto built = [&](const Expr* e, std::uint32_t n) {
                Value v;
                if (e == nullptr) return v;
                v = build(*e, own);
                if (v.is_array() && v.elements.size() != n)
                    give_up(messages::bad_value, e->span, fmt::format("'{}' has {} elements, the value has {}", name, n, v.elements.size()));
                return v;
            };
            auto at = [](const Value& v, std::uint32_t i) { return v.is_array() ? v.elements[i] : v.node; };
            try {
                if (held.kind == InstanceMember::Kind::parameter) {
                    const Binding* b = binding_of(id, name);
                    const Expr* e = b != nullptr ? b->value : q->value;
                    if (e == nullptr) {
                        bool external = q->kind == QuantityKind::input;
                        if (external)
                            give_up(messages::no_source, q->name_span, name, {}, {}, "a system's own input needs a default: input " + name + " : unit = value");
                        std::string part = instances_[id].path.empty() ? instances_[id].info->definition->name : instances_[id].path;
                        std::string unit = model_->parameters[held.first].unit.text;
                        set_.diagnostics.report(messages::missing_value, instances_[id].span.known() ? instances_[id].span : q->name_span, name, part)
                            .note(q->name_span, "it has no default here")
                            .mend(fmt::format("give it one: {}({} = ... {})", instances_[id].info->definition->name, name, unit == "1" ? "" : unit));
                        continue;
                    }
                    Value v = build(*e, b != nullptr ? b->env : own);
                    std::uint32_t n = 1;
                    for (std::uint32_t s : held.sizes) n *= s;
                    if ((v.is_array() && v.sizes != held.sizes) || (!v.is_array() && v.node == kNoNode))
                        give_up(messages::bad_value, e->span, fmt::format("'{}' has {} elements, the value has {}", name, n, v.elements.size()));
                    Value low = built(q->low, n), high = built(q->high, n);
                    for (std::uint32_t i = 0; i < n; ++i) {
                        FlatParameter& p = model_->parameters[held.first + i];
                        p.value = v.is_array() ? v.elements[i] : v.node;
                        if (b != nullptr) p.origin.span = e->span, p.changed = b->from_outside;
                        p.low = at(low, i);
                        p.high = at(high, i);
                    }
                } else if (held.kind == InstanceMember::Kind::quantity) {
                    std::uint32_t n = 1;
                    for (std::uint32_t s : held.sizes) n *= s;
                    Value start = built(q->guess != nullptr ? q->guess : q->init, n), low = built(q->low, n), high = built(q->high, n),
                          usual = built(q->usual, n);
                    for (std::uint32_t i = 0; i < n; ++i) {
                        FlatQuantity& f = model_->quantities[held.first + i];
                        auto number = [&](const Value& v, double otherwise) {
                            NodeId node = at(v, i);
                            return node != kNoNode && graph_.is_constant(node) ? graph_.value(node) : otherwise;
                        };
                        f.start = at(start, i);
                        // what depends on other quantities is a condition of the start, but no place to begin a search at
                        auto varies = [&](NodeId x) { return graph_[x].op == Op::quantity || graph_[x].op == Op::rate_of || graph_[x].op == Op::memory; };
                        if (f.start != kNoNode) {
                            std::vector<NodeId> below = graph_.reachable({f.start});
                            if (std::any_of(below.begin(), below.end(), varies)) f.start = kNoNode;
                        }
                        f.low = number(low, f.low);
                        f.high = number(high, f.high);
                        f.usual = std::abs(number(usual, 0));
                        if (q->low != nullptr)
                            model_->limits.push_back({FlatLimit::Of::quantity, held.first + i, graph_.quantity(held.first + i), at(low, i), at(high, i)});
                    }
                } else if (held.kind == InstanceMember::Kind::memory) {
                    std::uint32_t n = 1;
                    for (std::uint32_t s : held.sizes) n *= s;
                    const Binding* b = binding_of(id, name);
                    const Expr* e = b != nullptr ? b->value : q->value != nullptr ? q->value : q->init;
                    if (e == nullptr) continue;  // begins at 0
                    Env from = b != nullptr ? b->env : own;
                    from.located = false;
                    Value v = build(*e, from);
                    if (v.is_array() && v.elements.size() != n)
                        give_up(messages::bad_value, e->span, fmt::format("'{}' has {} elements, the value has {}", name, n, v.elements.size()));
                    for (std::uint32_t i = 0; i < n; ++i) model_->memories[held.first + i].start = at(v, i);
                    Value low = built(q->low, n), high = built(q->high, n);
                    for (std::uint32_t i = 0; i < n && q->low != nullptr; ++i)
                        model_->limits.push_back({FlatLimit::Of::memory, held.first + i, graph_.leaf(Op::memory, held.first + i), at(low, i), at(high, i)});
                }
            } catch (const StatementGivenUp&) {
            }
        }
    }
    settle_sequence_parameters();
    // A param is known before the run: it cannot depend on what the run computes.
    for (const FlatParameter& p : model_->parameters) {
        if (p.value == kNoNode) continue;
        for (NodeId id : graph_.reachable({p.value})) {
            const Node& n = graph_[id];
            if (n.op != Op::time && n.op != Op::quantity && n.op != Op::memory) continue;
            set_.diagnostics.report(messages::not_constant, p.origin.span, fmt::format("param '{}'", p.path), model_->node_text(id))
                .mend("make it an input and feed it by '->', or a let");
            break;
        }
    }
}

// --- equations ----------------------------------------------------------------------------------------------------

void Instantiator::add_equation(const Value& left, const Value& right, EquationKind kind, Origin origin, std::vector<FlatEquation>* branch)
{
    auto& out = branch != nullptr ? *branch : model_->equations;
    if (!left.is_array() && !right.is_array()) {
        if (left.node == kNoNode || right.node == kNoNode) give_up(messages::bad_value, origin.span, "a word stands where a value is expected");
        out.push_back({left.node, right.node, kind, origin});
        return;
    }
    if (left.is_array() && right.is_array() && left.sizes != right.sizes)
        give_up(messages::bad_value, origin.span, fmt::format("arrays of {} and {} elements are equated", left.elements.size(), right.elements.size()));
    std::size_t n = left.is_array() ? left.elements.size() : right.elements.size();
    for (std::size_t i = 0; i < n; ++i)
        out.push_back({left.is_array() ? left.elements[i] : left.node, right.is_array() ? right.elements[i] : right.node, kind, origin});
}

void Instantiator::make_dynamic_branch(const BodyItem& item, const IfDecl& branch, const Env& env, std::vector<FlatEquation>* outer)
{
    NodeId condition = build_scalar(*branch.condition, env);
    std::vector<FlatEquation> yes, no;
    auto collect = [&](const Block& block, std::vector<FlatEquation>& into) {
        for (const Statement* s : block) {
            walk({s, item.scope}, env, [&](const BodyItem& inner, const Env& inner_env) {
                bool allowed = inner.statement->as<EquationDecl>() != nullptr || inner.statement->as<IfDecl>() != nullptr;
                if (!allowed)
                    give_up(messages::unexpected_here, inner.statement->span, "this statement in a branch whose condition can change", {}, {},
                            "make the condition an option");
                if (const auto* e = inner.statement->as<EquationDecl>(); e != nullptr && e->init)
                    give_up(messages::unexpected_here, inner.statement->span, "'init' in a branch whose condition can change");
                make_statement(inner, inner_env, &into);
            });
        }
    };
    collect(branch.then_block, yes);
    collect(branch.else_block, no);
    if (yes.size() != no.size()) give_up(messages::branch_counts, branch.condition->span, std::to_string(yes.size()), std::to_string(no.size()));
    for (std::size_t i = 0; i < yes.size(); ++i) {
        // chosen as a residual: the two branches may state different things
        auto& out = outer != nullptr ? *outer : model_->equations;
        if (yes[i].left == no[i].left) {
            out.push_back({yes[i].left, graph_.select(condition, yes[i].right, no[i].right), EquationKind::equation, yes[i].origin});
        } else {
            NodeId a = graph_.sub(yes[i].left, yes[i].right), b = graph_.sub(no[i].left, no[i].right);
            out.push_back({graph_.select(condition, a, b), graph_.constant(0), EquationKind::equation, yes[i].origin});
            if (std::find(model_->switches.begin(), model_->switches.end(), condition) == model_->switches.end()) model_->switches.push_back(condition);
        }
    }
}

void Instantiator::make_signal(const SignalDecl& signal, const BodyItem& item, const Env& env)
{
    Value source = build(*signal.source, env);
    for (const Expr* target : signal.targets) {
        Value t = build(*target, env);
        std::vector<NodeId> nodes = t.is_array() ? t.elements : std::vector<NodeId>{t.node};
        for (NodeId n : nodes) {
            bool plain = n != kNoNode && graph_[n].op == Op::quantity && graph_[n].b == 0;
            if (!plain || (model_->quantities[graph_[n].a].role != QuantityRole::input && model_->quantities[graph_[n].a].role != QuantityRole::output))
                give_up(messages::not_a, target->span, brief(*target), "no input", "an input of a part");
            auto [it, fresh] = input_source_.emplace(graph_[n].a, signal.source->span);
            if (!fresh) {
                set_.diagnostics.report(messages::two_sources, signal.source->span, model_->quantities[graph_[n].a].path)
                    .note(it->second, "the other source is here")
                    .mend("leave one of them out, or add the two in one expression");
                throw StatementGivenUp{};
            }
        }
        add_equation(t, source, EquationKind::signal, {env.instance, item.statement->span}, nullptr);
    }
}

void Instantiator::make_statement(const BodyItem& item, const Env& env, std::vector<FlatEquation>* branch)
{
    const Statement& s = *item.statement;
    if (const auto* e = s.as<EquationDecl>()) {
        if (e->init)
            make_start(item, env, instances_[env.instance].depth + 1);
        else
            add_equation(build(*e->left, env), build(*e->right, env), EquationKind::equation, {env.instance, s.span}, branch);
    } else if (s.as<GuessDecl>() != nullptr) {
        make_start(item, env, instances_[env.instance].depth + 1);
    } else if (const auto* signal = s.as<SignalDecl>()) {
        make_signal(*signal, item, env);
    } else if (const auto* b = s.as<IfDecl>()) {
        make_dynamic_branch(item, *b, env, branch);
    } else if (s.as<WhenDecl>() != nullptr || s.as<EveryDecl>() != nullptr) {
        make_block(item, env);
    }
}

void Instantiator::make_equations(InstanceId id)
{
    for_each_statement(id, [&](const BodyItem& item, const Env& env) { make_statement(item, env, nullptr); });
    // start values that stand in declarations
    for (const std::string& name : instances_[id].info->member_names) {
        const Member& m = *instances_[id].info->find(name);
        const InstanceMember held = instances_[id].members[m.slot];
        const QuantityDecl* q = held.declaration != nullptr ? held.declaration : m.statement->as<QuantityDecl>();
        bool has = q != nullptr && (q->init != nullptr || q->guess != nullptr);
        if (!has || (held.kind != InstanceMember::Kind::quantity && held.kind != InstanceMember::Kind::view)) continue;
        try {
            Env env{id, m.scope, nullptr, nullptr, true};
            Expr reference;
            reference.kind = ExprKind::path;
            reference.span = q->name_span;
            reference.path = {PathStep{name, q->name_span, {}}};
            Value target = resolve_member(id, reference.path, 0, env, reference);
            Origin origin{id, q->name_span};
            std::uint32_t depth = instances_[id].depth + 1;
            if (q->init != nullptr) add_init(target, build(*q->init, env), origin, depth);
            if (q->guess != nullptr) add_guess(target, build(*q->guess, env), origin, depth);
        } catch (const StatementGivenUp&) {
        }
    }
}

// --- start conditions ---------------------------------------------------------------------------------------------

void Instantiator::add_init(Value left, Value right, Origin origin, std::uint32_t depth)
{
    std::size_t n = left.is_array() ? left.elements.size() : right.is_array() ? right.elements.size() : 1;
    for (std::size_t i = 0; i < n; ++i) {
        FlatInit init{left.is_array() ? left.elements[i] : left.node, right.is_array() ? right.elements[i] : right.node, origin, depth, {}};
        init.key = left.path.empty() ? "" : left.is_array() ? indexed(left.path, left.sizes, static_cast<std::uint32_t>(i)) : left.path;
        if (!init.key.empty()) {
            auto it = init_by_key_.find(init.key);
            if (it != init_by_key_.end()) {
                FlatInit& other = model_->inits[it->second];
                if (depth < other.depth) other = init;
                if (depth != other.depth || other.left != init.left || other.right == init.right) continue;
            } else {
                init_by_key_[init.key] = model_->inits.size();
            }
        }
        model_->inits.push_back(std::move(init));
    }
}

void Instantiator::add_guess(const Value& target, const Value& value, Origin origin, std::uint32_t depth)
{
    std::size_t n = target.is_array() ? target.elements.size() : 1;
    for (std::size_t i = 0; i < n; ++i) {
        FlatGuess guess{target.is_array() ? target.elements[i] : target.node, value.is_array() ? value.elements.at(i) : value.node, origin, depth, {}};
        guess.key = target.path.empty() ? "" : target.is_array() ? indexed(target.path, target.sizes, static_cast<std::uint32_t>(i)) : target.path;
        if (!guess.key.empty()) {
            auto [it, fresh] = guess_by_key_.emplace(guess.key, model_->guesses.size());
            if (!fresh) {
                if (depth < model_->guesses[it->second].depth) model_->guesses[it->second] = guess;
                continue;
            }
        }
        model_->guesses.push_back(std::move(guess));
    }
}

void Instantiator::make_start(const BodyItem& item, const Env& env, std::uint32_t depth)
{
    Origin origin{env.instance, item.statement->span};
    if (const auto* e = item.statement->as<EquationDecl>()) add_init(build(*e->left, env), build(*e->right, env), origin, depth);
    if (const auto* g = item.statement->as<GuessDecl>()) add_guess(build(*g->target, env), build(*g->value, env), origin, depth);
}

void Instantiator::make_exempt(const Expr& e)
{
    Value v = build(e, {0, request_.extra_scope, nullptr, nullptr, true});
    std::vector<NodeId> nodes = v.is_array() ? v.elements : std::vector<NodeId>{v.node};
    for (NodeId node : nodes) {
        Op op = graph_[node].op;
        bool rate = op == Op::rate_of && graph_[graph_[node].a].op == Op::quantity;
        if (op != Op::quantity && !rate) give_up(messages::not_a, e.span, brief(e), "an expression", "a quantity that need not stand still");
        model_->steady_except.push_back(rate ? graph_.quantity(graph_[graph_[node].a].a, 1) : node);
    }
}

void Instantiator::make_find(const BodyItem& item)
{
    const auto& find = *item.statement->as<FindItem>();
    Env env{0, item.scope, nullptr, nullptr, true};
    Expr reference;
    reference.kind = ExprKind::path;
    reference.span = find.unknown.empty() ? item.statement->span : find.unknown[0].span;
    reference.path = find.unknown;
    Value target = build(reference, env);
    if (target.is_array() || graph_[target.node].op != Op::parameter)
        give_up(messages::not_a, reference.span, text_of(find.unknown), "no param", "a param of the system or of one of its parts",
                "find settles a param; what is a var or a signal is settled by the equations");
    ParameterId p = graph_[target.node].a;
    for (const FlatFind& other : model_->finds)
        if (other.parameter == p) give_up(messages::said_twice, item.statement->span, "find " + text_of(find.unknown), "");
    model_->finds.push_back({p, build_scalar(*find.left, env), build_scalar(*find.right, env), {0, item.statement->span}});
}

// --- joints, inputs, views ----------------------------------------------------------------------------------------

void Instantiator::make_joint_equations()
{
    for (const auto& [root, members] : joined_) {
        Origin origin{joint_owner_[members[0]], joint_spans_[members[0]]};
        const PortInstance& first = ports_[members[0] / 2];
        std::uint32_t offset = 0;
        for (const DomainMember& m : first.domain->as<DomainDecl>()->members) {
            if (m.kind != DomainMember::Kind::shared && m.kind != DomainMember::Kind::zero_sum) continue;
            NodeId sum = graph_.constant(0);
            for (std::uint32_t c : members) {
                if (ports_[c / 2].domain != first.domain) continue;  // reported
                NodeId q = graph_.quantity(ports_[c / 2].first + offset);
                if (m.kind == DomainMember::Kind::shared) {
                    if (c != members[0]) model_->equations.push_back({graph_.quantity(first.first + offset), q, EquationKind::joint_equal, origin});
                } else {
                    sum = c % 2 == 0 ? graph_.add(sum, q) : graph_.sub(sum, q);
                }
            }
            if (m.kind == DomainMember::Kind::zero_sum) model_->equations.push_back({sum, graph_.constant(0), EquationKind::joint_sum, origin});
            ++offset;
        }
    }
    for (const PortInstance& p : ports_) {
        if (p.joined_outside) continue;
        if (p.needed) {
            set_.diagnostics.report(messages::needed_port, instances_[p.instance].span.known() ? instances_[p.instance].span : p.span, p.path)
                .note(p.span, "declared as needed here")
                .mend(fmt::format("join it: {} -- ...", p.path));
            continue;
        }
        Span shown = instances_[p.instance].span.known() ? instances_[p.instance].span : p.span;
        if (p.open != nullptr) {
            make_open_port(p, shown);
            continue;
        }
        if (!p.optional) set_.diagnostics.report(messages::unjoined_port, shown, p.path);
        std::uint32_t offset = 0;
        for (const DomainMember& m : p.domain->as<DomainDecl>()->members) {
            if (m.kind == DomainMember::Kind::zero_sum)
                model_->equations.push_back({graph_.quantity(p.first + offset), graph_.constant(0), EquationKind::unjoined, {p.instance, p.span}});
            if (m.kind == DomainMember::Kind::shared || m.kind == DomainMember::Kind::zero_sum) ++offset;
        }
    }
}

// `port winding : thermal open T = reference`: what flows is whatever keeps that.
void Instantiator::make_open_port(const PortInstance& p, Span shown)
{
    const DomainDecl& domain = *p.domain->as<DomainDecl>();
    std::uint32_t offset = 0;
    for (const DomainMember& m : domain.members) {
        if (m.kind == DomainMember::Kind::shared && m.name == p.open->open_name) {
            Env env{p.instance, p.scope, nullptr, nullptr, true};
            model_->equations.push_back(
                {graph_.quantity(p.first + offset), build_scalar(*p.open->open_value, env), EquationKind::unjoined, {p.instance, p.open->open_span}});
            set_.diagnostics.report(messages::open_port, shown, p.path, p.open->open_name, brief(*p.open->open_value));
            return;
        }
        if (m.kind == DomainMember::Kind::shared || m.kind == DomainMember::Kind::zero_sum) ++offset;
    }
}

void Instantiator::close_inputs()
{
    for (InstanceId id = 1; id < instances_.size(); ++id) {
        for (const std::string& name : instances_[id].info->member_names) {
            const Member& m = *instances_[id].info->find(name);
            const auto* q = m.statement->as<QuantityDecl>();
            const InstanceMember held = instances_[id].members[m.slot];
            if (q == nullptr || q->kind != QuantityKind::input || held.kind != InstanceMember::Kind::quantity) continue;
            std::uint32_t n = 1;
            for (std::uint32_t s : held.sizes) n *= s;
            const Binding* b = binding_of(id, name);
            const Expr* e = b != nullptr ? b->value : q->value;
            try {
                std::optional<Value> value;
                for (std::uint32_t i = 0; i < n; ++i) {
                    QuantityId quantity = held.first + i;
                    auto source = input_source_.find(quantity);
                    if (source != input_source_.end()) {
                        if (b != nullptr)
                            set_.diagnostics.report(messages::two_sources, b->value->span, model_->quantities[quantity].path)
                                .note(source->second, "the other source is here");
                        continue;
                    }
                    if (e == nullptr) {
                        set_.diagnostics.report(messages::no_source, instances_[id].span, model_->quantities[quantity].path)
                            .note(q->name_span, "declared here, without a default")
                            .mend(fmt::format("feed it: ... -> {}", model_->quantities[quantity].path));
                        continue;
                    }
                    if (!value) value = build(*e, b != nullptr ? b->env : Env{id, m.scope, nullptr, nullptr, true});
                    NodeId v = value->is_array() ? value->elements.at(i) : value->node;
                    model_->equations.push_back({graph_.quantity(quantity), v, EquationKind::value, {id, e->span}});
                }
            } catch (const StatementGivenUp&) {
            }
        }
    }
}

void Instantiator::make_views()
{
    for (std::uint32_t i = 0; i < views_.size(); ++i) {
        try {
            const QuantityDecl& q = *views_[i].declaration;
            InstanceId id = views_[i].instance;
            std::string path = (instances_[id].path.empty() ? "" : instances_[id].path + ".") + q.name;
            Value v = view_value(i, path);
            Type type = settled(checker_.declared_type(q, instances_[id].info, *views_[i].scope), instances_[id].units);
            Env own{id, views_[i].scope, nullptr, nullptr, true};
            auto add = [&](const std::string& name, NodeId node, const Unit& unit) {
                if (node == kNoNode) return;
                if (q.low != nullptr)
                    model_->limits.push_back(
                        {FlatLimit::Of::view, static_cast<std::uint32_t>(model_->views.size()), node, build_scalar(*q.low, own), build_scalar(*q.high, own)});
                model_->views.push_back({name, node, unit, v.boolean || type.kind == Type::Kind::condition, views_[i].doc, {id, views_[i].span}});
            };
            if (!views_[i].results.empty()) {
                if (q.name.front() == '_') continue;  // private: many numbers that nobody asked for
                for (const auto& [name, result] : views_[i].results) add(path + "." + name, result.node, Unit{});
                continue;
            }
            if (!v.is_array()) add(path, v.node, unit_of(type));
            for (std::uint32_t k = 0; k < v.elements.size(); ++k) add(indexed(path, v.sizes, k), v.elements[k], unit_of(type));
        } catch (const StatementGivenUp&) {
        }
    }
    // named joints are recorded by what their ports share
    for (InstanceId id = 0; id < instances_.size(); ++id)
        for (const auto& name : instances_[id].info->member_names) {
            const InstanceMember held = instances_[id].members[instances_[id].info->find(name)->slot];
            if (held.kind != InstanceMember::Kind::joint) continue;
            const PortInstance& port = ports_[joints_[held.first] / 2];
            QuantityId quantity = port.first;
            for (const DomainMember& m : port.domain->as<DomainDecl>()->members) {
                if (m.kind == DomainMember::Kind::shared)
                    model_->views.push_back(
                        {path_of(id, name) + "." + m.name, graph_.quantity(quantity), m.unit.value_or(Unit{}), false, m.doc, {id, port.span}});
                if (m.kind == DomainMember::Kind::shared || m.kind == DomainMember::Kind::zero_sum) ++quantity;
            }
        }
}

// --- all together -------------------------------------------------------------------------------------------------

InstantiateResult Instantiator::run()
{
    InstantiateResult result;
    model_->name = request_.system->name;
    std::vector<Binding> outside;
    auto given_up = [&](const auto& work) {
        try {
            work();
        } catch (const StatementGivenUp&) {
        }
    };
    for (const OutsideValue& v : request_.values) {
        // a scenario's values may use other params of the system; a later value for the same path replaces an earlier one
        std::erase_if(outside, [&](const Binding& b) { return text_of(b.path) == text_of(v.path); });
        outside.push_back({v.path, v.value, Env{0, v.scope, nullptr, nullptr, true}, true, v.put});
    }
    given_up([&] { make_instance(*request_.system, 0, "", std::move(outside), request_.system->as<ComponentDecl>()->name_span, false); });
    if (set_.diagnostics.has_errors()) return result;
    settle_fluids();
    group_ports();
    for (InstanceId id = 0; id < instances_.size(); ++id) given_up([&] { make_quantities(id); });
    make_port_quantities();
    make_carried_quantities();
    settle_parameters();
    if (set_.diagnostics.has_errors()) return result;
    for (const BodyItem& item : request_.start_statements) given_up([&] { make_start(item, {0, item.scope, nullptr, nullptr, true}, 0); });
    for (InstanceId id = 0; id < instances_.size(); ++id)
        if (!instances_[id].fluid) make_equations(id);
    make_sequence_equations();
    order_blocks();
    make_joint_equations();
    close_inputs();
    make_views();
    model_->begin_steady = request_.begin_steady;
    for (const Expr* e : request_.steady_except) given_up([&] { make_exempt(*e); });
    for (const BodyItem& item : request_.finds) given_up([&] { make_find(item); });
    for (const Expr* e : request_.extra) {
        NodeId node = kNoNode;
        if (e != nullptr) given_up([&] { node = build_scalar(*e, {0, request_.extra_scope, nullptr, nullptr, true}); });
        result.extra.push_back(node);
    }
    for (const auto& [e, scope] : request_.asked) {
        NodeId node = kNoNode;
        given_up([&, at = scope, expr = e] { node = build_scalar(*expr, {0, at, nullptr, nullptr, true}); });
        result.asked.push_back(node);
    }
    make_measures();
    make_carried_views();
    make_mixes();
    if (set_.diagnostics.has_errors()) return result;
    auto mark = [&](auto& list) {
        for (auto& item : list) item.origin.in_library = item.origin.span.known() && set_.sources.is_shipped(item.origin.span.file);
    };
    mark(model_->quantities);
    mark(model_->equations);
    mark(model_->views);
    mark(model_->blocks);
    model_->verify();
    result.model = std::move(model_);
    return result;
}

InstantiateResult instantiate(LibrarySet& set, const InstantiateRequest& request)
{
    return Instantiator(set, request).run();
}

}  // namespace netloop

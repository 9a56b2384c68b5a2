// SPDX-License-Identifier: Apache-2.0
// What happens at moments: memories, when and every blocks, sequences. Their statements are worked through in order, on expressions:
// a block becomes a list of what it sets to what, as functions of the values before it.
#include <algorithm>
#include <map>

#include "model/instantiator.hpp"

namespace netloop {

struct Instantiator::BlockWork {
    FlatBlock block;
    std::map<NodeId, NodeId> now;            ///< of memories set so far: leaf and value
    std::map<NodeId, FlatSetting> memories;  ///< the same as settings
    NodeId reached = kNoNode;                ///< the condition under which the statement at hand runs; kNoNode: always
};

std::string Instantiator::path_of(InstanceId id, const std::string& name) const
{
    return instances_[id].path.empty() ? name : instances_[id].path + "." + name;
}

std::uint32_t Instantiator::add_memory(FlatMemory memory)
{
    model_->memories.push_back(std::move(memory));
    return static_cast<std::uint32_t>(model_->memories.size() - 1);
}

NodeId Instantiator::previous_value(NodeId source)
{
    if (graph_.is_constant(source)) return source;
    auto [it, fresh] = previous_.emplace(source, kNoNode);
    if (fresh) {
        FlatMemory m;
        m.path = "previous(" + model_->node_text(source) + ")";
        m.hidden = true;
        std::uint32_t index = add_memory(std::move(m));
        model_->previous.push_back({index, source});
        it->second = graph_.leaf(Op::memory, index);
    }
    return it->second;
}

NodeId Instantiator::delayed_value(const Expr& e, NodeId source, NodeId time, const Env& env)
{
    for (NodeId id : graph_.reachable({time})) {
        Op op = graph_[id].op;
        if (op == Op::time || op == Op::quantity)
            give_up(messages::bad_value, e.args[1]->span, "the time of a delay must not change while the run goes on", {}, {},
                    "make it a number, a param or a memory");
    }
    FlatMemory m;
    m.path = brief(e);
    m.hidden = true;
    m.origin = {env.instance == kNoNode ? 0 : env.instance, e.span};
    std::uint32_t index = add_memory(std::move(m));
    model_->delays.push_back({index, source, time, {env.instance == kNoNode ? 0 : env.instance, e.span}});
    return graph_.leaf(Op::memory, index, 1);
}

// --- sequences ----------------------------------------------------------------------------------------------------

void Instantiator::make_sequence(InstanceId id, const SequenceDecl& decl, const BodyItem& item)
{
    const Member* m = instances_[id].info->find(decl.name);
    SequenceInstance s;
    s.owner = id;
    s.decl = &decl;
    s.scope = item.scope;
    s.path = path_of(id, decl.name);
    s.flat = static_cast<std::uint32_t>(model_->sequences.size());
    Origin origin{id, decl.name_span};
    FlatSequence flat;
    flat.path = s.path;
    flat.origin = origin;
    for (const Stage& stage : decl.stages)
        if (!stage.otherwise) flat.stages.push_back(stage.name);
    FlatMemory stage, since;
    stage.path = s.path;
    stage.unit = Unit{};
    stage.origin = since.origin = origin;
    stage.doc = item.statement->doc.empty() ? "" : item.statement->doc + "; ";
    for (std::size_t k = 0; k < flat.stages.size(); ++k) stage.doc += fmt::format("{}{} {}", k == 0 ? "" : ", ", k + 1, flat.stages[k]);
    stage.start = graph_.constant(1);
    since.path = s.path + ".since";
    since.hidden = true;
    since.start = graph_.constant(0);
    flat.stage = add_memory(std::move(stage));
    flat.since = add_memory(std::move(since));
    model_->sequences.push_back(std::move(flat));
    auto index = static_cast<std::uint32_t>(sequences_.size());
    sequences_.push_back(std::move(s));
    InstanceMember held;
    held.kind = InstanceMember::Kind::sequence;
    held.first = index;
    instances_[id].members[m->slot] = held;

    // params of its own, and what each stage says: signals
    for (const Statement* statement : decl.declarations) {
        const auto* q = statement->as<QuantityDecl>();
        if (q == nullptr || q->kind != QuantityKind::param) continue;
        Type type = settled(checker_.type_in_sequence(*instances_[id].info, *item.scope, decl, q->name), instances_[id].units);
        FlatParameter p;
        p.path = sequences_[index].path + "." + q->name;
        p.unit = unit_of(type);
        p.boolean = type.kind == Type::Kind::condition;
        p.doc = statement->doc;
        p.origin = {id, q->name_span};
        sequences_[index].parameters[q->name] = static_cast<std::uint32_t>(model_->parameters.size());
        model_->parameters.push_back(std::move(p));
    }
    for (const std::string& name : signal_names(decl)) {
        Type type = settled(checker_.type_in_sequence(*instances_[id].info, *item.scope, decl, name), instances_[id].units);
        FlatQuantity f;
        f.path = sequences_[index].path + "." + name;
        f.role = QuantityRole::output;
        f.unit = unit_of(type);
        f.boolean = type.kind == Type::Kind::condition;
        f.origin = origin;
        sequences_[index].signals[name] = static_cast<QuantityId>(model_->quantities.size());
        model_->quantities.push_back(std::move(f));
    }
}

Env Instantiator::env_of(const SequenceInstance& s) const
{
    Env env{s.owner, s.scope, nullptr, nullptr, true};
    env.sequence = &s;
    return env;
}

void Instantiator::settle_sequence_parameters()
{
    for (SequenceInstance& s : sequences_) {
        for (const Statement* statement : s.decl->declarations) {
            const auto* q = statement->as<QuantityDecl>();
            if (q == nullptr || q->kind != QuantityKind::param) continue;
            FlatParameter& p = model_->parameters[s.parameters[q->name]];
            const Binding* given = nullptr;
            for (const Binding& b : instances_[s.owner].bindings)
                if (b.put == nullptr && b.path.size() == 2 && b.path[0].name == s.decl->name && b.path[1].name == q->name) given = &b;
            try {
                if (given == nullptr && q->value == nullptr) {
                    set_.diagnostics.report(messages::missing_value, q->name_span, q->name, s.path).mend(fmt::format("param {} = ...", q->name));
                    continue;
                }
                p.value = given != nullptr ? build_scalar(*given->value, given->env) : build_scalar(*q->value, env_of(s));
                if (given != nullptr) p.origin.span = given->value->span;
                if (q->low != nullptr) p.low = build_scalar(*q->low, env_of(s));
                if (q->high != nullptr) p.high = build_scalar(*q->high, env_of(s));
            } catch (const StatementGivenUp&) {
            }
        }
    }
}

NodeId Instantiator::is_in_stage(const SequenceInstance& s, std::size_t stage)
{
    return graph_.compare(Op::equal, graph_.leaf(Op::memory, model_->sequences[s.flat].stage), graph_.constant(static_cast<double>(stage + 1)), false);
}

std::size_t Instantiator::stage_index(const SequenceInstance& s, const std::string& name, Span span)
{
    const auto& stages = model_->sequences[s.flat].stages;
    auto it = std::find(stages.begin(), stages.end(), name);
    if (it == stages.end()) give_up(messages::unknown_name, span, name, fmt::format("the stages of '{}'", s.decl->name));
    return static_cast<std::size_t>(it - stages.begin());
}

Value Instantiator::sequence_member(std::uint32_t index, const Path& path, std::size_t at, const Env& env, const Expr& e)
{
    const SequenceInstance& s = sequences_[index];
    if (at + 1 >= path.size())
        give_up(messages::not_a, e.span, text_of(path), "a sequence", "a quantity", fmt::format("ask for its stage: {} is ...", text_of(path)));
    if (at + 2 != path.size()) give_up(messages::unknown_name, path[at + 2].span, path[at + 2].name, fmt::format("sequence '{}'", s.decl->name));
    return own_sequence_name(s, path[at + 1].name, path[at + 1].span, env);
}

Value Instantiator::is_stage(const Expr& e, const Env& env)
{
    Path path = e.path;
    InstanceId id = env.instance;
    for (std::size_t i = 0; i < path.size() && id != kNoNode; ++i) {
        const Member* m = instances_[id].info->find(path[i].name);
        if (m == nullptr) break;
        const InstanceMember& held = instances_[id].members[m->slot];
        if (held.kind == InstanceMember::Kind::sequence && i + 1 == path.size()) {
            const SequenceInstance& s = sequences_[held.first];
            Value v;
            v.node = is_in_stage(s, stage_index(s, e.text, e.span));
            v.boolean = true;
            return v;
        }
        if (held.kind != InstanceMember::Kind::part) break;
        id = held.first;
        if (id == kNoNode && !path[i].indices.empty()) {  // an array of parts
            double k = need_constant(*path[i].indices[0], env, "an index");
            if (!(k >= 1 && k <= static_cast<double>(held.sizes.size())) || k != std::floor(k))
                give_up(messages::bad_index, path[i].span, fmt::format("{:g}", k), path[i].name, std::to_string(held.sizes.size()));
            id = held.sizes[static_cast<std::size_t>(k) - 1];
        }
    }
    give_up(messages::not_a, e.span, text_of(e.path), "no sequence", "a sequence");
}

Value Instantiator::own_sequence_name(const SequenceInstance& s, const std::string& name, Span span, const Env& env)
{
    Value v;
    v.path = s.path + "." + name;
    if (auto p = s.parameters.find(name); p != s.parameters.end()) {
        v.node = graph_.leaf(Op::parameter, p->second);
        v.boolean = model_->parameters[p->second].boolean;
        return v;
    }
    if (auto q = s.signals.find(name); q != s.signals.end()) {
        v.node = graph_.quantity(q->second);
        v.boolean = model_->quantities[q->second].boolean;
        return v;
    }
    if (name == "dwell") {
        v.node = graph_.sub(graph_.time(), graph_.leaf(Op::memory, model_->sequences[s.flat].since));
        return v;
    }
    for (const Statement* statement : s.decl->declarations)
        if (const auto* q = statement->as<QuantityDecl>(); q != nullptr && q->kind == QuantityKind::let && q->name == name) {
            Following following(*this, q, s.flat);
            if (following.again()) give_up(messages::circular_definition, q->name_span, "let " + name);
            Env own = env_of(s);
            own.located = env.located;
            own.now = env.now;
            v = build(*q->value, own);
            v.path = s.path + "." + name;
            return v;
        }
    give_up(messages::unknown_name, span, name, fmt::format("sequence '{}'", s.decl->name));
}

void Instantiator::make_sequence_equations()
{
    for (const SequenceInstance& s : sequences_) {
        Env env = env_of(s);
        Origin origin{s.owner, s.decl->name_span};
        std::vector<const Stage*> stages;
        const Stage* rest = nullptr;
        for (const Stage& stage : s.decl->stages) stage.otherwise ? void(rest = &stage) : stages.push_back(&stage);
        auto said = [](const Stage* stage, const std::string& name) -> const NamedValue* {
            if (stage == nullptr) return nullptr;
            for (const NamedValue& v : stage->settings)
                if (v.path[0].name == name) return &v;
            return nullptr;
        };
        try {
            for (const auto& [name, quantity] : s.signals) {
                NodeId value = kNoNode;
                const NamedValue* general = said(rest, name);
                if (general != nullptr) value = build_scalar(*general->value, env);
                // the last stage needs no question where all say it
                for (std::size_t k = stages.size(); k-- > 0;) {
                    const NamedValue* own = said(stages[k], name);
                    if (own == nullptr) continue;
                    NodeId v = build_scalar(*own->value, env);
                    value = value == kNoNode ? v : graph_.select(is_in_stage(s, k), v, value);
                }
                if (value == kNoNode) throw StatementGivenUp{};  // reported by the check of the sequence
                model_->equations.push_back({graph_.quantity(quantity), value, EquationKind::value, origin});
            }
            for (const Statement* statement : s.decl->declarations)
                if (const auto* q = statement->as<QuantityDecl>(); q != nullptr && q->kind == QuantityKind::let) {
                    Type type = settled(checker_.type_in_sequence(*instances_[s.owner].info, *s.scope, *s.decl, q->name), instances_[s.owner].units);
                    Value v = own_sequence_name(s, q->name, q->name_span, env);
                    if (!v.is_array() && v.node != kNoNode)
                        model_->views.push_back({s.path + "." + q->name, v.node, unit_of(type), type.kind == Type::Kind::condition, statement->doc, origin});
                }
            model_->views.push_back({s.path + ".dwell", own_sequence_name(s, "dwell", s.decl->name_span, env).node, si_unit(Dimension::base(2)), false,
                                     "time in the present stage", origin});
            make_transitions(s, stages, env);
        } catch (const StatementGivenUp&) {
        }
    }
}

void Instantiator::make_transitions(const SequenceInstance& s, const std::vector<const Stage*>& stages, const Env& env)
{
    NodeId dwell = own_sequence_name(s, "dwell", s.decl->name_span, env).node;
    for (std::size_t k = 0; k < stages.size(); ++k) {
        for (const StageTransition& t : stages[k]->transitions) {
            FlatBlock b;
            b.kind = FlatBlock::Kind::transition;
            b.sequence = s.flat;
            b.stage = static_cast<std::uint32_t>(k);
            b.target = static_cast<std::uint32_t>(stage_index(s, t.target, t.span));
            b.origin = {s.owner, t.span};
            b.text = fmt::format("{} is {} -> {} {} {}", s.decl->name, stages[k]->name, t.target, t.when != nullptr ? "when" : "after",
                                 brief(t.when != nullptr ? *t.when : *t.after));
            b.condition = t.when != nullptr ? build_scalar(*t.when, env) : graph_.compare(Op::less_equal, build_scalar(*t.after, env), dwell, true);
            model_->blocks.push_back(std::move(b));
        }
        if (stages[k]->on_entry.empty()) continue;
        BlockWork work;
        work.block.kind = FlatBlock::Kind::entry;
        work.block.sequence = s.flat;
        work.block.stage = static_cast<std::uint32_t>(k);
        work.block.origin = {s.owner, stages[k]->span};
        work.block.text = fmt::format("{} is {}: start", s.decl->name, stages[k]->name);
        finish_block(stages[k]->on_entry, env, work);
    }
}

// Blocks of a kind run in this order at one moment: those that feed others before them, else parts before the whole, else the text.
void Instantiator::order_blocks()
{
    auto& blocks = model_->blocks;
    std::stable_sort(blocks.begin(), blocks.end(), [&](const FlatBlock& a, const FlatBlock& b) {
        if (a.kind != b.kind) return a.kind < b.kind;
        return instances_[a.origin.instance].depth > instances_[b.origin.instance].depth;
    });
}

// --- blocks -------------------------------------------------------------------------------------------------------

void Instantiator::make_block(const BodyItem& item, const Env& env)
{
    const Statement& s = *item.statement;
    BlockWork work;
    work.block.origin = {env.instance, s.span};
    const Block* body = nullptr;
    if (const auto* when = s.as<WhenDecl>()) {
        body = &when->body;
        if (when->condition == nullptr) {
            work.block.kind = FlatBlock::Kind::start;
            work.block.text = "when start";
        } else {
            work.block.kind = FlatBlock::Kind::when;
            work.block.origin.span = when->condition->span;
            work.block.condition = build_scalar(*when->condition, env);
            work.block.text = "when " + brief(*when->condition);
        }
    } else {
        const auto& every = *s.as<EveryDecl>();
        body = &every.body;
        work.block.kind = FlatBlock::Kind::every;
        work.block.origin.span = every.period->span;
        work.block.period = build_scalar(*every.period, env);
        work.block.first = every.from != nullptr ? build_scalar(*every.from, env) : graph_.constant(0);
        work.block.text = "every " + brief(*every.period);
        for (NodeId node : {work.block.period, work.block.first})
            for (NodeId below : graph_.reachable({node})) {
                Op op = graph_[below].op;
                if (op == Op::time || op == Op::quantity || op == Op::memory)
                    give_up(messages::not_constant, every.period->span, "the period of an every block", model_->node_text(below), {}, "make it a param");
            }
    }
    finish_block(*body, env, work);
}

void Instantiator::finish_block(const Block& body, const Env& env, BlockWork& work)
{
    FunctionFrame frame;
    Env inner = env;
    inner.located = false;
    inner.frame = &frame;
    inner.in_block = true;
    inner.now = &work.now;
    run_block(body, inner, work);
    for (auto& [leaf, setting] : work.memories) {
        setting.value = work.now[leaf];
        work.block.settings.push_back(setting);
    }
    model_->blocks.push_back(std::move(work.block));
}

// What was built outside the block (a let), with the memories as the block has set them so far.
NodeId Instantiator::as_of_now(NodeId root, const std::map<NodeId, NodeId>& now)
{
    if (now.empty() || root == kNoNode) return root;
    std::map<NodeId, NodeId> becomes;
    for (NodeId id : graph_.reachable({root})) {
        auto set = now.find(id);
        const Node n = graph_[id];
        if (set != now.end()) {
            becomes[id] = set->second;
        } else if (n_children(n.op) == 0) {
            becomes[id] = id;
        } else {
            auto child = [&](NodeId c) { return c == kNoNode ? kNoNode : becomes.at(c); };
            if (has_index(n.op))
                becomes[id] = graph_.rebuild(n, n.a, child(n.b), child(n.c));
            else
                becomes[id] = graph_.rebuild(n, child(n.a), n_children(n.op) > 1 ? child(n.b) : n.b, n_children(n.op) > 2 ? child(n.c) : n.c);
        }
    }
    return becomes[root];
}

void Instantiator::run_block(const Block& body, Env& env, BlockWork& work)
{
    for (const Statement* s : body) {
        auto value_of = [&](const Expr& e) {
            Value v = build(e, env);
            if (!v.is_array() && v.node == kNoNode) give_up(messages::bad_value, e.span, fmt::format("'{}' is a word, not a value", brief(e)));
            return v;
        };
        if (const auto* q = s->as<QuantityDecl>()) {
            if (q->value == nullptr) give_up(messages::bad_value, s->span, fmt::format("'{}' needs a value", q->name));
            env.frame->locals[q->name] = value_of(*q->value);
        } else if (const auto* assign = s->as<AssignDecl>()) {
            set_in_block(*assign, value_of(*assign->value), env, work);
        } else if (const auto* alert = s->as<AlertDecl>()) {
            auto action = alert->action == "stop" ? FlatAlert::Action::stop : alert->action == "warn" ? FlatAlert::Action::warn : FlatAlert::Action::fail;
            work.block.alerts.push_back({action, alert->text, work.reached, s->span});
        } else if (const auto* branch = s->as<IfDecl>()) {
            NodeId condition = value_of(*branch->condition).node;
            if (graph_.is_constant(condition)) {
                run_block(graph_.value(condition) != 0 ? branch->then_block : branch->else_block, env, work);
                continue;
            }
            NodeId outer = work.reached, otherwise = graph_.unary(Op::logical_not, condition);
            work.reached = outer == kNoNode ? condition : graph_.binary(Op::logical_and, outer, condition);
            run_block(branch->then_block, env, work);
            work.reached = outer == kNoNode ? otherwise : graph_.binary(Op::logical_and, outer, otherwise);
            run_block(branch->else_block, env, work);
            work.reached = outer;
        } else if (const auto* loop = s->as<ForDecl>()) {
            double low = need_constant(*loop->low, env, "the range of a loop"), high = need_constant(*loop->high, env, "the range of a loop");
            for (int i = static_cast<int>(low); i <= static_cast<int>(high); ++i) {
                loop_indices_.push_back({loop->index, i, env.loops});
                Env inner = env;
                inner.loops = &loop_indices_.back();
                run_block(loop->body, inner, work);
            }
        } else {
            give_up(messages::unexpected_here, s->span, "this statement in a block that runs at a moment", {}, {},
                    "put loops of unknown length into a function and call it");
        }
    }
}

void Instantiator::set_in_block(const AssignDecl& assign, const Value& value, const Env& env, BlockWork& work)
{
    const Expr& e = *assign.target;
    bool local = e.kind == ExprKind::path && e.path.size() == 1 && env.frame->locals.contains(e.path[0].name);
    auto chosen = [&](NodeId fresh, NodeId old) { return work.reached == kNoNode ? fresh : graph_.select(work.reached, fresh, old); };
    if (local) {
        Value& held = env.frame->locals[e.path[0].name];
        if (held.is_array() || value.is_array()) give_up(messages::unsupported, e.span, "setting an array made by 'let' in a block");
        held.node = chosen(value.node, held.node);
        return;
    }
    Env plain = env;
    plain.now = nullptr;
    Value target = build(e, plain);
    std::vector<NodeId> leaves = target.is_array() ? target.elements : std::vector<NodeId>{target.node};
    if (value.is_array() && (!target.is_array() || value.elements.size() != leaves.size()))
        give_up(messages::bad_value, e.span, fmt::format("'{}' has {} elements, the value has {}", brief(e), leaves.size(), value.elements.size()));
    for (std::size_t i = 0; i < leaves.size(); ++i) {
        NodeId leaf = leaves[i], v = value.is_array() ? value.elements[i] : value.node;
        FlatSetting setting;
        setting.target = leaf;
        setting.span = e.span;
        const Node n = leaf == kNoNode ? Node{} : graph_[leaf];
        NodeId under = n.op == Op::rate_of ? n.a : leaf;
        while (under != kNoNode && graph_[under].op == Op::rate_of) under = graph_[under].a;
        if (n.op == Op::memory) {
            setting.memory = n.a;
            setting.target = kNoNode;
            auto [held, fresh] = work.memories.emplace(leaf, setting);
            NodeId before = fresh ? leaf : work.now[leaf];
            // set under several conditions: set if any of them held
            if (fresh)
                held->second.when = work.reached;
            else if (held->second.when != kNoNode)
                held->second.when = work.reached == kNoNode ? kNoNode : graph_.binary(Op::logical_or, held->second.when, work.reached);
            work.now[leaf] = chosen(v, before);
        } else if (under != kNoNode && graph_[under].op == Op::quantity) {
            setting.value = v;
            setting.when = work.reached;
            work.block.settings.push_back(setting);
        } else {
            const char* what = n.op == Op::parameter ? "a param" : n.op == Op::constant ? "fixed" : "an expression";
            give_up(messages::not_settable, e.span, brief(e), what, {}, "a block sets memories, and quantities that have a rate (x := ..., x' := ...)");
        }
    }
}

}  // namespace netloop

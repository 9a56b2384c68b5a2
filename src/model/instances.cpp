// SPDX-License-Identifier: Apache-2.0
// Stage one: the tree of instances with options fixed, ports and joints collected. Stage two, their fluids: find_fluids.cpp.
#include <algorithm>
#include <cmath>
#include <sstream>

#include "base/deep_stack.hpp"
#include "base/interrupt.hpp"
#include "model/instantiator.hpp"

namespace netloop {
namespace {

constexpr std::uint32_t kMaxDepth = 100;
constexpr double kMaxSize = 50'000'000;

const std::string& port_fluid_name(const PortDecl& port, std::size_t i = 0)
{
    static const std::string none;
    return i < port.fluids.size() ? port.fluids[i] : none;
}

bool has_structure(const Block& block)
{
    return std::any_of(block.begin(), block.end(), [](const Statement* s) {
        if (const auto* b = s->as<IfDecl>()) return has_structure(b->then_block) || has_structure(b->else_block);
        if (const auto* f = s->as<ForDecl>()) return has_structure(f->body);
        return s->as<PartDecl>() != nullptr || s->as<JointDecl>() != nullptr || s->as<PortDecl>() != nullptr;
    });
}

bool asks_fluid(const Expr& e, const ComponentInfo& info)
{
    if (e.kind == ExprKind::path && e.path.size() == 2)
        if (const Member* m = info.find(e.path[0].name)) return m->is_port_fluid || m->statement->as<FluidUseDecl>() != nullptr;
    return std::any_of(e.args.begin(), e.args.end(), [&](const Expr* a) { return asks_fluid(*a, info); });
}

}  // namespace

void Instantiator::give_up(const Message& message, Span span, const std::string& a, const std::string& b, const std::string& c, std::string hint)
{
    set_.diagnostics.report(message, span, a, b, c).mend(std::move(hint));
    throw StatementGivenUp{};
}

// --- constants ----------------------------------------------------------------------------------------------------

std::optional<Instantiator::Constant> Instantiator::constant_of(const Expr& e, const Env& env, std::string* reason)
{
    auto no = [&](std::string why) -> std::optional<Constant> {
        if (reason != nullptr && reason->empty()) *reason = std::move(why);
        return std::nullopt;
    };
    auto number = [](double v) { return Constant{v, {}}; };
    switch (e.kind) {
        case ExprKind::number:
        case ExprKind::truth:
            return number(e.number);
        case ExprKind::time:
            return no("time");
        case ExprKind::negate: {
            auto v = constant_of(*e.args[0], env, reason);
            return v ? std::optional(number(-v->number)) : std::nullopt;
        }
        case ExprKind::logical_not: {
            auto v = constant_of(*e.args[0], env, reason);
            return v ? std::optional(number(v->number == 0 ? 1 : 0)) : std::nullopt;
        }
        case ExprKind::power: {
            auto a = constant_of(*e.args[0], env, reason), b = constant_of(*e.args[1], env, reason);
            return a && b ? std::optional(number(std::pow(a->number, b->number))) : std::nullopt;
        }
        case ExprKind::choice: {
            auto c = constant_of(*e.args[0], env, reason);
            return c ? constant_of(*e.args[c->number != 0 ? 1 : 2], env, reason) : std::nullopt;
        }
        case ExprKind::chain: {
            auto v = constant_of(*e.args[0], env, reason);
            for (std::size_t i = 1; v && i < e.args.size(); ++i) {
                auto w = constant_of(*e.args[i], env, reason);
                if (!w) return std::nullopt;
                double a = v->number, b = w->number;
                switch (e.text[i - 1]) {
                    case '+':
                        v->number = a + b;
                        break;
                    case '-':
                        v->number = a - b;
                        break;
                    case '*':
                        v->number = a * b;
                        break;
                    case '/':
                        v->number = a / b;
                        break;
                    case '&':
                        v->number = a != 0 && b != 0 ? 1 : 0;
                        break;
                    default:
                        v->number = a != 0 || b != 0 ? 1 : 0;
                        break;
                }
            }
            return v;
        }
        case ExprKind::compare: {
            // a choice option against one of its words
            for (std::size_t k : {0u, 1u}) {
                if (e.args[k]->kind != ExprKind::path) continue;
                auto v = constant_of(*e.args[k], env, nullptr);
                if (!v || v->choice.empty()) continue;
                const Expr& word = *e.args[1 - k];
                std::string other = word.kind == ExprKind::path ? text_of(word.path) : std::string();
                if (auto w = constant_of(word, env, nullptr); w && !w->choice.empty()) other = w->choice;
                return number((v->choice == other) == (e.text == "==") ? 1 : 0);
            }
            auto a = constant_of(*e.args[0], env, reason), b = constant_of(*e.args[1], env, reason);
            if (!a || !b) return std::nullopt;
            double x = a->number, y = b->number;
            bool t = e.text == "<" ? x < y : e.text == "<=" ? x <= y : e.text == ">" ? x > y : e.text == ">=" ? x >= y : e.text == "==" ? x == y : x != y;
            return number(t ? 1 : 0);
        }
        case ExprKind::call: {
            if (e.path.size() != 1) return no("'" + brief(e) + "'");
            std::vector<double> v;
            for (const Expr* a : e.args) {
                auto c = constant_of(*a, env, reason);
                if (!c) return std::nullopt;
                v.push_back(c->number);
            }
            const std::string& f = e.path[0].name;
            if (f == "floor" && v.size() == 1) return number(std::floor(v[0]));
            if (f == "ceil" && v.size() == 1) return number(std::ceil(v[0]));
            if (f == "abs" && v.size() == 1) return number(std::abs(v[0]));
            if (f == "mod" && v.size() == 2) return number(v[0] - v[1] * std::floor(v[0] / v[1]));
            if (f == "min" && v.size() >= 2) return number(*std::min_element(v.begin(), v.end()));
            if (f == "max" && v.size() >= 2) return number(*std::max_element(v.begin(), v.end()));
            return no("'" + brief(e) + "'");
        }
        case ExprKind::path: {
            const std::string& name = e.path[0].name;
            if (e.path.size() == 1)
                for (const LoopIndex* l = env.loops; l != nullptr; l = l->outer)
                    if (l->name == name && l->let == nullptr) return number(l->value);
            if (env.frame != nullptr && e.path.size() == 1) {
                if (auto it = env.frame->locals.find(name); it != env.frame->locals.end()) {
                    NodeId n = it->second.node;
                    return n != kNoNode && graph_.is_constant(n) ? std::optional(number(graph_.value(n))) : no("'" + name + "'");
                }
            }
            const Member* m = env.instance != kNoNode ? instances_[env.instance].info->find(name) : nullptr;
            const QuantityDecl* q = nullptr;
            Env inner = env;
            if (m != nullptr && e.path.size() == 2) {
                bool fluid = m->is_port_fluid || m->statement->as<FluidUseDecl>() != nullptr;
                auto id = fluid ? fluid_of(env.instance, name) : std::nullopt;
                if (!id) return no("'" + brief(e) + "'");
                const Member* option = instances_[*id].info->find(e.path[1].name);
                if (option == nullptr || instances_[*id].members[option->slot].kind != InstanceMember::Kind::option) return no("'" + brief(e) + "'");
                const InstanceMember& held = instances_[*id].members[option->slot];
                return Constant{held.number, held.choice};
            }
            if (m == nullptr && e.path.size() > 1) {
                const Definition* d = set_.find(*env.scope, Path(e.path.begin(), e.path.end() - 1), true);
                if (d == nullptr || d->as<FluidUseDecl>() == nullptr) return no("'" + brief(e) + "'");
                InstanceId fluid = file_fluid(*d);
                const Member* option = instances_[fluid].info->find(e.path.back().name);
                if (option == nullptr || instances_[fluid].members[option->slot].kind != InstanceMember::Kind::option) return no("'" + brief(e) + "'");
                return Constant{instances_[fluid].members[option->slot].number, instances_[fluid].members[option->slot].choice};
            }
            if (e.path.size() != 1) return no("'" + brief(e) + "'");
            if (m != nullptr) {
                if (instances_[env.instance].members[m->slot].kind == InstanceMember::Kind::absent) make_option(env.instance, name);
                const InstanceMember& held = instances_[env.instance].members[m->slot];
                if (held.kind == InstanceMember::Kind::option) return Constant{held.number, held.choice};
                q = m->statement->as<QuantityDecl>();
                inner = {env.instance, m->scope, nullptr, nullptr, true};
            } else if (const Definition* d = set_.find(*env.scope, e.path, true)) {
                q = d->as<QuantityDecl>();
                inner = {env.instance, d->scope, nullptr, nullptr, true};
            }
            bool folds = q != nullptr && (q->kind == QuantityKind::constant || q->kind == QuantityKind::let) && q->value != nullptr && q->sizes.empty();
            if (!folds) return no(q != nullptr && q->kind == QuantityKind::param ? "param '" + name + "'" : "'" + brief(e) + "'");
            Following following(*this, q, inner.instance);
            if (following.again()) return no("itself");
            if (stack_is_short()) return no("too long a chain of definitions");
            std::pair<const void*, InstanceId> key{q, inner.instance};
            if (auto known = constants_.find(key); known != constants_.end()) return known->second;
            auto found = constant_of(*q->value, inner, reason);
            if (found) constants_.emplace(key, *found);
            return found;
        }
        default:
            return no("'" + brief(e) + "'");
    }
}

double Instantiator::need_constant(const Expr& e, const Env& env, const std::string& what)
{
    std::string reason;
    auto v = constant_of(e, env, &reason);
    if (!v) give_up(messages::not_constant, e.span, what, reason, {}, "use an option, a const or a number");
    return v->number;
}

std::uint32_t Instantiator::size_of(const Expr& e, const Env& env, const std::string& what)
{
    double n = need_constant(e, env, "the size of '" + what + "'");
    if (!(n >= 0 && n <= kMaxSize) || n != std::floor(n)) give_up(messages::bad_size, e.span, what, fmt::format("{:g}", n), fmt::format("{:.0f}", kMaxSize));
    return static_cast<std::uint32_t>(n);
}

// --- walking a body: branches on options are chosen, loops are unrolled --------------------------------------------

void Instantiator::walk(const BodyItem& item, const Env& env, const std::function<void(const BodyItem&, const Env&)>& visit)
{
    if (const auto* branch = item.statement->as<IfDecl>()) {
        auto c = constant_of(*branch->condition, env, nullptr);
        if (!c) {
            visit(item, env);
            return;
        }
        for (const Statement* s : c->number != 0 ? branch->then_block : branch->else_block) walk({s, item.scope}, env, visit);
        return;
    }
    if (const auto* loop = item.statement->as<ForDecl>()) {
        double low = need_constant(*loop->low, env, "the range of a loop"), high = need_constant(*loop->high, env, "the range of a loop");
        if (low != std::floor(low) || high != std::floor(high) || std::abs(low) > kMaxSize || std::abs(high) > kMaxSize)
            give_up(messages::bad_size, loop->low->span, loop->index, fmt::format("{:g} .. {:g}", low, high), fmt::format("{:.0f}", kMaxSize));
        for (int i = static_cast<int>(low); i <= static_cast<int>(high); ++i) {
            look_at_interrupt();
            loop_indices_.push_back({loop->index, i, env.loops});
            Env inner = env;
            inner.loops = &loop_indices_.back();
            for (const Statement* s : loop->body) {
                const auto* let = s->as<QuantityDecl>();
                if (let == nullptr || let->kind != QuantityKind::let) {
                    walk({s, item.scope}, inner, visit);
                    continue;
                }
                loop_indices_.push_back({let->name, 0, inner.loops, let->value});  // a name for this round alone
                inner.loops = &loop_indices_.back();
            }
        }
        return;
    }
    try {
        visit(item, env);
    } catch (const StatementGivenUp&) {
        // reported; the other statements are still looked at
    }
}

void Instantiator::for_each_statement(InstanceId id, const std::function<void(const BodyItem&, const Env&)>& visit)
{
    const ComponentInfo* info = instances_[id].info;
    for (const BodyItem& item : info->items) {
        Env env{id, item.scope, nullptr, nullptr, true};
        try {
            walk(item, env, visit);
        } catch (const StatementGivenUp&) {
        }
    }
}

// --- instances ----------------------------------------------------------------------------------------------------

Instantiator::Instantiator(LibrarySet& set, const InstantiateRequest& request) : set_(set), request_(request), graph_(model_->graph), checker_(set) {}

const Binding* Instantiator::binding_of(InstanceId id, const std::string& name) const
{
    const Binding* found = nullptr;
    for (const Binding& b : instances_[id].bindings)
        if (b.put == nullptr && b.path.size() == 1 && b.path[0].name == name) found = &b;
    return found;
}

const Binding* Instantiator::put_into(InstanceId id, const std::string& slot) const
{
    const Binding* found = nullptr;
    for (const Binding& b : instances_[id].bindings)
        if (b.put != nullptr && b.path.size() == 1 && b.path[0].name == slot) found = &b;
    return found;
}

void Instantiator::check_bindings(InstanceId id)
{
    Instance& instance = instances_[id];
    for (const Binding& b : instance.bindings) {
        const Member* m = instance.info->find(b.path[0].name);
        if (m == nullptr) {
            set_.diagnostics.report(messages::unknown_name, b.path[0].span, b.path[0].name, fmt::format("'{}'", instance.info->definition->full_name))
                .mend(mend_of_name(*instance.info, b.path[0].name));
            continue;
        }
        if (b.path.size() > 1 || (m->is_port_fluid && b.put == nullptr)) continue;
        const auto* q = m->statement->as<QuantityDecl>();
        bool settable = q != nullptr && (q->kind == QuantityKind::param || q->kind == QuantityKind::option || q->kind == QuantityKind::input);
        const auto* part = m->statement->as<PartDecl>();
        bool slot = m->statement->as<SlotDecl>() != nullptr;
        if (b.put != nullptr && part != nullptr && part->size == nullptr) continue;  // another component in the place of a part
        if (slot != (b.put != nullptr)) {
            set_.diagnostics.report(messages::not_a, b.path[0].span, b.path[0].name, slot ? "a slot" : "no slot", slot ? "a param" : "a place for a component")
                .mend(slot ? fmt::format("put a component in: {} = Kind(...)", b.path[0].name) : "");
        } else if (slot) {
            continue;
        } else if (!settable) {
            set_.diagnostics.report(messages::not_a, b.path[0].span, b.path[0].name, q != nullptr ? "no param, option or input" : "no quantity", "a param")
                .mend("a start value is set by 'init' or 'guess' in the system or scenario");
        }
    }
}

void Instantiator::make_options(InstanceId id)
{
    for (const std::string& name : instances_[id].info->member_names) make_option(id, name);
}

// Options may use each other in any order: one that is asked for before its turn is made then.
void Instantiator::make_option(InstanceId id, const std::string& name)
{
    const Member& m = *instances_[id].info->find(name);
    const auto* q = m.statement->as<QuantityDecl>();
    if (q == nullptr || q->kind != QuantityKind::option || instances_[id].members[m.slot].kind == InstanceMember::Kind::option) return;
    Following following(*this, q, id);
    if (following.again() || stack_is_short()) {
        if (following.again())
            set_.diagnostics.report(messages::circular_definition, q->name_span, "option " + name);
        else
            set_.diagnostics.report(messages::nested_too_deeply, q->name_span, followed_.size()).mend("let fewer options hang on each other");
        instances_[id].members[m.slot].kind = InstanceMember::Kind::option;
        return;
    }
    {
        InstanceMember held;
        held.kind = InstanceMember::Kind::option;
        const Binding* b = binding_of(id, name);
        const Expr* e = b != nullptr ? b->value : q->value;
        Env env = b != nullptr ? b->env : Env{id, m.scope, nullptr, nullptr, true};
        if (e == nullptr) {
            set_.diagnostics.report(messages::missing_value, instances_[id].span, name, instances_[id].path);
            instances_[id].members[m.slot] = held;
            return;
        }
        if (q->type == ValueType::choice) {
            if (e->kind == ExprKind::path && e->path.size() == 1) held.choice = e->path[0].name;
            if (auto c = constant_of(*e, env, nullptr); c && !c->choice.empty()) held.choice = c->choice;
            if (std::find(q->choices.begin(), q->choices.end(), held.choice) == q->choices.end()) {
                std::string near = nearest_name(held.choice, q->choices);
                set_.diagnostics.report(messages::unknown_name, e->span, brief(*e), fmt::format("the choices of '{}'", name))
                    .mend(near.empty() ? "" : fmt::format("did you mean '{}'?", near));
            }
        } else {
            try {
                held.number = need_constant(*e, env, fmt::format("option '{}'", name));
                if (q->low != nullptr && q->high != nullptr) {
                    Env own{id, m.scope, nullptr, nullptr, true};
                    double low = need_constant(*q->low, own, "a range"), high = need_constant(*q->high, own, "a range");
                    if (held.number < low || held.number > high)
                        set_.diagnostics.report(messages::out_of_range, e->span, name, fmt::format("{:g}", held.number), fmt::format("{:g}", low),
                                                fmt::format("{:g}", high));
                }
            } catch (const StatementGivenUp&) {
            }
        }
        instances_[id].members[m.slot] = held;
        if (!instances_[id].fluid) tell_option(id, *q, m, held);
    }
}

// What advice may try in the place of an option's value: what comes before it in its list, less, or false where it is not the default.
void Instantiator::tell_option(InstanceId id, const QuantityDecl& q, const Member& m, const InstanceMember& held)
{
    FlatOption told;
    told.path = instances_[id].path.empty() ? q.name : instances_[id].path + "." + q.name;
    told.instance = id;
    Env own{id, m.scope, nullptr, nullptr, true};
    auto number = [&](const Expr* e) -> std::optional<double> {
        auto c = e != nullptr ? constant_of(*e, own, nullptr) : std::nullopt;
        return c ? std::optional(c->number) : std::nullopt;
    };
    // what the kind itself has fixed for what it takes over is its nature
    const Binding* given = binding_of(id, q.name);
    const bool fixed = given != nullptr && given->env.instance == id;
    if (q.type == ValueType::choice) {
        told.value = held.choice;
        const std::string usual = q.value != nullptr && q.value->kind == ExprKind::path && q.value->path.size() == 1 ? q.value->path[0].name : "";
        auto now = std::find(q.choices.begin(), q.choices.end(), held.choice);
        if (held.choice != usual) told.simpler.assign(q.choices.begin(), now);
    } else if (q.type == ValueType::boolean || (q.value != nullptr && q.value->kind == ExprKind::truth)) {
        told.value = held.number != 0 ? "true" : "false";
        if (held.number != 0 && number(q.value) == 0.0) told.simpler = {"false"};
    } else {
        told.value = fmt::format("{:g}", held.number);
        const double least = std::max(number(q.low).value_or(1), 1.0), half = std::ceil(held.number / 2);
        if (half >= least && half < held.number) told.simpler = {fmt::format("{:g}", half)};
    }
    if (fixed) told.simpler.clear();
    model_->options.push_back(std::move(told));
}

namespace {
// Those of the definition itself, else of what it takes over.
std::vector<std::string> picture_lines(const ComponentInfo& info)
{
    std::vector<std::string> lines;
    for (const Definition* d : info.ancestry) {
        std::istringstream doc(d->statement->doc);
        for (std::string line; std::getline(doc, line);)
            if (line.starts_with("Picture:")) lines.push_back(line.substr(line.find_first_not_of(' ', 8)));
        if (!lines.empty()) break;
    }
    return lines;
}
}  // namespace

InstanceId Instantiator::make_instance(const Definition& d, InstanceId parent, std::string path, std::vector<Binding> bindings, Span span, bool fluid,
                                       const SettledUnits& units)
{
    auto id = static_cast<InstanceId>(instances_.size());
    Instance& instance = instances_.emplace_back();
    instance.parent = parent;
    instance.path = std::move(path);
    instance.info = set_.info(d);
    instance.depth = id == 0 ? 0 : instances_[parent].depth + 1;
    instance.span = span;
    instance.fluid = fluid;
    instance.units = units;
    instance.members.resize(instance.info->member_names.size());
    // given to what is taken over first, so that what the user of the part gives wins
    for (const auto& [value, scope] : instance.info->values)
        instance.bindings.push_back({value.path, value.value, Env{id, scope, nullptr, nullptr, true}, false, value.put.get()});
    instance.bindings.insert(instance.bindings.end(), bindings.begin(), bindings.end());
    model_->instances.push_back(instance.path);
    bool own = span.known() && !set_.sources.is_shipped(span.file);
    model_->kinds.push_back(d.full_name);
    for (std::string& line : picture_lines(*instance.info)) model_->pictures.push_back({id, std::move(line)});
    model_->places.push_back(own || id == 0 ? span : model_->places[parent]);
    checker_.check(d);
    for (const Definition* base : instance.info->ancestry) checker_.check(*base);

    bool circular = std::find(making_.begin(), making_.end(), &d) != making_.end();
    if (circular || instance.depth > kMaxDepth) {
        std::string chain;
        auto from = std::find(making_.begin(), making_.end(), &d);
        for (auto it = from; it != making_.end(); ++it) chain += (*it)->name + " -> ";
        set_.diagnostics.report(messages::circular_definition, span, chain + d.name).mend("a component cannot hold itself as a part");
        return id;
    }
    making_.push_back(&d);
    check_bindings(id);
    make_options(id);
    // the order of the text does not matter: what a later pass refers to is made by an earlier one
    for (Pass pass : {Pass::ports_and_fluids, Pass::parts, Pass::named_joints, Pass::joints})
        for_each_statement(id, [&](const BodyItem& item, const Env& env) { make_structure(id, item, env, pass); });
    making_.pop_back();
    return id;
}

// The open units of a part, where those of what holds it are settled.
SettledUnits Instantiator::units_in(InstanceId parent, const std::string& part, const KindUse& use, const FileScope& scope, const std::string& index)
{
    SettledUnits units = checker_.settled_units(*instances_[parent].info, part, use, scope, index);
    for (auto& [name, unit] : units) {
        if (!unit.dimension.is_open()) continue;
        Type type = settled(Type::of(unit), instances_[parent].units);
        unit = type.unit.value_or(si_unit(type.dimension));
    }
    return units;
}

std::vector<Binding> Instantiator::bindings_for(InstanceId parent, const std::string& name, std::optional<int> index, const KindUse& use, const Env& env)
{
    std::vector<Binding> result;
    for (const NamedValue& v : use.values) {
        if (auto it = std::find_if(result.begin(), result.end(), [&](const Binding& b) { return text_of(b.path) == text_of(v.path); }); it != result.end())
            set_.diagnostics.report(messages::said_twice, v.span, text_of(v.path), "");
        result.push_back({v.path, v.value, env, false, v.put.get()});
    }
    for (const Binding& b : instances_[parent].bindings) {
        if (b.path.size() < 2 || b.path[0].name != name) continue;
        if (!b.path[0].indices.empty()) {
            auto wanted = constant_of(*b.path[0].indices[0], b.env, nullptr);
            if (!wanted || !index || wanted->number != *index) continue;
        }
        result.push_back({Path(b.path.begin() + 1, b.path.end()), b.value, b.env, b.from_outside, b.put});
    }
    return result;
}

// A slot holds its default component, or what the user of the system puts in.
void Instantiator::make_slot(InstanceId id, const SlotDecl& slot, const Env& env)
{
    const Binding* given = put_into(id, slot.name);
    const KindUse& use = given != nullptr ? *given->put : slot.kind;
    const Env from = given != nullptr ? given->env : env;
    const Definition *base = set_.find(*env.scope, slot.base), *d = set_.find(*from.scope, use.kind);
    if (base == nullptr || d == nullptr || base->as<ComponentDecl>() == nullptr) throw StatementGivenUp{};
    if (d->as<ComponentDecl>() == nullptr || d->as<ComponentDecl>()->base)
        give_up(messages::not_a, use.span, d->full_name, d->as<ComponentDecl>() == nullptr ? d->kind_text() : "a base component", "a component");
    if (!checker_.check_slot(*base, *d, use.span)) throw StatementGivenUp{};
    const Member* m = instances_[id].info->find(slot.name);
    std::string path = instances_[id].path.empty() ? slot.name : instances_[id].path + "." + slot.name;
    std::vector<Binding> bindings = bindings_for(id, slot.name, std::nullopt, use, from);
    InstanceMember held;
    held.kind = InstanceMember::Kind::part;
    held.first = static_cast<std::uint32_t>(instances_.size());
    instances_[id].members[m->slot] = held;
    make_instance(*d, id, path, std::move(bindings), slot.name_span, false, units_in(id, slot.name, use, *from.scope));
}

void Instantiator::make_part(InstanceId id, const Member& member, const PartDecl& part, const Definition& d, const KindUse& use, const Env& env)
{
    for (const Binding& b : instances_[id].bindings)
        if (b.path.size() > 1 && b.path[0].name == part.name && !b.path[0].indices.empty())
            give_up(messages::bad_value, b.path[0].span, fmt::format("'{}' is a single part, not an array", part.name));
    InstanceMember held;
    held.kind = InstanceMember::Kind::part;
    held.first = static_cast<std::uint32_t>(instances_.size());
    instances_[id].members[member.slot] = held;
    std::string path = instances_[id].path.empty() ? part.name : instances_[id].path + "." + part.name;
    InstanceId made =
        make_instance(d, id, path, bindings_for(id, part.name, std::nullopt, use, env), part.name_span, false, units_in(id, part.name, use, *env.scope));
    instances_[id].members[member.slot].first = made;
}

void Instantiator::make_parts(InstanceId id, const Member& member, const PartDecl& part, const Env& env)
{
    const Definition* d = set_.find(*env.scope, part.kind.kind);
    if (const Binding* given = part.size == nullptr ? put_into(id, part.name) : nullptr; given != nullptr) {
        // another component takes its place: one that can be joined as it was
        const Definition* other = set_.find(*given->env.scope, given->put->kind);
        if (d == nullptr || other == nullptr || d->as<ComponentDecl>() == nullptr) throw StatementGivenUp{};
        if (other->as<ComponentDecl>() == nullptr || other->as<ComponentDecl>()->base)
            give_up(messages::not_a, given->put->span, other->full_name, other->as<ComponentDecl>() == nullptr ? other->kind_text() : "a base component",
                    "a component");
        if (!checker_.check_slot(*d, *other, given->put->span, true)) throw StatementGivenUp{};
        make_part(id, member, part, *other, *given->put, given->env);
        return;
    }
    if (d == nullptr || d->as<ComponentDecl>() == nullptr || d->as<ComponentDecl>()->base) {
        checker_.check(*instances_[id].info->definition);  // says what is wrong with the kind
        throw StatementGivenUp{};
    }
    std::string base = instances_[id].path.empty() ? part.name : instances_[id].path + "." + part.name;
    double lowest = part.low != nullptr ? need_constant(*part.low, env, "the range of a part") : 1;
    if (!(std::abs(lowest) <= kMaxSize))
        give_up(messages::bad_size, part.low->span, part.name, fmt::format("{:g} ..", lowest), fmt::format("{:.0f}", kMaxSize));
    auto low = static_cast<int>(lowest);
    InstanceMember held;
    held.kind = InstanceMember::Kind::part;
    held.first = static_cast<std::uint32_t>(instances_.size());
    if (part.size == nullptr) {
        make_part(id, member, part, *d, part.kind, env);
        return;
    }
    std::uint32_t n = size_of(*part.size, env, part.name);
    if (low != 1) give_up(messages::unexpected_here, part.low->span, "a range that does not begin at 1");
    // a value for a cell that does not exist must not be passed over
    for (const Binding& b : instances_[id].bindings) {
        if (b.path.size() < 2 || b.path[0].name != part.name || b.path[0].indices.empty()) continue;
        auto wanted = constant_of(*b.path[0].indices[0], b.env, nullptr);
        if (!wanted || !(wanted->number >= 1 && wanted->number <= n) || wanted->number != std::floor(wanted->number))
            set_.diagnostics.report(messages::bad_index, b.path[0].span, wanted ? fmt::format("{:g}", wanted->number) : text_of(b.path), part.name, n)
                .mend("arrays are numbered from 1");
    }
    // instances of an array of parts are not neighbours in the arena (they hold parts of their own): an index table
    std::vector<InstanceId> ids;
    const SettledUnits units = units_in(id, part.name, part.kind, *env.scope, part.index);
    for (std::uint32_t i = 1; i <= n; ++i) {
        Env inner = env;
        if (!part.index.empty()) {
            loop_indices_.push_back({part.index, static_cast<int>(i), env.loops});
            inner.loops = &loop_indices_.back();
        }
        ids.push_back(make_instance(*d, id, fmt::format("{}[{}]", base, i), bindings_for(id, part.name, static_cast<int>(i), part.kind, inner), part.name_span,
                                    false, units));
    }
    held.sizes = std::move(ids);
    held.first = kNoNode;
    instances_[id].members[member.slot] = held;
}

void Instantiator::make_ports(InstanceId id, const PortDecl& port, const Env& env, const Statement& s)
{
    const Definition* domain = set_.find(*env.scope, port.domain);
    if (domain == nullptr || domain->as<DomainDecl>() == nullptr) throw StatementGivenUp{};
    std::uint32_t fluid_slot = kNoNode;
    std::size_t n_fluids = 0;
    for (const DomainMember& m : domain->as<DomainDecl>()->members) n_fluids += m.kind == DomainMember::Kind::fluid ? 1 : 0;
    if (n_fluids > 0) {
        const std::string& name = port_fluid_name(port);
        if (!name.empty()) {
            const Member* m = instances_[id].info->find(name);
            InstanceMember& held = instances_[id].members[m->slot];
            if (held.kind != InstanceMember::Kind::fluid) {
                held.kind = InstanceMember::Kind::fluid;
                held.first = fluid_slots_.add();
                if (const Binding* b = binding_of(id, name)) {
                    const Path* given = b->value->kind == ExprKind::path ? &b->value->path : nullptr;
                    bool local = given != nullptr && given->size() == 1 && b->env.instance != kNoNode;
                    const Member* source = local ? instances_[b->env.instance].info->find((*given)[0].name) : nullptr;
                    const InstanceMember* from = source != nullptr ? &instances_[b->env.instance].members[source->slot] : nullptr;
                    if (source != nullptr && source->is_port_fluid && from->kind == InstanceMember::Kind::fluid)
                        fluid_slots_.join(held.first, from->first);
                    else if (auto fluid = fluid_given(*b->value, b->env))
                        fluid_gifts_.push_back({instances_[id].members[m->slot].first, *fluid, b->value->span});
                    else
                        set_.diagnostics.report(messages::not_a, b->value->span, brief(*b->value), "no fluid in sight", "a fluid")
                            .mend("declare it before the part: fluid iso46 = fluids.MineralOil()");
                }
            }
            fluid_slot = instances_[id].members[m->slot].first;
        } else {
            fluid_slot = fluid_slots_.add();
        }
    } else if (!port.fluids.empty()) {
        give_up(messages::unexpected_here, port.name_span, fmt::format("a fluid (domain '{}' has none)", domain->name));
    }
    const Member* m = instances_[id].info->find(port.name);
    InstanceMember held;
    held.kind = InstanceMember::Kind::port;
    held.first = static_cast<std::uint32_t>(ports_.size());
    std::uint32_t n = 1;
    if (!port.sizes.empty()) {
        n = size_of(*port.sizes[0], env, port.name);
        held.sizes = {n};
    }
    for (std::uint32_t i = 1; i <= n; ++i) {
        PortInstance p;
        p.instance = id;
        p.path = (instances_[id].path.empty() ? "" : instances_[id].path + ".") + port.name + (held.sizes.empty() ? "" : fmt::format("[{}]", i));
        p.domain = domain;
        p.fluid_slot = fluid_slot;
        p.needed = port.needed;
        p.optional = port.optional;
        if (port.open_value != nullptr) p.open = &port, p.scope = env.scope;
        p.span = port.name_span;
        p.doc = s.doc;
        ports_.push_back(std::move(p));
        connectors_.add();
        connectors_.add();
    }
    instances_[id].members[m->slot] = held;
}

void Instantiator::make_structure(InstanceId id, const BodyItem& item, const Env& env, Pass pass)
{
    const Statement& s = *item.statement;
    if (const auto* branch = s.as<IfDecl>()) {
        if (pass != Pass::parts) return;
        std::string reason;
        constant_of(*branch->condition, env, &reason);
        if (!has_structure(branch->then_block) && !has_structure(branch->else_block)) return;
        if (asks_fluid(*branch->condition, *instances_[id].info))
            deferred_.push_back({id, item, env});
        else
            give_up(messages::not_constant, branch->condition->span, "a condition over parts, ports or joints", reason, {}, "make it an option");
        return;
    }
    if (const auto* part = s.as<PartDecl>(); part != nullptr && pass == Pass::parts) make_parts(id, *instances_[id].info->find(part->name), *part, env);
    if (const auto* port = s.as<PortDecl>(); port != nullptr && pass == Pass::ports_and_fluids) make_ports(id, *port, env, s);
    if (const auto* port = s.as<PortDecl>(); port != nullptr && in_fluid_branch_)
        give_up(messages::unexpected_here, port->name_span, "a port in a branch on an option of the fluid", {}, {}, "declare it outside of the branch");
    if (const auto* joint = s.as<JointDecl>(); joint != nullptr && pass == (joint->name.empty() ? Pass::joints : Pass::named_joints))
        collect_joint(item, *joint, env);
    if (const auto* slot = s.as<SlotDecl>(); slot != nullptr && pass == Pass::parts) {
        make_slot(id, *slot, env);
    }
    if (const auto* fluid = s.as<FluidUseDecl>(); fluid != nullptr && pass == Pass::ports_and_fluids) {
        const Definition* d = set_.find(*env.scope, fluid->kind.kind);
        if (d == nullptr || d->as<FluidDecl>() == nullptr) throw StatementGivenUp{};
        const Member* m = instances_[id].info->find(fluid->name);
        std::string path = instances_[id].path.empty() ? fluid->name : instances_[id].path + "." + fluid->name;
        InstanceMember held;
        held.kind = InstanceMember::Kind::fluid;
        held.first = make_instance(*d, id, path, bindings_for(id, fluid->name, std::nullopt, fluid->kind, env), fluid->name_span, true);
        instances_[id].members[m->slot] = held;
    }
}

// --- joints -------------------------------------------------------------------------------------------------------

std::optional<std::uint32_t> Instantiator::connector(const Expr& port, const Env& env)
{
    if (port.kind != ExprKind::path) return std::nullopt;  // reported by the unit check of the definition
    InstanceId at = env.instance;
    for (std::size_t i = 0; i < port.path.size(); ++i) {
        const PathStep& step = port.path[i];
        const Member* m = instances_[at].info->find(step.name);
        if (m == nullptr) return std::nullopt;
        const InstanceMember& held = instances_[at].members[m->slot];
        auto index = [&](std::size_t n) -> std::uint32_t {
            if (step.indices.size() != 1) give_up(messages::bad_index, step.span, "(none)", step.name, std::to_string(n));
            double v = need_constant(*step.indices[0], env, "an index");
            if (!(v >= 1 && v <= static_cast<double>(n)) || v != std::floor(v))
                give_up(messages::bad_index, step.span, fmt::format("{:g}", v), step.name, std::to_string(n));
            return static_cast<std::uint32_t>(v) - 1;
        };
        bool last = i + 1 == port.path.size();
        if (held.kind == InstanceMember::Kind::part) {
            if (last) return std::nullopt;
            at = held.first == kNoNode ? held.sizes[index(held.sizes.size())] : held.first;
        } else if (held.kind == InstanceMember::Kind::port && last) {
            std::uint32_t p = held.first + (held.sizes.empty() ? 0 : index(held.sizes[0]));
            bool own = at == env.instance && i == 0;
            if (!own) ports_[p].joined_outside = true;
            return 2 * p + (own ? 1 : 0);
        } else if (held.kind == InstanceMember::Kind::joint && last) {
            return joints_[held.first];
        } else {
            return std::nullopt;
        }
    }
    return std::nullopt;
}

void Instantiator::collect_joint(const BodyItem& item, const JointDecl& joint, const Env& env)
{
    std::optional<std::uint32_t> first;
    for (const Expr* port : joint.ports) {
        auto c = connector(*port, env);
        if (!c) {
            // a port in a branch not taken, or a name that the definition's check has reported
            if (!set_.diagnostics.has_errors()) set_.diagnostics.report(messages::not_a, port->span, brief(*port), "no port here", "a port");
            continue;
        }
        if (first) {
            std::uint32_t a = *first / 2, b = *c / 2;
            connectors_.join(*first, *c);
            if (ports_[a].domain != ports_[b].domain)
                set_.diagnostics.report(messages::wrong_domain, port->span, ports_[b].path, ports_[b].domain->name, ports_[a].path, ports_[a].domain->name);
            if (in_fluid_branch_ && ports_[b].fluid_slot != kNoNode)
                give_up(messages::unexpected_here, port->span, "a joint of a domain with a fluid in a branch on an option of the fluid", {}, {},
                        "which fluid flows follows from the joints: put the joint outside of the branch");
            if (ports_[a].fluid_slot != kNoNode && ports_[b].fluid_slot != kNoNode) fluid_slots_.join(ports_[a].fluid_slot, ports_[b].fluid_slot);
        } else {
            first = c;
        }
        joint_spans_.emplace(*c, item.statement->span);
        joint_owner_.emplace(*c, env.instance);
    }
    if (joint.name.empty() || !first) return;
    const Member* m = instances_[env.instance].info->find(joint.name);
    InstanceMember held;
    held.kind = InstanceMember::Kind::joint;
    held.first = static_cast<std::uint32_t>(joints_.size());
    joints_.push_back(*first);
    instances_[env.instance].members[m->slot] = held;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Sequences and blocks that run at moments: names and units, checked once per definition.
#include <algorithm>

#include "model/check_units.hpp"

namespace netloop {
namespace {

std::vector<std::string> stage_names(const SequenceDecl& sequence)
{
    std::vector<std::string> names;
    for (const Stage& s : sequence.stages)
        if (!s.otherwise) names.push_back(s.name);
    return names;
}

}  // namespace

std::vector<std::string> signal_names(const SequenceDecl& sequence)
{
    std::vector<std::string> names;
    for (const Stage& s : sequence.stages)
        for (const NamedValue& v : s.settings)
            if (std::find(names.begin(), names.end(), v.path[0].name) == names.end()) names.push_back(v.path[0].name);
    return names;
}

const SequenceDecl* find_sequence(LibrarySet& set, const ComponentInfo& info, const Path& path)
{
    const ComponentInfo* at = &info;
    for (std::size_t i = 0; i < path.size() && at != nullptr; ++i) {
        const Member* m = at->find(path[i].name);
        if (m == nullptr) return nullptr;
        if (const auto* sequence = m->statement->as<SequenceDecl>()) return i + 1 == path.size() ? sequence : nullptr;
        const Path* kind = nullptr;
        if (const auto* part = m->statement->as<PartDecl>()) kind = &part->kind.kind;
        if (const auto* slot = m->statement->as<SlotDecl>()) kind = &slot->base;
        const Definition* d = kind != nullptr ? set.find(*m->scope, *kind, true) : nullptr;
        at = d != nullptr && d->as<ComponentDecl>() != nullptr ? set.info(*d) : nullptr;
    }
    return nullptr;
}

bool is_sequence(LibrarySet& set, const ComponentInfo& info, const Expr* e)
{
    return e != nullptr && e->kind == ExprKind::path && e->args.empty() && find_sequence(set, info, e->path) != nullptr;
}

void UnitChecker::check_stage_name(const SequenceDecl& sequence, const std::string& stage, Span span)
{
    std::vector<std::string> names = stage_names(sequence);
    if (std::find(names.begin(), names.end(), stage) != names.end()) return;
    std::string near = nearest_name(stage, names);
    set_.diagnostics.report(messages::unknown_name, span, stage, fmt::format("the stages of '{}'", sequence.name))
        .mend(near.empty() ? fmt::format("its stages are {}", fmt::join(names, ", ")) : fmt::format("did you mean '{}'?", near));
}

void UnitChecker::check_is_stage(const Expr& e, Context& context)
{
    if (context.info == nullptr) return;
    const SequenceDecl* sequence = find_sequence(set_, *context.info, e.path);
    if (sequence == nullptr) {
        if (context.info->find(e.path[0].name) == nullptr)
            type_of_steps(context.info, *context.scope, e.path, 0, context);
        else
            set_.diagnostics.report(messages::not_a, e.span, text_of(e.path), "no sequence", "a sequence");
        return;
    }
    check_stage_name(*sequence, e.text, e.span);
}

Type UnitChecker::type_of_signal(const SequenceDecl& sequence, const std::string& name, Context& context)
{
    Type type = Type::unknown();
    for (const Stage& s : sequence.stages)
        for (const NamedValue& v : s.settings) {
            if (v.path[0].name != name) continue;
            Type t = type_of(*v.value, context);
            // the first that has a unit tells; a bare 0 fits any
            if (!type.known && type.kind != Type::Kind::condition && !t.zero) type = t;
            if (type.kind == Type::Kind::unknown && t.zero && !type.known) type = t;
        }
    type.zero = type.bare = false;
    return type;
}

UnitChecker::Context UnitChecker::inside(const SequenceDecl& sequence, const Context& context)
{
    Context own = context;
    for (const Statement* s : sequence.declarations)
        if (const auto* q = s->as<QuantityDecl>())
            own.locals[q->name] = q->unit ? Type::of(*q->unit) : q->value != nullptr ? type_of(*q->value, own) : Type::unknown();
    return own;
}

Type UnitChecker::type_of_sequence_member(const SequenceDecl& sequence, const PathStep& step, Context& context)
{
    if (step.name == "dwell") return Type::of(Dimension::base(2));
    Context own = inside(sequence, context);
    if (auto it = own.locals.find(step.name); it != own.locals.end() && !context.locals.contains(step.name)) return it->second;
    std::vector<std::string> names = signal_names(sequence);
    if (std::find(names.begin(), names.end(), step.name) != names.end()) {
        if (!in_sequence_.insert({&sequence, step.name}).second) return Type::unknown();  // one signal defined by another, and back
        Type t = type_of_signal(sequence, step.name, own);
        in_sequence_.erase({&sequence, step.name});
        return t;
    }
    for (const Statement* s : sequence.declarations)
        if (const auto* q = s->as<QuantityDecl>()) names.push_back(q->name);
    names.emplace_back("dwell");
    std::string near = nearest_name(step.name, names);
    set_.diagnostics.report(messages::unknown_name, step.span, step.name, fmt::format("sequence '{}'", sequence.name))
        .mend(near.empty() ? fmt::format("it has {}", fmt::join(names, ", ")) : fmt::format("did you mean '{}'?", near));
    return Type::unknown();
}

Type UnitChecker::type_in_sequence(const ComponentInfo& info, const FileScope& scope, const SequenceDecl& sequence, const std::string& name)
{
    Context context{&info, &scope, {}};
    return type_of_sequence_member(sequence, PathStep{name, sequence.name_span, {}}, context);
}

void UnitChecker::check_sequence(const SequenceDecl& sequence, Context& context)
{
    Context own = context;
    for (const Statement* s : sequence.declarations) {
        check_statement(*s, own, nullptr);
        if (const auto* q = s->as<QuantityDecl>()) own.locals[q->name] = declared_type(*q, context.info, *context.scope);
        if (const auto* q = s->as<QuantityDecl>(); q != nullptr && !q->unit && q->value != nullptr) own.locals[q->name] = type_of(*q->value, own);
    }
    bool any = false;
    std::set<std::string> seen;
    for (const Stage& s : sequence.stages) {
        if (!seen.insert(s.name).second) set_.diagnostics.report(messages::name_taken, s.span, s.name, fmt::format("sequence '{}'", sequence.name));
        any |= !s.otherwise;
    }
    if (!any) {
        set_.diagnostics.report(messages::bad_value, sequence.name_span, fmt::format("sequence '{}' has no stage", sequence.name))
            .mend("stage name { signal = value }");
        return;
    }
    for (const Stage& s : sequence.stages) {
        std::set<std::string> said;
        for (const NamedValue& v : s.settings) {
            if (v.path.size() != 1 || !v.path[0].indices.empty()) {
                set_.diagnostics.report(messages::not_a, v.span, text_of(v.path), "no plain name", "the name of a signal");
                continue;
            }
            const std::string& name = v.path[0].name;
            if (name == "dwell" || own.locals.contains(name))
                set_.diagnostics.report(messages::name_taken, v.span, name, fmt::format("sequence '{}'", sequence.name));
            if (!said.insert(name).second) set_.diagnostics.report(messages::said_twice, v.span, name, fmt::format(" in stage '{}'", s.name));
            Type whole = type_of_signal(sequence, name, own);
            expect_fits(sequence.name + "." + name, whole, type_of(*v.value, own), *v.value);
        }
        Context entry = own;
        check_block(s.on_entry, entry, &kNoBlockResults);
        for (const StageTransition& t : s.transitions) {
            check_stage_name(sequence, t.target, t.span);
            if (t.when != nullptr) expect_condition(*t.when, own);
            if (t.after != nullptr) expect_fits("after", Type::of(si_unit(Dimension::base(2))), type_of(*t.after, own), *t.after);
        }
    }
    // every stage says every signal, or `otherwise` does
    const Stage* rest = nullptr;
    for (const Stage& s : sequence.stages)
        if (s.otherwise) rest = &s;
    auto says = [](const Stage& s, const std::string& name) {
        return std::any_of(s.settings.begin(), s.settings.end(), [&](const NamedValue& v) { return v.path[0].name == name; });
    };
    for (const std::string& name : signal_names(sequence)) {
        if (rest != nullptr && says(*rest, name)) continue;
        for (const Stage& s : sequence.stages) {
            if (s.otherwise || says(s, name)) continue;
            set_.diagnostics.report(messages::stage_silent, s.span, s.name, sequence.name, name)
                .mend(fmt::format("say it there, or add a line to the sequence: otherwise {{ {} = ... }}", name));
        }
    }
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "model/scenario.hpp"

#include <algorithm>

#include "language/parser.hpp"
#include "model/check_units.hpp"

namespace netloop {
namespace {

std::vector<const Definition*> loaded(LibrarySet& set, bool systems)
{
    std::vector<const Definition*> list;
    for (const FileScope* f : set.files_of(nullptr)) {
        for (const Definition* d : f->definitions) {
            const auto* c = d->as<ComponentDecl>();
            if (systems ? c != nullptr && c->system : d->as<ScenarioDecl>() != nullptr) list.push_back(d);
        }
    }
    return list;
}

std::string names_of(const std::vector<const Definition*>& list)
{
    std::string text;
    for (const Definition* d : list) text += (text.empty() ? "" : ", ") + d->name;
    return text;
}

void report_unknown(LibrarySet& set, const char* what, const std::string& name, const std::vector<const Definition*>& list)
{
    std::vector<std::string> names;
    for (const Definition* d : list) names.push_back(d->name);
    std::string near = nearest_name(name, names);
    set.diagnostics.report(messages::unknown_kind, {}, what, name)
        .mend(!near.empty()   ? fmt::format("did you mean '{}'?", near)
              : names.empty() ? fmt::format("the file defines no {}", what)
                              : fmt::format("there are: {}", names_of(list)));
}

class Planner {
public:
    Planner(LibrarySet& set, ScenarioPlan& plan) : set_(set), plan_(plan) {}

    bool take(const Definition& d)
    {
        const auto& scenario = *d.as<ScenarioDecl>();
        if (std::find(chain_.begin(), chain_.end(), &d) != chain_.end()) {
            std::string text;
            for (const Definition* c : chain_) text += c->name + " -> ";
            set_.diagnostics.report(messages::circular_definition, scenario.name_span, text + d.name);
            return false;
        }
        chain_.push_back(&d);
        if (!scenario.from.empty()) {
            const Definition* from = set_.find(*d.scope, {{scenario.from, scenario.name_span, {}}}, true);  // of this file, or of one that it uses
            if (from == nullptr || from->as<ScenarioDecl>() == nullptr) {
                auto in_sight = loaded(set_, false);
                std::erase_if(in_sight, [&](const Definition* s) { return set_.find(*d.scope, {{s->name, scenario.name_span, {}}}, true) != s; });
                report_unknown(set_, "scenario", scenario.from, in_sight);
                return false;
            }
            if (!take(*from)) return false;
        } else {
            const Definition* system = set_.find(*d.scope, scenario.of);
            if (system == nullptr) return false;
            if (system->as<ComponentDecl>() == nullptr || !system->as<ComponentDecl>()->system) {
                set_.diagnostics.report(messages::not_a, scenario.of[0].span, system->name, system->kind_text(), "a system");
                return false;
            }
            plan_.system = system;
        }
        for (const Statement* s : scenario.items) item(*s, *d.scope);
        return true;
    }

private:
    void item(const Statement& s, const FileScope& scope)
    {
        if (const auto* set = s.as<SetItem>()) {
            for (const NamedValue& v : set->values) plan_.values.push_back({v.path, v.value, &scope, v.put.get()});
        } else if (s.as<EquationDecl>() != nullptr || s.as<GuessDecl>() != nullptr) {
            plan_.start_statements.push_back({&s, &scope});
        } else if (const auto* stop = s.as<StopItem>()) {
            plan_.stop = stop->at;
        } else if (const auto* output = s.as<OutputItem>()) {
            plan_.output_every = output->every;
            plan_.output_points = output->points;
            plan_.output_at = output->at;
        } else if (const auto* tolerance = s.as<ToleranceItem>()) {
            if (tolerance->patterns.empty())
                plan_.tolerance = tolerance->value;
            else
                plan_.tolerances.push_back({&s, &scope});
        } else if (const auto* keep = s.as<KeepItem>()) {
            plan_.keep = keep->patterns;
        } else if (const auto* begin = s.as<BeginItem>()) {
            plan_.begin = begin;
        } else if (const auto* put = s.as<PutItem>()) {
            plan_.values.push_back({put->slot, nullptr, &scope, &put->kind});
        } else if (s.as<FindItem>() != nullptr) {
            plan_.finds.push_back({&s, &scope});
        } else if (const auto* measure = s.as<MeasureItem>()) {
            // one of the same name takes the place of that which is taken over
            auto same = std::find_if(plan_.measures.begin(), plan_.measures.end(),
                                     [&](const BodyItem& b) { return b.statement->as<MeasureItem>()->name == measure->name; });
            if (same != plan_.measures.end())
                *same = {&s, &scope};
            else
                plan_.measures.push_back({&s, &scope});
        } else if (s.as<RequireItem>() != nullptr) {
            plan_.demands.push_back({&s, &scope});
        } else if (const auto* figure = s.as<FigureItem>()) {
            auto same = std::find_if(plan_.figures.begin(), plan_.figures.end(),
                                     [&](const BodyItem& b) { return b.statement->as<FigureItem>()->title == figure->title; });
            if (same != plan_.figures.end())
                *same = {&s, &scope};
            else
                plan_.figures.push_back({&s, &scope});
        }
    }

    LibrarySet& set_;
    ScenarioPlan& plan_;
    std::vector<const Definition*> chain_;
};

}  // namespace

std::optional<ScenarioPlan> plan_scenario(LibrarySet& set, const std::string& system, const std::string& scenario, bool no_scenario)
{
    ScenarioPlan plan;
    auto systems = loaded(set, true), scenarios = loaded(set, false);
    if (!system.empty()) {
        auto it = std::find_if(systems.begin(), systems.end(), [&](const Definition* d) { return d->name == system; });
        if (it == systems.end()) {
            report_unknown(set, "system", system, systems);
            return std::nullopt;
        }
        plan.system = *it;
        std::erase_if(scenarios, [&](const Definition* d) {
            const auto* s = d->as<ScenarioDecl>();
            return s->from.empty() && text_of(s->of) != system;
        });
    }
    if (!scenario.empty()) {
        auto it = std::find_if(scenarios.begin(), scenarios.end(), [&](const Definition* d) { return d->name == scenario; });
        if (it == scenarios.end()) {
            report_unknown(set, "scenario", scenario, scenarios);
            return std::nullopt;
        }
        plan.scenario = *it;
    } else if (!no_scenario && scenarios.size() == 1) {
        plan.scenario = scenarios[0];
    } else if (!no_scenario && scenarios.size() > 1) {
        set.diagnostics.report(messages::choose_scenario, {}, names_of(scenarios))
            .mend(fmt::format("name one of them behind the file: {}", scenarios[0]->name));
        return std::nullopt;
    }
    if (plan.scenario != nullptr) {
        plan.doc = plan.scenario->statement->doc;
        if (!Planner(set, plan).take(*plan.scenario)) return std::nullopt;
    } else if (plan.system == nullptr) {
        if (systems.size() != 1) {
            set.diagnostics
                .report(messages::no_system, {},
                        systems.empty() ? "there is no system in the file: nothing to run" : "the file has several systems: " + names_of(systems))
                .mend(systems.empty() ? "add one: system Name { part ... }" : "write a scenario for each: scenario name of System { stop at 10 s }");
            return std::nullopt;
        }
        plan.system = systems[0];
    }
    return plan;
}

void add_outside_value(LibrarySet& set, ScenarioPlan& plan, const std::string& path, const std::string& value)
{
    std::uint32_t path_file = set.sources.add_passing("--set (path)", path), value_file = set.sources.add_passing("--set " + path, value);
    const Expr* where = parse_expression(set.sources, path_file, *plan.arena, set.diagnostics);
    NamedValue what = parse_value(set.sources, value_file, *plan.arena, set.diagnostics);
    if (where == nullptr || (what.value == nullptr && what.put == nullptr)) return;
    if (where->kind != ExprKind::path || !where->args.empty()) {
        set.diagnostics.report(messages::not_a, where->span, path, "no path", "the path of a param");
        return;
    }
    // an entry of any catalogue that is loaded, by its name: whoever asks from outside stands in no file
    if (what.value != nullptr && what.value->kind == ExprKind::path && what.value->args.empty() && what.value->path.size() == 2) {
        const Definition* entry = set.find_by_text(text_of(what.value->path));
        if (entry != nullptr && entry->as<ComponentDecl>() != nullptr && entry->as<ComponentDecl>()->entry) {
            auto use = std::make_shared<KindUse>();
            use->kind = what.value->path;
            use->span = what.value->span;
            plan.kept_kinds.push_back(use);
            plan.values.push_back({where->path, nullptr, entry->scope, use.get()});
            return;
        }
    }
    const FileScope* scope = plan.system->scope;
    if (what.put != nullptr) {
        plan.kept_kinds.push_back(what.put);
        // nor need the system's file see the kind: that of a study's file, say, out of a recording of one of its runs
        if (set.find(*scope, what.put->kind, true) == nullptr)
            if (const Definition* d = set.find_by_text(text_of(what.put->kind)); d != nullptr) scope = d->scope;
    }
    plan.values.push_back({where->path, what.value, scope, what.put.get()});
}

namespace {
// A value for what stands in a slot, or in the place of a part, is checked against the component that is in it; false if the path leads through none.
bool check_inside_slot(LibrarySet& set, const ScenarioPlan& plan, UnitChecker& checker, const OutsideValue& v)
{
    const ComponentInfo* at = set.info(*plan.system);
    for (std::size_t i = 0; i + 1 < v.path.size() && at != nullptr; ++i) {
        const Member* m = at->find(v.path[i].name);
        if (m == nullptr) return false;
        const auto* part = m->statement->as<PartDecl>();
        const auto* slot = m->statement->as<SlotDecl>();
        if (part == nullptr && slot == nullptr) return false;
        const Path* kind = part != nullptr ? &part->kind.kind : &slot->kind.kind;
        const FileScope* scope = m->scope;
        std::string so_far = text_of(Path(v.path.begin(), v.path.begin() + static_cast<std::ptrdiff_t>(i) + 1));
        bool replaced = slot != nullptr;
        for (const OutsideValue& other : plan.values)
            if (other.put != nullptr && text_of(other.path) == so_far) kind = &other.put->kind, scope = other.scope, replaced = true;
        const Definition* d = set.find(*scope, *kind, true);
        at = d != nullptr && d->as<ComponentDecl>() != nullptr ? set.info(*d) : nullptr;
        if (!replaced || at == nullptr) continue;
        Path rest(v.path.begin() + static_cast<std::ptrdiff_t>(i) + 1, v.path.end());
        const Member* last = at->find(rest[0].name);
        const auto* q = last != nullptr ? last->statement->as<QuantityDecl>() : nullptr;
        if (q != nullptr && q->type == ValueType::choice) return true;
        checker.expect_fits(text_of(v.path), checker.type_of_path(*at, *d->scope, rest), checker.type_of_expression(set.info(*plan.system), *v.scope, *v.value),
                            *v.value);
        return true;
    }
    return false;
}
}  // namespace

void check_plan(LibrarySet& set, ScenarioPlan& plan)
{
    UnitChecker checker(set);
    const ComponentInfo* info = set.info(*plan.system);
    for (const OutsideValue& v : plan.values) {
        if (v.put != nullptr) {
            checker.check_put(*info, v.path, *v.put, *v.scope);
            continue;
        }
        if (check_inside_slot(set, plan, checker, v)) continue;
        // the words of a choice option are no names; a fluid, in whatever part it stands, is looked into by its own kind
        const ComponentInfo* at = info;
        const QuantityDecl* target = nullptr;
        const Definition* fluid = nullptr;
        std::size_t behind_fluid = 0;
        for (std::size_t i = 0; i < v.path.size() && at != nullptr; ++i) {
            const Member* m = at->find(v.path[i].name);
            const auto* part = m != nullptr ? m->statement->as<PartDecl>() : nullptr;
            const auto* use = m != nullptr ? m->statement->as<FluidUseDecl>() : nullptr;
            target = m != nullptr ? m->statement->as<QuantityDecl>() : nullptr;
            const Definition* d = part != nullptr  ? set.find(*m->scope, part->kind.kind, true)
                                  : use != nullptr ? set.find(*m->scope, use->kind.kind, true)
                                                   : nullptr;
            if (use != nullptr && d != nullptr) fluid = d, behind_fluid = i + 1;
            bool enters = d != nullptr && (d->as<ComponentDecl>() != nullptr || use != nullptr);
            at = enters ? set.info(*d) : nullptr;
        }
        if (target != nullptr && target->type == ValueType::choice) continue;
        if (fluid != nullptr && behind_fluid < v.path.size()) {
            Path rest(v.path.begin() + static_cast<std::ptrdiff_t>(behind_fluid), v.path.end());
            checker.expect_fits(text_of(v.path), checker.type_of_path(*set.info(*fluid), *fluid->scope, rest),
                                checker.type_of_expression(info, *v.scope, *v.value), *v.value);
            continue;
        }
        checker.expect_fits(text_of(v.path), checker.type_of_path(*info, *plan.system->scope, v.path), checker.type_of_expression(info, *v.scope, *v.value),
                            *v.value);
    }
    const FileScope& scope = plan.scenario != nullptr ? *plan.scenario->scope : *plan.system->scope;
    Unit s = si_unit(Dimension::base(2));
    s.text = "s";
    auto seconds = [&](const char* what, const Expr* e) {
        if (e != nullptr) checker.expect_fits(what, Type::of(s), checker.type_of_expression(info, scope, *e), *e);
    };
    seconds("stop at", plan.stop);
    seconds("output every", plan.output_every);
    for (const Expr* e : plan.output_at) seconds("output at", e);
    if (plan.tolerance != nullptr)
        checker.expect_fits("tolerance", Type::of(Unit{}), checker.type_of_expression(info, scope, *plan.tolerance), *plan.tolerance);
    for (const BodyItem& item : plan.tolerances)
        if (const Expr* value = item.statement->as<ToleranceItem>()->value)
            checker.expect_fits("tolerance", Type::of(Unit{}), checker.type_of_expression(info, *item.scope, *value), *value);
    if (plan.begin != nullptr) {
        seconds("begin at", plan.begin->at);
        for (const Expr* e : plan.begin->except) checker.type_of_expression(info, scope, *e);
    }
    std::map<std::string, Type> known;
    for (const BodyItem& item : plan.measures) {
        const auto& m = *item.statement->as<MeasureItem>();
        Type t = checker.type_of_measure(info, *item.scope, *m.value, known);
        if (m.unit) {
            checker.expect_fits("measure " + m.name, Type::of(*m.unit), t, *m.value);
            t = Type::of(*m.unit);
        }
        known[m.name] = t;
        plan.measure_types[m.name] = display_unit(t);
    }
    for (const BodyItem& item : plan.demands) {
        const auto& r = *item.statement->as<RequireItem>();
        Type t = checker.type_of_measure(info, *item.scope, *r.condition, known);
        if (t.kind == Type::Kind::number && t.known) set.diagnostics.report(messages::not_a, r.condition->span, brief(*r.condition), "a number", "a condition");
        if (r.condition->kind != ExprKind::compare) continue;
        Type left = checker.type_of_measure(info, *item.scope, *r.condition->args[0], known),
             right = checker.type_of_measure(info, *item.scope, *r.condition->args[1], known);
        plan.demand_units[item.statement] = display_unit(right.unit ? right : left);
    }
    for (const BodyItem& item : plan.figures)
        for (const FigurePanel& panel : item.statement->as<FigureItem>()->panels) {
            for (const Expr* curve : panel.curves)
                if (!is_sequence(set, *info, curve)) checker.type_of_expression(info, *item.scope, *curve);
            if (panel.against != nullptr) checker.type_of_expression(info, *item.scope, *panel.against);
        }
    for (const BodyItem& item : plan.finds) {
        const auto& find = *item.statement->as<FindItem>();
        checker.type_of_path(*info, *plan.system->scope, find.unknown);
        checker.expect_fits(brief(*find.left), checker.type_of_expression(info, *item.scope, *find.left),
                            checker.type_of_expression(info, *item.scope, *find.right), *find.right);
    }
    for (const BodyItem& item : plan.start_statements) {
        if (const auto* e = item.statement->as<EquationDecl>())
            checker.expect_fits(brief(*e->left), checker.type_of_expression(info, *item.scope, *e->left),
                                checker.type_of_expression(info, *item.scope, *e->right), *e->right);
        if (const auto* g = item.statement->as<GuessDecl>())
            checker.expect_fits(brief(*g->target), checker.type_of_expression(info, *item.scope, *g->target),
                                checker.type_of_expression(info, *item.scope, *g->value), *g->value);
    }
}

}  // namespace netloop

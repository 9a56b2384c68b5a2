// SPDX-License-Identifier: Apache-2.0
// The text of a study: names looked up, units checked, levels and what is collected made of it. No machine is needed for that.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <set>

#include "files/csv_cells.hpp"
#include "model/check_units.hpp"
#include "study/plan_passes.hpp"

namespace netloop {
namespace {

bool is_literal(const Expr& e)
{
    return (e.kind == ExprKind::number || e.kind == ExprKind::truth) || (e.kind == ExprKind::negate && e.args[0]->kind == ExprKind::number);
}
double literal_value(const Expr& e)
{
    return e.kind == ExprKind::negate ? -e.args[0]->number : e.number;
}

class StudyPlanner {
public:
    StudyPlanner(LibrarySet& set, StudyData& study) : set_(set), study_(study), checker_(set) {}

    // Everything that is known without a machine: under a LibraryWork.
    void read()
    {
        const StudyDecl& decl = *study_.decl;
        const FileScope& scope = *study_.definition->scope;
        const Definition* system = set_.find(scope, decl.of);
        if (system == nullptr) return;
        if (system->as<ComponentDecl>() == nullptr || !system->as<ComponentDecl>()->system) {
            set_.diagnostics.report(messages::not_a, decl.of[0].span, system->name, system->kind_text(), "a system");
            return;
        }
        study_.system = system->name;
        info_ = set_.info(*system);
        system_ = system;
        scenarios();
        if (set_.diagnostics.has_errors()) return;
        ScenarioPlan plan = base_plan();
        if (set_.diagnostics.has_errors()) return;
        if (plan.stop == nullptr)
            set_.diagnostics.report(messages::bad_value, decl.name_span, fmt::format("scenario '{}' has no stop time", study_.default_scenario))
                .mend("add a line to it: stop at 60 s");
        base_ = &plan;
        std::set<std::string> seen;
        for (const VaryItem& v : decl.varies) {
            std::string name = v.scenario ? "scenario" : text_of(v.path);
            if (!seen.insert(name).second) set_.diagnostics.report(messages::said_twice, v.span, "vary " + name, fmt::format(" in study '{}'", study_.name));
            factor(v);
        }
        // slots first: what is varied inside of one is looked up in the part that a level puts there
        if (decl.varies.empty())
            set_.diagnostics.report(messages::bad_value, decl.name_span, fmt::format("study '{}' varies nothing", study_.name))
                .mend("add what it varies: vary pump.displacement over 60 cm^3/rev, 90 cm^3/rev");
        for (const Expr* where : decl.where) {
            Type t = checker_.type_of_expression(info_, scope, *where);
            if (t.kind == Type::Kind::number && t.known) set_.diagnostics.report(messages::not_a, where->span, brief(*where), "a number", "a condition");
        }
        study_.take = decl.take.value_or(TakeItem{});
        study_.seed = static_cast<std::uint64_t>(decl.seed.value_or(1));
        study_.keep = decl.keep.value_or(KeepRecordings{});
        bool indices = study_.take.kind == TakeItem::Kind::for_sobol || study_.take.kind == TakeItem::Kind::for_morris;
        if (indices && !decl.where.empty())
            set_.diagnostics.report(messages::bad_value, decl.where[0]->span, "indices of Sobol and Morris need all points: 'where' would leave some out")
                .mend("narrow the ranges instead");
        collect();
    }

    ScenarioPlan base_plan()
    {
        auto plan = plan_scenario(set_, study_.system, study_.default_scenario, false);
        if (!plan) return {};
        return *plan;
    }

private:
    // The scenario that runs are made in where none is varied.
    void scenarios()
    {
        const StudyDecl& decl = *study_.decl;
        study_.default_scenario = decl.from;
        for (const VaryItem& v : decl.varies)
            if (v.scenario && study_.default_scenario.empty() && !v.levels.empty() && v.levels[0].value != nullptr)
                study_.default_scenario = brief(*v.levels[0].value);
        auto plan = plan_scenario(set_, study_.system, study_.default_scenario, false);
        if (plan && plan->scenario == nullptr)
            set_.diagnostics
                .report(messages::bad_value, decl.name_span, fmt::format("there is no scenario of '{}' that study '{}' could run", study_.system, study_.name))
                .mend(fmt::format("write one: scenario usual of {} {{ stop at 60 s }}", study_.system));
        if (plan && plan->scenario != nullptr) study_.default_scenario = plan->scenario->name;
    }

    // What stands at the end of a path: the component that holds it, and its name there.
    struct Place {
        const ComponentInfo* at = nullptr;
        const FileScope* scope = nullptr;
        const Member* member = nullptr;
        bool through_slot = false;
    };
    Place place_of(const Path& path)
    {
        Place p{info_, system_->scope, nullptr, false};
        for (std::size_t i = 0; i < path.size(); ++i) {
            p.member = p.at->find(path[i].name);
            if (p.member == nullptr) {
                set_.diagnostics.report(messages::unknown_name, path[i].span, path[i].name, fmt::format("'{}'", p.at->definition->full_name))
                    .mend(mend_of_name(*p.at, path[i].name));
                return p;
            }
            if (i + 1 == path.size()) return p;
            const auto* part = p.member->statement->as<PartDecl>();
            const auto* slot = p.member->statement->as<SlotDecl>();
            const Path* kind = part != nullptr ? &part->kind.kind : slot != nullptr ? &slot->kind.kind : nullptr;
            const FileScope* scope = p.member->scope;
            if (slot != nullptr) {
                p.through_slot = true;
                std::string so_far = text_of(Path(path.begin(), path.begin() + static_cast<std::ptrdiff_t>(i) + 1));
                for (const OutsideValue& v : base_->values)
                    if (v.put != nullptr && text_of(v.path) == so_far) kind = &v.put->kind, scope = v.scope;
                for (const StudyFactor& f : study_.factors)
                    if (f.kind == StudyFactor::Kind::slot && f.name == so_far && !f.levels.empty()) kind = &f.levels[0].put->kind, scope = f.levels[0].scope;
            }
            const Definition* d = kind != nullptr ? set_.find(*scope, *kind, true) : nullptr;
            if (d == nullptr || d->as<ComponentDecl>() == nullptr) {
                set_.diagnostics.report(messages::not_a, path[i].span, path[i].name, "no part", "a part");
                p.member = nullptr;
                return p;
            }
            p.at = set_.info(*d);
            p.scope = d->scope;
        }
        return p;
    }

    bool same_kind(const Place& a, const Path& path_a, const Place& b, const Path& path_b)
    {
        const auto *slot_a = a.member->statement->as<SlotDecl>(), *slot_b = b.member->statement->as<SlotDecl>();
        if (slot_a != nullptr || slot_b != nullptr)
            return slot_a != nullptr && slot_b != nullptr && set_.find(*a.member->scope, slot_a->base, true) == set_.find(*b.member->scope, slot_b->base, true);
        const auto *q_a = a.member->statement->as<QuantityDecl>(), *q_b = b.member->statement->as<QuantityDecl>();
        if (q_a == nullptr || q_b == nullptr || q_a->kind != q_b->kind || q_a->type != q_b->type || q_a->choices != q_b->choices) return false;
        Type t_a = checker_.type_of_path(*a.at, *a.scope, {path_a.back()}), t_b = checker_.type_of_path(*b.at, *b.scope, {path_b.back()});
        return !t_a.known || !t_b.known || t_a.dimension == t_b.dimension;
    }

    void factor(const VaryItem& v)
    {
        StudyFactor f;
        f.span = v.span;
        f.path = v.path;
        f.also = v.also;
        f.name = v.scenario ? "scenario" : text_of(v.path);
        if (v.scenario) {
            f.kind = StudyFactor::Kind::scenario;
            scenario_levels(v, f);
            study_.factors.push_back(std::move(f));
            return;
        }
        Place place = place_of(v.path);
        if (place.member == nullptr) return;
        for (const Path& also : v.also) {
            Place other = place_of(also);
            if (other.member != nullptr && !same_kind(place, v.path, other, also))
                set_.diagnostics.report(messages::bad_value, v.span,
                                        fmt::format("'{}' and '{}' are not of one kind, so they cannot have the same value", f.name, netloop::text_of(also)));
            if (other.member == nullptr) return;
        }
        if (place.member->statement->as<SlotDecl>() != nullptr) {
            f.kind = StudyFactor::Kind::slot;
            slot_levels(v, f, *place.member);
            study_.factors.push_back(std::move(f));
            return;
        }
        const auto* q = place.member->statement->as<QuantityDecl>();
        bool can = q != nullptr && (q->kind == QuantityKind::param || q->kind == QuantityKind::option || q->kind == QuantityKind::input);
        if (!can) {
            set_.diagnostics.report(messages::not_a, v.path.back().span, f.name, q == nullptr ? "no quantity" : "computed by the system",
                                    "a param, an option or a slot");
            return;
        }
        f.kind = q->kind == QuantityKind::option ? StudyFactor::Kind::option : StudyFactor::Kind::param;
        const FileScope& scope = *study_.definition->scope;
        // behind a slot the part itself says it; else the whole path, along which units may be settled
        Type declared =
            place.through_slot ? checker_.type_of_path(*place.at, *place.scope, {v.path.back()}) : checker_.type_of_path(*info_, *system_->scope, v.path);
        if (declared.dimension.is_open()) declared = Type::unknown();
        if (declared.unit && !declared.dimension.is_open()) f.unit = *declared.unit;
        if (f.kind == StudyFactor::Kind::option && v.kind != VaryItem::Kind::list)
            set_.diagnostics.report(messages::bad_value, v.span, fmt::format("'{}' is an option: it has single values", f.name))
                .mend("list them: over a, b, c");
        if (q->type == ValueType::integer && v.kind != VaryItem::Kind::list)
            set_.diagnostics.report(messages::bad_value, v.span, fmt::format("'{}' is a whole number: it has single values", f.name))
                .mend("list them: over 1, 2, 3");
        f.numbers = q->type == ValueType::real || q->type == ValueType::integer;
        auto fits = [&](const Expr* e, bool difference = false) {
            if (e == nullptr) return;
            Type wanted = declared;
            if (difference && declared.unit) wanted = Type::of(declared.unit->difference());
            if (q->type == ValueType::choice) return;
            checker_.expect_fits(f.name, wanted, checker_.type_of_expression(info_, scope, *e), *e);
        };
        if (v.kind == VaryItem::Kind::list && !v.file.empty() && (f.kind == StudyFactor::Kind::option || !f.numbers)) {
            no_numbers(v, f.name);
            return;
        }
        for (const NamedValue& level : v.levels) {
            if (level.value == nullptr) {
                set_.diagnostics.report(messages::not_a, level.span, text_of(level.put->kind), "a component",
                                        f.kind == StudyFactor::Kind::option ? "the value of an option" : "a number");
                continue;
            }
            fits(level.value);
            if (q->type == ValueType::choice) {
                std::string word = brief(*level.value);
                if (std::find(q->choices.begin(), q->choices.end(), word) == q->choices.end())
                    set_.diagnostics.report(messages::bad_value, level.span, fmt::format("'{}' is no choice of '{}'", word, f.name))
                        .mend(fmt::format("there are: {}", fmt::join(q->choices, ", ")));
            }
            StudyLevel l;
            l.value = level.value;
            l.scope = &scope;
            l.text = l.structure = l.setting = brief(*level.value);
            f.levels.push_back(std::move(l));
        }
        fits(v.low);
        fits(v.high);
        if (v.count != nullptr) checker_.expect_fits("in", Type::of(Unit{}), checker_.type_of_expression(info_, scope, *v.count), *v.count);
        for (std::size_t a = 0; a < v.arguments.size(); ++a) {
            if (v.distribution == "lognormal" && a == 1)
                checker_.expect_fits("the spread", Type::of(Unit{}), checker_.type_of_expression(info_, scope, *v.arguments[a]), *v.arguments[a]);
            else
                fits(v.arguments[a], v.distribution == "normal" && a == 1);
        }
        fits(v.least);
        fits(v.most);
        if (v.kind == VaryItem::Kind::distribution) f.distribution.emplace();
        if (!v.file.empty()) values_of_file(v, f);
        for (std::size_t l = 0; l < f.levels.size() && !v.file.empty() && q->type == ValueType::integer; ++l)
            if (f.levels[l].si != std::floor(f.levels[l].si))
                set_.diagnostics.report(messages::bad_value, v.span,
                                        fmt::format("file '{}': row {} has no whole number, as '{}' is one", v.file, l + 2, f.name));
        f.on_log = v.on_log;
        study_.factors.push_back(std::move(f));
    }

    // A column of a CSV file: a list of values, or what is drawn from.
    void values_of_file(const VaryItem& v, StudyFactor& f)
    {
        std::string path = (std::filesystem::path(study_.definition->scope->path).parent_path() / v.file).string();
        const std::string* text = set_.data_text(path, v.span);
        if (text == nullptr) return;
        auto refuse = [&](const std::string& what, const std::string& mend) {
            set_.diagnostics.report(messages::bad_value, v.span, fmt::format("file '{}': {}", v.file, what)).mend(mend);
        };
        auto rows = csv_rows(*text);
        std::size_t column = 0, weight = 0;
        bool found = false, weighted = false;
        Unit unit = f.unit;
        for (std::size_t c = 0; !rows.empty() && c < rows[0].size(); ++c) {
            CsvHeading h = csv_heading(rows[0][c].text);
            if (h.name == "weight" && f.distribution) {
                weight = c, weighted = true;
                continue;
            }
            if (h.name != f.path.back().name && h.name != f.name) continue;
            column = c, found = true;
            UnitProblem problem;
            if (h.unit.empty()) continue;
            if (!parse_unit(h.unit, unit, problem)) return refuse(problem.text, problem.hint);
            if (!(unit.dimension == f.unit.dimension)) return refuse(fmt::format("column '{}' does not fit [{}]", rows[0][c].text, f.unit.text), "");
        }
        if (!found)
            return refuse(fmt::format("no column is headed '{}'", f.path.back().name),
                          fmt::format("its first line names the columns: {} [{}]{}", f.path.back().name, f.unit.text, f.distribution ? ", weight" : ""));
        std::vector<std::pair<double, double>> values;
        for (std::size_t r = 1; r < rows.size(); ++r) {
            double x = 0, w = 1;
            auto number = [&](std::size_t c, double& to) {
                char* end = nullptr;
                if (c < rows[r].size()) to = std::strtod(rows[r][c].text.c_str(), &end);
                return end != nullptr && end != rows[r][c].text.c_str() && *end == '\0' && std::isfinite(to);
            };
            if (!number(column, x) || (weighted && (!number(weight, w) || !(w > 0))))
                return refuse(fmt::format("row {} has no number{}", r + 1,
                                          f.distribution ? ", or no weight above 0" : fmt::format(" in column '{}'", rows[0][column].text)),
                              "");
            values.emplace_back(unit.to_si(x), w);
        }
        if (values.empty()) return refuse("it has no values", "");
        if (f.distribution) {
            f.distribution = Distribution::of_values(std::move(values));
            return;
        }
        for (const auto& [si, w] : values) f.levels.emplace_back().si = si;
    }

    void no_numbers(const VaryItem& v, const std::string& name)
    {
        set_.diagnostics.report(messages::bad_value, v.span, fmt::format("'{}' has no numbers as values: a file gives numbers of params", name))
            .mend("list them here, in the same order as the rows of the file: over a, b, c");
    }

    void scenario_levels(const VaryItem& v, StudyFactor& f)
    {
        f.numbers = false;
        if (!v.file.empty()) return no_numbers(v, f.name);
        if (v.kind != VaryItem::Kind::list)
            set_.diagnostics.report(messages::bad_value, v.span, "scenarios are named one by one").mend("vary scenario over calm_day, storm_lift");
        for (const NamedValue& level : v.levels) {
            std::string name = level.value != nullptr ? brief(*level.value) : text_of(level.put->kind);
            auto plan = plan_scenario(set_, study_.system, name, false);
            if (!plan) continue;
            if (plan->stop == nullptr)
                set_.diagnostics.report(messages::bad_value, level.span, fmt::format("scenario '{}' has no stop time", name))
                    .mend("add a line to it: stop at 60 s");
            StudyLevel l;
            l.text = l.structure = name;
            l.title = plan->scenario->statement->doc;
            l.scope = plan->scenario->scope;
            f.levels.push_back(std::move(l));
        }
    }

    // Each entry of a catalogue, single entries, components with values.
    void slot_levels(const VaryItem& v, StudyFactor& f, const Member& slot)
    {
        f.numbers = false;
        const FileScope& scope = *study_.definition->scope;
        if (v.kind != VaryItem::Kind::list) {
            set_.diagnostics.report(messages::bad_value, v.span, fmt::format("'{}' is a slot: parts stand in it", f.name))
                .mend("name a catalogue, or parts: over pumps.p60, pumps.p90");
            return;
        }
        if (!v.file.empty()) return no_numbers(v, f.name);
        const Definition* base = set_.find(*slot.scope, slot.statement->as<SlotDecl>()->base, true);
        auto add = [&](const Definition& d, const KindUse& use, const FileScope& at, Span span, const std::string& shown, const std::string& setting) {
            if (base != nullptr && base->as<ComponentDecl>() != nullptr && !checker_.check_slot(*base, d, span)) return;
            StudyLevel l;
            l.text = shown;
            l.setting = setting;
            l.title = d.statement->doc;
            l.scope = &at;
            split(use, at, f.name, l);
            f.levels.push_back(std::move(l));
        };
        for (const NamedValue& level : v.levels) {
            if (level.put != nullptr) {
                const Definition* d = set_.find(scope, level.put->kind);
                if (d == nullptr) continue;
                checker_.check_put(*info_, f.path, *level.put, scope);
                std::string written(set_.sources.text(level.span));
                add(*d, *level.put, scope, level.span, written, written);
                continue;
            }
            if (level.value->kind != ExprKind::path || !level.value->args.empty()) {
                set_.diagnostics.report(messages::not_a, level.span, brief(*level.value), "an expression", "a catalogue or a part");
                continue;
            }
            const Path& path = level.value->path;
            const Definition* d = set_.find(scope, path);
            if (d == nullptr) continue;
            if (d->as<CatalogueDecl>() != nullptr) {
                if (d->entries.empty()) set_.diagnostics.report(messages::bad_value, level.span, fmt::format("catalogue '{}' is empty", d->name));
                for (const Definition* entry : d->entries) add_entry(*entry, level.span, entry->name, add);
            } else if (d->as<ComponentDecl>() != nullptr && d->as<ComponentDecl>()->entry) {
                add_entry(*d, level.span, d->name, add);
            } else if (d->as<ComponentDecl>() != nullptr) {
                KindUse use;
                use.kind = path;
                use.span = level.span;
                checker_.check_put(*info_, f.path, use, scope);
                add(*d, use, scope, level.span, text_of(path), text_of(path) + "()");
            } else {
                set_.diagnostics.report(messages::not_a, level.span, text_of(path), d->kind_text(), "a catalogue or a part");
            }
        }
    }

    template <typename Add>
    void add_entry(const Definition& entry, Span from, const std::string& shown, const Add& add)
    {
        checker_.check(entry);
        const auto& component = *entry.as<ComponentDecl>();
        if (component.tables.empty()) {
            add(entry, component.takes[0], *entry.scope, from, shown, entry.full_name);
            return;
        }
        // with tables of its own it is a kind of its own
        KindUse use;
        std::string name = entry.full_name;
        std::size_t dot = name.rfind('.');
        std::size_t before = name.rfind('.', dot - 1);
        use.kind = {{name.substr(before == std::string::npos ? 0 : before + 1, dot - (before == std::string::npos ? 0 : before + 1)), component.name_span, {}},
                    {entry.name, component.name_span, {}}};
        use.span = from;
        add(entry, use, *entry.scope, from, shown, entry.full_name);
    }

    // Values that are plain numbers of params are set when a run begins; what is left decides which machine it is.
    void split(const KindUse& use, const FileScope& at, const std::string& slot, StudyLevel& level)
    {
        KindUse rest;
        rest.kind = use.kind;
        rest.span = use.span;
        const Definition* d = set_.find(at, use.kind, true);
        const ComponentInfo* info = d != nullptr && d->as<ComponentDecl>() != nullptr ? set_.info(*d) : nullptr;
        std::string key = d != nullptr ? d->full_name : text_of(use.kind);
        for (const NamedValue& v : use.values) {
            const Member* m = info != nullptr && v.path.size() == 1 ? info->find(v.path[0].name) : nullptr;
            const auto* q = m != nullptr ? m->statement->as<QuantityDecl>() : nullptr;
            std::string full = slot + "." + text_of(v.path);
            bool given_again =
                std::any_of(base_->values.begin(), base_->values.end(), [&](const OutsideValue& o) { return o.put == nullptr && text_of(o.path) == full; });
            if (q != nullptr && q->kind == QuantityKind::param && q->sizes.empty() && v.value != nullptr && is_literal(*v.value)) {
                if (!given_again) level.params.emplace_back(text_of(v.path), literal_value(*v.value));
                // the machine is compiled with the value of the first that comes, so that one that must be given is there
                rest.values.push_back(v);
                key += fmt::format(";{}=*", text_of(v.path));
            } else {
                rest.values.push_back(v);
                key += fmt::format(";{}={}", text_of(v.path), v.value != nullptr ? text_of(*v.value) : std::string(set_.sources.text(v.put->span)));
            }
        }
        level.structure = key;
        level.put = std::make_shared<const KindUse>(std::move(rest));
    }

    // Measures and demands of all scenarios that runs are made in.
    void collect()
    {
        const StudyDecl& decl = *study_.decl;
        std::vector<std::string> scenarios{study_.default_scenario};
        for (const StudyFactor& f : study_.factors)
            if (f.kind == StudyFactor::Kind::scenario) {
                scenarios.clear();
                for (const StudyLevel& l : f.levels) scenarios.push_back(l.text);
            }
        std::vector<StudyColumn> found;
        std::vector<Collected> which;
        auto add = [&](bool demand, const std::string& name, const std::string& shown, const Unit& unit) {
            if (std::any_of(which.begin(), which.end(), [&](const Collected& c) { return c.demand == demand && c.name == name; })) return;
            StudyColumn c;
            c.kind = demand ? StudyColumn::Kind::demand : StudyColumn::Kind::measure;
            c.name = shown;
            c.unit = demand ? "bool" : unit.text;
            if (!demand) c.scale = unit.scale, c.offset = unit.offset;
            found.push_back(std::move(c));
            which.push_back({demand, name});
        };
        for (const std::string& name : scenarios) {
            auto plan = plan_scenario(set_, study_.system, name, false);
            if (!plan) return;
            check_plan(set_, *plan);
            for (const BodyItem& item : plan->measures) {
                const auto& m = *item.statement->as<MeasureItem>();
                add(false, m.name, m.name, plan->measure_types[m.name]);
            }
            for (const BodyItem& item : plan->demands) {
                const auto& r = *item.statement->as<RequireItem>();
                add(true, text_of(*r.condition), r.text.empty() ? text_of(*r.condition) : r.text, Unit{});
            }
        }
        if (decl.collect.empty()) {
            study_.collected = which;
            results_ = found;
        }
        for (const NamedSpan& wanted : decl.collect) {
            std::vector<std::string> names;
            bool known = false;
            for (std::size_t i = 0; i < found.size(); ++i) {
                names.push_back(found[i].name);
                if (found[i].name != wanted.name) continue;
                known = true;
                results_.push_back(found[i]);
                study_.collected.push_back(which[i]);
            }
            if (known) continue;
            std::string near = nearest_name(wanted.name, names);
            set_.diagnostics.report(messages::not_collected, wanted.span, wanted.name)
                .mend(!near.empty()   ? fmt::format("did you mean '{}'?", near)
                      : names.empty() ? "add a measure to the scenario: measure peak = max(pump.outlet.p)"
                                      : fmt::format("there are: {}", fmt::join(names, ", ")));
        }
        if (results_.empty() && decl.collect.empty())
            set_.diagnostics
                .report(messages::bad_value, decl.name_span,
                        fmt::format("study '{}' has nothing to collect: its scenarios have neither measures nor demands", study_.name))
                .mend("add a measure to the scenario: measure peak = max(pump.outlet.p)");
    }

    LibrarySet& set_;
    StudyData& study_;
    UnitChecker checker_;
    const ComponentInfo* info_ = nullptr;
    const Definition* system_ = nullptr;
    const ScenarioPlan* base_ = nullptr;

public:
    std::vector<StudyColumn> results_;
};

}  // namespace

void read_study(LibrarySet& set, StudyData& study, std::vector<StudyColumn>& results)
{
    StudyPlanner planner(set, study);
    planner.read();
    results = planner.results_;
}

}  // namespace netloop

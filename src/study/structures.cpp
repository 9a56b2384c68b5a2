// SPDX-License-Identifier: Apache-2.0
// The machines of a study: compiled when they are first needed, once each, and what a run of one is given.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "base/deep_stack.hpp"
#include "base/interrupt.hpp"
#include "language/parser.hpp"
#include "model/check_units.hpp"
#include "study/study_data.hpp"

namespace netloop {
namespace {

// What the study sets and puts, as in a scenario.
void take_settings(const StudyData& study, ScenarioPlan& plan)
{
    const FileScope* scope = study.definition->scope;
    for (const Statement* s : study.decl->settings) {
        if (const auto* set = s->as<SetItem>())
            for (const NamedValue& v : set->values) plan.values.push_back({v.path, v.value, scope, v.put.get()});
        if (const auto* put = s->as<PutItem>()) plan.values.push_back({put->slot, nullptr, scope, &put->kind});
    }
}

ScenarioPlan plan_structure(const StudyData& study, const Structure& s, LibrarySet& set)
{
    std::string scenario = study.default_scenario;
    for (std::size_t f = 0; f < study.factors.size(); ++f)
        if (const StudyLevel* l = study.factors[f].level_at(static_cast<double>(s.levels[f]));
            l != nullptr && study.factors[f].kind == StudyFactor::Kind::scenario)
            scenario = l->text;
    auto plan = plan_scenario(set, study.system, scenario, false);
    throw_errors(set);
    if (!plan) throw UsageError(fmt::format("scenario '{}' cannot be planned", scenario));
    take_settings(study, *plan);
    for (const auto& [path, value] : study.set) add_outside_value(set, *plan, path, value);
    throw_errors(set);
    for (std::size_t f = 0; f < study.factors.size(); ++f) {
        const StudyFactor& factor = study.factors[f];
        if (factor.kind != StudyFactor::Kind::slot && factor.kind != StudyFactor::Kind::option) continue;
        const StudyLevel* level = factor.level_at(static_cast<double>(s.levels[f]));
        if (level == nullptr) continue;  // as it is
        plan->values.push_back({factor.path, level->value, level->scope, level->put.get()});
        for (const Path& also : factor.also) plan->values.push_back({also, level->value, level->scope, level->put.get()});
    }
    for (const Expr* e : asked_of(study)) plan->asked.emplace_back(e, study.definition->scope);
    for (const Expr* e : study.decl->where) plan->asked.emplace_back(e, study.definition->scope);
    plan->told_by = study.definition->scope;
    plan->all_tables = true;
    for (const VaryItem& v : study.decl->varies)
        if (!v.file.empty()) set.data_text((std::filesystem::path(study.definition->scope->path).parent_path() / v.file).string(), v.span);
    return *plan;
}

// Settings that make the same machine from the texts alone, for recordings.
std::vector<std::pair<std::string, std::string>> settings_of(const StudyData& study, const Structure& s)
{
    std::vector<std::pair<std::string, std::string>> list = study.set;
    for (std::size_t f = 0; f < study.factors.size(); ++f) {
        const StudyFactor& factor = study.factors[f];
        const StudyLevel* level = factor.level_at(static_cast<double>(s.levels[f]));
        if (level == nullptr || (factor.kind != StudyFactor::Kind::option && factor.kind != StudyFactor::Kind::slot)) continue;
        for (const std::string& name : factor.names()) list.emplace_back(name, level->setting);
    }
    return list;
}

}  // namespace

std::vector<std::string> StudyFactor::names() const
{
    std::vector<std::string> list{name};
    for (const Path& p : also) list.push_back(netloop::text_of(p));
    return list;
}

double StudyFactor::si_at(double at) const
{
    if (std::isnan(at)) return at;
    if (distribution) return distribution->quantile(at);
    if (!levels.empty()) return levels[static_cast<std::size_t>(at)].si;
    return on_log ? low * std::pow(high / low, at) : low + at * (high - low);
}

std::vector<double> StudyData::point(std::size_t run) const
{
    std::vector<double> values(factors.size());
    design->point(kept.empty() ? run : kept[run], values);
    return values;
}

std::size_t StudyData::structure_number(std::span<const double> point) const
{
    std::size_t at = 0;
    for (std::size_t f = 0; f < factors.size(); ++f) {
        if (!factors[f].structural()) continue;
        if (take.kind == TakeItem::Kind::rows) return structure_of[static_cast<std::size_t>(point[f])];
        std::size_t n = factors[f].levels.size(), level = std::isnan(point[f]) ? n : static_cast<std::size_t>(point[f]);
        at = at * (n + 1) + level;
    }
    return structure_of.empty() ? 0 : structure_of[at];
}

Structure& StudyData::structure_at(std::span<const double> point) const
{
    Structure& s = *structures[structure_number(point)];
    make(s);
    return s;
}

void StudyData::make(Structure& s) const
{
    std::call_once(s.made, [&] {
        try {
            CompileRequest request;
            request.set = settings_of(*this, s);
            s.system = on_deep_stack([&] {
                return compile_plan(
                    library, [&](LibrarySet& set) { return plan_structure(*this, s, set); }, request);
            });
            for (const StudyFactor& f : factors) {
                auto find = [&](const std::string& path) {
                    try {
                        s.by_path.emplace(path, find_parameter(s.system->data(), path, false));
                    } catch (const UsageError&) {
                        // this machine does not have it: told by the runs that set it
                    }
                };
                for (const std::string& name : f.names()) {
                    if (f.kind == StudyFactor::Kind::param) find(name);
                    for (const StudyLevel& l : f.levels)
                        for (const auto& [inside, si] : l.params) find(name + "." + inside);
                }
            }
            try {
                auto base = std::make_unique<Run>(*s.system);
                base->step_to(0);
                s.base = std::move(base);
            } catch (const RunError&) {
                // it does not start as it is: each run searches by itself
            }
        } catch (const Interrupted&) {
            throw;
        } catch (const Error& error) {
            s.error = error.what();
            s.id = error.id();
            s.diagnostics = error.diagnostics();
        }
    });
}

void StudyData::settings_at(const Structure& s, std::span<const double> point, std::vector<ParamId>& params, std::vector<double>& si) const
{
    params.clear();
    si.clear();
    auto give = [&](const std::string& path, double value) {
        auto it = s.by_path.find(path);
        if (it == s.by_path.end()) {
            find_parameter(s.system->data(), path, false);  // throws what is wrong with it
            return;
        }
        auto same = std::find_if(params.begin(), params.end(), [&](ParamId p) { return p.number == it->second; });
        if (same != params.end()) {
            si[static_cast<std::size_t>(same - params.begin())] = value;
        } else {
            params.push_back({it->second});
            si.push_back(value);
        }
    };
    // what an entry brings with it first: what is varied by itself goes before it
    for (std::size_t f = 0; f < factors.size(); ++f)
        if (const StudyLevel* level = factors[f].level_at(point[f]); level != nullptr && factors[f].kind == StudyFactor::Kind::slot)
            for (const auto& [inside, value] : level->params)
                for (const std::string& name : factors[f].names()) give(name + "." + inside, value);
    for (std::size_t f = 0; f < factors.size(); ++f)
        if (factors[f].kind == StudyFactor::Kind::param && !std::isnan(point[f]))
            for (const std::string& name : factors[f].names()) give(name, factors[f].si_at(point[f]));
}

std::vector<double> StudyData::shown(std::span<const double> point) const
{
    std::vector<double> values(factors.size());
    for (std::size_t f = 0; f < factors.size(); ++f) values[f] = columns[f].levels.empty() ? factors[f].si_at(point[f]) : point[f];
    return values;
}

void StudyData::apply_where()
{
    std::vector<ParamId> params;
    std::vector<double> si, at(factors.size());
    std::map<const Structure*, std::unique_ptr<Run>> runs;
    auto refuse = [&](const std::string& what, const std::string& mend) {
        SourceDiagnostic d{"bad-value", Severity::error, decl->where[0]->span, what, {}, mend};
        Diagnostic told = export_diagnostic(d, structures[0]->system->data().sources);
        throw ModelError(told.rendered, {told});
    };
    constexpr std::size_t kMostPoints = 3'000'000;  // some ten microseconds each
    if (design->size() > kMostPoints)
        refuse(fmt::format("'where' would be looked at for {} points; {} at most", design->size(), kMostPoints),
               "narrow the ranges instead, or take some: take 2000");
    for (std::size_t i = 0; i < design->size(); ++i) {
        look_at_interrupt();
        design->point(i, at);
        Structure& s = structure_at(at);
        bool holds = true;
        if (s.system) try {
                const CompiledSystemData& data = s.system->data();
                const FlatModel& flat = data.model->form.flat();
                auto& run = runs[&s];
                if (run == nullptr) run = std::make_unique<Run>(*s.system);
                settings_at(s, at, params, si);
                run->set(params, si);
                NodeValues values(flat.graph, [&](const Node& n) { return n.op == Op::parameter ? run->value(ParamId{n.a}) : std::nan(""); });
                for (std::size_t w = 0; w < decl->where.size() && holds; ++w) {
                    double v = values(data.asked[n_asked_before_where + w]);
                    if (!std::isfinite(v)) refuse(fmt::format("'{}' is not known before a run", brief(*decl->where[w])), "compare params and numbers");
                    holds = v != 0;
                }
            } catch (const ModelError&) {
                throw;
            } catch (const Error&) {
                // its values are refused: a result of the run itself
            }
        if (holds) kept.push_back(static_cast<std::uint32_t>(i));
    }
    n_runs = kept.size();
    if (n_runs == 0) refuse(fmt::format("no point of study '{}' meets its conditions", name), "");
}

}  // namespace netloop

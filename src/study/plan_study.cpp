// SPDX-License-Identifier: Apache-2.0
// From the text of a study to its plan: read, machines told apart, the first of them compiled, values filled in, points chosen.
#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <stdexcept>

#include "base/deep_stack.hpp"
#include "study/plan_passes.hpp"

namespace netloop {
namespace {

std::vector<const Definition*> studies_of(const LibrarySet& set)
{
    std::vector<const Definition*> list;
    for (const FileScope* f : set.files_of(nullptr))
        for (const Definition* d : f->definitions)
            if (d->as<StudyDecl>() != nullptr) list.push_back(d);
    return list;
}

const Definition* find_study(LibrarySet& set, const std::string& name)
{
    auto all = studies_of(set);
    std::string names;
    for (const Definition* d : all) names += (names.empty() ? "" : ", ") + d->name;
    if (name.empty()) {
        if (all.size() == 1) return all[0];
        if (all.empty())
            set.diagnostics.report(messages::bad_value, {}, "there is no study in the file")
                .mend("add one: study which_drive of System { vary pump.displacement over 60 cm^3/rev, 90 cm^3/rev }");
        else
            set.diagnostics.report(messages::bad_value, {}, fmt::format("the file has several studies: {}", names)).mend("name one of them behind the file");
        return nullptr;
    }
    for (const Definition* d : all)
        if (d->name == name) return d;
    std::vector<std::string> list;
    for (const Definition* d : all) list.push_back(d->name);
    std::string near = nearest_name(name, list);
    set.diagnostics.report(messages::unknown_kind, {}, "study", name)
        .mend(!near.empty()   ? fmt::format("did you mean '{}'?", near)
              : names.empty() ? "the file has none"
                              : "there are: " + names);
    return nullptr;
}

void make_columns(StudyData& study, const std::vector<StudyColumn>& results)
{
    for (const StudyFactor& f : study.factors) {
        StudyColumn c;
        c.kind = f.distribution ? StudyColumn::Kind::uncertain : StudyColumn::Kind::varied;
        c.name = f.name;
        if (f.kind == StudyFactor::Kind::param && f.numbers) {
            c.unit = f.unit.text;
            c.scale = f.unit.scale;
            c.offset = f.unit.offset;
        } else {
            bool titled = std::any_of(f.levels.begin(), f.levels.end(), [](const StudyLevel& l) { return !l.title.empty(); });
            for (const StudyLevel& l : f.levels) {
                c.levels.push_back(l.text);
                if (titled) c.titles.push_back(l.title.substr(0, l.title.find('\n')));
            }
        }
        study.columns.push_back(std::move(c));
    }
    study.columns.insert(study.columns.end(), results.begin(), results.end());
}

// Which levels of structural factors lead to different machines.
void make_structures(StudyData& study)
{
    // each thing may also stay as it is, where one is changed at a time: a machine like any other, compiled only if a run needs it
    bool as_it_is = study.take.kind == TakeItem::Kind::one_at_a_time, rows = study.take.kind == TakeItem::Kind::rows;
    std::size_t n = 1, first = 0;
    for (const StudyFactor& f : study.factors) {
        if (!f.structural()) continue;
        // row by row the first values of all belong together; lists that are not of equal length are told later
        first = first == 0 ? f.levels.size() : std::min(first, f.levels.size());
        n = rows ? first : n * (f.levels.size() + 1);
    }
    std::map<std::string, std::uint32_t> known;
    std::vector<std::size_t> level(study.factors.size(), 0);
    for (std::size_t i = 0; i < n; ++i) {
        std::size_t rest = i;
        std::string key;
        bool whole = true;
        for (std::size_t f = study.factors.size(); f-- > 0;) {
            const StudyFactor& factor = study.factors[f];
            if (!factor.structural()) continue;
            level[f] = rows ? i : rest % (factor.levels.size() + 1);
            rest /= factor.levels.size() + 1;
            const StudyLevel* l = factor.level_at(static_cast<double>(level[f]));
            key += (l != nullptr ? l->structure : "") + "|";
            whole &= l != nullptr;
        }
        if (!whole && !as_it_is) {
            study.structure_of.push_back(0);  // no point asks for it
            continue;
        }
        auto [it, fresh] = known.emplace(key, study.structures.size());
        if (fresh) {
            study.structures.push_back(std::make_unique<Structure>());
            study.structures.back()->levels = level;
        }
        study.structure_of.push_back(it->second);
    }
}

}  // namespace

std::shared_ptr<StudyData> plan_study(const Library& library, const std::string& name, const std::vector<std::pair<std::string, std::string>>& set_values)
{
    auto study = std::make_shared<StudyData>();
    study->library = library;
    study->set = set_values;
    auto set = LibraryAccess::set(library);
    std::vector<StudyColumn> results;
    {
        LibraryWork work(*set);
        with_deep_stack([&] {
            study->definition = find_study(*set, name);
            throw_errors(*set);
            study->decl = study->definition->as<StudyDecl>();
            study->name = study->definition->name;
            study->text = study->definition->statement->doc;
            read_study(*set, *study, results);
            throw_errors(*set);
        });
    }
    make_structures(*study);
    // the first machine: values of expressions, and what is wrong with it is told now
    study->make(*study->structures[0]);
    Structure& first = *study->structures[0];
    if (!first.system) throw ModelError(first.error, first.diagnostics);
    const CompiledSystemData& compiled = first.system->data();
    {
        LibraryWork work(*set);
        std::vector<Design::Correlation> correlations = fill_values(*set, *study, compiled);
        throw_errors(*set);
        make_columns(*study, results);
        if (study->take.kind == TakeItem::Kind::rows)
            for (const StudyFactor& f : study->factors)
                if (f.levels.size() != study->factors[0].levels.size())
                    set->diagnostics
                        .report(messages::bad_value, f.span,
                                f.levels.empty() ? fmt::format("'{}' has no list of values to take row by row", f.name)
                                                 : fmt::format("row by row '{}' has {} values and '{}' has {}", f.name, f.levels.size(), study->factors[0].name,
                                                               study->factors[0].levels.size()))
                        .mend("give every one as many: the first values of all are the first run, the second ones the second");
        throw_errors(*set);
        std::vector<FactorShape> shapes;
        for (const StudyFactor& f : study->factors) shapes.push_back({f.levels.size(), f.distribution.has_value()});
        try {
            study->design.emplace(study->take, shapes, correlations, study->seed);
        } catch (const std::invalid_argument& trouble) {
            set->diagnostics.report(messages::bad_value, study->decl->take ? study->decl->take->span : study->decl->name_span,
                                    fmt::format("study '{}': {}", study->name, trouble.what()));
            throw_errors(*set);
        }
        if (const KeepRecordings& keep = study->keep; keep.kind == KeepRecordings::Kind::best) {
            study->keep_by = study->factors.size();
            if (!keep.by.name.empty()) {
                auto it = std::find_if(study->columns.begin(), study->columns.end(), [&](const StudyColumn& c) { return c.name == keep.by.name; });
                if (it == study->columns.end()) set->diagnostics.report(messages::not_collected, keep.by.span, keep.by.name);
                throw_errors(*set);
                study->keep_by = static_cast<std::size_t>(it - study->columns.begin());
            }
        }
    }
    study->texts = compiled.texts;
    study->text_hash = compiled.text_hash;
    study->n_runs = study->design->size();
    if (!study->decl->where.empty()) study->apply_where();
    return study;
}

}  // namespace netloop

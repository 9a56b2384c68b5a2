// SPDX-License-Identifier: Apache-2.0
// A study as it is planned: factors with their levels, the machines that they lead to, the runs of the plan.
#pragma once

#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "api/internal.hpp"
#include "netloop/study.hpp"
#include "study/design.hpp"
#include "study/distribution.hpp"

namespace netloop {

/// One of the values that a factor can have.
struct StudyLevel {
    std::string setting;                   ///< what makes it so by itself, as in --set: "pumps.p90", "true"
    std::string text, title;               ///< as shown: "p90", "90 cm^3, compensated"
    double si = 0;                         ///< of a param
    const Expr* value = nullptr;           ///< of an option, or of a param before it is worked out
    std::shared_ptr<const KindUse> put{};  ///< of a slot: what is compiled in
    const FileScope* scope = nullptr;
    std::string structure;                                 ///< levels of equal text here lead to the same machine
    std::vector<std::pair<std::string, double>> params{};  ///< that the entry of a catalogue gives: path within it, SI
};

/// One thing that is varied.
struct StudyFactor {
    enum class Kind { param, option, slot, scenario } kind = Kind::param;
    std::string name;
    Path path;
    std::vector<Path> also{};  ///< what has the same value
    Span span;
    Unit unit;
    std::vector<StudyLevel> levels;  ///< empty: a range or a distribution
    bool numbers = true;             ///< levels are shown as numbers, not as words
    double low = 0, high = 0;
    bool on_log = false;
    std::optional<Distribution> distribution;

    bool structural() const { return kind != Kind::param; }
    /// The level at what a design says, which may be not a number; null: as it is without the study.
    const StudyLevel* level_at(double at) const { return at < static_cast<double>(levels.size()) ? &levels[static_cast<std::size_t>(at)] : nullptr; }
    /// Names of all that it sets.
    std::vector<std::string> names() const;
    /// SI of a param at what a design says: the number of a level or a share.
    double si_at(double at) const;
};

/// What is collected from each run.
struct Collected {
    bool demand = false;
    std::string name;  ///< of a measure, or the condition of a demand as written
};

/// One machine: a choice of scenario, parts and options, compiled when it is first needed.
struct Structure {
    std::vector<std::size_t> levels;  ///< by number of factor; as many as it has levels: as it is without the study
    std::once_flag made;
    std::optional<CompiledSystem> system;
    std::string error, id;  ///< why there is none
    std::vector<Diagnostic> diagnostics;
    std::map<std::string, ParameterId> by_path;  ///< params that levels give
    std::unique_ptr<const Run> base;             ///< started as it is without the study: where other starts are searched from; null: it does not start
};

struct StudyData {
    Library library;
    const Definition* definition = nullptr;
    const StudyDecl* decl = nullptr;
    std::string name, system, text, default_scenario;
    std::vector<std::pair<std::string, std::string>> set;
    std::vector<StudyFactor> factors;
    std::vector<StudyColumn> columns;  ///< of the factors, then of what is collected
    std::vector<Collected> collected;
    std::optional<Design> design;
    std::vector<std::uint32_t> kept;  ///< points of the design, by number of run; empty: all
    std::size_t n_runs = 0;
    std::uint64_t seed = 1;
    TakeItem take;
    KeepRecordings keep;
    std::size_t keep_by = 0;  ///< number of the column that the best are told by
    std::vector<ModelText> texts;
    std::string text_hash;
    std::shared_ptr<SyntaxArena> arena = std::make_shared<SyntaxArena>();
    std::size_t n_asked_before_where = 0;

    /// Never moves once made; the machines themselves are compiled later, by whichever thread comes first.
    mutable std::vector<std::unique_ptr<Structure>> structures;
    std::vector<std::uint32_t> structure_of;  ///< by mixed radix over structural factors and their different machines; row by row: by row

    std::vector<double> point(std::size_t run) const;
    /// The machine of a point, compiled. Its `error` tells why not.
    Structure& structure_at(std::span<const double> point) const;
    std::size_t structure_number(std::span<const double> point) const;
    /// What a run of this point is given: params and values.
    void settings_at(const Structure& s, std::span<const double> point, std::vector<ParamId>& params, std::vector<double>& si) const;
    void make(Structure& s) const;
    /// Leaves out the points at which a `where` does not hold. Throws ModelError for a condition that is not known before a run.
    void apply_where();
    /// The values that a store keeps of a point: SI, or the number of a level.
    std::vector<double> shown(std::span<const double> point) const;
};

/// Expressions whose values a study needs, in the order in which they come back (CompiledSystemData::asked): of levels, ends and distributions of params, and
/// of correlations. Behind them come the conditions of `where`.
std::vector<const Expr*> asked_of(const StudyData& study);

/// Reads, checks and plans. Throws ModelError.
std::shared_ptr<StudyData> plan_study(const Library& library, const std::string& name, const std::vector<std::pair<std::string, std::string>>& set);

}  // namespace netloop

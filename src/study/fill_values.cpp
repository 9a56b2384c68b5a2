// SPDX-License-Identifier: Apache-2.0
// Values of a study's expressions, worked out in the first of its machines and put where they belong: levels, ends of ranges, distributions, correlations.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>

#include "compile/parameters.hpp"
#include "model/check_units.hpp"
#include "study/plan_passes.hpp"

namespace netloop {

std::vector<const Expr*> asked_of(const StudyData& study)
{
    std::vector<const Expr*> list;
    for (const VaryItem& v : study.decl->varies) {
        const StudyFactor* f = nullptr;
        for (const StudyFactor& x : study.factors)
            if (!v.scenario && x.name == text_of(v.path)) f = &x;
        if (f == nullptr || f->kind != StudyFactor::Kind::param) continue;
        for (const NamedValue& l : v.levels) list.push_back(l.value);
        for (const Expr* e : {v.low, v.high, v.count}) list.push_back(e);
        list.insert(list.end(), v.arguments.begin(), v.arguments.end());
        for (const Expr* e : {v.least, v.most}) list.push_back(e);
    }
    for (const CorrelateItem& c : study.decl->correlations) list.push_back(c.rank);
    std::erase(list, nullptr);
    return list;
}

namespace {

constexpr double kMostLevels = 1e6;

// Values of the study's expressions in the first machine, put where they belong.
class ValueFiller {
public:
    ValueFiller(StudyData& study, const CompiledSystemData& system, LibrarySet& set)
        : study_(study), system_(system), set_(set), flat_(system.model->form.flat())
    {
        parameters_ = default_parameters(flat_);
    }

    void fill()
    {
        NodeValues values(flat_.graph, [&](const Node& n) { return n.op == Op::parameter ? parameters_[n.a] : std::nan(""); });
        std::size_t at = 0;
        auto next = [&](const Expr* e) {
            if (e == nullptr) return std::nan("");
            NodeId node = system_.asked[at++];
            double v = node == kNoNode ? std::nan("") : values(node);
            if (!std::isfinite(v))
                report(e->span, fmt::format("'{}' has no value that is known before a run", brief(*e)), "values of a study are numbers, constants and params");
            return v;
        };
        for (const VaryItem& v : study_.decl->varies) {
            auto it =
                std::find_if(study_.factors.begin(), study_.factors.end(), [&](const StudyFactor& x) { return !v.scenario && x.name == text_of(v.path); });
            if (it == study_.factors.end() || it->kind != StudyFactor::Kind::param) continue;
            StudyFactor& f = *it;
            for (const FlatParameter& p : flat_.parameters)
                if (p.path == f.name) f.unit = p.unit;
            for (std::size_t l = 0; l < v.levels.size(); ++l) f.levels[l].si = next(v.levels[l].value);
            f.low = next(v.low), f.high = next(v.high);
            double count = next(v.count);
            if (v.low != nullptr) range(v, f, count);
            if (!v.arguments.empty()) {
                Distribution& d = *f.distribution;
                d.kind = v.distribution == "normal"       ? Distribution::Kind::normal
                         : v.distribution == "triangular" ? Distribution::Kind::triangular
                         : v.distribution == "lognormal"  ? Distribution::Kind::lognormal
                                                          : Distribution::Kind::uniform;
                d.a = next(v.arguments[0]);
                d.b = next(v.arguments[1]);
                if (v.arguments.size() > 2) d.c = next(v.arguments[2]);
            }
            double least = next(v.least), most = next(v.most);
            if (v.least != nullptr) f.distribution->least = least, f.distribution->most = most;
            if (f.distribution && !set_.diagnostics.has_errors())
                if (std::string trouble = f.distribution->trouble(); !trouble.empty())
                    report(v.span, fmt::format("the distribution of '{}': {}", f.name, trouble), "");
            look_at_limits(v, f);
        }
        for (const CorrelateItem& c : study_.decl->correlations) correlations_.push_back({factor_number(c.a, c), factor_number(c.b, c), next(c.rank)});
        study_.n_asked_before_where = at;
    }

    std::vector<Design::Correlation> correlations_;

private:
    void report(Span span, const std::string& what, const std::string& mend) { set_.diagnostics.report(messages::bad_value, span, what).mend(mend); }

    void range(const VaryItem& v, StudyFactor& f, double count)
    {
        if (!(f.low < f.high)) report(v.span, fmt::format("the range of '{}' is empty: its first end is not below the second", f.name), "");
        if (f.on_log && !(f.low > 0)) report(v.span, fmt::format("the range of '{}' begins at or below 0, where there is no logarithm", f.name), "");
        if (v.count == nullptr) return;
        if (!(count >= 2 && count <= kMostLevels && count == std::floor(count))) {
            report(v.count->span, fmt::format("'{}' is to have {:g} values", f.name, count), "a whole number from 2 on: both ends are among them");
            return;
        }
        for (double i = 0; i < count; ++i) {
            StudyLevel l;
            double share = i / (count - 1);
            l.si = f.on_log ? f.low * std::pow(f.high / f.low, share) : f.low + share * (f.high - f.low);
            if (i + 1 == count) l.si = f.high;
            f.levels.push_back(std::move(l));
        }
    }

    std::size_t factor_number(const Path& path, const CorrelateItem& c)
    {
        for (std::size_t f = 0; f < study_.factors.size(); ++f)
            if (study_.factors[f].name == text_of(path)) {
                if (!study_.factors[f].distribution)
                    report(c.span, fmt::format("'{}' is not uncertain, so it is not correlated", text_of(path)),
                           "give it a distribution: vary it as normal(...)");
                return f;
            }
        report(c.span, fmt::format("'{}' is not varied in this study", text_of(path)), "");
        return 0;
    }

    // The declared range of a param, where it is known.
    void look_at_limits(const VaryItem& v, const StudyFactor& f)
    {
        if (set_.diagnostics.has_errors()) return;
        auto p = std::find_if(flat_.parameters.begin(), flat_.parameters.end(), [&](const FlatParameter& x) { return x.path == f.name; });
        if (p == flat_.parameters.end()) return;
        NodeValues values(flat_.graph, [&](const Node& n) { return n.op == Op::parameter ? parameters_[n.a] : std::nan(""); });
        double low = p->low == kNoNode ? -std::numeric_limits<double>::infinity() : values(p->low),
               high = p->high == kNoNode ? std::numeric_limits<double>::infinity() : values(p->high);
        auto look = [&](double si, Span span, const char* what, const std::string& mend) {
            if (!(si < low) && !(si > high)) return;
            set_.diagnostics
                .report(messages::out_of_range, span, fmt::format("{}{}", what, f.name), si_text(f.unit, si), si_text(f.unit, low), si_text(f.unit, high))
                .mend(mend);
        };
        for (std::size_t l = 0; l < v.levels.size(); ++l) look(f.levels[l].si, v.levels[l].span, "", "the range stands with the declaration of the param");
        if (v.kind == VaryItem::Kind::list && !v.file.empty())
            for (std::size_t l = 0; l < f.levels.size(); ++l)
                look(f.levels[l].si, v.span, "", fmt::format("it stands in row {} of '{}'; the range stands with the declaration of the param", l + 2, v.file));
        if (v.low != nullptr) look(f.low, v.low->span, "", ""), look(f.high, v.high->span, "", "");
        if (!f.distribution) return;
        constexpr double kRare = 1e-3;
        std::string mend = fmt::format("limit it: limited to {} .. {}", std::isfinite(low) ? si_text(f.unit, low) : "LOW",
                                       std::isfinite(high) ? si_text(f.unit, high) : "HIGH");
        look(f.distribution->quantile(kRare), v.span, "a rare draw of ", mend);
        look(f.distribution->quantile(1 - kRare), v.span, "a rare draw of ", mend);
    }

    StudyData& study_;
    const CompiledSystemData& system_;
    LibrarySet& set_;
    const FlatModel& flat_;
    std::vector<double> parameters_;
};

}  // namespace

std::vector<Design::Correlation> fill_values(LibrarySet& set, StudyData& study, const CompiledSystemData& system)
{
    ValueFiller filler(study, system, set);
    filler.fill();
    return filler.correlations_;
}

}  // namespace netloop

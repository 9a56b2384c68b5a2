// SPDX-License-Identifier: Apache-2.0
#include "figures/curves.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "figures/condition.hpp"
#include "figures/spectrum.hpp"
#include "netloop/error.hpp"
#include "units/unit.hpp"

namespace netloop {
namespace {

constexpr std::size_t kLanes = 10, kMarks = 400;
constexpr std::size_t kMostOfPattern = 24;  // curves

// "2:pump.p:bar" taken apart.
struct Wanted {
    std::size_t run = 0;  ///< 0: all
    std::string path, unit;
};

bool is_number(const std::string& text)
{
    return !text.empty() && text.find_first_not_of("0123456789") == std::string::npos;
}

Wanted take_apart(const std::string& text, std::size_t n_runs)
{
    Wanted w{0, text, ""};
    if (std::size_t colon = w.path.find(':'); colon != std::string::npos && colon < 4 && is_number(w.path.substr(0, colon))) {
        w.run = std::stoul(w.path.substr(0, colon));
        w.path.erase(0, colon + 1);
        if (w.run < 1 || w.run > n_runs)
            throw RecordingError(fmt::format("'{}': there {} {} recording{}", text, n_runs == 1 ? "is" : "are", n_runs, n_runs == 1 ? "" : "s"));
    }
    if (std::size_t colon = w.path.rfind(':'); colon != std::string::npos) w.unit = w.path.substr(colon + 1), w.path.resize(colon);
    return w;
}

class Finder {
public:
    Finder(std::vector<Recording>& recordings, const std::vector<std::string>& names, const PlotRequest& request)
        : recordings_(recordings), names_(names), request_(request)
    {
        if (request.fold && !(*request.fold > 0)) throw UsageError(fmt::format("a period of {:g} s to fold by: a period above 0 is expected", *request.fold));
        if (!folded()) return;
        for (Recording& r : recordings_) {
            std::vector<double> begins;
            if (!request.fold_at.empty()) {
                begins = times_of(r, request.fold_at);
                if (begins.empty()) throw RecordingError(fmt::format("'{}' never becomes true: there is nothing to fold at", request.fold_at));
            } else {
                double last = r.time().final();
                for (double t = 0; t < last * (1 - 1e-12); t += *request.fold) begins.push_back(t);
            }
            begins_.push_back(std::move(begins));
        }
    }

    // The panels that a list of quantities needs; `alone`: it must be one.
    void add(const std::vector<std::string>& quantities, const FigureRequest::Curve& against, bool alone, std::vector<PanelContent>& panels)
    {
        std::vector<Wanted> wanted;
        for (const std::string& text : quantities) take(text, wanted);
        std::vector<Curve> curves = find_curves(wanted, against);
        if (curves.empty()) throw RecordingError("nothing to draw: name at least one quantity");
        std::vector<PanelContent> made = arrange(std::move(curves));
        if (alone && made.size() > 1) throw RecordingError("a panel has room for two units, one on each side");
        for (PanelContent& p : made) {
            bool time = against.path.empty() || against.path == "time";
            label_x(p, against, time);
            panels.push_back(p);
            if (recordings_.size() > 1 && request_.difference && time && !folded() && !request_.spectrum) add_difference(p, panels);
        }
    }

private:
    bool folded() const { return request_.fold || !request_.fold_at.empty(); }

    void label_x(PanelContent& p, const FigureRequest::Curve& against, bool time)
    {
        const Column& x = column(recordings_[0], time ? "time" : against.path);
        p.x_unit = against.unit.empty() ? x.unit : against.unit;
        p.x_label = x.name;
        p.shares_x = time;
        if (request_.spectrum)
            p.x_label = "frequency", p.x_unit = "Hz";
        else if (folded() && time)
            p.x_label = request_.fold_at.empty() ? fmt::format("time within {:g} s", *request_.fold) : fmt::format("time since {}", request_.fold_at);
    }

    static const Column& column(Recording& r, const std::string& path)
    {
        r.fetch({path});
        return r[path];
    }

    // Values as they are shown.
    static std::vector<double> shown(const Column& c, const std::string& unit)
    {
        if (!unit.empty() && unit != c.unit) return c.in(unit).values;
        std::vector<double> values = c.values;
        for (double& v : values) v = (v - c.offset) / c.scale;
        return values;
    }

    // A quantity, or all that a pattern fits and that can be shown in its unit.
    void take(const std::string& text, std::vector<Wanted>& wanted) const
    {
        Wanted w = take_apart(text, recordings_.size());
        if (w.path.find('*') == std::string::npos) return wanted.push_back(w);
        std::vector<std::string> paths;
        for (std::size_t r = 0; r < recordings_.size(); ++r) {
            if (w.run != 0 && r + 1 != w.run) continue;
            for (std::size_t k = 1; k < recordings_[r].columns.size(); ++k) {
                const Column& c = recordings_[r].columns[k];
                bool fits = fits_pattern(w.path, c.name) && (w.unit.empty() || can_be_shown(c.unit, w.unit));
                if (fits && std::find(paths.begin(), paths.end(), c.name) == paths.end()) paths.push_back(c.name);
            }
        }
        if (paths.empty()) throw RecordingError(fmt::format("'{}' fits no recorded quantity", text));
        if (paths.size() > kMostOfPattern)
            throw RecordingError(fmt::format("'{}' fits {} quantities, more than the {} that can be told apart: narrow it, or choose a unit, such as {}:bar",
                                             text, paths.size(), kMostOfPattern, w.path));
        for (const std::string& p : paths) wanted.push_back({w.run, p, w.unit});
    }

    static bool can_be_shown(const std::string& unit, const std::string& as)
    {
        Unit a, b;
        UnitProblem problem;
        return parse_unit(unit.empty() ? "1" : unit, a, problem) && parse_unit(as, b, problem) && a.dimension == b.dimension;
    }

    std::vector<Curve> find_curves(const std::vector<Wanted>& wanted, const FigureRequest::Curve& against)
    {
        std::vector<Curve> curves;
        for (const Wanted& w : wanted) {
            for (std::size_t r = 0; r < recordings_.size(); ++r) {
                if (w.run != 0 && r + 1 != w.run) continue;
                // one quantity may exist in one recording only, when several are compared
                bool elsewhere = std::any_of(recordings_.begin(), recordings_.end(), [&](const Recording& o) { return o.find(w.path) != nullptr; });
                if (recordings_.size() > 1 && w.run == 0 && elsewhere && recordings_[r].find(w.path) == nullptr) continue;
                const Column& c = column(recordings_[r], w.path);
                if (c.values.empty()) throw RecordingError(fmt::format("'{}' has no rows", c.name));
                Curve curve;
                curve.unit = w.unit.empty() ? c.unit : w.unit;
                if (w.unit.empty() && !request_.spectrum) curve.stages = recordings_[r].origin.stages_of(w.path);
                if (!curve.stages.empty()) curve.unit = kStageUnit + w.path;
                curve.quantity = n_quantities_;
                curve.run = r;
                curve.label = recordings_.size() > 1 ? fmt::format("{} ({})", w.path, names_[r]) : w.path;
                Stroke whole{shown(column(recordings_[r], against.path.empty() ? "time" : against.path), against.unit), shown(c, w.unit)};
                curve.strokes = strokes_of(whole, r, recordings_[r].time().values, against.path.empty() || against.path == "time");
                if (folded()) curve.label += fmt::format(", {} cycles", curve.strokes.size());
                curves.push_back(std::move(curve));
            }
            ++n_quantities_;
        }
        return curves;
    }

    // The part asked for, cut into cycles or transformed.
    std::vector<Stroke> strokes_of(const Stroke& whole, std::size_t run, const std::vector<double>& time, bool over_time)
    {
        double from = request_.from.value_or(-HUGE_VAL), to = request_.to.value_or(HUGE_VAL);
        auto outside = [&](double t) { return t < from || t > to; };
        if (request_.spectrum) {
            Stroke part;
            for (std::size_t i = 0; i < time.size(); ++i)
                if (!outside(time[i])) part.x.push_back(time[i]), part.y.push_back(whole.y[i]);
            return {amplitude_spectrum(part.x, part.y)};
        }
        double per_second = over_time && time.back() > time.front() ? (whole.x.back() - whole.x.front()) / (time.back() - time.front()) : 1;
        std::vector<Stroke> strokes;
        if (!folded()) {
            Stroke s;
            for (std::size_t i = 0; i < time.size(); ++i)
                if (!outside(time[i])) s.x.push_back(whole.x[i]), s.y.push_back(whole.y[i]);
            if (s.x.empty()) throw RecordingError("there is no row in the time asked for");
            return {s};
        }
        const std::vector<double>& begins = begins_[run];
        for (std::size_t k = 0; k < begins.size(); ++k) {
            double end = k + 1 < begins.size() ? begins[k + 1] : HUGE_VAL;
            if (outside(begins[k])) continue;
            Stroke s;
            auto at = [&](double t) {  // between two rows
                auto above = static_cast<std::size_t>(std::upper_bound(time.begin(), time.end(), t) - time.begin());
                if (above == 0 || above == time.size()) return;
                double share = (t - time[above - 1]) / (time[above] - time[above - 1]);
                double x = whole.x[above - 1] + share * (whole.x[above] - whole.x[above - 1]);
                s.x.push_back(over_time ? (t - begins[k]) * per_second : x);
                s.y.push_back(whole.y[above - 1] + share * (whole.y[above] - whole.y[above - 1]));
            };
            auto first = static_cast<std::size_t>(std::lower_bound(time.begin(), time.end(), begins[k]) - time.begin());
            if (first < time.size() && time[first] > begins[k]) at(begins[k]);
            for (std::size_t i = first; i < time.size() && time[i] <= end; ++i) {
                if (outside(time[i])) continue;
                s.x.push_back(over_time ? (time[i] - begins[k]) * per_second : whole.x[i]);
                s.y.push_back(whole.y[i]);
            }
            if (std::isfinite(end) && !outside(end)) at(end);
            if (s.x.size() > 1) strokes.push_back(std::move(s));
        }
        if (strokes.empty()) throw RecordingError("there is no whole cycle in the time asked for");
        return strokes;
    }

    // Units in the order in which they are first met, two to a panel while there are at most two, else one panel each.
    static std::vector<PanelContent> arrange(std::vector<Curve> curves)
    {
        std::vector<std::string> units;
        for (const Curve& c : curves)
            if (std::find(units.begin(), units.end(), c.unit) == units.end()) units.push_back(c.unit);
        if (units.size() <= 2) {
            PanelContent p;
            p.units = std::move(units);
            p.curves = std::move(curves);
            return {p};
        }
        std::vector<PanelContent> panels;
        for (const std::string& u : units) {
            PanelContent p;
            p.units = {u};
            for (const Curve& c : curves)
                if (c.unit == u) p.curves.push_back(c);
            panels.push_back(std::move(p));
        }
        return panels;
    }

    // What the second and further runs have more than the first one, at the times of both.
    // degC -> K, barg -> bar; the numbers are the same. A scale of another size keeps its name.
    static std::string unit_of_difference(const std::string& text)
    {
        Unit unit;
        UnitProblem problem;
        if (!parse_unit(text, unit, problem) || !unit.has_offset || unit.difference().scale != unit.scale) return text;
        return unit.difference().text;
    }

    void add_difference(const PanelContent& of, std::vector<PanelContent>& panels)
    {
        PanelContent p;
        for (const std::string& unit : of.units) p.units.push_back(unit_of_difference(unit));
        p.x_label = of.x_label;
        p.x_unit = of.x_unit;
        p.shares_x = true;
        p.lower = true;
        p.y_label = "difference";
        for (const Curve& c : of.curves) {
            auto base = std::find_if(of.curves.begin(), of.curves.end(), [&](const Curve& b) { return b.quantity == c.quantity && b.run == 0; });
            if (c.run == 0 || base == of.curves.end() || c.unit == "bool" || !c.stages.empty()) continue;
            const Stroke &a = base->strokes[0], &b = c.strokes[0];
            Curve made = c;
            made.unit = unit_of_difference(c.unit);
            made.label = fmt::format("{} minus {}", names_[c.run], names_[0]);
            if (of.curves.size() > 2) made.label = c.label + " minus " + names_[0];
            Stroke d;
            std::size_t i = 0, k = 0;
            auto value = [](const Stroke& s, std::size_t above, double x) {
                if (above == 0) return s.y.front();
                if (above == s.x.size()) return s.y.back();
                double step = s.x[above] - s.x[above - 1];
                return step > 0 ? s.y[above - 1] + (x - s.x[above - 1]) / step * (s.y[above] - s.y[above - 1]) : s.y[above];
            };
            while (i < a.x.size() && k < b.x.size()) {
                double x = std::min(a.x[i], b.x[k]);
                bool both = a.x[i] == b.x[k];
                double ya = a.x[i] == x ? a.y[i] : value(a, i, x), yb = b.x[k] == x ? b.y[k] : value(b, k, x);
                if (both || (x >= a.x.front() && x >= b.x.front())) d.x.push_back(x), d.y.push_back(yb - ya);
                bool next_a = a.x[i] == x, next_b = b.x[k] == x;
                i += next_a ? 1 : 0;
                k += next_b ? 1 : 0;
            }
            made.strokes = {std::move(d)};
            p.curves.push_back(std::move(made));
        }
        if (!p.curves.empty()) panels.push_back(std::move(p));
    }

    std::vector<Recording>& recordings_;
    const std::vector<std::string>& names_;
    const PlotRequest& request_;
    std::vector<std::vector<double>> begins_;
    std::size_t n_quantities_ = 0;
};

// Conditions in the order in which they first come; what comes at a fixed rate says nothing at a glance.
std::vector<EventLane> find_lanes(const Recording& r, const PlotRequest& request)
{
    std::vector<EventLane> lanes;
    for (const EventEntry& e : r.events.kinds) {
        EventLane lane;
        lane.label = (e.part.empty() || e.text.find(e.part) != std::string::npos ? "" : e.part + ": ") + e.text;
        for (double t : e.times)
            if (t >= request.from.value_or(-HUGE_VAL) && t <= request.to.value_or(HUGE_VAL)) lane.times.push_back(t);
        bool sampled = e.text.starts_with("every ");
        if (!sampled && !lane.times.empty() && lane.times.size() <= kMarks) lanes.push_back(std::move(lane));
    }
    std::stable_sort(lanes.begin(), lanes.end(), [](const EventLane& a, const EventLane& b) { return a.times.front() < b.times.front(); });
    if (lanes.size() > kLanes) lanes.resize(kLanes);
    return lanes;
}

}  // namespace

PageContent find_content(std::vector<Recording>& recordings, const std::vector<std::string>& names, const PlotRequest& request)
{
    PageContent page;
    page.n_runs = recordings.size();
    Finder finder(recordings, names, request);
    for (const FigureRequest::Panel& p : request.panels) {
        std::vector<std::string> quantities;
        for (const FigureRequest::Curve& c : p.curves) quantities.push_back(c.unit.empty() ? c.path : c.path + ":" + c.unit);
        finder.add(quantities, p.against.path == "time" && p.against.unit.empty() ? FigureRequest::Curve{} : p.against, true, page.panels);
    }
    if (request.panels.empty()) {
        FigureRequest::Curve against{request.against, ""};
        if (std::size_t colon = against.path.rfind(':'); colon != std::string::npos) against.unit = against.path.substr(colon + 1), against.path.resize(colon);
        std::vector<std::string> quantities;
        bool split = std::find(request.quantities.begin(), request.quantities.end(), "/") != request.quantities.end();
        for (const std::string& q : request.quantities) {
            if (q != "/") {
                quantities.push_back(q);
                continue;
            }
            finder.add(quantities, against, true, page.panels);
            quantities.clear();
        }
        finder.add(quantities, against, split, page.panels);
    }
    bool time = std::all_of(page.panels.begin(), page.panels.end(), [](const PanelContent& p) { return p.x_label == "time" && p.x_unit == "s"; });
    if (request.events && !time) throw RecordingError("events are drawn below curves over time in s");
    if (request.events) page.lanes = find_lanes(recordings[0], request);
    if (request.events && page.lanes.empty()) throw RecordingError("there is no event to draw in that time (those that come at a fixed rate are left out)");
    return page;
}

}  // namespace netloop

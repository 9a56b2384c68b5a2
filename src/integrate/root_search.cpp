#include "integrate/root_search.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "integrate/integrator.hpp"

namespace netloop {
namespace {

constexpr double kUnsure = 1e-11, kTiny = 1e-300;

bool crosses(double a, double b)
{
    return (a < 0 && b >= 0) || (a > 0 && b <= 0);
}

}  // namespace

std::size_t n_root_functions(const CompiledModel& model)
{
    // where the clock turns all conditions there is nothing to be searched
    const auto& conditions = model.form.conditions;
    if (std::all_of(conditions.begin(), conditions.end(), [](const Condition& c) { return c.held || c.slope != kNoNode; })) return 0;
    std::size_t n = 0;
    for (const Condition& c : model.form.conditions) n += c.kind == Condition::Kind::whole ? 2 : 1;
    return n;
}

void root_functions(Evaluation& evaluation, std::vector<double>& scratch, double* g)
{
    evaluation.conditions(scratch);
    const auto& conditions = evaluation.model().form.conditions;
    const auto& events = evaluation.model().events;
    const auto& sequences = evaluation.model().form.events.sequences;
    std::size_t at = 0;
    for (std::size_t i = 0; i < conditions.size(); ++i) {
        bool whole = conditions[i].kind == Condition::Kind::whole;
        bool watched = conditions[i].slope == kNoNode && !conditions[i].held && events.idle[i] == 0;
        if (watched && !events.only_in[i].empty())
            watched = std::any_of(events.only_in[i].begin(), events.only_in[i].end(),
                                  [&](const auto& only) { return evaluation.memory(sequences[only.first].stage) == only.second + 1; });
        if (!watched) {
            g[at++] = 1;
            if (whole) g[at++] = 1;
        } else if (whole) {
            g[at++] = scratch[i] - evaluation.mode(i);
            g[at++] = evaluation.mode(i) + 1 - scratch[i];
        } else {
            g[at++] = scratch[i];
        }
    }
}

RootSearch::RootSearch(Evaluation& evaluation) : e_(evaluation)
{
    std::size_t n = n_root_functions(e_.model());
    before_.resize(n);
    now_.resize(n);
    trial_.resize(n);
    middle_.resize(n);
    largest_.assign(n, 0.0);
    near_.assign(n, 0);
    crossings_.assign(n, 0);
    z_.resize(e_.model().n());
    rates_.resize(e_.model().n());
}

void RootSearch::start(double t, const std::vector<double>& z, const std::vector<double>& rates)
{
    if (none()) return;
    e_.at(t, z.data(), rates.data());
    root_functions(e_, scratch_, before_.data());
    take_sides();
}

void RootSearch::take_sides()
{
    const auto& conditions = e_.model().form.conditions;
    std::size_t root = 0;
    auto side = [&](double sign) {
        double& g = before_[root];
        largest_[root] = std::max(largest_[root], std::abs(g));
        near_[root] = std::abs(g) <= kUnsure * largest_[root] ? 1 : 0;
        if (near_[root] != 0) g = sign * kTiny;
        ++root;
    };
    for (std::size_t i = 0; i < conditions.size(); ++i) {
        if (conditions[i].held || conditions[i].slope != kNoNode)
            ++root, root += conditions[i].kind == Condition::Kind::whole ? 1 : 0;
        else if (conditions[i].kind == Condition::Kind::whole)
            side(1), side(1);
        else
            side(e_.mode(i) != 0 ? -1 : 1);
    }
}

double RootSearch::look_for_dip(double before, double now, const std::function<void(double, std::vector<double>&)>& values_at)
{
    constexpr int kLooks = 3;
    constexpr double kNear = 0.2;  // of the larger end: a summit farther from zero is not looked at
    double mid = 0.5 * (before + now);
    values_at(mid, middle_);
    for (std::size_t i = 0; i < now_.size(); ++i)
        if (crosses(before_[i], middle_[i])) return mid;
    for (std::size_t i = 0; i < now_.size(); ++i) {
        double a = before_[i], b = middle_[i], c = now_[i], low = before, high = now, at = mid;
        for (int look = 0; look < kLooks; ++look) {
            // the parabola through the three: its summit, if it lies between them and nearer to zero
            double left = (b - a) / (at - low), right = (c - b) / (high - at), bend = (right - left) / (high - low);
            if (!(std::abs(bend) > 0)) break;
            double summit = 0.5 * (low + at) - left / (2 * bend);
            if (!(summit > low && summit < high) || std::abs(b) > std::max(std::abs(a), std::abs(c))) break;
            double value = a + left * (summit - low) + bend * (summit - low) * (summit - at);
            if (value * a > 0 && std::abs(value) > kNear * std::max(std::abs(a), std::abs(c))) break;
            values_at(summit, trial_);
            if (crosses(before_[i], trial_[i])) return summit;
            if (std::abs(trial_[i]) >= std::abs(b) || summit == at) break;
            if (summit < at)
                high = at, c = b;
            else
                low = at, a = b;
            at = summit, b = trial_[i];
        }
    }
    return 0;
}

bool RootSearch::find(double before, double now, const std::function<void(double, std::vector<double>&, std::vector<double>&)>& interpolate)
{
    if (none()) return false;
    auto values_at = [&](double t, std::vector<double>& g) {
        interpolate(t, z_, rates_);
        e_.at(t, z_.data(), rates_.data());
        root_functions(e_, scratch_, g.data());
        // what stays at zero but for rounding (two speeds locked together) crosses nothing
        // and what begins about zero is not told apart from the error of the interpolant right behind the beginning
        constexpr double kRounding = 1e-14, kBegin = 1e-4;
        bool beginning = t - before < kBegin * (now - before);
        for (std::size_t i = 0; i < g.size(); ++i) {
            if (std::abs(g[i]) <= (near_[i] != 0 && beginning ? kUnsure : kRounding) * largest_[i]) g[i] = std::copysign(kTiny, before_[i]);
        }
    };
    values_at(now, now_);
    bool any = false;
    for (std::size_t i = 0; i < now_.size(); ++i) any |= crosses(before_[i], now_[i]);
    double end = now;
    if (!any) {
        double dip = look_for_dip(before, now, values_at);
        if (dip == 0) {
            // only what was passed tells what is large: a step may have gone far beyond an event
            for (std::size_t i = 0; i < now_.size(); ++i) largest_[i] = std::max(largest_[i], std::abs(now_[i]));
            for (std::size_t i = 0; i < now_.size(); ++i)
                if (std::abs(now_[i]) > kUnsure * largest_[i]) near_[i] = 0;
            std::swap(before_, now_);
            return false;
        }
        end = dip;
        values_at(end, now_);
    }
    double low = before, high = end;
    double tolerance = 100 * std::numeric_limits<double>::epsilon() * (std::abs(now) + std::abs(now - before));
    std::vector<double> g_low = before_, g_high = now_;
    double bend = 1;
    int side = 0;
    for (int round = 0; round < 200 && high - low > tolerance; ++round) {
        double share = 0.5, largest = 0;
        for (std::size_t i = 0; i < g_low.size(); ++i) {
            if (!crosses(g_low[i], g_high[i])) continue;
            // from a value that is only a side a line tells nothing: halve
            bool side_only = std::abs(g_low[i]) <= 2 * kTiny || std::abs(g_high[i]) <= 2 * kTiny;
            double s = side_only ? 0.5 : std::abs(g_high[i]) / std::abs(g_high[i] - bend * g_low[i]);
            if (s > largest) largest = s, share = 1 - s;  // the earliest of them
        }
        // never nearer to an end than half the tolerance, so that the enclosure shrinks
        double least = std::min(0.5, 0.5 * tolerance / (high - low));
        double mid = low + std::clamp(share, least, 1 - least) * (high - low);
        values_at(mid, trial_);
        bool left = false;
        for (std::size_t i = 0; i < g_low.size(); ++i) left |= crosses(g_low[i], trial_[i]);
        if (left) {
            high = mid;
            g_high = trial_;
            bend = side == 1 ? bend * 0.5 : 1;
            side = 1;
        } else {
            low = mid;
            g_low = trial_;
            bend = side == 2 ? bend * 2 : 1;
            side = 2;
        }
    }
    for (std::size_t i = 0; i < crossings_.size(); ++i) crossings_[i] = crosses(g_low[i], g_high[i]) ? (g_low[i] < 0 ? 1 : -1) : 0;
    time_ = high;
    return true;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "integrate/root_search.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "integrate/integrator.hpp"

namespace netloop {
namespace {

constexpr double kUnsureSide = 1e-11, kTiny = 1e-300;
constexpr double kRounding = 1e-12;  ///< of the largest value seen: what stays so near to zero crosses nothing

bool crosses(double a, double b)
{
    return (a < 0 && b >= 0) || (a > 0 && b <= 0);
}

}  // namespace

std::size_t n_root_functions(const CompiledModel& model)
{
    // where the clock turns all conditions there is nothing to be searched
    const auto& conditions = model.form.conditions;
    if (std::all_of(conditions.begin(), conditions.end(), [](const Condition& c) { return c.held || c.is_clocked(); })) return 0;
    std::size_t n = 0;
    for (const Condition& c : model.form.conditions) n += c.kind == Condition::Kind::whole ? 2 : 1;
    return n;
}

void find_active_roots(Evaluation& evaluation, std::vector<ActiveRoot>& active)
{
    const auto& conditions = evaluation.model().form.conditions;
    const std::vector<char>& watched = evaluation.watched();
    active.clear();
    std::size_t root = 0;
    for (std::size_t i = 0; i < conditions.size(); ++i) {
        bool whole = conditions[i].kind == Condition::Kind::whole;
        if (watched[i] != 0 && !conditions[i].held && !conditions[i].is_clocked()) {
            active.push_back({root, i, whole ? ActiveRoot::Kind::above : ActiveRoot::Kind::value});
            if (whole) active.push_back({root + 1, i, ActiveRoot::Kind::below});
        }
        root += whole ? 2 : 1;
    }
}

namespace {

double root_value(const Evaluation& evaluation, const ActiveRoot& a, double v)
{
    using Kind = ActiveRoot::Kind;
    return a.kind == Kind::value ? v : a.kind == Kind::above ? v - evaluation.mode(a.condition) : evaluation.mode(a.condition) + 1 - v;
}

void root_values(Evaluation& evaluation, const std::vector<ActiveRoot>& active, double* g)
{
    evaluation.conditions();
    for (const ActiveRoot& a : active) g[a.root] = root_value(evaluation, a, evaluation.condition_value(a.condition));
}

}  // namespace

void root_functions(Evaluation& evaluation, double* g)
{
    std::vector<ActiveRoot> active;
    find_active_roots(evaluation, active);
    std::fill(g, g + n_root_functions(evaluation.model()), 1.0);  // what is not searched crosses nothing
    root_values(evaluation, active, g);
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
    has_rest_ = false;
    if (none()) return;
    find_active_roots(e_, active_);  // which are searched stands until the next event
    reads_solved_ = false;
    for (const ActiveRoot& a : active_) reads_solved_ = reads_solved_ || e_.model().form.conditions[a.condition].reads_solved;
    e_.at(t, z.data(), rates.data());
    root_values(e_, active_, before_.data());
    take_sides();
}

// Whether a function that reads what the equations settle is near its zero, or seems to have crossed it.
bool RootSearch::is_unclear(const std::vector<double>& g) const
{
    constexpr double kClear = 0.01;  // of the largest value seen
    const auto& conditions = e_.model().form.conditions;
    return std::any_of(active_.begin(), active_.end(), [&](const ActiveRoot& a) {
        return conditions[a.condition].reads_solved && (crosses(before_[a.root], g[a.root]) || std::abs(g[a.root]) <= kClear * largest_[a.root]);
    });
}

void RootSearch::take_sides()
{
    for (const ActiveRoot& a : active_) {
        double sign = a.kind == ActiveRoot::Kind::value && e_.mode(a.condition) != 0 ? -1 : 1;
        double& g = before_[a.root];
        largest_[a.root] = std::max(largest_[a.root], std::abs(g));
        near_[a.root] = std::abs(g) <= kUnsureSide * largest_[a.root] ? 1 : 0;
        if (near_[a.root] != 0) g = sign * kTiny;
    }
}

double RootSearch::look_for_dip(double before, double now, const std::function<void(double, std::vector<double>&)>& values_at)
{
    constexpr int kLooks = 3;
    constexpr double kNear = 0.2;  // of the larger end: a summit farther from zero is not looked at
    double mid = 0.5 * (before + now);
    values_at(mid, middle_);
    for (const ActiveRoot& active : active_)
        if (crosses(before_[active.root], middle_[active.root])) return mid;
    for (const ActiveRoot& active : active_) {
        std::size_t i = active.root;
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

bool RootSearch::find(double before, double now, const StepPolynomial& step)
{
    if (none()) return false;
    double rounding = kRounding;
    bool solved = false;  // while a crossing of what is solved is enclosed: the polynomial would put it elsewhere
    auto clean = [&](const std::vector<ActiveRoot>& roots, double t, std::vector<double>& g) {
        // what stays at zero but for rounding (two speeds locked together) crosses nothing
        // and what begins about zero is not told apart from the error of the interpolant right behind the beginning
        constexpr double kBegin = 1e-4;
        bool beginning = t - before < kBegin * (now - before);
        for (const ActiveRoot& active : roots) {
            std::size_t i = active.root;
            double unsure = near_[i] != 0 && beginning ? kUnsureSide : rounding;
            if (unsure > 0 && std::abs(g[i]) <= unsure * largest_[i]) g[i] = std::copysign(kTiny, before_[i]);
        }
    };
    auto values_at = [&](double t, std::vector<double>& g) {
        step.values(t, z_, rates_);
        e_.at(t, z_.data(), rates_.data());
        root_values(e_, active_, g.data());
        // what is no state is solved where the side is not clear; far from a zero the polynomial is close enough
        if (reads_solved_ && (solved || is_unclear(g)) && e_.solve_rest) {
            if (!e_.solve_rest(t, z_, rates_)) step.values(t, z_, rates_);
            e_.at(t, z_.data(), rates_.data());
            root_values(e_, active_, g.data());
        }
        clean(active_, t, g);
    };
    auto narrow_at = [&](double t, std::vector<double>& g) {
        narrow_values(t, step, g);
        clean(narrow_roots_, t, g);
    };
    values_at(now, now_);
    bool any = false;
    for (const ActiveRoot& a : active_) any |= crosses(before_[a.root], now_[a.root]);
    double end = now;
    if (!any) {
        double dip = look_for_dip(before, now, values_at);
        if (dip == 0) {
            // only what was passed tells what is large: a step may have gone far beyond an event
            for (const ActiveRoot& a : active_) {
                double size = std::abs(now_[a.root]);
                largest_[a.root] = std::max(largest_[a.root], size);
                if (size > kUnsureSide * largest_[a.root]) near_[a.root] = 0;
            }
            std::swap(before_, now_);
            return false;
        }
        end = dip;
        values_at(end, now_);
    }
    // a crossing found may hide two of another function before it: look there too
    constexpr int kHidden = 8;
    for (int hidden = 0; hidden < kHidden; ++hidden) {
        rounding = 0;  // these do cross: a value that is all but zero is as good as can be had
        const auto& conditions = e_.model().form.conditions;
        solved = std::any_of(active_.begin(), active_.end(),
                             [&](const ActiveRoot& a) { return conditions[a.condition].reads_solved && crosses(before_[a.root], now_[a.root]); });
        if (!solved) take_narrow();
        double closely = 100 * std::numeric_limits<double>::epsilon() * (std::abs(now) + std::abs(now - before));
        if (narrow_roots_.empty())
            enclose(before, end, closely, values_at);
        else
            enclose(before, end, closely, narrow_at);
        narrow_roots_.clear();
        rounding = kRounding;
        solved = false;
        if (active_.size() == crossing_.size()) break;
        values_at(time_, now_);
        double dip = look_for_dip(before, time_, values_at);
        if (dip == 0) break;
        end = dip;
        values_at(end, now_);
    }
    return true;
}

const RootSearch::Narrow& RootSearch::narrow(std::size_t condition)
{
    auto [at, fresh] = narrow_.try_emplace(condition);
    Narrow& n = at->second;
    if (!fresh) return n;
    const CompiledModel& m = e_.model();
    if (!pruner_) pruner_.emplace(m.conditions);
    n.program = (*pruner_)({m.conditions.results[condition]});
    prepare(n.program, m.callables());
    for (std::uint32_t place : places_read(n.program))
        for (std::uint32_t first : {m.layout.z, m.layout.rates})
            if (place >= first && place < first + m.n()) n.members.push_back(place - first);
    return n;
}

void RootSearch::take_narrow()
{
    constexpr std::size_t kFew = 3, kMany = 16;
    narrow_roots_.clear();
    narrow_members_.clear();
    if (active_.size() < kMany || e_.delays() != nullptr) return;
    std::vector<ActiveRoot> crossing;
    for (const ActiveRoot& a : active_)
        if (crosses(before_[a.root], now_[a.root])) crossing.push_back(a);
    if (crossing.empty() || crossing.size() > kFew) return;
    for (const ActiveRoot& a : crossing) {
        const Narrow& n = narrow(a.condition);
        narrow_members_.insert(narrow_members_.end(), n.members.begin(), n.members.end());
    }
    if (narrow_members_.size() * 4 > z_.size()) return;  // they read so much that nothing is gained
    narrow_roots_ = std::move(crossing);
}

void RootSearch::narrow_values(double t, const StepPolynomial& step, std::vector<double>& g)
{
    step.values_of(narrow_members_, t, z_, rates_);
    e_.set_time(t);
    for (std::uint32_t i : narrow_members_) e_.z()[i] = z_[i], e_.rates()[i] = rates_[i];
    for (const ActiveRoot& a : narrow_roots_) {
        const Program& program = narrow(a.condition).program;
        e_.work_out(program);
        g[a.root] = root_value(e_, a, e_.value_at(program.results[0]));
    }
}

void RootSearch::enclose(double before, double end, double tolerance, const std::function<void(double, std::vector<double>&)>& values_at)
{
    double low = before, high = end;
    // the search goes on with those that cross: few of many
    crossing_.clear();
    for (const ActiveRoot& a : active_)
        if (crosses(before_[a.root], now_[a.root])) crossing_.push_back(a.root);
    std::vector<double>&g_low = low_, &g_high = high_;
    g_low = before_, g_high = now_;
    // the one that by a straight line crosses first is followed: inverse quadratic interpolation where it is safe, else halving
    std::size_t followed = now_.size();
    double third = 0, g_third = 0;  // the point before the last two, of the one followed
    bool has_third = false;
    for (int round = 0; round < 200 && high - low > tolerance; ++round) {
        std::size_t first = now_.size();
        double earliest = HUGE_VAL;
        for (std::size_t i : crossing_) {
            if (!crosses(g_low[i], g_high[i])) continue;
            // from a value that is only a side a line tells nothing
            bool side_only = std::abs(g_low[i]) <= 2 * kTiny || std::abs(g_high[i]) <= 2 * kTiny;
            double share = side_only ? 0.5 : std::abs(g_low[i]) / std::abs(g_high[i] - g_low[i]);
            if (share < earliest) earliest = share, first = i;
        }
        if (first != followed) has_third = false, followed = first;
        double a = g_low[followed], b = g_high[followed], share = earliest;
        if (has_third && g_third != a && g_third != b && earliest != 0.5) {
            double t = low * (b * g_third) / ((a - b) * (a - g_third)) + high * (a * g_third) / ((b - a) * (b - g_third)) +
                       third * (a * b) / ((g_third - a) * (g_third - b));
            double quadratic = (t - low) / (high - low);
            if (quadratic > 0 && quadratic < 1) share = quadratic;
        }
        // an end that is not moved for long is halved towards; and never nearer to an end than the tolerance asks, so that a good estimate
        // is enclosed by the next look on its other side
        if (round > 6 && round % 3 == 0) share = 0.5;
        double least = std::min(0.5, 0.9 * tolerance / (high - low));
        double mid = low + std::clamp(share, least, 1 - least) * (high - low);
        values_at(mid, trial_);
        bool left = false;
        for (std::size_t i : crossing_) left |= crosses(g_low[i], trial_[i]);
        has_third = true;
        if (left) {
            third = high, g_third = b;
            high = mid;
            for (std::size_t i : crossing_) g_high[i] = trial_[i];
        } else {
            third = low, g_third = a;
            low = mid;
            for (std::size_t i : crossing_) g_low[i] = trial_[i];
        }
    }
    std::fill(crossings_.begin(), crossings_.end(), 0);
    for (std::size_t i : crossing_)
        if (crosses(g_low[i], g_high[i])) crossings_[i] = g_low[i] < 0 ? 1 : -1;
    time_ = high;
}

void RootSearch::leave_rest(const StepPolynomial& step)
{
    step.values(time_, z_, rates_);
    if (reads_solved_ && e_.solve_rest && !e_.solve_rest(time_, z_, rates_)) step.values(time_, z_, rates_);
    start(time_, z_, rates_);
    rest_from_ = time_;
    has_rest_ = true;
}

bool RootSearch::find_rest(double now, const StepPolynomial& step)
{
    has_rest_ = false;
    return find(rest_from_, now, step);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "integrate/limits.hpp"

#include <fmt/format.h>

#include <cmath>

#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

[[noreturn]] void fail(double time, const std::string& what)
{
    throw NumericFailure("run-failed", fmt::format("at {:.9g} s a declared range is left: {}", time, what),
                         "look at what drives it there: a start value, a param, a force or flow; or widen the range if it may go so far");
}

}  // namespace

void Limits::renew()
{
    ranged_.clear();
    const auto& z = e_.model().form.z;
    for (std::uint32_t i = 0; i < z.size(); ++i)
        if (std::isfinite(z[i].low) || std::isfinite(z[i].high)) ranged_.push_back(i);
}

bool Limits::outside(double v, double low, double high, double usual) const
{
    double end = v < low ? low : v > high ? high : v;
    return v != end && !(std::abs(v - end) <= kSlack * tolerance_ * std::max(usual, std::abs(end)));
}

std::string Limits::first_member_outside(const State& s) const
{
    const CompiledModel& m = e_.model();
    for (std::uint32_t i : ranged_) {
        const ZEntry& z = m.form.z[i];
        if (outside(s.z[i], z.low, z.high, z.usual)) return describe_outside(m, sources_, i, s.z[i]);
    }
    return {};
}

std::string Limits::first_outside(const EventPrograms::Limits& limits)
{
    if (limits.of.empty()) return {};
    e_.work_out(limits.program);
    for (const auto& l : limits.of) {
        double v = e_.value_at(l.value), low = e_.value_at(l.low), high = e_.value_at(l.high);
        if (!outside(v, low, high, l.usual)) continue;
        const FlatModel& flat = e_.model().form.flat();
        return describe_outside(flat, flat.limits[l.limit], sources_, v, low, high);
    }
    return {};
}

std::string Limits::after_step(const State& s)
{
    std::string what = first_member_outside(s);
    if (!what.empty() || e_.model().events.limits.of.empty()) return what;
    e_.at(s.time, s.z.data(), s.rates.data());
    return first_outside(e_.model().events.limits);
}

bool Limits::hold(const State& s)
{
    return after_step(s).empty();
}

void Limits::leave(const State& s)
{
    fail(s.time, after_step(s));
}

void Limits::at_row(const State& s)
{
    std::string what = first_member_outside(s);
    if (what.empty()) what = first_outside(e_.model().events.limits);
    if (what.empty()) what = first_outside(e_.model().events.solved_limits);
    if (!what.empty()) fail(s.time, what);
}

}  // namespace netloop

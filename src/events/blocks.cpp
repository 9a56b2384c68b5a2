// SPDX-License-Identifier: Apache-2.0
#include "events/blocks.hpp"

#include <fmt/format.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

constexpr std::uint32_t kNoMemory = EventPrograms::kNone;
constexpr std::size_t kMostWarnings = 100;

}  // namespace

Blocks::Blocks(Evaluation& evaluation, const SourceSet& sources, std::function<void(State&)> settle)
    : e_(evaluation), sources_(sources), settle_(std::move(settle)), said_(m().form.events.blocks.size(), 0)
{
}

void Blocks::begin_moment(const State& s)
{
    set_by_.clear();
    touched_ = false;
    if (m().events.previous_of.empty()) return;
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.work_out(m().events.previous);
    std::vector<double> values;
    for (const auto& [memory, at] : m().events.previous_of) values.push_back(e_.value_at(at));
    for (std::size_t k = 0; k < values.size(); ++k) e_.set_memory(m().events.previous_of[k].first, values[k]);
}

std::string Blocks::place(std::uint32_t block) const
{
    const FlatBlock& b = m().form.events.blocks[block];
    std::string at = place_text(sources_, b.origin.span), part = m().form.flat().instances[b.origin.instance];
    return fmt::format("{}{}{}", at.empty() ? "" : at + ": ", part.empty() ? "" : part + ": ", b.text);
}

std::string Blocks::setting_name(std::uint32_t block, std::uint32_t setting) const
{
    const FlatSetting& s = m().form.events.blocks[block].settings[setting];
    if (s.memory != FlatSetting::kNone) return m().form.events.memories[s.memory].path;
    std::string text(sources_.text(s.span));
    std::string part = m().form.flat().instances[m().form.events.blocks[block].origin.instance];
    return part.empty() ? text : part + "." + text;
}

void Blocks::claim(std::uint64_t what, std::uint32_t block, const std::string& name, const State& s)
{
    auto [it, fresh] = set_by_.emplace(what, block);
    if (fresh || it->second == block) return;
    // what holds at the start is set before anything happens
    if (m().form.events.blocks[it->second].kind == FlatBlock::Kind::start) {
        it->second = block;
        return;
    }
    throw NumericFailure("set-twice",
                         fmt::format("at {:.9g} s two blocks set '{}' at the same moment\n      {}\n      {}", s.time, name, place(it->second), place(block)),
                         "let one block decide, or give the two different moments");
}

void Blocks::set(std::uint32_t memory, double value, std::uint32_t by)
{
    set_by_.emplace(memory, by);
    if (e_.memory(memory) == value) return;
    e_.set_memory(memory, value);
    if (m().events.memory_in_equations[memory]) equations_ = touched_ = true;
}

void Blocks::run(const std::vector<std::uint32_t>& list, State& s)
{
    const auto& blocks = m().events.blocks;
    for (std::size_t i = 0; i < list.size();) {
        if (equations_ && blocks[list[i]].reads_solved) settle_(s);
        e_.at(s.time, s.z.data(), s.rates.data());
        e_.work_out(m().events.actions);
        // as many blocks as do not read what those before them set are done at once
        std::vector<std::vector<double>> values;
        written_.clear();
        bool sets_states = false, sets_equations = equations_;
        std::size_t end = i;
        for (; end < list.size(); ++end) {
            const EventPrograms::Block& b = blocks[list[end]];
            bool reads = (b.reads_solved && sets_equations && end > i) || (sets_states && end > i);
            for (std::uint32_t memory : b.memories) reads |= std::find(written_.begin(), written_.end(), memory) != written_.end();
            if (reads && end > i) break;
            std::vector<double> of;
            for (std::size_t k = 0; k < b.settings.size(); ++k) {
                const EventPrograms::Setting& setting = b.settings[k];
                bool set = setting.when == kNoMemory || e_.value_at(setting.when) != 0;
                of.push_back(set ? e_.value_at(setting.value) : std::nan(""));
                if (set && !std::isfinite(of.back()))
                    throw NumericFailure("run-failed", fmt::format("at {:.9g} s '{}' is set to no finite value ({})\n      {}", s.time,
                                                                   setting_name(list[end], static_cast<std::uint32_t>(k)), of.back(), place(list[end])));
                std::uint32_t memory = m().form.events.blocks[list[end]].settings[k].memory;
                if (memory != FlatSetting::kNone)
                    written_.push_back(memory);
                else
                    sets_states = true;
            }
            sets_equations |= b.sets_equations;
            values.push_back(std::move(of));
        }
        for (std::size_t k = i; k < end; ++k) say(list[k], s);
        for (std::size_t k = i; k < end; ++k) apply(list[k], values[k - i], s);
        if (!demands_.empty()) meet_demands(s);
        i = end;
    }
}

void Blocks::say(std::uint32_t block, const State& s)
{
    const FlatBlock& b = m().form.events.blocks[block];
    for (std::size_t k = 0; k < b.alerts.size(); ++k) {
        std::uint32_t when = m().events.blocks[block].alerts[k];
        if (when != kNoMemory && e_.value_at(when) == 0) continue;
        const FlatAlert& a = b.alerts[k];
        if (a.action == FlatAlert::Action::fail) throw NumericFailure("said-fail", fmt::format("at {:.9g} s: {}\n      {}", s.time, a.text, place(block)));
        if (a.action == FlatAlert::Action::stop && stop_.empty()) stop_ = a.text;
        if (a.action == FlatAlert::Action::warn && warnings_.size() < kMostWarnings) {
            // one that comes again and again is told a few times
            if (++said_[block] <= 3) warnings_.push_back(fmt::format("at {:.6g} s: {}{}", s.time, a.text, said_[block] == 3 ? " (not told again)" : ""));
        }
    }
}

void Blocks::apply(std::uint32_t block, const std::vector<double>& values, State& s)
{
    const auto& settings = m().events.blocks[block].settings;
    for (std::uint32_t k = 0; k < settings.size(); ++k) {
        const EventPrograms::Setting& setting = settings[k];
        if (std::isnan(values[k])) continue;
        std::uint32_t memory = m().form.events.blocks[block].settings[k].memory;
        if (memory != FlatSetting::kNone) {
            claim(memory, block, setting_name(block, k), s);
            set(memory, values[k], block);
        } else if (setting.state != kNoMemory && e_.is_state(setting.state)) {
            claim(m().form.events.memories.size() + setting.state, block, setting_name(block, k), s);
            double value = setting.sign * values[k];
            if (s.z[setting.state] == value) continue;
            s.z[setting.state] = value;
            equations_ = touched_ = true;
        } else {
            demands_.push_back({block, k, values[k]});
        }
    }
}

// Targets that are no states: the nearest states, in their usual sizes, at which the targets have the values wanted. Positions are left
// where they are if speeds can meet what is asked.
void Blocks::meet_demands(State& s)
{
    std::vector<Demand> demands = std::move(demands_);
    demands_.clear();
    auto n = static_cast<Eigen::Index>(demands.size());
    auto values_at = [&](State& at) {
        settle_(at);
        e_.at(at.time, at.z.data(), at.rates.data());
        e_.work_out(m().events.actions);
        Eigen::VectorXd v(n);
        for (Eigen::Index k = 0; k < n; ++k) {
            const Demand& d = demands[static_cast<std::size_t>(k)];
            v[k] = e_.value_at(m().events.blocks[d.block].settings[d.setting].target);
        }
        return v;
    };
    Eigen::VectorXd wanted(n);
    std::uint32_t order = 0;
    for (Eigen::Index k = 0; k < n; ++k) {
        const Demand& d = demands[static_cast<std::size_t>(k)];
        wanted[k] = d.value;
        order = std::max(order, m().form.events.blocks[d.block].settings[d.setting].order);
    }
    for (std::uint32_t least : {order, 0u}) {
        std::vector<std::size_t> movable;
        for (std::size_t i = 0; i < m().n(); ++i)
            if (e_.is_state(i) && m().form.z[i].variable.order >= least && !set_by_.contains(m().form.events.memories.size() + i)) movable.push_back(i);
        State at = s;
        for (int round = 0; round < 20 && !movable.empty(); ++round) {
            Eigen::VectorXd here = values_at(at), off = wanted - here;
            Eigen::MatrixXd slopes(n, static_cast<Eigen::Index>(movable.size()));
            for (std::size_t c = 0; c < movable.size(); ++c) {
                State moved = at;
                moved.z[movable[c]] += 1e-6 * std::max(m().form.z[movable[c]].usual, std::abs(at.z[movable[c]]));
                slopes.col(static_cast<Eigen::Index>(c)) = (values_at(moved) - here) / 1e-6;
            }
            bool met = true;
            for (Eigen::Index k = 0; k < n; ++k) {
                double rounding = 1e-14 * slopes.row(k).cwiseAbs().sum();  // what the states themselves leave open
                met &= std::abs(off[k]) <= std::max(1e-10 * std::max(std::abs(wanted[k]), std::abs(here[k])), rounding);
            }
            if (met) {
                for (const Demand& d : demands)
                    claim((1ull << 40) + (static_cast<std::uint64_t>(d.block) << 16) + d.setting, d.block, setting_name(d.block, d.setting), s);
                s = at;
                settle_(s);
                equations_ = touched_ = true;
                return;
            }
            Eigen::VectorXd step = slopes.completeOrthogonalDecomposition().solve(off);
            if (!step.allFinite() || (slopes * step - off).norm() > 1e-3 * off.norm()) break;
            for (std::size_t c = 0; c < movable.size(); ++c)
                at.z[movable[c]] += step[static_cast<Eigen::Index>(c)] * std::max(m().form.z[movable[c]].usual, std::abs(at.z[movable[c]]));
        }
        if (order == 0) break;
    }
    const Demand& d = demands[0];
    throw NumericFailure("run-failed",
                         fmt::format("at {:.9g} s '{}' cannot be set to {:.6g}: no state moves it there\n      {}", s.time, setting_name(d.block, d.setting),
                                     d.value, place(d.block)),
                         "set a quantity that has a rate of its own, or a memory that the equations read");
}

}  // namespace netloop

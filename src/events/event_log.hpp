// SPDX-License-Identifier: Apache-2.0
// What happened when: for the table of events, the summary and the recording.
#pragma once

#include <cstdint>
#include <vector>

namespace netloop {

/// One kind of event: a located condition that turned, or a block that was run: a `when`, an `every`, a transition that was taken.
struct EventKind {
    bool block = false;       ///< a block; else a condition
    std::uint32_t index = 0;  ///< of the block or the condition
    bool told = false;        ///< a condition that blocks alone look at is told by what they do, not by itself
    std::vector<double> times;
    double steps_lost = 0;  ///< steps made until the step length was half again what it had been before
    double ticks = 0;       ///< time for locating it, settling it, and those steps
};

class EventLog {
public:
    void begin(std::size_t n_conditions, std::size_t n_blocks)
    {
        kinds_.clear();
        last_.clear();
        for (std::uint32_t i = 0; i < n_conditions; ++i) kinds_.push_back({false, i, false, {}, 0, 0});
        n_conditions_ = n_conditions;
        for (std::uint32_t b = 0; b < n_blocks; ++b) kinds_.push_back({true, b, true, {}, 0, 0});
    }
    /// A condition turned. `told`: something other than the conditions of blocks looks at it; else those blocks bear what it costs.
    void condition(std::size_t i, double time, bool told, const std::vector<std::uint32_t>& blocks)
    {
        kinds_[i].told |= told;
        add(i, time);
        if (told) return;
        last_.pop_back();
        for (std::uint32_t b : blocks) last_.push_back(n_conditions_ + b);
        if (blocks.empty()) last_.push_back(i);
    }
    /// A block was run, a transition taken.
    void block(std::size_t b, double time) { add(n_conditions_ + b, time); }
    /// Those of the last moment share what it cost.
    void charge(double steps, double ticks)
    {
        if (last_.empty()) return;
        for (std::size_t k : last_) {
            kinds_[k].steps_lost += steps / static_cast<double>(last_.size());
            kinds_[k].ticks += ticks / static_cast<double>(last_.size());
        }
    }
    void new_moment() { last_.clear(); }
    /// Whether anything happened in this moment.
    bool any() const { return !last_.empty(); }
    static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
    /// The first of the last moment, into kinds(); kNone if nothing happened then.
    std::size_t last() const { return last_.empty() ? kNone : last_[0]; }
    const std::vector<EventKind>& kinds() const { return kinds_; }

private:
    void add(std::size_t k, double time)
    {
        kinds_[k].times.push_back(time);
        last_.push_back(k);
    }
    std::vector<EventKind> kinds_;
    std::size_t n_conditions_ = 0;
    std::vector<std::size_t> last_;
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "integrate/step_costs.hpp"

#include <algorithm>

namespace netloop {

void StepCosts::step(double from, double to, const Reason* reason)
{
    double length = to - from;
    if (stretches_.empty() || stretches_.back().steps >= static_cast<double>(per_stretch_)) {
        if (stretches_.size() == kMostStretches) halve();
        if (stretches_.empty() || stretches_.back().steps >= static_cast<double>(per_stretch_)) stretches_.push_back({from, to, 0, length, length, {}});
    }
    Stretch& s = stretches_.back();
    s.to = to;
    s.steps += 1;
    s.shortest = std::min(s.shortest, length);
    s.longest = std::max(s.longest, length);
    if (reason != nullptr) {
        bool sampled = reason->why == Why::accuracy || reason->why == Why::convergence;
        double weight = sampled && n_ >= kFirst ? static_cast<double>(kStride) : 1;
        auto [it, fresh] = number_.emplace(*reason, static_cast<std::uint32_t>(reasons_.size()));
        if (fresh) reasons_.emplace_back(*reason, 0.0);
        const std::uint32_t number = it->second;
        reasons_[number].second += weight;
        auto known = std::find_if(s.by.begin(), s.by.end(), [&](const auto& b) { return b.first == number; });
        if (known != s.by.end())
            known->second += weight;
        else
            s.by.emplace_back(number, weight);
    }
    ++n_;
}

// Two neighbours become one, and stretches hold twice as many steps from now on.
void StepCosts::halve()
{
    std::vector<Stretch> merged;
    for (std::size_t k = 0; k < stretches_.size(); k += 2) {
        Stretch s = stretches_[k];
        if (k + 1 < stretches_.size()) {
            const Stretch& next = stretches_[k + 1];
            s.to = next.to;
            s.steps += next.steps;
            s.shortest = std::min(s.shortest, next.shortest);
            s.longest = std::max(s.longest, next.longest);
            for (const auto& more : next.by) {
                auto known = std::find_if(s.by.begin(), s.by.end(), [&](const auto& b) { return b.first == more.first; });
                if (known != s.by.end())
                    known->second += more.second;
                else
                    s.by.push_back(more);
            }
        }
        merged.push_back(std::move(s));
    }
    stretches_ = std::move(merged);
    per_stretch_ *= 2;
}

}  // namespace netloop

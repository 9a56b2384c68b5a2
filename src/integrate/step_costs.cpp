// SPDX-License-Identifier: Apache-2.0
#include "integrate/step_costs.hpp"

#include <algorithm>

namespace netloop {

void StepCosts::Stretch::count(std::uint32_t reason, double n)
{
    if (steps_of_first_ == 0) first_ = reason;
    if (reason == first_) {
        steps_of_first_ += n;
        return;
    }
    auto known = std::find_if(more_.begin(), more_.end(), [&](const auto& m) { return m.first == reason; });
    if (known != more_.end())
        known->second += n;
    else
        more_.emplace_back(reason, n);
}

void StepCosts::step(double from, double to, const Reason* reason)
{
    double length = to - from;
    if (stretches_.empty() || stretches_.back().steps >= static_cast<double>(per_stretch_)) {
        if (stretches_.size() == kMostStretches) halve();
        if (stretches_.empty() || stretches_.back().steps >= static_cast<double>(per_stretch_)) begin_stretch(from, length);
    }
    Stretch& s = stretches_.back();
    s.to = to;
    s.steps += 1;
    s.shortest = std::min(s.shortest, length);
    s.longest = std::max(s.longest, length);
    if (reason != nullptr) {
        bool sampled = reason->why == Why::accuracy || reason->why == Why::convergence;
        double weight = sampled && n_ >= kFirst ? static_cast<double>(kStride) : 1;
        auto it = number_.find(*reason);
        if (it == number_.end()) {
            it = number_.emplace(*reason, static_cast<std::uint32_t>(reasons_.size())).first;
            reasons_.emplace_back(*reason, 0.0);
        }
        const std::uint32_t number = it->second;
        reasons_[number].second += weight;
        s.count(number, weight);
    }
    ++n_;
}

void StepCosts::corrections(const CompiledModel* model, std::uint32_t residual, int n)
{
    const double weight = n_ >= kFirstEquations ? static_cast<double>(kStride) : 1;
    Stubborn& s = stubborn_[{model, residual}];
    s.steps += weight;
    s.corrections += weight * n;
}

void StepCosts::begin_stretch(double from, double length)
{
    Stretch& s = stretches_.emplace_back();
    s.from = from;
    s.shortest = s.longest = length;
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
            next.each_reason([&s](std::uint32_t reason, double n) { s.count(reason, n); });
        }
        merged.push_back(std::move(s));
    }
    stretches_ = std::move(merged);
    per_stretch_ *= 2;
}

}  // namespace netloop

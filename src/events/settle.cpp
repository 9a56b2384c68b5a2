// SPDX-License-Identifier: Apache-2.0
// Equations solved with everything as a moment has set it, and the conditions that follow from them: where several turn together, as one problem.
#include <algorithm>
#include <cmath>
#include <exception>
#include <set>

#include "events/events.hpp"
#include "solve/failure.hpp"

namespace netloop {

// Conditions that follow from the solution are turned until they fit it. Usually each turn leads nearer; where it leads in a ring, or to equations that nothing
// solves (a switch closes onto a diode that conducts), the conditions that the solution itself turns are one problem, and are searched together.
void Events::settle(State& s)
{
    constexpr int kMostRounds = 50;
    State begun = s;
    Turned begin{modes_.all(), e_.shared_model()};
    std::set<std::vector<double>> seen;
    for (int round = 0;; ++round) {
        std::exception_ptr failure;
        try {
            while (variants_.leave(s)) touched_late_ = true;
            VariantChange::Result variant = variants_.follow(s);
            if (variant == VariantChange::Result::turned) {
                if (round > kMostRounds) chattering(s.time, "conditions switch back and forth without end");
                touched_late_ = true;
                continue;
            }
            touched_late_ |= variant == VariantChange::Result::taken_over;
            consistent_.solve(s, sources_);
        } catch (const NumericFailure&) {
            failure = std::current_exception();
        }
        bool ring = failure == nullptr && round > 0 && !seen.insert(modes_.all()).second;
        if (failure != nullptr || ring || round > kMostRounds) {
            if (!turn_together(begun, begin, s)) {
                if (failure != nullptr) std::rethrow_exception(failure);
                chattering(s.time, "conditions switch back and forth without end");
            }
        }
        blocks_.solved();
        settled_ = true;
        std::size_t changed = modes_.settle(s, log_);
        if (modes_.turn_by_clock(s.time, &log_)) ++changed;
        if (changed == 0) break;
    }
}

// Combinations in the order of how many conditions they turn, those that worked before first. One is taken if the equations have a solution with it and all
// conditions fit that. Source: the conditions and what they choose are a complementarity problem (Cottle, Pang and Stone, 1992, The Linear Complementarity
// Problem, ch. 2); of the few that a moment turns, going through them is as fast as pivoting, and needs no linear equations.
bool Events::turn_together(const State& begun, const Turned& before, State& s)
{
    constexpr std::size_t kMostTries = 2000, kMostTurned = 6;
    std::vector<std::uint32_t> free = modes_.free_conditions();
    // what clocks, blocks and stages have set stands; what follows from the solution begins as it was before the moment
    Turned begin{modes_.all(), before.model};
    for (std::uint32_t i : free) begin.modes[i] = before.modes[i];
    auto go_back = [&] {
        if (&e_.model() != begin.model.get()) {
            e_.change_model(begin.model);
            consistent_.renew();
        }
        modes_.put_all(begin.modes);
        s = begun;
    };
    auto fits = [&](const std::vector<std::uint32_t>& turned) {
        go_back();
        for (std::uint32_t i : turned) e_.set_mode(i, 1 - e_.mode(i));
        std::vector<double> wanted = modes_.all();
        try {
            if (variants_.follow(s) == VariantChange::Result::turned) return false;
            consistent_.solve(s, sources_);
        } catch (const NumericFailure&) {
            return false;
        }
        return modes_.all() == wanted && !modes_.disagree(s, true);
    };
    auto take = [&](const std::vector<std::uint32_t>& turned) {
        for (std::uint32_t i : turned) modes_.log_turn(i, s.time, log_);
        touched_late_ = true;
        worked_[begin.modes] = turned;
        return true;
    };
    if (auto known = worked_.find(begin.modes); known != worked_.end() && fits(known->second)) return take(known->second);
    std::size_t tries = 0;
    for (std::size_t n = 1; n <= std::min(kMostTurned, free.size()); ++n) {
        std::vector<std::size_t> at(n);
        for (std::size_t k = 0; k < n; ++k) at[k] = k;
        for (bool more = true; more;) {
            if (++tries > kMostTries) return go_back(), false;
            std::vector<std::uint32_t> turned;
            for (std::size_t k : at) turned.push_back(free[k]);
            if (fits(turned)) return take(turned);
            // the next choice of n of them
            std::size_t k = n;
            while (k > 0 && at[k - 1] == free.size() - n + k - 1) --k;
            more = k > 0;
            if (!more) break;
            ++at[k - 1];
            for (std::size_t j = k; j < n; ++j) at[j] = at[j - 1] + 1;
        }
    }
    go_back();
    return false;
}

}  // namespace netloop

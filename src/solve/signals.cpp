// SPDX-License-Identifier: Apache-2.0
#include "solve/signals.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {

void Turns::renew(const Evaluation& e)
{
    bool changed = function_.renew([&](const Node& n) { return n.op == Op::parameter ? e.parameter(n.a) : n.op == Op::mode ? e.mode(n.a) : e.memory(n.a); });
    if (changed) known_ = false;
}

void Turns::search(double time, double until)
{
    if (known_ && until <= until_ && time < first_) return;
    if (known_ && until <= until_ && time < second_)
        first_ = second_;
    else
        first_ = next(time, until);
    second_ = std::isfinite(first_) ? next(first_, until) : HUGE_VAL;
    if (std::isfinite(second_)) apart_ = second_ - first_;
    // what intervals tell nothing of bounds no step: its errors are seen by the method alone
    if (std::isnan(first_) || std::isnan(second_)) hopeless_ = true;
    until_ = until;
    known_ = true;
}

// Turns mostly come as far apart as the two before: a short stretch is halved less often.
double Turns::next(double time, double until) const
{
    constexpr double kRoom = 1.5;
    double near = time + kRoom * apart_;
    if (!(apart_ > 0) || !(near < until)) return function_.next_turn(time, until);
    double turn = function_.next_turn(time, near);
    return std::isinf(turn) ? function_.next_turn(near, until) : turn;
}

double Turns::first(double time, double until)
{
    if (!hopeless_) search(time, until);
    return hopeless_ ? HUGE_VAL : first_;
}

double Turns::second(double time, double until)
{
    if (!hopeless_) search(time, until);
    return hopeless_ ? HUGE_VAL : second_;
}

void Signals::renew(const Evaluation& e)
{
    if (of_ != &e.model()) {
        of_ = &e.model();
        turns_.clear();
        for (NodeId root : e.model().form.signals) turns_.emplace_back(e.model(), root);
    }
    for (Turns& t : turns_) t.renew(e);
}

double Signals::limit(double time, double until)
{
    double limit = HUGE_VAL;
    for (Turns& t : turns_) {
        double first = t.first(time, until);
        if (!std::isfinite(first)) continue;
        double second = t.second(time, until), half = 0.5 * (second - first);
        limit = std::min(limit, std::isfinite(second) ? std::max(first, time + half) : first);
    }
    return limit;
}

}  // namespace netloop

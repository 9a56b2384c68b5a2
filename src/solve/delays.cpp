// SPDX-License-Identifier: Apache-2.0
#include "solve/delays.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {

void Delays::begin(std::size_t k, double behind, double value, double start)
{
    lines_[k] = {};
    lines_[k].behind = behind;
    lines_[k].before = value;
    lines_[k].breaks.push_back({start, 1});  // before the start it stands still
}

std::vector<double> Delays::points(int degree)
{
    std::vector<double> shares;
    for (int j = 0; j <= degree; ++j) shares.push_back(0.5 - 0.5 * std::cos(M_PI * j / degree));
    return shares;
}

void Delays::add(std::size_t k, double from, double to, std::vector<double> values)
{
    Line& line = lines_[k];
    line.pieces.push_back({from, to, std::move(values)});
    // what nothing can look at any more is let go, in large pieces
    while (line.first + 1 < line.pieces.size() && line.pieces[line.first].to < to - 2 * line.behind) ++line.first;
    if (line.first > 1000 && 2 * line.first > line.pieces.size()) {
        line.pieces.erase(line.pieces.begin(), line.pieces.begin() + static_cast<std::ptrdiff_t>(line.first));
        line.first = 0;
    }
    std::erase_if(line.breaks, [&](const Break& b) { return b.time < to - 2 * line.behind; });
}

double Delays::value(std::size_t k, double t) const
{
    const Line& line = lines_[k];
    double at = t - line.behind;
    if (line.pieces.empty() || at + (behind_jumps_ ? 1e-12 : -1e-12) * std::abs(t) < line.pieces.front().from) return line.before;
    double slack = (behind_jumps_ ? 1e-12 : -1e-12) * std::abs(t) + (behind_jumps_ ? 1e-14 : -1e-14);
    auto after = std::upper_bound(line.pieces.begin(), line.pieces.end(), at + slack, [](double x, const Piece& p) { return x < p.from; });
    const Piece& p = *std::prev(after == line.pieces.begin() ? std::next(after) : after);
    double h = p.to - p.from;
    if (!(h > 0)) return p.values.back();
    double share = (at - p.from) / h, above = 0, below = 0;
    int n = static_cast<int>(p.values.size()) - 1;
    for (int j = 0; j <= n; ++j) {
        double d = share - (0.5 - 0.5 * std::cos(M_PI * j / n));
        if (std::abs(d) < 1e-15) return p.values[static_cast<std::size_t>(j)];
        double w = (j % 2 == 0 ? 1 : -1) * (j == 0 || j == n ? 0.5 : 1) / d;
        above += w * p.values[static_cast<std::size_t>(j)];
        below += w;
    }
    return above / below;
}

void Delays::break_source(std::size_t k, double time, int order)
{
    if (order > kSmoothest) return;
    auto& breaks = lines_[k].breaks;
    if (!breaks.empty() && std::abs(breaks.back().time - time) <= 1e-12 * std::abs(time)) {
        breaks.back().order = std::min(breaks.back().order, order);
        return;
    }
    breaks.push_back({time, order});
}

void Delays::break_sources(double time, int order)
{
    for (std::size_t k = 0; k < lines_.size(); ++k) break_source(k, time, order);
}

Delays::Break Delays::next_break(double t) const
{
    Break next{HUGE_VAL, kSmoothest + 1};
    double slack = 1e-12 * std::abs(t) + 1e-14;
    for (const Line& line : lines_)
        for (const Break& b : line.breaks) {
            double arrives = b.time + line.behind;
            if (arrives <= t + slack) continue;
            if (arrives < next.time - slack)
                next = {arrives, b.order};
            else if (arrives <= next.time + slack)
                next.order = std::min(next.order, b.order);
        }
    return next;
}

double Delays::shortest() const
{
    double shortest = HUGE_VAL;
    for (const Line& line : lines_) shortest = std::min(shortest, line.behind);
    return shortest;
}

}  // namespace netloop

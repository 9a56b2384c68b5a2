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

// Of each: how far behind, what was before, its pieces (from, to, their values with their number before), its breaks.
std::vector<double> Delays::kept(double time) const
{
    std::vector<double> list;
    for (const Line& line : lines_) {
        list.push_back(line.behind);
        list.push_back(line.before);
        std::vector<const Piece*> pieces;
        for (std::size_t k = line.first; k < line.pieces.size(); ++k)
            if (line.pieces[k].to >= time - 1.5 * line.behind && line.pieces[k].from < time) pieces.push_back(&line.pieces[k]);
        list.push_back(static_cast<double>(pieces.size()));
        for (const Piece* p : pieces) {
            list.insert(list.end(), {p->from, p->to, static_cast<double>(p->values.size())});
            list.insert(list.end(), p->values.begin(), p->values.end());
        }
        std::vector<Break> breaks;
        for (const Break& b : line.breaks)
            if (b.time <= time) breaks.push_back(b);
        list.push_back(static_cast<double>(breaks.size()));
        for (const Break& b : breaks) list.insert(list.end(), {b.time, static_cast<double>(b.order)});
    }
    return list;
}

bool Delays::put_back(const std::vector<double>& numbers)
{
    std::vector<Line> lines(lines_.size());
    std::size_t at = 0;
    bool good = true;
    auto next = [&]() -> double {
        if (at == numbers.size()) good = false;
        return good ? numbers[at++] : 0;
    };
    auto count = [&]() -> std::size_t {
        double n = next();
        good = good && n >= 0 && n <= static_cast<double>(numbers.size());
        return good ? static_cast<std::size_t>(n) : 0;
    };
    for (Line& line : lines) {
        line.behind = next();
        line.before = next();
        good = good && line.behind > 0;
        for (std::size_t n = count(), k = 0; k < n && good; ++k) {
            Piece p;
            p.from = next();
            p.to = next();
            for (std::size_t n_values = count(), j = 0; j < n_values && good; ++j) p.values.push_back(next());
            good = good && p.values.size() > 1;
            line.pieces.push_back(std::move(p));
        }
        for (std::size_t n = count(), k = 0; k < n && good; ++k) {
            double time = next();
            line.breaks.push_back({time, static_cast<int>(next())});
        }
    }
    if (!good || at != numbers.size()) return false;
    lines_ = std::move(lines);
    return true;
}

}  // namespace netloop

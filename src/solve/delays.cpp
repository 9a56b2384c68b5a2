#include "solve/delays.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {

void Delays::begin(std::size_t k, double behind, double value)
{
    lines_[k] = {};
    lines_[k].behind = behind;
    lines_[k].before = value;
}

void Delays::add(std::size_t k, double from, double to, const std::array<double, 4>& values)
{
    Line& line = lines_[k];
    double last = line.pieces.empty() ? line.before : line.pieces.back().values[3];
    double size = std::max(std::abs(last), std::abs(values[0]));
    if (std::abs(values[0] - last) > 1e-9 * size) line.jumps.push_back(from + line.behind);
    line.pieces.push_back({from, to, values});
    // what nothing can look at any more is let go, in large pieces
    while (line.first + 1 < line.pieces.size() && line.pieces[line.first].to < to - 2 * line.behind) ++line.first;
    if (line.first > 1000 && 2 * line.first > line.pieces.size()) {
        line.pieces.erase(line.pieces.begin(), line.pieces.begin() + static_cast<std::ptrdiff_t>(line.first));
        line.first = 0;
    }
}

// The polynomial through the four values of a piece (Lagrange).
double Delays::value(std::size_t k, double t) const
{
    const Line& line = lines_[k];
    double at = t - line.behind;
    if (line.pieces.empty() || at + (behind_jumps_ ? 1e-12 : -1e-12) * std::abs(t) < line.pieces.front().from) return line.before;
    double slack = (behind_jumps_ ? 1e-12 : -1e-12) * std::abs(t) + (behind_jumps_ ? 1e-14 : -1e-14);
    auto after = std::upper_bound(line.pieces.begin(), line.pieces.end(), at + slack, [](double x, const Piece& p) { return x < p.from; });
    const Piece& p = *std::prev(after == line.pieces.begin() ? std::next(after) : after);
    double h = p.to - p.from;
    if (!(h > 0)) return p.values[3];
    double s = 3 * (at - p.from) / h;
    const auto& v = p.values;
    return (-v[0] * (s - 1) * (s - 2) * (s - 3) + 3 * v[1] * s * (s - 2) * (s - 3) - 3 * v[2] * s * (s - 1) * (s - 3) + v[3] * s * (s - 1) * (s - 2)) / 6;
}

double Delays::next_jump(double t) const
{
    double next = HUGE_VAL;
    for (const Line& line : lines_) {
        auto it = std::upper_bound(line.jumps.begin(), line.jumps.end(), t + 1e-12 * std::abs(t) + 1e-14);
        if (it != line.jumps.end()) next = std::min(next, *it);
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

// What delayed values follow: their sources over the past, as smooth pieces with jumps between them.
#pragma once

#include <array>
#include <cstddef>
#include <vector>

namespace netloop {

class Delays {
public:
    explicit Delays(std::size_t n) : lines_(n) {}

    std::size_t size() const { return lines_.size(); }
    /// How far behind the k-th follows, s; and what it was before the start.
    void begin(std::size_t k, double behind, double value);
    /// Changes how far behind it follows; what is kept of the past may not reach far enough back for a longer one: then its oldest value holds.
    void follow_by(std::size_t k, double behind) { lines_[k].behind = behind; }
    double behind(std::size_t k) const { return lines_[k].behind; }
    /// A piece of the past, behind the pieces so far: four values at its beginning, thirds, and end.
    void add(std::size_t k, double from, double to, const std::array<double, 4>& values);
    /// What the source was at t - behind; beyond the last piece it is continued.
    double value(std::size_t k, double t) const;
    /// The first time after `t` at which a delayed value jumps; infinite if none does.
    double next_jump(double t) const;
    double shortest() const;
    /// Where a delayed value jumps: the value before the jump, as a step up to it needs it, or the one behind it.
    void look_behind_jumps(bool behind) { behind_jumps_ = behind; }

private:
    struct Piece {
        double from = 0, to = 0;
        std::array<double, 4> values{};
    };
    struct Line {
        double behind = 0, before = 0;
        std::vector<Piece> pieces;
        std::size_t first = 0;  ///< pieces before it are forgotten
        std::vector<double> jumps;
    };
    std::vector<Line> lines_;
    bool behind_jumps_ = false;
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// What delayed values follow: their sources over the past, as the integrator's own polynomials, with breaks between them.
#pragma once

#include <cstddef>
#include <vector>

namespace netloop {

class Delays {
public:
    explicit Delays(std::size_t n) : lines_(n) {}

    std::size_t size() const { return lines_.size(); }
    /// How far behind the k-th follows, s; what it was before the start; when that is.
    void begin(std::size_t k, double behind, double value, double start);
    /// Changes how far behind it follows; what is kept of the past may not reach far enough back for a longer one: then its oldest value holds.
    void follow_by(std::size_t k, double behind) { lines_[k].behind = behind; }
    double behind(std::size_t k) const { return lines_[k].behind; }

    /// Where a piece of the past is to be told, as shares of its length from its beginning: enough points for a polynomial of this degree (Chebyshev's, ends
    /// included).
    static std::vector<double> points(int degree);
    /// A piece of the past, behind the pieces so far: its values at those points.
    void add(std::size_t k, double from, double to, std::vector<double> values);
    /// What the source was at t - behind; beyond the last piece it is continued. Barycentric interpolation (Berrut and Trefethen, 2004, SIAM Review 46,
    /// 501-517).
    double value(std::size_t k, double t) const;

    /// A time at which delayed values are not smooth: `order` 0, a value jumps; 1, its slope; and so on.
    struct Break {
        double time = 0;
        int order = 0;
    };
    /// Breaks beyond this order are smoother than any method here can see.
    static constexpr int kSmoothest = 6;
    /// The sources have broken at a time: each delayed value will, its lag later.
    void break_sources(double time, int order);
    void break_source(std::size_t k, double time, int order);
    /// The first break after `t`; infinite if there is none.
    Break next_break(double t) const;
    double shortest() const;
    /// Where a delayed value jumps: the value before the jump, as a step up to it needs it, or the one behind it.
    void look_behind_jumps(bool behind) { behind_jumps_ = behind; }

    /// All that a run which goes on from `time` needs of the past, as plain numbers; and put back.
    std::vector<double> kept(double time) const;
    /// False: these are not numbers of so many delays.
    bool put_back(const std::vector<double>& numbers);

private:
    struct Piece {
        double from = 0, to = 0;
        std::vector<double> values;
    };
    struct Line {
        double behind = 0, before = 0;
        std::vector<Piece> pieces;
        std::size_t first = 0;      ///< pieces before it are forgotten
        std::vector<Break> breaks;  ///< of the source, ascending
    };
    std::vector<Line> lines_;
    bool behind_jumps_ = false;
};

}  // namespace netloop

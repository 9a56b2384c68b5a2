// SPDX-License-Identifier: Apache-2.0
// Expressions of time alone, enclosed over stretches of time: where a value and its slope lie, whatever happens in between.
#pragma once

#include <functional>
#include <vector>

#include "algebra/graph.hpp"

namespace netloop {

/// A closed interval; infinite ends are unbounded ones. Source of the arithmetic: Moore (1966), Interval Analysis, ch. 2 and 4; rounding is taken care of by
/// making each result wider by a few units of its last place.
struct Range {
    double low = 0, high = 0;
    bool holds_zero() const { return low <= 0 && high >= 0; }
    double size() const;  ///< largest absolute value
};

struct Enclosed {
    Range value, slope;  ///< slope: d(value)/d(time)
};

/// One expression whose only running leaf is the time. Everything else in it stands still and is asked for by renew().
/// Tables of one argument and all operations are enclosed rigorously; tables of more arguments and functions that are called are enclosed by samples of
/// them, with a margin: the one thing here that can miss what is narrower than a sixteenth of a stretch.
class TimeFunction {
public:
    TimeFunction(const Graph& graph, NodeId root);

    /// Takes the values of all leaves but constants and the time. True if any is another than before.
    bool renew(const std::function<double(const Node&)>& leaf);
    Enclosed over(double from, double to) const;
    double at(double time) const { return over(time, time).value.low; }

    /// The first time in (from, to] about which the slope may change its sign; infinite if it keeps it throughout; not a number if that
    /// is not told within some thousand enclosures (a turn takes about 50).
    double next_turn(double from, double to) const;
    /// The first time in (from, to] at which value - level changes its sign, enclosed to a few units of rounding of the time, on the far side of it; infinite
    /// if it does not. A zero at `from` itself does not count.
    double next_crossing(double from, double to, double level) const;

private:
    struct Step {
        Node node;
        std::uint32_t a = 0, b = 0, c = 0;
        double constant = 0;
        std::vector<std::uint32_t> list;  ///< of a call: slots of its arguments
    };
    Enclosed compute(const Step& s, double from, double to) const;
    Enclosed sampled(const Step& s, const std::vector<std::uint32_t>& arguments, double from, double to) const;

    const Graph& graph_;
    std::vector<Step> steps_;
    mutable std::vector<Enclosed> at_;
};

/// The largest expressions below `roots` that run with time and with nothing else that runs (params, modes and memories stand still), but those that run
/// straight: they do nothing within a step that its ends do not show. For a function that repeats itself (sin, cos, tan) of such a part and of other things,
/// the function of the part alone is one of them, too. Comparisons and logic are looked through.
std::vector<NodeId> signals_below(Graph& graph, const std::vector<NodeId>& roots);
/// Whether an expression runs with time and with nothing else that runs.
bool is_of_time_alone(const Graph& graph, NodeId root);

}  // namespace netloop

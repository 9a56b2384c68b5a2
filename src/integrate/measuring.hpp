// SPDX-License-Identifier: Apache-2.0
// Measures of a scenario, followed while the run goes on: within every step as closely as they ask for, and at both sides of every event.
#pragma once

#include <functional>
#include <vector>

#include "events/events.hpp"
#include "solve/signals.hpp"

namespace netloop {

class Measuring {
public:
    /// Gives the states at a time within the step at hand.
    using Interpolate = std::function<void(double time, State& state)>;
    /// Solves what is no state from the states.
    using Solve = std::function<void(State& state)>;

    /// `tolerance`: of the run; it is the measures', too.
    Measuring(Evaluation& evaluation, double tolerance);

    /// Nothing to follow: the other calls do nothing.
    bool none() const { return followed_.empty(); }
    /// At the start of a run; params are settled.
    void begin(const State& s);
    /// A step from `from` to `to` was accepted. It is cut where a signal of time turns and where a window begins or ends; each piece is halved until parabolas
    /// through three points of each followed value are as close to it as the tolerance asks. Then integrals by Simpson's rule, extremes by golden sections,
    /// moments at which a condition changes by halving.
    void step(double from, double to, const Interpolate& interpolate, const Solve& solve);
    /// Something has just happened at the state's time: what jumped is looked at anew.
    void jump(const State& s);
    /// A row is recorded, with the evaluation at it: no extreme lies within what the rows show.
    void row(const State& s);
    /// Puts the results into the memories that the measures read. `s`: the end of the run.
    void finish(State s, const Solve& solve);

private:
    struct Followed {
        MeasureKind kind = MeasureKind::final;
        std::uint32_t memory = 0;
        double from_time = 0, to_time = 0;
        double best = 0, best_time = 0;  ///< of an extreme
        double sum = 0, length = 0;      ///< of an integral
        double result = 0;               ///< of the others
        double size = 0;                 ///< the largest value seen
        bool any = false;                ///< it has a result
        bool held = false;               ///< the condition held when last looked at
        double unsolved = 0;             ///< the most that was seen between the value with what the integrator guesses of what is no state, and the solved one
        bool is_extreme() const;
        double sign() const;  ///< -1 of those that ask for the smallest
        bool can_win(double value) const;
    };
    /// All accumulators at one time.
    struct Look {
        double time = 0;
        std::vector<double> value;
        std::vector<char> holds;
        std::vector<double> margin;  ///< of all comparisons, one accumulator's after another's
    };
    void read(double time, Look& look);
    bool must_solve(const Look& look) const;
    Look look_at(double time, const Interpolate& interpolate, const Solve& solve);
    void piece(const Look& a, const Look& b, const Interpolate& interpolate, const Solve& solve);
    void keep_sides(const Look& before, Look& now, bool at_event = false);
    bool is_close(const Look& a, const Look& m, const Look& b) const;
    void leaf(const Look& a, const Look& m, const Look& b, const Interpolate& interpolate, const Solve& solve);
    void change(std::size_t i, const Look& a, const Look& b, const Interpolate& interpolate, const Solve& solve);
    void summit(std::size_t i, const Look& a, const Look& m, const Look& b, const Interpolate& interpolate, const Solve& solve);
    bool is_within(const Followed& f, double time) const { return time >= f.from_time && time <= f.to_time; }
    void take(Followed& f, double time, double value, bool holds);

    Evaluation& e_;
    double tolerance_;
    std::vector<Followed> followed_;
    std::vector<Turns> turns_;
    const CompiledModel* turns_of_ = nullptr;
    bool solved_ = false;   ///< something that the equations settle is read
    bool closely_ = false;  ///< every look is solved: an extreme is being searched for
    Look last_;             ///< at the end of the last step, or behind the last event
    std::vector<double> margin_size_;
    State at_;
};

}  // namespace netloop

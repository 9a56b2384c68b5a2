// Measures of a scenario, followed while the run goes on: at five points of every step, at both sides of every event, and closer where it matters.
#pragma once

#include <functional>
#include <vector>

#include "moments/moments.hpp"

namespace netloop {

class Measuring {
public:
    /// Gives the state at a time within the step at hand.
    using Interpolate = std::function<void(double time, State& state)>;

    explicit Measuring(Evaluation& evaluation) : e_(evaluation) {}

    /// Nothing to follow: the other calls do nothing.
    bool none() const { return followed_.empty(); }
    /// At the start of a run; params are settled.
    void begin(const State& s);
    /// A step from `from` to `to` was accepted. Smooth within: integrals by Boole's rule (error with the sixth power of the step), extremes by golden sections,
    /// moments by halving, all on the integrator's interpolant.
    void step(double from, double to, const Interpolate& interpolate);
    /// Something has just happened at the state's time: what jumped is looked at anew.
    void jump(const State& s);
    /// Puts the results into the memories that the measures read.
    void finish();

private:
    struct Followed {
        MeasureKind kind = MeasureKind::final;
        std::uint32_t memory = 0;
        double from_time = 0, to_time = 0;
        double best = 0, best_time = 0;  ///< of an extreme
        double sum = 0, length = 0;      ///< of an integral
        double result = 0;               ///< of the others
        bool any = false;                ///< it has a result
        bool held = false;               ///< the condition held when last looked at
    };
    /// Value and condition of every accumulator at a state.
    void look(const State& s, std::vector<double>& value, std::vector<char>& holds);
    void take(Followed& f, double time, double value, bool holds);

    Evaluation& e_;
    std::vector<Followed> followed_;
    std::vector<double> now_;
    std::vector<char> holds_;
    State at_;
};

}  // namespace netloop

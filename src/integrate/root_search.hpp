// Where the conditions of a model change sign within a step.
#pragma once

#include <functional>
#include <vector>

#include "solve/evaluation.hpp"

namespace netloop {

class RootSearch {
public:
    explicit RootSearch(Evaluation& evaluation);

    bool none() const { return now_.empty(); }
    /// Values at the beginning; a condition that is exactly 0 there is looked at from the next step on.
    void start(double t, const std::vector<double>& z, const std::vector<double>& rates);
    /// Is there a change of sign between `before` and `now`? The first one is enclosed to a hundred units of rounding by the Illinois
    /// method (Dowell and Jarratt, 1971, BIT 11, 168-174). `interpolate` gives z and rates within the step.
    bool find(double before, double now, const std::function<void(double t, std::vector<double>& z, std::vector<double>& rates)>& interpolate);
    double time() const { return time_; }
    /// Per root function: +1 rising, -1 falling, 0 no crossing.
    const std::vector<int>& crossings() const { return crossings_; }

private:
    Evaluation& e_;
    std::vector<double> before_, now_, trial_, scratch_, z_, rates_;
    std::vector<int> crossings_;
    double time_ = 0;
};

}  // namespace netloop

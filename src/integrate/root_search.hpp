// SPDX-License-Identifier: Apache-2.0
// Where the conditions of a model change sign within a step.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <vector>

#include "evaluate/prune.hpp"
#include "solve/evaluation.hpp"

namespace netloop {

/// One root function that is searched: of a comparison its value, of a whole-number condition its distance from one of its ends.
struct ActiveRoot {
    std::size_t root = 0, condition = 0;
    enum class Kind : char { value, above, below } kind = Kind::value;
};
/// Those that something looks at in the present stages and that run with the motion: what is held or clocked needs no search.
void find_active_roots(Evaluation& evaluation, std::vector<ActiveRoot>& active);

/// What a method knows of z and z' within its last step.
class StepPolynomial {
public:
    virtual ~StepPolynomial() = default;
    virtual void values(double t, std::vector<double>& z, std::vector<double>& rates) const = 0;
    /// Of these members of z alone; the others stay as they are.
    virtual void values_of(const std::vector<std::uint32_t>& members, double t, std::vector<double>& z, std::vector<double>& rates) const = 0;
};

class RootSearch {
public:
    explicit RootSearch(Evaluation& evaluation);

    bool none() const { return now_.empty(); }
    /// Nothing is searched before the next event.
    bool idle() const { return none() || active_.empty(); }
    /// Values at the beginning. One that is 0 but for rounding counts as being on the side that its mode says.
    void start(double t, const std::vector<double>& z, const std::vector<double>& rates);
    /// Is there a change of sign between `before` and `now`? The first one is enclosed to a hundred units of rounding by inverse
    /// quadratic interpolation with halving (Brent, 1973, Algorithms for Minimization without Derivatives, ch. 4). `step` gives z and rates within
    /// the step. Two changes of sign within the step are found if the value in between runs like a parabola: it is looked at in the middle and where a parabola
    /// has its summit; the same once more between the beginning and a crossing that was found.
    bool find(double before, double now, const StepPolynomial& step);
    double time() const { return time_; }
    /// Per root function: +1 rising, -1 falling, 0 no crossing.
    const std::vector<int>& crossings() const { return crossings_; }

    /// Behind the event that find() found, at which nothing jumped: the rest of its step is searched next, by find_rest().
    void leave_rest(const StepPolynomial& step);
    bool has_rest() const { return has_rest_; }
    bool find_rest(double now, const StepPolynomial& step);

private:
    void take_sides();
    bool is_unclear(const std::vector<double>& g) const;
    /// Narrows [before, end], within which `now_` says what crosses, to the first crossing: time_ and crossings_.
    void enclose(double before, double end, double tolerance, const std::function<void(double, std::vector<double>&)>& values_at);
    /// While few of many functions cross, they alone are followed: what one reads, and the program of its condition.
    struct Narrow {
        Program program;
        std::vector<std::uint32_t> members;
    };
    const Narrow& narrow(std::size_t condition);
    void take_narrow();
    void narrow_values(double t, const StepPolynomial& step, std::vector<double>& g);
    /// A time within the step at which a value that has one sign at both ends and in the middle has the other; 0 if none is seen.
    double look_for_dip(double before, double now, const std::function<void(double, std::vector<double>&)>& values_at);

    Evaluation& e_;
    std::vector<ActiveRoot> active_;
    std::vector<std::size_t> crossing_;
    std::optional<Pruner> pruner_;
    std::map<std::size_t, Narrow> narrow_;  ///< by condition
    std::vector<ActiveRoot> narrow_roots_;  ///< those followed alone; empty: all are looked at
    std::vector<std::uint32_t> narrow_members_;
    std::vector<double> low_, high_, before_, now_, trial_, middle_, z_, rates_, largest_;
    std::vector<char> near_;  ///< per function: it was about 0 when the search began, and has not left there yet
    std::vector<int> crossings_;
    double time_ = 0, rest_from_ = 0;
    bool has_rest_ = false;
    bool reads_solved_ = false;  ///< one of those searched reads what the equations settle
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The small interface behind which every variable-step method stands.
#pragma once

#include <algorithm>
#include <cmath>
#include <limits>
#include <memory>
#include <string>
#include <vector>

#include "solve/error_sizes.hpp"
#include "solve/start.hpp"

namespace netloop {

struct StepCounts {
    std::size_t steps = 0, residuals = 0, jacobians = 0, error_failures = 0, convergence_failures = 0;
    int last_order = 0;
    double last_step = 0;
};

class Integrator {
public:
    enum class Stopped { stepped, root, target };

    virtual ~Integrator() = default;
    /// Begins, or begins anew after an event, from consistent values.
    virtual void restart(const State& s) = 0;
    /// The length of the first step behind the next restart, s, where something is known of it.
    virtual void begin_with(double step) { (void)step; }
    /// Goes on behind an event within or at the end of the last step, from consistent values: what is marked in `jumped` (per member of
    /// z: its value or its rate jumped) begins anew, the rest keeps its history where the method can. False: all began anew.
    virtual bool resume(const State& s, const std::vector<char>& jumped)
    {
        (void)jumped;
        restart(s);
        return false;
    }
    /// Goes on behind an event at which nothing jumped, with the rest of the step that holds it. False: it cannot; restart or resume.
    virtual bool carry_on() { return false; }
    /// Begins with the history of another method, as if it had made the steps itself: states at equal distances `step`, the present one first. False: it has no
    /// use for them; restart.
    virtual bool follow(double step, const std::vector<State>& past)
    {
        (void)step, (void)past;
        return false;
    }
    /// The end of the last step, which an event may lie before.
    virtual double end_of_step() const { return time(); }
    /// The choice of states has changed; the history goes on, since it holds all candidates.
    virtual void states_changed() = 0;
    /// One step, not past `target`. On `root` the time is that of the crossing, and crossings() tells which and which way.
    virtual Stopped step(double target) = 0;
    virtual double time() const = 0;
    /// z and z' at a time within the last step.
    virtual void interpolate(double t, State& s) = 0;
    /// Per root function: +1 rising, -1 falling, 0 no crossing.
    virtual const std::vector<int>& crossings() const = 0;
    virtual StepCounts counts() const = 0;
    /// What it found about the problem: that it suits another kind of method better.
    enum class Advice { keep, stiff, held };  ///< held: stability bounds its steps, which others might make longer
    virtual Advice advice() const { return Advice::keep; }
    /// Which methods it took, from when on and why; empty where that was the user's choice.
    virtual std::string story() const { return {}; }
    /// The members of z that limit the step most, worst first, as indices; for messages.
    virtual std::vector<std::size_t> worst() const = 0;
    static constexpr std::size_t kNone = static_cast<std::size_t>(-1);
    /// The equation that Newton's iteration of the last step had most to do with, into the residuals, and the corrections that it took; kNone where one was
    /// enough, or for methods that solve none. Of steps before which look_closely(true) was called.
    struct Stubborn {
        std::size_t residual = static_cast<std::size_t>(-1);
        int corrections = 0;
        bool other_length = false;  ///< the matrix was made for another length of step: no equation is to blame
    };
    virtual void look_closely(bool look) { (void)look; }
    virtual Stubborn stubborn() const { return {}; }
    /// The state that was largest in the error test of the last step; kNone if there is none. One pass over the states, asked for while the run goes on.
    virtual std::size_t limiting() const
    {
        std::vector<std::size_t> list = worst();
        return list.empty() ? kNone : list[0];
    }
};

struct IntegratorSettings {
    double tolerance = 1e-6;
    std::vector<OwnTolerance> own;  ///< of single quantities; SUNDIALS' do not look at them
    /// Those of the system at hand, for the tolerance of the run: found once for all methods that a run tries.
    std::shared_ptr<const ErrorSizes> sizes{};
    /// Fixed step: explicit Euler, classical Runge-Kutta, implicit Euler.
    enum class Method { automatic, bdf, adams, sdirk, ida, cvode, euler, rk4, implicit_euler } method = Method::automatic;
    std::string name = "ida";  ///< of the method, as the user gives it
    Evaluator evaluator = Evaluator::automatic;
    int most_order = 12;                                                                              ///< of methods with several; lower ones are for tests
    double step = 0;                                                                                  ///< s, of the fixed-step methods
    enum class Jacobian { exact, one_column_at_a_time, grouped_columns } jacobian = Jacobian::exact;  ///< the others are for comparison
};

/// The state with the largest |e w|; Integrator::kNone if all are zero.
inline std::size_t largest_state(const StateSelection& selection, const std::vector<double>& e, const std::vector<double>& w)
{
    std::size_t largest = Integrator::kNone;
    double most = 0;
    for (std::size_t i = 0; i < e.size(); ++i)
        if (double size = std::abs(e[i] * w[i]); size > most && selection.is_state(i)) most = size, largest = i;
    return largest;
}

inline ErrorSizes error_sizes(const CompiledModel& model, const IntegratorSettings& settings, double tolerance)
{
    return settings.sizes != nullptr && tolerance == settings.tolerance ? *settings.sizes : ErrorSizes(model, settings.own, tolerance);
}

/// Below this no step is tried any more: the time, with the step added, would hardly be another. How far the run goes on is no matter.
inline double least_step(double time)
{
    constexpr double kLeast = 1e-200;  // at 0 s steps may become as short as they need be
    return std::max(4 * std::numeric_limits<double>::epsilon() * std::abs(time), kLeast);
}
/// Attempts at one step, each shorter than the one before.
inline constexpr int kMostFailures = 60;

inline bool has_fixed_step(IntegratorSettings::Method method)
{
    using Method = IntegratorSettings::Method;
    return method == Method::euler || method == Method::rk4 || method == Method::implicit_euler;
}

/// SUNDIALS IDA (variable-order BDF; Hindmarsh et al., 2005, ACM TOMS 31, 363-396) with KLU and our vector kernels.
/// Throws NumericFailure from step() when IDA gives up.
std::unique_ptr<Integrator> make_ida(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings);

/// Our own BDF; see integrate_bdf.cpp. `settings.jacobian` is not looked at: its Jacobian is exact.
std::unique_ptr<Integrator> make_bdf(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings);

/// Our own Adams methods; see adams.cpp. Throws NumericFailure for a system that is not explicit.
std::unique_ptr<Integrator> make_adams(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings);

/// Our own one-step method; see sdirk.cpp.
std::unique_ptr<Integrator> make_sdirk(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings);
/// Those of our own that suit the system, changed on the way as it asks for; see automatic.cpp.
std::unique_ptr<Integrator> make_automatic(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings);

/// SUNDIALS CVODE; see cvode.cpp. Throws NumericFailure for a system that it is not made for.
std::unique_ptr<Integrator> make_cvode(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings);

/// The fixed-step methods. Throws NumericFailure from step() when a value is no longer finite.
std::unique_ptr<Integrator> make_fixed_step(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings);
/// The one that the settings name.
std::unique_ptr<Integrator> make_integrator(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings);

/// Root functions: one for a comparison, two for a whole-number condition.
std::size_t n_root_functions(const CompiledModel& model);
/// For the integrators that search by themselves: all of them, those that need no search at 1.
void root_functions(Evaluation& evaluation, double* g);

}  // namespace netloop

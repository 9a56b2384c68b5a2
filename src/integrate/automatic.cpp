// SPDX-License-Identifier: Apache-2.0
// The choice of the method, made by what the system is and does: a system z' = f(t, z) begins with Adams and goes on with backward
// differences when stability holds its steps, and back; one with equations to be solved in each step takes backward differences; where
// events follow each other closely, the one-step method. And now and then another method is tried for a few steps from where the run is: what brings it on
// faster, by counted operations, goes on.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <exception>

#include "integrate/integrator.hpp"
#include "integrate/stiffness.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

using Method = IntegratorSettings::Method;

class Automatic : public Integrator {
public:
    Automatic(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
        : e_(evaluation), sources_(sources), settings_(settings), explicit_(is_explicit(evaluation.model(), evaluation))
    {
        settings_.sizes = std::make_shared<ErrorSizes>(evaluation.model(), settings.own, settings.tolerance);
        take(explicit_ ? Method::adams : Method::bdf, explicit_                     ? ""
                                                      : evaluation.model().n() == 0 ? "nothing to integrate"
                                                                                    : "equations are solved in each step");
        time_at_probe_ = std::nan("");
    }

    void restart(const State& s) override
    {
        if (s.time > begun_) look_at_events(s.time);
        begun_ = s.time;
        now().restart(s);
    }
    bool resume(const State& s, const std::vector<char>& jumped) override
    {
        double before = begun_;
        if (now().resume(s, jumped)) return true;
        if (s.time > before) look_at_events(s.time);
        begun_ = s.time;
        now().restart(s);
        return false;
    }
    bool carry_on() override { return now().carry_on(); }
    double end_of_step() const override { return now().end_of_step(); }
    void states_changed() override { now().states_changed(); }

    Stopped step(double target) override
    {
        if (advice_ == Advice::stiff && method_ == Method::adams) change(Method::bdf, "stiff");
        if (explicit_ && method_ == Method::bdf && ++steps_since_look_ >= look_after_) look_at_stiffness();
        if (std::isnan(time_at_probe_)) time_at_probe_ = now().time();
        if (--steps_until_look_ == 0 && between_events_ && rescued_ == 0 && now().time() == now().end_of_step()) look_for_faster(target);
        if (steps_until_look_ == 0) steps_until_look_ = 1;
        Stopped stopped = step_or_change(target);
        between_events_ = stopped == Stopped::stepped;
        advice_ = stopped == Stopped::stepped ? now().advice() : Advice::keep;
        held_ = held_ || advice_ == Advice::held;
        return stopped;
    }

    double time() const override { return now().time(); }
    void interpolate(double t, State& s) override { now().interpolate(t, s); }
    const std::vector<int>& crossings() const override { return now().crossings(); }
    std::vector<std::size_t> worst() const override { return now().worst(); }
    std::size_t limiting() const override { return now().limiting(); }
    void look_closely(bool look) override { now().look_closely(look); }
    Stubborn stubborn() const override { return now().stubborn(); }
    std::string story() const override { return story_; }

    StepCounts counts() const override
    {
        StepCounts sum;
        for (const auto& [method, integrator] : made_) {
            StepCounts c = integrator->counts();
            sum.steps += c.steps;
            sum.residuals += c.residuals;
            sum.jacobians += c.jacobians;
            sum.error_failures += c.error_failures;
            sum.convergence_failures += c.convergence_failures;
        }
        sum.last_order = now().counts().last_order;
        sum.last_step = now().counts().last_step;
        return sum;
    }

private:
    Integrator& now() const { return *current_; }

    // Where a method with history cannot go on, the one-step method often can: it looks at nothing behind, and damps what the other has gathered. After a while
    // the other gets another chance, each time a longer while.
    Stopped step_or_change(double target)
    {
        if (rescued_ > 0 && method_ == Method::sdirk && --rescued_ == 0) change(Method::bdf, "beyond it");
        try {
            return now().step(target);
        } catch (const NumericFailure&) {
            if (method_ == Method::sdirk) throw;
            std::exception_ptr failure = std::current_exception();
            try {
                change(Method::sdirk, "the other could not go on", true);
                rescued_ = rescue_;
                rescue_ *= 2;
                return now().step(target);
            } catch (const NumericFailure&) {
                std::rethrow_exception(failure);
            }
        }
    }

    static constexpr double kSolve = 4;  // operations for each entry of the matrix

    // What a method has done, in operations: evaluations with what is solved behind them, matrices, and the vectors of a step.
    double work_of(Method method) const
    {
        auto found = std::find_if(made_.begin(), made_.end(), [&](const auto& m) { return m.first == method; });
        if (found == made_.end()) return 0;
        const CompiledModel& m = e_.model();
        constexpr double kFactor = 30, kVectors = 30;  // operations for each entry of the matrix, and for each member of z
        auto entries = static_cast<double>(m.pattern.n_entries()), n = static_cast<double>(m.n());
        StepCounts c = found->second->counts();
        double residual = method == Method::adams ? static_cast<double>(m.residual.n_operations()) : work_of_evaluation();
        double jacobian = static_cast<double>(m.jacobian.n_operations()) + (method == Method::adams ? 0 : kFactor * entries);
        return static_cast<double>(c.residuals) * residual + static_cast<double>(c.jacobians) * jacobian + static_cast<double>(c.steps) * kVectors * n;
    }

    // The time that a method gains by a unit of work, once it is under way from the present state; it may do so much of it.
    double pace_of(Method method, double target, double most)
    {
        Integrator& other = get(method);
        State s = state_now();
        prepare(other);
        other.restart(s);
        double begun = work_of(method), before = begun, at = s.time, pace = 0;
        try {
            while (work_of(method) - begun < most) {
                Stopped stopped = other.step(target);
                double done = work_of(method);
                if (other.time() > at && done > before) pace = (other.time() - at) / (done - before);
                at = other.time();
                before = done;
                if (stopped != Stopped::stepped) break;
            }
        } catch (const NumericFailure&) {
            return 0;
        }
        return pace;
    }

    void look_for_faster(double target)
    {
        constexpr std::size_t kOften = 20;  // steps
        steps_until_look_ = kOften;
        constexpr double kRoom = 20;  // steps that lie ahead at least
        if (target - now().time() < kRoom * now().counts().last_step) return;
        // Adams' own advice sees most of what is stiff, and earlier
        double patience = method_ == Method::adams ? 3 : 1;
        if (method_ == Method::adams && !held_) return;
        if (work_of(method_) - work_at_probe_ >= patience * static_cast<double>(evaluations_between_probes_) * work_of_evaluation()) probe(target);
    }
    double work_of_evaluation() const
    {
        return static_cast<double>(e_.model().residual.n_operations()) + kSolve * static_cast<double>(e_.model().pattern.n_entries());
    }

    void probe(double target)
    {
        // of the work since the last probe, that another may cost, and where stability holds the steps; how much faster it must be
        constexpr double kShare = 0.08, kShareOfHeld = 0.15, kWorthIt = 1.25;
        constexpr std::size_t kSeldom = 8000;
        double done = work_of(method_) - work_at_probe_, gained = now().time() - time_at_probe_;
        double own = done > 0 ? gained / done : HUGE_VAL, fastest = kWorthIt * own, share = method_ == Method::adams ? kShareOfHeld : kShare;
        Method best = method_;
        auto try_one = [&](Method m) {
            if (double pace = pace_of(m, target, share * done); pace > fastest) fastest = pace, best = m;
        };
        bool held = method_ == Method::adams && held_;
        bool one_step = method_ == Method::bdf || held, bdf = (method_ == Method::sdirk && !by_events_) || held;
        if (bdf) try_one(Method::bdf);
        if (one_step) try_one(Method::sdirk);
        evaluations_between_probes_ = std::min(kSeldom, evaluations_between_probes_ + evaluations_between_probes_ / 2);
        held_ = false;
        if (best != method_) {
            by_events_ = false;
            change(best, "faster by trial");
            return;
        }
        work_at_probe_ = work_of(method_);
        time_at_probe_ = now().time();
    }

    Integrator& get(Method method)
    {
        auto found = std::find_if(made_.begin(), made_.end(), [&](const auto& m) { return m.first == method; });
        if (found != made_.end()) return *found->second;
        made_.emplace_back(method, method == Method::adams   ? make_adams(e_, sources_, settings_)
                                   : method == Method::sdirk ? make_sdirk(e_, sources_, settings_)
                                                             : make_bdf(e_, sources_, settings_));
        return *made_.back().second;
    }

    void take(Method method, const std::string& why)
    {
        method_ = method;
        current_ = &get(method);
        work_at_probe_ = work_of(method);
        time_at_probe_ = begun_;
        tell(why);
    }

    void change(Method method, const std::string& why, bool solved_anew = false)
    {
        State s = state_now();
        // what is no state was solved as loosely as the tolerance allows: where it is curved, no method finds on from there
        if (solved_anew) e_.solve_rest(s.time, s.z, s.rates);
        begun_ = s.time;
        std::vector<State> past;
        double step = now().counts().last_step;
        if (!solved_anew && method_ != Method::sdirk && method != Method::sdirk) past = past_states(step);
        prepare(get(method));
        take(method, why);
        if (!now().follow(step, past)) now().restart(s);
        advice_ = Advice::keep;
    }
    // What a method with history leaves to another: as far back as its polynomial is good.
    std::vector<State> past_states(double step)
    {
        constexpr int kMostPast = 4;
        std::vector<State> past;
        int order = std::min(now().counts().last_order, kMostPast);
        for (int j = 0; j <= order && step > 0; ++j) {
            State& s = past.emplace_back(State{0, std::vector<double>(e_.model().n()), std::vector<double>(e_.model().n())});
            now().interpolate(now().time() - j * step, s);
        }
        return past;
    }
    // What the method at hand knows of the next one's beginning.
    void prepare(Integrator& next) const
    {
        constexpr double kLonger = 3, kThanHeld = 6;  // steps of the one-step method against those of methods with history, as they mostly are
        next.begin_with((method_ == Method::adams ? kThanHeld : kLonger) * now().counts().last_step);
    }
    State state_now()
    {
        State s{now().time(), std::vector<double>(e_.model().n()), std::vector<double>(e_.model().n())};
        now().interpolate(s.time, s);
        return s;
    }

    // Would Adams be stable at the steps that backward differences make? Then it is as fast, without a matrix.
    void look_at_stiffness()
    {
        // step times largest rate; where a step with a matrix costs no more, Adams must have room for longer ones
        constexpr double kStable = 0.65, kUsualCost = 2.5;
        const double stable = kStable * std::min(1.0, matrix_step_cost(e_.model()) / kUsualCost);
        steps_since_look_ = 0;
        const CompiledModel& m = e_.model();
        State s{now().time(), std::vector<double>(m.n()), std::vector<double>(m.n())};
        now().interpolate(s.time, s);
        e_.at(s.time, s.z.data(), s.rates.data());
        std::vector<double> weight(m.n());
        for (std::size_t i = 0; i < m.n(); ++i) weight[i] = 1 / (std::abs(s.z[i]) + m.form.z[i].usual);
        if (now().counts().last_step * rate_of_(e_, weight) > stable) return;
        look_after_ *= 2;  // a system on the border is not sent back and forth
        change(Method::adams, "not stiff at the steps it makes");
    }

    // A method with history needs some twenty steps after an event until it is as fast as it can be; the one-step method may need one.
    void look_at_events(double time)
    {
        constexpr std::size_t kLook = 10, kClose = 22, kFar = 10;  ///< events; mean number of steps between them, of either method
        if (e_.model().n() == 0 || ++events_ < kLook) return;
        std::size_t steps = counts().steps - steps_before_;
        steps_before_ = counts().steps;
        events_ = 0;
        begun_ = time;
        if (steps < kClose * kLook && method_ != Method::sdirk) {
            by_events_ = true;
            take(Method::sdirk, fmt::format("an event every {} steps", std::max<std::size_t>(1, steps / kLook)));
        } else if (steps > kFar * kLook && method_ == Method::sdirk && by_events_) {
            by_events_ = false;
            take(Method::bdf, "events have become rare");
        } else if (method_ == Method::sdirk) {
            by_events_ = steps <= kFar * kLook;  // a trial may have come here first: as long as events are close, no other is tried
        }
    }

    void tell(const std::string& why)
    {
        constexpr std::size_t kMost = 6;
        const char* name = method_ == Method::adams ? "adams" : method_ == Method::sdirk ? "sdirk" : "bdf";
        ++n_changes_;
        if (n_changes_ > kMost) return;
        if (n_changes_ == kMost)
            story_ += ", and so on";
        else if (story_.empty())
            story_ = why.empty() ? name : fmt::format("{} ({})", name, why);
        else
            story_ += fmt::format(", from {:.4g} s {} ({})", begun_, name, why);
    }

    Evaluation& e_;
    const SourceSet& sources_;
    IntegratorSettings settings_;
    bool explicit_;
    Method method_ = Method::bdf;
    std::vector<std::pair<Method, std::unique_ptr<Integrator>>> made_;  ///< those that were taken or tried
    Integrator* current_ = nullptr;
    Advice advice_ = Advice::keep;
    RateEstimate rate_of_;
    std::size_t steps_since_look_ = 0, look_after_ = 40;
    double begun_ = 0;  ///< where the present stretch began
    std::size_t events_ = 0, steps_before_ = 0, n_changes_ = 0;
    std::string story_;
    bool held_ = false, by_events_ = false, between_events_ = false;
    std::size_t steps_until_look_ = 20, evaluations_between_probes_ = 1000;
    double work_at_probe_ = 0, time_at_probe_ = 0;
    std::size_t rescued_ = 0, rescue_ = 50;  ///< steps left of the one-step method where it stepped in; how many it gets next time
};

}  // namespace

std::unique_ptr<Integrator> make_automatic(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
{
    return std::make_unique<Automatic>(evaluation, sources, settings);
}

std::unique_ptr<Integrator> make_integrator(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
{
    switch (settings.method) {
        case Method::automatic:
            return make_automatic(evaluation, sources, settings);
        case Method::bdf:
            return make_bdf(evaluation, sources, settings);
        case Method::adams:
            return make_adams(evaluation, sources, settings);
        case Method::sdirk:
            return make_sdirk(evaluation, sources, settings);
        case Method::ida:
            return make_ida(evaluation, sources, settings);
        case Method::cvode:
            return make_cvode(evaluation, sources, settings);
        default:
            return make_fixed_step(evaluation, sources, settings);
    }
}

}  // namespace netloop

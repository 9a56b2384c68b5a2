// SPDX-License-Identifier: Apache-2.0
// Fixed steps, for targets that must keep time: the work of a step is bounded and does not depend on a tolerance.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "integrate/hermite.hpp"
#include "integrate/integrator.hpp"
#include "integrate/root_search.hpp"
#include "integrate/stiffness.hpp"
#include "linear/linear_solver.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

class FixedStep : public Integrator, private StepPolynomial {
public:
    FixedStep(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
        : e_(evaluation),
          m_(evaluation.model()),
          sources_(sources),
          settings_(settings),
          n_(m_.n()),
          explicit_(is_explicit(m_, evaluation)),
          consistent_(evaluation),
          lu_(m_.pattern),
          roots_(evaluation)
    {
        residual_.resize(n_);
    }

    void restart(const State& s) override
    {
        now_ = before_ = s;
        root_ = false;
        roots_.start(s.time, s.z, s.rates);
    }
    void states_changed() override { lu_.forget_pivots(); }

    Stopped step(double target) override
    {
        before_ = now_;
        root_ = false;
        // the last step before a target is shorter; one that would leave a crumb is not cut
        double left = target - now_.time;
        bool at_target = left <= settings_.step * (1 + 1e-9);
        double h = at_target ? left : settings_.step;
        switch (settings_.method) {
            case IntegratorSettings::Method::euler:
                explicit_euler(h);
                break;
            case IntegratorSettings::Method::rk4:
                runge_kutta(h);
                break;
            default:
                implicit_euler(h);
                break;
        }
        if (at_target) now_.time = target;
        ++counts_.steps;
        counts_.last_step = h;
        for (std::size_t i = 0; i < n_; ++i)
            if (!std::isfinite(now_.z[i])) fail(i, h);
        root_ = roots_.find(before_.time, now_.time, *this);
        if (root_) return Stopped::root;
        return at_target ? Stopped::target : Stopped::stepped;
    }

    double time() const override { return root_ ? roots_.time() : now_.time; }
    void interpolate(double t, State& s) override
    {
        s.time = t;
        values(t, s.z, s.rates);
    }
    const std::vector<int>& crossings() const override { return roots_.crossings(); }
    StepCounts counts() const override { return counts_; }
    std::vector<std::size_t> worst() const override { return {}; }
    std::string story() const override
    {
        if (n_divided_ == 0) return {};
        return fmt::format("{}; {} of {} steps did not settle as a whole and were divided, into {} at most", settings_.name, n_divided_, counts_.steps,
                           1u << deepest_);
    }

private:
    void values(double t, std::vector<double>& z, std::vector<double>& rates) const override
    {
        Hermite at(before_, now_, t);
        for (std::size_t i = 0; i < n_; ++i) at(i, m_.form.z[i].kind == ZEntry::Kind::state, z[i], rates[i]);
    }
    void values_of(const std::vector<std::uint32_t>& members, double t, std::vector<double>& z, std::vector<double>& rates) const override
    {
        Hermite at(before_, now_, t);
        for (std::uint32_t i : members) at(i, m_.form.z[i].kind == ZEntry::Kind::state, z[i], rates[i]);
    }

    // states of `to` = states of the beginning + h * rates of `slope`; everything else is solved from them
    void move(State& to, double h, const std::vector<double>& slope, double time)
    {
        for (std::size_t i = 0; i < n_; ++i)
            if (e_.is_state(i)) {
                to.z[i] = before_.z[i] + h * slope[i];
                constexpr double kRunAway = 1e60;  // told as what it is before an equation overflows
                if (!(std::abs(to.z[i]) < kRunAway * m_.form.z[i].usual)) now_.z[i] = to.z[i], fail(i, h);
            }
        to.time = time;
        ++counts_.residuals;
        if (!explicit_) {
            consistent_.solve(to, sources_);
            return;
        }
        e_.at(time, to.z.data(), to.rates.data());
        if (!explicit_rates(e_, time, to.rates.data())) fail_residual(time, to.rates);
    }

    void explicit_euler(double h) { move(now_, h, before_.rates, before_.time + h); }

    // The classical method of order 4 (Kutta, 1901).
    void runge_kutta(double h)
    {
        std::vector<double> k1 = before_.rates, sum = k1;
        State stage = before_;
        auto add = [&](double weight) {
            for (std::size_t i = 0; i < n_; ++i) sum[i] += weight * stage.rates[i];
        };
        move(stage, h / 2, k1, before_.time + h / 2);
        add(2);
        std::vector<double> k = stage.rates;
        move(stage, h / 2, k, before_.time + h / 2);
        add(2);
        k = stage.rates;
        move(stage, h, k, before_.time + h);
        add(1);
        now_ = stage;
        move(now_, h / 6, sum, before_.time + h);
    }

    // The implicit Euler method. Newton's iteration begins at the values of the beginning and has a bounded count of turns; what a step leaves over is looked
    // at, never taken over in silence. Where the iteration does not settle (a corner of max or clamp, a root law near zero), the step is halved, and the halves
    // may be. Source: Deuflhard and Bornemann (2002), Scientific Computing with Ordinary Differential Equations, sec. 6.4.
    void implicit_euler(double h)
    {
        constexpr int kDeepest = 8;  // 256 sub-steps
        int depth = 0;
        std::uint32_t done = 0;  // in units of the finest sub-step
        constexpr std::uint32_t kWhole = 1u << kDeepest;
        State from = before_;
        while (done < kWhole) {
            std::uint32_t part = kWhole >> depth;
            double to = done + part == kWhole ? before_.time + h : before_.time + h * static_cast<double>(done + part) / kWhole;
            if (settle(from, to)) {
                done += part;
                from = now_;
                // the next pair of sub-steps may be one again
                while (depth > 0 && done % (kWhole >> (depth - 1)) == 0) --depth;
                continue;
            }
            if (++depth > kDeepest) fail_to_settle(from.time, to - from.time);
            deepest_ = std::max(deepest_, depth);
            if (done == 0 && depth == 1) ++n_divided_;
            lu_.forget_pivots();
        }
    }

    // z and rates at `to`, by one step from `from`, into now_. False if it does not settle.
    bool settle(const State& from, double to)
    {
        constexpr int kMostTurns = 12;   // at a corner one may lead farther off before the next leads back
        constexpr double kClose = 1e-5;  // of a quantity's value or usual size: far below what such a step leaves out
        constexpr double kFast = 0.05;   // corrections shrink by this: the matrix at hand serves the next turn too
        double h = to - from.time;
        lost_ = n_;
        now_ = from;
        now_.time = to;
        std::fill(now_.rates.begin(), now_.rates.end(), 0.0);
        double before = HUGE_VAL;
        bool have_matrix = false;
        for (int turn = 0; turn < kMostTurns; ++turn) {
            e_.at(to, now_.z.data(), now_.rates.data());
            ++counts_.residuals;
            if (!e_.residual(residual_.data())) {
                if (turn == 0) fail_residual(to, now_.rates);
                return false;
            }
            if (!have_matrix) {
                ++counts_.jacobians;
                e_.jacobian(1 / h, matrix_);
                Stopwatch watch(e_.shares.algebra);
                if (!lu_.factor(matrix_)) {
                    lost_ = lu_.lost();
                    return false;
                }
                have_matrix = true;
            }
            {
                Stopwatch watch(e_.shares.algebra);
                lu_.solve(residual_.data());
            }
            double size = 0;
            for (std::size_t i = 0; i < n_; ++i) {
                double share = std::abs(residual_[i]) / std::max(std::abs(now_.z[i]), m_.form.z[i].usual);
                if (!(share <= size)) size = share, worst_ = i;
                now_.z[i] -= residual_[i];
                now_.rates[i] -= residual_[i] / h;
            }
            if (!std::isfinite(size)) return false;
            if (size <= kClose) return true;
            have_matrix = size < kFast * before && turn > 0;
            before = size;
        }
        return false;
    }

    [[noreturn]] void fail_to_settle(double time, double h)
    {
        std::string what = lost_ < n_
                               ? fmt::format("the equations lose their rank: nothing settles {}", describe_z(m_, lost_, now_.z[lost_]))
                               : fmt::format("the equations of a step of {:g} s do not settle, least of all {}", h, describe_z(m_, worst_, now_.z[worst_]));
        throw NumericFailure("run-failed", fmt::format("at {:.9g} s: {}", time, what),
                             "give a shorter step; a variable one (bdf, sdirk) shows what happens there");
    }

    [[noreturn]] void fail_residual(double time, const std::vector<double>& rates)
    {
        std::string fault = describe_not_finite(e_, sources_, time, before_.z.data(), rates.data());
        throw NumericFailure("run-failed", fmt::format("at {:.9g} s: an equation has no finite value{}{}", time, fault.empty() ? "" : "\n      ", fault));
    }
    [[noreturn]] void fail(std::size_t i, double h)
    {
        throw NumericFailure("run-failed", fmt::format("at {:.9g} s: {} after a step of {:g} s", before_.time, describe_z(m_, i, now_.z[i]), h),
                             "the step is too long for this method: give a shorter one, or take a method for stiff systems (implicit-euler, bdf)");
    }

    Evaluation& e_;
    const CompiledModel& m_;
    const SourceSet& sources_;
    IntegratorSettings settings_;
    std::size_t n_;
    bool explicit_;  ///< rates by evaluation alone
    ConsistentSolver consistent_;
    LinearSolver lu_;
    RootSearch roots_;
    State before_, now_;
    bool root_ = false;
    std::vector<double> residual_, matrix_;
    StepCounts counts_;
    std::size_t n_divided_ = 0, worst_ = 0, lost_ = 0;  ///< of the step that did not settle: least settled; settled by nothing, n if there is none
    int deepest_ = 0;
};

}  // namespace

std::unique_ptr<Integrator> make_fixed_step(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
{
    return std::make_unique<FixedStep>(evaluation, sources, settings);
}

}  // namespace netloop

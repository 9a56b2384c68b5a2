// SPDX-License-Identifier: Apache-2.0
// Our own backward differentiation formulas of orders 1 to 5, variable step, for F(t, z, z') = 0, in fixed-leading-coefficient form.
// Source: Brenan, Campbell and Petzold (1989), Numerical Solution of Initial-Value Problems in Differential-Algebraic Equations,
// ch. 5; its step and order control. Different from there: the error norm is the largest over the parts of the machine, so that it
// does not get more lenient as the machine grows; the exact Jacobian is cheap here and renewed early; members of z that are no
// states are left out of the error test; denormal numbers are flushed while a step is made.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include "integrate/integrator.hpp"
#include "integrate/rebase.hpp"
#include "integrate/root_search.hpp"
#include "integrate/step_equations.hpp"
#include "solve/error_sizes.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"
#include "solve/flush_denormals.hpp"
#include "solve/vector_loops.hpp"

namespace netloop {
namespace {

constexpr int kMostOrder = 5;
/// Where the run chooses the states, errors of positions come back as errors of what is tied to them, and add up over the changes: at one tolerance such runs
/// come out a decade less exact than those of the one-step method. With this factor they are alike.
constexpr double kOfMechanisms = 0.1;
constexpr double kRoundoff = std::numeric_limits<double>::epsilon();

class Bdf : public Integrator, private StepPolynomial {
public:
    Bdf(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
        : e_(evaluation),
          m_(evaluation.model()),
          sources_(sources),
          settings_(settings),
          tolerance_(m_.form.choices.empty() ? settings.tolerance : kOfMechanisms * settings.tolerance),
          n_(m_.n()),
          most_order_(std::clamp(settings.most_order, 1, kMostOrder)),
          equations_(evaluation, counts_, 0.1),
          norm_(m_),
          sizes_(error_sizes(m_, settings, tolerance_)),
          y_(evaluation.z()),
          yp_(evaluation.rates()),
          roots_(evaluation)
    {
        for (std::size_t j = 0; j < phi_.size(); ++j) {
            phi_[j].assign(n_, 0.0);
            phi_data_[j] = phi_[j].data();
        }
        for (auto* v : {&e_sum_, &delta_, &weight_}) v->assign(n_, 0.0);
    }

    void restart(const State& s) override
    {
        y_ = e_.z();
        yp_ = e_.rates();
        x_ = s.time;
        phi_[0] = s.z;
        phi_[1] = s.rates;  // becomes h z' when the first step is known
        fresh_ = true;
        root_ = resumed_ = false;
        equations_.forget_matrix();
        k_ = 1;
        k_used_ = 0;
        roots_.start(x_, s.z, s.rates);
        set_weights();
    }

    // What jumped goes on from a straight line with its new value and slope; the polynomials of the rest are written over the event
    // instead of the last point.
    bool resume(const State& s, const std::vector<char>& jumped) override
    {
        double back = x_ - s.time;
        Jumped count = count_jumped(e_, jumped);
        if (fresh_ || k_used_ < 1 || count.most || back < 0 || psi_[0] - back < kNearestEvent * psi_[0]) {
            restart(s);
            return false;
        }
        rebase(n_, phi_data_.data(), psi_.data(), k_used_, back);
        for (std::size_t i = 0; i < n_; ++i) {
            if (jumped[i] == 0) continue;
            phi_[0][i] = s.z[i];
            phi_[1][i] = e_.is_state(i) ? psi_[0] * s.rates[i] : 0;
            for (int j = 2; j <= kMostOrder; ++j) phi_[at(j)][i] = 0;
        }
        x_ = s.time;
        k_ = k_used_ = std::min(k_, k_used_);
        h_ = std::min(std::max(h_, h_before_cut_), kBeyondEvent * psi_[0]);
        same_ = 0;
        h_used_ = 0;
        growing_ = false;
        resumed_ = true;
        root_ = false;
        set_weights();
        roots_.start(x_, s.z, s.rates);
        return true;
    }

    bool follow(double step, const std::vector<State>& past) override
    {
        if (past.size() < 2 || n_ == 0) return false;
        restart(past[0]);
        int order = std::min(static_cast<int>(past.size()) - 1, most_order_);
        backward_differences(
            n_, past, order, [](const State& s) { return s.z.data(); }, phi_data_.data());
        for (int j = 0; j <= kMostOrder; ++j) psi_[at(j)] = (j + 1) * step;
        k_ = k_used_ = order;
        h_ = step;
        same_ = 0;
        h_used_ = 0;
        fresh_ = growing_ = false;
        resumed_ = true;
        return true;
    }

    bool carry_on() override
    {
        if (fresh_ || !root_) return false;
        roots_.leave_rest(*this);
        root_ = false;
        return true;
    }
    double end_of_step() const override { return x_; }

    void states_changed() override { equations_.states_changed(); }

    Stopped step(double target) override
    {
        FlushDenormals flush;
        if (roots_.has_rest()) {  // of a step that an event lay in
            root_ = roots_.find_rest(x_, *this);
            if (root_) return Stopped::root;
            return x_ >= target - 1e-12 * std::abs(target) ? Stopped::target : Stopped::stepped;
        }
        if (n_ == 0) return free_step(target);
        if (fresh_) begin(target);
        double before = x_;
        bool at_target = false;
        h_before_cut_ = 0;
        if (x_ + h_ * (1 + 1e-10) >= target) h_before_cut_ = h_, h_ = target - x_, at_target = true;
        attempt(target, at_target);
        if (at_target && x_ >= target - 1e-12 * std::abs(target)) {
            x_ = target;
        } else {
            at_target = false;
        }
        if (find_root(before)) return Stopped::root;
        return at_target ? Stopped::target : Stopped::stepped;
    }

    double time() const override { return root_ ? roots_.time() : x_; }

    void interpolate(double t, State& s) override
    {
        s.time = t;
        if (n_ == 0) return;
        values(t, s.z, s.rates);
    }

    const std::vector<int>& crossings() const override { return roots_.crossings(); }
    StepCounts counts() const override { return counts_; }

    void look_closely(bool look) override { equations_.look(look); }
    Stubborn stubborn() const override { return equations_.most_stubborn(weight_.data()); }
    std::vector<std::size_t> worst() const override { return worst_first(e_sum_, weight_); }
    std::size_t limiting() const override { return largest_state(e_.selection(), e_sum_, weight_); }

private:
    void set_weights() { sizes_.weigh(tolerance_, phi_[0].data(), weight_.data()); }

    // --- a step

    void begin(double target)
    {
        fresh_ = false;
        double distance = std::max(target - x_, kRoundoff * std::abs(x_));
        h_ = norm_.first_step(weight_.data(), phi_[1].data(), distance);
        for (std::size_t i = 0; i < n_; ++i) phi_[1][i] *= h_;
        psi_[0] = h_;
        k_ = 1;
        k_used_ = 0;
        h_used_ = 0;
        same_ = 0;
        growing_ = true;
        h_begun_ = h_;
    }

    void coefficients()
    {
        if (h_ != h_used_ || k_ != k_used_) same_ = 0;
        same_ = std::min(same_ + 1, k_used_ + 2);
        if (k_ + 1 >= same_) {
            beta_[0] = alpha_[0] = sigma_[0] = 1;
            gamma_[0] = 0;
            double span = h_;
            for (int i = 1; i <= k_; ++i) {
                double old = psi_[at(i - 1)];
                psi_[at(i - 1)] = span;
                beta_[at(i)] = beta_[at(i - 1)] * psi_[at(i - 1)] / old;
                span = old + h_;
                alpha_[at(i)] = h_ / span;
                sigma_[at(i)] = i * sigma_[at(i - 1)] * alpha_[at(i)];
                gamma_[at(i)] = gamma_[at(i - 1)] + alpha_[at(i - 1)] / h_;
            }
            psi_[at(k_)] = span;
        }
        double alpha_s = 0, alpha_0 = 0;
        for (int i = 0; i < k_; ++i) {
            alpha_s -= 1.0 / (i + 1);
            alpha_0 -= alpha_[at(i)];
        }
        cj_ = -alpha_s / h_;
        error_factor_ = std::max(std::abs(alpha_[at(k_)] + alpha_s - alpha_0), alpha_[at(k_)]);
        scaled_ = false;
    }

    void take_back()
    {
        for (int i = same_; i <= k_; ++i)
            for (double& v : phi_[at(i)]) v /= beta_[at(i)];
        for (int i = 1; i <= k_; ++i) psi_[at(i - 1)] = psi_[at(i)] - h_;
    }

    static std::size_t at(int i) { return static_cast<std::size_t>(i); }

    // Scales the differences to the new step length, once a step, and predicts from them.
    void predict()
    {
        std::array<double, kMostOrder + 1> scale;
        for (int i = 0; i <= k_; ++i) scale[at(i)] = !scaled_ && i >= same_ ? beta_[at(i)] : 1;
        scaled_ = true;
        netloop::predict(n_, {phi_data_.data(), k_}, scale.data(), gamma_.data(), y_, yp_, e_sum_.data());
    }

    using Solved = StepEquations::Solved;

    void attempt(double target, bool& at_target)
    {
        int error_failures = 0, newton_failures = 0;
        for (;;) {
            coefficients();
            double t = x_ + h_;
            Solved solved = equations_.solve(t, cj_, weight_.data(), e_sum_.data(), [this] { predict(); });
            double estimate = 0;
            int lower = k_;
            bool accepted = false;
            if (solved == Solved::yes) {
                accepted = test_error(estimate, lower);
                if (accepted) {
                    x_ = t;
                    complete(estimate, lower);
                    return;
                }
            }
            growing_ = false;
            take_back();
            at_target = false;
            if (solved == Solved::yes) {
                ++counts_.error_failures;
                ++error_failures;
                k_ = error_failures <= 2 ? lower : 1;
                double by = error_failures == 1 ? std::clamp(0.9 * std::pow(2 * estimate + 1e-4, -1.0 / (k_ + 1)), 0.25, 0.9) : 0.25;
                h_ *= by;
            } else {
                ++counts_.convergence_failures;
                ++newton_failures;
                equations_.forget_matrix();
                h_ *= 0.25;
            }
            if (resumed_ && error_failures + newton_failures >= 3) {
                // the history that was kept does not help: all begins anew here
                State s{x_, phi_[0], phi_[1]};
                values(x_, s.z, s.rates);
                phi_[0] = s.z, phi_[1] = s.rates;
                fresh_ = true;
                resumed_ = false;
                equations_.forget_matrix();
                begin(target);
                continue;
            }
            if (h_ < least_step(x_) || newton_failures + error_failures > kMostFailures) fail(solved);
            if (k_used_ == 0) {  // still at the very first step: the second difference is that of the first step size
                for (std::size_t i = 0; i < n_; ++i) phi_[1][i] *= h_ / h_begun_;
                h_begun_ = h_;
                psi_[0] = h_;
            }
        }
    }

    bool test_error(double& estimate, int& lower)
    {
        const double *w = weight_.data(), *e = e_sum_.data();
        std::array<double, 3> sizes{};  // for this order, the one below, and two below: one pass over the vectors
        if (k_ > 2)
            sizes = norm_.of_sums(w, e, phi_[at(k_)].data(), phi_[at(k_ - 1)].data());
        else
            sizes[0] = norm_(w, e);
        size_ = sizes[0];
        double at_k = sigma_[at(k_)] * size_, term = (k_ + 1) * at_k;
        estimate = at_k;
        lower = k_;
        term_below_ = std::numeric_limits<double>::infinity();
        if (k_ > 1) {
            below_ = sigma_[at(k_ - 1)] * (k_ > 2 ? sizes[1] : norm_(w, e, phi_[at(k_)].data()));
            term_below_ = k_ * below_;
            if (k_ > 2) {
                double two_below = (k_ - 1) * sigma_[at(k_ - 2)] * sizes[2];
                if (std::max(term_below_, two_below) <= term) lower = k_ - 1, estimate = below_;
            } else if (term_below_ <= 0.5 * term) {
                lower = k_ - 1, estimate = below_;
            }
        }
        term_ = term;
        return error_factor_ * size_ <= 1;
    }

    void complete(double estimate, int lower)
    {
        ++counts_.steps;
        counts_.last_order = k_;
        counts_.last_step = h_;
        int change = k_ - k_used_, used = k_;
        k_used_ = k_;
        h_used_ = h_;
        resumed_ = false;
        if (lower == k_ - 1 || k_ >= most_order_) growing_ = false;
        if (growing_) {
            ++k_;
            h_ *= 2;
        } else {
            if (lower == k_ - 1) {
                k_ = lower;
            } else if (k_ < most_order_ && !(k_ + 1 >= same_ || change == 1)) {
                for (std::size_t i = 0; i < n_; ++i) delta_[i] = e_sum_[i] - phi_[at(k_ + 1)][i];
                double above = norm_(weight_.data(), delta_.data()) / (k_ + 2), term_above = (k_ + 2) * above;
                if (k_ > 1 && term_below_ <= std::min(term_, term_above)) {
                    estimate = below_;
                    --k_;
                } else if (k_ > 1 ? term_above < term_ : term_above < 0.5 * term_) {
                    estimate = above;
                    ++k_;
                }
            }
            // the step times (2 estimate)^(-1 / (k + 1)), where that is at least 2 or at most 1
            double size = 2 * estimate + 1e-4;
            if (size <= std::ldexp(1.0, -(k_ + 1)))
                h_ *= 2;
            else if (size >= 1)
                h_ *= std::clamp(std::pow(size, -1.0 / (k_ + 1)), 0.5, 0.9);
        }
        advance(n_, {phi_data_.data(), used}, used < kMostOrder, e_sum_.data(), tolerance_, sizes_.usual.data(), weight_.data());
        sizes_.own_weights(tolerance_, phi_[0].data(), weight_.data());
        root_ = false;
    }

    // The polynomial at a time: by what each difference counts in values and in rates. Before the first step it is a straight line.
    struct Blend {
        std::array<double, kMostOrder + 1> value{}, rate{};
        int order = 0;
    };
    Blend blend_at(double t) const
    {
        Blend b;
        double d = t - x_;
        if (k_used_ == 0) {
            b.order = 1;
            b.rate[1] = fresh_ ? 1 : 1 / h_begun_;
            b.value[1] = d * b.rate[1];
            return b;
        }
        b.order = k_used_;
        double c = 1, slope = 0, gamma = d / psi_[0];
        for (int j = 1; j <= k_used_; ++j) {
            slope = slope * gamma + c / psi_[at(j - 1)];
            c *= gamma;
            gamma = (d + psi_[at(j - 1)]) / psi_[at(j)];
            b.value[at(j)] = c;
            b.rate[at(j)] = slope;
        }
        return b;
    }
    void values(double t, std::vector<double>& z, std::vector<double>& rates) const override
    {
        Blend b = blend_at(t);
        z = phi_[0];
        std::fill(rates.begin(), rates.end(), 0.0);
        for (int j = 1; j <= b.order; ++j) {
            const double* p = phi_[at(j)].data();
            double value = b.value[at(j)], rate = b.rate[at(j)];
            for (std::size_t i = 0; i < n_; ++i) z[i] += value * p[i], rates[i] += rate * p[i];
        }
    }
    void values_of(const std::vector<std::uint32_t>& members, double t, std::vector<double>& z, std::vector<double>& rates) const override
    {
        Blend b = blend_at(t);
        for (std::uint32_t i : members) {
            z[i] = phi_[0][i];
            rates[i] = 0;
            for (int j = 1; j <= b.order; ++j) z[i] += b.value[at(j)] * phi_[at(j)][i], rates[i] += b.rate[at(j)] * phi_[at(j)][i];
        }
    }

    bool find_root(double before)
    {
        root_ = roots_.find(before, x_, *this);
        return root_;
    }

    // no members of z: only conditions of time are watched
    Stopped free_step(double target)
    {
        constexpr double kSteps = 100;
        if (fresh_) h_ = (target - x_) / (roots_.idle() ? 1 : kSteps), fresh_ = false;
        double before = x_;
        bool at_target = x_ + h_ * (1 + 1e-10) >= target;
        x_ = at_target ? target : x_ + h_;
        h_used_ = h_;
        k_used_ = 0;
        root_ = false;
        ++counts_.steps;
        if (find_root(before)) return Stopped::root;
        return at_target ? Stopped::target : Stopped::stepped;
    }

    [[noreturn]] void fail(Solved solved)
    {
        throw NumericFailure("run-failed", describe_failed_step(e_, sources_, x_, StepEquations::cause(solved), equations_.not_finite(), worst(),
                                                                phi_[0].data(), solved == Solved::never ? equations_.lost() : std::nullopt));
    }

    Evaluation& e_;
    const CompiledModel& m_;
    const SourceSet& sources_;
    IntegratorSettings settings_;
    double tolerance_;
    std::size_t n_;
    int most_order_;
    StepCounts counts_;
    StepEquations equations_;
    PartNorm norm_;
    ErrorSizes sizes_;
    double *y_, *yp_;  ///< z and z' of the step under way, where the programs read them

    double x_ = 0, h_ = 0, h_used_ = 0, h_begun_ = 0;
    int k_ = 1, k_used_ = 0;  ///< order of the next and of the last step
    int same_ = 0;            ///< steps made with this size and order
    bool growing_ = true;     ///< the first phase: order and step are raised at every step
    bool fresh_ = true;
    std::array<std::vector<double>, kMostOrder + 1> phi_;  ///< modified divided differences
    std::array<double*, kMostOrder + 1> phi_data_{};
    bool scaled_ = true;  ///< the differences belong to the present step length
    std::array<double, kMostOrder + 1> psi_{}, alpha_{}, beta_{}, sigma_{}, gamma_{};
    double cj_ = 0, error_factor_ = 0;
    double size_ = 0, term_ = 0, below_ = 0, term_below_ = 0;
    std::vector<double> e_sum_, delta_, weight_;
    RootSearch roots_;
    bool root_ = false;
    bool resumed_ = false;  ///< no step was made yet since histories were kept over an event
    double h_before_cut_ = 0;
};

}  // namespace

std::unique_ptr<Integrator> make_bdf(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
{
    return std::make_unique<Bdf>(evaluation, sources, settings);
}

}  // namespace netloop

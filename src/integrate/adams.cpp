// SPDX-License-Identifier: Apache-2.0
// The Adams methods of orders 1 to 12 in variable steps, for explicit systems z' = f(t, z) that are not stiff: predict, evaluate, correct,
// evaluate; no matrix. Source: Shampine and Gordon (1975), Computer Solution of Ordinary Differential Equations, ch. 5 and 10. Different
// from there: the error norm, as in bdf.cpp, and the estimate of whether stability or accuracy holds the steps (stiffness.hpp).
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include "integrate/integrator.hpp"
#include "integrate/rebase.hpp"
#include "integrate/root_search.hpp"
#include "integrate/stiffness.hpp"
#include "solve/error_sizes.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"
#include "solve/flush_denormals.hpp"
#include "solve/vector_loops.hpp"

namespace netloop {
namespace {

constexpr int kMost = 12;
constexpr double kEpsilon = std::numeric_limits<double>::epsilon();
/// Error constants of the methods of orders 1 to 12 against their predictors.
constexpr std::array<double, kMost + 2> kError{1, 0.5, 0.0833, 0.0417, 0.0264, 0.0188, 0.0143, 0.0114, 0.00936, 0.00789, 0.00679, 0.00592, 0.00524, 0.00468};

class Adams : public Integrator, private StepPolynomial {
public:
    Adams(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
        : e_(evaluation),
          m_(evaluation.model()),
          sources_(sources),
          settings_(settings),
          n_(m_.n()),
          most_order_(std::clamp(settings.most_order, 1, kMost)),
          norm_(m_),
          sizes_(error_sizes(m_, settings, settings.tolerance)),
          roots_(evaluation)
    {
        if (!is_explicit(m_, e_))
            throw NumericFailure("run-failed", "the Adams methods need a system of the form x' = f(time, x): this one has equations to be solved in each step",
                                 "take bdf, or leave the choice of the integrator to the program");
        for (std::size_t i = 1; i < phi_.size(); ++i) {
            phi_[i].assign(n_, 0.0);
            data_[i] = phi_[i].data();
        }
        for (auto* v : {&y_, &f_, &difference_, &weight_}) v->assign(n_, 0.0);
    }

    void restart(const State& s) override
    {
        x_ = s.time;
        y_ = s.z;
        std::copy(s.rates.begin(), s.rates.end(), phi_[1].begin());
        std::fill(phi_[2].begin(), phi_[2].end(), 0.0);
        fresh_ = true;
        root_ = false;
        k_ = 1;
        k_used_ = 0;
        set_weights();
        roots_.start(x_, s.z, s.rates);
    }
    // As in bdf.cpp. What jumped has no past: at orders above 2 its error would be told too small.
    bool resume(const State& s, const std::vector<char>& jumped) override
    {
        constexpr int kHonest = 2;
        double back = x_ - s.time;
        Jumped count = count_jumped(e_, jumped);
        if (fresh_ || k_used_ < 1 || count.most || back < 0 || psi_[1] - back < kNearestEvent * psi_[1]) {
            restart(s);
            return false;
        }
        if (back > 0) {
            std::vector<double> rates(n_);
            values(s.time, y_, rates);
            rebase(n_, data_.data() + 1, psi_.data() + 1, k_used_, back);
        }
        for (std::size_t i = 0; i < n_; ++i) {
            if (jumped[i] == 0) continue;
            y_[i] = s.z[i];
            phi_[1][i] = s.rates[i];
            for (std::size_t j = 2; j < phi_.size(); ++j) phi_[j][i] = 0;
        }
        x_ = s.time;
        if (count.states > 0) k_ = std::min(k_, kHonest);
        k_ = std::min(k_, k_used_);
        h_ = std::min(std::max(h_, h_before_cut_), kBeyondEvent * psi_[1]);
        same_ = 0;
        h_used_ = 0;
        growing_ = false;
        root_ = false;
        set_weights();
        roots_.start(x_, s.z, s.rates);
        return true;
    }

    bool follow(double step, const std::vector<State>& past) override
    {
        if (past.size() < 2) return false;
        restart(past[0]);
        int order = std::min(static_cast<int>(past.size()), most_order_);
        backward_differences(
            n_, past, order - 1, [](const State& s) { return s.rates.data(); }, data_.data() + 1);
        for (std::size_t j = 1; j < psi_.size(); ++j) psi_[j] = static_cast<double>(j) * step;
        k_ = k_used_ = order;
        h_ = step;
        same_ = 0;
        h_used_ = 0;
        fresh_ = growing_ = false;
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

    void states_changed() override {}

    Stopped step(double target) override
    {
        FlushDenormals flush;
        if (roots_.has_rest()) {  // of a step that an event lay in
            root_ = roots_.find_rest(x_, *this);
            if (root_) return Stopped::root;
            return x_ >= target - 1e-12 * std::abs(target) ? Stopped::target : Stopped::stepped;
        }
        if (fresh_) begin(target);
        double before = x_;
        bool at_target = x_ + h_ * (1 + 1e-10) >= target;
        h_before_cut_ = 0;
        if (at_target) h_before_cut_ = h_, h_ = target - x_;
        attempt(at_target);
        at_target = at_target && x_ >= target - 1e-12 * std::abs(target);
        if (at_target) x_ = target;
        if (counts_.steps % kLook == 0)
            look(2);
        else if (counts_.steps % kGlance == 0 && seems_held())
            look(1);
        root_ = roots_.find(before, x_, *this);
        if (root_) return Stopped::root;
        return at_target ? Stopped::target : Stopped::stepped;
    }

    double time() const override { return root_ ? roots_.time() : x_; }
    void interpolate(double t, State& s) override
    {
        s.time = t;
        values(t, s.z, s.rates);
    }
    const std::vector<int>& crossings() const override { return roots_.crossings(); }
    StepCounts counts() const override { return counts_; }
    std::vector<std::size_t> worst() const override { return worst_first(difference_, weight_); }
    std::size_t limiting() const override { return largest_state(e_.selection(), difference_, weight_); }
    Advice advice() const override { return advice_; }

private:
    static constexpr std::size_t kLook = 20, kGlance = 3;  ///< steps between looks at the stiffness, and between glances at it
    static std::size_t at(int i) { return static_cast<std::size_t>(i); }

    void set_weights() { sizes_.weigh(settings_.tolerance, y_.data(), weight_.data()); }

    void begin(double target)
    {
        fresh_ = false;
        double distance = std::max(target - x_, kEpsilon * std::abs(x_));
        h_ = norm_.first_step(weight_.data(), phi_[1].data(), distance);
        h_used_ = 0;
        k_ = 1;
        k_used_ = 0;
        same_ = 0;
        sigma_[1] = 1;
        growing_ = true;
        rate_estimate_ = 0;
        held_for_ = 0;
        advice_ = Advice::keep;
    }

    // Coefficients of the step: those below `same_` are as they were.
    void coefficients()
    {
        if (h_ != h_used_) same_ = 0;
        if (same_ <= k_used_) ++same_;
        if (k_ < same_) return;
        beta_[at(same_)] = 1;
        alpha_[at(same_)] = 1.0 / same_;
        double span = h_ * same_;
        sigma_[at(same_ + 1)] = 1;
        for (int i = same_ + 1; i <= k_; ++i) {
            double old = psi_[at(i - 1)];
            psi_[at(i - 1)] = span;
            beta_[at(i)] = beta_[at(i - 1)] * psi_[at(i - 1)] / old;
            span = old + h_;
            alpha_[at(i)] = h_ / span;
            sigma_[at(i + 1)] = i * alpha_[at(i)] * sigma_[at(i)];
        }
        psi_[at(k_)] = span;
        if (same_ <= 1) {
            for (int q = 1; q <= k_; ++q) v_[at(q)] = w_[at(q)] = 1.0 / (q * (q + 1));
        } else {
            if (k_ > k_used_) {
                v_[at(k_)] = 1.0 / (k_ * (k_ + 1));
                for (int j = 1; j <= same_ - 2; ++j) v_[at(k_ - j)] -= alpha_[at(j + 1)] * v_[at(k_ - j + 1)];
            }
            for (int q = 1; q <= k_ + 1 - same_; ++q) {
                v_[at(q)] -= alpha_[at(same_)] * v_[at(q + 1)];
                w_[at(q)] = v_[at(q)];
            }
            g_[at(same_ + 1)] = w_[1];
        }
        for (int i = same_ + 2; i <= k_ + 1; ++i) {
            for (int q = 1; q <= k_ + 2 - i; ++q) w_[at(q)] -= alpha_[at(i - 1)] * w_[at(q + 1)];
            g_[at(i)] = w_[1];
        }
    }

    void attempt(bool& at_target)
    {
        int failures = 0;
        for (;;) {
            coefficients();
            double t = x_ + h_;
            double* p = e_.z();
            for (int i = same_ + 1; i <= k_; ++i) scale_[at(i)] = beta_[at(i)];
            adams_predict(n_, data_.data(), k_, same_, scale_.data(), g_.data(), h_, y_.data(), p);
            bool finite = rates(t);
            int lower = k_;
            double error = HUGE_VAL;
            if (finite) error = estimate(lower);
            // the rates at the corrected end are the history of all steps to come: without a finite value there is no step
            if (error <= 1 && correct(t)) {
                complete(t, lower);
                return;
            }
            if (error <= 1) finite = false, lower = k_;
            growing_ = false;
            at_target = false;
            for (int i = 1; i <= k_; ++i) {
                double by = i > same_ ? beta_[at(i)] : 1;
                double *a = data_[at(i)], *above = data_[at(i + 1)];
                for (std::size_t j = 0; j < n_; ++j) a[j] = (a[j] - above[j]) / by;
            }
            for (int i = 2; i <= k_; ++i) psi_[at(i - 1)] = psi_[at(i)] - h_;
            ++(finite ? counts_.error_failures : counts_.convergence_failures);
            ++failures;
            double by = 0.5;
            if (failures > 3 && finite && 0.5 < 0.25 * size_at_k_) by = std::sqrt(0.5 / size_at_k_);
            if (failures > 2) lower = 1;
            h_ *= by;
            k_ = lower;
            same_ = 0;
            if (h_ < least_step(x_) || failures > kMostFailures)
                throw NumericFailure("run-failed", describe_failed_step(e_, sources_, x_,
                                                                        finite ? "the error of a step stays too large however small the step"
                                                                               : "the equations of a step have no finite value however small the step",
                                                                        not_finite_, worst(), y_.data()));
        }
    }

    bool rates(double t)
    {
        ++counts_.residuals;
        if (explicit_rates(e_, t, f_.data())) return true;
        not_finite_.remember(f_.data(), n_, t, e_.z(), e_.rates());
        return false;
    }

    // The error of the prediction as phi_ has it, and what a lower order would make of it.
    double estimate(int& lower)
    {
        const double* w = weight_.data();
        for (std::size_t i = 0; i < n_; ++i) difference_[i] = f_[i] - phi_[1][i];
        const double* d = difference_.data();
        double size = h_ * norm_(w, d);
        double error = size * std::abs(g_[at(k_)] - g_[at(k_ + 1)]);
        size_at_k_ = size * sigma_[at(k_ + 1)] * kError[at(k_)];
        below_ = HUGE_VAL;
        if (k_ > 1) {
            below_ = h_ * sigma_[at(k_)] * kError[at(k_ - 1)] * norm_(w, d, phi_[at(k_)].data());
            if (k_ > 2) {
                double two_below = h_ * sigma_[at(k_ - 1)] * kError[at(k_ - 2)] * norm_(w, d, phi_[at(k_ - 1)].data());
                if (std::max(below_, two_below) <= size_at_k_) lower = k_ - 1;
            } else if (below_ <= 0.5 * size_at_k_) {
                lower = k_ - 1;
            }
        }
        return error;
    }

    // Corrects the prediction; false if the rates there have no finite value.
    bool correct(double t)
    {
        double* p = e_.z();
        double by = h_ * g_[at(k_ + 1)];
        for (std::size_t i = 0; i < n_; ++i) p[i] += by * difference_[i];
        if (!rates(t)) return false;
        if ((counts_.steps + 1) % kGlance == 0) glance(by);
        return true;
    }

    // How much the correction changed the rates, for its size: costs one pass, where the estimate of look() costs a Jacobian.
    void glance(double by)
    {
        constexpr double kLeast = 1e-6;  // of the tolerance: below that it is rounding
        glance_.resize(n_);
        const double* first = data_[1];
        for (std::size_t i = 0; i < n_; ++i) glance_[i] = f_[i] - first[i] - difference_[i];
        double moved = std::abs(by) * norm_(weight_.data(), difference_.data());
        rate_at_glance_ = moved > kLeast ? norm_(weight_.data(), glance_.data()) / moved : 0;
    }
    bool seems_held() const { return h_used_ * rate_at_glance_ > 0.4 * adams_stability(k_used_); }

    void complete(double t, int lower)
    {
        ++counts_.steps;
        counts_.last_order = k_;
        counts_.last_step = h_;
        x_ = t;
        k_used_ = k_;
        h_used_ = h_;
        const double* p = e_.z();
        std::copy(p, p + n_, y_.begin());
        adams_advance(n_, data_.data(), k_, f_.data(), y_.data(), settings_.tolerance, sizes_.usual.data(), weight_.data());
        sizes_.own_weights(settings_.tolerance, y_.data(), weight_.data());
        double at_k = size_at_k_;
        if (lower == k_ - 1 || k_ >= most_order_) growing_ = false;
        if (growing_) {
            ++k_;
            h_ *= 2;
            return;
        }
        if (lower == k_ - 1) {
            k_ = lower;
            at_k = below_;
        } else if (k_ + 1 <= same_) {
            double above = h_ * kError[at(k_ + 1)] * norm_(weight_.data(), phi_[at(k_ + 2)].data());
            if (k_ > 1 && below_ <= std::min(at_k, above)) {
                --k_;
                at_k = below_;
            } else if (k_ < most_order_ && above < (k_ > 1 ? at_k : 0.5 * at_k)) {
                ++k_;
                at_k = above;
            }
        }
        size_at_k_ = at_k;
        double room = 0.5 / std::max(at_k, 1e-300);
        bool stable = 2 * h_ * rate_estimate_ <= adams_stability(k_);
        if (room >= std::ldexp(1.0, k_ + 1) && stable)
            h_ *= 2;
        else if (room < 1)
            h_ *= std::clamp(std::pow(room, 1.0 / (k_ + 1)), 0.5, 0.9);
    }

    // Is it stability that holds the steps? Then a method for stiff systems would make larger ones. `sureness`: how much this look counts for.
    void look(int sureness)
    {
        if (k_used_ < 1) return;
        std::copy(y_.begin(), y_.end(), e_.z());
        e_.set_time(x_);
        rate_estimate_ = rate_of_(e_, weight_);
        ++counts_.jacobians;
        double hl = h_used_ * rate_estimate_;
        int order = std::min(k_used_, 5);
        // the error of a backward formula of that order at this step; its constant is 1 / (order + 1)
        double bdf_error = h_used_ * norm_(weight_.data(), phi_[at(order + 1)].data()) / (order + 1);
        double by_accuracy = std::pow(0.5 / std::max(bdf_error, 1e-30), 1.0 / (order + 1));
        double own = std::pow(0.5 / std::max(size_at_k_, 1e-30), 1.0 / (k_used_ + 1));
        double by_stability = adams_stability(k_used_) / std::max(hl, 1e-30);
        std::size_t failed = counts_.error_failures - failures_before_;
        if (sureness > 1) failures_before_ = counts_.error_failures;
        bool held = hl > 0.5 * adams_stability(k_used_);
        // how much longer a step with a matrix must be to be worth its cost, and the change
        constexpr double kChange = 1.25;
        double worth_it = held ? kChange * std::max(1.0, matrix_step_cost(m_)) : 0;
        // several in a row: a stretch of smooth motion is no stiffness yet
        constexpr int kSure = 4;
        held_for_ = held && by_accuracy > worth_it * std::min(own, by_stability) ? held_for_ + sureness : 0;
        advice_ = held ? Advice::held : Advice::keep;
        if (held_for_ >= kSure) advice_ = Advice::stiff;
        if (held && failed >= kLook / 4) advice_ = Advice::stiff;
        // beyond the limit errors are not damped: they would hover about the tolerance and add up
        if (by_stability < 1) h_ = std::min(h_, h_used_ * by_stability);
    }

    // The polynomial at a time: by what each difference counts in values and in rates. Before the first step it is a straight line.
    struct Blend {
        std::array<double, kMost + 3> value{}, rate{};
        int order = 1;
    };
    Blend blend_at(double t) const
    {
        Blend b;
        double hi = t - x_;
        if (k_used_ == 0) {
            b.value[1] = hi;
            b.rate[1] = 1;
            return b;
        }
        b.order = k_used_ + 1;
        std::array<double, kMost + 3> w{}, g{};
        for (int i = 1; i <= b.order; ++i) w[at(i)] = 1.0 / i;
        g[1] = b.rate[1] = 1;
        double term = 0;
        for (int j = 2; j <= b.order; ++j) {
            double span = psi_[at(j - 1)], gamma = (hi + term) / span, eta = hi / span;
            for (int i = 1; i <= b.order + 1 - j; ++i) w[at(i)] = gamma * w[at(i)] - eta * w[at(i + 1)];
            g[at(j)] = w[1];
            b.rate[at(j)] = gamma * b.rate[at(j - 1)];
            term = span;
        }
        for (int j = 1; j <= b.order; ++j) b.value[at(j)] = hi * g[at(j)];
        return b;
    }
    void values(double t, std::vector<double>& z, std::vector<double>& rates) const override
    {
        Blend b = blend_at(t);
        std::copy(y_.begin(), y_.end(), z.begin());
        std::fill(rates.begin(), rates.end(), 0.0);
        for (int j = b.order; j >= 1; --j) {
            const double* p = data_[at(j)];
            double value = b.value[at(j)], rate = b.rate[at(j)];
            for (std::size_t i = 0; i < n_; ++i) z[i] += value * p[i], rates[i] += rate * p[i];
        }
    }
    void values_of(const std::vector<std::uint32_t>& members, double t, std::vector<double>& z, std::vector<double>& rates) const override
    {
        Blend b = blend_at(t);
        for (std::uint32_t i : members) {
            z[i] = y_[i];
            rates[i] = 0;
            for (int j = b.order; j >= 1; --j) z[i] += b.value[at(j)] * data_[at(j)][i], rates[i] += b.rate[at(j)] * data_[at(j)][i];
        }
    }

    Evaluation& e_;
    const CompiledModel& m_;
    const SourceSet& sources_;
    IntegratorSettings settings_;
    std::size_t n_;
    int most_order_;
    PartNorm norm_;
    ErrorSizes sizes_;

    double x_ = 0, h_ = 0, h_used_ = 0;
    int k_ = 1, k_used_ = 0, same_ = 0;
    bool growing_ = true, fresh_ = true;
    std::array<std::vector<double>, kMost + 3> phi_;  ///< modified divided differences of f, from 1 on
    std::array<double*, kMost + 3> data_{};
    std::array<double, kMost + 3> psi_{}, alpha_{}, beta_{}, sigma_{}, v_{}, w_{}, g_{0, 1, 0.5}, scale_{};
    std::vector<double> y_, f_, difference_, weight_;
    double size_at_k_ = 0, below_ = 0;

    RateEstimate rate_of_;
    double rate_estimate_ = 0;
    double rate_at_glance_ = 0;
    std::vector<double> glance_;
    int held_for_ = 0;  ///< what looks in a row count for
    std::size_t failures_before_ = 0;
    Advice advice_ = Advice::keep;

    RootSearch roots_;
    bool root_ = false;
    double h_before_cut_ = 0;
    StepCounts counts_;
    NotFinitePoint not_finite_;
};

}  // namespace

std::unique_ptr<Integrator> make_adams(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
{
    return std::make_unique<Adams>(evaluation, sources, settings);
}

}  // namespace netloop

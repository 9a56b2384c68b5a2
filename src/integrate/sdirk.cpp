// SPDX-License-Identifier: Apache-2.0
// A one-step method of order 4 for F(t, z, z') = 0: singly diagonally implicit Runge-Kutta with an explicit first stage, L-stable and
// stiffly accurate, so that what is no state holds its equations at the end of each step. It needs no history: where events follow each
// other closely it goes on at full order and with the step it had, while a method with history begins anew.
// Source: Kennedy and Carpenter (2003), Appl. Numer. Math. 44, 139-181: ESDIRK4(3)6L[2]SA, with its embedded method of order 3.
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

#include "integrate/hermite.hpp"
#include "integrate/integrator.hpp"
#include "integrate/root_search.hpp"
#include "integrate/step_equations.hpp"
#include "solve/error_sizes.hpp"
#include "solve/failure.hpp"
#include "solve/flush_denormals.hpp"
#include "solve/vector_loops.hpp"

namespace netloop {
namespace {

constexpr std::size_t kStages = 6;
constexpr double kDiagonal = 0.25;
using Weights = std::array<double, kStages>;
constexpr std::array<Weights, kStages> kA{
    Weights{0, 0, 0, 0, 0, 0},
    Weights{0.25, kDiagonal, 0, 0, 0, 0},
    Weights{8611.0 / 62500, -1743.0 / 31250, kDiagonal, 0, 0, 0},
    Weights{5012029.0 / 34652500, -654441.0 / 2922500, 174375.0 / 388108, kDiagonal, 0, 0},
    Weights{15267082809.0 / 155376265600, -71443401.0 / 120774400, 730878875.0 / 902184768, 2285395.0 / 8070912, kDiagonal, 0},
    Weights{82889.0 / 524892, 0, 15625.0 / 83664, 69875.0 / 102672, -2260.0 / 8211, kDiagonal},
};
constexpr Weights kEmbedded{4586570599.0 / 29645900160, 0, 178811875.0 / 945068544, 814220225.0 / 1159782912, -3700637.0 / 11593932, 61727.0 / 225920};
constexpr Weights kC{0, 0.5, 83.0 / 250, 31.0 / 50, 17.0 / 20, 1};

/// The embedded method lies so close to the other that its distance tells too little: at one tolerance the other methods here come out
/// several times more exact. With this factor they are alike.
constexpr double kHonest = 4;

class Sdirk : public Integrator, private StepPolynomial {
public:
    Sdirk(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
        : e_(evaluation),
          m_(evaluation.model()),
          sources_(sources),
          settings_(settings),
          n_(m_.n()),
          equations_(evaluation, counts_, 0.01),
          norm_(m_),
          sizes_(error_sizes(m_, settings, settings.tolerance)),
          roots_(evaluation)
    {
        for (auto& k : k_) k.assign(n_, 0.0);
        for (auto* v : {&correction_, &base_, &error_, &weight_}) v->assign(n_, 0.0);
    }

    void restart(const State& s) override
    {
        now_ = before_ = s;
        fresh_ = h_ == 0 || hint_ > 0;  // the step length of before the event is a good guess for after it
        root_ = false;
        set_weights();
        roots_.start(s.time, s.z, s.rates);
    }
    void begin_with(double step) override
    {
        hint_ = step;
        equations_.forget_matrix();
    }
    void states_changed() override
    {
        equations_.states_changed();
        e_.selection().set_rates(now_.z, now_.rates);
    }

    Stopped step(double target) override
    {
        FlushDenormals flush;
        before_ = now_;
        if (fresh_) begin(target);
        bool at_target = attempt(target);
        if (at_target) now_.time = target;
        set_weights();
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
    void look_closely(bool look) override { equations_.look(look); }
    Stubborn stubborn() const override { return equations_.most_stubborn(weight_.data()); }
    std::vector<std::size_t> worst() const override { return worst_first(error_, weight_); }
    std::size_t limiting() const override { return largest_state(e_.selection(), error_, weight_); }

private:
    using Solved = StepEquations::Solved;

    void set_weights() { sizes_.weigh(settings_.tolerance, now_.z.data(), weight_.data()); }

    void begin(double target)
    {
        fresh_ = false;
        double distance = std::max(target - now_.time, std::numeric_limits<double>::epsilon() * std::abs(now_.time));
        h_ = hint_ > 0 ? std::min(hint_, distance) : norm_.first_step(weight_.data(), now_.rates.data(), distance);
        hint_ = 0;
    }

    // True if the step ends at the target.
    bool attempt(double target)
    {
        int failures = 0;
        for (;;) {
            double left = target - before_.time;
            bool at_target = h_ * (1 + 1e-10) >= left;
            // two equal steps rather than a long one and a crumb
            double h = at_target ? left : h_ * 2 > left ? 0.5 * left : h_;
            Solved solved = stages(h);
            double size = solved == Solved::yes ? norm_(weight_.data(), error_.data()) : HUGE_VAL;
            if (size <= 1) {
                ++counts_.steps;
                counts_.last_step = h;
                counts_.last_order = 4;
                double by = std::clamp(0.8 * std::pow(std::max(size, 1e-10), -0.25), 0.5, 4.0);
                if (failures > 0) by = std::min(by, 1.0);
                // a step cut short by the target tells less about the next
                h_ = h < h_ ? std::max(h_, by * h) : by * h;
                return at_target;
            }
            ++failures;
            if (solved == Solved::yes) {
                ++counts_.error_failures;
                h_ = h * std::clamp(0.8 * std::pow(size, -0.25), 0.1, 0.8);
            } else {
                ++counts_.convergence_failures;
                equations_.forget_matrix();
                h_ = 0.25 * h;
            }
            if (h_ < least_step(before_.time) || failures > kMostFailures) {
                throw NumericFailure("run-failed", describe_failed_step(e_, sources_, before_.time, StepEquations::cause(solved), equations_.not_finite(),
                                                                        worst(), before_.z.data(), solved == Solved::never ? equations_.lost() : std::nullopt));
            }
        }
    }

    Solved stages(double h)
    {
        for (std::size_t i = 0; i < n_; ++i) k_[0][i] = e_.is_state(i) ? before_.rates[i] : 0;
        now_ = before_;
        for (std::size_t s = 1; s < kStages; ++s) {
            for (std::size_t i = 0; i < n_; ++i) {
                double sum = 0;
                for (std::size_t j = 0; j < s; ++j) sum += kA[s][j] * k_[j][i];
                base_[i] = before_.z[i] + h * sum;
            }
            auto predict = [&] {
                double *z = e_.z(), *rates = e_.rates();
                for (std::size_t i = 0; i < n_; ++i) {
                    correction_[i] = 0;
                    // what is no state has no rate that could be trusted: it begins at its last value
                    bool state = e_.is_state(i);
                    rates[i] = state ? k_[s - 1][i] : 0;
                    z[i] = state ? base_[i] + h * kDiagonal * rates[i] : now_.z[i];
                }
            };
            Solved solved = equations_.solve(before_.time + kC[s] * h, 1 / (h * kDiagonal), weight_.data(), correction_.data(), predict);
            if (solved != Solved::yes) return solved;
            std::copy(e_.z(), e_.z() + n_, now_.z.begin());
            for (std::size_t i = 0; i < n_; ++i) k_[s][i] = e_.is_state(i) ? e_.rates()[i] : 0;
        }
        now_.time = before_.time + h;
        for (std::size_t i = 0; i < n_; ++i) {
            double sum = 0;
            for (std::size_t j = 0; j < kStages; ++j) sum += (kA[kStages - 1][j] - kEmbedded[j]) * k_[j][i];
            error_[i] = kHonest * h * sum;
            now_.rates[i] = e_.is_state(i) ? k_[kStages - 1][i] : (now_.z[i] - before_.z[i]) / h;
        }
        return Solved::yes;
    }

    void values(double t, std::vector<double>& z, std::vector<double>& rates) const override
    {
        Hermite at(before_, now_, t);
        for (std::size_t i = 0; i < n_; ++i) at(i, e_.is_state(i), z[i], rates[i]);
    }
    void values_of(const std::vector<std::uint32_t>& members, double t, std::vector<double>& z, std::vector<double>& rates) const override
    {
        Hermite at(before_, now_, t);
        for (std::uint32_t i : members) at(i, e_.is_state(i), z[i], rates[i]);
    }

    Evaluation& e_;
    const CompiledModel& m_;
    const SourceSet& sources_;
    IntegratorSettings settings_;
    std::size_t n_;
    StepCounts counts_;
    StepEquations equations_;
    PartNorm norm_;
    ErrorSizes sizes_;
    RootSearch roots_;
    State before_, now_;
    double h_ = 0, hint_ = 0;
    bool fresh_ = true, root_ = false;
    std::array<std::vector<double>, kStages> k_;
    std::vector<double> correction_, base_, error_, weight_;
};

}  // namespace

std::unique_ptr<Integrator> make_sdirk(Evaluation& evaluation, const SourceSet& sources, const IntegratorSettings& settings)
{
    return std::make_unique<Sdirk>(evaluation, sources, settings);
}

}  // namespace netloop

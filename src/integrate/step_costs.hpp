// SPDX-License-Identifier: Apache-2.0
// What bounded each step of a run: counted while it goes on, at next to no cost.
#pragma once

#include <cstdint>
#include <map>
#include <utility>
#include <vector>

namespace netloop {

struct CompiledModel;

class StepCosts {
public:
    enum class Why : std::uint8_t { accuracy, convergence, event, clock, signal, table, delay, end };
    struct Reason {
        Why why = Why::accuracy;
        const CompiledModel* model = nullptr;  ///< of a member of z
        std::uint32_t index = 0;               ///< accuracy and convergence: into z; events and clocks: a kind of the event log
        auto operator<=>(const Reason&) const = default;
    };
    /// Some steps in a row. Mostly one reason bounds all of them: a short run, which has a stretch for each step, needs no room for more.
    class Stretch {
    public:
        double from = 0, to = 0, steps = 0, shortest = 0, longest = 0;
        void count(std::uint32_t reason, double n);
        template <typename Visit>
        void each_reason(Visit visit) const
        {
            if (steps_of_first_ > 0) visit(first_, steps_of_first_);
            for (const auto& [reason, n] : more_) visit(reason, n);
        }
        bool any_reason() const { return steps_of_first_ > 0; }

    private:
        std::uint32_t first_ = 0;
        double steps_of_first_ = 0;
        std::vector<std::pair<std::uint32_t, double>> more_;
    };

    /// Whether the next step that the error test bounds is to be looked at: each of the first ones, then every eighth.
    bool looks() const { return n_ < kFirst || n_ % kStride == 0; }
    /// A step was made. `reason` null: one that was not looked at.
    void step(double from, double to, const Reason* reason);

    /// Whether the equations of the next step are to be looked at.
    bool looks_at_equations() const { return n_ < kFirstEquations || n_ % kStride == 0; }
    /// Of a step that was looked at: the equation that its iteration had most to do with; without a model: the matrix was made for another length of step.
    void corrections(const CompiledModel* model, std::uint32_t residual, int n);
    struct Stubborn {
        double steps = 0, corrections = 0;
    };
    const std::map<std::pair<const CompiledModel*, std::uint32_t>, Stubborn>& stubborn() const { return stubborn_; }

    double n_steps() const { return static_cast<double>(n_); }
    /// Reasons with their steps; numbered as in the stretches.
    const std::vector<std::pair<Reason, double>>& reasons() const { return reasons_; }
    const std::vector<Stretch>& stretches() const { return stretches_; }

private:
    static constexpr std::size_t kFirst = 500, kFirstEquations = 64, kStride = 8, kMostStretches = 512;
    void begin_stretch(double from, double length);
    void halve();

    std::size_t n_ = 0, per_stretch_ = 1;
    std::map<Reason, std::uint32_t> number_;
    std::vector<std::pair<Reason, double>> reasons_;
    std::vector<Stretch> stretches_;
    std::map<std::pair<const CompiledModel*, std::uint32_t>, Stubborn> stubborn_;
};

}  // namespace netloop

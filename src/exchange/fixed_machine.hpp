// SPDX-License-Identifier: Apache-2.0
// A plan at work in this process.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "exchange/fixed_plan.hpp"
#include "netloop/fixed_steps.hpp"

namespace netloop {

/// The memory of a machine at its start, with the params that the plan was made with.
std::vector<double> begin_memory(const FixedPlan& plan);

/// One machine in fixed steps. Its work in a step is bounded: nothing is iterated until it fits. Not for several threads at once.
class FixedMachine {
public:
    using Status = FixedStepStatus;

    explicit FixedMachine(std::shared_ptr<const FixedPlan> plan, Evaluator evaluator = Evaluator::automatic);

    const FixedPlan& plan() const { return *plan_; }
    /// A param, or an input before the start; a start for it is searched by begin().
    void give(ParameterId p, double si);
    /// Settles params and start, and what happens at the start.
    Status begin();
    /// An input, by its number in the request.
    void set_input(std::size_t k, double si);
    /// One step and what happens at its end.
    Status step();
    double time() const { return memory_[plan_->model->layout.time]; }
    /// Computes the outputs; then output() tells each.
    void look();
    double output(std::size_t k) const { return memory_[plan_->output[k]]; }
    const double* z() const { return memory_.data() + plan_->model->layout.z; }
    const double* rates() const { return memory_.data() + plan_->model->layout.rates; }
    double mode(std::size_t i) const { return memory_[plan_->model->layout.modes + i]; }
    double memory_value(std::size_t i) const { return memory_[plan_->model->layout.memories + i]; }

    std::size_t n_steps() const { return static_cast<std::size_t>(count_); }
    std::size_t bad_pivots() const { return bad_pivots_; }  ///< counted, never looped on
    std::size_t events() const { return events_; }          ///< modes that turned, blocks that ran
    std::size_t warnings() const { return warnings_; }
    /// What `stop` or `fail` in the model said.
    const std::string& said() const { return said_; }
    /// The member of z that is not finite.
    std::size_t lost() const { return lost_; }

private:
    void run(const Program& program) { execute(program, evaluator_, memory_, scratch_); }
    void count_pivots(const FixedPlan::Solve& solve);
    double* at(std::uint32_t place) { return memory_.data() + place; }
    void settle_params();
    void take_inputs();
    bool search_start();
    bool turn_modes();
    void set_time(double t);
    void solve_rest();
    void move(double h);
    Status moment(bool first);
    bool run_block(std::uint32_t block);
    void remember();
    double slack() const;

    std::shared_ptr<const FixedPlan> plan_;
    Evaluator evaluator_;
    std::vector<double> memory_, scratch_;
    std::vector<char> given_;
    std::vector<double> given_value_;
    bool dirty_ = false;    ///< an input was set since they were settled
    bool changed_ = false;  ///< params are not those of the plan
    double count_ = 0;
    struct Tick {
        double period = 0, first = 0, next = 0, count = 0;
    };
    std::vector<Tick> ticks_;
    std::vector<char> was_;  ///< per block: its condition held
    struct Past {
        double behind = 0;
        std::vector<double> values;
    };
    std::vector<Past> past_;
    double n_past_ = 0;                  ///< values remembered so far
    std::vector<char> entered_, enter_;  ///< per sequence, in the moment under way
    std::vector<double> from_, slope_, sum_;
    std::size_t bad_pivots_ = 0, events_ = 0, warnings_ = 0, lost_ = 0;
    bool touched_ = false;
    std::string said_;
    Status status_ = Status::good;
};

}  // namespace netloop

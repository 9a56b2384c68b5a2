// SPDX-License-Identifier: Apache-2.0
// One run's numbers: memory of the programs, parameters, modes; and the evaluations a solver asks for.
#pragma once

#include <cmath>
#include <functional>
#include <memory>
#include <optional>

#include "foreign/unit_scope.hpp"
#include "solve/delays.hpp"
#include "solve/state_selection.hpp"
#include "solve/stopwatch.hpp"
#include "solve/vector_loops.hpp"

namespace netloop {

class Evaluation {
public:
    explicit Evaluation(std::shared_ptr<const CompiledModel> model, Evaluator evaluator = Evaluator::automatic);

    const CompiledModel& model() const { return *model_; }
    const std::shared_ptr<const CompiledModel>& shared_model() const { return model_; }
    /// Goes on with another system of the same family: parameters, modes and memories stay. What holds parts of the old one (solvers,
    /// integrators) is to be made anew.
    void change_model(std::shared_ptr<const CompiledModel> model);

    // --- parameters: a given value overrides the expression of the model; dependent ones follow
    const std::shared_ptr<const CompiledModel>& first_model() const { return first_; }
    /// The outputs of the present system as such.
    double own_output(std::size_t i) const { return memory_[model_->output_place[i]]; }
    void give(ParameterId p, double si) { given_[p] = si; }
    void take_back(ParameterId p) { given_[p].reset(); }
    bool is_given(ParameterId p) const { return given_[p].has_value(); }
    /// Recomputes all parameters. The first that is out of its range or not finite is returned with a message.
    struct ParameterProblem {
        ParameterId parameter = 0;
        double value = 0, low = 0, high = 0;
        bool finite() const { return std::isfinite(value); }
        /// It has a value, and that is within its range, up to rounding: then it is none.
        bool is_none() const { return finite() && value >= low - kSlack * std::abs(value) && value <= high + kSlack * std::abs(value); }

    private:
        static constexpr double kSlack = 1e-12;
    };
    std::optional<ParameterProblem> settle_parameters();
    double parameter(ParameterId p) const { return memory_[model_->layout.parameters + p]; }

    // --- modes
    double mode(std::size_t i) const { return memory_[model_->layout.modes + i]; }
    void set_mode(std::size_t i, double v) { memory_[model_->layout.modes + i] = v; }

    // --- memories
    double memory(std::size_t i) const { return memory_[model_->layout.memories + i]; }
    void set_memory(std::size_t i, double v)
    {
        memory_[model_->layout.memories + i] = v;
        ++memory_version_;
    }
    /// Per condition: whether anything looks at it in the stages that the sequences are in.
    const std::vector<char>& watched();

    // --- evaluations at (t, z, z'). All arrays have n numbers.
    void at(double t, const double* z, const double* rates);
    /// Where the programs read z and z': a method that iterates writes there, and tells the time.
    double* z() { return memory_.data() + model_->layout.z; }
    double* rates() { return memory_.data() + model_->layout.rates; }
    void set_time(double t)
    {
        memory_[model_->layout.time] = t;
        if (delays_) follow_delays(t);
    }
    double time() const { return memory_[model_->layout.time]; }
    /// F(t, z, z'); false if a value is not finite.
    bool residual(double* f) { return residual(1, f); }
    /// -F(t, z, z').
    bool negative_residual(double* f) { return residual(-1, f); }
    /// Values of dF/dz and dF/dz' along CompiledModel::pattern.
    void jacobian(std::vector<double>& by_z, std::vector<double>& by_rate);
    /// dF/dz + cj dF/dz' along CompiledModel::pattern.
    void jacobian(double cj, std::vector<double>& values);
    void conditions(std::vector<double>& values);
    /// The same without copying them; read by condition_value().
    void conditions();
    double condition_value(std::size_t i) const { return memory_[model_->conditions.results[i]]; }
    /// Computes all outputs; read them by output(), numbered as in the first system of the run.
    void outputs();
    /// The same, all of them to `to`; false if one is not finite.
    bool outputs(double* to);
    /// A program made of that for outputs: runs it and gathers its results; false if one is not finite.
    bool outputs(const Program& kept, double* to);
    double output(std::size_t i) const;
    void start();
    /// Values of the leaves of the model as written, in the order of WrittenModel::leaves; NaN for one that the present system does not know.
    void written(double* to);

    // --- states that the run chooses
    /// Looks at the choice of states where at() stands; true if it was changed.
    bool choose_states();
    const StateSelection& selection() const { return *selection_; }
    bool put_back_states(const std::vector<double>& dependents) { return selection_->put_back(dependents); }
    bool is_state(std::size_t z) const { return selection_->is_state(z); }
    /// Runs one of the programs of EventPrograms; its results are read by value_at().
    void work_out(const Program& program) { run(program); }
    double value_at(std::uint32_t place) const { return memory_[place]; }
    /// Where the search for each member of z, and for each rate, begins.
    void search_start(std::vector<double>& z, std::vector<double>& rates);
    /// From now on it begins there, as long as this system is the one at hand.
    void begin_search_from(std::vector<double> z, std::vector<double> rates);

    // --- delays: values that follow others by a time; what they follow is kept while the run goes on
    Delays* delays() { return delays_.get(); }

    /// Solves what is no state from the states, in place; false if it cannot. For what looks at a state between the ends of a step, where what is no state is
    /// only guessed by the integrator's polynomial; set by the run.
    std::function<bool(double t, std::vector<double>& z, std::vector<double>& rates)> solve_rest;

    /// The foreign units of this run; null: the system has none.
    UnitSession* units() const { return units_.get(); }

    TimeShares shares;

private:
    void run(const Program& p)
    {
        if (units_ == nullptr) return execute(p, evaluator_, memory_, registers_);
        UnitSessionScope scope(units_.get());
        execute(p, evaluator_, memory_, registers_);
    }

    bool residual(double sign, double* f);
    void follow_delays(double t);

    std::shared_ptr<const CompiledModel> model_;
    std::shared_ptr<const CompiledModel> first_;
    std::vector<std::uint32_t> output_of_first_;            ///< per output of the first system: that of the present one; empty: the same
    std::size_t memory_version_ = 1, watched_version_ = 0;  ///< changes whenever a memory is set or another system is taken up
    std::vector<char> watched_;
    std::unique_ptr<Delays> delays_;
    std::shared_ptr<UnitSession> units_;  ///< of this run alone; shared only so that it need not be known here
    Evaluator evaluator_;
    Gathering residuals_;  ///< where the results of the residuals' program lie
    std::optional<StateSelection> selection_;
    std::vector<double> memory_, registers_, coefficients_, by_z_, by_rate_;
    std::vector<std::optional<double>> given_;
    std::vector<double> search_z_, search_rates_;  ///< where the search begins; empty: as the model says
    const CompiledModel* search_of_ = nullptr;     ///< the system that they belong to
};

}  // namespace netloop

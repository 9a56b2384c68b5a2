// SPDX-License-Identifier: Apache-2.0
// The instances of foreign units that belong to one run, and what can be asked of them.
//
// An equation must be able to ask a unit at any point, in any order and more than once; a unit is told one thing after the other and remembers. So each
// question brings all that its answer depends on: the set of params, the stage (how many events the unit has gone through), the time, the states, the inputs.
// The instance of the run is brought there, and the last answers are kept. What changes the unit for good (its start, an event, a step of co-simulation)
// happens when somebody asks what a stage has left that the unit has not come to yet. Blocks are worked out whether they are to be run or not: so one block
// counts the stage on, and the block behind it, which finds the new stage, is what brings the unit there.
#pragma once

#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "foreign/unit_component.hpp"
#include "foreign/unit_scope.hpp"

namespace netloop {

/// What can be asked. Arguments begin with the set of params, the stage and the time; behind them stand states, inputs and discrete inputs as told.
enum class UnitAnswer : std::uint8_t {
    set_of_params,  ///< a number that stands for the values of all params, which are the arguments
    // what it begins with, before it runs; inputs, discrete inputs
    start_state,
    start_output,
    start_discrete_output,
    // where it is asked; states, inputs
    rate,
    output,
    indicator,
    // what the start, event or step of co-simulation has left that the stage began with; states, inputs, discrete inputs
    moved,
    next,
    ended,
    state,
    held_output,
    discrete_output,
    asks,  ///< whether the unit wants an event since the last step of the integrator
    nothing
};
/// Whether it is worked out from the quantities that stand behind the stage, and has derivatives by them.
constexpr bool is_continuous(UnitAnswer what)
{
    return what == UnitAnswer::rate || what == UnitAnswer::output || what == UnitAnswer::indicator;
}
/// Arguments that come first: set of params, stage, time.
inline constexpr std::size_t kUnitSet = 0, kUnitStage = 1, kUnitTime = 2, kUnitFirst = 3;

/// One part that is a unit: what all runs of it share.
class UnitPart {
public:
    UnitPart(std::shared_ptr<const ForeignUnit> unit, UnitKind kind, std::string path);

    const ForeignUnit& unit() const { return *unit_; }
    const UnitPlan& plan() const { return plan_; }
    const std::string& path() const { return path_; }
    std::unique_ptr<UnitInstance> make() const;
    /// A number that stands for these values of the params; the same for the same values.
    double number_of(const double* params) const;
    std::vector<double> params_of(double number) const;

private:
    std::shared_ptr<const ForeignUnit> unit_;
    UnitPlan plan_;
    std::string path_;
    mutable std::mutex mutex_;
    mutable std::vector<std::vector<double>> sets_;
};

/// The instance of one part in one run, with the last answers.
class LiveUnit {
public:
    explicit LiveUnit(std::shared_ptr<const UnitPart> part);

    /// The i-th number of a kind. What fails gives NaN and is kept in failure().
    double answer(UnitAnswer what, std::size_t i, const double* arguments);
    /// The derivative of a continuous answer by one of the arguments.
    double slope(UnitAnswer what, std::size_t i, std::size_t argument, const double* arguments);

    /// Why it gives no numbers; empty: it does.
    const std::string& failure() const { return failure_.empty() ? not_finite_ : failure_; }
    /// It said derivatives that differences do not bear out.
    bool distrusted() const { return distrusted_; }
    /// Whether steps have to be told.
    bool wants_steps() const;
    /// A step of the integrator was accepted, and the unit last looked at where it ended.
    void step_ended();

private:
    using Values = std::vector<double>;
    struct Continuous {
        Values rates, outputs, indicators;
        double of(UnitAnswer what, std::size_t i) const
        {
            return what == UnitAnswer::rate ? rates[i] : what == UnitAnswer::output ? outputs[i] : indicators[i];
        }
    };
    struct Column : Continuous {
        bool known = false, indicators_known = false;
    };
    /// The arguments behind the first three, taken apart.
    struct Arguments {
        Values states, inputs, discrete;
    };

    template <typename Do>
    double guarded(Do what);
    /// Until the next call.
    const Arguments& take_apart(const double* arguments, bool states, bool discrete);
    bool is_here(const double* arguments) const;
    double start(UnitAnswer what, std::size_t i, const double* arguments);
    double left(UnitAnswer what, std::size_t i, const double* arguments);
    void set_up(double set, double time);
    void run(double set, double time, const Values& inputs);
    void begin(const double* arguments);
    void happen(const double* arguments);
    void step(const double* arguments);
    bool stand(const double* arguments);
    void look_for_numbers(double time);
    void work_out_column(std::size_t argument, bool indicators, const double* arguments);
    double nominal(std::size_t argument) const;

    std::shared_ptr<const UnitPart> part_;
    Arguments given_;
    std::unique_ptr<UnitInstance> instance_;
    std::string failure_, not_finite_;
    bool begun_ = false;
    double set_ = -1, stage_ = 0;
    // the last look
    Values at_;
    Continuous looked_;
    bool known_ = false, standing_ = false, distrusted_ = false;
    std::size_t n_columns_ = 0;  ///< of its own that were taken
    std::vector<Column> columns_;
    // the last start values
    Values started_at_, start_states_, start_outputs_, start_discrete_;
    // the last start, event or step
    Values states_, outputs_, discrete_outputs_;
    UnitHappened happened_;
    double time_ = 0, step_ = 0;  ///< co-simulation: where it stands, and its last step
    Values held_inputs_, held_discrete_;
    bool asks_ = false, ended_ = false;
};

/// All units of one run. Used by one thread at a time.
class UnitSession {
public:
    LiveUnit& live(const std::shared_ptr<const UnitPart>& part);
    /// What the first of them that failed said, with its part: "in 'seal': unit 'pump.fmu': ..."; empty: none has.
    std::string failure() const;
    /// What a user should know of them, though the run goes on.
    std::vector<std::string> warnings() const;
    /// The instances of a run that begins are new ones.
    void begin_anew();
    bool wants_steps() const;
    void step_ended();

    /// The one that functions ask now, on this thread; outside of any run one that the thread has for that.
    static UnitSession& current();

private:
    std::map<const UnitPart*, std::unique_ptr<LiveUnit>> live_;
};

}  // namespace netloop

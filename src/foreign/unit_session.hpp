// SPDX-License-Identifier: Apache-2.0
// The instances of foreign units that belong to one run, and the functions through which its equations ask them.
//
// An equation must be able to ask a unit at any point, in any order and more than once; a unit is told one thing after the other and remembers. So each
// function gets all that its answer depends on as arguments: the set of params, the stage (how many events the unit has gone through), the time, the states,
// the inputs. The instance of the run is brought there, and the last answers are kept. What changes the unit for good (its start, an event, a step of
// co-simulation) is a function too, called by the blocks of the component, and answers with the next stage.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "foreign/unit_component.hpp"

namespace netloop {

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

    // All arguments as the functions of the component have them; see unit_session.cpp for their order. What fails gives NaN and is kept in failure().
    enum class What : std::uint8_t { rate, output, indicator };
    double look(What what, std::size_t i, const double* arguments);
    /// Its derivative by one of the arguments.
    double slope(What what, std::size_t i, std::size_t argument, const double* arguments);
    enum class Begins : std::uint8_t { state, output, discrete_output };
    /// What it begins with: a value of initialization mode.
    double start(Begins what, std::size_t i, const double* arguments);
    enum class Said : std::uint8_t { state, discrete_output, output, moved, next, ended, asks };
    /// What the start, event or step of co-simulation that this stage began with has left; of a stage that is new the unit goes through it now.
    double said(Said what, std::size_t i, const double* arguments);

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
    template <typename Do>
    double guarded(Do what);
    void fail(const std::string& why);
    void set_up(double set, double time);
    void look_for_numbers(double time);
    void run(double set, double time, const double* inputs);
    void begin(const double* arguments);
    void happen(const double* arguments);
    void step(const double* arguments);
    bool stand(const double* arguments);
    void columns_at(std::size_t argument, const double* arguments);

    std::shared_ptr<const UnitPart> part_;
    std::unique_ptr<UnitInstance> instance_;
    std::string failure_, not_finite_;
    bool begun_ = false;
    double set_ = -1, stage_ = 0;
    // the last look
    Values at_, rates_, outputs_, indicators_;
    bool known_ = false, standing_ = false, distrusted_ = false;
    std::size_t n_columns_ = 0;
    struct Column {
        bool known = false;
        Values rates, outputs, indicators;
    };
    std::vector<Column> columns_;
    // the last start values
    Values started_at_, start_states_, start_outputs_, start_discrete_;
    bool start_known_ = false;
    // the last event
    Values x_, discrete_outputs_;
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
    friend class UnitSessionScope;
    std::map<const UnitPart*, std::unique_ptr<LiveUnit>> live_;
};

/// Within it, functions of units on this thread ask this session (null: nothing changes).
class UnitSessionScope {
public:
    explicit UnitSessionScope(UnitSession* session);
    ~UnitSessionScope();
    UnitSessionScope(const UnitSessionScope&) = delete;
    UnitSessionScope& operator=(const UnitSessionScope&) = delete;

private:
    UnitSession* before_;
    bool set_;
};

/// The functions of a component that is a unit; see unit_component.cpp for their names.
using PartOf = std::function<std::shared_ptr<const UnitPart>(const std::string& path)>;
std::shared_ptr<const OutsideFunction> unit_function(const std::string& name, PartOf part_of);

}  // namespace netloop

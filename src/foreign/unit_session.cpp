// SPDX-License-Identifier: Apache-2.0
#include "foreign/unit_session.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <limits>

namespace netloop {
namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();
thread_local UnitSession* current_session = nullptr;

// Arguments begin with: set of params, stage, time. Then states, inputs and (at events) discrete inputs.
constexpr std::size_t kSet = 0, kStage = 1, kTime = 2, kFirst = 3;

bool same(const std::vector<double>& a, const double* b)
{
    return std::memcmp(a.data(), b, a.size() * sizeof(double)) == 0;
}

class UnitCallable : public Callable {
public:
    enum class Does : std::uint8_t {
        values,
        start_state,
        start_output,
        start_discrete,
        rate,
        output,
        indicator,
        state,
        discrete_output,
        held_output,
        moved,
        next,
        ended,
        asks,
        nothing
    };

    UnitCallable(std::shared_ptr<const UnitPart> part, Does does, std::size_t index, std::size_t n_arguments)
        : part_(std::move(part)), does_(does), index_(index), n_(n_arguments), name_(fmt::format("unit '{}'", part_->unit().file))
    {
    }
    const std::string& name() const override { return name_; }
    std::size_t n_arguments() const override { return n_; }
    bool has_state() const override { return true; }
    bool is_quantity(std::size_t argument) const override { return does_ != Does::values && argument >= kTime; }
    std::string failure() const override { return UnitSession::current().live(part_).failure(); }
    double evaluate(const double* a, double*) const override
    {
        if (does_ == Does::values) return part_->number_of(a);
        LiveUnit& live = UnitSession::current().live(part_);
        switch (does_) {
            case Does::rate:
                return live.look(LiveUnit::What::rate, index_, a);
            case Does::output:
                return live.look(LiveUnit::What::output, index_, a);
            case Does::indicator:
                return live.look(LiveUnit::What::indicator, index_, a);
            case Does::start_state:
                return live.start(LiveUnit::Begins::state, index_, a);
            case Does::start_output:
                return live.start(LiveUnit::Begins::output, index_, a);
            case Does::start_discrete:
                return live.start(LiveUnit::Begins::discrete_output, index_, a);
            case Does::state:
                return live.said(LiveUnit::Said::state, index_, a);
            case Does::discrete_output:
                return live.said(LiveUnit::Said::discrete_output, index_, a);
            case Does::held_output:
                return live.said(LiveUnit::Said::output, index_, a);
            case Does::moved:
                return live.said(LiveUnit::Said::moved, 0, a);
            case Does::next:
                return live.said(LiveUnit::Said::next, 0, a);
            case Does::ended:
                return live.said(LiveUnit::Said::ended, 0, a);
            case Does::asks:
                return live.said(LiveUnit::Said::asks, 0, a);
            default:
                return 0;
        }
    }
    CallablePtr derivative(Graph& graph, std::size_t argument) const override;

    const std::shared_ptr<const UnitPart>& part() const { return part_; }
    Does does() const { return does_; }

private:
    std::shared_ptr<const UnitPart> part_;
    Does does_;
    std::size_t index_, n_;
    std::string name_;
};

// The derivative of what a unit gives by one argument; by two of them as a difference of it.
class UnitSlope : public Callable {
public:
    UnitSlope(std::shared_ptr<const UnitPart> part, LiveUnit::What what, std::size_t index, std::size_t by, std::size_t n_arguments)
        : part_(std::move(part)), what_(what), index_(index), by_(by), n_(n_arguments), name_(fmt::format("unit '{}'", part_->unit().file))
    {
    }
    const std::string& name() const override { return name_; }
    std::size_t n_arguments() const override { return n_; }
    std::size_t n_scratch() const override { return n_; }
    bool has_state() const override { return true; }
    bool is_quantity(std::size_t argument) const override { return argument >= kTime; }
    std::string failure() const override { return UnitSession::current().live(part_).failure(); }
    double evaluate(const double* a, double* scratch) const override
    {
        LiveUnit& live = UnitSession::current().live(part_);
        if (!twice_) return live.slope(what_, index_, by_, a);
        if (second_ < kTime) return 0;
        constexpr double kShare = 1e-4;
        double h = kShare * std::max(std::abs(a[second_]), 1e-3);
        std::copy(a, a + n_, scratch);
        scratch[second_] = a[second_] + h;
        double up = live.slope(what_, index_, by_, scratch);
        scratch[second_] = a[second_] - h;
        return (up - live.slope(what_, index_, by_, scratch)) / (2 * h);
    }
    CallablePtr derivative(Graph&, std::size_t argument) const override
    {
        if (twice_) return std::make_shared<UnitCallable>(part_, UnitCallable::Does::nothing, 0, n_);
        auto second = std::make_shared<UnitSlope>(*this);
        second->twice_ = true;
        second->second_ = argument;
        return second;
    }
    bool smooth() const override { return !twice_; }

private:
    std::shared_ptr<const UnitPart> part_;
    LiveUnit::What what_;
    std::size_t index_, by_, n_, second_ = 0;
    bool twice_ = false;
    std::string name_;
};

CallablePtr UnitCallable::derivative(Graph&, std::size_t argument) const
{
    bool looks = does_ == Does::rate || does_ == Does::output || does_ == Does::indicator;
    if (!looks || argument < kTime) return std::make_shared<UnitCallable>(part_, Does::nothing, 0, n_);
    LiveUnit::What what = does_ == Does::rate ? LiveUnit::What::rate : does_ == Does::output ? LiveUnit::What::output : LiveUnit::What::indicator;
    return std::make_shared<UnitSlope>(part_, what, index_, argument, n_);
}

class UnitFunction : public OutsideFunction {
public:
    UnitFunction(std::string name, PartOf part_of) : name_(std::move(name)), part_of_(std::move(part_of)) {}

    std::vector<CallablePtr> callables(const std::string& path) const override
    {
        using Does = UnitCallable::Does;
        std::shared_ptr<const UnitPart> part = part_of_(path);
        const UnitPlan& p = part->plan();
        const std::size_t at_events = kFirst + p.n_states + p.n_inputs + p.n_discrete_inputs;
        std::vector<CallablePtr> list;
        auto add = [&](Does does, std::size_t n, std::size_t n_arguments) {
            for (std::size_t i = 0; i < n; ++i) list.push_back(std::make_shared<UnitCallable>(part, does, i, n_arguments));
        };
        if (name_ == "_values") {
            add(Does::values, 1, p.n_params);
        } else if (name_ == "_start") {
            const std::size_t n = kFirst + p.n_inputs + p.n_discrete_inputs;
            add(Does::nothing, 2, n);
            add(Does::start_state, p.n_states, n);
            add(Does::start_output, p.n_outputs, n);
            add(Does::start_discrete, p.n_discrete_outputs, n);
        } else if (name_ == "_look") {
            const std::size_t n = kFirst + p.n_states + p.n_inputs;
            add(Does::nothing, 2, n);
            add(Does::rate, p.n_states, n);
            add(Does::output, p.n_outputs, n);
            add(Does::indicator, p.n_indicators, n);
        } else if (name_ == "_after") {
            add(Does::moved, 1, at_events);
            add(Does::next, 1, at_events);
            add(Does::ended, 1, at_events);
            add(Does::state, p.n_states, at_events);
            add(Does::held_output, p.n_outputs, at_events);
            add(Does::discrete_output, p.n_discrete_outputs, at_events);
        } else if (name_ == "_asks") {
            add(Does::asks, 1, 4);
        }
        return list;
    }

private:
    std::string name_;
    PartOf part_of_;
};

}  // namespace

std::shared_ptr<const OutsideFunction> unit_function(const std::string& name, PartOf part_of)
{
    return std::make_shared<UnitFunction>(name, std::move(part_of));
}

UnitPart::UnitPart(std::shared_ptr<const ForeignUnit> unit, UnitKind kind, std::string path)
    : unit_(std::move(unit)), plan_(*unit_->description, kind), path_(std::move(path))
{
}

std::unique_ptr<UnitInstance> UnitPart::make() const
{
    constexpr double kPatience = 10;  // s
    const std::string folder = unit_->folder->path();
    return unit_->isolated ? make_isolated_unit(unit_->description, plan_, folder, path_, kPatience)
                           : make_direct_unit(unit_->description, plan_, folder, path_);
}

double UnitPart::number_of(const double* params) const
{
    std::lock_guard<std::mutex> lock(mutex_);
    for (std::size_t k = sets_.size(); k-- > 0;)
        if (same(sets_[k], params)) return static_cast<double>(k);
    sets_.emplace_back(params, params + plan_.n_params);
    return static_cast<double>(sets_.size() - 1);
}

std::vector<double> UnitPart::params_of(double number) const
{
    std::lock_guard<std::mutex> lock(mutex_);
    if (plan_.n_params == 0) return {};
    auto k = static_cast<std::size_t>(number);
    if (!(number >= 0) || k >= sets_.size()) throw UnitCallFailed("its params are not known yet");
    return sets_[k];
}

LiveUnit::LiveUnit(std::shared_ptr<const UnitPart> part) : part_(std::move(part)) {}

void LiveUnit::fail(const std::string& why)
{
    if (failure_.empty()) failure_ = fmt::format("unit '{}': {}", part_->unit().file, why);
}

template <typename Do>
double LiveUnit::guarded(Do what)
{
    if (!failure_.empty()) return kNone;
    try {
        return what();
    } catch (const UnitDiscards& e) {
        not_finite_ = fmt::format("unit '{}': {}", part_->unit().file, e.what());
        standing_ = false;
        return kNone;
    } catch (const std::exception& e) {
        fail(e.what());
        return kNone;
    }
}

void LiveUnit::set_up(double set, double time)
{
    if (instance_ == nullptr) instance_ = part_->make();
    instance_->set_up(part_->params_of(set), time, part_->unit().description->tolerance);
    begun_ = known_ = standing_ = start_known_ = asks_ = false;
    stage_ = 0;
    set_ = set;
}

double LiveUnit::start(Begins what, std::size_t i, const double* a)
{
    return guarded([&] {
        const UnitPlan& p = part_->plan();
        const std::size_t n = kFirst + p.n_inputs + p.n_discrete_inputs;
        // once it runs, its start is what it was
        bool past = stage_ >= 1 && !started_at_.empty();
        if (!past && (!start_known_ || started_at_.size() != n || !same(started_at_, a))) {
            if (instance_ == nullptr || begun_ || set_ != a[kSet]) set_up(a[kSet], a[kTime]);
            const double* u = a + kFirst;
            instance_->start_values({u, u + p.n_inputs}, {u + p.n_inputs, u + p.n_inputs + p.n_discrete_inputs}, start_states_, start_outputs_,
                                    start_discrete_);
            started_at_.assign(a, a + n);
            start_known_ = true;
        }
        return what == Begins::state ? start_states_[i] : what == Begins::output ? start_outputs_[i] : start_discrete_[i];
    });
}

// Brings it to where its equations hold, for whoever asks before its start was settled.
void LiveUnit::run(double set, double time, const double* inputs)
{
    if (begun_ && set_ == set) return;
    if (begun_ && stage_ >= 1) throw UnitCallFailed("its params cannot change while a run goes on");
    const UnitPlan& p = part_->plan();
    set_up(set, time);
    // before its start is settled nothing is known of what jumps
    Values discrete(held_discrete_.size() == p.n_discrete_inputs ? held_discrete_ : Values()), x;
    if (discrete.empty())
        for (std::size_t v : p.discrete_inputs) {
            const ForeignVariable& variable = part_->unit().description->variables[v];
            for (std::size_t k = 0; k < variable.n_elements; ++k) discrete.push_back(variable.start.empty() ? 0 : variable.start[k]);
        }
    instance_->begin(time, {inputs, inputs + p.n_inputs}, discrete, x, outputs_, discrete_outputs_);
    begun_ = true;
}

bool LiveUnit::stand(const double* a)
{
    const UnitPlan& p = part_->plan();
    const std::size_t n = kFirst + p.n_states + p.n_inputs;
    bool here = known_ && at_.size() == n && same(at_, a);
    if (here && standing_) return true;
    run(a[kSet], a[kTime], a + kFirst + p.n_states);
    for (std::size_t k = 0; k < n; ++k)
        if (!std::isfinite(a[k])) return false;  // no unit has to bear that
    const double* x = a + kFirst;
    const double* u = x + p.n_states;
    known_ = known_ && here;
    instance_->look(a[kTime], {x, u}, {u, u + p.n_inputs}, rates_, outputs_, indicators_);
    look_for_numbers(a[kTime]);
    if (!here) {
        at_.assign(a, a + n);
        for (Column& c : columns_) c.known = false;
    }
    return known_ = standing_ = true;
}

// An integrator may have gone too far and comes back; if not, this is what there is to say.
void LiveUnit::look_for_numbers(double time)
{
    not_finite_.clear();
    for (const Values* list : {&rates_, &outputs_, &indicators_})
        for (std::size_t k = 0; k < list->size() && not_finite_.empty(); ++k)
            if (!std::isfinite((*list)[k]))
                not_finite_ = fmt::format("unit '{}': {} {} is {} at {:.9g} s", part_->unit().file,
                                          list == &rates_     ? "the rate of its state"
                                          : list == &outputs_ ? "its output"
                                                              : "its event indicator",
                                          k + 1, (*list)[k], time);
}

double LiveUnit::look(What what, std::size_t i, const double* a)
{
    auto answer = [&] { return what == What::rate ? rates_[i] : what == What::output ? outputs_[i] : indicators_[i]; };
    if (known_ && failure_.empty() && same(at_, a)) return answer();
    return guarded([&] { return stand(a) ? answer() : kNone; });
}

// Derivatives of all that it gives by one argument: its own where it has them, else a difference to each side.
void LiveUnit::columns_at(std::size_t argument, const double* a)
{
    const UnitPlan& p = part_->plan();
    if (columns_.size() != kFirst + p.n_states + p.n_inputs) columns_.assign(kFirst + p.n_states + p.n_inputs, {});
    Column& c = columns_[argument];
    bool exact = argument >= kFirst && !distrusted_ && part_->unit().description->has_directional_exchange;
    if (exact && !standing_) stand(a);
    exact = exact && instance_->column(argument - kFirst, c.rates, c.outputs);
    // what it says of its own derivatives is held against differences at first, and now and then
    constexpr std::size_t kFirstLooks = 40, kEvery = 97;
    bool compared = exact && (++n_columns_ <= kFirstLooks || n_columns_ % kEvery == 0);
    if (exact && !compared && p.n_indicators == 0) {
        c.known = true;
        return;
    }
    constexpr double kShare = 6e-6;  // of the value: the cube root of the rounding
    double nominal = 0;
    if (argument >= kFirst) {
        std::size_t k = argument - kFirst;
        const auto& list = k < p.n_states ? p.states : p.inputs;
        if (k >= p.n_states) k -= p.n_states;
        for (std::size_t v : list) {
            const ForeignVariable& variable = part_->unit().description->variables[v];
            if (k < variable.n_elements) {
                nominal = variable.nominal;
                break;
            }
            k -= variable.n_elements;
        }
    }
    constexpr double kNoSize = 1e-3;  // of what is 0 and says no nominal value
    double h = kShare * std::max(std::abs(a[argument]), nominal > 0 ? nominal : kNoSize);
    Values moved(a, a + at_.size()), here_rates = rates_, here_outputs = outputs_, here_indicators = indicators_;
    Values side_rates[2], side_outputs[2], side_indicators[2];
    for (int side = 0; side < 2; ++side) {
        moved[argument] = a[argument] + (side == 0 ? h : -h);
        const double* x = moved.data() + kFirst;
        const double* u = x + p.n_states;
        instance_->look(moved[kTime], {x, u}, {u, u + p.n_inputs}, side_rates[side], side_outputs[side], side_indicators[side]);
    }
    standing_ = false;
    auto slope = [&](Values& to, const Values(&sides)[2]) {
        to.resize(sides[0].size());
        for (std::size_t k = 0; k < to.size(); ++k) to[k] = (sides[0][k] - sides[1][k]) / (2 * h);
    };
    auto agree = [&](const Values& said, const Values& here, const Values(&sides)[2]) {
        constexpr double kAgreed = 0.1, kRounding = 1e-9;
        for (std::size_t k = 0; k < said.size() && k < here.size(); ++k) {
            double seen = (sides[0][k] - sides[1][k]) / (2 * h), turn = std::abs(sides[0][k] - 2 * here[k] + sides[1][k]) / h;
            double noise = kRounding * std::max({std::abs(here[k]), std::abs(sides[0][k]), std::abs(sides[1][k])}) / h;
            if (!(std::abs(said[k] - seen) <= kAgreed * (std::abs(said[k]) + std::abs(seen)) + turn + noise)) return false;
        }
        return true;
    };
    if (compared && !(agree(c.rates, here_rates, side_rates) && agree(c.outputs, here_outputs, side_outputs))) {
        distrusted_ = true;
        exact = false;
    }
    if (!exact) {
        slope(c.rates, side_rates);
        slope(c.outputs, side_outputs);
    }
    slope(c.indicators, side_indicators);
    rates_ = std::move(here_rates), outputs_ = std::move(here_outputs), indicators_ = std::move(here_indicators);
    c.known = true;
}

double LiveUnit::slope(What what, std::size_t i, std::size_t argument, const double* a)
{
    if (argument < kTime) return 0;  // neither the set of params nor the stage is a quantity
    return guarded([&] {
        bool here = known_ && same(at_, a) && argument < columns_.size() && columns_[argument].known;
        if (!here) {
            if (!(known_ && same(at_, a)) && !stand(a)) return kNone;
            columns_at(argument, a);
        }
        const Column& c = columns_[argument];
        return what == What::rate ? c.rates[i] : what == What::output ? c.outputs[i] : c.indicators[i];
    });
}

// Arguments: set, stage, time, states, inputs, discrete inputs.
void LiveUnit::begin(const double* a)
{
    const UnitPlan& p = part_->plan();
    const double* x = a + kFirst;
    const double* u = x + p.n_states;
    const double* ud = u + p.n_inputs;
    set_up(a[kSet], a[kTime]);
    x_.assign(x, u);
    held_inputs_.assign(u, ud);
    held_discrete_.assign(ud, ud + p.n_discrete_inputs);
    happened_ = instance_->begin(a[kTime], held_inputs_, held_discrete_, x_, outputs_, discrete_outputs_);
    begun_ = true;
    ended_ = happened_.ended;
    time_ = a[kTime];
    step_ = 0;
}

void LiveUnit::happen(const double* a)
{
    const UnitPlan& p = part_->plan();
    const double* x = a + kFirst;
    const double* u = x + p.n_states;
    const double* ud = u + p.n_inputs;
    run(a[kSet], a[kTime], u);
    x_.assign(x, u);
    held_discrete_.assign(ud, ud + p.n_discrete_inputs);
    happened_ = instance_->happen(a[kTime], x_, {u, ud}, held_discrete_, discrete_outputs_);
    ended_ |= happened_.ended;
    known_ = standing_ = asks_ = false;
}

// Co-simulation: from where it stands to the time at hand, with the inputs of the last moment; then it holds those of this one.
void LiveUnit::step(const double* a)
{
    const UnitPlan& p = part_->plan();
    const double* u = a + kFirst;
    const double* ud = u + p.n_inputs;
    double length = a[kTime] - time_;
    // ticks of a clock are only equal up to rounding
    constexpr double kEqual = 1e-9;
    if (step_ > 0 && std::abs(length - step_) < kEqual * std::abs(step_)) length = step_;
    if (length > 0) {
        bool goes_on = instance_->do_step(time_, length, held_inputs_, held_discrete_, outputs_, discrete_outputs_);
        ended_ |= !goes_on;
        step_ = length;
        time_ = a[kTime];
    }
    held_inputs_.assign(u, ud);
    held_discrete_.assign(ud, ud + p.n_discrete_inputs);
}

double LiveUnit::said(Said what, std::size_t i, const double* a)
{
    return guarded([&] {
        if (a[kStage] > stage_) {
            try {
                if (stage_ == 0)
                    begin(a);
                else if (part_->plan().kind == UnitKind::exchange)
                    happen(a);
                else
                    step(a);
            } catch (const UnitDiscards& e) {
                throw UnitCallFailed(e.what());  // it will not be asked for this again
            }
            stage_ = a[kStage];
        }
        // before its start it has nothing to say that anybody would take
        auto of = [&](const Values& list) { return i < list.size() ? list[i] : 0.0; };
        switch (what) {
            case Said::state:
                return of(x_);
            case Said::discrete_output:
                return of(discrete_outputs_);
            case Said::output:
                return of(outputs_);
            case Said::moved:
                return happened_.moved ? 1.0 : 0.0;
            case Said::next:
                return std::min(happened_.next, 1e300);
            case Said::ended:
                return ended_ ? 1.0 : 0.0;
            case Said::asks:
                return asks_ ? 1.0 : 0.0;
        }
        return kNone;
    });
}

bool LiveUnit::wants_steps() const
{
    return begun_ && part_->plan().kind == UnitKind::exchange && part_->unit().description->wants_completed_steps;
}

void LiveUnit::step_ended()
{
    if (!begun_ || !known_ || !failure_.empty()) return;
    guarded([&] {
        const Values at = at_;
        if (!stand(at.data())) return 0.0;
        bool ended = false;
        asks_ = instance_->completed_step(ended) || ended;
        ended_ |= ended;
        return 0.0;
    });
}

LiveUnit& UnitSession::live(const std::shared_ptr<const UnitPart>& part)
{
    auto& place = live_[part.get()];
    if (place == nullptr) place = std::make_unique<LiveUnit>(part);
    return *place;
}

void UnitSession::begin_anew()
{
    live_.clear();
}

std::string UnitSession::failure() const
{
    for (const auto& [part, live] : live_)
        if (!live->failure().empty()) return fmt::format("in '{}': {}", part->path(), live->failure());
    return {};
}

std::vector<std::string> UnitSession::warnings() const
{
    std::vector<std::string> list;
    for (const auto& [part, live] : live_)
        if (live->distrusted())
            list.push_back(fmt::format("in '{}': the derivatives that unit '{}' gives are not those of its values: differences are taken instead", part->path(),
                                       part->unit().file));
    return list;
}

bool UnitSession::wants_steps() const
{
    return std::any_of(live_.begin(), live_.end(), [](const auto& l) { return l.second->wants_steps(); });
}

void UnitSession::step_ended()
{
    for (auto& [part, live] : live_)
        if (live->wants_steps()) live->step_ended();
}

UnitSession& UnitSession::current()
{
    if (current_session != nullptr) return *current_session;
    // a few, since nothing tells when they are no longer needed
    constexpr std::size_t kMost = 8;
    thread_local UnitSession own;
    if (own.live_.size() > kMost) own.live_.clear();
    return own;
}

UnitSessionScope::UnitSessionScope(UnitSession* session) : before_(current_session), set_(session != nullptr)
{
    if (set_) current_session = session;
}

UnitSessionScope::~UnitSessionScope()
{
    if (set_) current_session = before_;
}

}  // namespace netloop

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

bool same(const std::vector<double>& a, const double* b)
{
    return std::memcmp(a.data(), b, a.size() * sizeof(double)) == 0;
}

}  // namespace

UnitPart::UnitPart(std::shared_ptr<const ForeignUnit> unit, UnitKind kind, std::string path)
    : unit_(std::move(unit)), plan_(*unit_->description, kind), path_(std::move(path))
{
}

std::unique_ptr<UnitInstance> UnitPart::make() const
{
    constexpr double kPatience = 10;  // s
    const std::string folder = unit_->folder->path();
    return unit_->isolated ? make_isolated_unit(plan_.kind, folder, path_, kPatience) : make_direct_unit(unit_->description, plan_, folder, path_);
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

double LiveUnit::answer(UnitAnswer what, std::size_t i, const double* a)
{
    switch (what) {
        case UnitAnswer::set_of_params:
            return part_->number_of(a);
        case UnitAnswer::start_state:
        case UnitAnswer::start_output:
        case UnitAnswer::start_discrete_output:
            return start(what, i, a);
        case UnitAnswer::rate:
        case UnitAnswer::output:
        case UnitAnswer::indicator:
            if (is_here(a) && failure_.empty()) return looked_.of(what, i);
            return guarded([&] { return stand(a) ? looked_.of(what, i) : kNone; });
        case UnitAnswer::asks:
            return asks_ ? 1 : 0;
        case UnitAnswer::nothing:
            return 0;
        default:
            return left(what, i, a);
    }
}

template <typename Do>
double LiveUnit::guarded(Do what)
{
    if (!failure_.empty()) return kNone;
    auto told = [&](const std::exception& e) { return fmt::format("unit '{}': {}", part_->unit().file, e.what()); };
    try {
        return what();
    } catch (const UnitDiscards& e) {
        not_finite_ = told(e);
        standing_ = false;
        return kNone;
    } catch (const std::exception& e) {
        failure_ = told(e);
        return kNone;
    }
}

const LiveUnit::Arguments& LiveUnit::take_apart(const double* a, bool states, bool discrete)
{
    const UnitPlan& p = part_->plan();
    const double* x = a + kUnitFirst;
    const double* u = states ? x + p.n_states : x;
    const double* d = u + p.n_inputs;
    given_.states.assign(x, u);
    given_.inputs.assign(u, d);
    given_.discrete.assign(d, discrete ? d + p.n_discrete_inputs : d);
    return given_;
}

bool LiveUnit::is_here(const double* a) const
{
    return known_ && same(at_, a);
}

void LiveUnit::set_up(double set, double time)
{
    if (instance_ == nullptr) instance_ = part_->make();
    instance_->set_up(part_->params_of(set), time, part_->unit().description->tolerance);
    begun_ = known_ = standing_ = asks_ = false;
    stage_ = 0;
    set_ = set;
}

double LiveUnit::start(UnitAnswer what, std::size_t i, const double* a)
{
    return guarded([&] {
        const UnitPlan& p = part_->plan();
        const std::size_t n = kUnitFirst + p.n_inputs + p.n_discrete_inputs;
        // once it runs, its start is what it was
        if (stage_ == 0 && (started_at_.empty() || !same(started_at_, a))) {
            if (instance_ == nullptr || begun_ || set_ != a[kUnitSet]) set_up(a[kUnitSet], a[kUnitTime]);
            const Arguments& given = take_apart(a, false, true);
            instance_->start_values(given.inputs, given.discrete, start_states_, start_outputs_, start_discrete_);
            started_at_.assign(a, a + n);
        }
        const Values& values = what == UnitAnswer::start_state ? start_states_ : what == UnitAnswer::start_output ? start_outputs_ : start_discrete_;
        return i < values.size() ? values[i] : kNone;
    });
}

// Brings it to where its equations hold, for whoever asks before its start was settled.
void LiveUnit::run(double set, double time, const Values& inputs)
{
    if (begun_ && set_ == set) return;
    if (stage_ >= 1) throw UnitCallFailed("its params cannot change while a run goes on");
    set_up(set, time);
    // before its start is settled nothing is known of what jumps: it has what the unit says
    Values discrete, x;
    for (std::size_t v : part_->plan().discrete_inputs) {
        const ForeignVariable& variable = part_->unit().description->variables[v];
        for (std::size_t k = 0; k < variable.n_elements; ++k) discrete.push_back(variable.start.empty() ? 0 : variable.start[k]);
    }
    instance_->begin(time, inputs, discrete, x, outputs_, discrete_outputs_);
    begun_ = true;
}

bool LiveUnit::stand(const double* a)
{
    const UnitPlan& p = part_->plan();
    const std::size_t n = kUnitFirst + p.n_states + p.n_inputs;
    bool here = is_here(a);
    if (here && standing_) return true;
    const Arguments& given = take_apart(a, true, false);
    run(a[kUnitSet], a[kUnitTime], given.inputs);
    if (!std::all_of(a, a + n, [](double v) { return std::isfinite(v); })) return false;  // no unit has to bear that
    known_ = known_ && here;
    instance_->look(a[kUnitTime], given.states, given.inputs, looked_.rates, looked_.outputs, looked_.indicators);
    look_for_numbers(a[kUnitTime]);
    if (!here) {
        at_.assign(a, a + n);
        for (Column& c : columns_) c.known = c.indicators_known = false;
    }
    return known_ = standing_ = true;
}

// An integrator may have gone too far and comes back; if not, this is what there is to say.
void LiveUnit::look_for_numbers(double time)
{
    not_finite_.clear();
    for (const auto& [list, what] :
         {std::pair{&looked_.rates, "the rate of its state"}, {&looked_.outputs, "its output"}, {&looked_.indicators, "its event indicator"}})
        for (std::size_t k = 0; k < list->size() && not_finite_.empty(); ++k)
            if (!std::isfinite((*list)[k])) not_finite_ = fmt::format("unit '{}': {} {} is {} at {:.9g} s", part_->unit().file, what, k + 1, (*list)[k], time);
}

// The size that the unit says of a state or an input; 0: it says none.
double LiveUnit::nominal(std::size_t argument) const
{
    const UnitPlan& p = part_->plan();
    if (argument < kUnitFirst) return 0;
    std::size_t k = argument - kUnitFirst;
    const auto& list = k < p.n_states ? p.states : p.inputs;
    if (k >= p.n_states) k -= p.n_states;
    for (std::size_t v : list) {
        const ForeignVariable& variable = part_->unit().description->variables[v];
        if (k < variable.n_elements) return variable.nominal;
        k -= variable.n_elements;
    }
    return 0;
}

// Derivatives of all that it gives by one argument: its own where it has them, else a difference to each side. It has none of its indicators, which hardly
// anybody asks for. What it says of its own derivatives is held against differences at first, and now and then.
void LiveUnit::work_out_column(std::size_t argument, bool indicators, const double* a)
{
    constexpr std::size_t kFirstLooks = 40, kEvery = 97;
    const UnitPlan& p = part_->plan();
    columns_.resize(kUnitFirst + p.n_states + p.n_inputs);
    Column& c = columns_[argument];
    bool own = argument >= kUnitFirst && !distrusted_ && part_->unit().description->has_directional_exchange;
    if (own && !standing_) stand(a);
    own = own && instance_->column(argument - kUnitFirst, c.rates, c.outputs);
    bool compared = own && (++n_columns_ <= kFirstLooks || n_columns_ % kEvery == 0);
    c.known = own && !compared;
    if (c.known && !indicators) return;

    constexpr double kShare = 6e-6;   // of the value: the cube root of the rounding
    constexpr double kNoSize = 1e-3;  // of what is 0 and says no nominal value
    double size = nominal(argument), h = kShare * std::max(std::abs(a[argument]), size > 0 ? size : kNoSize);
    Continuous sides[2];
    Values moved(a, a + at_.size());
    for (int side = 0; side < 2; ++side) {
        moved[argument] = a[argument] + (side == 0 ? h : -h);
        const Arguments& given = take_apart(moved.data(), true, false);
        instance_->look(moved[kUnitTime], given.states, given.inputs, sides[side].rates, sides[side].outputs, sides[side].indicators);
    }
    standing_ = false;
    auto slope = [&](Values Continuous::*list, std::size_t k) { return ((sides[0].*list)[k] - (sides[1].*list)[k]) / (2 * h); };
    auto agree = [&](Values Continuous::*list) {
        constexpr double kAgreed = 0.1, kRounding = 1e-9, kDigits = 1e-10;  // of what cancels within the unit
        double largest = 0;
        for (double said : c.*list) largest = std::max(largest, std::abs(said));
        for (std::size_t k = 0; k < (c.*list).size(); ++k) {
            double here = (looked_.*list)[k], up = (sides[0].*list)[k], down = (sides[1].*list)[k], said = (c.*list)[k], seen = slope(list, k);
            double turn = std::abs(up - 2 * here + down) / h, noise = kRounding * std::max({std::abs(here), std::abs(up), std::abs(down)}) / h;
            if (!(std::abs(said - seen) <= kAgreed * (std::abs(said) + std::abs(seen)) + turn + noise + kDigits * largest)) return false;
        }
        return true;
    };
    if (compared && !(agree(&Continuous::rates) && agree(&Continuous::outputs))) {
        distrusted_ = true;
        own = false;
    }
    auto take = [&](Values Continuous::*list) {
        (c.*list).resize((sides[0].*list).size());
        for (std::size_t k = 0; k < (c.*list).size(); ++k) (c.*list)[k] = slope(list, k);
    };
    if (!own) take(&Continuous::rates), take(&Continuous::outputs);
    take(&Continuous::indicators);
    c.known = c.indicators_known = true;
}

double LiveUnit::slope(UnitAnswer what, std::size_t i, std::size_t argument, const double* a)
{
    return guarded([&] {
        if (!is_here(a) && !stand(a)) return kNone;
        const bool indicators = what == UnitAnswer::indicator;
        if (argument >= columns_.size() || !(indicators ? columns_[argument].indicators_known : columns_[argument].known))
            work_out_column(argument, indicators, a);
        return columns_[argument].of(what, i);
    });
}

void LiveUnit::begin(const double* a)
{
    const Arguments& given = take_apart(a, true, true);
    set_up(a[kUnitSet], a[kUnitTime]);
    states_ = given.states;
    held_inputs_ = given.inputs;
    held_discrete_ = given.discrete;
    happened_ = instance_->begin(a[kUnitTime], held_inputs_, held_discrete_, states_, outputs_, discrete_outputs_);
    begun_ = true;
    ended_ = happened_.ended;
    time_ = a[kUnitTime];
    step_ = 0;
}

void LiveUnit::happen(const double* a)
{
    const Arguments& given = take_apart(a, true, true);
    run(a[kUnitSet], a[kUnitTime], given.inputs);
    states_ = given.states;
    happened_ = instance_->happen(a[kUnitTime], states_, given.inputs, given.discrete, discrete_outputs_);
    ended_ |= happened_.ended;
    known_ = standing_ = asks_ = false;
}

// Co-simulation: from where it stands to the time at hand, with the inputs of the last moment; then it holds those of this one.
void LiveUnit::step(const double* a)
{
    const Arguments& given = take_apart(a, true, true);
    double length = a[kUnitTime] - time_;
    // ticks of a clock are only equal up to rounding
    constexpr double kEqual = 1e-9;
    if (step_ > 0 && std::abs(length - step_) < kEqual * std::abs(step_)) length = step_;
    if (length > 0) {
        bool goes_on = instance_->do_step(time_, length, held_inputs_, held_discrete_, outputs_, discrete_outputs_);
        ended_ |= !goes_on;
        step_ = length;
        time_ = a[kUnitTime];
    }
    held_inputs_ = given.inputs;
    held_discrete_ = given.discrete;
}

// What a stage has left that it began with; one that is new is gone through now.
double LiveUnit::left(UnitAnswer what, std::size_t i, const double* a)
{
    return guarded([&] {
        if (a[kUnitStage] > stage_) {
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
            stage_ = a[kUnitStage];
        }
        // before its start it has nothing to say that anybody would take
        auto of = [&](const Values& list) { return i < list.size() ? list[i] : 0.0; };
        constexpr double kNever = 1e300;
        switch (what) {
            case UnitAnswer::state:
                return of(states_);
            case UnitAnswer::discrete_output:
                return of(discrete_outputs_);
            case UnitAnswer::held_output:
                return of(outputs_);
            case UnitAnswer::moved:
                return happened_.moved ? 1.0 : 0.0;
            case UnitAnswer::next:
                return std::min(happened_.next, kNever);
            case UnitAnswer::ended:
                return ended_ ? 1.0 : 0.0;
            default:
                return kNone;
        }
    });
}

bool LiveUnit::wants_steps() const
{
    return begun_ && part_->plan().kind == UnitKind::exchange && part_->unit().description->wants_completed_steps;
}

void LiveUnit::step_ended()
{
    if (!known_) return;
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

UnitSessionScope::UnitSessionScope(UnitSession* session) : before_(current_session)
{
    if (session != nullptr) current_session = session;
}

UnitSessionScope::~UnitSessionScope()
{
    current_session = before_;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "foreign/unit_instance.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace netloop {
namespace {

using Causality = ForeignVariable::Causality;
using Variability = ForeignVariable::Variability;
using Values = std::vector<double>;

// Values of SI, and those of the unit in its own units of measure.
struct Scales {
    Values factor, offset, there;
    UnitAccess access;

    Scales() = default;
    Scales(const ForeignDescription& d, const std::vector<std::size_t>& which) : access(d.variables, which)
    {
        for (std::size_t index : which) {
            const ForeignVariable& v = d.variables[index];
            bool real = is_float(v.type);
            factor.insert(factor.end(), v.n_elements, real ? v.factor : 1);
            offset.insert(offset.end(), v.n_elements, real ? v.offset : 0);
        }
        there.resize(factor.size());
    }
    const double* out(const Values& si)
    {
        for (std::size_t k = 0; k < there.size(); ++k) there[k] = (si[k] - offset[k]) / factor[k];
        return there.data();
    }
    void in(Values& si) const
    {
        si.resize(there.size());
        for (std::size_t k = 0; k < there.size(); ++k) si[k] = factor[k] * there[k] + offset[k];
    }
};

class DirectUnit : public UnitInstance {
public:
    DirectUnit(std::shared_ptr<const ForeignDescription> d, const UnitPlan& plan, std::string folder, std::string name)
        : d_(std::move(d)),
          plan_(plan),
          folder_(std::move(folder)),
          name_(std::move(name)),
          params_(*d_, plan.params),
          inputs_(*d_, plan.inputs),
          discrete_inputs_(*d_, plan.discrete_inputs),
          outputs_(*d_, plan.outputs),
          discrete_outputs_(*d_, plan.discrete_outputs),
          states_(*d_, plan.states),
          rates_(*d_, plan.kind == UnitKind::exchange ? d_->derivatives : std::vector<std::size_t>{})
    {
        // a rate that says no unit of measure is in that of its state
        std::size_t at = 0;
        for (std::size_t k = 0; k < (plan.kind == UnitKind::exchange ? d_->derivatives.size() : 0); ++k) {
            const ForeignVariable &rate = d_->variables[d_->derivatives[k]], &state = d_->variables[d_->states[k]];
            bool said = rate.factor != 1 || !rate.unit.dimension.dimensionless();
            for (std::size_t e = 0; e < rate.n_elements; ++e, ++at) {
                if (!said) rates_.factor[at] = state.factor;
                rates_.offset[at] = 0;
            }
        }
        if (plan.kind != UnitKind::exchange) return;
        for (std::size_t r : d_->derivatives) unknown_.push_back(d_->variables[r].reference);
        for (std::size_t y : plan.outputs) unknown_.push_back(d_->variables[y].reference);
        for (std::size_t x : plan.states) known_.push_back(d_->variables[x].reference);
        for (std::size_t u : plan.inputs) known_.push_back(d_->variables[u].reference);
        // with arrays a reference is more than one number: then differences serve
        auto array = [&](std::size_t i) { return d_->variables[i].n_elements != 1; };
        scalar_ = std::none_of(plan.states.begin(), plan.states.end(), array) && std::none_of(plan.inputs.begin(), plan.inputs.end(), array) &&
                  std::none_of(plan.outputs.begin(), plan.outputs.end(), array);
    }

    void set_up(const Values& params, double time, double tolerance) override
    {
        calls_.reset();
        calls_ = make_unit_calls(*d_, folder_, plan_.kind, name_);
        if (plan_.n_params > 0) calls_->set(params_.access, params_.out(params));
        calls_->enter_initialization(time, tolerance);
    }
    void start_values(const Values& inputs, const Values& discrete, Values& x, Values& y, Values& discrete_y) override
    {
        give(inputs, discrete);
        if (plan_.n_states > 0) calls_->get(states_.access, states_.there.data());
        states_.in(x);
        read(y, discrete_y);
    }
    UnitHappened begin(double time, const Values& inputs, const Values& discrete, Values& x, Values& y, Values& discrete_y) override
    {
        give(inputs, discrete);
        calls_->exit_initialization();
        UnitHappened all;
        if (plan_.kind == UnitKind::exchange) {
            all = settle();
            all.moved = false;
            calls_->enter_continuous();
            if (plan_.n_states > 0) calls_->get_states(states_.there.data(), plan_.n_states);
            Values own;
            states_.in(own);
            if (!x.empty() && !same_states(own, x)) {
                // the run begins elsewhere than the unit would
                Values asked = x;
                calls_->set_time(time);
                calls_->set_states(states_.out(x), plan_.n_states);
                calls_->enter_event();
                UnitHappened more = settle();
                calls_->enter_continuous();
                calls_->get_states(states_.there.data(), plan_.n_states);
                states_.in(own);
                all.next = more.next;
                all.ended |= more.ended;
                all.moved = more.moved;
                if (!more.moved) own = asked;
            }
            x = own;
        }
        read(y, discrete_y);
        return all;
    }
    void look(double time, const Values& x, const Values& inputs, Values& rates, Values& y, Values& z) override
    {
        calls_->set_time(time);
        if (plan_.n_states > 0) calls_->set_states(states_.out(x), plan_.n_states);
        if (plan_.n_inputs > 0) calls_->set(inputs_.access, inputs_.out(inputs));
        if (plan_.n_states > 0) calls_->get_rates(rates_.there.data(), plan_.n_states);
        rates_.in(rates);
        if (plan_.n_outputs > 0) calls_->get(outputs_.access, outputs_.there.data());
        outputs_.in(y);
        z.resize(plan_.n_indicators);
        if (plan_.n_indicators > 0) calls_->get_indicators(z.data(), plan_.n_indicators);
    }
    bool column(std::size_t known, Values& rates, Values& y) override
    {
        if (!scalar_) return false;
        derivatives_.assign(unknown_.size(), 0);
        if (unknown_.empty() || !calls_->directional(unknown_, known_[known], derivatives_.data())) return false;
        double scale = known < plan_.n_states ? states_.factor[known] : inputs_.factor[known - plan_.n_states];
        rates.resize(plan_.n_states);
        y.resize(plan_.n_outputs);
        for (std::size_t k = 0; k < plan_.n_states; ++k) rates[k] = derivatives_[k] * rates_.factor[k] / scale;
        for (std::size_t k = 0; k < plan_.n_outputs; ++k) y[k] = derivatives_[plan_.n_states + k] * outputs_.factor[k] / scale;
        return true;
    }
    UnitHappened happen(double time, Values& x, const Values& inputs, const Values& discrete, Values& discrete_y) override
    {
        calls_->set_time(time);
        if (plan_.n_states > 0) calls_->set_states(states_.out(x), plan_.n_states);
        if (plan_.n_inputs > 0) calls_->set(inputs_.access, inputs_.out(inputs));
        calls_->enter_event();
        if (plan_.n_discrete_inputs > 0) calls_->set(discrete_inputs_.access, discrete_inputs_.out(discrete));
        UnitHappened all = settle();
        calls_->enter_continuous();
        if (all.moved) {
            calls_->get_states(states_.there.data(), plan_.n_states);
            states_.in(x);
        }
        read_discrete(discrete_y);
        return all;
    }
    bool completed_step(bool& ended) override { return calls_->completed_step(ended); }
    bool do_step(double time, double step, const Values& inputs, const Values& discrete, Values& y, Values& discrete_y) override
    {
        give(inputs, discrete);
        bool goes_on = calls_->do_step(time, step);
        read(y, discrete_y);
        return goes_on;
    }

private:
    // The run's start was solved: what differs by its roundings alone is the unit's own.
    static bool same_states(const Values& a, const Values& b)
    {
        constexpr double kRounding = 1e-12;
        for (std::size_t k = 0; k < a.size(); ++k)
            if (std::abs(a[k] - b[k]) > kRounding * std::max({std::abs(a[k]), std::abs(b[k]), kRounding})) return false;
        return true;
    }
    void give(const Values& inputs, const Values& discrete)
    {
        if (plan_.n_inputs > 0) calls_->set(inputs_.access, inputs_.out(inputs));
        if (plan_.n_discrete_inputs > 0) calls_->set(discrete_inputs_.access, discrete_inputs_.out(discrete));
    }
    void read(Values& y, Values& discrete_y)
    {
        if (plan_.n_outputs > 0) calls_->get(outputs_.access, outputs_.there.data());
        outputs_.in(y);
        read_discrete(discrete_y);
    }
    void read_discrete(Values& discrete_y)
    {
        if (plan_.n_discrete_outputs > 0) calls_->get(discrete_outputs_.access, discrete_outputs_.there.data());
        discrete_outputs_.in(discrete_y);
    }
    UnitHappened settle()
    {
        constexpr int kMost = 1000;
        UnitHappened all;
        for (int k = 0; k < kMost; ++k) {
            UnitHappened one = calls_->new_discrete_states();
            all.ended |= one.ended;
            all.moved |= one.moved;
            all.next = one.next;
            if (!one.again || one.ended) return all;
        }
        throw UnitCallFailed(fmt::format("its events do not settle: it asks for another turn {} times at one moment", kMost));
    }

    std::shared_ptr<const ForeignDescription> d_;
    UnitPlan plan_;
    std::string folder_, name_;
    Scales params_, inputs_, discrete_inputs_, outputs_, discrete_outputs_, states_, rates_;
    std::vector<std::uint32_t> unknown_, known_;
    bool scalar_ = false;
    std::unique_ptr<UnitCalls> calls_;
    Values derivatives_;
};

}  // namespace

UnitPlan::UnitPlan(const ForeignDescription& d, UnitKind of_kind) : kind(of_kind)
{
    auto take = [&](std::vector<std::size_t>& list, std::size_t& n, std::size_t i) {
        list.push_back(i);
        n += d.variables[i].n_elements;
    };
    for (std::size_t i = 0; i < d.variables.size(); ++i) {
        const ForeignVariable& v = d.variables[i];
        if (!is_number(v.type) || v.variability == Variability::constant) continue;
        bool continuous = is_float(v.type) && v.variability == Variability::continuous;
        if (v.causality == Causality::parameter && !v.start.empty())
            take(params, n_params, i);
        else if (v.causality == Causality::input)
            continuous ? take(inputs, n_inputs, i) : take(discrete_inputs, n_discrete_inputs, i);
        else if (v.causality == Causality::output)
            continuous ? take(outputs, n_outputs, i) : take(discrete_outputs, n_discrete_outputs, i);
    }
    if (kind != UnitKind::exchange) return;
    for (std::size_t s : d.states) take(states, n_states, s);
    n_indicators = d.n_indicators;
}

std::unique_ptr<UnitInstance> make_direct_unit(std::shared_ptr<const ForeignDescription> d, const UnitPlan& plan, const std::string& folder,
                                               const std::string& name)
{
    return std::make_unique<DirectUnit>(std::move(d), plan, folder, name);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "integrate/moments.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "foreign/unit_session.hpp"
#include "integrate/simulate.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {

const RunPoint::Layout& MomentNames::of(const CompiledModel& model)
{
    auto [it, fresh] = made_.try_emplace(&model);
    RunPoint::Layout& layout = it->second;
    if (!fresh) return layout;
    auto add = [&](const std::string& name, std::size_t index, double sign) {
        layout.names.push_back(name);
        layout.index.push_back(static_cast<std::uint32_t>(index));
        layout.sign.push_back(sign);
    };
    const auto n = static_cast<std::uint32_t>(model.n());
    std::map<std::pair<QuantityId, std::uint32_t>, std::uint32_t> z_of;
    for (std::uint32_t i = 0; i < n; ++i) {
        Variable v = model.form.z[i].variable;
        z_of[{v.quantity, v.order}] = i;
    }
    const auto& resolutions = model.form.reduced.system.resolutions;
    for (QuantityId q = 0; q < resolutions.size(); ++q) {
        const Resolution& r = resolutions[q];
        if (r.known != kNoNode) continue;
        std::string name = model.form.flat().quantities[q].path;
        // a quantity and its derivatives, as far as they are solved for; of what is only a rate the rate
        for (std::uint32_t k = 0; k < 4; ++k, name += "'") {
            auto member = z_of.find({r.representative, r.order + k});
            if (member != z_of.end()) {
                add(name, member->second, r.sign);
                continue;
            }
            auto below = r.order + k > 0 ? z_of.find({r.representative, r.order + k - 1}) : z_of.end();
            if (below != z_of.end()) add(name, n + below->second, r.sign);
        }
    }
    // what no path names: shares of what a run goes along
    std::vector<char> named(2 * static_cast<std::size_t>(n), 0);
    for (std::uint32_t i : layout.index) named[i] = 1;
    for (std::uint32_t i = 0; i < 2 * n; ++i)
        if (named[i] == 0) add(fmt::format("{} {}", i < n ? "unknown" : "rate of unknown", i < n ? i : i - n), i, 1);
    return layout;
}

std::shared_ptr<const RunPoint::Layout> MomentNames::shared(RunPoint::Layout layout)
{
    for (const auto& known : known_)
        if (known->names == layout.names) return known;
    known_.push_back(std::make_shared<const RunPoint::Layout>(std::move(layout)));
    return known_.back();
}

Moment Simulation::moment_at(const State& s)
{
    Evaluation& e = evaluation_;
    if (e.units() != nullptr)
        throw NumericFailure("run-failed", "a unit of FMI is part of the system: what it holds cannot be kept, and put back",
                             "repeat the run up to the time that is wanted");
    Moment moment;
    moment.time = s.time;
    const CompiledModel& model = e.model();
    RunPoint::Layout layout = moment_names_.of(model);
    moment.values = s.z;
    moment.values.insert(moment.values.end(), s.rates.begin(), s.rates.end());
    auto add = [&](const std::string& name, double value) {
        layout.names.push_back(name);
        layout.index.push_back(static_cast<std::uint32_t>(moment.values.size()));
        layout.sign.push_back(1);
        moment.values.push_back(value);
    };
    for (std::size_t k = 0; k < model.key.size(); ++k) add(fmt::format("system {}", k), model.key[k]);
    for (std::uint32_t c : model.slides) add(fmt::format("along {}", c), 1);
    std::vector<double> dependents = e.selection().dependents();
    for (std::size_t k = 0; k < dependents.size(); ++k) add(fmt::format("state choice {}", k), dependents[k]);
    for (const auto& [name, value] : events_.left_behind()) add(name, value);
    const auto& parameters = model.form.flat().parameters;
    for (ParameterId p = 0; p < parameters.size(); ++p)
        if (e.is_given(p)) add("param " + parameters[p].path, e.parameter(p));
    if (Delays* delays = e.delays()) moment.past = delays->kept(s.time);
    moment.layout = moment_names_.shared(std::move(layout));
    return moment;
}

bool Simulation::go_on_from(const Moment& moment)
{
    if (moment.layout == nullptr || moment.layout->n_values() > moment.values.size() || !std::isfinite(moment.time)) return false;
    std::map<std::string, double> known;
    for (std::size_t k = 0; k < moment.layout->names.size(); ++k)
        known.emplace(moment.layout->names[k], moment.layout->sign[k] * moment.values[moment.layout->index[k]]);
    std::vector<char> key;
    for (auto it = known.find("system 0"); it != known.end(); it = known.find(fmt::format("system {}", key.size()))) key.push_back(it->second != 0 ? 1 : 0);
    std::vector<std::uint32_t> slides;
    for (std::uint32_t c = 0; c < evaluation_.model().form.conditions.size(); ++c)
        if (known.count(fmt::format("along {}", c)) > 0) slides.push_back(c);
    events_.put_back(moment.time, known);
    std::shared_ptr<const CompiledModel> model = events_.system_of(key, slides);
    if (model == nullptr) return false;
    if (model.get() != &evaluation_.model()) {
        evaluation_.change_model(model);
        consistent_.renew();
    }
    std::vector<double> dependents;
    for (auto it = known.find("state choice 0"); it != known.end(); it = known.find(fmt::format("state choice {}", dependents.size())))
        dependents.push_back(it->second);
    if (!model->form.choices.empty() && !evaluation_.put_back_states(dependents)) return false;
    if (Delays* delays = evaluation_.delays(); delays != nullptr && !delays->put_back(moment.past)) return false;
    state_.time = moment.time;
    evaluation_.set_time(moment.time);
    evaluation_.search_start(state_.z, state_.rates);
    const RunPoint::Layout& own = moment_names_.of(*model);
    std::vector<char> found(2 * model->n(), 0);
    for (std::size_t k = 0; k < own.names.size(); ++k) {
        auto it = known.find(own.names[k]);
        if (it == known.end()) continue;
        std::size_t i = own.index[k], n = model->n();
        (i < n ? state_.z[i] : state_.rates[i - n]) = own.sign[k] * it->second;
        found[i] = 1;
    }
    for (std::size_t i = 0; i < model->n(); ++i)
        if (evaluation_.is_state(i) && found[i] == 0) return false;
    consistent_.solve(state_, sources_);
    begun_with_ = state_;
    evaluation_.selection().set_rates(state_.z, state_.rates);
    events_.modes().renew_clock(state_.time);
    take_integrator();
    measuring_.begin(state_);
    integrator_->restart(state_);
    started_ = true;
    return true;
}

}  // namespace netloop

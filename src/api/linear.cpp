// SPDX-License-Identifier: Apache-2.0
// Linear models and modes of a run at its present point.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "analyse/descriptor.hpp"
#include "analyse/linearise.hpp"
#include "analyse/modes.hpp"
#include "api/run_data.hpp"
#include "solve/explain.hpp"

namespace netloop {
namespace {

LinearModel::Signal told(const std::string& name, const Unit& unit, double at)
{
    LinearModel::Signal s;
    s.name = name;
    s.unit = si_unit(unit.dimension).text;
    s.display = unit.difference().text;
    s.scale = unit.scale;
    s.at = at;
    return s;
}

std::size_t column_named(const CompiledModel& m, const std::string& path)
{
    const auto& outputs = m.form.outputs;
    for (std::size_t i = 0; i < outputs.size(); ++i)
        if (outputs[i].path == path) return i;
    return outputs.size();
}

// Hidden constraints are differentiated: a param in one that is differentiated would move the states at once.
bool rate_enters(const CompiledModel& m, ParameterId p)
{
    const Graph& g = m.form.flat().graph;
    const auto& equations = m.form.reduced.equations;
    for (std::size_t e = 0; e + 1 < equations.size(); ++e) {
        if (equations[e + 1].differentiated == 0) continue;  // the last of its chain is not differentiated again
        for (NodeId id : g.reachable({equations[e].residual}))
            if (g[id].op == Op::parameter && g[id].a == p) return true;
    }
    return false;
}

}  // namespace

// The point that the run stands at, with everything settled; `since` of what is added to signals stands at its time.
struct PointOfRun {
    explicit PointOfRun(Run::Data& data) : d(data), state(data.simulation->state())
    {
        Evaluation& e = d.simulation->evaluation();
        d.looked = false;
        d.guarded([&] {
            d.simulation->solve_from_states(state);
            if (!d.system->added.empty()) {
                for (const AddedSignal& s : d.system->added) e.give(s.since, state.time);
                e.settle_parameters();
            }
            if (d.sensitivities == nullptr || d.sensitivities->model != e.shared_model()) d.sensitivities = std::make_shared<Sensitivities>(e.shared_model());
            point.emplace(*d.sensitivities, e, state);
        });
    }
    ~PointOfRun()
    {
        Evaluation& e = d.simulation->evaluation();
        if (!d.system->added.empty()) {
            for (const AddedSignal& s : d.system->added) e.take_back(s.since);
            e.settle_parameters();
        }
        e.at(d.simulation->state().time, d.simulation->state().z.data(), d.simulation->state().rates.data());
    }
    PointOfRun(const PointOfRun&) = delete;
    PointOfRun& operator=(const PointOfRun&) = delete;

    /// What has happened in a run so far: conditions that turned, blocks that ran.
    static std::size_t events(const Run& run)
    {
        std::size_t n = 0;
        for (const EventKind& kind : run.data_->simulation->event_log().kinds()) n += kind.times.size();
        return n;
    }

    Run::Data& d;
    State state;
    std::optional<Point> point;
};

namespace {

// What is asked for, found in a system, and what is to be said of it.
struct SignalsAsked {
    std::vector<std::string> notes{};
    std::vector<ActingInput> inputs{};
    std::vector<SeenOutput> outputs{};
};

SignalsAsked asked_for(const CompiledSystemData& system, Point& point, const LinearRequest& request)
{
    const CompiledModel& m = point.model();
    const FlatModel& flat = m.form.flat();
    SignalsAsked asked;
    std::vector<std::string>& notes = asked.notes;
    std::vector<ActingInput>& inputs = asked.inputs;
    std::vector<SeenOutput>& outputs = asked.outputs;
    auto add_input = [&](const std::string& path) -> std::size_t {
        for (std::size_t k = 0; k < inputs.size(); ++k)
            if (inputs[k].told.name == path) return k;
        const auto& added = system.added;
        auto signal = std::find_if(added.begin(), added.end(), [&](const AddedSignal& s) { return s.path == path; });
        ActingInput input;
        if (signal != added.end()) {
            input.value = signal->value;
            input.rate = signal->rate;
            input.bend = signal->bend;
            const Unit& unit = signal->of == AddedSignal::Of::system ? flat.parameters[signal->index].unit : flat.quantities[signal->index].unit;
            double now = 0;
            if (signal->of != AddedSignal::Of::system) {
                input.source = column_named(m, path);
                input.less = signal->of == AddedSignal::Of::input;
                now = point.output(*input.source);
            } else {
                now = point.parameter(signal->index);
            }
            input.told = told(path, unit, now);
        } else {
            auto param = std::find_if(flat.parameters.begin(), flat.parameters.end(), [&](const FlatParameter& p) { return p.path == path; });
            if (param == flat.parameters.end()) {
                if (column_named(m, path) < m.form.outputs.size())
                    throw UsageError(fmt::format("'{}' cannot act: the system was not compiled for it", path),
                                     "name the signal in CompileRequest::linear_inputs; other quantities follow from the equations");
                find_parameter(system, path, false);  // says what is near
            }
            input.value = static_cast<ParameterId>(param - flat.parameters.begin());
            input.told = told(path, param->unit, point.parameter(input.value));
            if (rate_enters(m, input.value)) {
                if (param->external)
                    throw UsageError(fmt::format("the rate of '{}' enters through hidden constraints", path), "name it in CompileRequest::linear_inputs");
                notes.push_back(fmt::format("'{}' stands in hidden constraints: the model holds for values of it that stay, not for its changes", path));
            }
        }
        inputs.push_back(std::move(input));
        return inputs.size() - 1;
    };
    for (const std::string& path : request.inputs) add_input(path);
    auto source_output = [&](const std::string& path) {
        std::size_t k = add_input(path);
        SeenOutput o;
        o.column = inputs[k].source.value_or(m.form.outputs.size());
        if (!inputs[k].source) throw UsageError(fmt::format("nothing in the system gives '{}': there is no loop to open", path));
        o.told = inputs[k].told;
        o.told.name = "source of " + path;
        o.source_of = k;
        outputs.push_back(std::move(o));
    };
    constexpr std::string_view kSource = "source of ";
    for (const std::string& path : request.outputs) {
        if (path.starts_with(kSource)) {
            source_output(path.substr(kSource.size()));
            continue;
        }
        SeenOutput o;
        o.column = column_named(m, path);
        if (o.column == m.form.outputs.size()) throw unknown_output(system, path);
        if (m.form.outputs[o.column].boolean) throw UsageError(fmt::format("'{}' is true or false: it has no slope", path));
        o.told = told(path, m.form.outputs[o.column].unit, point.output(o.column));
        outputs.push_back(std::move(o));
    }
    for (const std::string& path : request.open) source_output(path);
    const auto& blocks = m.form.events.blocks;
    if (std::any_of(blocks.begin(), blocks.end(), [](const FlatBlock& b) { return b.kind == FlatBlock::Kind::every; }))
        notes.push_back("sampled blocks hold what they have set: the model is that between two samples");
    if (!m.form.events.delays.empty()) notes.push_back("delayed values are held: the model is that within the delay");
    if (std::vector<std::uint32_t> corners = point.at_corners(); !corners.empty()) {
        constexpr std::size_t kMostNamed = 3;
        std::string where;
        for (std::size_t k = 0; k < corners.size() && k < kMostNamed; ++k) where += (k == 0 ? "" : "; ") + describe_residual(m, system.sources, corners[k]);
        if (corners.size() > kMostNamed) where += fmt::format("; and {} more", corners.size() - kMostNamed);
        notes.push_back(fmt::format(
            "the point lies at a corner, where slopes differ to both sides; their mean is taken, and of a condition the side that it stands on: {}", where));
    }
    return asked;
}

}  // namespace

LinearModel Run::linear(const LinearRequest& request)
{
    if (!data_->started()) step_to(0);
    PointOfRun at(*data_);
    SignalsAsked asked = asked_for(*data_->system, *at.point, request);
    if (at.point->n() > kMostStatesInTables)
        throw UsageError(fmt::format("a linear model of {} states: tables are made of at most {}", at.point->n(), kMostStatesInTables),
                         "descriptor_model() (on the command line --sparse) gives it as sparse matrices; modes of large systems are found by regions");
    LinearModel model = linearise(*at.point, asked.inputs, asked.outputs, request.cut);
    model.time = at.state.time;
    model.notes.insert(model.notes.begin(), asked.notes.begin(), asked.notes.end());
    return model;
}

DescriptorModel Run::descriptor_model(const LinearRequest& request)
{
    if (!data_->started()) step_to(0);
    PointOfRun at(*data_);
    SignalsAsked asked = asked_for(*data_->system, *at.point, request);
    DescriptorModel model = describe_linear(*at.point, asked.inputs, asked.outputs, request.cut);
    model.time = at.state.time;
    model.notes = asked.notes;
    return model;
}

std::size_t Run::n_states()
{
    if (!data_->started()) step_to(0);
    const Evaluation& e = data_->simulation->evaluation();
    const auto& z = e.model().form.z;
    std::size_t n = 0;
    for (std::size_t i = 0; i < z.size(); ++i) n += e.is_state(i) && !e.model().form.flat().quantities[z[i].variable.quantity].found ? 1 : 0;
    return n;
}

Modes Run::modes(const ModesRequest& request)
{
    if (!data_->started()) step_to(0);
    PointOfRun at(*data_);
    Modes found;
    data_->guarded([&] { found = modes_at(*at.point, at.state.time, request); });
    return found;
}

LinearCheck check_linear(const CompiledSystem& system, const std::function<void(Run&, const RunOptions&)>& to_point, const LinearRequest& request,
                         const LinearCheckOptions& options)
{
    // the loop stays closed here: a run has it so. What cutting does to the matrices is exact.
    LinearRequest closed = request;
    closed.cut = false;
    RunOptions exact;
    exact.tolerance = 1e-9;
    exact.in_memory = false;
    Run still(system), moved(system);
    to_point(still, exact);
    to_point(moved, exact);
    LinearModel model = still.linear(closed);
    LinearCheck check;
    if (options.input >= model.inputs.size()) throw UsageError(fmt::format("there is no input {} (counted from 0)", options.input));
    const LinearModel::Signal& input = model.inputs[options.input];
    check.input = input.name;
    check.size = options.size != 0 ? options.size : 0.01 * std::max(std::abs(input.at), input.scale);
    check.until = options.until;
    if (check.until <= 0) {
        // until the slowest pole that is not at rest has settled
        double slowest = HUGE_VAL, fastest = 0;
        for (const Root& r : model.poles()) fastest = std::max(fastest, std::abs(r.value));
        for (const Root& r : model.poles())
            if (std::abs(r.value) > 1e-9 * fastest) slowest = std::min(slowest, std::abs(r.value));
        check.until = std::isfinite(slowest) ? 8 / slowest : 1;
        if (options.most > 0) check.until = std::min(check.until, options.most);
    }
    const CompiledSystemData& data = system.data();
    auto added = std::find_if(data.added.begin(), data.added.end(), [&](const AddedSignal& s) { return s.path == input.name; });
    ParamId acts{added != data.added.end() ? added->value : find_parameter(data, input.name, false)};
    moved.set(acts, moved.value(acts) + check.size);
    std::vector<OutputId> columns;
    for (const LinearModel::Signal& o : model.outputs) {
        constexpr std::string_view kSource = "source of ";
        columns.push_back(system.output(o.name.starts_with(kSource) ? o.name.substr(kSource.size()) : o.name));
        check.outputs.push_back({o.name, o.display, 0, 0, 0, {}, {}, {}});
    }
    constexpr std::size_t kPoints = 200;
    std::vector<double> times;
    for (std::size_t k = 0; k <= kPoints; ++k) times.push_back(check.until * static_cast<double>(k) / kPoints);
    const std::size_t happened[2] = {PointOfRun::events(still), PointOfRun::events(moved)};
    for (std::size_t k = 0; k < times.size(); ++k) {
        if (k > 0) {
            still.step_to(model.time + times[k]);
            moved.step_to(model.time + times[k]);
            // behind an event the equations are others
            if (PointOfRun::events(still) != happened[0] || PointOfRun::events(moved) != happened[1]) {
                times.resize(k);
                check.until = times.back();
                check.ended_by_event = true;
                break;
            }
        }
        for (std::size_t o = 0; o < columns.size(); ++o) {
            LinearCheck::Output& out = check.outputs[o];
            // what is added to a part's input stands in it, and not in its source
            bool source =
                out.name.starts_with("source of ") && added != data.added.end() && added->of == AddedSignal::Of::input && out.name == "source of " + input.name;
            out.times.push_back(times[k]);
            out.real.push_back(moved.value(columns[o]) - still.value(columns[o]) - (source ? check.size : 0));
        }
    }
    for (std::size_t o = 0; o < columns.size(); ++o) {
        LinearCheck::Output& out = check.outputs[o];
        out.linear = model.step(options.input, o, times);
        for (std::size_t k = 0; k < times.size(); ++k) {
            out.linear[k] *= check.size;
            out.range = std::max(out.range, std::abs(out.real[k]));
            if (double off = std::abs(out.real[k] - out.linear[k]); off > out.largest) out.largest = off, out.at = times[k];
        }
    }
    return check;
}

}  // namespace netloop

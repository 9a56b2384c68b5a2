// SPDX-License-Identifier: Apache-2.0
#include "netloop/run.hpp"

#include <fmt/format.h>

#include <cmath>
#include <utility>

#include "api/run_data.hpp"
#include "base/catalogue.hpp"
#include "base/diagnostics.hpp"
#include "base/verifies_all.hpp"

namespace netloop {

Run::Run(const CompiledSystem& system) : data_(std::make_unique<Data>(SystemAccess::data(system))) {}
Run::~Run() = default;
Run::Run(Run&&) noexcept = default;
Run& Run::operator=(Run&&) noexcept = default;

// --- values from outside -----------------------------------------------------------------------------------------------

void Run::set(const std::string& path, const Quantity& value)
{
    ParameterId p = find_parameter(*data_->system, path, false);
    data_->give({{p, data_->checked_si(p, value)}});
}

void Run::set(ParamId param, double si)
{
    data_->give({{param.number, si}});
}

void Run::set(InputId input, double si)
{
    data_->give({{input.number, si}});
}

namespace {
template <typename Id>
std::vector<std::pair<ParameterId, double>> paired(std::span<const Id> ids, std::span<const double> si)
{
    if (ids.size() != si.size()) throw UsageError(fmt::format("{} things to be set, and {} values", ids.size(), si.size()));
    std::vector<std::pair<ParameterId, double>> values;
    values.reserve(ids.size());
    for (std::size_t i = 0; i < ids.size(); ++i) values.emplace_back(ids[i].number, si[i]);
    return values;
}
}  // namespace

void Run::set(std::span<const ParamId> params, std::span<const double> si)
{
    data_->give(paired(params, si));
}

void Run::set(std::span<const InputId> inputs, std::span<const double> si)
{
    data_->give(paired(inputs, si));
}

void Run::check_params()
{
    auto problem = data_->params_alone().settle_parameters();
    if (!problem) return;
    const FlatParameter& p = data_->flat().parameters[problem->parameter];
    auto shown = [&](double si) { return si_text(p.unit, si); };
    Diagnostics diagnostics;
    diagnostics.report(messages::out_of_range, p.origin.span, p.path, shown(problem->value), shown(problem->low), shown(problem->high))
        .mend("give a value in the range; the range stands with the declaration of the param");
    Diagnostic told = export_diagnostic(diagnostics.items().front(), data_->system->sources);
    throw ModelError(told.rendered, {told});
}

Run::Input& Run::Input::operator=(double si)
{
    if (!std::isfinite(si)) throw UsageError(fmt::format("'{}' cannot be set to {}", path_, si));
    ParameterId p = find_parameter(*run_.data_->system, path_, true);
    const Unit& unit = run_.data_->flat().parameters[p].unit;
    if ((unit.scale != 1 || unit.offset != 0) && si != 0)
        throw UsageError(fmt::format("'{}' is declared in [{}], the value {:g} has no unit; write q({:g}, \"{}\")", path_, unit.text, si, si, unit.text));
    run_.data_->give({{p, si}});
    return *this;
}

Run::Input& Run::Input::operator=(const Quantity& value)
{
    ParameterId p = find_parameter(*run_.data_->system, path_, true);
    run_.data_->give({{p, run_.data_->checked_si(p, value)}});
    return *this;
}

// --- a whole run, and step by step -------------------------------------------------------------------------------------

Recording Run::simulate(const RunOptions& options) &&
{
    simulate(options);
    return std::move(data_->recording);
}

const Recording& Run::simulate(const RunOptions& options) &
{
    Data& d = *data_;
    std::optional<double> stop = options.stop ? options.stop : d.system->stop;
    if (!stop && !d.system->scenario.empty())
        throw UsageError(
            fmt::format("scenario '{}' has no stop time; add a line to it, stop at 60 s, or say --stop 60s on the command line", d.system->scenario));
    if (!stop)
        throw UsageError(
            fmt::format("'{}' has no stop time; add one: --stop 60s on the command line, or a scenario: scenario first_run of {} {{ stop at 60 s }}",
                        d.system->name, d.system->name));
    d.begin(options, true);
    if (!d.recorder) return d.recording;  // interrupted
    d.advance(*stop);
    if (d.recorder) d.end();
    return d.recording;
}

void Run::begin(const RunOptions& options)
{
    data_->begin(options, true);
}

void Run::start(const RunOptions& options)
{
    data_->begin(options, false);
}

bool Run::step_to(double time)
{
    Data& d = *data_;
    if (!d.started()) d.begin({}, false);
    if (!(time >= d.simulation->state().time) || !std::isfinite(time))
        throw UsageError(fmt::format("cannot step to {:g} s: the run stands at {:g} s", time, d.simulation->state().time));
    bool recorded = d.recorder.has_value(), done = d.advance(time);
    if (recorded) {
        if (done) d.summary.reason = "stepped";
        return done;
    }
    if (verifies_all())
        if (Verification verified = d.verify(); !verified.holds)
            throw RunError("not-verified", "the run does not meet its model as written: " + verified.text());
    d.summary.complete = true;
    d.summary.reason = "stepped";
    d.summarize(time);
    return done;
}

const Recording& Run::end()
{
    if (!data_->recorder) throw UsageError("nothing is being recorded: begin() comes first");
    data_->end();
    return data_->recording;
}

double Run::time() const
{
    return data_->simulation == nullptr ? 0 : data_->simulation->state().time;
}

// --- what it has now ---------------------------------------------------------------------------------------------------

double Run::value(OutputId output)
{
    double si = 0;
    values({&output, 1}, {&si, 1});
    return si;
}

void Run::values(std::span<const OutputId> outputs, std::span<double> si)
{
    if (outputs.size() != si.size()) throw UsageError(fmt::format("{} quantities are asked for, and there is room for {}", outputs.size(), si.size()));
    if (!data_->started()) step_to(0);
    data_->look();
    std::size_t n = data_->model().form.outputs.size();
    for (const OutputId& o : outputs)
        if (o.number >= n) throw UsageError("a handle that belongs to no quantity of this system: CompiledSystem::output() gives them");
    for (std::size_t i = 0; i < outputs.size(); ++i) si[i] = data_->simulation->evaluation().output(outputs[i].number);
}

double Run::value(ParamId param)
{
    return data_->param(param.number);
}

double Run::value(const std::string& path)
{
    const CompiledSystemData& system = *data_->system;
    if (auto output = output_named(system, path)) return value(*output);
    const auto& parameters = data_->flat().parameters;
    for (ParameterId p = 0; p < parameters.size(); ++p)
        if (parameters[p].path == path) return data_->param(p);
    throw unknown_output(system, path);
}

Verification Run::verify()
{
    if (!data_->started()) step_to(0);
    data_->looked = false;
    return data_->verify();
}

RunPoint Run::point()
{
    if (!data_->started()) step_to(0);
    Data& d = *data_;
    const State& s = d.simulation->state();
    d.simulation->evaluation().at(s.time, s.z.data(), s.rates.data());
    return d.point_at(s);
}

void Run::go_on_from(const RunPoint& point, const RunOptions& options)
{
    data_->go_on_from(point, options);
}

// --- again -------------------------------------------------------------------------------------------------------------

void Run::reset()
{
    Data& d = *data_;
    d.recorder.reset();
    d.simulation.reset();
    d.summary = {};
    d.recording = {};
    d.looked = false;
}

void Run::search_from(const Run& other)
{
    const Data& from = *other.data_;
    if (from.system->model != data_->system->model) throw UsageError("a start is searched from that of a run of the same system only");
    if (!from.started()) throw UsageError("the run whose start is to be searched from was not started");
    data_->search_from = from.simulation->begun_with();
}

const RunSummary& Run::summary() const
{
    return data_->summary;
}
const Recording& Run::recording() const
{
    return data_->recording;
}

}  // namespace netloop

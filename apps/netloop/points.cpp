// SPDX-License-Identifier: Apache-2.0
#include "points.hpp"

#include <algorithm>
#include <cmath>

void add_point_options(CLI::App& app, PointOptions& o)
{
    app.add_option("file", o.file, "the .loop file, or a recording (.h5), whose run is repeated from the last point that it keeps, else from its start")
        ->required();
    app.add_option("scenario", o.scenario, "the scenario (needed if the file has several)");
    app.add_option("--system", o.system, "the system, if the file has several and no scenario is named");
    app.add_option("--set", o.set, "a value for a param or option: path=value")->allow_extra_args(false);
}

PointSource::PointSource(const PointOptions& o, const std::vector<std::string>& signals) : library_(netloop::Library::standard())
{
    netloop::CompileRequest& request = request_;
    request.system = o.system;
    request.scenario = o.scenario;
    request.set = split_settings(o.set);
    if (!o.file.ends_with(".loop")) {  // a recording may have any other name
        recording_ = open_recording(o.file);
        const netloop::RunOrigin& origin = recording_->origin;
        if (origin.texts.empty()) throw netloop::RecordingError(fmt::format("'{}' does not hold the model that it was made from", o.file));
        library_.load_recorded(origin.texts);
        request.system = recording_->system;
        request.scenario = recording_->scenario;
        request.no_scenario = recording_->scenario.empty();
        std::vector<std::pair<std::string, std::string>> set = origin.settings;
        set.insert(set.end(), request.set.begin(), request.set.end());
        request.set = set;
        changed_ = !o.set.empty();
        options_.tolerance = origin.tolerance > 0 ? std::optional(origin.tolerance) : std::nullopt;
        if (recording_->n_rows() > 0) stop_ = recording_->time().final();
    } else {
        library_.load_file(o.file);
    }
    if (!signals.empty()) {
        // params are there anyway; everything else has to be put in
        netloop::CompiledSystem plain = netloop::compile(library_, request);
        std::vector<std::string> params = plain.parameters();
        for (const std::string& s : signals) {
            bool external = false;
            try {
                (void)plain.input(s);
                external = true;
            } catch (const netloop::UsageError&) {
            }
            if (external || std::find(params.begin(), params.end(), s) == params.end()) request.linear_inputs.push_back(s);
        }
    }
    system_ = netloop::compile(library_, request);
    if (!stop_) stop_ = system_->stop();
    if (!recording_ || changed_) return;
    // what a program set, and no text says
    netloop::Run fresh(*system_);
    std::vector<std::string> params = system_->parameters();
    for (const netloop::ParameterValue& p : recording_->origin.parameters) {
        if (std::find(params.begin(), params.end(), p.path) == params.end()) continue;
        double now = fresh.value(system_->param(p.path));
        if (std::abs(now - p.value) > 1e-12 * std::max(std::abs(now), std::abs(p.value))) params_.emplace_back(p.path, p.value);
    }
}

netloop::Run PointSource::run() const
{
    netloop::Run run(*system_);
    prepare(run, *system_);
    return run;
}

void PointSource::prepare(netloop::Run& run, const netloop::CompiledSystem& system) const
{
    for (const auto& [path, si] : params_) run.set(system.param(path), si);
}

bool PointSource::go_to(netloop::Run& run, double time) const
{
    const netloop::RunPoint* from = nullptr;
    // times come as texts: 0.3 s is the point at 0.30000000000000004 s
    const double slack = 1e-9 * std::max(1.0, std::abs(time));
    if (recording_ && !changed_)
        for (const netloop::RunPoint& p : recording_->points)
            if (p.time <= time + slack && (run.time() == 0 || p.time > run.time())) from = &p;
    if (from != nullptr)
        run.go_on_from(*from, options_);
    else if (recording_ && run.time() == 0)
        run.start(options_);  // with the tolerance that the recorded run had, whatever the scenario says
    return run.step_to(std::max(time, run.time()));
}

void PointSource::bring(netloop::Run& run, double time) const
{
    if (!(time >= 0)) throw netloop::UsageError(fmt::format("a point at {:g} s: it lies at 0 s or behind it", time));
    if (stop_ && time > *stop_ * (1 + 1e-9))
        throw netloop::UsageError(fmt::format("a point at {:g} s: the {} ends at {:g} s", time, recorded() ? "recording" : "scenario", *stop_));
    if (!go_to(run, time)) throw netloop::UsageError(fmt::format("the run does not reach {:g} s: {}", time, run.summary().reason));
    if (!recording_ || changed_) return;
    // the run was repeated: is it the one that was recorded?
    constexpr double kSame = 1e-2;
    std::vector<std::string> quantities = system_->quantities();
    netloop::Recording recording = *recording_;
    recording.fetch({"*"});
    std::string worst;
    double most = 0;
    for (std::size_t k = 1; k < recording.columns.size(); ++k) {
        const netloop::Column& c = recording.columns[k];
        if (std::find(quantities.begin(), quantities.end(), c.name) == quantities.end()) continue;
        double range = c.max() - c.min(), off = std::abs(c.at(time, recording.time()) - run.value(c.name));
        if (range > 0 && off / range > most) most = off / range, worst = c.name;
    }
    if (most > kSame)
        tell(
            "note: the run was repeated, and '{}' is off by {:.2g} % of its range from what was recorded at {:g} s (between rows it is taken by straight "
            "lines)\n",
            worst, 100 * most, time);
}

// SPDX-License-Identifier: Apache-2.0
// A run from its start to its end: params, rows, steps, the closing of what was recorded.
#include "api/run_data.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <filesystem>
#include <map>

#include "api/run_settings.hpp"
#include "base/interrupt.hpp"
#include "base/verifies_all.hpp"
#include "compile/proof_of_sign.hpp"
#include "evaluate/prune.hpp"
#include "files/input_file.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {

namespace {

// Between rows more points are verified, each at a share of their distance that is no simple number: a signal that has the same phase in all rows
// has another one there.
constexpr double kBetween = 0.3819660112501051;
constexpr std::size_t kMostBetween = 250;  // where rows are closer than steps, more of them tell nothing new
std::vector<double> points_between(const std::vector<double>& rows)
{
    std::vector<double> points;
    std::size_t stride = std::max<std::size_t>(1, rows.size() / kMostBetween);
    for (std::size_t k = 0; k + 1 < rows.size(); k += stride) points.push_back(rows[k] + kBetween * (rows[k + 1] - rows[k]));
    return points;
}
std::vector<double> merged(const std::vector<double>& a, const std::vector<double>& b)
{
    std::vector<double> all(a.size() + b.size());
    std::merge(a.begin(), a.end(), b.begin(), b.end(), all.begin());
    return all;
}

std::string shown_number(const Unit& unit, double si)
{
    return std::isfinite(si) ? fmt::format("{:.6g}", unit.from_si(si)) : std::isnan(si) ? "no number" : si < 0 ? "-inf" : "inf";
}

}  // namespace

std::string si_text(const Unit& unit, double si)
{
    return shown_number(unit, si) + (unit.text.empty() || unit.text == "1" ? "" : " " + unit.text);
}

// --- values from outside -----------------------------------------------------------------------------------------------

std::vector<ParameterId> Run::Data::given_parameters() const
{
    std::vector<ParameterId> list;
    for (ParameterId p = 0; p < given.size(); ++p)
        if (given[p]) list.push_back(p);
    return list;
}

double Run::Data::checked_si(ParameterId p, const Quantity& value) const
{
    const FlatParameter& f = flat().parameters[p];
    if (!std::isfinite(value.value)) throw UsageError(fmt::format("'{}' cannot be set to {}", f.path, value.value));
    if (value.unit.empty()) {
        bool plain = f.unit.dimension.dimensionless() && f.unit.scale == 1;
        if (!plain && value.value != 0)
            throw UsageError(fmt::format("'{}' is declared in [{}], the value {:g} has no unit; write q({:g}, \"{}\")", f.path, f.unit.text, value.value,
                                         value.value, f.unit.text));
        return value.value;
    }
    Unit unit;
    UnitProblem problem;
    if (!parse_unit(value.unit, unit, problem)) throw UsageError(fmt::format("{}{}", problem.text, problem.hint.empty() ? "" : "; " + problem.hint));
    if (!(unit.dimension == f.unit.dimension)) throw UsageError(fmt::format("'{}' is declared in [{}], the value is in [{}]", f.path, f.unit.text, value.unit));
    return unit.to_si(value.value);
}

RunError Run::Data::problem_error(const Evaluation::ParameterProblem& problem) const
{
    const FlatParameter& p = flat().parameters[problem.parameter];
    std::string place = place_text(system->sources, p.origin.span);
    if (!place.empty()) place += ": ";
    auto shown = [&](double si) { return shown_number(p.unit, si); };
    if (!problem.finite()) return {"out-of-range", fmt::format("{}param '{}' has no finite value", place, p.path)};
    return {"out-of-range",
            fmt::format("{}param '{}' is {} {}, outside its range {} .. {} {}", place, p.path, shown(problem.value), p.unit.text, shown(problem.low),
                        shown(problem.high), p.unit.text),
            "give a value in the range; the range stands with the declaration of the param"};
}

void Run::Data::settle(Evaluation& evaluation)
{
    if (auto problem = evaluation.settle_parameters()) throw problem_error(*problem);
}

Evaluation& Run::Data::params_alone()
{
    if (started()) return simulation->evaluation();
    if (before == nullptr) {
        before = std::make_unique<Evaluation>(system->model, Evaluator::plain);
        settled = false;
    }
    if (!settled) put_given(*before);
    return *before;
}

void Run::Data::put_given(Evaluation& evaluation) const
{
    for (ParameterId p = 0; p < given.size(); ++p) given[p] ? evaluation.give(p, *given[p]) : evaluation.take_back(p);
}

double Run::Data::param(ParameterId p)
{
    if (p >= given.size()) throw UsageError("a handle that belongs to no param of this system: CompiledSystem::param() gives them");
    Evaluation& e = params_alone();
    if (!started() && !settled) {
        settle(e);
        settled = true;
    }
    return e.parameter(p);
}

void Run::Data::give(const std::vector<std::pair<ParameterId, double>>& values)
{
    const Graph& graph = flat().graph;
    for (const auto& [p, si] : values) {
        if (p >= given.size()) throw UsageError("a handle that belongs to no param or input of this system: CompiledSystem::param() and input() give them");
        const FlatParameter& f = flat().parameters[p];
        if (!std::isfinite(si)) throw UsageError(fmt::format("'{}' cannot be set to {}", f.path, si));
        // where the range is given in numbers it can be looked at alone
        auto number = [&](NodeId node, double otherwise) { return node != kNoNode && graph.is_constant(node) ? graph.value(node) : otherwise; };
        Evaluation::ParameterProblem problem{p, si, number(f.low, -HUGE_VAL), number(f.high, HUGE_VAL)};
        if (!problem.is_none()) throw problem_error(problem);
    }
    std::vector<std::pair<ParameterId, std::optional<double>>> was;
    for (const auto& [p, si] : values) {
        was.emplace_back(p, given[p]);
        given[p] = si;
    }
    settled = looked = false;
    if (!started()) return;
    auto put = [&] {
        for (const auto& [p, old] : was) given[p] ? simulation->evaluation().give(p, *given[p]) : simulation->evaluation().take_back(p);
    };
    try {
        put();
        settle(simulation->evaluation());
        look_at_assumptions();
        guarded([&] { simulation->reconcile(); });
    } catch (const Error&) {
        // a refused value leaves the run as it was
        for (auto old = was.rbegin(); old != was.rend(); ++old) given[old->first] = old->second;
        put();
        simulation->evaluation().settle_parameters();
        guarded([&] { simulation->reconcile(); });
        throw;
    }
}

// --- start and steps ---------------------------------------------------------------------------------------------------

std::unique_ptr<Verifier> Run::Data::make_verifier()
{
    auto verifier = std::make_unique<Verifier>(model(), system->sources, tolerance, own_steps);
    verifier->params(simulation->evaluation(), given_parameters());
    return verifier;
}

void Run::Data::make_simulation(const RunOptions& options)
{
    IntegratorSettings settings = integrator_settings(options, system->tolerance.value_or(1e-6));
    settings.own = system->tolerances;
    tolerance = settings.tolerance;
    using Method = IntegratorSettings::Method;
    own_steps = !has_fixed_step(settings.method) && settings.method != Method::ida && settings.method != Method::cvode;
    summary.integrator = settings.name;
    simulation = std::make_unique<Simulation>(system->model, system->sources, settings);
    put_given(simulation->evaluation());
    settle(simulation->evaluation());
    look_at_assumptions();
    looked = false;
}

// Coefficients of params alone that were divided by: one that is zero here needs the other form of the system.
void Run::Data::look_at_assumptions()
{
    if (model().careful == nullptr) return;
    Evaluation& e = simulation->evaluation();
    e.work_out(model().assumed);
    const auto& assumed = model().form.reduced.system.assumed;
    for (std::size_t k = 0; k < assumed.size(); ++k) {
        double value = e.value_at(model().assumed.results[2 * k]), size = e.value_at(model().assumed.results[2 * k + 1]);
        if (std::abs(value) > ProofOfSign::kCancelled * size && std::isfinite(value)) continue;
        if (simulation->started())
            throw RunError("run-failed", fmt::format("the equations of this run divide by {}, which would become {:g}", flat().node_text(assumed[k]), value),
                           "begin a new run with this value");
        auto other = std::make_shared<CompiledSystemData>(*system);
        other->model = model().careful->get();
        other->kept = std::make_shared<KeptOutputs>();
        system = std::move(other);
        before.reset();
        simulation = std::make_unique<Simulation>(system->model, system->sources, simulation->settings());
        put_given(simulation->evaluation());
        simulation->evaluation().settle_parameters();
        return;
    }
}

void Run::Data::take_output_times(std::optional<double> until, Recorder& to) const
{
    std::optional<double> every = to.options.output_every;
    if (!every && !system->output_points && system->output_at.empty()) every = system->output_every;
    if (every && (!(*every > 0) || !std::isfinite(*every)))
        throw UsageError(fmt::format("an output interval of {:g} s: it must be longer than 0 s, and end", *every));
    if (!until) {
        to.every = every;
        if (!every) to.times = system->output_at;
        to.times.push_back(0);
        std::sort(to.times.begin(), to.times.end());
        return;
    }
    double stop = *until;
    if (every) {
        if (stop / *every > 1e8) throw UsageError(fmt::format("an output interval of {:g} s over {:g} s gives more than 100 million rows", *every, stop));
        for (std::size_t k = 0;; ++k) {
            double t = static_cast<double>(k) * *every;
            if (t > stop - 1e-9 * *every) break;
            to.times.push_back(t);
        }
    } else if (!system->output_at.empty()) {
        to.times.push_back(0);
        for (double t : system->output_at)
            if (t > 0 && t < stop) to.times.push_back(t);
        std::sort(to.times.begin(), to.times.end());
    } else {
        auto n = static_cast<std::size_t>(system->output_points.value_or(501));
        for (std::size_t k = 0; k + 1 < n; ++k) to.times.push_back(stop * static_cast<double>(k) / static_cast<double>(n - 1));
    }
    to.times.push_back(stop);
}

std::vector<double> Run::Data::point_times(const RunOptions& options, std::optional<double> until) const
{
    constexpr double kMost = 100000;
    if (options.points == 0 && !options.points_every) return {};
    if (options.points > 0 && options.points_every)
        throw UsageError("points are asked for by their number and by the time between them: one of the two is needed");
    if (!until) throw UsageError("points over a run need its stop time: RunOptions::stop, or the scenario's");
    if (!options.out.empty() && (options.out == "-" || std::filesystem::path(options.out).extension() == ".csv"))
        throw UsageError("a recording of text holds no points", "record to a .h5 file");
    std::vector<double> times;
    if (options.points_every) {
        const double every = *options.points_every;
        if (!(every > 0) || !std::isfinite(every))
            throw UsageError(fmt::format("points each {:g} s: the time between them must be longer than 0 s, and end", every));
        if (*until / every > kMost) throw UsageError(fmt::format("points each {:g} s over {:g} s are more than {:.0f}", every, *until, kMost));
        for (std::size_t k = 0; static_cast<double>(k) * every <= *until * (1 + 1e-12); ++k) times.push_back(std::min(static_cast<double>(k) * every, *until));
    } else {
        if (static_cast<double>(options.points) > kMost) throw UsageError(fmt::format("{} points: at most {:.0f} are kept", options.points, kMost));
        for (std::size_t k = 0; k < options.points; ++k)
            times.push_back(options.points == 1 ? *until : *until * static_cast<double>(k) / static_cast<double>(options.points - 1));
    }
    return times;
}

RunPoint Run::Data::point_at(const State& s)
{
    if (simulation->evaluation().units() != nullptr)
        throw UsageError("a unit of FMI is part of the system: what it holds cannot be kept and put back", "repeat the run up to the time that is wanted");
    RunPoint point;
    guarded([&] { point = simulation->moment_at(s); });
    return point;
}

void Run::Data::go_on_from(const RunPoint& point, const RunOptions& options)
{
    if (point.layout == nullptr || point.layout->names.size() != point.layout->index.size() || point.layout->names.size() != point.layout->sign.size() ||
        point.layout->n_values() > point.values.size())
        throw UsageError("a point that holds no run");
    // params first: what the equations are may follow from them
    std::vector<std::optional<double>> values(flat().parameters.size());
    constexpr std::string_view kParam = "param ";
    std::map<std::string, ParameterId> by_path;
    for (ParameterId p = 0; p < flat().parameters.size(); ++p) by_path.emplace(flat().parameters[p].path, p);
    for (std::size_t k = 0; k < point.layout->names.size(); ++k) {
        const std::string& name = point.layout->names[k];
        if (!name.starts_with(kParam)) continue;
        auto known = by_path.find(name.substr(kParam.size()));
        if (known == by_path.end()) throw UsageError(fmt::format("a point of another system: it has a param '{}'", name.substr(kParam.size())));
        values[known->second] = point.values[point.layout->index[k]];
    }
    recorder.reset();
    summary = {};
    recording = {};
    given = std::move(values);
    settled = looked = false;
    make_simulation(options);
    bool whole = false;
    guarded([&] { whole = simulation->go_on_from(point); });
    if (whole) return;
    simulation.reset();
    throw UsageError(fmt::format("the point at {:g} s does not hold the whole state of '{}': it belongs to another system", point.time, system->name));
}

std::shared_ptr<const Program> KeptOutputs::get(const CompiledModel& model, const std::vector<std::size_t>& outputs)
{
    constexpr double kWorthIt = 0.8;  // of the operations of all outputs
    std::lock_guard guard(lock);
    auto [it, fresh] = made.try_emplace(outputs);
    if (!fresh) return it->second;
    std::vector<std::uint32_t> places;
    for (std::size_t i : outputs) places.push_back(model.output_place[i]);
    auto program = std::make_shared<Program>(pruned(model.outputs, places));
    if (static_cast<double>(program->n_operations()) > kWorthIt * static_cast<double>(model.outputs.n_operations())) return nullptr;
    prepare(*program, model.callables());
    it->second = program;
    return it->second;
}

std::vector<double> Recorder::rows_up_to(double target)
{
    if (every) {
        std::vector<double> rows;
        for (;; ++next) {
            double t = static_cast<double>(next) * *every;
            if (t > target + 1e-9 * *every) break;
            rows.push_back(std::min(t, target));
        }
        return rows;
    }
    auto first = times.begin() + static_cast<std::ptrdiff_t>(next);
    auto last = std::upper_bound(first, times.end(), target);
    std::vector<double> rows(first, last);
    bool all = last == times.end();
    next = static_cast<std::size_t>(last - times.begin());
    // behind the last row that was asked for, and where none was: one for each stretch
    if (all && (rows.empty() || rows.back() < target)) rows.push_back(target);
    return rows;
}

void Run::Data::start()
{
    std::vector<std::pair<std::uint32_t, double>> memories;
    std::vector<double> known = recorded_state(memories);
    if (search_from) simulation->evaluation().begin_search_from(search_from->z, search_from->rates);
    simulation->start(0, known, memories);
}

// Values of the members of z and of memories from the recording that the scenario begins from; empty if it does not.
std::vector<double> Run::Data::recorded_state(std::vector<std::pair<std::uint32_t, double>>& memories) const
{
    if (system->begin_from.empty()) return {};
    std::filesystem::path beside = std::filesystem::path(system->folder) / system->begin_from;
    Recording from = Recording::load(std::filesystem::exists(beside) ? beside.string() : system->begin_from);
    if (from.n_rows() == 0) throw RecordingError(fmt::format("'{}' has no rows to begin from", system->begin_from));
    double at = system->begin_at.value_or(from.time().final());
    if (!(at >= from.time().first() && at <= from.time().final()))
        throw RecordingError(
            fmt::format("'{}' holds {:g} s to {:g} s; there is no state at {:g} s in it", system->begin_from, from.time().first(), from.time().final(), at));
    const auto& resolutions = model().form.reduced.system.resolutions;
    std::vector<double> known(model().n(), std::nan(""));
    std::vector<std::string> missing;
    std::map<std::pair<QuantityId, std::uint32_t>, std::size_t> z_of;
    for (std::size_t i = 0; i < model().n(); ++i) {
        Variable v = model().form.z[i].variable;
        z_of[{v.quantity, v.order}] = i;
    }
    // any quantity that is, up to sign and derivative, a member of z may tell its value
    for (QuantityId q = 0; q < resolutions.size(); ++q) {
        const Resolution& r = resolutions[q];
        if (r.known != kNoNode) continue;
        std::string name = flat().quantities[q].path;
        for (std::uint32_t k = 0; k < 4; ++k, name += "'") {
            auto it = z_of.find({r.representative, r.order + k});
            if (it == z_of.end() || std::isfinite(known[it->second])) continue;
            if (const Column* c = from.find(name)) known[it->second] = r.sign * c->at(at, from.time());
        }
    }
    for (std::size_t i = 0; i < known.size(); ++i) {
        ZEntry::Kind kind = model().form.z[i].kind;
        if (kind == ZEntry::Kind::state && !std::isfinite(known[i])) missing.push_back(variable_name(model(), model().form.z[i].variable));
    }
    const auto& events = model().form.events;
    std::size_t last = 0;  // memories hold their value from row to row, so that of the last row counts
    while (last + 1 < from.n_rows() && from.time().values[last + 1] <= at) ++last;
    for (std::uint32_t i = 0; i < events.memories.size(); ++i) {
        if (events.memories[i].hidden) continue;
        if (const Column* c = from.find(events.memories[i].path))
            memories.emplace_back(i, c->values[last]);
        else
            missing.push_back(events.memories[i].path);
    }
    for (const FlatSequence& q : events.sequences) {
        const Column* dwell = from.find(q.path + ".dwell");
        // time begins at 0 again: the stage was entered before that
        if (dwell != nullptr) memories.emplace_back(q.since, -(dwell->values[last] + at - from.time().values[last]));
    }
    if (!missing.empty())
        throw RecordingError(fmt::format("'{}' does not hold the whole state: {} {} missing; record with no 'keep', or keep {} too", system->begin_from,
                                         fmt::join(missing, ", "), missing.size() == 1 ? "is" : "are", missing.size() == 1 ? "it" : "them"));
    return known;
}

void Run::Data::begin(const RunOptions& options, bool records)
{
    recorder.reset();
    simulation.reset();
    summary = {};
    std::optional<double> stop = options.stop ? options.stop : system->stop;
    if (stop && (!(*stop > 0) || !std::isfinite(*stop))) throw UsageError(fmt::format("a stop time of {:g} s: it must lie behind the start at 0 s", *stop));
    make_simulation(options);
    recording = {};
    if (!records) {
        guarded([&] { start(); });
        return;
    }
    Recorder made;
    made.options = options;
    RecordingHead about = head(options.keep.empty() ? system->keep : options.keep, made.columns);
    take_output_times(stop, made);
    made.point_times = point_times(options, stop);
    if (!made.point_times.empty() && simulation->evaluation().units() != nullptr)
        throw UsageError("no points can be kept: a unit of FMI is part of the system, and what it holds cannot be put back");
    if (!options.out.empty()) made.writer = open_writer(options.out, about, system->files_read);
    recording.system = about.system;
    recording.scenario = about.scenario;
    recording.columns = about.columns;
    recording.origin = about.origin;
    recording.figures = about.figures;
    made.row.resize(about.columns.size());
    made.outputs.resize(model().form.outputs.size());
    made.blocks.emplace(recording, options.in_memory ? std::max<std::size_t>(made.times.size(), 1) : 0);
    bool verified = options.verify || verifies_all();
    constexpr std::size_t kManyRows = 20;  // fewer do not pay for a program of their own
    if (!verified && (made.every || made.times.size() >= kManyRows)) made.kept = system->kept->get(model(), made.columns);
    recorder.emplace(std::move(made));
    if (verified) {
        recorder->verifier = make_verifier();
        simulation->on_start = [this](const State& s, Evaluation& e) { recorder->verifier->start(s, e, demanded_inits()); };
    }
    InterruptScope scope(options.interrupt);
    try {
        start();
    } catch (const NumericFailure& failure) {
        // what was interrupted has no value
        bool ended = interrupt_asked();
        close(false, ended ? "interrupted" : failure.what());
        if (!ended) throw with_open_ports(failure);
    } catch (const Interrupted& interrupted) {  // while another system of equations was compiled
        close(false, interrupted.what());
    }
    if (simulation != nullptr) simulation->on_start = {};
}

bool Run::Data::advance(double target)
{
    looked = false;
    if (!recorder) {
        bool done = false;
        guarded([&] { done = simulation->advance(target, {}, {}); });
        return done;
    }
    Recorder& r = *recorder;
    std::vector<double> rows = r.rows_up_to(target), between, points;
    for (std::size_t k = r.next_point; k < r.point_times.size() && r.point_times[k] <= target; ++k)
        if (!std::binary_search(rows.begin(), rows.end(), r.point_times[k])) points.push_back(r.point_times[k]);
    if (r.verifier != nullptr) between = points_between(rows);
    Verifier::Near near{[&](double t, State& s) { simulation->interpolate(t, s); }, [&](State& s) { simulation->solve_from_states(s); }};
    const CompiledModel* own_model = &model();
    auto record_row = [&](const State& s) {
        r.row[0] = s.time;
        if (r.options.in_memory) r.blocks->add(r.row.data());
        if (r.writer != nullptr) r.writer->row(r.row.data());
    };
    // at an event the point is that behind it
    auto keep_point = [&](const State& s) {
        const bool again = !recording.points.empty() && s.time <= recording.points.back().time + same_moment(s.time);
        bool due = false;
        for (; r.next_point < r.point_times.size() && r.point_times[r.next_point] <= s.time + same_moment(s.time); ++r.next_point) due = true;
        if (again) recording.points.pop_back();
        if (again || due) recording.points.push_back(simulation->moment_at(s));
    };
    auto sink = [&](const State& s, Evaluation& e) {
        if (!r.point_times.empty()) {
            keep_point(s);
            if (std::binary_search(points.begin(), points.end(), s.time)) {
                ++r.n_between;
                return;
            }
        }
        if (r.kept != nullptr && &e.model() == own_model && e.outputs(*r.kept, r.row.data() + 1)) {
            check_conditions(s, e);
            record_row(s);
            return;
        }
        if (!e.outputs(r.outputs.data()))
            for (std::size_t i = 0; i < r.outputs.size(); ++i)
                if (!std::isfinite(r.outputs[i])) fail_output(i, s, e);
        check_conditions(s, e);
        if (r.verifier != nullptr) r.verifier->point(s, e);
        if (std::binary_search(between.begin(), between.end(), s.time)) {
            double step = simulation->last_step();
            if (s.time + Verifier::kFar * step <= simulation->state().time)
                r.verifier->slopes(s, e, step, near);  // not every method goes beyond the end of its step
            ++r.n_between;
            return;
        }
        for (std::size_t i = 0; i < r.columns.size(); ++i) r.row[i + 1] = r.outputs[r.columns[i]];
        record_row(s);
    };
    InterruptScope scope(r.options.interrupt);
    // the user's wish to end, and the end of the time that was granted
    std::atomic<bool> to_end{false};
    bool over_time = false;
    CrawlWatch watch(*simulation, target, r.options.crawls);
    auto after_step = [&](double t) {
        watch.look(t);
        over_time = r.options.time_limit && std::chrono::duration<double>(std::chrono::steady_clock::now() - r.begun).count() > *r.options.time_limit;
        if (over_time) to_end = true;
        if (r.options.interrupt != nullptr && r.options.interrupt->load(std::memory_order_relaxed)) to_end = true;
        if (r.options.progress) r.options.progress(t);
    };
    const std::atomic<bool>* ended_by = r.options.time_limit ? &to_end : r.options.interrupt;
    try {
        bool done = simulation->advance(target, merged(merged(rows, between), points), sink, ended_by,
                                        r.options.time_limit || r.options.crawls ? after_step : r.options.progress);
        const std::string& stopped = simulation->stopped_by();
        if (!done && stopped.empty())
            summary.reason = over_time ? fmt::format("the time limit of {:g} s was reached", *r.options.time_limit) : "interrupted";
        else
            summary.reason = !done ? "the model said stop: " + stopped : "the stop time was reached";
        summary.complete = done || !stopped.empty();
        return done;
    } catch (const NumericFailure& failure) {
        bool ended = interrupt_asked();
        close(false, ended ? "interrupted" : failure.what());
        if (!ended) throw with_open_ports(failure);
    } catch (const Interrupted& interrupted) {
        close(false, interrupted.what());
    } catch (const RecordingError& error) {
        r.blocks->flush();
        summary.reason = error.what();
        recording.complete = false;
        recording.reason = error.what();
        summarize(simulation->state().time);
        recorder.reset();
        throw;
    }
    return false;
}

void Run::Data::end()
{
    bool complete = summary.complete;
    std::string reason = summary.reason;
    simulation->finish_measures();
    take_measures(simulation->evaluation(), system->sources, summary);
    bool asked = recorder->options.verify;
    Verification verified = close(complete, reason);
    if (!asked && verified.done && !verified.holds) throw RunError("not-verified", "the run does not meet its model as written: " + verified.text());
}

Verification Run::Data::close(bool complete, const std::string& reason)
{
    Recorder& r = *recorder;
    r.blocks->flush();
    summary.complete = complete;
    summary.reason = reason;
    recording.complete = complete;
    recording.reason = reason;
    summarize(simulation->state().time);
    summary.rows -= r.n_between;
    Verification verified;
    if (r.verifier != nullptr) verified = r.verifier->result();
    if (r.options.verify) summary.verification = verified;
    recording.events = summary.event_record;
    recording.measures = summary.measures;
    recording.demands = summary.demands;
    recording.cost = summary.cost;
    recording.assumed = summary.assumed;
    for (const std::string& h : summary.held) recording.assumed.push_back("nothing settles it, it is held: " + h);
    if (r.writer != nullptr) {
        r.writer->events(summary.event_record);
        r.writer->results({recording.measures, recording.demands, recording.assumed, recording.cost, recording.points});
        Filed filed = r.writer->finish(complete, reason);
        summary.recorded = filed.path;
        summary.recording_notes = filed.notes;
    }
    recorder.reset();
    return verified;
}

Verification Run::Data::verify()
{
    std::unique_ptr<Verifier> verifier = make_verifier();
    State s = simulation->state();
    Evaluation& e = simulation->evaluation();
    e.at(s.time, s.z.data(), s.rates.data());
    e.outputs();
    verifier->point(s, e);
    return verifier->result();
}

void Run::Data::look()
{
    if (looked) return;
    const State& s = simulation->state();
    simulation->evaluation().at(s.time, s.z.data(), s.rates.data());
    simulation->evaluation().outputs();
    looked = true;
}

}  // namespace netloop

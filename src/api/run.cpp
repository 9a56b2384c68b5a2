// SPDX-License-Identifier: Apache-2.0
#include "netloop/run.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <map>

#include "api/crawl.hpp"
#include "api/internal.hpp"
#include "api/run_settings.hpp"
#include "base/catalogue.hpp"
#include "base/diagnostics.hpp"
#include "base/interrupt.hpp"
#include "compile/proof_of_sign.hpp"
#include "files/input_file.hpp"
#include "integrate/simulate.hpp"
#include "record/column_blocks.hpp"
#include "record/writer.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"
#include "verify/verify.hpp"

namespace netloop {

namespace {

// Whether the environment asks for every run to be verified.
bool verify_all()
{
    const char* said = std::getenv("NETLOOP_VERIFY");
    return said != nullptr && std::string(said) == "1";
}

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
}  // namespace

struct Run::Data {
    std::shared_ptr<const CompiledSystemData> system;
    std::unique_ptr<Simulation> simulation;
    std::vector<std::pair<ParameterId, double>> given;
    RunSummary summary;
    Recording recording;
    double tolerance = 1e-6;
    bool own_steps = true;  ///< variable ones, of our own methods: their polynomials are there to be looked at

    std::vector<ParameterId> given_parameters() const
    {
        std::vector<ParameterId> list;
        for (const auto& [p, v] : given) list.push_back(p);
        return list;
    }
    std::unique_ptr<Verifier> make_verifier()
    {
        auto verifier = std::make_unique<Verifier>(model(), system->set->sources, tolerance, own_steps);
        verifier->params(simulation->evaluation(), given_parameters());
        return verifier;
    }
    Verifier::Inits demanded_inits() const
    {
        return !system->begin_from.empty() ? Verifier::Inits::none : flat().begin_steady ? Verifier::Inits::finds : Verifier::Inits::all;
    }

    const CompiledModel& model() const { return *system->model; }
    const FlatModel& flat() const { return system->model->form.flat(); }

    void make_simulation(const RunOptions& options)
    {
        begin_simulation(options);
        settle();
    }

    void begin_simulation(const RunOptions& options)
    {
        IntegratorSettings settings = integrator_settings(options, system->tolerance.value_or(1e-6));
        settings.own = system->tolerances;
        tolerance = settings.tolerance;
        using Method = IntegratorSettings::Method;
        own_steps = !has_fixed_step(settings.method) && settings.method != Method::ida && settings.method != Method::cvode;
        summary.integrator = settings.name;
        simulation = std::make_unique<Simulation>(system->model, system->set->sources, settings);
        for (const auto& [p, v] : given) simulation->evaluation().give(p, v);
    }

    static std::string shown_number(const Unit& unit, double si)
    {
        return std::isfinite(si) ? fmt::format("{:.6g}", unit.from_si(si)) : std::isnan(si) ? "no number" : si < 0 ? "-inf" : "inf";
    }

    void settle()
    {
        auto problem = simulation->evaluation().settle_parameters();
        if (!problem) {
            look_at_assumptions();
            return;
        }
        const FlatParameter& p = flat().parameters[problem->parameter];
        std::string place = place_text(system->set->sources, p.origin.span);
        auto shown = [&](double si) { return shown_number(p.unit, si); };
        if (problem->not_finite) throw RunError("out-of-range", fmt::format("{}param '{}' has no finite value", place.empty() ? "" : place + ": ", p.path));
        throw RunError("out-of-range",
                       fmt::format("{}param '{}' is {} {}, outside its range {} .. {} {}", place.empty() ? "" : place + ": ", p.path, shown(problem->value),
                                   p.unit.text, shown(problem->low), shown(problem->high), p.unit.text),
                       "give a value in the range; the range stands with the declaration of the param");
    }

    // Coefficients of params alone that were divided by: one that is zero here needs the other form of the system.
    void look_at_assumptions()
    {
        if (model().careful == nullptr) return;
        Evaluation& e = simulation->evaluation();
        e.work_out(model().assumed);
        const auto& assumed = flat_system().assumed;
        for (std::size_t k = 0; k < assumed.size(); ++k) {
            double value = e.value_at(model().assumed.results[2 * k]), size = e.value_at(model().assumed.results[2 * k + 1]);
            if (std::abs(value) > ProofOfSign::kCancelled * size && std::isfinite(value)) continue;
            if (simulation->started())
                throw RunError("run-failed",
                               fmt::format("the equations of this run divide by {}, which would become {:g}", flat().node_text(assumed[k]), value),
                               "begin a new run with this value");
            auto other = std::make_shared<CompiledSystemData>(*system);
            other->model = model().careful->get();
            system = std::move(other);
            simulation = std::make_unique<Simulation>(system->model, system->set->sources, simulation->settings());
            for (const auto& [p, v] : given) simulation->evaluation().give(p, v);
            simulation->evaluation().settle_parameters();
            return;
        }
    }
    const EquationSystem& flat_system() const { return model().form.reduced.system; }

    ParameterId find_parameter(const std::string& path, bool external_only) const
    {
        std::vector<std::string> names;
        for (ParameterId p = 0; p < flat().parameters.size(); ++p) {
            if (flat().parameters[p].path == path) {
                if (external_only && !flat().parameters[p].external)
                    throw UsageError(fmt::format("'{}' is a param, not an input of the system: use set()", path));
                if (!flat().parameters[p].follows.empty())
                    throw UsageError(fmt::format("'{}' follows from '{}', which the start has to find: it cannot be set", path, flat().parameters[p].follows));
                return p;
            }
            names.push_back(flat().parameters[p].path);
        }
        for (const OutputColumn& o : model().form.outputs)
            if (o.path == path) throw UsageError(fmt::format("'{}' is computed by the system: only params and inputs of the system can be set", path));
        std::string near = nearest_name(path, names);
        throw UsageError(fmt::format("the system has no param '{}'{}", path, near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
    }

    double checked_si(ParameterId p, const Quantity& value) const
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
        if (!(unit.dimension == f.unit.dimension))
            throw UsageError(fmt::format("'{}' is declared in [{}], the value is in [{}]", f.path, f.unit.text, value.unit));
        return unit.to_si(value.value);
    }

    void give(ParameterId p, double si)
    {
        std::optional<double> before;
        for (auto& [q, v] : given)
            if (q == p) before = v;
        auto put = [&](std::optional<double> v) {
            std::erase_if(given, [&](const auto& g) { return g.first == p; });
            if (v) given.emplace_back(p, *v);
            if (simulation == nullptr) return;
            if (v)
                simulation->evaluation().give(p, *v);
            else
                simulation->evaluation().take_back(p);
        };
        put(si);
        bool fresh = simulation == nullptr;
        try {
            if (fresh)
                make_simulation({});
            else
                settle();
        } catch (const RunError&) {
            put(before);  // a refused value leaves the run as it was
            if (fresh) simulation.reset();
            throw;
        }
        if (fresh)
            simulation.reset();
        else if (simulation->started())
            guarded([&] { simulation->reconcile(); });
    }

    template <typename Work>
    void guarded(Work work)
    {
        try {
            work();
        } catch (const NumericFailure& failure) {
            throw with_open_ports(failure);
        }
    }

    // What is in no joint may well be the cause where the part that it belongs to is named.
    RunError with_open_ports(const NumericFailure& failure) const
    {
        std::string text = failure.what();
        for (const Diagnostic& note : system->notes) {
            std::size_t begin = note.text.find('\''), end = note.text.find('\'', begin + 1), dot = note.text.rfind('.', end);
            if (note.id != "unjoined-port" || end == std::string::npos || dot == std::string::npos || dot < begin) continue;
            std::string part = note.text.substr(begin + 1, dot - begin - 1);
            bool named =
                std::any_of(part.begin(), part.end(), [](char c) { return c != ' '; }) &&
                (text.find("'" + part + "'") != std::string::npos || text.find(part + ".") != std::string::npos || text.find(part + ":") != std::string::npos);
            if (named) text += "\n      " + note.text;
        }
        return RunError(failure.id(), text, failure.hint());
    }

    RunOrigin origin() const
    {
        RunOrigin o;
        o.version = NETLOOP_VERSION;
        o.doc = system->doc;
        o.tolerance = tolerance;
        const Evaluation& e = simulation->evaluation();
        for (ParameterId p = 0; p < flat().parameters.size(); ++p) {
            const FlatParameter& f = flat().parameters[p];
            bool here = std::any_of(given.begin(), given.end(), [&](const auto& g) { return g.first == p; });
            o.parameters.push_back({f.path, e.parameter(p), f.boolean ? "bool" : f.unit.text, f.unit.scale, f.unit.offset, f.changed || here, f.doc});
        }
        for (std::size_t i = 0; i < flat().instances.size(); ++i) o.parts.push_back({flat().instances[i], flat().kinds[i], {}});
        for (const FlatSequence& s : flat().sequences) o.sequences.push_back({s.path, s.stages});
        for (const FlatPicture& p : flat().pictures) o.parts[p.instance].pictures.push_back(p.text);
        std::uint64_t hash = 0xcbf29ce484222325u;
        std::filesystem::path first;
        for (std::uint32_t file = 0; file < system->set->sources.size(); ++file) {
            if (system->set->is_library_file(file)) continue;
            std::string text(system->set->sources.text(file));
            for (unsigned char c : text) hash = (hash ^ c) * 0x100000001b3u;
            std::filesystem::path path(system->set->sources.path(file)), beside = path.lexically_proximate(first.empty() ? path.parent_path() : first);
            if (first.empty()) first = path.parent_path();
            o.texts.push_back({(o.texts.empty() ? path.filename() : beside).string(), std::move(text)});
        }
        constexpr std::size_t kMostOfTable = kMiB;  // larger ones would make the recording that of the table
        for (const auto& [path, text] : system->set->table_texts()) {
            for (unsigned char c : text) hash = (hash ^ c) * 0x100000001b3u;
            if (text.size() <= kMostOfTable) o.texts.push_back({std::filesystem::path(path).lexically_proximate(first).string(), text});
        }
        o.text_hash = fmt::format("{:016x}", hash);
        return o;
    }

    RecordingHead head(const std::vector<std::string>& keep, std::vector<std::size_t>& columns) const
    {
        RecordingHead h;
        h.system = system->name;
        h.scenario = system->scenario;
        h.figures = system->figures;
        h.origin = origin();
        Column time;
        time.name = "time";
        time.unit = "s";
        h.columns.push_back(std::move(time));
        h.stored_as.push_back(0);
        std::vector<char> pattern_used(keep.size(), 0);
        std::map<std::uint32_t, std::size_t> first;
        const auto& outputs = model().form.outputs;
        for (std::size_t i = 0; i < outputs.size(); ++i) {
            bool wanted = keep.empty();
            for (std::size_t k = 0; k < keep.size(); ++k)
                if (fits_pattern(keep[k], outputs[i].path)) wanted = true, pattern_used[k] = 1;
            if (!wanted) continue;
            Column c;
            c.name = outputs[i].path;
            c.unit = outputs[i].boolean ? "bool" : outputs[i].unit.text;
            c.scale = outputs[i].unit.scale;
            c.offset = outputs[i].unit.offset;
            c.description = outputs[i].doc;
            c.origin = place_text(system->set->sources, outputs[i].origin.span);
            columns.push_back(i);
            h.stored_as.push_back(first.emplace(model().alias_of[i], h.columns.size()).first->second);
            h.columns.push_back(std::move(c));
        }
        for (std::size_t k = 0; k < keep.size(); ++k) {
            if (pattern_used[k]) continue;
            std::vector<std::string> names;
            for (const OutputColumn& o : outputs) names.push_back(o.path);
            std::string near = nearest_name(keep[k], names);
            throw UsageError(fmt::format("nothing fits '{}', which is to be kept{}", keep[k], near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
        }
        return h;
    }

    std::vector<double> output_times(const RunOptions& options, double stop) const
    {
        std::vector<double> times;
        std::optional<double> every = options.output_every;
        if (!every && !system->output_points && system->output_at.empty()) every = system->output_every;
        if (every) {
            if (!(*every > 0) || !std::isfinite(*every))
                throw UsageError(fmt::format("an output interval of {:g} s: it must be longer than 0 s, and end", *every));
            if (stop / *every > 1e8) throw UsageError(fmt::format("an output interval of {:g} s over {:g} s gives more than 100 million rows", *every, stop));
            for (std::size_t k = 0;; ++k) {
                double t = static_cast<double>(k) * *every;
                if (t > stop - 1e-9 * *every) break;
                times.push_back(t);
            }
        } else if (!system->output_at.empty()) {
            times.push_back(0);
            for (double t : system->output_at)
                if (t > 0 && t < stop) times.push_back(t);
            std::sort(times.begin(), times.end());
        } else {
            auto n = static_cast<std::size_t>(system->output_points.value_or(501));
            for (std::size_t k = 0; k + 1 < n; ++k) times.push_back(stop * static_cast<double>(k) / static_cast<double>(n - 1));
        }
        times.push_back(stop);
        return times;
    }

    void start()
    {
        std::vector<std::pair<std::uint32_t, double>> memories;
        std::vector<double> known = recorded_state(memories);
        simulation->start(0, known, memories);
    }

    // Values of the members of z and of memories from the recording that the scenario begins from; empty if it does not.
    std::vector<double> recorded_state(std::vector<std::pair<std::uint32_t, double>>& memories) const
    {
        if (system->begin_from.empty()) return {};
        std::filesystem::path beside = std::filesystem::path(system->folder) / system->begin_from;
        Recording from = Recording::load(std::filesystem::exists(beside) ? beside.string() : system->begin_from);
        if (from.n_rows() == 0) throw RecordingError(fmt::format("'{}' has no rows to begin from", system->begin_from));
        double at = system->begin_at.value_or(from.time().final());
        if (!(at >= from.time().first() && at <= from.time().final()))
            throw RecordingError(fmt::format("'{}' holds {:g} s to {:g} s; there is no state at {:g} s in it", system->begin_from, from.time().first(),
                                             from.time().final(), at));
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

    // An accepted state at which a quantity has no value is an error, even if no other equation needs it.
    [[noreturn]] void fail_output(std::size_t i, const State& s, Evaluation& e) const
    {
        std::string fault = describe_not_finite(e, system->set->sources, s.time, s.z.data(), s.rates.data());
        throw NumericFailure("run-failed", fmt::format("at {:.9g} s: '{}' has no finite value{}{}", s.time, model().form.outputs[i].path,
                                                       fault.empty() ? "" : "\n      ", fault));
    }

    // A condition without a value chooses no branch: what stands in the branches has none either.
    void check_conditions(const State& s, Evaluation& e)
    {
        const auto& conditions = model().form.conditions;
        if (&e.model() != system->model.get() || std::none_of(conditions.begin(), conditions.end(), [](const Condition& c) { return c.fragile; })) return;
        e.conditions();
        for (std::size_t i = 0; i < conditions.size(); ++i) {
            if (!std::isnan(e.condition_value(i)) || e.model().events.idle[i] != 0) continue;
            Verifier verifier(model(), system->set->sources, tolerance, false);
            auto found = verifier.without_value(s, e);
            if (!found) continue;  // it stands in a branch that is not taken
            throw NumericFailure("run-failed", fmt::format("at {:.9g} s: the condition {} has no value, and so has {}{}{}", s.time, conditions[i].text,
                                                           found->place.empty() ? "" : found->place + ": ",
                                                           found->part.empty() ? "" : "in '" + found->part + "': ", found->text));
        }
    }

    void summarize(double stop)
    {
        RunStatistics s = simulation->statistics();
        summary.stop = stop;
        if (!s.story.empty()) summary.integrator = s.story;
        summary.steps = s.counts.steps;
        summary.residuals = s.counts.residuals;
        summary.jacobians = s.counts.jacobians;
        summary.error_failures = s.counts.error_failures;
        summary.convergence_failures = s.counts.convergence_failures;
        summary.events = s.events;
        summary.rows = s.rows;
        summary.wall_seconds = s.wall_seconds;
        summary.shares = {{"equations", s.shares.equations},
                          {"Jacobian", s.shares.jacobian},
                          {"linear algebra", s.shares.algebra},
                          {"conditions", s.shares.conditions},
                          {"rows", s.shares.rows}};
        double rest = s.wall_seconds;
        for (const auto& [what, seconds] : summary.shares) rest -= seconds;
        summary.shares.emplace_back("stepping", std::max(rest, 0.0));
        std::stable_sort(summary.shares.begin(), summary.shares.end(), [](const auto& a, const auto& b) { return a.second > b.second; });
        summary.assumed = simulation->start_report().assumed;
        summary.held = simulation->start_report().held;
        summary.agreed = simulation->start_report().agreed;
        summary.left_open = simulation->start_report().left_open;
        summary.found = simulation->start_report().found;
        summary.state_changes = s.state_changes;
        summary.systems = s.systems;
        summary.warnings = s.warnings;
        summary.event_seconds = s.event_seconds;
        summary.kept_histories = s.kept_histories;
        summary.event_record = {};
        summary.event_record.steps = static_cast<double>(summary.steps);
        summary.event_record.seconds = s.wall_seconds;
        for (EventKind& kind : s.event_kinds) {
            const Origin& origin = kind.block ? model().form.events.blocks[kind.index].origin : model().form.conditions[kind.index].origin;
            EventEntry entry;
            entry.text = kind.block ? model().form.events.blocks[kind.index].text : model().form.conditions[kind.index].text;
            entry.part = flat().instances[origin.instance];
            entry.place = place_text(system->set->sources, origin.span);
            entry.times = std::move(kind.times);
            entry.steps_lost = kind.steps_lost;
            entry.seconds = kind.ticks;
            summary.event_record.kinds.push_back(std::move(entry));
        }
        auto& kinds = summary.event_record.kinds;
        std::stable_sort(kinds.begin(), kinds.end(), [](const EventEntry& a, const EventEntry& b) { return a.times.size() > b.times.size(); });
    }
};

Run::Run(const CompiledSystem& system) : data_(std::make_unique<Data>())
{
    // the compiled system may go away before the run does
    data_->system = std::make_shared<CompiledSystemData>(system.data());
}
Run::~Run() = default;
Run::Run(Run&&) noexcept = default;
Run& Run::operator=(Run&&) noexcept = default;

void Run::set(const std::string& path, const Quantity& value)
{
    ParameterId p = data_->find_parameter(path, false);
    data_->give(p, data_->checked_si(p, value));
}

void Run::check_params()
{
    bool fresh = data_->simulation == nullptr;
    if (fresh) data_->begin_simulation({});
    auto problem = data_->simulation->evaluation().settle_parameters();
    if (fresh) data_->simulation.reset();  // a run that follows chooses its own settings
    if (!problem) return;
    const FlatParameter& p = data_->flat().parameters[problem->parameter];
    auto shown = [&](double si) { return Data::shown_number(p.unit, si) + (p.unit.text.empty() || p.unit.text == "1" ? "" : " " + p.unit.text); };
    Diagnostics diagnostics;
    diagnostics.report(messages::out_of_range, p.origin.span, p.path, shown(problem->value), shown(problem->low), shown(problem->high))
        .mend("give a value in the range; the range stands with the declaration of the param");
    Diagnostic told = export_diagnostic(diagnostics.items().front(), data_->system->set->sources);
    throw ModelError(told.rendered, {told});
}

Run::Input& Run::Input::operator=(double si)
{
    if (!std::isfinite(si)) throw UsageError(fmt::format("'{}' cannot be set to {}", path_, si));
    ParameterId p = run_.data_->find_parameter(path_, true);
    const Unit& unit = run_.data_->flat().parameters[p].unit;
    if ((unit.scale != 1 || unit.offset != 0) && si != 0)
        throw UsageError(fmt::format("'{}' is declared in [{}], the value {:g} has no unit; write q({:g}, \"{}\")", path_, unit.text, si, si, unit.text));
    run_.data_->give(p, si);
    return *this;
}

Run::Input& Run::Input::operator=(const Quantity& value)
{
    ParameterId p = run_.data_->find_parameter(path_, true);
    run_.data_->give(p, run_.data_->checked_si(p, value));
    return *this;
}

Recording Run::simulate(const RunOptions& options)
{
    Data& d = *data_;
    d.summary = {};
    std::optional<double> stop = options.stop ? options.stop : d.system->stop;
    if (!stop && !d.system->scenario.empty())
        throw UsageError(
            fmt::format("scenario '{}' has no stop time; add a line to it, stop at 60 s, or say --stop 60s on the command line", d.system->scenario));
    if (!stop)
        throw UsageError(
            fmt::format("'{}' has no stop time; add one: --stop 60s on the command line, or a scenario: scenario first_run of {} {{ stop at 60 s }}",
                        d.system->name, d.system->name));
    if (!(*stop > 0) || !std::isfinite(*stop)) throw UsageError(fmt::format("a stop time of {:g} s: it must lie behind the start at 0 s", *stop));
    d.make_simulation(options);
    std::vector<std::size_t> columns;
    RecordingHead head = d.head(options.keep.empty() ? d.system->keep : options.keep, columns);
    std::vector<double> times = d.output_times(options, *stop);
    std::unique_ptr<RecordingWriter> writer;
    if (!options.out.empty()) writer = open_writer(options.out, head, d.system->set->files_read());
    d.recording = {};
    d.recording.system = head.system;
    d.recording.scenario = head.scenario;
    d.recording.columns = head.columns;
    d.recording.origin = head.origin;
    d.recording.figures = head.figures;
    std::unique_ptr<Verifier> verifier;
    Verification verified;
    std::vector<double> between;
    if (options.verify || verify_all()) {
        verifier = d.make_verifier();
        between = points_between(times);
        d.simulation->on_start = [&](const State& s, Evaluation& e) { verifier->start(s, e, d.demanded_inits()); };
    }
    std::size_t n_between = 0;
    Verifier::Near near{[&](double t, State& s) { d.simulation->interpolate(t, s); }, [&](State& s) { d.simulation->solve_from_states(s); }};
    std::vector<double> row(head.columns.size()), outputs(d.model().form.outputs.size());
    ColumnBlocks blocks(d.recording, options.in_memory ? times.size() : 0);
    auto sink = [&](const State& s, Evaluation& e) {
        if (!e.outputs(outputs.data()))
            for (std::size_t i = 0; i < outputs.size(); ++i)
                if (!std::isfinite(outputs[i])) d.fail_output(i, s, e);
        d.check_conditions(s, e);
        if (verifier != nullptr) verifier->point(s, e);
        if (std::binary_search(between.begin(), between.end(), s.time)) {
            double step = d.simulation->last_step();
            if (s.time + Verifier::kFar * step <= d.simulation->state().time)
                verifier->slopes(s, e, step, near);  // not every method goes beyond the end of its step
            ++n_between;
            return;
        }
        row[0] = s.time;
        for (std::size_t i = 0; i < columns.size(); ++i) row[i + 1] = outputs[columns[i]];
        if (options.in_memory) blocks.add(row.data());
        if (writer != nullptr) writer->row(row.data());
    };
    auto close = [&](bool complete, const std::string& reason) {
        blocks.flush();
        d.summary.complete = complete;
        d.summary.reason = reason;
        d.recording.complete = complete;
        d.recording.reason = reason;
        d.summarize(d.simulation->state().time);
        d.summary.rows -= n_between;
        if (verifier != nullptr) verified = verifier->result();
        if (options.verify) d.summary.verification = verified;
        d.recording.events = d.summary.event_record;
        d.recording.measures = d.summary.measures;
        d.recording.demands = d.summary.demands;
        d.recording.assumed = d.summary.assumed;
        for (const std::string& h : d.summary.held) d.recording.assumed.push_back("nothing settles it, it is held: " + h);
        if (writer == nullptr) return;
        writer->events(d.summary.event_record);
        writer->results({d.recording.measures, d.recording.demands, d.recording.assumed});
        Filed filed = writer->finish(complete, reason);
        d.summary.recorded = filed.path;
        d.summary.recording_notes = filed.notes;
    };
    InterruptScope scope(options.interrupt);
    // the user's wish to end, and the end of the time that was granted
    std::atomic<bool> to_end{false};
    bool over_time = false;
    auto begun = std::chrono::steady_clock::now();
    CrawlWatch watch(*d.simulation, *stop, options.crawls);
    auto after_step = [&](double t) {
        watch.look(t);
        over_time = options.time_limit && std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count() > *options.time_limit;
        if (over_time) to_end = true;
        if (options.interrupt != nullptr && options.interrupt->load(std::memory_order_relaxed)) to_end = true;
        if (options.progress) options.progress(t);
    };
    const std::atomic<bool>* ended_by = options.time_limit ? &to_end : options.interrupt;
    try {
        d.start();
        bool done = d.simulation->advance(*stop, merged(times, between), sink, ended_by, options.time_limit || options.crawls ? after_step : options.progress);
        const std::string& stopped = d.simulation->stopped_by();
        take_measures(*d.simulation, d.system->set->sources, d.summary);
        close(done || !stopped.empty(), done               ? "the stop time was reached"
                                        : !stopped.empty() ? "the model said stop: " + stopped
                                        : over_time        ? fmt::format("the time limit of {:g} s was reached", *options.time_limit)
                                                           : "interrupted");
    } catch (const NumericFailure& failure) {
        // what was interrupted within a step has no value
        bool ended = interrupt_asked();
        close(false, ended ? "interrupted" : failure.what());
        if (!ended) throw d.with_open_ports(failure);
        d.simulation->on_start = {};
        return d.recording;
    } catch (const Interrupted& interrupted) {  // while another system of equations was compiled
        close(false, interrupted.what());
        d.simulation->on_start = {};
        return d.recording;
    } catch (const RecordingError& error) {
        blocks.flush();
        d.summary.reason = error.what();
        d.recording.complete = false;
        d.recording.reason = error.what();
        d.summarize(d.simulation->state().time);
        throw;
    }
    d.simulation->on_start = {};
    if (!options.verify && verified.done && !verified.holds) throw RunError("not-verified", "the run does not meet its model as written: " + verified.text());
    return d.recording;
}

Verification Run::verify()
{
    Data& d = *data_;
    if (d.simulation == nullptr || !d.simulation->started()) step_to(0);
    std::unique_ptr<Verifier> verifier = d.make_verifier();
    State s = d.simulation->state();
    Evaluation& e = d.simulation->evaluation();
    e.at(s.time, s.z.data(), s.rates.data());
    e.outputs();
    verifier->point(s, e);
    return verifier->result();
}

void Run::step_to(double time)
{
    Data& d = *data_;
    if (d.simulation == nullptr || !d.simulation->started()) {
        d.make_simulation({});
        d.guarded([&] { d.start(); });
    }
    if (!(time >= d.simulation->state().time) || !std::isfinite(time))
        throw UsageError(fmt::format("cannot step to {:g} s: the run stands at {:g} s", time, d.simulation->state().time));
    d.guarded([&] { d.simulation->advance(time, {}, {}); });
    if (verify_all())
        if (Verification verified = verify(); !verified.holds) throw RunError("not-verified", "the run does not meet its model as written: " + verified.text());
    d.summary.complete = true;
    d.summary.reason = "stepped";
    d.summarize(time);
}

double Run::time() const
{
    return data_->simulation == nullptr ? 0 : data_->simulation->state().time;
}

double Run::value(const std::string& path)
{
    Data& d = *data_;
    const auto& outputs = d.model().form.outputs;
    std::vector<std::string> names;
    for (std::size_t i = 0; i < outputs.size(); ++i) {
        names.push_back(outputs[i].path);
        if (outputs[i].path != path) continue;
        if (d.simulation == nullptr || !d.simulation->started()) step_to(0);
        const State& s = d.simulation->state();
        d.simulation->evaluation().at(s.time, s.z.data(), s.rates.data());
        d.simulation->evaluation().outputs();
        return d.simulation->evaluation().output(i);
    }
    for (ParameterId p = 0; p < d.flat().parameters.size(); ++p) {
        if (d.flat().parameters[p].path != path) continue;
        bool fresh = d.simulation == nullptr;
        if (fresh) d.make_simulation({});
        double v = d.simulation->evaluation().parameter(p);
        if (fresh) d.simulation.reset();
        return v;
    }
    std::string near = nearest_name(path, names);
    throw UsageError(fmt::format("the system has no quantity '{}'{}", path, near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
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

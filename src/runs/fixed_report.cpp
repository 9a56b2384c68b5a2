// SPDX-License-Identifier: Apache-2.0
// Fit for real time or not: runs in fixed steps, held against one in variable steps.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <complex>
#include <nlohmann/json.hpp>

#include "exchange/fixed_machine.hpp"
#include "record/json_number.hpp"
#include "runs/fixed_start.hpp"
#include "runs/step_stability.hpp"
#include "runs/step_text.hpp"
#include "solve/explain.hpp"

namespace netloop {
namespace {

using Method = FixedStepReport::Method;
using Difference = FixedStepReport::Difference;

constexpr std::size_t kRows = 1000;            // at which runs are compared
constexpr std::size_t kMostSteps = 1'000'000;  // of one run that looks for the largest step
constexpr double kMostOperations = 2e9;        // the same: a second or two
constexpr double kAway = 1.2;                  // spans of a state: farther off than this a run is not the same motion any more
constexpr std::size_t kPoints = 20;            // along the run, of eigenvalues

// What the run in variable steps has at some times.
struct Reference {
    std::vector<double> time;
    std::vector<std::vector<double>> z, outputs;  // per row
    std::vector<double> low, high;                // per member of z
    std::vector<double> output_low, output_high;  // per output
    RunSummary summary;
    double stop = 0;
    std::size_t state_changes = 0;
    double span(std::size_t i, double usual) const { return std::max(high[i] - low[i], 1e-3 * std::max({std::abs(low[i]), std::abs(high[i]), usual})); }
};

class Reporter {
public:
    Reporter(const CompiledSystem& system, const FixedStepRequest& request) : system_(system), request_(request), start_(system, request.prepare) {}

    FixedStepReport work()
    {
        FixedStepReport& r = report_;
        r.system = system_.name();
        r.scenario = system_.scenario();
        r.step = request_.options.step;
        r.tolerance = request_.tolerance;
        (void)fixed_method_named(request_.options.method);
        for (const std::string& m : request_.methods) (void)fixed_method_named(m);
        if (!(r.step > 0) || !std::isfinite(r.step)) throw UsageError(fmt::format("a step of {:g} s: it must be longer than 0 s", r.step));
        std::optional<double> stop = request_.stop ? request_.stop : system_.stop();
        if (!stop) throw UsageError("how long the run goes on is not known: its scenario has no stop time");
        r.stop = *stop;
        if (!(r.stop >= r.step)) throw UsageError(fmt::format("a step of {:g} s is longer than the run, which goes to {:g} s", r.step, r.stop));
        r.cannot = hindrances(*start_.evaluation, start_.data().system->sources);
        take_parts();
        if (!r.cannot.empty()) {
            r.next.push_back(
                "let the equations keep their kind: a stiff law (a contact, a diode with a slope) in place of a branch between two kinds of equations");
            return r;
        }
        say("the run in variable steps");
        take_reference();
        std::vector<std::string> names{request_.options.method};
        std::vector<std::string> all =
            request_.methods.empty() ? std::vector<std::string>{"linear-euler", "implicit-euler", "rosenbrock", "euler", "rk4"} : request_.methods;
        for (const std::string& m : all)
            if (m != names[0]) names.push_back(m);
        bool explicit_asked = std::any_of(names.begin(), names.end(), [](const std::string& m) { return is_explicit(fixed_method_named(m)); });
        if (explicit_asked) take_eigenvalues();
        for (const std::string& m : names) r.methods.push_back(look_at(m));
        take_hindrances();
        take_next();
        return r;
    }

private:
    void say(const std::string& what)
    {
        if (request_.interrupt != nullptr && request_.interrupt->load(std::memory_order_relaxed)) throw Interrupted("interrupted");
        if (request_.progress) request_.progress(what);
    }
    const CompiledModel& model() const { return start_.model(); }

    void take_reference()
    {
        reference_.stop = report_.stop;
        auto n_steps = static_cast<std::size_t>(std::floor(report_.stop / report_.step * (1 + 1e-12)));
        stride_ = std::max<std::size_t>(1, n_steps / kRows);
        std::vector<double> times;
        for (std::size_t k = 0; k * stride_ <= n_steps; ++k) times.push_back(static_cast<double>(k * stride_) * report_.step);
        Run run(system_);
        if (request_.prepare) request_.prepare(run);
        RunOptions options;
        options.tolerance = request_.tolerance;
        options.stop = report_.stop;
        options.interrupt = request_.interrupt;
        Reference& f = reference_;
        std::size_t n = model().n(), n_outputs = model().form.outputs.size();
        f.low.assign(n, HUGE_VAL), f.high.assign(n, -HUGE_VAL);
        // how far each goes is seen at all steps: between rows a current may rise and fall again
        State ended{0, std::vector<double>(n), std::vector<double>(n)};
        options.progress = [&](double t) {
            Simulation& simulation = *FixedStepStart::data(run).simulation;
            if (simulation.evaluation().model().n() != n) return;  // for a while it is a system of another kind
            simulation.interpolate(t, ended);
            for (std::size_t i = 0; i < n; ++i) f.low[i] = std::min(f.low[i], ended.z[i]), f.high[i] = std::max(f.high[i], ended.z[i]);
        };
        FixedStepStart::data(run).begin(options, true);
        f.output_low.assign(n_outputs, HUGE_VAL), f.output_high.assign(n_outputs, -HUGE_VAL);
        std::vector<double> outputs(n_outputs);
        for (double t : times) {
            if (t > run.time() && !run.step_to(t)) break;
            auto& d = FixedStepStart::data(run);
            d.look();
            Evaluation& e = d.simulation->evaluation();
            for (std::size_t i = 0; i < n_outputs; ++i) outputs[i] = e.output(i);
            f.time.push_back(t);
            f.z.push_back(d.simulation->state().z);
            f.outputs.push_back(outputs);
            for (std::size_t i = 0; i < n; ++i) f.low[i] = std::min(f.low[i], f.z.back()[i]), f.high[i] = std::max(f.high[i], f.z.back()[i]);
            for (std::size_t i = 0; i < n_outputs; ++i)
                f.output_low[i] = std::min(f.output_low[i], outputs[i]), f.output_high[i] = std::max(f.output_high[i], outputs[i]);
        }
        run.step_to(std::max(run.time(), std::min(report_.stop, static_cast<double>(n_steps) * report_.step)));
        f.state_changes = FixedStepStart::data(run).simulation->statistics().state_changes;
        run.end();
        f.summary = run.summary();
        if (!f.summary.complete) throw RunError("run-failed", "the run in variable steps did not come to its end: " + f.summary.reason);
        end_ = f.summary.stop;
    }

    void take_eigenvalues()
    {
        if (model().form.reduced.n_states() > 600) return;
        say("eigenvalues along the run");
        Run run(system_);
        if (request_.prepare) request_.prepare(run);
        ModesRequest modes;
        modes.sensitivities = false;
        for (std::size_t k = 0; k < kPoints; ++k) {
            double t = end_ * static_cast<double>(k) / static_cast<double>(kPoints);
            try {
                if (t > run.time() && !run.step_to(t)) break;
                for (const Mode& m : run.modes(modes).modes) eigenvalues_.push_back(m.root.value);
            } catch (const RunError&) {
                break;  // a point at which rates are not settled has none
            }
        }
    }

    // The longest step with which every eigenvalue that decays is damped by the method's own polynomial.
    double allowed(FixedMethod method) const
    {
        double least = HUGE_VAL;
        for (std::complex<double> l : eigenvalues_) least = std::min(least, longest_damped_step(method, l));
        return std::isfinite(least) ? least : 0;
    }

    // The values of the reference at a time: straight lines between rows.
    double reference_at(std::size_t i, double t) const
    {
        const auto& time = reference_.time;
        auto above = std::upper_bound(time.begin(), time.end(), t);
        if (above == time.begin()) return reference_.z.front()[i];
        if (above == time.end()) return reference_.z.back()[i];
        auto k = static_cast<std::size_t>(above - time.begin());
        double share = (t - time[k - 1]) / (time[k] - time[k - 1]);
        return reference_.z[k - 1][i] + share * (reference_.z[k][i] - reference_.z[k - 1][i]);
    }

    std::string how_it_ended(const FixedMachine& m, FixedStepStatus status) const
    {
        std::string what = text_of(status);
        if (status == FixedStepStatus::not_finite) what += ": " + variable_name(model(), model().form.z[m.lost()].variable);
        if (!m.said().empty()) what += ": " + m.said();
        return fmt::format("at {:.6g} s {}", m.time(), what);
    }

    // Too far from the reference to be the same motion: the first such member of z; n if there is none.
    std::size_t astray(const FixedMachine& m) const
    {
        for (std::size_t i = 0; i < model().n(); ++i) {
            if (m.plan().is_state[i] == 0) continue;
            double usual = model().form.z[i].usual;
            if (!(std::abs(m.z()[i] - reference_at(i, m.time())) <= kAway * reference_.span(i, usual))) return i;
        }
        return model().n();
    }

    /// `over`: how far the run went, s; for one that is not stable the time at which that showed.
    bool is_stable(const std::string& method, double step, double& over)
    {
        FixedStepOptions options = request_.options;
        options.method = method;
        options.step = step;
        if (method != request_.options.method) options.turns = 0;
        std::shared_ptr<const FixedPlan> plan;
        try {
            plan = start_.plan(options, {}, {});
        } catch (const RunError&) {
            return false;
        }
        FixedMachine machine(plan);
        FixedStepStatus status = machine.begin();
        auto n = static_cast<std::size_t>(std::floor(end_ / step));
        n = std::min({n, kMostSteps, static_cast<std::size_t>(kMostOperations / static_cast<double>(1 + plan->n_step_operations()))});
        std::size_t every = std::max<std::size_t>(1, n / kRows);
        for (std::size_t k = 1; k <= n && status == FixedStepStatus::good; ++k) {
            status = machine.step();
            over = machine.time();
            if (k % every != 0 && k != n) continue;
            if (request_.interrupt != nullptr && request_.interrupt->load(std::memory_order_relaxed)) throw Interrupted("interrupted");
            if (status == FixedStepStatus::good && astray(machine) < model().n()) return false;
        }
        return status == FixedStepStatus::good || status == FixedStepStatus::stopped;
    }

    Method look_at(const std::string& name)
    {
        say(fmt::format("{} in steps of {:g} s", name, report_.step));
        Method m;
        m.name = name;
        FixedStepOptions options = request_.options;
        options.method = name;
        if (name != request_.options.method) options.turns = 0;
        FixedMethod method = fixed_method_named(name);
        bool has_limit = is_explicit(method);
        if (has_limit && !eigenvalues_.empty()) m.by_modes = allowed(method);
        try {
            run_at_step(options, m);
        } catch (const RunError& error) {
            m.fails = error.what();
            return m;
        }
        say(fmt::format("the largest stable step of {}", name));
        search_step(m, has_limit);
        return m;
    }

    void search_step(Method& m, bool has_limit)
    {
        constexpr int kFine = 4;  // halvings, in logarithms
        double over = 0, good = 0, bad = 0, step = report_.step;
        if (has_limit && m.by_modes > 0 && m.by_modes < step) step = m.by_modes * 1.1;
        bool stable = step == report_.step ? m.holds : is_stable(m.name, step, over);
        auto says_nothing = [&](double failing, double at) {
            m.none_found = fmt::format("{} in steps of {} fails at {:.4g} s still; shorter ones were not tried as far as that", m.name, step_text(failing), at);
        };
        if (stable && over > 0 && over < fails_at_) return says_nothing(report_.step, fails_at_);
        if (stable) {
            good = step;
            m.tried_over = over > 0 ? over : end_;
            while (bad == 0) {
                double next = good * 2;
                if (next > end_ / 10) break;
                double tried = 0;
                if (is_stable(m.name, next, tried))
                    good = next, m.tried_over = tried;
                else
                    bad = next;
            }
        } else {
            bad = step;
            double fails_at = over > 0 ? over : fails_at_;
            constexpr int kMostHalvings = 24;
            for (int k = 0; k < kMostHalvings && good == 0; ++k) {
                double next = bad / 2, tried = 0;
                if (!is_stable(m.name, next, tried)) {
                    bad = next, fails_at = tried;
                    continue;
                }
                if (tried < fails_at) break;  // shorter ones cannot be tried as far as that: they say nothing
                good = next, m.tried_over = tried;
            }
            if (good == 0) return says_nothing(bad, fails_at);
        }
        for (int k = 0; k < kFine && good > 0 && bad > 0; ++k) {
            double middle = std::sqrt(good * bad), tried = 0;
            if (is_stable(m.name, middle, tried))
                good = middle, m.tried_over = tried;
            else
                bad = middle;
        }
        m.largest_stable = good;
    }

    // The run at the step that is asked for: accuracy, measures, times.
    void run_at_step(const FixedStepOptions& options, Method& m)
    {
        const CompiledModel& model = this->model();
        std::vector<std::uint32_t> outputs(model.form.outputs.size());
        for (std::uint32_t i = 0; i < outputs.size(); ++i) outputs[i] = i;
        std::shared_ptr<const FixedPlan> plan = start_.plan(options, {}, outputs);
        FixedMachine machine(plan);
        m.step_operations = plan->n_step_operations();
        m.moment_operations = plan->n_moment_operations();
        FixedStepStatus status = machine.begin();
        measure_begin(machine);
        auto n = static_cast<std::size_t>(std::floor(report_.stop / report_.step * (1 + 1e-12)));
        std::vector<double> seconds;
        seconds.reserve(n);
        std::vector<double> largest(outputs.size(), 0), at(outputs.size(), 0), square(outputs.size(), 0);
        std::size_t rows = 0, lost = model.n();
        auto compare = [&](std::size_t row) {
            machine.look();
            ++rows;
            for (std::size_t i = 0; i < outputs.size(); ++i) {
                double off = std::abs(machine.output(i) - reference_.outputs[row][i]);
                if (!(off <= largest[i])) largest[i] = off, at[i] = reference_.time[row];
                square[i] += off * off;
            }
        };
        if (status == FixedStepStatus::good && !reference_.time.empty()) compare(0);
        for (std::size_t k = 1; k <= n && status == FixedStepStatus::good; ++k) {
            auto before = std::chrono::steady_clock::now();
            status = machine.step();
            seconds.push_back(std::chrono::duration<double>(std::chrono::steady_clock::now() - before).count());
            measure_step(machine);
            if (k % stride_ != 0 || k / stride_ >= reference_.time.size() || status != FixedStepStatus::good) continue;
            if (request_.interrupt != nullptr && request_.interrupt->load(std::memory_order_relaxed)) throw Interrupted("interrupted");
            compare(k / stride_);
            if (lost == model.n()) lost = astray(machine);
        }
        m.steps = machine.n_steps();
        m.events = machine.events();
        m.bad_pivots = machine.bad_pivots();
        m.warnings = machine.warnings();
        bool ended = status == FixedStepStatus::good || status == FixedStepStatus::stopped;
        fails_at_ = ended ? 0 : machine.time();
        m.holds = ended && lost == model.n() && reference_.state_changes == 0;
        if (ended && lost == model.n() && reference_.state_changes > 0)
            m.fails = "the choice of states has to change on the way, which it does not do in fixed steps";
        if (!ended)
            m.fails = how_it_ended(machine, status);
        else if (lost < model.n())
            m.fails = fmt::format("'{}' goes more than {:g} times its span off", variable_name(model, model.form.z[lost].variable), kAway);
        // the first steps make machine code: a machine that keeps time has that behind it
        constexpr std::size_t kWarm = 200;
        if (seconds.size() > 4 * kWarm) seconds.erase(seconds.begin(), seconds.begin() + kWarm);
        if (!seconds.empty()) {
            std::sort(seconds.begin(), seconds.end());
            m.median = seconds[seconds.size() / 2];
            m.nearly_all = seconds[std::min(seconds.size() - 1, static_cast<std::size_t>(0.999 * static_cast<double>(seconds.size())))];
            m.longest = seconds.back();
        }
        for (std::size_t i = 0; i < outputs.size() && rows > 0; ++i) {
            const OutputColumn& o = model.form.outputs[i];
            if (o.boolean) continue;
            double span = reference_.output_high[i] - reference_.output_low[i],
                   size = std::max(std::abs(reference_.output_high[i]), std::abs(reference_.output_low[i]));
            // of what hardly moves, its size counts, and of what is hardly there, a thousandth of what is usual of its kind
            double of = std::max({span, 1e-3 * size, 1e-3 * usual_of_kind(o.unit.dimension)});
            Difference d{o.path, o.unit.text, o.unit.scale, o.unit.offset, largest[i], at[i], 0, 0, 0, 0};
            d.share = largest[i] / of;
            d.mean_share = std::sqrt(square[i] / static_cast<double>(rows)) / of;
            if (std::isnan(largest[i])) d.share = d.mean_share = HUGE_VAL;
            m.quantities.push_back(d);
        }
        std::stable_sort(m.quantities.begin(), m.quantities.end(), [](const Difference& a, const Difference& b) { return a.mean_share > b.mean_share; });
        measure_end(machine, m);
    }

    // Measures of the scenario, followed with straight lines between the ends of steps, which is all that the machine tells.
    void measure_begin(const FixedMachine& machine)
    {
        measuring_.reset();
        if (model().form.events.measures.empty() && model().form.events.demands.empty()) return;
        if (!model().events.delay_of.empty()) return;
        seen_ = std::make_unique<Evaluation>(start_.evaluation->shared_model());
        start_.data().put_given(*seen_);
        seen_->settle_parameters();
        measuring_ = std::make_unique<Measuring>(*seen_, 1e-6);
        at_ = state_of(machine);
        put_events(machine);
        measuring_->begin(at_);
    }
    static State state_of(const FixedMachine& machine)
    {
        std::size_t n = machine.plan().z.size();
        return {machine.time(), {machine.z(), machine.z() + n}, {machine.rates(), machine.rates() + n}};
    }
    bool put_events(const FixedMachine& machine)
    {
        bool changed = false;
        for (std::size_t i = 0; i < machine.plan().modes.size(); ++i)
            if (seen_->mode(i) != machine.mode(i)) seen_->set_mode(i, machine.mode(i)), changed = true;
        for (std::size_t i = 0; i < machine.plan().memories.size(); ++i)
            if (seen_->memory(i) != machine.memory_value(i) && !is_result(i)) seen_->set_memory(i, machine.memory_value(i)), changed = true;
        return changed;
    }
    bool is_result(std::size_t memory) const
    {
        const auto& all = model().form.events.accumulators;
        return std::any_of(all.begin(), all.end(), [&](const FlatAccumulator& a) { return a.memory == memory; });
    }
    void measure_step(const FixedMachine& machine)
    {
        if (measuring_ == nullptr || measuring_->none()) return;
        State from = at_, to = state_of(machine);
        auto between = [&](double t, State& s) {
            double share = (t - from.time) / (to.time - from.time);
            s = to;
            s.time = t;
            for (std::size_t i = 0; i < s.z.size(); ++i) {
                s.z[i] = from.z[i] + share * (to.z[i] - from.z[i]);
                s.rates[i] = from.rates[i] + share * (to.rates[i] - from.rates[i]);
            }
        };
        measuring_->step(from.time, to.time, between, [](State&) {});
        at_ = to;
        if (put_events(machine)) measuring_->jump(at_);
    }
    void measure_end(const FixedMachine& machine, Method& m)
    {
        if (measuring_ == nullptr) return;
        at_ = state_of(machine);
        measuring_->finish(at_, [](State&) {});
        seen_->at(at_.time, at_.z.data(), at_.rates.data());
        RunSummary summary;
        take_measures(*seen_, start_.data().system->sources, summary);
        for (std::size_t k = 0; k < summary.measures.size() && k < reference_.summary.measures.size(); ++k) {
            const MeasureResult &found = summary.measures[k], &is = reference_.summary.measures[k];
            Difference d{found.name, found.unit, found.scale, found.offset, 0, std::nan(""), 0, 0, is.value, found.value};
            d.largest = std::abs(found.value - is.value);
            d.share = d.mean_share = is.value != 0 ? d.largest / std::abs(is.value) : d.largest > 0 ? HUGE_VAL : 0;
            if (std::isnan(found.value) && std::isnan(is.value)) d.largest = d.share = d.mean_share = 0;
            m.measures.push_back(d);
        }
    }

    // Operations of the residuals by the part that states each equation; what several share counts for the first of them.
    void take_parts()
    {
        const CompiledModel& m = model();
        const FlatModel& flat = m.form.flat();
        const Graph& g = m.form.reduced.system.graph();
        std::vector<char> seen(g.size(), 0);
        std::vector<std::size_t> count(flat.instances.size(), 0);
        std::size_t sum = 0;
        for (std::size_t r = 0; r < m.form.residuals.size(); ++r) {
            std::uint32_t equation = m.form.residual_of[r], instance = 0;
            if (equation != kNoNode)
                instance = flat.equations[m.form.reduced.equations[equation].flat].origin.instance;
            else
                instance = flat.quantities[m.form.z[r].variable.quantity].origin.instance;
            if (m.form.residuals[r] == kNoNode) continue;
            for (NodeId id : g.reachable({m.form.residuals[r]})) {
                if (seen[id] != 0 || n_children(g[id].op) == 0) continue;
                seen[id] = 1;
                ++count[instance];
                ++sum;
            }
        }
        for (std::size_t i = 0; i < count.size() && sum > 0; ++i)
            if (count[i] > 0) report_.parts.push_back({flat.instances[i], static_cast<double>(count[i]) / static_cast<double>(sum)});
        std::stable_sort(report_.parts.begin(), report_.parts.end(), [](const auto& a, const auto& b) { return a.share > b.share; });
    }

    void take_hindrances()
    {
        FixedStepReport& r = report_;
        const CompiledModel& m = model();
        auto several = [](std::size_t n, const char* one, const char* more) { return fmt::format("{} {}", n, n == 1 ? one : more); };
        std::size_t within = 0, all = 0;
        const EventRecord& record = reference_.summary.event_record;
        std::string most;
        std::size_t most_times = 0;
        for (const EventEntry& kind : record.kinds) {
            std::size_t times = 0;
            for (double t : kind.times) {
                double k = t / r.step;
                ++all;
                if (std::abs(k - std::round(k)) > 1e-6) ++within, ++times;
            }
            if (times > most_times) most_times = times, most = kind.text;
        }
        if (within > 0)
            r.hinders.push_back(fmt::format("{} of {} lie within steps and are taken at their ends, up to {:g} s late{}", several(within, "event", "events"),
                                            all, r.step, most.empty() ? "" : fmt::format("; most often '{}'", most)));
        for (std::size_t k = 0; k < m.form.events.blocks.size(); ++k) {
            const FlatBlock& b = m.form.events.blocks[k];
            if (b.kind != FlatBlock::Kind::every || b.period == kNoNode) continue;
            Evaluation& e = *start_.evaluation;
            e.work_out(m.events.periods);
            for (const EventPrograms::Every& every : m.events.every) {
                if (every.block != k) continue;
                double ratio = e.value_at(every.period) / r.step;
                if (std::abs(ratio - std::round(ratio)) > 1e-9 * ratio || ratio < 1 - 1e-9)
                    r.hinders.push_back(
                        fmt::format("'{}' has a period of {:g} s, which is no whole number of steps of {:g} s", b.text, e.value_at(every.period), r.step));
            }
        }
        if (!m.events.delay_of.empty())
            r.hinders.push_back(fmt::format("{}: each keeps a value for every step of its length, and reads between them along straight lines",
                                            several(m.events.delay_of.size(), "delay", "delays")));
        if (reference_.state_changes > 0)
            r.hinders.push_back(fmt::format("the run in variable steps changed its choice of states {}; in fixed steps the choice of the start stays",
                                            several(reference_.state_changes, "time", "times")));
        if (!r.methods.empty() && r.methods[0].bad_pivots > 0)
            r.hinders.push_back(fmt::format("{} in the elimination: its order is that of the start, and does not suit every moment",
                                            several(r.methods[0].bad_pivots, "pivot has become too small", "pivots have become too small")));
        if (!m.form.events.delays.empty() && !m.form.events.measures.empty())
            r.hinders.push_back("measures are not followed in fixed steps where there are delays");
    }

    void take_next()
    {
        FixedStepReport& r = report_;
        const Method& asked = r.methods[0];
        const Method* other = nullptr;
        for (const Method& m : r.methods)
            if (m.holds && (other == nullptr || m.step_operations < other->step_operations)) other = &m;
        if (asked.holds) {
            double load = asked.nearly_all / r.step;
            r.next.push_back(fmt::format(
                "{} holds at {:g} s and takes {:.2g} % of it on this machine; write it as C with: netloop export FILE --as c --step {:g}s --method {} "
                "--output ... --out DIR",
                asked.name, r.step, 100 * load, r.step, asked.name));
            if (load > 0.5) r.next.push_back("its step takes more than half of the time that it has: look at the dearest parts, or take a longer step");
            for (const Difference& d : asked.quantities) {
                constexpr double kMuch = 0.1;
                bool is_state = std::any_of(start_.model().form.z.begin(), start_.model().form.z.end(),
                                            [&](const ZEntry& z) { return z.kind == ZEntry::Kind::state && variable_name(model(), z.variable) == d.name; });
                if (!is_state || d.mean_share < kMuch) continue;
                r.next.push_back(fmt::format("'{}' is {:.2g} % of its span off on average: look whether it is the same motion yet, before anything is exported",
                                             d.name, 100 * d.mean_share));
                break;
            }
            double worst = 0;
            for (const Difference& d : asked.measures) worst = std::max(worst, d.share);
            if (worst > 0.02)
                r.next.push_back(fmt::format("a measure is {:.2g} % off: a shorter step, {} or --correct come closer", 100 * worst,
                                             asked.name == "rosenbrock" ? "implicit-euler" : "rosenbrock"));
            return;
        }
        if (other != nullptr) r.next.push_back(fmt::format("take {}, which holds at this step", other->name));
        if (asked.largest_stable > 0) r.next.push_back(fmt::format("with {} steps of up to {:.3g} s hold", asked.name, asked.largest_stable));
        r.next.push_back(
            "the fastest modes bound the step: netloop modes FILE --over 60 --at worst names their parts and params, netloop advise FILE tries changes");
    }

    const CompiledSystem& system_;
    const FixedStepRequest& request_;
    FixedStepStart start_;
    FixedStepReport report_;
    Reference reference_;
    std::size_t stride_ = 1;
    double end_ = 0;
    double fails_at_ = 0;  ///< s: where the run at the step asked for failed
    std::vector<std::complex<double>> eigenvalues_;
    std::unique_ptr<Evaluation> seen_;
    std::unique_ptr<Measuring> measuring_;
    State at_;
};

std::string difference_text(const Difference& d)
{
    std::string unit = d.unit.empty() || d.unit == "1" ? "" : " " + d.unit;
    return fmt::format("{:.3g}{}", d.largest / d.scale, unit);
}

std::string share_text(double share)
{
    return std::isfinite(share) ? fmt::format("{:.2g} %", 100 * share) : "no value";
}

}  // namespace

std::string FixedStepReport::text() const
{
    std::string out = fmt::format("{}{}: in steps of {} over {:g} s\n", system, scenario.empty() ? "" : ", " + scenario, step_text(step), stop);
    auto list = [&out](const char* title, const std::vector<std::string>& lines) {
        if (lines.empty()) return;
        out += fmt::format("\n{}\n", title);
        for (const std::string& l : lines) out += "  " + l + "\n";
    };
    list("It cannot go on in fixed steps of bounded work:", cannot);
    if (!methods.empty()) {
        out += fmt::format("\n{:<15} {:<7} {:>12} {:>11} {:>11}  {}\n", "method", "holds", "largest step", "operations", "mean error",
                           "a step takes (median, 99.9 %, longest)");
        for (const Method& m : methods) {
            double mean = m.quantities.empty() ? 0 : m.quantities[0].mean_share;
            out += fmt::format("{:<15} {:<7} {:>12} {:>11} {:>11}  {}\n", m.name, m.holds ? "yes" : "no", step_text(m.largest_stable), m.step_operations,
                               m.holds ? share_text(mean) : "-",
                               m.holds ? fmt::format("{}, {}, {}", step_text(m.median), step_text(m.nearly_all), step_text(m.longest)) : m.fails);
        }
        for (const Method& m : methods)
            if (m.by_modes > 0)
                out += fmt::format("  {}: eigenvalues along the run allow {}{}\n", m.name, step_text(m.by_modes),
                                   m.largest_stable > 1.2 * m.by_modes ? "; runs with longer steps stayed near, but some mode grows in them for a while" : "");
        for (const Method& m : methods)
            if (!m.none_found.empty()) out += "  " + m.none_found + "\n";
        for (const Method& m : methods)
            if (m.largest_stable > 0 && m.tried_over < 0.99 * stop)
                out += fmt::format("  {}: its largest step was tried over the first {}\n", m.name, step_text(m.tried_over));
        out += fmt::format("  (mean error: root mean square of the worst quantity over its span, against variable steps at a tolerance of {:g})\n", tolerance);
        const Method& asked = methods[0];
        if (!asked.measures.empty()) {
            out += fmt::format("\n{:<28} {:>14} {:>14}  off by\n", "measure", "variable steps", asked.name);
            for (const Difference& d : asked.measures)
                out += fmt::format("{:<28} {:>14.6g} {:>14.6g}  {}{}\n", d.name + (d.unit.empty() || d.unit == "1" ? "" : " [" + d.unit + "]"),
                                   (d.reference - d.offset) / d.scale, (d.found - d.offset) / d.scale, difference_text(d),
                                   std::isfinite(d.share) ? fmt::format(" ({})", share_text(d.share)) : "");
        }
        constexpr std::size_t kShown = 8;
        if (!asked.quantities.empty()) {
            out += fmt::format("\n{:<36} {:>14} {:>10} {:>10}\n", "quantities farthest off, " + asked.name, "largest", "of span", "mean");
            for (std::size_t k = 0; k < asked.quantities.size() && k < kShown; ++k) {
                const Difference& d = asked.quantities[k];
                if (!(d.largest > 0)) break;
                out +=
                    fmt::format("{:<36} {:>14} {:>10} {:>10}  at {:.4g} s\n", d.name, difference_text(d), share_text(d.share), share_text(d.mean_share), d.at);
            }
        }
        out += fmt::format("\n{} steps, {} events, {} bad pivots, {} warnings; at most {} operations more at a moment\n", asked.steps, asked.events,
                           asked.bad_pivots, asked.warnings, asked.moment_operations);
    }
    list("What hinders:", hinders);
    if (!parts.empty()) {
        std::string line;
        for (std::size_t k = 0; k < parts.size() && k < 6; ++k)
            line += fmt::format("{}{} {:.0f} %", k == 0 ? "" : ", ", parts[k].name.empty() ? "the system itself" : parts[k].name, 100 * parts[k].share);
        out += "\nDearest parts, by operations of their equations: " + line + "\n";
    }
    list("Next:", next);
    return out;
}

std::string FixedStepReport::json() const
{
    using nlohmann::json;
    auto differences = [](const std::vector<Difference>& all) {
        json list = json::array();
        for (const Difference& d : all)
            list.push_back({{"name", d.name},
                            {"unit", d.unit},
                            {"scale", d.scale},
                            {"offset", d.offset},
                            {"largest", json_number(d.largest)},
                            {"at", json_number(d.at)},
                            {"share", json_number(d.share)},
                            {"mean_share", json_number(d.mean_share)},
                            {"reference", json_number(d.reference)},
                            {"found", json_number(d.found)}});
        return list;
    };
    json j{{"system", system}, {"scenario", scenario}, {"step", step},       {"stop", stop}, {"tolerance", tolerance},
           {"fit", fit()},     {"cannot", cannot},     {"hinders", hinders}, {"next", next}};
    j["methods"] = json::array();
    for (const Method& m : methods)
        j["methods"].push_back({{"name", m.name},
                                {"holds", m.holds},
                                {"fails", m.fails},
                                {"largest_stable", m.largest_stable},
                                {"none_found", m.none_found},
                                {"tried_over", m.tried_over},
                                {"by_modes", m.by_modes},
                                {"quantities", differences(m.quantities)},
                                {"measures", differences(m.measures)},
                                {"steps", m.steps},
                                {"events", m.events},
                                {"bad_pivots", m.bad_pivots},
                                {"warnings", m.warnings},
                                {"step_operations", m.step_operations},
                                {"moment_operations", m.moment_operations},
                                {"median", m.median},
                                {"nearly_all", m.nearly_all},
                                {"longest", m.longest}});
    j["parts"] = json::array();
    for (const Part& p : parts) j["parts"].push_back({{"name", p.name}, {"share", p.share}});
    return j.dump(2);
}

FixedStepReport fixed_step_report(const CompiledSystem& system, const FixedStepRequest& request)
{
    return Reporter(system, request).work();
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Candidates from cost and modes, each tried by a run of its own, then those that help together.
#include "netloop/advise.hpp"

#include <fmt/format.h>

#include <time.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <map>
#include <mutex>
#include <set>
#include <thread>

#include "api/internal.hpp"
#include "base/diagnostics.hpp"
#include "netloop/fixed_steps.hpp"
#include "runs/advice_prices.hpp"
#include "runs/advice_structure.hpp"
#include "runs/fixed_start.hpp"
#include "runs/step_stability.hpp"
#include "runs/step_text.hpp"

namespace netloop {
namespace {

using Change = Advice::Change;
using Trial = Advice::Trial;

struct Candidate {
    ParameterId param = 0;
    double score = 0;
    double direction = 0;  ///< above 0: more of it
    std::string reason;
    double told_by = 0;                ///< the share that the reason speaks of
    double power = 1;                  ///< of the rate of what it moves: by how much more of it the rate grows, percent per percent
    std::vector<ParameterId> alike{};  ///< the same of other parts, which limit as much: changed with it
};

bool stopped(const std::atomic<bool>* flag)
{
    return flag != nullptr && flag->load(std::memory_order_relaxed);
}

class Adviser {
public:
    /// `structure` null: params alone are tried.
    Adviser(const CompiledSystem& system, const AdviceRequest& request, AdviceStructure* structure)
        : system_(system), as_compiled_(system), structure_(structure), data_(&system_.data()), request_(request)
    {
        options_ = request.options;
        options_.out.clear();
        options_.in_memory = true;
        options_.progress = {};
        options_.interrupt = request.interrupt;
        options_.verify = false;
        if (!request.fixed_method.empty()) fixed_ = fixed_method_named(request.fixed_method), nothing_ = 0.02;
        advice_.method = request.fixed_method;
    }

    // What limits a run may hide what would limit it next: so all is looked at anew with what has been taken.
    Advice work()
    {
        as_it_is();
        for (round_ = 1; round_ <= kMostRounds; ++round_) {
            base_gain_ = advice_.combined.speed_up;
            find_candidates();
            try_singly();
            combine();
            if (!is_gain(advice_.combined.speed_up) || advice_.runs + kLeast > request_.runs || stopped(request_.interrupt)) break;
        }
        confirm();
        tell();
        return std::move(advice_);
    }

private:
    const FlatModel& flat() const { return data_->model->form.flat(); }

    // The system at hand has what was taken; other changes of structure make another one.
    CompiledSystem system_for(const std::vector<Change>& changes) const
    {
        bool structural = std::any_of(changes.begin(), changes.end(), [](const Change& c) { return c.is_structural(); });
        return structural ? structure_->with(changes) : as_compiled_;
    }
    void prepare(Run& run, const CompiledSystem& system, const std::vector<Change>& changes) const
    {
        if (request_.prepare) request_.prepare(run, system);
        for (const Change& c : changes)
            if (!c.is_structural()) run.set(system.param(c.param), c.to);
    }
    Run prepared(const std::vector<Change>& changes = {}) const
    {
        CompiledSystem system = system_for(changes);
        Run run(system);
        prepare(run, system, changes);
        return run;
    }

    // Of the processor, by this thread: others beside it, and other programs, make it hardly longer.
    static double processor_seconds()
    {
        timespec now{};
        ::clock_gettime(CLOCK_THREAD_CPUTIME_ID, &now);
        return static_cast<double>(now.tv_sec) + 1e-9 * static_cast<double>(now.tv_nsec);
    }
    template <typename Work>
    static double seconds_of(Work work)
    {
        double begun = processor_seconds();
        work();
        return std::max(processor_seconds() - begun, 1e-9);
    }

    void as_it_is()
    {
        Run run = prepared();
        advice_.as_it_is.seconds = seconds_of([&] { base_ = run.simulate(options_); });
        summary_ = run.summary();
        advice_.runs = 1;
        advice_.as_it_is.steps = static_cast<double>(summary_.steps);
        if (stopped(request_.interrupt)) throw Interrupted("interrupted: the first run did not come to its end");
        // short ones are measured twice
        constexpr double kShort = 2;
        repeats_ = advice_.as_it_is.seconds < kShort ? 2 : 1;
        if (repeats_ > 1) {
            Run again = prepared();
            advice_.as_it_is.seconds = std::min(advice_.as_it_is.seconds, seconds_of([&] { again.simulate(options_); }));
        }
        if (fixed_) {
            advice_.as_it_is.largest_step = largest_step({}, summary_);
            if (!(advice_.as_it_is.largest_step > 0))
                throw RunError("fixed-step", fmt::format("no step was found with which {} holds as the model is: there is nothing to compare with; `netloop "
                                                         "realtime` says more",
                                                         request_.fixed_method));
        }
        looked_at_ = summary_;
        for (const AdviceRequest::Keep& k : request_.keep) {
            bool measure = std::any_of(base_.measures.begin(), base_.measures.end(), [&](const MeasureResult& m) { return m.name == k.name; });
            if (measure || base_.find(k.name) != nullptr) continue;
            std::vector<std::string> names;
            for (const Column& c : base_.columns) names.push_back(c.name);
            for (const MeasureResult& m : base_.measures) names.push_back(m.name);
            std::string near = nearest_name(k.name, names);
            throw UsageError(fmt::format("'{}' is neither recorded nor measured: it cannot be kept{}", k.name,
                                         near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
        }
    }

    // --- what might help -------------------------------------------------------------------------------------------------

    bool may_change(ParameterId p) const
    {
        const FlatParameter& f = flat().parameters[p];
        if (f.boolean || f.external || !f.follows.empty() || f.path.starts_with("added to") || f.path.find(" added to ") != std::string::npos) return false;
        // what follows from another param is changed by that
        const Graph& g = flat().graph;
        if (f.value == kNoNode) return false;
        std::vector<NodeId> below = g.reachable({f.value});
        return std::none_of(below.begin(), below.end(), [&](NodeId id) { return g[id].op == Op::parameter; });
    }

    void suggest(ParameterId p, double score, double direction, double share, const std::string& reason, double power = 1)
    {
        if (!may_change(p) || !(score > 0)) return;
        Candidate& c = candidates_[p];
        c.param = p;
        if (fixed_) {  // what allows the shortest step counts, however long it does
            if (score > c.score) c.score = score, c.direction = direction, c.power = power;
        } else {
            c.score += score;
            c.direction += score * (direction > 0 ? 1 : -1);
        }
        if (share > c.told_by) c.told_by = share, c.reason = reason;
    }

    // Times at which steps were dense, and parts limited them: a share of the steps stands for each.
    static std::vector<double> points(const RunSummary& summary)
    {
        constexpr std::size_t kPoints = 24;
        std::vector<double> times;
        double made = 0;
        const double all = summary.cost.steps;
        for (const Cost::Stretch& s : summary.cost.stretches) {
            double before = made;
            made += s.steps;
            // one point for each share of all steps that ends in this stretch
            if (std::floor(kPoints * made / all) > std::floor(kPoints * before / all)) times.push_back(0.5 * (s.from + s.to));
        }
        std::sort(times.begin(), times.end());
        times.erase(std::unique(times.begin(), times.end()), times.end());
        return times;
    }

    void find_candidates()
    {
        candidates_.clear();
        parts_.clear();
        try {
            if (fixed_)
                find_by_longest_steps();
            else
                find_by_cost();
        } catch (const Interrupted&) {
            candidates_.clear();  // what was tried until then is told
        }
    }

    // Modes at the points that have any, of a run with these changes.
    template <typename Look>
    void at_points(const std::vector<Change>& changes, const std::vector<double>& times, bool sensitivities, Look look) const
    {
        ModesRequest ask;
        ask.sensitivities = sensitivities;
        constexpr std::size_t kFastest = 20;  // of large systems: the fast end is what limits steps
        if (data_->model->form.reduced.n_states() > kMostStatesInTables) ask.count = kFastest, ask.end = ModesRequest::End::fastest;
        Run run = prepared(changes);
        RunOptions as_asked;
        as_asked.tolerance = request_.options.tolerance;
        run.start(as_asked);
        for (double t : times) {
            if (stopped(request_.interrupt)) throw Interrupted("interrupted");
            try {
                if (t > run.time() && !run.step_to(t)) return;
                look(run.modes(ask));
            } catch (const RunError&) {
                continue;  // a point at which rates are not settled has none
            }
        }
    }

    ParameterId param_named(const std::string& path)
    {
        if (param_of_.empty())
            for (ParameterId p = 0; p < flat().parameters.size(); ++p) param_of_[flat().parameters[p].path] = p;
        auto known = param_of_.find(path);
        return known == param_of_.end() || !may_change(known->second) ? kNoParameter : known->second;
    }

    // Params that move a mode, the direction that makes it slower.
    void suggest_of(const Mode& m, double weight, const std::string& reason)
    {
        constexpr std::size_t kMostOfMode = 8;
        constexpr double kMoves = 0.05;  // percent per percent
        std::size_t taken = 0;
        for (const Mode::Param& q : m.params) {
            ParameterId p = std::abs(q.frequency) < kMoves || taken == kMostOfMode ? kNoParameter : param_named(q.name);
            if (p == kNoParameter) continue;
            ++taken;
            // of what may not be exceeded at all it counts for little how strongly a param moves it
            constexpr double kStrongly = 0.2;
            double strength = std::min(std::abs(q.frequency) / (fixed_ ? kStrongly : 1), 1.0);
            suggest(p, weight * strength, -q.frequency, weight, reason, std::abs(q.frequency));
            // a stop has no state of its own: what its params move is its affair
            const std::size_t dot = q.name.rfind('.');
            if (dot == std::string::npos) continue;
            PartWeight& part = parts_[q.name.substr(0, dot)];
            if (weight * strength > part.weight) part = {weight * strength, reason};
        }
    }

    void find_by_cost()
    {
        double all = 0;
        std::map<std::string, double> by_part;
        for (const Cost::Limit& l : looked_at_.cost.limits) {
            all += l.steps;
            by_part[l.part] += l.steps;
        }
        if (all == 0) return;
        for (const auto& [part, steps] : by_part)
            if (!part.empty()) parts_[part] = {steps / all, fmt::format("limited {:.0f} % of the steps", 100 * steps / all)};
        std::vector<double> times = points(looked_at_);
        at_points(taken_, times, true, [&](const Modes& modes) {
            for (const Mode& m : modes.modes) {
                // how much of what limited steps takes part in this mode
                double weight = 0, most = 0;
                std::string part;
                for (const Mode::Part& p : m.parts) {
                    auto it = by_part.find(p.name);
                    if (it == by_part.end()) continue;
                    double share = p.share * it->second / all;
                    weight += share;
                    if (share > most) most = share, part = p.name;
                }
                if (weight < 0.005 || m.root.value == 0.0) continue;
                // faster modes cost more than slower ones that the same parts take part in
                double fast = std::abs(m.root.value);
                double rank = 0;
                for (const Mode& other : modes.modes) rank += std::abs(other.root.value) < fast ? 1 : 0;
                weight *= (1 + rank) / static_cast<double>(modes.modes.size()) / static_cast<double>(times.size());
                suggest_of(m, weight,
                           fmt::format("moves a mode of {:.3g} Hz of {}, which limited {:.0f} % of the steps", m.root.frequency(),
                                       part.empty() ? "the system" : part, 100 * by_part[part] / all));
            }
        });
        // blocks that run by a clock: their periods
        for (const FlatBlock& b : flat().blocks) {
            if (b.kind != FlatBlock::Kind::every || b.period == kNoNode) continue;
            double share = 0;
            std::size_t times_run = 0;
            for (const Cost::Limit& l : looked_at_.cost.limits)
                if (l.what == b.text && l.part == flat().instances[b.origin.instance]) share += l.steps / all;
            for (const EventEntry& e : looked_at_.event_record.kinds)
                if (e.text == b.text && e.part == flat().instances[b.origin.instance]) times_run = e.times.size();
            if (times_run == 0 && share == 0) continue;
            suggest_period(b, std::max(share, static_cast<double>(times_run) / all), fmt::format("ran {} times", times_run));
        }
    }

    void suggest_period(const FlatBlock& b, double score, const std::string& what)
    {
        std::set<ParameterId> periods;
        collect_params(b.period, periods);
        for (ParameterId p : periods) suggest(p, score, 1, 1, fmt::format("is the period of '{}'{}, which {}", b.text, in_part(b.origin.instance), what));
    }

    // --- how long a fixed step may be -------------------------------------------------------------------------------------

    // Evenly along the run, and where its steps were dense.
    static std::vector<double> points_along(const RunSummary& summary)
    {
        constexpr std::size_t kEven = 40;
        std::vector<double> times = points(summary);
        for (std::size_t k = 0; k < kEven; ++k) times.push_back(summary.start + (summary.stop - summary.start) * static_cast<double>(k) / kEven);
        std::sort(times.begin(), times.end());
        return times;
    }

    // Clocked blocks: a step that is longer than a period would leave runs of the block out.
    double shortest_period(const RunSummary& summary, const FlatBlock** whose = nullptr) const
    {
        double least = HUGE_VAL;
        for (const FlatBlock& b : flat().blocks) {
            if (b.kind != FlatBlock::Kind::every) continue;
            for (const EventEntry& e : summary.event_record.kinds) {
                if (e.text != b.text || e.part != flat().instances[b.origin.instance]) continue;
                for (std::size_t k = 1; k < e.times.size(); ++k) {
                    if (!(e.times[k] - e.times[k - 1] < least)) continue;
                    least = e.times[k] - e.times[k - 1];
                    if (whose != nullptr) *whose = &b;
                }
            }
        }
        return least;
    }

    // At most one step for all of the run.
    double largest_step(const std::vector<Change>& changes, const RunSummary& summary) const
    {
        const double longest = summary.stop - summary.start;
        if (!is_explicit(*fixed_)) {
            FixedStepRequest ask;
            ask.options.method = request_.fixed_method;
            ask.methods = {request_.fixed_method};
            ask.options.step = std::min(1e-3, 0.01 * longest);
            ask.stop = summary.stop;
            ask.tolerance = 1e-6;
            const CompiledSystem system = system_for(changes);
            ask.prepare = [&](Run& run) { prepare(run, system, changes); };
            ask.interrupt = request_.interrupt;
            FixedStepReport report = fixed_step_report(system, ask);
            if (report.methods.empty()) throw RunError("fixed-step", "it cannot go on in fixed steps: " + report.cannot.at(0));
            return std::min(report.methods[0].largest_stable, shortest_period(summary));
        }
        double least = std::min(longest, shortest_period(summary));
        at_points(changes, points_along(summary), false, [&](const Modes& modes) {
            for (const Mode& m : modes.modes) least = std::min(least, longest_damped_step(*fixed_, m.root.value));
        });
        return least;
    }

    void find_by_longest_steps()
    {
        const double now = advice_.combined.changes.empty() ? advice_.as_it_is.largest_step : advice_.combined.largest_step;
        const FlatBlock* clocked = nullptr;
        double period = shortest_period(looked_at_, &clocked);
        constexpr double kNear = 1.1, kSteep = 4;  // what allows longer steps does not limit them
        if (clocked != nullptr && clocked->period != kNoNode && period < kNear * now)
            suggest_period(*clocked, std::pow(now / period, kSteep), fmt::format("runs every {}: no step may be longer", step_text(period)));
        at_points(taken_, points_along(looked_at_), true, [&](const Modes& modes) {
            for (const Mode& m : modes.modes) {
                // methods that are not explicit have no limit of their own: the fastest modes are the ones that they follow worst
                double allowed = longest_damped_step(is_explicit(*fixed_) ? *fixed_ : FixedMethod::rk4, m.root.value);
                if (m.parts.empty() || (is_explicit(*fixed_) && !(allowed < kNear * now))) continue;
                std::string part = m.parts[0].name.empty() ? "the system" : m.parts[0].name;
                double weight = std::pow(now / allowed, kSteep);
                std::string what =
                    m.swings() ? fmt::format("a mode of {:.3g} Hz", m.root.frequency()) : "a time constant of " + step_text(-1 / m.root.value.real());
                for (const Mode::Part& p : m.parts) {
                    PartWeight& known = parts_[p.name];
                    if (p.name.empty() || !(weight * p.share > known.weight)) continue;
                    known = {weight * p.share, is_explicit(*fixed_) ? fmt::format("takes part in {}, which allows steps of {}", what, step_text(allowed))
                                                                    : fmt::format("takes part in {}", what)};
                }
                suggest_of(m, weight,
                           is_explicit(*fixed_) ? fmt::format("moves {} of {}, which allows steps of {}", what, part, step_text(allowed))
                                                : fmt::format("moves {} of {}", what, part));
            }
        });
    }

    // The explicit methods were judged by eigenvalues: a run in steps of that length says whether it was right.
    void confirm()
    {
        const double h = advice_.combined.changes.empty() ? 0 : advice_.combined.largest_step;
        if (!fixed_ || !(h > 0) || stopped(request_.interrupt)) return;
        constexpr double kInside = 0.9;
        FixedStepOptions options;
        options.method = request_.fixed_method;
        options.step = kInside * h;
        std::string how;
        holds_ = false;
        try {
            FixedStepRun run(system_, options, {}, {}, [&](Run& r) { prepare(r, system_, taken_); });
            double stop = looked_at_.stop;
            FixedStepStatus status = FixedStepStatus::good;
            while (status == FixedStepStatus::good && run.time() + options.step <= stop && !stopped(request_.interrupt)) status = run.step();
            if (stopped(request_.interrupt)) return;
            holds_ = status == FixedStepStatus::good || status == FixedStepStatus::stopped;
            how = holds_ ? "a run in such steps comes to its end"
                         : fmt::format("but a run in such steps fails at {:.4g} s: {}{}", run.time(), text_of(status),
                                       run.said().empty() ? "" : ": " + run.said());
        } catch (const Error& error) {
            std::string text = error.what();
            how = "but a run in such steps does not begin: " + text.substr(0, text.find('\n'));
        }
        advice_.confirmed = step_text(options.step) + ": " + how;
    }

    std::string in_part(std::uint32_t instance) const { return flat().instances[instance].empty() ? "" : " in " + flat().instances[instance]; }

    // Params that can be changed themselves, of an expression and of what its params follow from.
    void collect_params(NodeId root, std::set<ParameterId>& found) const
    {
        const Graph& g = flat().graph;
        std::vector<NodeId> stack{root};
        std::set<ParameterId> seen;
        while (!stack.empty()) {
            NodeId id = stack.back();
            stack.pop_back();
            for (NodeId below : g.reachable({id})) {
                if (g[below].op != Op::parameter || !seen.insert(g[below].a).second) continue;
                if (may_change(g[below].a))
                    found.insert(g[below].a);
                else if (NodeId value = flat().parameters[g[below].a].value; value != kNoNode)
                    stack.push_back(value);
            }
        }
    }

    // --- trials ----------------------------------------------------------------------------------------------------------

    Change change_of(ParameterId p, double factor, const std::string& reason) const
    {
        const FlatParameter& f = flat().parameters[p];
        // tried is what can be written in few digits: the scenario to paste has exactly the values that were measured
        double told = 0;
        std::string text = fmt::format("{:.6g}", (now_.at(p) * factor - f.unit.offset) / f.unit.scale);
        std::from_chars(text.data(), text.data() + text.size(), told);
        Change c;
        c.param = f.path, c.unit = f.unit.text;
        c.from = from_.at(p), c.to = told * f.unit.scale + f.unit.offset;
        c.scale = f.unit.scale, c.offset = f.unit.offset;
        c.reason = reason;
        return c;
    }

    // What has been taken and, last, the candidate by that factor: more of it or less, as it helps. Empty if it goes out of range.
    std::vector<Change> with(const Candidate& c, double by) const
    {
        const double factor = c.direction > 0 ? by : 1 / by;
        std::vector<ParameterId> params{c.param};
        params.insert(params.end(), c.alike.begin(), c.alike.end());
        std::vector<Change> tried;
        for (ParameterId p : params) {
            tried.push_back(change_of(p, factor, c.reason));
            if (!in_range(p, tried.back().to) || !near_enough(tried.back())) return {};
        }
        return with(tried);
    }

    // Where nothing says what is to be kept, nothing says how far is too far.
    bool near_enough(const Change& c) const
    {
        constexpr double kFarthest = 10 * (1 + 1e-9);
        bool kept = !request_.keep.empty() || !base_.measures.empty() || !base_.demands.empty();
        double factor = c.to / c.from;
        return kept || (factor <= kFarthest && factor >= 1 / kFarthest);
    }

    // Another value of what has been taken already stands in its place; of another component what was taken inside the one before it is gone.
    std::vector<Change> with(const std::vector<Change>& tried) const
    {
        std::vector<Change> all = taken_;
        for (const Change& c : tried)
            std::erase_if(all, [&](const Change& x) { return x.param == c.param || (c.is_part && x.param.starts_with(c.param + ".")); });
        all.insert(all.end(), tried.begin(), tried.end());
        return all;
    }

    static std::vector<Change> tried_in(const Trial& t) { return {t.changes.end() - static_cast<std::ptrdiff_t>(t.tried), t.changes.end()}; }

    // Options of the parts that limit most, and other components in their place; each once.
    std::vector<Change> structural_candidates(Run& run)
    {
        constexpr std::size_t kMost = 4;
        constexpr double kLeast = 0.05;
        std::vector<Change> list;
        if (structure_ == nullptr) return list;
        std::vector<std::pair<double, std::string>> order;
        double most = 0;
        for (const auto& [part, weight] : parts_) most = std::max(most, weight.weight);
        for (const auto& [part, weight] : parts_)
            if (weight.weight >= kLeast * (fixed_ ? most : 1)) order.emplace_back(-weight.weight, part);
        std::sort(order.begin(), order.end());
        for (const auto& [weight, part] : order)
            for (Change& c : structure_->at_part(part, system_, run, taken_)) {
                if (list.size() == kMost) return list;
                if (!structures_tried_.insert(c.param + " = " + c.to_text).second) continue;
                c.reason = parts_[part].reason;
                list.push_back(std::move(c));
            }
        return list;
    }

    // What was taken has made another system: params are found there by their paths.
    void take_system(const std::vector<Change>& changes)
    {
        CompiledSystem next = system_for(changes);
        const CompiledSystemData* data = &next.data();
        if (data == data_) return;
        std::map<std::string, ParameterId> there;
        for (ParameterId p = 0; p < data->model->form.flat().parameters.size(); ++p) there.emplace(data->model->form.flat().parameters[p].path, p);
        std::map<ParameterId, double> from;
        std::set<ParameterId> refused;
        for (const auto& [p, value] : from_)
            if (auto it = there.find(flat().parameters[p].path); it != there.end()) from.emplace(it->second, value);
        for (ParameterId p : refused_)
            if (auto it = there.find(flat().parameters[p].path); it != there.end()) refused.insert(it->second);
        from_ = std::move(from);
        refused_ = std::move(refused);
        now_.clear();
        candidates_.clear();
        param_of_.clear();
        system_ = next;
        data_ = &system_.data();
    }

    // Two cylinders on one lever limit steps alike, and slowing down one of them is no use: of fixed steps they are changed together.
    std::vector<Candidate> grouped(std::vector<Candidate> list) const
    {
        if (!fixed_) return list;
        std::vector<Candidate> groups;
        auto name = [&](ParameterId p) { return flat().parameters[p].path.substr(flat().parameters[p].path.rfind('.') + 1); };
        for (Candidate& c : list) {
            auto like = std::find_if(groups.begin(), groups.end(), [&](const Candidate& g) {
                return name(g.param) == name(c.param) && now_.at(g.param) == now_.at(c.param) && (g.direction > 0) == (c.direction > 0);
            });
            if (like == groups.end())
                groups.push_back(std::move(c));
            else
                like->alike.push_back(c.param);
        }
        return groups;
    }

    struct Attempt {
        std::vector<Change> changes;
        std::size_t tried = 1;  ///< of them, the last ones
    };
    struct Measured {
        Trial trial;
        RunSummary summary;
    };

    Measured measured(const std::vector<Change>& changes) const
    {
        Measured m;
        Trial& trial = m.trial;
        trial.changes = changes;
        trial.seconds = HUGE_VAL;
        Recording recording;
        try {
            for (int k = 0; k < repeats_; ++k) {
                Run run = prepared(changes);
                // far slower than it was: it is of no use
                RunOptions options = options_;
                options.time_limit = std::max(4 * summary_.wall_seconds, 1.0);
                trial.seconds = std::min(trial.seconds, seconds_of([&] { recording = run.simulate(options); }));
                m.summary = run.summary();
                if (!m.summary.complete) break;
            }
            trial.steps = static_cast<double>(m.summary.steps);
            if (!m.summary.complete) {
                trial.refused = "it does not come to its end: " + m.summary.reason;
                return m;
            }
            if (fixed_) trial.largest_step = largest_step(changes, m.summary);
        } catch (const Error& error) {
            std::string text = error.what();
            trial.refused = "the run fails: " + text.substr(0, text.find('\n'));
            return m;
        }
        trial.speed_up = fixed_ ? trial.largest_step / advice_.as_it_is.largest_step : advice_.as_it_is.seconds / trial.seconds;
        Priced priced = price_of(base_, recording, request_.keep);
        trial.prices = std::move(priced.prices);
        trial.refused = std::move(priced.refused);
        return m;
    }

    // Several at a time; what comes of them does not depend on how many.
    std::vector<Measured> run_all(const std::vector<Attempt>& list)
    {
        std::vector<Measured> done(list.size());
        std::mutex lock;
        std::size_t next = 0;
        auto worker = [&] {
            for (;;) {
                std::size_t mine;
                {
                    std::lock_guard guard(lock);
                    if (next == list.size() || stopped(request_.interrupt)) return;
                    mine = next++;
                }
                Measured one = measured(list[mine].changes);
                one.trial.tried = list[mine].tried;
                one.trial.round = round_;
                one.trial.before = base_gain_;
                std::lock_guard guard(lock);
                done[mine] = std::move(one);
                ++advice_.runs;
                if (request_.progress) request_.progress(advice_.runs, request_.runs);
            }
        };
        std::vector<std::thread> threads;
        for (std::size_t k = 1; k < std::min(request_.jobs, list.size()); ++k) threads.emplace_back(worker);
        worker();
        for (std::thread& t : threads) t.join();
        std::erase_if(done, [](const Measured& m) { return m.trial.changes.empty(); });
        for (Measured& m : done) measure_again_if_doubtful(m.trial);
        return done;
    }

    // Far fewer steps and hardly less time: most often the run as it is had the processor for itself, and this one had not.
    // So short runs are then measured in turns with the run as it is.
    void measure_again_if_doubtful(Trial& t) const
    {
        constexpr double kFar = 0.6;
        double by_steps = advice_.as_it_is.steps / std::max(t.steps, 1.0);
        bool doubtful = is_gain(by_steps) && (t.speed_up < kFar * by_steps || !is_gain(t.speed_up));
        if (fixed_ || repeats_ == 1 || !t.refused.empty() || !doubtful || stopped(request_.interrupt)) return;
        double before = HUGE_VAL, now = HUGE_VAL;
        for (int k = 0; k < repeats_; ++k) {
            Run as_it_was = prepared(), changed = prepared(t.changes);
            before = std::min(before, seconds_of([&] { as_it_was.simulate(options_); }));
            now = std::min(now, seconds_of([&] { changed.simulate(options_); }));
        }
        if (stopped(request_.interrupt)) return;
        t.speed_up = before / now;
        t.seconds = advice_.as_it_is.seconds / t.speed_up;
    }

    bool in_range(ParameterId p, double value) const
    {
        const FlatParameter& f = flat().parameters[p];
        const Graph& g = flat().graph;
        auto bound = [&](NodeId node, double otherwise) { return node != kNoNode && g.is_constant(node) ? g.value(node) : otherwise; };
        return value >= bound(f.low, -HUGE_VAL) && value <= bound(f.high, HUGE_VAL);
    }

    bool is_gain(double speed_up) const { return speed_up > base_gain_ * (1 + nothing_); }

    // Of fixed steps: if they have not grown as the moved mode has slowed down, something else limits them now, and more of the same is no use.
    bool still_limits(const Candidate& c, double gain, double factor) const
    {
        constexpr double kAsMuch = 0.8;
        return !fixed_ || gain > kAsMuch * std::pow(factor, c.power);
    }

    void try_singly()
    {
        singles_.clear();
        if (stopped(request_.interrupt)) return;
        std::vector<Candidate> list;
        Run run = prepared(taken_);
        for (auto& [p, c] : candidates_) {
            now_[p] = run.value(ParamId{p});
            from_.try_emplace(p, now_[p]);
            if (now_[p] != 0 && refused_.count(p) == 0) list.push_back(c);
        }
        std::stable_sort(list.begin(), list.end(), [](const Candidate& a, const Candidate& b) { return a.score > b.score; });
        // some of the runs for a first step of three; then what a larger step gives, with a few runs left for combinations and for what comes to light then
        constexpr std::size_t kFew = 6;  // of what allows the shortest step, which few params move
        std::size_t budget = request_.runs > advice_.runs ? request_.runs - advice_.runs : 0, first = std::max(budget / 3, std::min<std::size_t>(budget, 3));
        if (fixed_) first = std::min(budget, kFew);
        std::vector<Attempt> attempts;
        std::vector<Candidate> tried;
        constexpr double kStep = 3, kLarge = 10;
        auto attempt = [&](const Candidate& c, double by) {
            std::vector<Change> changes = with(c, by);
            if (changes.empty()) return false;
            attempts.push_back({std::move(changes), 1 + c.alike.size()});
            return true;
        };
        for (const Candidate& c : grouped(std::move(list))) {
            if (attempts.size() == first) break;
            if (attempt(c, kStep)) tried.push_back(c);
        }
        const std::size_t params_tried = attempts.size();
        for (Change& c : structural_candidates(run))
            if (attempts.size() < budget) attempts.push_back({with({std::move(c)}), 1});
        singles_ = run_all(attempts);
        // what helps may help more
        attempts.clear();
        std::vector<std::pair<double, std::size_t>> order;
        for (std::size_t k = 0; k < singles_.size() && k < params_tried; ++k) {
            const Trial& t = singles_[k].trial;
            if (!t.refused.empty())
                refused_.insert(tried[k].param);
            else if (is_gain(t.speed_up) && still_limits(tried[k], t.speed_up / base_gain_, kStep))
                order.emplace_back(-t.speed_up, k);
        }
        std::sort(order.begin(), order.end());
        const std::size_t most = fixed_ ? 2 : 8, left = fixed_ ? 2 : 6;
        for (const auto& [speed, k] : order) {
            if (attempts.size() + advice_.runs + left >= request_.runs || attempts.size() == most) break;
            (void)attempt(tried[k], kLarge);
        }
        std::vector<Measured> larger = run_all(attempts);
        singles_.insert(singles_.end(), std::make_move_iterator(larger.begin()), std::make_move_iterator(larger.end()));
        // of equal gains, to a thousandth, the smaller change stays in front
        auto thousandths = [](const Measured& m) { return std::round(1000 * std::log(m.trial.speed_up)); };
        std::stable_sort(singles_.begin(), singles_.end(), [&](const Measured& a, const Measured& b) {
            if (a.trial.refused.empty() != b.trial.refused.empty()) return a.trial.refused.empty();
            return thousandths(a) > thousandths(b);
        });
        for (const Measured& m : singles_) advice_.trials.push_back(m.trial);
    }

    // Greedily: the fastest first, then each that makes it faster yet.
    void combine()
    {
        bool structure_taken = false;
        auto take = [&](Measured& m) {
            taken_ = m.trial.changes;
            advice_.combined = m.trial;
            looked_at_ = std::move(m.summary);
            structure_taken = structure_taken || tried_in(m.trial)[0].is_structural();
        };
        std::set<std::string> done;
        for (Measured& m : singles_) {
            if (!m.trial.refused.empty() || !is_gain(m.trial.speed_up) || stopped(request_.interrupt)) break;
            const std::vector<Change> tried = tried_in(m.trial);
            if (!done.insert(tried[0].param).second) continue;
            if (done.size() == 1) {
                take(m);
                continue;
            }
            if (advice_.runs >= request_.runs) break;
            std::vector<Measured> made = run_all({{with(tried), tried.size()}});
            if (made.empty() || !made[0].trial.refused.empty() || made[0].trial.speed_up < advice_.combined.speed_up * (1 + nothing_)) continue;
            take(made[0]);
        }
        if (structure_taken) take_system(taken_);
    }

    void tell()
    {
        if (advice_.combined.changes.empty() || advice_.combined.speed_up < 1 + kWorth || !holds_) return;
        std::string from = data_->scenario.empty() ? "" : " from " + data_->scenario;
        std::string text = fmt::format("scenario fast{} {{\n", from.empty() ? " of " + data_->name : from);
        text += fixed_ ? fmt::format("    ## For steps of {} with {}, {:.1f} times as long as before.\n", step_text(advice_.combined.largest_step),
                                     request_.fixed_method, advice_.combined.speed_up)
                       : fmt::format("    ## {:.1f} times as fast as it was.\n", advice_.combined.speed_up);
        for (const Change& c : advice_.combined.changes)
            if (c.is_structural()) text += fmt::format("    {} {} = {}\n", c.is_part ? "put" : "set", c.param, c.to_text);
        for (const Change& c : advice_.combined.changes)
            if (!c.is_structural())
                text += fmt::format("    set {} = {:.6g}{}\n", c.param, (c.to - c.offset) / c.scale, c.unit.empty() || c.unit == "1" ? "" : " " + c.unit);
        if (data_->scenario.empty() && options_.stop) text += fmt::format("    stop at {:g} s\n", *options_.stop);
        advice_.scenario = text + "}\n";
    }

    static constexpr double kWorth = 0.1;                      ///< a gain that is worth a change
    static constexpr std::size_t kMostRounds = 8, kLeast = 3;  ///< runs that a round needs
    static constexpr ParameterId kNoParameter = static_cast<ParameterId>(-1);

    CompiledSystem system_;       ///< with the changes of structure that have been taken
    CompiledSystem as_compiled_;  ///< without
    AdviceStructure* structure_;
    const CompiledSystemData* data_;  ///< of system_
    const AdviceRequest& request_;
    RunOptions options_;
    Advice advice_;
    Recording base_;
    RunSummary summary_;    ///< of the run as it is
    RunSummary looked_at_;  ///< of that with what has been taken
    std::optional<FixedMethod> fixed_;
    int repeats_ = 1;
    double nothing_ = 0.05;  ///< a gain that measuring alone might make
    std::map<ParameterId, Candidate> candidates_;
    std::map<ParameterId, double> from_, now_;
    std::map<std::string, ParameterId> param_of_;
    std::set<ParameterId> refused_;
    struct PartWeight {
        double weight = 0;
        std::string reason;
    };
    std::map<std::string, PartWeight> parts_;  ///< that limit steps
    std::set<std::string> structures_tried_;
    std::vector<Measured> singles_;  ///< of this round
    std::vector<Change> taken_;
    std::size_t round_ = 1;
    bool holds_ = true;     ///< in fixed steps as long as the combination allows
    double base_gain_ = 1;  ///< of what had been taken before this round
};

}  // namespace

Advice advise(const CompiledSystem& system, const AdviceRequest& request)
{
    return Adviser(system, request, nullptr).work();
}

Advice advise(const Library& library, const CompileRequest& compiled, const AdviceRequest& request)
{
    AdviceStructure structure(library, compiled);
    return Adviser(structure.with({}), request, &structure).work();
}

}  // namespace netloop

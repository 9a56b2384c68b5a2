// SPDX-License-Identifier: Apache-2.0
// Candidates from cost and modes, each tried by a run of its own, then those that help together.
#include "netloop/advise.hpp"

#include <fmt/format.h>

#include <time.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>
#include <set>
#include <thread>

#include "api/internal.hpp"
#include "base/diagnostics.hpp"
#include "record/json_number.hpp"

namespace netloop {
namespace {

using Change = Advice::Change;
using Trial = Advice::Trial;
using Price = Advice::Price;

struct Candidate {
    ParameterId param = 0;
    double score = 0;
    double direction = 1;  ///< above 0: more of it
    std::string reason;
    double told_by = 0;  ///< the share that the reason speaks of
};

std::string number(double si, double scale, double offset, const std::string& unit)
{
    return fmt::format("{:.4g}{}", (si - offset) / scale, unit.empty() || unit == "1" ? "" : " " + unit);
}

bool stopped(const std::atomic<bool>* flag)
{
    return flag != nullptr && flag->load(std::memory_order_relaxed);
}

class Adviser {
public:
    Adviser(const CompiledSystem& system, const AdviceRequest& request) : system_(system), data_(system.data()), request_(request)
    {
        options_ = request.options;
        options_.out.clear();
        options_.in_memory = true;
        options_.progress = {};
        options_.interrupt = request.interrupt;
        options_.verify = false;
    }

    Advice work()
    {
        as_it_is();
        find_candidates();
        try_singly();
        combine();
        tell();
        return std::move(advice_);
    }

private:
    const FlatModel& flat() const { return data_.model->form.flat(); }

    Run prepared() const
    {
        Run run(system_);
        if (request_.prepare) request_.prepare(run);
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

    void suggest(ParameterId p, double score, double direction, double share, const std::string& reason)
    {
        if (!may_change(p) || !(score > 0)) return;
        Candidate& c = candidates_[p];
        c.param = p;
        c.score += score;
        weighted_[p] += score * (direction > 0 ? 1 : -1);
        if (share > c.told_by) c.told_by = share, c.reason = reason;
    }

    // Times at which steps were dense, and parts limited them: a share of the steps stands for each.
    std::vector<double> points() const
    {
        constexpr std::size_t kPoints = 24;
        std::vector<double> times;
        double made = 0;
        const double all = summary_.cost.steps;
        for (const Cost::Stretch& s : summary_.cost.stretches) {
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
        double all = 0;
        std::map<std::string, double> by_part;
        for (const Cost::Limit& l : summary_.cost.limits) {
            all += l.steps;
            by_part[l.part] += l.steps;
        }
        if (all == 0) return;
        std::map<std::string, ParameterId> param_of;
        for (ParameterId p = 0; p < flat().parameters.size(); ++p) param_of[flat().parameters[p].path] = p;
        std::vector<double> times = points();
        Run run = prepared();
        for (double t : times) {
            if (stopped(request_.interrupt)) return;
            if (!run.step_to(std::max(t, run.time()))) break;
            Modes modes;
            try {
                modes = run.modes({.count = 0});
            } catch (const Error&) {
                continue;  // at this point there are none
            }
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
                std::size_t taken = 0;
                for (const Mode::Param& q : m.params) {
                    constexpr std::size_t kMostOfMode = 8;
                    constexpr double kMoves = 0.05;  // percent per percent
                    if (std::abs(q.frequency) < kMoves || taken == kMostOfMode) continue;
                    auto known = param_of.find(q.name);
                    if (known == param_of.end() || !may_change(known->second)) continue;
                    ++taken;
                    double share = by_part[part] / all;
                    suggest(known->second, weight * std::min(std::abs(q.frequency), 1.0), -q.frequency, weight,
                            fmt::format("moves a mode of {:.3g} Hz of {}, which limited {:.0f} % of the steps", m.root.frequency(),
                                        part.empty() ? "the system" : part, 100 * share));
                }
            }
        }
        // blocks that run by a clock: their periods
        for (const FlatBlock& b : flat().blocks) {
            if (b.kind != FlatBlock::Kind::every || b.period == kNoNode) continue;
            double share = 0;
            std::size_t times_run = 0;
            for (const Cost::Limit& l : summary_.cost.limits)
                if (l.what == b.text && l.part == flat().instances[b.origin.instance]) share += l.steps / all;
            for (const EventEntry& e : summary_.event_record.kinds)
                if (e.text == b.text && e.part == flat().instances[b.origin.instance]) times_run = e.times.size();
            if (times_run == 0 && share == 0) continue;
            std::set<ParameterId> periods;
            collect_params(b.period, periods);
            for (ParameterId p : periods)
                suggest(p, std::max(share, static_cast<double>(times_run) / all), 1, 1,
                        fmt::format("is the period of '{}'{}, which ran {} times", b.text, in_part(b.origin.instance), times_run));
        }
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

    Change change_of(const Candidate& c, double factor)
    {
        const FlatParameter& f = flat().parameters[c.param];
        Change change;
        change.param = f.path;
        change.unit = f.unit.text;
        change.scale = f.unit.scale;
        change.offset = f.unit.offset;
        change.from = from_.at(c.param);
        change.to = change.from * factor;
        change.reason = c.reason;
        return change;
    }

    Trial measured(const std::vector<Change>& changes) const
    {
        Trial trial;
        trial.changes = changes;
        trial.seconds = HUGE_VAL;
        Recording recording;
        RunSummary summary;
        try {
            for (int k = 0; k < repeats_; ++k) {
                Run run = prepared();
                for (const Change& c : changes) run.set(system_.param(c.param), c.to);
                // far slower than it was: it is of no use
                RunOptions options = options_;
                options.time_limit = std::max(4 * summary_.wall_seconds, 1.0);
                trial.seconds = std::min(trial.seconds, seconds_of([&] { recording = run.simulate(options); }));
                summary = run.summary();
                if (!summary.complete) break;
            }
        } catch (const Error& error) {
            std::string text = error.what();
            trial.refused = "the run fails: " + text.substr(0, text.find('\n'));
            return trial;
        }
        trial.steps = static_cast<double>(summary.steps);
        if (!summary.complete) {
            trial.refused = "it does not come to its end: " + summary.reason;
            return trial;
        }
        trial.speed_up = advice_.as_it_is.seconds / trial.seconds;
        compare(recording, trial);
        return trial;
    }

    void compare(const Recording& recording, Trial& trial) const
    {
        auto refuse = [&](const std::string& why) {
            if (trial.refused.empty()) trial.refused = why;
        };
        auto bound_of = [&](const std::string& name) {
            for (const AdviceRequest::Keep& k : request_.keep)
                if (k.name == name) return k.within;
            return HUGE_VAL;
        };
        constexpr double kMeasures = 0.01;
        std::vector<Price> kept, others;
        for (std::size_t k = 0; k < base_.measures.size() && k < recording.measures.size(); ++k) {
            const MeasureResult &a = base_.measures[k], &b = recording.measures[k];
            double off = std::abs(b.value - a.value);
            if (std::isnan(a.value) && std::isnan(b.value)) off = 0;
            Price p{a.name, a.unit, off, a.value != 0 ? off / std::abs(a.value) : off == 0 ? 0 : 1, std::nan(""), a.scale};
            double bound = bound_of(a.name);
            bool beyond = request_.keep.empty() ? !(p.share <= kMeasures) : std::isfinite(bound) && !(off <= bound);
            if (beyond) refuse(fmt::format("{} beyond {}", p.text(), request_.keep.empty() ? "one percent of it" : number(bound, a.scale, 0, a.unit)));
            kept.push_back(std::move(p));
        }
        for (std::size_t k = 0; k < base_.demands.size() && k < recording.demands.size(); ++k)
            if (base_.demands[k].holds && !recording.demands[k].holds) refuse("a demand no longer holds: " + base_.demands[k].condition);
        const Column& time = base_.time();
        const double beside = 1e-4 * (time.values.back() - time.values.front());
        for (const Column& a : base_.columns) {
            if (a.name == "time") continue;
            const Column* b = recording.find(a.name);
            if (b == nullptr) continue;
            double low = HUGE_VAL, high = -HUGE_VAL, off = 0, at = 0;
            for (std::size_t i = 0; i < a.values.size(); ++i) {
                low = std::min(low, a.values[i]), high = std::max(high, a.values[i]);
                // of two sides of an event that behind it, which is what at() gives, too
                if (i + 1 < a.values.size() && time.values[i] == time.values[i + 1]) continue;
                double t = time.values[i], there = b->at(t, recording.time()), difference = std::abs(there - a.values[i]);
                if (i > 0 && t == time.values[i - 1]) {
                    // the other run may have this event a little earlier or later: what it has on either side counts
                    double before = b->at(t - beside, recording.time()), behind = b->at(t + beside, recording.time());
                    auto [least, most] = std::minmax({there, before, behind});
                    difference = std::max({0.0, least - a.values[i], a.values[i] - most});
                }
                if (difference > off) off = difference, at = time.values[i];
            }
            double range = high - low, bound = bound_of(a.name);
            Price p{a.name, a.unit, off, range > 0 ? off / range : off == 0 ? 0 : 1, at, a.scale};
            if (std::isfinite(bound)) {
                if (!(off <= bound)) refuse(fmt::format("{} beyond {}", p.text(), number(bound, a.scale, 0, a.unit)));
                kept.push_back(std::move(p));
            } else {
                others.push_back(std::move(p));
            }
        }
        std::stable_sort(others.begin(), others.end(), [](const Price& x, const Price& y) { return x.share > y.share; });
        // one thing under several names is told once
        others.erase(std::unique(others.begin(), others.end(), [](const Price& x, const Price& y) { return x.share == y.share && x.at == y.at; }),
                     others.end());
        constexpr std::size_t kMostOthers = 3;
        others.resize(std::min(others.size(), kMostOthers));
        trial.prices = std::move(kept);
        trial.prices.insert(trial.prices.end(), others.begin(), others.end());
    }

    // Several at a time; what comes of them does not depend on how many.
    std::vector<Trial> run_all(const std::vector<std::vector<Change>>& list)
    {
        std::vector<Trial> done(list.size());
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
                Trial trial = measured(list[mine]);
                std::lock_guard guard(lock);
                done[mine] = std::move(trial);
                ++advice_.runs;
                if (request_.progress) request_.progress(advice_.runs, request_.runs);
            }
        };
        std::vector<std::thread> threads;
        for (std::size_t k = 1; k < std::min(request_.jobs, list.size()); ++k) threads.emplace_back(worker);
        worker();
        for (std::thread& t : threads) t.join();
        std::erase_if(done, [](const Trial& t) { return t.changes.empty(); });
        return done;
    }

    bool in_range(const Candidate& c, double value)
    {
        const FlatParameter& f = flat().parameters[c.param];
        const Graph& g = flat().graph;
        auto bound = [&](NodeId node, double otherwise) { return node != kNoNode && g.is_constant(node) ? g.value(node) : otherwise; };
        return value >= bound(f.low, -HUGE_VAL) && value <= bound(f.high, HUGE_VAL);
    }

    void try_singly()
    {
        if (stopped(request_.interrupt)) return;
        std::vector<Candidate> list;
        Run run = prepared();
        for (auto& [p, c] : candidates_) {
            c.direction = weighted_[p];
            from_[p] = run.value(ParamId{p});
            if (from_[p] != 0) list.push_back(c);
        }
        std::stable_sort(list.begin(), list.end(), [](const Candidate& a, const Candidate& b) { return a.score > b.score; });
        // half of the runs for a first step of three; then what a larger step gives, with a few runs left for combinations
        std::size_t budget = request_.runs > advice_.runs ? request_.runs - advice_.runs : 0,
                    first = std::max<std::size_t>(budget / 2, std::min<std::size_t>(budget, 1));
        std::vector<std::vector<Change>> changes;
        std::vector<Candidate> tried;
        constexpr double kStep = 3, kLarge = 10;
        for (const Candidate& c : list) {
            if (changes.size() == first) break;
            double factor = c.direction > 0 ? kStep : 1 / kStep;
            if (!in_range(c, from_[c.param] * factor)) continue;
            changes.push_back({change_of(c, factor)});
            tried.push_back(c);
        }
        std::vector<Trial> singles = run_all(changes);
        // what helps may help more
        changes.clear();
        std::vector<std::pair<double, std::size_t>> order;
        for (std::size_t k = 0; k < singles.size(); ++k)
            if (singles[k].refused.empty() && singles[k].speed_up > 1 + kNothing) order.emplace_back(-singles[k].speed_up, k);
        std::sort(order.begin(), order.end());
        for (const auto& [speed, k] : order) {
            if (changes.size() + advice_.runs + 6 >= request_.runs || changes.size() == 8) break;
            const std::string& path = singles[k].changes[0].param;
            const Candidate& c = *std::find_if(tried.begin(), tried.end(), [&](const Candidate& x) { return flat().parameters[x.param].path == path; });
            double factor = c.direction > 0 ? kLarge : 1 / kLarge;
            if (in_range(c, from_[c.param] * factor)) changes.push_back({change_of(c, factor)});
        }
        std::vector<Trial> larger = run_all(changes);
        singles.insert(singles.end(), std::make_move_iterator(larger.begin()), std::make_move_iterator(larger.end()));
        std::stable_sort(singles.begin(), singles.end(), [](const Trial& a, const Trial& b) {
            if (a.refused.empty() != b.refused.empty()) return a.refused.empty();
            return a.speed_up > b.speed_up;
        });
        advice_.trials = std::move(singles);
    }

    // Greedily: the fastest first, then each that makes it faster yet.
    void combine()
    {
        std::vector<Change> taken;
        for (const Trial& t : advice_.trials) {
            if (!t.refused.empty() || t.speed_up <= 1 + kNothing) break;
            if (stopped(request_.interrupt)) break;
            const Change& c = t.changes[0];
            auto same = std::find_if(taken.begin(), taken.end(), [&](const Change& x) { return x.param == c.param; });
            if (same != taken.end()) continue;
            if (taken.empty()) {
                taken.push_back(c);
                advice_.combined = t;
                continue;
            }
            if (advice_.runs >= request_.runs) break;
            std::vector<Change> more = taken;
            more.push_back(c);
            std::vector<Trial> made = run_all({more});
            if (made.empty() || !made[0].refused.empty() || made[0].speed_up < advice_.combined.speed_up * (1 + kNothing)) continue;
            taken = more;
            advice_.combined = made[0];
        }
    }

    void tell()
    {
        if (advice_.combined.changes.empty() || advice_.combined.speed_up < 1 + kWorth) return;
        std::string from = data_.scenario.empty() ? "" : " from " + data_.scenario;
        std::string text = fmt::format("scenario fast{} {{\n", from.empty() ? " of " + data_.name : from);
        text += fmt::format("    ## {:.1f} times as fast as it was.\n", advice_.combined.speed_up);
        for (const Change& c : advice_.combined.changes)
            text += fmt::format("    set {} = {:.6g}{}\n", c.param, (c.to - c.offset) / c.scale, c.unit.empty() || c.unit == "1" ? "" : " " + c.unit);
        if (data_.scenario.empty() && options_.stop) text += fmt::format("    stop at {:g} s\n", *options_.stop);
        advice_.scenario = text + "}\n";
    }

    static constexpr double kNothing = 0.05;  ///< a gain that measuring alone might make
    static constexpr double kWorth = 0.1;     ///< a gain that is worth a change

    CompiledSystem system_;
    const CompiledSystemData& data_;
    const AdviceRequest& request_;
    RunOptions options_;
    Advice advice_;
    Recording base_;
    RunSummary summary_;
    int repeats_ = 1;
    std::map<ParameterId, Candidate> candidates_;
    std::map<ParameterId, double> weighted_, from_;
};

nlohmann::json json_of(const Trial& t)
{
    nlohmann::json changes = nlohmann::json::array(), prices = nlohmann::json::array();
    for (const Change& c : t.changes)
        changes.push_back(
            {{"param", c.param}, {"from", (c.from - c.offset) / c.scale}, {"to", (c.to - c.offset) / c.scale}, {"unit", c.unit}, {"reason", c.reason}});
    for (const Price& p : t.prices)
        prices.push_back({{"what", p.what},
                          {"difference", json_number(p.difference / p.scale)},
                          {"unit", p.unit},
                          {"share", json_number(p.share)},
                          {"at", json_number(p.at)}});
    return {{"changes", changes}, {"steps", t.steps},    {"seconds", json_number(t.seconds)}, {"speed_up", json_number(t.speed_up)},
            {"prices", prices},   {"refused", t.refused}};
}

}  // namespace

std::string Advice::Change::text() const
{
    return fmt::format("{}: {} -> {}", param, number(from, scale, offset, unit), number(to, scale, offset, unit));
}

std::string Advice::Price::text() const
{
    std::string size = fmt::format("{} differs by {}", what, number(difference, scale, 0, unit));
    return std::isnan(at) ? size : size + fmt::format(" at {:.4g} s", at);
}

std::string Advice::text() const
{
    std::string out = fmt::format("as it is: {:.0f} steps in {:.3g} s; {} runs were made\n", as_it_is.steps, as_it_is.seconds, runs);
    constexpr std::size_t kMostShown = 12, kMostPrices = 3;
    auto prices = [&](const Trial& t) {
        std::string text;
        for (std::size_t k = 0; k < t.prices.size() && k < kMostPrices; ++k) text += (k == 0 ? "" : "; ") + t.prices[k].text();
        return text;
    };
    constexpr double kHelps = 1.05;
    std::size_t shown = 0, helped = 0;
    std::string useless;
    for (const Trial& t : trials) {
        bool helps = t.speed_up > kHelps;
        helped += t.refused.empty() && helps ? 1 : 0;
        if (t.refused.empty() && !helps) useless += (useless.empty() ? "" : ", ") + t.changes[0].param;
    }
    if (helped == 0) out += trials.empty() ? "nothing was found that could be tried\n" : "nothing that was tried makes it faster and may be taken\n";
    for (const Trial& t : trials) {
        if (t.refused.empty() && t.speed_up <= kHelps) continue;
        if (shown++ == kMostShown) break;
        if (t.refused.empty())
            out += fmt::format("\n  speed x {:<5.2f} {}\n                {}\n                {}\n", t.speed_up, t.changes[0].text(), t.changes[0].reason,
                               prices(t));
        else
            out += fmt::format("\n  refused       {}\n                {}{}\n", t.changes[0].text(),
                               t.speed_up != 1 ? fmt::format("speed x {:.2f}, but ", t.speed_up) : "", t.refused);
    }
    if (!useless.empty()) out += "\n  no faster with other values of " + useless + "\n";
    if (combined.changes.size() > 1) {
        out += fmt::format("\ntogether, speed x {:.2f} ({:.0f} steps)\n", combined.speed_up, combined.steps);
        for (const Change& c : combined.changes) out += "  " + c.text() + "\n";
        out += "  " + prices(combined) + "\n";
    }
    if (!scenario.empty()) out += "\nto take it over\n\n" + scenario;
    return out;
}

std::string Advice::json() const
{
    nlohmann::json list = nlohmann::json::array();
    for (const Trial& t : trials) list.push_back(json_of(t));
    nlohmann::json all{{"as_it_is", json_of(as_it_is)}, {"trials", list}, {"runs", runs}, {"scenario", scenario}};
    all["combined"] = combined.changes.empty() ? nlohmann::json(nullptr) : json_of(combined);
    return all.dump(1, ' ', false, nlohmann::json::error_handler_t::replace);
}

Advice advise(const CompiledSystem& system, const AdviceRequest& request)
{
    return Adviser(system, request).work();
}

}  // namespace netloop

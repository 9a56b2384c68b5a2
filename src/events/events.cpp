// SPDX-License-Identifier: Apache-2.0
#include "events/events.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

constexpr int kMostRounds = 50;
using BlockKind = FlatBlock::Kind;

}  // namespace

Events::Events(Evaluation& evaluation, ConsistentSolver& consistent, const SourceSet& sources)
    : e_(evaluation),
      consistent_(consistent),
      variants_(evaluation, consistent, sources),
      sources_(sources),
      modes_(evaluation),
      blocks_(evaluation, sources, [this](State& s) { settle(s); }),
      was_(m().form.events.blocks.size(), 0.0),
      transitions_(m().form.events.sequences.size()),
      entries_(m().form.events.sequences.size()),
      recheck_(m().form.events.sequences.size(), HUGE_VAL),
      entered_(m().form.events.sequences.size(), 0),
      fired_(m().form.events.blocks.size()),
      first_fired_(m().form.events.blocks.size(), 0.0),
      looked_ahead_(m().form.conditions.size(), 0)
{
    const auto& blocks = m().form.events.blocks;
    for (std::uint32_t b = 0; b < blocks.size(); ++b) {
        if (blocks[b].kind == BlockKind::transition) {
            auto& of = transitions_[blocks[b].sequence];
            of.resize(std::max<std::size_t>(of.size(), m().form.events.sequences[blocks[b].sequence].stages.size()));
            of[blocks[b].stage].push_back(b);
        }
        if (blocks[b].kind == BlockKind::when) whens_.push_back(b);
        if (blocks[b].kind == BlockKind::entry) entries_[blocks[b].sequence].push_back(b);
    }
}

bool Events::goes_on(std::uint32_t memory) const
{
    return std::any_of(recorded_.begin(), recorded_.end(), [&](const auto& r) { return r.first == memory; });
}

void Events::check_period(std::size_t k, double period, double first) const
{
    const FlatBlock& b = m().form.events.blocks[p().every[k].block];
    constexpr double kShortest = 1e-12;  // s: times that lie closer are the same moment
    if (!(period >= kShortest) || !std::isfinite(period) || !std::isfinite(first))
        throw NumericFailure("run-failed", fmt::format("{}: '{}': a period of {:g} s from {:g} s: it must be at least {:g} s",
                                                       place_text(sources_, b.origin.span), b.text, period, first, kShortest));
}

void Events::look_until(double target, double now)
{
    constexpr double kMost = 1e8;
    modes_.look_until(target);
    modes_.renew_clock(now);
    for (std::size_t k = 0; k < ticks_.size(); ++k) {
        double times = (target - std::max(now, ticks_[k].first)) / ticks_[k].period;
        if (times <= kMost) continue;
        const FlatBlock& b = m().form.events.blocks[p().every[k].block];
        throw NumericFailure(
            "run-failed",
            fmt::format("{}: '{}' would run {:.3g} times until {:g} s: at most 100 million times", place_text(sources_, b.origin.span), b.text, times, target),
            "choose a longer period, or let the run stop earlier");
    }
}

void Events::check_delay(std::size_t k, double behind) const
{
    if (!(behind > 0) || !std::isfinite(behind))
        throw NumericFailure("run-failed", fmt::format("{}: a delay of {:g} s: it must be longer than 0 s",
                                                       place_text(sources_, m().form.events.delays[k].origin.span), behind));
}

// All are looked at before one is changed: a refused value leaves the run as it was.
void Events::parameters_changed()
{
    std::vector<double> periods, behind;
    e_.work_out(p().periods);
    for (std::size_t k = 0; k < ticks_.size(); ++k) {
        periods.push_back(e_.value_at(p().every[k].period));
        check_period(k, periods[k], ticks_[k].first);
    }
    Delays* delays = e_.delays();
    if (delays != nullptr) e_.work_out(p().delays);
    for (std::size_t k = 0; delays != nullptr && k < delays->size(); ++k) {
        behind.push_back(e_.value_at(p().delay_of[k].time));
        check_delay(k, behind[k]);
    }
    for (std::size_t k = 0; k < ticks_.size(); ++k) {
        Tick& t = ticks_[k];
        if (periods[k] == t.period) continue;
        // from the last tick on, or still towards the first
        if (t.count > 0) t.first = t.next - t.period, t.count = 1;
        t.period = periods[k];
        t.next = t.first + t.count * t.period;
    }
    for (std::size_t k = 0; k < behind.size(); ++k) delays->follow_by(k, behind[k]);
}

void Events::before_start(double time, const std::vector<std::pair<std::uint32_t, double>>& recorded)
{
    recorded_ = recorded;
    log_.begin(m().form.conditions.size(), m().form.events.blocks.size());
    e_.work_out(p().starts);
    std::vector<double> values;
    for (const auto& [memory, place] : p().start_of) values.push_back(e_.value_at(place));
    for (std::size_t k = 0; k < values.size(); ++k) e_.set_memory(p().start_of[k].first, std::isfinite(values[k]) ? values[k] : 0);
    for (const FlatSequence& s : m().form.events.sequences) e_.set_memory(s.since, time);
    for (const auto& [memory, value] : recorded_) e_.set_memory(memory, value);
    if (Delays* delays = e_.delays()) {
        e_.work_out(p().delays);
        for (std::size_t k = 0; k < delays->size(); ++k) {
            double behind = e_.value_at(p().delay_of[k].time), value = e_.value_at(p().delay_of[k].source);
            check_delay(k, behind);
            delays->begin(k, behind, std::isfinite(value) ? value : 0, time);
        }
        e_.set_time(time);
    }
    e_.work_out(p().periods);
    ticks_.clear();
    for (const auto& t : p().every) {
        Tick tick;
        tick.period = e_.value_at(t.period);
        tick.first = e_.value_at(t.first);
        check_period(ticks_.size(), tick.period, tick.first);
        tick.count = tick.first >= time ? 0 : std::ceil((time - tick.first) / tick.period - 1e-9);
        tick.next = tick.first + tick.count * tick.period;
        ticks_.push_back(tick);
    }
    modes_.turn_by_clock(time, nullptr);
}

std::vector<std::pair<std::string, double>> Events::left_behind() const
{
    std::vector<std::pair<std::string, double>> list;
    for (std::size_t i = 0; i < m().form.conditions.size(); ++i) list.emplace_back(fmt::format("mode {}", i), e_.mode(i));
    for (std::size_t i = 0; i < m().form.events.memories.size(); ++i) list.emplace_back(fmt::format("memory {}", i), e_.memory(i));
    for (std::size_t k = 0; k < ticks_.size(); ++k) {
        list.emplace_back(fmt::format("clock {} first", k), ticks_[k].first);
        list.emplace_back(fmt::format("clock {} count", k), ticks_[k].count);
        list.emplace_back(fmt::format("clock {} next", k), ticks_[k].next);
    }
    for (std::size_t k = 0; k < recheck_.size(); ++k)  // HDF5 has no trouble with infinity, JSON has
        list.emplace_back(fmt::format("sequence {} looks again", k), std::isfinite(recheck_[k]) ? recheck_[k] : -1);
    for (std::uint32_t b : whens_) list.emplace_back(fmt::format("when {}", b), was_[b]);
    return list;
}

void Events::put_back(double time, const std::map<std::string, double>& known)
{
    before_start(time);
    auto of = [&](const std::string& name, double otherwise) {
        auto it = known.find(name);
        return it == known.end() ? otherwise : it->second;
    };
    for (std::size_t i = 0; i < m().form.conditions.size(); ++i) e_.set_mode(i, of(fmt::format("mode {}", i), e_.mode(i)));
    for (std::size_t i = 0; i < m().form.events.memories.size(); ++i) e_.set_memory(i, of(fmt::format("memory {}", i), e_.memory(i)));
    for (std::size_t k = 0; k < ticks_.size(); ++k) {
        ticks_[k].first = of(fmt::format("clock {} first", k), ticks_[k].first);
        ticks_[k].count = of(fmt::format("clock {} count", k), ticks_[k].count);
        ticks_[k].next = of(fmt::format("clock {} next", k), ticks_[k].next);
    }
    for (std::size_t k = 0; k < recheck_.size(); ++k) {
        double at = of(fmt::format("sequence {} looks again", k), -1);
        recheck_[k] = at >= 0 ? at : HUGE_VAL;
    }
    for (std::uint32_t b : whens_) was_[b] = of(fmt::format("when {}", b), was_[b]);
}

bool Events::settle_memories(const State& s)
{
    e_.at(s.time, s.z.data(), s.rates.data());
    bool changed = false;
    if (!p().start_of.empty()) {
        e_.work_out(p().starts);
        std::vector<double> values;
        for (const auto& [memory, place] : p().start_of) values.push_back(e_.value_at(place));
        for (std::size_t k = 0; k < values.size(); ++k) {
            double now = e_.memory(p().start_of[k].first);
            if (goes_on(p().start_of[k].first)) continue;
            if (!std::isfinite(values[k])) {
                const FlatMemory& memory = m().form.events.memories[p().start_of[k].first];
                throw NumericFailure("start-failed",
                                     fmt::format("{}: memory '{}' begins with what has no finite value", place_text(sources_, memory.origin.span), memory.path),
                                     "look at its start value, and at the params and quantities in it");
            }
            if (std::abs(values[k] - now) <= 1e-12 * std::abs(now)) continue;
            e_.set_memory(p().start_of[k].first, values[k]);
            changed = true;
        }
    }
    if (Delays* delays = e_.delays()) {
        e_.work_out(p().delays);
        for (std::size_t k = 0; k < delays->size(); ++k) {
            double value = e_.value_at(p().delay_of[k].source), before = delays->value(k, s.time);
            if (std::abs(value - before) <= 1e-12 * std::abs(value) || !std::isfinite(value)) continue;
            delays->begin(k, delays->behind(k), value, s.time);
            changed = true;
        }
        e_.set_time(s.time);
    }
    modes_.turn_by_clock(s.time, nullptr);
    return changed;
}

double Events::next_time() const
{
    double next = modes_.next_turn();
    for (const Tick& t : ticks_) next = std::min(next, t.next);
    for (double t : recheck_) next = std::min(next, t);
    for (const End& end : ends_)
        if (double t = end.time + end.rest; t > e_.time() + same_moment(e_.time())) next = std::min(next, t);
    return next;
}

// Works the conditions of all blocks out; guard() tells each.
void Events::guards(State& s)
{
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.work_out(p().guards);
}

bool Events::take_variant(State& s)
{
    // what is about to move off its limit is on that side already, or two systems would hand the start to each other
    EventLog unheard;
    unheard.begin(m().form.conditions.size(), m().form.events.blocks.size());
    std::fill(looked_ahead_.begin(), looked_ahead_.end(), 0);
    bool driven_back = false;
    if (variants_.any()) modes_.look_ahead(s, unheard, looked_ahead_, driven_back);
    return variants_.take(s);
}

void Events::begin(State& s)
{
    guards(s);
    for (std::uint32_t b : whens_) was_[b] = guard(b);
    for (std::size_t k = 0; k < m().form.events.sequences.size(); ++k) {
        entered_[k] = 1;
        if (!goes_on(m().form.events.sequences[k].stage)) to_enter_.push_back(static_cast<std::uint32_t>(k));
    }
    log_.new_moment();
    blocks_.begin_moment(s);
    std::fill(looked_ahead_.begin(), looked_ahead_.end(), 0);
    std::vector<std::uint32_t> start;
    for (std::uint32_t b = 0; b < was_.size() && recorded_.empty(); ++b)
        if (m().form.events.blocks[b].kind == BlockKind::start) start.push_back(b);
    blocks_.run(start, s);
    run_every(s);
    // what is forbidden is so from the start on: a `when` that does nothing but fail is looked at there, too
    guards(s);
    std::vector<std::uint32_t> forbidden;
    for (std::uint32_t b : whens_) {
        const FlatBlock& block = m().form.events.blocks[b];
        bool fails = block.settings.empty() &&
                     std::all_of(block.alerts.begin(), block.alerts.end(), [](const FlatAlert& a) { return a.action == FlatAlert::Action::fail; });
        if (fails && guard(b)) forbidden.push_back(b);
    }
    if (!forbidden.empty()) blocks_.run(forbidden, s);
    finish_pass(s);
}

void Events::happen(State& s, const std::vector<int>& crossings)
{
    log_.new_moment();
    settled_ = false;
    std::fill(entered_.begin(), entered_.end(), 0);
    std::fill(looked_ahead_.begin(), looked_ahead_.end(), 0);
    blocks_.begin_moment(s);
    modes_.turn(crossings, s.time, log_);
    bool clock = modes_.turn_by_clock(s.time, &log_);
    // a condition that only transitions look at changes no equation by itself
    if (crossings.empty() || clock || modes_.is_touched() || variants_.any() || e_.delays() != nullptr) settle(s);
    run_every(s);
    finish_pass(s);
}

void Events::run_every(State& s)
{
    std::vector<std::uint32_t> due;
    for (std::size_t k = 0; k < ticks_.size(); ++k) {
        Tick& t = ticks_[k];
        if (t.next > s.time + same_moment(s.time)) continue;
        due.push_back(p().every[k].block);
        log_.block(p().every[k].block, s.time);
        t.count = std::max(t.count + 1, std::floor((s.time + same_moment(s.time) - t.first) / t.period));
        while (t.first + t.count * t.period <= s.time + same_moment(s.time)) t.count += 1;
        t.next = t.first + t.count * t.period;
    }
    if (!due.empty()) blocks_.run(due, s);
}

void Events::run_transitions(State& s)
{
    const auto& sequences = m().form.events.sequences;
    if (sequences.empty()) return;
    if (blocks_.equations()) settle(s);
    guards(s);
    std::vector<std::uint32_t> taken;
    for (std::uint32_t k = 0; k < sequences.size(); ++k) {
        if (entered_[k]) continue;
        if (recheck_[k] <= s.time + same_moment(s.time)) recheck_[k] = HUGE_VAL;
        auto stage = static_cast<std::size_t>(e_.memory(sequences[k].stage)) - 1;
        if (stage >= transitions_[k].size()) continue;
        for (std::uint32_t b : transitions_[k][stage]) {
            if (!guard(b)) continue;
            taken.push_back(b);
            break;
        }
    }
    for (std::uint32_t b : taken) {  // all have looked at the same moment
        const FlatBlock& block = m().form.events.blocks[b];
        std::uint32_t k = block.sequence;
        blocks_.set(sequences[k].stage, block.target + 1, b);
        blocks_.set(sequences[k].since, s.time, b);
        log_.block(b, s.time);
        entered_[k] = 1;
        recheck_[k] = HUGE_VAL;
        to_enter_.push_back(k);
    }
}

void Events::run_whens(State& s)
{
    if (blocks_.equations()) settle(s);
    guards(s);
    std::vector<std::uint32_t> fire;
    for (std::uint32_t b : whens_) {
        bool now = guard(b);
        if (now && was_[b] == 0) {
            fire.push_back(b);
            log_.block(b, s.time);
            fired_now_.push_back(b);
            if (fired_[b].empty()) first_fired_[b] = s.time;
            fired_[b].push_back(s.time);
            expect_pile_up(b);
            if (fired_[b].size() > 24) fired_[b].erase(fired_[b].begin(), fired_[b].begin() + 12);
        }
        turned_ |= now != (was_[b] != 0);
        was_[b] = now ? 1 : 0;
    }
    if (fire.empty()) return;
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.conditions(values_before_);
    blocks_.run(fire, s);
}

// Transitions, what runs on entry, `when` blocks; again until nothing more happens.
void Events::finish_pass(State& s)
{
    const auto& sequences = m().form.events.sequences;
    for (int round = 0;; ++round) {
        run_transitions(s);
        bool again = false;
        if (!to_enter_.empty()) {
            std::vector<std::uint32_t> run;
            for (std::uint32_t k : std::exchange(to_enter_, {}))
                for (std::uint32_t b : entries_[k])
                    if (e_.memory(sequences[k].stage) == m().form.events.blocks[b].stage + 1) run.push_back(b);
            if (!run.empty()) blocks_.run(run, s);
            again = true;
        }
        turned_ = false;
        if (!whens_.empty()) run_whens(s);
        again |= blocks_.equations() || turned_;
        if (blocks_.equations()) settle(s);
        bool driven_back = false;
        if (modes_.look_ahead(s, log_, looked_ahead_, driven_back) > 0) {
            settle(s);
            again = true;
        }
        if (driven_back) {
            if (!slide(s)) chattering(s.time, "conditions switch back and forth without end: the motion drives back from both sides");
            settle(s);
            again = true;
        }
        if (!again) break;
        if (round > kMostRounds) chattering(s.time, "blocks and conditions set each other off without end");
    }
    // a stage that is already to be left again is left one time resolution later
    if (std::find(entered_.begin(), entered_.end(), char(1)) != entered_.end()) {
        guards(s);
        for (std::uint32_t k = 0; k < sequences.size(); ++k) {
            auto stage = static_cast<std::size_t>(e_.memory(sequences[k].stage)) - 1;
            if (!entered_[k] || stage >= transitions_[k].size()) continue;
            for (std::uint32_t b : transitions_[k][stage])
                if (guard(b)) recheck_[k] = s.time + kResolution;
        }
    }
    look_for_rest(s);
    e_.at(s.time, s.z.data(), s.rates.data());
    modes_.renew_clock(s.time);
    bool turned = modes_.touched();
    touched_ = turned || blocks_.touched() || touched_late_;
    touched_late_ = false;
}

// The motion is driven back to where a condition turns from both sides: it goes along there, with the share of both sides that holds it.
bool Events::slide(State& s)
{
    constexpr int kMostAtOnce = 4;
    std::uint32_t i = modes_.driven();
    if (!may_slide_ || i >= m().form.conditions.size() || p().mode_in_equations[i] == 0) return false;
    slides_at_once_ = s.time <= slid_at_ + same_moment(s.time) ? slides_at_once_ + 1 : 1;
    slid_at_ = s.time;
    if (slides_at_once_ > kMostAtOnce || !variants_.slide(s, i)) return false;
    if (std::find(slid_.begin(), slid_.end(), i) == slid_.end()) slid_.push_back(i);
    looked_ahead_[i] = 0;
    touched_late_ = true;
    log_.condition(i, s.time, true, {});
    return true;
}

// What a block has just set ends its condition, and the motion begins it again at once (a plastic impact: the speed is set to 0, the weight makes it negative):
// the block would run without end at one time, and seen from behind its condition never ended.
void Events::look_for_rest(State& s)
{
    std::vector<std::uint32_t> fired = std::exchange(fired_now_, {});
    if (fired.empty()) return;
    guards(s);
    const Graph& g = m().form.reduced.system.graph();
    for (std::uint32_t b : fired) {
        if (!guard(b)) continue;  // it ended, and stays so
        // a comparison that the block has brought to its other side, or to its very end, and whose mode is held all the same, since the motion goes back
        bool undone = false;
        // what a foreign unit's indicator does at its event is the unit's own affair
        auto of_unit = [&](std::uint32_t condition) {
            for (NodeId id : g.reachable({m().form.conditions[condition].value}))
                if (g[id].op == Op::call && g.callable(g[id].a).has_state()) return true;
            return false;
        };
        for (NodeId id : g.reachable({m().form.events.blocks[b].condition}))
            if (g[id].op == Op::mode && modes_.is_held_against(g[id].a, values_before_, s) && (e_.units() == nullptr || !of_unit(g[id].a))) undone = true;
        if (!undone) continue;
        const FlatBlock& block = m().form.events.blocks[b];
        std::string part = m().form.flat().instances[block.origin.instance];
        throw NumericFailure(
            "pile-up",
            fmt::format("at {:.9g} s moments have piled up: what a block sets ends its condition, and the motion begins it anew at once\n      {}: {}{}",
                        s.time, place_text(sources_, block.origin.span), part.empty() ? "" : part + ": ", block.text),
            "say what holds from here on: a stage of rest, entered when the speed is small (mechanics.RigidStop has one)");
    }
}

// A body that bounces ever less comes to an end in finite time. Where does that lie, if a block fires at gaps that shrink by one factor?
void Events::expect_pile_up(std::uint32_t b)
{
    constexpr std::size_t kEnough = 5;
    constexpr double kAlike = 0.1, kLittle = 0.05;  // factors of one kind; rest, as a share of what has passed since the first of them
    const auto& t = fired_[b];
    if (t.size() < kEnough) return;
    std::size_t n = t.size();
    auto gap = [&](std::size_t back) { return t[n - 1 - back] - t[n - 2 - back]; };
    double factor = gap(0) / gap(1);
    bool shrinking = factor > 0 && factor < 0.999;
    for (std::size_t k = 1; k + 2 < kEnough && shrinking; ++k) shrinking = std::abs(gap(k) / gap(k + 1) - factor) < kAlike * factor;
    double rest = gap(0) * factor / (1 - factor);
    if (!shrinking || rest > kLittle * (t.back() - first_fired_[b])) return;
    std::erase_if(ends_, [&](const End& e) { return e.block == b; });
    ends_.push_back({b, t.back() + rest, rest, factor});
}

// Behind that end the condition of the block must not hold: if it does, it has held since without becoming true anew, and nothing stops
// the motion any more.
void Events::look_for_pile_up(State& s)
{
    if (ends_.empty() || s.time <= ends_.front().time) return;
    guards(s);
    for (const End& end : ends_) {
        if (s.time <= end.time || !guard(end.block)) continue;
        const FlatBlock& block = m().form.events.blocks[end.block];
        std::string part = m().form.flat().instances[block.origin.instance];
        throw NumericFailure("pile-up",
                             fmt::format("at {:.9g} s moments have piled up: each came {:.3g} times as soon after the last as the one before\n      {}: {}{}",
                                         end.time, end.factor, place_text(sources_, block.origin.span), part.empty() ? "" : part + ": ", block.text),
                             "say what holds after the last of them: a stage of rest, entered when the speed is small (mechanics.RigidStop has one)");
    }
    std::erase_if(ends_, [&](const End& end) { return s.time > end.time + 10 * end.rest; });
}

void Events::chattering(double time, const std::string& what)
{
    const auto& conditions = m().form.conditions;
    const auto& kinds = log_.kinds();
    // those that switched most among the last events
    std::vector<std::pair<std::size_t, std::size_t>> recent;
    for (std::size_t k = 0; k < kinds.size(); ++k) {
        if (kinds[k].block || kinds[k].times.empty()) continue;
        double since = time - 1e-3 * std::max(1e-3, std::abs(time));
        auto n = static_cast<std::size_t>(kinds[k].times.end() - std::lower_bound(kinds[k].times.begin(), kinds[k].times.end(), since));
        if (n > 0) recent.emplace_back(n, k);
    }
    std::stable_sort(recent.begin(), recent.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    std::string text = fmt::format("at {:.9g} s: {}", time, what);
    for (std::size_t k = 0; k < recent.size() && k < 3; ++k) {
        const Condition& c = conditions[kinds[recent[k].second].index];
        std::string place = place_text(sources_, c.origin.span), part = m().form.flat().instances[c.origin.instance];
        text += fmt::format("\n      {}{}{} ({} times of late)", place.empty() ? "" : place + ": ", part.empty() ? "" : part + ": ", c.text, recent[k].first);
    }
    throw NumericFailure("chattering", text, "give the condition a hysteresis, or replace the jump by a smooth transition (smooth_step)");
}

}  // namespace netloop

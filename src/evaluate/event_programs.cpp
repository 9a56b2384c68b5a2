// SPDX-License-Identifier: Apache-2.0
#include "evaluate/event_programs.hpp"

#include <algorithm>
#include <array>
#include <set>

namespace netloop {
namespace {

constexpr std::uint32_t kNone = EventPrograms::kNone;

// Collects roots of one program; the place of each is known once it is lowered.
class Roots {
public:
    explicit Roots(std::vector<NodeId>& list) : list_(list) {}
    void add(NodeId node, std::uint32_t& place)
    {
        if (node == kNoNode) return;
        place = static_cast<std::uint32_t>(list_.size());
        list_.push_back(node);
        wanted_.push_back(&place);
    }
    void settle(const Program& program)
    {
        for (std::uint32_t* place : wanted_) *place = program.results[*place];
    }

private:
    std::vector<NodeId>& list_;
    std::vector<std::uint32_t*> wanted_;
};

Program lower_all(Lowering& lowering, const char* name, const std::vector<std::pair<NodeId, std::uint32_t*>>& wanted)
{
    std::vector<NodeId> nodes;
    Roots roots(nodes);
    for (const auto& [node, place] : wanted) roots.add(node, *place);
    Program program = lowering.lower(name, nodes);
    roots.settle(program);
    return program;
}

// `modes`: what reads a mode counts as reading what its condition does; false where only the time between two events matters.
void look_at_reads(const SolverForm& form, const Graph& g, const std::vector<NodeId>& roots, EventPrograms::Block& block, bool modes = true)
{
    std::set<std::uint32_t> memories;
    for (NodeId id : g.reachable(roots)) {
        const Node& n = g[id];
        if (n.op == Op::memory) memories.insert(n.a);
        // a mode follows from a condition, which may read anything
        if (n.op == Op::rate || (modes && n.op == Op::mode) || (n.op == Op::unknown && form.z[n.a].kind != ZEntry::Kind::state)) block.reads_solved = true;
    }
    block.memories.assign(memories.begin(), memories.end());
}

// Conditions that only transitions of certain stages look at need no watching in the other stages.
void look_at_users(const SolverForm& form, const Graph& g, EventPrograms& e)
{
    std::size_t n = form.conditions.size();
    std::vector<char> always(n, 0);
    std::vector<NodeId> roots = form.residuals;
    for (const OutputColumn& o : form.outputs) roots.push_back(o.value);
    for (const FlatBlock& b : form.events.blocks) {
        if (b.kind == FlatBlock::Kind::when) roots.push_back(b.condition);
        for (const FlatSetting& s : b.settings) roots.insert(roots.end(), {s.value, s.when, s.target});
        for (const FlatAlert& a : b.alerts) roots.push_back(a.when);
    }
    for (NodeId node : form.events.switches) roots.push_back(node);
    for (const FlatDelay& d : form.events.delays) roots.push_back(d.source);
    for (const FlatPrevious& p : form.events.previous) roots.push_back(p.source);
    for (const FlatMemory& m : form.events.memories) roots.push_back(m.start);
    for (const Condition& c : form.conditions) roots.push_back(c.value);
    for (const SolverChoice& c : form.choices)
        for (const StateChoice::Entry& entry : c.entries) roots.push_back(entry.value);
    std::erase(roots, kNoNode);
    for (NodeId id : g.reachable(roots))
        if (g[id].op == Op::mode) always[g[id].a] = 1;
    e.only_in.assign(n, {});
    for (const FlatBlock& b : form.events.blocks) {
        if (b.kind != FlatBlock::Kind::transition) continue;
        for (NodeId id : g.reachable({b.condition}))
            if (g[id].op == Op::mode && !always[g[id].a]) e.only_in[g[id].a].emplace_back(b.sequence, b.stage);
    }
    e.idle.assign(n, 0);
    for (std::size_t i = 0; i < n; ++i) e.idle[i] = always[i] == 0 && e.only_in[i].empty() ? 1 : 0;
}

void lower_limits(const SolverForm& form, const Graph& g, Lowering& lowering, EventPrograms& e)
{
    const FlatModel& flat = form.flat();
    std::set<std::array<NodeId, 3>> known;  // ports that are joined share their quantities
    for (EventPrograms::Limits* limits : {&e.limits, &e.solved_limits}) {
        std::vector<std::pair<NodeId, std::uint32_t*>> wanted;
        limits->of.reserve(form.events.limits.size());
        for (std::uint32_t k = 0; k < form.events.limits.size(); ++k) {
            const FlatLimit& l = form.events.limits[k];
            bool numbers = g.is_constant(l.low) && g.is_constant(l.high);
            NodeId plain = g[l.value].op == Op::neg ? g[l.value].a : l.value;
            if (l.of == FlatLimit::Of::quantity && numbers && g[plain].op == Op::unknown) continue;
            EventPrograms::Block reads;
            look_at_reads(form, g, {l.value, l.low, l.high}, reads);
            if (reads.reads_solved != (limits == &e.solved_limits) || !known.insert({l.value, l.low, l.high}).second) continue;
            const FlatModel::Limited of = flat.limited(l);
            double declared = l.of == FlatLimit::Of::quantity ? flat.quantities[l.index].usual : 0;
            limits->of.push_back({k, kNone, kNone, kNone, declared > 0 ? declared : usual_of_kind(of.unit->dimension)});
            EventPrograms::Limits::Limit& made = limits->of.back();
            wanted.insert(wanted.end(), {{l.value, &made.value}, {l.low, &made.low}, {l.high, &made.high}});
        }
        limits->program = lower_all(lowering, limits == &e.limits ? "limits" : "limits of what is solved", wanted);
    }
}

// What only the conditions of blocks look at is told by the blocks: a transition that is taken, a `when` that is run.
void look_at_what_is_told(const SolverForm& form, const Graph& g, EventPrograms& e)
{
    std::vector<std::uint32_t> seen(g.size(), 0);  // by which search; many blocks are looked at, each for little
    std::uint32_t search = 0;
    auto conditions_below = [&](std::vector<NodeId> stack) {
        ++search;
        std::vector<std::uint32_t> found;
        while (!stack.empty()) {
            NodeId id = stack.back();
            stack.pop_back();
            if (id == kNoNode || seen[id] == search) continue;
            seen[id] = search;
            const Node& n = g[id];
            if (n.op == Op::mode) {
                found.push_back(n.a);
                stack.push_back(form.conditions[n.a].value);
                continue;
            }
            for (int k = first_child(n.op); k < end_of_children(n.op); ++k) stack.push_back(k == 0 ? n.a : k == 1 ? n.b : n.c);
        }
        std::sort(found.begin(), found.end());
        return found;
    };
    std::vector<NodeId> roots = form.residuals;
    for (const OutputColumn& o : form.outputs) roots.push_back(o.value);
    for (const FlatBlock& b : form.events.blocks) {
        for (const FlatSetting& s : b.settings) roots.insert(roots.end(), {s.value, s.when, s.target});
        for (const FlatAlert& a : b.alerts) roots.push_back(a.when);
    }
    roots.insert(roots.end(), form.events.switches.begin(), form.events.switches.end());
    for (const FlatDelay& d : form.events.delays) roots.push_back(d.source);
    for (const FlatPrevious& p : form.events.previous) roots.push_back(p.source);
    e.told.assign(form.conditions.size(), 0);
    for (std::uint32_t i : conditions_below(std::move(roots))) e.told[i] = 1;
    e.guarded.assign(form.conditions.size(), {});
    for (std::uint32_t b = 0; b < form.events.blocks.size(); ++b)
        for (std::uint32_t i : conditions_below({form.events.blocks[b].condition}))
            if (e.told[i] == 0) e.guarded[i].push_back(b);
}

}  // namespace

void lower_events(const SolverForm& form, Graph& g, Lowering& lowering, EventPrograms& e)
{
    const FlatEvents& events = form.events;
    std::vector<std::pair<NodeId, std::uint32_t*>> wanted;
    auto want = [&](NodeId node, std::uint32_t& place) { wanted.emplace_back(node, &place); };

    e.guard.assign(events.blocks.size(), kNone);
    for (std::size_t b = 0; b < events.blocks.size(); ++b) want(events.blocks[b].condition, e.guard[b]);
    e.guards = lower_all(lowering, "conditions of blocks", wanted);
    wanted.clear();

    std::vector<char> in_equations_memory(events.memories.size(), 0), in_equations_mode(form.conditions.size(), 0);
    for (NodeId id : g.reachable(form.residuals)) {
        if (g[id].op == Op::memory) in_equations_memory[g[id].a] = 1;
        if (g[id].op == Op::mode) in_equations_mode[g[id].a] = 1;
    }
    // a condition that reads a memory turns with it
    for (const Condition& c : form.conditions)
        for (NodeId id : g.reachable({c.value}))
            if (g[id].op == Op::memory) in_equations_memory[g[id].a] = 1;
    // a memory that a switch reads chooses among systems of equations, whatever the present one reads
    for (NodeId id : g.reachable(events.switches))
        if (g[id].op == Op::memory) in_equations_memory[g[id].a] = 1;
    e.memory_in_equations = in_equations_memory;
    e.mode_in_equations = in_equations_mode;

    e.blocks.resize(events.blocks.size());
    for (std::size_t b = 0; b < events.blocks.size(); ++b) {
        const FlatBlock& from = events.blocks[b];
        EventPrograms::Block& to = e.blocks[b];
        to.settings.resize(from.settings.size());
        to.alerts.assign(from.alerts.size(), kNone);
        std::vector<NodeId> roots;
        for (std::size_t k = 0; k < from.settings.size(); ++k) {
            const FlatSetting& s = from.settings[k];
            EventPrograms::Setting& made = to.settings[k];
            want(s.value, made.value);
            want(s.when, made.when);
            roots.insert(roots.end(), {s.value, s.when});
            if (s.memory != FlatSetting::kNone) {
                to.sets_equations |= in_equations_memory[s.memory] != 0;
                continue;
            }
            to.sets_equations = true;
            want(s.target, made.target);
            bool negative = g[s.target].op == Op::neg;
            const Node n = g[negative ? g[s.target].a : s.target];
            if (n.op == Op::unknown && (form.z[n.a].kind == ZEntry::Kind::state || form.z[n.a].kind == ZEntry::Kind::candidate)) {
                made.state = n.a;
                made.sign = negative ? -1 : 1;
            }
        }
        for (std::size_t k = 0; k < from.alerts.size(); ++k) {
            want(from.alerts[k].when, to.alerts[k]);
            roots.push_back(from.alerts[k].when);
        }
        std::erase(roots, kNoNode);
        look_at_reads(form, g, roots, to);
    }
    e.actions = lower_all(lowering, "blocks", wanted);
    wanted.clear();

    std::size_t n_time =
        static_cast<std::size_t>(std::count_if(form.conditions.begin(), form.conditions.end(), [](const Condition& c) { return c.slope != kNoNode; }));
    e.time_conditions.reserve(n_time);
    for (std::size_t i = 0; i < form.conditions.size(); ++i) {
        if (form.conditions[i].slope == kNoNode) continue;
        e.time_conditions.push_back({static_cast<std::uint32_t>(i), 0, 0});
        want(form.conditions[i].value, e.time_conditions.back().value);
        want(form.conditions[i].slope, e.time_conditions.back().slope);
    }
    e.times = lower_all(lowering, "conditions of time", wanted);
    wanted.clear();

    e.every.reserve(events.blocks.size());
    for (std::size_t b = 0; b < events.blocks.size(); ++b) {
        if (events.blocks[b].kind != FlatBlock::Kind::every) continue;
        e.every.push_back({static_cast<std::uint32_t>(b), 0, 0});
        want(events.blocks[b].period, e.every.back().period);
        want(events.blocks[b].first, e.every.back().first);
    }
    e.periods = lower_all(lowering, "periods", wanted);
    wanted.clear();

    e.start_of.reserve(events.memories.size());
    for (std::size_t i = 0; i < events.memories.size(); ++i) {
        if (events.memories[i].start == kNoNode) continue;
        e.start_of.emplace_back(static_cast<std::uint32_t>(i), 0);
        want(events.memories[i].start, e.start_of.back().second);
    }
    e.starts = lower_all(lowering, "starts of memories", wanted);
    wanted.clear();

    e.previous_of.reserve(events.previous.size());
    for (const FlatPrevious& p : events.previous) {
        e.previous_of.emplace_back(p.memory, 0);
        want(p.source, e.previous_of.back().second);
    }
    e.previous = lower_all(lowering, "previous values", wanted);
    wanted.clear();

    e.delay_of.reserve(events.delays.size());
    for (const FlatDelay& d : events.delays) {
        EventPrograms::Block reads;
        look_at_reads(form, g, {d.source}, reads);
        e.delay_of.push_back({d.memory, 0, 0, reads.reads_solved});
        want(d.source, e.delay_of.back().source);
        want(d.time, e.delay_of.back().time);
    }
    e.delays = lower_all(lowering, "delays", wanted);
    wanted.clear();

    lower_limits(form, g, lowering, e);

    e.accumulators.resize(events.accumulators.size());
    for (std::size_t i = 0; i < events.accumulators.size(); ++i) {
        want(events.accumulators[i].value, e.accumulators[i].value);
        want(events.accumulators[i].when, e.accumulators[i].when);
        std::vector<NodeId> roots{events.accumulators[i].value, events.accumulators[i].when};
        std::erase(roots, kNoNode);
        EventPrograms::Block reads;
        look_at_reads(form, g, roots, reads, false);
        e.accumulators[i].reads_solved = reads.reads_solved;
        std::vector<NodeId> margins;
        if (events.accumulators[i].when != kNoNode)
            for (NodeId id : g.reachable({events.accumulators[i].when}))
                if (g[id].op == Op::less || g[id].op == Op::less_equal) margins.push_back(id);
        e.accumulators[i].margins.assign(margins.size(), kNone);
        for (std::size_t k = 0; k < margins.size(); ++k) {
            const Node n = g[margins[k]];
            want(g.sub(n.a, n.b), e.accumulators[i].margins[k]);
        }
    }
    e.sampled = lower_all(lowering, "measured values", wanted);
    wanted.clear();
    for (std::size_t i = 0; i < events.accumulators.size(); ++i) {
        want(events.accumulators[i].from_time, e.accumulators[i].from_time);
        want(events.accumulators[i].to_time, e.accumulators[i].to_time);
    }
    e.windows = lower_all(lowering, "windows of measures", wanted);
    wanted.clear();
    e.measures.resize(events.measures.size());
    for (std::size_t i = 0; i < events.measures.size(); ++i) want(events.measures[i].value, e.measures[i]);
    e.demands.resize(events.demands.size());
    for (std::size_t i = 0; i < events.demands.size(); ++i) {
        want(events.demands[i].condition, e.demands[i].condition);
        want(events.demands[i].left, e.demands[i].left);
        want(events.demands[i].right, e.demands[i].right);
    }
    e.measured = lower_all(lowering, "measures", wanted);
    wanted.clear();

    e.switches = lowering.lower("switches", events.switches);
    look_at_users(form, g, e);
    look_at_what_is_told(form, g, e);
}

}  // namespace netloop

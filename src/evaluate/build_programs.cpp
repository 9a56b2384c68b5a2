// SPDX-License-Identifier: Apache-2.0
#include "evaluate/compiled_model.hpp"

#include <algorithm>
#include <map>

#include "algebra/differentiate.hpp"
#include "compile/parameters.hpp"
#include "compile/proof_of_sign.hpp"
#include "evaluate/lower.hpp"

namespace netloop {
namespace {

struct JacobianEntry {
    std::uint32_t row = 0, column = 0;
    NodeId by_z = kNoNode, by_rate = kNoNode;
};

void find_error_parts(CompiledModel& m)
{
    std::map<std::pair<std::uint32_t, std::string>, std::vector<std::uint32_t>> parts;
    for (std::uint32_t i = 0; i < m.n(); ++i) {
        const ZEntry& z = m.form.z[i];
        if (z.kind != ZEntry::Kind::state && z.kind != ZEntry::Kind::candidate) continue;
        const FlatQuantity& q = m.form.flat().quantities[z.variable.quantity];
        std::size_t bracket = q.path.rfind('[');
        bool cell = bracket != std::string::npos && q.path.back() == ']';
        parts[{q.origin.instance, cell ? q.path.substr(bracket) : std::string()}].push_back(i);
    }
    for (auto& [key, members] : parts) m.error_parts.push_back(std::move(members));
    std::sort(m.error_parts.begin(), m.error_parts.end());
}

// Columns ascending, rows ascending within: numbers below n are z, from n on rates of the same column.
std::vector<JacobianEntry> differentiate_residuals(SolverForm& form, Gradients& gradients)
{
    auto n = static_cast<std::uint32_t>(form.z.size());
    std::vector<JacobianEntry> entries, line;
    for (std::uint32_t row = 0; row < form.residuals.size(); ++row) {
        line.clear();
        for (const auto& [number, node] : gradients(form.residuals[row])) {
            JacobianEntry e{row, number % n};
            (number < n ? e.by_z : e.by_rate) = node;
            auto same = std::find_if(line.begin(), line.end(), [&](const JacobianEntry& x) { return x.column == e.column; });
            if (same == line.end())
                line.push_back(e);
            else
                same->by_rate = e.by_rate;  // numbers ascend: that by z came first
        }
        entries.insert(entries.end(), line.begin(), line.end());
    }
    // a link may refer to any of the candidates: the pattern holds them all
    for (const SolverChoice& choice : form.choices)
        for (std::uint32_t row : choice.links)
            for (const auto& orders : choice.orders)
                for (std::uint32_t column : orders) entries.push_back({row, column});
    // rows ascend already, but for the links: sorting by column keeps them
    if (!form.choices.empty()) std::stable_sort(entries.begin(), entries.end(), [](const JacobianEntry& a, const JacobianEntry& b) { return a.row < b.row; });
    std::vector<std::size_t> next(n + 1, 0);
    for (const JacobianEntry& e : entries) ++next[e.column + 1];
    for (std::uint32_t c = 0; c < n; ++c) next[c + 1] += next[c];
    std::vector<JacobianEntry> sorted(entries.size());
    for (const JacobianEntry& e : entries) sorted[next[e.column]++] = e;
    return sorted;
}

void find_link_entries(CompiledModel& m)
{
    auto entry = [&](std::uint32_t row, std::uint32_t column) {
        auto begin = m.pattern.rows.begin() + m.pattern.starts[column], end = m.pattern.rows.begin() + m.pattern.starts[column + 1];
        return static_cast<std::uint32_t>(std::lower_bound(begin, end, static_cast<std::int64_t>(row)) - m.pattern.rows.begin());
    };
    for (const SolverChoice& choice : m.form.choices) {
        m.links.emplace_back();
        for (std::uint32_t row : choice.links) {
            LinkEntries link;
            for (const auto& orders : choice.orders) {
                link.of.emplace_back();
                for (std::size_t k = 0; k + 1 < orders.size(); ++k) link.of.back().emplace_back(entry(row, orders[k]), entry(row, orders[k + 1]));
            }
            m.links.back().push_back(std::move(link));
        }
    }
}

// Parameters that depend on no other make one program; the next ones, that depend on those alone, another; and so on.
void lower_parameters(CompiledModel& m, Lowering& lowering)
{
    const FlatModel& flat = m.form.flat();
    const Graph& g = flat.graph;
    std::vector<std::uint32_t> level(flat.parameters.size(), 0);
    std::vector<ParameterValues> values;
    std::vector<std::vector<NodeId>> roots;
    for (ParameterId p : order_parameters(flat, nullptr)) {
        NodeId value = flat.parameters[p].value;
        if (!g.is_constant(value))
            for (NodeId id : g.reachable({value}))
                if (g[id].op == Op::parameter) level[p] = std::max(level[p], level[g[id].a] + 1);
        if (values.size() <= level[p]) values.resize(level[p] + 1), roots.resize(level[p] + 1);
        values[level[p]].parameters.push_back(p);
        roots[level[p]].push_back(value);
    }
    for (std::size_t k = 0; k < values.size(); ++k) {
        values[k].program = lowering.lower_in_place("params", roots[k]);
        m.parameters.push_back(std::move(values[k]));
    }
    std::vector<NodeId> low, high;
    for (ParameterId p = 0; p < flat.parameters.size(); ++p) {
        const FlatParameter& f = flat.parameters[p];
        if (f.low != kNoNode) m.bounds.low.push_back(p), low.push_back(f.low);
        if (f.high != kNoNode) m.bounds.high.push_back(p), high.push_back(f.high);
    }
    low.insert(low.end(), high.begin(), high.end());
    m.bounds.program = lowering.lower_in_place("ranges of params", low);
}

}  // namespace

std::shared_ptr<CompiledModel> build_programs(SolverForm form)
{
    auto made = std::make_shared<CompiledModel>();
    CompiledModel& m = *made;
    m.form = std::move(form);
    Graph& g = m.form.graph();
    auto n = static_cast<std::uint32_t>(m.form.z.size());
    Gradients gradients(g, [n](const Node& leaf) -> std::uint32_t { return leaf.op == Op::unknown ? leaf.a : leaf.op == Op::rate ? n + leaf.a : kNoNode; });
    std::vector<JacobianEntry> entries = n == 0 ? std::vector<JacobianEntry>{} : differentiate_residuals(m.form, gradients);

    std::vector<NodeId> start_roots;
    std::vector<std::vector<Gradients::Entry>> start_gradients;
    for (const StartEquation& s : m.form.start) {
        NodeId residual = g.sub(s.left, s.right);
        start_roots.insert(start_roots.end(), {residual, s.left, s.right});
        std::span<const Gradients::Entry> gradient = gradients(residual);
        start_gradients.emplace_back(gradient.begin(), gradient.end());
    }
    for (const auto& list : start_gradients)
        for (const auto& [number, node] : list) start_roots.push_back(node);

    Lowering lowering(g, static_cast<std::uint32_t>(m.form.flat().parameters.size()), static_cast<std::uint32_t>(m.form.conditions.size()),
                      static_cast<std::uint32_t>(m.form.events.memories.size()), n);
    m.residual = lowering.lower("residual", m.form.residuals);
    std::vector<NodeId> below = g.reachable(m.form.residuals);
    m.fragile = std::any_of(below.begin(), below.end(), [&](NodeId id) {
        Op op = g[id].op;
        return op == Op::sqrt || op == Op::log || op == Op::pow || op == Op::asin || op == Op::acos;
    });
    std::vector<NodeId> roots;
    for (const JacobianEntry& e : entries) {
        if (e.by_z != kNoNode) roots.push_back(e.by_z);
        if (e.by_rate != kNoNode) roots.push_back(e.by_rate);
    }
    m.jacobian = lowering.lower("jacobian", roots);
    find_error_parts(m);
    m.pattern.shared = std::make_shared<SharedKnowledge>();
    m.pattern.n_columns = n;
    m.pattern.starts.assign(n + 1, 0);
    std::size_t at = 0;
    for (const JacobianEntry& e : entries) {
        m.pattern.rows.push_back(e.row);
        ++m.pattern.starts[e.column + 1];
        m.by_z.push_back(e.by_z != kNoNode ? m.jacobian.results[at++] : kNoNode);
        m.by_rate.push_back(e.by_rate != kNoNode ? m.jacobian.results[at++] : kNoNode);
    }
    for (std::uint32_t c = 0; c < n; ++c) m.pattern.starts[c + 1] += m.pattern.starts[c];
    find_link_entries(m);
    roots.clear();
    for (const SolverChoice& choice : m.form.choices)
        for (const StateChoice::Entry& e : choice.entries) roots.push_back(e.value);
    m.choices = lowering.lower("choice of states", roots);

    roots.clear();
    for (const Condition& c : m.form.conditions) roots.push_back(c.value);
    m.conditions = lowering.lower("conditions", roots);
    roots.clear();
    for (const OutputColumn& o : m.form.outputs) roots.push_back(o.value);
    m.outputs = lowering.lower("outputs", roots);
    m.output_place = m.outputs.results;
    std::map<NodeId, std::uint32_t> first;
    for (std::uint32_t i = 0; i < m.form.outputs.size(); ++i) m.alias_of.push_back(first.emplace(m.form.outputs[i].value, i).first->second);

    lower_events(m.form, g, lowering, m.events);
    roots.clear();
    for (NodeId node : m.form.written)
        if (node != kNoNode) roots.push_back(node);
    m.written = lowering.lower("as written", roots);
    at = 0;
    for (NodeId node : m.form.written) m.written_place.push_back(node == kNoNode ? kNoNode : m.written.results[at++]);

    m.start = lowering.lower("start", start_roots);
    at = 3 * m.form.start.size();
    for (std::size_t i = 0; i < m.form.start.size(); ++i) {
        StartRow row{m.start.results[3 * i], m.start.results[3 * i + 1], m.start.results[3 * i + 2], {}};
        for (const auto& [number, node] : start_gradients[i]) row.entries.emplace_back(number, m.start.results[at++]);
        m.start_rows.push_back(std::move(row));
    }
    roots.clear();
    for (const ZEntry& z : m.form.z)
        if (z.start != kNoNode) roots.push_back(z.start);
    for (const ZEntry& z : m.form.z)
        if (z.rate_start != kNoNode) roots.push_back(z.rate_start);
    m.search_start = lowering.lower("search start", roots);
    at = 0;
    for (const ZEntry& z : m.form.z) m.z_start.push_back(z.start == kNoNode ? kNoNode : m.search_start.results[at++]);
    for (const ZEntry& z : m.form.z) m.rate_start.push_back(z.rate_start == kNoNode ? kNoNode : m.search_start.results[at++]);
    roots.clear();
    for (NodeId node : m.form.reduced.system.assumed) roots.insert(roots.end(), {node, ProofOfSign::size_of(g, node)});
    m.assumed = lowering.lower("assumed", roots);
    lower_parameters(m, lowering);
    m.prologue = lowering.prologue();
    m.layout = lowering.layout();
    m.literals = lowering.literals();
    for (ParameterValues& v : m.parameters) prepare(v.program, m.callables());
    for (Program* p : {&m.events.guards, &m.events.actions, &m.events.times, &m.events.periods, &m.events.starts, &m.events.previous, &m.events.delays,
                       &m.events.sampled, &m.events.windows, &m.events.measured, &m.events.switches, &m.events.limits.program, &m.events.solved_limits.program})
        prepare(*p, m.callables());
    for (Program* p :
         {&m.bounds.program, &m.prologue, &m.assumed, &m.residual, &m.jacobian, &m.conditions, &m.outputs, &m.written, &m.choices, &m.start, &m.search_start})
        prepare(*p, m.callables());
    return made;
}

}  // namespace netloop

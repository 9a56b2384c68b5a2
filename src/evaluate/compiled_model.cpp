// SPDX-License-Identifier: Apache-2.0
#include "evaluate/compiled_model.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <map>

#include "algebra/differentiate.hpp"
#include "compile/parameters.hpp"
#include "compile/passes.hpp"
#include "compile/proof_of_sign.hpp"
#include "evaluate/c_source.hpp"
#include "evaluate/lower.hpp"

namespace netloop {
namespace {

struct JacobianEntry {
    std::uint32_t row = 0, column = 0;
    NodeId by_z = kNoNode, by_rate = kNoNode;
};

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

std::shared_ptr<const CompiledModel> build_programs(SolverForm form)
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

namespace {

// Runs the passes one after another, each with its time and what it left; stops where `stage` asks for it.
std::string counted(std::size_t n, const char* one, const char* many)
{
    return fmt::format("{} {}", n, n == 1 ? one : many);
}

class Pipeline {
public:
    Pipeline(Diagnostics& diagnostics, std::string stage) : diagnostics_(diagnostics), stage_(std::move(stage)) {}

    std::shared_ptr<const CompiledModel> run(std::unique_ptr<FlatModel> flat)
    {
        order_parameters(*flat, &diagnostics_);
        if (diagnostics_.has_errors()) throw CompilationStopped{};
        free_found_parameters(*flat);
        if (wanted("flat")) return show(flat->text());
        std::size_t n_flat = flat->equations.size(), n_quantities = flat->quantities.size();
        EquationSystem system;
        step(
            "begin", [&] { system = begin_system(std::move(flat), diagnostics_); },
            [&] { return fmt::format("{} equations, {} quantities", n_flat, n_quantities); });
        step(
            "locate conditions", [&] { locate_conditions(system); }, [&] { return fmt::format("{} located conditions", system.conditions.size()); });
        if (!system.flat->switches.empty())
            if (auto family = look_for_variants(system)) return first_of(family);
        // with params that may be zero for all that is known, a second form is kept ready to be made
        const auto& params = system.flat->parameters;
        const Graph& g = system.graph();
        auto may_be_zero = [&](const FlatParameter& p) {
            bool above = p.low != kNoNode && g.is_constant(p.low) && g.value(p.low) > 0;
            bool below = p.high != kNoNode && g.is_constant(p.high) && g.value(p.high) < 0;
            return !above && !below && !p.boolean;
        };
        if (std::none_of(params.begin(), params.end(), may_be_zero)) return finish(std::move(system));
        auto careful = std::make_shared<CarefulModel>();
        if (stage_.empty()) careful->base = clone(system);
        system.may_assume = true;
        auto model = finish(std::move(system));
        if (model != nullptr && !model->form.reduced.system.assumed.empty()) const_cast<CompiledModel&>(*model).careful = careful;
        return model;
    }

    // From located conditions on.
    std::shared_ptr<const CompiledModel> finish(EquationSystem system, bool variant = false)
    {
        std::size_t n_flat = system.flat->equations.size();
        step(
            "remove aliases", [&] { remove_aliases(system); }, [&] { return fmt::format("{} equations left of {}", system.equations.size(), n_flat); });
        if (wanted("system")) {
            std::string text;
            for (const SystemEquation& e : system.equations) text += "0 = " + system.flat->node_text(e.residual) + "\n";
            return show(text);
        }
        step(
            "check structure", [&] { check_structure(system, diagnostics_); }, [&] { return std::string("as many equations as unknowns"); });
        ReducedSystem reduced;
        step(
            "reduce index", [&] { reduced = reduce_index(std::move(system), diagnostics_); },
            [&] {
                return fmt::format(
                    "{} states, {} equations{}", reduced.n_states(), reduced.equations.size(),
                    reduced.choices.empty() ? "" : ", " + counted(reduced.choices.size(), "set", "sets") + " of states that the run chooses among");
            });
        step(
            "order blocks", [&] { order_blocks(reduced, diagnostics_); },
            [&] {
                std::size_t largest = 0;
                for (const SolveBlock& b : reduced.blocks) largest = std::max(largest, b.equations.size());
                return fmt::format("{}, the largest of {}", counted(reduced.blocks.size(), "block", "blocks"), largest);
            });
        step(
            "tear blocks", [&] { tear_blocks(reduced); },
            [&] {
                std::size_t iterates = 0, linear = 0, symbolic = 0;
                for (const SolveBlock& b : reduced.blocks) {
                    iterates += b.iterates.size();
                    linear += b.form == SolveBlock::Form::linear;
                    symbolic += b.form == SolveBlock::Form::symbolic;
                }
                return fmt::format("{}; {}, {} more solved on paper", counted(iterates, "iterate", "iterates"),
                                   counted(linear, "linear block", "linear blocks"), symbolic);
            });
        if (wanted("reduced")) return show(reduced_text(reduced));
        Impact impact;
        if (variant) impact = make_impact(reduced);
        SolverForm form;
        step(
            "make solver form", [&] { form = make_solver_form(std::move(reduced)); },
            [&] { return fmt::format("z of {}, {} explicit assignments", form.z.size(), form.n_explicit); });
        if (wanted("solver")) return show(form.text());
        std::shared_ptr<const CompiledModel> model;
        step(
            "lower", [&] { model = build_programs(std::move(form)); },
            [&] {
                return fmt::format("residual {} operations in {}, Jacobian {} operations, {} entries", model->residual.n_operations(),
                                   counted(model->residual.kernels.size(), "kernel", "kernels"), model->jacobian.n_operations(), model->pattern.n_entries());
            });
        auto& made = const_cast<CompiledModel&>(*model);  // not shared with anyone yet
        made.form.reduced.system.record = record_;
        made.impact = std::move(impact);
        // what is one value here may be two in another of the family
        if (variant)
            for (std::uint32_t i = 0; i < made.alias_of.size(); ++i) made.alias_of[i] = i;
        if (wanted("program")) return show(model->residual.text() + model->jacobian.text());
        if (wanted("source")) return show(c_source_head() + c_source(model->residual) + c_source(model->jacobian));
        return model;
    }
    const std::string& shown() const { return shown_; }

private:
    // Goes once through the passes with all branches open; null if one system will do for all values of the switches.
    std::shared_ptr<VariantFamily> look_for_variants(const EquationSystem& system)
    {
        std::vector<std::uint32_t> structural;
        Diagnostics quiet;
        try {
            EquationSystem open = clone(system);
            remove_aliases(open);
            check_structure(open, quiet);
            if (quiet.has_errors()) throw CompilationStopped{};
            ReducedSystem reduced = reduce_index(std::move(open), quiet);
            order_blocks(reduced, quiet);
            structural = find_structural_switches(reduced);
        } catch (const CompilationStopped&) {
            // taken together the branches make no system: each combination may
            for (std::uint32_t i = 0; i < system.flat->switches.size(); ++i) structural.push_back(i);
        }
        if (structural.empty()) return nullptr;
        auto family = std::make_shared<VariantFamily>();
        family->base = clone(system);
        family->switches = structural;
        return family;
    }

    // The first system of a family: as the switches stand with nothing moved yet, else any that there is.
    std::shared_ptr<const CompiledModel> first_of(const std::shared_ptr<VariantFamily>& family)
    {
        const FlatModel& flat = *family->base.flat;
        std::vector<double> parameters = default_parameters(flat);
        std::function<double(const Node&)> leaf = [&](const Node& n) { return n.op == Op::parameter ? parameters[n.a] : 0.0; };
        NodeValues plain(flat.graph, leaf);
        NodeValues values(flat.graph, [&](const Node& n) {
            if (n.op == Op::memory && flat.memories[n.a].start != kNoNode) return plain(flat.memories[n.a].start);
            return leaf(n);
        });
        std::size_t n = family->switches.size();
        std::vector<std::vector<char>> keys(1, std::vector<char>(n, 0));
        for (std::size_t k = 0; k < n; ++k) keys[0][k] = values(flat.switches[family->switches[k]]) != 0;
        keys.emplace_back(n, char(0));
        keys.emplace_back(n, char(1));
        for (std::size_t k = 0; k < std::min<std::size_t>(n, 16); ++k) {
            keys.push_back(keys[0]);
            keys.back()[k] ^= 1;
        }
        for (const std::vector<char>& key : keys) {
            Diagnostics quiet;
            Pipeline pipeline(quiet, stage_);
            try {
                EquationSystem system = clone(family->base);
                fix_switches(system, family->switches, key);
                auto model = pipeline.finish(std::move(system), true);
                record_.insert(record_.end(), pipeline.record_.begin(), pipeline.record_.end());
                record_.push_back(
                    {"variants", counted(n, "condition changes", "conditions change") + " the kind of equations: systems are made as they are met", 0});
                if (model == nullptr) {
                    shown_ = pipeline.shown();
                    return nullptr;
                }
                auto& made = const_cast<CompiledModel&>(*model);
                made.form.reduced.system.record = record_;
                made.family = family;
                made.key = family->first_key = key;
                return model;
            } catch (const CompilationStopped&) {
            }
        }
        EquationSystem system = clone(family->base);
        fix_switches(system, family->switches, keys[0]);
        return finish(std::move(system), true);  // reports
    }

    bool wanted(const char* stage) const { return stage_ == stage; }
    std::shared_ptr<const CompiledModel> show(std::string text)
    {
        shown_ = std::move(text);
        if (shown_.empty()) shown_ = "(nothing)\n";
        return nullptr;
    }
    template <typename Work, typename Result>
    void step(const char* name, Work work, Result result)
    {
        auto begin = std::chrono::steady_clock::now();
        work();
        std::chrono::duration<double> took = std::chrono::steady_clock::now() - begin;
        record_.push_back({name, result(), took.count()});
        if (diagnostics_.has_errors()) throw CompilationStopped{};
    }
    static std::string reduced_text(const ReducedSystem& r)
    {
        std::string text;
        for (const Variable& v : r.states) text += "state " + r.system.name(v) + "\n";
        for (const StateChoice& choice : r.choices) {
            text += fmt::format("{} states among", choice.n_states());
            for (const auto& [quantity, highest] : choice.candidates)
                for (std::uint32_t k = 0; k < highest; ++k) text += " " + r.system.name({quantity, k});
            text += "\n";
        }
        for (const ReducedEquation& e : r.equations)
            if (e.constraint) text += "  tied by 0 = " + r.system.flat->node_text(e.residual) + "\n";
        for (const SolveBlock& b : r.blocks) {
            text += fmt::format("block of {}\n", b.equations.size());
            for (const SolveBlock::Step& s : b.steps) text += "  " + r.system.name(r.unknowns[s.unknown]) + " := " + r.system.flat->node_text(s.value) + "\n";
            for (std::uint32_t u : b.iterates) text += "  iterate " + r.system.name(r.unknowns[u]) + "\n";
            for (std::uint32_t e : b.residuals) text += "  0 = " + r.system.flat->node_text(r.equations[e].residual) + "\n";
        }
        return text;
    }

    Diagnostics& diagnostics_;
    std::string stage_;
    std::string shown_;
    std::vector<PassRecord> record_;
};

}  // namespace

std::shared_ptr<const CompiledModel> VariantFamily::get(const std::shared_ptr<const CompiledModel>& first, const std::vector<char>& key, std::string& reason)
{
    if (key == first_key) return first;
    std::lock_guard guard(lock);
    if (auto it = made.find(key); it != made.end()) return it->second;
    if (auto it = failed.find(key); it != failed.end()) {
        reason = it->second;
        return nullptr;
    }
    Diagnostics diagnostics;
    try {
        EquationSystem system = clone(base);
        fix_switches(system, switches, key);
        auto model = Pipeline(diagnostics, "").finish(std::move(system), true);
        const_cast<CompiledModel&>(*model).key = key;
        return made[key] = model;
    } catch (const CompilationStopped&) {
        for (const SourceDiagnostic& d : diagnostics.items())
            if (d.severity == Severity::error && reason.size() < 600) reason += (reason.empty() ? "" : "; ") + d.text;
        failed[key] = reason;
        return nullptr;
    }
}

std::shared_ptr<const CompiledModel> CarefulModel::get()
{
    std::lock_guard guard(lock);
    Diagnostics diagnostics;
    if (made == nullptr) made = Pipeline(diagnostics, "").finish(clone(base));
    return made;
}

std::shared_ptr<const CompiledModel> compile_model(std::unique_ptr<FlatModel> flat, Diagnostics& diagnostics)
{
    try {
        return Pipeline(diagnostics, "").run(std::move(flat));
    } catch (const CompilationStopped&) {
        return nullptr;
    }
}

std::string show_stage(std::unique_ptr<FlatModel> flat, const std::string& stage, Diagnostics& diagnostics)
{
    Pipeline pipeline(diagnostics, stage);
    try {
        pipeline.run(std::move(flat));
    } catch (const CompilationStopped&) {
        return {};
    }
    return pipeline.shown();
}

}  // namespace netloop

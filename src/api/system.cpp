// SPDX-License-Identifier: Apache-2.0
#include "netloop/system.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "api/internal.hpp"
#include "base/deep_stack.hpp"
#include "base/interrupt.hpp"
#include "compile/parameters.hpp"
#include "compile/passes.hpp"
#include "files/input_file.hpp"
#include "model/check_units.hpp"
#include "solve/error_sizes.hpp"
#include "solve/explain.hpp"

namespace netloop {
namespace {

std::size_t figure_nodes(const ScenarioPlan& plan)
{
    std::size_t n = 0;
    for (const BodyItem& item : plan.figures)
        for (const FigurePanel& panel : item.statement->as<FigureItem>()->panels) n += panel.curves.size() + 1;
    return n;
}

// The values of times, tolerance and numbers of points, which may use params of the system.
void take_times(const ScenarioPlan& plan, const std::vector<NodeId>& extra, const FlatModel& flat, LibrarySet& set, CompiledSystemData& data)
{
    std::vector<double> parameters = default_parameters(flat);
    NodeValues values(flat.graph, [&](const Node& n) { return n.op == Op::parameter ? parameters[n.a] : std::nan(""); });
    std::size_t at = 0;
    auto next = [&](const Expr* e) -> std::optional<double> {
        NodeId node = extra[at++];
        if (e == nullptr || node == kNoNode) return std::nullopt;
        return values(node);
    };
    data.stop = next(plan.stop);
    data.output_every = next(plan.output_every);
    data.output_points = next(plan.output_points);
    data.tolerance = next(plan.tolerance);
    data.begin_at = next(plan.begin != nullptr ? plan.begin->at : nullptr);
    for (const Expr* e : plan.output_at) data.output_at.push_back(next(e).value_or(std::nan("")));
    at += figure_nodes(plan);
    for (const BodyItem& item : plan.tolerances) {
        const auto& own = *item.statement->as<ToleranceItem>();
        double tolerance = next(own.value).value_or(0), usual = std::abs(next(own.usual).value_or(0));
        if (own.value != nullptr && !(tolerance >= 1e-12 && tolerance <= 1e-2))
            set.diagnostics.report(messages::bad_value, own.value->span, fmt::format("the tolerance is {:g}", tolerance))
                .mend("a relative tolerance lies between 1e-12 and 1e-2");
        if (own.usual != nullptr && !(usual > 0 && std::isfinite(usual)))
            set.diagnostics.report(messages::bad_value, own.usual->span, fmt::format("the usual size is {:g}", usual)).mend("give a size that is not 0");
        for (const std::string& pattern : own.patterns) data.tolerances.push_back({pattern, tolerance, usual});
    }
    auto refuse = [&](const char* what, double v, const char* mend) {
        set.diagnostics.report(messages::bad_value, plan.scenario->statement->span, fmt::format("{} is {:g}", what, v)).mend(mend);
        throw_errors(set);
    };
    if (data.stop && !(*data.stop > 0)) refuse("the stop time", *data.stop, "give a time after the start: stop at 10 s");
    if (data.output_every && !(*data.output_every > 0)) refuse("the output interval", *data.output_every, "give a positive time: output every 50 ms");
    if (data.output_points && !(*data.output_points >= 2 && *data.output_points <= 1e8 && *data.output_points == std::floor(*data.output_points)))
        refuse("the number of output points", *data.output_points, "a whole number from 2 (start and stop) to 100 million: output 501 points");
    if (data.tolerance && !(*data.tolerance >= 1e-12 && *data.tolerance <= 1e-2))
        refuse("the tolerance", *data.tolerance, "a relative tolerance lies between 1e-12 and 1e-2");
}

// `keep leaf.angle'`: derivatives are not kept by default, so they become lets of their own.
void add_kept_rates(FlatModel& flat, const std::vector<std::string>& keep, LibrarySet& set)
{
    for (const std::string& pattern : keep) {
        std::size_t primes = 0;
        while (primes < pattern.size() && pattern[pattern.size() - 1 - primes] == '\'') ++primes;
        if (primes == 0 || pattern.find('*') != std::string::npos) continue;
        std::string path = pattern.substr(0, pattern.size() - primes);
        NodeId node = kNoNode;
        Unit unit;
        for (QuantityId q = 0; q < flat.quantities.size(); ++q)
            if (flat.quantities[q].path == path) node = flat.graph.quantity(q), unit = flat.quantities[q].unit;
        for (const FlatView& v : flat.views)
            if (v.path == path) node = v.value, unit = v.unit;
        if (node == kNoNode) {
            set.diagnostics.report(messages::unknown_name, {}, pattern, "what is kept");
            continue;
        }
        for (std::size_t k = 0; k < primes; ++k) node = flat.graph.rate_of(node), unit = unit.rate();
        flat.views.push_back({pattern, node, unit, false, "", {}});
    }
}

// The figures of a scenario: what they draw is recorded, expressions as lets of their own; derivatives are asked for in `rates`.
void take_figures(const ScenarioPlan& plan, const std::vector<NodeId>& extra, std::size_t at, LibrarySet& set, FlatModel& flat, CompiledSystemData& data,
                  std::vector<std::string>& rates)
{
    auto curve = [&](const Expr* e, NodeId node, const std::optional<Unit>& unit) {
        FigureRequest::Curve c;
        if (e == nullptr) return c;
        if (is_sequence(set, *set.info(*plan.system), e)) {  // its stages are drawn, in no unit
            c.path = brief(*e);
            if (!data.keep.empty()) data.keep.push_back(c.path);
            return c;
        }
        c.path = e->kind == ExprKind::time ? "time" : brief(*e);
        if (unit) c.unit = unit->text;
        bool plain = e->kind == ExprKind::time || (e->kind == ExprKind::path && e->args.empty());
        if (e->kind == ExprKind::derivative && e->args[0]->kind == ExprKind::path)
            rates.push_back(c.path);
        else if (!plain && node != kNoNode && std::none_of(flat.views.begin(), flat.views.end(), [&](const FlatView& v) { return v.path == c.path; }))
            flat.views.push_back({c.path, node, unit.value_or(Unit{}), false, "drawn in a figure", {0, e->span}});
        if (!data.keep.empty() && c.path != "time") data.keep.push_back(c.path);
        return c;
    };
    for (const BodyItem& item : plan.figures) {
        const auto& figure = *item.statement->as<FigureItem>();
        FigureRequest made;
        made.title = figure.title;
        for (const FigurePanel& panel : figure.panels) {
            FigureRequest::Panel p;
            for (const Expr* e : panel.curves) p.curves.push_back(curve(e, extra[at++], panel.unit));
            p.against = curve(panel.against, extra[at++], std::nullopt);
            made.panels.push_back(std::move(p));
        }
        data.figures.push_back(std::move(made));
    }
}

}  // namespace

std::unique_ptr<FlatModel> flatten_plan(LibrarySet& set, ScenarioPlan& plan, CompiledSystemData& data, bool strict)
{
    UnitChecker checker(set, strict);
    const FileScope* scope = plan.scenario != nullptr ? plan.scenario->scope : plan.system->scope;
    checker.check(*scope);
    checker.check(*plan.system);
    check_plan(set, plan);
    throw_errors(set);
    InstantiateRequest request;
    request.system = plan.system;
    request.values = plan.values;
    request.start_statements = plan.start_statements;
    request.finds = plan.finds;
    request.measures = plan.measures;
    request.demands = plan.demands;
    request.measure_types = plan.measure_types;
    request.demand_units = plan.demand_units;
    if (plan.begin != nullptr) {
        request.begin_steady = plan.begin->steady;
        request.steady_except = plan.begin->except;
        data.begin_from = plan.begin->file;
        data.folder = std::filesystem::path(scope->path).parent_path().string();
    }
    request.extra = {plan.stop, plan.output_every, plan.output_points, plan.tolerance, plan.begin != nullptr ? plan.begin->at : nullptr};
    request.extra.insert(request.extra.end(), plan.output_at.begin(), plan.output_at.end());
    for (const BodyItem& item : plan.figures)
        for (const FigurePanel& panel : item.statement->as<FigureItem>()->panels) {
            for (const Expr* e : panel.curves) request.extra.push_back(is_sequence(set, *set.info(*plan.system), e) ? nullptr : e);
            request.extra.push_back(panel.against);
        }
    for (const BodyItem& item : plan.tolerances)
        for (const Expr* e : {item.statement->as<ToleranceItem>()->value, item.statement->as<ToleranceItem>()->usual}) request.extra.push_back(e);
    request.extra_scope = scope;
    request.asked = plan.asked;
    InstantiateResult made = instantiate(set, request);
    throw_errors(set);
    take_times(plan, made.extra, *made.model, set, data);
    data.asked = made.asked;
    data.keep = plan.keep;
    data.doc = plan.doc;
    std::vector<std::string> rates = plan.keep;
    take_figures(plan, made.extra, 5 + plan.output_at.size(), set, *made.model, data, rates);
    for (const std::string& r : plan.rates)
        if (std::find(rates.begin(), rates.end(), r) == rates.end()) rates.push_back(r);
    add_kept_rates(*made.model, rates, set);
    throw_errors(set);
    for (const std::string& path : data.from_outside) take_from_outside(*made.model, path);
    for (const std::string& path : data.linear_inputs)
        if (std::none_of(data.added.begin(), data.added.end(), [&](const AddedSignal& s) { return s.path == path; }))
            data.added.push_back(add_to_signal(*made.model, path));
    data.n_flat_equations = made.model->equations.size();
    return std::move(made.model);
}

// What became of a block, and why: told in `check --explain`.
static std::string form_of_block(const SolveBlock& b)
{
    std::size_t n_explicit = b.steps.size() - b.n_symbolic;
    switch (b.form) {
        case SolveBlock::Form::explicit_:
            return fmt::format("{} explicit one after the other", n_explicit);
        case SolveBlock::Form::symbolic:
            return fmt::format("{} explicit, {} linear and solved on paper", n_explicit, b.n_symbolic);
        case SolveBlock::Form::linear:
            return fmt::format("{} explicit; linear{}, solved together in one step:", n_explicit,
                               b.iterates.size() <= 3 ? " (its pivots may be zero for some params)" : "");
        default:
            return fmt::format("{} explicit; not linear, iterated:", n_explicit);
    }
}

// Tolerances of single quantities: there must be something that is integrated among them, and the unit of a size must be theirs.
static void check_tolerances(const ScenarioPlan& plan, const CompiledModel& model, LibrarySet& set)
{
    Diagnostics& diagnostics = set.diagnostics;
    const FlatModel& flat = model.form.flat();
    for (const BodyItem& item : plan.tolerances) {
        const auto& own = *item.statement->as<ToleranceItem>();
        for (const std::string& pattern : own.patterns) {
            std::vector<std::size_t> members = members_named(model, pattern);
            if (own.usual != nullptr && !members.empty()) {
                const FlatQuantity& q = flat.quantities[model.form.z[members[0]].variable.quantity];
                UnitChecker checker(set, false);
                checker.expect_fits(q.path + " (usual)", Type::of(q.unit.difference()),
                                    checker.type_of_expression(set.info(*plan.system), *item.scope, *own.usual), *own.usual);
            }
            if (!members.empty()) continue;
            bool known = std::any_of(flat.quantities.begin(), flat.quantities.end(), [&](const FlatQuantity& q) { return fits_pattern(pattern, q.path); }) ||
                         std::any_of(flat.views.begin(), flat.views.end(), [&](const FlatView& v) { return fits_pattern(pattern, v.path); });
            if (known)
                diagnostics.report(messages::bad_value, item.statement->span, fmt::format("'{}' is not integrated: it follows from other quantities", pattern))
                    .mend("give the tolerance to the states that it follows from: check --explain lists them");
            else
                diagnostics.report(messages::unknown_name, item.statement->span, pattern, "what has a tolerance of its own");
        }
    }
}

namespace {

// What recordings tell of the model: the user's texts, the one that says what is run first, named as they lie beside it, and the tables that were read.
void take_texts(const LibrarySet& set, const ScenarioPlan& plan, CompiledSystemData& data)
{
    constexpr std::size_t kMostOfTable = kMiB;  // larger ones would make the recording that of the table
    std::uint64_t hash = 0xcbf29ce484222325u;
    auto add_to_hash = [&](std::string_view text) {
        for (char c : text) hash = (hash ^ static_cast<unsigned char>(c)) * 0x100000001b3u;
    };
    std::filesystem::path first;
    for (std::uint32_t file : set.files_behind(plan.told_by != nullptr    ? *plan.told_by
                                               : plan.scenario != nullptr ? *plan.scenario->scope
                                                                          : *plan.system->scope)) {
        std::string_view text = set.sources.text(file);
        add_to_hash(text);
        std::filesystem::path path(set.sources.path(file));
        if (data.texts.empty()) first = path.has_parent_path() ? path.parent_path() : ".";
        std::filesystem::path beside = path.lexically_proximate(first);
        data.texts.push_back({(data.texts.empty() ? path.filename() : beside).string(), std::string(text)});
    }
    for (const auto& [path, text] : set.table_texts()) {
        add_to_hash(text);
        if (plan.all_tables || text.size() <= kMostOfTable) data.texts.push_back({std::filesystem::path(path).lexically_proximate(first).string(), text});
    }
    data.text_hash = fmt::format("{:016x}", hash);
    data.files_read = set.files_read();
}

}  // namespace

CompiledSystem compile_plan(const Library& library, const PlanMaker& make_plan, const CompileRequest& request)
{
    auto data = std::make_shared<CompiledSystemData>();
    auto set = LibraryAccess::set(library);
    ScenarioPlan plan;
    std::unique_ptr<FlatModel> flat;
    Diagnostics diagnostics;
    {
        LibraryWork work(*set);
        plan = make_plan(*set);
        data->name = plan.system->name;
        data->scenario = plan.scenario != nullptr ? plan.scenario->name : "";
        data->linear_inputs = request.linear_inputs;
        data->from_outside = request.from_outside;
        flat = flatten_plan(*set, plan, *data, request.strict);
        data->settings = request.set;
        take_texts(*set, plan, *data);
        data->sources = set->sources;
        diagnostics = std::move(set->diagnostics);
    }
    // from here on nothing of the library is read: others may go on with it
    data->model = compile_model(std::move(flat), diagnostics);
    throw_errors(diagnostics, data->sources);
    if (!plan.tolerances.empty()) {
        LibraryWork work(*set);
        check_tolerances(plan, *data->model, *set);
        throw_errors(*set);
    }
    data->notes = export_diagnostics(diagnostics, data->sources);
    return CompiledSystem(data);
}

namespace {
ScenarioPlan plan_request(LibrarySet& set, const CompileRequest& request)
{
    auto plan = plan_scenario(set, request.system, request.scenario, request.no_scenario);
    throw_errors(set);
    if (!plan) throw ModelError("no system to compile\n", export_diagnostics(set.diagnostics, set.sources));
    for (const auto& [path, value] : request.set) add_outside_value(set, *plan, path, value);
    throw_errors(set);
    plan->rates = request.rates;
    return *plan;
}
}  // namespace

CompiledSystem compile(const Library& library, const CompileRequest& request)
{
    InterruptScope scope(request.interrupt);
    std::size_t size = 0;
    {
        auto set = LibraryAccess::set(library);
        LibraryWork work(*set);
        size = set->n_bytes();
    }
    return on_deep_stack(
        [&] {
            return compile_plan(
                library, [&](LibrarySet& set) { return plan_request(set, request); }, request);
        },
        size);
}

std::string show_stage(const Library& library, const CompileRequest& request, const std::string& stage)
{
    std::vector<std::string> stages = stage_names();
    if (std::find(stages.begin(), stages.end(), stage) == stages.end())
        throw UsageError(fmt::format("no stage is called '{}'; there are: {}", stage, fmt::join(stages, ", ")));
    LibrarySet& set = *LibraryAccess::set(library);
    InterruptScope scope(request.interrupt);
    return on_deep_stack([&] {
        LibraryWork work(set);
        CompiledSystemData data;
        ScenarioPlan plan = plan_request(set, request);
        auto flat = flatten_plan(set, plan, data, request.strict);
        std::string text = netloop::show_stage(std::move(flat), stage, set.diagnostics);
        throw_errors(set);
        return text;
    });
}

const std::string& CompiledSystem::name() const
{
    return data_->name;
}
const std::string& CompiledSystem::scenario() const
{
    return data_->scenario;
}
std::size_t CompiledSystem::n_states() const
{
    return data_->model->form.reduced.n_states();
}
std::size_t CompiledSystem::n_iterates() const
{
    return data_->model->n() - n_states();
}
std::size_t CompiledSystem::n_equations() const
{
    return data_->n_flat_equations;
}
std::optional<double> CompiledSystem::stop() const
{
    return data_->stop;
}
const std::vector<Diagnostic>& CompiledSystem::notes() const
{
    return data_->notes;
}

std::vector<std::string> CompiledSystem::parameters() const
{
    std::vector<std::string> names;
    for (const FlatParameter& p : data_->model->form.flat().parameters) names.push_back(p.path);
    return names;
}

std::vector<std::string> CompiledSystem::quantities() const
{
    std::vector<std::string> names;
    for (const OutputColumn& o : data_->model->form.outputs) names.push_back(o.path);
    return names;
}

std::string CompiledSystem::explain() const
{
    const SolverForm& form = data_->model->form;
    const ReducedSystem& r = form.reduced;
    std::string out = fmt::format("{}: {} states, {} iterates\n\n{:<18} {:>9}  result\n", data_->name, n_states(), n_iterates(), "pass", "ms");
    for (const PassRecord& p : r.system.record) out += fmt::format("{:<18} {:>9.3f}  {}\n", p.pass, 1e3 * p.seconds, p.result);
    const WrittenModel& written = form.as_written();
    std::size_t unknown = static_cast<std::size_t>(std::count(form.written.begin(), form.written.end(), kNoNode));
    out += fmt::format("\nas written, for run --verify: {} equations, {} lets, {} inits{}\n", written.equations.size(), written.views.size(),
                       written.inits.size(), unknown == 0 ? "" : fmt::format("; {} derivatives in them are not worked out", unknown));
    out += "\nstates:";
    constexpr std::size_t kMostShown = 40;
    for (std::size_t i = 0; i < r.states.size() && i < kMostShown; ++i) out += " " + variable_name(*data_->model, r.states[i]);
    if (r.states.size() > kMostShown) out += fmt::format(" and {} more", r.states.size() - kMostShown);
    for (std::size_t i = 0; i < r.choices.size() && i < kMostShown; ++i) {
        out += fmt::format("\nchosen while the run goes on: {} of", r.choices[i].n_states());
        for (const auto& [quantity, highest] : r.choices[i].candidates)
            for (std::uint32_t k = 0; k < highest; ++k) out += " " + variable_name(*data_->model, {quantity, k});
    }
    out += "\n\nblocks that are solved together or by iteration:\n";
    bool any = false;
    for (const SolveBlock& b : r.blocks) {
        if (b.equations.size() == 1 && b.iterates.empty()) continue;
        any = true;
        out += fmt::format("  block of {}: {}", b.equations.size(), form_of_block(b));
        for (std::uint32_t u : b.iterates) out += " " + variable_name(*data_->model, r.unknowns[u]);
        out += "\n";
        for (std::size_t i = 0; i < b.equations.size() && i < 30; ++i) {
            const ReducedEquation& e = r.equations[b.equations[i]];
            const FlatEquation& f = form.flat().equations[e.flat];
            std::string text = form.flat().equation_text(f);
            if (text.size() > 90) text = text.substr(0, 87) + "...";
            std::string where = form.flat().instances[f.origin.instance], place = place_text(data_->sources, f.origin.span);
            out += fmt::format("    {}{}{}{}\n", place.empty() ? "" : place + ": ", where.empty() ? "" : where + ": ", text,
                               e.differentiated > 0 ? fmt::format("   (differentiated {} times)", e.differentiated) : "");
        }
        if (b.equations.size() > 30) out += fmt::format("    ... and {} more\n", b.equations.size() - 30);
    }
    if (!any) out += "  none: everything is explicit\n";
    out += "\nkernels (equations of one shape are evaluated together; each counts once in the code):\n";
    const CompiledModel& m = *data_->model;
    for (const auto& [name, program] :
         {std::pair{"residual", &m.residual}, {"Jacobian", &m.jacobian}, {"conditions", &m.conditions}, {"outputs", &m.outputs}}) {
        if (program->kernels.empty()) continue;
        out += fmt::format("  {:<10} {} in all", name, fmt::format("{} operations", program->n_operations()));
        std::size_t straight = 0;
        for (const Kernel& k : program->kernels) {
            if (k.n_instances > 1)
                out += fmt::format("; {} x {} instances", k.code.size(), k.n_instances);
            else
                straight += k.code.size();
        }
        if (straight > 0 && straight < program->n_operations()) out += fmt::format("; {} written out", straight);
        out += "\n";
    }
    return out;
}

}  // namespace netloop

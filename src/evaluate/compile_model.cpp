// SPDX-License-Identifier: Apache-2.0
// From the flat model to a compiled one: the passes of compile/pipeline.hpp, the programs, and which systems a model needs at all: one, one with another for
// params that are zero, or a family.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "compile/parameters.hpp"
#include "compile/passes.hpp"
#include "compile/pipeline.hpp"
#include "evaluate/c_source.hpp"
#include "evaluate/compiled_model.hpp"

namespace netloop {
namespace {

constexpr std::string_view kFirst = "settle params", kLocated = "locate conditions", kBehindLocated = "remove aliases", kOrdered = "order blocks",
                           kLast = "make solver form";

// Names of forms for `check --show`, beside those of the passes: the pass behind which each stands.
constexpr std::pair<std::string_view, std::string_view> kStages[] = {
    {"flat", "settle params"}, {"system", "remove aliases"}, {"reduced", "tear blocks"}, {"solver", "make solver form"}};

std::string_view pass_of_stage(std::string_view stage)
{
    for (const auto& [name, pass] : kStages)
        if (name == stage) return pass;
    return stage;
}

class Driver {
public:
    /// `stage`: where to stop and what to show; empty: nowhere.
    Driver(Diagnostics& diagnostics, std::string stage) : diagnostics_(diagnostics), stage_(std::move(stage)), stop_after_(pass_of_stage(stage_)) {}

    // Null where a stage was to be shown. Throws CompilationStopped.
    std::shared_ptr<CompiledModel> run(std::unique_ptr<FlatModel> flat)
    {
        Compilation c{.diagnostics = diagnostics_, .flat = std::move(flat)};
        if (!through(c, kFirst, kLocated)) return nullptr;
        if (!c.system.flat->switches.empty())
            if (auto family = look_for_variants(c.system)) return first_of(family, std::move(c.record));
        // with params that may be zero for all that is known, a second form is kept ready to be made
        const auto& params = c.system.flat->parameters;
        const Graph& g = c.system.graph();
        auto may_be_zero = [&](const FlatParameter& p) {
            bool above = p.low != kNoNode && g.is_constant(p.low) && g.value(p.low) > 0;
            bool below = p.high != kNoNode && g.is_constant(p.high) && g.value(p.high) < 0;
            return !above && !below && !p.boolean;
        };
        bool assumes = std::any_of(params.begin(), params.end(), may_be_zero), switches = reads_conditions(c.system);
        std::shared_ptr<const EquationSystem> base;
        if (stage_.empty() && (assumes || switches)) base = std::make_shared<const EquationSystem>(clone(c.system));
        c.system.may_assume = assumes;
        auto model = finish(c);
        if (model == nullptr || base == nullptr) return model;
        if (!model->form.reduced.system.assumed.empty()) {
            model->careful = std::make_shared<CarefulModel>();
            model->careful->base = base;
        }
        if (switches) {
            model->sliding = std::make_shared<SlidingModels>();
            model->sliding->base = base;
        }
        return model;
    }

    // From located conditions on.
    std::shared_ptr<CompiledModel> finish(EquationSystem system, bool variant)
    {
        Compilation c{.diagnostics = diagnostics_, .form = Compilation::Form::system, .system = std::move(system), .variant = variant};
        return finish(c);
    }

    const std::string& shown() const { return shown_; }

private:
    // Whether equations change with a condition that may follow from the motion.
    static bool reads_conditions(const EquationSystem& system)
    {
        if (system.conditions.empty()) return false;
        const Graph& g = system.flat->graph;
        std::vector<NodeId> roots;
        for (const FlatEquation& e : system.flat->equations) roots.push_back(e.left), roots.push_back(e.right);
        std::vector<NodeId> below = g.reachable(roots);
        return std::any_of(below.begin(), below.end(), [&](NodeId id) { return g[id].op == Op::mode; });
    }
    bool through(Compilation& c, std::string_view first, std::string_view last)
    {
        if (run_passes(c, first, last, stop_after_)) return true;
        show(c.text());
        return false;
    }
    void show(std::string text) { shown_ = text.empty() ? "(nothing)\n" : std::move(text); }

    std::shared_ptr<CompiledModel> finish(Compilation& c)
    {
        if (!through(c, kBehindLocated, kLast)) return nullptr;
        auto begun = std::chrono::steady_clock::now();
        std::shared_ptr<CompiledModel> model = build_programs(std::move(c.solver));
        std::chrono::duration<double> took = std::chrono::steady_clock::now() - begun;
        c.record.push_back(
            {"lower",
             fmt::format("residual {} operations in {}, Jacobian {} operations, {} entries", model->residual.n_operations(),
                         counted(model->residual.kernels.size(), "kernel", "kernels"), model->jacobian.n_operations(), model->pattern.n_entries()),
             took.count()});
        model->form.reduced.system.record = std::move(c.record);
        model->impact = std::move(c.impact);
        // what is one value here may be two in another of the family
        if (c.variant)
            for (std::uint32_t i = 0; i < model->alias_of.size(); ++i) model->alias_of[i] = i;
        if (stage_ == "program") return show(model->residual.text() + model->jacobian.text()), nullptr;
        if (stage_ == "source") return show(c_source_head() + c_source(model->residual) + c_source(model->jacobian)), nullptr;
        return model;
    }

    // Goes once through the passes with all branches open; null if one system will do for all values of the switches.
    std::shared_ptr<VariantFamily> look_for_variants(const EquationSystem& system)
    {
        std::vector<std::uint32_t> structural;
        Diagnostics quiet;
        try {
            Compilation open{.diagnostics = quiet, .form = Compilation::Form::system, .system = clone(system)};
            run_passes(open, kBehindLocated, kOrdered);
            structural = find_structural_switches(open.reduced);
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
    std::shared_ptr<CompiledModel> first_of(const std::shared_ptr<VariantFamily>& family, std::vector<PassRecord> record)
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
            Driver driver(quiet, stage_);
            try {
                EquationSystem system = clone(family->base);
                fix_switches(system, family->switches, key);
                auto model = driver.finish(std::move(system), true);
                if (model == nullptr) {
                    shown_ = driver.shown();
                    return nullptr;
                }
                std::vector<PassRecord>& own = model->form.reduced.system.record;
                own.insert(own.begin(), record.begin(), record.end());
                own.push_back(
                    {"variants", counted(n, "condition changes", "conditions change") + " the kind of equations: systems are made as they are met", 0});
                model->family = family;
                model->key = family->first_key = key;
                if (reads_conditions(family->base)) {
                    model->sliding = std::make_shared<SlidingModels>();
                    model->sliding->base = {family, &family->base};
                    model->sliding->switches = family->switches;
                }
                return model;
            } catch (const CompilationStopped&) {
            }
        }
        EquationSystem system = clone(family->base);
        fix_switches(system, family->switches, keys[0]);
        return finish(std::move(system), true);  // reports
    }

    Diagnostics& diagnostics_;
    std::string stage_;
    std::string_view stop_after_;
    std::string shown_;
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
        auto model = Driver(diagnostics, "").finish(std::move(system), true);
        model->key = key;
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
    if (made != nullptr) return made;
    auto model = Driver(diagnostics, "").finish(clone(*base), false);
    if (model == nullptr) return nullptr;
    model->sliding = std::make_shared<SlidingModels>();
    model->sliding->base = base;
    return made = model;
}

std::shared_ptr<const CompiledModel> SlidingModels::get(const std::vector<char>& key, const std::vector<std::uint32_t>& conditions)
{
    std::lock_guard guard(lock);
    auto [it, fresh] = made.emplace(std::pair{key, conditions}, nullptr);
    if (!fresh) return it->second;
    Diagnostics diagnostics;
    try {
        EquationSystem system = clone(*base);
        if (!switches.empty()) fix_switches(system, switches, key);
        std::vector<std::string> names;
        for (std::uint32_t c : conditions) {
            names.push_back(share_name(system, c));
            slide_along(system, c);
        }
        auto model = Driver(diagnostics, "").finish(std::move(system), true);
        if (model == nullptr) return nullptr;
        model->key = key;
        model->slides = conditions;
        for (std::uint32_t c : conditions) {  // no equation reads them any more, and the system depends on them all the same
            model->events.idle[c] = 0;
            model->events.only_in[c].clear();
            model->events.mode_in_equations[c] = 1;
        }
        for (const std::string& name : names)
            for (std::uint32_t i = 0; i < model->form.outputs.size(); ++i)
                if (model->form.outputs[i].path == name) model->share_output.push_back(i);
        it->second = model;
    } catch (const CompilationStopped&) {
        // it stays known that there is none
    }
    return it->second;
}

std::shared_ptr<const CompiledModel> compile_model(std::unique_ptr<FlatModel> flat, Diagnostics& diagnostics)
{
    try {
        return Driver(diagnostics, "").run(std::move(flat));
    } catch (const CompilationStopped&) {
        return nullptr;
    }
}

std::vector<std::string> stage_names()
{
    std::vector<std::string> names;
    for (const auto& [name, pass] : kStages) names.emplace_back(name);
    names.insert(names.end(), {"program", "source"});
    for (const Pass& p : passes()) names.emplace_back(p.name);
    return names;
}

std::string show_stage(std::unique_ptr<FlatModel> flat, const std::string& stage, Diagnostics& diagnostics)
{
    Driver driver(diagnostics, stage);
    try {
        driver.run(std::move(flat));
    } catch (const CompilationStopped&) {
        return {};
    }
    return driver.shown();
}

}  // namespace netloop

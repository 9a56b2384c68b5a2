// SPDX-License-Identifier: Apache-2.0
#include "compile/pipeline.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <stdexcept>
#include <utility>

#include "base/verifies_all.hpp"
#include "compile/parameters.hpp"
#include "compile/passes.hpp"

namespace netloop {

std::string counted(std::size_t n, const char* one, const char* many)
{
    return fmt::format("{} {}", n, n == 1 ? one : many);
}

namespace {

using C = Compilation;

// --- what each pass has left, for the record

std::string told_params(const C& c)
{
    return counted(c.flat->parameters.size(), "param", "params");
}
std::string told_begin(const C& c)
{
    return fmt::format("{} equations, {} quantities", c.system.flat->equations.size(), c.system.flat->quantities.size());
}
std::string told_conditions(const C& c)
{
    return fmt::format("{} located conditions", c.system.conditions.size());
}
std::string told_aliases(const C& c)
{
    return fmt::format("{} equations left of {}", c.system.equations.size(), c.system.flat->equations.size());
}
std::string told_structure(const C&)
{
    return "as many equations as unknowns";
}
std::string told_index(const C& c)
{
    const ReducedSystem& r = c.reduced;
    return fmt::format("{} states, {} equations{}", r.n_states(), r.equations.size(),
                       r.choices.empty() ? "" : ", " + counted(r.choices.size(), "set", "sets") + " of states that the run chooses among");
}
std::string told_blocks(const C& c)
{
    std::size_t largest = 0;
    for (const SolveBlock& b : c.reduced.blocks) largest = std::max(largest, b.equations.size());
    return fmt::format("{}, the largest of {}", counted(c.reduced.blocks.size(), "block", "blocks"), largest);
}
std::string told_tearing(const C& c)
{
    std::size_t iterates = 0, linear = 0, symbolic = 0;
    for (const SolveBlock& b : c.reduced.blocks) {
        iterates += b.iterates.size();
        linear += b.form == SolveBlock::Form::linear;
        symbolic += b.form == SolveBlock::Form::symbolic;
    }
    return fmt::format("{}; {}, {} more solved on paper", counted(iterates, "iterate", "iterates"), counted(linear, "linear block", "linear blocks"), symbolic);
}
std::string told_solver(const C& c)
{
    return fmt::format("z of {}, {} explicit assignments", c.solver.z.size(), c.solver.n_explicit);
}

constexpr Pass kPasses[] = {
    {"settle params", "params in an order in which they settle each other; those that the start has to find become quantities", C::Form::flat,
     [](C& c) {
         order_parameters(*c.flat, &c.diagnostics);
         if (!c.diagnostics.has_errors()) free_found_parameters(*c.flat);
     },
     told_params},
    {"begin", "rates of expressions are expanded", C::Form::system, [](C& c) { c.system = begin_system(std::move(c.flat), c.diagnostics); }, told_begin},
    {"locate conditions", "comparisons become modes that are held between events", C::Form::system, [](C& c) { locate_conditions(c.system); }, told_conditions},
    {"remove aliases", "equal, opposite and known quantities are put in place of each other", C::Form::system, [](C& c) { remove_aliases(c.system); },
     told_aliases},
    {"check structure", "equations that are too many, and unknowns that nothing settles, are told", C::Form::system,
     [](C& c) { check_structure(c.system, c.diagnostics); }, told_structure},
    {"reduce index", "equations are differentiated until they settle the highest derivatives; states are chosen", C::Form::reduced,
     [](C& c) { c.reduced = reduce_index(std::move(c.system), c.diagnostics); }, told_index},
    {"order blocks", "equations in the order in which they settle unknowns", C::Form::reduced, [](C& c) { order_blocks(c.reduced, c.diagnostics); },
     told_blocks},
    {"tear blocks", "of each block a few unknowns are left to be iterated, the rest is explicit", C::Form::reduced, [](C& c) { tear_blocks(c.reduced); },
     told_tearing},
    {"make solver form", "residuals, start, events and outputs in terms of z and its rates", C::Form::solver,
     [](C& c) {
         if (c.variant) c.impact = make_impact(c.reduced);
         c.solver = make_solver_form(std::move(c.reduced));
     },
     told_solver},
};

}  // namespace

std::span<const Pass> passes()
{
    return kPasses;
}

std::string Compilation::text() const
{
    switch (form) {
        case Form::flat:
            return flat->text();
        case Form::system:
            return text_of(system);
        case Form::reduced:
            return text_of(reduced);
        case Form::solver:
            break;
    }
    return solver.text();
}

std::string Compilation::fault() const
{
    switch (form) {
        case Form::flat:
            return fault_of(*flat);
        case Form::system: {
            bool removed = std::any_of(record.begin(), record.end(), [](const PassRecord& p) { return p.pass == "remove aliases"; });
            return fault_of(system, removed);
        }
        case Form::reduced:
            return fault_of(reduced);
        case Form::solver:
            break;
    }
    return fault_of(solver);
}

bool run_passes(Compilation& c, std::string_view first, std::string_view last, std::string_view stop_after)
{
    auto named = [](std::string_view name) { return std::find_if(std::begin(kPasses), std::end(kPasses), [&](const Pass& p) { return p.name == name; }); };
    const Pass *pass = named(first), *end = named(last);
    if (pass > end || end == std::end(kPasses)) throw std::logic_error(fmt::format("no passes lead from '{}' to '{}'", first, last));
    for (; pass <= end; ++pass) {
        auto begun = std::chrono::steady_clock::now();
        pass->run(c);
        std::chrono::duration<double> took = std::chrono::steady_clock::now() - begun;
        if (c.diagnostics.has_errors()) throw CompilationStopped{};
        c.form = pass->leaves;
        c.record.push_back({std::string(pass->name), pass->result(c), took.count()});
        if (verifies_all())
            if (std::string fault = c.fault(); !fault.empty()) throw std::logic_error(fmt::format("after the pass '{}': {}", pass->name, fault));
        if (pass->name == stop_after) return false;
    }
    return true;
}

}  // namespace netloop

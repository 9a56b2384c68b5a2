// SPDX-License-Identifier: Apache-2.0
#include "solve/start.hpp"

#include <fmt/format.h>

#include <Eigen/SparseLU>
#include <algorithm>
#include <cmath>
#include <memory>
#include <numbers>
#include <string_view>
#include <unordered_map>

#include "solve/explain.hpp"
#include "solve/failure.hpp"
#include "solve/start_system.hpp"

namespace netloop {
namespace {

using Row = StartSystem::Row;

class StartSolver {
public:
    StartSolver(Evaluation& evaluation, const SourceSet& sources, double time, const std::vector<double>& known)
        : e_(evaluation), m_(evaluation.model()), sources_(sources), s_(begin_state(evaluation, time))
    {
        if (m_.form.steady) look_before_steady(known);
        system_ = std::make_unique<StartSystem>(e_, s_, known);
    }

    State run(StartReport& report)
    {
        check_claims();
        system_->choose_by_matching();
        settle_modes(e_, s_);
        State begin = s_;
        std::vector<double> modes = modes_now();
        try {
            for (int round = 0;; ++round) {
                iterate();
                if (settle_modes(e_, s_) == 0) break;
                if (round > 50)
                    throw NumericFailure("start-failed", fmt::format("the start switches back and forth between conditions: {}", switching()),
                                         "give start values that are clearly on one side");
            }
        } catch (const NumericFailure&) {
            if (!search_modes(begin, modes)) throw;
        }
        check_still();
        check_ranges();
        check_redundant(report);
        tell(report);
        e_.at(s_.time, s_.z.data(), s_.rates.data());
        e_.choose_states();
        return s_;
    }

private:
    std::vector<double> modes_now() const
    {
        std::vector<double> modes(m_.form.conditions.size());
        for (std::size_t i = 0; i < modes.size(); ++i) modes[i] = e_.mode(i);
        return modes;
    }

    // Where conditions turned one after another lead to no start: those that follow from the solution are turned together, one, two or three of them, until a
    // solution fits all conditions (as Events::turn_together does behind events).
    bool search_modes(const State& begin, const std::vector<double>& modes)
    {
        constexpr std::size_t kMostTries = 300;
        std::vector<std::uint32_t> free;
        for (std::uint32_t i = 0; i < modes.size(); ++i) {
            const Condition& c = m_.form.conditions[i];
            if (!c.is_clocked() && !c.held && c.kind != Condition::Kind::whole && m_.events.idle[i] == 0 && m_.events.mode_in_equations[i] != 0)
                free.push_back(i);
        }
        std::size_t tries = 0;
        auto fits = [&](std::initializer_list<std::uint32_t> turned) {
            if (++tries > kMostTries) return false;
            for (std::size_t i = 0; i < modes.size(); ++i) e_.set_mode(i, modes[i]);
            for (std::uint32_t i : turned) e_.set_mode(i, 1 - modes[i]);
            s_ = begin;
            system_->choose_by_matching();
            if (system_->solve(system_->whole(), false).outcome != NewtonResult::Outcome::converged) return false;
            return settle_modes(e_, s_) == 0;
        };
        for (std::size_t i = 0; i < free.size(); ++i)
            if (fits({free[i]})) return true;
        for (std::size_t i = 0; i < free.size(); ++i)
            for (std::size_t j = i + 1; j < free.size(); ++j)
                if (fits({free[i], free[j]})) return true;
        for (std::size_t i = 0; i < free.size(); ++i)
            for (std::size_t j = i + 1; j < free.size(); ++j)
                for (std::size_t k = j + 1; k < free.size(); ++k)
                    if (fits({free[i], free[j], free[k]})) return true;
        s_ = begin;
        return false;
    }

    // A steady state is searched from the start that the inits give, where forces and flows have values that fit; if there is none,
    // from where the searches begin.
    void look_before_steady(const std::vector<double>& known)
    {
        State begin = s_;
        try {
            system_ = std::make_unique<StartSystem>(e_, s_, known, true);
            system_->choose_by_matching();
            settle_modes(e_, s_);
            for (int round = 0; round < 10; ++round) {
                iterate();
                if (settle_modes(e_, s_) == 0) return;
            }
        } catch (const NumericFailure&) {
        }
        s_ = begin;
    }

    static State begin_state(Evaluation& e, double time)
    {
        State s;
        s.time = time;
        e.search_start(s.z, s.rates);
        return s;
    }

    std::string describe_column(std::uint32_t column) const
    {
        if (column < system_->n_z()) return describe_z(m_, column, s_.z[column]);
        std::uint32_t state = system_->state_of(column);
        return fmt::format("the rate of '{}' = {:g}", variable_name(m_, m_.form.z[state].variable), s_.rates[state]);
    }

    // What a claim is made of, by its path: a quantity or a let.
    const Unit* claimed_unit(const StartEquation& s) const
    {
        if (units_.empty()) {
            const FlatModel& flat = m_.form.flat();
            auto add = [&](const auto& list) {
                for (const auto& q : list)
                    if (!q.boolean) units_.emplace(q.path, &q.unit);
            };
            add(flat.quantities);
            add(flat.views);
        }
        auto found = units_.find(std::string_view(s.text).substr(0, s.text.find(" = ")));
        return found == units_.end() ? nullptr : found->second;
    }
    static std::string with_unit(const Unit& unit, double value)
    {
        return fmt::format("{:.6g}{}", unit.from_si(value), unit.text.empty() || unit.text == "1" ? "" : " " + unit.text);
    }

    // "oil.T = 20 degC", "pump.temperature = oil46.temperature (20 degC)": what is claimed, with the value it has; of a long expression that value alone.
    std::string claim_text(const StartEquation& s) const
    {
        constexpr std::size_t kReadable = 70;
        const Graph& graph = m_.form.reduced.system.flat->graph;
        const Node& left = graph[s.left];
        bool constant = graph.is_constant(s.right);
        const Unit* unit = claimed_unit(s);
        if (unit == nullptr || (left.op != Op::unknown && !constant)) return s.text;
        std::string shown = with_unit(*unit, constant ? graph.value(s.right) : s_.z[left.a]), path = s.text.substr(0, s.text.find(" = "));
        return constant || s.text.size() > kReadable ? fmt::format("{} = {}", path, shown) : fmt::format("{} ({})", s.text, shown);
    }

    // An init beyond the declared range of what it is put on (of anything that is one with it) cannot be met, wherever the search begins.
    void check_claims() const
    {
        const Graph& graph = m_.form.reduced.system.flat->graph;
        for (const StartEquation& s : m_.form.start) {
            if (s.claim == StartEquation::Claim::guess || !graph.is_constant(s.right)) continue;
            double v = graph.value(s.right);
            for (const FlatLimit& l : m_.form.events.limits) {
                if (l.value != s.left || !graph.is_constant(l.low) || !graph.is_constant(l.high)) continue;
                double low = graph.value(l.low), high = graph.value(l.high);
                if (v >= low && v <= high) continue;
                std::string place = place_text(sources_, s.origin.span);
                throw NumericFailure("start-failed",
                                     fmt::format("{}{}init {} cannot be met\n      {}", place, place.empty() ? "" : ": ", claim_text(s),
                                                 describe_outside(m_.form.flat(), l, sources_, v, low, high)),
                                     "give a start value within the range");
            }
        }
    }

    void tell(StartReport& report) const
    {
        for (std::uint32_t r : system_->chosen()) {
            const Row& row = system_->rows()[r];
            report.taken.push_back(row);
            if (row.kind == Row::Kind::hold && !is_found(row.index)) report.held.push_back(describe_column(row.index));
            if (row.kind != Row::Kind::condition) continue;
            const StartEquation& s = m_.form.start[row.index];
            if (s.claim == StartEquation::Claim::guess) report.assumed.push_back(claim_text(s));
            if (s.claim == StartEquation::Claim::init && m_.form.steady) report.left_open.push_back(claim_text(s));
        }
        constexpr std::size_t kMostSearched = 6;
        for (std::size_t k = 0; k < searched_.size() && k < kMostSearched; ++k)
            report.assumed.push_back(describe_column(searched_[k]) + ", where a loop closes; it may in another way, too: a guess of it decides");
        // by the quantity that each param to be found has become, which need not be a member of z
        const auto& quantities = m_.form.flat().quantities;
        bool any = std::any_of(quantities.begin(), quantities.end(), [](const FlatQuantity& q) { return q.found; });
        if (any) e_.outputs();
        for (QuantityId q = 0; any && q < quantities.size(); ++q)
            if (quantities[q].found)
                report.found.push_back(fmt::format("'{}' = {:.6g}{}", quantities[q].path, quantities[q].unit.from_si(e_.own_output(q)),
                                                   quantities[q].unit.text.empty() || quantities[q].unit.text == "1" ? "" : " " + quantities[q].unit.text));
    }
    bool is_found(std::uint32_t column) const { return column < m_.n() && m_.form.flat().quantities[m_.form.z[column].variable.quantity].found; }

    // A loop that closes nowhere near where its search begins (links that all lie level) sends angles far away, to where they mean nothing.
    bool ran_away(const State& begin) const
    {
        constexpr double kFar = 100;  // rad
        for (std::size_t i = 0; i < m_.n(); ++i)
            if (m_.form.z[i].angle && !(std::abs(s_.z[i] - begin.z[i]) < kFar)) return true;
        return false;
    }

    int iterate()
    {
        State begin = s_;
        bool angles = std::any_of(m_.form.z.begin(), m_.form.z.end(), [](const ZEntry& z) { return z.angle; });
        int iterations = 0;
        try {
            iterations = iterate_as_it_is();
        } catch (const NumericFailure&) {
            State there = s_;
            StartSystem::Choice choice = system_->choice();
            if (!angles || !search_angles(begin)) {
                s_ = there;
                system_->choose(std::move(choice));
                throw;
            }
            return iterations;
        }
        if (!ran_away(begin)) return iterations;
        State there = s_;
        StartSystem::Choice choice = system_->choice();
        if (search_angles(begin)) return iterations;
        s_ = there;
        system_->choose(std::move(choice));
        return iterations;
    }

    // From angles turned by scattered amounts, in short steps, until a loop closes close by. What is given is not turned.
    bool search_angles(const State& begin)
    {
        constexpr int kTries = 24;
        constexpr double kGolden = 0.6180339887498949;
        system_->choose_by_matching();
        std::vector<char> given(m_.n(), 0);
        system_->evaluate();
        for (std::uint32_t r : system_->chosen()) {
            auto values = system_->row_values(r);
            if (system_->rows()[r].kind == Row::Kind::condition && values.size() == 1 && values[0].first < m_.n()) given[values[0].first] = 1;
        }
        system_->bound_angles(true);
        bool found = false;
        for (int k = 1; k <= kTries && !found; ++k) {
            s_ = begin;
            std::vector<std::uint32_t> turned;
            for (std::uint32_t i = 0; i < m_.n(); ++i) {
                if (!m_.form.z[i].angle || given[i] != 0) continue;
                double share = std::fmod(kGolden * k * (turned.size() + 1.0) + 0.25 * static_cast<double>(turned.size()), 1.0) - 0.5;
                s_.z[i] = std::clamp(begin.z[i] + 2 * std::numbers::pi * share, m_.form.z[i].low, m_.form.z[i].high);
                turned.push_back(i);
            }
            if (turned.empty()) break;
            State scattered = s_;
            system_->choose_by_matching();
            NewtonResult result = system_->solve(system_->whole(), false);
            if (result.outcome == NewtonResult::Outcome::singular) {
                s_ = scattered;
                if (system_->choose_by_rank()) result = system_->solve(system_->whole(), false);
            }
            found = result.outcome == NewtonResult::Outcome::converged && !ran_away(begin) && surplus_agrees();
            if (found) searched_ = std::move(turned);
        }
        system_->bound_angles(false);
        return found;
    }

    // First all at once. If that fails: chosen anew by rank if it was singular, then block by block, each by continuation if need be.
    int iterate_as_it_is()
    {
        if (m_.n() == 0) return 0;
        State begin = s_;
        NewtonResult result = system_->solve(system_->whole(), false);
        if (result.outcome == NewtonResult::Outcome::converged) return result.iterations;
        s_ = begin;  // a search that ran away has left its numbers where nothing depends on anything
        if (result.outcome == NewtonResult::Outcome::singular) {
            // What is singular here alone may be a matter of where the search begins (a force that grows with the square of a speed that is
            // 0), or of the inits: those that agree with each other can be dependent at the very point that they give (a rod that lies level).
            // The choice by rank is kept in the first case only if it leads to a start that meets all inits.
            bool here_alone = independent_elsewhere();
            StartSystem::Choice before = system_->choice();
            if (system_->choose_by_rank()) {
                s_ = begin;
                NewtonResult again = system_->solve(system_->whole(), false);
                bool good = again.outcome == NewtonResult::Outcome::converged && (!here_alone || surplus_agrees());
                if (good) return result.iterations + again.iterations;
                if (here_alone) system_->choose(std::move(before));
            }
            if (!here_alone && !system_->deficient().empty() && singular_everywhere()) fail_deficient();
        }
        s_ = begin;
        return result.iterations + block_by_block();
    }

    // Moves everything by scattered amounts, for a look at what holds not only here.
    void scatter()
    {
        for (std::size_t i = 0; i < m_.n(); ++i) {
            const ZEntry& z = m_.form.z[i];
            double share = 0.2 + 0.6 * std::fmod(0.6180339887 * static_cast<double>(i + 1), 1.0);
            s_.z[i] = std::clamp(s_.z[i] + share * z.usual, z.low, z.high);
        }
    }
    bool independent_elsewhere()
    {
        State here = s_;
        scatter();
        bool independent = system_->chosen_are_independent();
        s_ = here;
        return independent;
    }
    bool singular_everywhere()
    {
        State here = s_;
        scatter();
        system_->choose_by_rank();
        bool everywhere = !system_->deficient().empty();
        s_ = here;
        return everywhere;
    }

    int block_by_block()
    {
        int iterations = 0;
        for (const StartSystem::Block& block : system_->blocks()) {
            State begin = s_;
            NewtonResult result = system_->solve(block, false), first = result;
            iterations += result.iterations;
            State best = s_;
            auto again = [&](bool continuation) {
                result = system_->solve(block, continuation);
                iterations += result.iterations;
                return result.outcome == NewtonResult::Outcome::converged;
            };
            bool solved = result.outcome == NewtonResult::Outcome::converged;
            if (!solved) {
                s_ = begin;
                solved = again(true);
            }
            for (int attempt = 0; !solved; ++attempt) {
                s_ = begin;
                if (!system_->shift(block, attempt)) break;
                State shifted = s_;
                solved = again(false);
                if (solved) break;
                s_ = shifted;
                solved = again(true);
            }
            if (!solved) {
                s_ = best;
                fail(block, first);
            }
        }
        return iterations;
    }

    std::string row_text(std::uint32_t r) const
    {
        const Row& row = system_->rows()[r];
        switch (row.kind) {
            case Row::Kind::model:
                return describe_residual(m_, sources_, row.index);
            case Row::Kind::condition: {
                const StartEquation& s = m_.form.start[row.index];
                std::string place = place_text(sources_, s.origin.span);
                const char* what = s.claim == StartEquation::Claim::guess ? "guess" : s.claim == StartEquation::Claim::find ? "find ... so that" : "init";
                return fmt::format("{}{} {}", place.empty() ? "" : place + ": ", what, claim_text(s));
            }
            case Row::Kind::still:
                return "steady start: " +
                       (row.index < m_.n() ? "'" + variable_name(m_, m_.form.z[row.index].variable) + "'"
                                           : "the rate of '" + variable_name(m_, m_.form.z[system_->state_of(row.index)].variable) + "'") +
                       " = 0";
            default:
                return "a held start value";
        }
    }

    [[noreturn]] void fail_deficient()
    {
        system_->evaluate();
        std::uint32_t first = system_->deficient()[0];
        std::string text =
            "the equations are singular in numbers at the start: they do not settle all they should\n      one that says nothing new: " + row_text(first);
        if (system_->rows()[first].kind == Row::Kind::model)
            for (const std::string& other : describe_substituted(m_, sources_, system_->rows()[first].index)) text += "\n      with it: " + other;
        for (std::size_t k = 0; k < system_->repeated().size() && k < 5; ++k) text += "\n      it repeats: " + row_text(system_->repeated()[k]);
        std::vector<std::string> open;
        for (const auto& [c, v] : system_->row_values(first)) {
            if (c >= m_.n() || open.size() > 8) continue;
            std::string name = "'" + variable_name(m_, m_.form.z[c].variable) + "'";
            if (std::find(open.begin(), open.end(), name) == open.end()) open.push_back(name);
        }
        if (!open.empty()) text += fmt::format("\n      in it: {}", fmt::join(open, ", "));
        throw NumericFailure("start-singular", text, "usual causes: a param that is 0, two ideal sources tied together, a circuit with no reference");
    }

    // Names the block that cannot be solved: its unknowns, and its equations with values and what they are off by, worst first.
    [[noreturn]] void fail(const StartSystem::Block& block, const NewtonResult& result)
    {
        std::vector<std::size_t> worst(block.rows.size());
        for (std::size_t i = 0; i < worst.size(); ++i) worst[i] = i;
        std::vector<double> size(block.rows.size());
        system_->evaluate();
        for (std::size_t i = 0; i < block.rows.size(); ++i) {
            double weight = 1e-300;
            for (const auto& [c, v] : system_->row_values(block.rows[i])) weight = std::max(weight, std::abs(v) * system_->scale(c));
            double r = i < result.residual.size() ? result.residual[i] : 0;
            size[i] = std::isfinite(r) ? std::abs(r) / weight : HUGE_VAL;
        }
        std::stable_sort(worst.begin(), worst.end(), [&](std::size_t a, std::size_t b) { return size[a] > size[b]; });
        const char* cause = result.outcome == NewtonResult::Outcome::singular     ? "the equations lose their rank on the way"
                            : result.outcome == NewtonResult::Outcome::not_finite ? "an equation has no finite value where the search begins"
                                                                                  : "the search does not come nearer to a solution";
        std::string text = fmt::format("no start values are found: {} (after {} steps)", cause, result.iterations);
        std::string unknowns;
        for (std::size_t i = 0; i < block.columns.size() && i < 6; ++i) unknowns += (i > 0 ? ", " : "") + describe_column(block.columns[i]);
        text += fmt::format("\n      block of {}, wanted: {}{}", block.columns.size(), unknowns, block.columns.size() > 6 ? ", ..." : "");
        for (std::uint32_t c : block.columns) {
            if (c >= m_.n()) continue;
            const ZEntry& z = m_.form.z[c];
            bool low = s_.z[c] <= z.low, high = s_.z[c] >= z.high;
            if (low || high) text += fmt::format("\n      {} is the {} end of its declared range", describe_z(m_, c, s_.z[c]), low ? "lower" : "upper");
        }
        for (std::size_t k = 0; k < worst.size() && k < 3; ++k) {
            std::size_t i = worst[k];
            if (k > 0 && size[i] < 1e-6) break;
            const Row& row = system_->rows()[block.rows[i]];
            std::string unit = row.kind == Row::Kind::model ? residual_unit(m_, row.index) : "";
            double off = i < result.residual.size() ? result.residual[i] : 0.0;
            if (const Unit* claimed = row.kind == Row::Kind::condition ? claimed_unit(m_.form.start[row.index]) : nullptr) {
                unit = claimed->difference().text == "1" ? "" : claimed->difference().text;
                off /= claimed->scale;
            }
            text += fmt::format("\n      {}: off by {:.3g}{}", row_text(block.rows[i]), off, unit.empty() ? "" : " " + unit);
            if (row.kind != Row::Kind::model) continue;
            text += "\n        with " + describe_operands(m_, row.index, s_.z);
            for (const std::string& other : describe_substituted(m_, sources_, row.index)) text += "\n        and " + other;
            if (std::isfinite(result.residual[i])) continue;
            std::string what = describe_not_finite(e_, sources_, s_.time, s_.z.data(), s_.rates.data());
            if (!what.empty()) text += "\n      no finite value: " + what;
        }
        throw NumericFailure("start-failed", text,
                             result.outcome == NewtonResult::Outcome::not_finite
                                 ? "look at the params in this equation; if they are meant so, give its quantities start values at which it has a value"
                                 : "give a guess near the solution to one of these quantities: guess path = value");
    }

    // What the equations themselves move cannot be asked to stand still.
    void check_still()
    {
        if (!m_.form.steady) return;
        std::vector<char> chosen(system_->rows().size(), 0);
        for (std::uint32_t r : system_->chosen()) chosen[r] = 1;
        for (std::uint32_t r = 0; r < chosen.size(); ++r) {
            const Row& row = system_->rows()[r];
            if (chosen[r] || row.kind != Row::Kind::still || std::abs(system_->value(row.index)) <= 1e-6 * system_->scale(row.index)) continue;
            std::string text = fmt::format("the start cannot stand still: {} cannot stand still", describe_column(row.index));
            for (std::uint32_t other : system_->chosen()) {
                if (system_->rows()[other].kind != Row::Kind::model) continue;
                for (const auto& [c, v] : system_->row_values(other))
                    if (c == row.index && v != 0 && text.size() < 1000) text += "\n      in " + row_text(other);
            }
            throw NumericFailure("start-failed", text, "exempt it: begin steady except ..., or give what drives it another value");
        }
    }

    // A solution outside a declared range is none.
    void check_ranges() const
    {
        for (std::uint32_t i = 0; i < m_.n(); ++i) {
            const ZEntry& z = m_.form.z[i];
            double slack = 1e-6 * z.usual;
            if (s_.z[i] >= z.low - slack && s_.z[i] <= z.high + slack) continue;
            if (is_found(i))
                throw NumericFailure("start-failed", fmt::format("what is to be found lies outside its range: {}", describe_z(m_, i, s_.z[i])),
                                     "widen the range, or ask for a value that can be reached");
            throw NumericFailure("start-failed", "the start lies outside a declared range: " + describe_outside(m_, sources_, i, s_.z[i]),
                                 "give a start value within the range, or widen it");
        }
    }

    // An init that was not needed: by how much the start misses it, and whether that is within what is told as agreement.
    struct Surplus {
        double left = 0, right = 0;
        bool agrees = false;
    };
    Surplus surplus(std::uint32_t r)
    {
        const StartRow& row = m_.start_rows[system_->rows()[r].index];
        Surplus s{e_.value_at(row.left), e_.value_at(row.right)};
        double usual = 0;
        for (const auto& [c, v] : system_->row_values(r)) usual = std::max(usual, std::abs(v) * system_->scale(c));
        s.agrees = std::abs(e_.value_at(row.residual)) <= 1e-6 * std::max({usual, std::abs(s.left), std::abs(s.right), 1e-12});
        return s;
    }
    // Of a guess, and of an init at a steady start, nothing is demanded.
    bool is_demanded(std::uint32_t r) const
    {
        StartEquation::Claim claim = m_.form.start[system_->rows()[r].index].claim;
        return claim != StartEquation::Claim::guess && (claim != StartEquation::Claim::init || !m_.form.steady);
    }
    bool surplus_agrees()
    {
        e_.at(s_.time, s_.z.data(), s_.rates.data());
        system_->evaluate();
        const auto& redundant = system_->redundant();
        return std::all_of(redundant.begin(), redundant.end(), [this](std::uint32_t r) { return !is_demanded(r) || surplus(r).agrees; });
    }

    // The conditions that a surplus one contradicts: its gradient as a combination of those of the chosen rows, J^T w = g; those with a weight. Most weight
    // first.
    std::vector<std::uint32_t> what_decides(std::uint32_t surplus) const
    {
        const std::vector<std::uint32_t>& chosen = system_->chosen();
        auto n = static_cast<Eigen::Index>(system_->n_columns());
        if (n == 0 || chosen.size() != system_->n_columns()) return {};
        std::vector<Eigen::Triplet<double>> entries;
        Eigen::VectorXd g = Eigen::VectorXd::Zero(n), size(n);
        for (std::size_t k = 0; k < chosen.size(); ++k) {
            double largest = 1e-300;
            for (const auto& [c, v] : system_->row_values(chosen[k])) largest = std::max(largest, std::abs(v) * system_->scale(c));
            size[static_cast<Eigen::Index>(k)] = largest;
            for (const auto& [c, v] : system_->row_values(chosen[k]))
                entries.emplace_back(static_cast<int>(c), static_cast<int>(k), v * system_->scale(c) / largest);
        }
        for (const auto& [c, v] : system_->row_values(surplus)) g[c] += v * system_->scale(c);
        Eigen::SparseMatrix<double> transposed(n, n);
        transposed.setFromTriplets(entries.begin(), entries.end());
        Eigen::SparseLU<Eigen::SparseMatrix<double>> lu(transposed);
        if (lu.info() != Eigen::Success) return {};
        Eigen::VectorXd weights = lu.solve(g).cwiseAbs();
        std::vector<std::pair<double, std::uint32_t>> found;
        constexpr double kCounts = 1e-6;
        for (std::size_t k = 0; k < chosen.size(); ++k) {
            const Row& row = system_->rows()[chosen[k]];
            double w = weights[static_cast<Eigen::Index>(k)];
            bool told = row.kind == Row::Kind::condition || row.kind == Row::Kind::still || row.kind == Row::Kind::recorded;
            if (told && w > kCounts * weights.maxCoeff()) found.emplace_back(w, chosen[k]);
        }
        std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
        std::vector<std::uint32_t> rows;
        for (const auto& [w, row] : found) rows.push_back(row);
        return rows;
    }

    // Inits more than needed: fine if they agree with the rest, an error that names them if not.
    void check_redundant(StartReport& report)
    {
        e_.at(s_.time, s_.z.data(), s_.rates.data());
        system_->evaluate();
        for (std::uint32_t r : system_->redundant()) {
            if (!is_demanded(r)) continue;
            std::uint32_t i = system_->rows()[r].index;
            Surplus s = surplus(r);
            if (s.agrees) {
                report.agreed.push_back(claim_text(m_.form.start[i]));
                continue;
            }
            const Unit* unit = claimed_unit(m_.form.start[i]);
            auto shown = [&](double v) { return unit != nullptr ? with_unit(*unit, v) : fmt::format("{:.6g} (SI)", v); };
            std::string text = fmt::format("the start contradicts itself: {}: it would have to be {}, but the other conditions give {}", row_text(r),
                                           shown(s.right), shown(s.left));
            constexpr std::size_t kMost = 6;
            std::vector<std::uint32_t> others = what_decides(r);
            for (std::size_t k = 0; k < others.size() && k < kMost; ++k) text += "\n      with it: " + row_text(others[k]);
            if (others.size() > kMost) text += fmt::format("\n      and {} more", others.size() - kMost);
            throw NumericFailure("start-contradiction", text, "leave out one of these inits, or turn it into a guess");
        }
    }

    std::string switching() const
    {
        std::string text;
        for (const Condition& c : m_.form.conditions) {
            if (text.size() > 300) break;
            text += (text.empty() ? "" : ", ") + ("'" + c.text + "'");
        }
        return text;
    }

    Evaluation& e_;
    const CompiledModel& m_;
    const SourceSet& sources_;
    State s_;
    std::unique_ptr<StartSystem> system_;
    std::vector<std::uint32_t> searched_;                              ///< angles whose search began at scattered places
    mutable std::unordered_map<std::string_view, const Unit*> units_;  ///< by path, for texts; filled when first asked for
};

}  // namespace

State solve_start(Evaluation& evaluation, const SourceSet& sources, double time, StartReport& report, const std::vector<double>& known)
{
    return StartSolver(evaluation, sources, time, known).run(report);
}

}  // namespace netloop

#include "solve/start.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <memory>
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
        system_->choose_by_matching();
        settle_modes(e_, s_);
        for (int round = 0;; ++round) {
            report.iterations += iterate();
            if (settle_modes(e_, s_) == 0) break;
            if (round > 50)
                throw NumericFailure("start-failed", fmt::format("the start switches back and forth between conditions: {}", switching()),
                                     "give start values that are clearly on one side");
        }
        check_still();
        check_ranges();
        for (const FlatQuantity& q : m_.form.flat().quantities) quantities_.emplace(q.path, &q);
        check_redundant(report);
        tell(report);
        e_.at(s_.time, s_.z.data(), s_.rates.data());
        e_.choose_states();
        return s_;
    }

private:
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
        e.search_start(s.z);
        s.rates.assign(e.model().n(), 0.0);
        return s;
    }

    std::string describe_column(std::uint32_t column) const
    {
        if (column < system_->n_z()) return describe_z(m_, column, s_.z[column]);
        std::uint32_t state = system_->state_of(column);
        return fmt::format("the rate of '{}' = {:g}", variable_name(m_, m_.form.z[state].variable), s_.rates[state]);
    }

    // "oil.T = 20 degC", "pump.temperature = oil46.temperature (20 degC)": what is claimed, with the value it has; of a long expression that value alone.
    std::string claim_text(const StartEquation& s) const
    {
        constexpr std::size_t kReadable = 70;
        const Graph& graph = m_.form.reduced.system.flat->graph;
        const Node& left = graph[s.left];
        bool constant = graph.is_constant(s.right);
        std::size_t equals = s.text.find(" = ");
        auto found = quantities_.find(std::string_view(s.text).substr(0, equals));
        if (found == quantities_.end() || found->second->boolean || (left.op != Op::unknown && !constant)) return s.text;
        const Unit& unit = found->second->unit;
        double value = left.op == Op::unknown ? s_.z[left.a] : graph.value(s.right);
        std::string shown = fmt::format("{:.6g}{}", unit.from_si(value), unit.text.empty() || unit.text == "1" ? "" : " " + unit.text);
        return constant || s.text.size() > kReadable ? fmt::format("{} = {}", found->first, shown) : fmt::format("{} ({})", s.text, shown);
    }

    void tell(StartReport& report) const
    {
        for (std::uint32_t r : system_->chosen()) {
            const Row& row = system_->rows()[r];
            if (row.kind == Row::Kind::hold && !is_found(row.index)) report.held.push_back(describe_column(row.index));
            if (row.kind != Row::Kind::condition) continue;
            const StartEquation& s = m_.form.start[row.index];
            if (s.claim == StartEquation::Claim::guess) report.assumed.push_back(claim_text(s));
            if (s.claim == StartEquation::Claim::init && m_.form.steady) report.left_open.push_back(claim_text(s));
        }
        for (std::uint32_t i = 0; i < m_.n(); ++i)
            if (is_found(i)) report.found.push_back(describe_column(i));
    }
    bool is_found(std::uint32_t column) const { return column < m_.n() && m_.form.flat().quantities[m_.form.z[column].variable.quantity].found; }

    // First all at once. If that fails: chosen anew by rank if it was singular, then block by block, each by continuation if need be.
    int iterate()
    {
        if (m_.n() == 0) return 0;
        State begin = s_;
        NewtonResult result = system_->solve(system_->whole(), false);
        if (result.outcome == NewtonResult::Outcome::converged) return result.iterations;
        s_ = begin;  // a search that ran away has left its numbers where nothing depends on anything
        // what is singular here alone (a force that grows with the square of a speed that is 0) is a matter of where the search begins
        if (result.outcome == NewtonResult::Outcome::singular && !independent_elsewhere()) {
            if (system_->choose_by_rank()) {
                s_ = begin;
                NewtonResult again = system_->solve(system_->whole(), false);
                if (again.outcome == NewtonResult::Outcome::converged) return result.iterations + again.iterations;
            }
            if (!system_->deficient().empty() && singular_everywhere()) fail_deficient();
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
                return fmt::format("{}{} {}", place.empty() ? "" : place + ": ", what, s.text);
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
            text += fmt::format("\n      {}: off by {:.3g}{}", row_text(block.rows[i]), i < result.residual.size() ? result.residual[i] : 0.0,
                                unit.empty() ? "" : " " + unit);
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
            if (!is_found(i) || (s_.z[i] >= z.low - slack && s_.z[i] <= z.high + slack)) continue;
            throw NumericFailure("start-failed", fmt::format("what is to be found lies outside its range: {}", describe_z(m_, i, s_.z[i])),
                                 "widen the range, or ask for a value that can be reached");
        }
    }

    // Inits more than needed: fine if they agree with the rest, an error that names them if not.
    void check_redundant(StartReport& report)
    {
        e_.at(s_.time, s_.z.data(), s_.rates.data());
        system_->evaluate();
        for (std::uint32_t r : system_->redundant()) {
            std::uint32_t i = system_->rows()[r].index;
            StartEquation::Claim claim = m_.form.start[i].claim;
            // a guess is a hint; an init gives way to steadiness
            if (claim == StartEquation::Claim::guess || (claim == StartEquation::Claim::init && m_.form.steady)) continue;
            const StartRow& row = m_.start_rows[i];
            double left = e_.value_at(row.left), right = e_.value_at(row.right), off = e_.value_at(row.residual);
            double usual = 0;
            for (const auto& [c, v] : system_->row_values(r)) usual = std::max(usual, std::abs(v) * system_->scale(c));
            if (std::abs(off) <= 1e-6 * std::max({usual, std::abs(left), std::abs(right), 1e-12})) {
                report.agreed.push_back(claim_text(m_.form.start[i]));
                continue;
            }
            std::string text = fmt::format("the start contradicts itself: {}: it would have to be {:.6g}, but the other conditions give {:.6g} (SI)",
                                           row_text(r), right, left);
            for (std::uint32_t other : system_->chosen()) {
                const Row& o = system_->rows()[other];
                if (o.kind == Row::Kind::condition && m_.form.start[o.index].claim != StartEquation::Claim::guess && text.size() < 1500)
                    text += "\n      one of the others: " + row_text(other);
            }
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
    std::unordered_map<std::string_view, const FlatQuantity*> quantities_;  ///< by path, for the units of texts
};

}  // namespace

State solve_start(Evaluation& evaluation, const SourceSet& sources, double time, StartReport& report, const std::vector<double>& known)
{
    return StartSolver(evaluation, sources, time, known).run(report);
}

}  // namespace netloop

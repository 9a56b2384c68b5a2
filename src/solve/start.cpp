#include "solve/start.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "compile/matching.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

// The start system: unknowns z (0 .. n-1) and the rates of the states (n ..); equations F = 0, chosen start equations, and
// for what is still open "hold where the search starts".
class StartSolver {
public:
    StartSolver(Evaluation& evaluation, const SourceSet& sources, double time) : e_(evaluation), m_(evaluation.model()), sources_(sources), n_(m_.n())
    {
        s_.time = time;
        s_.z.resize(n_);
        s_.rates.assign(n_, 0.0);
        for (std::size_t i = 0; i < n_; ++i) {
            s_.z[i] = e_.search_start(i);
            if (m_.form.z[i].kind != ZEntry::Kind::state) continue;
            states_.push_back(static_cast<std::uint32_t>(i));
        }
        rate_column_.assign(n_, kUnmatched);
        for (std::size_t k = 0; k < states_.size(); ++k) rate_column_[states_[k]] = static_cast<std::uint32_t>(n_ + k);
        n_columns_ = n_ + states_.size();
        is_link_.assign(n_, 0);
        for (const SolverChoice& choice : m_.form.choices)
            for (std::uint32_t r : choice.links) is_link_[r] = 1;
    }

    State run(StartReport& report)
    {
        if (n_ == 0) {
            settle_modes(e_, s_);
            return s_;
        }
        collect_rows();
        choose_by_matching();
        settle_modes(e_, s_);
        for (int round = 0;; ++round) {
            report.iterations += iterate();
            if (settle_modes(e_, s_) == 0) break;
            if (round > 50)
                throw NumericFailure("start-failed", fmt::format("the start switches back and forth between conditions: {}", switching()),
                                     "give start values that are clearly on one side");
        }
        check_redundant(report);
        e_.at(s_.time, s_.z.data(), s_.rates.data());
        e_.choose_states();
        for (std::size_t r : chosen_)
            if (r >= n_ && r < n_ + m_.start_rows.size() && m_.form.start[r - n_].guess) report.assumed.push_back(m_.form.start[r - n_].text);
        for (std::size_t r : chosen_)
            if (r >= n_ + m_.start_rows.size()) {
                std::size_t column = r - n_ - m_.start_rows.size();
                report.held.push_back(column < n_ ? describe_z(m_, column, s_.z[column]) : describe_rate(column));
            }
        return s_;
    }

private:
    std::string describe_rate(std::size_t column) const
    {
        std::uint32_t state = states_[column - n_];
        return fmt::format("the rate of '{}' = {:g}", variable_name(m_, m_.form.z[state].variable), s_.rates[state]);
    }

    // Row numbers: 0 .. n-1 the model, then the start equations, then one "hold" for each column.
    void collect_rows()
    {
        std::vector<std::vector<std::uint32_t>> rows(n_);
        for (std::uint32_t c = 0; c < m_.pattern.n_columns; ++c)
            for (auto k = m_.pattern.starts[c]; k < m_.pattern.starts[c + 1]; ++k) {
                auto at = static_cast<std::size_t>(k);
                auto r = static_cast<std::size_t>(m_.pattern.rows[at]);
                if (is_link_[r]) continue;
                if (m_.by_z[at] != kNoNode) rows[r].push_back(c);
                if (m_.by_rate[at] != kNoNode) rows[r].push_back(rate_column_[c]);
            }
        for (const auto& r : rows) adjacency_.add_row(r);
        for (const StartRow& s : m_.start_rows) {
            std::vector<std::uint32_t> columns;
            for (const auto& [number, place] : s.entries) columns.push_back(number < n_ ? number : rate_column_[number - n_]);
            adjacency_.add_row(columns);
        }
        for (std::uint32_t c = 0; c < n_columns_; ++c) adjacency_.add_row({c});
    }

    void choose_by_matching()
    {
        Matching m;
        m.column_of_row.assign(adjacency_.n_rows(), kUnmatched);
        m.row_of_column.assign(n_columns_, kUnmatched);
        std::vector<std::uint32_t> mark(n_columns_, 0);
        std::uint32_t stamp = 0;
        auto try_row = [&](std::size_t r) { return augment(adjacency_, m, static_cast<std::uint32_t>(r), mark, ++stamp); };
        // a cheap first matching keeps the searches short
        for (std::uint32_t r = 0; r < n_; ++r)
            for (std::uint32_t k = adjacency_.starts[r]; k < adjacency_.starts[r + 1]; ++k) {
                std::uint32_t c = adjacency_.targets[k];
                if (c < n_ || m.row_of_column[c] != kUnmatched || m.column_of_row[r] != kUnmatched) continue;
                m.row_of_column[c] = r;
                m.column_of_row[r] = c;
                ++m.size;
            }
        for (std::size_t r = 0; r < n_; ++r) {
            if (is_link_[r]) continue;
            if (m.column_of_row[r] == kUnmatched) try_row(r);
            chosen_.push_back(r);
        }
        for (std::size_t i = 0; i < m_.start_rows.size(); ++i) {  // inits come before guesses
            bool taken = m.size < n_columns_ && try_row(n_ + i);
            if (taken)
                chosen_.push_back(n_ + i);
            else if (!m_.form.start[i].guess)
                redundant_.push_back(i);
        }
        std::size_t holds = n_ + m_.start_rows.size();
        auto hold = [&](std::size_t c) {
            if (m.size < n_columns_ && try_row(holds + c)) chosen_.push_back(holds + c);
        };
        for (std::uint32_t s : states_) hold(s);
        for (std::size_t c = 0; c < n_; ++c)
            if (m_.form.z[c].kind == ZEntry::Kind::candidate) hold(c);
        for (std::size_t c = 0; c < n_; ++c) hold(c);
        for (std::size_t c = n_; c < n_columns_; ++c) hold(c);
    }

    // Dense elimination, row by row: take() tells whether a row is independent of those taken before.
    class Elimination {
    public:
        explicit Elimination(const StartSolver& s) : s_(s) {}
        bool take(std::size_t row, bool states_given)
        {
            std::vector<double> v(s_.n_columns_, 0.0);
            for (const auto& [c, x] : s_.row_values(row)) {
                bool state = c < s_.n_ && s_.m_.form.z[c].kind == ZEntry::Kind::state;
                if (!(state && states_given)) v[c] += x * s_.scale(c);
            }
            double size = 0;
            for (double x : v) size = std::max(size, std::abs(x));
            if (size == 0 || !std::isfinite(size)) return false;
            for (double& x : v) x /= size;
            for (std::size_t k = 0; k < basis_.size(); ++k) {
                double f = v[pivots_[k]];
                if (f == 0) continue;
                for (std::size_t c = 0; c < v.size(); ++c) v[c] -= f * basis_[k][c];
            }
            std::size_t best = 0;
            for (std::size_t c = 0; c < v.size(); ++c)
                if (std::abs(v[c]) > std::abs(v[best])) best = c;
            if (std::abs(v[best]) < 1e-9) return false;
            double pivot = v[best];
            for (double& x : v) x /= pivot;
            basis_.push_back(std::move(v));
            pivots_.push_back(best);
            return true;
        }

    private:
        const StartSolver& s_;
        std::vector<std::vector<double>> basis_;
        std::vector<std::size_t> pivots_;
    };

    // When the chosen set turns out to be singular in numbers: rows are taken in order of rank of claim, each only if it is
    // independent of those before. Dense, for systems up to a size where that costs no more than some seconds.
    bool choose_by_rank()
    {
        if (n_columns_ > 1500) return false;
        std::vector<std::size_t> order;
        for (std::size_t r = 0; r < adjacency_.n_rows(); ++r) order.push_back(r);
        std::size_t holds = n_ + m_.start_rows.size();
        std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            auto rank = [&](std::size_t r) {
                if (r < holds) return 0;
                ZEntry::Kind kind = m_.form.z[std::min(r - holds, n_ - 1)].kind;
                return (kind == ZEntry::Kind::state || kind == ZEntry::Kind::candidate) && r - holds < n_ ? 1 : 2;
            };
            return rank(a) < rank(b);
        });
        evaluate_rows();
        // With the states given, the equations must settle the rest: else no start conditions can mend it.
        Elimination given_states(*this);
        for (std::size_t r = 0; r < n_; ++r)
            if (!is_link_[r] && !given_states.take(r, true)) deficient_.push_back(r);
        if (!deficient_.empty()) return false;
        Elimination all(*this);
        std::vector<std::size_t> chosen;
        redundant_.clear();
        for (std::size_t r : order) {
            if (r < n_ && is_link_[r]) continue;
            if (all.take(r, false))
                chosen.push_back(r);
            else if (r >= n_ && r < holds && !m_.form.start[r - n_].guess)
                redundant_.push_back(r - n_);
            if (chosen.size() == n_columns_) break;
        }
        if (chosen.size() < n_columns_ || chosen == chosen_) return false;
        chosen_ = std::move(chosen);
        return true;
    }

    double scale(std::size_t column) const { return column < n_ ? m_.form.z[column].usual : m_.form.z[states_[column - n_]].usual; }

    void evaluate_rows()
    {
        e_.at(s_.time, s_.z.data(), s_.rates.data());
        e_.jacobian(by_z_, by_rate_);
        e_.start();
    }

    std::vector<std::pair<std::size_t, double>> row_values(std::size_t r) const
    {
        std::vector<std::pair<std::size_t, double>> list;
        std::size_t holds = n_ + m_.start_rows.size();
        if (r >= holds) return {{r - holds, 1.0}};
        if (r >= n_) {
            for (const auto& [number, place] : m_.start_rows[r - n_].entries)
                list.emplace_back(number < n_ ? number : rate_column_[number - n_], e_.value_at(place));
            return list;
        }
        for (std::uint32_t c = 0; c < m_.pattern.n_columns; ++c)
            for (auto k = m_.pattern.starts[c]; k < m_.pattern.starts[c + 1]; ++k) {
                auto at = static_cast<std::size_t>(k);
                if (static_cast<std::size_t>(m_.pattern.rows[at]) != r) continue;
                if (m_.by_z[at] != kNoNode) list.emplace_back(c, by_z_[at]);
                if (m_.by_rate[at] != kNoNode) list.emplace_back(rate_column_[c], by_rate_[at]);
            }
        return list;
    }

    // Pattern and sources of values for the chosen rows.
    struct Source {
        enum class Kind { by_z, by_rate, start, one } kind;
        std::size_t index;
    };
    void assemble(SparsePattern& pattern, std::vector<Source>& sources)
    {
        std::vector<std::uint32_t> position(adjacency_.n_rows(), kUnmatched);
        for (std::uint32_t i = 0; i < chosen_.size(); ++i) position[chosen_[i]] = i;
        std::vector<std::vector<std::pair<std::int64_t, Source>>> columns(n_columns_);
        for (std::uint32_t c = 0; c < m_.pattern.n_columns; ++c)
            for (auto k = m_.pattern.starts[c]; k < m_.pattern.starts[c + 1]; ++k) {
                auto at = static_cast<std::size_t>(k);
                auto r = position[static_cast<std::size_t>(m_.pattern.rows[at])];
                if (r == kUnmatched) continue;
                if (m_.by_z[at] != kNoNode) columns[c].push_back({r, {Source::Kind::by_z, at}});
                if (m_.by_rate[at] != kNoNode) columns[rate_column_[c]].push_back({r, {Source::Kind::by_rate, at}});
            }
        for (std::size_t i = 0; i < m_.start_rows.size(); ++i) {
            if (position[n_ + i] == kUnmatched) continue;
            for (const auto& [number, place] : m_.start_rows[i].entries)
                columns[number < n_ ? number : rate_column_[number - n_]].push_back({position[n_ + i], {Source::Kind::start, place}});
        }
        std::size_t holds = n_ + m_.start_rows.size();
        for (std::uint32_t c = 0; c < n_columns_; ++c)
            if (position[holds + c] != kUnmatched) columns[c].push_back({position[holds + c], {Source::Kind::one, 0}});
        pattern.n_columns = static_cast<std::uint32_t>(n_columns_);
        for (auto& column : columns) {
            std::sort(column.begin(), column.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
            for (const auto& [row, source] : column) {
                pattern.rows.push_back(row);
                sources.push_back(source);
            }
            pattern.starts.push_back(static_cast<std::int64_t>(pattern.rows.size()));
        }
    }

    int iterate()
    {
        State begin = s_;
        for (int attempt = 0;; ++attempt) {
            NewtonProblem problem;
            std::vector<Source> sources;
            assemble(problem.pattern, sources);
            std::vector<double> x(n_columns_), held(n_columns_);
            for (std::size_t c = 0; c < n_columns_; ++c) {
                x[c] = c < n_ ? s_.z[c] : s_.rates[states_[c - n_]];
                problem.scale.push_back(scale(c));
            }
            held = x;
            problem.residual = [&](const std::vector<double>& at, std::vector<double>& r) {
                place(at);
                std::vector<double> f(n_);
                bool finite = e_.residual(f.data());
                e_.start();
                std::size_t holds = n_ + m_.start_rows.size();
                for (std::size_t i = 0; i < chosen_.size(); ++i) {
                    std::size_t row = chosen_[i];
                    r[i] = row < n_ ? f[row] : row < holds ? e_.value_at(m_.start_rows[row - n_].residual) : at[row - holds] - held[row - holds];
                    finite &= std::isfinite(r[i]);
                }
                return finite;
            };
            problem.jacobian = [&](const std::vector<double>& at, std::vector<double>& values) {
                place(at);
                evaluate_rows();
                values.resize(sources.size());
                for (std::size_t k = 0; k < sources.size(); ++k) {
                    std::size_t i = sources[k].index;
                    switch (sources[k].kind) {
                        case Source::Kind::by_z:
                            values[k] = by_z_[i];
                            break;
                        case Source::Kind::by_rate:
                            values[k] = by_rate_[i];
                            break;
                        case Source::Kind::start:
                            values[k] = e_.value_at(static_cast<std::uint32_t>(i));
                            break;
                        case Source::Kind::one:
                            values[k] = 1;
                            break;
                    }
                }
            };
            SparseLU lu(problem.pattern);
            NewtonResult result = solve_newton(problem, lu, x);
            place(x);
            if (result.outcome == NewtonResult::Outcome::converged) return result.iterations;
            if (result.outcome == NewtonResult::Outcome::singular && attempt == 0 && choose_by_rank()) {
                s_ = begin;
                continue;
            }
            fail(result);
        }
    }

    void place(const std::vector<double>& x)
    {
        for (std::size_t c = 0; c < n_; ++c) s_.z[c] = x[c];
        for (std::size_t k = 0; k < states_.size(); ++k) s_.rates[states_[k]] = x[n_ + k];
        e_.at(s_.time, s_.z.data(), s_.rates.data());
    }

    std::string row_text(std::size_t r) const
    {
        std::size_t holds = n_ + m_.start_rows.size();
        if (r < n_) return describe_residual(m_, sources_, r);
        if (r < holds) {
            const StartEquation& s = m_.form.start[r - n_];
            std::string place = place_text(sources_, s.origin.span);
            return fmt::format("{}{} {}", place.empty() ? "" : place + ": ", s.guess ? "guess" : "init", s.text);
        }
        return "a held start value";
    }

    [[noreturn]] void fail(const NewtonResult& result)
    {
        if (!deficient_.empty()) {
            std::string text = "the equations are singular in numbers at the start: they do not settle all they should\n      one that says nothing new: " +
                               describe_residual(m_, sources_, deficient_[0]);
            std::string open;
            for (std::size_t r : deficient_)
                for (const auto& [c, v] : row_values(r))
                    if (c < n_ && open.size() < 200) open += (open.empty() ? "" : ", ") + ("'" + variable_name(m_, m_.form.z[c].variable) + "'");
            if (!open.empty()) text += "\n      in it: " + open;
            throw NumericFailure("start-singular", text, "usual causes: a param that is 0, two ideal sources tied together, a circuit with no reference");
        }
        std::vector<std::size_t> worst(chosen_.size());
        for (std::size_t i = 0; i < worst.size(); ++i) worst[i] = i;
        std::vector<double> size(chosen_.size());
        evaluate_rows();
        for (std::size_t i = 0; i < chosen_.size(); ++i) {
            double weight = 1e-300;
            for (const auto& [c, v] : row_values(chosen_[i])) weight = std::max(weight, std::abs(v) * scale(c));
            double r = i < result.residual.size() ? result.residual[i] : 0;
            size[i] = std::isfinite(r) ? std::abs(r) / weight : HUGE_VAL;
        }
        std::stable_sort(worst.begin(), worst.end(), [&](std::size_t a, std::size_t b) { return size[a] > size[b]; });
        const char* cause = result.outcome == NewtonResult::Outcome::singular     ? "the equations lose their rank on the way"
                            : result.outcome == NewtonResult::Outcome::not_finite ? "an equation has no finite value where the search begins"
                                                                                  : "the search does not come nearer to a solution";
        std::string text = fmt::format("no start values are found: {} (after {} steps)", cause, result.iterations);
        for (std::size_t k = 0; k < worst.size() && k < 3; ++k) {
            std::size_t i = worst[k];
            if (k > 0 && size[i] < 1e-6) break;
            text += fmt::format("\n      {}: off by {:.3g}", row_text(chosen_[i]), i < result.residual.size() ? result.residual[i] : 0.0);
            if (chosen_[i] < n_) text += "\n        with " + describe_operands(m_, chosen_[i], s_.z);
        }
        throw NumericFailure("start-failed", text, "give a guess near the solution to one of these quantities: guess path = value");
    }

    // Inits more than needed: fine if they agree with the rest, an error that names them if not.
    void check_redundant(StartReport& report)
    {
        e_.at(s_.time, s_.z.data(), s_.rates.data());
        e_.start();
        for (std::size_t i : redundant_) {
            const StartRow& row = m_.start_rows[i];
            double left = e_.value_at(row.left), right = e_.value_at(row.right), off = e_.value_at(row.residual);
            double usual = 0;
            for (const auto& [number, place] : row.entries)
                usual = std::max(usual, std::abs(e_.value_at(place)) * scale(number < n_ ? number : rate_column_[number - n_]));
            if (std::abs(off) <= 1e-6 * std::max({usual, std::abs(left), std::abs(right), 1e-12})) {
                report.agreed.push_back(m_.form.start[i].text);
                continue;
            }
            std::string text = fmt::format("the start contradicts itself: {}: it would have to be {:.6g}, but the other conditions give {:.6g} (SI)",
                                           row_text(n_ + i), right, left);
            for (std::size_t r : chosen_)
                if (r >= n_ && r < n_ + m_.start_rows.size() && !m_.form.start[r - n_].guess && text.size() < 1500)
                    text += "\n      one of the others: " + row_text(r);
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
    std::size_t n_, n_columns_ = 0;
    State s_;
    std::vector<std::uint32_t> states_, rate_column_;
    std::vector<char> is_link_;  ///< per residual: not known before the states are chosen
    Adjacency adjacency_;
    std::vector<std::size_t> chosen_, redundant_, deficient_;
    std::vector<double> by_z_, by_rate_;
};

}  // namespace

State solve_start(Evaluation& evaluation, const SourceSet& sources, double time, StartReport& report)
{
    return StartSolver(evaluation, sources, time).run(report);
}

}  // namespace netloop

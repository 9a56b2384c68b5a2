// SPDX-License-Identifier: Apache-2.0
#include "solve/start_system.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

namespace netloop {

StartSystem::StartSystem(Evaluation& evaluation, State& state, const std::vector<double>& known, bool before_steady)
    : e_(evaluation), m_(evaluation.model()), s_(state), n_(m_.n())
{
    rate_column_.assign(n_, kUnmatched);
    for (std::uint32_t i = 0; i < n_; ++i) {
        if (!always_state(i)) continue;
        rate_column_[i] = static_cast<std::uint32_t>(n_ + states_.size());
        states_.push_back(i);
    }
    n_columns_ = n_ + states_.size();
    local_.assign(n_columns_, kUnmatched);
    held_.assign(n_columns_, 0.0);
    std::copy(s_.z.begin(), s_.z.end(), held_.begin());

    // 1. the model; the links between candidates are not known before the states are chosen
    std::vector<char> is_link(n_, 0);
    for (const SolverChoice& choice : m_.form.choices)
        for (std::uint32_t r : choice.links) is_link[r] = 1;
    std::vector<std::vector<Entry>> model(n_);
    for (std::uint32_t c = 0; c < n_; ++c)
        for (auto k = m_.pattern.starts[c]; k < m_.pattern.starts[c + 1]; ++k) {
            auto at = static_cast<std::uint32_t>(k);
            auto r = static_cast<std::size_t>(m_.pattern.rows[at]);
            if (m_.by_z[at] != kNoNode) model[r].push_back({c, {Source::Kind::by_z, at}});
            if (m_.by_rate[at] != kNoNode) model[r].push_back({rate_column_[c], {Source::Kind::by_rate, at}});
        }
    std::vector<char> depended_on(n_, 0);  // members of z that an equation looks at
    for (std::uint32_t r = 0; r < n_; ++r) {
        if (is_link[r]) continue;
        for (const Entry& e : model[r])
            if (e.column < n_) depended_on[e.column] = 1;
        add_row({Row::Kind::model, r}, std::move(model[r]));
    }
    // 2. conditions in their order of claim, with what a steady start or a recorded state says in between
    auto condition = [&](std::uint32_t i) {
        std::vector<Entry> entries;
        for (const auto& [number, place] : m_.start_rows[i].entries)
            entries.push_back({number < n_ ? number : rate_column_[number - n_], {Source::Kind::condition, place}});
        add_row({Row::Kind::condition, i}, std::move(entries));
    };
    auto one = [&](Row::Kind kind, std::uint32_t column) { add_row({kind, column}, {{column, {Source::Kind::one, 0}}}); };
    auto conditions = [&](StartEquation::Claim claim) {
        for (std::uint32_t i = 0; i < m_.start_rows.size(); ++i)
            if (m_.form.start[i].claim == claim) condition(i);
    };
    if (!before_steady) conditions(StartEquation::Claim::find);
    conditions(StartEquation::Claim::exempt_init);
    std::vector<char> is_known(n_columns_, 0);
    for (std::uint32_t c = 0; c < known.size(); ++c) {
        if (!std::isfinite(known[c])) continue;
        s_.z[c] = held_[c] = known[c];
        if (always_state(c) || m_.form.z[c].kind == ZEntry::Kind::candidate) one(Row::Kind::recorded, c), is_known[c] = 1;
    }
    if (m_.form.steady && !before_steady) {
        // a position that nothing depends on need not stand still
        for (std::uint32_t s : states_)
            if (depended_on[s] && !m_.form.z[s].exempt) one(Row::Kind::still, rate_column_[s]);
        for (const SolverChoice& choice : m_.form.choices)
            for (const auto& orders : choice.orders)
                for (std::size_t k = 0; k + 1 < orders.size(); ++k)
                    if (!m_.form.z[orders[k]].exempt) one(Row::Kind::still, orders[k + 1]);
    }
    if (known.empty()) {
        conditions(StartEquation::Claim::init);
        conditions(StartEquation::Claim::guess);
    }
    // 3. what is still open is held where its search begins: states first
    auto hold = [&](std::uint32_t c) {
        if (!is_known[c]) one(Row::Kind::hold, c);
    };
    for (std::uint32_t s : states_) hold(s);
    for (std::uint32_t c = 0; c < n_; ++c)
        if (m_.form.z[c].kind == ZEntry::Kind::candidate) hold(c);
    for (std::uint32_t c = 0; c < n_; ++c)
        if (!always_state(c) && m_.form.z[c].kind != ZEntry::Kind::candidate) hold(c);
    for (auto c = static_cast<std::uint32_t>(n_); c < n_columns_; ++c) hold(c);
}

void StartSystem::add_row(Row row, std::vector<Entry> entries)
{
    rows_.push_back(row);
    entries_.push_back(std::move(entries));
}

void StartSystem::choose_by_matching()
{
    Adjacency adjacency;
    std::vector<std::uint32_t> columns;
    for (const auto& row : entries_) {
        columns.clear();
        for (const Entry& e : row) columns.push_back(e.column);
        adjacency.add_row(columns);
    }
    Matching m;
    m.column_of_row.assign(rows_.size(), kUnmatched);
    m.row_of_column.assign(n_columns_, kUnmatched);
    std::vector<std::uint32_t> mark(n_columns_, 0);
    std::uint32_t stamp = 0;
    // a cheap first matching of the model with the rates keeps the searches short
    for (std::uint32_t r = 0; r < rows_.size() && rows_[r].kind == Row::Kind::model; ++r)
        for (const Entry& e : entries_[r]) {
            if (e.column < n_ || m.row_of_column[e.column] != kUnmatched || m.column_of_row[r] != kUnmatched) continue;
            m.row_of_column[e.column] = r;
            m.column_of_row[r] = e.column;
            ++m.size;
        }
    chosen_.clear();
    redundant_.clear();
    for (std::uint32_t r = 0; r < rows_.size(); ++r) {
        bool model = rows_[r].kind == Row::Kind::model;
        bool taken = m.column_of_row[r] != kUnmatched || ((model || m.size < n_columns_) && augment(adjacency, m, r, mark, ++stamp));
        if (taken || model)
            chosen_.push_back(r);
        else if (rows_[r].kind == Row::Kind::condition)
            redundant_.push_back(r);
    }
}

// Dense elimination, row by row: take() tells whether a row is independent of those taken before.
class StartSystem::Elimination {
public:
    explicit Elimination(const StartSystem& s) : s_(s) {}
    bool take(std::uint32_t row, bool states_given)
    {
        std::vector<double> v(s_.n_columns_, 0.0);
        for (const auto& [c, x] : s_.row_values(row))
            if (!(states_given && c < s_.n_ && s_.always_state(c))) v[c] += x * s_.scale(c);
        double size = 0;
        for (double x : v) size = std::max(size, std::abs(x));
        if (size == 0 || !std::isfinite(size)) return false;
        for (double& x : v) x /= size;
        std::map<std::uint32_t, double> made_of{{row, 1.0}};
        for (std::size_t k = 0; k < basis_.size(); ++k) {
            double f = v[pivots_[k]];
            if (f == 0) continue;
            for (std::size_t c = 0; c < v.size(); ++c) v[c] -= f * basis_[k][c];
            for (const auto& [other, share] : made_of_[k]) made_of[other] -= f * share;
        }
        std::size_t best = 0;
        for (std::size_t c = 0; c < v.size(); ++c)
            if (std::abs(v[c]) > std::abs(v[best])) best = c;
        if (std::abs(v[best]) < 1e-9) {
            repeats_.clear();
            for (const auto& [other, share] : made_of)
                if (other != row && std::abs(share) > 1e-9) repeats_.push_back(other);
            return false;
        }
        double pivot = v[best];
        for (double& x : v) x /= pivot;
        for (auto& [other, share] : made_of) share /= pivot;
        made_of_.push_back(std::move(made_of));
        basis_.push_back(std::move(v));
        pivots_.push_back(best);
        return true;
    }

    /// After a refusal: the rows whose sum the refused one is.
    const std::vector<std::uint32_t>& repeats() const { return repeats_; }

private:
    const StartSystem& s_;
    std::vector<std::vector<double>> basis_;
    std::vector<std::map<std::uint32_t, double>> made_of_;  ///< each basis row as a sum of rows
    std::vector<std::uint32_t> repeats_;
    std::vector<std::size_t> pivots_;
};

namespace {
constexpr std::size_t kLargestDense = 1500;
}

bool StartSystem::chosen_are_independent()
{
    if (n_columns_ > kLargestDense) return false;
    evaluate();
    Elimination all(*this);
    return std::all_of(chosen_.begin(), chosen_.end(), [&](std::uint32_t r) { return all.take(r, false); });
}

bool StartSystem::choose_by_rank()
{
    if (n_columns_ > kLargestDense) return false;
    evaluate();
    deficient_.clear();
    // With the states given, the equations must settle the rest: else no start conditions can mend it.
    Elimination given_states(*this);
    for (std::uint32_t r = 0; r < rows_.size() && rows_[r].kind == Row::Kind::model; ++r)
        if (!given_states.take(r, true)) {
            if (deficient_.empty()) repeated_ = given_states.repeats();
            deficient_.push_back(r);
        }
    if (!deficient_.empty()) return false;
    Elimination all(*this);
    std::vector<std::uint32_t> chosen, redundant;
    for (std::uint32_t r = 0; r < rows_.size(); ++r) {
        if (chosen.size() < n_columns_ && all.take(r, false))
            chosen.push_back(r);
        else if (rows_[r].kind == Row::Kind::condition)
            redundant.push_back(r);
    }
    if (chosen.size() < n_columns_ || chosen == chosen_) return false;
    chosen_ = std::move(chosen);
    redundant_ = std::move(redundant);
    return true;
}

StartSystem::Block StartSystem::whole() const
{
    Block all{chosen_, {}};
    for (std::uint32_t c = 0; c < n_columns_; ++c) all.columns.push_back(c);
    return all;
}

std::vector<StartSystem::Block> StartSystem::blocks() const
{
    Adjacency adjacency;
    std::vector<std::uint32_t> columns;
    for (std::uint32_t r : chosen_) {
        columns.clear();
        for (const Entry& e : entries_[r]) columns.push_back(e.column);
        adjacency.add_row(columns);
    }
    Matching m = maximum_matching(adjacency, static_cast<std::uint32_t>(n_columns_));
    if (m.size < chosen_.size()) return {whole()};
    Adjacency needs;
    for (std::uint32_t i = 0; i < chosen_.size(); ++i) {
        columns.clear();
        for (const Entry& e : entries_[chosen_[i]])
            if (m.row_of_column[e.column] != i) columns.push_back(m.row_of_column[e.column]);
        needs.add_row(columns);
    }
    std::vector<Block> list;
    for (const auto& component : strong_components(needs)) {
        Block b;
        for (std::uint32_t i : component) b.rows.push_back(chosen_[i]), b.columns.push_back(m.column_of_row[i]);
        list.push_back(std::move(b));
    }
    return list;
}

void StartSystem::evaluate()
{
    e_.at(s_.time, s_.z.data(), s_.rates.data());
    e_.jacobian(by_z_, by_rate_);
    e_.start();
}

double StartSystem::entry_value(const Source& source) const
{
    switch (source.kind) {
        case Source::Kind::by_z:
            return by_z_[source.index];
        case Source::Kind::by_rate:
            return by_rate_[source.index];
        case Source::Kind::condition:
            return e_.value_at(source.index);
        default:
            return 1;
    }
}

std::vector<std::pair<std::uint32_t, double>> StartSystem::row_values(std::uint32_t row) const
{
    std::vector<std::pair<std::uint32_t, double>> list;
    for (const Entry& e : entries_[row]) list.emplace_back(e.column, entry_value(e.source));
    return list;
}

void StartSystem::place(const Block& block, const std::vector<double>& x)
{
    for (std::size_t i = 0; i < block.columns.size(); ++i) {
        std::uint32_t c = block.columns[i];
        (c < n_ ? s_.z[c] : s_.rates[states_[c - n_]]) = x[i];
    }
    e_.at(s_.time, s_.z.data(), s_.rates.data());
}

bool StartSystem::residuals(const Block& block, std::vector<double>& r)
{
    f_.resize(n_);
    e_.residual(f_.data());
    e_.start();
    r.resize(block.rows.size());
    bool finite = true;
    for (std::size_t i = 0; i < block.rows.size(); ++i) {
        const Row& row = rows_[block.rows[i]];
        switch (row.kind) {
            case Row::Kind::model:
                r[i] = f_[row.index];
                break;
            case Row::Kind::condition:
                r[i] = e_.value_at(m_.start_rows[row.index].residual);
                break;
            case Row::Kind::still:
                r[i] = value(row.index);
                break;
            case Row::Kind::recorded:
            case Row::Kind::hold:
                r[i] = value(row.index) - held_[row.index];
                break;
        }
        finite &= std::isfinite(r[i]);
    }
    return finite;
}

NewtonResult StartSystem::solve(const Block& block, bool continuation)
{
    std::size_t n = block.columns.size();
    NewtonProblem problem;
    problem.strict = true;
    // far out on an exponential a step gains one unit of its exponent: patience is cheap in a small block
    problem.max_iterations = n <= 20 ? 1000 : 200;
    problem.pattern.n_columns = static_cast<std::uint32_t>(n);
    problem.pattern.starts.assign(n + 1, 0);
    for (std::uint32_t i = 0; i < n; ++i) local_[block.columns[i]] = i;
    std::vector<std::vector<std::pair<std::int64_t, Source>>> columns(n);
    for (std::size_t i = 0; i < block.rows.size(); ++i)
        for (const Entry& e : entries_[block.rows[i]])
            if (local_[e.column] != kUnmatched) columns[local_[e.column]].emplace_back(static_cast<std::int64_t>(i), e.source);
    std::vector<Source> sources;
    for (std::size_t c = 0; c < n; ++c) {
        for (const auto& [row, source] : columns[c]) problem.pattern.rows.push_back(row), sources.push_back(source);
        problem.pattern.starts[c + 1] = static_cast<std::int64_t>(problem.pattern.rows.size());
    }
    std::vector<double> x(n);
    for (std::size_t i = 0; i < n; ++i) {
        std::uint32_t c = block.columns[i];
        local_[c] = kUnmatched;
        x[i] = value(c);
        problem.scale.push_back(scale(c));
        problem.low.push_back(c < n_ ? m_.form.z[c].low : -HUGE_VAL);
        problem.high.push_back(c < n_ ? m_.form.z[c].high : HUGE_VAL);
        constexpr double kLongest = 0.5;  // rad
        if (angles_bound_) problem.longest.push_back(c < n_ && m_.form.z[c].angle ? kLongest : HUGE_VAL);
    }
    std::vector<double> offset(n, 0.0);  // (1 - s) F(x0) while a continuation is under way
    problem.residual = [&](const std::vector<double>& at, std::vector<double>& r) {
        place(block, at);
        bool finite = residuals(block, r);
        for (std::size_t i = 0; i < n; ++i) r[i] -= offset[i];
        return finite;
    };
    problem.jacobian = [&](const std::vector<double>& at, std::vector<double>& values) {
        place(block, at);
        evaluate();
        values.resize(sources.size());
        for (std::size_t k = 0; k < sources.size(); ++k) values[k] = entry_value(sources[k]);
    };
    SparseLU lu(problem.pattern);
    NewtonResult result;
    if (!continuation) {
        result = solve_newton(problem, lu, x);
        place(block, x);
        return result;
    }
    std::vector<double> first, good = x;
    if (!problem.residual(x, first)) {
        result.outcome = NewtonResult::Outcome::not_finite;
        result.residual = first;
        return result;
    }
    double done = 0, step = 0.1;
    while (done < 1) {
        double next = std::min(1.0, done + step);
        for (std::size_t i = 0; i < n; ++i) offset[i] = (1 - next) * first[i];
        x = good;
        int before = result.iterations;
        result = solve_newton(problem, lu, x);
        result.iterations += before;
        if (result.outcome == NewtonResult::Outcome::converged) {
            good = x;
            done = next;
            step *= 2;
        } else if ((step *= 0.25) < 1e-5) {
            break;
        }
    }
    std::fill(offset.begin(), offset.end(), 0.0);
    place(block, done < 1 ? good : x);
    residuals(block, result.residual);
    return result;
}

bool StartSystem::shift(const Block& block, int attempt)
{
    // the far ones reach where a valve opens at last (usual sizes of pressures are a bar)
    constexpr std::array<double, 7> kShifts{1, -1, 1e-3, -1e-3, 30, 300, -30};
    if (attempt >= static_cast<int>(kShifts.size())) return false;
    for (std::uint32_t c : block.columns) {
        double at = (c < n_ ? held_[c] : 0) + kShifts[static_cast<std::size_t>(attempt)] * scale(c);
        if (c < n_)
            s_.z[c] = std::clamp(at, m_.form.z[c].low, m_.form.z[c].high);
        else
            s_.rates[states_[c - n_]] = at;
    }
    e_.at(s_.time, s_.z.data(), s_.rates.data());
    return true;
}

}  // namespace netloop

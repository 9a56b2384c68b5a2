// SPDX-License-Identifier: Apache-2.0
#include "solve/state_selection.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {
namespace {

// A selection must be changed when the determinant of its constraints has fallen below this share of the best one's: the error of
// the dependent quantities grows by its inverse.
constexpr double kPoor = 0.3;
// A change costs a new matrix, for one set as for many: when one must be changed, those that will soon are changed with it.
constexpr double kSoonPoor = 0.8;

bool is_close(const std::vector<double>& before, const double* now)
{
    constexpr double kLittle = 0.02;  // of the largest coefficient
    double largest = 0, moved = 0;
    for (std::size_t k = 0; k < before.size(); ++k) {
        largest = std::max(largest, std::abs(before[k]));
        moved = std::max(moved, std::abs(now[k] - before[k]));
        if (!std::isfinite(now[k])) return false;
    }
    return moved <= kLittle * largest;
}

}  // namespace

StateSelection::StateSelection(const CompiledModel& model) : m_(model), is_state_(model.n(), 0), sets_(model.form.choices.size())
{
    for (std::size_t i = 0; i < m_.n(); ++i) is_state_[i] = m_.form.z[i].kind == ZEntry::Kind::state ? 1 : 0;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
        const auto& candidates = m_.form.reduced.choices[i].candidates;
        for (std::size_t c = 0; c < candidates.size(); ++c) {
            double size = 0;
            for (std::size_t other = 0; other < candidates.size(); ++other) {
                const auto& quantities = m_.form.flat().quantities;
                if (quantities[candidates[other].quantity].unit.dimension == quantities[candidates[c].quantity].unit.dimension)
                    size = std::max(size, m_.form.z[m_.form.choices[i].orders[other][0]].usual);
            }
            sets_[i].scale.push_back(size);
        }
    }
}

bool StateSelection::renew(const std::vector<double>& coefficients)
{
    bool urgent = false;
    std::vector<std::pair<std::size_t, std::vector<std::uint32_t>>> wanted;
    std::size_t at = 0;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
        const SolverChoice& choice = m_.form.choices[i];
        std::size_t n = choice.orders.size();
        std::vector<double>& matrix = matrix_;
        // what has hardly moved since the last elimination gives the same answer
        std::vector<double>& before = sets_[i].looked_at;
        const double* now = coefficients.data() + at;
        if (sets_[i].chosen && before.size() == choice.entries.size() && is_close(before, now)) {
            at += choice.entries.size();
            continue;
        }
        before.assign(now, now + choice.entries.size());
        matrix.assign(choice.differentiated.size() * n, 0.0);
        bool finite = true;
        for (const StateChoice::Entry& e : choice.entries) {
            double v = coefficients[at++] * sets_[i].scale[e.candidate];
            finite &= std::isfinite(v);
            matrix[e.row * n + e.candidate] = v;
        }
        if (!finite) continue;
        std::vector<std::uint32_t>&best = best_, &same = same_;
        double best_size = eliminate(i, matrix, nullptr, best);
        if (sets_[i].chosen) {
            if (!(best_size > 0) || best == sets_[i].dependent) continue;
            double share = eliminate(i, matrix, &sets_[i].dependent, same) / best_size;
            if (share >= kSoonPoor) continue;
            urgent = urgent || share < kPoor;
        } else {
            urgent = true;
        }
        wanted.emplace_back(i, best);
    }
    if (!urgent) return false;
    for (auto& [i, dependent] : wanted) {
        n_changes_ += sets_[i].chosen ? 1 : 0;
        adopt(i, std::move(dependent));
    }
    return !wanted.empty();
}

double StateSelection::eliminate(std::size_t choice, const std::vector<double>& matrix, const std::vector<std::uint32_t>* allowed,
                                 std::vector<std::uint32_t>& dependent)
{
    std::vector<double>& a = work_;
    a.assign(matrix.begin(), matrix.end());
    const SolverChoice& c = m_.form.choices[choice];
    std::size_t n = c.orders.size(), n_rows = c.differentiated.size();
    dependent.assign(n, 0);
    std::vector<char>& done = done_;
    done.assign(n_rows, 0);
    // the largest of each row that may be a pivot; looked for anew only in rows that a pivot has touched
    std::vector<std::pair<double, std::size_t>>& largest = largest_;
    largest.assign(n_rows, {-1, n});
    auto look = [&](std::size_t r) {
        largest[r] = {-1, n};
        for (std::size_t k = 0; k < n; ++k) {
            if (dependent[k] != 0 || (allowed != nullptr && (*allowed)[k] != c.differentiated[r])) continue;
            if (std::abs(a[r * n + k]) > largest[r].first) largest[r] = {std::abs(a[r * n + k]), k};
        }
    };
    for (std::size_t r = 0; r < n_rows; ++r) look(r);
    double size = 1;
    for (std::size_t round = 0; round < n_rows; ++round) {
        std::size_t group = 0;
        while (done[group]) ++group;  // rows stand most differentiated first
        std::size_t row = group;
        double most = -1;
        for (std::size_t r = group; r < n_rows && c.differentiated[r] == c.differentiated[group]; ++r)
            if (!done[r] && largest[r].first > most) most = largest[r].first, row = r;
        std::size_t column = most < 0 ? n : largest[row].second;
        if (column == n) return 0;
        size *= most;
        done[row] = 1;
        dependent[column] = c.differentiated[row];
        for (std::size_t r = 0; r < n_rows; ++r) {
            if (done[r]) continue;
            double f = most == 0 ? 0 : a[r * n + column] / a[row * n + column];
            if (f != 0)
                for (std::size_t k = 0; k < n; ++k) a[r * n + k] -= f * a[row * n + k];
            if (f != 0 || largest[r].second == column) look(r);
        }
    }
    return size;
}

void StateSelection::adopt(std::size_t i, std::vector<std::uint32_t> dependent)
{
    const SolverChoice& choice = m_.form.choices[i];
    Set& set = sets_[i];
    set.links.clear();
    for (std::size_t c = 0; c < choice.orders.size(); ++c) {
        const auto& orders = choice.orders[c];
        for (std::size_t k = 0; k + 1 < orders.size(); ++k) {
            bool state = k + 1 + dependent[c] < orders.size();
            is_state_[orders[k]] = state ? 1 : 0;
            if (!state) continue;
            std::size_t link = set.links.size();
            const auto& [by_rate, by_z] = m_.links[i][link].of[c][k];
            set.links.push_back({choice.links[link], orders[k], orders[k + 1], by_rate, by_z});
        }
    }
    set.dependent = std::move(dependent);
    set.chosen = true;
    ++version_;
}

std::vector<double> StateSelection::dependents() const
{
    std::vector<double> list;
    for (std::size_t i = 0; i < sets_.size(); ++i)
        for (std::size_t c = 0; c < m_.form.choices[i].orders.size(); ++c) list.push_back(sets_[i].chosen ? static_cast<double>(sets_[i].dependent[c]) : -1);
    return list;
}

bool StateSelection::put_back(const std::vector<double>& dependents)
{
    std::size_t at = 0;
    std::vector<std::vector<std::uint32_t>> all;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
        const SolverChoice& choice = m_.form.choices[i];
        std::vector<std::uint32_t> wanted;
        double sum = 0, asked = 0;
        for (std::uint32_t d : choice.differentiated) asked += d;
        for (std::size_t c = 0; c < choice.orders.size(); ++c, ++at) {
            if (at == dependents.size() || !(dependents[at] >= 0) || dependents[at] + 1 > static_cast<double>(choice.orders[c].size())) return false;
            wanted.push_back(static_cast<std::uint32_t>(dependents[at]));
            sum += wanted.back();
        }
        if (sum != asked) return false;
        all.push_back(std::move(wanted));
    }
    if (at != dependents.size()) return false;
    for (std::size_t i = 0; i < sets_.size(); ++i) {
        adopt(i, std::move(all[i]));
        sets_[i].looked_at.clear();
    }
    return true;
}

void StateSelection::drop_unused(std::vector<char>& keep) const
{
    for (std::size_t i = 0; i < sets_.size(); ++i) {
        for (const LinkEntries& link : m_.links[i])
            for (const auto& of : link.of)
                for (const auto& [by_rate, by_z] : of) keep[by_rate] = keep[by_z] = 0;
        for (const Link& l : sets_[i].links) keep[l.by_rate] = keep[l.by_z] = 1;
    }
}

void StateSelection::residual(const double* z, const double* rates, double* f) const
{
    for (const Set& set : sets_)
        for (const Link& l : set.links) f[l.residual] = rates[l.state] - z[l.derivative];
}

void StateSelection::jacobian(std::vector<double>& by_z, std::vector<double>& by_rate) const
{
    for (const Set& set : sets_)
        for (const Link& l : set.links) {
            by_rate[l.by_rate] = 1;
            by_z[l.by_z] = -1;
        }
}

void StateSelection::set_rates(const std::vector<double>& z, std::vector<double>& rates) const
{
    for (const Set& set : sets_)
        for (const Link& l : set.links) rates[l.state] = z[l.derivative];
}

}  // namespace netloop

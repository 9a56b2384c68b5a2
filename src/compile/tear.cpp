// SPDX-License-Identifier: Apache-2.0
#include <algorithm>
#include <queue>
#include <tuple>

#include "compile/tear_blocks.hpp"

namespace netloop {
namespace {

class Work {
public:
    Work(const TearingProblem& problem, TearingRule rule) : p_(problem), rule_(rule), n_(problem.unknowns_of.size())
    {
        users_.resize(n_);
        open_.resize(n_);
        degree_.assign(n_, 0);
        known_.assign(n_, 0);
        used_.assign(n_, 0);
        for (std::uint32_t e = 0; e < n_; ++e) {
            for (std::uint32_t u : p_.unknowns_of[e]) users_[u].push_back(e), ++degree_[u];
            set_open(e, static_cast<std::uint32_t>(p_.unknowns_of[e].size()));
        }
        for (std::uint32_t u = 0; u < n_; ++u) by_degree_.emplace(rank(u));
    }

    Tearing run()
    {
        for (;;) {
            take_ready();
            std::uint32_t u = rule_ == TearingRule::most_used ? most_used() : most_frequent_in_shortest();
            if (u == n_) break;
            result_.iterates.push_back(u);
            learn(u);
        }
        for (std::uint32_t e = 0; e < n_; ++e)
            if (!used_[e]) result_.residuals.push_back(e);
        return std::move(result_);
    }

private:
    using Rank = std::tuple<std::uint32_t, std::uint32_t>;  // degree and cheapness, then the lower number first
    Rank rank(std::uint32_t u) const
    {
        std::uint32_t worth = p_.shunned[u] ? 0 : 2 * degree_[u] + (p_.cheap[u] ? 1u : 0u);
        return {worth, static_cast<std::uint32_t>(n_) - 1 - u};
    }

    void set_open(std::uint32_t e, std::uint32_t open)
    {
        open_[e] = open;
        if (open == 1) ready_.push_back(e);
        if (rule_ == TearingRule::shortest_rows && open > 1) {
            if (by_open_.size() <= open) by_open_.resize(open + 1);
            by_open_[open].push_back(e);
        }
    }

    void take_ready()
    {
        while (!ready_.empty()) {
            std::uint32_t e = ready_.back();
            ready_.pop_back();
            if (used_[e] || open_[e] != 1) continue;
            for (std::uint32_t u : p_.unknowns_of[e]) {
                if (known_[u]) continue;
                if (!p_.solvable(e, u)) break;
                used_[e] = 1;
                result_.steps.push_back({e, u});
                learn(u);
                break;
            }
        }
    }

    void learn(std::uint32_t u)
    {
        known_[u] = 1;
        for (std::uint32_t e : users_[u]) {
            if (used_[e] || open_[e] == 0) continue;
            set_open(e, open_[e] - 1);
            if (open_[e] == 0 || rule_ != TearingRule::most_used) continue;
            // an equation that is down to its last unknown settles that one, and counts for no other
            if (open_[e] == 1)
                for (std::uint32_t w : p_.unknowns_of[e])
                    if (!known_[w]) --degree_[w], by_degree_.emplace(rank(w));
        }
    }

    std::uint32_t most_used()
    {
        while (!by_degree_.empty()) {
            Rank top = by_degree_.top();
            std::uint32_t u = static_cast<std::uint32_t>(n_) - 1 - std::get<1>(top);
            by_degree_.pop();
            if (!known_[u] && rank(u) == top) return u;
        }
        return static_cast<std::uint32_t>(n_);
    }

    std::uint32_t most_frequent_in_shortest()
    {
        constexpr std::size_t kLookedAt = 200;  // rows; keeps the choice from costing the square of the block
        for (std::size_t open = 2; open < by_open_.size(); ++open) {
            auto& rows = by_open_[open];
            std::erase_if(rows, [&](std::uint32_t e) { return used_[e] || open_[e] != open; });
            if (rows.empty()) continue;
            std::vector<std::uint32_t> seen;
            for (std::size_t k = 0; k < rows.size() && k < kLookedAt; ++k)
                for (std::uint32_t u : p_.unknowns_of[rows[k]])
                    if (!known_[u]) seen.push_back(u);
            std::sort(seen.begin(), seen.end());
            std::uint32_t best = static_cast<std::uint32_t>(n_);
            std::tuple<std::size_t, Rank> best_rank;
            for (std::size_t begin = 0; begin < seen.size();) {
                std::size_t end = begin;
                while (end < seen.size() && seen[end] == seen[begin]) ++end;
                std::tuple<std::size_t, Rank> r{p_.shunned[seen[begin]] ? 0 : end - begin, rank(seen[begin])};
                if (best == n_ || r > best_rank) best = seen[begin], best_rank = r;
                begin = end;
            }
            return best;
        }
        return most_used();  // equations with one unknown left that they cannot be solved for
    }

    const TearingProblem& p_;
    TearingRule rule_;
    std::size_t n_;
    std::vector<std::vector<std::uint32_t>> users_, by_open_;
    std::vector<std::uint32_t> open_, degree_, ready_;
    std::vector<char> known_, used_;
    std::priority_queue<Rank> by_degree_;
    Tearing result_;
};

}  // namespace

Tearing tear(const TearingProblem& problem, TearingRule rule)
{
    return Work(problem, rule).run();
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "compile/cancel_rates.hpp"

#include <cmath>
#include <map>
#include <optional>

namespace netloop {
namespace {

struct Factor {
    double number = 1;
    NodeId rest = kNoNode;  ///< kNoNode: none
};

// number * rest, signs and literal factors taken out, so that equal coefficients are seen as equal
Factor split(const Graph& g, NodeId id)
{
    Factor f;
    for (;;) {
        const Node& n = g[id];
        if (n.op == Op::neg) {
            f.number = -f.number;
            id = n.a;
        } else if (n.op == Op::constant) {
            f.number *= g.value(id);
            return f;
        } else if (n.op == Op::mul && g.is_constant(n.a)) {
            f.number *= g.value(n.a);
            id = n.b;
        } else if (n.op == Op::mul && g.is_constant(n.b)) {
            f.number *= g.value(n.b);
            id = n.a;
        } else {
            f.rest = id;
            return f;
        }
    }
}

class Cancelling {
public:
    Cancelling(Graph& g, const std::vector<LeadingRow>& rows, const std::function<bool(NodeId)>& fixed) : g_(g), rows_(rows), fixed_(fixed) {}

    std::vector<HiddenSum> run()
    {
        struct Work {
            std::map<std::uint32_t, Factor> entries;
            std::map<std::uint32_t, double> made_of;  ///< row -> number
            std::uint32_t differentiated = 0;
        };
        std::vector<Work> work;
        std::map<std::uint32_t, std::vector<std::size_t>> users;
        for (const LeadingRow& row : rows_) {
            Work w;
            w.differentiated = row.differentiated;
            bool usable = !row.entries.empty();
            for (const auto& [c, node] : row.entries) {
                usable = usable && fixed_(node);
                if (usable) w.entries[c] = split(g_, node);
            }
            if (!usable) continue;
            w.made_of[static_cast<std::uint32_t>(&row - rows_.data())] = 1;
            for (const auto& [c, f] : w.entries) users[c].push_back(work.size());
            work.push_back(std::move(w));
        }
        std::vector<HiddenSum> found;
        std::vector<char> done(work.size(), 0);
        std::size_t budget = 200 * (work.size() + 10);
        // Only eliminations whose ratio is a plain number are made: those are where coefficients cancel for every value of the params.
        for (std::size_t p = 0; p < work.size(); ++p) {
            if (done[p] || work[p].entries.empty()) continue;
            std::optional<std::uint32_t> pivot;
            for (const auto& [c, f] : work[p].entries)
                if (f.number != 0 && (!pivot || users[c].size() < users[*pivot].size())) pivot = c;
            if (!pivot) continue;
            done[p] = 1;
            Factor by = work[p].entries.at(*pivot);
            for (std::size_t r : users[*pivot]) {
                if (done[r]) continue;
                auto it = work[r].entries.find(*pivot);
                if (it == work[r].entries.end() || it->second.rest != by.rest || work[r].differentiated != work[p].differentiated) continue;
                double ratio = it->second.number / by.number;
                std::map<std::uint32_t, Factor> next = work[r].entries;
                bool exact = true;
                for (const auto& [c, f] : work[p].entries) {
                    if (budget-- == 0) return found;
                    auto [place, fresh] = next.try_emplace(c, Factor{0, f.rest});
                    if (place->second.rest != f.rest) {
                        exact = false;
                        break;
                    }
                    place->second.number -= ratio * f.number;
                    if (std::abs(place->second.number) < 1e-13 * (std::abs(ratio * f.number) + 1e-300)) next.erase(place);
                }
                if (!exact) continue;
                for (const auto& [c, f] : next)
                    if (!work[r].entries.count(c)) users[c].push_back(r);
                for (const auto& [row, number] : work[p].made_of) work[r].made_of[row] -= ratio * number;
                work[r].entries = std::move(next);
                if (work[r].entries.empty()) {
                    done[r] = 1;
                    found.push_back(sum_of(work[r].made_of));
                }
            }
        }
        return found;
    }

private:
    HiddenSum sum_of(const std::map<std::uint32_t, double>& made_of)
    {
        HiddenSum sum;
        std::map<std::uint32_t, char> columns;
        for (const auto& [row, number] : made_of) {
            if (number == 0) continue;
            sum.terms.emplace_back(rows_[row].equation, g_.constant(number));
            sum.equation = rows_[row].equation;  // the last one written
            for (const auto& [c, node] : rows_[row].entries) columns[c] = 1;
        }
        for (const auto& [c, one] : columns) sum.columns.push_back(c);
        return sum;
    }

    Graph& g_;
    const std::vector<LeadingRow>& rows_;
    const std::function<bool(NodeId)>& fixed_;
};

}  // namespace

std::vector<HiddenSum> find_hidden_sums(Graph& graph, const std::vector<LeadingRow>& rows, const std::function<bool(NodeId)>& fixed)
{
    return Cancelling(graph, rows, fixed).run();
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Is there one equation for each unknown? If not: the smallest set that is too many, or that nothing settles, in the user's terms.
#include <algorithm>
#include <map>
#include <set>

#include "compile/matching.hpp"
#include "compile/passes.hpp"

namespace netloop {
namespace {

class StructureCheck {
public:
    StructureCheck(const EquationSystem& s, Diagnostics& d) : s_(s), flat_(*s.flat), diagnostics_(d) {}

    void run()
    {
        number_unknowns();
        bool trivial = std::any_of(s_.equations.begin(), s_.equations.end(), [&](const SystemEquation& e) { return s_.variables(e.residual).empty(); });
        for (const SystemEquation& e : s_.equations) {
            std::vector<std::uint32_t> columns;
            for (const Variable& v : s_.variables(e.residual)) columns.push_back(column_of_[v.quantity]);
            std::sort(columns.begin(), columns.end());
            columns.erase(std::unique(columns.begin(), columns.end()), columns.end());
            rows_.add_row(columns);
        }
        Matching m = maximum_matching(rows_, static_cast<std::uint32_t>(unknowns_.size()));
        bool over = m.size < rows_.n_rows(), under = m.size < unknowns_.size();
        if (!over && !under && !trivial) return;
        std::set<std::uint32_t> told;
        bool by_lines = (over || trivial) && report_over_as_written();
        if (!by_lines) report_constant_equations();
        for (std::uint32_t r = 0; !by_lines && r < rows_.n_rows() && told.size() < 5; ++r) {
            if (m.column_of_row[r] != kUnmatched || rows_.starts[r] == rows_.starts[r + 1]) continue;
            AlternatingSet set = alternating_from_row(rows_, m, r);
            if (told.insert(*std::min_element(set.rows.begin(), set.rows.end())).second) report_over(set);
        }
        std::set<std::uint32_t> said;
        for (std::uint32_t c = 0; c < unknowns_.size() && said.size() < 5; ++c) {
            if (m.row_of_column[c] != kUnmatched) continue;
            AlternatingSet set = alternating_from_column(rows_, m, c);
            if (said.insert(*std::min_element(set.columns.begin(), set.columns.end())).second) report_under(set, over || trivial);
        }
        throw CompilationStopped{};
    }

    /// A set of equations that hold too few unknowns, found elsewhere.
    void report_too_many(const std::vector<std::uint32_t>& rows, const std::vector<QuantityId>& unknowns)
    {
        std::vector<std::uint32_t> flat_rows;
        for (std::uint32_t r : rows) flat_rows.push_back(s_.equations[r].flat);
        report_over(std::move(flat_rows), unknowns, kUnmatched);
    }

private:
    void number_unknowns()
    {
        column_of_.assign(flat_.quantities.size(), kUnmatched);
        for (QuantityId q = 0; q < flat_.quantities.size(); ++q) {
            const Resolution& r = s_.resolutions[q];
            if (r.known != kNoNode || r.representative != q) continue;
            column_of_[q] = static_cast<std::uint32_t>(unknowns_.size());
            unknowns_.push_back(q);
        }
    }

    // The same question of the equations as they are written, aliases included: library lines and joints are matched first, so that what is one too many is a
    // line of the user's own wherever it can be. False: as written there is none too many.
    bool report_over_as_written()
    {
        std::vector<std::uint32_t> order(flat_.equations.size());
        for (std::uint32_t e = 0; e < order.size(); ++e) order[e] = e;
        std::stable_sort(order.begin(), order.end(), [&](std::uint32_t a, std::uint32_t b) { return is_own(a) < is_own(b); });
        Adjacency rows;
        for (std::uint32_t e : order) {
            std::vector<std::uint32_t> columns;
            for (NodeId side : {flat_.equations[e].left, flat_.equations[e].right})
                for (const Variable& v : s_.variables(side)) columns.push_back(v.quantity);
            std::sort(columns.begin(), columns.end());
            columns.erase(std::unique(columns.begin(), columns.end()), columns.end());
            rows.add_row(columns);
        }
        auto n = static_cast<std::uint32_t>(flat_.quantities.size());
        Matching m{std::vector<std::uint32_t>(rows.n_rows(), kUnmatched), std::vector<std::uint32_t>(n, kUnmatched), 0};
        std::vector<std::uint32_t> mark(n, 0), excess;
        for (std::uint32_t r = 0; r < rows.n_rows(); ++r)
            if (!augment(rows, m, r, mark, r + 1)) excess.push_back(r);
        std::set<std::uint32_t> told;
        for (std::uint32_t r : excess) {
            AlternatingSet set = alternating_from_row(rows, m, r);
            if (told.size() >= 5 || !told.insert(*std::min_element(set.rows.begin(), set.rows.end())).second) continue;
            std::vector<std::uint32_t> lines, unknowns(set.columns.begin(), set.columns.end());
            for (std::uint32_t row : set.rows) lines.push_back(order[row]);
            report_over(std::move(lines), unknowns, order[r]);
        }
        return !excess.empty();
    }
    bool is_own(std::uint32_t e) const
    {
        const FlatEquation& f = flat_.equations[e];
        return !f.origin.in_library && (f.kind == EquationKind::equation || f.kind == EquationKind::value);
    }

    std::string where(const Origin& o) const
    {
        const std::string& path = flat_.instances[o.instance];
        return path.empty() ? std::string("in the system") : "in '" + path + "'";
    }
    std::string shown(const FlatEquation& e) const
    {
        std::string text = flat_.equation_text(e);
        return text.size() > 110 ? text.substr(0, 107) + "..." : text;
    }

    // Equations that hold no unknown at all: 0 = 0 is one too many, 0 = 3 is a contradiction.
    void report_constant_equations()
    {
        for (const SystemEquation& e : s_.equations) {
            if (!s_.variables(e.residual).empty()) continue;
            const FlatEquation& flat = flat_.equations[e.flat];
            auto& d = diagnostics_.report(messages::too_many_equations, flat_.shown_place(flat.origin), 1, 0);
            d.note(flat.origin.span, fmt::format("{}: {}", where(flat.origin), shown(flat)));
            d.mend(cause_over({e.flat}));
        }
    }

    // The flat equations that tie the members of a set together: those of the set, and the aliases between its quantities.
    std::string cause_over(const std::vector<std::uint32_t>& flat_rows) const
    {
        bool shared = false, electrical = false, sums_only = true;
        for (std::uint32_t f : flat_rows) {
            const FlatEquation& e = flat_.equations[f];
            sums_only &= e.kind == EquationKind::joint_sum || e.kind == EquationKind::unjoined;
            for (NodeId side : {e.left, e.right}) {
                for (const Variable& v : s_.variables(side)) {
                    const FlatQuantity& q = flat_.quantities[v.quantity];
                    shared |= q.role == QuantityRole::shared;
                    electrical |= q.unit.dimension.text() == "V";
                }
            }
        }
        if (sums_only)
            return "the sums of the joints of one circuit follow from each other: usual cause: the circuit has no reference (an electrics.Ground, a tank, an "
                   "anchor)";
        if (shared && electrical) return "usual causes: two ideal voltage sources or two grounds on one joint; put a resistance between them, or leave one out";
        if (shared)
            return "usual causes: two ideal sources on one joint, or a value stated twice; leave one out, or put a resistance or stiffness between them";
        return "leave out one of them, or declare what one of them should settle as a var";
    }

    // A component whose own text states more or fewer equations than it has unknowns is the likeliest culprit.
    std::string unbalanced(const std::set<std::uint32_t>& instances) const
    {
        for (std::uint32_t id : instances) {
            int unknowns = 0, equations = 0;
            for (const FlatQuantity& q : flat_.quantities) {
                if (q.origin.instance != id) continue;
                if (q.role == QuantityRole::var || q.role == QuantityRole::output || q.role == QuantityRole::zero_sum) ++unknowns;
            }
            bool own_ports_joined_inside = false;
            for (const FlatEquation& e : flat_.equations) {
                if (e.origin.instance != id) continue;
                if (e.kind == EquationKind::joint_equal || e.kind == EquationKind::joint_sum) own_ports_joined_inside = true;
                if (e.kind == EquationKind::equation) ++equations;
            }
            if (own_ports_joined_inside || id == 0 || unknowns == equations) continue;
            return fmt::format("'{}' states {} equations of its own, where its unknowns and ports ask for {}", flat_.instances[id], equations, unknowns);
        }
        return {};
    }

    void report_over(const AlternatingSet& set)
    {
        std::vector<QuantityId> unknowns;
        for (std::uint32_t c : set.columns) unknowns.push_back(unknowns_[c]);
        report_too_many(set.rows, unknowns);
    }

    void report_over(std::vector<std::uint32_t> flat_rows, const std::vector<QuantityId>& unknowns, std::uint32_t last)
    {
        // the culprit is shown first: a line of the user's own, then a joint of the user's, then lines of libraries; among equals that which came last
        auto rank = [&](std::uint32_t e) {
            const FlatEquation& f = flat_.equations[e];
            return (is_own(e) ? 0 : !f.origin.in_library ? 2 : f.kind == EquationKind::equation ? 4 : 6) + (e == last ? 0 : 1);
        };
        std::stable_sort(flat_rows.begin(), flat_rows.end(), [&](std::uint32_t a, std::uint32_t b) { return rank(a) < rank(b); });
        auto& d = diagnostics_.report(messages::too_many_equations, flat_.shown_place(flat_.equations[flat_rows[0]].origin), flat_rows.size(), unknowns.size());
        std::string names;
        for (std::size_t i = 0; i < unknowns.size() && i < 8; ++i) names += (i == 0 ? "" : ", ") + flat_.quantities[unknowns[i]].path;
        if (unknowns.size() > 8) names += ", ...";
        if (!names.empty()) d.note({}, "the unknowns: " + names);
        std::set<std::uint32_t> instances;
        for (std::size_t i = 0; i < flat_rows.size(); ++i) {
            const FlatEquation& e = flat_.equations[flat_rows[i]];
            instances.insert(e.origin.instance);
            if (i < 12) d.note(e.origin.span, fmt::format("{}: {}", where(e.origin), shown(e)));
        }
        if (flat_rows.size() > 12) d.note({}, fmt::format("... and {} more", flat_rows.size() - 12));
        std::string balance = unbalanced(instances);
        if (!balance.empty()) d.note({}, balance);
        d.mend(cause_over(flat_rows));
    }

    void report_under(const AlternatingSet& set, bool over)
    {
        std::string names;
        bool electrical = false, all_zero_sum = true;
        std::set<std::uint32_t> instances;
        std::vector<QuantityId> shown_quantities;
        for (std::uint32_t c : set.columns) {
            const FlatQuantity& q = flat_.quantities[unknowns_[c]];
            std::string unit = q.unit.dimension.text();
            electrical |= unit == "V" && q.role == QuantityRole::shared;
            all_zero_sum &= q.role == QuantityRole::zero_sum;
            instances.insert(q.origin.instance);
            shown_quantities.push_back(unknowns_[c]);
        }
        for (std::size_t i = 0; i < shown_quantities.size() && i < 8; ++i)
            names += fmt::format("{}'{}'", i == 0 ? "" : ", ", flat_.quantities[shown_quantities[i]].path);
        if (shown_quantities.size() > 8) names += fmt::format(" and {} more", shown_quantities.size() - 8);
        const FlatQuantity& first = flat_.quantities[shown_quantities[0]];
        auto& d = diagnostics_.report(messages::too_few_equations, flat_.shown_place(first.origin), names);
        for (std::size_t i = 0; i < shown_quantities.size() && i < 8; ++i) {
            const FlatQuantity& q = flat_.quantities[shown_quantities[i]];
            d.note(q.origin.span, fmt::format("{}: {}", where(q.origin), q.path));
        }
        for (std::size_t i = 0; i < set.rows.size() && i < 8; ++i) {
            const FlatEquation& e = flat_.equations[s_.equations[set.rows[i]].flat];
            d.note(e.origin.span, fmt::format("held only by {}: {}", where(e.origin), shown(e)));
        }
        std::string balance = unbalanced(instances);
        if (!balance.empty()) d.note({}, balance);
        if (electrical)
            d.mend("usual cause: no reference to ground; join one point of the circuit to an electrics.Ground");
        else if (all_zero_sum && over)
            d.mend("usual cause: two ideal sources in parallel, which leave open how the flow is shared between them");
        else if (balance.empty())
            d.mend("usual causes: a joint left out, a source or reference missing, or an equation forgotten");
        else
            d.mend("add the missing equation to the component");
    }

    const EquationSystem& s_;
    const FlatModel& flat_;
    Diagnostics& diagnostics_;
    std::vector<QuantityId> unknowns_;
    std::vector<std::uint32_t> column_of_;
    Adjacency rows_;
};

}  // namespace

void report_too_many(const EquationSystem& system, const std::vector<std::uint32_t>& rows, const std::vector<QuantityId>& unknowns, Diagnostics& diagnostics)
{
    StructureCheck(system, diagnostics).report_too_many(rows, unknowns);
}

void check_structure(const EquationSystem& system, Diagnostics& diagnostics)
{
    StructureCheck(system, diagnostics).run();
}

}  // namespace netloop

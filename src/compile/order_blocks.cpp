// SPDX-License-Identifier: Apache-2.0
// Blocks in solving order.
#include "compile/forms.hpp"
#include "compile/matching.hpp"
#include "compile/passes.hpp"

namespace netloop {

void order_blocks(ReducedSystem& r, Diagnostics& diagnostics)
{
    UnknownIndex index(r);
    Adjacency rows;
    std::vector<std::uint32_t> equation;  // of each row
    for (std::uint32_t e = 0; e < r.equations.size(); ++e) {
        if (r.equations[e].constraint) continue;
        equation.push_back(e);
        std::vector<std::uint32_t> columns;
        for (const Variable& v : r.system.variables(r.equations[e].residual))
            if (std::uint32_t u = index.of(v); u != kUnmatched) columns.push_back(u);
        rows.add_row(columns);
    }
    Matching m = maximum_matching(rows, static_cast<std::uint32_t>(r.unknowns.size()));
    if (m.size < rows.n_rows() || rows.n_rows() != r.unknowns.size()) {
        for (std::uint32_t e = 0; e < rows.n_rows(); ++e) {
            if (m.column_of_row[e] != kUnmatched) continue;
            const FlatEquation& flat = r.system.flat->equations[r.equations[equation[e]].flat];
            diagnostics.report(messages::too_many_equations, flat.origin.span, 1, 0).note(flat.origin.span, r.system.flat->equation_text(flat));
        }
        throw CompilationStopped{};
    }
    Adjacency needs;
    for (std::uint32_t e = 0; e < rows.n_rows(); ++e) {
        std::vector<std::uint32_t> to;
        for (std::uint32_t k = rows.starts[e]; k < rows.starts[e + 1]; ++k)
            if (m.row_of_column[rows.targets[k]] != e) to.push_back(m.row_of_column[rows.targets[k]]);
        needs.add_row(to);
    }
    for (const auto& component : strong_components(needs)) {
        SolveBlock block;
        for (std::uint32_t e : component) {
            block.equations.push_back(equation[e]);
            block.unknowns.push_back(m.column_of_row[e]);
        }
        r.blocks.push_back(std::move(block));
    }
}

}  // namespace netloop

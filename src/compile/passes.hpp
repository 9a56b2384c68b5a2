// SPDX-License-Identifier: Apache-2.0
// The compiler passes, one function each, in the order in which compile_model runs them.
#pragma once

#include "compile/equation_system.hpp"
#include "compile/solver_form.hpp"

namespace netloop {

/// Thrown when a pass has reported errors that make going on pointless.
struct CompilationStopped {};

/// Params that are to be found at the start (`find ... so that`) become quantities that stand still; what follows from them too.
void free_found_parameters(FlatModel& flat);

/// Sets up the system: rates expanded, conditions that are located replaced by modes.
EquationSystem begin_system(std::unique_ptr<FlatModel> flat, Diagnostics& diagnostics);
void locate_conditions(EquationSystem& system);

/// Conditions that turn where this one does, itself left out: `with` it (the same comparison), or against it (x > 0 and x < 0).
struct SameSurface {
    std::uint32_t condition = 0;
    bool with = true;
};
std::vector<SameSurface> same_surface(const EquationSystem& system, std::uint32_t condition);

/// a = b, a = -b, a' = b and a = (known) are removed; the equations left are written in the representatives.
void remove_aliases(EquationSystem& system);

/// Reports the smallest sets of equations that are too many and unknowns that nothing settles.
void check_structure(const EquationSystem& system, Diagnostics& diagnostics);
/// The same for a set of equations (`rows` of the system) that another pass found to settle fewer unknowns than they are.
void report_too_many(const EquationSystem& system, const std::vector<std::uint32_t>& rows, const std::vector<QuantityId>& unknowns, Diagnostics& diagnostics);

/// Differentiates what must be differentiated and chooses the states. Source: Pantelides (1988), SIAM J. Sci. Stat. Comput. 9,
/// 213-231; Mattsson and Soederlind (1993), SIAM J. Sci. Comput. 14, 677-692.
ReducedSystem reduce_index(EquationSystem system, Diagnostics& diagnostics);

/// Matching and strong components of the reduced system: blocks in solving order.
void order_blocks(ReducedSystem& system, Diagnostics& diagnostics);

/// Explicit steps and iterates of each block.
void tear_blocks(ReducedSystem& system);

/// z, residuals, start conditions and outputs as expressions of z, z', time, parameters and modes.
SolverForm make_solver_form(ReducedSystem system);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Names and values for messages about numbers: which equation is off, which quantity is worst.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/source.hpp"
#include "solve/evaluation.hpp"

namespace netloop {

/// "tank.loop:4: 'level' = 5 m, which must lie in 0 m .. 1 m (level of the oil)" for member i of z.
std::string describe_outside(const CompiledModel& model, const SourceSet& sources, std::size_t i, double value);
/// The same for what a limit is put on, by the values of it and of its ends.
std::string describe_outside(const FlatModel& flat, const FlatLimit& limit, const SourceSet& sources, double value, double low, double high);

/// "bridge.loop:41: in 'pump': q = ..." for residual i of the solver form.
std::string describe_residual(const CompiledModel& model, const SourceSet& sources, std::size_t i);
/// "pump.outlet.p = 12.3 bar" for member i of z.
std::string describe_z(const CompiledModel& model, std::size_t i, double value);
/// "file:line" of a span, or "".
std::string place_text(const SourceSet& sources, Span span);
/// The first quantities of an equation, with values, for a residual that is not finite or does not vanish.
std::string describe_operands(const CompiledModel& model, std::size_t residual, const std::vector<double>& z);
/// Which operation of which equation has no finite value, with its operands; empty if all have one. For a point that failed.
std::string describe_not_finite(const Evaluation& evaluation, const SourceSet& sources, double time, const double* z, const double* rates);
/// The last point at which an equation had no finite value, kept so that a step that fails can tell why.
struct NotFinitePoint {
    bool known = false;
    std::size_t residual = 0;
    double time = 0;
    std::vector<double> z, rates;

    /// Remembers the first residual that is not finite.
    void remember(const double* residuals, std::size_t n, double t, const double* z_values, const double* rate_values);
};
/// What is told of a step that cannot be made: an equation without a value if one was met at or after `time`, else the quantities that
/// are off most (`worst`, first the worst) with their values; but where the rank was lost the member that no equation settles (`lost`), if it is known.
std::string describe_failed_step(const Evaluation& evaluation, const SourceSet& sources, double time, const std::string& cause, const NotFinitePoint& point,
                                 const std::vector<std::size_t>& worst, const double* z, std::optional<std::size_t> lost = {});
/// The other equations of the block to which residual i belongs, which were solved for unknowns and put into it; a few.
std::vector<std::string> describe_substituted(const CompiledModel& model, const SourceSet& sources, std::size_t i);
/// The equation that settles the rate of member i of z, if one does.
std::string describe_rate_of(const CompiledModel& model, const SourceSet& sources, std::size_t i);
/// The dimension of an expression of the flat model, where its quantities tell it; literals have lost theirs.
std::optional<Dimension> dimension_of(const FlatModel& flat, NodeId id, int depth = 0);
/// The unit in which a residual is off ("N*m"), as far as it follows from the quantities in it; else "".
std::string residual_unit(const CompiledModel& model, std::size_t i);
/// The path by which a user knows a variable: a quantity that is an alias of it rather than a derivative of another.
std::string variable_name(const CompiledModel& model, Variable v);

}  // namespace netloop

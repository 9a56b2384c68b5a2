// SPDX-License-Identifier: Apache-2.0
// What errors of the members of z are measured by: tolerance times (value + size), the size growing with the largest value seen unless the user has said one.
#pragma once

#include <string>
#include <vector>

#include "evaluate/compiled_model.hpp"

namespace netloop {

/// `tolerance 1e-9 usual 1e-8 kg for tank.mass`: what a scenario asks for single quantities.
struct OwnTolerance {
    std::string pattern;
    double tolerance = 0;  ///< relative; 0: that of the run
    double usual = 0;      ///< SI; 0: as declared, and growing
};

struct ErrorSizes {
    std::vector<double> usual;   ///< of each member of z, growing
    std::vector<double> least;   ///< of each: what `usual` stays at; 0: it grows
    std::vector<double> factor;  ///< of each: its own tolerance over that of the run
    bool any = false;            ///< whether any member has a tolerance or size of its own

    /// `tolerance`: of the run.
    ErrorSizes(const CompiledModel& model, const std::vector<OwnTolerance>& own, double tolerance);
    /// usual = max(usual, |v|) where it grows, w = 1 / (tolerance factor (|v| + usual)).
    void weigh(double tolerance, const double* v, double* w);
    /// After the weights were made as if none had a tolerance of its own: those that have one.
    void own_weights(double tolerance, const double* v, double* w);
};

/// Members of z whose quantity, or one that is the same, fits the pattern.
std::vector<std::size_t> members_named(const CompiledModel& model, const std::string& pattern);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// The two halves of planning a study: what its text says, and what its expressions are worth in its first machine.
#pragma once

#include <vector>

#include "study/study_data.hpp"

namespace netloop {

/// Factors, collected things, take and keep of `study.decl`; `results`: columns of what is collected. Reports into the library's diagnostics. Within a
/// LibraryWork.
void read_study(LibrarySet& set, StudyData& study, std::vector<StudyColumn>& results);

/// Numbers of params' levels, ranges and distributions, in SI, from `system` (CompiledSystemData::asked); gives the correlations. Reports what has no value,
/// and what lies outside the range of its param. Within a LibraryWork.
std::vector<Design::Correlation> fill_values(LibrarySet& set, StudyData& study, const CompiledSystemData& system);

}  // namespace netloop

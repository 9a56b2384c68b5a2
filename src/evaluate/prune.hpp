// SPDX-License-Identifier: Apache-2.0
// Programs cut down to what is wanted of them.
#pragma once

#include <vector>

#include "evaluate/program.hpp"

namespace netloop {

/// The same program without what none of the places `wanted` needs; they are its results. Kernels over instances stay whole or go. Not prepared.
Program pruned(const Program& program, const std::vector<std::uint32_t>& wanted);

}  // namespace netloop

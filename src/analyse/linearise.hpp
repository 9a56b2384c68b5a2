// SPDX-License-Identifier: Apache-2.0
// A linear model of a point, for inputs and outputs given as params and columns.
#pragma once

#include <optional>

#include "analyse/point.hpp"
#include "netloop/linear_model.hpp"

namespace netloop {

/// What acts: a param, or what is added to a signal with its two rates.
struct ActingInput {
    LinearModel::Signal told;
    ParameterId value = 0;
    std::optional<ParameterId> rate{}, bend{};
    /// What gives the signal, where it is to be cut off from what reads it: a column, less what is added where `less`. None: nothing does.
    std::optional<std::size_t> source{};
    bool less = false;
};

/// What is looked at: a column, or what gives the k-th input.
struct SeenOutput {
    LinearModel::Signal told;
    std::size_t column = 0;
    std::optional<std::size_t> source_of{};
};

/// `cut`: inputs take the place of what gives them; else they are added to it. Throws NumericFailure, and UsageError where a cut is not possible.
LinearModel linearise(Point& point, const std::vector<ActingInput>& inputs, const std::vector<SeenOutput>& outputs, bool cut);

}  // namespace netloop

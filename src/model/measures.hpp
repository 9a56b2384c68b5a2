// SPDX-License-Identifier: Apache-2.0
// The words of measures: what a scenario asks of a run as a whole.
#pragma once

#include <optional>
#include <string>

#include "language/syntax.hpp"

namespace netloop {

enum class MeasureKind { max, min, time_of_max, time_of_min, mean, integral, rms, final, first, last, count };

/// The measure that a call stands for: `max(x)`, `first(time when c)`, `mean(x from 2 s to 5 s)`. None for a call that is a plain function
/// (`max(a, b)`).
std::optional<MeasureKind> measure_kind(const Expr& call);

/// What a measure looks at, apart: `max(x from a to b)`.
struct MeasureCall {
    MeasureKind kind = MeasureKind::final;
    const Expr* value = nullptr;
    const Expr* when = nullptr;                           ///< of first, last and count: the condition
    const Expr *from_time = nullptr, *to_time = nullptr;  ///< none: from the start, to the end
    std::string trouble;                                  ///< what is wrong with the call, in words; empty if nothing is
};
MeasureCall take_apart(const Expr& call, MeasureKind kind);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// What linear models act with: to what reads a signal something is added that is zero in every run, and has two rates.
#pragma once

#include <string>
#include <vector>

#include "model/flat_model.hpp"

namespace netloop {

/// `value + rate (t - since) + bend (t - since)^2 / 2` is added behind a signal. All four are params of the flat model, 0 in every run: the slopes of the
/// equations by them, with `since` at the time of the point, are those by the signal and by its first and second rate.
struct AddedSignal {
    enum class Of {
        input,   ///< an input of a part: its source is the quantity less what is added
        output,  ///< an output of a part: its source is the quantity itself
        system   ///< an input of the system: it has no source
    } of = Of::input;
    std::string path;
    std::uint32_t index = 0;  ///< QuantityId, or ParameterId of the system's input
    ParameterId value = 0, rate = 0, bend = 0, since = 0;
};

/// Adds to what reads the signal of this path. Throws UsageError if it is no signal, or nothing reads it.
AddedSignal add_to_signal(FlatModel& flat, const std::string& path);

}  // namespace netloop

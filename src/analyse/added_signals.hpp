// SPDX-License-Identifier: Apache-2.0
// Signals that something from outside acts on: linear models add to them, a machine without its controller has them given.
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

/// The input of a part of this path follows a new input of the system, of the same path, instead of what it is joined to. Throws UsageError if it is no input
/// of a part. An input of the system itself is left as it is.
void take_from_outside(FlatModel& flat, const std::string& path);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Numbers in JSON, which has no NaN and no infinity: what has no value is null.
#pragma once

#include <cmath>
#include <nlohmann/json.hpp>

namespace netloop {

inline nlohmann::json json_number(double value)
{
    return std::isfinite(value) ? nlohmann::json(value) : nlohmann::json(nullptr);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Functions of a component by which its equations and blocks ask a foreign unit.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "foreign/outside.hpp"
#include "foreign/unit_session.hpp"

namespace netloop {

/// What one result of a function is: the index-th number of a kind.
struct UnitResult {
    UnitAnswer what = UnitAnswer::nothing;
    std::size_t index = 0;
};
using PartOf = std::function<std::shared_ptr<const UnitPart>(const std::string& path)>;
std::shared_ptr<const OutsideFunction> unit_function(PartOf part_of, std::vector<UnitResult> results, std::size_t n_arguments);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// What a change costs: how far a run with it is from the run as it is.
#pragma once

#include <string>
#include <vector>

#include "netloop/advise.hpp"

namespace netloop {

struct Priced {
    std::vector<Advice::Price> prices;  ///< of what is to be kept, then the three quantities that differ most, by their range
    std::string refused;                ///< what goes beyond its bound, or a demand that no longer holds; empty: nothing
};

/// Holds every row of `as_it_is` against straight lines between the rows of `changed`. At an event either side of it in `changed` counts, since it may lie a
/// little earlier or later there. Without `keep`, measures are kept within one percent. Cost: columns times rows.
Priced price_of(const Recording& as_it_is, const Recording& changed, const std::vector<AdviceRequest::Keep>& keep);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Numbers of the unknowns of a reduced system by quantity and order.
#pragma once

#include <utility>
#include <vector>

#include "compile/equation_system.hpp"
#include "compile/matching.hpp"

namespace netloop {

/// Number of each unknown by (quantity, order); kUnmatched for what is given.
class UnknownIndex {
public:
    explicit UnknownIndex(const ReducedSystem& r) : first_(r.system.flat->quantities.size(), kUnmatched)
    {
        for (std::uint32_t i = 0; i < r.unknowns.size(); ++i) {
            const Variable& v = r.unknowns[i];
            if (first_[v.quantity] == kUnmatched) first_[v.quantity] = static_cast<std::uint32_t>(lists_.size()), lists_.emplace_back();
            lists_[first_[v.quantity]].emplace_back(v.order, i);
        }
    }
    std::uint32_t of(Variable v) const
    {
        if (first_[v.quantity] == kUnmatched) return kUnmatched;
        for (const auto& [order, i] : lists_[first_[v.quantity]])
            if (order == v.order) return i;
        return kUnmatched;
    }

private:
    std::vector<std::uint32_t> first_;
    std::vector<std::vector<std::pair<std::uint32_t, std::uint32_t>>> lists_;
};

}  // namespace netloop

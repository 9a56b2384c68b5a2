// SPDX-License-Identifier: Apache-2.0
// Can an expression be zero? Proved from constants and declared ranges of parameters, or, where the system allows it, assumed of params alone, to be looked at
// before a run.
#pragma once

#include <vector>

#include "compile/equation_system.hpp"

namespace netloop {

class ProofOfSign {
public:
    enum class Sign { unknown, positive, negative, not_negative, not_positive };

    /// A number of params that is this little of its terms is taken as zero.
    static constexpr double kCancelled = 1e-6;

    explicit ProofOfSign(const FlatModel& flat) : flat_(flat) {}

    /// True only if the expression is proved to be different from zero whatever values the parameters may take in their ranges.
    bool never_zero(NodeId id) { return sign(id, 0) == Sign::positive || sign(id, 0) == Sign::negative; }
    /// Also if it is one of params alone, is not zero at their values as written, and the system may assume so: it is then told in EquationSystem::assumed.
    /// For equations that settle one unknown each: in elimination such pivots could be small against the rest.
    bool never_zero_here(NodeId id, EquationSystem& system) { return never_zero(id) || (system.may_assume && assume(id, system)); }
    /// The sum of the sizes of the terms of an expression, which tells whether it is zero but for rounding.
    static NodeId size_of(Graph& graph, NodeId id);

private:
    Sign sign(NodeId id, int depth);
    void collect_factors(NodeId id, std::vector<NodeId>& factors, bool& negative, int depth) const;

    bool assume(NodeId id, EquationSystem& system);

    const FlatModel& flat_;
    std::vector<double> parameters_;  ///< as written
};

}  // namespace netloop

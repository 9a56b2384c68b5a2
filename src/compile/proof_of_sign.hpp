// Can an expression be zero? Proved from constants and declared ranges of parameters only.
#pragma once

#include <vector>

#include "model/flat_model.hpp"

namespace netloop {

class ProofOfSign {
public:
    enum class Sign { unknown, positive, negative, not_negative, not_positive };

    explicit ProofOfSign(const FlatModel& flat) : flat_(flat) {}

    /// True only if the expression is proved to be different from zero whatever values the parameters may take in their ranges.
    bool never_zero(NodeId id) { return sign(id, 0) == Sign::positive || sign(id, 0) == Sign::negative; }

private:
    Sign sign(NodeId id, int depth);
    void collect_factors(NodeId id, std::vector<NodeId>& factors, bool& negative, int depth) const;

    const FlatModel& flat_;
};

}  // namespace netloop

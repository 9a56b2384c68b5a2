// SPDX-License-Identifier: Apache-2.0
// A run at one moment, whole, as numbers with names: to be kept, and to go on from.
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

struct CompiledModel;

using Moment = RunPoint;

/// Names of what a system solves for, made once for each system that a run goes through.
class MomentNames {
public:
    /// Those of members of z, with every quantity that is one of them up to its sign, and of their rates behind them: 2 n numbers.
    const RunPoint::Layout& of(const CompiledModel& model);
    /// One layout for all points that have the same names.
    std::shared_ptr<const RunPoint::Layout> shared(RunPoint::Layout layout);

private:
    std::map<const CompiledModel*, RunPoint::Layout> made_;
    std::vector<std::shared_ptr<const RunPoint::Layout>> known_;
};

}  // namespace netloop

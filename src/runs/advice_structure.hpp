// SPDX-License-Identifier: Apache-2.0
// Changes of what a system is made of, for advice: options of its parts, and other components in the place of them.
#pragma once

#include <map>
#include <mutex>
#include <string>
#include <vector>

#include "netloop/advise.hpp"

namespace netloop {

class AdviceStructure {
public:
    /// What the system is compiled from, and by which request.
    AdviceStructure(const Library& library, const CompileRequest& request);

    /// The system with the structural ones of these changes. Compiled once each; may be called from several threads. Throws what compile() throws.
    CompiledSystem with(const std::vector<Advice::Change>& changes);
    /// What may be tried at a part, as it stands in a run of this system: options of it and of what holds it; what the text of its kind names with `Instead:`,
    /// with those of its params that both have. Without reasons. `taken`: the changes that the system was made with.
    std::vector<Advice::Change> at_part(const std::string& part, const CompiledSystem& system, Run& run, const std::vector<Advice::Change>& taken);

private:
    Library library_;
    CompileRequest request_;
    std::mutex lock_;
    std::map<std::string, CompiledSystem> made_;  ///< by the changes in words
};

}  // namespace netloop

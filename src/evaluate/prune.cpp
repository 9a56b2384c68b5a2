// SPDX-License-Identifier: Apache-2.0
#include "evaluate/prune.hpp"

#include <algorithm>
#include <unordered_set>

#include "evaluate/interpret.hpp"

namespace netloop {

Program pruned(const Program& program, const std::vector<std::uint32_t>& wanted)
{
    Program made;
    made.name = program.name;
    made.results = wanted;
    std::unordered_set<std::uint32_t> needed(wanted.begin(), wanted.end());
    for (auto k = program.kernels.rbegin(); k != program.kernels.rend(); ++k) {
        if (k->n_instances > 1) {
            if (std::none_of(k->outputs.begin(), k->outputs.end(), [&](std::uint32_t place) { return needed.contains(place); })) continue;
            needed.insert(k->inputs.begin(), k->inputs.end());
            made.kernels.push_back(*k);
            continue;
        }
        Kernel kept;
        for (auto i = k->code.rbegin(); i != k->code.rend(); ++i) {
            if (!needed.contains(i->to)) continue;
            each_place_read(*k, *i, [&](std::uint32_t place) { needed.insert(place); });
            kept.code.push_back(*i);
        }
        if (kept.code.empty()) continue;
        std::reverse(kept.code.begin(), kept.code.end());
        kept.arguments = k->arguments;
        made.kernels.push_back(std::move(kept));
    }
    std::reverse(made.kernels.begin(), made.kernels.end());
    return made;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "evaluate/prune.hpp"

#include <algorithm>
#include <unordered_set>

#include "evaluate/interpret.hpp"

namespace netloop {

Pruner::Pruner(const Program& program) : program_(program)
{
    for (std::uint32_t k = 0; k < program.kernels.size(); ++k) {
        const Kernel& kernel = program.kernels[k];
        if (kernel.n_instances == 1)
            for (std::uint32_t i = 0; i < kernel.code.size(); ++i) source_[kernel.code[i].to] = {k, i};
        else
            for (std::size_t o = 0; o < kernel.outputs.size(); ++o) source_[kernel.outputs[o]] = {k, static_cast<std::uint32_t>(o % kernel.n_instances)};
    }
}

Program Pruner::operator()(const std::vector<std::uint32_t>& wanted) const
{
    std::vector<std::vector<std::uint32_t>> taken(program_.kernels.size());  // instructions or instances
    std::unordered_set<std::uint64_t> seen;
    std::vector<std::uint32_t> open = wanted;
    auto take = [&] {
        while (!open.empty()) {
            auto found = source_.find(open.back());
            open.pop_back();
            if (found == source_.end()) continue;
            auto [k, i] = found->second;
            if (!seen.insert((static_cast<std::uint64_t>(k) << 32) | i).second) continue;
            const Kernel& kernel = program_.kernels[k];
            taken[k].push_back(i);
            if (kernel.n_instances == 1)
                each_place_read(kernel, kernel.code[i], [&](std::uint32_t place) { open.push_back(place); });
            else
                for (std::uint32_t r = 0; r < kernel.n_inputs; ++r) open.push_back(kernel.inputs[r * kernel.n_instances + i]);
        }
    };
    take();
    // one instance alone would be straight code, whose places are others: a neighbour comes with it. What it reads lies in kernels before it.
    for (std::size_t k = taken.size(); k-- > 0;) {
        const Kernel& kernel = program_.kernels[k];
        if (kernel.n_instances == 1 || taken[k].size() != 1) continue;
        open.push_back(kernel.outputs[taken[k][0] == 0 ? 1 : taken[k][0] - 1]);
        take();
    }
    Program made;
    made.name = program_.name;
    made.results = wanted;
    for (std::size_t k = 0; k < taken.size(); ++k) {
        std::vector<std::uint32_t>& kept = taken[k];
        if (kept.empty()) continue;
        std::sort(kept.begin(), kept.end());
        const Kernel& whole = program_.kernels[k];
        Kernel& few = made.kernels.emplace_back();
        few.arguments = whole.arguments;
        if (whole.n_instances == 1) {
            for (std::uint32_t i : kept) few.code.push_back(whole.code[i]);
            continue;
        }
        few.n_instances = static_cast<std::uint32_t>(kept.size());
        few.n_inputs = whole.n_inputs;
        few.n_registers = whole.n_registers;
        few.code = whole.code;
        few.output_registers = whole.output_registers;
        auto pick = [&](const std::vector<std::uint32_t>& all, std::vector<std::uint32_t>& to) {
            for (std::size_t row = 0; row * whole.n_instances < all.size(); ++row)
                for (std::uint32_t i : kept) to.push_back(all[row * whole.n_instances + i]);
        };
        pick(whole.inputs, few.inputs);
        pick(whole.outputs, few.outputs);
    }
    return made;
}

Program pruned(const Program& program, const std::vector<std::uint32_t>& wanted)
{
    return Pruner(program)(wanted);
}

std::vector<std::uint32_t> places_read(const Program& program)
{
    std::unordered_set<std::uint32_t> given;
    std::vector<std::uint32_t> read;
    auto see = [&](std::uint32_t place) {
        if (!given.contains(place)) read.push_back(place);
    };
    for (const Kernel& k : program.kernels) {
        if (k.n_instances > 1) {
            for (std::uint32_t place : k.inputs) see(place);
            given.insert(k.outputs.begin(), k.outputs.end());
            continue;
        }
        for (const Instruction& i : k.code) {
            each_place_read(k, i, see);
            given.insert(i.to);
        }
    }
    std::sort(read.begin(), read.end());
    read.erase(std::unique(read.begin(), read.end()), read.end());
    return read;
}

}  // namespace netloop

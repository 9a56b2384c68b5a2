// SPDX-License-Identifier: Apache-2.0
// Programs cut down to what is wanted of them.
#pragma once

#include <unordered_map>
#include <utility>
#include <vector>

#include "evaluate/program.hpp"

namespace netloop {

/// Cuts one program down for many wishes: each costs as much as what it is made of, however long the program is.
class Pruner {
public:
    /// The program must outlive it, and give each place once.
    explicit Pruner(const Program& program);
    /// The same program without what none of the places `wanted` needs; they are its results. Kernels over instances keep those that are needed. Not prepared.
    Program operator()(const std::vector<std::uint32_t>& wanted) const;

private:
    const Program& program_;
    std::unordered_map<std::uint32_t, std::pair<std::uint32_t, std::uint32_t>> source_;  ///< of each place: kernel, and instruction or instance
};

Program pruned(const Program& program, const std::vector<std::uint32_t>& wanted);

/// Places that a program reads and does not give itself.
std::vector<std::uint32_t> places_read(const Program& program);

}  // namespace netloop

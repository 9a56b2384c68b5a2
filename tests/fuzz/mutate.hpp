// SPDX-License-Identifier: Apache-2.0
// Texts of models, tables and recordings, changed at random: the same seed and number give the same text everywhere.
#pragma once

#include <cstdint>
#include <random>
#include <string>
#include <vector>

namespace fuzz {

/// splitmix64 (Steele, Lea, Flood 2014): the same numbers with every standard library.
class Random {
public:
    Random(std::uint64_t seed, std::uint64_t number) : state_(seed * 0x9e3779b97f4a7c15u + number) { next(); }
    std::uint64_t next()
    {
        std::uint64_t z = state_ += 0x9e3779b97f4a7c15u;
        z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9u;
        z = (z ^ (z >> 27)) * 0x94d049bb133111ebu;
        return z ^ (z >> 31);
    }
    /// 0 .. most - 1.
    std::size_t below(std::size_t most) { return most == 0 ? 0 : next() % most; }
    template <typename List>
    const auto& of(const List& list)
    {
        return list[below(std::size(list))];
    }

private:
    std::uint64_t state_;
};

/// How far a change goes: `any` may break words, brackets, bytes; `numbers` changes values and units only, so that most results still run.
enum class Reach { any, numbers };

/// One text of `texts`, changed in one to ten places, some of them with pieces of the others.
std::string mutant(const std::vector<std::string>& texts, Reach reach, Random& random);

/// Rows of numbers between commas (a table, a recording), changed.
std::string mutated_rows(const std::string& text, Random& random);

}  // namespace fuzz

// SPDX-License-Identifier: Apache-2.0
// Recursion over what a user wrote: as deep as the text goes, and ended by a message rather than by the end of the stack.
#pragma once

#include <cstddef>
#include <functional>
#include <optional>
#include <utility>

namespace netloop {

/// Does the work on a stack of its own of 1 GiB: address space, of which only what is used takes memory. Where that cannot be had, and within such work, on the
/// stack at hand. What it throws is passed on. `size`: bytes of what the work recurses over, if known; a small text needs no such stack, whatever is in it.
/// Cost: some hundred microseconds, mostly of touching fresh pages.
void with_deep_stack(const std::function<void()>& work, std::size_t size = static_cast<std::size_t>(-1));

/// The same with a result.
template <typename Work>
auto on_deep_stack(const Work& work, std::size_t size = static_cast<std::size_t>(-1))
{
    std::optional<decltype(work())> result;
    with_deep_stack([&] { result.emplace(work()); }, size);
    return std::move(*result);
}

/// Whether this thread has so little of its stack left that it must go no deeper. Some nanoseconds.
bool stack_is_short();

}  // namespace netloop

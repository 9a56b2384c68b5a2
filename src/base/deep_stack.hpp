// SPDX-License-Identifier: Apache-2.0
// Recursion over what a user wrote: as deep as the text goes, and ended by a message rather than by the end of the stack.
#pragma once

#include <functional>
#include <optional>
#include <utility>

namespace netloop {

/// Does the work on a stack of its own of 1 GiB: address space, of which only what is used takes memory. Where that cannot be had, and within such work, on the
/// stack at hand. What it throws is passed on.
void with_deep_stack(const std::function<void()>& work);

/// The same with a result.
template <typename Work>
auto on_deep_stack(const Work& work)
{
    std::optional<decltype(work())> result;
    with_deep_stack([&] { result.emplace(work()); });
    return std::move(*result);
}

/// Whether this thread has so little of its stack left that it must go no deeper. Some nanoseconds.
bool stack_is_short();

}  // namespace netloop

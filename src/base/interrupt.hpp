// SPDX-License-Identifier: Apache-2.0
// Work that may take long looks now and then whether it is still wanted.
#pragma once

#include <atomic>

namespace netloop {

/// Within it, what this thread does looks at `flag` (null: at nothing).
class InterruptScope {
public:
    explicit InterruptScope(const std::atomic<bool>* flag);
    ~InterruptScope();
    InterruptScope(const InterruptScope&) = delete;
    InterruptScope& operator=(const InterruptScope&) = delete;

private:
    const std::atomic<bool>* before_;
};

/// What this thread looks at.
const std::atomic<bool>* interrupt_flag();
/// Whether it was asked to end. Cheap.
bool interrupt_asked();
/// Throws Interrupted if it was.
void look_at_interrupt();

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "base/interrupt.hpp"

#include "netloop/error.hpp"

namespace netloop {
namespace {
thread_local const std::atomic<bool>* flag_of_thread = nullptr;
}

InterruptScope::InterruptScope(const std::atomic<bool>* flag) : before_(flag_of_thread)
{
    if (flag != nullptr) flag_of_thread = flag;
}

InterruptScope::~InterruptScope()
{
    flag_of_thread = before_;
}

const std::atomic<bool>* interrupt_flag()
{
    return flag_of_thread;
}

bool interrupt_asked()
{
    return flag_of_thread != nullptr && flag_of_thread->load(std::memory_order_relaxed);
}

void look_at_interrupt()
{
    if (interrupt_asked()) throw Interrupted("interrupted");
}

}  // namespace netloop

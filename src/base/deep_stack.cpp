// SPDX-License-Identifier: Apache-2.0
#include "base/deep_stack.hpp"

#include <pthread.h>

#include <cstddef>
#include <cstdint>
#include <exception>

#include "base/interrupt.hpp"

namespace netloop {
namespace {

constexpr std::size_t kDeep = std::size_t{1} << 30, kMargin = std::size_t{512} << 10;

thread_local bool on_deep = false;
thread_local std::uintptr_t lowest = 0;  // of this thread's stack

struct Task {
    const std::function<void()>& work;
    const std::atomic<bool>* interrupt;
    std::exception_ptr failure;
};

void* run(void* given)
{
    auto& task = *static_cast<Task*>(given);
    on_deep = true;
    InterruptScope scope(task.interrupt);
    try {
        task.work();
    } catch (...) {
        task.failure = std::current_exception();
    }
    return nullptr;
}

}  // namespace

void with_deep_stack(const std::function<void()>& work, std::size_t size)
{
    constexpr std::size_t kSmall = 8192;  // bytes of text: a few hundred definitions
    pthread_attr_t attributes;
    if (on_deep || size <= kSmall || pthread_attr_init(&attributes) != 0) return work();
    Task task{work, interrupt_flag(), nullptr};
    pthread_t thread{};
    bool begun = pthread_attr_setstacksize(&attributes, kDeep) == 0 && pthread_create(&thread, &attributes, run, &task) == 0;
    pthread_attr_destroy(&attributes);
    if (!begun) return work();
    pthread_join(thread, nullptr);
    if (task.failure != nullptr) std::rethrow_exception(task.failure);
}

bool stack_is_short()
{
    if (lowest == 0) {
        pthread_attr_t attributes;
        void* begin = nullptr;
        std::size_t size = 0;
        if (pthread_getattr_np(pthread_self(), &attributes) == 0) {
            pthread_attr_getstack(&attributes, &begin, &size);
            pthread_attr_destroy(&attributes);
        }
        lowest = reinterpret_cast<std::uintptr_t>(begin) + 1;  // 1: not known, and not asked again
    }
    char here = 0;
    return lowest > 1 && reinterpret_cast<std::uintptr_t>(&here) - lowest < kMargin;
}

}  // namespace netloop

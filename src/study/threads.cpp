// SPDX-License-Identifier: Apache-2.0
#include "study/threads.hpp"

#include <algorithm>

namespace netloop {

unsigned jobs_for(unsigned jobs, std::size_t tasks)
{
    constexpr std::size_t kMostThreads = 1024;
    std::size_t n = jobs > 0 ? jobs : std::max(1u, std::thread::hardware_concurrency());
    return static_cast<unsigned>(std::clamp<std::size_t>(n, 1, std::clamp<std::size_t>(tasks, 1, kMostThreads)));
}

void parallel_for(std::size_t n, unsigned jobs, const std::function<void(std::size_t)>& work)
{
    std::atomic<std::size_t> next{0};
    std::mutex failing;
    std::exception_ptr failure;
    auto loop = [&] {
        for (std::size_t i = next++; i < n; i = next++) {
            try {
                work(i);
            } catch (...) {
                std::lock_guard lock(failing);
                if (!failure) failure = std::current_exception();
                next = n;
            }
        }
    };
    std::vector<std::thread> threads;
    for (unsigned k = jobs_for(jobs, n); k > 1; --k) threads.emplace_back(loop);
    loop();
    for (std::thread& t : threads) t.join();
    if (failure) std::rethrow_exception(failure);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Work on all cores: a loop over numbers, and a queue that is filled while it is emptied.
#pragma once

#include <atomic>
#include <condition_variable>
#include <deque>
#include <exception>
#include <functional>
#include <mutex>
#include <optional>
#include <thread>
#include <utility>
#include <vector>

namespace netloop {

/// `jobs`, or where it is 0 as many as the machine has processors; not more than `tasks`.
unsigned jobs_for(unsigned jobs, std::size_t tasks);

/// Calls work(i) for i in 0 .. n - 1, each once, from `jobs` threads at a time. The first exception ends it, once what is under way is over, and is thrown.
void parallel_for(std::size_t n, unsigned jobs, const std::function<void(std::size_t)>& work);

/// What several threads take from and one puts into. Any thread may call anything.
template <typename Item>
class Queue {
public:
    void put(Item item)
    {
        {
            std::lock_guard lock(mutex_);
            items_.push_back(std::move(item));
        }
        there_.notify_one();
    }
    /// Waits for one; none: the queue is closed and empty.
    std::optional<Item> take()
    {
        std::unique_lock lock(mutex_);
        there_.wait(lock, [&] { return closed_ || !items_.empty(); });
        if (items_.empty()) return std::nullopt;
        Item item = std::move(items_.front());
        items_.pop_front();
        return item;
    }
    /// All that is there, after waiting for at most `seconds` for something.
    std::vector<Item> take_all(double seconds)
    {
        std::unique_lock lock(mutex_);
        there_.wait_for(lock, std::chrono::duration<double>(seconds), [&] { return closed_ || !items_.empty(); });
        std::vector<Item> all(std::make_move_iterator(items_.begin()), std::make_move_iterator(items_.end()));
        items_.clear();
        return all;
    }
    std::size_t size() const
    {
        std::lock_guard lock(mutex_);
        return items_.size();
    }
    /// No more comes. `drop`: what waits is not to be taken either.
    void close(bool drop = false)
    {
        {
            std::lock_guard lock(mutex_);
            closed_ = true;
            if (drop) items_.clear();
        }
        there_.notify_all();
    }

private:
    mutable std::mutex mutex_;
    std::condition_variable there_;
    std::deque<Item> items_;
    bool closed_ = false;
};

}  // namespace netloop

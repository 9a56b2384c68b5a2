// SPDX-License-Identifier: Apache-2.0
// Where the time of a run goes.
#pragma once

#include <chrono>
#include <cstdint>

#if defined(__x86_64__)
#include <x86intrin.h>
#endif

namespace netloop {

/// The processor's own clock: a step of a small system takes less than a microsecond, and reading the system's clock eight times in it
/// would be a third of that. Ticks become seconds by comparison with the system's clock over the whole run.
inline std::uint64_t ticks()
{
#if defined(__x86_64__)
    return __rdtsc();
#else
    return static_cast<std::uint64_t>(std::chrono::steady_clock::now().time_since_epoch().count());
#endif
}

/// Wall time by kind of work: ticks while a run goes on, seconds in what statistics() returns.
struct TimeShares {
    double equations = 0;   ///< residuals
    double jacobian = 0;    ///< values of dF/dz and dF/dz'
    double algebra = 0;     ///< factorisation and solution of the linear systems of steps
    double conditions = 0;  ///< looking for events
    double rows = 0;        ///< solving, computing and writing recorded rows

    TimeShares scaled(double by) const { return {equations * by, jacobian * by, algebra * by, conditions * by, rows * by}; }
};

/// Adds the ticks of its life to a total.
class Stopwatch {
public:
    explicit Stopwatch(double& total) : total_(total), begin_(ticks()) {}
    ~Stopwatch() { total_ += static_cast<double>(ticks() - begin_); }
    Stopwatch(const Stopwatch&) = delete;
    Stopwatch& operator=(const Stopwatch&) = delete;

private:
    double& total_;
    std::uint64_t begin_;
};

}  // namespace netloop

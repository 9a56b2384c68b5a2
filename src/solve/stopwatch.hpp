// Where the time of a run goes.
#pragma once

#include <chrono>

namespace netloop {

/// Seconds of wall time by kind of work.
struct TimeShares {
    double equations = 0;   ///< residuals
    double jacobian = 0;    ///< values of dF/dz and dF/dz'
    double algebra = 0;     ///< factorisation and solution of the linear systems of steps
    double conditions = 0;  ///< looking for events
    double rows = 0;        ///< solving, computing and writing recorded rows
};

/// Adds the time of its life to a total. Two clock readings, some 50 ns.
class Stopwatch {
public:
    explicit Stopwatch(double& total) : total_(total), begin_(std::chrono::steady_clock::now()) {}
    ~Stopwatch() { total_ += std::chrono::duration<double>(std::chrono::steady_clock::now() - begin_).count(); }
    Stopwatch(const Stopwatch&) = delete;
    Stopwatch& operator=(const Stopwatch&) = delete;

private:
    double& total_;
    std::chrono::steady_clock::time_point begin_;
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Five machines of any size, and the bridge, as an engineer would write them by hand for exactly that machine: minimal states, right-hand side and analytic
// sparse Jacobian as loops. And the same machines as Net Loop text.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace by_hand {

/// y' = f(t, y).
class Problem {
public:
    virtual ~Problem() = default;
    virtual std::size_t n_states() const = 0;
    virtual double stop() const = 0;  ///< s
    virtual void start(double* y) const = 0;
    virtual void rates(double t, const double* y, double* dy) const = 0;
    /// Entries of df/dy, in an order that is always the same.
    using Entry = std::function<void(std::size_t row, std::size_t column, double value)>;
    virtual void pattern(const Entry& entry) const = 0;
    virtual void jacobian(double t, const double* y, double* values) const = 0;  ///< in the order of pattern()
    virtual double usual(std::size_t state) const = 0;                           ///< size of a state, for its absolute tolerance
    virtual std::string path(std::size_t state) const = 0;                       ///< its name in the Net Loop model
    virtual std::string model() const = 0;                                       ///< the same machine as Net Loop text, the only system in it
};

extern const std::vector<std::string> kProblems;  ///< those of any size
extern const std::string kBridge;                 ///< of one size
std::unique_ptr<Problem> make_problem(const std::string& name, std::size_t cells);

struct Settings {
    double tolerance = 1e-6;
    bool adams = false;               ///< functional iteration without a matrix
    int renew = 0;                    ///< steps after which the matrix is renewed; 0: CVODE's defaults
    double patience = 100;            ///< s after which a run is given up
    std::vector<std::size_t> keep{};  ///< states of which the rows consist; empty: all
};
struct Result {
    bool done = false;
    double seconds = 0;
    long steps = 0;
    std::vector<std::vector<double>> states;  ///< at the output times
};
/// CVODE with KLU and optimised vector kernels.
Result solve(const Problem& problem, const Settings& settings, const std::vector<double>& times);

}  // namespace by_hand

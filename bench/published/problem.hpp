// SPDX-License-Identifier: Apache-2.0
// Problems of the literature of initial value problems: as programs written by hand, and as Net Loop text, written from the same source.
#pragma once

#include <cstddef>
#include <functional>
#include <limits>
#include <string>
#include <vector>

#include "dual.hpp"

namespace published {

/// y' = f(t, y), or F(t, y, y') = 0.
struct Problem {
    std::string name, source;
    std::size_t n = 0;
    double stop = 0;
    std::vector<double> start, start_rates;  ///< the rates only where there are equations beside derivatives
    std::vector<double> usual;               ///< sizes of the states: absolute tolerances are the tolerance times these
    std::function<void(double t, const double* y, double* dy)> rates;
    std::function<void(long double t, const long double* y, long double* dy)> fine_rates;  ///< the same, for the reference
    std::function<void(double t, const double* y, const double* dy, double* f)> residual;  ///< where `rates` is empty
    /// df/dy, or dF/dy + cj dF/dy', by columns: full, or each column from row j - band to j + band.
    std::function<void(double t, const double* y, double* j)> jacobian;
    std::function<void(double t, const double* y, const double* dy, double cj, double* j)> iteration_matrix;
    std::size_t band = 0;  ///< 0: the matrix is full
    std::vector<std::string> paths;
    std::function<std::string(const std::string& path)> units;  ///< of a state in the text; empty: there are none
    /// The first of the states, whose absolute tolerances the scenario gives; others keep those by rule.
    std::size_t n_sized = std::numeric_limits<std::size_t>::max();
    std::string text;
    /// Members and values at the stop as the source prints them; used to check the reference.
    std::vector<std::pair<std::size_t, double>> printed;

    bool is_explicit() const { return static_cast<bool>(rates); }
};

/// Fills in right-hand side and full Jacobian of a problem whose equations are `p.rates(t, y, dy)` for numbers of any kind.
template <std::size_t n, class P>
void write_explicit(Problem& to, P p)
{
    to.n = n;
    to.rates = [p](double t, const double* y, double* dy) { p.rates(t, y, dy); };
    to.fine_rates = [p](long double t, const long double* y, long double* dy) { p.rates(static_cast<double>(t), y, dy); };
    to.jacobian = [p](double t, const double* y, double* j) {
        Dual<n> d[n], f[n];
        for (std::size_t k = 0; k < n; ++k) d[k] = Dual<n>::variable(y[k], k);
        p.rates(t, d, f);
        for (std::size_t c = 0; c < n; ++c)
            for (std::size_t r = 0; r < n; ++r) j[c * n + r] = f[r].d[c];
    };
}

/// The same of a problem whose equations are `p.residual(t, y, dy, f)`.
template <std::size_t n, class P>
void write_implicit(Problem& to, P p)
{
    to.n = n;
    to.residual = [p](double t, const double* y, const double* dy, double* f) { p.residual(t, y, dy, f); };
    to.iteration_matrix = [p](double t, const double* y, const double* dy, double cj, double* j) {
        Dual<n> d[n], rate[n], f[n];
        for (std::size_t k = 0; k < n; ++k) d[k] = Dual<n>::variable(y[k], k), rate[k] = Dual<n>::variable(dy[k], k, cj);
        p.residual(t, d, rate, f);
        for (std::size_t c = 0; c < n; ++c)
            for (std::size_t r = 0; r < n; ++r) j[c * n + r] = f[r].d[c];
    };
}

/// y1, y2 ... as the models call their states.
std::vector<std::string> numbered(const std::string& name, std::size_t n, bool array = false);

/// The scenario `measured`: absolute tolerances as the other programs have them, of sizes that stay as they are, so that what decays keeps its digits.
std::string scenario_of(const Problem& p);

Problem hires(), pollution(), oregonator(), robertson(), akzo_nobel();
Problem ring_modulator(), transistor_amplifier();
Problem van_der_pol(), arenstorf(), pleiades(), beam(), brusselator();

std::vector<Problem> all_problems();

}  // namespace published

// SPDX-License-Identifier: Apache-2.0
// A history that goes on from a point within its last step.
#pragma once

#include <cstddef>
#include <vector>

#include "solve/consistent.hpp"

namespace netloop {

/// Members of z whose value or rate jumped at an event: how many are states, and whether the past of the others is still worth keeping.
struct Jumped {
    std::size_t states = 0;
    bool most = false;
};
inline Jumped count_jumped(const Evaluation& evaluation, const std::vector<char>& jumped)
{
    Jumped count;
    std::size_t n_states = 0;
    for (std::size_t i = 0; i < jumped.size(); ++i)
        if (evaluation.is_state(i)) ++n_states, count.states += jumped[i] != 0 ? 1 : 0;
    count.most = 2 * count.states > n_states;
    return count;
}
/// An event nearer to the step's beginning than this share of the step: the two are hardly apart, and no history can be kept.
inline constexpr double kNearestEvent = 1e-3;
/// Where events follow each other closely, a step that reaches far beyond the next one only brings its error into what is used of it: behind
/// an event no step is longer than this many times what was used of the last.
inline constexpr double kBeyondEvent = 5;

/// `phi[0] .. phi[k]` are modified divided differences over the points x, x - psi[0], ..., x - psi[k-1]: phi[j] is the divided difference
/// of order j times psi[0] ... psi[j-1]. The same polynomial is written over the points x - back, x - psi[0], ...; psi follows.
/// `back` must be less than psi[0]. Source: Newton's divided differences; the recursion follows from exchanging the first point.
inline void rebase(std::size_t n, double* const* phi, double* psi, int k, double back)
{
    if (k < 1 || back == 0) return;
    double product[16], moved[16], shorter[16];
    product[0] = moved[0] = 1;
    for (int j = 0; j < k; ++j) {
        shorter[j] = psi[j] - back;
        product[j + 1] = product[j] * psi[j];
        moved[j + 1] = moved[j] * shorter[j];
    }
    for (std::size_t i = 0; i < n; ++i) {
        double rest = 0;
        for (int j = k; j >= 0; --j) {
            double d = phi[j][i] / product[j];
            phi[j][i] = moved[j] * (d - back * rest);
            if (j > 0) rest = d + shorter[j - 1] * rest;
        }
    }
    for (int j = 0; j < k; ++j) psi[j] = shorter[j];
}

/// The differences that a method in variable steps would have, had it come over `past` in equal steps, the present state first: of `values` of the states, of
/// orders 0 .. order, into phi[0 .. order].
template <typename Values>
void backward_differences(std::size_t n, const std::vector<State>& past, int order, Values values, double* const* phi)
{
    for (int j = 0; j <= order; ++j) std::copy_n(values(past[static_cast<std::size_t>(j)]), n, phi[j]);
    for (int j = 1; j <= order; ++j)
        for (int k = order; k >= j; --k)
            for (std::size_t i = 0; i < n; ++i) phi[k][i] = phi[k - 1][i] - phi[k][i];
}

}  // namespace netloop

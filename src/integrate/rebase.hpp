// A history that goes on from a point within its last step.
#pragma once

#include <cstddef>

namespace netloop {

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

}  // namespace netloop

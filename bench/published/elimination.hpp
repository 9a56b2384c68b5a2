// SPDX-License-Identifier: Apache-2.0
// Gaussian elimination with row exchanges, of full and of banded matrices by columns, for SUNDIALS.
#pragma once

#include <sundials/sundials_linearsolver.h>
#include <sundials/sundials_nvector.h>

#include <cmath>
#include <cstddef>
#include <utility>
#include <vector>

namespace published {

struct Elimination {
    std::size_t n = 0, band = 0;  ///< band 0: full
    std::vector<double> matrix;   ///< as the problem gives it; factored in place
    std::vector<std::size_t> pivots;

    bool factor() { return band == 0 ? factor_full() : factor_band(); }
    void solve(double* b) const { band == 0 ? solve_full(b) : solve_band(b); }

private:
    bool factor_full()
    {
        double* a = matrix.data();
        for (std::size_t k = 0; k < n; ++k) {
            double* column = a + k * n;
            std::size_t p = k;
            for (std::size_t i = k + 1; i < n; ++i)
                if (std::abs(column[i]) > std::abs(column[p])) p = i;
            pivots[k] = p;
            if (column[p] == 0) return false;
            if (p != k)
                for (std::size_t j = 0; j < n; ++j) std::swap(a[j * n + p], a[j * n + k]);
            double inverse = 1 / column[k];
            for (std::size_t i = k + 1; i < n; ++i) column[i] *= inverse;
            for (std::size_t j = k + 1; j < n; ++j) {
                double f = a[j * n + k];
                if (f == 0) continue;
                double* to = a + j * n;
                for (std::size_t i = k + 1; i < n; ++i) to[i] -= f * column[i];
            }
        }
        return true;
    }
    void solve_full(double* b) const
    {
        const double* a = matrix.data();
        for (std::size_t k = 0; k < n; ++k)
            if (pivots[k] != k) std::swap(b[k], b[pivots[k]]);
        for (std::size_t k = 0; k < n; ++k)
            for (std::size_t i = k + 1; i < n; ++i) b[i] -= a[k * n + i] * b[k];
        for (std::size_t k = n; k-- > 0;) {
            b[k] /= a[k * n + k];
            for (std::size_t i = 0; i < k; ++i) b[i] -= a[k * n + i] * b[k];
        }
    }
    // I - gamma J of diffusion is dominated by its diagonal: no exchanges are needed
    bool factor_band()
    {
        std::size_t w = 2 * band + 1;
        for (std::size_t k = 0; k < n; ++k) {
            double* column = matrix.data() + k * w;
            if (column[band] == 0) return false;
            double inverse = 1 / column[band];
            std::size_t last = std::min(band, n - 1 - k);
            for (std::size_t i = 1; i <= last; ++i) column[band + i] *= inverse;
            for (std::size_t j = 1; j <= last; ++j) {
                double* to = matrix.data() + (k + j) * w + band - j;
                for (std::size_t i = 1; i <= last; ++i) to[i] -= to[0] * column[band + i];
            }
        }
        return true;
    }
    void solve_band(double* b) const
    {
        std::size_t w = 2 * band + 1;
        for (std::size_t k = 0; k < n; ++k)
            for (std::size_t i = 1; i <= std::min(band, n - 1 - k); ++i) b[k + i] -= matrix[k * w + band + i] * b[k];
        for (std::size_t k = n; k-- > 0;) {
            b[k] /= matrix[k * w + band];
            for (std::size_t i = 1; i <= std::min(band, k); ++i) b[k - i] -= matrix[k * w + band - i] * b[k];
        }
    }
};

}  // namespace published

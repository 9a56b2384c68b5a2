// SPDX-License-Identifier: Apache-2.0
// Numbers that carry their spread, and truncated Taylor series of them.
#pragma once

#include <array>
#include <cmath>
#include <cstddef>

namespace netloop {

/// A value, and by how much it would change at most, to first order, if each number that it is computed from changed by its own size:
/// what an error of it is to be judged by.
struct Measured {
    double value = 0, spread = 0;

    friend Measured operator-(const Measured& a) { return {-a.value, a.spread}; }
    friend Measured operator+(const Measured& a, const Measured& b) { return {a.value + b.value, a.spread + b.spread}; }
    friend Measured operator-(const Measured& a, const Measured& b) { return {a.value - b.value, a.spread + b.spread}; }
    friend Measured operator*(const Measured& a, const Measured& b) { return {a.value * b.value, std::abs(a.value) * b.spread + std::abs(b.value) * a.spread}; }
    friend Measured operator/(const Measured& a, const Measured& b)
    {
        double q = a.value / b.value;
        return {q, (a.spread + std::abs(q) * b.spread) / std::abs(b.value)};
    }
    friend Measured operator*(double a, const Measured& b) { return {a * b.value, std::abs(a) * b.spread}; }
};

/// Derivatives that an expression may need: `(f)''` in an equation needs two of f.
inline constexpr std::size_t kMostDerivatives = 3;

/// The coefficient of order k is the k-th derivative by time over k!. Source: Griewank and Walther (2008), Evaluating Derivatives, ch. 13.
struct Series {
    std::array<Measured, kMostDerivatives + 1> c{};

    Series() = default;
    Series(const Measured& v) { c[0] = v; }
};

inline Series operator-(Series a)
{
    for (Measured& x : a.c) x = -x;
    return a;
}
inline Series operator+(Series a, const Series& b)
{
    for (std::size_t k = 0; k <= kMostDerivatives; ++k) a.c[k] = a.c[k] + b.c[k];
    return a;
}
inline Series operator-(Series a, const Series& b)
{
    for (std::size_t k = 0; k <= kMostDerivatives; ++k) a.c[k] = a.c[k] - b.c[k];
    return a;
}
inline Series operator*(const Series& a, const Series& b)
{
    Series r;
    for (std::size_t i = 0; i <= kMostDerivatives; ++i)
        for (std::size_t j = 0; i + j <= kMostDerivatives; ++j) r.c[i + j] = r.c[i + j] + a.c[i] * b.c[j];
    return r;
}
inline Series operator/(const Series& a, const Series& b)
{
    Series r;
    for (std::size_t k = 0; k <= kMostDerivatives; ++k) {
        Measured sum = a.c[k];
        for (std::size_t j = 0; j < k; ++j) sum = sum - r.c[j] * b.c[k - j];
        r.c[k] = sum / b.c[0];
    }
    return r;
}

/// f(a) from the derivatives f, f', f'' ... at a's value, one more than a series has; the last only tells the spread of those before it.
inline Series composed(const Series& a, const std::array<double, kMostDerivatives + 2>& f)
{
    Series from = a, power(Measured{1, 0}), sum;
    from.c[0] = {};
    double factorial = 1;
    for (std::size_t k = 0; k <= kMostDerivatives; ++k) {
        if (k > 0) factorial *= static_cast<double>(k), power = power * from;
        Measured coefficient{f[k] / factorial, std::abs(f[k + 1]) * a.c[0].spread / factorial};
        for (std::size_t i = 0; i <= kMostDerivatives; ++i) sum.c[i] = sum.c[i] + coefficient * power.c[i];
    }
    return sum;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Truncated Taylor series, for derivatives of what is computed from tables: the coefficient of order k is the k-th derivative over k!.
// Source: Griewank and Walther (2008), Evaluating Derivatives, ch. 13.
#pragma once

#include <array>
#include <cstddef>

namespace netloop {

inline double lead(double v)
{
    return v;
}

/// Orders 0 to 3. T is double or a Jet itself (for mixed derivatives).
template <typename T>
struct Jet {
    static constexpr std::size_t kOrders = 4;
    std::array<T, kOrders> c{};

    Jet() = default;
    Jet(double v) { c[0] = T(v); }

    friend Jet operator+(Jet a, const Jet& b)
    {
        for (std::size_t k = 0; k < kOrders; ++k) a.c[k] = a.c[k] + b.c[k];
        return a;
    }
    friend Jet operator-(Jet a, const Jet& b)
    {
        for (std::size_t k = 0; k < kOrders; ++k) a.c[k] = a.c[k] - b.c[k];
        return a;
    }
    friend Jet operator*(const Jet& a, const Jet& b)
    {
        Jet r;
        for (std::size_t i = 0; i < kOrders; ++i)
            for (std::size_t j = 0; i + j < kOrders; ++j) r.c[i + j] = r.c[i + j] + a.c[i] * b.c[j];
        return r;
    }
    friend Jet operator/(const Jet& a, const Jet& b)
    {
        Jet r;
        for (std::size_t k = 0; k < kOrders; ++k) {
            T sum = a.c[k];
            for (std::size_t j = 0; j < k; ++j) sum = sum - r.c[j] * b.c[k - j];
            r.c[k] = sum / b.c[0];
        }
        return r;
    }
};

/// The value without its derivatives, for comparisons.
template <typename T>
double lead(const Jet<T>& v)
{
    return lead(v.c[0]);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// A number with its derivatives by n unknowns: gives the hand-written programs their exact Jacobians.
#pragma once

#include <array>
#include <cmath>
#include <cstddef>

namespace published {

template <std::size_t n>
struct Dual {
    double v = 0;
    std::array<double, n> d{};

    Dual() = default;
    Dual(double value) : v(value) {}
    static Dual variable(double value, std::size_t k, double slope = 1)
    {
        Dual x(value);
        x.d[k] = slope;
        return x;
    }
    /// A function of it with this value and slope.
    Dual with(double value, double slope) const
    {
        Dual r(value);
        for (std::size_t k = 0; k < n; ++k) r.d[k] = slope * d[k];
        return r;
    }
    Dual& operator+=(const Dual& o)
    {
        v += o.v;
        for (std::size_t k = 0; k < n; ++k) d[k] += o.d[k];
        return *this;
    }
    Dual& operator-=(const Dual& o)
    {
        v -= o.v;
        for (std::size_t k = 0; k < n; ++k) d[k] -= o.d[k];
        return *this;
    }
    friend Dual operator-(const Dual& a) { return a.with(-a.v, -1); }
    friend Dual operator+(Dual a, const Dual& b) { return a += b; }
    friend Dual operator-(Dual a, const Dual& b) { return a -= b; }
    friend Dual operator+(Dual a, double b) { return a.v += b, a; }
    friend Dual operator-(Dual a, double b) { return a.v -= b, a; }
    friend Dual operator+(double b, Dual a) { return a.v += b, a; }
    friend Dual operator-(double b, const Dual& a) { return a.with(b - a.v, -1); }
    friend Dual operator*(double a, const Dual& b) { return b.with(a * b.v, a); }
    friend Dual operator*(const Dual& b, double a) { return b.with(a * b.v, a); }
    friend Dual operator/(const Dual& a, double b) { return a.with(a.v / b, 1 / b); }
    friend Dual operator*(const Dual& a, const Dual& b)
    {
        Dual r(a.v * b.v);
        for (std::size_t k = 0; k < n; ++k) r.d[k] = a.v * b.d[k] + b.v * a.d[k];
        return r;
    }
    friend Dual operator/(const Dual& a, const Dual& b)
    {
        double inverse = 1 / b.v, value = a.v * inverse;
        Dual r(value);
        for (std::size_t k = 0; k < n; ++k) r.d[k] = (a.d[k] - value * b.d[k]) * inverse;
        return r;
    }
    friend Dual sqrt(const Dual& a)
    {
        double r = std::sqrt(a.v);
        return a.with(r, 0.5 / r);
    }
    friend Dual exp(const Dual& a)
    {
        double r = std::exp(a.v);
        return a.with(r, r);
    }
    friend Dual sin(const Dual& a) { return a.with(std::sin(a.v), std::cos(a.v)); }
    friend Dual cos(const Dual& a) { return a.with(std::cos(a.v), -std::sin(a.v)); }
};

}  // namespace published

// SPDX-License-Identifier: Apache-2.0
// Dimension vectors over the SI base units, with rational exponents (Pa^0.5, m^2.5/s).
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>

namespace netloop {

/// A small fraction in lowest terms with a positive denominator; enough for exponents of units.
class Rational {
public:
    constexpr Rational(int numerator = 0) : numerator_(numerator) {}
    Rational(int numerator, int denominator);

    /// The fraction with a denominator up to 60 that equals `value` to 1e-9, if there is one.
    static std::optional<Rational> from(double value);

    int numerator() const { return numerator_; }
    int denominator() const { return denominator_; }
    double value() const { return static_cast<double>(numerator_) / denominator_; }
    bool is_zero() const { return numerator_ == 0; }

    friend Rational operator+(Rational a, Rational b);
    friend Rational operator*(Rational a, Rational b);
    friend bool operator==(const Rational&, const Rational&) = default;

private:
    int numerator_ = 0;
    int denominator_ = 1;
};

/// Exponents of m, kg, s, A, K, mol, cd. An angle counts as dimensionless.
class Dimension {
public:
    static constexpr int kCount = 7;

    Dimension() = default;
    static Dimension base(int index);

    Rational exponent(int index) const { return exponents_[static_cast<std::size_t>(index)]; }
    bool dimensionless() const { return *this == Dimension{}; }
    Dimension power(Rational exponent) const;
    Dimension inverse() const { return power(Rational(-1)); }
    /// A unit of this dimension as an engineer would write it: "N*m", "Pa", "kg/m^3", "1".
    std::string text() const;

    friend Dimension operator*(const Dimension& a, const Dimension& b);
    friend Dimension operator/(const Dimension& a, const Dimension& b) { return a * b.inverse(); }
    friend bool operator==(const Dimension&, const Dimension&) = default;

private:
    std::array<Rational, kCount> exponents_{};
};

}  // namespace netloop

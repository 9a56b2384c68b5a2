// SPDX-License-Identifier: Apache-2.0
// Dimension vectors over the SI base units, with rational exponents (Pa^0.5, m^2.5/s).
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

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

/// Exponents of m, kg, s, A, K, mol, cd. An angle counts as dimensionless. Besides these, a component's text may hold dimensions that each use of it settles
/// (`unit of_measured`): they count as further base dimensions, by name.
class Dimension {
public:
    static constexpr int kCount = 7;

    Dimension() = default;
    static Dimension base(int index);
    static Dimension open(std::string name);

    Rational exponent(int index) const { return exponents_[static_cast<std::size_t>(index)]; }
    bool dimensionless() const { return *this == Dimension{}; }
    /// The dimensions that are settled elsewhere, by name in ascending order, none with an exponent of 0.
    const std::vector<std::pair<std::string, Rational>>& open_names() const { return open_; }
    bool is_open() const { return !open_.empty(); }
    /// The part that is settled here.
    Dimension settled_part() const;
    Dimension power(Rational exponent) const;
    Dimension inverse() const { return power(Rational(-1)); }
    /// A unit of this dimension as an engineer would write it: "N*m", "Pa", "kg/m^3", "1".
    std::string text() const;

    friend Dimension operator*(const Dimension& a, const Dimension& b);
    friend Dimension operator/(const Dimension& a, const Dimension& b) { return a * b.inverse(); }
    friend bool operator==(const Dimension&, const Dimension&) = default;

private:
    std::array<Rational, kCount> exponents_{};
    std::vector<std::pair<std::string, Rational>> open_;
};

}  // namespace netloop

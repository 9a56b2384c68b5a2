// SPDX-License-Identifier: Apache-2.0
#include "units/dimension.hpp"

#include <cmath>
#include <map>
#include <numeric>
#include <utility>
#include <vector>

#include "units/unit.hpp"

namespace netloop {

Rational::Rational(int numerator, int denominator)
{
    if (denominator < 0) {
        numerator = -numerator;
        denominator = -denominator;
    }
    int divisor = std::gcd(numerator, denominator);
    numerator_ = divisor ? numerator / divisor : 0;
    denominator_ = divisor ? denominator / divisor : 1;
}

std::optional<Rational> Rational::from(double value)
{
    if (!(std::abs(value) <= 100)) return std::nullopt;
    for (int denominator = 1; denominator <= 60; ++denominator) {
        double numerator = value * denominator;
        if (std::abs(numerator - std::round(numerator)) < 1e-9) return Rational(static_cast<int>(std::lround(numerator)), denominator);
    }
    return std::nullopt;
}

Rational operator+(Rational a, Rational b)
{
    return {a.numerator_ * b.denominator_ + b.numerator_ * a.denominator_, a.denominator_ * b.denominator_};
}

Rational operator*(Rational a, Rational b)
{
    return {a.numerator_ * b.numerator_, a.denominator_ * b.denominator_};
}

Dimension Dimension::base(int index)
{
    Dimension d;
    d.exponents_[static_cast<std::size_t>(index)] = Rational(1);
    return d;
}

Dimension Dimension::open(std::string name)
{
    Dimension d;
    d.open_.emplace_back(std::move(name), Rational(1));
    return d;
}

Dimension Dimension::settled_part() const
{
    Dimension d = *this;
    d.open_.clear();
    return d;
}

Dimension Dimension::power(Rational exponent) const
{
    Dimension d;
    if (!exponent.is_zero())
        for (const auto& [name, e] : open_) d.open_.emplace_back(name, e * exponent);
    for (std::size_t i = 0; i < kCount; ++i) d.exponents_[i] = exponents_[i] * exponent;
    return d;
}

Dimension operator*(const Dimension& a, const Dimension& b)
{
    Dimension d;
    for (std::size_t i = 0; i < Dimension::kCount; ++i) d.exponents_[i] = a.exponents_[i] + b.exponents_[i];
    if (a.open_.empty() && b.open_.empty()) return d;
    std::map<std::string, Rational> open(a.open_.begin(), a.open_.end());
    for (const auto& [name, e] : b.open_) open[name] = open[name] + e;
    for (const auto& [name, e] : open)
        if (!e.is_zero()) d.open_.emplace_back(name, e);
    return d;
}

namespace {

// What a trade calls a dimension; the first that fits is used in messages.
const std::vector<std::pair<Dimension, std::string>>& trade_names()
{
    static const auto* names = [] {
        auto* list = new std::vector<std::pair<Dimension, std::string>>;
        for (const char* text :
             {"1",    "N",      "Pa",   "J",   "W",     "V",      "ohm", "F",   "H",    "C",        "1/s",       "m/s",     "m/s^2", "m^2",   "m^3",   "m^3/s",
              "kg/s", "kg/m^3", "Pa*s", "N/m", "N*s/m", "kg*m^2", "W/K", "J/K", "J/kg", "J/(kg*K)", "W/(m^2*K)", "W/(m*K)", "N*m*s", "V*s/m", "Pa^0.5"}) {
            Unit unit;
            UnitProblem problem;
            if (parse_unit(text, unit, problem)) list->emplace_back(unit.dimension, text);
        }
        return list;
    }();
    return *names;
}

std::string power_text(const char* name, Rational e)
{
    if (e == Rational(1)) return name;
    if (e.denominator() == 1) return std::string(name) + "^" + std::to_string(e.numerator());
    std::string digits = std::to_string(e.value());
    while (digits.back() == '0') digits.pop_back();
    return std::string(name) + "^" + digits;
}

}  // namespace

std::string Dimension::text() const
{
    for (const auto& [dimension, name] : trade_names())
        if (dimension == *this) return name;
    static constexpr std::array<int, kCount> kOrder{1, 0, 3, 4, 5, 6, 2};
    static constexpr std::array<const char*, kCount> kNames{"m", "kg", "s", "A", "K", "mol", "cd"};
    std::string above, below;
    int n_below = 0;
    auto take = [&](const char* name, Rational e) {
        if (e.is_zero()) return;
        std::string& side = e.numerator() > 0 ? above : below;
        if (!side.empty()) side += '*';
        side += power_text(name, e.numerator() > 0 ? e : e * Rational(-1));
        n_below += e.numerator() < 0 ? 1 : 0;
    };
    for (const auto& [name, e] : open_) take(name.c_str(), e);
    for (int i : kOrder) take(kNames[static_cast<std::size_t>(i)], exponent(i));
    if (below.empty()) return above;
    return (above.empty() ? "1" : above) + "/" + (n_below > 1 ? "(" + below + ")" : below);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Numbers with units.
#pragma once

#include <string>

namespace netloop {

/// A value and the unit in which it is written. An empty unit is a bare number.
struct Quantity {
    double value = 0;
    std::string unit;

    Quantity() = default;
    /// A number without a unit; one with a unit, which si() looks at.
    Quantity(double bare) : value(bare) {}
    Quantity(double v, std::string u) : value(v), unit(std::move(u)) {}
    /// Value in SI base units. Throws UsageError if the unit is not known.
    double si() const;
};

/// `q(35, "L/min")`. The unit grammar is that of the Loop language (docs/language.md).
inline Quantity q(double value, std::string unit)
{
    return {value, std::move(unit)};
}

namespace literals {
#define NETLOOP_LITERAL(suffix, unit)                         \
    inline Quantity operator""_##suffix(long double v)        \
    {                                                         \
        return {static_cast<double>(v), unit};                \
    }                                                         \
    inline Quantity operator""_##suffix(unsigned long long v) \
    {                                                         \
        return {static_cast<double>(v), unit};                \
    }
NETLOOP_LITERAL(m, "m")
NETLOOP_LITERAL(mm, "mm")
NETLOOP_LITERAL(s, "s")
NETLOOP_LITERAL(ms, "ms")
NETLOOP_LITERAL(kg, "kg")
NETLOOP_LITERAL(N, "N")
NETLOOP_LITERAL(kN, "kN")
NETLOOP_LITERAL(Pa, "Pa")
NETLOOP_LITERAL(bar, "bar")
NETLOOP_LITERAL(L_per_min, "L/min")
NETLOOP_LITERAL(rpm, "rpm")
NETLOOP_LITERAL(deg, "deg")
NETLOOP_LITERAL(degC, "degC")
NETLOOP_LITERAL(K, "K")
NETLOOP_LITERAL(W, "W")
NETLOOP_LITERAL(kW, "kW")
NETLOOP_LITERAL(V, "V")
NETLOOP_LITERAL(A, "A")
NETLOOP_LITERAL(ohm, "ohm")
#undef NETLOOP_LITERAL
}  // namespace literals

}  // namespace netloop

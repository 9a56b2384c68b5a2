// SPDX-License-Identifier: Apache-2.0
// The closed list of unit names: our name, the UDUNITS-2 expression it stands for, its SI dimension, the quantity that it is used for, whether SI prefixes may
// stand before it, and a word on it. Read by the build-time generator, which asks UDUNITS-2 for scale and offset and checks the dimension.
#pragma once

#include <array>

namespace netloop {

struct UnitNameRow {
    const char* name;
    const char* udunits;
    const char* si;  ///< product of SI base units
    const char* quantity;
    bool prefixes;
    const char* says;
};

struct UnitPrefix {
    const char* name;
    int exponent;  ///< of ten
};

/// All of the SI (27th CGPM, 2022). A name of the list goes before one that a prefix would make (PS, cd, min).
inline constexpr std::array<UnitPrefix, 24> kUnitPrefixes{{{"q", -30}, {"r", -27}, {"y", -24}, {"z", -21}, {"a", -18}, {"f", -15}, {"p", -12}, {"n", -9},
                                                           {"u", -6},  {"m", -3},  {"c", -2},  {"d", -1},  {"da", 1},  {"h", 2},   {"k", 3},   {"M", 6},
                                                           {"G", 9},   {"T", 12},  {"P", 15},  {"E", 18},  {"Z", 21},  {"Y", 24},  {"R", 27},  {"Q", 30}}};

inline constexpr UnitNameRow kUnitNames[] = {
    // length
    {"m", "m", "m", "length", true, ""},
    {"inch", "inch", "m", "length", false, "`in` is a word of the language"},
    {"ft", "international_foot", "m", "length", false, ""},
    {"yd", "international_yard", "m", "length", false, ""},
    {"mile", "international_mile", "m", "length", false, ""},
    {"nmi", "1852 m", "m", "length", false, ""},
    // area
    {"ha", "hectare", "m^2", "area", false, "hectare"},
    // volume
    {"L", "liter", "m^3", "volume", true, "litre"},
    {"gal", "231 inch^3", "m^3", "volume", false, "US gallon"},
    // volume flow
    {"gpm", "231 inch^3/min", "m^3*s^-1", "volume flow", false, "US gallons per minute"},
    // time
    {"s", "s", "s", "time", true, ""},
    {"min", "min", "s", "time", false, "minute"},
    {"h", "h", "s", "time", false, "hour"},
    {"day", "day", "s", "time", false, ""},
    {"week", "week", "s", "time", false, ""},
    {"year", "365.25 day", "s", "time", false, "365.25 days"},
    // frequency
    {"Hz", "Hz", "s^-1", "frequency", true, ""},
    // angle
    {"rad", "radian", "1", "angle", true, ""},
    {"deg", "arc_degree", "1", "angle", false, "degree of an angle"},
    {"arcmin", "arc_minute", "1", "angle", false, ""},
    {"arcsec", "arc_second", "1", "angle", false, ""},
    {"rev", "360 arc_degree", "1", "angle", false, "one turn"},
    {"gon", "0.9 arc_degree", "1", "angle", false, "400 for a turn"},
    // angular speed
    {"rpm", "360 arc_degree/min", "s^-1", "angular speed", false, "turns per minute"},
    // solid angle
    {"sr", "1", "1", "solid angle", true, "steradian"},
    // ratio
    {"%", "percent", "1", "ratio", false, "percent"},
    {"permille", "1e-3", "1", "ratio", false, ""},
    {"ppm", "1e-6", "1", "ratio", false, ""},
    {"ppb", "1e-9", "1", "ratio", false, ""},
    // mass
    {"kg", "kg", "kg", "mass", false, ""},
    {"g", "g", "kg", "mass", true, ""},
    {"t", "1000 kg", "kg", "mass", false, "tonne"},
    {"lb", "pound", "kg", "mass", false, ""},
    {"oz", "0.0625 pound", "kg", "mass", false, ""},
    // force
    {"N", "N", "kg*m*s^-2", "force", true, ""},
    {"kgf", "kilogram_force", "kg*m*s^-2", "force", false, "kilogram-force"},
    {"lbf", "lbf", "kg*m*s^-2", "force", false, "pound-force"},
    {"kp", "kilogram_force", "kg*m*s^-2", "force", false, "kilopond, the kilogram-force"},
    // speed
    {"mph", "international_mile/h", "m*s^-1", "speed", false, "miles per hour"},
    {"knot", "international_knot", "m*s^-1", "speed", false, "international"},
    {"kmh", "km/h", "m*s^-1", "speed", false, "kilometres per hour"},
    // pressure
    {"Pa", "Pa", "kg*m^-1*s^-2", "pressure", true, ""},
    {"bar", "bar", "kg*m^-1*s^-2", "pressure", true, "absolute"},
    {"atm", "standard_atmosphere", "kg*m^-1*s^-2", "pressure", false, ""},
    {"psi", "psi", "kg*m^-1*s^-2", "pressure", false, "absolute"},
    {"torr", "torr", "kg*m^-1*s^-2", "pressure", false, ""},
    {"mmHg", "mm_Hg", "kg*m^-1*s^-2", "pressure", false, ""},
    {"barg", "bar @ 1.01325", "kg*m^-1*s^-2", "pressure", false, "gauge: above 1.01325 bar"},
    {"psig", "psi @ 14.695948775513", "kg*m^-1*s^-2", "pressure", false, "gauge: above 14.6959 psi"},
    // dynamic viscosity
    {"P", "poise", "kg*m^-1*s^-1", "dynamic viscosity", true, "poise"},
    // kinematic viscosity
    {"St", "stokes", "m^2*s^-1", "kinematic viscosity", true, "stokes"},
    // energy
    {"J", "J", "kg*m^2*s^-2", "energy", true, ""},
    {"Wh", "W.h", "kg*m^2*s^-2", "energy", true, "watt-hour"},
    {"cal", "4.1868 J", "kg*m^2*s^-2", "energy", true, "international table"},
    {"BTU", "Btu", "kg*m^2*s^-2", "energy", false, "international table"},
    {"eV", "1.602176634e-19 J", "kg*m^2*s^-2", "energy", true, ""},
    // power
    {"W", "W", "kg*m^2*s^-3", "power", true, ""},
    {"VA", "V.A", "kg*m^2*s^-3", "power", true, "apparent power"},
    {"hp", "550 lbf.international_foot/s", "kg*m^2*s^-3", "power", false, "mechanical horsepower"},
    {"PS", "75 kilogram_force.m/s", "kg*m^2*s^-3", "power", false, "metric horsepower"},
    // temperature
    {"K", "K", "K", "temperature", true, ""},
    {"degC", "degC", "K", "temperature", false, "with its zero; K for differences"},
    {"degF", "degF", "K", "temperature", false, "with its zero"},
    // amount of substance
    {"mol", "mol", "mol", "amount of substance", true, ""},
    // luminous intensity
    {"cd", "cd", "cd", "luminous intensity", true, ""},
    // luminous flux
    {"lm", "lm", "cd", "luminous flux", true, ""},
    // illuminance
    {"lx", "lx", "cd*m^-2", "illuminance", true, ""},
    // electric current
    {"A", "A", "A", "electric current", true, ""},
    // voltage
    {"V", "V", "kg*m^2*s^-3*A^-1", "voltage", true, ""},
    // electric resistance
    {"ohm", "ohm", "kg*m^2*s^-3*A^-2", "electric resistance", true, ""},
    // electric conductance
    {"S", "S", "kg^-1*m^-2*s^3*A^2", "electric conductance", true, ""},
    // electric charge
    {"C", "C", "A*s", "electric charge", true, ""},
    {"Ah", "A.h", "A*s", "electric charge", true, "ampere-hour"},
    // capacitance
    {"F", "F", "kg^-1*m^-2*s^4*A^2", "capacitance", true, ""},
    // inductance
    {"H", "H", "kg*m^2*s^-2*A^-2", "inductance", true, ""},
    // magnetic flux
    {"Wb", "Wb", "kg*m^2*s^-2*A^-1", "magnetic flux", true, ""},
    // magnetic flux density
    {"T", "T", "kg*s^-2*A^-1", "magnetic flux density", true, ""},
};

}  // namespace netloop

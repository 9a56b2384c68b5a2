// The closed list of unit names: our name, the UDUNITS-2 expression it stands for, and its SI dimension.
// Read by the build-time generator only; scale and offset come from UDUNITS-2, the dimension is checked against it.
#pragma once

namespace netloop {

struct UnitNameRow {
    const char* name;
    const char* udunits;
    const char* si;  ///< product of SI base units
};

inline constexpr UnitNameRow kUnitNames[] = {
    // length, area, volume
    {"m", "m", "m"}, {"dm", "dm", "m"}, {"cm", "cm", "m"}, {"mm", "mm", "m"}, {"um", "um", "m"}, {"nm", "nm", "m"},
    {"km", "km", "m"}, {"inch", "inch", "m"}, {"ft", "international_foot", "m"}, {"yd", "international_yard", "m"},
    {"mile", "international_mile", "m"}, {"ha", "hectare", "m^2"},
    {"L", "liter", "m^3"}, {"dL", "0.1 liter", "m^3"}, {"cL", "0.01 liter", "m^3"}, {"mL", "0.001 liter", "m^3"}, {"hL", "100 liter", "m^3"},
    {"gal", "231 inch^3", "m^3"}, {"gpm", "231 inch^3/min", "m^3*s^-1"},
    // time, frequency, angle
    {"s", "s", "s"}, {"ms", "ms", "s"}, {"us", "us", "s"}, {"ns", "ns", "s"}, {"min", "min", "s"}, {"h", "h", "s"},
    {"day", "day", "s"}, {"week", "week", "s"}, {"year", "365.25 day", "s"},
    {"Hz", "Hz", "s^-1"}, {"kHz", "kHz", "s^-1"}, {"MHz", "MHz", "s^-1"},
    {"rad", "radian", "1"}, {"mrad", "1e-3 radian", "1"}, {"deg", "arc_degree", "1"}, {"arcmin", "arc_minute", "1"}, {"arcsec", "arc_second", "1"},
    {"rev", "360 arc_degree", "1"}, {"rpm", "360 arc_degree/min", "s^-1"}, {"sr", "1", "1"},
    {"%", "percent", "1"}, {"permille", "1e-3", "1"}, {"ppm", "1e-6", "1"}, {"ppb", "1e-9", "1"},
    // mass, force, torque
    {"kg", "kg", "kg"}, {"g", "g", "kg"}, {"mg", "mg", "kg"}, {"ug", "ug", "kg"}, {"t", "1000 kg", "kg"}, {"lb", "pound", "kg"}, {"oz", "0.0625 pound", "kg"},
    {"N", "N", "kg*m*s^-2"}, {"mN", "mN", "kg*m*s^-2"}, {"kN", "kN", "kg*m*s^-2"}, {"MN", "MN", "kg*m*s^-2"},
    {"kgf", "kilogram_force", "kg*m*s^-2"}, {"lbf", "lbf", "kg*m*s^-2"}, {"kp", "kilogram_force", "kg*m*s^-2"},
    {"mph", "international_mile/h", "m*s^-1"}, {"knot", "international_knot", "m*s^-1"}, {"kmh", "km/h", "m*s^-1"},
    // pressure, viscosity
    {"Pa", "Pa", "kg*m^-1*s^-2"}, {"hPa", "hPa", "kg*m^-1*s^-2"}, {"kPa", "kPa", "kg*m^-1*s^-2"}, {"MPa", "MPa", "kg*m^-1*s^-2"},
    {"GPa", "GPa", "kg*m^-1*s^-2"}, {"mPa", "mPa", "kg*m^-1*s^-2"}, {"uPa", "uPa", "kg*m^-1*s^-2"}, {"bar", "bar", "kg*m^-1*s^-2"}, {"mbar", "mbar", "kg*m^-1*s^-2"},
    {"kbar", "kbar", "kg*m^-1*s^-2"}, {"atm", "standard_atmosphere", "kg*m^-1*s^-2"}, {"psi", "psi", "kg*m^-1*s^-2"}, {"torr", "torr", "kg*m^-1*s^-2"},
    {"mmHg", "mm_Hg", "kg*m^-1*s^-2"}, {"barg", "bar @ 1.01325", "kg*m^-1*s^-2"}, {"psig", "psi @ 14.695948775513", "kg*m^-1*s^-2"},
    {"P", "poise", "kg*m^-1*s^-1"}, {"cP", "0.01 poise", "kg*m^-1*s^-1"}, {"St", "stokes", "m^2*s^-1"}, {"cSt", "0.01 stokes", "m^2*s^-1"},
    // energy, power, temperature, amount
    {"J", "J", "kg*m^2*s^-2"}, {"mJ", "mJ", "kg*m^2*s^-2"}, {"kJ", "kJ", "kg*m^2*s^-2"}, {"MJ", "MJ", "kg*m^2*s^-2"}, {"GJ", "GJ", "kg*m^2*s^-2"},
    {"Wh", "W.h", "kg*m^2*s^-2"}, {"kWh", "kW.h", "kg*m^2*s^-2"}, {"MWh", "MW.h", "kg*m^2*s^-2"}, {"cal", "4.1868 J", "kg*m^2*s^-2"},
    {"kcal", "4186.8 J", "kg*m^2*s^-2"}, {"BTU", "Btu", "kg*m^2*s^-2"},
    {"W", "W", "kg*m^2*s^-3"}, {"mW", "mW", "kg*m^2*s^-3"}, {"kW", "kW", "kg*m^2*s^-3"}, {"MW", "MW", "kg*m^2*s^-3"}, {"GW", "GW", "kg*m^2*s^-3"},
    {"VA", "V.A", "kg*m^2*s^-3"}, {"kVA", "kV.A", "kg*m^2*s^-3"}, {"hp", "550 lbf.international_foot/s", "kg*m^2*s^-3"}, {"PS", "75 kilogram_force.m/s", "kg*m^2*s^-3"},
    {"K", "K", "K"}, {"mK", "mK", "K"}, {"degC", "degC", "K"}, {"degF", "degF", "K"},
    {"mol", "mol", "mol"}, {"mmol", "mmol", "mol"}, {"kmol", "kmol", "mol"}, {"cd", "cd", "cd"}, {"lm", "lm", "cd"}, {"lx", "lx", "cd*m^-2"},
    // electricity
    {"A", "A", "A"}, {"uA", "uA", "A"}, {"mA", "mA", "A"}, {"kA", "kA", "A"},
    {"V", "V", "kg*m^2*s^-3*A^-1"}, {"uV", "uV", "kg*m^2*s^-3*A^-1"}, {"mV", "mV", "kg*m^2*s^-3*A^-1"}, {"kV", "kV", "kg*m^2*s^-3*A^-1"},
    {"ohm", "ohm", "kg*m^2*s^-3*A^-2"}, {"mohm", "mohm", "kg*m^2*s^-3*A^-2"}, {"kohm", "kohm", "kg*m^2*s^-3*A^-2"}, {"Mohm", "Mohm", "kg*m^2*s^-3*A^-2"},
    {"S", "S", "kg^-1*m^-2*s^3*A^2"}, {"mS", "mS", "kg^-1*m^-2*s^3*A^2"}, {"C", "C", "A*s"}, {"mC", "mC", "A*s"}, {"Ah", "A.h", "A*s"}, {"mAh", "mA.h", "A*s"},
    {"F", "F", "kg^-1*m^-2*s^4*A^2"}, {"mF", "mF", "kg^-1*m^-2*s^4*A^2"}, {"uF", "uF", "kg^-1*m^-2*s^4*A^2"}, {"nF", "nF", "kg^-1*m^-2*s^4*A^2"}, {"pF", "pF", "kg^-1*m^-2*s^4*A^2"},
    {"H", "H", "kg*m^2*s^-2*A^-2"}, {"mH", "mH", "kg*m^2*s^-2*A^-2"}, {"uH", "uH", "kg*m^2*s^-2*A^-2"},
    {"Wb", "Wb", "kg*m^2*s^-2*A^-1"}, {"T", "T", "kg*s^-2*A^-1"}, {"mT", "mT", "kg*s^-2*A^-1"},
};

}  // namespace netloop

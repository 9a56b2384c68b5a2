// SPDX-License-Identifier: Apache-2.0
// What a unit of the open standard FMI says of itself: modelDescription.xml of FMI 2.0 and 3.0, read from the standard's text into numbers of SI.
#pragma once

#include <cmath>
#include <cstdint>
#include <optional>
#include <stdexcept>
#include <string>
#include <vector>

#include "units/unit.hpp"

namespace netloop {

/// A unit that cannot be used: what() is one sentence that names what is wrong, without the file's name.
class UnitProblemFound : public std::runtime_error {
public:
    using std::runtime_error::runtime_error;
};

/// How a variable is passed: the functions of the standard differ by it. FMI 2.0 knows float64, int32, boolean, text and, as int32, enumeration.
enum class ForeignType : std::uint8_t { float32, float64, int8, uint8, int16, uint16, int32, uint32, int64, uint64, boolean, text, enumeration, binary, clock };

constexpr bool is_float(ForeignType t)
{
    return t == ForeignType::float32 || t == ForeignType::float64;
}
/// What our language has a place for: all but text, bytes and clocks.
constexpr bool is_number(ForeignType t)
{
    return t < ForeignType::text || t == ForeignType::enumeration;
}

struct ForeignVariable {
    enum class Causality : std::uint8_t { parameter, structural, calculated, input, output, local, independent };
    enum class Variability : std::uint8_t { constant, fixed, tunable, discrete, continuous };
    enum class Initial : std::uint8_t { exact, approx, calculated };

    std::string name, text;
    std::uint32_t reference = 0;
    ForeignType type = ForeignType::float64;
    Causality causality = Causality::local;
    Variability variability = Variability::continuous;
    Initial initial = Initial::calculated;
    Unit unit;                                             ///< for display; `1` where it says none or one that nobody knows
    std::string foreign_unit;                              ///< as it is written there, where that could not be read
    double factor = 1, offset = 0;                         ///< SI = factor * value + offset
    std::vector<double> start;                             ///< SI; one for each element; empty: none
    std::string start_text;                                ///< of a text
    double low = -HUGE_VAL, high = HUGE_VAL, nominal = 0;  ///< SI; nominal: 0 where it says none
    std::size_t n_elements = 1;                            ///< of an array of FMI 3.0
    bool is_array = false;
    std::vector<std::string> items;            ///< of an enumeration, "name = value"
    std::optional<std::size_t> derivative_of;  ///< its state, as an index into the list of variables
};

struct ForeignDescription {
    int version = 2;  ///< 2 or 3
    std::string model_name, text, token, tool;
    std::string exchange_name, cosimulation_name;  ///< names of the binaries; empty: the unit is no such thing
    bool only_one_instance = false, needs_tool = false;
    bool wants_completed_steps = true;  ///< fmi*CompletedIntegratorStep is needed
    bool has_directional_exchange = false;
    bool variable_steps = false;  ///< steps of co-simulation of any length
    std::vector<ForeignVariable> variables;
    std::vector<std::size_t> outputs;      ///< indices into variables
    std::vector<std::size_t> derivatives;  ///< of the states, in their order
    std::vector<std::size_t> states;
    std::size_t n_indicators = 0;
    double start = 0, tolerance = 0;
    std::optional<double> stop, step;
    std::vector<std::string> left_out;  ///< what the language has no place for: "text 'file'"

    bool is_exchange() const { return !exchange_name.empty(); }
    bool is_cosimulation() const { return !cosimulation_name.empty(); }
};

/// Reads the text of modelDescription.xml. Throws UnitProblemFound: no XML, another version, a rule of the standard that is broken where we build on it
/// (numbers of states, references, names), sizes beyond kMostVariables. No entity is expanded and no other file is looked for. Cost: linear. Any thread.
ForeignDescription read_foreign_description(const std::string& xml);

inline constexpr std::size_t kMostVariables = 100'000;

}  // namespace netloop

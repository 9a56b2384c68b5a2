// SPDX-License-Identifier: Apache-2.0
// Machines as units of the open standard FMI (Functional Mock-up Interface 2.0.4 and 3.0.1 of the Modelica Association): the description and the functions,
// written from the standard's text. The machine inside is that of c_machine.hpp.
#pragma once

#include <string>
#include <vector>

#include "exchange/fixed_plan.hpp"

namespace pugi {
class xml_node;
}

namespace netloop {

/// What a variable of a unit is, with the number that its functions know it by.
struct UnitVariable {
    enum class Causality { parameter, calculated, input, output, local } causality = Causality::local;
    std::string name, text;
    std::uint32_t reference = 0;
    bool boolean = false;
    Unit unit;
    double start = 0;
    bool has_start = false;
    double low = -HUGE_VAL, high = HUGE_VAL;
    bool discrete = false;
    std::size_t rate_of = 0;  ///< of the rate of a state: the number of that variable, from 1; 0: it is none
    /// Variables that it depends on, by number from 1, where that is known; else it may depend on all.
    bool structure_known = false;
    std::vector<std::size_t> depends_on;
};

struct UnitDescription {
    std::string name, title, text;  ///< name: of its functions and files
    std::string guid;
    std::vector<UnitVariable> variables;
    std::vector<std::size_t> outputs, rates;  ///< numbers from 1
    std::size_t n_indicators = 0;
    std::uint32_t first_free = 0;  ///< the first reference that no variable has
    double step = 0, stop = 0, tolerance = 1e-6;
    bool model_exchange = true;  ///< a past that is kept for delays cannot be handed to somebody else's integrator
};

/// Params, inputs, outputs, states and their rates. References: params and inputs by their number, then outputs, states, rates.
UnitDescription describe_unit(const FixedPlan& plan, const std::string& name, const std::string& title, double stop, double tolerance);

/// modelDescription.xml. `sources`: names of the C files.
std::string fmi2_description(const UnitDescription& unit, const std::vector<std::string>& sources);

/// How the functions that the standard names are declared in C: seen from outside, or for this file alone.
enum class StandardLinkage { seen, inner };
std::string exported_macro(StandardLinkage linkage);
/// The C of the standard's functions around the machine NAME.h.
std::string fmi2_source(const UnitDescription& unit, const FixedPlan& plan, StandardLinkage linkage = StandardLinkage::seen);

/// The same by FMI 3.0. Event indicators and the time have references of their own there, behind all others.
std::string fmi3_description(const UnitDescription& unit);
/// sources/buildDescription.xml of 3.0.
std::string fmi3_build_description(const UnitDescription& unit, const std::vector<std::string>& sources);
/// The functions of 3.0 around those of 2.0, which are static in it: one body, two interfaces.
std::string fmi3_source(const UnitDescription& unit, const FixedPlan& plan);

/// Attributes that are the same in both versions, name and value: what a variable is; and its unit of measure, limits and start.
std::vector<std::pair<const char*, const char*>> standard_roles(const UnitVariable& v);
std::vector<std::pair<const char*, std::string>> standard_limits(const UnitVariable& v);
/// UnitDefinitions, LogCategories and DefaultExperiment, the same in both.
void add_standard_parts(pugi::xml_node& root, const UnitDescription& unit);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Properties of fluids as plain functions.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "netloop/library.hpp"

namespace netloop {

/// A function of a fluid, to be called from a program:
///
///     nl::FluidProperty cp("fluids.air", "cp");
///     double c = cp({1e5, 300});                                  // SI: Pa, K -> J/(kg*K)
///     nl::FluidProperty nu("fluids.MineralOil(grade = 32 cSt)", "kinematic_viscosity");
///
/// It is the same function that equations call. Copies share it; several threads may call one object at once.
class FluidProperty {
public:
    struct Argument {
        std::string name;  ///< "p"
        std::string unit;  ///< as declared: "Pa"
    };

    /// `fluid`: the name of a fluid ("fluids.air"; "air" alone is looked for in the shipped fluids too), or a kind of fluid, with values in
    /// brackets if need be. `file`: a .loop file whose definitions are in sight. Throws UsageError with the nearest name if there is no such
    /// fluid or function, ModelError for what is wrong in the text.
    FluidProperty(const std::string& fluid, const std::string& function, const std::string& file = "");

    /// In the order in which they are given.
    const std::vector<Argument>& arguments() const;
    const std::string& unit() const;  ///< of the result, as declared
    const std::string& text() const;  ///< `##` text of the function

    /// The value (SI) at the given arguments (SI, in the order of arguments()). NaN where the function has none. Throws UsageError if their
    /// number does not fit.
    double operator()(const std::vector<double>& values) const;

    /// Names of all functions of a fluid with what they say of themselves, in the order of the text. Errors as the constructor.
    static std::vector<Library::Entry> list(const std::string& fluid, const std::string& file = "");

private:
    struct Data;
    std::shared_ptr<const Data> data_;
};

}  // namespace netloop

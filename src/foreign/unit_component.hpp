// SPDX-License-Identifier: Apache-2.0
// A foreign unit as components of our language: what it says of itself becomes their text.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "foreign/outside.hpp"
#include "foreign/unit_archive.hpp"
#include "foreign/unit_instance.hpp"

namespace netloop {

/// A unit that was read: unpacked as long as anybody uses it.
struct ForeignUnit {
    std::string file;  ///< as the user names it
    std::shared_ptr<const UnitFolder> folder;
    std::shared_ptr<const ForeignDescription> description;
    bool isolated = false;  ///< its instances run in processes of their own
};

/// Reads a unit. Throws UnitProblemFound.
std::shared_ptr<const ForeignUnit> read_foreign_unit(const std::string& file, bool isolated);

/// The components of a unit: `name`, by model exchange if it can do that, else by co-simulation; of one that can do both the second is `Sampled` and the name.
/// Their text is what `describe` shows. Throws UnitProblemFound: it has no binary for this machine, or its names cannot be told apart.
std::vector<OutsideComponent> unit_components(std::shared_ptr<const ForeignUnit> unit, const std::string& name);

/// The text of one of them alone, whether there is a binary or not.
std::string unit_text(const ForeignUnit& unit, UnitKind kind, const std::string& name);

}  // namespace netloop

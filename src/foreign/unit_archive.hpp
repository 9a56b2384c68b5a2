// SPDX-License-Identifier: Apache-2.0
// The archive that a unit of FMI comes in, taken apart into a folder of its own.
#pragma once

#include <string>

#include "files/other_program.hpp"

namespace netloop {

/// What lies in a unit's folder while it is used.
class UnitFolder {
public:
    /// Unpacks the description, the binaries for this machine and the resources of an archive into a fresh private folder. Throws UnitProblemFound: no archive,
    /// damaged, a path that leads out of it (absolute, `..`, a back stroke), a link, more than kMostFiles files or kMostBytes bytes. Cost: the size of what is
    /// unpacked.
    explicit UnitFolder(const std::string& archive);

    const std::string& description() const { return description_; }  ///< the text of modelDescription.xml
    std::string path() const { return folder_.path().string(); }

    static constexpr std::size_t kMostFiles = 20'000;
    static constexpr std::size_t kMostBytes = std::size_t{1} << 30;
    static constexpr std::size_t kMostDescription = std::size_t{64} << 20;

private:
    OwnFolder folder_;
    std::string description_;
};

/// The binary of this name for this machine in an unpacked unit; throws UnitProblemFound if there is none.
std::string unit_binary(const std::string& folder, int version, const std::string& name);
/// Where its resources lie, as the standard asks for it: a file URI for 2.0, a path that ends in a stroke for 3.0.
std::string unit_resources(const std::string& folder, int version);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// What stands beside the C of a machine: a program that runs it, files to build it, a page that tells what it is.
#pragma once

#include <string>
#include <utility>
#include <vector>

#include "exchange/c_machine.hpp"

namespace netloop {

/// In the first lines of every exported file: what has it may be written over.
inline constexpr const char* kExportedBy = "Written by Net Loop";

struct CProject {
    std::vector<std::pair<std::string, std::string>> files;  ///< name and text
    std::size_t state_bytes = 0;                             ///< of one machine, with 8 bytes for a pointer and a long
};

/// `title`: system and scenario; `stop`: how far main.c goes where nothing else is said, s. Throws what write_c_machine() throws.
CProject write_c_project(const FixedPlan& plan, const CMachineOptions& options, const std::string& title, double stop);

/// A C identifier made of a name: BasculeBridge -> bascule_bridge.
std::string c_identifier(const std::string& name);
/// Whether the written code uses a name for something else.
bool is_taken_in_c(const std::string& name);

}  // namespace netloop

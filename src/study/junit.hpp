// SPDX-License-Identifier: Apache-2.0
// Results as JUnit XML, which build servers read.
#pragma once

#include <string>
#include <vector>

namespace netloop {

struct JunitCase {
    std::string group, name;  ///< its file, and what it is called there
    double seconds = 0;
    std::string error;    ///< it did not come to its end; empty: it did
    std::string failure;  ///< it came to its end, and is not as it should be; a line each
    std::string output;   ///< what else it gives
};

/// The document. Texts may hold anything.
std::string junit_text(const std::string& suite, const std::vector<JunitCase>& cases);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// NETLOOP_VERIFY=1 in the environment: every run is held against its model, and every form of the compiler to what it promises.
#pragma once

#include <cstdlib>
#include <string_view>

namespace netloop {

inline bool verifies_all()
{
    const char* said = std::getenv("NETLOOP_VERIFY");
    return said != nullptr && std::string_view(said) == "1";
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include <netloop/netloop.hpp>

#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size)
{
    std::string text(reinterpret_cast<const char*>(data), size);
    try {
        netloop::Library library = netloop::Library::standard();
        library.load_text("fuzz.loop", text);
        std::string laid_out = netloop::format_text("fuzz.loop", text);  // throws std::logic_error if it would mean something else
        if (netloop::format_text("fuzz.loop", laid_out) != laid_out) std::abort();
        library.check();
        netloop::compile(library, {.no_scenario = true});
    } catch (const netloop::ModelError&) {
        // what a faulty text is meant to end in
    }
    return 0;
}

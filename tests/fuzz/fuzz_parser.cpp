#include <netloop/netloop.hpp>

#include <cstddef>
#include <cstdint>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size)
{
    std::string text(reinterpret_cast<const char*>(data), size);
    try {
        netloop::Library library = netloop::Library::standard();
        library.load_text("fuzz.loop", text);
        library.check();
        netloop::compile(library, {.no_scenario = true});
    } catch (const netloop::ModelError&) {
        // what a faulty text is meant to end in
    }
    return 0;
}

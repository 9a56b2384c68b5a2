// SPDX-License-Identifier: Apache-2.0
// An archive is refused, or unpacked into a folder of its own and nowhere else.
#include <cstddef>
#include <cstdint>
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "foreign/unit_archive.hpp"
#include "foreign/unit_description.hpp"

namespace fs = std::filesystem;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size)
{
    static const netloop::OwnFolder room;
    static const std::string file = (room / "fuzzed.fmu").string();
    {
        std::ofstream out(file, std::ios::binary);
        out.write(reinterpret_cast<const char*>(data), static_cast<std::streamsize>(size));
    }
    try {
        netloop::UnitFolder folder(file);
        for (const auto& entry : fs::recursive_directory_iterator(folder.path()))
            if (fs::is_symlink(entry.symlink_status())) std::abort();
        (void)netloop::read_foreign_description(folder.description());
    } catch (const netloop::UnitProblemFound&) {
    }
    // beside the archive lies nothing else
    for (const auto& entry : fs::directory_iterator(room.path()))
        if (entry.path() != file) std::abort();
    return 0;
}

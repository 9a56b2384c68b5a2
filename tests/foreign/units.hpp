// SPDX-License-Identifier: Apache-2.0
// Units of FMI written by hand (units/*.c), made into archives.
#pragma once

#include <fmt/format.h>

#include <filesystem>
#include <functional>
#include <set>

#include "support/support.hpp"

namespace test {

/// Compiles a unit of tests/foreign/units and packs it: NAME.fmu in the folder. `change` may rewrite its description.
inline void make_unit(const std::string& folder, const std::string& name, const std::function<void(std::string&)>& change = {}, const std::string& as = "")
{
    namespace fs = std::filesystem;
    std::string source = source_path("tests/foreign/units/" + name), at = folder + "/unpacked_" + (as.empty() ? name : as);
    std::string xml = read_file(source + ".xml");
    if (change) change(xml);
    bool three = xml.find("fmiVersion=\"3.0\"") != std::string::npos;
    std::string binaries = at + "/binaries/" + (three ? "x86_64-linux" : "linux64");
    fs::create_directories(binaries);
    fs::create_directories(at + "/resources");
    write_file(at + "/modelDescription.xml", xml);
    write_file(at + "/resources/notes.txt", "nothing");
    Outcome made = shell("gcc -std=c99 -D_GNU_SOURCE -Wall -Wextra -Werror -O1 -shared -fPIC " + source + ".c -o " + binaries + "/" + name + ".so -lm");
    if (made.code != 0) throw std::runtime_error(made.err);
    Outcome packed = shell("cd " + at + " && python3 -m zipfile -c ../" + (as.empty() ? name : as) + ".fmu modelDescription.xml binaries resources");
    if (packed.code != 0) throw std::runtime_error(packed.err);
}

/// Replaces in a description; throws if the text is not there.
inline std::function<void(std::string&)> with(const std::string& text, const std::string& by)
{
    return [=](std::string& xml) {
        std::size_t at = xml.find(text);
        if (at == std::string::npos) throw std::runtime_error("not in the description: " + text);
        xml.replace(at, text.size(), by);
    };
}

}  // namespace test

// SPDX-License-Identifier: Apache-2.0
#include "exchange/c_text.hpp"

namespace netloop {

std::string c_string(const std::string& text)
{
    std::string out = "\"";
    for (char c : text) {
        auto byte = static_cast<unsigned char>(c);
        if (c == '"' || c == '\\')
            out += fmt::format("\\{}", c);
        else if (c == '\n')
            out += "\\n";
        else if (byte < 0x20 || byte >= 0x7f || c == '?')  // no trigraphs
            out += fmt::format("\\{:03o}", byte);
        else
            out += c;
    }
    return out + "\"";
}

std::string c_number(double v)
{
    std::string text = fmt::format("{:.17g}", v);
    return text.find_first_of(".en") == std::string::npos ? text + ".0" : text;
}

std::string with_names(std::string text, const std::string& name, const std::string& real, const std::string& suffix)
{
    auto replace = [&text](const std::string& what, const std::string& with) {
        for (std::size_t k = text.find(what); k != std::string::npos; k = text.find(what, k + with.size())) text.replace(k, what.size(), with);
    };
    replace("@", name);
    replace("REAL", real);
    replace("FN(", suffix + "(");
    return text;
}

std::vector<std::uint32_t> CText::indices(const std::vector<std::uint32_t>& places) const
{
    std::vector<std::uint32_t> made;
    for (std::uint32_t place : places) made.push_back(at(place));
    return made;
}

std::string CText::columns(const char* what, const std::vector<Column>& list) const
{
    std::string out = fmt::format("const {}_column {}_{}[{}] = {{\n", name_, name_, what, std::max<std::size_t>(1, list.size()));
    for (const Column& c : list)
        out += fmt::format("    {{{}, {}, {}, {}, {}, {}}},\n", c_string(c.name), c_string(c.unit), c_string(c.doc), c_number(c.scale), c_number(c.offset),
                           c_number(c.value));
    if (list.empty()) out += "    {0, 0, 0, 1.0, 0.0, 0.0},\n";
    return out + "};\n";
}

}  // namespace netloop

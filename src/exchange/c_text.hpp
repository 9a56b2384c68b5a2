// SPDX-License-Identifier: Apache-2.0
// Text of C as all writers of a machine make it: names, numbers, lists, and where things lie in its memory.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <string>
#include <type_traits>
#include <vector>

#include "exchange/fixed_plan.hpp"

namespace netloop {

/// `text` as a C string.
std::string c_string(const std::string& text);

/// A number as C has it, all its digits.
std::string c_number(double v);

/// A text of C in which @ stands for a machine's name, REAL for the type of its numbers, and FN( for the suffix of functions of the mathematical library. What
/// a user wrote is put in behind this, never before: it may hold any of them.
std::string with_names(std::string text, const std::string& name, const std::string& real = "double", const std::string& suffix = {});

class CText {
public:
    CText(std::string name, bool single) : name_(std::move(name)), real_(single ? "float" : "double"), suffix_(single ? "f" : "") {}

    const std::string& name() const { return name_; }
    const std::string& real() const { return real_; }
    /// Where a place of the plan lies in the memory of the machine.
    std::uint32_t at(std::uint32_t place) const { return index_[place]; }
    std::vector<std::uint32_t> indices(const std::vector<std::uint32_t>& places) const;
    /// with_names() of this machine.
    std::string fill(std::string text) const { return with_names(std::move(text), name_, real_, suffix_); }

    /// "120 bar" is told as its unit with what turns SI into it.
    struct Column {
        std::string name, unit, doc;
        double scale = 1, offset = 0, value = 0;
    };
    /// What `name`_`what` tells of each.
    std::string columns(const char* what, const std::vector<Column>& list) const;

    /// A constant array of the machine; one element at least.
    template <typename T>
    std::string list(const char* type, const std::string& what, const std::vector<T>& values) const
    {
        std::string out = fmt::format("static const {} {}_{}[{}] = {{", type, name_, what, std::max<std::size_t>(1, values.size()));
        for (std::size_t i = 0; i < values.size(); ++i) {
            out += i == 0 ? "" : i % 16 == 0 ? ",\n    " : ", ";
            if constexpr (std::is_floating_point_v<T>)
                out += c_number(values[i]);
            else
                out += fmt::format("{}", +values[i]);
        }
        return out + (values.empty() ? "0};\n" : "};\n");
    }

protected:
    std::string name_, real_, suffix_;
    std::vector<std::uint32_t> index_;
};

}  // namespace netloop

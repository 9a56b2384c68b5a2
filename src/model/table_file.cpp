// SPDX-License-Identifier: Apache-2.0
#include "model/table_file.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <filesystem>
#include <map>
#include <set>
#include <sstream>
#include <stdexcept>

#include "files/input_file.hpp"

namespace netloop {
namespace {

std::string trimmed(std::string s)
{
    while (!s.empty() && (s.back() == ' ' || s.back() == '\r' || s.back() == '"')) s.pop_back();
    std::size_t begin = s.find_first_not_of(" \"");
    return begin == std::string::npos ? "" : s.substr(begin);
}

std::vector<std::string> fields_of(const std::string& line)
{
    std::vector<std::string> fields;
    std::size_t at = 0;
    for (;;) {
        std::size_t comma = line.find(',', at);
        fields.push_back(trimmed(line.substr(at, comma == std::string::npos ? comma : comma - at)));
        if (comma == std::string::npos) return fields;
        at = comma + 1;
    }
}

bool number_from(const std::string& text, double& value)
{
    auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    return error == std::errc{} && end == text.data() + text.size();
}

Unit unit_in(const std::string& heading, const std::optional<Unit>& declared)
{
    Unit unit = declared.value_or(Unit{});
    std::size_t open = heading.rfind('[');
    if (open == std::string::npos || heading.back() != ']') return unit;
    UnitProblem problem;
    Unit written;
    if (!parse_unit(heading.substr(open + 1, heading.size() - open - 2), written, problem))
        throw std::runtime_error(fmt::format("column '{}': {}", heading, problem.text));
    if (declared && !(written.dimension == unit.dimension))
        throw std::runtime_error(fmt::format("column '{}' does not fit the declared [{}]", heading, unit.text));
    return written;
}

std::string name_in(const std::string& heading)
{
    return trimmed(heading.substr(0, heading.rfind('[')));
}

}  // namespace

std::string read_table_file(const std::string& path, const TableDecl& table)
{
    constexpr std::size_t kMost = 256 * kMiB;
    try {
        return read_text_file(path, kMost);
    } catch (const FileProblem& problem) {
        std::error_code error;
        throw std::runtime_error(
            fmt::format("file '{}' cannot be read: {} (looked for {})", table.file, problem.what(), std::filesystem::absolute(path, error).string()));
    }
}

TablePoints table_points(const std::string& text, const TableDecl& table)
{
    std::vector<std::vector<std::string>> lines;
    std::vector<std::size_t> numbers;
    std::istringstream in(text);
    std::string line;
    for (std::size_t n = 1; std::getline(in, line); ++n) {
        if (n == 1 && line.starts_with("\xef\xbb\xbf")) line.erase(0, 3);
        if (trimmed(line).empty()) continue;
        lines.push_back(fields_of(line));
        numbers.push_back(n);
    }
    if (lines.empty()) throw std::runtime_error(fmt::format("file '{}' is empty", table.file));
    auto value = [&](std::size_t row, std::size_t column) {
        double v = 0;
        if (column >= lines[row].size() || !number_from(lines[row][column], v))
            throw std::runtime_error(fmt::format("file '{}', line {}: column {} is not a number", table.file, numbers[row], column + 1));
        return v;
    };
    TablePoints points;
    double probe = 0;
    if (table.arguments.size() == 1) {
        bool heading = !number_from(lines[0][0], probe);
        std::size_t x = 0, v = 1;
        Unit x_unit = table.arguments[0].unit.value_or(Unit{}), v_unit = table.unit.value_or(Unit{});
        if (heading) {
            for (std::size_t c = 0; c < lines[0].size(); ++c) {
                if (name_in(lines[0][c]) == table.arguments[0].name) x = c;
                if (name_in(lines[0][c]) == table.name) v = c;
            }
            if (lines[0].size() < 2) throw std::runtime_error(fmt::format("file '{}' has one column; two are needed", table.file));
            // of several columns none is taken because of its place
            bool named = std::any_of(lines[0].begin(), lines[0].end(), [&](const std::string& heading_of) { return name_in(heading_of) == table.name; });
            if (lines[0].size() > 2 && !named) {
                std::string headings;
                for (const std::string& h : lines[0]) headings += (headings.empty() ? "'" : ", '") + name_in(h) + "'";
                throw std::runtime_error(
                    fmt::format("file '{}' has {} columns, and none is headed '{}': its headings are {}", table.file, lines[0].size(), table.name, headings));
            }
            x_unit = unit_in(lines[0][x], table.arguments[0].unit);
            v_unit = unit_in(lines[0][v], table.unit);
        }
        for (std::size_t r = heading ? 1 : 0; r < lines.size(); ++r) {
            points.x.push_back(x_unit.to_si(value(r, x)));
            points.values.push_back(v_unit.to_si(value(r, v)));
        }
        return points;
    }
    if (table.arguments.size() == 3) {
        bool heading = !number_from(lines[0][0], probe);
        std::array<std::size_t, 4> column{0, 1, 2, 3};
        std::array<Unit, 4> unit;
        for (std::size_t k = 0; k < 4; ++k) {
            const auto& declared = k < 3 ? table.arguments[k].unit : table.unit;
            unit[k] = declared.value_or(Unit{});
            if (!heading) continue;
            const std::string& name = k < 3 ? table.arguments[k].name : table.name;
            for (std::size_t c = 0; c < lines[0].size(); ++c)
                if (name_in(lines[0][c]) == name) column[k] = c;
            if (column[k] >= lines[0].size()) throw std::runtime_error(fmt::format("file '{}' has no column '{}'", table.file, name));
            unit[k] = unit_in(lines[0][column[k]], declared);
        }
        std::map<std::array<double, 3>, double> at;
        std::array<std::set<double>, 3> knots;
        for (std::size_t r = heading ? 1 : 0; r < lines.size(); ++r) {
            std::array<double, 3> p{};
            for (std::size_t k = 0; k < 3; ++k) p[k] = unit[k].to_si(value(r, column[k])), knots[k].insert(p[k]);
            if (!at.emplace(p, unit[3].to_si(value(r, column[3]))).second)
                throw std::runtime_error(fmt::format("file '{}', line {}: this point was given before", table.file, numbers[r]));
        }
        points.x.assign(knots[0].begin(), knots[0].end());
        points.y.assign(knots[1].begin(), knots[1].end());
        points.z.assign(knots[2].begin(), knots[2].end());
        if (at.size() != points.x.size() * points.y.size() * points.z.size())
            throw std::runtime_error(fmt::format("file '{}' holds {} points; the full grid of {} x {} x {} has {}", table.file, at.size(), points.x.size(),
                                                 points.y.size(), points.z.size(), points.x.size() * points.y.size() * points.z.size()));
        for (const auto& [p, v] : at) points.values.push_back(v);  // ascending in the first argument, then the second, then the third
        return points;
    }
    Unit x_unit = table.arguments[0].unit.value_or(Unit{}), y_unit = table.arguments[1].unit.value_or(Unit{}), v_unit = table.unit.value_or(Unit{});
    for (std::size_t c = 1; c < lines[0].size(); ++c) points.y.push_back(y_unit.to_si(value(0, c)));
    for (std::size_t r = 1; r < lines.size(); ++r) {
        points.x.push_back(x_unit.to_si(value(r, 0)));
        for (std::size_t c = 1; c <= points.y.size(); ++c) points.values.push_back(v_unit.to_si(value(r, c)));
    }
    return points;
}

}  // namespace netloop

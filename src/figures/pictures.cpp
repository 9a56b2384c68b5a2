// SPDX-License-Identifier: Apache-2.0
#include "figures/pictures.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <map>
#include <optional>
#include <sstream>

namespace netloop {
namespace {

// Shapes and how many places each has; a level has a height instead.
const std::map<std::string, std::size_t> kPlaces{{"ground", 1}, {"link", 2},  {"bar", 2},    {"cylinder", 2}, {"spring", 2},
                                                 {"body", 1},   {"pivot", 1}, {"slider", 1}, {"level", 1}};

class Reader {
public:
    explicit Reader(const Recording& recording) : recording_(recording) {}

    Shape read(const PartEntry& part, const std::string& line)
    {
        Shape s;
        s.part = part.path;
        std::istringstream words(line);
        words >> s.shape;
        auto known = kPlaces.find(s.shape);
        if (known == kPlaces.end()) throw RecordingError(fmt::format("'{}' is no shape", s.shape));
        for (std::string word; words >> word;) {
            if (s.shape == "level")
                s.points.push_back({coordinate(part, word)});
            else if (word.front() == '(' && word.back() == ')' && word.find(',') != std::string::npos)
                s.points.push_back({coordinate(part, word.substr(1, word.find(',') - 1)),
                                    coordinate(part, word.substr(word.find(',') + 1, word.size() - word.find(',') - 2))});
            else
                s.points.push_back({coordinate(part, word + ".x"), coordinate(part, word + ".y")});
        }
        if (s.points.size() != known->second) throw RecordingError(fmt::format("'{}' needs {} place{}", s.shape, known->second, known->second == 1 ? "" : "s"));
        if (s.shape == "cylinder") s.shortest = shortest(s);
        return s;
    }

private:
    Shape::Coordinate coordinate(const PartEntry& part, const std::string& word)
    {
        char* end = nullptr;
        double number = std::strtod(word.c_str(), &end);
        if (!word.empty() && *end == '\0') return number;
        std::string name = (part.path.empty() ? "" : part.path + ".") + word;
        if (recording_.find(name) != nullptr) return name;
        for (const ParameterValue& p : recording_.origin.parameters)
            if (p.path == name) return p.value;
        throw RecordingError(fmt::format("'{}' is not recorded", name));
    }

    double shortest(const Shape& s) const
    {
        double least = HUGE_VAL;
        auto value = [&](const Shape::Coordinate& c, std::size_t row) {
            return std::holds_alternative<double>(c) ? std::get<double>(c) : recording_[std::get<std::string>(c)].values[row];
        };
        for (std::size_t r = 0; r < recording_.n_rows(); ++r)
            least = std::min(least, std::hypot(value(s.points[1][0], r) - value(s.points[0][0], r), value(s.points[1][1], r) - value(s.points[0][1], r)));
        return least;
    }

    const Recording& recording_;
};

}  // namespace

std::vector<Shape> shapes_of(const Recording& recording, std::vector<std::string>& left_out)
{
    std::vector<Shape> shapes;
    Reader reader(recording);
    for (const PartEntry& part : recording.origin.parts)
        for (const std::string& line : part.pictures) try {
                shapes.push_back(reader.read(part, line));
            } catch (const RecordingError& error) {
                left_out.push_back(fmt::format("{} ({}): {}", part.path.empty() ? recording.system : part.path, line, error.what()));
            }
    return shapes;
}

}  // namespace netloop

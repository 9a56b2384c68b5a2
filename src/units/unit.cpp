// SPDX-License-Identifier: Apache-2.0
#include "units/unit.hpp"

#include <array>
#include <charconv>
#include <cmath>
#include <unordered_map>

#include "base/diagnostics.hpp"

namespace netloop {
namespace {

struct TableRow {
    const char* name;
    double scale;
    double offset;
    const char* si;
};

constexpr TableRow kTable[] = {
#include "unit_table.inc"
};

// How a trade writes a unit that is spelled differently here.
constexpr std::array<std::array<const char*, 2>, 25> kSpellings{
    {{"Nm", "N*m"},    {"l", "L"},        {"lpm", "L/min"}, {"l_min", "L/min"}, {"sec", "s"},        {"hr", "h"},         {"hour", "h"},
     {"Ohm", "ohm"},   {"in", "inch"},    {"kph", "km/h"},  {"degrees", "deg"}, {"celsius", "degC"}, {"Celsius", "degC"}, {"cc", "cm^3"},
     {"ccm", "cm^3"},  {"RPM", "rpm"},    {"PSI", "psi"},   {"Bar", "bar"},     {"Kg", "kg"},        {"KG", "kg"},        {"Sec", "s"},
     {"percent", "%"}, {"radian", "rad"}, {"kNm", "kN*m"},  {"minute", "min"}}};

Dimension dimension_of_si(std::string_view si)
{
    static constexpr std::array<std::string_view, Dimension::kCount> kBase{"m", "kg", "s", "A", "K", "mol", "cd"};
    Dimension d;
    while (!si.empty() && si != "1") {
        std::size_t star = si.find('*');
        std::string_view factor = si.substr(0, star);
        si = star == std::string_view::npos ? std::string_view{} : si.substr(star + 1);
        std::size_t hat = factor.find('^');
        int exponent = 1;
        if (hat != std::string_view::npos) std::from_chars(factor.data() + hat + 1, factor.data() + factor.size(), exponent);
        for (int i = 0; i < Dimension::kCount; ++i)
            if (kBase[static_cast<std::size_t>(i)] == factor.substr(0, hat)) d = d * Dimension::base(i).power(exponent);
    }
    return d;
}

const std::unordered_map<std::string_view, Unit>& table()
{
    static const auto* units = [] {
        auto* map = new std::unordered_map<std::string_view, Unit>;
        for (const TableRow& row : kTable) map->emplace(row.name, Unit{dimension_of_si(row.si), row.scale, row.offset, row.offset != 0, row.name});
        return map;
    }();
    return *units;
}

// Recursive descent over the text of one unit; nesting is bounded by kMaxDepth.
class UnitReader {
public:
    UnitReader(std::string_view text, UnitProblem& problem, bool open) : text_(text), problem_(problem), open_(open) {}

    bool read(Unit& unit)
    {
        skip();
        std::size_t start = at_;
        Unit result;
        if (!product(result, 0)) return false;
        skip();
        if (at_ != text_.size()) return fail(at_, text_.size(), "unexpected text in a unit");
        if (result.has_offset && !alone_) {
            // inside a compound unit degC counts as K; a gauge pressure means nothing there
            if (result.dimension == Dimension::base(4))
                result.has_offset = false;
            else
                return fail(start, text_.size(), "a gauge pressure cannot be part of a compound unit", "write bar or psi");
            result.offset = 0;
        }
        result.text = std::string(text_);
        unit = result;
        return true;
    }

private:
    static constexpr int kMaxDepth = 32;

    void skip()
    {
        while (at_ < text_.size() && text_[at_] == ' ') ++at_;
    }
    bool fail(std::size_t begin, std::size_t end, std::string text, std::string hint = {})
    {
        problem_ = {std::move(text), std::move(hint), begin, std::max(end, begin)};
        return false;
    }
    bool product(Unit& left, int depth)
    {
        if (depth > kMaxDepth) return fail(at_, text_.size(), "a unit nested too deeply");
        if (!power(left, depth)) return false;
        for (;;) {
            skip();
            if (at_ >= text_.size() || (text_[at_] != '*' && text_[at_] != '/')) return true;
            bool divide = text_[at_++] == '/';
            alone_ = false;
            Unit right;
            if (!drop_offset(left) || !power(right, depth) || !drop_offset(right)) return false;
            left.dimension = divide ? left.dimension / right.dimension : left.dimension * right.dimension;
            left.scale = divide ? left.scale / right.scale : left.scale * right.scale;
        }
    }
    bool drop_offset(Unit& unit)
    {
        if (!unit.has_offset) return true;
        if (unit.dimension != Dimension::base(4)) return fail(0, text_.size(), "a gauge pressure cannot be part of a compound unit", "write bar or psi");
        unit.has_offset = false;
        unit.offset = 0;
        return true;
    }
    bool power(Unit& unit, int depth)
    {
        skip();
        std::size_t begin = at_;
        if (!factor(unit, depth)) return false;
        if (at_ >= text_.size() || text_[at_] != '^') return true;
        ++at_;
        alone_ = false;
        if (!drop_offset(unit)) return false;
        std::size_t digits = at_;
        bool bracketed = at_ < text_.size() && text_[at_] == '(';
        if (bracketed) ++at_;
        double exponent = 0;
        if (!number(exponent)) return fail(digits, text_.size(), "an exponent is expected after '^' in a unit");
        if (bracketed && at_ < text_.size() && text_[at_] == '/') {
            ++at_;
            double divisor = 1;
            if (!number(divisor) || divisor == 0) return fail(digits, text_.size(), "an exponent is expected after '^' in a unit");
            exponent /= divisor;
        }
        if (bracketed && (at_ >= text_.size() || text_[at_++] != ')')) return fail(digits, text_.size(), "')' is missing in a unit");
        std::optional<Rational> fraction = Rational::from(exponent);
        if (!fraction || std::abs(exponent) > 12) return fail(begin, at_, "an exponent in a unit must be a small fraction");
        unit.dimension = unit.dimension.power(*fraction);
        unit.scale = std::pow(unit.scale, exponent);
        return true;
    }
    bool number(double& value)
    {
        std::size_t begin = at_;
        if (at_ < text_.size() && text_[at_] == '-') ++at_;
        while (at_ < text_.size() && (std::isdigit(static_cast<unsigned char>(text_[at_])) || text_[at_] == '.')) ++at_;
        auto [end, error] = std::from_chars(text_.data() + begin, text_.data() + at_, value);
        return error == std::errc{} && end == text_.data() + at_;
    }
    bool factor(Unit& unit, int depth)
    {
        if (at_ < text_.size() && text_[at_] == '(') {
            ++at_;
            alone_ = false;
            if (!product(unit, depth + 1)) return false;
            skip();
            if (at_ >= text_.size() || text_[at_] != ')') return fail(at_, text_.size(), "')' is missing in a unit");
            ++at_;
            return true;
        }
        std::size_t begin = at_;
        if (at_ < text_.size() && text_[at_] == '1') {
            ++at_;
            unit = Unit{};
            return true;
        }
        if (at_ < text_.size() && text_[at_] == '%')
            ++at_;
        else
            while (at_ < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[at_])) || text_[at_] == '_')) ++at_;
        std::string_view name = text_.substr(begin, at_ - begin);
        if (name.empty()) return fail(begin, text_.size(), "a unit is expected");
        auto found = table().find(name);
        if (found == table().end() && open_ && is_open_unit(name)) {
            unit = Unit{};
            unit.dimension = Dimension::open(std::string(name));
            return true;
        }
        if (found == table().end()) {
            std::string near = suggest_unit(name);
            return fail(begin, at_, fmt::format("unknown unit '{}'", name), near.empty() ? "" : fmt::format("did you mean '{}'?", near));
        }
        unit = found->second;
        return true;
    }

    std::string_view text_;
    UnitProblem& problem_;
    std::size_t at_ = 0;
    bool alone_ = true, open_;
};

}  // namespace

Unit Unit::difference() const
{
    Unit unit = *this;
    if (!has_offset) return unit;
    unit.has_offset = false;
    unit.offset = 0;
    if (text == "degC")
        unit.text = "K";
    else if (text == "barg")
        unit.text = "bar";
    else if (text == "psig")
        unit.text = "psi";
    else
        unit = si_unit(dimension);
    return unit;
}

Unit Unit::rate() const
{
    Unit made, own = difference();
    UnitProblem problem;
    std::string t = own.text.ends_with("/s") ? own.text + "^2" : own.text.ends_with("/s^2") ? own.text.substr(0, own.text.size() - 1) + "3" : own.text + "/s";
    bool plain = own.text == "1" || !parse_unit(t, made, problem) || !(made.dimension == own.dimension / Dimension::base(2));
    return plain ? si_unit(own.dimension / Dimension::base(2)) : made;
}

bool is_open_unit(std::string_view name)
{
    constexpr std::string_view kMark = "of_";
    return name.size() > kMark.size() && name.starts_with(kMark);
}

bool parse_unit(std::string_view text, Unit& unit, UnitProblem& problem, bool open)
{
    if (text.size() > 200) {
        problem = {"a unit of more than 200 characters", "", 0, text.size()};
        return false;
    }
    return UnitReader(text, problem, open).read(unit);
}

bool is_unit_name(std::string_view name)
{
    return table().contains(name);
}

std::vector<std::string> unit_names()
{
    std::vector<std::string> names;
    for (const TableRow& row : kTable) names.emplace_back(row.name);
    return names;
}

std::string suggest_unit(std::string_view name)
{
    for (const auto& [written, here] : kSpellings)
        if (name == written) return here;
    return nearest_name(name, unit_names());
}

Unit si_unit(const Dimension& dimension)
{
    Unit unit;
    unit.dimension = dimension;
    unit.text = dimension.text();
    return unit;
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "units/unit.hpp"

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <cmath>
#include <unordered_map>

#include "base/diagnostics.hpp"
#include "units/unit_names.hpp"

namespace netloop {
namespace {

struct TableRow {
    const char* name;
    double scale;
    double offset;
    const char* si;
    const char* quantity;
    bool prefixes;
    const char* says;
};

constexpr TableRow kTable[] = {
#include "unit_table.inc"
};

// How a trade writes a unit that is spelled differently here: the unit, or a sentence where there is none.
struct Spelling {
    std::string_view written;
    std::string_view here;
};
constexpr Spelling kSpellings[] = {
    {"l", "L"},        {"ml", "mL"},       {"lpm", "L/min"},   {"LPM", "L/min"},    {"l_min", "L/min"},  {"sec", "s"},       {"Sec", "s"},
    {"hr", "h"},       {"hour", "h"},      {"hours", "h"},     {"d", "day"},        {"days", "day"},     {"a", "year"},      {"yr", "year"},
    {"minute", "min"}, {"minutes", "min"}, {"seconds", "s"},   {"Ohm", "ohm"},      {"OHM", "ohm"},      {"in", "inch"},     {"feet", "ft"},
    {"kph", "km/h"},   {"degrees", "deg"}, {"degree", "deg"},  {"celsius", "degC"}, {"Celsius", "degC"}, {"kelvin", "K"},    {"Kelvin", "K"},
    {"cc", "cm^3"},    {"ccm", "cm^3"},    {"RPM", "rpm"},     {"rps", "rev/s"},    {"U", "rev"},        {"PSI", "psi"},     {"psia", "psi"},
    {"bara", "bar"},   {"Bar", "bar"},     {"percent", "%"},   {"pct", "%"},        {"radian", "rad"},   {"radians", "rad"}, {"liter", "L"},
    {"litre", "L"},    {"meter", "m"},     {"metre", "m"},     {"micron", "um"},    {"gram", "g"},       {"ton", "t"},       {"newton", "N"},
    {"pascal", "Pa"},  {"watt", "W"},      {"joule", "J"},     {"volt", "V"},       {"amp", "A"},        {"ampere", "A"},    {"hertz", "Hz"},
    {"var", "VA"},     {"kvar", "kVA"},    {"at", "kgf/cm^2"}, {"lbs", "lb"},       {"rad_s", "rad/s"},  {"Kg", "kg"},       {"KG", "kg"},
};
constexpr Spelling kSentences[] = {
    {"Nl", "a norm litre is an amount of gas, no volume: give a mass flow, or a flow in L/min and the density"},
    {"Nm3", "a norm cubic metre is an amount of gas, no volume: give a mass flow, or a flow in m^3/h and the density (for newton times metre write N*m)"},
    {"NL", "a norm litre is an amount of gas, no volume: give a mass flow, or a flow in L/min and the density"},
    {"dB", "a level is no unit: write the ratio as a number, 10^(x/20) for amplitudes"},
    {"dBA", "a level is no unit: write the ratio as a number"},
    {"mH2O", "write 9806.65 Pa for a metre of water"},
    {"mWS", "write 9806.65 Pa for a metre of water"},
    {"inHg", "write 25.4 mmHg for an inch of mercury"},
};

// Units of more than one name that their users write without a sign between: Nm, kNm, Ws.
constexpr std::size_t kMostFactors = 3;

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

const std::unordered_map<std::string_view, const NamedUnit*>& table()
{
    static const auto* units = [] {
        auto* map = new std::unordered_map<std::string_view, const NamedUnit*>;
        for (const NamedUnit& row : named_units()) map->emplace(row.unit.text, &row);
        return map;
    }();
    return *units;
}

// A name of the list, or one with an SI prefix.
bool find_unit(std::string_view name, Unit& unit)
{
    if (auto it = table().find(name); it != table().end()) {
        unit = it->second->unit;
        return true;
    }
    for (const UnitPrefix& prefix : kUnitPrefixes) {
        std::string_view mark = prefix.name;
        if (!name.starts_with(mark)) continue;
        auto it = table().find(name.substr(mark.size()));
        if (it == table().end() || !it->second->prefixes) continue;
        unit = it->second->unit;
        unit.scale = prefix.exponent < 0 ? unit.scale / std::pow(10.0, -prefix.exponent) : unit.scale * std::pow(10.0, prefix.exponent);
        unit.text = name;
        return true;
    }
    return false;
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
        const bool known = find_unit(name, unit);
        if (!known && open_ && is_open_unit(name)) {
            unit = Unit{};
            unit.dimension = Dimension::open(std::string(name));
            return true;
        }
        if (!known) return fail(begin, at_, fmt::format("unknown unit '{}'", name), unit_hint(name));
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

const std::vector<NamedUnit>& named_units()
{
    static const auto* units = [] {
        auto* list = new std::vector<NamedUnit>;
        for (const TableRow& row : kTable)
            list->push_back({Unit{dimension_of_si(row.si), row.scale, row.offset, row.offset != 0, row.name}, row.quantity, row.prefixes, row.says});
        return list;
    }();
    return *units;
}

bool is_unit_name(std::string_view name)
{
    Unit unit;
    return find_unit(name, unit);
}

namespace {

// "Nm" as "N*m", "kNm" as "kN*m", "Nms" as "N*m*s": what the trades write together; empty: it is none.
std::string product_of(std::string_view name, std::size_t most)
{
    constexpr std::array<std::string_view, 7> kFirst{"N", "W", "J", "V", "Pa", "kg", "A"};
    constexpr std::array<std::string_view, 9> kThen{"m", "cm", "mm", "s", "ms", "h", "min", "K", "rad"};
    for (std::size_t n = 1; n < name.size(); ++n) {
        std::string_view first = name.substr(0, n), then = name.substr(n);
        bool begins = is_unit_name(first) && std::any_of(kFirst.begin(), kFirst.end(), [&](std::string_view u) { return first.ends_with(u); });
        if (!begins) continue;
        if (std::find(kThen.begin(), kThen.end(), then) != kThen.end()) return fmt::format("{}*{}", first, then);
        for (std::string_view middle : kThen)
            if (most > 2 && then.starts_with(middle) && std::find(kThen.begin(), kThen.end(), then.substr(middle.size())) != kThen.end())
                return fmt::format("{}*{}*{}", first, middle, then.substr(middle.size()));
    }
    return {};
}

// Names of the list and those with the usual prefixes.
std::vector<std::string> usual_names()
{
    std::vector<std::string> names;
    for (const NamedUnit& row : named_units()) {
        names.push_back(row.unit.text);
        if (row.prefixes)
            for (const char* prefix : {"n", "u", "m", "c", "k", "M", "G"}) names.push_back(prefix + row.unit.text);
    }
    return names;
}

}  // namespace

std::string unit_hint(std::string_view name)
{
    auto meant = [](std::string_view text) { return fmt::format("did you mean '{}'?", text); };
    for (const Spelling& s : kSpellings)
        if (name == s.written) return meant(s.here);
    for (const Spelling& s : kSentences)
        if (name == s.written) return std::string(s.here);
    // an exponent without its sign: mm2, m3
    std::size_t digits = name.size();
    while (digits > 0 && std::isdigit(static_cast<unsigned char>(name[digits - 1])) != 0) --digits;
    if (digits > 0 && digits < name.size() && is_unit_name(name.substr(0, digits)))
        return meant(fmt::format("{}^{}", name.substr(0, digits), name.substr(digits)));
    // without a sign between
    if (std::string product = product_of(name, kMostFactors); !product.empty()) return meant(product);
    // capitals: HZ, KW, mpa
    auto same = [](std::string_view a, std::string_view b) {
        return std::equal(a.begin(), a.end(), b.begin(), b.end(), [](unsigned char x, unsigned char y) { return std::tolower(x) == std::tolower(y); });
    };
    std::string alike;
    for (const std::string& known : usual_names())
        if (same(name, known)) alike += (alike.empty() ? "" : "' or '") + known;
    if (!alike.empty()) return meant(alike);
    std::string near = nearest_name(name, usual_names());
    return near.empty() ? "" : meant(near);
}

Unit si_unit(const Dimension& dimension)
{
    Unit unit;
    unit.dimension = dimension;
    unit.text = dimension.text();
    return unit;
}

}  // namespace netloop

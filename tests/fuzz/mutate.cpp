// SPDX-License-Identifier: Apache-2.0
#include "mutate.hpp"

#include <algorithm>
#include <cctype>

namespace fuzz {
namespace {

using Tokens = std::vector<std::string>;

constexpr const char* kNumbers[] = {
    "0",    "1",     "2",     "3",    "1e308", "1e-308", "5e-324", "1e400", "2147483648", "18446744073709551616", "1e15",       "1e-15", "1e9",    "65536",
    "(-1)", "(0/0)", "(1/0)", "1..2", "1.",    ".5",     "3e5e5",  "00",    "7.3e-9",     "0.999999999",          "1000000001", "1e154", "1e-154", "1e20 * 3"};
constexpr const char* kUnits[] = {"m",   "s",   "kg",    "bar",  "Pa",     "degC",   "K",     "degF", "barg", "rpm",      "rev",
                                  "deg", "rad", "L/min", "mm^2", "N*m",    "%",      "kWh",   "1",    "h",    "Hz",       "V",
                                  "A",   "ohm", "xyz",   "m^99", "degC^2", "Pa^0.5", "m^1e9", "",     "kW",   "W/(m^2*K)"};
constexpr const char* kWords[] = {
    "component", "system", "part",   "port",  "join",  "param",    "option", "const", "let",   "var",      "memory", "init",    "guess",   "if",
    "else",      "for",    "in",     "when",  "every", "function", "return", "while", "and",   "or",       "not",    "is",      "true",    "false",
    "time",      "pi",     "domain", "fluid", "slot",  "base",     "use",    "set",   "stop",  "scenario", "steady", "measure", "require", "sequence",
    "stage",     "delay",  "sum",    "sqrt",  "log",   "max",      "clamp",  "slope", "table", "put",      "find",   "at",      "until",   "open"};
constexpr const char* kMarks[] = {"(", ")", "[", "]", "{",  "}",  ",",  ";",  ":",  ".",  "=", "<",  ">", "+",  "-", "*",
                                  "/", "^", "'", "%", "--", "->", ":=", "==", "..", "\\", "@", "\"", "#", "##", "\n"};
constexpr const char* kOdd[] = {"\xef\xbb\xbf", "\xc3\xa4", "\xe2\x80\xae", "\xf0\x9f\x92\xa5", "\xff",         "\xed\xa0\x80",
                                "\x1b[31m",     "\r",       "\x0c",         "\xc2\xa0",         "\xe2\x88\x92", "\x7f"};
constexpr const char* kCalls[] = {"sqrt",      "log",      "exp", "floor", "sign",  "abs",   "mod", "delay", "signed_sqrt", "smooth_step",
                                  "untracked", "previous", "sin", "tan",   "atan2", "clamp", "sum", "slope", "asin"};
constexpr double kFactors[] = {-1, 0, 10, 0.1, 1000, 1e-3, 1e6, 1e-6, 1e12, 1e-12, 2, 0.5};

bool is_name(const std::string& t)
{
    return !t.empty() && (std::isalpha(static_cast<unsigned char>(t[0])) != 0 || t[0] == '_');
}
bool is_number(const std::string& t)
{
    return !t.empty() && std::isdigit(static_cast<unsigned char>(t[0])) != 0;
}
bool is_blank(const std::string& t)
{
    return t.find_first_not_of(" \t\r\n") == std::string::npos;
}

Tokens tokens_of(const std::string& text)
{
    Tokens list;
    for (std::size_t i = 0; i < text.size();) {
        std::size_t begin = i;
        auto c = static_cast<unsigned char>(text[i]);
        auto run = [&](auto fits) {
            while (i < text.size() && fits(static_cast<unsigned char>(text[i]))) ++i;
        };
        if (c == '#')
            run([](unsigned char d) { return d != '\n'; });
        else if (std::isalpha(c) != 0 || c == '_')
            run([](unsigned char d) { return std::isalnum(d) != 0 || d == '_'; });
        else if (std::isdigit(c) != 0)
            run([](unsigned char d) { return std::isalnum(d) != 0 || d == '.'; });
        else if (c == ' ' || c == '\n')
            run([](unsigned char d) { return d == ' ' || d == '\n'; });
        else
            ++i;
        list.push_back(text.substr(begin, i - begin));
    }
    return list;
}

std::string joined(const Tokens& tokens)
{
    std::string out;
    for (const std::string& t : tokens) out += t;
    return out;
}

template <typename Fits>
std::size_t pick(const Tokens& tokens, Random& random, Fits fits)
{
    std::vector<std::size_t> places;
    for (std::size_t i = 0; i < tokens.size(); ++i)
        if (fits(tokens[i])) places.push_back(i);
    return places.empty() ? tokens.size() : random.of(places);
}

std::string times(const std::string& text, std::size_t n)
{
    std::string out;
    while (n-- > 0) out += text;
    return out;
}

std::vector<std::string> lines_of(const std::string& text)
{
    std::vector<std::string> lines(1);
    for (char c : text) {
        if (c == '\n')
            lines.emplace_back();
        else
            lines.back() += c;
    }
    return lines;
}

std::string from_lines(const std::vector<std::string>& lines)
{
    std::string out;
    for (std::size_t i = 0; i < lines.size(); ++i) out += (i > 0 ? "\n" : "") + lines[i];
    return out;
}

void change_number(Tokens& tokens, Random& random, bool gently)
{
    std::size_t i = pick(tokens, random, is_number);
    if (i == tokens.size()) return;
    if (!gently) {
        tokens[i] = random.of(kNumbers);
        return;
    }
    double value = std::strtod(tokens[i].c_str(), nullptr) * random.of(kFactors);
    char text[40];
    std::snprintf(text, sizeof text, "%.17g", value);
    tokens[i] = value < 0 ? std::string("(") + text + ")" : text;
}

void change_unit(Tokens& tokens, Random& random)
{
    std::vector<std::size_t> places;
    for (std::size_t i = 0; i + 2 < tokens.size(); ++i)
        if (is_number(tokens[i]) && tokens[i + 1] == " " && (is_name(tokens[i + 2]) || tokens[i + 2] == "%")) places.push_back(i + 2);
    if (!places.empty()) tokens[random.of(places)] = random.of(kUnits);
}

std::string nested(const std::string& token, Random& random)
{
    constexpr std::size_t kDepths[] = {5, 50, 150, 199, 201, 1000, 20000};
    std::size_t n = random.of(kDepths);
    switch (random.below(7)) {
        case 0:
            return times("(", n) + token + times(")", random.below(5) > 0 ? n : n - 1);
        case 1:
            return times("[", n) + token + times("]", n);
        case 2:
            return times("{", n) + token + times("}", n);
        case 3:
            return times("- ", n) + token;
        case 4:
            return token + times("^2", n);
        case 5:
            return times("if true then ", n) + token + times(" else 0", n);
        default:
            return token + times(".x", n);
    }
}

// Statements that a model of any kind may take, with two of its own names.
std::string statement(const std::string& a, const std::string& b, Random& random)
{
    switch (random.below(11)) {
        case 0:
            return "when " + a + " > 0 { " + b + " := 0 }";
        case 1:
            return "every 1 ms { " + a + " := " + b + " + 1 }";
        case 2:
            return "every 0 s { " + a + " := " + b + " }";
        case 3:
            return "when sin(1e3*" + a + ") > 0 { " + b + " := -previous(" + b + ") }";
        case 4:
            return "if " + a + " > 0 { " + b + " = 0 } else { " + b + "' = 0 }";
        case 5:
            return "init " + a + " = " + b;
        case 6:
            return "guess " + a + " = 1e300 " + b;
        case 7:
            return a + "' = " + b;
        case 8:
            return a + " = " + b;
        case 9:
            return "let " + a + "_again = " + b + "*" + b;
        default:
            return "part " + a + "_again[" + random.of(kNumbers) + "] : " + b;
    }
}

std::string changed(const std::vector<std::string>& texts, std::string text, Reach reach, Random& random)
{
    Tokens tokens = tokens_of(text);
    if (tokens.empty()) return text;
    if (reach == Reach::numbers) {
        std::size_t kind = random.below(20);
        if (kind < 12)
            change_number(tokens, random, true);
        else if (kind < 16)
            change_number(tokens, random, false);
        else if (kind < 18)
            change_unit(tokens, random);
        else if (std::size_t i = pick(tokens, random, is_name); i < tokens.size())
            tokens[i] = random.of(kCalls) + ("(" + tokens[i] + ")");
        return joined(tokens);
    }
    std::size_t i = pick(tokens, random, [](const std::string& t) { return !is_blank(t) && t[0] != '#'; });
    if (i == tokens.size()) return text;
    auto name = [&] {
        std::size_t k = pick(tokens, random, is_name);
        return k == tokens.size() ? std::string("x") : tokens[k];
    };
    switch (random.below(26)) {
        case 0:
            tokens.erase(tokens.begin() + static_cast<long>(i));
            break;
        case 1:
            tokens.insert(tokens.begin() + static_cast<long>(i), tokens[i] + " ");
            break;
        case 2:
            std::swap(tokens[i], tokens[random.below(tokens.size())]);
            break;
        case 3:
            tokens[i] = random.of(kWords);
            break;
        case 4:
            tokens[i] = random.of(kMarks);
            break;
        case 5:
            tokens.insert(tokens.begin() + static_cast<long>(i), std::string(" ") + random.of(kWords) + " ");
            break;
        case 6:
            tokens.insert(tokens.begin() + static_cast<long>(i), random.of(kMarks));
            break;
        case 7:
        case 8:
            change_number(tokens, random, false);
            break;
        case 9:
            change_number(tokens, random, true);
            break;
        case 10:
            change_unit(tokens, random);
            break;
        case 11:
            tokens[i] = nested(tokens[i], random);
            break;
        case 12:
            if (std::size_t k = pick(tokens, random, is_name); k < tokens.size()) tokens[k] += std::string("[") + random.of(kNumbers) + "]";
            break;
        case 13:
            tokens.insert(tokens.begin() + static_cast<long>(i), random.of(kOdd));
            break;
        case 14: {
            std::string all = joined(tokens);
            return all.substr(0, random.below(all.size() + 1));
        }
        case 15: {
            std::string all = joined(tokens);
            for (int k = 0; k < 4; ++k) all[random.below(all.size())] ^= static_cast<char>(1U << random.below(8));
            return all;
        }
        case 16: {
            std::vector<std::string> lines = lines_of(text);
            lines.erase(lines.begin() + static_cast<long>(random.below(lines.size())));
            return from_lines(lines);
        }
        case 17: {
            std::vector<std::string> lines = lines_of(text);
            std::string line = random.of(lines);
            lines.insert(lines.begin() + static_cast<long>(random.below(lines.size())), line);
            return from_lines(lines);
        }
        case 18: {
            std::vector<std::string> lines = lines_of(text), others = lines_of(random.of(texts));
            lines.insert(lines.begin() + static_cast<long>(random.below(lines.size())), random.of(others));
            return from_lines(lines);
        }
        case 19: {
            const std::string& other = random.of(texts);
            std::size_t from = random.below(other.size() + 1), at = random.below(text.size() + 1);
            return text.substr(0, at) + other.substr(from, 20 + random.below(2000)) + text.substr(at);
        }
        case 20: {
            std::size_t end = std::min(tokens.size(), i + 1 + random.below(60));
            Tokens piece(tokens.begin() + static_cast<long>(i), tokens.begin() + static_cast<long>(end));
            std::string repeated = times(joined(piece), 3 + random.below(60));
            tokens.insert(tokens.begin() + static_cast<long>(i), repeated);
            break;
        }
        case 21:
            if (std::size_t k = pick(tokens, random, is_name); k < tokens.size()) tokens[k] += times("'", 1 + random.below(4));
            break;
        case 22:
            if (std::size_t k = pick(tokens, random, is_name); k < tokens.size()) tokens[k] = name();
            break;
        case 23:
            tokens[i] = random.of(kCalls) + ("(" + tokens[i] + (random.below(2) == 0 ? ")" : ", 1 s)"));
            break;
        default: {
            std::vector<std::string> lines = lines_of(text);
            lines.insert(lines.begin() + static_cast<long>(random.below(lines.size())), statement(name(), name(), random));
            return from_lines(lines);
        }
    }
    return joined(tokens);
}

}  // namespace

std::string mutant(const std::vector<std::string>& texts, Reach reach, Random& random)
{
    constexpr std::size_t kPlaces[] = {1, 1, 1, 1, 1, 2, 2, 3, 5, 10};
    constexpr std::size_t kLargest = 2000000;
    std::string text = random.of(texts);
    for (std::size_t n = random.of(kPlaces); n > 0 && text.size() < kLargest; --n) text = changed(texts, std::move(text), reach, random);
    return text;
}

std::string mutated_rows(const std::string& text, Random& random)
{
    constexpr const char* kFields[] = {"",     "nan", "inf", "-1e308", "1e400",  "0x10", " 1",       "1 ",    "\"1",
                                       "\"\"", "1,2", "abc", "-0",     "1e-320", "\xff", "time [s]", "x [bar"};
    std::string out = text;
    for (std::size_t n = 1 + random.below(4); n > 0 && !out.empty(); --n) {
        std::size_t at = random.below(out.size());
        switch (random.below(7)) {
            case 0:
                out[at] = static_cast<char>(random.below(256));
                break;
            case 1:
                out.erase(at, 1 + random.below(30));
                break;
            case 2:
                out.insert(at, random.of(kFields));
                break;
            case 3:
                out.resize(at);
                break;
            case 4:
                out.insert(at, out.substr(random.below(out.size()), 1 + random.below(200)));
                break;
            case 5: {
                std::size_t comma = out.find_first_of(",\n", at);
                if (comma != std::string::npos) out.replace(at, comma - at, random.of(kFields));
                break;
            }
            default:
                out.insert(at, times(random.below(2) == 0 ? "," : "\n", 1 + random.below(1000)));
        }
    }
    return out;
}

}  // namespace fuzz

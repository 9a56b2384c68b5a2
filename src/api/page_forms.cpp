// SPDX-License-Identifier: Apache-2.0
// Pages as text for a terminal, as Markdown and as JSON.
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <nlohmann/json.hpp>
#include <sstream>

#include "api/page.hpp"

namespace netloop {
namespace {

constexpr std::size_t kWidth = 118;

std::string indented(const std::string& text, const std::string& by)
{
    std::istringstream in(text);
    std::string line, out;
    while (std::getline(in, line)) out += by + line + "\n";
    return out;
}

// Running text in lines of at most kWidth, `first` before the first one and blanks of the same length before the others.
std::string wrapped(const std::string& text, const std::string& first)
{
    if (std::size_t gap = text.find("\n\n"); gap != std::string::npos)  // paragraphs
        return wrapped(text.substr(0, gap), first) + "\n" + wrapped(text.substr(gap + 2), std::string(first.size(), ' '));
    std::istringstream in(text);
    std::string word, line = first, out, blank(first.size(), ' ');
    bool empty = true;
    while (in >> word) {
        if (!empty && line.size() + 1 + word.size() > kWidth) out += line + "\n", line = blank, empty = true;
        line += (empty ? "" : " ") + word;
        empty = false;
    }
    return out + line + "\n";
}

std::string table(const std::vector<PageRow>& rows)
{
    std::array<std::size_t, 4> wide{};
    auto cells = [](const PageRow& r) { return std::array{r.name, r.unit.empty() ? "" : "[" + r.unit + "]", r.value, r.range}; };
    constexpr std::array<std::size_t, 4> kMost{40, 28, 34, 32};
    for (const PageRow& r : rows) {
        auto c = cells(r);
        for (std::size_t k = 0; k < 4; ++k)
            if (c[k].size() <= kMost[k]) wide[k] = std::max(wide[k], c[k].size());
    }
    std::string out;
    for (const PageRow& r : rows) {
        auto c = cells(r);
        std::string line = "  ";
        for (std::size_t k = 0; k < 4; ++k)
            if (wide[k] > 0 || !c[k].empty()) line += fmt::format("{:<{}}  ", c[k], wide[k]);
        while (r.text.empty() && !line.empty() && line.back() == ' ') line.pop_back();
        if (line.size() + r.text.size() <= kWidth + 20 || r.text.empty()) {
            out += line + r.text + "\n";
        } else {
            while (!line.empty() && line.back() == ' ') line.pop_back();
            out += line + "\n" + wrapped(r.text, "      ");
        }
    }
    return out;
}

std::string escaped(const std::string& text)
{
    std::string out;
    for (char c : text) out += c == '|' ? "\\|" : c == '\n' ? " " : c == '<' ? "&lt;" : std::string(1, c);
    return out;
}

}  // namespace

// As the usual renderers make them: lower case, dots dropped.
std::string page_anchor(const std::string& name)
{
    std::string out;
    for (char c : name)
        if (c != '.') out += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    return out;
}

std::string page_as_text(const Page& page)
{
    std::string out = fmt::format("{}   ({})\n", page.name, page.kind);
    if (!page.purpose.empty()) out += wrapped(page.purpose, "  ");
    if (!page.neglected.empty()) out += "\nneglected\n" + wrapped(page.neglected, "  ");
    if (!page.origin.empty()) out += "\nsource\n" + wrapped(page.origin, "  ");
    if (!page.takes_over.empty()) {
        std::string names;
        for (const std::string& n : page.takes_over) names += (names.empty() ? "" : ", ") + n;
        out += "\ntakes over\n" + wrapped(names, "  ");
    }
    for (const PageSection& s : page.sections) {
        out += "\n" + s.title + "\n" + table(s.rows);
        for (const PageEquation& e : s.equations) out += indented(e.source, "  ");
    }
    if (!page.instead.empty()) out += "\ninstead: " + page.instead + "\n";
    if (!page.example.empty()) out += "\nexample\n" + indented(page.example, "  ");
    return out;
}

std::string page_as_markdown(const Page& page, int level)
{
    std::string hashes(static_cast<std::size_t>(level), '#');
    std::string out = fmt::format("{} {}\n\n*{}*\n\n", hashes, page.name, page.kind);
    if (!page.purpose.empty()) out += escaped(page.purpose) + "\n\n";
    if (!page.neglected.empty()) out += "**Neglected:** " + escaped(page.neglected) + "\n\n";
    if (!page.origin.empty()) out += "**Source.** " + escaped(page.origin) + "\n\n";
    if (!page.takes_over.empty()) {
        out += "**Takes over**";
        for (const std::string& n : page.takes_over) out += fmt::format(" [{}]({}.md#{})", n, n.substr(0, n.find('.')), page_anchor(n));
        out += "\n\n";
    }
    for (const PageSection& s : page.sections) {
        std::string title = s.title;
        title[0] = static_cast<char>(std::toupper(static_cast<unsigned char>(title[0])));
        out += fmt::format("**{}**\n\n", title);
        if (!s.rows.empty()) {
            bool ports = s.title == "ports", functions = s.title == "functions", quantities = s.title == "quantities";
            out += ports        ? "| port | domain | | |\n| --- | --- | --- | --- |\n"
                   : functions  ? "| function | gives | |\n| --- | --- | --- |\n"
                   : quantities ? "| name | unit | kind | |\n| --- | --- | --- | --- |\n"
                                : "| symbol | unit | value | range | |\n| --- | --- | --- | --- | --- |\n";
            for (const PageRow& r : s.rows) {
                auto code = [](const std::string& text) { return text.empty() ? std::string() : "`" + text + "`"; };
                if (ports)
                    out += fmt::format("| {} | {} | {} | {} |\n", code(r.name), escaped(r.value), r.range, escaped(r.text));
                else if (functions)
                    out += fmt::format("| {} | {} | {} |\n", code(r.name), code(r.value), escaped(r.text));
                else if (quantities)
                    out += fmt::format("| {} | {} | {} | {} |\n", code(r.name), escaped(r.unit), r.value, escaped(r.text));
                else
                    out += fmt::format("| {} | {} | {} | {} | {} |\n", code(r.name), escaped(r.unit), code(r.value), escaped(r.range), escaped(r.text));
            }
            out += "\n";
        }
        std::string listing;
        auto list = [&] {
            if (!listing.empty()) out += "```\n" + listing + "```\n\n";
            listing.clear();
        };
        for (const PageEquation& e : s.equations) {
            if (e.formula.empty()) {
                listing += e.source + "\n";
            } else {
                list();
                out += "$$" + e.formula + "$$\n\n";
            }
        }
        list();
    }
    if (!page.instead.empty()) out += "**Instead:** " + escaped(page.instead) + "\n\n";
    if (!page.example.empty()) {
        out += "**Example**\n\n```\n" + page.example;
        out += (page.example.back() == '\n' ? "" : "\n") + std::string("```\n\n");
    }
    return out;
}

std::string page_as_json(const Page& page)
{
    nlohmann::json all{{"name", page.name},     {"kind", page.kind},       {"purpose", page.purpose}, {"neglected", page.neglected},
                       {"source", page.origin}, {"example", page.example}, {"instead", page.instead}, {"takes_over", page.takes_over}};
    nlohmann::json sections = nlohmann::json::object();
    for (const PageSection& s : page.sections) {
        nlohmann::json list = nlohmann::json::array();
        for (const PageRow& r : s.rows) list.push_back({{"name", r.name}, {"unit", r.unit}, {"value", r.value}, {"range", r.range}, {"text", r.text}});
        for (const PageEquation& e : s.equations) list.push_back({{"text", e.source}, {"latex", e.formula}});
        sections[s.title] = list;
    }
    all["sections"] = sections;
    return all.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

}  // namespace netloop

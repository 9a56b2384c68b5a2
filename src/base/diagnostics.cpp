// SPDX-License-Identifier: Apache-2.0
#include "base/diagnostics.hpp"

#include <algorithm>
#include <cctype>

namespace netloop {

namespace {
constexpr std::size_t kMostOfAKind = 100;
}

SourceDiagnostic& Diagnostics::add(const Message& message, Span span, std::string text)
{
    std::size_t& count = counts_[message.slug];
    if (message.severity == Severity::error && count >= kMostOfAKind) {
        ++n_errors_;
        ++count;
        repeated_ = {};
        return repeated_;
    }
    std::string key = fmt::format("{}:{}:{}:{}", span.file, span.begin, message.slug, text);
    if (!seen_.insert(std::move(key)).second) {
        repeated_ = {};
        return repeated_;
    }
    if (message.severity == Severity::error) ++n_errors_, ++count;
    items_.push_back({std::string(message.slug), message.severity, span, std::move(text), {}, {}});
    return items_.back();
}

std::string Diagnostics::left_out() const
{
    std::string out;
    for (const auto& [slug, count] : counts_)
        if (count > kMostOfAKind) out += fmt::format("and {} more errors of the kind [{}]\n", count - kMostOfAKind, slug);
    return out;
}

namespace {

const char* name_of(Severity severity)
{
    switch (severity) {
        case Severity::note:
            return "note";
        case Severity::warning:
            return "warning";
        case Severity::error:
            return "error";
    }
    return "error";
}

std::string place_of(Span span, const SourceSet& sources)
{
    if (!span.known()) return {};
    Position at = sources.position(span);
    return fmt::format("{}:{}:{}: ", sources.path(span.file), at.line, at.column);
}

// Long or binary lines are cut to a window round the marker, and what a terminal would act on is shown as '?'.
std::string excerpt(Span span, const SourceSet& sources)
{
    Position at = sources.position(span);
    std::string_view line = sources.line_at(span.file, span.begin);
    std::vector<std::string> glyphs;
    for (std::size_t i = 0; i < line.size();) {
        auto c = static_cast<unsigned char>(line[i]);
        std::size_t n = c >= 0xf0 ? 4 : c >= 0xe0 ? 3 : c >= 0xc0 ? 2 : 1;
        n = std::min(n, line.size() - i);
        if (c < 0x20 || c == 0x7f || (c >= 0x80 && n == 1))
            glyphs.emplace_back(c == '\t' ? " " : "?");
        else
            glyphs.emplace_back(line.substr(i, n));
        i += n;
    }
    std::size_t column = std::min<std::size_t>(at.column - 1, glyphs.size());
    std::size_t first = column > 90 ? column - 60 : 0;
    std::size_t last = std::min(glyphs.size(), first + 130);
    std::string shown;
    for (std::size_t i = first; i < last; ++i) shown += glyphs[i];
    std::size_t width = std::max<std::size_t>(1, std::min<std::size_t>(span.end - span.begin, last - std::min(last, column)));
    std::string number = std::to_string(at.line);
    return fmt::format("  {:>4} | {}\n       | {}{}\n", number, shown, std::string(column - first, ' '), std::string(width, '^'));
}

}  // namespace

std::string render(const SourceDiagnostic& d, const SourceSet& sources)
{
    std::string out = fmt::format("{}{}: {}", place_of(d.span, sources), name_of(d.severity), d.text);
    bool has_line = d.span.known();
    if (!has_line) out += fmt::format("   [{}]", d.id);
    out += '\n';
    if (has_line) out += excerpt(d.span, sources);
    for (const DiagnosticNote& note : d.notes) out += fmt::format("      {}{}\n", place_of(note.span, sources), note.text);
    if (!d.hint.empty()) out += fmt::format("      to mend: {}", d.hint);
    if (has_line)
        out += fmt::format("{}[{}]\n", d.hint.empty() ? "      " : "   ", d.id);
    else if (!d.hint.empty())
        out += '\n';
    return out;
}

namespace {

std::size_t edit_distance(std::string_view a, std::string_view b)
{
    std::vector<std::size_t> row(b.size() + 1);
    for (std::size_t j = 0; j <= b.size(); ++j) row[j] = j;
    for (std::size_t i = 1; i <= a.size(); ++i) {
        std::size_t diagonal = row[0];
        row[0] = i;
        for (std::size_t j = 1; j <= b.size(); ++j) {
            std::size_t above = row[j];
            bool same = std::tolower(static_cast<unsigned char>(a[i - 1])) == std::tolower(static_cast<unsigned char>(b[j - 1]));
            row[j] = std::min({above + 1, row[j - 1] + 1, diagonal + (same ? 0 : 1)});
            diagonal = above;
        }
    }
    return row[b.size()];
}

}  // namespace

std::string nearest_name(std::string_view wanted, const std::vector<std::string>& candidates)
{
    if (wanted.size() < 2 || wanted.size() > 64) return {};  // of one letter everything is near
    std::size_t best = (wanted.size() <= 3 ? 1 : std::max<std::size_t>(2, wanted.size() / 3)) + 1;
    std::string found;
    for (const std::string& name : candidates) {
        if (name.size() > 64) continue;
        std::size_t distance = edit_distance(wanted, name);
        // "Foo" for "Foot", but also "angle" for "leaf.angle": a shared ending counts as near
        if (distance < best) {
            best = distance;
            found = name;
        }
    }
    return found;
}

}  // namespace netloop

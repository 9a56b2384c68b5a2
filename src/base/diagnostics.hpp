// SPDX-License-Identifier: Apache-2.0
// What the user's model did wrong, as data: a sink that collects, and a renderer that shows file, line and mend.
#pragma once

#include <fmt/format.h>

#include <map>
#include <set>
#include <string>
#include <vector>

#include "base/catalogue.hpp"
#include "base/source.hpp"

namespace netloop {

struct DiagnosticNote {
    Span span;
    std::string text;
};

struct SourceDiagnostic {
    std::string id;  ///< the stable slug of the catalogue
    Severity severity = Severity::error;
    Span span;
    std::string text;
    std::vector<DiagnosticNote> notes;
    std::string hint;  ///< what would mend it; empty if nothing useful can be said

    SourceDiagnostic& mend(std::string text_of_hint)
    {
        hint = std::move(text_of_hint);
        return *this;
    }
    SourceDiagnostic& note(Span where, std::string what)
    {
        notes.push_back({where, std::move(what)});
        return *this;
    }
};

/// Collects diagnostics. The same message at the same place is kept once, so that work may go on after an error; of one kind so many errors are kept as anybody
/// would read, the others are counted.
class Diagnostics {
public:
    template <typename... Args>
    SourceDiagnostic& report(const Message& message, Span span, Args&&... args)
    {
        return add(message, span, fmt::format(fmt::runtime(message.text), std::forward<Args>(args)...));
    }

    /// Messages of one kind that were not kept, since so many were: "4,950 more of this kind". Empty, or a line for each kind.
    std::string left_out() const;

    bool has_errors() const { return n_errors_ > 0; }
    std::size_t n_errors() const { return n_errors_; }
    const std::vector<SourceDiagnostic>& items() const { return items_; }

private:
    SourceDiagnostic& add(const Message& message, Span span, std::string text);

    std::vector<SourceDiagnostic> items_;
    std::set<std::string> seen_;
    std::map<std::string_view, std::size_t> counts_;  ///< by slug
    SourceDiagnostic repeated_;
    std::size_t n_errors_ = 0;
};

/// The message as shown to a person: place, text, the line with a marker under it, the mend, the notes.
std::string render(const SourceDiagnostic& diagnostic, const SourceSet& sources);

/// The candidate nearest to `wanted` by edit distance, or empty if none is near.
std::string nearest_name(std::string_view wanted, const std::vector<std::string>& candidates);

}  // namespace netloop

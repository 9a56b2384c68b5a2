// SPDX-License-Identifier: Apache-2.0
// Source texts and places in them. Every definition, equation and message points back here by a Span.
#pragma once

#include <cstdint>
#include <deque>
#include <string>
#include <string_view>
#include <vector>

namespace netloop {

inline constexpr std::uint32_t kNoFile = 0xffffffffu;

/// Half-open byte range [begin, end) in one source file; `file == kNoFile` means "from the program, not from a file".
struct Span {
    std::uint32_t file = kNoFile;
    std::uint32_t begin = 0;
    std::uint32_t end = 0;

    bool known() const { return file != kNoFile; }
};

/// The smallest span that covers both; either may be unknown.
Span cover(Span first, Span last);

/// Line and column, both counted from 1; the column counts UTF-8 code points.
struct Position {
    std::uint32_t line = 0;
    std::uint32_t column = 0;
};

/// All source texts of a library set. Texts never move once added, so views into them stay valid.
class SourceSet {
public:
    std::uint32_t add(std::string path, std::string text);

    std::size_t size() const { return files_.size(); }
    const std::string& path(std::uint32_t file) const { return files_[file].path; }
    std::string_view text(std::uint32_t file) const { return files_[file].text; }
    std::string_view text(Span span) const;
    Position position(std::uint32_t file, std::uint32_t offset) const;
    Position position(Span span) const { return position(span.file, span.begin); }
    /// The whole line that holds `offset`, without its end of line.
    std::string_view line_at(std::uint32_t file, std::uint32_t offset) const;

private:
    struct File {
        std::string path;
        std::string text;
        std::vector<std::uint32_t> line_starts;
    };
    std::deque<File> files_;
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Source texts and places in them. Every definition, equation and message points back here by a Span.
#pragma once

#include <cstdint>
#include <memory>
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

/// All source texts of a library set. A text never changes once added. Copies share the texts: a copy is what was there when it was made, and may be read while
/// others add to the original.
class SourceSet {
public:
    /// A text that stays. `shipped`: part of a shipped library, not the user's.
    std::uint32_t add(std::string path, std::string text, bool shipped = false);
    /// A text of one piece of work alone (`--set`): numbered apart, so that the others keep their numbers, and dropped when the work is over.
    std::uint32_t add_passing(std::string path, std::string text);
    void drop_passing() { passing_.clear(); }

    /// Of those that stay.
    std::size_t size() const { return files_.size(); }
    bool is_shipped(std::uint32_t file) const { return file < files_.size() && files_[file]->shipped; }
    const std::string& path(std::uint32_t file) const { return of(file).path; }
    std::string_view text(std::uint32_t file) const { return of(file).text; }
    std::string_view text(Span span) const;
    Position position(std::uint32_t file, std::uint32_t offset) const;
    Position position(Span span) const { return position(span.file, span.begin); }
    /// The whole line that holds `offset`, without its end of line.
    std::string_view line_at(std::uint32_t file, std::uint32_t offset) const;

private:
    static constexpr std::uint32_t kFirstPassing = 0x80000000u;
    struct File {
        std::string path;
        std::string text;
        std::vector<std::uint32_t> line_starts;
        bool shipped = false;
    };
    static std::shared_ptr<const File> made(std::string path, std::string text, bool shipped);
    const File& of(std::uint32_t file) const { return file < kFirstPassing ? *files_[file] : *passing_[file - kFirstPassing]; }

    std::vector<std::shared_ptr<const File>> files_, passing_;
};

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include "base/source.hpp"

#include <algorithm>

namespace netloop {

Span cover(Span first, Span last)
{
    if (!first.known()) return last;
    if (!last.known() || last.file != first.file) return first;
    return {first.file, std::min(first.begin, last.begin), std::max(first.end, last.end)};
}

std::shared_ptr<const SourceSet::File> SourceSet::made(std::string path, std::string text, bool shipped)
{
    auto file = std::make_shared<File>(File{std::move(path), std::move(text), {0}, shipped});
    for (std::uint32_t i = 0; i < file->text.size(); ++i)
        if (file->text[i] == '\n') file->line_starts.push_back(i + 1);
    return file;
}

std::uint32_t SourceSet::add(std::string path, std::string text, bool shipped)
{
    files_.push_back(made(std::move(path), std::move(text), shipped));
    return static_cast<std::uint32_t>(files_.size() - 1);
}

std::uint32_t SourceSet::add_passing(std::string path, std::string text)
{
    passing_.push_back(made(std::move(path), std::move(text), false));
    return kFirstPassing + static_cast<std::uint32_t>(passing_.size() - 1);
}

std::string_view SourceSet::text(Span span) const
{
    if (!span.known()) return {};
    return text(span.file).substr(span.begin, span.end - span.begin);
}

Position SourceSet::position(std::uint32_t file, std::uint32_t offset) const
{
    const File& f = of(file);
    auto next = std::upper_bound(f.line_starts.begin(), f.line_starts.end(), offset);
    auto line = static_cast<std::uint32_t>(next - f.line_starts.begin());
    std::uint32_t column = 1;
    for (std::uint32_t i = f.line_starts[line - 1]; i < offset && i < f.text.size(); ++i)
        if ((static_cast<unsigned char>(f.text[i]) & 0xc0u) != 0x80u) ++column;  // count code points, not bytes
    return {line, column};
}

std::string_view SourceSet::line_at(std::uint32_t file, std::uint32_t offset) const
{
    const File& f = of(file);
    Position at = position(file, offset);
    std::uint32_t begin = f.line_starts[at.line - 1];
    std::size_t end = f.text.find('\n', begin);
    if (end == std::string::npos) end = f.text.size();
    if (end > begin && f.text[end - 1] == '\r') --end;
    return std::string_view(f.text).substr(begin, end - begin);
}

}  // namespace netloop

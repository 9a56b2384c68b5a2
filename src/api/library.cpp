// SPDX-License-Identifier: Apache-2.0
#include "netloop/library.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <map>

#include "api/internal.hpp"
#include "base/deep_stack.hpp"
#include "language/format.hpp"
#include "language/parser.hpp"
#include "model/check_units.hpp"

namespace netloop {

Diagnostic export_diagnostic(const SourceDiagnostic& d, const SourceSet& sources)
{
    Diagnostic out;
    out.severity = d.severity == Severity::error     ? Diagnostic::Severity::error
                   : d.severity == Severity::warning ? Diagnostic::Severity::warning
                                                     : Diagnostic::Severity::note;
    out.id = d.id;
    if (d.span.known()) {
        Position at = sources.position(d.span);
        out.file = sources.path(d.span.file);
        out.line = at.line;
        out.column = at.column;
    }
    out.text = d.text;
    out.hint = d.hint;
    out.rendered = render(d, sources);
    return out;
}

std::vector<Diagnostic> export_diagnostics(const Diagnostics& diagnostics, const SourceSet& sources)
{
    std::vector<Diagnostic> list;
    for (const SourceDiagnostic& d : diagnostics.items()) list.push_back(export_diagnostic(d, sources));
    std::string left_out = diagnostics.left_out();
    for (std::size_t at = 0, end = 0; (end = left_out.find('\n', at)) != std::string::npos; at = end + 1) {
        Diagnostic more;
        more.id = "more-errors";
        more.text = left_out.substr(at, end - at);
        more.rendered = more.text + "\n";
        list.push_back(std::move(more));
    }
    return list;
}

void throw_errors(const Diagnostics& diagnostics, const SourceSet& sources)
{
    if (!diagnostics.has_errors()) return;
    std::string text;
    std::vector<Diagnostic> list = export_diagnostics(diagnostics, sources);
    for (const Diagnostic& d : list)
        if (d.severity == Diagnostic::Severity::error) text += d.rendered;
    throw ModelError(text, std::move(list));
}

void throw_errors(const LibrarySet& set)
{
    throw_errors(set.diagnostics, set.sources);
}

Library Library::standard()
{
    Library library;
    library.set_ = std::make_shared<LibrarySet>();
    return library;
}

namespace {
template <typename Load>
void load_guarded(LibrarySet& set, std::size_t size, Load load)
{
    LibraryWork work(set);
    std::size_t first = set.n_files();
    with_deep_stack(load, size);
    if (set.diagnostics.has_errors()) set.discard_files(first);
    throw_errors(set);
}
}  // namespace

void Library::load_file(const std::string& path)
{
    std::error_code unknown;  // with what it uses: then the size of all is not known
    std::uintmax_t size = std::filesystem::file_size(path, unknown);
    load_guarded(*set_, unknown ? static_cast<std::size_t>(-1) : static_cast<std::size_t>(size), [&] { set_->load_file(path); });
}

void Library::load_text(const std::string& name, const std::string& text)
{
    load_guarded(*set_, text.size(), [&] { set_->load_text(name, text); });
}

void Library::load_fmu(const std::string& path, const std::string& name)
{
    load_guarded(*set_, 0, [&] { set_->use_unit(*set_->program_scope(), path, name, {}); });
}

void Library::isolate_units(bool yes)
{
    LibraryWork work(*set_);
    set_->isolate_units(yes);
}

void Library::load_recorded(const std::vector<ModelText>& texts)
{
    namespace fs = std::filesystem;
    // names lie beside the first one, above it too: a folder that is nowhere, so deep that all lie in it
    std::map<std::string, std::string> named;
    long deep = 0;
    for (const ModelText& t : texts) {
        fs::path path = fs::path(t.file).lexically_normal();
        deep = std::max(deep, static_cast<long>(std::count(path.begin(), path.end(), "..")));
    }
    fs::path base = "recorded";
    for (long k = 0; k < deep; ++k) base /= "in";
    for (const ModelText& t : texts) named[(base / fs::path(t.file).relative_path()).lexically_normal().string()] = t.text;
    {
        LibraryWork work(*set_);
        set_->enclose(std::move(named));
    }
    if (texts.empty()) return;
    std::string first = (base / fs::path(texts[0].file).relative_path()).lexically_normal().string();
    load_guarded(*set_, static_cast<std::size_t>(-1), [&] { set_->load_file(first); });
}

std::vector<std::string> Library::files_read() const
{
    LibraryWork work(*set_);
    return set_->files_read();
}

std::string format_text(const std::string& name, const std::string& text)
{
    return on_deep_stack([&] {
        SourceSet sources;
        Diagnostics diagnostics;
        std::uint32_t file = sources.add(name, text);
        parse_file(sources, file, diagnostics);
        throw_errors(diagnostics, sources);
        return formatted(sources, file, diagnostics);
    });
}

std::vector<std::string> Library::packages() const
{
    return set_->package_names();
}

std::vector<Diagnostic> Library::check(bool strict) const
{
    LibraryWork work(*set_);
    with_deep_stack([&] {
        UnitChecker checker(*set_, strict);
        for (const FileScope* f : set_->files_of(nullptr)) checker.check(*f);
    });
    return export_diagnostics(set_->diagnostics, set_->sources);
}

}  // namespace netloop

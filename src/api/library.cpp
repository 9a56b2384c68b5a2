#include "netloop/library.hpp"

#include <fmt/format.h>

#include "api/internal.hpp"
#include "language/format.hpp"
#include "language/parser.hpp"
#include "model/check_units.hpp"
#include "netloop/quantity.hpp"

namespace netloop {

double Quantity::si() const
{
    if (unit.empty()) return value;
    Unit parsed;
    UnitProblem problem;
    if (!parse_unit(unit, parsed, problem)) throw UsageError(fmt::format("{}{}", problem.text, problem.hint.empty() ? "" : "; " + problem.hint));
    return parsed.to_si(value);
}

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

std::vector<Diagnostic> export_diagnostics(const LibrarySet& set, std::size_t from)
{
    std::vector<Diagnostic> list;
    for (std::size_t i = from; i < set.diagnostics.items().size(); ++i) list.push_back(export_diagnostic(set.diagnostics.items()[i], set.sources));
    return list;
}

void throw_errors(const LibrarySet& set, std::size_t from)
{
    std::string text;
    bool any = false;
    std::vector<Diagnostic> list = export_diagnostics(set, from);
    for (const Diagnostic& d : list) {
        if (d.severity != Diagnostic::Severity::error) continue;
        any = true;
        text += d.rendered;
    }
    if (any) throw ModelError(text, std::move(list));
}

Library Library::standard()
{
    Library library;
    library.set_ = std::make_shared<LibrarySet>();
    return library;
}

namespace {
template <typename Load>
void load_guarded(LibrarySet& set, Load load)
{
    std::size_t from = set.diagnostics.begin_work(), first = set.n_files();
    load();
    if (set.diagnostics.has_errors()) set.discard_files(first);
    throw_errors(set, from);
}
}  // namespace

void Library::load_file(const std::string& path)
{
    load_guarded(*set_, [&] { set_->load_file(path); });
}

void Library::load_text(const std::string& name, const std::string& text)
{
    load_guarded(*set_, [&] { set_->load_text(name, text); });
}

std::string format_text(const std::string& name, const std::string& text)
{
    LibrarySet set;
    std::size_t from = set.diagnostics.begin_work();
    std::uint32_t file = set.sources.add(name, text);
    parse_file(set.sources, file, set.diagnostics);
    throw_errors(set, from);
    return formatted(set.sources, file, set.diagnostics);
}

std::vector<std::string> Library::packages() const
{
    return set_->package_names();
}

std::vector<Diagnostic> Library::check(bool strict) const
{
    std::size_t from = set_->diagnostics.begin_work();
    UnitChecker checker(*set_, strict);
    for (const FileScope* f : set_->files_of(nullptr)) checker.check(*f);
    return export_diagnostics(*set_, from);
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Entries of catalogues as lines of text that a store keeps, and back.
#include <fmt/format.h>

#include "api/internal.hpp"
#include "netloop/study.hpp"

namespace netloop {
namespace {

// Names that mean the same wherever the text stands.
std::string full_name(LibrarySet& set, const FileScope& scope, const Path& path)
{
    const Definition* d = set.find(scope, path, true);
    return d != nullptr ? d->full_name : text_of(path);
}

// As it is written, in its own file or in the cell of a CSV file, whose heading has the unit.
std::string value_text(const LibrarySet& set, const NamedValue& v)
{
    std::string text(set.sources.text(v.span));
    bool in_cell = v.value != nullptr && v.value->span.file == v.span.file && v.value->span.begin == v.span.begin;
    if (!in_cell) return text;  // "displacement = 60 cm^3/rev"
    return fmt::format("{} = {}{}", text_of(v.path), text, v.value->unit != nullptr ? " " + v.value->unit->text : "");
}

}  // namespace

std::vector<StoredEntry> catalogue_entries(const Library& library)
{
    auto set = LibraryAccess::set(library);
    LibraryWork work(*set);
    std::vector<StoredEntry> list;
    for (const FileScope* f : set->files_of(nullptr))
        for (const Definition* c : f->definitions)
            for (const Definition* d : c->entries) {
                const auto& entry = *d->as<ComponentDecl>();
                if (!entry.tables.empty())
                    throw UsageError(fmt::format("entry '{}' reads table '{}' from '{}': tables in files of their own are not published", d->full_name,
                                                 entry.tables[0].name, entry.tables[0].file));
                StoredEntry e;
                e.catalogue = c->name;
                e.name = d->name;
                e.title = d->statement->doc.substr(0, d->statement->doc.find('\n'));
                e.kind = full_name(*set, *d->scope, entry.takes[0].kind);
                e.base = full_name(*set, *d->scope, c->as<CatalogueDecl>()->base);
                for (const NamedValue& v : entry.takes[0].values) e.text += (e.text.empty() ? "" : ", ") + value_text(*set, v);
                e.text = fmt::format("{}({})", e.kind, e.text);
                list.push_back(std::move(e));
            }
    return list;
}

std::string catalogue_text(const std::vector<StoredEntry>& entries)
{
    std::string out = "# fetched from a store by netloop; kinds of your own must be in sight: use \"parts.loop\"\n", open;
    for (const StoredEntry& e : entries) {
        if (e.catalogue != open) out += fmt::format("{}\ncatalogue {} : {} {{\n", open.empty() ? "" : "}\n", e.catalogue, e.base);
        open = e.catalogue;
        std::string title = e.title;
        for (char& c : title)
            if (c == '"') c = '\'';
        out += fmt::format("    {}{} = {}  # version {}, {}, {}\n", e.name, title.empty() ? "" : " \"" + title + "\"", e.text, e.version, e.author,
                           e.created.substr(0, 10));
    }
    return out + (open.empty() ? "" : "}\n");
}

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
// Entries of catalogues, from the text and from CSV files: each becomes a component that takes over one kind with its values.
#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <filesystem>

#include "files/csv_cells.hpp"
#include "model/library_set.hpp"

namespace netloop {
namespace fs = std::filesystem;
namespace {

bool is_name(const std::string& text)
{
    auto letter = [](char c) { return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c == '_'; };
    auto digit = [](char c) { return c >= '0' && c <= '9'; };
    return !text.empty() && letter(text[0]) && std::all_of(text.begin(), text.end(), [&](char c) { return letter(c) || digit(c); });
}

// A file of entries as it is turned into syntax.
struct EntryFile {
    SourceSet& sources;
    Diagnostics& diagnostics;
    SyntaxArena& arena;
    std::uint32_t file;
    const CatalogueFile& from;

    Span span(const CsvCell& cell) const { return {file, static_cast<std::uint32_t>(cell.begin), static_cast<std::uint32_t>(cell.end)}; }
    SourceDiagnostic& refuse(const CsvCell& cell, const std::string& what) { return diagnostics.report(messages::bad_value, span(cell), what); }

    Path path_of(const std::string& text, Span at) const
    {
        Path path;
        for (std::size_t begin = 0; begin <= text.size();) {
            std::size_t dot = std::min(text.find('.', begin), text.size());
            path.push_back({text.substr(begin, dot - begin), at, {}});
            begin = dot + 1;
        }
        return path;
    }

    // A number in the column's unit, true or false, a word of a choice, or the file of a table; null: none of these.
    const Expr* value_of(const CsvCell& cell, const std::shared_ptr<const Unit>& unit)
    {
        double number = 0;
        const std::string& text = cell.text;
        const char* begin = text.data() + (text.starts_with('+') ? 1 : 0);
        auto [end, error] = std::from_chars(begin, text.data() + text.size(), number);
        if (error == std::errc{} && end == text.data() + text.size()) {
            Expr* e = arena.expr(ExprKind::number, span(cell));
            e->number = unit != nullptr ? unit->to_si(number) : number;
            e->unit = unit;
            return e;
        }
        if (text == "true" || text == "false") {
            Expr* e = arena.expr(ExprKind::truth, span(cell));
            e->number = text == "true" ? 1 : 0;
            return e;
        }
        if (is_name(text)) {
            Expr* e = arena.expr(ExprKind::path, span(cell));
            e->path = {{text, span(cell), {}}};
            return e;
        }
        if (text.ends_with(".csv")) {
            Expr* e = arena.expr(ExprKind::text, span(cell));
            e->text = (fs::path(from.file).parent_path() / text).lexically_normal().string();
            return e;
        }
        refuse(cell, fmt::format("'{}' is no number, no word of a choice and no .csv file of a table", text))
            .mend("the unit of a column stands in its heading: displacement [cm^3/rev]");
        return nullptr;
    }
};

}  // namespace

const Definition* Definition::entry(const std::string& of_name) const
{
    auto it = std::find_if(entries.begin(), entries.end(), [&](const Definition* e) { return e->name == of_name; });
    return it == entries.end() ? nullptr : *it;
}

void LibrarySet::make_entries(FileScope& scope, Definition& catalogue)
{
    const auto& text = *catalogue.as<CatalogueDecl>();
    for (const Statement* s : text.entries) add_entry(scope, catalogue, s);
    for (const CatalogueFile& file : text.files) read_entries(scope, catalogue, file);
}

void LibrarySet::add_entry(FileScope& scope, Definition& catalogue, const Statement* entry)
{
    const auto& component = *entry->as<ComponentDecl>();
    if (const Definition* before = catalogue.entry(component.name)) {
        diagnostics.report(messages::name_taken, component.name_span, component.name, fmt::format("catalogue '{}'", catalogue.name))
            .note(before->as<ComponentDecl>()->name_span, "first declared here");
        return;
    }
    Definition& d = definitions_.emplace_back();
    d.name = component.name;
    d.full_name = catalogue.full_name + "." + component.name;
    d.statement = entry;
    d.scope = &scope;
    catalogue.entries.push_back(&d);
}

void LibrarySet::read_entries(FileScope& scope, Definition& catalogue, const CatalogueFile& file)
{
    std::string path = (fs::path(scope.path).parent_path() / file.file).lexically_normal().string(), text;
    if (!read(path, file.span, text)) return;
    std::uint32_t id = sources.add(path, std::move(text));
    scope.data_files.push_back(id);
    auto arena = arenas_.emplace_back(std::make_shared<SyntaxArena>());
    EntryFile made{sources, diagnostics, *arena, id, file};
    auto rows = csv_rows(sources.text(id));
    if (rows.empty()) {
        diagnostics.report(messages::bad_value, file.span, fmt::format("file '{}' has no heading", file.file))
            .mend("its first line names the columns: name, displacement [cm^3/rev]");
        return;
    }
    std::vector<CsvHeading> headings;
    std::vector<std::shared_ptr<const Unit>> units;
    std::size_t names = rows[0].size();
    for (std::size_t c = 0; c < rows[0].size(); ++c) {
        headings.push_back(csv_heading(rows[0][c].text));
        units.emplace_back();
        if (headings[c].name == "name") names = c;
        if (headings[c].unit.empty() || headings[c].unit == "1") continue;
        Unit unit;
        UnitProblem problem;
        if (parse_unit(headings[c].unit, unit, problem))
            units[c] = std::make_shared<const Unit>(unit);
        else
            made.refuse(rows[0][c], fmt::format("column '{}': {}", rows[0][c].text, problem.text));
    }
    if (names == rows[0].size()) {
        made.refuse(rows[0][0], fmt::format("file '{}' has no column 'name'", file.file))
            .mend("the entries are named by a column of that heading: name, displacement [cm^3/rev]");
        return;
    }
    for (std::size_t r = 1; r < rows.size(); ++r) {
        const std::vector<CsvCell>& row = rows[r];
        if (row.size() != headings.size()) {
            made.refuse(row[0], fmt::format("the row has {} cells, the heading {}", row.size(), headings.size()));
            continue;
        }
        if (!is_name(row[names].text) || is_reserved(row[names].text)) {
            made.refuse(row[names], fmt::format("'{}' cannot be the name of an entry", row[names].text)).mend("letters, digits and '_', a letter first");
            continue;
        }
        ComponentDecl entry;
        entry.entry = true;
        entry.name = row[names].text;
        entry.name_span = made.span(row[names]);
        KindUse use = file.kind;
        std::string title;
        for (std::size_t c = 0; c < row.size(); ++c) {
            if (c == names || row[c].text.empty()) continue;  // an empty cell: as the kind has it
            if (headings[c].name == "title") {
                title = row[c].text;
                continue;
            }
            const Expr* value = made.value_of(row[c], units[c]);
            if (value == nullptr) continue;
            if (value->kind == ExprKind::text)
                entry.tables.push_back({headings[c].name, value->text, value->span});
            else
                use.values.push_back({made.path_of(headings[c].name, made.span(row[c])), value, nullptr, made.span(row[c])});
        }
        use.span = made.span(row[names]);
        entry.takes.push_back(std::move(use));
        Statement* s = arena->statement(made.span(row[names]));
        s->doc = title;
        s->node = std::move(entry);
        add_entry(scope, catalogue, s);
    }
}

const std::string* LibrarySet::data_text(const std::string& path, Span from)
{
    std::string text, key = fs::path(path).lexically_normal().string();
    if (!read(key, from, text)) return nullptr;
    tables_read_.insert(key);
    return &(table_texts_[key] = std::move(text));
}

const Definition* LibrarySet::find_catalogue(const FileScope& scope, const std::string& name) const
{
    auto in = [&](const std::map<std::string, const Definition*>& names) -> const Definition* {
        auto it = names.find(name);
        return it != names.end() && it->second->as<CatalogueDecl>() != nullptr ? it->second : nullptr;
    };
    if (const Definition* d = in(scope.names)) return d;
    if (scope.package != nullptr)
        if (const Definition* d = in(scope.package->names)) return d;
    for (const FileScope* used : scope.used_files)
        if (const Definition* d = in(used->names)) return d;
    return nullptr;
}

}  // namespace netloop

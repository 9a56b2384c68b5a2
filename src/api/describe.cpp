// SPDX-License-Identifier: Apache-2.0
// `list` and `describe`: what a definition is, as a person reads it.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <filesystem>
#include <sstream>

#include "api/internal.hpp"
#include "api/page.hpp"

namespace netloop {
namespace {

std::string first_sentence(const std::string& doc)
{
    std::string line;
    for (char c : doc) line += c == '\n' ? ' ' : c;
    std::size_t end = line.find(". ");
    while (end != std::string::npos && end > 0 && line[end - 1] == '.') end = line.find(". ", end + 1);  // a range: 0 .. 1
    if (end != std::string::npos) return line.substr(0, end + 1);
    return line;
}

}  // namespace

std::vector<Library::Entry> Library::list(const std::string& package) const
{
    LibraryWork work(*set_);
    std::vector<Entry> entries;
    auto add = [&](const FileScope& f) {
        for (const Definition* d : f.definitions) entries.push_back({d->full_name, kind_of(*d), first_sentence(d->statement->doc), f.path});
    };
    const Package* p = nullptr;
    if (!package.empty()) {
        if (const Definition* c = set_->find_by_text(package); c != nullptr && c->as<CatalogueDecl>() != nullptr) {
            for (const Definition* e : c->entries)
                entries.push_back({e->full_name, fmt::format("entry: {}", text_of(e->as<ComponentDecl>()->takes[0].kind)), first_sentence(e->statement->doc),
                                   c->scope->path});
            return entries;
        }
        p = set_->package(package);
        if (p == nullptr) {
            std::string near = nearest_name(package, packages());
            std::string all;
            for (const std::string& name : packages()) all += (all.empty() ? "" : ", ") + name;
            throw UsageError(fmt::format("no library and no catalogue in sight is called '{}'; {}there are: {}", package,
                                         near.empty() ? "" : fmt::format("did you mean '{}'? ", near), all));
        }
    }
    for (const FileScope* f : set_->files_of(p)) add(*f);
    return entries;
}

std::vector<Library::Entry> Library::find(const std::string& words) const
{
    LibraryWork work(*set_);
    auto lower = [](std::string text) {
        std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
        return text;
    };
    std::vector<std::string> wanted;
    std::istringstream in(lower(words));
    for (std::string word; in >> word;) wanted.push_back(word);
    std::vector<std::pair<std::size_t, Entry>> found;
    auto look = [&](const FileScope& f) {
        for (const Definition* d : f.definitions) {
            std::string name = lower(d->full_name), text = name + " " + lower(d->statement->doc);
            std::size_t in_name = 0;
            bool all = !wanted.empty();
            for (const std::string& w : wanted) {
                bool begins = false;
                for (std::size_t at = text.find(w); at != std::string::npos && !begins; at = text.find(w, at + 1))
                    begins = at == 0 || std::isalnum(static_cast<unsigned char>(text[at - 1])) == 0 || at < name.size();
                all &= begins;
                in_name += name.find(w) != std::string::npos ? 1 : 0;
            }
            if (all) found.emplace_back(in_name, Entry{d->full_name, kind_of(*d), first_sentence(d->statement->doc), f.path});
        }
    };
    for (const std::string& p : packages())
        for (const FileScope* f : set_->files_of(set_->package(p))) look(*f);
    for (const FileScope* f : set_->files_of(nullptr)) look(*f);
    std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    std::vector<Entry> entries;
    for (auto& [n, e] : found) entries.push_back(std::move(e));
    return entries;
}

std::string Library::describe(const std::string& name, Form form) const
{
    LibraryWork work(*set_);
    const Definition* d = set_->find_by_text(name);
    if (d == nullptr) {
        std::vector<std::string> names;
        for (const std::string& p : packages())
            for (const auto& [n, def] : set_->package(p)->names) names.push_back(p + "." + n);
        for (const FileScope* f : set_->files_of(nullptr))
            for (const auto& [n, def] : f->names) {
                names.push_back(n);
                for (const Definition* e : def->entries) names.push_back(e->full_name);
            }
        std::string near = nearest_name(name, names);
        for (const std::string& full : names)
            if (near.empty() && full.ends_with("." + name)) near = full;
        throw UsageError(fmt::format("nothing is called '{}'{}", name, near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
    }
    Page page = make_page(*set_, *d);
    return form == Form::text ? page_as_text(page) : form == Form::markdown ? page_as_markdown(page, 2) : page_as_json(page);
}

std::string Library::handbook(const std::string& package) const
{
    LibraryWork work(*set_);
    const Package* p = set_->package(package);
    if (p == nullptr) throw UsageError(fmt::format("no library is called '{}'", package));
    std::string contents, pages;
    for (const FileScope* f : set_->files_of(p)) {
        std::string family = std::filesystem::path(f->path).stem().string();
        contents += fmt::format("\n**{}**\n\n", family);
        for (const Definition* d : f->definitions) {
            Page page = make_page(*set_, *d);
            contents += fmt::format("- [{}](#{}): {}\n", page.name, page_anchor(page.name), first_sentence(d->statement->doc));
            pages += page_as_markdown(page, 2);
        }
    }
    return fmt::format(
        "# Library {}\n\nMade from the texts of the library itself by `netloop describe --handbook docs/libraries`. All libraries: [index](README.md).\n{}\n{}",
        package, contents, pages);
}

}  // namespace netloop

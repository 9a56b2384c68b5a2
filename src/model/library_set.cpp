// SPDX-License-Identifier: Apache-2.0
#include "model/library_set.hpp"
#include "foreign/unit_component.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <sstream>
#include <stdexcept>
#include <system_error>

#include "files/input_file.hpp"
#include "language/parser.hpp"
#include "model/table_file.hpp"

namespace netloop {
namespace fs = std::filesystem;
namespace {

constexpr std::uintmax_t kMaxFileMiB = 64;

// The lines of a text that begin with `Formerly:` hold former names: `OldKind` of the definition itself, `old -> new` of a member. Present names of `former`.
std::string present_name(const Definition& d, const std::string& former, bool member)
{
    constexpr std::string_view kMark = "Formerly:", kArrow = "->";
    auto trimmed = [](std::string_view s) {
        while (!s.empty() && s.front() == ' ') s.remove_prefix(1);
        while (!s.empty() && s.back() == ' ') s.remove_suffix(1);
        return s;
    };
    std::istringstream doc(d.statement->doc);
    for (std::string line; std::getline(doc, line);) {
        if (!line.starts_with(kMark)) continue;
        std::istringstream items(line.substr(kMark.size()));
        for (std::string item; std::getline(items, item, ',');) {
            std::size_t arrow = item.find(kArrow);
            std::string_view old = trimmed(std::string_view(item).substr(0, arrow));
            if (old != former || member != (arrow != std::string::npos)) continue;
            return member ? std::string(trimmed(std::string_view(item).substr(arrow + kArrow.size()))) : d.full_name;
        }
    }
    return {};
}

}  // namespace

std::string present_name(const ComponentInfo& info, const std::string& name)
{
    for (const Definition* d : info.ancestry)
        if (std::string now = present_name(*d, name, true); !now.empty()) return now;
    return {};
}

std::string mend_of_name(const ComponentInfo& info, const std::string& name)
{
    if (std::string now = present_name(info, name); !now.empty()) return fmt::format("it is called '{}' now", now);
    std::string near = nearest_name(name, info.member_names);
    return near.empty() ? "" : fmt::format("did you mean '{}'?", near);
}

std::string definition_name(const Statement& s, Span& span)
{
    return std::visit(
        [&](const auto& node) -> std::string {
            if constexpr (requires {
                              node.name;
                              node.name_span;
                          }) {
                span = node.name_span;
                return node.name;
            } else {
                return {};
            }
        },
        s.node);
}

const char* Definition::kind_text() const
{
    if (const auto* c = as<ComponentDecl>()) return c->system ? "a system" : "a component";
    if (as<DomainDecl>()) return "a domain";
    if (as<FunctionDecl>()) return "a function";
    if (as<TableDecl>()) return "a table";
    if (as<FluidDecl>() || as<FluidUseDecl>()) return "a fluid";
    if (as<ScenarioDecl>()) return "a scenario";
    if (as<CatalogueDecl>()) return "a catalogue";
    if (as<StudyDecl>()) return "a study";
    return "a constant";
}

LibrarySet::LibrarySet() = default;

void LibrarySet::begin_work()
{
    if (diagnostics.has_errors()) infos_.clear();  // what was said of them is to be said again
    diagnostics = {};
    sources.drop_passing();
    table_texts_.clear();
    for (const Definition& d : passing_) infos_.erase(&d);
    passing_.clear();
}

const Definition* LibrarySet::define_passing(FileScope* scope, const Statement* statement, const std::string& name)
{
    Definition& d = passing_.emplace_back();
    d.name = d.full_name = name;
    d.statement = statement;
    d.scope = scope;
    return &d;
}

std::vector<std::uint32_t> LibrarySet::files_behind(const FileScope& scope) const
{
    std::set<const FileScope*> seen;
    std::vector<const FileScope*> to_look{&scope};
    auto look = [&](const FileScope* f) {
        if (f != nullptr && (f->file == kNoFile || !sources.is_shipped(f->file))) to_look.push_back(f);
    };
    while (!to_look.empty()) {
        const FileScope* f = to_look.back();
        to_look.pop_back();
        if (!seen.insert(f).second) continue;
        for (const FileScope* used : f->used_files) look(used);
        for (const auto& [name, d] : f->single) look(d->scope);
        std::set<const Package*> packages(f->used_packages.begin(), f->used_packages.end());
        for (const auto& [name, p] : f->prefixes) packages.insert(p);
        if (f->package != nullptr) packages.insert(f->package);
        for (const FileScope& other : files_)
            if (other.package != nullptr && packages.contains(other.package)) look(&other);
    }
    std::vector<std::uint32_t> files;
    for (const FileScope* f : seen) {
        if (f->file != kNoFile && f != &scope) files.push_back(f->file);
        files.insert(files.end(), f->data_files.begin(), f->data_files.end());
    }
    std::sort(files.begin(), files.end());
    if (scope.file != kNoFile) files.insert(files.begin(), scope.file);
    return files;
}

const FileScope* LibrarySet::parse(std::string path, std::string text, const Package* package)
{
    std::uint32_t id = sources.add(path, std::move(text), package != nullptr && path.starts_with("library/"));
    SyntaxFile syntax = parse_file(sources, id, diagnostics);
    arenas_.push_back(syntax.arena);
    FileScope& scope = files_.emplace_back();
    scope.path = std::move(path);
    scope.file = id;
    scope.package = package;
    for (const Statement* s : syntax.statements) {
        if (s->as<UseDecl>() != nullptr) continue;
        Span span;
        std::string name = definition_name(*s, span);
        const Definition* d = define(&scope, s, std::move(name), span);
        if (d->as<CatalogueDecl>() != nullptr && d->statement == s) make_entries(scope, definitions_.back());
    }
    for (const Statement* s : syntax.statements)
        if (s->as<UseDecl>() != nullptr) use_statement(scope, *s);
    return &scope;
}

const Definition* LibrarySet::define(FileScope* scope, const Statement* statement, std::string name, Span span)
{
    Definition& d = definitions_.emplace_back();
    d.name = name;
    d.full_name = scope->package != nullptr ? scope->package->name + "." + name : name;
    d.statement = statement;
    d.scope = scope;
    auto [it, fresh] = scope->names.emplace(name, &d);
    if (!fresh) {
        Span first;
        definition_name(*it->second->statement, first);
        diagnostics.report(messages::name_taken, span, name, "this file").note(first, "first declared here");
        return it->second;
    }
    scope->definitions.push_back(&d);
    return &d;
}

void LibrarySet::enclose(std::map<std::string, std::string> texts)
{
    enclosed_ = std::move(texts);
}

bool LibrarySet::read(const std::string& path, Span from, std::string& text)
{
    std::error_code error;
    auto refuse = [&](const std::string& why, const std::string& mend) {
        diagnostics.report(messages::file_not_found, from, path, why).mend(mend);
        return false;
    };
    if (enclosed_) {
        auto found = enclosed_->find(fs::path(path).lexically_normal().string());
        if (found == enclosed_->end()) return refuse("it is not among the texts of the recording", "only what the recording holds is read");
        text = found->second;
        return true;
    }
    std::uintmax_t size = fs::is_regular_file(path, error) ? fs::file_size(path, error) : 0;
    if (!error && size > kMaxFileMiB << 20) {
        diagnostics.report(messages::file_too_large, from, path, size >> 20, kMaxFileMiB);
        return false;
    }
    try {
        text = read_text_file(path, kMaxFileMiB << 20);
        return true;
    } catch (const FileProblem& problem) {
        return refuse(problem.what(), "looked for " + fs::absolute(path, error).string());
    }
}

const std::string& LibrarySet::table_text(const std::string& path, const TableDecl& table)
{
    std::string key = fs::path(path).lexically_normal().string();
    if (!enclosed_) {
        tables_read_.insert(key);
        return table_texts_[key] = read_table_file(path, table);  // anew for each compilation: it may have changed
    }
    auto found = enclosed_->find(key);
    if (found == enclosed_->end()) throw std::runtime_error(fmt::format("file '{}' is not in the recording, and only what it holds is read", table.file));
    return table_texts_[key] = found->second;
}

std::size_t LibrarySet::n_bytes() const
{
    std::size_t n = 0;
    for (std::uint32_t file = 0; file < sources.size(); ++file)
        if (!sources.is_shipped(file)) n += sources.text(file).size();
    return n;
}

std::vector<std::string> LibrarySet::files_read() const
{
    std::vector<std::string> files;
    if (enclosed_) return files;
    for (std::uint32_t file = 0; file < sources.size(); ++file)
        if (!sources.is_shipped(file)) files.push_back(sources.path(file));
    files.insert(files.end(), tables_read_.begin(), tables_read_.end());
    return files;
}

const FileScope* LibrarySet::load(const std::string& path, Span from)
{
    std::error_code error;
    std::string key = fs::weakly_canonical(path, error).string();
    if (error) key = path;
    if (auto it = std::find(loading_.begin(), loading_.end(), key); it != loading_.end()) {
        std::string chain;
        for (; it != loading_.end(); ++it) chain += fs::path(*it).filename().string() + " -> ";
        diagnostics.report(messages::circular_use, from, chain + fs::path(key).filename().string()).mend("move what both files need into a third one");
        return nullptr;
    }
    if (auto it = loaded_.find(key); it != loaded_.end()) return it->second;
    std::string text;
    if (!read(path, from, text)) return nullptr;
    loading_.push_back(key);
    const FileScope* scope = parse(path, std::move(text), nullptr);
    loading_.pop_back();
    loaded_[key] = scope;
    return scope;
}

const FileScope* LibrarySet::load_file(const std::string& path)
{
    return load(path, {});
}

const FileScope* LibrarySet::load_text(const std::string& path, std::string text)
{
    return parse(path, std::move(text), nullptr);
}

void LibrarySet::discard_files(std::size_t first)
{
    for (std::size_t i = first; i < files_.size(); ++i) files_[i].faulty = files_[i].package == nullptr;
    std::erase_if(loaded_, [](const auto& entry) { return entry.second == nullptr || entry.second->faulty; });
}

FileScope* LibrarySet::program_scope()
{
    if (program_scope_ == nullptr) {
        program_scope_ = &files_.emplace_back();
        program_scope_->path = "(program)";
    }
    for (const FileScope& file : files_) {
        if (&file == program_scope_ || file.package != nullptr || file.faulty) continue;
        auto& used = program_scope_->used_files;
        if (std::find(used.begin(), used.end(), &file) == used.end()) used.push_back(&file);
    }
    return program_scope_;
}

const Package* LibrarySet::load_folder(const std::string& folder, const std::string& name, Span from)
{
    std::error_code error;
    std::string key = "folder:" + fs::weakly_canonical(folder, error).string();
    if (auto it = packages_.find(key); it != packages_.end()) return it->second.get();
    std::vector<std::string> paths;
    if (enclosed_) {
        for (const auto& [path, text] : *enclosed_)
            if (fs::path(path).parent_path() == fs::path(folder).parent_path() && fs::path(path).extension() == ".loop") paths.push_back(path);
    } else if (fs::is_directory(folder, error)) {
        for (const auto& entry : fs::directory_iterator(folder, error))
            if (entry.path().extension() == ".loop") paths.push_back(entry.path().string());
    }
    if (paths.empty() && (enclosed_ || !fs::is_directory(folder, error))) {
        diagnostics.report(messages::file_not_found, from, folder, "there is no such folder").mend("looked for " + fs::absolute(folder, error).string());
        return nullptr;
    }
    Package& package = *(packages_[key] = std::make_unique<Package>());
    package.name = name;
    std::sort(paths.begin(), paths.end());
    for (const std::string& path : paths) {
        std::string text;
        if (!read(path, from, text)) continue;
        const FileScope* scope = parse(path, std::move(text), &package);
        for (const Definition* d : scope->definitions) package.names.emplace(d->name, d);
    }
    return &package;
}

const Package* LibrarySet::package(const std::string& name)
{
    if (auto it = packages_.find(name); it != packages_.end()) return it->second.get();
    Package* package = nullptr;
    for (std::size_t i = 0; i < kStandardLibrarySize; ++i) {
        std::string path = kStandardLibrary[i].path;
        if (!path.starts_with(name + "/")) continue;
        if (package == nullptr) {
            package = (packages_[name] = std::make_unique<Package>()).get();
            package->name = name;
        }
        const FileScope* scope = parse("library/" + path, kStandardLibrary[i].text, package);
        for (const Definition* d : scope->definitions) package->names.emplace(d->name, d);
    }
    return package;
}

std::vector<std::string> LibrarySet::package_names() const
{
    std::vector<std::string> names;
    for (std::size_t i = 0; i < kStandardLibrarySize; ++i) {
        std::string path = kStandardLibrary[i].path;
        std::string name = path.substr(0, path.find('/'));
        if (std::find(names.begin(), names.end(), name) == names.end()) names.push_back(name);
    }
    std::sort(names.begin(), names.end());
    return names;
}

void LibrarySet::use_statement(FileScope& scope, const Statement& statement)
{
    const UseDecl& use = *statement.as<UseDecl>();
    if (!use.file.empty()) {
        fs::path here = fs::path(scope.path).parent_path();
        std::string target = (here / use.file).lexically_normal().string();
        if (fs::path(use.file).extension() == ".fmu") {
            use_unit(scope, target, use.as, statement.span);
            return;
        }
        if (use.file.back() == '/' || !use.as.empty()) {
            std::string name = use.as.empty() ? fs::path(use.file).parent_path().filename().string() : use.as;
            if (const Package* p = load_folder(target, name, statement.span)) scope.prefixes[name] = p;
        } else if (const FileScope* file = load(target, statement.span)) {
            scope.used_files.push_back(file);
        }
        return;
    }
    for (const Path& path : use.names) {
        const Package* p = package(path[0].name);
        if (p == nullptr) {
            std::string near = nearest_name(path[0].name, package_names());
            diagnostics.report(messages::unknown_kind, path[0].span, "library", path[0].name)
                .mend(near.empty() ? "a file of your own is used by its name in quotes: use \"parts.loop\"" : fmt::format("did you mean '{}'?", near));
        } else if (path.size() == 1) {
            scope.used_packages.push_back(p);
        } else if (auto it = p->names.find(path[1].name); it != p->names.end()) {
            scope.single[path[1].name] = it->second;
        } else {
            diagnostics.report(messages::unknown_kind, path[1].span, "component of " + path[0].name, path[1].name);
        }
    }
}

void LibrarySet::use_unit(FileScope& scope, const std::string& path, const std::string& name, Span from)
{
    bool good = !name.empty() && name[0] >= 'A' && name[0] <= 'Z';
    if (!good) {
        diagnostics.report(messages::unit_refused, from, path, name.empty() ? "it has no name here" : fmt::format("'{}' is no name of a component", name))
            .mend(fmt::format("say what the component is called: use \"{}\" as Pump", fs::path(path).filename().string()));
        return;
    }
    const FileScope* unit = load_unit(path, name, from);
    if (unit == nullptr) return;
    for (const Definition* d : unit->definitions) {
        auto [known, fresh] = scope.single.emplace(d->name, d);
        if (!fresh && known->second != d) diagnostics.report(messages::name_taken, from, d->name, "this file");
    }
}

// A unit's components are texts of ours like any others; their functions ask the unit.
const FileScope* LibrarySet::load_unit(const std::string& path, const std::string& name, Span from)
{
    std::error_code error;
    std::string key = fs::weakly_canonical(path, error).string() + " as " + name;
    if (auto known = loaded_.find(key); known != loaded_.end()) return known->second;
    if (enclosed_) {
        diagnostics.report(messages::unit_refused, from, path, "a recording and a store keep texts, and no units").mend("run the model from its file");
        return nullptr;
    }
    std::vector<OutsideComponent> components;
    try {
        components = unit_components(read_foreign_unit(path, isolate_units_), name);
    } catch (const std::exception& problem) {  // of the unit, or of the folder that it is unpacked to
        diagnostics.report(messages::unit_refused, from, path, problem.what());
        return nullptr;
    }
    std::string text;
    for (const OutsideComponent& c : components) text += c.text;
    std::size_t errors = diagnostics.n_errors();
    const FileScope* scope = parse(path, std::move(text), nullptr);
    if (diagnostics.n_errors() > errors) return nullptr;
    for (const OutsideComponent& c : components) {
        auto made = scope->names.find(c.name);
        const auto* component = made == scope->names.end() ? nullptr : made->second->as<ComponentDecl>();
        if (component == nullptr) continue;
        for (const Statement* s : component->body)
            if (const auto* f = s->as<FunctionDecl>())
                for (const auto& [function, outside] : c.functions)
                    if (function == f->name) outside_[f] = outside;
    }
    loaded_[key] = scope;
    return scope;
}

std::vector<std::string> LibrarySet::visible_names(const FileScope& scope)
{
    std::vector<std::string> names;
    auto take = [&](const auto& map) {
        for (const auto& [name, d] : map) names.push_back(name);
    };
    take(scope.names);
    take(scope.single);
    if (scope.package != nullptr) take(scope.package->names);
    for (const FileScope* f : scope.used_files) take(f->names);
    for (const Package* p : scope.used_packages) take(p->names);
    for (const std::string& lib : package_names())
        if (packages_.contains(lib))
            for (const auto& [name, d] : packages_[lib]->names) names.push_back(lib + "." + name);
    return names;
}

const Definition* LibrarySet::find(const FileScope& scope, const Path& path, bool quiet)
{
    // names that it may have been meant to be are gathered only where there is somebody to tell
    auto unknown = [&](const auto& candidates) -> const Definition* {
        if (quiet) return nullptr;
        // a file that a used file uses is not in sight here
        if (path.size() == 1)
            for (const FileScope& file : files_)
                if (file.package == nullptr && !file.faulty && &file != &scope && file.names.contains(path[0].name)) {
                    diagnostics.report(messages::unknown_kind, path[0].span, "definition in sight", text_of(path))
                        .mend(fmt::format("it stands in '{}', which another file uses: use that file here too", file.path));
                    return nullptr;
                }
        for (const std::string& lib : package_names()) {
            if (path.size() > 2 || (path.size() == 2 ? path[0].name != lib : !packages_.contains(lib))) continue;
            for (const auto& [name, d] : package(lib)->names) {
                std::string now = present_name(*d, path.back().name, false);
                if (now.empty()) continue;
                diagnostics.report(messages::unknown_kind, cover(path.front().span, path.back().span), "definition in sight", text_of(path))
                    .mend(fmt::format("it is called '{}' now", now));
                return nullptr;
            }
        }
        std::string near = nearest_name(text_of(path), candidates());
        if (near.empty() && path.size() == 1) {
            // perhaps it exists in a shipped library that was not named
            for (const std::string& lib : package_names())
                if (package(lib)->names.contains(path[0].name)) near = lib + "." + path[0].name;
        }
        Span span = path.empty() ? Span{} : cover(path.front().span, path.back().span);
        diagnostics.report(messages::unknown_kind, span, "definition in sight", text_of(path))
            .mend(near.empty() ? "" : fmt::format("did you mean '{}'?", near));
        return nullptr;
    };
    auto entry_of = [&](const Definition& catalogue, const PathStep& step) -> const Definition* {
        const Definition* d = catalogue.entry(step.name);
        if (d == nullptr && !quiet) {
            std::vector<std::string> names;
            for (const Definition* e : catalogue.entries) names.push_back(e->name);
            std::string near = nearest_name(step.name, names);
            diagnostics.report(messages::unknown_kind, step.span, fmt::format("entry of catalogue '{}'", catalogue.name), step.name)
                .mend(!near.empty() ? fmt::format("did you mean '{}'?", near) : fmt::format("there are: {}", fmt::join(names, ", ")));
        }
        return d;
    };
    if (path.size() == 3)
        if (auto it = scope.prefixes.find(path[0].name); it != scope.prefixes.end())
            if (auto in = it->second->names.find(path[1].name); in != it->second->names.end() && in->second->as<CatalogueDecl>() != nullptr)
                return entry_of(*in->second, path[2]);
    if (path.size() == 2) {
        if (const Definition* catalogue = find_catalogue(scope, path[0].name)) return entry_of(*catalogue, path[1]);
        const Package* p = nullptr;
        if (auto it = scope.prefixes.find(path[0].name); it != scope.prefixes.end())
            p = it->second;
        else
            p = package(path[0].name);
        if (p == nullptr) return unknown([&] { return package_names(); });
        auto it = p->names.find(path[1].name);
        if (it != p->names.end()) return it->second;
        return unknown([&] {
            std::vector<std::string> names;
            for (const auto& [name, d] : p->names) names.push_back(path[0].name + "." + name);
            return names;
        });
    }
    if (path.size() != 1) return unknown([] { return std::vector<std::string>{}; });
    const std::string& name = path[0].name;
    auto in = [&](const std::map<std::string, const Definition*>& names) -> const Definition* {
        auto it = names.find(name);
        return it == names.end() ? nullptr : it->second;
    };
    if (const Definition* d = in(scope.names)) return d;
    if (scope.package != nullptr)
        if (const Definition* d = in(scope.package->names)) return d;
    if (const Definition* d = in(scope.single)) return d;
    const Definition* found = nullptr;
    auto consider = [&](const Definition* d) {
        if (d == nullptr || d == found) return;
        if (found != nullptr && !quiet) {
            diagnostics.report(messages::ambiguous_name, path[0].span, name, found->full_name, d->full_name)
                .mend(fmt::format("write '{}'", d->scope->package != nullptr ? d->full_name : found->full_name));
        }
        found = d;
    };
    for (const FileScope* f : scope.used_files) consider(in(f->names));
    for (const Package* p : scope.used_packages) consider(in(p->names));
    return found != nullptr ? found : unknown([&] { return visible_names(scope); });
}

std::vector<const FileScope*> LibrarySet::files_of(const Package* package) const
{
    std::vector<const FileScope*> list;
    for (const FileScope& f : files_)
        if (f.package == package && &f != program_scope_ && !f.faulty) list.push_back(&f);
    return list;
}

const Definition* LibrarySet::find_by_text(const std::string& name)
{
    if (auto dot = name.find('.'); dot != std::string::npos) {
        for (const FileScope& f : files_)
            if (f.package == nullptr && !f.faulty)
                if (auto it = f.names.find(name.substr(0, dot)); it != f.names.end())
                    if (const Definition* entry = it->second->entry(name.substr(dot + 1))) return entry;
        const Package* p = package(name.substr(0, dot));
        if (p == nullptr) return nullptr;
        auto it = p->names.find(name.substr(dot + 1));
        return it == p->names.end() ? nullptr : it->second;
    }
    for (const FileScope& f : files_)
        if (f.package == nullptr && !f.faulty)
            if (auto it = f.names.find(name); it != f.names.end()) return it->second;
    return nullptr;
}

namespace {

struct Flattener {
    LibrarySet& set;
    ComponentInfo& info;

    void add_member(const std::string& name, Span span, const Statement* s, const FileScope* scope)
    {
        auto [it, fresh] = info.members.emplace(name, Member{s, scope, static_cast<std::uint32_t>(info.member_names.size()), {}, false});
        if (fresh) {
            info.member_names.push_back(name);
            return;
        }
        if (it->second.statement == s || it->second.is_port_fluid) return;
        // option-dependent branches may each declare the name
        Span first;
        std::string text = definition_name(*it->second.statement, first);
        set.diagnostics.report(messages::name_taken, span, name, fmt::format("'{}'", info.definition->name)).note(first, "first declared here");
    }

    void add_statement(const Statement* s, const FileScope* scope)
    {
        if (const auto* branch = s->as<IfDecl>()) {
            for (const Statement* inner : branch->then_block) add_statement(inner, scope);
            // a name may stand in both branches, declared alike
            for (const Statement* inner : branch->else_block) {
                Span span;
                std::string name = definition_name(*inner, span);
                if (name.empty() || !info.members.contains(name)) add_statement(inner, scope);
            }
            return;
        }
        Span span;
        std::string name = definition_name(*s, span);
        if (const auto* port = s->as<PortDecl>()) {
            for (const std::string& fluid : port->fluids) {
                if (info.members.contains(fluid)) continue;
                add_member(fluid, port->name_span, s, scope);
                info.members[fluid].is_port_fluid = true;
            }
        }
        if (!name.empty()) add_member(name, span, s, scope);
    }

    // A table (or a function of numbers) of what an entry takes over is read from the entry's own file.
    void put_table(const TableFile& file, const Definition& entry)
    {
        auto it = info.members.find(file.name);
        const auto* table = it != info.members.end() ? it->second.statement->as<TableDecl>() : nullptr;
        const auto* function = it != info.members.end() ? it->second.statement->as<FunctionDecl>() : nullptr;
        if (table == nullptr && (function == nullptr || function->results.size() != 1)) {
            if (it == info.members.end())
                set.diagnostics.report(messages::unknown_name, file.span, file.name, fmt::format("'{}'", entry.as<ComponentDecl>()->takes[0].kind.back().name))
                    .mend(mend_of_name(info, file.name));
            else
                set.diagnostics.report(messages::not_a, file.span, file.name, "no table and no function", "what can be read from a file");
            return;
        }
        TableDecl own;
        if (table != nullptr)
            own = *table, own.knots.clear(), own.values.clear();
        else
            own.arguments = function->arguments, own.unit = function->results[0].unit;
        own.name = file.name;
        own.name_span = own.file_span = file.span;
        own.file = file.file;
        auto arena = std::make_shared<SyntaxArena>();
        Statement* s = arena->statement(file.span);
        s->node = std::move(own);
        set.keep(arena);
        it->second.statement = s;
        it->second.scope = entry.scope;
        info.items.push_back({s, entry.scope});
    }

    void take(const Definition& d)
    {
        if (std::find(info.ancestry.begin(), info.ancestry.end(), &d) != info.ancestry.end()) return;
        info.ancestry.push_back(&d);
        const auto* component = d.as<ComponentDecl>();
        const auto* fluid = d.as<FluidDecl>();
        const auto& takes = component != nullptr ? component->takes : fluid->takes;
        const Block& body = component != nullptr ? component->body : fluid->body;
        for (const KindUse& use : takes) {
            const Definition* base = set.find(*d.scope, use.kind);
            if (base == nullptr) continue;
            bool fits = component != nullptr ? base->as<ComponentDecl>() != nullptr : base->as<FluidDecl>() != nullptr;
            if (!fits) {
                set.diagnostics.report(messages::not_a, use.span, base->name, base->kind_text(), component != nullptr ? "a component" : "a fluid");
                continue;
            }
            if (std::find(chain.begin(), chain.end(), base) != chain.end()) {
                std::string text;
                for (const Definition* c : chain) text += c->name + " -> ";
                set.diagnostics.report(messages::circular_definition, use.span, text + base->name);
                continue;
            }
            chain.push_back(base);
            take(*base);
            chain.pop_back();
            for (const NamedValue& v : use.values) info.values.emplace_back(v, d.scope);
        }
        if (component != nullptr && component->entry)
            for (const TableFile& file : component->tables) put_table(file, d);
        for (const Statement* s : body) {
            // a fluid's function replaces the one that its base only announces
            if (const auto* f = s->as<FunctionDecl>(); f != nullptr && info.members.contains(f->name)) {
                info.members[f->name].statement = s;
                info.members[f->name].scope = d.scope;
            } else {
                add_statement(s, d.scope);
            }
            info.items.push_back({s, d.scope});
        }
    }

    std::vector<const Definition*> chain;
};

}  // namespace

const ComponentInfo* LibrarySet::info(const Definition& definition)
{
    auto& slot = infos_[&definition];
    if (slot == nullptr) {
        slot = std::make_unique<ComponentInfo>();
        slot->definition = &definition;
        Flattener flattener{*this, *slot, {&definition}};
        flattener.take(definition);
    }
    return slot.get();
}

}  // namespace netloop

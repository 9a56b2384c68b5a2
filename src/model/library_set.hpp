// SPDX-License-Identifier: Apache-2.0
// All definitions in sight: files of the user, folders used as libraries, and the shipped libraries (parsed on demand).
#pragma once

#include <deque>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <unordered_map>
#include <vector>

#include "base/diagnostics.hpp"
#include "foreign/outside.hpp"
#include "language/syntax.hpp"

namespace netloop {

struct FileScope;
struct ComponentInfo;

/// One top-level definition: a component, system, domain, function, table, fluid, constant, scenario, catalogue or study. Or an entry of a catalogue, which is
/// a component.
struct Definition {
    std::string name;
    std::string full_name;  ///< "hydraulics.Orifice"; the plain name for a user's file
    const Statement* statement = nullptr;
    const FileScope* scope = nullptr;
    std::vector<const Definition*> entries{};  ///< of a catalogue, in the order of the text

    template <typename T>
    const T* as() const
    {
        return statement->as<T>();
    }
    /// The entry of a catalogue; null: it has none of that name, or is none.
    const Definition* entry(const std::string& of_name) const;
    const char* kind_text() const;
};

/// A folder of files that share their names.
struct Package {
    std::string name;
    std::map<std::string, const Definition*> names;
};

/// What the statements of one file can see.
struct FileScope {
    std::string path;
    std::uint32_t file = kNoFile;
    const Package* package = nullptr;                 ///< the library the file belongs to, if any
    bool faulty = false;                              ///< it had errors: its definitions are not used
    std::map<std::string, const Definition*> names;   ///< defined here
    std::vector<const Definition*> definitions;       ///< in the order of the text
    std::vector<const FileScope*> used_files;         ///< `use "file"`
    std::vector<const Package*> used_packages;        ///< `use hydraulics`: short names
    std::map<std::string, const Package*> prefixes;   ///< `use "folder/" as own`
    std::map<std::string, const Definition*> single;  ///< `use hydraulics.Orifice`
    std::vector<std::uint32_t> data_files;            ///< texts that its catalogues were read from
};

struct LibraryFile {
    const char* path;  ///< "hydraulics/valves.loop"
    const char* text;
};
/// The shipped libraries, built into the program.
extern const LibraryFile kStandardLibrary[];
extern const std::size_t kStandardLibrarySize;

class LibrarySet {
public:
    LibrarySet();
    LibrarySet(const LibrarySet&) = delete;
    LibrarySet& operator=(const LibrarySet&) = delete;

    SourceSet sources;
    /// What the work at hand has said; see LibraryWork.
    Diagnostics diagnostics;

    /// Reads and parses a file with all that it uses. Null (and a diagnostic) if it cannot be read.
    const FileScope* load_file(const std::string& path);
    /// The same from a text in memory; `path` is for messages and relative uses.
    const FileScope* load_text(const std::string& path, std::string text);
    /// From now on these texts, by name, are all the files that there are: what else they use is not looked for on the disk.
    void enclose(std::map<std::string, std::string> texts);
    /// The text of a table's file as it is now. Throws std::runtime_error.
    const std::string& table_text(const std::string& path, const TableDecl& table);
    /// Tables that the work at hand has read: path and text.
    const std::map<std::string, std::string>& table_texts() const { return table_texts_; }
    /// The user's texts that a definition in `scope` may have been made of: that scope's own first, then all that it uses, in the order in which they were
    /// read. Numbers of `sources`.
    std::vector<std::uint32_t> files_behind(const FileScope& scope) const;
    /// Bytes of all texts that are no shipped library's.
    std::size_t n_bytes() const;
    /// All files that were read from the disk for what is loaded.
    std::vector<std::string> files_read() const;
    /// After a load that failed: nothing of the files read since `first` is used any more.
    void discard_files(std::size_t first);
    std::size_t n_files() const { return files_.size(); }
    /// Definitions made by a program, in a scope that sees the shipped libraries and all files loaded so far.
    FileScope* program_scope();
    const Definition* define(FileScope* scope, const Statement* statement, std::string name, Span span);
    /// The catalogue of this name that a file sees; null: none.
    const Definition* find_catalogue(const FileScope& scope, const std::string& name) const;
    /// A CSV file of values beside a file of the user's, read anew; null and a message if it cannot be.
    const std::string* data_text(const std::string& path, Span from);
    /// The same for one piece of work: a definition that goes away with the work, and with it what it stands in for.
    const Definition* define_passing(FileScope* scope, const Statement* statement, const std::string& name);
    /// Keeps what definitions made by a program stand in.
    void keep(std::shared_ptr<const SyntaxArena> arena) { kept_arenas_.push_back(std::move(arena)); }

    /// Units of FMI (`use "pump.fmu" as Pump`) that are read from now on run in processes of their own.
    void isolate_units(bool yes) { isolate_units_ = yes; }
    /// Makes the components of a unit's file known to a scope; `name` is that of the first. A message if it cannot be used.
    void use_unit(FileScope& scope, const std::string& path, const std::string& name, Span from);
    /// Who works out a function that no text defines; null: its text does.
    const OutsideFunction* outside(const FunctionDecl& function) const
    {
        auto found = outside_.find(&function);
        return found == outside_.end() ? nullptr : found->second.get();
    }

    const Package* package(const std::string& name);
    std::vector<std::string> package_names() const;
    /// The definition that `path` names in `scope`; with `quiet` false an unknown or ambiguous name is reported.
    const Definition* find(const FileScope& scope, const Path& path, bool quiet = false);
    /// "hydraulics.Orifice" or a name in any file loaded so far; null if there is none.
    const Definition* find_by_text(const std::string& name);
    /// The files of the user (`package` null) or of one library, as loaded now; a copy, since looking into one may load others.
    std::vector<const FileScope*> files_of(const Package* package) const;

    /// The flattened declaration of a component (with what it takes over), made once. Null if it is faulty beyond use.
    const ComponentInfo* info(const Definition& definition);

private:
    friend class LibraryWork;
    void begin_work();
    const FileScope* parse(std::string path, std::string text, const Package* package);
    const FileScope* load(const std::string& path, Span from);
    bool read(const std::string& path, Span from, std::string& text);
    void use_statement(FileScope& scope, const Statement& statement);
    const FileScope* load_unit(const std::string& path, const std::string& name, Span from);
    // --- catalogue.cpp
    void make_entries(FileScope& scope, Definition& catalogue);
    void add_entry(FileScope& scope, Definition& catalogue, const Statement* entry);
    void read_entries(FileScope& scope, Definition& catalogue, const CatalogueFile& file);
    const Package* load_folder(const std::string& folder, const std::string& name, Span from);
    std::vector<std::string> visible_names(const FileScope& scope);

    std::deque<FileScope> files_;
    std::deque<Definition> definitions_;
    std::vector<std::shared_ptr<SyntaxArena>> arenas_;
    std::vector<std::shared_ptr<const SyntaxArena>> kept_arenas_;
    std::deque<Definition> passing_;
    FileScope* program_scope_ = nullptr;
    std::map<std::string, std::unique_ptr<Package>> packages_;
    std::map<std::string, const FileScope*> loaded_;
    std::map<std::string, std::string> table_texts_;
    std::set<std::string> tables_read_;                           ///< paths, of all work so far
    std::optional<std::map<std::string, std::string>> enclosed_;  ///< by name: the only files
    std::vector<std::string> loading_;
    std::unordered_map<const Definition*, std::unique_ptr<ComponentInfo>> infos_;
    std::map<const FunctionDecl*, std::shared_ptr<const OutsideFunction>> outside_;
    bool isolate_units_ = false;
    std::mutex at_work_;
};

/// One piece of work on a library: a load, a check, the part of a compilation that reads definitions. While it lasts, other threads wait with theirs. It has
/// diagnostics of its own, and the texts and tables that it alone reads are dropped with the next one: a library after any number of compilations is what
/// it was before them. Not to be nested.
class LibraryWork {
public:
    explicit LibraryWork(LibrarySet& set) : held_(set.at_work_) { set.begin_work(); }

private:
    std::lock_guard<std::mutex> held_;
};

/// One statement of a flattened body, with the scope in which its names are looked up.
struct BodyItem {
    const Statement* statement = nullptr;
    const FileScope* scope = nullptr;
};

/// A named member of a component: a quantity, port, part, slot, fluid, joint, sequence, function or table.
struct Member {
    const Statement* statement = nullptr;
    const FileScope* scope = nullptr;
    std::uint32_t slot = 0;  ///< its place in an instance
    std::string fluid_kind;  ///< for a fluid that a port names (`port a : hydraulic(oil)`): empty unless it is one
    bool is_port_fluid = false;
};

/// The name that a statement declares and where it stands; empty: it declares none.
std::string definition_name(const Statement& s, Span& span);

/// A component (or fluid) with everything it takes over, in the order of the text, most basic first.
struct ComponentInfo {
    const Definition* definition = nullptr;
    std::vector<BodyItem> items;
    std::vector<std::pair<NamedValue, const FileScope*>> values;  ///< given to what is taken over
    std::unordered_map<std::string, Member> members;
    std::vector<std::string> member_names;    ///< by slot
    std::vector<const Definition*> ancestry;  ///< itself and all it takes over

    const Member* find(const std::string& name) const
    {
        auto it = members.find(name);
        return it == members.end() ? nullptr : &it->second;
    }
};

/// The present name of what a component's text says was called `name` (`Formerly: old -> new`); empty: it says nothing of it.
std::string present_name(const ComponentInfo& info, const std::string& name);
/// What would mend a name that a component does not have: its present name, else one that is near; empty: none.
std::string mend_of_name(const ComponentInfo& info, const std::string& name);

}  // namespace netloop

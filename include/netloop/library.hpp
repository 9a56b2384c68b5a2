// SPDX-License-Identifier: Apache-2.0
// Component definitions: the shipped libraries, files, texts, and what a program defines.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "netloop/error.hpp"
#include "netloop/recording.hpp"

namespace netloop {

class LibrarySet;

/// All definitions in sight. Cheap to copy: copies share their definitions. May be used by several threads at once: one piece of work at a time is done on it,
/// others wait. Compiling leaves nothing in it.
class Library {
public:
    /// The shipped libraries; each is parsed when it is first used.
    static Library standard();

    /// Reads a `.loop` file and what it uses. Throws ModelError with every error found.
    void load_file(const std::string& path);
    /// The same from a text; `name` is used in messages and for relative `use "file"`.
    void load_text(const std::string& name, const std::string& text);

    /// A unit of the open standard FMI (2.0 or 3.0) as a component of this name for all that is compiled with this library; one that can do both is there by
    /// model exchange as `name`, and by co-simulation as `Sampled` and the name. A file may use one by itself: `use "pump.fmu" as Pump`. Cost: unpacking.
    /// Throws ModelError: no archive, no unit, none for this machine, a name that is taken or is none.
    void load_fmu(const std::string& path, const std::string& name);
    /// Units that are loaded from now on, by files too, run in processes of their own (the program netloop_unit_host): what they do to their memory, a crash
    /// and an endless loop end them, and the run with a message.
    void isolate_units(bool yes = true);

    /// The texts of a recording, the first with what it uses of the others: data from elsewhere. Nothing is read from the disk, neither texts nor tables that
    /// are not among them. Throws ModelError. For a library that has loaded nothing else.
    void load_recorded(const std::vector<ModelText>& texts);
    /// The files that were read from the disk for what is loaded: texts and tables.
    std::vector<std::string> files_read() const;

    /// Names of the shipped libraries.
    std::vector<std::string> packages() const;
    struct Entry {
        std::string name;     ///< "hydraulics.ReliefValve"
        std::string kind;     ///< "component", "base component", "system", "domain", "fluid", "function", "table", "scenario", "constant"
        std::string summary;  ///< first sentence of its `##` text
        std::string file{};   ///< in which it stands
    };
    /// Definitions of a shipped library, or with an empty name those of the files loaded so far, in the order of the text.
    std::vector<Entry> list(const std::string& package = "") const;
    /// Definitions of all shipped libraries and loaded files whose name or text holds every word of `words` (any case, beginnings count);
    /// those with most words in their names first.
    std::vector<Entry> find(const std::string& words) const;
    /// A definition as a page of a handbook: purpose, what is neglected, source, ports, symbols with units and ranges, equations, an example.
    /// As text for a terminal, Markdown with formulas (LaTeX between $$) or JSON. Throws UsageError with the nearest name if there is none.
    enum class Form { text, markdown, json };
    std::string describe(const std::string& name, Form form = Form::text) const;
    /// All pages of a shipped library with a table of contents, as Markdown.
    std::string handbook(const std::string& package) const;
    /// Checks every definition of the loaded files without putting a system together; with `strict` quantities without a unit
    /// are errors too.
    std::vector<Diagnostic> check(bool strict = false) const;

    /// For this library's own folders.
    LibrarySet& set() const { return *set_; }

private:
    std::shared_ptr<LibrarySet> set_;
    friend struct LibraryAccess;
};

/// The text of a `.loop` file in the one layout that all of them have: lines, comments and meaning stay, blanks and columns are set. Laid out once more,
/// nothing changes. `name` is used in messages. Throws ModelError if the text cannot be read as a model.
std::string format_text(const std::string& name, const std::string& text);

}  // namespace netloop

// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.hpp"
#include "files/input_file.hpp"
#include "files/output_file.hpp"

namespace {

struct Options {
    std::string name, file, find;
    std::string handbook;
    bool json = false, markdown = false;
};

void print_entries(const std::vector<netloop::Library::Entry>& entries)
{
    std::size_t width = 0;
    for (const auto& e : entries) width = std::max(width, e.name.size());
    for (const auto& e : entries) show("{:<{}}  {:<14}  {}\n", e.name, width, e.kind, e.summary);
}

int run_list(const Options& o)
{
    netloop::Library library = netloop::Library::standard();
    if (!o.file.empty()) library.load_file(o.file);
    std::vector<netloop::Library::Entry> entries;
    if (!o.find.empty()) {
        entries = library.find(o.find);
        if (entries.empty()) throw netloop::UsageError(fmt::format("nothing holds all of '{}'; try fewer or shorter words", o.find));
    } else if (o.name.empty() && o.file.empty()) {
        for (const std::string& p : library.packages()) entries.push_back({p, "library", fmt::format("{} definitions", library.list(p).size())});
    } else {
        entries = library.list(o.name);
    }
    if (o.json) {
        nlohmann::json list = nlohmann::json::array();
        for (const auto& e : entries) list.push_back({{"name", e.name}, {"kind", e.kind}, {"summary", e.summary}});
        show_json(list);
    } else {
        print_entries(entries);
    }
    return 0;
}

bool is_page(const std::string& path)
{
    constexpr std::size_t kHead = 200;
    std::string head = netloop::first_bytes(path, kHead);
    return head.starts_with("# ") && head.find("netloop describe --handbook") != std::string::npos;
}

// A file for each library, and an index.
void write_handbook(const netloop::Library& library, const std::string& folder)
{
    std::error_code error;
    std::filesystem::create_directories(folder, error);
    auto write = [&](const std::string& name, const std::string& text) {
        netloop::write_whole((std::filesystem::path(folder) / name).string(), text, {.what = "a page of the handbook", .replaces = is_page});
    };
    std::string index = "# The component libraries\n\nMade from the texts of the libraries by `netloop describe --handbook docs/libraries`.\n\n";
    for (const std::string& p : library.packages()) {
        write(p + ".md", library.handbook(p));
        auto entries = library.list(p);
        auto components = std::count_if(entries.begin(), entries.end(), [](const auto& e) { return e.kind == "component" || e.kind == "fluid"; });
        index += fmt::format("- [{}]({}.md): {} components and fluids\n", p, p, components);
    }
    write("README.md", index);
    show("{}\n", folder);
}

int run_describe(const Options& o)
{
    netloop::Library library = netloop::Library::standard();
    if (!o.file.empty()) library.load_file(o.file);
    if (!o.handbook.empty()) {
        write_handbook(library, o.handbook);
        return 0;
    }
    if (o.name.empty()) throw netloop::UsageError("describe what? Give a name such as hydraulics.ReliefValve, or --handbook and a folder");
    using Form = netloop::Library::Form;
    show("{}", library.describe(o.name, o.json ? Form::json : o.markdown ? Form::markdown : Form::text));
    return 0;
}

}  // namespace

Command add_list(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("list", "List the libraries, or what a library or file defines");
    app->add_option("library", o->name, "such as hydraulics; without it the libraries are listed");
    app->add_option("--file", o->file, "list the definitions of this .loop file");
    app->add_option("--find", o->find, "list what holds all of these words in its name or text, in all libraries");
    app->add_flag("--json", o->json, "print the list for programs");
    app->footer("Example:  netloop list hydraulics\n          netloop list --find \"pressure limit\"");
    return {app, [o] { return run_list(*o); }};
}

Command add_describe(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("describe", "Show a component: text, ports, params with units and ranges, equations, example");
    app->add_option("name", o->name, "such as hydraulics.ReliefValve");
    app->add_option("--file", o->file, "a .loop file whose definitions are in sight too");
    app->add_flag("--json", o->json, "print the page for programs");
    app->add_flag("--markdown", o->markdown, "print the page as Markdown with formulas");
    app->add_option("--handbook", o->handbook, "write all pages of all shipped libraries into this folder, as Markdown");
    app->footer("Example:  netloop describe hydraulics.ReliefValve");
    return {app, [o] { return run_describe(*o); }};
}
